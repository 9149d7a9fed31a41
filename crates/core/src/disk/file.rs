//! Single files: opening one to read without waiting, writing a new one, and a scratch file that has no name.

use super::terms::Links;
use super::{FileAction, FileError, faults, system};
use crate::ground::entry::Timestamp;
use crate::ground::retrying::uninterrupted;
use std::fs::{File, Metadata, TryLockError};
use std::io::{self, Write as _};
use std::num::NonZeroU64;
use std::path::{Path, PathBuf};

/// After so many new bytes of a file the system is asked to begin writing them out, so that the sync in the end has
/// little left to wait for.
const WRITE_OUT_BYTES: u64 = 16 * 1024 * 1024;

/// So many bytes are read at once.
const READ_BYTES: usize = 256 * 1024;

/// Opens a regular file for reading; never waits on a pipe or device.
///
/// # Errors
/// [`FileError`] from the system, or where the path is no regular file.
pub fn open_regular(path: &Path, links: Links) -> Result<(File, Metadata), FileError> {
    let opened = || FileError::on(FileAction::Open, path);
    let file = system::files::open_to_read(path, links).map_err(opened())?;
    let metadata = file.metadata().map_err(opened())?;
    if metadata.is_file() {
        Ok((file, metadata))
    } else {
        Err(opened()(io::Error::new(io::ErrorKind::InvalidInput, "it is no regular file")))
    }
}

/// Reads a file from an offset on, until the buffer is full or the file ends; how many bytes.
///
/// # Errors
/// From the system.
pub fn read_up_to_at(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buffer.len() {
        let at = offset.saturating_add(filled as u64);
        match uninterrupted(|| system::files::read_at(file, &mut buffer[filled..], at))? {
            0 => break,
            count => filled += count,
        }
    }
    Ok(filled)
}

/// That all the bytes came that were wanted.
///
/// # Errors
/// [`io::ErrorKind::UnexpectedEof`] where the end came before.
pub fn all_came(filled: usize, wanted: usize) -> io::Result<()> {
    if filled == wanted { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

/// Appends bytes to a file, which is made where it is not there, and waits until the disk holds them. What has the name must be a
/// file itself: no link, and nothing that would be waited for.
pub fn append(path: &Path, bytes: &[u8]) -> Result<(), FileError> {
    let failed = || FileError::on(FileAction::Write, path);
    let mut file = system::files::open_to_append(path).map_err(failed())?;
    if !file.metadata().map_err(failed())?.is_file() {
        return Err(failed()(io::Error::new(io::ErrorKind::InvalidInput, "it is not a file")));
    }
    file.write_all(bytes).and_then(|()| file.sync_all()).map_err(failed())
}

/// A file being written, with the path to name it by in errors.
#[derive(Debug)]
pub struct NewFile {
    pub(super) file: File,
    pub(super) path: PathBuf,
    /// Bytes appended so far, and how many of them the system was asked to begin writing out.
    written: u64,
    begun: u64,
}

impl NewFile {
    pub(super) fn new(file: File, path: PathBuf) -> Self {
        Self { file, path, written: 0, begun: 0 }
    }

    /// Appends bytes.
    ///
    /// # Errors
    /// [`FileError`] from the system, a full disk included.
    pub fn write(&mut self, bytes: &[u8]) -> Result<(), FileError> {
        let (bytes, outcome) = faults::before_writing(bytes);
        // Not where the file is: on some systems whatever is read or written at a place moves that.
        write_all_at(&self.file, bytes, self.written)
            .and(outcome)
            .map_err(FileError::on(FileAction::Write, &self.path))?;
        self.written += bytes.len() as u64;
        if self.written - self.begun >= WRITE_OUT_BYTES {
            self.begin_writing_out();
        }
        Ok(())
    }

    /// Appends so many zeros as a hole, which takes no room on file systems that have such.
    ///
    /// # Errors
    /// [`FileError`] from the system; where there are no holes, a full disk included.
    pub fn append_hole(&mut self, bytes: u64) -> Result<(), FileError> {
        self.written = self.written.saturating_add(bytes);
        faults::before(FileAction::Write)
            .and_then(|()| self.file.set_len(self.written))
            .map_err(FileError::on(FileAction::Write, &self.path))
    }

    /// Overwrites bytes at an offset from the file's beginning.
    pub fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<(), FileError> {
        write_at(&self.file, offset, bytes).map_err(FileError::on(FileAction::Write, &self.path))
    }

    /// Sets permission bits and modification time, on the open file.
    pub fn set_mode_and_time(&self, mode: u32, modified: Timestamp) -> Result<(), FileError> {
        set_mode_and_time(&self.file, mode, modified).map_err(FileError::on(FileAction::Write, &self.path))
    }

    /// Reads the file from its beginning to its end, and hands on what it holds; how many bytes.
    ///
    /// # Errors
    /// [`FileError`], or what `take` comes upon.
    pub fn read_through(&self, mut take: impl FnMut(&[u8]) -> Result<(), FileError>) -> Result<u64, FileError> {
        let (mut buffer, mut length) = (vec![0; READ_BYTES], 0);
        loop {
            let read = uninterrupted(|| system::files::read_at(&self.file, &mut buffer, length));
            match read.map_err(FileError::on(FileAction::Read, &self.path))? {
                0 => return Ok(length),
                count => {
                    take(&buffer[..count])?;
                    length += count as u64;
                }
            }
        }
    }

    /// Whether the disk holds what this is the digest of, once the file is synced. `read` is told of what was read, in bytes.
    pub fn holds(&self, expected: &blake3::Hasher, mut read: impl FnMut(u64)) -> Result<bool, FileError> {
        self.drop_cached_pages();
        let mut back = blake3::Hasher::new();
        self.read_through(|bytes| {
            back.update(bytes);
            read(bytes.len() as u64);
            Ok(())
        })?;
        Ok(back.finalize() == expected.finalize())
    }

    /// Waits until the disk holds the file.
    ///
    /// # Errors
    /// [`FileError`] from the system; some systems tell of a full or broken disk only here.
    pub fn sync(&self) -> Result<(), FileError> {
        faults::before(FileAction::Sync)
            .and_then(|()| self.file.sync_all())
            .map_err(FileError::on(FileAction::Sync, &self.path))
    }

    /// Lets the system drop the synced file's pages from its cache, so that a later reading comes from the
    /// disk. Only a hint: a system that keeps the pages still gives back what was written.
    pub fn drop_cached_pages(&self) {
        system::files::drop_cached(&self.file, 0, None);
    }

    /// Lets the system begin to write out what it still holds in its cache, without waiting. A hint.
    fn begin_writing_out(&mut self) {
        let length = NonZeroU64::new(self.written - self.begun);
        system::files::drop_cached(&self.file, self.begun, length);
        self.begun = self.written;
    }

    /// Closes the file.
    ///
    /// # Errors
    /// [`FileError`] from the system; some tell only here that what was written is lost.
    pub fn close(self) -> Result<(), FileError> {
        faults::before(FileAction::Close)
            .and_then(|()| system::files::close(self.file))
            .map_err(FileError::on(FileAction::Close, &self.path))
    }

    /// Waits until the disk holds the file, lets the system drop its pages, so that it is read back from there, and closes it.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn finish(self) -> Result<(), FileError> {
        self.sync()?;
        self.drop_cached_pages();
        self.close()
    }

    /// Locks the file for this process, until it is closed; waits for whoever has it locked. Where the file system has no locks,
    /// nothing comes of it.
    pub fn lock(&self) {
        let _ = self.file.lock();
    }

    /// Locks the file for this process, until it is closed. Whether nobody else holds the lock; a file system without
    /// locks cannot tell, and counts as nobody.
    pub fn try_lock(&self) -> bool {
        !matches!(self.file.try_lock(), Err(TryLockError::WouldBlock))
    }
}

fn write_at(file: &File, offset: u64, bytes: &[u8]) -> io::Result<()> {
    let (bytes, outcome) = faults::before_writing(bytes);
    write_all_at(file, bytes, offset).and(outcome)
}

/// Overwrites bytes of a file from an offset on.
///
/// # Errors
/// From the system.
pub(crate) fn write_all_at(file: &File, mut bytes: &[u8], mut offset: u64) -> io::Result<()> {
    while !bytes.is_empty() {
        match uninterrupted(|| system::files::write_at(file, bytes, offset))? {
            0 => return Err(io::ErrorKind::WriteZero.into()),
            count => (bytes, offset) = (&bytes[count..], offset.saturating_add(count as u64)),
        }
    }
    Ok(())
}

/// Permission bits and modification time, given to an open file or folder.
pub(super) fn set_mode_and_time(file: &File, mode: u32, modified: Timestamp) -> io::Result<()> {
    faults::before(FileAction::Write)?;
    system::files::set_mode_and_time(file, mode, modified)
}

/// A file without a name: it is gone when it is closed, or when the process ends, however that happens.
#[derive(Debug)]
pub struct ScratchFile {
    file: File,
    path: PathBuf,
}

impl ScratchFile {
    pub(super) fn new(file: File, path: PathBuf) -> Self {
        Self { file, path }
    }

    /// Writes bytes at an offset.
    pub fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), FileError> {
        write_at(&self.file, offset, bytes).map_err(FileError::on(FileAction::Write, &self.path))
    }

    /// Fills the buffer with the bytes from an offset on.
    pub fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), FileError> {
        read_up_to_at(&self.file, buffer, offset)
            .and_then(|filled| all_came(filled, buffer.len()))
            .map_err(FileError::on(FileAction::Read, &self.path))
    }
}
