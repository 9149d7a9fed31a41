//! Directory records: where a file or folder lies, and what it is called (ECMA-119, 9.1). Numbers stand there twice, with
//! the lowest byte first and with the highest; where the two differ, readers would differ.

use super::{Image, IsoError};
use crate::ground::entry::Timestamp;
use crate::ground::wire::{Cursor, Malformed};

/// A record without its identifier (ECMA-119, 9.1).
const FIXED_BYTES: usize = 33;

/// Bits of the flags (ECMA-119, 9.1.6).
const FOLDER: u8 = 1 << 1;
const ASSOCIATED: u8 = 1 << 2;
const GOES_ON: u8 = 1 << 7;

/// Zones are counted in quarters of an hour (ECMA-119, 9.1.5).
const ZONE_SECONDS: i64 = 15 * 60;

/// One record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Record {
    /// The block in which it begins, what describes it included.
    pub block: u32,
    /// Blocks that describe it, before its content.
    pub described_blocks: u8,
    /// Bytes of content.
    pub bytes: u32,
    /// When it was recorded.
    pub recorded: Timestamp,
    flags: u8,
    /// Its content is not in one piece but scattered between another's.
    pub interleaved: bool,
    /// What it is called, in the tree's own alphabet; a zero or a one alone for the folder itself and the one above.
    pub identifier: Vec<u8>,
    /// What other standards have to say.
    pub system_use: Vec<u8>,
}

/// A number of two bytes, twice (ECMA-119, 7.2.3).
pub(super) fn both_u16(cursor: &mut Cursor<'_>) -> Result<u16, Malformed> {
    let (little, big) = (cursor.u16()?, cursor.array().map(u16::from_be_bytes)?);
    if little == big { Ok(little) } else { Err(cursor.malformed()) }
}

/// A number of four bytes, twice (ECMA-119, 7.3.3).
pub(super) fn both_u32(cursor: &mut Cursor<'_>) -> Result<u32, Malformed> {
    let (little, big) = (cursor.u32()?, cursor.array().map(u32::from_be_bytes)?);
    if little == big { Ok(little) } else { Err(cursor.malformed()) }
}

impl Record {
    /// Reads the record that fills these bytes.
    pub fn decode(bytes: &[u8]) -> Result<Self, Malformed> {
        let mut cursor = Cursor::new(bytes, "directory record");
        let length = usize::from(cursor.u8()?);
        if length != bytes.len() || length < FIXED_BYTES {
            return Err(cursor.malformed());
        }
        let described_blocks = cursor.u8()?;
        let (block, content_bytes) = (both_u32(&mut cursor)?, both_u32(&mut cursor)?);
        let recorded = recorded(&cursor.array()?);
        let (flags, unit, gap) = (cursor.u8()?, cursor.u8()?, cursor.u8()?);
        both_u16(&mut cursor)?;
        let identifier_bytes = usize::from(cursor.u8()?);
        let identifier = cursor.bytes(identifier_bytes)?.to_vec();
        if identifier.is_empty() {
            return Err(cursor.malformed());
        }
        // What follows begins at an even place; a record may end before it.
        if identifier_bytes.is_multiple_of(2) && !cursor.is_empty() {
            cursor.u8()?;
        }
        Ok(Self {
            block,
            described_blocks,
            bytes: content_bytes,
            recorded,
            flags,
            interleaved: unit != 0 || gap != 0,
            identifier,
            system_use: cursor.rest().to_vec(),
        })
    }

    /// A folder's own record, which stands first in it; `None` where that is malformed.
    pub fn own(image: &Image, at: u64) -> Result<Option<Self>, IsoError> {
        let sector = image.sector(at)?;
        Ok(sector.get(..usize::from(sector[0])).and_then(|bytes| Self::decode(bytes).ok()))
    }

    pub const fn is_folder(&self) -> bool {
        self.flags & FOLDER != 0
    }

    /// It belongs to a file of the same name, and is not that file.
    pub const fn is_associated(&self) -> bool {
        self.flags & ASSOCIATED != 0
    }

    /// The next record goes on with the same file.
    pub const fn goes_on(&self) -> bool {
        self.flags & GOES_ON != 0
    }

    /// Whether it stands for the folder itself, or the one above it.
    pub fn is_self_or_above(&self) -> bool {
        matches!(self.identifier.as_slice(), [0] | [1])
    }

    /// Where its content begins, in bytes.
    pub fn at(&self, block_bytes: u64) -> u64 {
        (u64::from(self.block) + u64::from(self.described_blocks)) * block_bytes
    }
}

/// A date and time in seven bytes (ECMA-119, 9.1.5). What is no date counts as 1970.
pub(super) fn recorded(bytes: &[u8; 7]) -> Timestamp {
    let [year, month, day, hour, minute, second, zone] = *bytes;
    let clock = [month, day, hour, minute, second].map(|field| i8::try_from(field).unwrap_or(-1));
    at_zone(1900 + i16::from(year), clock, zone).unwrap_or_default()
}

/// A date and time as digits, and hundredths of a second (ECMA-119, 8.4.26.1); `None` for what is no date.
pub(super) fn in_digits(bytes: &[u8; 17]) -> Option<Timestamp> {
    let number = |from: usize, to: usize| str::from_utf8(&bytes[from..to]).ok()?.parse::<i16>().ok();
    let field = |from: usize| number(from, from + 2).and_then(|field| i8::try_from(field).ok());
    let clock = [field(4)?, field(6)?, field(8)?, field(10)?, field(12)?];
    let hundredths = u32::try_from(number(14, 16)?).ok()?;
    let whole = at_zone(number(0, 4)?, clock, bytes[16])?;
    Some(Timestamp { nanoseconds: hundredths * 10_000_000, ..whole })
}

fn at_zone(year: i16, [month, day, hour, minute, second]: [i8; 5], zone: u8) -> Option<Timestamp> {
    let there = Timestamp::of_calendar(year, month, day, [hour, minute, second])?;
    let ahead = i64::from(zone.cast_signed()) * ZONE_SECONDS;
    Some(Timestamp { seconds: there.seconds - ahead, ..there })
}

/// Text in units of 16 bits, the higher byte first; what is no text is replaced.
pub(super) fn wide_text(field: &[u8]) -> String {
    let units = field.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]]));
    char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// ECMA-119 gives dates by their fields; 2031-03-04 05:06:07 is 1,930,367,167 seconds in.
    #[rstest]
    #[case::in_utc([131, 3, 4, 5, 6, 7, 0], 1_930_367_167)]
    #[case::ahead([131, 3, 4, 5, 6, 7, 4], 1_930_363_567)]
    #[case::behind([131, 3, 4, 5, 6, 7, 0xFC], 1_930_370_767)]
    #[case::leap_day([124, 2, 29, 0, 0, 0, 0], 1_709_164_800)]
    #[case::none([0; 7], 0)]
    #[case::no_such_day([131, 2, 30, 0, 0, 0, 0], 0)]
    #[case::far_too_large([255; 7], 0)]
    fn a_date_has_a_zone(#[case] bytes: [u8; 7], #[case] seconds: i64) {
        assert_eq!(recorded(&bytes), Timestamp { seconds, nanoseconds: 0 });
    }

    #[rstest]
    #[case(b"2031030405060750\x04", Some((1_930_363_567, 500_000_000)))]
    #[case(b"0000000000000000\x00", None)]
    #[case(b"2031-30405060750\x00", None)]
    fn digits_have_hundredths(#[case] bytes: &[u8; 17], #[case] expected: Option<(i64, u32)>) {
        assert_eq!(in_digits(bytes).map(|time| (time.seconds, time.nanoseconds)), expected);
    }
}
