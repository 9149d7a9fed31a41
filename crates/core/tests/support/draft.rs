//! Archives that are sealed with the right key, and say what a test wants them to say.

use super::{Desk, PASSWORD};
use std::fs;
use std::path::PathBuf;
use under_seal_core::codecs::block::{Codec, Compressor, Squeeze};
use under_seal_core::disk::Folder;
use under_seal_core::disk::staging::Staging;
use under_seal_core::formats::sealed::cells::{CellSeal, PlainCells};
use under_seal_core::formats::sealed::frame::{FrameHeader, FrameKind};
use under_seal_core::formats::sealed::further_names::Sharing;
use under_seal_core::formats::sealed::index::{IndexEntry, PageBuilder, PageRef, Place, Root};
use under_seal_core::formats::sealed::record::{begin_data, grow_data, put_end, put_entry, put_hole};
use under_seal_core::formats::sealed::stream::StreamWriter;
use under_seal_core::formats::sealed::tail::Tail;
use under_seal_core::formats::sealed::volume::{Bound, CellLength, Cells, Ids, VolumeWriter};
use under_seal_core::formats::sealed::{ArchiveKey, KeyCost, seal_head};
use under_seal_core::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry, Timestamp};
use under_seal_core::ground::holes::{ContentDigest, HOLE_UNIT};
use under_seal_core::ground::pipeline::{Buffers, Stopped};
use under_seal_core::ground::secrets::Password;

/// An archive about to be sealed, honest until a test lays hand on it: a folder `home` and a file `home/a`.
pub struct Draft {
    /// The one content frame.
    pub records: Vec<u8>,
    pub index: Vec<IndexEntry>,
    /// Which entries the root says are further names of which files, by their ids.
    pub sharing: Vec<(u64, u64)>,
    /// The root says that files may have holes.
    pub tells_holes: bool,
    /// Bytes to replace by others of the same length, in records and index alike.
    pub replace: Option<(&'static [u8], &'static [u8])>,
    pub content_header: fn(&mut FrameHeader),
    pub root: fn(&mut Root),
    pub tail: fn(&mut Tail),
    /// What is changed in the cells before they are sealed.
    pub cells: fn(&mut Cells),
}

pub const CONTENT: &[u8] = b"The lamp is lit.";

pub fn content() -> Content {
    content_of(CONTENT)
}

fn content_of(bytes: &[u8]) -> Content {
    Content { size: bytes.len() as u64, digest: *blake3::hash(bytes).as_bytes(), ..Content::default() }
}

pub fn entry(id: u64, path: &str, kind: EntryKind) -> Entry {
    let link_target = if kind == EntryKind::Link { b"..".to_vec() } else { Vec::new() };
    let path = EntryPath::new(path).unwrap();
    Entry { id, path, kind, mode: 0o755, modified: Timestamp { seconds: 1, nanoseconds: 2 }, link_target }
}

impl Draft {
    pub fn empty() -> Self {
        Self {
            records: Vec::new(),
            index: Vec::new(),
            sharing: Vec::new(),
            tells_holes: false,
            replace: None,
            content_header: |_| {},
            root: |_| {},
            tail: |_| {},
            cells: |_| {},
        }
    }

    pub fn honest() -> Self {
        let mut draft = Self::empty();
        draft.list(entry(1, "home", EntryKind::Folder), Content::default());
        put_entry(&entry(1, "home", EntryKind::Folder), &mut draft.records);
        draft.file(2, "home/a");
        draft
    }

    pub fn list(&mut self, entry: Entry, content: Content) {
        let place = Place { frame_at: 0, record_at: self.records.len() as u32 };
        self.index.push(IndexEntry { listed: ListedEntry { entry, content }, place });
    }

    pub fn file(&mut self, id: u64, path: &str) {
        self.file_of(id, path, CONTENT);
    }

    pub fn file_of(&mut self, id: u64, path: &str, bytes: &[u8]) {
        self.list(entry(id, path, EntryKind::File), content_of(bytes));
        put_entry(&entry(id, path, EntryKind::File), &mut self.records);
        put_data(id, 0, bytes, &mut self.records);
        put_end(id, &content_of(bytes), false, &mut self.records);
    }

    /// A further name of a file, as which the root tells it.
    pub fn further(&mut self, id: u64, path: &str, owner: u64, target: &str) {
        let further = Entry { link_target: target.into(), ..entry(id, path, EntryKind::Link) };
        self.list(further.clone(), Content::default());
        put_entry(&further, &mut self.records);
        self.sharing.push((id, owner));
    }

    /// A file of two units, of which the first is a hole in truth, with these holes in its record.
    pub fn file_with_holes(&mut self, id: u64, path: &str, holes: &[(u64, u64)]) {
        let mut digest = ContentDigest::new(true);
        digest.hole(HOLE_UNIT);
        digest.update(&[7; HOLE_UNIT as usize]);
        let (size, digest) = (2 * HOLE_UNIT, digest.finish());
        let content = Content { size, digest, in_units: true, holes: HOLE_UNIT, ..Content::default() };
        self.tells_holes = true;
        self.list(entry(id, path, EntryKind::File), content);
        put_entry(&entry(id, path, EntryKind::File), &mut self.records);
        for (offset, bytes) in holes {
            put_hole(id, *offset, *bytes, &mut self.records);
        }
        put_data(id, HOLE_UNIT, &[7; HOLE_UNIT as usize], &mut self.records);
        put_end(id, &content, false, &mut self.records);
    }

    /// A file with nothing in it but a hole.
    pub fn file_that_is_a_hole(&mut self, id: u64, path: &str, bytes: u64) {
        let mut digest = ContentDigest::new(true);
        digest.hole(bytes);
        let content =
            Content { size: bytes, digest: digest.finish(), in_units: true, holes: bytes, ..Content::default() };
        self.tells_holes = true;
        self.list(entry(id, path, EntryKind::File), content);
        put_entry(&entry(id, path, EntryKind::File), &mut self.records);
        put_hole(id, 0, bytes, &mut self.records);
        put_end(id, &content, false, &mut self.records);
    }

    fn pages(&self) -> Vec<(Vec<u8>, PageRef)> {
        let (mut pages, mut page) = (Vec::new(), PageBuilder::default());
        for entry in &self.index {
            if page.is_full_for(entry) {
                pages.push(std::mem::take(&mut page).finish());
            }
            page.add(entry);
        }
        pages.push(page.finish());
        pages
    }

    fn replaced(&self, bytes: Vec<u8>) -> Vec<u8> {
        let Some((old, new)) = self.replace else { return bytes };
        let mut bytes = bytes;
        for at in 0..bytes.len().saturating_sub(old.len() - 1) {
            if &bytes[at..at + old.len()] == old {
                bytes[at..at + old.len()].copy_from_slice(new);
            }
        }
        bytes
    }

    pub fn seal(self, desk: &Desk) -> PathBuf {
        fs::create_dir_all(desk.path("out")).unwrap();
        let target = Folder::open(&desk.path("out")).unwrap();
        let staging = desk.with_context(&|| false, |context| Staging::begin(target, "set".as_ref(), context)).unwrap();
        let ids = Ids { set: [1; 16], cut: [2; 16] };
        let bound = Bound { set: ids.set, cell_length: CellLength::LONGEST };
        let (key, head) = desk.with_context(&|| false, |context| {
            let key = ArchiveKey::generate(context).unwrap();
            let credentials = [Password::new(PASSWORD).unwrap().into()];
            let head = seal_head(&key, &bound, &credentials, KeyCost::CHEAPEST, context).unwrap();
            (key, head)
        });
        let mut volumes = VolumeWriter::new(&staging, ids, bound.cell_length, None).unwrap();
        let (seal, cutting) = (CellSeal::new(&key, &bound).unwrap(), volumes.cutting());
        let buffers = Buffers::new(1);
        let mut stream = StreamWriter::new(bound.cell_length, &buffers, |mut plain| {
            (self.cells)(&mut plain.cells);
            volumes.write(&seal.seal(plain, &cutting).unwrap().bytes).unwrap();
            Ok(())
        });
        put_frame(&mut stream, FrameKind::Content, &self.replaced(self.records.clone()), self.content_header);
        let pages = self.pages().into_iter().map(|(page, mut page_ref)| {
            let page = self.replaced(page);
            page_ref.digest = *blake3::hash(&page).as_bytes();
            page_ref.first_path = self.replaced(page_ref.first_path.clone());
            page_ref.frame_at = stream.position();
            page_ref.frame_bytes = put_compressed(&mut stream, FrameKind::IndexPage, page);
            page_ref
        });
        let pages = pages.collect();
        let sharing = self.sharing.iter().map(|&(id, owner)| Sharing { id, owner }).collect();
        let mut root = Root { pages, sharing, in_units: self.tells_holes, ..Root::default() };
        (self.root)(&mut root);
        let root = root.encode().unwrap();
        let root_at = stream.position();
        let root_bytes = put_frame(&mut stream, FrameKind::IndexRoot, &root, |_| {});
        let mut tail = Tail {
            root_at,
            root_bytes,
            entries: self.index.len() as u64,
            content_bytes: self.index.iter().map(|entry| entry.listed.content.size).sum(),
            index_digest: *blake3::hash(&root).as_bytes(),
            ..Tail::default()
        };
        (self.tail)(&mut tail);
        stream.finish(tail).unwrap();
        let written = volumes.finish(&head).unwrap();
        staging.place(&written.placings, &[]).unwrap();
        desk.path("out/set.useal")
    }
}

pub fn put_data(id: u64, offset: u64, bytes: &[u8], records: &mut Vec<u8>) {
    let at = begin_data(id, offset, records);
    records.extend_from_slice(bytes);
    grow_data(records, at);
}

fn put_frame<H: FnMut(PlainCells) -> Result<(), Stopped>>(
    stream: &mut StreamWriter<'_, H>,
    kind: FrameKind,
    raw: &[u8],
    change: fn(&mut FrameHeader),
) -> u32 {
    let length = raw.len() as u32;
    let mut header = FrameHeader { kind, codec: Codec::Stored, stored_bytes: length, raw_bytes: length };
    change(&mut header);
    stream.begin_frame().unwrap();
    stream.write(&header.encode()).unwrap();
    stream.write(raw).unwrap();
    length + 16
}

fn put_compressed<H: FnMut(PlainCells) -> Result<(), Stopped>>(
    stream: &mut StreamWriter<'_, H>,
    kind: FrameKind,
    raw: Vec<u8>,
) -> u32 {
    let raw_bytes = raw.len() as u32;
    let (block, _) = Compressor::new(Squeeze::default()).unwrap().compress(raw, Vec::new()).unwrap();
    let stored_bytes = block.stored.len() as u32;
    stream.begin_frame().unwrap();
    stream.write(&FrameHeader { kind, codec: block.codec, stored_bytes, raw_bytes }.encode()).unwrap();
    stream.write(&block.stored).unwrap();
    stored_bytes + 16
}
