//! Reading a sealed archive: unlock, believe the tail, list the index, extract in stream order.
//!
//! Everything is authentic before it is looked at, and held to the format's rules before it is
//! believed. What a sink is told has been compared with the index; a file ends only if its digest is right.

use super::base::{Base, BaseName};
use super::cells::CellSeal;
use super::error::SealedError;
use super::extraction::{Awaited, Comes, Extraction, Open};
use super::frame::{FRAME_HEADER_BYTES, FrameHeader, FrameKind};
use super::frame_reading::{FrameWalk, StoredFrame, read_frame};
use super::further_names::hand_over;
use super::index::{About, IndexEntry, Place};
use super::index_pages::PageFrames;
use super::index_reading::{Index, PagedBase, Wanted, Whole};
use super::keys::{ArchiveKey, CostLimit};
use super::record::Records;
use super::stream::StreamReader;
use super::tail::Tail;
use super::unlocking::{UnlockedSet, unlock};
use super::volume::{CellReader, VolumeSet};
use crate::codecs::block::Decompressor;
use crate::codecs::error::CodecError;
use crate::formats::error::ArchiveError;
use crate::formats::listing::Listing;
use crate::formats::reader::{ArchiveReader, Facts};
use crate::formats::spot::Spot;
use crate::ground::context::{Context, Progress};
use crate::ground::pipeline::{Buffers, Jobs, ordered};
use crate::ground::secrets::Credentials;
use crate::ground::sink::EntrySink;
use crate::ground::wire::Malformed;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

/// An unlocked archive.
pub struct SealedReader {
    stream: StreamReader,
    tail: Tail,
    index: Index,
    /// Whether it needs a password, as far as that is known.
    secret: bool,
    /// Whether it was opened with a key file.
    key_file: bool,
    /// What it builds upon, and what is in that.
    base: Option<PagedBase>,
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
        let tail = stream.tail()?;
        let index = Index::read(PageFrames::new(stream.beside(), tail)?)?;
        let base = index.read_base()?;
        Ok(Self { stream, tail, index, secret: true, key_file: false, base })
    }

    /// Reads the index of a set that is unlocked.
    pub fn of(unlocked: UnlockedSet) -> Result<Self, SealedError> {
        let UnlockedSet { secret, key_file, .. } = unlocked;
        Ok(Self { secret, key_file, ..Self::with_key(unlocked.set, &unlocked.key)? })
    }

    /// What the archive says of itself.
    pub fn about(&self) -> &About {
        &self.index.about
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

    /// What it is read from, its tail, and all its entries with where they begin.
    pub(super) fn parts(&mut self) -> Result<(&mut StreamReader, &Tail, &Whole), SealedError> {
        Ok((&mut self.stream, &self.tail, self.index.whole()?))
    }

    /// Bytes of volumes read so far.
    pub fn bytes_read(&self) -> u64 {
        self.stream.cells().bytes_read() + self.index.bytes_read()
    }

    /// Reads the whole stream once, from its first byte to its last, and hands every entry to the sink.
    ///
    /// # Errors
    /// [`SealedError`]; what the sink was told to end before that is complete and right.
    fn read_all(&mut self, sink: &mut dyn EntrySink, context: &Context<'_>) -> Result<(), SealedError> {
        self.read_whole_stream(sink, context)?;
        let names = &self.index.further;
        let further = names.iter().map(|further| further.at).collect();
        let delivered = names.iter().map(|further| (further.owner, further.owner)).collect();
        self.hand_over_further(further, delivered, sink, context)
    }

    /// Reads the whole stream, and hands everything to the sink but further names.
    fn read_whole_stream(&mut self, sink: &mut dyn EntrySink, context: &Context<'_>) -> Result<(), SealedError> {
        let index = &self.index;
        let mut order = index.in_stream_order(&Wanted::All);
        let mut following = || {
            let awaited = |(at, IndexEntry { listed, place })| match index.further.contains(at) {
                true => Awaited { comes: Comes::NotHere(Box::new(listed.entry.clone())), listed, place },
                false => Awaited { listed, place, comes: Comes::AsItIs },
            };
            order.next().map(|item| item.map(awaited)).transpose()
        };
        let mut extraction = Extraction { sink, context, next: following()?, open: Open::Nothing, selective: false };
        let (stream, tail) = (&mut self.stream, &self.tail);
        let (geometry, per_cell) = (stream.cells().set().geometry, stream.inner_per_cell());
        let buffers = Buffers::new(context.threads);
        let (read, delivered) = ordered(
            context.threads,
            |jobs| read_all_frames(stream, tail, &buffers, jobs),
            || decompressing(&buffers),
            |frame: Result<RawFrame, CodecError>| -> Result<(), SealedError> {
                let frame = frame?;
                context.go_on()?;
                context.tell(Progress::Volume(geometry.locate(frame.at / per_cell).0));
                if frame.kind == FrameKind::Content {
                    for record in Records::new(&frame.bytes) {
                        let (record_at, record) = record?;
                        let place = Place { frame_at: frame.at, record_at };
                        extraction.take(place, record, &mut following)?;
                    }
                }
                buffers.give(frame.bytes);
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
        let of_list = wanted.iter().copied().filter(|at| *at < self.index.count());
        let (further, others): (BTreeSet<_>, BTreeSet<_>) = of_list.partition(|at| self.index.further.contains(*at));
        let names: HashMap<usize, usize> = others.iter().map(|at| (*at, *at)).collect();
        read_under(&mut self.stream, &self.tail, &self.index, &names, sink, context)?;
        self.hand_over_further(further.into_iter().collect(), names, sink, context)
    }

    fn hand_over_further(
        &mut self,
        further: Vec<usize>,
        delivered: HashMap<usize, usize>,
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), SealedError> {
        if further.is_empty() {
            return Ok(());
        }
        let Self { stream, tail, index, .. } = self;
        hand_over(further, delivered, (|at| index.listed(at), &index.further), sink, |under, sink| {
            read_under(stream, tail, index, under, sink, context)
        })
    }
}

/// Hands entries to the sink, each under the name that stands beside it, by their places in the list.
fn read_under(
    stream: &mut StreamReader,
    tail: &Tail,
    index: &Index,
    names: &HashMap<usize, usize>,
    sink: &mut dyn EntrySink,
    context: &Context<'_>,
) -> Result<(), SealedError> {
    let wanted = Wanted::some(names.keys().copied());
    let mut order = index.in_stream_order(&wanted);
    let mut following = || {
        let Some((at, IndexEntry { listed, place })) = order.next().transpose()? else { return Ok(None) };
        let comes = match names.get(&at) {
            Some(name) if *name != at => Comes::As(Box::new(index.listed(*name)?.entry)),
            _ => Comes::AsItIs,
        };
        Ok(Some(Awaited { listed, place, comes }))
    };
    let mut extraction = Extraction { sink, context, next: following()?, open: Open::Nothing, selective: true };
    let mut decompressor = Decompressor::new()?;
    let (mut frame_at, mut raw) = (extraction.next.as_ref().map_or(0, |awaited| awaited.place.frame_at), Vec::new());
    while !extraction.is_done() {
        context.go_on()?;
        let header = read_frame(stream, &mut decompressor, frame_at, tail, &mut raw)?;
        let records = if header.kind == FrameKind::Content { raw.as_slice() } else { &[] };
        for record in Records::new(records) {
            let (record_at, record) = record?;
            extraction.take(Place { frame_at, record_at }, record, &mut following)?;
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

impl ArchiveReader for SealedReader {
    fn listing(&self) -> Listing<'_> {
        Listing::Paged(&self.index)
    }

    fn spots(&self) -> Vec<Spot> {
        self.set().spots()
    }

    fn close_files(&mut self) {
        self.stream.close_files();
        self.index.close_files();
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
        let message = self.index.about.message.clone();
        Facts { message, hides_names: true, key_file: self.key_file, ..Facts::default() }
    }

    fn is_secret(&self) -> bool {
        self.secret
    }

    /// Entries that share a frame share what it takes, so it is known only of the one that has all content.
    fn kept_share(&self, place: usize) -> Result<Option<f64>, ArchiveError> {
        if self.index.only_content != Some(place) {
            return Ok(None);
        }
        let IndexEntry { listed, place } = self.index.recorded(place)?;
        let taken = self.index.content_end.saturating_sub(place.frame_at);
        Ok(Some((taken as f64 / listed.content.size as f64).min(1.0)))
    }

    fn volumes(&self) -> Option<&VolumeSet> {
        Some(self.set())
    }

    fn about(&self) -> Option<&About> {
        Some(&self.index.about)
    }

    fn base_name(&self) -> Option<&BaseName> {
        self.base.as_ref().map(|base| &base.name)
    }

    fn base(&self) -> Result<Option<&Base>, ArchiveError> {
        Ok(self.base.as_ref().map(PagedBase::whole).transpose()?)
    }

    /// Cells' checks too (see [`StreamReader::compare_checks`]).
    fn compare_checks(&mut self) {
        self.stream.compare_checks();
    }
}

/// The stream of cells of a set that is unlocked.
pub(super) fn stream_of(set: VolumeSet, key: &ArchiveKey) -> Result<StreamReader, SealedError> {
    let seal = Arc::new(CellSeal::new(key, &set.bound()).map_err(|_| Malformed("key"))?);
    Ok(StreamReader::new(Arc::clone(&seal), CellReader::new(set.judged_by(seal))))
}

/// A decompressed frame.
struct RawFrame {
    at: u64,
    kind: FrameKind,
    bytes: Vec<u8>,
}

type FrameJobs = Jobs<StoredFrame, Result<RawFrame, CodecError>>;

/// Reads the whole stream, frame after frame, to its last zero. A reader that nobody listens to any more stops.
fn read_all_frames(
    stream: &mut StreamReader,
    tail: &Tail,
    buffers: &Buffers,
    jobs: &FrameJobs,
) -> Result<(), SealedError> {
    let mut frames = FrameWalk::new(tail);
    while let Some(frame) = frames.next(stream, buffers)? {
        if jobs.submit(frame).is_err() {
            return Ok(());
        }
    }
    frames.finish(stream)
}

/// A worker with a decompressor of its own.
fn decompressing(buffers: &Buffers) -> impl FnMut(StoredFrame) -> Result<RawFrame, CodecError> {
    let mut decompressor = Decompressor::new();
    move |frame| {
        let decompressor = decompressor.as_mut().map_err(|error| *error)?;
        let FrameHeader { codec, raw_bytes, kind, .. } = frame.header;
        let (bytes, left_over) =
            decompressor.decompress_owned(codec, frame.stored, raw_bytes as usize, buffers.take())?;
        buffers.give(left_over);
        Ok(RawFrame { at: frame.at, kind, bytes })
    }
}
