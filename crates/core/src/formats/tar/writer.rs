//! Headers as they are written: ustar, with extended records (POSIX.1-2024 `pax`) for what its fields cannot hold.

use super::BLOCK_BYTES;
use super::records::ATTRIBUTE_KEY;
use crate::ground::attributes::Attribute;
use crate::ground::entry::{Entry, EntryKind, EntryPath, Timestamp};
use crate::ground::holes::{Hole, Stretch, stretches};

/// Numbers of eleven octal digits end here.
const MOST_IN_FIELD: u64 = 0o77_777_777_777;

/// A name field holds so many bytes.
const NAME_BYTES: usize = 100;

/// An archive is filled up to whole records of twenty blocks.
pub const RECORD_BYTES: u64 = 20 * BLOCK_BYTES as u64;

/// The two blocks of zeros that end an archive of so many bytes, and what fills up its last record.
pub fn end(bytes: u64) -> Vec<u8> {
    let end = bytes.saturating_add(2 * BLOCK_BYTES as u64).next_multiple_of(RECORD_BYTES);
    vec![0; usize::try_from(end.saturating_sub(bytes)).unwrap_or(0)]
}

/// What fills up the last block of a content of so many bytes.
pub fn padding(size: u64) -> usize {
    usize::try_from(size.next_multiple_of(BLOCK_BYTES as u64).saturating_sub(size)).unwrap_or(0)
}

/// Everything in front of an entry's content, which has `size` bytes.
pub fn headers(entry: &Entry, size: u64, attributes: &[Attribute]) -> Vec<u8> {
    let kind = match entry.kind {
        EntryKind::File => b'0',
        EntryKind::Folder => b'5',
        EntryKind::Link => b'2',
    };
    headers_of(entry, (kind, &entry.link_target), size, attributes)
}

/// The same for a file with holes, up to the first byte that is stored. The map of what is stored stands in front of that (the way of
/// extended records that is called 1.0; a reader that does not know it finds a file of another name, with the map in front).
pub fn headers_with_holes(entry: &Entry, size: u64, holes: &[Hole], attributes: &[Attribute]) -> Vec<u8> {
    let map = map_in_front(size, holes);
    let stored = size.saturating_sub(holes.iter().map(|hole| hole.bytes).sum()).saturating_add(map.len() as u64);
    let (parent, name) = entry.path.parent_and_name();
    let folder = parent.map(|parent| [parent, b"/"].concat()).unwrap_or_default();
    let condensed = [&folder[..], b"GNUSparseFile.0/", name].concat();
    let mut more = attribute_records(attributes);
    put_record(&mut more, b"GNU.sparse.major", b"1");
    put_record(&mut more, b"GNU.sparse.minor", b"0");
    put_record(&mut more, b"GNU.sparse.name", entry.path.as_bytes());
    put_record(&mut more, b"GNU.sparse.realsize", size.to_string().as_bytes());
    let mut headers = headers_called(entry, &condensed, (b'0', b""), stored, more);
    headers.extend(map);
    headers
}

/// How many parts, and each with its place and length, a line each; filled up to whole blocks.
fn map_in_front(size: u64, holes: &[Hole]) -> Vec<u8> {
    let mut parts = Vec::new();
    let mut at = 0;
    for stretch in stretches(size, holes) {
        match stretch {
            Stretch::Stored(bytes) => {
                parts.push((at, bytes));
                at += bytes;
            }
            Stretch::Hole(bytes) => at += bytes,
        }
    }
    // A hole at the end is told by a part behind it.
    if parts.last().is_none_or(|(at, bytes)| at + bytes < size) {
        parts.push((size, 0));
    }
    let mut map = format!("{}\n", parts.len());
    parts.iter().for_each(|(at, bytes)| map.push_str(&format!("{at}\n{bytes}\n")));
    let mut map = map.into_bytes();
    map.resize(map.len().next_multiple_of(BLOCK_BYTES), 0);
    map
}

/// All that stands for a further name of a file that is called so and stands before it.
pub fn further_name(entry: &Entry, of: &EntryPath) -> Vec<u8> {
    headers_of(entry, (b'1', of.as_bytes()), 0, &[])
}

fn headers_of(entry: &Entry, kind_and_link: (u8, &[u8]), size: u64, attributes: &[Attribute]) -> Vec<u8> {
    let mut name = entry.path.as_bytes().to_vec();
    if entry.kind == EntryKind::Folder {
        name.push(b'/');
    }
    headers_called(entry, &name, kind_and_link, size, attribute_records(attributes))
}

/// The headers of what is called so, with these records beside those that are needed.
fn headers_called(entry: &Entry, name: &[u8], (kind, link): (u8, &[u8]), size: u64, more: Vec<u8>) -> Vec<u8> {
    let mut records = records(entry.modified, name, link, size);
    records.extend(more);
    let mut headers = Vec::new();
    if !records.is_empty() {
        let own = Plain { name: b"PaxHeaders/record", size: records.len() as u64, kind: b'x', ..Plain::default() };
        headers.extend(own.block());
        headers.extend(&records);
        headers.resize(headers.len().next_multiple_of(BLOCK_BYTES), 0);
    }
    headers.extend(Plain { name, mode: entry.mode, size, modified: entry.modified.seconds, kind, link }.block());
    headers
}

/// Extended attributes, in the way that several writers of tar have in common. A name with an equals sign cannot be told so.
fn attribute_records(attributes: &[Attribute]) -> Vec<u8> {
    let mut records = Vec::new();
    for Attribute { name, value } in attributes.iter().filter(|attribute| !attribute.name.contains(&b'=')) {
        put_record(&mut records, &[ATTRIBUTE_KEY, name].concat(), value);
    }
    records
}

/// What the fields cannot hold, as records.
fn records(modified: Timestamp, name: &[u8], link: &[u8], size: u64) -> Vec<u8> {
    let mut records = Vec::new();
    let fits = |text: &[u8]| text.len() <= NAME_BYTES && text.is_ascii();
    let is_text = |text: &[u8]| std::str::from_utf8(text).is_ok();
    if !is_text(name) || !is_text(link) {
        // Bytes as they are, in no character set.
        put_record(&mut records, b"hdrcharset", b"BINARY");
    }
    if !fits(name) {
        put_record(&mut records, b"path", name);
    }
    if !fits(link) {
        put_record(&mut records, b"linkpath", link);
    }
    if size > MOST_IN_FIELD {
        put_record(&mut records, b"size", size.to_string().as_bytes());
    }
    let Timestamp { seconds, nanoseconds } = modified;
    if nanoseconds != 0 || u64::try_from(seconds).map_or(true, |seconds| seconds > MOST_IN_FIELD) {
        put_record(&mut records, b"mtime", time(modified).as_bytes());
    }
    records
}

/// Seconds with a sign and a fraction.
fn time(time: Timestamp) -> String {
    let Timestamp { seconds, nanoseconds } = time;
    match (seconds < 0, nanoseconds) {
        (_, 0) => seconds.to_string(),
        // -1.5 is a second and a half before; here it is half a second after the second second before.
        (true, _) if seconds == -1 => format!("-0.{:09}", 1_000_000_000 - nanoseconds),
        (true, _) => format!("{}.{:09}", seconds + 1, 1_000_000_000 - nanoseconds),
        (false, _) => format!("{seconds}.{nanoseconds:09}"),
    }
}

/// A record, whose length counts itself.
fn put_record(records: &mut Vec<u8>, key: &[u8], value: &[u8]) {
    let rest = key.len() + value.len() + 3;
    let mut length = rest;
    while length.to_string().len() + rest != length {
        length = length.to_string().len() + rest;
    }
    records.extend(length.to_string().as_bytes());
    records.push(b' ');
    records.extend(key);
    records.push(b'=');
    records.extend(value);
    records.push(b'\n');
}

/// One header's fields, cut to what they hold.
#[derive(Default)]
struct Plain<'a> {
    name: &'a [u8],
    mode: u32,
    size: u64,
    modified: i64,
    kind: u8,
    link: &'a [u8],
}

impl Plain<'_> {
    fn block(&self) -> [u8; BLOCK_BYTES] {
        let mut block = [0; BLOCK_BYTES];
        put_text(&mut block[..NAME_BYTES], self.name);
        let small = |value: u32| format!("{value:07o}\0");
        let large = |value: u64| format!("{:011o}\0", value.min(MOST_IN_FIELD));
        put_text(&mut block[100..108], small(self.mode & 0o7777).as_bytes());
        put_text(&mut block[108..116], small(0).as_bytes());
        put_text(&mut block[116..124], small(0).as_bytes());
        put_text(&mut block[124..136], large(self.size).as_bytes());
        put_text(&mut block[136..148], large(u64::try_from(self.modified).unwrap_or(0)).as_bytes());
        block[148..156].fill(b' ');
        block[156] = self.kind;
        put_text(&mut block[157..257], self.link);
        block[257..265].copy_from_slice(b"ustar\x0000");
        let sum: u32 = block.iter().map(|byte| u32::from(*byte)).sum();
        put_text(&mut block[148..156], format!("{sum:06o}\0 ").as_bytes());
        block
    }
}

fn put_text(field: &mut [u8], text: &[u8]) {
    let length = text.len().min(field.len());
    field[..length].copy_from_slice(&text[..length]);
}

#[cfg(test)]
mod tests {
    use super::super::header::Header;
    use super::super::records::Records;
    use super::*;
    use crate::ground::entry::EntryPath;
    use rstest::rstest;

    fn entry(name: &str, modified: Timestamp) -> Entry {
        let path = EntryPath::new(name).unwrap();
        Entry { id: 1, path, kind: EntryKind::File, mode: 0o640, modified, link_target: Vec::new() }
    }

    /// Names across the steps at which a record's length gains a digit, times, sizes; and whether records are needed.
    #[rstest]
    #[case::plain("a/b.txt", 5, 0, 3, false)]
    #[case::hundred(&"n".repeat(100), 5, 0, 3, false)]
    #[case::longer(&"n".repeat(101), 5, 0, 3, true)]
    #[case::record_of_999(&"n".repeat(988), 5, 0, 3, true)]
    #[case::record_of_1001(&"n".repeat(989), 5, 0, 3, true)]
    #[case::not_ascii("Überblick", 5, 0, 3, true)]
    #[case::fraction("a", 5, 123_456_789, 3, true)]
    #[case::before_1970("a", -2, 500_000_000, 3, true)]
    #[case::right_before_1970("a", -1, 1, 3, true)]
    #[case::largest_in_field("a", 5, 0, 8_589_934_591, false)]
    #[case::larger("a", 5, 0, 8_589_934_592, true)]
    fn what_is_written_is_read_again(
        #[case] name: &str,
        #[case] seconds: i64,
        #[case] nanoseconds: u32,
        #[case] size: u64,
        #[case] needs_records: bool,
    ) {
        let modified = Timestamp { seconds, nanoseconds };
        let written = headers(&entry(name, modified), size, &[]);
        assert_eq!(written.len() > BLOCK_BYTES, needs_records);
        let block = |at: usize| <&[u8; BLOCK_BYTES]>::try_from(&written[at..at + BLOCK_BYTES]).unwrap();
        let last = Header::decode(block(written.len() - BLOCK_BYTES)).unwrap();
        let mut said = Records::default();
        if needs_records {
            let own = Header::decode(block(0)).unwrap();
            assert_eq!(own.kind, b'x');
            said = Records::read(&written[BLOCK_BYTES..BLOCK_BYTES + own.size as usize]).unwrap();
        }
        assert_eq!(said.path.unwrap_or(last.name), name.as_bytes());
        assert_eq!(said.size.unwrap_or(last.size), size);
        assert_eq!(said.modified.unwrap_or(Timestamp { seconds: last.modified, nanoseconds: 0 }), modified);
        assert_eq!(last.mode, 0o640);
    }
}
