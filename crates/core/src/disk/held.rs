//! Private folders that are held as long as a run lives: what a run that was killed has left in one is cleared by the next run of the
//! same user. A lock file in it, whose name proves whose it is, tells both.

use super::{FileError, Folder, NewFile, is_own_name, own_name};
use crate::ground::ownership::OwnerKey;
use std::ffi::OsStr;
use std::path::Path;

/// The lock's name begins so.
const LOCK: &str = ".held-";

/// A folder that is held. It is the caller's to remove, once this is dropped.
#[derive(Debug)]
pub struct HeldFolder {
    _lock: NewFile,
}

impl HeldFolder {
    /// Holds a folder that is there.
    ///
    /// # Errors
    /// [`FileError`].
    pub fn hold(folder: &Path, key: &OwnerKey) -> Result<Self, FileError> {
        let folder = Folder::open(folder)?;
        let lock = folder.create_file(&own_name(&folder, LOCK, 0, key)?, 0o600)?;
        lock.lock();
        Ok(Self { _lock: lock })
    }
}

/// Removes the folders in `parent` whose names begin with `prefix`, which this user's runs have provably held, and no run holds any more.
/// What cannot be seen or removed stays for the next time.
pub fn clear_unheld(parent: &Path, prefix: &str, key: &OwnerKey) {
    let Ok(parent) = Folder::open(parent) else { return };
    let names = parent.names().unwrap_or_default();
    for name in names.iter().filter(|name| name.as_encoded_bytes().starts_with(prefix.as_bytes())) {
        if is_left(&parent, name, key).unwrap_or(false) {
            let _ = parent.remove_tree(name);
        }
    }
}

fn is_left(parent: &Folder, name: &OsStr, key: &OwnerKey) -> Result<bool, FileError> {
    if !parent.kind_of(name)?.is_some_and(|kind| kind.is_dir()) {
        return Ok(false);
    }
    let folder = parent.subfolder(name)?;
    if !folder.is_only_mine()? {
        return Ok(false);
    }
    for inside in folder.names()? {
        if is_own_name(&folder, LOCK, &inside, key)? {
            return Ok(folder.reopen_file(&inside)?.try_lock());
        }
    }
    Ok(false)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    #[test]
    fn only_what_was_provably_held_and_is_no_more_goes() {
        let place = tempfile::tempdir().unwrap();
        let (mine, other) = (OwnerKey::new(&[1; 32]), OwnerKey::new(&[2; 32]));
        let root = Folder::open(place.path()).unwrap();
        let made = |name: &str| {
            let folder = root.create_subfolder(OsStr::new(name)).unwrap();
            fs::create_dir(folder.path().join("inside")).unwrap();
            fs::write(folder.path().join("inside/secret"), "the lamp is lit").unwrap();
            folder.path().to_owned()
        };
        let held = HeldFolder::hold(&made("run-held"), &mine).unwrap();
        drop(HeldFolder::hold(&made("run-left"), &mine).unwrap());
        drop(HeldFolder::hold(&made("run-of-another"), &other).unwrap());
        drop(HeldFolder::hold(&made("elsewhere"), &mine).unwrap());
        made("run-unproven");
        clear_unheld(place.path(), "run-", &mine);
        let mut names = root.names().unwrap();
        names.sort();
        assert_eq!(names, ["elsewhere", "run-held", "run-of-another", "run-unproven"]);
        drop(held);
        clear_unheld(place.path(), "run-", &mine);
        assert!(!place.path().join("run-held").exists());
    }
}
