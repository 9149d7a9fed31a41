//! Archives sealed with the right key by somebody who means harm, or with a broken program: every lie has a named
//! refusal, nothing wrong lands, nothing panics.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

mod support;

use rstest::rstest;
use std::fs;
use std::path::PathBuf;
use support::{Desk, PASSWORD, tree};
use under_seal_core::ErrorClass::{self, Damaged, Unsafe, Usage};
use under_seal_core::codec::Codec;
use under_seal_core::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry, Timestamp};
use under_seal_core::pipeline::Stopped;
use under_seal_core::place::{Folder, staging::Staging};
use under_seal_core::sealed::cells::{CellSeal, PlainCells};
use under_seal_core::sealed::frame::{FrameHeader, FrameKind};
use under_seal_core::sealed::index::{About, IndexEntry, PageBuilder, Place, Root};
use under_seal_core::sealed::record::{begin_data, grow_data, put_end, put_entry};
use under_seal_core::sealed::stream::StreamWriter;
use under_seal_core::sealed::tail::Tail;
use under_seal_core::sealed::{ArchiveKey, KeyCost, Password, seal_head};
use under_seal_core::volume::{Ids, VolumeWriter};

/// An archive about to be sealed, honest until a test lays hand on it: a folder `home` and a file `home/a`.
struct Draft {
    /// The one content frame.
    records: Vec<u8>,
    index: Vec<IndexEntry>,
    /// Bytes to replace by others of the same length, in records and index alike.
    replace: Option<(&'static [u8], &'static [u8])>,
    content_header: fn(&mut FrameHeader),
    tail: fn(&mut Tail),
}

const CONTENT: &[u8] = b"The lamp is lit.";

fn content() -> Content {
    Content { size: CONTENT.len() as u64, digest: *blake3::hash(CONTENT).as_bytes(), changed_while_read: false }
}

fn entry(id: u64, path: &str, kind: EntryKind) -> Entry {
    let link_target = if kind == EntryKind::Link { b"..".to_vec() } else { Vec::new() };
    let path = EntryPath::new(path).unwrap();
    Entry { id, path, kind, mode: 0o755, modified: Timestamp { seconds: 1, nanoseconds: 2 }, link_target }
}

impl Draft {
    fn empty() -> Self {
        Self { records: Vec::new(), index: Vec::new(), replace: None, content_header: |_| {}, tail: |_| {} }
    }

    fn honest() -> Self {
        let mut draft = Self::empty();
        draft.list(entry(1, "home", EntryKind::Folder), Content::default());
        put_entry(&entry(1, "home", EntryKind::Folder), &mut draft.records);
        draft.file(2, "home/a");
        draft
    }

    fn list(&mut self, entry: Entry, content: Content) {
        let place = Place { frame_at: 0, record_at: self.records.len() as u32 };
        self.index.push(IndexEntry { listed: ListedEntry { entry, content }, place });
    }

    fn file(&mut self, id: u64, path: &str) {
        self.list(entry(id, path, EntryKind::File), content());
        put_entry(&entry(id, path, EntryKind::File), &mut self.records);
        put_data(id, 0, CONTENT, &mut self.records);
        put_end(id, &content(), false, &mut self.records);
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

    fn seal(self, desk: &Desk) -> PathBuf {
        fs::create_dir_all(desk.path("out")).unwrap();
        let staging = Staging::begin(Folder::open(&desk.path("out")).unwrap(), "set".as_ref()).unwrap();
        let ids = Ids { set: [1; 16], cut: [2; 16] };
        let (key, head) = desk.with_context(&|| false, |context| {
            let key = ArchiveKey::generate(context).unwrap();
            let credentials = [Password::new(PASSWORD).unwrap().into()];
            let head = seal_head(&key, &ids.set, &credentials, KeyCost::CHEAPEST, context).unwrap();
            (key, head)
        });
        let mut volumes = VolumeWriter::new(&staging, ids, None).unwrap();
        let (seal, cutting) = (CellSeal::new(&key, &ids.set).unwrap(), volumes.cutting());
        let mut stream = StreamWriter::new(|plain| {
            volumes.write(&seal.seal(plain, &cutting).unwrap().bytes).unwrap();
            Ok(())
        });
        put_frame(&mut stream, FrameKind::Content, &self.replaced(self.records.clone()), self.content_header);
        let mut page = PageBuilder::default();
        self.index.iter().for_each(|entry| page.add(entry));
        let (page, mut page_ref) = page.finish();
        let page = self.replaced(page);
        page_ref.digest = *blake3::hash(&page).as_bytes();
        page_ref.first_path = self.replaced(page_ref.first_path.clone());
        page_ref.frame_at = stream.position();
        page_ref.frame_bytes = put_frame(&mut stream, FrameKind::IndexPage, &page, |_| {});
        let root = Root { about: About::default(), pages: vec![page_ref] }.encode().unwrap();
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

fn put_data(id: u64, offset: u64, bytes: &[u8], records: &mut Vec<u8>) {
    let at = begin_data(id, offset, records);
    records.extend_from_slice(bytes);
    grow_data(records, at);
}

fn put_frame<H: FnMut(PlainCells) -> Result<(), Stopped>>(
    stream: &mut StreamWriter<H>,
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

/// Drops the end record of the last file.
fn without_end(draft: &mut Draft) {
    draft.records.truncate(draft.records.len() - 64);
}

fn with_end(draft: &mut Draft, content: Content, abandoned: bool) {
    without_end(draft);
    put_end(2, &content, abandoned, &mut draft.records);
}

#[rstest]
#[case::honest(|_: &mut Draft| {}, None)]
#[case::index_says_another_mode(|d: &mut Draft| d.index[1].listed.entry.mode = 0o777, Some(Damaged))]
#[case::index_lists_what_is_not_there(|d: &mut Draft| d.list(entry(9, "home/b", EntryKind::Folder), Content::default()), Some(Damaged))]
#[case::index_points_elsewhere(|d: &mut Draft| d.index[1].place.record_at += 1, Some(Damaged))]
#[case::a_folder_that_is_not_listed(|d: &mut Draft| put_entry(&entry(9, "z", EntryKind::Folder), &mut d.records), Some(Damaged))]
#[case::a_file_that_is_not_listed(|d: &mut Draft| { d.file(9, "z"); d.index.pop(); }, Some(Damaged))]
#[case::an_abandoned_file_may_be_unlisted(|d: &mut Draft| {
    put_entry(&entry(9, "z", EntryKind::File), &mut d.records);
    put_data(9, 0, b"half", &mut d.records);
    put_end(9, &content(), true, &mut d.records);
}, None)]
#[case::a_listed_file_that_is_abandoned(|d: &mut Draft| with_end(d, content(), true), Some(Damaged))]
#[case::no_end(without_end, Some(Damaged))]
#[case::end_with_another_size(|d: &mut Draft| with_end(d, Content { size: 15, ..content() }, false), Some(Damaged))]
#[case::more_data_than_the_index_says(|d: &mut Draft| { without_end(d); put_data(2, 16, b"more", &mut d.records); put_end(2, &content(), false, &mut d.records); }, Some(Damaged))]
#[case::a_gap_in_the_data(|d: &mut Draft| { d.index[1].listed.content.size = 30; without_end(d); put_data(2, 20, b"more", &mut d.records); }, Some(Damaged))]
#[case::data_of_another_entry(|d: &mut Draft| { without_end(d); put_data(1, 16, b"", &mut d.records); put_end(2, &content(), false, &mut d.records); }, Some(Damaged))]
#[case::a_digest_that_lies(|d: &mut Draft| { let lie = Content { digest: [0; 32], ..content() }; d.index[1].listed.content = lie; with_end(d, lie, false); }, Some(Damaged))]
#[case::a_later_file_whose_digest_lies(|d: &mut Draft| {
    let lie = Content { digest: [0; 32], ..content() };
    d.file(9, "z");
    d.index[2].listed.content = lie;
    without_end(d);
    put_end(9, &lie, false, &mut d.records);
}, Some(Damaged))]
#[case::one_id_twice(|d: &mut Draft| d.file(2, "home/b"), Some(Damaged))]
#[case::one_path_twice(|d: &mut Draft| d.file(9, "home/a"), Some(Damaged))]
#[case::a_file_below_a_file(|d: &mut Draft| d.file(9, "home/a/b"), Some(Damaged))]
#[case::a_path_that_climbs(|d: &mut Draft| d.replace = Some((b"home/a", b"../a/a")), Some(Unsafe))]
#[case::an_absolute_path(|d: &mut Draft| d.replace = Some((b"home/a", b"/etc/a")), Some(Unsafe))]
#[case::an_unknown_record(|d: &mut Draft| d.records.extend([9, 0, 0, 0, 0, 0, 0, 0]), Some(Usage))]
#[case::an_unknown_record_that_may_be_skipped(|d: &mut Draft| d.records.extend([0x89, 0, 0, 0, 0, 0, 0, 0]), None)]
#[case::a_record_longer_than_its_frame(|d: &mut Draft| d.records.extend([2, 0, 0, 0, 255, 255, 255, 255]), Some(Damaged))]
#[case::a_frame_that_is_no_zstandard(|d: &mut Draft| d.content_header = |h| { h.codec = Codec::Zstandard; h.raw_bytes += 1 }, Some(Damaged))]
#[case::a_frame_longer_than_the_stream(|d: &mut Draft| d.content_header = |h| { h.stored_bytes = 8_000_000; h.raw_bytes = 8_000_000 }, Some(Damaged))]
#[case::a_content_frame_in_place_of_the_root(|d: &mut Draft| d.tail = |t| t.root_at = 0, Some(Damaged))]
#[case::a_root_beyond_the_stream(|d: &mut Draft| d.tail = |t| t.root_at = u64::MAX - 3, Some(Damaged))]
#[case::another_root_digest(|d: &mut Draft| d.tail = |t| t.index_digest[0] ^= 1, Some(Damaged))]
#[case::endless_entries(|d: &mut Draft| d.tail = |t| t.entries = 1 << 60, Some(Damaged))]
#[case::other_content_bytes(|d: &mut Draft| d.tail = |t| t.content_bytes += 1, Some(Damaged))]
fn a_lie_under_the_seal_is_refused_by_name(#[case] lie: fn(&mut Draft), #[case] expected: Option<ErrorClass>) {
    let desk = Desk::new();
    let mut draft = Draft::honest();
    lie(&mut draft);
    let path = draft.seal(&desk);
    let opened = desk.open(&[path], &desk.path("inbox/deep"));
    assert_eq!(opened.as_ref().err().map(|error| error.class()), expected, "{opened:?}");
    let landed = fs::read(desk.path("inbox/deep/home/a")).ok();
    assert!(landed.is_none_or(|bytes| bytes == CONTENT), "something wrong landed");
    let outside: Vec<_> = fs::read_dir(desk.place.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(outside.iter().all(|name| name == "out" || name == "inbox"), "{outside:?}");
    if desk.path("inbox").exists() {
        let landed = tree(&desk.path("inbox"));
        assert!(landed.keys().all(|path| !path.to_string_lossy().contains(".arriving")), "{landed:?}");
    }
    let beside = fs::read_dir(desk.path("inbox")).map(Iterator::count).unwrap_or(0);
    assert!(beside <= 1, "something landed outside the destination");
}

#[test]
fn links_come_last_and_none_that_leads_outside_is_made() {
    let desk = Desk::new();
    let mut draft = Draft::empty();
    for (id, path, target) in
        [(1, "a-inside", "b"), (2, "a-out", "/etc"), (3, "a-up", "../x"), (4, "a-via", "a-inside/..")]
    {
        let link = Entry { link_target: target.into(), ..entry(id, path, EntryKind::Link) };
        draft.list(link.clone(), Content::default());
        put_entry(&link, &mut draft.records);
    }
    draft.file(9, "b");
    let path = draft.seal(&desk);
    let opened = desk.open(&[path], &desk.path("inbox")).unwrap();
    let refused: Vec<_> = opened.landed.refused_links.iter().map(|link| link.path.as_bytes()).collect();
    assert_eq!(refused, [&b"a-out"[..], b"a-up", b"a-via"]);
    let landed: Vec<_> = tree(&desk.path("inbox")).into_keys().collect();
    assert_eq!(landed, ["", "a-inside", "b"].map(PathBuf::from));
}

#[test]
fn a_name_that_the_system_cannot_hold_is_refused_before_anything_is_written() {
    let desk = Desk::new();
    let mut draft = Draft::empty();
    draft.file(1, "a");
    draft.file(2, &"b".repeat(256));
    let path = draft.seal(&desk);
    let error = desk.open(&[path], &desk.path("inbox")).unwrap_err();
    assert_eq!(error.class(), Unsafe);
    assert!(!desk.path("inbox").exists());
}

#[test]
fn set_user_id_and_sticky_bits_are_not_restored() {
    use std::os::unix::fs::PermissionsExt as _;
    let desk = Desk::new();
    let mut draft = Draft::empty();
    let folder = Entry { mode: 0o7755, ..entry(1, "home", EntryKind::Folder) };
    draft.list(folder.clone(), Content::default());
    put_entry(&folder, &mut draft.records);
    let path = draft.seal(&desk);
    desk.open(&[path], &desk.path("inbox")).unwrap();
    let mode = fs::metadata(desk.path("inbox/home")).unwrap().permissions().mode();
    assert_eq!(mode & 0o7777, 0o755);
}
