//! Short codes that people read to each other: groups of letters and digits that are hard to mistake, each group with a
//! check character of its own, so that a slip of the tongue is noticed and placed.
//!
//! The alphabet is that of Douglas Crockford's Base 32: no I, L, O and U; what is typed or heard as I or L counts as 1, O as
//! 0, small letters as capitals. A group is four characters (20 bits) and a fifth that checks them and the group's place.

use data_encoding::{BitOrder, Encoding, Specification};

/// Characters of a group that carry something.
const CARRYING: usize = 4;

/// Characters of a group.
const GROUP: usize = CARRYING + 1;

const ALPHABET: &[u8; 32] = b"0123456789ABCDEFGHJKMNPQRSTVWXYZ";

/// The longest code that is read, in groups: more nobody types.
pub const MAX_GROUPS: usize = 64;

/// Why a text is no code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CodeError {
    /// Characters are missing, or there are too many.
    #[error("the code is too short or too long")]
    Length,
    /// A character that no code has.
    #[error("{0:?} is in no code")]
    Character(char),
    /// The check of the group with this number, from 1, is wrong.
    #[error("group {0} is mistyped")]
    Mistyped(usize),
    /// Every group is right, and the whole makes no sense.
    #[error("this is no such code")]
    Other,
}

/// Bytes as a code: `7K3MQ-0A9FX`. They are filled up with zeros to whole groups.
pub fn encode(bytes: &[u8]) -> String {
    let mut symbols: Vec<u8> = base32().encode(bytes).into_bytes();
    symbols.resize(symbols.len().next_multiple_of(CARRYING), b'0');
    let groups = symbols.chunks_exact(CARRYING).enumerate().map(|(place, group)| {
        let check = char::from(ALPHABET[usize::from(check(place, group.iter().map(|symbol| value(*symbol))))]);
        format!("{}{check}", String::from_utf8_lossy(group))
    });
    groups.collect::<Vec<_>>().join("-")
}

/// The bytes of a code, as far as they are whole; at their end stands what filled up the last group.
///
/// # Errors
/// [`CodeError`], with the first group that is wrong.
pub fn decode(text: &str) -> Result<Vec<u8>, CodeError> {
    let mut symbols = Vec::new();
    for letter in text.chars().filter(|letter| !letter.is_whitespace() && *letter != '-') {
        let symbol = match letter.to_ascii_uppercase() {
            'I' | 'L' => '1',
            'O' => '0',
            other => other,
        };
        match u8::try_from(symbol).ok().filter(|symbol| ALPHABET.contains(symbol)) {
            Some(symbol) => symbols.push(symbol),
            None => return Err(CodeError::Character(letter)),
        }
    }
    if symbols.is_empty() || !symbols.len().is_multiple_of(GROUP) || symbols.len() > MAX_GROUPS * GROUP {
        return Err(CodeError::Length);
    }
    let mut carrying = Vec::new();
    for (place, group) in symbols.chunks_exact(GROUP).enumerate() {
        let (symbols, last) = group.split_at(CARRYING);
        if check(place, symbols.iter().map(|symbol| value(*symbol))) != value(last[0]) {
            return Err(CodeError::Mistyped(place + 1));
        }
        carrying.extend_from_slice(symbols);
    }
    // Bits behind the last whole byte are zeros of no meaning.
    let whole = carrying.len() * 5 / 8;
    let needed = (whole * 8).div_ceil(5);
    base32().decode(&carrying[..needed]).map_err(|_| CodeError::Other)
}

fn base32() -> Encoding {
    let mut specification = Specification::new();
    specification.symbols.push_str(std::str::from_utf8(ALPHABET).unwrap_or_default());
    specification.bit_order = BitOrder::MostSignificantFirst;
    // Bits behind the last byte may be anything: a group's filling can reach there.
    specification.check_trailing_bits = false;
    // Thirty-two different symbols always make an encoding.
    specification.encoding().unwrap_or(data_encoding::BASE32_NOPAD)
}

fn value(symbol: u8) -> u8 {
    ALPHABET.iter().position(|known| *known == symbol).and_then(|place| u8::try_from(place).ok()).unwrap_or(0)
}

/// Odd factors have an inverse modulo 32, so any single wrong character is noticed; the place is added, so that groups in
/// another order are, too.
fn check(place: usize, values: impl Iterator<Item = u8>) -> u8 {
    let sum: usize = values.zip([1, 3, 5, 7]).map(|(value, factor)| usize::from(value) * factor).sum();
    ((sum + 11 * (place + 1)) % 32) as u8
}

/// Bytes as hexadecimal digits, small letters.
pub fn hexadecimal(bytes: &[u8]) -> String {
    data_encoding::HEXLOWER.encode(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::nothing("", CodeError::Length)]
    #[case::too_short("0000B-00", CodeError::Length)]
    #[case::too_long(&"0".repeat(325), CodeError::Length)]
    #[case::no_such_letter("0000?", CodeError::Character('?'))]
    #[case::no_ascii("000\u{e9}0", CodeError::Character('\u{e9}'))]
    fn what_is_no_code_is_told(#[case] text: &str, #[case] expected: CodeError) {
        assert_eq!(decode(text), Err(expected));
    }

    proptest! {
        #[test]
        fn a_code_comes_back_however_it_is_typed(bytes in prop::collection::vec(any::<u8>(), 1..40)) {
            let code = encode(&bytes);
            let sloppy = code.replace('-', " ").replace('0', "o").replace('1', "l").to_lowercase();
            let decoded = decode(&sloppy).unwrap();
            prop_assert!(decoded.starts_with(&bytes) && decoded[bytes.len()..].iter().all(|byte| *byte == 0));
        }

        /// Another character anywhere is noticed, and its group named.
        #[test]
        fn every_wrong_character_is_placed(bytes in prop::collection::vec(any::<u8>(), 5..20), at in 0_usize..20, other in 0_usize..32) {
            let code = encode(&bytes);
            let mut typed: Vec<u8> = code.bytes().filter(|byte| *byte != b'-').collect();
            let at = at % typed.len();
            prop_assume!(typed[at] != ALPHABET[other]);
            typed[at] = ALPHABET[other];
            prop_assert_eq!(decode(&String::from_utf8(typed).unwrap()), Err(CodeError::Mistyped(at / GROUP + 1)));
        }
    }
}
