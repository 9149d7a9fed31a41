//! Reading a sealed archive: unlock, believe the tail, list the index, extract in stream order.
//!
//! Everything is authentic before it is looked at, and held to the format's rules before it is
//! believed. What a sink is told has been compared with the index; a file ends only if its digest is right.

use super::base::{Base, BaseEntry, BaseRef, Becomes};
use super::cells::CellSeal;
use super::error::SealedError;
use super::extraction::{Extraction, Open};
use super::frame::{FRAME_HEADER_BYTES, FrameHeader, FrameKind};
use super::index::{About, IndexEntry, PageRef, Place, Root, check_order, read_page};
use super::keys::{ArchiveKey, CostLimit};
use super::record::Records;
use super::stream::StreamReader;
use super::tail::{TAIL_BYTES, Tail};
use super::unlocking::{UnlockedSet, unlock};
use super::volume::{CellReader, VolumeSet};
use crate::codecs::block::Decompressor;
use crate::codecs::error::CodecError;
use crate::formats::error::ArchiveError;
use crate::formats::reader::{ArchiveReader, Facts};
use crate::ground::context::{Context, Progress};
use crate::ground::entry::{EntryPath, ListedEntry};
use crate::ground::pipeline::{Jobs, Spares, ordered};
use crate::ground::secrets::Credentials;
use crate::ground::sink::EntrySink;
use crate::ground::wire::{Cursor, Malformed};
use std::path::PathBuf;

/// An unlocked archive.
pub struct SealedReader {
    stream: StreamReader,
    tail: Tail,
    about: About,
    listed: Vec<ListedEntry>,
    places: Vec<Place>,
    /// Where the first part of the index begins in the inner stream, behind all content.
    content_end: u64,
    /// Whether it needs a password, as far as that is known.
    secret: bool,
    /// Whether it was opened with a key file.
    key_file: bool,
    /// What it builds upon, and what is in that.
    base: Option<Base>,
}

impl SealedReader {
    /// Unlocks a set and reads its index. The order: head (cost, password, commitment, tag), last cell,
    /// tail, root, pages.
    ///
    /// # Errors
    /// [`SealedError`], the first that applies in that order.
    pub fn unlock(set: VolumeSet, credentials: &Credentials) -> Result<Self, SealedError> {
        let key = unlock(&set, credentials, CostLimit::Bearable)?;
        Self::with_key(set, &key)
    }

    /// Reads the index of a set whose key [`unlock`] gave.
    pub fn with_key(set: VolumeSet, key: &ArchiveKey) -> Result<Self, SealedError> {
        let mut stream = stream_of(set, key)?;
        let mut decompressor = Decompressor::new()?;
        let tail = stream.tail()?;
        let Index { about, listed, places, content_end } = read_index(&mut stream, &mut decompressor, &tail)?;
        let base = read_base(&about, &mut stream, &mut decompressor, &tail)?;
        base.iter().try_for_each(|base| agrees(base, &listed))?;
        Ok(Self { stream, tail, about, listed, places, content_end, secret: true, key_file: false, base })
    }

    /// Reads the index of a set that is unlocked.
    pub fn of(unlocked: UnlockedSet) -> Result<Self, SealedError> {
        let UnlockedSet { secret, key_file, .. } = unlocked;
        Ok(Self { secret, key_file, ..Self::with_key(unlocked.set, &unlocked.key)? })
    }

    /// What the archive says of itself.
    pub fn about(&self) -> &About {
        &self.about
    }

    /// BLAKE3 of the index's root, which holds the digests of all its pages.
    pub fn index_digest(&self) -> [u8; 32] {
        self.tail.index_digest
    }

    /// The volumes that it is read from.
    pub fn set(&self) -> &VolumeSet {
        self.stream.cells().set()
    }

    /// A cell's whole plaintext, as it was sealed.
    ///
    /// # Errors
    /// [`SealedError::Stream`] where it cannot be had.
    pub fn plain_cell(&mut self, cell: u64) -> Result<&[u8], SealedError> {
        Ok(self.stream.plain(cell)?)
    }

    /// What it is read from, its tail, its entries and where they begin.
    pub(super) fn parts(&mut self) -> (&mut StreamReader, &Tail, &[ListedEntry], &[Place]) {
        (&mut self.stream, &self.tail, &self.listed, &self.places)
    }

    /// Bytes of volumes read so far.
    pub fn bytes_read(&self) -> u64 {
        self.stream.cells().bytes_read()
    }

    /// Reads the whole stream once, from its first byte to its last, and hands every entry to the sink.
    ///
    /// # Errors
    /// [`SealedError`]; what the sink was told to end before that is complete and right.
    fn read_all(&mut self, sink: &mut dyn EntrySink, context: &Context<'_>) -> Result<(), SealedError> {
        let mut order: Vec<usize> = (0..self.places.len()).collect();
        order.sort_unstable_by_key(|index| self.places[*index]);
        let mut expected = order.into_iter().map(|index| (&self.listed[index], self.places[index]));
        let mut extraction = Extraction { sink, context, next: expected.next(), open: Open::Nothing, selective: false };
        let (stream, tail) = (&mut self.stream, &self.tail);
        let (geometry, per_cell) = (stream.cells().set().geometry, stream.inner_per_cell());
        let spares = Spares::new(context.threads);
        let (read, delivered) = ordered(
            context.threads,
            |jobs| read_all_frames(stream, tail, &spares, jobs),
            || decompressing(&spares),
            |frame: Result<RawFrame, CodecError>| -> Result<(), SealedError> {
                let frame = frame?;
                context.go_on()?;
                context.tell(Progress::Volume(geometry.locate(frame.at / per_cell).0));
                if frame.kind == FrameKind::Content {
                    for record in Records::new(&frame.bytes) {
                        let (record_at, record) = record?;
                        let place = Place { frame_at: frame.at, record_at };
                        extraction.take(place, record, || expected.next())?;
                    }
                }
                spares.give(frame.bytes);
                Ok(())
            },
        )?;
        // What was delivered came first, so its failure counts before one in reading further on.
        delivered?;
        read?;
        if extraction.next.is_some() || !matches!(extraction.open, Open::Nothing) {
            return Err(Malformed("index").into());
        }
        Ok(())
    }

    /// Hands some entries, by their places in [`ArchiveReader::entries`], to the sink, in stream order. Reads their own
    /// frames only.
    fn read_some(
        &mut self,
        wanted: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), SealedError> {
        let Self { stream, tail, listed, places, .. } = self;
        let mut order: Vec<usize> = wanted.iter().copied().filter(|place| *place < places.len()).collect();
        order.sort_unstable_by_key(|place| places[*place]);
        order.dedup();
        let mut expected = order.into_iter().map(|place| (&listed[place], places[place]));
        let mut extraction = Extraction { sink, context, next: expected.next(), open: Open::Nothing, selective: true };
        let mut decompressor = Decompressor::new()?;
        let (mut frame_at, mut raw) = (extraction.next.map_or(0, |(_, place)| place.frame_at), Vec::new());
        while !extraction.is_done() {
            context.go_on()?;
            let header = read_frame(stream, &mut decompressor, frame_at, tail, &mut raw)?;
            let records = if header.kind == FrameKind::Content { raw.as_slice() } else { &[] };
            for record in Records::new(records) {
                let (record_at, record) = record?;
                extraction.take(Place { frame_at, record_at }, record, || expected.next())?;
                if extraction.is_done() {
                    break;
                }
            }
            frame_at = match extraction.skip_to() {
                Some(frame) if frame > frame_at => frame,
                // What should have begun in this frame did not.
                Some(_) => return Err(Malformed("index").into()),
                None => frame_at + FRAME_HEADER_BYTES as u64 + u64::from(header.stored_bytes),
            };
        }
        Ok(())
    }
}

impl ArchiveReader for SealedReader {
    fn entries(&self) -> &[ListedEntry] {
        &self.listed
    }

    fn paths(&self) -> Vec<PathBuf> {
        self.set().paths()
    }

    /// Reads the whole stream once, from its first byte to its last.
    fn extract(&mut self, sink: &mut dyn EntrySink, context: &Context<'_>) -> Result<(), ArchiveError> {
        Ok(self.read_all(sink, context)?)
    }

    fn extract_some(
        &mut self,
        wanted: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), ArchiveError> {
        Ok(self.read_some(wanted, sink, context)?)
    }

    fn facts(&self) -> Facts {
        let message = self.about.message.clone();
        Facts { message, hides_names: true, key_file: self.key_file, ..Facts::default() }
    }

    fn is_secret(&self) -> bool {
        self.secret
    }

    /// Entries that share a frame share what it takes, so it is known only of the one that has all content.
    fn kept_shares(&self) -> Vec<Option<f64>> {
        let mut with_content = self.listed.iter().enumerate().filter(|(_, listed)| listed.content.size > 0);
        let mut kept = vec![None; self.listed.len()];
        if let (Some((place, only)), None) = (with_content.next(), with_content.next()) {
            let taken = self.content_end.saturating_sub(self.places[place].frame_at);
            kept[place] = Some((taken as f64 / only.content.size as f64).min(1.0));
        }
        kept
    }

    fn volumes(&self) -> Option<&VolumeSet> {
        Some(self.set())
    }

    fn about(&self) -> Option<&About> {
        Some(&self.about)
    }

    fn base(&self) -> Option<&Base> {
        self.base.as_ref()
    }

    /// Cells' checks too (see [`StreamReader::compare_checks`]).
    fn compare_checks(&mut self) {
        self.stream.compare_checks();
    }
}

/// The stream of cells of a set that is unlocked.
pub(super) fn stream_of(set: VolumeSet, key: &ArchiveKey) -> Result<StreamReader, SealedError> {
    let seal = CellSeal::new(key, &set.bound()).map_err(|_| Malformed("key"))?;
    Ok(StreamReader::new(seal, CellReader::new(set)))
}

/// A whole index: what the archive says of itself, and its entries, sorted by path, each with its place.
pub(super) struct Index {
    pub about: About,
    pub listed: Vec<ListedEntry>,
    pub places: Vec<Place>,
    pub content_end: u64,
}

/// Reads the root and all pages, and holds them to the tail.
pub(super) fn read_index(
    stream: &mut StreamReader,
    decompressor: &mut Decompressor,
    tail: &Tail,
) -> Result<Index, SealedError> {
    let root = read_root(stream, decompressor, tail)?;
    let content_end = root.pages.first().map_or(tail.root_at, |page| page.frame_at);
    let mut index = Index { about: root.about, listed: Vec::new(), places: Vec::new(), content_end };
    let mut raw = Vec::new();
    for page in &root.pages {
        let page = read_index_page(page, stream, decompressor, tail, &mut raw)?;
        check_order(index.listed.last().into_iter().chain(page.iter().map(|entry| &entry.listed)))?;
        for IndexEntry { listed, place } in page {
            index.listed.push(listed);
            index.places.push(place);
        }
    }
    refuse_one_id_twice(index.listed.iter())?;
    let content_bytes = index.listed.iter().map(|listed| listed.content.size).fold(0, u64::saturating_add);
    if index.listed.len() as u64 != tail.entries || content_bytes != tail.content_bytes {
        return Err(Malformed("index").into());
    }
    Ok(index)
}

fn refuse_one_id_twice<'a>(entries: impl Iterator<Item = &'a ListedEntry>) -> Result<(), Malformed> {
    let mut ids: Vec<u64> = entries.map(|listed| listed.entry.id).collect();
    ids.sort_unstable();
    if ids.is_sorted_by(|one, other| one < other) { Ok(()) } else { Err(Malformed("index")) }
}

fn read_index_page(
    page: &PageRef,
    stream: &mut StreamReader,
    decompressor: &mut Decompressor,
    tail: &Tail,
    raw: &mut Vec<u8>,
) -> Result<Vec<IndexEntry>, SealedError> {
    let header = read_frame(stream, decompressor, page.frame_at, tail, raw)?;
    if header.kind != FrameKind::IndexPage || header.stored_bytes + FRAME_HEADER_BYTES as u32 != page.frame_bytes {
        return Err(Malformed("index page").into());
    }
    Ok(read_page(raw, page)?)
}

/// Holds what is said of the base to what is here: what is replaced is here, and nothing else of it.
fn agrees(base: &Base, listed: &[ListedEntry]) -> Result<(), Malformed> {
    let is_here = |path: &EntryPath| listed.binary_search_by(|listed| listed.entry.path.cmp(path)).is_ok();
    let agrees = |entry: &BaseEntry| is_here(&entry.listed.entry.path) == (entry.becomes == Becomes::Replaced);
    if base.entries.iter().all(agrees) { Ok(()) } else { Err(Malformed("base entry")) }
}

/// Reads what an archive of changes says of the one that it builds upon; `None` of any other.
fn read_base(
    about: &About,
    stream: &mut StreamReader,
    decompressor: &mut Decompressor,
    tail: &Tail,
) -> Result<Option<Base>, SealedError> {
    let Some(property) = &about.base else { return Ok(None) };
    let BaseRef { name, pages } = BaseRef::decode(Cursor::new(property, "base"))?;
    let (mut entries, mut raw) = (Vec::<BaseEntry>::new(), Vec::new());
    for page in &pages {
        let page = read_index_page(page, stream, decompressor, tail, &mut raw)?;
        check_order(entries.last().map(|last| &last.listed).into_iter().chain(page.iter().map(|entry| &entry.listed)))?;
        for entry in page {
            entries.push(BaseEntry::from_index_entry(entry)?);
        }
    }
    refuse_one_id_twice(entries.iter().map(|entry| &entry.listed))?;
    Ok(Some(Base { name, entries }))
}

fn read_root(stream: &mut StreamReader, decompressor: &mut Decompressor, tail: &Tail) -> Result<Root, SealedError> {
    let mut raw = Vec::new();
    let header = read_frame(stream, decompressor, tail.root_at, tail, &mut raw)?;
    let right_place = header.kind == FrameKind::IndexRoot
        && header.stored_bytes.checked_add(FRAME_HEADER_BYTES as u32) == Some(tail.root_bytes);
    if !right_place || blake3::hash(&raw).as_bytes() != &tail.index_digest {
        return Err(Malformed("index root").into());
    }
    Ok(Root::decode(&raw)?)
}

/// Reads and decompresses the frame at a place of the inner stream.
fn read_frame(
    stream: &mut StreamReader,
    decompressor: &mut Decompressor,
    frame_at: u64,
    tail: &Tail,
    raw: &mut Vec<u8>,
) -> Result<FrameHeader, SealedError> {
    let frame = read_stored_frame(stream, frame_at, tail, Vec::new())?;
    decompressor.decompress(frame.header.codec, &frame.stored, frame.header.raw_bytes as usize, raw)?;
    Ok(frame.header)
}

/// A frame as it is stored.
pub(super) struct StoredFrame {
    pub at: u64,
    pub header: FrameHeader,
    pub stored: Vec<u8>,
}

/// A decompressed frame.
struct RawFrame {
    at: u64,
    kind: FrameKind,
    bytes: Vec<u8>,
}

/// Reads the frame at a place of the inner stream into `buffer`.
pub(super) fn read_stored_frame(
    stream: &mut StreamReader,
    frame_at: u64,
    tail: &Tail,
    mut buffer: Vec<u8>,
) -> Result<StoredFrame, SealedError> {
    let left = tail.inner_bytes.saturating_sub(frame_at);
    if left < FRAME_HEADER_BYTES as u64 {
        return Err(Malformed("frame place").into());
    }
    buffer.clear();
    stream.read(frame_at, FRAME_HEADER_BYTES, &mut buffer)?;
    let header = FrameHeader::decode(&buffer)?;
    if u64::from(header.stored_bytes) > left - FRAME_HEADER_BYTES as u64 {
        return Err(Malformed("frame length").into());
    }
    buffer.clear();
    buffer.try_reserve(header.stored_bytes as usize).map_err(|_| CodecError::Compressor)?;
    stream.read(frame_at + FRAME_HEADER_BYTES as u64, header.stored_bytes as usize, &mut buffer)?;
    Ok(StoredFrame { at: frame_at, header, stored: buffer })
}

type FrameJobs = Jobs<StoredFrame, Result<RawFrame, CodecError>>;

/// Reads the whole stream, frame after frame, to its last zero. A reader that nobody listens to any more stops.
fn read_all_frames(
    stream: &mut StreamReader,
    tail: &Tail,
    spares: &Spares,
    jobs: &FrameJobs,
) -> Result<(), SealedError> {
    let mut frames = FrameWalk::new(tail);
    while let Some(frame) = frames.next(stream, spares)? {
        if jobs.submit(frame).is_err() {
            return Ok(());
        }
    }
    frames.finish(stream)
}

/// A worker with a decompressor of its own.
fn decompressing(spares: &Spares) -> impl FnMut(StoredFrame) -> Result<RawFrame, CodecError> {
    let mut decompressor = Decompressor::new();
    move |frame| {
        let decompressor = decompressor.as_mut().map_err(|error| *error)?;
        let FrameHeader { codec, raw_bytes, kind, .. } = frame.header;
        let (bytes, left_over) =
            decompressor.decompress_owned(codec, frame.stored, raw_bytes as usize, spares.take())?;
        spares.give(left_over);
        Ok(RawFrame { at: frame.at, kind, bytes })
    }
}

/// Goes through all frames in order and holds the cells' marks to where frames really begin.
pub(super) struct FrameWalk<'a> {
    tail: &'a Tail,
    position: u64,
    /// Cells before this one have had their marks compared.
    marks_compared: u64,
}

impl<'a> FrameWalk<'a> {
    pub fn new(tail: &'a Tail) -> Self {
        Self { tail, position: 0, marks_compared: 0 }
    }

    pub fn next(&mut self, stream: &mut StreamReader, spares: &Spares) -> Result<Option<StoredFrame>, SealedError> {
        if self.position == self.tail.inner_bytes {
            return Ok(None);
        }
        let frame_at = self.position;
        let per_cell = stream.inner_per_cell();
        let cell = frame_at / per_cell;
        if cell >= self.marks_compared {
            self.no_frame_begins_before(cell, stream)?;
            if stream.first_frame(cell)? != Some((frame_at % per_cell) as usize) {
                return Err(Malformed("frame mark").into());
            }
            self.marks_compared = cell + 1;
        }
        let frame = read_stored_frame(stream, frame_at, self.tail, spares.take())?;
        self.position += FRAME_HEADER_BYTES as u64 + u64::from(frame.header.stored_bytes);
        Ok(Some(frame))
    }

    fn no_frame_begins_before(&mut self, cell: u64, stream: &mut StreamReader) -> Result<(), SealedError> {
        while self.marks_compared < cell {
            if stream.first_frame(self.marks_compared)?.is_some() {
                return Err(Malformed("frame mark").into());
            }
            self.marks_compared += 1;
        }
        Ok(())
    }

    /// Behind the last frame there is nothing but zeros and the tail.
    pub fn finish(mut self, stream: &mut StreamReader) -> Result<(), SealedError> {
        self.no_frame_begins_before(self.tail.cells, stream)?;
        let per_cell = stream.inner_per_cell();
        for cell in self.tail.inner_bytes / per_cell..self.tail.cells {
            let tail_bytes = if cell + 1 == self.tail.cells { TAIL_BYTES } else { 0 };
            let inner = stream.load(cell)?;
            let from = self.tail.inner_bytes.saturating_sub(cell * per_cell) as usize;
            let padding = inner.get(from..inner.len() - tail_bytes).ok_or(Malformed("padding"))?;
            if padding.iter().any(|byte| *byte != 0) {
                return Err(Malformed("padding").into());
            }
        }
        Ok(())
    }
}
