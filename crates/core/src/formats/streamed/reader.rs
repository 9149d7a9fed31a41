//! Reading: once through, to know what is there; then again for each content that is wanted. Folders are handed over first,
//! so that what lies in them finds them.

use super::described::{Described, Kind, SHARED_BYTES, members};
use super::error::StreamedError;
use super::wrapped::{Unwrapped, WrappedFile};
use crate::formats::error::ArchiveError;
use crate::formats::listing::Listing;
use crate::formats::members::{MAX_ENTRIES, MAX_PATHS_BYTES, Refused, RefusedReason, SameName, Tree};
use crate::formats::reader::{ArchiveReader, CONTENT_BYTES, Facts, Flaws, Next, deliver_file, deliver_without_content};
use crate::formats::spot::Spot;
use crate::ground::attributes::Attribute;
use crate::ground::context::Context;
use crate::ground::entry::{Content, ListedEntry};
use crate::ground::sink::EntrySink;
use std::collections::BTreeMap;

/// A walk through an archive, from entry to entry.
pub(in crate::formats) trait Walk {
    /// The next entry; `None` at the end. What came before it has been read or passed over.
    fn next(&mut self) -> Result<Option<Described>, StreamedError>;

    /// What comes next of the entry's content.
    fn read(&mut self, buffer: &mut [u8]) -> Result<Next, StreamedError>;

    /// Passes over what is left of the entry.
    fn pass_over(&mut self) -> Result<(), StreamedError>;

    /// The stream ended behind an entry, without the mark of the archive's end.
    fn lacks_end(&self) -> bool;
}

/// Begins to walk through a stream.
pub(in crate::formats) type Begin = for<'a> fn(Unwrapped<'a>) -> Box<dyn Walk + 'a>;

/// An open archive.
pub struct StreamedReader {
    file: WrappedFile,
    begin: Begin,
    tree: Tree,
    lacks_end: bool,
    /// Why nothing behind its entries is read, where only what is whole was wanted.
    flaw: Option<StreamedError>,
    /// For each listed entry the place, among all that the archive has, of that whose content it has.
    contents: Vec<Option<usize>>,
}

impl StreamedReader {
    /// Reads the whole archive once, to know what is in it; or, where flaws are put up with, what stands before the first.
    ///
    /// # Errors
    /// [`StreamedError`]: of the system, where there is too much, and of a flaw that is not put up with.
    pub(in crate::formats) fn open(
        file: WrappedFile,
        begin: Begin,
        flaws: Flaws,
        context: &Context<'_>,
    ) -> Result<Self, StreamedError> {
        let mut walk = begin(file.open(context)?);
        let mut described = Vec::new();
        let mut cut = Vec::new();
        let flaw = match (read_all(&mut *walk, &mut described, &mut cut), flaws) {
            (Ok(()), _) => None,
            (Err(error @ (StreamedError::Interrupted(_) | StreamedError::TooMany)), _)
            | (Err(error), Flaws::Refused) => {
                return Err(error);
            }
            (Err(flaw), Flaws::ReadBefore) => Some(flaw),
        };
        let lacks_end = walk.lacks_end();
        drop(walk);
        let (members, owners, mut refused) = members(&described);
        let mut tree = Tree::grow(&members, SameName::LaterCounts);
        tree.refused.append(&mut refused);
        tree.refused.extend(cut.into_iter().map(|name| Refused { name, why: RefusedReason::CutShort }));
        let contents: Vec<Option<usize>> =
            tree.members.iter().map(|member| member.and_then(|member| owners[member])).collect();
        for (listed, owner) in tree.listed.iter_mut().zip(&contents) {
            listed.content.holes = owner.map_or(0, |owner| described[owner].holes);
        }
        let mut first: BTreeMap<usize, u64> = BTreeMap::new();
        for (listed, owner) in tree.listed.iter_mut().zip(&contents) {
            if let Some(owner) = owner {
                let file = *first.entry(*owner).or_insert(listed.entry.id);
                listed.content.shared_with = Some(file).filter(|file| *file != listed.entry.id);
            }
        }
        Ok(Self { file, begin, tree, lacks_end, flaw, contents })
    }

    /// Delivers contents in one pass through the archive, and a further one for each large content that several entries share: no
    /// more than [`MAX_SHARING`](crate::formats::members::MAX_SHARING) in all.
    fn deliver_contents(
        &self,
        files: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), StreamedError> {
        let mut wanted: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        // The last of them is handed over first.
        for place in files.iter().rev() {
            if let Some(content) = self.contents[*place] {
                wanted.entry(content).or_default().push(*place);
            }
        }
        while !wanted.is_empty() {
            wanted = self.deliver_pass(wanted, sink, context)?;
        }
        Ok(())
    }

    /// One pass; what is still wanted after it.
    fn deliver_pass(
        &self,
        mut wanted: BTreeMap<usize, Vec<usize>>,
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<BTreeMap<usize, Vec<usize>>, StreamedError> {
        let mut left = BTreeMap::new();
        let mut walk = (self.begin)(self.file.open(context)?);
        for number in 0.. {
            if wanted.is_empty() {
                break;
            }
            let described = walk.next()?.ok_or(StreamedError::Changed)?;
            if let Some(places) = wanted.remove(&number) {
                if places.iter().any(|place| self.tree.listed[*place].content.size != described.size) {
                    return Err(StreamedError::Changed);
                }
                let later = self.deliver_content(&mut *walk, &described.attributes, places, sink, context)?;
                if !later.is_empty() {
                    left.insert(number, later);
                }
            }
            walk.pass_over()?;
        }
        Ok(left)
    }

    /// Delivers a content under the last of these names, and the others as further names, or with the same content as long as that is
    /// not long; those for which it must be read again.
    fn deliver_content(
        &self,
        walk: &mut dyn Walk,
        attributes: &[Attribute],
        mut places: Vec<usize>,
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<Vec<usize>, StreamedError> {
        let Some(first) = places.pop().map(|place| &self.tree.listed[place]) else { return Ok(places) };
        let changed = || StreamedError::Changed;
        let is_kept = !places.is_empty() && first.content.size <= SHARED_BYTES;
        let kept = if is_kept { Some(whole(walk)?) } else { None };
        let from_kept = |listed: &ListedEntry, kept: &[Kept], sink: &mut dyn EntrySink| {
            let mut rest = kept.iter();
            let read = |buffer: &mut [u8]| Ok(rest.next().map_or(Next::Bytes(0), |kept| kept.next(buffer)));
            deliver_file(listed, attributes, sink, context, changed, read)
        };
        let content = match &kept {
            Some(kept) => from_kept(first, kept, sink)?,
            None => deliver_file(first, attributes, sink, context, changed, |buffer| walk.read(buffer))?,
        };
        let content = Content { shared_with: Some(first.entry.id), ..content };
        let mut later = Vec::new();
        for place in places.into_iter().rev() {
            let listed = &self.tree.listed[place];
            if sink.further_name(&listed.entry, &first.entry, &content)? {
                continue;
            }
            match &kept {
                Some(kept) => drop(from_kept(listed, kept, sink)?),
                None => later.push(place),
            }
        }
        later.reverse();
        Ok(later)
    }
}

/// Every entry, and the name of one whose content ends before it should.
fn read_all(walk: &mut dyn Walk, described: &mut Vec<Described>, cut: &mut Vec<Vec<u8>>) -> Result<(), StreamedError> {
    let mut names_bytes = 0_usize;
    while let Some(entry) = walk.next()? {
        let link_bytes = match &entry.kind {
            Kind::Link(target) | Kind::SecondName(target) => target.len(),
            _ => 0,
        };
        names_bytes = names_bytes.saturating_add(entry.name.len() + link_bytes);
        if described.len() >= MAX_ENTRIES || names_bytes > MAX_PATHS_BYTES {
            return Err(StreamedError::TooMany);
        }
        let whole = walk.pass_over();
        if whole.is_err() {
            cut.push(entry.name);
            return whole;
        }
        described.push(Described { attributes: Vec::new(), ..entry });
    }
    Ok(())
}

/// All of a content, which is known not to be long.
fn whole(walk: &mut dyn Walk) -> Result<Vec<Kept>, StreamedError> {
    let mut whole = Vec::new();
    let mut buffer = vec![0; CONTENT_BYTES];
    loop {
        match walk.read(&mut buffer)? {
            Next::Bytes(0) => return Ok(whole),
            Next::Bytes(count) => whole.push(Kept::Bytes(buffer[..count].to_vec())),
            Next::Hole(bytes) => whole.push(Kept::Hole(bytes)),
        }
    }
}

/// A piece of a content that several entries share, no longer than [`CONTENT_BYTES`] where it is stored.
enum Kept {
    Bytes(Vec<u8>),
    Hole(u64),
}

impl Kept {
    fn next(&self, buffer: &mut [u8]) -> Next {
        match self {
            Self::Hole(bytes) => Next::Hole(*bytes),
            Self::Bytes(bytes) => {
                // The buffer is as long as that in which it was read.
                let count = bytes.len().min(buffer.len());
                buffer[..count].copy_from_slice(&bytes[..count]);
                Next::Bytes(count)
            }
        }
    }
}

impl ArchiveReader for StreamedReader {
    fn listing(&self) -> Listing<'_> {
        Listing::Whole(&self.tree.listed)
    }

    fn spots(&self) -> Vec<Spot> {
        vec![self.file.spot.clone()]
    }

    fn refused(&self) -> &[Refused] {
        &self.tree.refused
    }

    fn facts(&self) -> Facts {
        let has_flaw = self.flaw.is_some();
        let may_lack_the_end = self.lacks_end || has_flaw;
        Facts { methods: self.file.wrapping.names(), has_flaw, may_lack_the_end, ..Facts::default() }
    }

    fn extract_some(
        &mut self,
        wanted: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), ArchiveError> {
        let files = deliver_without_content(&self.tree.listed, wanted, sink)?;
        Ok(self.deliver_contents(&files, sink, context)?)
    }
}
