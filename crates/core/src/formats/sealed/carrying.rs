//! Frames that go from one archive into another. A frame in which nothing changes goes as it is stored; another is put together anew,
//! without what is gone, and is the only one that is compressed again.

use super::error::SealedError;
use super::frame::FrameKind;
use super::frame_reading::{FrameWalk, StoredFrame};
use super::further_names::{TooFar, recorded};
use super::index::Place;
use super::index_reading::Whole;
use super::reader::SealedReader;
use super::record::{
    DATA_PREFIX_BYTES, END_BYTES, HOLE_BYTES, RECORD_HEADER_BYTES, Record, Records, align_data, attribute_bytes,
    begin_data, entry_bytes, grow_data, put_attribute, put_end, put_entry, put_hole,
};
use super::stream::StreamReader;
use super::tail::Tail;
use crate::codecs::block::{Block, Compressor, Decompressor, MAX_BLOCK_BYTES, Squeeze};
use crate::codecs::error::CodecError;
use crate::ground::context::Context;
use crate::ground::entry::{Content, Entry, EntryPath, ListedEntry};
use crate::ground::pipeline::{Buffers, Stopped};
use crate::ground::wire::Malformed;
use std::collections::{HashMap, HashSet};

/// What becomes of an entry that does not stay as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fate {
    /// It is not in the new archive, nor is any byte of its content.
    Gone,
    /// It has another path, time or mode, or even another id, and the same content.
    Becomes(Entry),
    /// It becomes a further name, which is recorded so.
    BecomesFurther(Box<ListedEntry>),
}

/// The entries of an archive that is carried into another.
pub struct OldEntries<'a> {
    listed: &'a [ListedEntry],
    fates: Fates,
    /// The ids of all; what a frame holds beside them was given up while it was packed.
    ids: HashSet<u64>,
    /// Where files are that have further names, by their ids.
    owners: HashMap<u64, &'a EntryPath>,
}

impl<'a> OldEntries<'a> {
    /// These entries, some of which do not stay as they are. What that means for further names is found here: where a file goes, one of
    /// its further names has the content from then on.
    ///
    /// # Errors
    /// [`TooFar`].
    pub fn new(listed: &'a [ListedEntry], mut fates: Fates) -> Result<Self, TooFar> {
        let ids = listed.iter().map(|listed| listed.entry.id).collect();
        let mut groups: HashMap<u64, Vec<&ListedEntry>> = HashMap::new();
        for name in listed {
            if let Some(owner) = name.content.shared_with {
                groups.entry(owner).or_default().push(name);
            }
        }
        let mut owners = HashMap::new();
        for owner in listed {
            if let Some(names) = groups.get(&owner.entry.id) {
                owners.insert(owner.entry.id, &owner.entry.path);
                settle_group(owner, names, &mut fates)?;
            }
        }
        Ok(Self { listed, fates, ids, owners })
    }

    /// Content bytes of those that are in the new archive.
    pub fn content_bytes(&self) -> u64 {
        self.listed.iter().map(|listed| listed.content.own_bytes()).sum()
    }

    /// How many further names there are.
    pub fn further_names(&self) -> usize {
        self.listed.iter().filter(|listed| listed.content.shared_with.is_some()).count()
    }

    /// As an entry is recorded in the new archive.
    fn recorded(&self, place: usize) -> Option<ListedEntry> {
        let old = &self.listed[place];
        match self.fates.get(&old.entry.id) {
            Some(Fate::Gone) => None,
            Some(Fate::Becomes(entry)) => Some(ListedEntry { entry: entry.clone(), content: old.content }),
            Some(Fate::BecomesFurther(recorded)) => Some((**recorded).clone()),
            None => match old.content.shared_with.and_then(|owner| self.owners.get(&owner)) {
                Some(owner) => recorded(old, owner),
                None => Some(old.clone()),
            },
        }
    }
}

/// What becomes of a file and its further names, given what becomes of each alone.
fn settle_group(owner: &ListedEntry, names: &[&ListedEntry], fates: &mut Fates) -> Result<(), TooFar> {
    let alone = |old: &ListedEntry, fates: &Fates| match fates.get(&old.entry.id) {
        Some(Fate::Gone) => None,
        Some(Fate::Becomes(entry)) => Some(entry.clone()),
        _ => Some(old.entry.clone()),
    };
    let mut staying: Vec<(u64, Entry)> =
        names.iter().filter_map(|name| Some((name.entry.id, alone(name, fates)?))).collect();
    let file = match alone(owner, fates) {
        Some(entry) => entry,
        None if staying.is_empty() => return Ok(()),
        None => {
            let (id, heir) = staying.remove(0);
            fates.insert(owner.entry.id, Fate::Becomes(heir.clone()));
            fates.insert(id, Fate::Gone);
            heir
        }
    };
    let is_as_it_was = file == owner.entry;
    for (id, entry) in staying {
        if is_as_it_was && !fates.contains_key(&id) {
            continue;
        }
        // All names of a file have one mode and one time.
        let entry = Entry { mode: file.mode, modified: file.modified, ..entry };
        let far = TooFar(entry.path.clone());
        let content = Content { shared_with: Some(file.id), ..Content::default() };
        let becomes = recorded(&ListedEntry { entry, content }, &file.path).ok_or(far)?;
        fates.insert(id, Fate::BecomesFurther(Box::new(becomes)));
    }
    Ok(())
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
    ///
    /// # Errors
    /// [`SealedError`] where the entries cannot be read again.
    pub fn to_carry(&mut self) -> Result<(FrameSource<'_>, &[ListedEntry]), SealedError> {
        let (stream, tail, Whole { listed, places }) = self.parts()?;
        Ok((FrameSource { stream, tail, places }, listed))
    }
}

impl FrameSource<'_> {
    /// Hands over all content frames, in order, and reads the stream to its last byte.
    ///
    /// # Errors
    /// [`SealedError`], or [`Stopped`] where nobody takes them any more.
    pub fn carry(
        self,
        buffers: &Buffers,
        context: &Context<'_>,
        mut take: impl FnMut(OldFrame) -> Result<(), Stopped>,
    ) -> Result<Result<(), Stopped>, SealedError> {
        let Self { stream, tail, places } = self;
        let mut order: Vec<usize> = (0..places.len()).collect();
        order.sort_unstable_by_key(|place| places[*place]);
        let mut order = order.into_iter().peekable();
        let mut walk = FrameWalk::new(tail);
        while let Some(stored) = walk.next(stream, buffers)? {
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
    old: &'a OldEntries<'a>,
    aligned: bool,
    decompressor: Decompressor,
}

impl<'a> Carrier<'a> {
    /// A carrier of frames that go with others which are compressed so hard.
    ///
    /// # Errors
    /// [`SealedError::Codec`] for want of memory.
    pub fn new(old: &'a OldEntries<'a>, squeeze: Squeeze) -> Result<Self, SealedError> {
        Ok(Self { old, aligned: squeeze.is_slow(), decompressor: Decompressor::new()? })
    }

    /// What becomes of a frame: mostly the same one; none where nothing of it stays, and two where paths grew too long for one. What is
    /// put together anew is compressed.
    ///
    /// # Errors
    /// [`SealedError`] for a frame that breaks the format's rules.
    pub fn carried(&mut self, frame: OldFrame, compressor: &mut Compressor) -> Result<Vec<CarriedFrame>, SealedError> {
        let OldFrame { stored: StoredFrame { header, stored, .. }, begins } = frame;
        let raw_bytes = header.raw_bytes as usize;
        if !self.old.fates.is_empty() {
            let mut raw = Vec::new();
            self.decompressor.decompress(header.codec, &stored, raw_bytes, &mut raw)?;
            if self.touches(&raw)? {
                return self.put_together(&raw, &begins, compressor);
            }
        }
        let listed = |(place, record_at)| Some((self.old.recorded(place)?, record_at));
        let begins = begins.into_iter().filter_map(listed).collect();
        Ok(vec![CarriedFrame { block: Block { codec: header.codec, stored, raw_bytes }, begins }])
    }

    /// Whether a frame has anything of an entry that does not stay as it is.
    fn touches(&self, raw: &[u8]) -> Result<bool, SealedError> {
        for record in Records::new(raw) {
            if self.old.fates.contains_key(&record?.1.id()) {
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
            let id = record.id();
            let fate = self.old.fates.get(&id);
            if fate == Some(&Fate::Gone) || !self.old.ids.contains(&id) {
                continue;
            }
            let becomes = match fate {
                Some(Fate::Becomes(entry)) => Some(entry),
                Some(Fate::BecomesFurther(recorded)) => Some(&recorded.entry),
                _ => None,
            };
            if records.len() + most_bytes(&record, becomes) > MAX_BLOCK_BYTES {
                frames.extend(closed(&mut records, &mut listed, compressor)?);
            }
            if let Some(place) = begun {
                listed.extend(self.old.recorded(place).map(|recorded| (recorded, records.len() as u32)));
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
        let id = becomes.map_or_else(|| record.id(), |entry| entry.id);
        match record {
            Record::Entry(entry) => put_entry(becomes.unwrap_or(entry), records),
            Record::Data { offset, bytes, .. } => {
                if self.aligned && !records.is_empty() {
                    align_data(records);
                }
                let at = begin_data(id, *offset, records);
                records.extend_from_slice(bytes);
                grow_data(records, at);
            }
            Record::Attribute { attribute, .. } => put_attribute(id, attribute, records),
            Record::Hole { offset, bytes, .. } => put_hole(id, *offset, *bytes, records),
            Record::End { content, abandoned, .. } => put_end(id, content, *abandoned, records),
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

/// What a record takes at the most, with a pad before it.
fn most_bytes(record: &Record<'_>, becomes: Option<&Entry>) -> usize {
    RECORD_HEADER_BYTES
        + match record {
            Record::Entry(entry) => entry_bytes(becomes.unwrap_or(entry)),
            // A data record that begins a frame has no pad.
            Record::Data { bytes, .. } => DATA_PREFIX_BYTES + bytes.len() + RECORD_HEADER_BYTES,
            Record::Hole { .. } => HOLE_BYTES,
            Record::Attribute { attribute, .. } => attribute_bytes(attribute),
            Record::End { .. } => END_BYTES,
        }
}
