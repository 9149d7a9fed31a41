//! Headers as they are written: local ones with room for what is known only later, central ones, and the end. 64-bit fields
//! stand where a value needs them, and only there.

use super::cipher::Strength;
use super::directory::{
    AES_FIELD, AES_METHOD, CENTRAL, COVER_FIELD, DESCRIPTOR, ENCRYPTED, END, END_64, FILE_KIND, FOLDER_ATTRIBUTE,
    FOLDER_KIND, LENGTHS_BEHIND, LINK_KIND, LOCAL, LOCATOR_64, SATURATED, UTF8, ZIP64,
};
use super::encryption::ENCRYPTION_BYTES;
use super::methods::Method;
use super::times::EXTENDED_TIME;
use crate::ground::entry::{Entry, EntryKind, Timestamp};

/// What reading needs: 2.0 for deflate and folders, 4.5 for 64-bit fields, 5.1 for AES (section 4.4.3).
const VERSION: u16 = 20;
const VERSION_64: u16 = 45;
const VERSION_AES: u16 = 51;

/// Written on a system with POSIX modes (section 4.4.2).
const POSIX_HOST: u16 = 3 << 8;

/// From so many entries on, the 64-bit end record counts.
const SATURATED_ENTRIES: u64 = u16::MAX as u64;

/// From so many bytes on, a 32-bit length or place is saturated.
const SATURATED_BYTES: u64 = SATURATED as u64;

/// An entry as its headers describe it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Described {
    /// With slashes; a folder's ends in one.
    pub name: Vec<u8>,
    /// File, folder or link.
    pub kind: EntryKind,
    /// Permission bits.
    pub mode: u32,
    /// When it was modified.
    pub modified: Timestamp,
    /// How its data is compressed.
    pub method: Method,
    /// How it is encrypted with AES, if it is.
    pub encryption: Option<Aes>,
    /// Whether its lengths may need 64 bits, as far as that is known beforehand.
    pub wide: bool,
    /// Whether lengths and checksum stand behind the data, since nothing that is written can be changed.
    pub lengths_behind: bool,
    /// Whether its content is the archive itself.
    pub is_cover: bool,
}

/// How an entry is encrypted with AES.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Aes {
    /// 1, where a checksum of the content stands beside the authentication code, or 2.
    pub version: u16,
    /// How long its keys are.
    pub strength: Strength,
}

impl Aes {
    /// What is written: the second version, 256 bits.
    pub const WRITTEN: Self = Self { version: 2, strength: Strength::Aes256 };
}

/// What is known of an entry when all of it is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Finished {
    /// CRC-32 of the content; 0 where the authentication code stands for it.
    pub crc: u32,
    /// Bytes in the archive.
    pub compressed: u64,
    /// Bytes of the content.
    pub size: u64,
}

/// Whether an entry whose content has so many bytes may come to a length that needs 64 bits.
pub fn may_need_64(size: u64, encrypted: bool) -> bool {
    // Deflate adds at most five bytes to 32 KiB, and some for each piece (RFC 1951 section 3.2.4).
    let added = size / 32_768 * 5 + 64 * 1024 + if encrypted { ENCRYPTION_BYTES } else { 0 };
    size.saturating_add(added) >= SATURATED_BYTES
}

impl Described {
    /// An entry whose content has about so many bytes, stored by this method; a folder has none and is not encrypted.
    pub fn of(entry: &Entry, size: u64, method: Method, encrypted: bool) -> Self {
        let mut name = entry.path.as_bytes().to_vec();
        if entry.kind == EntryKind::Folder {
            name.push(b'/');
        }
        let has_content = entry.kind != EntryKind::Folder;
        let encrypted = encrypted && has_content;
        let wide = has_content && may_need_64(size, encrypted);
        let Entry { kind, mode, modified, .. } = *entry;
        let encryption = encrypted.then_some(Aes::WRITTEN);
        Self { name, kind, mode, modified, method, encryption, wide, lengths_behind: false, is_cover: false }
    }

    fn flags(&self) -> u16 {
        let utf8 = if self.name.is_ascii() || std::str::from_utf8(&self.name).is_err() { 0 } else { UTF8 };
        let encrypted = if self.encryption.is_some() { ENCRYPTED } else { 0 };
        utf8 | encrypted | self.method.flags() | if self.lengths_behind { LENGTHS_BEHIND } else { 0 }
    }

    fn version(&self, wide: bool) -> u16 {
        let for_lengths = match (self.encryption.is_some(), wide) {
            (true, _) => VERSION_AES,
            (false, true) => VERSION_64,
            (false, false) => VERSION,
        };
        for_lengths.max(self.method.version())
    }

    /// Flags, method, time and date, as both headers have them.
    fn put_common(&self, header: &mut Vec<u8>) {
        let (time, date) = wall_clock(self.modified.seconds);
        for value in [self.flags(), self.encryption.map_or(self.method.number(), |_| AES_METHOD), time, date] {
            header.extend(value.to_le_bytes());
        }
    }

    /// Extra fields that both headers have.
    fn extra(&self) -> Vec<u8> {
        let mut extra = Vec::new();
        // The field counts to 2038; later times are left to the date in the header.
        if let Ok(seconds) = i32::try_from(self.modified.seconds) {
            put_field(&mut extra, EXTENDED_TIME, &[&[1][..], &seconds.to_le_bytes()].concat());
        }
        if let Some(Aes { version, strength }) = self.encryption {
            let data =
                [&version.to_le_bytes()[..], b"AE", &[strength.number()], &self.method.number().to_le_bytes()].concat();
            put_field(&mut extra, AES_FIELD, &data);
        }
        if self.is_cover {
            put_field(&mut extra, COVER_FIELD, &[]);
        }
        extra
    }

    /// The local header (section 4.3.7), with what is known of the entry so far.
    pub fn local(&self, finished: Finished) -> Vec<u8> {
        let mut header = LOCAL.to_le_bytes().to_vec();
        header.extend(self.version(self.wide).to_le_bytes());
        self.put_common(&mut header);
        header.extend(finished.crc.to_le_bytes());
        let mut extra = self.extra();
        if self.wide {
            header.extend([0xFF; 8]);
            put_field(&mut extra, ZIP64, &[finished.size.to_le_bytes(), finished.compressed.to_le_bytes()].concat());
        } else {
            put_32(&mut header, finished.compressed);
            put_32(&mut header, finished.size);
        }
        put_lengths(&mut header, &[self.name.len(), extra.len()]);
        header.extend(&self.name);
        header.extend(extra);
        header
    }

    /// The header in the directory (section 4.3.12).
    pub fn central(&self, finished: Finished, disk: u16, offset: u64) -> Vec<u8> {
        let mut wide = Vec::new();
        // What an entry's own header has saturated, this one has too: the two must agree.
        let saturated = |value: u64| self.wide || value >= SATURATED_BYTES;
        if saturated(finished.size) {
            wide.extend(finished.size.to_le_bytes());
        }
        if saturated(finished.compressed) {
            wide.extend(finished.compressed.to_le_bytes());
        }
        if offset >= SATURATED_BYTES {
            wide.extend(offset.to_le_bytes());
        }
        let mut extra = self.extra();
        if !wide.is_empty() {
            put_field(&mut extra, ZIP64, &wide);
        }
        let version = self.version(!wide.is_empty());
        let mut header = CENTRAL.to_le_bytes().to_vec();
        header.extend((POSIX_HOST | version).to_le_bytes());
        header.extend(version.to_le_bytes());
        self.put_common(&mut header);
        header.extend(finished.crc.to_le_bytes());
        for value in [finished.compressed, finished.size] {
            if saturated(value) { header.extend([0xFF; 4]) } else { put_32(&mut header, value) }
        }
        put_lengths(&mut header, &[self.name.len(), extra.len(), 0]);
        header.extend(disk.to_le_bytes());
        header.extend([0; 2]);
        header.extend(self.attributes().to_le_bytes());
        put_32(&mut header, offset);
        header.extend(&self.name);
        header.extend(extra);
        header
    }

    /// What stands behind the data (section 4.3.9), with its signature.
    pub fn descriptor(&self, finished: Finished) -> Vec<u8> {
        let mut descriptor = [DESCRIPTOR, finished.crc].map(u32::to_le_bytes).concat();
        for value in [finished.compressed, finished.size] {
            if self.wide { descriptor.extend(value.to_le_bytes()) } else { put_32(&mut descriptor, value) }
        }
        descriptor
    }

    fn attributes(&self) -> u32 {
        let (kind, low) = match self.kind {
            EntryKind::File => (FILE_KIND, 0),
            EntryKind::Folder => (FOLDER_KIND, FOLDER_ATTRIBUTE),
            EntryKind::Link => (LINK_KIND, 0),
        };
        ((kind | (self.mode & 0o7777)) << 16) | low
    }
}

/// Where the directory is, for the end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DirectoryAt {
    /// The part, from 0, and the place in it, where it begins.
    pub disk: u16,
    /// See `disk`.
    pub offset: u64,
    /// Its bytes.
    pub bytes: u64,
    /// Its entries, and how many of their headers stand in the last part.
    pub entries: u64,
    /// See `entries`.
    pub entries_in_last: u64,
}

/// Everything behind the directory (sections 4.3.14 to 4.3.16); it begins at this part and place.
pub fn end(directory: DirectoryAt, (disk, at): (u16, u64), comment: &[u8]) -> Vec<u8> {
    let DirectoryAt { disk: directory_disk, offset, bytes, entries, entries_in_last } = directory;
    let mut end = Vec::new();
    if entries >= SATURATED_ENTRIES || bytes >= SATURATED_BYTES || offset >= SATURATED_BYTES {
        end.extend(END_64.to_le_bytes());
        // The record's length without the twelve bytes up to here.
        end.extend(44_u64.to_le_bytes());
        end.extend((POSIX_HOST | VERSION_64).to_le_bytes());
        end.extend(VERSION_64.to_le_bytes());
        end.extend(u32::from(disk).to_le_bytes());
        end.extend(u32::from(directory_disk).to_le_bytes());
        for value in [entries_in_last, entries, bytes, offset] {
            end.extend(value.to_le_bytes());
        }
        end.extend(LOCATOR_64.to_le_bytes());
        end.extend(u32::from(disk).to_le_bytes());
        end.extend(at.to_le_bytes());
        end.extend((u32::from(disk) + 1).to_le_bytes());
    }
    end.extend(END.to_le_bytes());
    end.extend(disk.to_le_bytes());
    end.extend(directory_disk.to_le_bytes());
    put_16(&mut end, entries_in_last);
    put_16(&mut end, entries);
    put_32(&mut end, bytes);
    put_32(&mut end, offset);
    put_lengths(&mut end, &[comment.len()]);
    end.extend(comment);
    end
}

/// What the first part of several begins with, and what it begins with where it stayed the only one (section 8.5).
pub const IN_PARTS: [u8; 4] = DESCRIPTOR.to_le_bytes();
/// See [`IN_PARTS`].
pub const STAYED_ONE: [u8; 4] = *b"PK00";

fn put_field(extra: &mut Vec<u8>, id: u16, data: &[u8]) {
    extra.extend(id.to_le_bytes());
    put_lengths(extra, &[data.len()]);
    extra.extend(data);
}

/// Lengths of 16 bits; names and fields here never come to more.
fn put_lengths(header: &mut Vec<u8>, lengths: &[usize]) {
    lengths.iter().for_each(|length| put_16(header, *length as u64));
}

/// A value of 16 bits, or what says that it stands elsewhere.
fn put_16(header: &mut Vec<u8>, value: u64) {
    header.extend(u16::try_from(value).unwrap_or(u16::MAX).to_le_bytes());
}

/// A value of 32 bits, or what says that it stands elsewhere.
fn put_32(header: &mut Vec<u8>, value: u64) {
    header.extend(u32::try_from(value).unwrap_or(SATURATED).to_le_bytes());
}

/// A time as the headers have it, UTC; what lies outside of 1980 to 2107 becomes the nearest that does not.
fn wall_clock(seconds: i64) -> (u16, u16) {
    // From 1980-01-01 to 2107-12-31.
    let days = seconds.div_euclid(86_400).clamp(3_652, 50_402);
    let second = match seconds.div_euclid(86_400) {
        day if day < days => 0,
        day if day > days => 86_398,
        _ => seconds.rem_euclid(86_400),
    };
    // Days of the Gregorian calendar, counted from 0000-03-01.
    let day = days + 719_468;
    let era = day.div_euclid(146_097);
    let of_era = day.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let (month, year) = if month < 10 { (month + 3, 0) } else { (month - 9, 1) };
    let year = year + year_of_era + era * 400;
    let date = ((year - 1980) << 9) | (month << 5) | day;
    let time = ((second / 3_600) << 11) | ((second / 60 % 60) << 5) | (second % 60 / 2);
    (u16::try_from(time).unwrap_or(0), u16::try_from(date).unwrap_or(0x0021))
}

#[cfg(test)]
mod tests {
    use super::super::times::modified;
    use super::*;
    use rstest::rstest;

    fn described(wide: bool) -> Described {
        let modified = Timestamp { seconds: 1_930_000_000, nanoseconds: 0 };
        Described {
            name: b"a".to_vec(),
            kind: EntryKind::File,
            mode: 0o644,
            modified,
            method: Method::Deflate,
            encryption: None,
            wide,
            lengths_behind: false,
            is_cover: false,
        }
    }

    fn has_64(header: &[u8]) -> bool {
        header.windows(2).any(|two| two == [0x01, 0x00]) && header.windows(4).any(|four| four == [0xFF; 4])
    }

    /// A length or place, one below and one above where 32 bits end, and whether a 64-bit field stands for it.
    #[rstest]
    #[case(SATURATED_BYTES - 1, false)]
    #[case(SATURATED_BYTES, true)]
    #[case(SATURATED_BYTES + 1, true)]
    fn wide_fields_stand_where_they_are_needed_and_only_there(#[case] value: u64, #[case] wide: bool) {
        let finished = Finished { crc: 7, compressed: 9, size: 9 };
        assert_eq!(has_64(&described(false).central(finished, 0, value)), wide);
        assert_eq!(has_64(&described(false).central(Finished { size: value, ..finished }, 0, 5)), wide);
        let directory = DirectoryAt { disk: 0, offset: value, bytes: 60, entries: 1, entries_in_last: 1 };
        assert_eq!(end(directory, (0, value + 60), b"").len() > 22, wide);
    }

    #[rstest]
    #[case(65_534, false)]
    #[case(65_535, true)]
    #[case(65_536, true)]
    fn many_entries_need_the_wide_end(#[case] entries: u64, #[case] wide: bool) {
        let directory = DirectoryAt { disk: 0, offset: 1, bytes: 60, entries, entries_in_last: entries };
        assert_eq!(end(directory, (0, 61), b"").len() > 22, wide);
    }

    #[test]
    fn only_an_entry_that_may_grow_so_long_has_a_wide_header() {
        assert!(!may_need_64(4_000_000_000, true) && may_need_64(SATURATED_BYTES - 20, true));
        assert!(has_64(&described(true).local(Finished::default())));
        assert!(!has_64(&described(false).local(Finished::default())));
    }

    #[rstest]
    #[case::first(315_532_800)]
    #[case::leap_day(1_709_251_198)]
    #[case::last(4_354_819_198)]
    fn a_time_comes_back(#[case] seconds: i64) {
        let (time, date) = wall_clock(seconds);
        assert_eq!(modified(time, date, &[]).seconds, seconds);
    }

    #[rstest]
    #[case::before_the_first(0, 315_532_800)]
    #[case::after_the_last(5_000_000_000, 4_354_819_198)]
    fn a_time_that_the_headers_cannot_hold_becomes_the_nearest(#[case] seconds: i64, #[case] kept: i64) {
        let (time, date) = wall_clock(seconds);
        assert_eq!(modified(time, date, &[]).seconds, kept);
    }
}
