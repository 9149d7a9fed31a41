//! A set of files appears whole or not at all.
//!
//! Several renames are not atomic, so a set is written and verified in a folder `NAME.unfinished`
//! beside its target. Placing first writes there what it is going to do ([`steps`]), then moves file by
//! file, then removes the folder. As long as that folder is there, what stands beside it is not
//! finished: the next run completes the steps if they were begun, and clears the folder if not ([`settle`]).
//!
//! Inside the folder: `in-use-` and a proof that this user's run made the folder (locked while a run lives),
//! `volume-NNNNN` (new files), `set-aside-NNNNN` (old files about to be replaced), `steps`, and for a moment `steps-draft`
//! and `scratch`. A folder without that proof may have come out of an archive, and is never touched.

mod own_folder;
mod settle;
mod steps;

pub use own_folder::StagingError;
pub use settle::{Leftover, settle};
pub use steps::{Placing, Replaced};

use super::names::{bytes_of, name_of};
use super::{FileError, Folder, NewFile, ScratchFile};
use crate::ground::context::Context;
use crate::ground::ownership::OwnerKey;
use own_folder::{FOLDER_SUFFIX, OwnFolder, SCRATCH, folder_name, is_staging_name, lock_name, staged_name};
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};
use steps::Steps;

/// A staging folder in use. Dropped without [`Staging::place`], it clears itself away.
#[derive(Debug)]
pub struct Staging {
    own: OwnFolder,
    /// Held open and locked as long as this run is at work.
    lock: Option<NewFile>,
    keep: bool,
}

impl Staging {
    /// Makes the staging folder for `stem` in `target`. What an earlier run left there has been dealt with
    /// by [`settle`].
    ///
    /// # Errors
    /// [`StagingError`]; nothing was written then.
    pub fn begin(target: Folder, stem: &OsStr, context: &Context<'_>) -> Result<Self, StagingError> {
        let name = folder_name(stem);
        let folder = match target.create_subfolder(&name) {
            Err(error) if error.is_taken() => return Err(StagingError::InUse(target.path().join(name))),
            outcome => outcome?,
        };
        let own = OwnFolder { target, stem: stem.to_owned(), folder, key: (context.owner_key)() };
        let make_lock = || own.folder.create_file(&own.lock_name()?, 0o600);
        let locked = make_lock().map_err(StagingError::from).and_then(|_| own.lock());
        match locked {
            Ok(lock) => Ok(Self { own, lock: Some(lock), keep: false }),
            Err(error) => {
                // The error to tell is the first one; the next run clears what this leaves.
                let _ = own.clear(None, None);
                Err(error)
            }
        }
    }

    /// Makes the staged file of this number.
    pub fn create(&self, number: u32) -> Result<NewFile, FileError> {
        self.own.folder.create_file(&staged_name(number), 0o666)
    }

    /// Opens a staged file again to change bytes in it.
    pub fn reopen(&self, number: u32) -> Result<NewFile, FileError> {
        self.own.folder.reopen_file(&staged_name(number))
    }

    /// Makes a file for what does not fit into memory; it has no name.
    pub fn create_scratch(&self) -> Result<ScratchFile, FileError> {
        self.own.folder.create_scratch(SCRATCH.as_ref())
    }

    /// The path of a staged file, for reading it back.
    pub fn path_of(&self, number: u32) -> PathBuf {
        self.own.folder.path().join(staged_name(number))
    }

    /// The folder in which the set will appear.
    pub fn target(&self) -> &Folder {
        &self.own.target
    }

    /// Gives every staged file its final name, after setting the old files that are `replaced` aside.
    /// All of it happens, or none.
    ///
    /// # Errors
    /// [`StagingError`]; the old files are then back under their names, or, where even that fails, the
    /// staging folder stays and the next run completes the work.
    pub fn place(mut self, placings: &[Placing], replaced: &[Replaced]) -> Result<(), StagingError> {
        let steps = Steps { placings: placings.to_vec(), replaced: replaced.to_vec() };
        steps.check_unchanged(&self.own)?;
        steps.write(&self.own)?;
        self.keep = true;
        if let Err(error) = steps.carry_out(&self.own) {
            steps.undo(&self.own)?;
            self.keep = false;
            return Err(error.into());
        }
        // A folder that cannot be cleared now is cleared by the next run.
        let _ = self.own.clear(Some(&steps), self.lock.take());
        Ok(())
    }
}

impl Drop for Staging {
    fn drop(&mut self) {
        if !self.keep {
            let _ = self.own.clear(None, self.lock.take());
        }
    }
}

/// Whether a folder of this name beside a target is the staging folder of the archive `stem`.
pub fn is_folder_of(name: &OsStr, stem: &OsStr) -> bool {
    name == folder_name(stem)
}

/// The staging folder of the archive `stem`, if something that may be it stands in `beside`. Whose it is and whether a run
/// is at work in it is not looked into: as long as it stands there, what stands beside it may not be finished.
pub fn folder_in(beside: &Path, stem: &OsStr) -> Option<PathBuf> {
    let path = beside.join(folder_name(stem));
    may_be_staging(&path).then_some(path)
}

/// The same of whatever archive; sorted.
pub fn folders_in(beside: &Path) -> Vec<PathBuf> {
    let mut found: Vec<PathBuf> = paths_in(beside).filter(|path| may_be_staging(path)).collect();
    found.sort();
    found
}

fn may_be_staging(path: &Path) -> bool {
    let Some(name) = path.file_name().filter(|name| name.as_encoded_bytes().ends_with(FOLDER_SUFFIX.as_bytes())) else {
        return false;
    };
    let is_staged = |inside: PathBuf| inside.file_name().is_some_and(|inside| looks_staged(name, inside));
    path.symlink_metadata().is_ok_and(|found| found.is_dir()) && paths_in(path).any(is_staged)
}

fn paths_in(folder: &Path) -> impl Iterator<Item = PathBuf> {
    std::fs::read_dir(folder).into_iter().flatten().filter_map(|entry| Some(entry.ok()?.path()))
}

/// Completes or clears what earlier, interrupted runs left in a folder, of whatever archive. What another run is at work in, and what
/// is not this user's, is left.
///
/// # Errors
/// [`StagingError`] from the system.
pub fn settle_all(target: &Folder, context: &Context<'_>) -> Result<(), StagingError> {
    for folder in folders_in(target.path()) {
        match stem_of(&folder).map(|stem| settle(target, &stem, context)) {
            Some(Err(error)) if !matches!(error, StagingError::InUse(_) | StagingError::InTheWay(_)) => {
                return Err(error);
            }
            _ => {}
        }
    }
    Ok(())
}

/// The name of the archive that a staging folder is of.
fn stem_of(folder: &Path) -> Option<OsString> {
    Some(name_of(bytes_of(folder.file_name()?).strip_suffix(FOLDER_SUFFIX.as_bytes())?))
}

/// Whether a staging folder may be that of a set of which a volume has this name.
pub fn may_be_of(folder: &Path, volume: &OsStr) -> bool {
    stem_of(folder).is_some_and(|stem| volume.as_encoded_bytes().starts_with(stem.as_encoded_bytes()))
}

/// Whether a file of this name, in a folder of that name, could be taken for one that a run of ours left.
pub fn looks_staged(folder: &OsStr, name: &OsStr) -> bool {
    folder.as_encoded_bytes().ends_with(FOLDER_SUFFIX.as_bytes()) && is_staging_name(name)
}

/// Whether a folder, which has this name, is a staging folder that a run of this user has provably made.
///
/// # Errors
/// [`FileError`] where that cannot be seen.
pub fn is_own_folder(folder: &Folder, name: &OsStr, key: &OwnerKey) -> Result<bool, FileError> {
    let Some(stem) = bytes_of(name).strip_suffix(FOLDER_SUFFIX.as_bytes()).map(name_of) else { return Ok(false) };
    Ok(folder.kind_of(&lock_name(folder, &stem, key)?)?.is_some())
}

#[cfg(test)]
mod tests;
