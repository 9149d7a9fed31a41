//! The marker of an extraction under way: a file at the top of the destination that is there as long as anything else
//! there may be unfinished.
//!
//! It is named `.arriving-`, the run's number and a proof that this user's run made it in this very folder; it is locked while
//! the run lives, and lists the folders in which the run has put temporary files: the marker's name, `-` and a count. If a
//! run was killed, the next one of the same user finds the marker unlocked, removes those files, and then the marker.

use crate::ownership::OwnerKey;
use crate::place::{FileError, Folder, NewFile, is_own_name, own_name};
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt as _;

const PREFIX: &str = ".arriving-";

/// What every marker begins with, for people. A NUL ends it.
const HEAD: &[u8] = b"Under Seal is extracting files here. If it was cut off, its next run in this folder clears up.\0";

/// A marker that stands.
pub(super) struct Marker {
    file: NewFile,
    name: OsString,
    /// The folder that was listed last.
    last: Option<Vec<u8>>,
}

impl Marker {
    /// Sets up the marker of the run with this random number.
    pub fn begin(root: &Folder, run: u64, key: &OwnerKey) -> Result<Self, FileError> {
        let name = own_name(root, PREFIX, run, key)?;
        let mut file = root.create_file(&name, 0o600)?;
        // Where the file system has no locks, the run's number still keeps two runs apart.
        file.try_lock();
        let begun = file.write(HEAD);
        let marker = Self { file, name, last: None };
        match begun {
            Ok(()) => Ok(marker),
            Err(error) => {
                let _ = marker.end(root);
                Err(error)
            }
        }
    }

    /// The name of the run's temporary file of this number, in the folder at this path of the archive.
    pub fn temporary(&mut self, folder: &[u8], number: u64) -> Result<OsString, FileError> {
        if self.last.as_deref() != Some(folder) {
            // Names cannot hold a NUL, so it ends each.
            self.file.write(&[folder, b"\0"].concat())?;
            self.last = Some(folder.to_vec());
        }
        let mut name = self.name.clone();
        name.push(format!("-{number}"));
        Ok(name)
    }

    /// Its name: small letters, digits and a dot.
    pub fn name(&self) -> &OsStr {
        &self.name
    }

    /// Takes the marker away: nothing is unfinished any more.
    pub fn end(self, root: &Folder) -> Result<(), FileError> {
        root.remove_file(&self.name)
    }
}

/// Whether a file of this name could be taken for a marker, or for what one speaks of.
pub(super) fn looks_arriving(name: &[u8]) -> bool {
    name.starts_with(PREFIX.as_bytes())
}

/// Removes what killed runs of this user have left. What cannot be removed stays for the next run.
pub(super) fn clear_leftovers(root: &Folder, key: &OwnerKey) {
    for name in root.names().unwrap_or_default() {
        if is_own_name(root, PREFIX, &name, key).unwrap_or(false) {
            let _ = clear(root, &name);
        }
    }
}

fn clear(root: &Folder, marker: &OsStr) -> Result<(), FileError> {
    let file = root.reopen_file(marker)?;
    if !file.try_lock() {
        return Ok(());
    }
    let prefix = [marker.as_bytes(), b"-"].concat();
    let content = root.read_bytes(marker)?.unwrap_or_default();
    // A run that was killed at once had not even written the whole head.
    let Some(folders) = content.strip_prefix(HEAD).or_else(|| HEAD.starts_with(&content).then_some(&[])) else {
        return Ok(());
    };
    for path in folders.split(|byte| *byte == 0) {
        // A folder that is gone, or became something else, holds nothing of that run.
        let Ok(folder) = below(root, path) else { continue };
        for name in folder.names()?.into_iter().filter(|name| name.as_bytes().starts_with(&prefix)) {
            match folder.kind_of(&name)? {
                Some(kind) if kind.is_dir() => folder.remove_tree(&name)?,
                _ => folder.remove_file(&name)?,
            }
        }
    }
    root.remove_file(marker)
}

/// The folder at a path of the archive, never through a link.
pub(super) fn below(root: &Folder, path: &[u8]) -> Result<Folder, FileError> {
    let names = path.split(|byte| *byte == b'/').filter(|name| !name.is_empty() && *name != b"." && *name != b"..");
    names.map(OsStr::from_bytes).try_fold(root.itself()?, |folder, name| folder.subfolder(name))
}
