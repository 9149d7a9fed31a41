//! Writing a sealed archive: compressed frames in, cells out, the index at the end.

use super::cells::{CellSeal, NotAuthentic};
use super::frame::{FRAME_HEADER_BYTES, FrameHeader, FrameKind};
use super::framing::{Framing, Totals};
use super::head::HeadError;
use super::index::{About, IndexEntry, PageBuilder, PageRef, Place, Root};
use super::keys::ArchiveKey;
use super::stream::StreamWriter;
use super::tail::Tail;
use crate::codec::{Block, CodecError, Compressor, Squeeze};
use crate::volume::{Head, Ids, VolumeWriter, WriteError, WrittenVolumes};

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

/// Takes compressed frames one after another and seals them.
pub struct SealedWriter<'a> {
    stream: StreamWriter<'a>,
    sealing: Sealing<'a>,
    /// Where each content frame begins, by its number.
    frame_starts: Vec<u64>,
}

impl<'a> SealedWriter<'a> {
    /// A writer that hands its cells to `volumes`.
    ///
    /// # Errors
    /// [`SealError`].
    pub fn new(volumes: VolumeWriter<'a>, sealing: Sealing<'a>) -> Result<Self, SealError> {
        let seal = CellSeal::new(sealing.key, &sealing.ids.set)?;
        Ok(Self { stream: StreamWriter::new(seal, volumes), sealing, frame_starts: Vec::new() })
    }

    /// The number of the volume being written.
    pub fn volume(&self) -> u32 {
        self.stream.volume()
    }

    /// Bytes of the inner stream written so far.
    pub fn stream_bytes(&self) -> u64 {
        self.stream.position()
    }

    /// Writes the next content frame.
    ///
    /// # Errors
    /// [`SealError`].
    pub fn write_content(&mut self, block: &Block) -> Result<(), SealError> {
        self.frame_starts.push(self.stream.position());
        self.write_frame(FrameKind::Content, block)?;
        Ok(())
    }

    /// Writes a frame; gives its whole length.
    fn write_frame(&mut self, kind: FrameKind, block: &Block) -> Result<u32, SealError> {
        let (stored_bytes, raw_bytes) = (block.stored.len() as u32, block.raw_bytes as u32);
        let header = FrameHeader { kind, codec: block.codec, stored_bytes, raw_bytes };
        self.stream.begin_frame()?;
        self.stream.write(&header.encode())?;
        self.stream.write(&block.stored)?;
        Ok(FRAME_HEADER_BYTES as u32 + stored_bytes)
    }

    /// Writes the index of what was framed and closes the archive.
    ///
    /// # Errors
    /// [`SealError`].
    pub fn finish(mut self, framing: Framing) -> Result<SealedArchive, SealError> {
        // The index is small and read often, so it is compressed whatever the contents are.
        let mut compressor = Compressor::new(Squeeze::default())?;
        let mut framed = framing.entries;
        framed.sort_by(|one, other| one.listed.entry.path.cmp(&other.listed.entry.path));
        let entries = framed.len() as u64;
        let mut pages = Vec::new();
        let mut page = PageBuilder::default();
        for framed in framed {
            let start = usize::try_from(framed.frame).ok().and_then(|frame| self.frame_starts.get(frame));
            let place = Place { frame_at: *start.ok_or(SealError::TooManyEntries)?, record_at: framed.record_at };
            let entry = IndexEntry { listed: framed.listed, place };
            if page.is_full_for(&entry) {
                pages.push(self.write_page(std::mem::take(&mut page), &mut compressor)?);
            }
            page.add(&entry);
        }
        if !page.is_empty() {
            pages.push(self.write_page(page, &mut compressor)?);
        }
        let root = Root { about: self.sealing.about.clone(), pages };
        let root = root.encode().ok_or(SealError::TooManyEntries)?;
        let index_digest = *blake3::hash(&root).as_bytes();
        let root_at = self.stream.position();
        let root_bytes = self.write_frame(FrameKind::IndexRoot, &compressor.compress(root)?)?;
        let content_bytes = framing.totals.content_bytes;
        let tail = Tail { root_at, root_bytes, entries, content_bytes, index_digest, ..Tail::default() };
        let volumes = self.stream.finish(tail, self.sealing.head)?;
        Ok(SealedArchive { volumes, totals: framing.totals, index_digest })
    }

    fn write_page(&mut self, page: PageBuilder, compressor: &mut Compressor) -> Result<PageRef, SealError> {
        let (bytes, mut page_ref) = page.finish();
        page_ref.frame_at = self.stream.position();
        page_ref.frame_bytes = self.write_frame(FrameKind::IndexPage, &compressor.compress(bytes)?)?;
        Ok(page_ref)
    }
}
