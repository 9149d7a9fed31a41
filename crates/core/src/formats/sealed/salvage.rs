//! Salvage: with volumes missing or damaged, every file that lies wholly in what is here can still be had.
//!
//! An explicit mode: the end of the stream may be lost, so nothing proves that nothing is missing. What is delivered
//! is as authentic as ever, cell by cell, and each file's digest is right. After a gap the next cell's mark tells where
//! a frame begins. Two passes: the first finds what is whole, the second delivers that and nothing else.

use super::base::{BaseName, BaseRef};
use super::error::SealedError;
use super::frame::{FRAME_HEADER_BYTES, FrameHeader, FrameKind};
use super::frame_reading::read_stored_frame;
use super::further_names::{FurtherName, FurtherNames, hand_over};
use super::index::{About, Place, check_order};
use super::index_pages::PageFrames;
use super::index_reading::{Index, Whole};
use super::keys::ArchiveKey;
use super::reader::stream_of;
use super::record::{Record, RecordError, Records};
use super::stream::StreamReader;
use super::tail::Tail;
use crate::codecs::block::Decompressor;
use crate::formats::error::ArchiveError;
use crate::formats::listing::Listing;
use crate::formats::reader::ArchiveReader;
use crate::formats::sealed::volume::VolumeSet;
use crate::formats::spot::Spot;
use crate::ground::context::{Context, Progress};
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry};
use crate::ground::holes::ContentDigest;
use crate::ground::sink::EntrySink;
use crate::ground::wire::{Cursor, Malformed};
use std::collections::{HashMap, HashSet};

/// An archive of which parts may be lost.
pub struct Salvage {
    stream: StreamReader,
    tail: Tail,
    /// What the archive says of itself, where its index can be read.
    about: Option<About>,
    whole: Vec<ListedEntry>,
    /// Where the records of what is whole begin, and its place in that.
    places: HashMap<Place, usize>,
    /// What is whole although its records are lost, since the index tells all of it: its places in that.
    from_index: Vec<usize>,
    /// Further names of what is whole, by their places in that.
    further: FurtherNames,
    lost: Option<Vec<Lost>>,
}

/// What is not whole.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lost {
    /// Its path.
    pub path: EntryPath,
    /// The numbers of the volumes, missing or damaged, that it needs.
    pub volumes: Vec<u32>,
}

impl Salvage {
    /// Finds what is whole in a set, complete or not, whose key [`super::unlock`] gave.
    ///
    /// # Errors
    /// [`SealedError`] where a path is unsafe, or what is whole contradicts the index; damage
    /// is no error here.
    pub fn survey(set: VolumeSet, key: &ArchiveKey, context: &Context<'_>) -> Result<Self, SealedError> {
        let mut stream = stream_of(set, key)?;
        let index = stream.tail().map_err(SealedError::from).and_then(|tail| {
            let index = Index::read(PageFrames::new(stream.beside(), tail)?)?;
            index.whole()?;
            Ok((tail, index))
        });
        let cells = stream.cells().set().geometry.cells;
        let (tail, index) = match index {
            Ok((tail, index)) => (tail, Some(index)),
            Err(_) => (Tail { inner_bytes: cells.saturating_mul(stream.inner_per_cell()), ..Tail::default() }, None),
        };
        let mut found = Finding::default();
        walk(&mut stream, &tail, context, |piece| -> Result<(), SealedError> {
            found.take(piece);
            Ok(())
        })?;
        let mut whole = found.whole;
        whole.sort_by(|one, other| one.0.entry.path.cmp(&other.0.entry.path));
        check_order(whole.iter().map(|(listed, _)| listed))?;
        let (mut told, mut names, mut lost) = (HashSet::new(), Vec::new(), None);
        if let Some(index) = &index {
            let all = index.whole()?;
            let of_index = not_whole(index, all, &mut whole)?;
            let (without_content, mut with_content): (Vec<_>, Vec<_>) =
                of_index.partition(|(listed, _)| listed.content.size == 0);
            told.extend(without_content.iter().map(|(_, place)| *place));
            whole.extend(without_content.into_iter().map(|(listed, place)| (listed.clone(), place)));
            let here: HashSet<Place> = whole.iter().map(|(_, place)| *place).collect();
            for FurtherName { at, owner, .. } in index.further.iter() {
                let (listed, owner) = (&all.listed[*at], all.places[*owner]);
                if here.contains(&owner) {
                    names.push((all.places[*at], owner));
                    whole.push((listed.clone(), all.places[*at]));
                } else {
                    with_content.push((listed, owner));
                }
            }
            with_content.sort_by(|one, other| one.0.entry.path.cmp(&other.0.entry.path));
            lost = Some(lost_of((&all.places, index.content_end), with_content, &mut stream, &tail));
            whole.sort_by(|one, other| one.0.entry.path.cmp(&other.0.entry.path));
        }
        let is_told = |(at, (_, place)): (usize, &(ListedEntry, Place))| told.contains(place).then_some(at);
        let from_index = whole.iter().enumerate().filter_map(is_told).collect();
        let mut places: HashMap<Place, usize> = whole.iter().enumerate().map(|(at, (_, place))| (*place, at)).collect();
        // Where a further name stands there is none of its content.
        let placed = |(place, owner): (Place, Place)| {
            let (at, owner) = (places.remove(&place)?, *places.get(&owner)?);
            Some(FurtherName::of(at, owner, &whole[owner].0))
        };
        let further = names.into_iter().filter_map(placed).collect();
        let whole = whole.into_iter().map(|(listed, _)| listed).collect();
        let about = index.map(|index| index.about);
        Ok(Self { stream, tail, about, whole, places, from_index, further, lost })
    }

    /// What an archive of changes builds upon, where that can be read.
    pub fn base_name(&self) -> Option<BaseName> {
        let property = self.about.as_ref()?.base.as_ref()?;
        Some(BaseRef::decode(Cursor::new(property, "base")).ok()?.name)
    }

    /// The volumes that it is read from.
    pub fn set(&self) -> &VolumeSet {
        self.stream.cells().set()
    }

    /// What is not whole, sorted by path; `None` where the index is lost too, and nobody can tell.
    pub fn lost(&self) -> Option<&[Lost]> {
        self.lost.as_deref()
    }

    /// Hands those of what is whole that are wanted to the sink.
    ///
    /// # Errors
    /// [`SealedError`], where it changed since it was surveyed.
    fn deliver(
        &mut self,
        wanted: &HashSet<usize>,
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), SealedError> {
        let (mut further, others): (Vec<usize>, Vec<usize>) = wanted.iter().partition(|at| self.further.contains(**at));
        further.sort_unstable();
        let names: HashMap<usize, usize> = others.into_iter().map(|at| (at, at)).collect();
        let Self { stream, tail, whole, places, from_index, further: all_further, .. } = self;
        let mut deliver = |names: &HashMap<usize, usize>, sink: &mut dyn EntrySink| {
            Delivery { whole, places, from_index, names }.go(stream, tail, sink, context)
        };
        deliver(&names, sink)?;
        hand_over(further, names, (|at: usize| Ok(whole[at].clone()), &*all_further), sink, deliver)
    }
}

/// What of what is whole is handed over, each under the name that stands beside it, by their places in that.
struct Delivery<'a> {
    whole: &'a [ListedEntry],
    places: &'a HashMap<Place, usize>,
    from_index: &'a [usize],
    names: &'a HashMap<usize, usize>,
}

impl Delivery<'_> {
    /// An entry that is to be handed over, and that under whose name it is.
    fn named(&self, at: usize) -> Option<(&ListedEntry, &Entry)> {
        let name = *self.names.get(&at)?;
        Some((self.whole.get(at)?, &self.whole.get(name)?.entry))
    }

    fn go(
        &self,
        stream: &mut StreamReader,
        tail: &Tail,
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), SealedError> {
        let mut open: Option<(&ListedEntry, &Entry, ContentDigest)> = None;
        let mut delivered = 0;
        for (listed, name) in self.from_index.iter().filter_map(|at| self.named(*at)) {
            context.tell(Progress::Entry(&name.path));
            sink.begin(name)?;
            sink.end(name, &listed.content)?;
            delivered += 1;
        }
        walk(stream, tail, context, |piece| -> Result<(), SealedError> {
            match (piece, &mut open) {
                (Met::Record(place, Record::Entry(_)), _) => {
                    open = None;
                    if let Some((listed, name)) = self.places.get(&place).and_then(|at| self.named(*at)) {
                        context.tell(Progress::Entry(&name.path));
                        sink.begin(name)?;
                        if listed.entry.kind == EntryKind::File {
                            open = Some((listed, name, ContentDigest::new(listed.content.in_units)));
                        } else {
                            sink.end(name, &listed.content)?;
                            delivered += 1;
                        }
                    }
                }
                (Met::Record(_, Record::Data { bytes, .. }), Some((_, _, digest))) => {
                    digest.update(bytes);
                    context.tell(Progress::Advance(bytes.len() as u64));
                    sink.content(bytes)?;
                }
                (Met::Record(_, Record::Attribute { attribute, .. }), Some(_)) => sink.attribute(&attribute)?,
                (Met::Record(_, Record::Hole { bytes, .. }), Some((_, _, digest))) => {
                    digest.hole(bytes);
                    context.tell(Progress::Advance(bytes));
                    sink.hole(bytes)?;
                }
                (Met::Record(_, Record::End { .. }), Some((listed, name, digest))) => {
                    if digest.finish() != listed.content.digest {
                        return Err(SealedError::WrongDigest(name.path.as_bytes().to_vec()));
                    }
                    sink.end(name, &listed.content)?;
                    delivered += 1;
                    open = None;
                }
                (Met::Gap, _) => open = None,
                _ => {}
            }
            Ok(())
        })?;
        if delivered == self.names.len() { Ok(()) } else { Err(Malformed("stream").into()) }
    }
}

impl ArchiveReader for Salvage {
    fn listing(&self) -> Listing<'_> {
        Listing::Whole(&self.whole)
    }

    fn spots(&self) -> Vec<Spot> {
        self.set().spots()
    }

    fn about(&self) -> Option<&About> {
        self.about.as_ref()
    }

    fn extract_some(
        &mut self,
        wanted: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), ArchiveError> {
        Ok(self.deliver(&wanted.iter().copied().collect(), sink, context)?)
    }
}

/// What the index lists and the records did not give whole, but for further names, which are taken out of what is whole. What is whole
/// must be what the index lists.
fn not_whole<'a>(
    index: &Index,
    all: &'a Whole,
    whole: &mut Vec<(ListedEntry, Place)>,
) -> Result<impl Iterator<Item = (&'a ListedEntry, Place)> + use<'a>, SealedError> {
    let listed: HashMap<Place, usize> = all.places.iter().enumerate().map(|(at, place)| (*place, at)).collect();
    let is_listed = |(found, place): &(ListedEntry, Place)| {
        let Some(at) = listed.get(place) else { return false };
        match index.further.contains(*at) {
            true => index.recorded(*at).is_ok_and(|recorded| found.entry == recorded.listed.entry),
            false => *found == all.listed[*at],
        }
    };
    if !whole.iter().all(is_listed) {
        return Err(Malformed("record order").into());
    }
    let further: HashSet<Place> = index.further.iter().map(|further| all.places[further.at]).collect();
    whole.retain(|(_, place)| !further.contains(place));
    let found: HashSet<Place> = whole.iter().map(|(_, place)| *place).chain(further).collect();
    let all = all.listed.iter().zip(all.places.iter().copied());
    Ok(all.filter(move |(_, place)| !found.contains(place)))
}

/// What is lost, and the volumes that it needs.
fn lost_of(
    (places, content_end): (&[Place], u64),
    lost: Vec<(&ListedEntry, Place)>,
    stream: &mut StreamReader,
    tail: &Tail,
) -> Vec<Lost> {
    let mut order: Vec<Place> = places.to_vec();
    order.sort_unstable();
    let described = lost.into_iter().map(|(listed, place)| {
        let next = order.partition_point(|other| *other <= place);
        let end = end_of(place, order.get(next), content_end, stream, tail);
        Lost { path: listed.entry.path.clone(), volumes: unreadable(place.frame_at, end, stream) }
    });
    described.collect()
}

/// Where the records of an entry end in the inner stream at the latest, as far as the frame that the next one begins in
/// can still be measured.
fn end_of(place: Place, next: Option<&Place>, content_end: u64, stream: &mut StreamReader, tail: &Tail) -> u64 {
    let last_frame = match next {
        None => return content_end,
        Some(next) if next.frame_at > place.frame_at && next.record_at == 0 => return next.frame_at,
        Some(next) => next.frame_at,
    };
    let mut header = Vec::new();
    let read = stream.read(last_frame, FRAME_HEADER_BYTES, &mut header).is_ok();
    let stored = FrameHeader::decode(&header).ok().filter(|_| read).map_or(0, |header| header.stored_bytes);
    last_frame.saturating_add(FRAME_HEADER_BYTES as u64 + u64::from(stored)).min(tail.inner_bytes)
}

/// The volumes with cells of a stretch of the inner stream that cannot be had.
fn unreadable(from: u64, to: u64, stream: &mut StreamReader) -> Vec<u32> {
    let geometry = stream.cells().set().geometry;
    let per_cell = stream.inner_per_cell();
    let cell_of = |place: u64| place / per_cell;
    let mut volumes: Vec<u32> = Vec::new();
    for cell in cell_of(from)..=cell_of(to.saturating_sub(1)).min(geometry.cells.saturating_sub(1)) {
        let volume = geometry.locate(cell).0;
        if volumes.last() != Some(&volume) && stream.first_frame(cell).is_err() {
            volumes.push(volume);
        }
    }
    volumes
}

/// What the walk comes upon.
enum Met<'a> {
    /// A record, and where it begins.
    Record(Place, Record<'a>),
    /// Something before the next record is lost.
    Gap,
}

/// Goes through every frame that can be read, from gap to gap.
fn walk<E: From<SealedError>>(
    stream: &mut StreamReader,
    tail: &Tail,
    context: &Context<'_>,
    mut take: impl FnMut(Met<'_>) -> Result<(), E>,
) -> Result<(), E> {
    let mut decompressor = Decompressor::new().map_err(SealedError::from)?;
    let (mut position, mut cell, mut raw) = (None, 0, Vec::new());
    loop {
        context.go_on().map_err(SealedError::from)?;
        let frame_at = match position {
            Some(position) if position >= tail.inner_bytes => return Ok(()),
            Some(position) => position,
            None => match next_frame(stream, &mut cell) {
                Some(found) => found,
                None => return Ok(()),
            },
        };
        if position.is_none() {
            take(Met::Gap)?;
        }
        position = None;
        cell = frame_at / stream.inner_per_cell() + 1;
        let Ok(frame) = read_stored_frame(stream, frame_at, tail, Vec::new()) else { continue };
        let header = frame.header;
        if decompressor.decompress(header.codec, &frame.stored, header.raw_bytes as usize, &mut raw).is_err() {
            continue;
        }
        position = Some(frame_at + FRAME_HEADER_BYTES as u64 + u64::from(header.stored_bytes));
        if header.kind == FrameKind::Content {
            for record in Records::new(&raw) {
                match record {
                    Ok((record_at, record)) => take(Met::Record(Place { frame_at, record_at }, record))?,
                    // Whoever sealed this wanted harm; nothing of it is worth saving.
                    Err(error @ RecordError::UnsafePath { .. }) => return Err(SealedError::from(error).into()),
                    Err(_) => {
                        take(Met::Gap)?;
                        break;
                    }
                }
            }
        }
    }
}

/// The first frame that begins in `cell` or a later one, as far as those can be read.
fn next_frame(stream: &mut StreamReader, cell: &mut u64) -> Option<u64> {
    let cells = stream.cells().set().geometry.cells;
    while *cell < cells {
        if let Ok(Some(mark)) = stream.first_frame(*cell) {
            return Some(*cell * stream.inner_per_cell() + mark as u64);
        }
        *cell += 1;
    }
    None
}

/// Puts records together, and keeps what is whole.
#[derive(Default)]
struct Finding {
    open: Option<OpenFile>,
    whole: Vec<(ListedEntry, Place)>,
}

struct OpenFile {
    entry: Entry,
    place: Place,
    size: u64,
    holes: u64,
    in_units: bool,
    digest: ContentDigest,
}

impl OpenFile {
    fn new(entry: Entry, place: Place) -> Self {
        Self { entry, place, size: 0, holes: 0, in_units: false, digest: ContentDigest::new(false) }
    }
}

impl Finding {
    fn take(&mut self, piece: Met<'_>) {
        match (piece, self.open.take()) {
            (Met::Record(place, Record::Entry(entry)), _) if entry.kind == EntryKind::File => {
                self.open = Some(OpenFile::new(entry, place));
            }
            (Met::Record(place, Record::Entry(entry)), _) => {
                self.whole.push((ListedEntry { entry, content: Content::default() }, place));
            }
            (Met::Record(_, Record::Data { id, offset, bytes }), Some(mut open))
                if id == open.entry.id && offset == open.size =>
            {
                open.digest.update(bytes);
                open.size = open.size.saturating_add(bytes.len() as u64);
                self.open = Some(open);
            }
            (Met::Record(_, Record::Attribute { id, .. }), Some(open)) if id == open.entry.id && open.size == 0 => {
                self.open = Some(open);
            }
            (Met::Record(_, Record::Hole { id, offset, bytes }), Some(mut open))
                if id == open.entry.id && offset == open.size && (open.in_units || open.size == 0) =>
            {
                if !open.in_units {
                    (open.in_units, open.digest) = (true, ContentDigest::new(true));
                }
                open.digest.hole(bytes);
                open.size = open.size.saturating_add(bytes);
                open.holes = open.holes.saturating_add(bytes);
                self.open = Some(open);
            }
            (Met::Record(_, Record::End { id, content, abandoned: false }), Some(open))
                if id == open.entry.id
                    && (content.size, content.holes, content.in_units) == (open.size, open.holes, open.in_units)
                    && open.digest.finish() == content.digest =>
            {
                self.whole.push((ListedEntry { entry: open.entry, content }, open.place));
            }
            _ => {}
        }
    }
}
