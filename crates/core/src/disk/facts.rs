//! What the system says of a file: its mode and time, which file it is whatever it is called, and whether it changed.

use super::terms::{FileIdentity, Links};
use super::{FileAction, FileError, system};
use crate::ground::entry::{EntryKind, Timestamp};
use std::fs::{File, Metadata};
use std::io;
use std::path::Path;

/// What is different in a file that was written to, as far as the system tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// Its length in bytes.
    pub size: u64,
    /// When it was last modified.
    modified: Timestamp,
    /// When anything of it last changed, where that is told apart.
    status_changed: Option<Timestamp>,
}

impl Stamp {
    /// That of a file as it is now.
    pub fn of(metadata: &Metadata) -> Self {
        let modified = modified_of(metadata);
        Self { size: metadata.len(), modified, status_changed: system::facts::status_changed_of(metadata) }
    }
}

/// Permission bits, as entries hold them: on a system without such, the usual ones, without those for writing where a file is only to be
/// read.
pub fn mode_of(metadata: &Metadata) -> u32 {
    system::facts::mode_of(metadata)
}

/// What a mode that was given to something of this kind here is afterwards: not every system has all of its bits.
pub fn mode_here(mode: u32, kind: EntryKind) -> u32 {
    system::facts::mode_here(mode, kind)
}

/// What a time that was given to something here is afterwards: not every system counts in nanoseconds.
pub fn time_here(time: Timestamp) -> Timestamp {
    system::facts::time_here(time)
}

/// When something was last modified.
pub fn modified_of(metadata: &Metadata) -> Timestamp {
    system::facts::modified_of(metadata)
}

/// Which file is open here.
///
/// # Errors
/// From the system.
pub fn identity_of(file: &File, metadata: &Metadata) -> io::Result<FileIdentity> {
    system::facts::identity_of(file, metadata)
}

/// Which file, folder or link is at a path, and how many names it has.
///
/// # Errors
/// [`FileError`] from the system.
pub fn identity_at(path: &Path, metadata: &Metadata, links: Links) -> Result<(FileIdentity, u64), FileError> {
    system::facts::identity_at(path, metadata, links).map_err(FileError::on(FileAction::Open, path))
}

/// Whether the system said no since another program has the file open.
pub fn is_in_use(error: &io::Error) -> bool {
    error.raw_os_error().is_some_and(system::facts::is_in_use)
}

/// Whether the system said no since too many files are open.
pub fn has_too_many_open(error: &io::Error) -> bool {
    error.raw_os_error().is_some_and(system::facts::has_too_many_open)
}

/// Whether this user may read what is at a path.
pub fn is_readable(path: &Path) -> bool {
    system::facts::is_readable(path)
}
