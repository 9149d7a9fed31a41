//! Extended attributes of Unix.

use rustix::fs::XattrFlags;
use rustix::io::Errno;
use std::fs::File;
use std::io;
use std::path::Path;

/// The longest list of names that a file system gives, in bytes (Linux's `XATTR_LIST_MAX`).
const MAX_LIST_BYTES: usize = 64 * 1024;

/// Most lists are no longer than this, in bytes.
const USUAL_LIST_BYTES: usize = 256;

/// The names of the attributes that something has, of a link its own unless it is followed. What cannot be told has none.
pub fn names_at(path: &Path, follow: bool) -> Vec<Vec<u8>> {
    let list = |names: &mut [u8]| match follow {
        true => rustix::fs::listxattr(path, names),
        false => rustix::fs::llistxattr(path, names),
    };
    let mut names = vec![0; USUAL_LIST_BYTES];
    let mut length = list(&mut names);
    if length == Err(Errno::RANGE) {
        names = vec![0; MAX_LIST_BYTES];
        length = list(&mut names);
    }
    names_in(&names[..length.unwrap_or(0)])
}

/// The same of an open file.
pub fn names_of(file: &File) -> Vec<Vec<u8>> {
    let mut names = vec![0; MAX_LIST_BYTES];
    let length = rustix::fs::flistxattr(file, &mut names[..]).unwrap_or(0);
    names_in(&names[..length])
}

fn names_in(list: &[u8]) -> Vec<Vec<u8>> {
    list.split(|byte| *byte == 0).filter(|name| !name.is_empty()).map(<[u8]>::to_vec).collect()
}

/// The value of an attribute, which is an error where it is longer; `None` where there is none of this name.
pub fn value_of(file: &File, _: &Path, name: &[u8], limit: usize) -> io::Result<Option<Vec<u8>>> {
    let mut value = vec![0; limit];
    match rustix::fs::fgetxattr(file, name, &mut value[..]) {
        Ok(length) => {
            value.truncate(length);
            Ok(Some(value))
        }
        Err(Errno::NODATA | Errno::NOTSUP) => Ok(None),
        Err(errno) => Err(errno.into()),
    }
}

/// Sets an attribute; whether the file system takes it.
pub fn set(file: &File, _: &Path, name: &[u8], value: &[u8]) -> io::Result<bool> {
    match rustix::fs::fsetxattr(file, name, value, XattrFlags::empty()) {
        Ok(()) => Ok(true),
        // There is no room for attributes, or for none so long, or of such names.
        Err(
            Errno::NOTSUP | Errno::NOSPC | Errno::DQUOT | Errno::TOOBIG | Errno::RANGE | Errno::PERM | Errno::ACCESS,
        ) => Ok(false),
        Err(errno) => Err(errno.into()),
    }
}
