//! Reading one source file, and noticing when it changes meanwhile.

use super::catalogue::mode_and_time;
use crate::entry::Timestamp;
use crate::place::{FileAction, FileError, Links, open_regular};
use std::fs::File;
use std::io::{self, Read as _};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// What must stay the same while a file is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Stamp {
    size: u64,
    modified: (i64, i64),
    status_changed: (i64, i64),
}

/// An open source file.
#[derive(Debug)]
pub struct SourceFile {
    file: File,
    path: PathBuf,
    before: Stamp,
    /// Permission bits at opening.
    pub mode: u32,
    /// Modification time at opening.
    pub modified: Timestamp,
}

impl SourceFile {
    /// Opens a regular file, without waiting on anything that took its name since it was listed.
    ///
    /// # Errors
    /// [`FileError`] from the system, or where it is no regular file any more.
    pub fn open(path: &Path) -> Result<Self, FileError> {
        let (file, metadata) = open_regular(path, Links::Refuse)?;
        let (mode, modified) = mode_and_time(&metadata);
        Ok(Self { before: stamp(&metadata), file, path: path.to_owned(), mode, modified })
    }

    /// Reads the next bytes; 0 at the end.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn read(&mut self, buffer: &mut [u8]) -> Result<usize, FileError> {
        loop {
            match self.file.read(buffer) {
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                outcome => return outcome.map_err(FileError::on(FileAction::Read, &self.path)),
            }
        }
    }

    /// Whether the file is still as it was when it was opened, given how many bytes were read.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn is_unchanged(&self, bytes_read: u64) -> Result<bool, FileError> {
        let metadata = self.file.metadata().map_err(FileError::on(FileAction::Open, &self.path))?;
        Ok(stamp(&metadata) == self.before && bytes_read == self.before.size)
    }
}

fn stamp(metadata: &std::fs::Metadata) -> Stamp {
    Stamp {
        size: metadata.len(),
        modified: (metadata.mtime(), metadata.mtime_nsec()),
        status_changed: (metadata.ctime(), metadata.ctime_nsec()),
    }
}
