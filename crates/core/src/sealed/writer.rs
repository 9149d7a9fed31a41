//! Writing a sealed archive: entries in, cells out, the index at the end.

use super::cells::{CellSeal, NotAuthentic};
use super::frame::{FRAME_HEADER_BYTES, FrameHeader, FrameKind};
use super::head::HeadError;
use super::index::{About, IndexEntry, PageBuilder, PageRef, Place, Root};
use super::keys::ArchiveKey;
use super::record::{DATA_PREFIX_BYTES, RECORD_HEADER_BYTES, put_data, put_end, put_entry};
use super::stream::StreamWriter;
use super::tail::Tail;
use crate::codec::{CodecError, Compressor};
use crate::entry::{Content, Entry, EntryKind, ListedEntry};
use crate::volume::{Head, Ids, VolumeWriter, WriteError, WrittenVolumes};

/// Content bytes that a frame gathers before it is compressed.
const FRAME_BYTES: usize = 1024 * 1024;

/// Why an archive cannot be written.
#[derive(Debug, thiserror::Error)]
pub enum SealError {
    /// Volumes cannot be written.
    #[error(transparent)]
    Write(#[from] WriteError),
    /// The head cannot be made.
    #[error(transparent)]
    Head(#[from] HeadError),
    /// Compression failed.
    #[error(transparent)]
    Codec(#[from] CodecError),
    /// Sealing failed.
    #[error(transparent)]
    Seal(#[from] NotAuthentic),
    /// More entries than one index holds.
    #[error("too many entries")]
    TooManyEntries,
}

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

/// What is needed to seal an archive, beside its entries.
pub struct Sealing<'a> {
    /// Set and cutting.
    pub ids: Ids,
    /// The archive key.
    pub key: &'a ArchiveKey,
    /// How it is unlocked.
    pub head: &'a Head,
    /// What it says of itself.
    pub about: About,
}

/// A closed archive.
#[derive(Debug, Clone)]
pub struct SealedArchive {
    /// Its volumes, still staged.
    pub volumes: WrittenVolumes,
    /// What it holds in all.
    pub totals: Totals,
    /// BLAKE3 of the index's root, which holds the digests of all its pages.
    pub index_digest: [u8; 32],
}

/// Takes entries one after another and seals them.
pub struct SealedWriter<'a> {
    stream: StreamWriter<'a>,
    sealing: Sealing<'a>,
    compressor: Compressor,
    frame: Vec<u8>,
    open: Option<OpenEntry>,
    index: Vec<IndexEntry>,
    totals: Totals,
}

struct OpenEntry {
    entry: Entry,
    place: Place,
    size: u64,
    hasher: Box<blake3::Hasher>,
}

impl<'a> SealedWriter<'a> {
    /// A writer that hands its cells to `volumes`.
    ///
    /// # Errors
    /// [`SealError`].
    pub fn new(volumes: VolumeWriter<'a>, sealing: Sealing<'a>) -> Result<Self, SealError> {
        let seal = CellSeal::new(sealing.key, &sealing.ids.set)?;
        Ok(Self {
            stream: StreamWriter::new(seal, volumes),
            sealing,
            compressor: Compressor::new()?,
            frame: Vec::with_capacity(FRAME_BYTES),
            open: None,
            index: Vec::new(),
            totals: Totals::default(),
        })
    }

    /// The number of the volume being written.
    pub fn volume(&self) -> u32 {
        self.stream.volume()
    }

    /// Bytes of the inner stream written so far.
    pub fn stream_bytes(&self) -> u64 {
        self.stream.position()
    }

    /// Begins an entry. Folders and links are complete with this; a file goes on with its content.
    ///
    /// # Errors
    /// [`SealError`].
    pub fn begin(&mut self, entry: Entry) -> Result<(), SealError> {
        if self.frame.len() >= FRAME_BYTES {
            self.flush_frame()?;
        }
        let place = Place { frame_at: self.stream.position(), record_at: self.frame.len() as u32 };
        put_entry(&entry, &mut self.frame);
        if entry.kind == EntryKind::File {
            self.open = Some(OpenEntry { entry, place, size: 0, hasher: Box::default() });
        } else {
            self.list(entry, Content::default(), place);
        }
        Ok(())
    }

    /// Adds content to the file that was begun.
    ///
    /// # Errors
    /// [`SealError`].
    pub fn content(&mut self, mut bytes: &[u8]) -> Result<(), SealError> {
        while !bytes.is_empty() {
            let used = self.frame.len() + RECORD_HEADER_BYTES + DATA_PREFIX_BYTES;
            if used >= FRAME_BYTES {
                self.flush_frame()?;
                continue;
            }
            let Some(open) = &mut self.open else { return Ok(()) };
            let (now, later) = bytes.split_at(bytes.len().min(FRAME_BYTES - used));
            put_data(open.entry.id, open.size, now, &mut self.frame);
            open.hasher.update(now);
            open.size += now.len() as u64;
            bytes = later;
        }
        Ok(())
    }

    /// Ends the file that was begun, and lists it.
    pub fn end(&mut self, changed_while_read: bool) {
        if let Some((entry, content, place)) = self.close(changed_while_read, false) {
            self.list(entry, content, place);
        }
    }

    /// Ends the file that was begun and takes it back: what was written of it does not count.
    pub fn abandon(&mut self) {
        self.close(false, true);
    }

    fn close(&mut self, changed_while_read: bool, abandoned: bool) -> Option<(Entry, Content, Place)> {
        let open = self.open.take()?;
        let digest = *open.hasher.finalize().as_bytes();
        let content = Content { size: open.size, digest, changed_while_read };
        put_end(open.entry.id, &content, abandoned, &mut self.frame);
        Some((open.entry, content, open.place))
    }

    fn list(&mut self, entry: Entry, content: Content, place: Place) {
        self.totals.add(entry.kind, content.size);
        self.index.push(IndexEntry { listed: ListedEntry { entry, content }, place });
    }

    fn flush_frame(&mut self) -> Result<(), SealError> {
        if !self.frame.is_empty() {
            let frame = std::mem::take(&mut self.frame);
            self.write_frame(FrameKind::Content, &frame)?;
            self.frame = frame;
            self.frame.clear();
        }
        Ok(())
    }

    /// Writes a frame; gives its whole length.
    fn write_frame(&mut self, kind: FrameKind, raw: &[u8]) -> Result<u32, SealError> {
        let (codec, stored) = self.compressor.compress(raw)?;
        let header = FrameHeader { kind, codec, stored_bytes: stored.len() as u32, raw_bytes: raw.len() as u32 };
        self.stream.begin_frame()?;
        self.stream.write(&header.encode())?;
        self.stream.write(stored)?;
        Ok(FRAME_HEADER_BYTES as u32 + header.stored_bytes)
    }

    /// Writes the index and closes the archive.
    ///
    /// # Errors
    /// [`SealError`].
    pub fn finish(mut self) -> Result<SealedArchive, SealError> {
        self.flush_frame()?;
        let mut index = std::mem::take(&mut self.index);
        index.sort_by(|one, other| one.listed.entry.path.cmp(&other.listed.entry.path));
        let mut pages = Vec::new();
        let mut page = PageBuilder::default();
        for entry in &index {
            if page.is_full_for(entry) {
                pages.push(self.write_page(std::mem::take(&mut page))?);
            }
            page.add(entry);
        }
        if !page.is_empty() {
            pages.push(self.write_page(page)?);
        }
        let root = Root { about: self.sealing.about.clone(), pages };
        let root = root.encode().ok_or(SealError::TooManyEntries)?;
        let root_at = self.stream.position();
        let root_bytes = self.write_frame(FrameKind::IndexRoot, &root)?;
        let tail = Tail {
            root_at,
            root_bytes,
            entries: index.len() as u64,
            content_bytes: self.totals.content_bytes,
            index_digest: *blake3::hash(&root).as_bytes(),
            ..Tail::default()
        };
        let volumes = self.stream.finish(tail, self.sealing.head)?;
        Ok(SealedArchive { volumes, totals: self.totals, index_digest: tail.index_digest })
    }

    fn write_page(&mut self, page: PageBuilder) -> Result<PageRef, SealError> {
        let (bytes, mut page_ref) = page.finish();
        page_ref.frame_at = self.stream.position();
        page_ref.frame_bytes = self.write_frame(FrameKind::IndexPage, &bytes)?;
        Ok(page_ref)
    }
}
