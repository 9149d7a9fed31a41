//! Extended attributes of files on disk.

use super::{FileAction, FileError, NewFile, faults};
use crate::ground::attributes::{Attribute, MAX_ATTRIBUTES_BYTES, MAX_VALUE_BYTES, is_packed, is_valid};
use rustix::fs::XattrFlags;
use rustix::io::Errno;
use std::fs::File;
use std::path::Path;

/// The longest list of names that a file system gives, in bytes (Linux's `XATTR_LIST_MAX`).
const MAX_LIST_BYTES: usize = 64 * 1024;

/// Most lists are no longer than this, in bytes.
const USUAL_LIST_BYTES: usize = 256;

/// Whether what is there has attributes that could be packed; links are not followed unless that is wished. What cannot be told has none.
pub fn has_attributes(path: &Path, follow: bool) -> bool {
    let has_some = |names: &mut [u8]| {
        let length = match follow {
            true => rustix::fs::listxattr(path, &mut *names)?,
            false => rustix::fs::llistxattr(path, &mut *names)?,
        };
        Ok(names_in(&names[..length]).any(is_packed))
    };
    match has_some(&mut [0; USUAL_LIST_BYTES]) {
        Err(Errno::RANGE) => has_some(&mut vec![0; MAX_LIST_BYTES]).unwrap_or(false),
        outcome => outcome.unwrap_or(false),
    }
}

/// The attributes of an open file that go into an archive, sorted by name; those that are longer than [`MAX_ATTRIBUTES_BYTES`] together
/// are not all among them.
///
/// # Errors
/// [`FileError`] where one is there and cannot be read.
pub fn attributes_of(file: &File, path: &Path) -> Result<Vec<Attribute>, FileError> {
    let mut names = vec![0; MAX_LIST_BYTES];
    let Ok(length) = rustix::fs::flistxattr(file, &mut names[..]) else { return Ok(Vec::new()) };
    let mut names: Vec<&[u8]> = names_in(&names[..length]).filter(|name| is_packed(name)).collect();
    names.sort_unstable();
    let (mut attributes, mut bytes) = (Vec::new(), 0);
    let mut value = vec![0; MAX_VALUE_BYTES];
    for name in names {
        let length = match rustix::fs::fgetxattr(file, name, &mut value[..]) {
            Ok(length) => length,
            // It went meanwhile.
            Err(Errno::NODATA) => continue,
            Err(errno) => return Err(FileError::on(FileAction::Read, path)(errno.into())),
        };
        let attribute = Attribute { name: name.to_vec(), value: value[..length].to_vec() };
        bytes += attribute.bytes();
        if is_valid(&attribute.name, &attribute.value) && bytes <= MAX_ATTRIBUTES_BYTES {
            attributes.push(attribute);
        }
    }
    Ok(attributes)
}

fn names_in(list: &[u8]) -> impl Iterator<Item = &[u8]> {
    list.split(|byte| *byte == 0).filter(|name| !name.is_empty())
}

impl NewFile {
    /// Sets an attribute; whether the file system takes it.
    ///
    /// # Errors
    /// [`FileError`] for whatever else is wrong with the file.
    pub fn set_attribute(&self, name: &[u8], value: &[u8]) -> Result<bool, FileError> {
        let set = faults::before(FileAction::Write)
            .and_then(|()| Ok(rustix::fs::fsetxattr(&self.file, name, value, XattrFlags::empty())?));
        let refusals =
            [Errno::NOTSUP, Errno::NOSPC, Errno::DQUOT, Errno::TOOBIG, Errno::RANGE, Errno::PERM, Errno::ACCESS];
        match set {
            // There is no room for attributes, or for none so long, or of such names.
            Err(error) if refusals.iter().any(|refusal| error.raw_os_error() == Some(refusal.raw_os_error())) => {
                Ok(false)
            }
            outcome => outcome.map(|()| true).map_err(FileError::on(FileAction::Write, &self.path)),
        }
    }
}
