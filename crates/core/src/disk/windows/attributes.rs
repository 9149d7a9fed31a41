//! What a file of Windows has beside its content: streams of other names, which NTFS keeps. None of them is packed; the one that says
//! where a file came from is read and written by its name.

use super::ORIGIN_MARKS;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

/// Packed are none.
pub fn names_at(_: &Path, _follow: bool) -> Vec<Vec<u8>> {
    Vec::new()
}

pub fn names_of(_: &File) -> Vec<Vec<u8>> {
    Vec::new()
}

fn stream(path: &Path, name: &[u8]) -> PathBuf {
    let mut stream = path.as_os_str().to_owned();
    stream.push(":");
    stream.push(String::from_utf8_lossy(name).as_ref());
    stream.into()
}

/// What a stream holds, which is an error where it is longer; `None` where there is none of this name.
pub fn value_of(_: &File, path: &Path, name: &[u8], limit: usize) -> io::Result<Option<Vec<u8>>> {
    match fs::read(stream(path, name)) {
        Ok(value) if value.len() <= limit => Ok(Some(value)),
        Ok(_) => Err(io::ErrorKind::FileTooLarge.into()),
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => Err(error),
        // File systems without streams say various things.
        Err(_) => Ok(None),
    }
}

/// Writes the stream that says where a file came from; whether the file system has such. Attributes of an archive are no streams: their
/// names could mean anything here.
pub fn set(_: &File, path: &Path, name: &[u8], value: &[u8]) -> io::Result<bool> {
    let is_mark = ORIGIN_MARKS.iter().any(|mark| mark.as_bytes() == name);
    Ok(is_mark && fs::write(stream(path, name), value).is_ok())
}
