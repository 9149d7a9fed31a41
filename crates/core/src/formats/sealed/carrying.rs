//! Frames that go from one archive into another. A frame in which nothing changes goes as it is stored; another is put together anew,
//! without what is gone, and is the only one that is compressed again.

use super::error::SealedError;
use super::frame::FrameKind;
use super::index::Place;
use super::reader::{FrameWalk, SealedReader, StoredFrame};
use super::record::{
    DATA_PREFIX_BYTES, END_BYTES, RECORD_HEADER_BYTES, Record, Records, align_data, begin_data, entry_bytes, grow_data,
    put_end, put_entry,
};
use super::stream::StreamReader;
use super::tail::Tail;
use crate::codecs::block::{Block, Compressor, Decompressor, MAX_BLOCK_BYTES, Squeeze};
use crate::codecs::error::CodecError;
use crate::ground::context::Context;
use crate::ground::entry::{Entry, ListedEntry};
use crate::ground::pipeline::{Spares, Stopped};
use crate::ground::wire::Malformed;
use std::collections::{HashMap, HashSet};

/// What becomes of an entry that does not stay as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fate {
    /// It is not in the new archive, nor is any byte of its content.
    Gone,
    /// It has another path, time or mode, and the same content.
    Becomes(Entry),
}

/// The entries of an archive that do not stay as they are, by their ids.
pub type Fates = HashMap<u64, Fate>;

/// The content frames of an archive, to be carried into another.
pub struct FrameSource<'a> {
    stream: &'a mut StreamReader,
    tail: &'a Tail,
    places: &'a [Place],
}

/// A frame as it is stored, and the entries that begin in it: their places in the list, and where their records begin.
pub struct OldFrame {
    stored: StoredFrame,
    begins: Vec<(usize, u32)>,
}

impl OldFrame {
    /// Its bytes before compression.
    pub const fn raw_bytes(&self) -> u64 {
        self.stored.header.raw_bytes as u64
    }
}

/// A frame for the new archive, with the entries that begin in it and where their records begin.
#[derive(Debug)]
pub struct CarriedFrame {
    /// The frame's payload.
    pub block: Block,
    /// The entries.
    pub begins: Vec<(ListedEntry, u32)>,
}

impl SealedReader {
    /// Its frames, and its entries beside them.
    pub fn to_carry(&mut self) -> (FrameSource<'_>, &[ListedEntry]) {
        let (stream, tail, listed, places) = self.parts();
        (FrameSource { stream, tail, places }, listed)
    }
}

impl FrameSource<'_> {
    /// Hands over all content frames, in order, and reads the stream to its last byte.
    ///
    /// # Errors
    /// [`SealedError`], or [`Stopped`] where nobody takes them any more.
    pub fn carry(
        self,
        spares: &Spares,
        context: &Context<'_>,
        mut take: impl FnMut(OldFrame) -> Result<(), Stopped>,
    ) -> Result<Result<(), Stopped>, SealedError> {
        let Self { stream, tail, places } = self;
        let mut order: Vec<usize> = (0..places.len()).collect();
        order.sort_unstable_by_key(|place| places[*place]);
        let mut order = order.into_iter().peekable();
        let mut walk = FrameWalk::new(tail);
        while let Some(stored) = walk.next(stream, spares)? {
            context.go_on()?;
            if stored.header.kind != FrameKind::Content {
                continue;
            }
            let mut begins = Vec::new();
            while let Some(place) = order.next_if(|place| places[*place].frame_at == stored.at) {
                begins.push((place, places[place].record_at));
            }
            if let Err(stopped) = take(OldFrame { stored, begins }) {
                return Ok(Err(stopped));
            }
        }
        walk.finish(stream)?;
        // Every entry begins in some content frame.
        if order.next().is_some() { Err(Malformed("index").into()) } else { Ok(Ok(())) }
    }
}

/// Decides over frames of one archive, for one thread.
pub struct Carrier<'a> {
    listed: &'a [ListedEntry],
    fates: &'a Fates,
    /// The ids of all entries; what a frame holds beside them was given up while it was packed.
    ids: &'a HashSet<u64>,
    aligned: bool,
    decompressor: Decompressor,
}

impl<'a> Carrier<'a> {
    /// A carrier of frames that go with others which are compressed so hard.
    ///
    /// # Errors
    /// [`SealedError::Codec`] for want of memory.
    pub fn new(
        listed: &'a [ListedEntry],
        fates: &'a Fates,
        ids: &'a HashSet<u64>,
        squeeze: Squeeze,
    ) -> Result<Self, SealedError> {
        Ok(Self { listed, fates, ids, aligned: squeeze.is_slow(), decompressor: Decompressor::new()? })
    }

    /// What becomes of a frame: mostly the same one; none where nothing of it stays, and two where paths grew too long for one. What is
    /// put together anew is compressed.
    ///
    /// # Errors
    /// [`SealedError`] for a frame that breaks the format's rules.
    pub fn carried(&mut self, frame: OldFrame, compressor: &mut Compressor) -> Result<Vec<CarriedFrame>, SealedError> {
        let OldFrame { stored: StoredFrame { header, stored, .. }, begins } = frame;
        let raw_bytes = header.raw_bytes as usize;
        if !self.fates.is_empty() {
            let mut raw = Vec::new();
            self.decompressor.decompress(header.codec, &stored, raw_bytes, &mut raw)?;
            if self.touches(&raw)? {
                return self.put_together(&raw, &begins, compressor);
            }
        }
        let begins = begins.into_iter().map(|(place, record_at)| (self.listed[place].clone(), record_at)).collect();
        Ok(vec![CarriedFrame { block: Block { codec: header.codec, stored, raw_bytes }, begins }])
    }

    /// Whether a frame has anything of an entry that does not stay as it is.
    fn touches(&self, raw: &[u8]) -> Result<bool, SealedError> {
        for record in Records::new(raw) {
            if self.fates.contains_key(&id_of(&record?.1)) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn put_together(
        &self,
        raw: &[u8],
        begins: &[(usize, u32)],
        compressor: &mut Compressor,
    ) -> Result<Vec<CarriedFrame>, SealedError> {
        let mut begins = begins.iter().copied().peekable();
        let (mut frames, mut records, mut listed) = (Vec::new(), Vec::new(), Vec::new());
        for record in Records::new(raw) {
            let (at, record) = record?;
            let begun = begins.next_if(|(_, record_at)| *record_at == at).map(|(place, _)| place);
            let id = id_of(&record);
            let fate = self.fates.get(&id);
            if fate == Some(&Fate::Gone) || !self.ids.contains(&id) {
                continue;
            }
            let becomes = match fate {
                Some(Fate::Becomes(entry)) => Some(entry),
                _ => None,
            };
            if records.len() + most_bytes(&record, becomes) > MAX_BLOCK_BYTES {
                frames.extend(closed(&mut records, &mut listed, compressor)?);
            }
            if let Some(place) = begun {
                let ListedEntry { entry, content } = &self.listed[place];
                let entry = becomes.unwrap_or(entry).clone();
                listed.push((ListedEntry { entry, content: *content }, records.len() as u32));
            }
            self.put(&record, becomes, &mut records);
        }
        if begins.next().is_some() {
            return Err(Malformed("index").into());
        }
        frames.extend(closed(&mut records, &mut listed, compressor)?);
        Ok(frames)
    }

    fn put(&self, record: &Record<'_>, becomes: Option<&Entry>, records: &mut Vec<u8>) {
        match record {
            Record::Entry(entry) => put_entry(becomes.unwrap_or(entry), records),
            Record::Data { id, offset, bytes } => {
                if self.aligned && !records.is_empty() {
                    align_data(records);
                }
                let at = begin_data(*id, *offset, records);
                records.extend_from_slice(bytes);
                grow_data(records, at);
            }
            Record::End { id, content, abandoned } => put_end(*id, content, *abandoned, records),
        }
    }
}

/// The frame that these records make, if there are any.
fn closed(
    records: &mut Vec<u8>,
    begins: &mut Vec<(ListedEntry, u32)>,
    compressor: &mut Compressor,
) -> Result<Option<CarriedFrame>, CodecError> {
    if records.is_empty() {
        return Ok(None);
    }
    let (block, _) = compressor.compress(std::mem::take(records), Vec::new())?;
    Ok(Some(CarriedFrame { block, begins: std::mem::take(begins) }))
}

const fn id_of(record: &Record<'_>) -> u64 {
    match record {
        Record::Entry(entry) => entry.id,
        Record::Data { id, .. } | Record::End { id, .. } => *id,
    }
}

/// What a record takes at the most, with a pad before it.
fn most_bytes(record: &Record<'_>, becomes: Option<&Entry>) -> usize {
    RECORD_HEADER_BYTES
        + match record {
            Record::Entry(entry) => entry_bytes(becomes.unwrap_or(entry)),
            // A data record that begins a frame has no pad.
            Record::Data { bytes, .. } => DATA_PREFIX_BYTES + bytes.len() + RECORD_HEADER_BYTES,
            Record::End { .. } => END_BYTES,
        }
}
