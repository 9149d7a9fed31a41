//! A set of files appears whole or not at all.
//!
//! Several renames are not atomic, so a set is written and verified in a folder `NAME.unfinished`
//! beside its target. Placing first writes there what it is going to do (`steps`), then moves file by
//! file, then removes the folder. As long as that folder is there, what stands beside it is not
//! finished: the next run completes the steps if they were begun, and clears the folder if not.
//!
//! Inside the folder: `in-use` (locked while a run lives), `volume-NNNNN` (new files),
//! `set-aside-NNNNN` (old files about to be replaced), `steps`, and for a moment `steps-draft` and `scratch`.

use super::{FileError, Folder, NewFile, ScratchFile};
use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

const LOCK: &str = "in-use";
const STEPS: &str = "steps";
const STEPS_DRAFT: &str = "steps-draft";
const SCRATCH: &str = "scratch";
const STEPS_HEAD: &str = "Under Seal was placing these files. Run the same command again, and it completes this.";
const STEPS_END: &str = "end";

/// Why a set could not be staged or placed.
#[derive(Debug, thiserror::Error)]
pub enum StagingError {
    /// The system refused an operation.
    #[error(transparent)]
    File(#[from] FileError),
    /// Another run is at work on the same target.
    #[error("{} is in use", .0.display())]
    InUse(PathBuf),
    /// Something else has the name that the staging folder needs, or holds files of others.
    #[error("{} is in the way", .0.display())]
    InTheWay(PathBuf),
}

/// What an earlier, interrupted run had left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Leftover {
    /// Nothing.
    None,
    /// Unverified files, now removed.
    Cleared,
    /// A verified set in the middle of being placed, now completely placed.
    Completed,
}

/// One file's way from the staging folder to its final name (`stem` followed by the suffix).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placing {
    /// The number under which it was staged.
    pub number: u32,
    /// What follows the stem in the final name; never a slash, never a line break.
    pub suffix: String,
}

/// A staging folder in use. Dropped without [`Staging::place`], it clears itself away.
#[derive(Debug)]
pub struct Staging {
    target: Folder,
    stem: OsString,
    folder: Folder,
    _lock: NewFile,
    keep: bool,
}

impl Staging {
    /// Makes the staging folder for `stem` in `target`. What an earlier run left there has been dealt with
    /// by [`settle`].
    ///
    /// # Errors
    /// [`StagingError`]; nothing was written then.
    pub fn begin(target: Folder, stem: &OsStr) -> Result<Self, StagingError> {
        let name = folder_name(stem);
        let folder = match target.create_subfolder(&name) {
            Err(error) if error.is_taken() => return Err(StagingError::InUse(target.path().join(name))),
            outcome => outcome?,
        };
        let locked =
            folder.create_file(LOCK.as_ref(), 0o600).map_err(StagingError::from).and_then(|_| try_lock(&folder));
        let lock = match locked {
            Ok(lock) => lock,
            Err(error) => {
                // The error to tell is the first one; the next run clears what this leaves.
                let _ = clear(&target, stem, &folder);
                return Err(error);
            }
        };
        Ok(Self { target, stem: stem.to_owned(), folder, _lock: lock, keep: false })
    }

    /// Makes the staged file of this number.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn create(&self, number: u32) -> Result<NewFile, FileError> {
        self.folder.create_file(&staged_name(number), 0o666)
    }

    /// Opens a staged file again to change bytes in it.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn reopen(&self, number: u32) -> Result<NewFile, FileError> {
        self.folder.reopen_file(&staged_name(number))
    }

    /// Makes a file for what does not fit into memory; it has no name.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn create_scratch(&self) -> Result<ScratchFile, FileError> {
        self.folder.create_scratch(SCRATCH.as_ref())
    }

    /// The path of a staged file, for reading it back.
    pub fn path_of(&self, number: u32) -> PathBuf {
        self.folder.path().join(staged_name(number))
    }

    /// The folder in which the set will appear.
    pub fn target(&self) -> &Folder {
        &self.target
    }

    /// Gives every staged file its final name, after setting `replaced` (suffixes of old files) aside.
    /// All of it happens, or none.
    ///
    /// # Errors
    /// [`StagingError`]; the old files are then back under their names, or, where even that fails, the
    /// staging folder stays and the next run completes the work.
    pub fn place(mut self, placings: &[Placing], replaced: &[String]) -> Result<(), StagingError> {
        self.folder.sync()?;
        let draft = self.folder.create_file(STEPS_DRAFT.as_ref(), 0o600)?;
        write_steps(draft, placings, replaced)?;
        self.folder.publish(STEPS_DRAFT.as_ref(), &self.folder, STEPS.as_ref())?;
        self.folder.sync()?;
        self.keep = true;
        if let Err(error) = carry_out(&self.target, &self.stem, &self.folder, placings, replaced) {
            undo(&self.target, &self.stem, &self.folder, placings, replaced)?;
            self.keep = false;
            return Err(error.into());
        }
        self.keep = false;
        Ok(())
    }
}

impl Drop for Staging {
    fn drop(&mut self) {
        if !self.keep {
            // A folder that cannot be cleared now is cleared by the next run.
            let _ = clear(&self.target, &self.stem, &self.folder);
        }
    }
}

/// Whether a folder of this name beside a target is the staging folder of the archive `stem`.
pub fn is_folder_of(name: &OsStr, stem: &OsStr) -> bool {
    name == folder_name(stem)
}

fn folder_name(stem: &OsStr) -> OsString {
    with_suffix(stem, ".unfinished")
}

fn with_suffix(stem: &OsStr, suffix: &str) -> OsString {
    let mut name = stem.to_owned();
    name.push(suffix);
    name
}

fn staged_name(number: u32) -> OsString {
    format!("volume-{number:05}").into()
}

fn set_aside_name(place: usize) -> OsString {
    format!("set-aside-{place:05}").into()
}

fn try_lock(folder: &Folder) -> Result<NewFile, StagingError> {
    let lock = folder.reopen_file(LOCK.as_ref())?;
    // Where a file system cannot tell of another run, the folder itself still stands for one.
    if lock.try_lock() { Ok(lock) } else { Err(StagingError::InUse(folder.path().to_owned())) }
}

/// Completes or clears what an earlier, interrupted run left in the staging folder of this stem.
///
/// # Errors
/// [`StagingError`]; files that are not ours are never touched.
pub fn settle(target: &Folder, stem: &OsStr) -> Result<Leftover, StagingError> {
    let name = folder_name(stem);
    match target.kind_of(&name)? {
        None => return Ok(Leftover::None),
        Some(kind) if kind.is_dir() => {}
        Some(_) => return Err(StagingError::InTheWay(target.path().join(name))),
    }
    let folder = target.subfolder(&name)?;
    let names = folder.names()?;
    if names.iter().any(|name| !is_ours(name)) {
        return Err(StagingError::InTheWay(folder.path().to_owned()));
    }
    let _lock = if names.is_empty() { None } else { Some(try_lock(&folder)?) };
    let steps = folder.read_bytes(STEPS.as_ref())?;
    let steps = steps.and_then(|bytes| read_steps(std::str::from_utf8(&bytes).ok()?));
    let leftover = match steps {
        Some((placings, replaced)) => {
            carry_out(target, stem, &folder, &placings, &replaced)?;
            Leftover::Completed
        }
        None => Leftover::Cleared,
    };
    clear(target, stem, &folder)?;
    Ok(leftover)
}

fn is_ours(name: &OsStr) -> bool {
    name.to_str().is_some_and(|name| {
        let numbered = |prefix| {
            name.strip_prefix(prefix)
                .is_some_and(|rest: &str| rest.len() >= 5 && rest.bytes().all(|b| b.is_ascii_digit()))
        };
        matches!(name, LOCK | STEPS | STEPS_DRAFT | SCRATCH) || numbered("volume-") || numbered("set-aside-")
    })
}

fn write_steps(mut file: NewFile, placings: &[Placing], replaced: &[String]) -> Result<(), FileError> {
    let mut text = format!("{STEPS_HEAD}\n");
    for suffix in replaced {
        text.push_str(&format!("set-aside {suffix}\n"));
    }
    for placing in placings {
        text.push_str(&format!("place {} {}\n", placing.number, placing.suffix));
    }
    text.push_str(&format!("{STEPS_END}\n"));
    file.write(text.as_bytes())?;
    file.sync()?;
    file.close()
}

/// `None` for a text that is not complete: nothing was begun then.
fn read_steps(text: &str) -> Option<(Vec<Placing>, Vec<String>)> {
    let (mut placings, mut replaced) = (Vec::new(), Vec::new());
    let mut lines = text.lines();
    if lines.next()? != STEPS_HEAD {
        return None;
    }
    for line in lines {
        if line == STEPS_END {
            return Some((placings, replaced));
        }
        if let Some(suffix) = line.strip_prefix("set-aside ").filter(|suffix| !suffix.contains('/')) {
            replaced.push(suffix.to_owned());
        } else {
            let (number, suffix) = line.strip_prefix("place ")?.split_once(' ').filter(|(_, s)| !s.contains('/'))?;
            placings.push(Placing { number: number.parse().ok()?, suffix: suffix.to_owned() });
        }
    }
    None
}

/// Carries the steps out, or completes them: what is done already is passed over.
fn carry_out(
    target: &Folder,
    stem: &OsStr,
    folder: &Folder,
    placings: &[Placing],
    replaced: &[String],
) -> Result<(), FileError> {
    let mut none_placed_yet = true;
    for placing in placings {
        none_placed_yet &= folder.kind_of(&staged_name(placing.number))?.is_some();
    }
    // Old and new files can have the same name, so old names count only while no new file is placed.
    if none_placed_yet {
        for (place, suffix) in replaced.iter().enumerate() {
            let name = with_suffix(stem, suffix);
            if folder.kind_of(&set_aside_name(place))?.is_none() && target.kind_of(&name)?.is_some() {
                target.publish(&name, folder, &set_aside_name(place))?;
            }
        }
    }
    for placing in placings {
        let staged = staged_name(placing.number);
        if folder.kind_of(&staged)?.is_some() {
            folder.publish(&staged, target, &with_suffix(stem, &placing.suffix))?;
        }
    }
    target.sync()
}

/// Takes placed files back and gives the old ones their names again.
fn undo(
    target: &Folder,
    stem: &OsStr,
    folder: &Folder,
    placings: &[Placing],
    replaced: &[String],
) -> Result<(), FileError> {
    for placing in placings {
        let staged = staged_name(placing.number);
        if folder.kind_of(&staged)?.is_none() {
            target.publish(&with_suffix(stem, &placing.suffix), folder, &staged)?;
        }
    }
    for (place, suffix) in replaced.iter().enumerate() {
        if folder.kind_of(&set_aside_name(place))?.is_some() {
            folder.publish(&set_aside_name(place), target, &with_suffix(stem, suffix))?;
        }
    }
    target.sync()
}

/// Removes the staging folder; the steps go after the files that they speak of, the lock last.
fn clear(target: &Folder, stem: &OsStr, folder: &Folder) -> Result<(), FileError> {
    let mut names: Vec<_> = folder.names()?.into_iter().filter(|name| is_ours(name)).collect();
    names.sort_by_key(|name| match name.to_str() {
        Some(STEPS) => 1,
        Some(LOCK) => 2,
        _ => 0,
    });
    for name in names {
        folder.remove_file(&name)?;
    }
    target.remove_subfolder(&folder_name(stem))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::fs;

    fn placings() -> Vec<Placing> {
        ["-1of2", "-2of2"]
            .iter()
            .zip(1..)
            .map(|(suffix, number)| Placing { number, suffix: suffix.to_string() })
            .collect()
    }

    fn begin(folder: &std::path::Path) -> (Staging, Leftover) {
        let target = Folder::open(folder).unwrap();
        let leftover = settle(&target, "set".as_ref()).unwrap();
        (Staging::begin(target, "set".as_ref()).unwrap(), leftover)
    }

    fn stage(staging: &Staging) {
        for number in [1, 2] {
            staging.create(number).unwrap().write(format!("new {number}").as_bytes()).unwrap();
        }
    }

    fn listing(folder: &std::path::Path) -> Vec<String> {
        let mut all: Vec<_> = fs::read_dir(folder)
            .unwrap()
            .map(|entry| entry.unwrap())
            .map(|entry| {
                let text = fs::read_to_string(entry.path()).unwrap_or("folder".into());
                format!("{}: {text}", entry.file_name().display())
            })
            .collect();
        all.sort();
        all
    }

    #[test]
    fn placing_replaces_the_old_set_as_a_whole() {
        let place = tempfile::tempdir().unwrap();
        for (name, text) in [("set-1of2", "old 1"), ("set-3of3", "old 3"), ("other", "other")] {
            fs::write(place.path().join(name), text).unwrap();
        }
        let (staging, leftover) = begin(place.path());
        assert_eq!(leftover, Leftover::None);
        stage(&staging);
        staging.place(&placings(), &["-1of2".into(), "-3of3".into()]).unwrap();
        assert_eq!(listing(place.path()), ["other: other", "set-1of2: new 1", "set-2of2: new 2"]);
    }

    #[test]
    fn a_name_taken_at_the_last_moment_is_not_replaced_and_all_is_as_before() {
        let place = tempfile::tempdir().unwrap();
        fs::write(place.path().join("set-2of2"), "theirs").unwrap();
        fs::write(place.path().join("set-old"), "old").unwrap();
        let (staging, _) = begin(place.path());
        stage(&staging);
        assert!(staging.place(&placings(), &["-old".into()]).is_err());
        assert_eq!(listing(place.path()), ["set-2of2: theirs", "set-old: old"]);
    }

    #[test]
    fn a_second_run_on_the_same_target_is_refused_while_the_first_lives() {
        let place = tempfile::tempdir().unwrap();
        let (_first, _) = begin(place.path());
        let target = Folder::open(place.path()).unwrap();
        assert!(matches!(settle(&target, "set".as_ref()), Err(StagingError::InUse(_))));
        assert!(matches!(Staging::begin(target, "set".as_ref()), Err(StagingError::InUse(_))));
    }

    #[test]
    fn files_of_others_in_the_staging_folder_are_never_touched() {
        let place = tempfile::tempdir().unwrap();
        fs::create_dir(place.path().join("set.unfinished")).unwrap();
        fs::write(place.path().join("set.unfinished/thesis.txt"), "mine").unwrap();
        let refused = settle(&Folder::open(place.path()).unwrap(), "set".as_ref());
        assert!(matches!(refused, Err(StagingError::InTheWay(_))));
        assert!(place.path().join("set.unfinished/thesis.txt").exists());
    }

    /// Stops after every number of moves in turn, as a power cut would, and lets the next run go on.
    #[rstest]
    fn an_interrupted_placing_is_completed_by_the_next_run(#[values(0, 1, 2, 3)] moves_done: usize) {
        let place = tempfile::tempdir().unwrap();
        fs::write(place.path().join("set-1of2"), "old 1").unwrap();
        let (mut staging, _) = begin(place.path());
        stage(&staging);
        let draft = staging.folder.create_file(STEPS.as_ref(), 0o600).unwrap();
        write_steps(draft, &placings(), &["-1of2".into()]).unwrap();
        let folder = place.path().join("set.unfinished");
        let moves = [
            (place.path().join("set-1of2"), folder.join("set-aside-00000")),
            (folder.join("volume-00001"), place.path().join("set-1of2")),
            (folder.join("volume-00002"), place.path().join("set-2of2")),
        ];
        for (from, to) in &moves[..moves_done] {
            fs::rename(from, to).unwrap();
        }
        staging.keep = true;
        drop(staging);
        let (_next, leftover) = begin(place.path());
        assert_eq!(leftover, Leftover::Completed);
        assert_eq!(listing(place.path()), ["set-1of2: new 1", "set-2of2: new 2", "set.unfinished: folder"]);
    }

    #[test]
    fn an_interrupted_writing_is_cleared_by_the_next_run() {
        let place = tempfile::tempdir().unwrap();
        let (mut staging, _) = begin(place.path());
        stage(&staging);
        staging.keep = true;
        drop(staging);
        let (next, leftover) = begin(place.path());
        assert_eq!(leftover, Leftover::Cleared);
        drop(next);
        assert!(listing(place.path()).is_empty());
    }
}
