//! Sizes in bytes, as people write them.
//!
//! MB (10^6) and MiB (2^20) are two things, and a bare `5M` is refused rather than guessed: a wrong
//! guess makes a message bounce. Everything after this module counts in exact bytes.

use std::str::FromStr;

/// A number of bytes that a person wrote, such as `300KB`, `1.5MiB` or `65536`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Size(u64);

/// Why a text is not a size.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SizeError {
    /// There is no number at the front, or it is not a plain decimal number.
    #[error("not a size: no number in front")]
    NoNumber,
    /// A unit that can be read in two ways, with both readings in bytes.
    #[error("{letter} can mean {decimal} or {binary} bytes")]
    TwoReadings {
        /// The unit letter as it was written.
        letter: char,
        /// Bytes, if the unit is a power of 1000.
        decimal: u64,
        /// Bytes, if the unit is a power of 1024.
        binary: u64,
    },
    /// Letters after the number that name no unit.
    #[error("unknown unit {0}")]
    UnknownUnit(String),
    /// More than 2^64 - 1 bytes.
    #[error("too large")]
    TooLarge,
}

/// Decimal units (IEC 80000-13 and SI prefixes).
const DECIMAL_PREFIXES: [(char, u64); 4] =
    [('k', 1_000), ('m', 1_000_000), ('g', 1_000_000_000), ('t', 1_000_000_000_000)];

/// The binary counterparts of [`DECIMAL_PREFIXES`], in the same order (IEC 80000-13).
const BINARY_PREFIXES: [u64; 4] = [1 << 10, 1 << 20, 1 << 30, 1 << 40];

impl Size {
    /// So many bytes.
    pub const fn of(bytes: u64) -> Self {
        Self(bytes)
    }

    /// The number of bytes.
    pub const fn bytes(self) -> u64 {
        self.0
    }
}

impl FromStr for Size {
    type Err = SizeError;

    /// Reads `NUMBER[UNIT]`, with an optional space and fraction; a number alone counts bytes.
    ///
    /// # Errors
    /// [`SizeError`] says which part cannot be read.
    fn from_str(text: &str) -> Result<Self, SizeError> {
        let text = text.trim();
        let number_end = text.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(text.len());
        let (number, unit) = text.split_at(number_end);
        let unit = unit.trim_start().to_ascii_lowercase();
        match unit_bytes(&unit)? {
            Unit::Plain(factor) => scale(number, factor).map(Size),
            Unit::TwoReadings { decimal, binary } => Err(SizeError::TwoReadings {
                letter: unit.chars().next().unwrap_or_default().to_ascii_uppercase(),
                decimal: scale(number, decimal)?,
                binary: scale(number, binary)?,
            }),
        }
    }
}

enum Unit {
    Plain(u64),
    TwoReadings { decimal: u64, binary: u64 },
}

fn unit_bytes(unit: &str) -> Result<Unit, SizeError> {
    if matches!(unit, "" | "b" | "byte" | "bytes") {
        return Ok(Unit::Plain(1));
    }
    let unknown = || SizeError::UnknownUnit(unit.to_owned());
    let mut letters = unit.chars();
    let first = letters.next().ok_or_else(unknown)?;
    let place = DECIMAL_PREFIXES.iter().position(|(letter, _)| *letter == first).ok_or_else(unknown)?;
    let (decimal, binary) = (DECIMAL_PREFIXES[place].1, BINARY_PREFIXES[place]);
    match letters.as_str() {
        "b" => Ok(Unit::Plain(decimal)),
        "ib" => Ok(Unit::Plain(binary)),
        "" => Ok(Unit::TwoReadings { decimal, binary }),
        _ => Err(unknown()),
    }
}

/// A decimal number times a factor, rounded down to whole bytes, without floating point.
fn scale(number: &str, factor: u64) -> Result<u64, SizeError> {
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    if whole.is_empty() && fraction.is_empty() || fraction.contains('.') {
        return Err(SizeError::NoNumber);
    }
    let digits = |text: &str| -> Result<u128, SizeError> {
        if text.is_empty() { Ok(0) } else { text.parse().map_err(|_| SizeError::TooLarge) }
    };
    if fraction.len() > 18 {
        return Err(SizeError::TooLarge);
    }
    let tenths = 10u128.pow(u32::try_from(fraction.len()).map_err(|_| SizeError::TooLarge)?);
    let factor = u128::from(factor);
    let whole = digits(whole)?.checked_mul(factor).ok_or(SizeError::TooLarge)?;
    let part = digits(fraction)?.checked_mul(factor).ok_or(SizeError::TooLarge)? / tenths;
    whole.checked_add(part).and_then(|bytes| u64::try_from(bytes).ok()).ok_or(SizeError::TooLarge)
}

/// An exact number, digits in groups of three.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let groups: Vec<&str> =
        digits.as_bytes().rchunks(3).rev().filter_map(|group| std::str::from_utf8(group).ok()).collect();
    groups.join(",")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("300KB", Ok(300_000))]
    #[case("5 MiB", Ok(5_242_880))]
    #[case("5mb", Ok(5_000_000))]
    #[case("1.5KiB", Ok(1_536))]
    #[case(".5kB", Ok(500))]
    #[case("65536", Ok(65_536))]
    #[case("5M", Err(SizeError::TwoReadings { letter: 'M', decimal: 5_000_000, binary: 5_242_880 }))]
    #[case("MB", Err(SizeError::NoNumber))]
    #[case("", Err(SizeError::NoNumber))]
    #[case("1.2.3MB", Err(SizeError::NoNumber))]
    #[case("-5MB", Err(SizeError::UnknownUnit("-5mb".into())))]
    #[case("5 parsecs", Err(SizeError::UnknownUnit("parsecs".into())))]
    #[case("99999999999TB", Err(SizeError::TooLarge))]
    fn sizes_are_read_exactly_or_refused(#[case] text: &str, #[case] expected: Result<u64, SizeError>) {
        assert_eq!(text.parse::<Size>().map(Size::bytes), expected);
    }
}
