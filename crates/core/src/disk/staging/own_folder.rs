//! A staging folder that this user's run has made: the names of what is in it, the proof of whose it is, and why it cannot be used.

use crate::disk::names::bytes_of;
use crate::disk::{FileError, Folder, Interruption, NewFile, interruptible};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::ownership::OwnerKey;
use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

pub(super) const FOLDER_SUFFIX: &str = ".unfinished";
pub(super) const LOCK: &str = "in-use-";
pub(super) const STEPS: &str = "steps";
pub(super) const STEPS_DRAFT: &str = "steps-draft";
pub(super) const SCRATCH: &str = "scratch";
pub(super) const STAGED: &str = "volume-";
pub(super) const SET_ASIDE: &str = "set-aside-";

/// Why a set could not be staged or placed.
#[derive(Debug, thiserror::Error)]
pub enum StagingError {
    /// Another run is at work on the same target.
    #[error("{} is in use", .0.display())]
    InUse(PathBuf),
    /// Something else has the name that the staging folder needs, or nothing proves that a run of this user made it.
    #[error("{} is in the way", .0.display())]
    InTheWay(PathBuf),
    /// A file that is to be replaced is not what it was when that was decided.
    #[error("{} has changed", .0.display())]
    Changed(PathBuf),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(StagingError);

impl Classed for StagingError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::InUse(_) | Self::InTheWay(_) | Self::Changed(_) => ErrorClass::Unsafe,
        }
    }
}

/// A staging folder that this user's run has made.
#[derive(Debug)]
pub(super) struct OwnFolder {
    pub(super) target: Folder,
    pub(super) stem: OsString,
    pub(super) folder: Folder,
    /// By what its files are known as this user's.
    pub(super) key: OwnerKey,
}

impl OwnFolder {
    /// The name of the file in it that is locked while a run lives, and that proves who made the folder.
    pub(super) fn lock_name(&self) -> Result<OsString, FileError> {
        lock_name(&self.folder, &self.stem, &self.key)
    }

    /// The proof that this user's run wrote something into this very folder, for this target.
    pub(super) fn proof(&self, what: &str, content: &[u8]) -> Result<String, FileError> {
        proof(&self.folder, &self.stem, &self.key, what, content)
    }

    pub(super) fn lock(&self) -> Result<NewFile, StagingError> {
        let lock = self.folder.reopen_file(&self.lock_name()?)?;
        // Where a file system cannot tell of another run, the folder itself still stands for one.
        if lock.try_lock() { Ok(lock) } else { Err(StagingError::InUse(self.folder.path().to_owned())) }
    }
}

/// The name of the lock in this folder, which is the staging folder of the archive `stem`.
pub(super) fn lock_name(folder: &Folder, stem: &OsStr, key: &OwnerKey) -> Result<OsString, FileError> {
    Ok(OsString::from(format!("{LOCK}{}", proof(folder, stem, key, "staging folder", b"")?)))
}

fn proof(folder: &Folder, stem: &OsStr, key: &OwnerKey, what: &str, content: &[u8]) -> Result<String, FileError> {
    let number = folder.number()?.to_le_bytes();
    Ok(key.proof(what, &[&number, &bytes_of(stem), content]))
}

pub(super) fn folder_name(stem: &OsStr) -> OsString {
    with_suffix(stem, FOLDER_SUFFIX)
}

pub(super) fn with_suffix(stem: &OsStr, suffix: &str) -> OsString {
    let mut name = stem.to_owned();
    name.push(suffix);
    name
}

pub(super) fn staged_name(number: u32) -> OsString {
    format!("{STAGED}{number:05}").into()
}

pub(super) fn set_aside_name(place: usize) -> OsString {
    format!("{SET_ASIDE}{place:05}").into()
}

/// Whether this is a name that only the program gives in a staging folder.
pub(super) fn is_staging_name(name: &OsStr) -> bool {
    name.to_str().is_some_and(|name| {
        let numbered = |prefix| {
            name.strip_prefix(prefix)
                .is_some_and(|rest: &str| rest.len() >= 5 && rest.bytes().all(|b| b.is_ascii_digit()))
        };
        matches!(name, STEPS | STEPS_DRAFT | SCRATCH)
            || name.starts_with(LOCK)
            || numbered(STAGED)
            || numbered(SET_ASIDE)
    })
}
