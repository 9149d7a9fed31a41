//! Framing: entries and their content become records, and records fill frames that are ready to be compressed.
//!
//! This half of writing runs beside the sources, so it knows frames by their number only. With each frame go the
//! entries that are complete with it; the writer knows where each frame begins, and puts the two together in the index.

use super::record::{DATA_PREFIX_BYTES, RECORD_HEADER_BYTES, begin_data, grow_data, put_end, put_entry};
use crate::ground::entry::{Content, Entry, EntryKind, ListedEntry, Totals};
use crate::ground::pipeline::{Spares, Stopped};

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

/// Takes entries one after another, in the order of their paths, and hands over full frames.
pub struct Framer<'a, F: Fn(FrameDraft) -> Result<(), Stopped>> {
    hand_over: F,
    spares: &'a Spares,
    /// Bytes that a frame gathers before it is handed over.
    frame_bytes: usize,
    frame: FrameDraft,
    number: u64,
    open: Option<OpenEntry>,
    totals: Totals,
}

struct OpenEntry {
    entry: Entry,
    frame: u64,
    record_at: u32,
    size: u64,
    hasher: Box<blake3::Hasher>,
    /// Where in the current frame the data record begins that more content is added to.
    data_at: Option<usize>,
}

impl<'a, F: Fn(FrameDraft) -> Result<(), Stopped>> Framer<'a, F> {
    /// A framer that hands frames of about `frame_bytes`, in order, to `hand_over`, and takes its buffers from `spares`.
    pub fn new(frame_bytes: usize, spares: &'a Spares, hand_over: F) -> Self {
        Self {
            hand_over,
            spares,
            frame_bytes,
            frame: FrameDraft::default(),
            number: 0,
            open: None,
            totals: Totals::default(),
        }
    }

    /// Begins an entry. Folders and links are complete with this; a file goes on with its content.
    pub fn begin(&mut self, entry: Entry) -> Result<(), Stopped> {
        if self.frame.records.capacity() == 0 {
            self.frame.records = self.spares.take_with_room(self.frame_bytes)?;
        }
        if self.frame.records.len() >= self.frame_bytes {
            self.flush()?;
        }
        let (frame, record_at) = (self.number, self.frame.records.len() as u32);
        put_entry(&entry, &mut self.frame.records);
        if entry.kind == EntryKind::File {
            self.open = Some(OpenEntry { entry, frame, record_at, size: 0, hasher: Box::default(), data_at: None });
        } else {
            self.list(entry, Content::default(), frame, record_at);
        }
        Ok(())
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
        if self.frame.records.len() + RECORD_HEADER_BYTES + DATA_PREFIX_BYTES >= self.frame_bytes {
            self.flush()?;
        }
        let records = &mut self.frame.records;
        let Some(open) = &mut self.open else { return Ok(Ok(0)) };
        let data_at = *open.data_at.get_or_insert_with(|| begin_data(open.entry.id, open.size, records));
        let from = records.len();
        let outcome = read(records, wanted.clamp(1, self.frame_bytes - from));
        let count = records.len() - from;
        if count == 0 && from == data_at + RECORD_HEADER_BYTES + DATA_PREFIX_BYTES {
            records.truncate(data_at);
            open.data_at = None;
        } else {
            grow_data(records, data_at);
            open.hasher.update(&records[from..]);
            open.size += count as u64;
        }
        Ok(outcome.map(|()| count))
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
        let digest = *open.hasher.finalize().as_bytes();
        let content = Content { size: open.size, digest, changed_while_read, ..Content::default() };
        put_end(open.entry.id, &content, abandoned, &mut self.frame.records);
        Some((open, content))
    }

    fn list(&mut self, entry: Entry, content: Content, frame: u64, record_at: u32) {
        self.totals.add(entry.kind, content.size);
        self.frame.completed.push(Framed { listed: ListedEntry { entry, content }, frame, record_at });
    }

    fn flush(&mut self) -> Result<(), Stopped> {
        if !self.frame.records.is_empty() {
            let records = self.spares.take_with_room(self.frame_bytes)?;
            let next = FrameDraft { records, completed: Vec::new() };
            let frame = std::mem::replace(&mut self.frame, next);
            self.number += 1;
            if let Some(open) = &mut self.open {
                open.data_at = None;
            }
            (self.hand_over)(frame)?;
        }
        Ok(())
    }

    /// Hands over the last frame, and says what the frames hold in all.
    pub fn finish(mut self) -> Result<Totals, Stopped> {
        self.flush()?;
        Ok(self.totals)
    }
}
