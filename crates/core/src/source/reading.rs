//! Reading one source file, and noticing when it changes meanwhile.

use super::entry::mode_and_time;
use crate::disk::{FileAction, FileError, Interruption, Links, open_regular, read_on};
use crate::ground::context::Context;
use crate::ground::entry::Timestamp;
use std::fs::File;
use std::io::{Read as _, Seek as _, SeekFrom};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// How much is read at the most of a file that said it was empty: some systems' own files say so and hold text, and so can
/// files on a network.
const READ_OF_EMPTY_BYTES: u64 = 64 * 1024 * 1024;

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
    left: u64,
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
    pub fn open(path: &Path, links: Links) -> Result<Self, FileError> {
        let (file, metadata) = open_regular(path, links)?;
        let (mode, modified) = mode_and_time(&metadata);
        let before = stamp(&metadata);
        let left = if before.size == 0 { READ_OF_EMPTY_BYTES } else { before.size };
        Ok(Self { before, file, path: path.to_owned(), left, mode, modified })
    }

    /// How long it was when it was opened, in bytes.
    pub fn size(&self) -> u64 {
        self.before.size
    }

    /// Bytes that are still to be read, if the file is as long as it said. What it grew by since is not read.
    pub fn left(&self) -> u64 {
        self.left
    }

    /// Appends the next bytes, at most `wanted`, to `output`; none where the file ends before it should.
    pub fn read(&mut self, output: &mut Vec<u8>, wanted: usize) -> Result<(), FileError> {
        let before = output.len();
        let outcome = (&self.file).take(self.left.min(wanted as u64)).read_to_end(output);
        self.left = self.left.saturating_sub((output.len() - before) as u64);
        outcome.map_err(FileError::on(FileAction::Read, &self.path))?;
        Ok(())
    }

    /// Reads on to its end, and hands on what it holds; how many bytes.
    pub fn read_on<E: From<Interruption>>(
        &mut self,
        context: &Context<'_>,
        take: impl FnMut(&[u8]) -> Result<(), E>,
    ) -> Result<u64, E> {
        let read = read_on(&self.file, &self.path, self.left, context, take)?;
        self.left = self.left.saturating_sub(read);
        Ok(read)
    }

    /// Goes on behind the next so many bytes.
    pub fn skip(&mut self, bytes: u64) -> Result<(), FileError> {
        let offset = i64::try_from(bytes).unwrap_or(i64::MAX);
        self.file.seek(SeekFrom::Current(offset)).map_err(FileError::on(FileAction::Read, &self.path))?;
        self.left = self.left.saturating_sub(bytes);
        Ok(())
    }

    /// Whether the file is still as it was when it was opened, given how many bytes were read.
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
