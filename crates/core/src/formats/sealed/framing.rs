//! Framing: entries and their content become records, and records fill frames that are ready to be compressed.
//!
//! This half of writing runs beside the sources, so it knows frames by their number only. With each frame go the
//! entries that are complete with it; the writer knows where each frame begins, and puts the two together in the index.

use super::further_names::{kind_of, recorded};
use super::record::{
    ALIGNMENT, DATA_PREFIX_BYTES, HOLE_BYTES, RECORD_HEADER_BYTES, align_data, attribute_bytes, begin_data, grow_data,
    put_attribute, put_end, put_entry, put_hole,
};
use crate::codecs::block::MAX_BLOCK_BYTES;
use crate::codecs::lzma::Filter;
use crate::ground::attributes::Attribute;
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry, Totals};
use crate::ground::holes::{ContentDigest, Hole};
use crate::ground::pipeline::{Buffers, Stopped};

/// An entry that was framed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Framed {
    /// The entry and its content's description.
    pub listed: ListedEntry,
    /// The number, from 0, of the frame in which its entry record stands.
    pub frame: u64,
    /// Where in that frame the entry record begins.
    pub record_at: u32,
}

/// A frame before compression.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct FrameDraft {
    /// Its records.
    pub records: Vec<u8>,
    /// The entries that are complete with it, in the order in which they came.
    pub completed: Vec<Framed>,
}

/// How large frames get.
#[derive(Debug, Clone, Copy)]
pub struct FrameRoom {
    /// Bytes that a frame gathers before compression.
    pub raw_bytes: usize,
    /// Bytes that it is expected to come to, at the most.
    pub stored_bytes: usize,
    /// Whether content is aligned in it, which some filters need.
    pub aligned: bool,
}

impl FrameRoom {
    /// Bytes that a frame gathers of content of which compression leaves this share, 0 to 1.
    pub fn raw_bytes_of(self, kept: f64) -> usize {
        let stored = (self.stored_bytes as u64).saturating_mul(KEPT_PARTS) / kept_parts(kept);
        self.raw_bytes.min(usize::try_from(stored).unwrap_or(usize::MAX))
    }
}

/// Files that go well with each other: what one filter is for, or what compresses not at all.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Class {
    /// All are alike.
    #[default]
    Any,
    /// Those that this filter is for.
    Behind(Filter),
    /// Those of which compression leaves about all.
    Incompressible,
}

/// What is expected of a file, before it is read.
#[derive(Debug, Clone, Copy, Default)]
pub struct Expected {
    /// Its bytes.
    pub bytes: u64,
    /// The share of them that compression leaves, 0 to 1.
    pub kept: f64,
    /// Files of one class share frames; at another a frame ends, unless it is short.
    pub class: Class,
    /// It may have holes, so that its digest is that of its units.
    pub in_units: bool,
}

/// A frame that is no longer than this goes on with files of another class, in bytes before compression.
const SHORT_BYTES: usize = 256 * 1024;

/// Parts of a whole in which [`Expected::kept`] is reckoned with, and the least of them: what leaves nothing would never fill
/// a frame.
const KEPT_PARTS: u64 = 1024;
const LEAST_KEPT: u64 = 16;

/// A share, in parts of a whole.
fn kept_parts(kept: f64) -> u64 {
    ((kept * KEPT_PARTS as f64) as u64).clamp(LEAST_KEPT, KEPT_PARTS)
}

/// What a pad takes at the most.
const PAD_BYTES: usize = RECORD_HEADER_BYTES + ALIGNMENT - 1;

/// What the records around a file's content are expected to come to: most of that is its digest.
const AROUND_FILE_BYTES: u64 = 64;

/// Takes entries one after another and hands over full frames.
pub struct Framer<'a, F: Fn(FrameDraft) -> Result<(), Stopped>> {
    submit: F,
    buffers: &'a Buffers,
    room: FrameRoom,
    frame: FrameDraft,
    /// What the frame so far is expected to come to, in parts of a byte.
    stored_parts: u64,
    /// The class of what came last.
    class: Class,
    number: u64,
    open: Option<OpenEntry>,
    totals: Totals,
}

struct OpenEntry {
    entry: Entry,
    frame: u64,
    record_at: u32,
    size: u64,
    holes: u64,
    in_units: bool,
    digest: ContentDigest,
    kept_parts: u64,
    /// Where in the current frame the data record begins that more content is added to.
    data_at: Option<usize>,
}

impl<'a, F: Fn(FrameDraft) -> Result<(), Stopped>> Framer<'a, F> {
    /// A framer that hands frames of about this length, in order, to `submit`, and takes its buffers from `buffers`.
    pub fn new(room: FrameRoom, buffers: &'a Buffers, submit: F) -> Self {
        Self {
            submit,
            buffers,
            room,
            frame: FrameDraft::default(),
            stored_parts: 0,
            class: Class::Any,
            number: 0,
            open: None,
            totals: Totals::default(),
        }
    }

    /// Begins an entry. Folders and links are complete with this; a file goes on with its content.
    pub fn begin(&mut self, entry: Entry, expected: Expected) -> Result<(), Stopped> {
        let (frame, record_at) = self.begin_record(&entry, expected)?;
        if entry.kind == EntryKind::File {
            if expected.in_units {
                // Whoever reads it without the index knows by this how it is digested.
                put_hole(entry.id, 0, 0, &mut self.frame.records);
            }
            self.open = Some(OpenEntry {
                entry,
                frame,
                record_at,
                size: 0,
                holes: 0,
                in_units: expected.in_units,
                digest: ContentDigest::new(expected.in_units),
                kept_parts: kept_parts(expected.kept),
                data_at: None,
            });
        } else {
            self.list(entry, Content::default(), frame, record_at);
        }
        Ok(())
    }

    /// Puts an entry's record; the frame, and where in that it begins.
    fn begin_record(&mut self, entry: &Entry, expected: Expected) -> Result<(u64, u32), Stopped> {
        if self.frame.records.capacity() == 0 {
            self.frame.records = self.buffers.take_with_room(self.room.raw_bytes)?;
        }
        let kept_parts = kept_parts(expected.kept);
        let expected_parts = expected.bytes.saturating_mul(kept_parts);
        let length = self.frame.records.len();
        let is_other = entry.kind == EntryKind::File && expected.class != self.class && length > SHORT_BYTES;
        if length >= self.room.raw_bytes || is_other || self.is_better_begun_anew(expected_parts) {
            self.flush()?;
        }
        self.class = expected.class;
        self.stored_parts += AROUND_FILE_BYTES * KEPT_PARTS;
        let begun = (self.number, self.frame.records.len() as u32);
        put_entry(entry, &mut self.frame.records);
        Ok(begun)
    }

    /// Adds an extended attribute to the file that was begun, before its content.
    ///
    /// # Errors
    /// [`Stopped`].
    pub fn attribute(&mut self, attribute: &Attribute) -> Result<(), Stopped> {
        let Some(id) = self.open.as_ref().map(|open| open.entry.id) else { return Ok(()) };
        if self.frame.records.len() + RECORD_HEADER_BYTES + attribute_bytes(attribute) > MAX_BLOCK_BYTES {
            self.flush()?;
        }
        put_attribute(id, attribute, &mut self.frame.records);
        Ok(())
    }

    /// Takes a further name of a file that was ended, with what that came to; `false` where it is too far from it in the tree for that.
    ///
    /// # Errors
    /// [`Stopped`].
    pub fn further_name(&mut self, listed: &ListedEntry, owner: &EntryPath) -> Result<bool, Stopped> {
        let Some(ListedEntry { entry, content }) = recorded(listed, owner) else { return Ok(false) };
        let (frame, record_at) = self.begin_record(&entry, Expected::default())?;
        self.list(entry, content, frame, record_at);
        Ok(true)
    }

    /// Adds content to the file that was begun: `read` appends at most so many bytes as it is told, which are no more
    /// than `wanted`. So content is read right into the frame. How many bytes were added.
    ///
    /// # Errors
    /// [`Stopped`]; within, `read`'s own.
    pub fn content<E>(
        &mut self,
        wanted: usize,
        read: impl FnOnce(&mut Vec<u8>, usize) -> Result<(), E>,
    ) -> Result<Result<usize, E>, Stopped> {
        if self.content_room() == 0 {
            self.flush()?;
        }
        let room = self.content_room();
        let records = &mut self.frame.records;
        let Some(open) = &mut self.open else { return Ok(Ok(0)) };
        let aligned = self.room.aligned;
        let data_at = *open.data_at.get_or_insert_with(|| {
            if aligned {
                align_data(records);
            }
            begin_data(open.entry.id, open.size, records)
        });
        let from = records.len();
        let outcome = read(records, wanted.clamp(1, room.max(1)));
        let count = records.len() - from;
        if count == 0 && from == data_at + RECORD_HEADER_BYTES + DATA_PREFIX_BYTES {
            records.truncate(data_at);
            open.data_at = None;
        } else {
            grow_data(records, data_at);
            open.digest.update(&records[from..]);
            open.size += count as u64;
            self.stored_parts += count as u64 * open.kept_parts;
        }
        Ok(outcome.map(|()| count))
    }

    /// Adds a hole of so many bytes to the file that was begun, and may have such. What of it is no whole unit goes as content.
    ///
    /// # Errors
    /// [`Stopped`].
    pub fn hole(&mut self, bytes: u64) -> Result<(), Stopped> {
        let Some(open) = self.open.as_ref().filter(|open| open.in_units) else { return self.zeros(bytes) };
        let (from, to) = (open.size, open.size.saturating_add(bytes));
        let Some(hole) = Hole::within(from, to) else { return self.zeros(bytes) };
        self.zeros(hole.at - from)?;
        if self.frame.records.len() + RECORD_HEADER_BYTES + HOLE_BYTES > MAX_BLOCK_BYTES {
            self.flush()?;
        }
        if let Some(open) = &mut self.open {
            put_hole(open.entry.id, hole.at, hole.bytes, &mut self.frame.records);
            open.digest.hole(hole.bytes);
            (open.size, open.holes) = (hole.end(), open.holes + hole.bytes);
            open.data_at = None;
        }
        self.zeros(to - hole.end())
    }

    /// Adds so many zeros as content.
    fn zeros(&mut self, mut bytes: u64) -> Result<(), Stopped> {
        while bytes > 0 && self.open.is_some() {
            let wanted = usize::try_from(bytes).unwrap_or(usize::MAX);
            let added = self.content(wanted, |output, most| {
                output.resize(output.len() + most, 0);
                Ok::<_, Stopped>(())
            })??;
            bytes -= added as u64;
        }
        Ok(())
    }

    /// Ends the file that was begun, and lists it.
    pub fn end(&mut self, changed_while_read: bool) {
        if let Some((open, content)) = self.close(changed_while_read, false) {
            self.list(open.entry, content, open.frame, open.record_at);
        }
    }

    /// Ends the file that was begun and takes it back: what was written of it does not count.
    pub fn abandon(&mut self) {
        self.close(false, true);
    }

    fn close(&mut self, changed_while_read: bool, abandoned: bool) -> Option<(OpenEntry, Content)> {
        let open = self.open.take()?;
        let OpenEntry { size, holes, in_units, .. } = open;
        let digest = open.digest.finish();
        let content = Content { size, digest, in_units, holes, changed_while_read, shared_with: None };
        put_end(open.entry.id, &content, abandoned, &mut self.frame.records);
        Some((open, content))
    }

    fn list(&mut self, entry: Entry, content: Content, frame: u64, record_at: u32) {
        self.totals.add(kind_of(&entry, &content), content.size);
        self.frame.completed.push(Framed { listed: ListedEntry { entry, content }, frame, record_at });
    }

    /// Bytes of the open file's content that the frame still takes.
    fn content_room(&self) -> usize {
        let Some(open) = &self.open else { return 0 };
        let around = if open.data_at.is_some() { 0 } else { PAD_BYTES + RECORD_HEADER_BYTES + DATA_PREFIX_BYTES };
        let raw = self.room.raw_bytes.saturating_sub(self.frame.records.len() + around);
        let stored = self.stored_room().saturating_sub(self.stored_parts) / open.kept_parts;
        // What goes on in the next frame begins there aligned too.
        raw.min(usize::try_from(stored).unwrap_or(usize::MAX)) / ALIGNMENT * ALIGNMENT
    }

    /// What a frame is expected to come to at the most, in parts of a byte.
    fn stored_room(&self) -> u64 {
        (self.room.stored_bytes as u64).saturating_mul(KEPT_PARTS)
    }

    /// Whether a file that goes into a frame by itself would lie in two, of which the first is half full already: then a lost
    /// volume takes it with fewer others.
    fn is_better_begun_anew(&self, expected_parts: u64) -> bool {
        let room = self.stored_room();
        let with_it = self.stored_parts.saturating_add(expected_parts);
        expected_parts <= room && with_it > room && self.stored_parts >= room / 2
    }

    /// Hands over what the frame holds, so that the next entry begins another.
    pub fn flush(&mut self) -> Result<(), Stopped> {
        if !self.frame.records.is_empty() {
            let records = self.buffers.take_with_room(self.room.raw_bytes)?;
            let next = FrameDraft { records, completed: Vec::new() };
            let frame = std::mem::replace(&mut self.frame, next);
            self.number += 1;
            self.stored_parts = 0;
            if let Some(open) = &mut self.open {
                open.data_at = None;
            }
            (self.submit)(frame)?;
        }
        Ok(())
    }

    /// Hands over the last frame, and says what the frames hold in all.
    pub fn finish(mut self) -> Result<Totals, Stopped> {
        self.flush()?;
        Ok(self.totals)
    }
}
