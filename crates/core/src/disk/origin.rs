//! Where a file came from, as programs that fetch files note it in its extended attributes.

use super::{FileAction, FileError, Links, NewFile, faults, open_regular};
use std::ffi::CStr;
use std::path::Path;

/// The names under which origins are noted: freedesktop.org's "Common Extended Attributes" (`user.xdg.origin.url`,
/// `user.xdg.referrer.url`), and the mark that macOS asks about before a file is opened.
const NAMES: [&CStr; 3] = [c"user.xdg.origin.url", c"user.xdg.referrer.url", c"com.apple.quarantine"];

/// The longest value that is carried on, in bytes.
const MAX_VALUE_BYTES: usize = 16 * 1024;

/// A note of where a file came from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginMark {
    name: &'static CStr,
    value: Vec<u8>,
}

/// The marks that a file has. None where the file system has no such notes.
///
/// # Errors
/// [`FileError`] where the file cannot be opened.
pub fn origin_marks(path: &Path) -> Result<Vec<OriginMark>, FileError> {
    let (file, _) = open_regular(path, Links::Follow)?;
    let mut marks = Vec::new();
    for name in NAMES {
        let mut value = vec![0; MAX_VALUE_BYTES];
        match rustix::fs::fgetxattr(&file, name, &mut value[..]) {
            Ok(length) => {
                value.truncate(length);
                marks.push(OriginMark { name, value });
            }
            // There is none, or it is too long to be one.
            Err(rustix::io::Errno::ACCESS | rustix::io::Errno::PERM) => {
                return Err(FileError::on(FileAction::Read, path)(rustix::io::Errno::ACCESS.into()));
            }
            Err(_) => {}
        }
    }
    Ok(marks)
}

impl NewFile {
    /// Notes where the file came from. Whether the file system has room for such notes.
    pub fn mark_origin(&self, mark: &OriginMark) -> Result<bool, FileError> {
        let set = faults::before(FileAction::Write).and_then(|()| {
            Ok(rustix::fs::fsetxattr(&self.file, mark.name, &mark.value, rustix::fs::XattrFlags::empty())?)
        });
        match set {
            Err(error) if error.raw_os_error() == Some(rustix::io::Errno::NOTSUP.raw_os_error()) => Ok(false),
            outcome => outcome.map(|()| true).map_err(FileError::on(FileAction::Write, &self.path)),
        }
    }
}
