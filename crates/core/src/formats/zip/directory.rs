//! The directory: the end record from which everything is found, and the headers that it and each entry have.

use super::{MAX_DIRECTORY_BYTES, MAX_PARTS, Segments, ZipError};
use crate::ground::context::Context;
use crate::ground::wire::{Cursor, Malformed};

/// Signatures (sections 4.3.7 to 4.3.16).
pub(super) const LOCAL: u32 = 0x0403_4B50;
pub(super) const CENTRAL: u32 = 0x0201_4B50;
pub(super) const END: u32 = 0x0605_4B50;
pub(super) const END_64: u32 = 0x0606_4B50;
pub(super) const LOCATOR_64: u32 = 0x0706_4B50;
pub(super) const DESCRIPTOR: u32 = 0x0807_4B50;

/// Bytes of the fixed parts of local and central headers, of the end record, the 64-bit locator and the 64-bit record.
pub(super) const LOCAL_BYTES: usize = 30;
pub(super) const CENTRAL_BYTES: usize = 46;
/// Bytes of the record that ends an archive (section 4.3.16).
pub const END_BYTES: usize = 22;
const LOCATOR_64_BYTES: usize = 20;
const END_64_BYTES: usize = 56;

/// The extra field with 64-bit sizes and offsets (section 4.5.3).
pub(super) const ZIP64: u16 = 0x0001;

/// A 32-bit and a 16-bit field with these values stand in that field.
pub(super) const SATURATED: u32 = u32::MAX;
const SATURATED_16: u16 = u16::MAX;

/// Flags (section 4.4.4): encrypted; lengths stand behind the data; patches and strong encryption, which are not read; UTF-8;
/// masked headers.
pub(super) const ENCRYPTED: u16 = 1;
pub(super) const LENGTHS_BEHIND: u16 = 1 << 3;
pub(super) const PATCHED: u16 = 1 << 5;
pub(super) const STRONG: u16 = 1 << 6;
pub(super) const UTF8: u16 = 1 << 11;
pub(super) const MASKED: u16 = 1 << 13;

/// The extra field that says of an entry that it is the archive itself; it has no data. Its number is `US` as bytes, outside of
/// what the application note keeps for itself (section 4.5.2), and readers pass over fields that they do not know.
pub(super) const COVER_FIELD: u16 = u16::from_le_bytes(*b"US");

/// The method that says AES; the real one stands in an extra field of this number.
pub(super) const AES_METHOD: u16 = 99;
pub(super) const AES_FIELD: u16 = 0x9901;

/// The attribute of a folder on systems without modes.
pub(super) const FOLDER_ATTRIBUTE: u32 = 0x10;

/// The kinds of POSIX modes (`sys/stat.h`).
pub(super) const KIND_BITS: u32 = 0o170_000;
pub(super) const FOLDER_KIND: u32 = 0o040_000;
pub(super) const LINK_KIND: u32 = 0o120_000;
pub(super) const FILE_KIND: u32 = 0o100_000;

/// The longest comment behind the end record.
pub const MAX_COMMENT_BYTES: usize = u16::MAX as usize;

/// One extra field.
pub(super) struct Extra<'a> {
    pub id: u16,
    pub data: &'a [u8],
}

/// The extra fields of a header, as far as they are whole: what follows a broken one means nothing.
pub(super) fn extras(bytes: &[u8]) -> impl Iterator<Item = Extra<'_>> {
    let mut cursor = Cursor::new(bytes, "extra field");
    std::iter::from_fn(move || {
        let (id, length) = (cursor.u16().ok()?, cursor.u16().ok()?);
        Some(Extra { id, data: cursor.bytes(length.into()).ok()? })
    })
}

/// Where the directory is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct End {
    /// Where it begins and how long it is.
    pub directory_at: u64,
    pub directory_bytes: u64,
    pub entries: u64,
    /// Bytes in front of the archive: what offsets count from.
    pub before: u64,
    /// How many parts there are.
    pub parts: u32,
    pub comment: Vec<u8>,
}

/// What an end record says, before it is believed.
struct Said {
    disk: u32,
    directory_disk: u32,
    entries_here: u64,
    entries: u64,
    directory_bytes: u64,
    directory_offset: u64,
    /// Where the directory ends, if nothing stands between.
    directory_end: u64,
}

/// Finds the one end record.
pub(super) fn find_end(segments: &Segments) -> Result<End, ZipError> {
    let length = segments.length();
    let window = length.min((END_BYTES + MAX_COMMENT_BYTES) as u64);
    let from = length - window;
    let bytes = segments.bytes_at(from, window as usize)?.unwrap_or_default();
    // Of those before the last one: where each stands, and where its comment ends.
    let mut before: Vec<(u64, u64)> = Vec::new();
    let (mut last, mut first_error) = (None::<(u64, End)>, None);
    for at in places_of(&bytes, END) {
        match end_at(segments, from + at as u64, &bytes[at..]) {
            Ok(None) => {}
            Ok(Some(end)) => {
                let replaced = last.replace((from + at as u64, end));
                before.extend(replaced.map(|(at, end)| (at, at + (END_BYTES + end.comment.len()) as u64)));
            }
            Err(error) => first_error = first_error.or(Some(error)),
        }
    }
    let Some((last_at, last)) = last else { return Err(first_error.unwrap_or(ZipError::NoEnd)) };
    // One that stands before the last one's directory is that of an archive inside, or in front. One whose comment the last
    // one stands in, or that stands in its directory, could just as well be the right one.
    let rivals = |(at, comment_end): &(u64, u64)| *at >= last.directory_at || *comment_end > last_at;
    if before.iter().any(rivals) { Err(ZipError::TwoEnds) } else { Ok(last) }
}

fn places_of(bytes: &[u8], signature: u32) -> impl Iterator<Item = usize> {
    let signature = signature.to_le_bytes();
    bytes.windows(4).enumerate().filter(move |(_, window)| *window == signature).map(|(at, _)| at)
}

/// The end record here (section 4.3.16); `None` where these bytes are none.
fn end_at(segments: &Segments, at: u64, bytes: &[u8]) -> Result<Option<End>, ZipError> {
    let mut cursor = Cursor::new(bytes.get(4..).unwrap_or_default(), "end record");
    let read = |cursor: &mut Cursor<'_>| -> Result<(Said, Vec<u8>), Malformed> {
        let (disk, directory_disk) = (cursor.u16()?, cursor.u16()?);
        let (entries_here, entries) = (cursor.u16()?, cursor.u16()?);
        let (directory_bytes, directory_offset) = (cursor.u32()?, cursor.u32()?);
        let comment = cursor.u16()?;
        let said = Said {
            disk: disk.into(),
            directory_disk: directory_disk.into(),
            entries_here: entries_here.into(),
            entries: entries.into(),
            directory_bytes: directory_bytes.into(),
            directory_offset: directory_offset.into(),
            directory_end: at,
        };
        Ok((said, cursor.bytes(comment.into())?.to_vec()))
    };
    let Ok((mut said, comment)) = read(&mut cursor) else { return Ok(None) };
    let mut claims_64 = false;
    if let Some(wide) = end_64_before(segments, at, said.disk)? {
        claims_64 = true;
        said = wide;
    }
    let saturated = said.entries == u64::from(SATURATED_16)
        || said.directory_bytes == u64::from(SATURATED)
        || said.directory_offset == u64::from(SATURATED);
    if saturated && !claims_64 && said.directory_bytes > said.directory_end {
        return Ok(None);
    }
    placed(segments, &said, comment)
}

/// The 64-bit record that belongs to an end record (sections 4.3.14 and 4.3.15), by the locator right before it.
fn end_64_before(segments: &Segments, end_at: u64, disk: u32) -> Result<Option<Said>, ZipError> {
    let Some(locator_at) = end_at.checked_sub(LOCATOR_64_BYTES as u64) else { return Ok(None) };
    let Some(locator) = segments.bytes_at(locator_at, LOCATOR_64_BYTES)? else { return Ok(None) };
    let mut cursor = Cursor::new(&locator, "64-bit locator");
    if cursor.u32()? != LOCATOR_64 {
        return Ok(None);
    }
    let (record_disk, record_offset, parts) = (cursor.u32()?, cursor.u64()?, cursor.u32()?);
    // In one file with something in front the record stands right before its locator, wherever that says it is.
    let told = segments.place(if parts > 1 { record_disk } else { 0 }, record_offset);
    let right_before = locator_at.checked_sub(END_64_BYTES as u64);
    for record_at in [told, right_before].into_iter().flatten() {
        let Some(record) = segments.bytes_at(record_at, END_64_BYTES)? else { continue };
        let mut cursor = Cursor::new(&record, "64-bit end record");
        if cursor.u32()? != END_64 {
            continue;
        }
        cursor.bytes(8 + 2 + 2)?;
        let (own_disk, directory_disk) = (cursor.u32()?, cursor.u32()?);
        let (entries_here, entries) = (cursor.u64()?, cursor.u64()?);
        let (directory_bytes, directory_offset) = (cursor.u64()?, cursor.u64()?);
        let disk = if parts > 1 { parts - 1 } else { disk.max(own_disk) };
        let disk = if disk == u32::from(SATURATED_16) { own_disk } else { disk };
        return Ok(Some(Said {
            disk,
            directory_disk,
            entries_here,
            entries,
            directory_bytes,
            directory_offset,
            directory_end: record_at,
        }));
    }
    Err(Malformed("64-bit end record").into())
}

/// Finds the directory that an end record speaks of; `None` where there is none.
fn placed(segments: &Segments, said: &Said, comment: Vec<u8>) -> Result<Option<End>, ZipError> {
    let parts = said.disk.saturating_add(1);
    if parts > MAX_PARTS {
        return Err(Malformed("number of parts").into());
    }
    if said.disk > 0 && segments.count() as u64 != u64::from(parts) {
        return Err(ZipError::Parts { parts, given: segments.count() });
    }
    let Some(close) = said.directory_end.checked_sub(said.directory_bytes) else { return Ok(None) };
    let (directory_at, before) = if said.disk > 0 {
        let Some(at) = segments.place(said.directory_disk, said.directory_offset) else { return Ok(None) };
        (at, 0)
    } else {
        let Some(before) = close.checked_sub(said.directory_offset) else { return Ok(None) };
        (close, before)
    };
    if directory_at.checked_add(said.directory_bytes).is_none_or(|end| end > said.directory_end) {
        return Ok(None);
    }
    let starts = segments.bytes_at(directory_at, 4)?.is_some_and(|bytes| bytes == CENTRAL.to_le_bytes());
    let consistent = said.disk > 0 || said.entries_here == said.entries;
    let possible = said.entries.checked_mul(CENTRAL_BYTES as u64).is_some_and(|least| least <= said.directory_bytes);
    if !consistent || !possible || (said.entries > 0) != starts || (said.entries == 0 && said.directory_bytes > 0) {
        return Ok(None);
    }
    if said.directory_bytes > MAX_DIRECTORY_BYTES {
        return Err(ZipError::LargeDirectory(said.directory_bytes));
    }
    let (directory_bytes, entries) = (said.directory_bytes, said.entries);
    Ok(Some(End { directory_at, directory_bytes, entries, before, parts, comment }))
}

/// What the directory says of an entry (section 4.3.12).
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Central {
    pub host: u8,
    pub flags: u16,
    pub method: u16,
    pub time: u16,
    pub date: u16,
    pub crc: u32,
    pub compressed: u64,
    pub size: u64,
    pub disk: u32,
    pub attributes: u32,
    pub offset: u64,
    pub name: Vec<u8>,
    pub extra: Vec<u8>,
}

/// Every header of the directory.
pub(super) fn read_directory(segments: &Segments, end: &End, context: &Context<'_>) -> Result<Vec<Central>, ZipError> {
    let length = usize::try_from(end.directory_bytes).map_err(|_| ZipError::LargeDirectory(end.directory_bytes))?;
    let bytes = segments.bytes_at(end.directory_at, length)?.ok_or(Malformed("directory"))?;
    let mut cursor = Cursor::new(&bytes, "directory");
    let mut headers = Vec::new();
    // So many headers fit into the directory: that was seen to when the end record was believed.
    for _ in 0..end.entries {
        context.go_on()?;
        headers.push(read_central(&mut cursor)?);
    }
    // A digital signature (section 4.3.13) may follow; nothing here reads it.
    Ok(headers)
}

fn read_central(cursor: &mut Cursor<'_>) -> Result<Central, ZipError> {
    if cursor.u32()? != CENTRAL {
        return Err(Malformed("directory").into());
    }
    let (_, host, _needed) = (cursor.u8()?, cursor.u8()?, cursor.u16()?);
    let (flags, method, time, date) = (cursor.u16()?, cursor.u16()?, cursor.u16()?, cursor.u16()?);
    let (crc, compressed, size) = (cursor.u32()?, cursor.u32()?, cursor.u32()?);
    let (name, extra, comment) = (cursor.u16()?, cursor.u16()?, cursor.u16()?);
    let (disk, _internal, attributes, offset) = (cursor.u16()?, cursor.u16()?, cursor.u32()?, cursor.u32()?);
    let name = cursor.bytes(name.into())?.to_vec();
    let extra = cursor.bytes(extra.into())?.to_vec();
    cursor.bytes(comment.into())?;
    let mut header = Central {
        host,
        flags,
        method,
        time,
        date,
        crc,
        compressed: compressed.into(),
        size: size.into(),
        disk: disk.into(),
        attributes,
        offset: offset.into(),
        name,
        extra,
    };
    let wide = extras(&header.extra).find(|field| field.id == ZIP64).map(|field| field.data.to_vec());
    if let Some(wide) = wide {
        // Only what is saturated stands there, in this order.
        let mut cursor = Cursor::new(&wide, "64-bit field");
        for field in [&mut header.size, &mut header.compressed, &mut header.offset] {
            if *field == u64::from(SATURATED) {
                *field = cursor.u64()?;
            }
        }
        if header.disk == u32::from(SATURATED_16) {
            header.disk = cursor.u32()?;
        }
    }
    Ok(header)
}

/// What an entry's own header says (section 4.3.7), and where its data begins.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Local {
    pub flags: u16,
    pub method: u16,
    pub crc: u32,
    pub compressed: u64,
    pub size: u64,
    pub name: Vec<u8>,
    /// Whether sizes behind the data have 64 bits.
    pub wide: bool,
    pub data_at: u64,
}

pub(super) fn read_local(segments: &Segments, at: u64) -> Result<Local, ZipError> {
    let fixed = segments.bytes_at(at, LOCAL_BYTES)?.ok_or(Malformed("entry's header"))?;
    let mut cursor = Cursor::new(&fixed, "entry's header");
    if cursor.u32()? != LOCAL {
        return Err(Malformed("entry's header").into());
    }
    let (_, flags, method, _, _) = (cursor.u16()?, cursor.u16()?, cursor.u16()?, cursor.u16()?, cursor.u16()?);
    let (crc, compressed, size) = (cursor.u32()?, cursor.u32()?, cursor.u32()?);
    let (name_bytes, extra_bytes) = (cursor.u16()?, cursor.u16()?);
    let behind = usize::from(name_bytes) + usize::from(extra_bytes);
    let rest = segments.bytes_at(at + LOCAL_BYTES as u64, behind)?.ok_or(Malformed("entry's header"))?;
    let (name, extra) = rest.split_at(name_bytes.into());
    let mut local = Local {
        flags,
        method,
        crc,
        compressed: compressed.into(),
        size: size.into(),
        name: name.to_vec(),
        wide: false,
        data_at: at + (LOCAL_BYTES + behind) as u64,
    };
    if let Some(field) = extras(extra).find(|field| field.id == ZIP64) {
        local.wide = true;
        let mut cursor = Cursor::new(field.data, "64-bit field");
        for field in [&mut local.size, &mut local.compressed] {
            if *field == u64::from(SATURATED) {
                *field = cursor.u64()?;
            }
        }
    }
    Ok(local)
}

/// Whether what stands behind an entry's data says the same as the directory (section 4.3.9): with its signature or without,
/// with sizes of 64 bits where the local header has that field.
pub(super) fn descriptor_agrees(
    segments: &Segments,
    at: u64,
    (crc, compressed, size): (u32, u64, u64),
    wide: bool,
) -> Result<bool, ZipError> {
    let sizes = match wide {
        true => [compressed.to_le_bytes(), size.to_le_bytes()].concat(),
        false => {
            let narrow = |value: u64| u32::try_from(value).unwrap_or(SATURATED).to_le_bytes();
            [narrow(compressed), narrow(size)].concat()
        }
    };
    let plain = [&crc.to_le_bytes()[..], &sizes].concat();
    let signed = [&DESCRIPTOR.to_le_bytes()[..], &plain].concat();
    for expected in [signed, plain] {
        if segments.bytes_at(at, expected.len())?.as_ref() == Some(&expected) {
            return Ok(true);
        }
    }
    Ok(false)
}
