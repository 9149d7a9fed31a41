//! Records: what content frames are made of. An entry begins, its data follow, it ends.

use crate::ground::attributes::{Attribute, is_valid};
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, MAX_LINK_TARGET_BYTES, PathError, Timestamp};
use crate::ground::holes::HOLE_UNIT;
use crate::ground::wire::{Cursor, Malformed};

/// Bytes of a record's header: type, flags, two zeros, length.
pub const RECORD_HEADER_BYTES: usize = 8;

/// Bytes of a data record before its data: id and offset.
pub const DATA_PREFIX_BYTES: usize = 16;

const ENTRY: u8 = 1;
const DATA: u8 = 2;
const END: u8 = 3;
const HOLE: u8 = 4;

/// Says nothing: so that what follows begins at a multiple of four bytes.
const PAD: u8 = 0x80;

/// An extended attribute of the entry before it.
const ATTRIBUTE: u8 = 0x83;

/// Top bit of a record's type: a reader that does not know it may pass over it.
const MAY_BE_SKIPPED: u8 = 0x80;

const CHANGED_WHILE_READ: u8 = 0x01;
const ABANDONED: u8 = 0x02;
const IN_UNITS: u8 = 0x04;

/// Why a record or an index entry cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RecordError {
    /// It breaks the format's rules.
    #[error(transparent)]
    Malformed(#[from] Malformed),
    /// A type that this version does not know and may not skip.
    #[error("unknown record type {0}")]
    UnknownType(u8),
    /// A path that could leave the place where it is extracted.
    #[error("unsafe path: {why}")]
    UnsafePath {
        /// The path's bytes as they stand in the archive.
        path: Vec<u8>,
        /// The rule that it breaks.
        why: PathError,
    },
}

/// A record as it is read.
#[derive(Debug, PartialEq, Eq)]
pub enum Record<'a> {
    /// An entry begins.
    Entry(Entry),
    /// Content of the entry with this id, from this offset on.
    Data {
        /// The entry's id.
        id: u64,
        /// Where in the file the bytes belong.
        offset: u64,
        /// The bytes.
        bytes: &'a [u8],
    },
    /// An extended attribute of the entry with this id.
    Attribute {
        /// The entry's id.
        id: u64,
        /// The attribute.
        attribute: Attribute,
    },
    /// So many zeros of the entry with this id, from this offset on, which are stored nowhere.
    Hole {
        /// The entry's id.
        id: u64,
        /// Where in the file they belong, a multiple of [`HOLE_UNIT`].
        offset: u64,
        /// How many, a multiple of [`HOLE_UNIT`].
        bytes: u64,
    },
    /// The file with this id ends.
    End {
        /// The entry's id.
        id: u64,
        /// Its real size and digest.
        content: Content,
        /// The content so far does not count: the file is read again, or was given up.
        abandoned: bool,
    },
}

impl Record<'_> {
    /// The id of the entry that it is of.
    pub const fn id(&self) -> u64 {
        match self {
            Self::Entry(entry) => entry.id,
            Self::Data { id, .. } | Self::Hole { id, .. } | Self::Attribute { id, .. } | Self::End { id, .. } => *id,
        }
    }
}

fn put_header(kind: u8, length: usize, output: &mut Vec<u8>) {
    output.extend_from_slice(&[kind, 0, 0, 0]);
    output.extend_from_slice(&(length as u32).to_le_bytes());
}

/// Appends an entry record.
pub fn put_entry(entry: &Entry, output: &mut Vec<u8>) {
    put_header(ENTRY, entry_bytes(entry), output);
    put_entry_value(entry, output);
}

/// What content is aligned to in a frame, in bytes: as instructions of some processors are, and samples of sound.
pub const ALIGNMENT: usize = 4;

/// Appends a pad, where the content of a data record behind it would not be aligned without one.
pub fn align_data(output: &mut Vec<u8>) {
    let beyond = (output.len() + RECORD_HEADER_BYTES + DATA_PREFIX_BYTES) % ALIGNMENT;
    if beyond > 0 {
        put_header(PAD, ALIGNMENT - beyond, output);
        output.resize(output.len() + ALIGNMENT - beyond, 0);
    }
}

/// Appends a data record without data; where it begins. [`grow_data`] tells it what was appended since.
pub fn begin_data(id: u64, offset: u64, output: &mut Vec<u8>) -> usize {
    let at = output.len();
    put_header(DATA, DATA_PREFIX_BYTES, output);
    output.extend_from_slice(&id.to_le_bytes());
    output.extend_from_slice(&offset.to_le_bytes());
    at
}

/// Makes the data record that begins at `data_at` reach to the end of what was written.
pub fn grow_data(output: &mut [u8], data_at: usize) {
    let length = (output.len() - data_at - RECORD_HEADER_BYTES) as u32;
    output[data_at + 4..data_at + RECORD_HEADER_BYTES].copy_from_slice(&length.to_le_bytes());
}

/// Appends an extended attribute.
pub fn put_attribute(id: u64, attribute: &Attribute, output: &mut Vec<u8>) {
    put_header(ATTRIBUTE, attribute_bytes(attribute), output);
    output.extend_from_slice(&id.to_le_bytes());
    output.extend_from_slice(&(attribute.name.len() as u16).to_le_bytes());
    output.extend_from_slice(&[0; 2]);
    output.extend_from_slice(&attribute.name);
    output.extend_from_slice(&attribute.value);
}

/// Bytes of an attribute's value: id, length of the name, two zeros, name, value.
pub fn attribute_bytes(attribute: &Attribute) -> usize {
    12 + attribute.bytes()
}

/// Appends a hole.
pub fn put_hole(id: u64, offset: u64, bytes: u64, output: &mut Vec<u8>) {
    put_header(HOLE, HOLE_BYTES, output);
    for number in [id, offset, bytes] {
        output.extend_from_slice(&number.to_le_bytes());
    }
}

/// Bytes of a hole's value: id, offset, length.
pub const HOLE_BYTES: usize = 24;

/// Appends an end record.
pub fn put_end(id: u64, content: &Content, abandoned: bool, output: &mut Vec<u8>) {
    put_header(END, END_BYTES, output);
    output.extend_from_slice(&id.to_le_bytes());
    let flags = if abandoned { ABANDONED } else { 0 };
    put_content(content, flags, output);
}

/// Bytes of an end record's value: the id, then the content.
pub const END_BYTES: usize = 8 + CONTENT_BYTES;

/// Bytes of a content description: flags, a zero, how many units are holes (6), size, digest.
const CONTENT_BYTES: usize = 48;

/// Bytes of its count of units that are holes.
const HOLES_BYTES: usize = 6;

/// Bytes of an entry's value.
pub fn entry_bytes(entry: &Entry) -> usize {
    ENTRY_FIXED_BYTES + entry.path.as_bytes().len() + entry.link_target.len()
}

const ENTRY_FIXED_BYTES: usize = 32;

/// Appends an entry's value: id, kind, three zeros, mode, modification time, lengths, path, link target.
pub fn put_entry_value(entry: &Entry, output: &mut Vec<u8>) {
    let kind = match entry.kind {
        EntryKind::File => 1,
        EntryKind::Folder => 2,
        EntryKind::Link => 3,
    };
    output.extend_from_slice(&entry.id.to_le_bytes());
    output.extend_from_slice(&[kind, 0, 0, 0]);
    output.extend_from_slice(&entry.mode.to_le_bytes());
    output.extend_from_slice(&entry.modified.seconds.to_le_bytes());
    output.extend_from_slice(&entry.modified.nanoseconds.to_le_bytes());
    output.extend_from_slice(&(entry.path.as_bytes().len() as u16).to_le_bytes());
    output.extend_from_slice(&(entry.link_target.len() as u16).to_le_bytes());
    output.extend_from_slice(entry.path.as_bytes());
    output.extend_from_slice(&entry.link_target);
}

/// Takes an entry's value.
pub fn take_entry_value(cursor: &mut Cursor<'_>) -> Result<Entry, RecordError> {
    let malformed = cursor.malformed();
    let id = cursor.u64()?;
    let kind = match cursor.u8()? {
        1 => EntryKind::File,
        2 => EntryKind::Folder,
        3 => EntryKind::Link,
        _ => return Err(malformed.into()),
    };
    cursor.zeros(3)?;
    let mode = cursor.u32()?;
    let modified = Timestamp { seconds: cursor.i64()?, nanoseconds: cursor.u32()? };
    let (path_bytes, target_bytes) = (usize::from(cursor.u16()?), usize::from(cursor.u16()?));
    let path = cursor.bytes(path_bytes)?;
    let path = EntryPath::new(path).map_err(|why| RecordError::UnsafePath { path: path.to_vec(), why })?;
    let link_target = cursor.bytes(target_bytes)?.to_vec();
    let is_link = kind == EntryKind::Link;
    let target_fits =
        link_target.is_empty() != is_link && link_target.len() <= MAX_LINK_TARGET_BYTES && !link_target.contains(&0);
    if mode > 0o7777 || modified.nanoseconds > 999_999_999 || !target_fits {
        return Err(malformed.into());
    }
    Ok(Entry { id, path, kind, mode, modified, link_target })
}

/// Bytes of a content at the most: no file system has longer files (POSIX.1-2024, `off_t` is signed).
const MAX_CONTENT_BYTES: u64 = i64::MAX as u64;

/// Appends a content description.
pub fn put_content(content: &Content, more_flags: u8, output: &mut Vec<u8>) {
    let told = [(content.changed_while_read, CHANGED_WHILE_READ), (content.in_units, IN_UNITS)];
    let flags = told.into_iter().filter(|(is_so, _)| *is_so).fold(more_flags, |flags, (_, flag)| flags | flag);
    output.extend_from_slice(&[flags, 0]);
    output.extend_from_slice(&(content.holes / HOLE_UNIT).to_le_bytes()[..HOLES_BYTES]);
    output.extend_from_slice(&content.size.to_le_bytes());
    output.extend_from_slice(&content.digest);
}

/// Takes a content description and the abandoned flag.
pub fn take_content(cursor: &mut Cursor<'_>) -> Result<(Content, bool), Malformed> {
    let flags = cursor.u8()?;
    cursor.zeros(1)?;
    let mut units = [0; 8];
    units[..HOLES_BYTES].copy_from_slice(cursor.bytes(HOLES_BYTES)?);
    // Six bytes of units are no more than eight of bytes.
    let holes = u64::from_le_bytes(units).saturating_mul(HOLE_UNIT);
    let content = Content {
        size: cursor.u64()?,
        digest: cursor.array()?,
        in_units: flags & IN_UNITS != 0,
        holes,
        changed_while_read: flags & CHANGED_WHILE_READ != 0,
        shared_with: None,
    };
    let agrees = content.size <= MAX_CONTENT_BYTES && holes <= content.size && (content.in_units || holes == 0);
    if flags & !(CHANGED_WHILE_READ | ABANDONED | IN_UNITS) != 0 || !agrees {
        return Err(cursor.malformed());
    }
    Ok((content, flags & ABANDONED != 0))
}

/// The records of one frame, in order, each with its offset in the frame.
pub struct Records<'a> {
    frame_bytes: usize,
    cursor: Cursor<'a>,
}

impl<'a> Records<'a> {
    /// The records of a decompressed content frame.
    pub fn new(frame: &'a [u8]) -> Self {
        Self { frame_bytes: frame.len(), cursor: Cursor::new(frame, "record") }
    }

    fn next_known(&mut self) -> Result<Option<(u32, Record<'a>)>, RecordError> {
        while !self.cursor.is_empty() {
            let at = (self.frame_bytes - self.cursor.clone().rest().len()) as u32;
            let (kind, flags) = (self.cursor.u8()?, self.cursor.u8()?);
            self.cursor.zeros(2)?;
            let length = usize::try_from(self.cursor.u32()?).map_err(|_| self.cursor.malformed())?;
            let value = self.cursor.bytes(length)?;
            if flags != 0 {
                return Err(self.cursor.malformed().into());
            }
            if let Some(record) = read_value(kind, value)? {
                return Ok(Some((at, record)));
            }
        }
        Ok(None)
    }
}

impl<'a> Iterator for Records<'a> {
    type Item = Result<(u32, Record<'a>), RecordError>;

    fn next(&mut self) -> Option<Self::Item> {
        self.next_known().transpose()
    }
}

/// `None` for an unknown record that may be skipped.
fn read_value(kind: u8, value: &[u8]) -> Result<Option<Record<'_>>, RecordError> {
    let mut cursor = Cursor::new(value, "record");
    let record = match kind {
        ENTRY => Record::Entry(take_entry_value(&mut cursor)?),
        DATA => {
            let (id, offset) = (cursor.u64()?, cursor.u64()?);
            return Ok(Some(Record::Data { id, offset, bytes: cursor.rest() }));
        }
        ATTRIBUTE => {
            let (id, name_bytes) = (cursor.u64()?, cursor.u16()?);
            cursor.zeros(2)?;
            let (name, value) = (cursor.bytes(name_bytes.into())?, cursor.rest());
            if !is_valid(name, value) {
                return Err(Malformed("attribute").into());
            }
            let attribute = Attribute { name: name.to_vec(), value: value.to_vec() };
            return Ok(Some(Record::Attribute { id, attribute }));
        }
        HOLE => {
            let (id, offset, bytes) = (cursor.u64()?, cursor.u64()?, cursor.u64()?);
            if offset % HOLE_UNIT != 0 || bytes % HOLE_UNIT != 0 {
                return Err(cursor.malformed().into());
            }
            Record::Hole { id, offset, bytes }
        }
        END => {
            let id = cursor.u64()?;
            let (content, abandoned) = take_content(&mut cursor)?;
            Record::End { id, content, abandoned }
        }
        _ if kind & MAY_BE_SKIPPED != 0 => return Ok(None),
        unknown => return Err(RecordError::UnknownType(unknown)),
    };
    cursor.end()?;
    Ok(Some(record))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn link() -> Entry {
        Entry {
            id: 7,
            path: EntryPath::new("drawings/current").unwrap(),
            kind: EntryKind::Link,
            mode: 0o777,
            modified: Timestamp { seconds: -5, nanoseconds: 999_999_999 },
            link_target: b"tower.svg".to_vec(),
        }
    }

    fn read(frame: &[u8]) -> Result<Vec<(u32, Record<'_>)>, RecordError> {
        Records::new(frame).collect()
    }

    #[test]
    fn records_come_back_and_an_unknown_one_that_may_be_skipped_is() {
        let content = Content { size: 3, digest: [5; 32], changed_while_read: true, ..Content::default() };
        let mut frame = Vec::new();
        put_entry(&link(), &mut frame);
        put_header(0x90, 2, &mut frame);
        frame.extend([1, 2]);
        let data_at = begin_data(8, 100, &mut frame);
        frame.extend_from_slice(b"abc");
        grow_data(&mut frame, data_at);
        put_end(8, &content, true, &mut frame);
        let records = read(&frame).unwrap();
        assert_eq!(
            records.into_iter().map(|(_, record)| record).collect::<Vec<_>>(),
            [
                Record::Entry(link()),
                Record::Data { id: 8, offset: 100, bytes: b"abc" },
                Record::End { id: 8, content, abandoned: true }
            ]
        );
    }

    #[rstest]
    #[case::unknown_type(|frame: &mut Vec<u8>| frame[0] = 0x10, "unknown record type 16")]
    #[case::length_beyond_the_frame(|frame: &mut Vec<u8>| frame[7] = 0xFF, "malformed record")]
    #[case::unknown_entry_kind(|frame: &mut Vec<u8>| frame[16] = 9, "malformed record")]
    #[case::mode_beyond_posix(|frame: &mut Vec<u8>| frame[22] = 1, "malformed record")]
    #[case::file_with_a_link_target(|frame: &mut Vec<u8>| frame[16] = 1, "malformed record")]
    #[case::path_that_climbs(|frame: &mut Vec<u8>| frame[40..43].copy_from_slice(b"../"), "unsafe path: a path with . or .. in it")]
    #[case::link_without_a_target(|frame: &mut Vec<u8>| { frame[38] = 0; frame.truncate(frame.len() - 9); frame[4] -= 9; }, "malformed record")]
    #[case::cut_short(|frame: &mut Vec<u8>| frame.truncate(20), "malformed record")]
    fn a_spoilt_record_is_a_named_error(#[case] spoil: fn(&mut Vec<u8>), #[case] expected: &str) {
        let mut frame = Vec::new();
        put_entry(&link(), &mut frame);
        spoil(&mut frame);
        assert_eq!(read(&frame).unwrap_err().to_string(), expected);
    }

    #[test]
    fn the_highest_mode_is_read() {
        let mut frame = Vec::new();
        put_entry(&Entry { mode: 0o7777, ..link() }, &mut frame);
        assert!(read(&frame).is_ok());
    }

    /// Flags, units of holes, and size of a content; and whether they agree.
    #[rstest]
    #[case::plain(0, 0, 9, true)]
    #[case::in_units(IN_UNITS, 0, 9, true)]
    #[case::all_of_it_holes(IN_UNITS, 1, HOLE_UNIT, true)]
    #[case::more_holes_than_there_is(IN_UNITS, 1, HOLE_UNIT - 1, false)]
    #[case::more_holes_than_there_is_though_not_in_units(0, 1, HOLE_UNIT - 1, false)]
    #[case::holes_that_are_not_told(0, 1, HOLE_UNIT, false)]
    #[case::everything_told(CHANGED_WHILE_READ | ABANDONED | IN_UNITS, 1, HOLE_UNIT, true)]
    #[case::unknown_flag(0x08, 0, 9, false)]
    fn holes_and_flags_of_a_content_agree(#[case] flags: u8, #[case] units: u8, #[case] size: u64, #[case] good: bool) {
        let mut bytes = Vec::new();
        put_content(&Content { size, ..Content::default() }, flags, &mut bytes);
        bytes[2] = units;
        assert_eq!(take_content(&mut Cursor::new(&bytes, "content")).is_ok(), good);
    }

    #[rstest]
    #[case::whole(HOLE_UNIT, HOLE_UNIT, true)]
    #[case::offset(1, HOLE_UNIT, false)]
    #[case::length(HOLE_UNIT, 1, false)]
    fn holes_are_whole_units(#[case] offset: u64, #[case] bytes: u64, #[case] good: bool) {
        let mut frame = Vec::new();
        put_hole(7, offset, bytes, &mut frame);
        assert_eq!(read(&frame).is_ok(), good);
    }
}
