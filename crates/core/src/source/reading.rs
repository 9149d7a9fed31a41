//! Reading one source, a file on disk, of which it is noticed when it changes meanwhile, or a content that comes out of an archive or from a stream.

use super::entry::{SourceEntry, mode_and_time};
use super::piped::PipedContent;
use super::stream::STREAM_PATH;
use crate::disk::{FileAction, FileError, Interruption, Links, open_regular, read_on};
use crate::ground::context::Context;
use crate::ground::entry::Timestamp;
use std::fmt;
use std::fs::File;
use std::io::{Read, Seek as _, SeekFrom};
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

/// An open source.
#[derive(Debug)]
pub struct SourceFile {
    backing: Backing,
    size: u64,
    left: u64,
    /// Permission bits at opening.
    pub mode: u32,
    /// Modification time at opening.
    pub modified: Timestamp,
}

/// What is read.
#[derive(Debug)]
enum Backing {
    Disk { file: File, path: PathBuf, before: Stamp },
    Piped(PipedContent),
    Stream(Stream),
}

/// A stream that is read once.
struct Stream(Box<dyn Read + Send>);

impl fmt::Debug for Stream {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("Stream")
    }
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
        let size = before.size;
        let left = if size == 0 { READ_OF_EMPTY_BYTES } else { size };
        Ok(Self { backing: Backing::Disk { file, path: path.to_owned(), before }, size, left, mode, modified })
    }

    /// The content of this entry, which comes out of an archive.
    pub(super) const fn piped(entry: &SourceEntry, content: PipedContent) -> Self {
        let SourceEntry { size, mode, modified, .. } = *entry;
        Self { backing: Backing::Piped(content), size, left: size, mode, modified }
    }

    /// What comes from a stream, as this entry.
    pub(super) fn stream(entry: &SourceEntry, from: Box<dyn Read + Send>) -> Self {
        let SourceEntry { mode, modified, .. } = *entry;
        Self { backing: Backing::Stream(Stream(from)), size: 0, left: u64::MAX, mode, modified }
    }

    /// How long it was when it was opened, in bytes.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Bytes that are still to be read, if the file is as long as it said. What it grew by since is not read.
    pub fn left(&self) -> u64 {
        self.left
    }

    /// Appends the next bytes, at most `wanted`, to `output`; none where the file ends before it should.
    pub fn read(&mut self, output: &mut Vec<u8>, wanted: usize) -> Result<(), FileError> {
        let before = output.len();
        let most = self.left.min(wanted as u64);
        let outcome = match &mut self.backing {
            Backing::Disk { file, path, .. } => {
                let outcome = file.take(most).read_to_end(output);
                outcome.map(drop).map_err(FileError::on(FileAction::Read, path.as_path()))
            }
            Backing::Stream(Stream(from)) => {
                let outcome = from.take(most).read_to_end(output);
                outcome.map(drop).map_err(FileError::on(FileAction::Read, Path::new(STREAM_PATH)))
            }
            Backing::Piped(content) => content.read(output, usize::try_from(most).unwrap_or(usize::MAX)),
        };
        self.left = self.left.saturating_sub((output.len() - before) as u64);
        outcome
    }

    /// Reads a file on disk on to its end, and hands on what it holds; how many bytes.
    pub fn read_on<E: From<Interruption>>(
        &mut self,
        context: &Context<'_>,
        take: impl FnMut(&[u8]) -> Result<(), E>,
    ) -> Result<u64, E> {
        let Backing::Disk { file, path, .. } = &self.backing else { return Ok(0) };
        let read = read_on(file, path, self.left, context, take)?;
        self.left = self.left.saturating_sub(read);
        Ok(read)
    }

    /// Goes on behind the next so many bytes of a file on disk.
    pub fn skip(&mut self, bytes: u64) -> Result<(), FileError> {
        let offset = i64::try_from(bytes).unwrap_or(i64::MAX);
        if let Backing::Disk { file, path, .. } = &mut self.backing {
            file.seek(SeekFrom::Current(offset)).map_err(FileError::on(FileAction::Read, path.as_path()))?;
        }
        self.left = self.left.saturating_sub(bytes);
        Ok(())
    }

    /// Whether the file is still as it was when it was opened, given how many bytes were read.
    pub fn is_unchanged(&self, bytes_read: u64) -> Result<bool, FileError> {
        let (file, path, before) = match &self.backing {
            Backing::Disk { file, path, before } => (file, path, before),
            Backing::Piped(_) => return Ok(bytes_read == self.size),
            Backing::Stream(_) => return Ok(true),
        };
        let metadata = file.metadata().map_err(FileError::on(FileAction::Open, path))?;
        Ok(stamp(&metadata) == *before && bytes_read == self.size)
    }
}

fn stamp(metadata: &std::fs::Metadata) -> Stamp {
    Stamp {
        size: metadata.len(),
        modified: (metadata.mtime(), metadata.mtime_nsec()),
        status_changed: (metadata.ctime(), metadata.ctime_nsec()),
    }
}
