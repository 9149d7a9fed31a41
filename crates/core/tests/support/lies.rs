//! Lies under a right seal: archives made with the right key by somebody who means harm, or by a broken program; and by which class
//! of error each is refused. The program's reader and the page's are held to the same ones.

use super::draft::{Draft, content, entry, put_data};
use under_seal_core::ErrorClass::{self, Damaged, Unsafe, Usage};
use under_seal_core::codecs::block::Codec;
use under_seal_core::formats::sealed::cells::CELL_OVERHEAD;
use under_seal_core::formats::sealed::record::{put_attribute, put_end, put_entry, put_hole};
use under_seal_core::formats::sealed::tail::TAIL_BYTES;
use under_seal_core::formats::sealed::volume::Cells;
use under_seal_core::ground::attributes::Attribute;
use under_seal_core::ground::entry::{Content, EntryKind};
use under_seal_core::ground::holes::HOLE_UNIT;

/// Drops the end record of the last file.
fn without_end(draft: &mut Draft) {
    draft.records.truncate(draft.records.len() - 64);
}

fn with_end(draft: &mut Draft, content: Content, abandoned: bool) {
    without_end(draft);
    put_end(2, &content, abandoned, &mut draft.records);
}

/// A file whose frame fills two cells and reaches into a third.
fn long_file(draft: &mut Draft) {
    draft.file_of(3, "home/b", &[7; 150_000]);
}

/// The same, where the tail finds no room behind the frames and stands in a cell of its own.
fn tail_alone(draft: &mut Draft) {
    draft.file_of(3, "home/b", &[7; 195_826]);
}

/// Says that the first frame of a cell begins at this byte of it.
fn mark(cells: &mut Cells, number: u64, begins: u16) {
    let cell = cells.iter_mut().find(|(cell, _)| *cell == number);
    cell.unwrap().1[..2].copy_from_slice(&begins.to_le_bytes());
}

/// What is told wrongly, how, and what that is refused as; `None` where it is no lie.
pub type Lie = (&'static str, fn(&mut Draft), Option<ErrorClass>);

/// All of them.
pub const LIES: &[Lie] = &[
    ("honest", |_: &mut Draft| {}, None),
    ("index says another mode", |d: &mut Draft| d.index[1].listed.entry.mode = 0o777, Some(Damaged)),
    (
        "index lists what is not there",
        |d: &mut Draft| d.list(entry(9, "home/b", EntryKind::Folder), Content::default()),
        Some(Damaged),
    ),
    ("index points elsewhere", |d: &mut Draft| d.index[1].place.record_at += 1, Some(Damaged)),
    (
        "a folder that is not listed",
        |d: &mut Draft| put_entry(&entry(9, "z", EntryKind::Folder), &mut d.records),
        Some(Damaged),
    ),
    (
        "a file that is not listed",
        |d: &mut Draft| {
            d.file(9, "z");
            d.index.pop();
        },
        Some(Damaged),
    ),
    (
        "an abandoned file may be unlisted",
        |d: &mut Draft| {
            put_entry(&entry(9, "z", EntryKind::File), &mut d.records);
            put_data(9, 0, b"half", &mut d.records);
            put_end(9, &content(), true, &mut d.records);
        },
        None,
    ),
    ("a listed file that is abandoned", |d: &mut Draft| with_end(d, content(), true), Some(Damaged)),
    ("no end", without_end, Some(Damaged)),
    ("end with another size", |d: &mut Draft| with_end(d, Content { size: 15, ..content() }, false), Some(Damaged)),
    (
        "more data than the index says",
        |d: &mut Draft| {
            without_end(d);
            put_data(2, 16, b"more", &mut d.records);
            put_end(2, &content(), false, &mut d.records);
        },
        Some(Damaged),
    ),
    (
        "a gap in the data",
        |d: &mut Draft| {
            d.index[1].listed.content.size = 30;
            without_end(d);
            put_data(2, 20, b"more", &mut d.records);
        },
        Some(Damaged),
    ),
    (
        "data of another entry",
        |d: &mut Draft| {
            without_end(d);
            put_data(1, 16, b"", &mut d.records);
            put_end(2, &content(), false, &mut d.records);
        },
        Some(Damaged),
    ),
    (
        "a digest that lies",
        |d: &mut Draft| {
            let lie = Content { digest: [0; 32], ..content() };
            d.index[1].listed.content = lie;
            with_end(d, lie, false);
        },
        Some(Damaged),
    ),
    (
        "a later file whose digest lies",
        |d: &mut Draft| {
            let lie = Content { digest: [0; 32], ..content() };
            d.file(9, "z");
            d.index[2].listed.content = lie;
            without_end(d);
            put_end(9, &lie, false, &mut d.records);
        },
        Some(Damaged),
    ),
    ("one id twice", |d: &mut Draft| d.file(2, "home/b"), Some(Damaged)),
    ("one path twice", |d: &mut Draft| d.file(9, "home/a"), Some(Damaged)),
    ("a file below a file", |d: &mut Draft| d.file(9, "home/a/b"), Some(Damaged)),
    ("a path that climbs", |d: &mut Draft| d.replace = Some((b"home/a", b"../a/a")), Some(Unsafe)),
    ("an absolute path", |d: &mut Draft| d.replace = Some((b"home/a", b"/etc/a")), Some(Unsafe)),
    ("an unknown record", |d: &mut Draft| d.records.extend([9, 0, 0, 0, 0, 0, 0, 0]), Some(Usage)),
    ("an unknown record that may be skipped", |d: &mut Draft| d.records.extend([0x89, 0, 0, 0, 0, 0, 0, 0]), None),
    (
        "a record longer than its frame",
        |d: &mut Draft| d.records.extend([2, 0, 0, 0, 255, 255, 255, 255]),
        Some(Damaged),
    ),
    (
        "a frame that is no zstandard",
        |d: &mut Draft| {
            d.content_header = |h| {
                h.codec = Codec::Zstandard;
                h.raw_bytes += 1
            }
        },
        Some(Damaged),
    ),
    (
        "a frame longer than the stream",
        |d: &mut Draft| {
            d.content_header = |h| {
                h.stored_bytes = 8_000_000;
                h.raw_bytes = 8_000_000
            }
        },
        Some(Damaged),
    ),
    ("a frame in three cells", long_file, None),
    (
        "a mark where no frame begins",
        |d: &mut Draft| {
            long_file(d);
            d.cells = |cells| mark(cells, 1, 5);
        },
        Some(Damaged),
    ),
    ("a tail in a cell of its own", tail_alone, None),
    (
        "a mark where only the tail is",
        |d: &mut Draft| {
            tail_alone(d);
            d.cells = |cells| mark(cells, 3, 5);
        },
        Some(Damaged),
    ),
    ("no mark where a frame begins", |d: &mut Draft| d.cells = |cells| mark(cells, 0, 0xFFFF), Some(Damaged)),
    ("a mark beside the frame", |d: &mut Draft| d.cells = |cells| mark(cells, 0, 1), Some(Damaged)),
    (
        "something between the frames and the tail",
        |d: &mut Draft| {
            d.cells = |cells| {
                let last = cells.iter_mut().last().unwrap().1;
                let tail_at = last.len() - CELL_OVERHEAD - TAIL_BYTES;
                last[tail_at - 1] = 1;
            }
        },
        Some(Damaged),
    ),
    ("a page longer than it is", |d: &mut Draft| d.root = |root| root.pages[0].frame_bytes += 1, Some(Damaged)),
    ("a content frame in place of the root", |d: &mut Draft| d.tail = |t| t.root_at = 0, Some(Damaged)),
    ("a root beyond the stream", |d: &mut Draft| d.tail = |t| t.root_at = u64::MAX - 3, Some(Damaged)),
    ("another root digest", |d: &mut Draft| d.tail = |t| t.index_digest[0] ^= 1, Some(Damaged)),
    ("a content longer than any file", |d: &mut Draft| d.index[1].listed.content.size = 1 << 63, Some(Damaged)),
    ("endless entries", |d: &mut Draft| d.tail = |t| t.entries = 1 << 60, Some(Damaged)),
    ("other content bytes", |d: &mut Draft| d.tail = |t| t.content_bytes += 1, Some(Damaged)),
    ("a further name", |d: &mut Draft| d.further(3, "home/b", 2, "a"), None),
    ("a further name of itself", |d: &mut Draft| d.further(3, "home/b", 3, "b"), Some(Damaged)),
    ("a further name of a folder", |d: &mut Draft| d.further(3, "home/b", 1, ""), Some(Damaged)),
    ("a further name of nothing", |d: &mut Draft| d.further(3, "home/b", 9, "z"), Some(Damaged)),
    ("a further name that leads out of the archive", |d: &mut Draft| d.further(3, "b", 2, "../home/a"), Some(Damaged)),
    ("a further name that leads to another file", |d: &mut Draft| d.further(3, "home/b", 2, "c"), Some(Damaged)),
    (
        "further names of each other",
        |d: &mut Draft| {
            d.further(3, "home/b", 4, "c");
            d.further(4, "home/c", 3, "b");
        },
        Some(Damaged),
    ),
    (
        "a file that is a further name",
        |d: &mut Draft| {
            d.file(3, "home/b");
            d.sharing.push((3, 2));
        },
        Some(Damaged),
    ),
    (
        "a further name whose record leads elsewhere",
        |d: &mut Draft| {
            d.further(3, "home/b", 2, "a");
            let target = d.records.len() - 1;
            d.records[target] = b'c';
        },
        Some(Damaged),
    ),
    ("a hole", |d: &mut Draft| d.file_with_holes(3, "home/b", &[(0, 0), (0, HOLE_UNIT)]), None),
    ("a hole that the root does not tell", hole_untold, Some(Damaged)),
    (
        "two holes over each other",
        |d: &mut Draft| d.file_with_holes(3, "home/b", &[(0, HOLE_UNIT), (0, 0)]),
        Some(Damaged),
    ),
    ("a hole beyond the file", |d: &mut Draft| d.file_with_holes(3, "home/b", &[(0, 3 * HOLE_UNIT)]), Some(Damaged)),
    ("a hole without end", |d: &mut Draft| d.file_with_holes(3, "home/b", &[(0, 1 << 52)]), Some(Damaged)),
    ("a hole behind a gap", |d: &mut Draft| d.file_with_holes(3, "home/b", &[(HOLE_UNIT, HOLE_UNIT)]), Some(Damaged)),
    ("a hole of half a unit", |d: &mut Draft| d.file_with_holes(3, "home/b", &[(0, HOLE_UNIT / 2)]), Some(Damaged)),
    ("no hole where there is one", |d: &mut Draft| d.file_with_holes(3, "home/b", &[]), Some(Damaged)),
    (
        "another count of holes",
        |d: &mut Draft| {
            d.file_with_holes(3, "home/b", &[(0, HOLE_UNIT)]);
            d.index[2].listed.content.holes = 2 * HOLE_UNIT;
        },
        Some(Damaged),
    ),
    (
        "a hole in a file that has none",
        |d: &mut Draft| {
            without_end(d);
            put_hole(2, 0, 0, &mut d.records);
            put_end(2, &content(), false, &mut d.records);
        },
        Some(Damaged),
    ),
];

/// The same of what a reader may pass over, as the page's does.
pub const LIES_PASSED_OVER: &[Lie] = &[
    ("an attribute", |d: &mut Draft| with_attribute(d, b"user.lamp", b"lit"), None),
    ("an attribute of a privileged namespace", |d: &mut Draft| with_attribute(d, b"security.capability", b"lit"), None),
    ("an attribute without a name", |d: &mut Draft| with_attribute(d, b"", b"lit"), Some(Damaged)),
    ("an attribute with a zero in its name", |d: &mut Draft| with_attribute(d, b"user.\0", b"lit"), Some(Damaged)),
    ("too long an attribute", |d: &mut Draft| with_attribute(d, b"user.lamp", &[7; 65_537]), Some(Damaged)),
    (
        "too many attributes",
        |d: &mut Draft| (0..9).for_each(|_| with_attribute(d, b"user.lamp", &[7; 65_536])),
        Some(Damaged),
    ),
    (
        "an attribute behind content",
        |d: &mut Draft| {
            without_end(d);
            put_attribute(2, &attribute(b"user.lamp", b"lit"), &mut d.records);
            put_end(2, &content(), false, &mut d.records);
        },
        Some(Damaged),
    ),
];

fn hole_untold(draft: &mut Draft) {
    draft.file_with_holes(3, "home/b", &[(0, HOLE_UNIT)]);
    draft.tells_holes = false;
}

fn attribute(name: &[u8], value: &[u8]) -> Attribute {
    Attribute { name: name.to_vec(), value: value.to_vec() }
}

/// Gives the last file an attribute.
fn with_attribute(draft: &mut Draft, name: &[u8], value: &[u8]) {
    let content = draft.records.split_off(draft.records.len() - 64 - (24 + super::draft::CONTENT.len()));
    put_attribute(2, &attribute(name, value), &mut draft.records);
    draft.records.extend(content);
}
