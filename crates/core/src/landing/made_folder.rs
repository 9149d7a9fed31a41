//! A folder that an extraction has made, and what it gets in the end.

use crate::disk::names::name_of;
use crate::disk::{FileError, Folder, NEW_FOLDER_MODE};
use crate::ground::entry::{Entry, EntryPath, Timestamp};
use std::ffi::OsStr;

/// Permission bits that are restored: no set-user-id, set-group-id or sticky bit.
pub(super) const RESTORED_MODE: u32 = 0o777;

/// A folder that was made, and what it gets in the end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct MadeFolder {
    pub path: EntryPath,
    pub mode: u32,
    pub modified: Timestamp,
}

impl MadeFolder {
    /// What the folder of this entry gets in the end.
    pub fn of(entry: &Entry) -> Self {
        Self { path: entry.path.clone(), mode: entry.mode, modified: entry.modified }
    }

    /// Whether the folder of this name has the mode and the time already that it was to get.
    pub fn is_as_it_was_to_be(&self, above: &Folder, name: &OsStr) -> Result<bool, FileError> {
        // First what needs no right to open it.
        Ok(above.size_and_time_of(name)?.1 == self.modified && self.has_a_mode_of_its_own(&above.subfolder(name)?)?)
    }

    fn has_a_mode_of_its_own(&self, folder: &Folder) -> Result<bool, FileError> {
        Ok([NEW_FOLDER_MODE, self.mode & RESTORED_MODE].contains(&folder.mode()?))
    }

    /// The mode with which things can land in it meanwhile.
    pub const fn mode_meanwhile(&self) -> u32 {
        if self.mode & NEW_FOLDER_MODE == NEW_FOLDER_MODE { self.mode & RESTORED_MODE } else { NEW_FOLDER_MODE }
    }

    /// Gives it what it was to get, if it is as it was made, or as it was to be; whether it is.
    pub fn settle_if_untouched(&self, root: &Folder) -> Result<bool, FileError> {
        let folder = below(root, self.path.as_bytes())?;
        if !self.has_a_mode_of_its_own(&folder)? {
            return Ok(false);
        }
        folder.set_mode_and_time(self.mode & RESTORED_MODE, self.modified)?;
        Ok(true)
    }
}

/// The folder at a path of the archive, never through a link.
pub(super) fn below(root: &Folder, path: &[u8]) -> Result<Folder, FileError> {
    let names = path.split(|byte| *byte == b'/').filter(|name| !name.is_empty() && *name != b"." && *name != b"..");
    names.map(name_of).try_fold(root.itself()?, |folder, name| folder.subfolder(&name))
}
