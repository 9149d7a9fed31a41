//! A name of Unix is bytes.

use std::borrow::Cow;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};

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

pub fn can_be_named(_: &[u8]) -> bool {
    true
}
