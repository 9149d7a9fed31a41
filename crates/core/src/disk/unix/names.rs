//! A name of Unix is bytes.

use crate::disk::portability::System;
use std::borrow::Cow;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::io;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};

/// Names of macOS are text.
pub const SYSTEM: System = if cfg!(target_os = "macos") { System::MacOs } else { System::Unix };

pub fn bytes_of(name: &OsStr) -> Cow<'_, [u8]> {
    Cow::Borrowed(name.as_bytes())
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
