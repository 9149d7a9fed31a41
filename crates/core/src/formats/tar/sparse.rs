//! Files with holes: only what is not zero is stored, and a map says where it belongs. Other writers have four ways to tell
//! the map: in the header and blocks behind it, in records (two of them), and in front of the content.

use super::header::unsigned;
use super::{BLOCK_BYTES, MAX_RECORDS_BYTES};

/// A map has no more parts than this.
const MAX_PARTS: usize = (MAX_RECORDS_BYTES / 4) as usize;

/// Where in a header of this kind the map's parts, the mark that it goes on, and the real length stand.
const PARTS: std::ops::Range<usize> = 386..482;
const GOES_ON: usize = 482;
const REAL_SIZE: std::ops::Range<usize> = 483..495;

/// The same in a block behind it.
const MORE_PARTS: std::ops::Range<usize> = 0..504;
const GOES_ON_STILL: usize = 504;

/// A part in a header: where it belongs and its length, twelve digits each.
const PART_BYTES: usize = 24;

/// Bytes that are stored, and where they belong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Part {
    pub at: u64,
    pub bytes: u64,
}

/// A whole map: parts in order, none over another, all within the real length.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Map {
    pub parts: Vec<Part>,
    pub real_size: u64,
}

/// What records say of a file with holes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct SparseRecords {
    pub name: Option<Vec<u8>>,
    pub real_size: Option<u64>,
    /// Places and lengths by turns.
    pub numbers: Vec<u64>,
    /// The map stands in front of the content.
    pub in_front: bool,
}

impl SparseRecords {
    /// Takes a record, by the key behind what all these begin with; `None` where it is malformed.
    pub fn take(&mut self, key: &[u8], value: &[u8]) -> Option<()> {
        let number = |value: &[u8]| std::str::from_utf8(value).ok()?.parse::<u64>().ok();
        match key {
            b"name" => self.name = Some(value.to_vec()),
            b"size" | b"realsize" => self.real_size = Some(number(value)?),
            b"offset" | b"numbytes" => self.numbers.push(number(value)?),
            b"map" => self.numbers = value.split(|byte| *byte == b',').map(number).collect::<Option<_>>()?,
            b"major" => self.in_front = number(value)? >= 1,
            _ => {}
        }
        Some(())
    }
}

impl Map {
    /// The map of places and lengths by turns; `None` where it contradicts itself or what is stored.
    pub fn new(numbers: &[u64], real_size: u64, stored: u64) -> Option<Self> {
        let (pairs, odd) = numbers.as_chunks::<2>();
        let parts: Vec<Part> = pairs.iter().map(|[at, bytes]| Part { at: *at, bytes: *bytes }).collect();
        let mut end = 0;
        let mut sum = 0_u64;
        for part in &parts {
            if part.at < end {
                return None;
            }
            end = part.at.checked_add(part.bytes)?;
            sum = sum.checked_add(part.bytes)?;
        }
        (odd.is_empty() && end <= real_size && sum == stored).then_some(Self { parts, real_size })
    }

    /// Bytes that are nowhere stored.
    pub fn holes(&self) -> u64 {
        self.real_size.saturating_sub(self.parts.iter().map(|part| part.bytes).sum())
    }
}

/// The numbers in a header of this kind; whether they go on in a block behind it; the real length.
pub(super) fn in_header(block: &[u8; BLOCK_BYTES]) -> Option<(Vec<u64>, bool, u64)> {
    Some((numbers(&block[PARTS])?, block[GOES_ON] != 0, unsigned(&block[REAL_SIZE])?))
}

/// The same in a block behind it.
pub(super) fn behind_header(block: &[u8; BLOCK_BYTES], numbers_before: &mut Vec<u64>) -> Option<bool> {
    numbers_before.extend(numbers(&block[MORE_PARTS])?);
    (numbers_before.len() / 2 <= MAX_PARTS).then_some(block[GOES_ON_STILL] != 0)
}

/// Places and lengths, up to the first that is empty.
fn numbers(field: &[u8]) -> Option<Vec<u64>> {
    let parts = field.chunks_exact(PART_BYTES).take_while(|part| part[0] != 0);
    parts.flat_map(|part| [unsigned(&part[..PART_BYTES / 2]), unsigned(&part[PART_BYTES / 2..])]).collect()
}

/// A map in front of the content: how many parts, then places and lengths, each a line.
#[derive(Debug, Default)]
pub(super) struct InFront {
    numbers: Vec<u64>,
    digits: u64,
    has_digits: bool,
}

impl InFront {
    /// Takes a block; whether the map goes on in the next. `None` where it is malformed.
    pub fn take(&mut self, block: &[u8; BLOCK_BYTES]) -> Option<bool> {
        for byte in block {
            if self.is_complete() {
                break;
            }
            match byte {
                b'0'..=b'9' => {
                    self.digits = self.digits.checked_mul(10)?.checked_add(u64::from(byte - b'0'))?;
                    self.has_digits = true;
                }
                b'\n' if self.has_digits => {
                    self.numbers.push(std::mem::take(&mut self.digits));
                    self.has_digits = false;
                }
                _ => return None,
            }
        }
        let few = self.numbers.first().is_none_or(|parts| *parts <= MAX_PARTS as u64);
        few.then_some(!self.is_complete())
    }

    fn is_complete(&self) -> bool {
        self.numbers.first().is_some_and(|parts| self.numbers.len() as u64 > parts.saturating_mul(2))
    }

    /// Places and lengths by turns.
    pub fn numbers(&self) -> &[u64] {
        self.numbers.get(1..).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Numbers, the real length, what is stored, and the holes of a map that agrees with itself.
    #[rstest]
    #[case::a_hole_in_front(&[512, 512], 1_024, 512, Some(512))]
    #[case::a_hole_behind(&[0, 3, 9, 0], 9, 3, Some(6))]
    #[case::nothing_but_a_hole(&[], 9, 0, Some(9))]
    #[case::over_another(&[0, 3, 2, 1], 9, 4, None)]
    #[case::out_of_order(&[5, 1, 0, 1], 9, 2, None)]
    #[case::beyond_the_end(&[5, 5], 9, 5, None)]
    #[case::less_is_stored(&[0, 3], 9, 2, None)]
    #[case::half_a_part(&[0, 3, 5], 9, 3, None)]
    #[case::too_far(&[u64::MAX, 2], 9, 2, None)]
    fn a_map_agrees_with_itself(
        #[case] numbers: &[u64],
        #[case] real_size: u64,
        #[case] stored: u64,
        #[case] holes: Option<u64>,
    ) {
        assert_eq!(Map::new(numbers, real_size, stored).map(|map| map.holes()), holes);
    }

    #[rstest]
    #[case::in_one(b"2\n0\n3\n9\n1\n", Some(vec![0, 3, 9, 1]))]
    #[case::none(b"0\n", Some(vec![]))]
    #[case::no_number(b"2\nx\n", None)]
    #[case::an_empty_line(b"\n2\n", None)]
    #[case::too_many(b"99999999999\n", None)]
    #[case::much_too_many(b"99999999999999999999999999\n", None)]
    fn a_map_in_front_is_lines(#[case] text: &[u8], #[case] expected: Option<Vec<u64>>) {
        let mut block = [0; BLOCK_BYTES];
        block[..text.len()].copy_from_slice(text);
        let mut map = InFront::default();
        assert_eq!(map.take(&block).map(|_| map.numbers().to_vec()), expected);
    }
}
