//! Names of the system, and names in archives: the only way between the two.
//!
//! In an archive a name is bytes, mostly UTF-8, and a path is names with slashes between them. On Unix a system's name is bytes too, and
//! both are the same. On Windows it is UTF-16: in an archive that is UTF-8, and a half of a pair of surrogates, which UTF-8 has no form
//! for, is written as if it had one, so that such a name is known for no text and comes back as it was.

use super::portability::System;
use super::system;
use std::borrow::Cow;
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

/// The bytes of a system's name.
pub fn bytes_of(name: &OsStr) -> Cow<'_, [u8]> {
    system::names::bytes_of(name)
}

/// The bytes of a path of the system, with slashes between its names.
pub fn path_bytes_of(path: &Path) -> Cow<'_, [u8]> {
    system::names::path_bytes_of(path)
}

/// The system's name of these bytes. On Windows, bytes that are no text become characters for what cannot be shown.
pub fn name_of(bytes: &[u8]) -> OsString {
    system::names::name_of(bytes)
}

/// The system's path of these bytes, in which slashes stand between names.
pub fn path_of(bytes: &[u8]) -> PathBuf {
    system::names::path_of(bytes)
}

/// The system that this is.
pub const SYSTEM: System = system::names::SYSTEM;

/// Whether a name that is no text for halves of pairs of surrogates can be here, where names may have such.
pub fn is_good_with_halves(name: &[u8]) -> bool {
    system::names::is_good_with_halves(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// What is text is the same text on either side, and comes back.
        #[test]
        fn text_comes_back(name in "[^/\\\\\0]{1,40}") {
            let (there, path) = (name_of(name.as_bytes()), path_of(name.as_bytes()));
            prop_assert_eq!(&*bytes_of(&there), name.as_bytes());
            prop_assert_eq!(&*path_bytes_of(&path), name.as_bytes());
        }
    }
}
