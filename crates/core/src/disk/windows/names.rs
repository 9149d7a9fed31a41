//! A name of Windows is UTF-16, in which a surrogate may stand alone.

use crate::disk::portability::{System, is_good_on};
use std::borrow::Cow;
use std::ffi::{OsStr, OsString};
use std::io;
use std::os::windows::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};

pub const SYSTEM: System = System::Windows;

/// Surrogates, which stand for nothing alone (Unicode, D71 to D74), and their form in bytes as if they were characters.
const SURROGATES: std::ops::RangeInclusive<u16> = 0xD800..=0xDFFF;
const SURROGATE_LEAD: u8 = 0xED;

pub fn bytes_of(name: &OsStr) -> Cow<'_, [u8]> {
    if let Some(text) = name.to_str() {
        return Cow::Borrowed(text.as_bytes());
    }
    let mut bytes = Vec::new();
    for unit in char::decode_utf16(name.encode_wide()) {
        match unit {
            Ok(letter) => bytes.extend(letter.encode_utf8(&mut [0; 4]).bytes()),
            Err(half) => {
                let half = half.unpaired_surrogate();
                let [high, low] = [(half >> 6) & 0x3F, half & 0x3F].map(|bits| 0x80 | bits as u8);
                bytes.extend([SURROGATE_LEAD, high, low]);
            }
        }
    }
    Cow::Owned(bytes)
}

pub fn path_bytes_of(path: &Path) -> Cow<'_, [u8]> {
    match bytes_of(path.as_os_str()) {
        Cow::Borrowed(bytes) if !bytes.contains(&b'\\') => Cow::Borrowed(bytes),
        bytes => {
            let one = |byte: &u8| if *byte == b'\\' { b'/' } else { *byte };
            Cow::Owned(bytes.iter().map(one).collect())
        }
    }
}

pub fn name_of(bytes: &[u8]) -> OsString {
    if let Ok(text) = std::str::from_utf8(bytes) {
        return text.into();
    }
    let mut units = Vec::new();
    let mut left = bytes;
    while !left.is_empty() {
        let (text, behind) = match std::str::from_utf8(left) {
            Ok(text) => (text, &[][..]),
            Err(error) => {
                let (text, behind) = left.split_at(error.valid_up_to());
                (std::str::from_utf8(text).unwrap_or_default(), behind)
            }
        };
        units.extend(text.encode_utf16());
        left = match behind {
            [] => behind,
            [SURROGATE_LEAD, high @ 0xA0..=0xBF, low @ 0x80..=0xBF, rest @ ..] => {
                let half = 0xD000 | u16::from(high & 0x3F) << 6 | u16::from(low & 0x3F);
                debug_assert!(SURROGATES.contains(&half));
                units.push(half);
                rest
            }
            [_, rest @ ..] => {
                units.extend("\u{FFFD}".encode_utf16());
                rest
            }
        };
    }
    OsString::from_wide(&units)
}

pub fn path_of(bytes: &[u8]) -> PathBuf {
    bytes.split(|byte| *byte == b'/').map(name_of).collect()
}

/// A half of a pair of surrogates stands for nothing, and is in names all the same.
pub fn is_good_with_halves(name: &[u8]) -> bool {
    let there = name_of(name);
    *bytes_of(&there) == *name && is_good_on(System::Windows, there.to_string_lossy().as_bytes())
}

/// As people write it, where such a path can be so long.
pub fn resolved(path: &Path) -> io::Result<PathBuf> {
    dunce::canonicalize(path)
}
