//! The steps of a placing: written down before the first of them, so that the next run can complete them; carried out; or
//! taken back.
//!
//! They are text. The last line is a proof that this user's run wrote them, in this very folder and for this target: steps
//! that came out of an archive, or from another place, are never carried out.

use super::own_folder::{
    LOCK, OwnFolder, SET_ASIDE, STEPS, STEPS_DRAFT, StagingError, folder_name, is_staging_name, set_aside_name,
    staged_name, with_suffix,
};
use crate::disk::{FileError, Folder, NewFile};
use crate::ground::entry::Timestamp;
use std::ffi::OsStr;

const HEAD: &str = "Under Seal was placing these files. Run the same command again, and it completes this.";

/// One file's way from the staging folder to its final name (`stem` followed by the suffix).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placing {
    /// The number under which it was staged.
    pub number: u32,
    /// What follows the stem in the final name: letters, digits, dots and hyphens, at least one.
    pub suffix: String,
}

/// An old file that a set replaces: that very one, or none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Replaced {
    /// What follows the stem in its name: letters, digits, dots and hyphens, at least one.
    pub suffix: String,
    /// Its length.
    pub bytes: u64,
    /// When it was modified.
    pub modified: Timestamp,
}

impl Replaced {
    /// Whether it is what has this name in a folder.
    pub(super) fn is_at(&self, folder: &Folder, name: &OsStr) -> Result<bool, FileError> {
        Ok(folder.kind_of(name)?.is_some_and(|kind| kind.is_file())
            && folder.size_and_time_of(name)? == (self.bytes, self.modified))
    }
}

/// All steps of a placing.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Steps {
    pub placings: Vec<Placing>,
    pub replaced: Vec<Replaced>,
}

/// Only names of a set's own files: nothing that leads elsewhere, and never the stem itself.
fn is_suffix(suffix: &str) -> bool {
    !suffix.is_empty() && suffix.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'-'))
}

impl Steps {
    /// Every file to be replaced is as it was when that was decided.
    pub fn check_unchanged(&self, own: &OwnFolder) -> Result<(), StagingError> {
        for replaced in &self.replaced {
            let name = with_suffix(&own.stem, &replaced.suffix);
            if !replaced.is_at(&own.target, &name)? {
                return Err(StagingError::Changed(own.target.path().join(name)));
            }
        }
        Ok(())
    }

    /// Writes them into the staging folder, so that they are there whole or not at all.
    pub fn write(&self, own: &OwnFolder) -> Result<(), FileError> {
        own.folder.sync()?;
        let text = self.text();
        let proof = own.proof("steps", text.as_bytes())?;
        let mut draft = own.folder.create_file(STEPS_DRAFT.as_ref(), 0o600)?;
        draft.write(format!("{text}proof {proof}\n").as_bytes())?;
        draft.sync()?;
        draft.close()?;
        own.folder.publish(STEPS_DRAFT.as_ref(), &own.folder, STEPS.as_ref())?;
        own.folder.sync()
    }

    fn text(&self) -> String {
        let set_aside = |Replaced { suffix, bytes, modified }: &Replaced| {
            format!("set-aside {bytes} {} {} {suffix}\n", modified.seconds, modified.nanoseconds)
        };
        let place = |Placing { number, suffix }: &Placing| format!("place {number} {suffix}\n");
        let lines = self.replaced.iter().map(set_aside).chain(self.placings.iter().map(place));
        std::iter::once(format!("{HEAD}\n")).chain(lines).collect()
    }

    /// The steps in a staging folder, if this user's run wrote them there.
    pub fn read(own: &OwnFolder) -> Result<Option<Self>, FileError> {
        let Some(bytes) = own.folder.read_bytes(STEPS.as_ref())? else { return Ok(None) };
        let Some((text, proof)) = std::str::from_utf8(&bytes).ok().and_then(|text| text.rsplit_once("proof ")) else {
            return Ok(None);
        };
        let proven = proof.trim_end() == own.proof("steps", text.as_bytes())?;
        Ok(if proven { Self::parse(text) } else { None })
    }

    fn parse(text: &str) -> Option<Self> {
        let mut steps = Self { placings: Vec::new(), replaced: Vec::new() };
        let mut lines = text.lines();
        if lines.next()? != HEAD {
            return None;
        }
        for line in lines {
            let mut words = line.split(' ');
            let verb = words.next()?;
            let mut word = || words.next();
            match verb {
                "set-aside" => {
                    let bytes = word()?.parse().ok()?;
                    let modified = Timestamp { seconds: word()?.parse().ok()?, nanoseconds: word()?.parse().ok()? };
                    steps.replaced.push(Replaced { suffix: word()?.to_owned(), bytes, modified });
                }
                _ => {
                    let number = word()?.parse().ok()?;
                    steps.placings.push(Placing { number, suffix: word()?.to_owned() });
                }
            }
        }
        let mut suffixes =
            steps.placings.iter().map(|step| &step.suffix).chain(steps.replaced.iter().map(|step| &step.suffix));
        suffixes.all(|suffix| is_suffix(suffix)).then_some(steps)
    }

    /// Carries the steps out, or completes them: what is done already is passed over.
    pub fn carry_out(&self, own: &OwnFolder) -> Result<(), FileError> {
        let OwnFolder { target, stem, folder, .. } = own;
        let mut none_placed_yet = true;
        for placing in &self.placings {
            none_placed_yet &= folder.kind_of(&staged_name(placing.number))?.is_some();
        }
        // Old and new files can have the same name, so old names count only while no new file is placed.
        if none_placed_yet {
            for (place, replaced) in self.replaced.iter().enumerate() {
                let name = with_suffix(stem, &replaced.suffix);
                if folder.kind_of(&set_aside_name(place))?.is_none() && replaced.is_at(target, &name)? {
                    target.publish(&name, folder, &set_aside_name(place))?;
                }
            }
        }
        for placing in &self.placings {
            let staged = staged_name(placing.number);
            if folder.kind_of(&staged)?.is_some() {
                folder.publish(&staged, target, &with_suffix(stem, &placing.suffix))?;
            }
        }
        target.sync()
    }

    /// Takes placed files back and gives the old ones their names again.
    pub fn undo(&self, own: &OwnFolder) -> Result<(), FileError> {
        let OwnFolder { target, stem, folder, .. } = own;
        for placing in &self.placings {
            let staged = staged_name(placing.number);
            if folder.kind_of(&staged)?.is_none() {
                target.publish(&with_suffix(stem, &placing.suffix), folder, &staged)?;
            }
        }
        for (place, replaced) in self.replaced.iter().enumerate() {
            if folder.kind_of(&set_aside_name(place))?.is_some() {
                folder.publish(&set_aside_name(place), target, &with_suffix(stem, &replaced.suffix))?;
            }
        }
        target.sync()
    }
}

impl OwnFolder {
    /// Removes the folder; the steps go after the files that they speak of, the lock last. What is held locked of it is closed before the
    /// folder goes: some systems keep a file in it as long as it is open.
    pub(super) fn clear(&self, steps: Option<&Steps>, held: Option<NewFile>) -> Result<(), FileError> {
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
        drop(held);
        self.target.remove_subfolder(&folder_name(&self.stem))
    }

    /// Whether a name in the folder is of this run's making. An old file that was set aside is, if the steps speak of
    /// that very file.
    pub(super) fn may_be_cleared(&self, name: &OsStr, lock: &OsStr, steps: Option<&Steps>) -> Result<bool, FileError> {
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
