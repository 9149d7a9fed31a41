//! Reading: once through, to know what is there; then again for each content that is wanted. Folders are handed over first,
//! so that what lies in them finds them.

use super::described::{
    Described, FOLDER, GLOBAL_RECORDS, HARD_LINK, LINK, LONG_LINK, LONG_NAME, RECORDS, SHARED_BYTES, SPARSE, members,
};
use super::header::{Header, HeaderFlaw};
use super::records::Records;
use super::sparse::{InFront, Map, SparseRecords, behind_header, in_header};
use super::{BLOCK_BYTES, MAX_RECORDS_BYTES};
use crate::codecs::stream::{Unwrapped, WrappedFile};
use crate::formats::error::ArchiveError;
use crate::formats::members::{MAX_ENTRIES, MAX_PATHS_BYTES, Refused, RefusedReason, SameName, Tree};
use crate::formats::reader::{ArchiveReader, CONTENT_BYTES, Facts, Next, deliver_file, deliver_without_content};
use crate::formats::streamed::StreamedError;
use crate::ground::context::Context;
use crate::ground::entry::{ListedEntry, Timestamp};
use crate::ground::sink::EntrySink;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// An open archive.
pub struct TarReader {
    file: WrappedFile,
    tree: Tree,
    /// It ends right behind an entry, without the zeros that mark the end.
    lacks_end: bool,
    /// Why nothing behind its entries is read, where only what is whole was wanted.
    flaw: Option<StreamedError>,
    /// For each listed entry the place, among all that have content, of the content that is its own; a hard link has
    /// another's.
    contents: Vec<Option<usize>>,
}

/// Whether what is inside a file begins like a tar archive.
///
/// # Errors
/// [`StreamedError`] from the system; what does not decompress is no tar archive.
pub fn is_tar(file: &WrappedFile, context: &Context<'_>) -> Result<bool, StreamedError> {
    let mut block = [0; BLOCK_BYTES];
    let mut stream = match file.open(context).map_err(StreamedError::from) {
        Err(StreamedError::Damaged) => return Ok(false),
        stream => stream?,
    };
    match stream.fill(&mut block).map_err(StreamedError::from) {
        Ok(BLOCK_BYTES) => Ok(Header::decode(&block).is_ok_and(|header| !header.name.is_empty())),
        Ok(_) | Err(StreamedError::Damaged) => Ok(false),
        Err(error) => Err(error),
    }
}

impl TarReader {
    /// Reads the whole archive once, to know what is in it.
    pub fn open(file: WrappedFile, context: &Context<'_>) -> Result<Self, StreamedError> {
        let reader = Self::open_what_is_whole(file, context)?;
        match reader.flaw {
            Some(flaw) => Err(flaw),
            None => Ok(reader),
        }
    }

    /// Reads the archive as far as it is whole: what stands before the first flaw.
    ///
    /// # Errors
    /// [`StreamedError`], of the system or where it is no flaw of the archive's.
    pub fn open_what_is_whole(file: WrappedFile, context: &Context<'_>) -> Result<Self, StreamedError> {
        let mut walk = Walk::begin(&file, context)?;
        let mut described = Vec::new();
        let mut cut = Vec::new();
        let flaw = match walk.read_all(&mut described, &mut cut) {
            Ok(()) => None,
            Err(error @ (StreamedError::Interrupted(_) | StreamedError::TooMany)) => {
                return Err(error);
            }
            Err(flaw) => Some(flaw),
        };
        let lacks_end = walk.lacks_end;
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
        Ok(Self { file, tree, lacks_end, flaw, contents })
    }

    /// Delivers contents in one pass through the archive, and a further one for each large content that several entries
    /// share: no more than [`MAX_SHARING`] in all.
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
        let mut walk = Walk::begin(&self.file, context)?;
        for number in 0.. {
            if wanted.is_empty() {
                break;
            }
            let described = walk.next()?.ok_or(StreamedError::Changed)?;
            if let Some(mut places) = wanted.remove(&number) {
                let size = described.size;
                if places.iter().any(|place| self.tree.listed[*place].content.size != size) {
                    return Err(StreamedError::Changed);
                }
                let mut spread = Spread::new(&mut walk, described.map);
                if places.len() > 1 && size <= SHARED_BYTES {
                    let whole = spread.whole()?;
                    for place in places.drain(..).rev() {
                        let mut rest = whole.iter();
                        let read = |buffer: &mut [u8]| Ok(rest.next().map_or(Next::Bytes(0), |kept| kept.next(buffer)));
                        deliver_file(&self.tree.listed[place], sink, context, || StreamedError::Changed, read)?;
                    }
                } else if let Some(place) = places.pop() {
                    let listed = &self.tree.listed[place];
                    deliver_file(listed, sink, context, || StreamedError::Changed, |buffer| spread.read(buffer))?;
                }
                if !places.is_empty() {
                    left.insert(number, places);
                }
            }
            walk.pass_over()?;
        }
        Ok(left)
    }
}

impl ArchiveReader for TarReader {
    fn entries(&self) -> &[ListedEntry] {
        &self.tree.listed
    }

    fn paths(&self) -> Vec<PathBuf> {
        vec![self.file.path.clone()]
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

/// A content with zeros where nothing of it is stored.
struct Spread<'w, 'a> {
    walk: &'w mut Walk<'a>,
    map: Option<Map>,
    /// Bytes that were handed on.
    at: u64,
    /// Parts that were handed on.
    part: usize,
}

impl<'w, 'a> Spread<'w, 'a> {
    const fn new(walk: &'w mut Walk<'a>, map: Option<Map>) -> Self {
        Self { walk, map, at: 0, part: 0 }
    }

    /// All of it, which is known not to be long.
    fn whole(&mut self) -> Result<Vec<Kept>, StreamedError> {
        let mut whole = Vec::new();
        let mut buffer = vec![0; CONTENT_BYTES];
        loop {
            match self.read(&mut buffer)? {
                Next::Bytes(0) => return Ok(whole),
                Next::Bytes(count) => whole.push(Kept::Bytes(buffer[..count].to_vec())),
                Next::Hole(bytes) => whole.push(Kept::Hole(bytes)),
            }
        }
    }

    /// What comes next.
    fn read(&mut self, buffer: &mut [u8]) -> Result<Next, StreamedError> {
        let Some(map) = &self.map else { return Ok(Next::Bytes(self.walk.content(buffer)?)) };
        while map.parts.get(self.part).is_some_and(|part| self.at >= part.at.saturating_add(part.bytes)) {
            self.part += 1;
        }
        let next = match map.parts.get(self.part) {
            Some(part) if self.at >= part.at => {
                let left = part.at.saturating_add(part.bytes) - self.at;
                let room = usize::try_from(left).unwrap_or(usize::MAX).min(buffer.len());
                Next::Bytes(self.walk.content(&mut buffer[..room])?)
            }
            Some(part) => Next::Hole(part.at - self.at),
            None if self.at < map.real_size => Next::Hole(map.real_size - self.at),
            None => Next::Bytes(0),
        };
        self.at += match next {
            Next::Bytes(count) => count as u64,
            Next::Hole(bytes) => bytes,
        };
        Ok(next)
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

/// A walk through an archive, from entry to entry.
struct Walk<'a> {
    stream: Unwrapped<'a>,
    global: Records,
    /// Bytes of the current content, and of what fills up its last block, that were not read yet.
    content: u64,
    padding: u64,
    /// For what is passed over.
    spare: Vec<u8>,
    /// The stream ended behind an entry without the mark of its end.
    lacks_end: bool,
}

impl<'a> Walk<'a> {
    fn begin(file: &WrappedFile, context: &'a Context<'a>) -> Result<Self, StreamedError> {
        Ok(Self {
            stream: file.open(context)?,
            global: Records::default(),
            content: 0,
            padding: 0,
            spare: Vec::new(),
            lacks_end: false,
        })
    }

    /// Every entry, and the name of one whose content ends before it should.
    fn read_all(&mut self, described: &mut Vec<Described>, cut: &mut Vec<Vec<u8>>) -> Result<(), StreamedError> {
        let mut names_bytes = 0_usize;
        while let Some(entry) = self.next()? {
            names_bytes = names_bytes.saturating_add(entry.name.len() + entry.link.len());
            if described.len() >= MAX_ENTRIES || names_bytes > MAX_PATHS_BYTES {
                return Err(StreamedError::TooMany);
            }
            let whole = self.pass_over();
            if whole.is_err() {
                cut.push(entry.name);
                return whole;
            }
            // The map is read again with the content: very many of them would take much memory.
            described.push(Described { map: None, ..entry });
        }
        Ok(())
    }

    /// The next entry; `None` at the end. What came before it has been read or passed over.
    fn next(&mut self) -> Result<Option<Described>, StreamedError> {
        let (mut own, mut long_name, mut long_link) = (Records::default(), None, None);
        loop {
            let at = self.stream.position();
            let Some((header, block)) = self.header()? else { return Ok(None) };
            self.follow(header.size);
            match header.kind {
                RECORDS => own = self.records()?,
                GLOBAL_RECORDS => self.global = self.records()?.over(&self.global),
                LONG_NAME => long_name = Some(self.text()?),
                LONG_LINK => long_link = Some(self.text()?),
                kind => {
                    let said = own.over(&self.global);
                    let size = said.size.unwrap_or(header.size);
                    // Only what is a file, or may be one, has content behind it.
                    let has_content = !matches!(kind, HARD_LINK | LINK | b'3' | b'4' | FOLDER | b'6');
                    self.follow(if has_content { size } else { 0 });
                    let whole = Timestamp { seconds: header.modified, nanoseconds: 0 };
                    let malformed = StreamedError::Malformed { what: "map of holes", at };
                    let map = match &said.sparse {
                        _ if kind == SPARSE => Some(self.map_behind(&block)?.ok_or(malformed)?),
                        Some(records) => Some(self.map_of(records)?.ok_or(malformed)?),
                        None => None,
                    };
                    let size = map.as_ref().map_or(size, |map| map.real_size);
                    let real_name = said.sparse.and_then(|records| records.name);
                    return Ok(Some(Described {
                        name: real_name.or(said.path).or(long_name).unwrap_or(header.name),
                        mode: header.mode,
                        size: if has_content { size } else { 0 },
                        modified: said.modified.unwrap_or(whole),
                        kind,
                        link: said.link.or(long_link).unwrap_or(header.link),
                        holes: map.as_ref().map_or(0, Map::holes),
                        map,
                    }));
                }
            }
        }
    }

    /// The map of a file whose header has it, with the blocks behind that; `None` where it is malformed.
    fn map_behind(&mut self, block: &[u8; BLOCK_BYTES]) -> Result<Option<Map>, StreamedError> {
        let Some((mut numbers, mut goes_on, real_size)) = in_header(block) else { return Ok(None) };
        while goes_on {
            let mut block = [0; BLOCK_BYTES];
            if self.stream.fill(&mut block)? < BLOCK_BYTES {
                return Err(StreamedError::CutShort);
            }
            match behind_header(&block, &mut numbers) {
                Some(more) => goes_on = more,
                None => return Ok(None),
            }
        }
        Ok(Map::new(&numbers, real_size, self.content))
    }

    /// The map that records tell, or that stands in front of the content; `None` where it is malformed.
    fn map_of(&mut self, records: &SparseRecords) -> Result<Option<Map>, StreamedError> {
        let Some(real_size) = records.real_size else { return Ok(None) };
        if !records.in_front {
            return Ok(Map::new(&records.numbers, real_size, self.content));
        }
        let mut map = InFront::default();
        let mut goes_on = true;
        while goes_on {
            let mut block = [0; BLOCK_BYTES];
            let mut filled = 0;
            while filled < BLOCK_BYTES {
                match self.content(&mut block[filled..])? {
                    0 => return Ok(None),
                    read => filled += read,
                }
            }
            match map.take(&block) {
                Some(more) => goes_on = more,
                None => return Ok(None),
            }
        }
        Ok(Map::new(map.numbers(), real_size, self.content))
    }

    fn header(&mut self) -> Result<Option<(Header, [u8; BLOCK_BYTES])>, StreamedError> {
        let at = self.stream.position();
        let mut block = [0; BLOCK_BYTES];
        match self.stream.fill(&mut block)? {
            // Some writers leave the mark out.
            0 if at > 0 => {
                self.lacks_end = true;
                return Ok(None);
            }
            BLOCK_BYTES => {}
            _ => return Err(StreamedError::CutShort),
        }
        if block == [0; BLOCK_BYTES] {
            return self.end().map(|()| None);
        }
        Header::decode(&block).map(|header| Some((header, block))).map_err(|flaw| match flaw {
            HeaderFlaw::Sum => StreamedError::Header(at),
            HeaderFlaw::Number => StreamedError::Malformed { what: "header", at },
        })
    }

    /// A block of zeros is the end; some writers leave out the second one. What the compression keeps for the end of its
    /// stream, a checksum say, is behind that.
    fn end(&mut self) -> Result<(), StreamedError> {
        let mut block = [0; BLOCK_BYTES];
        while self.stream.fill(&mut block)? > 0 {}
        Ok(())
    }

    fn follow(&mut self, size: u64) {
        self.content = size;
        self.padding = size.next_multiple_of(BLOCK_BYTES as u64).saturating_sub(size);
    }

    /// The next bytes of the content; none at its end.
    fn content(&mut self, buffer: &mut [u8]) -> Result<usize, StreamedError> {
        let room = usize::try_from(self.content).unwrap_or(usize::MAX).min(buffer.len());
        if room == 0 {
            return Ok(0);
        }
        let read = self.stream.read(&mut buffer[..room])?;
        if read == 0 {
            return Err(StreamedError::CutShort);
        }
        self.content -= read as u64;
        Ok(read)
    }

    /// Passes over what is left of the content and its last block.
    fn pass_over(&mut self) -> Result<(), StreamedError> {
        // The same buffer for every entry: there may be very many small ones.
        let mut buffer = std::mem::take(&mut self.spare);
        buffer.resize(CONTENT_BYTES, 0);
        while self.content(&mut buffer)? > 0 {}
        self.content = std::mem::take(&mut self.padding);
        while self.content(&mut buffer)? > 0 {}
        self.spare = buffer;
        Ok(())
    }

    /// All of a content that belongs to the next header.
    fn whole(&mut self) -> Result<Vec<u8>, StreamedError> {
        let at = self.stream.position();
        if self.content > MAX_RECORDS_BYTES {
            return Err(StreamedError::Malformed { what: "length of extended records", at });
        }
        let mut all = vec![0; usize::try_from(self.content).unwrap_or(0)];
        let mut filled = 0;
        while filled < all.len() {
            filled += self.content(&mut all[filled..])?;
        }
        self.pass_over()?;
        Ok(all)
    }

    fn records(&mut self) -> Result<Records, StreamedError> {
        let at = self.stream.position();
        Records::read(&self.whole()?).ok_or(StreamedError::Malformed { what: "extended record", at })
    }

    /// A name of its own content, up to its zero.
    fn text(&mut self) -> Result<Vec<u8>, StreamedError> {
        let mut text = self.whole()?;
        let length = text.iter().position(|byte| *byte == 0).unwrap_or(text.len());
        text.truncate(length);
        Ok(text)
    }
}
