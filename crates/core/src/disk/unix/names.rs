//! A name of Unix is bytes.

use crate::disk::portability::System;
use std::borrow::Cow;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::io;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};
use unicode_normalization::{UnicodeNormalization as _, is_nfc};

/// Names of macOS are text.
pub const SYSTEM: System = if cfg!(target_os = "macos") { System::MacOs } else { System::Unix };

/// What macOS writes with its accents apart has them on their letters in an archive, as other systems write it: macOS finds it under
/// either name.
pub fn bytes_of(name: &OsStr) -> Cow<'_, [u8]> {
    if cfg!(target_os = "macos") { composed(name.as_bytes()) } else { Cow::Borrowed(name.as_bytes()) }
}

/// Text in Unicode's composed form (Standard Annex 15, NFC).
fn composed(name: &[u8]) -> Cow<'_, [u8]> {
    match std::str::from_utf8(name) {
        Ok(text) if !is_nfc(text) => Cow::Owned(text.nfc().collect::<String>().into_bytes()),
        _ => Cow::Borrowed(name),
    }
}

pub fn path_bytes_of(path: &Path) -> Cow<'_, [u8]> {
    Cow::Borrowed(path.as_os_str().as_bytes())
}

pub fn name_of(bytes: &[u8]) -> OsString {
    OsString::from_vec(bytes.to_vec())
}

pub fn path_of(bytes: &[u8]) -> PathBuf {
    PathBuf::from(name_of(bytes))
}

pub fn is_good_with_halves(_: &[u8]) -> bool {
    false
}

pub fn resolved(path: &Path) -> io::Result<PathBuf> {
    fs::canonicalize(path)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("K\u{fc}ste".as_bytes(), "K\u{fc}ste".as_bytes())]
    #[case("Ku\u{308}ste".as_bytes(), "K\u{fc}ste".as_bytes())]
    #[case(b"k\xfcste", b"k\xfcste")]
    fn accents_stand_on_their_letters(#[case] name: &[u8], #[case] expected: &[u8]) {
        assert_eq!(&*composed(name), expected);
    }
}
