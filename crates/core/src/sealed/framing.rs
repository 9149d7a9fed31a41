//! Framing: entries and their content become records, and records fill frames that are ready to be compressed.
//!
//! This half of writing runs beside the sources, so it knows frames by their number only; the writer knows where
//! each frame begins, and puts the two together in the index.

use super::record::{DATA_PREFIX_BYTES, RECORD_HEADER_BYTES, put_data, put_end, put_entry};
use crate::entry::{Content, Entry, EntryKind, ListedEntry};
use crate::pipeline::Stopped;

/// What an archive holds in all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Totals {
    /// Regular files.
    pub files: u64,
    /// Folders.
    pub folders: u64,
    /// Symbolic links.
    pub links: u64,
    /// Content bytes of all files.
    pub content_bytes: u64,
}

impl Totals {
    /// Counts one more entry, with so many content bytes.
    pub fn add(&mut self, kind: EntryKind, content_bytes: u64) {
        match kind {
            EntryKind::File => self.files += 1,
            EntryKind::Folder => self.folders += 1,
            EntryKind::Link => self.links += 1,
        }
        self.content_bytes = self.content_bytes.saturating_add(content_bytes);
    }
}

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

/// Everything that was framed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Framing {
    /// The entries that count, in the order in which they came.
    pub entries: Vec<Framed>,
    /// What they are in all.
    pub totals: Totals,
}

/// Takes entries one after another and hands over full frames.
pub struct Framer<F: Fn(Vec<u8>) -> Result<(), Stopped>> {
    hand_over: F,
    /// Bytes that a frame gathers before it is handed over.
    frame_bytes: usize,
    frame: Vec<u8>,
    number: u64,
    open: Option<OpenEntry>,
    framing: Framing,
}

struct OpenEntry {
    entry: Entry,
    frame: u64,
    record_at: u32,
    size: u64,
    hasher: Box<blake3::Hasher>,
}

impl<F: Fn(Vec<u8>) -> Result<(), Stopped>> Framer<F> {
    /// A framer that hands frames of about `frame_bytes`, in order, to `hand_over`.
    pub fn new(frame_bytes: usize, hand_over: F) -> Self {
        Self { hand_over, frame_bytes, frame: Vec::new(), number: 0, open: None, framing: Framing::default() }
    }

    /// Begins an entry. Folders and links are complete with this; a file goes on with its content.
    ///
    /// # Errors
    /// [`Stopped`].
    pub fn begin(&mut self, entry: Entry) -> Result<(), Stopped> {
        if self.frame.len() >= self.frame_bytes {
            self.flush()?;
        }
        let (frame, record_at) = (self.number, self.frame.len() as u32);
        put_entry(&entry, &mut self.frame);
        if entry.kind == EntryKind::File {
            self.open = Some(OpenEntry { entry, frame, record_at, size: 0, hasher: Box::default() });
        } else {
            self.list(entry, Content::default(), frame, record_at);
        }
        Ok(())
    }

    /// Adds content to the file that was begun.
    ///
    /// # Errors
    /// [`Stopped`].
    pub fn content(&mut self, mut bytes: &[u8]) -> Result<(), Stopped> {
        while !bytes.is_empty() {
            let used = self.frame.len() + RECORD_HEADER_BYTES + DATA_PREFIX_BYTES;
            if used >= self.frame_bytes {
                self.flush()?;
                continue;
            }
            let room = self.frame_bytes - used;
            let Some(open) = &mut self.open else { return Ok(()) };
            let (now, later) = bytes.split_at(bytes.len().min(room));
            put_data(open.entry.id, open.size, now, &mut self.frame);
            open.hasher.update(now);
            open.size += now.len() as u64;
            bytes = later;
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
        let digest = *open.hasher.finalize().as_bytes();
        let content = Content { size: open.size, digest, changed_while_read };
        put_end(open.entry.id, &content, abandoned, &mut self.frame);
        Some((open, content))
    }

    fn list(&mut self, entry: Entry, content: Content, frame: u64, record_at: u32) {
        self.framing.totals.add(entry.kind, content.size);
        self.framing.entries.push(Framed { listed: ListedEntry { entry, content }, frame, record_at });
    }

    fn flush(&mut self) -> Result<(), Stopped> {
        if !self.frame.is_empty() {
            let frame = std::mem::replace(&mut self.frame, Vec::with_capacity(self.frame_bytes));
            self.number += 1;
            (self.hand_over)(frame)?;
        }
        Ok(())
    }

    /// Hands over the last frame, and says what was framed.
    ///
    /// # Errors
    /// [`Stopped`].
    pub fn finish(mut self) -> Result<Framing, Stopped> {
        self.flush()?;
        Ok(self.framing)
    }
}
