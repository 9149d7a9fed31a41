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

mod settle;
mod steps;

pub use settle::{Leftover, settle};
pub use steps::{Placing, Replaced};

use super::{FileError, Folder, NewFile, ScratchFile};
use crate::disk::{Interruption, interruptible};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::Context;
use crate::ground::ownership::OwnerKey;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use steps::Steps;

const FOLDER_SUFFIX: &str = ".unfinished";
const LOCK: &str = "in-use-";
const STEPS: &str = "steps";
const STEPS_DRAFT: &str = "steps-draft";
const SCRATCH: &str = "scratch";
const STAGED: &str = "volume-";
const SET_ASIDE: &str = "set-aside-";

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

/// A staging folder in use. Dropped without [`Staging::place`], it clears itself away.
#[derive(Debug)]
pub struct Staging {
    own: OwnFolder,
    _lock: NewFile,
    keep: bool,
}

/// A staging folder that this user's run has made.
#[derive(Debug)]
struct OwnFolder {
    target: Folder,
    stem: OsString,
    folder: Folder,
    /// By what its files are known as this user's.
    key: OwnerKey,
}

impl OwnFolder {
    /// The name of the file in it that is locked while a run lives, and that proves who made the folder.
    fn lock_name(&self) -> Result<OsString, FileError> {
        Ok(OsString::from(format!("{LOCK}{}", self.proof("staging folder", b"")?)))
    }

    /// The proof that this user's run wrote something into this very folder, for this target.
    fn proof(&self, what: &str, content: &[u8]) -> Result<String, FileError> {
        let number = self.folder.number()?.to_le_bytes();
        Ok(self.key.proof(what, &[&number, self.stem.as_bytes(), content]))
    }

    fn lock(&self) -> Result<NewFile, StagingError> {
        let lock = self.folder.reopen_file(&self.lock_name()?)?;
        // Where a file system cannot tell of another run, the folder itself still stands for one.
        if lock.try_lock() { Ok(lock) } else { Err(StagingError::InUse(self.folder.path().to_owned())) }
    }

    /// Removes the folder; the steps go after the files that they speak of, the lock last.
    fn clear(&self, steps: Option<&Steps>) -> Result<(), FileError> {
        let lock = self.lock_name()?;
        let mut names = Vec::new();
        for name in self.folder.names()? {
            if self.may_be_cleared(&name, &lock, steps)? {
                names.push(name);
            }
        }
        names.sort_by_key(|name| if *name == lock { 2 } else { u8::from(name == STEPS) });
        for name in names {
            self.folder.remove_file(&name)?;
        }
        self.target.remove_subfolder(&folder_name(&self.stem))
    }

    /// Whether a name in the folder is of this run's making. An old file that was set aside is, if the steps speak of
    /// that very file.
    fn may_be_cleared(&self, name: &OsStr, lock: &OsStr, steps: Option<&Steps>) -> Result<bool, FileError> {
        if name == lock {
            return Ok(true);
        }
        let Some(text) = name.to_str().filter(|_| is_staging_name(name)) else { return Ok(false) };
        match text.strip_prefix(SET_ASIDE) {
            None => Ok(!text.starts_with(LOCK)),
            Some(place) => {
                let replaced = place.parse().ok().and_then(|place: usize| steps?.replaced.get(place));
                replaced.map_or(Ok(false), |replaced| replaced.is_at(&self.folder, name))
            }
        }
    }
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
            Ok(lock) => Ok(Self { own, _lock: lock, keep: false }),
            Err(error) => {
                // The error to tell is the first one; the next run clears what this leaves.
                let _ = own.clear(None);
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
        let _ = self.own.clear(Some(&steps));
        Ok(())
    }
}

impl Drop for Staging {
    fn drop(&mut self) {
        if !self.keep {
            let _ = self.own.clear(None);
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
    let Some(name) = path.file_name().filter(|name| name.as_bytes().ends_with(FOLDER_SUFFIX.as_bytes())) else {
        return false;
    };
    let is_staged = |inside: PathBuf| inside.file_name().is_some_and(|inside| looks_staged(name, inside));
    path.symlink_metadata().is_ok_and(|found| found.is_dir()) && paths_in(path).any(is_staged)
}

fn paths_in(folder: &Path) -> impl Iterator<Item = PathBuf> {
    std::fs::read_dir(folder).into_iter().flatten().filter_map(|entry| Some(entry.ok()?.path()))
}

/// Whether a staging folder may be that of a set of which a volume has this name.
pub fn may_be_of(folder: &Path, volume: &OsStr) -> bool {
    let stem = folder.file_name().and_then(|name| name.as_bytes().strip_suffix(FOLDER_SUFFIX.as_bytes()));
    stem.is_some_and(|stem| volume.as_bytes().starts_with(stem))
}

/// Whether a file of this name, in a folder of that name, could be taken for one that a run of ours left.
pub fn looks_staged(folder: &OsStr, name: &OsStr) -> bool {
    folder.as_bytes().ends_with(FOLDER_SUFFIX.as_bytes()) && is_staging_name(name)
}

fn folder_name(stem: &OsStr) -> OsString {
    with_suffix(stem, FOLDER_SUFFIX)
}

fn with_suffix(stem: &OsStr, suffix: &str) -> OsString {
    let mut name = stem.to_owned();
    name.push(suffix);
    name
}

fn staged_name(number: u32) -> OsString {
    format!("{STAGED}{number:05}").into()
}

fn set_aside_name(place: usize) -> OsString {
    format!("{SET_ASIDE}{place:05}").into()
}

/// Whether this is a name that only the program gives in a staging folder.
fn is_staging_name(name: &OsStr) -> bool {
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

#[cfg(test)]
mod tests;
