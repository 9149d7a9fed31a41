//! Names in headers: UTF-8 where a bit or a field says so, else an old code page; and slashes, whoever wrote them.

use super::directory::{Extra, extras};
use std::borrow::Cow;

/// An entry's name in UTF-8, for writers that set no bit (section 4.6.9).
const UNICODE_PATH: u16 = 0x7075;

/// Code page 437 from 0x80 on (appendix D of the application note).
const CODE_PAGE_437: &str = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u{a0}";

/// Systems whose names have backslashes between folders (section 4.4.2): those that came with FAT and its kin.
const BACKSLASH_HOSTS: [u8; 4] = [0, 10, 11, 14];

/// The name of an entry, as bytes with slashes.
pub(super) fn name(raw: &[u8], is_utf8: bool, host: u8, extra: &[u8]) -> Vec<u8> {
    let unicode = extras(extra).filter(|field| field.id == UNICODE_PATH).find_map(|Extra { data, .. }| {
        let (version, rest) = data.split_first()?;
        let (sum, name) = rest.split_first_chunk::<4>()?;
        (*version == 1 && u32::from_le_bytes(*sum) == crc32fast::hash(raw)).then_some(name)
    });
    let name: Cow<'_, [u8]> = match unicode {
        Some(name) => name.into(),
        None if is_utf8 || raw.is_ascii() => raw.into(),
        None => raw.iter().map(|byte| of_code_page(*byte)).collect::<String>().into_bytes().into(),
    };
    let mut name = name.into_owned();
    if BACKSLASH_HOSTS.contains(&host) && !name.contains(&b'/') {
        name.iter_mut().filter(|byte| **byte == b'\\').for_each(|byte| *byte = b'/');
    }
    // A drive's letter names a place outside of any folder, like a slash in front.
    if let [letter, b':', ..] = name.as_slice()
        && letter.is_ascii_alphabetic()
        && BACKSLASH_HOSTS.contains(&host)
    {
        name.insert(0, b'/');
    }
    name
}

fn of_code_page(byte: u8) -> char {
    match byte.checked_sub(0x80) {
        Some(place) => CODE_PAGE_437.chars().nth(place.into()).unwrap_or(char::REPLACEMENT_CHARACTER),
        None => char::from(byte),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn unicode_path(raw: &[u8], name: &str) -> Vec<u8> {
        let data = [&[1][..], &crc32fast::hash(raw).to_le_bytes(), name.as_bytes()].concat();
        [&UNICODE_PATH.to_le_bytes(), &(data.len() as u16).to_le_bytes(), data.as_slice()].concat()
    }

    /// Bytes in a header, whether they are UTF-8, the system, an extra field, and the name.
    #[rstest]
    #[case::ascii(b"a/b.txt", false, 3, vec![], "a/b.txt")]
    #[case::utf8("Überblick".as_bytes(), true, 3, vec![], "Überblick")]
    #[case::code_page(b"\x9Aberblick \xE1", false, 3, vec![], "Überblick ß")]
    #[case::field(b"_berblick", false, 0, unicode_path(b"_berblick", "Überblick"), "Überblick")]
    #[case::field_of_another_name(b"_berblick", false, 0, unicode_path(b"x", "Überblick"), "_berblick")]
    #[case::backslashes(b"a\\b", false, 0, vec![], "a/b")]
    #[case::a_backslash_in_a_name(b"a\\b", false, 3, vec![], "a\\b")]
    #[case::drive(b"C:\\x", false, 0, vec![], "/C:/x")]
    #[case::a_colon_in_a_name(b"C:x", false, 3, vec![], "C:x")]
    fn names_are_read_as_their_writer_meant_them(
        #[case] raw: &[u8],
        #[case] is_utf8: bool,
        #[case] host: u8,
        #[case] extra: Vec<u8>,
        #[case] expected: &str,
    ) {
        assert_eq!(String::from_utf8(name(raw, is_utf8, host, &extra)).unwrap(), expected);
    }

    #[test]
    fn the_code_page_has_a_letter_for_every_byte() {
        assert_eq!(CODE_PAGE_437.chars().count(), 128);
    }
}
