//! One header: fields of text and numbers in 512 bytes (POSIX.1-2024 `pax`, ustar interchange format).

use super::BLOCK_BYTES;

/// What a header says, before extended records change it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Header {
    pub name: Vec<u8>,
    pub mode: u32,
    pub size: u64,
    pub modified: i64,
    pub kind: u8,
    pub link: Vec<u8>,
}

/// Where the fields stand, each from and to.
const NAME: (usize, usize) = (0, 100);
const MODE: (usize, usize) = (100, 108);
const SIZE: (usize, usize) = (124, 136);
const MODIFIED: (usize, usize) = (136, 148);
const SUM: (usize, usize) = (148, 156);
const KIND: usize = 156;
const LINK: (usize, usize) = (157, 257);
const MAGIC: (usize, usize) = (257, 263);
const PREFIX: (usize, usize) = (345, 500);

/// The magic of ustar; another writer's has a blank where this has the zero, and mostly times in octal digits where this has
/// the prefix. Some put a prefix there all the same.
const USTAR: &[u8] = b"ustar\0";
const USTAR_OF_OTHERS: &[u8] = b"ustar ";

/// The first bit of a number that is not octal digits but binary.
const BINARY: u8 = 0x80;

/// Why a block is no header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum HeaderFlaw {
    /// Its sum is wrong.
    Sum,
    /// A number is none, or too large.
    Number,
}

impl Header {
    pub fn decode(block: &[u8; BLOCK_BYTES]) -> Result<Self, HeaderFlaw> {
        let field = |(from, to): (usize, usize)| &block[from..to];
        let told = unsigned(field(SUM)).ok_or(HeaderFlaw::Sum)?;
        if ![sum(block, u64::from), sum(block, |byte| i64::from(byte.cast_signed()).cast_unsigned())].contains(&told) {
            return Err(HeaderFlaw::Sum);
        }
        let number_in = |(from, to)| unsigned(field((from, to))).ok_or(HeaderFlaw::Number);
        let mut name = text(field(NAME)).to_vec();
        let prefix = text(field(PREFIX));
        let is_path = || prefix.iter().any(|byte| !matches!(byte, b'0'..=b'7' | b' '));
        let has_prefix = field(MAGIC) == USTAR || (field(MAGIC) == USTAR_OF_OTHERS && is_path());
        if has_prefix && !prefix.is_empty() {
            name = [prefix, b"/", &name].concat();
        }
        Ok(Self {
            name,
            mode: u32::try_from(number_in(MODE)? & 0o7777).unwrap_or(0),
            size: number_in(SIZE)?,
            modified: signed(field(MODIFIED)).ok_or(HeaderFlaw::Number)?,
            kind: block[KIND],
            link: text(field(LINK)).to_vec(),
        })
    }
}

/// The sum of a header's bytes, its own field counted as blanks. Some writers took bytes for signed.
fn sum(block: &[u8; BLOCK_BYTES], value: impl Fn(u8) -> u64) -> u64 {
    let counted = block.iter().enumerate().map(|(at, byte)| if (SUM.0..SUM.1).contains(&at) { b' ' } else { *byte });
    counted.fold(0_u64, |sum, byte| sum.wrapping_add(value(byte)))
}

/// A text, up to its first zero.
fn text(field: &[u8]) -> &[u8] {
    field.split(|byte| *byte == 0).next().unwrap_or_default()
}

/// A number: octal digits between blanks and zeros, or binary.
pub(super) fn unsigned(field: &[u8]) -> Option<u64> {
    signed(field).and_then(|value| u64::try_from(value).ok())
}

fn signed(field: &[u8]) -> Option<i64> {
    let (first, rest) = field.split_first()?;
    if first & BINARY != 0 {
        // The bit is a mark; the next one is the sign.
        let start = if first & 0x40 != 0 { -1_i64 } else { 0 };
        let first = i64::from(first & 0x3F) | (start << 6);
        return rest.iter().try_fold(first, |value, byte| value.checked_mul(256)?.checked_add(i64::from(*byte)));
    }
    let digits = field.trim_ascii_start();
    let length = digits.iter().position(|byte| !(b'0'..=b'7').contains(byte)).unwrap_or(digits.len());
    let (digits, behind) = digits.split_at(length);
    let ends = behind.iter().all(|byte| matches!(byte, 0 | b' '));
    let value =
        digits.iter().try_fold(0_i64, |value, digit| value.checked_mul(8)?.checked_add(i64::from(digit - b'0')));
    value.filter(|_| ends)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::octal(b"0000644\0", Some(0o644))]
    #[case::blanks(b"  644 \0\0", Some(0o644))]
    #[case::nothing(b"\0\0\0\0\0\0\0\0", Some(0))]
    #[case::binary(b"\x80\0\0\0\0\0\0\0\x02\x00\x00\x00", Some(8_589_934_592 >> 8))]
    #[case::below_zero(b"\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFE", Some(-2))]
    #[case::too_large(b"\x8F\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF", None)]
    #[case::no_digits(b"0000x44\0", None)]
    fn numbers_are_octal_or_binary(#[case] field: &[u8], #[case] expected: Option<i64>) {
        assert_eq!(signed(field), expected);
    }
}
