//! What volumes are called on disk. Reading never depends on it; people do.

use crate::disk::names::name_of;
use crate::disk::numbered::MAX_PIECES;
use std::ffi::{OsStr, OsString};

/// The extension of sealed volumes, with its dot.
pub const EXTENSION: &str = ".useal";

/// The extension of pages with a volume in them.
pub const PAGE_EXTENSION: &str = ".html";

/// What stands before a parcel's number.
const PARCEL: &str = "-parcel";

/// What stands before a spare volume's number.
const SPARE: &str = "-spare";

/// What follows the archive's name in the name of volume `number` of `count`: `.useal` for a single
/// one, else like `-03of07.useal`, with numbers of at least two digits and of one length.
pub fn suffix(number: u32, count: u32) -> String {
    if count == 1 {
        return EXTENSION.to_owned();
    }
    let width = count.to_string().len().max(2);
    format!("-{number:0width$}of{count:0width$}{EXTENSION}")
}

/// What follows the archive's name in the name of spare volume `number` of `count`: like `-spare1of2.useal`, with numbers of one length.
pub fn spare_suffix(number: u32, count: u32) -> String {
    numbered(SPARE, number, count)
}

/// What follows the delivery's name in the name of parcel `number` of `count`: like `-parcel1of4.useal`, with numbers of
/// one length.
pub fn parcel_suffix(number: u32, count: u32) -> String {
    numbered(PARCEL, number, count)
}

fn numbered(what: &str, number: u32, count: u32) -> String {
    let width = count.to_string().len();
    format!("{what}{number:0width$}of{count}{EXTENSION}")
}

/// The archive's name without the extension, whatever was typed: once or several times, in small letters or capitals.
pub fn without_extension(name: &OsStr) -> OsString {
    let mut bytes = name.as_encoded_bytes();
    while let Some((stem, end)) = bytes.split_at_checked(bytes.len().saturating_sub(EXTENSION.len()))
        && !stem.is_empty()
        && end.eq_ignore_ascii_case(EXTENSION.as_bytes())
    {
        bytes = stem;
    }
    name_of(bytes)
}

/// The suffix, if `name` is a volume name of the archive `stem`, or that of one of its spare volumes or parcels.
pub fn suffix_of<'a>(name: &'a OsStr, stem: &OsStr) -> Option<&'a str> {
    let suffix = std::str::from_utf8(name.as_encoded_bytes().strip_prefix(stem.as_encoded_bytes())?).ok()?;
    let numbers = suffix.strip_suffix(EXTENSION)?;
    let behind_word = [PARCEL, SPARE].iter().find_map(|word| numbers.strip_prefix(word));
    let numbers = behind_word.map_or(numbers.to_owned(), |numbers| format!("-{numbers}"));
    let ours = numbers.is_empty() || split_numbers(numbers.as_bytes()).is_some_and(|(front, _)| front.is_empty());
    ours.then_some(suffix)
}

/// Which of several parcels something is by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NamedParcel<'a> {
    /// What they are called together.
    pub delivery: &'a [u8],
    /// Which one it is.
    pub number: u32,
    /// Of how many.
    pub count: u32,
    /// What follows that in the name.
    pub rest: &'a [u8],
}

/// What a name says of the parcel that it is the name of, also where something was added behind.
pub fn parcel_named(name: &[u8]) -> Option<NamedParcel<'_>> {
    let at = last(PARCEL, name)?;
    let (delivery, behind) = (&name[..at], &name[at + PARCEL.len()..]);
    let (number, behind) = leading_number(behind)?;
    let (count, rest) = leading_number(behind.strip_prefix(b"of")?)?;
    (count <= MAX_PIECES && (1..=count).contains(&number)).then_some(NamedParcel { delivery, number, count, rest })
}

/// Where a word stands last in a name.
fn last(word: &str, name: &[u8]) -> Option<usize> {
    (0..name.len()).rev().find(|at| name[*at..].starts_with(word.as_bytes()))
}

fn leading_number(text: &[u8]) -> Option<(u32, &[u8])> {
    let (digits, rest) = text.split_at(text.iter().take_while(|byte| byte.is_ascii_digit()).count());
    Some((std::str::from_utf8(digits).ok()?.parse().ok()?, rest))
}

/// Whether a suffix is that of a parcel.
pub fn is_parcel_suffix(suffix: &str) -> bool {
    suffix.starts_with(PARCEL)
}

/// Which spare volume a suffix is that of, and of how many; `None` for any other.
pub fn spare_named(suffix: &str) -> Option<(u32, u32)> {
    let numbers = suffix.strip_prefix(SPARE)?.strip_suffix(EXTENSION)?;
    split_numbers(format!("-{numbers}").as_bytes()).filter(|(front, _)| front.is_empty()).map(|(_, numbers)| numbers)
}

/// The archive's name and the number, where a name is one that spare volumes are written under.
pub fn spare_parts(name: &OsStr) -> Option<(OsString, u32)> {
    let bytes = name.as_encoded_bytes();
    let at = last(SPARE, bytes)?;
    let (number, _) = spare_named(std::str::from_utf8(&bytes[at..]).ok()?)?;
    Some((name_of(&bytes[..at]), number))
}

/// Splits `name-03of07` into `name` and its numbers.
fn split_numbers(stem: &[u8]) -> Option<(&[u8], (u32, u32))> {
    let dash = stem.iter().rposition(|byte| *byte == b'-')?;
    let (number, count) = std::str::from_utf8(&stem[dash + 1..]).ok()?.split_once("of")?;
    let digits = |text: &str| if text.bytes().all(|b| b.is_ascii_digit()) { text.parse().ok() } else { None };
    Some((&stem[..dash], (digits(number)?, digits(count)?)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(1, 1, ".useal")]
    #[case(3, 7, "-03of07.useal")]
    #[case(12, 99, "-12of99.useal")]
    #[case(3, 1234, "-0003of1234.useal")]
    fn numbers_are_padded_to_one_length(#[case] number: u32, #[case] count: u32, #[case] expected: &str) {
        assert_eq!(suffix(number, count), expected);
        assert_eq!(suffix_of(format!("dossier{expected}").as_ref(), "dossier".as_ref()), Some(expected));
    }

    #[rstest]
    #[case(1, 2, "-spare1of2.useal")]
    #[case(3, 12, "-spare03of12.useal")]
    fn spare_volumes_are_known_again(#[case] number: u32, #[case] count: u32, #[case] expected: &str) {
        assert_eq!(spare_suffix(number, count), expected);
        assert_eq!(suffix_of(format!("dossier{expected}").as_ref(), "dossier".as_ref()), Some(expected));
        assert_eq!(spare_named(expected), Some((number, count)));
        assert_eq!(spare_named(&suffix(number, count)), None);
        assert_eq!(spare_parts(format!("dossier{expected}").as_ref()), Some(("dossier".into(), number)));
    }

    #[rstest]
    #[case(1, 4, "-parcel1of4.useal")]
    #[case(3, 12, "-parcel03of12.useal")]
    fn parcels_are_known_again(#[case] number: u32, #[case] count: u32, #[case] expected: &str) {
        assert_eq!(parcel_suffix(number, count), expected);
        assert_eq!(suffix_of(format!("dossier{expected}").as_ref(), "dossier".as_ref()), Some(expected));
        let named = format!("dossier{expected} (1)");
        let delivery = "dossier".as_bytes();
        assert_eq!(parcel_named(named.as_bytes()), Some(NamedParcel { delivery, number, count, rest: b".useal (1)" }));
    }

    #[rstest]
    #[case("dossier-parcel")]
    #[case("dossier-parcel1of")]
    #[case("dossier-parcel5of4.useal")]
    #[case("dossier-parcel0of4.useal")]
    #[case("dossier-parcel1of70000.useal")]
    #[case("dossier-parcel1of99999999999.useal")]
    #[case("dossier-1of4.useal")]
    fn names_of_others_are_not_taken_for_parcels(#[case] name: &str) {
        assert_eq!(parcel_named(name.as_bytes()), None);
    }

    #[rstest]
    #[case("dossier-parcel.useal")]
    #[case("dossier-notes.useal")]
    #[case("dossier-1of2-1of2.useal")]
    #[case("dossier-1of2")]
    #[case("dossier-+1of2.useal")]
    #[case("other.useal")]
    fn names_of_others_are_not_taken_for_volumes(#[case] name: &str) {
        assert_eq!(suffix_of(name.as_ref(), "dossier".as_ref()), None);
    }
}
