//! Writing a sealed archive: compressed frames in, cells ready to be sealed out, the index at the end.

use super::base::{BaseEntry, BaseName, BaseRef};
use super::carrying::CarriedFrame;
use super::cells::PlainCells;
use super::error::SealError;
use super::frame::{FRAME_HEADER_BYTES, FrameHeader, FrameKind};
use super::framing::Framed;
use super::further_names::{Sharing, kind_of};
use super::index::{About, IndexEntry, PageRef, Place, Root};
use super::pages::{MakeScratch, PageStore};
use super::stream::StreamWriter;
use super::tail::Tail;
use super::volume::CellLength;
use crate::codecs::block::{Block, Compressor, Squeeze};
use crate::ground::context::Context;
use crate::ground::entry::{ListedEntry, Totals};
use crate::ground::pipeline::{Buffers, Stopped};
use std::collections::VecDeque;

/// A compressed content frame, and the entries that are complete with it.
#[derive(Debug)]
pub struct CompressedFrame {
    /// The frame's payload.
    pub block: Block,
    /// The entries.
    pub completed: Vec<Framed>,
}

/// A closed archive.
#[derive(Debug, Clone, Copy)]
pub struct SealedArchive {
    /// What it holds in all.
    pub totals: Totals,
    /// BLAKE3 of the index's root, which holds the digests of all its pages.
    pub index_digest: [u8; 32],
}

/// Entries may come in any order within groups of so many, by their ids from 1 on; each group's paths come behind those of the
/// one before.
pub const GROUP_ENTRIES: u64 = 16 * 1024;

/// Takes compressed frames one after another and puts them into cells.
pub struct SealedWriter<'a, H> {
    stream: StreamWriter<'a, H>,
    pages: PageStore<'a>,
    /// Entries of the group that is not complete yet.
    group: Vec<IndexEntry>,
    about: About,
    /// Where content frames begin: those in which an entry stands that is not complete yet, and later ones.
    frame_starts: VecDeque<u64>,
    /// The number of the first of those.
    first_start: u64,
    entries: u64,
    /// Which of them are further names of files.
    sharing: Vec<Sharing>,
    /// Whether the digests of some contents, here or in the base, are of their units.
    in_units: bool,
    raw_bytes: u64,
    /// How many entries a group has.
    group_entries: u64,
    /// What carried frames hold.
    carried: Totals,
    /// What it builds upon, and the list of what is in that.
    base: Option<(BaseName, PageStore<'a>)>,
}

impl<'a, H: FnMut(PlainCells) -> Result<(), Stopped>> SealedWriter<'a, H> {
    /// A writer of an archive that says `about` of itself, and hands its cells, of this length, to `submit`. A large index goes
    /// through a scratch file.
    pub fn new(
        about: About,
        cell_length: CellLength,
        make_scratch: &'a MakeScratch<'a>,
        context: Context<'a>,
        buffers: &'a Buffers,
        submit: H,
    ) -> Result<Self, SealError> {
        Ok(Self {
            stream: StreamWriter::new(cell_length, buffers, submit),
            pages: PageStore::new(make_scratch, context)?,
            group: Vec::new(),
            about,
            frame_starts: VecDeque::new(),
            first_start: 0,
            entries: 0,
            sharing: Vec::new(),
            in_units: false,
            raw_bytes: 0,
            group_entries: GROUP_ENTRIES,
            carried: Totals::default(),
            base: None,
        })
    }

    /// Entries may come in any order: all of them are kept until the end.
    pub const fn in_any_order(mut self) -> Self {
        self.group_entries = u64::MAX;
        self
    }

    /// Makes it an archive of changes, which builds upon this one.
    ///
    /// # Errors
    /// [`SealError`], [`SealError::OutOfOrder`] among them.
    pub fn upon(
        mut self,
        base: BaseName,
        entries: &[BaseEntry],
        make_scratch: &'a MakeScratch<'a>,
        context: Context<'a>,
    ) -> Result<Self, SealError> {
        let mut pages = PageStore::new(make_scratch, context)?;
        self.in_units |= entries.iter().any(|entry| entry.listed.content.in_units);
        entries.iter().try_for_each(|entry| pages.add(&entry.to_index_entry()))?;
        self.base = Some((base, pages));
        Ok(self)
    }

    /// Writes a frame of another archive, and gives its buffer back.
    pub fn write_carried(&mut self, frame: CarriedFrame) -> Result<Vec<u8>, SealError> {
        let frame_at = self.stream.position();
        self.raw_bytes += frame.block.raw_bytes as u64;
        write_frame(&mut self.stream, FrameKind::Content, &frame.block)?;
        for (listed, record_at) in frame.begins {
            self.carried.add(kind_of(&listed.entry, &listed.content), listed.content.size);
            self.list(listed, Place { frame_at, record_at })?;
        }
        Ok(frame.block.stored)
    }

    /// Bytes of the inner stream written so far.
    pub fn stream_bytes(&self) -> u64 {
        self.stream.position()
    }

    /// Bytes before compression of the frames written so far.
    pub fn raw_bytes(&self) -> u64 {
        self.raw_bytes
    }

    /// Writes the next content frame, and gives its buffer back.
    pub fn write_content(&mut self, frame: CompressedFrame) -> Result<Vec<u8>, SealError> {
        self.frame_starts.push_back(self.stream.position());
        self.raw_bytes += frame.block.raw_bytes as u64;
        write_frame(&mut self.stream, FrameKind::Content, &frame.block)?;
        for Framed { listed, frame, record_at } in frame.completed {
            // They are complete in the order in which they began, so no later one begins in an earlier frame.
            while self.first_start < frame && self.frame_starts.len() > 1 {
                self.frame_starts.pop_front();
                self.first_start += 1;
            }
            let start = self.frame_starts.front().filter(|_| self.first_start == frame);
            let place = Place { frame_at: *start.ok_or(SealError::OutOfOrder)?, record_at };
            self.list(listed, place)?;
        }
        Ok(frame.block.stored)
    }

    fn list(&mut self, listed: ListedEntry, place: Place) -> Result<(), SealError> {
        let group_of = |listed: &ListedEntry| listed.entry.id.saturating_sub(1) / self.group_entries;
        if self.group.last().is_some_and(|last| group_of(&last.listed) != group_of(&listed)) {
            self.list_group()?;
        }
        self.in_units |= listed.content.in_units;
        self.sharing.extend(listed.content.shared_with.map(|owner| Sharing { id: listed.entry.id, owner }));
        self.group.push(IndexEntry { listed, place });
        self.entries += 1;
        Ok(())
    }

    /// Puts a complete group into the index.
    fn list_group(&mut self) -> Result<(), SealError> {
        self.group.sort_by(|one, other| one.listed.entry.path.cmp(&other.listed.entry.path));
        let pages = &mut self.pages;
        self.group.drain(..).try_for_each(|entry| pages.add(&entry))
    }

    /// Writes the index of what was framed, which came to so much, and of what was carried, and closes the stream.
    pub fn finish(mut self, mut totals: Totals) -> Result<SealedArchive, SealError> {
        self.list_group()?;
        totals.add_all(&self.carried);
        let Self { mut stream, pages, mut about, entries, base, mut sharing, in_units, .. } = self;
        let mut put_page = |page_ref: &mut PageRef, block: &Block| {
            page_ref.frame_at = stream.position();
            page_ref.frame_bytes = write_frame(&mut stream, FrameKind::IndexPage, block)?;
            Ok(())
        };
        let pages = pages.finish(&mut put_page)?;
        if let Some((name, listed)) = base {
            let base = BaseRef { name, pages: listed.finish(&mut put_page)? };
            about.base = Some(base.encode().ok_or(SealError::TooManyEntries)?);
        }
        sharing.sort_unstable();
        let root = Root { about, pages, sharing, in_units }.encode().ok_or(SealError::TooManyEntries)?;
        let index_digest = *blake3::hash(&root).as_bytes();
        let root_at = stream.position();
        let (block, _) = Compressor::new(Squeeze::default())?.compress(root, Vec::new())?;
        let root_bytes = write_frame(&mut stream, FrameKind::IndexRoot, &block)?;
        let content_bytes = totals.content_bytes;
        stream.finish(Tail { root_at, root_bytes, entries, content_bytes, index_digest, ..Tail::default() })?;
        Ok(SealedArchive { totals, index_digest })
    }
}

/// Writes a frame; gives its whole length.
fn write_frame<H: FnMut(PlainCells) -> Result<(), Stopped>>(
    stream: &mut StreamWriter<'_, H>,
    kind: FrameKind,
    block: &Block,
) -> Result<u32, Stopped> {
    let (stored_bytes, raw_bytes) = (block.stored.len() as u32, block.raw_bytes as u32);
    let header = FrameHeader { kind, codec: block.codec, stored_bytes, raw_bytes };
    stream.begin_frame()?;
    stream.write(&header.encode())?;
    stream.write(&block.stored)?;
    Ok(FRAME_HEADER_BYTES as u32 + stored_bytes)
}
