//! Putting bytes on disk for good: open folders, new files, renames that never replace, and sync.
//!
//! Every change that Under Seal makes to a user's folders goes through a [`Folder`] and the files made in it, so that what
//! protects the user's data stands in one place; [`faults`] lets tests make any of these changes fail. [`staging`]
//! builds the all-or-nothing placing of a volume set on it. [`numbered`], [`portability`] and [`NameRules`] know names: which number in one counts
//! pieces, what other systems refuse, and what stands for a name that cannot be here.
//!
//! A newcomer who needs the system asks here first: no other floor opens a file for writing, renames or removes, or knows on which system
//! it runs. What differs between systems stands in `unix` and `windows`, which have the same functions, and are asked in the same
//! [`terms`]; only this module says which of the two there is. [`names`] is the way from a system's names to those in archives, and back.

mod attributes;
mod copying;
mod facts;
pub mod faults;
mod file;
mod folder;
mod held;
mod holes;
mod interruption;
pub mod missing;
mod name_rules;
pub mod names;
pub mod numbered;
mod origin;
mod own_name;
pub mod portability;
pub mod staging;
mod syncing;
mod terms;
mod unfinished;
#[cfg(unix)]
mod unix;
#[cfg(windows)]
mod windows;

#[cfg(unix)]
use unix as system;
#[cfg(windows)]
use windows as system;

pub use attributes::{attributes_of, has_attributes};
pub use copying::{Sha256Sum, read_on, read_through};
pub(crate) use copying::{digest_of, sum_of, sum_on};
pub use facts::{
    Stamp, has_too_many_open, identity_at, identity_of, is_in_use, is_readable, mode_here, mode_of, modified_of,
    time_here,
};
pub(crate) use file::write_all_at;
pub use file::{NewFile, ScratchFile, all_came, append, open_regular, read_up_to_at};
pub use folder::{Folder, OpenFolder};
pub use held::{HeldFolder, clear_unheld};
pub use holes::{bytes_in_holes, holes_of};
pub use interruption::Interruption;
pub(crate) use interruption::interruptible;
pub use name_rules::NameRules;
pub use origin::{OriginMark, origin_marks};
pub use own_name::{begins_with_own_name, is_own_name, own_name};
pub use syncing::{ToSync, sync_all};
pub use terms::{FileIdentity, Links, NEW_FOLDER_MODE};
pub use unfinished::Unfinished;

use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, NoRandomness};
use std::ffi::OsString;
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};

/// What was being done to a file when the system said no.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileAction {
    /// Opening it or asking for its properties.
    Open,
    /// Reading from it.
    Read,
    /// Listing a folder.
    List,
    /// Making a new file, folder or link.
    Create,
    /// Writing to it, or setting its mode or times.
    Write,
    /// Waiting until the disk holds it.
    Sync,
    /// Closing it.
    Close,
    /// Giving it its final name.
    Rename,
    /// Removing it.
    Remove,
}

impl fmt::Display for FileAction {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(match self {
            Self::Open => "open",
            Self::Read => "read",
            Self::List => "list",
            Self::Create => "create",
            Self::Write => "write",
            Self::Sync => "sync",
            Self::Close => "close",
            Self::Rename => "rename",
            Self::Remove => "remove",
        })
    }
}

/// The system refused an operation on one file or folder.
#[derive(Debug, thiserror::Error)]
#[error("cannot {action} {}", path.display())]
pub struct FileError {
    /// What was being done.
    pub action: FileAction,
    /// To which file or folder.
    pub path: PathBuf,
    /// What the system said.
    pub source: io::Error,
}

impl FileError {
    /// Attaches an action and a path to what the system said; for `map_err`.
    pub fn on(action: FileAction, path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> Self {
        let path = path.into();
        move |source| Self { action, path, source }
    }

    /// Whether the name was taken already.
    pub fn is_taken(&self) -> bool {
        self.source.kind() == io::ErrorKind::AlreadyExists
    }
}

impl Classed for FileError {
    fn class(&self) -> ErrorClass {
        if self.is_taken() { ErrorClass::Unsafe } else { ErrorClass::System }
    }
}

/// A name for something that is not finished: the prefix and a random number of 16 hexadecimal digits.
pub fn temporary_name(prefix: &str, context: &Context<'_>) -> Result<OsString, NoRandomness> {
    Ok(OsString::from(format!("{prefix}{:016x}", u64::from_le_bytes(context.random()?))))
}

/// The folder that a file lies in, as it is typed: `.` where that is not.
pub fn folder_of(file: &Path) -> &Path {
    file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// The absolute form of a path that is there, without links in it.
///
/// # Errors
/// From the system.
pub fn resolved(path: &Path) -> io::Result<PathBuf> {
    system::names::resolved(path)
}

/// The absolute form of a path, without following links and without a slash at its end.
pub fn absolute(path: &Path) -> PathBuf {
    std::path::absolute(path).unwrap_or_else(|_| path.to_owned()).components().collect()
}

/// Bytes that may still be written where this folder is, or will be made; `None` where the file system does not say.
pub fn free_bytes_for(folder: &Path) -> Option<u64> {
    absolute(folder).ancestors().find_map(|above| Folder::open(above).ok())?.free_bytes()
}
