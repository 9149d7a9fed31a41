//! Where a file came from, as programs that fetch files note it.

use super::{FileAction, FileError, Links, NewFile, faults, open_regular, system};
use std::io;
use std::path::Path;

/// The longest value that is carried on, in bytes.
const MAX_VALUE_BYTES: usize = 16 * 1024;

/// A note of where a file came from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginMark {
    name: &'static str,
    value: Vec<u8>,
}

/// The marks that a file has. None where the file system has no such notes.
///
/// # Errors
/// [`FileError`] where the file cannot be opened.
pub fn origin_marks(path: &Path) -> Result<Vec<OriginMark>, FileError> {
    let (file, _) = open_regular(path, Links::Follow)?;
    let mut marks = Vec::new();
    for name in system::ORIGIN_MARKS {
        match system::attributes::value_of(&file, path, name.as_bytes(), MAX_VALUE_BYTES) {
            Ok(value) => marks.extend(value.map(|value| OriginMark { name, value })),
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
                return Err(FileError::on(FileAction::Read, path)(error));
            }
            // It is too long to be one.
            Err(_) => {}
        }
    }
    Ok(marks)
}

impl NewFile {
    /// Notes where the file came from. Whether the file system has room for such notes.
    pub fn mark_origin(&self, mark: &OriginMark) -> Result<bool, FileError> {
        faults::before(FileAction::Write)
            .and_then(|()| system::attributes::set(&self.file, &self.path, mark.name.as_bytes(), &mark.value))
            .map_err(FileError::on(FileAction::Write, &self.path))
    }
}
