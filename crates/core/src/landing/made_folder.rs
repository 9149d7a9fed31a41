//! A folder that an extraction has made, and what it gets in the end.

use crate::disk::names::name_of;
use crate::disk::{FileError, Folder, NEW_FOLDER_MODE};
use crate::ground::entry::{EntryPath, Timestamp};

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
    /// Gives it what it was to get, if it is as it was made, or as it was to be; whether it is.
    pub fn settle_if_untouched(&self, root: &Folder) -> Result<bool, FileError> {
        let (folder, wanted) = (below(root, self.path.as_bytes())?, self.mode & RESTORED_MODE);
        if ![NEW_FOLDER_MODE, wanted].contains(&folder.mode()?) {
            return Ok(false);
        }
        folder.set_mode_and_time(wanted, self.modified)?;
        Ok(true)
    }
}

/// The folder at a path of the archive, never through a link.
pub(super) fn below(root: &Folder, path: &[u8]) -> Result<Folder, FileError> {
    let names = path.split(|byte| *byte == b'/').filter(|name| !name.is_empty() && *name != b"." && *name != b"..");
    names.map(name_of).try_fold(root.itself()?, |folder, name| folder.subfolder(&name))
}
