//! What an archive of changes builds upon: as it is typed by who makes one, and as it is told to who gets one.

use crate::args::{PasswordArguments, SinceArguments, UnlockArguments, WorkArguments};
use crate::credentials;
use crate::failure::Failure;
use crate::places::gather;
use crate::ui::text::{self, grouped, shown};
use serde::Serialize;
use std::path::PathBuf;
use std::slice;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::{Base, BaseName, SealedReader};
use under_seal_core::tasks::in_place::own_place;
use under_seal_core::tasks::pack::Target;
use under_seal_core::tasks::pack::since::{Changes, State};

/// The archive since which changes are wanted.
pub struct Since {
    /// What is there once it was opened.
    pub state: State,
    /// Its files, which are not packed themselves.
    pub files: Vec<PathBuf>,
    set: VolumeSet,
}

impl Since {
    /// Unlocks it with a password of its own, or else with that of the new archive; `None` where all is to be packed.
    pub fn load(
        arguments: &SinceArguments,
        password: &PasswordArguments,
        work: &WorkArguments,
    ) -> Result<Option<Self>, Failure> {
        let Some(archive) = &arguments.since else { return Ok(None) };
        let set = gather(slice::from_ref(archive), work)?;
        let unlock = UnlockArguments {
            password: PasswordArguments {
                password_from: arguments.since_password_from.clone().or_else(|| password.password_from.clone()),
                password_fd: password.password_fd.filter(|_| arguments.since_password_from.is_none()),
                key_file: arguments.since_key_file.clone().or_else(|| password.key_file.clone()),
            },
            allow_costly_key: false,
            // What was packed without a password is no less the base of what is packed with one.
            accept_no_password: true,
        };
        let unlocked = credentials::to_unlock(&set, &unlock).map_err(Failure::of_base)?;
        let reader = SealedReader::of(unlocked)?;
        Ok(Some(Self { state: State::of(&reader)?, files: set.paths(), set }))
    }

    /// Whether an archive with this target would have the base's own place and name.
    pub fn is_at(&self, target: &Target) -> bool {
        own_place(&self.set).is_some_and(|own| {
            let path = |target: &Target| -> PathBuf { target.path_with("") };
            path(&own) == path(target)
        })
    }
}

/// The base of an archive of changes (docs/json.md).
#[derive(Debug, Clone, Serialize)]
pub struct BuildsUpon {
    pub archive: String,
    pub made: String,
    pub set: String,
}

impl From<&BaseName> for BuildsUpon {
    fn from(base: &BaseName) -> Self {
        Self {
            archive: shown(&base.name),
            made: text::time(base.made_at),
            set: base.set.iter().map(|byte| format!("{byte:02x}")).collect(),
        }
    }
}

impl From<&Base> for BuildsUpon {
    fn from(base: &Base) -> Self {
        (&base.name).into()
    }
}

impl BuildsUpon {
    /// What a recipient should know.
    pub fn sentence(&self) -> String {
        format!(
            "It holds only what has changed since {} of {}. Open it into the same folder as that.",
            self.archive, self.made
        )
    }
}

/// What has changed (docs/json.md).
#[derive(Debug, Serialize)]
pub struct ChangesReport {
    pub since: BuildsUpon,
    pub added: Vec<String>,
    pub changed: Vec<String>,
    pub removed: Vec<String>,
    #[serde(rename = "kept_entries")]
    pub kept: u64,
}

impl From<&Changes> for ChangesReport {
    fn from(changes: &Changes) -> Self {
        let paths = |paths: &[under_seal_core::ground::entry::EntryPath]| {
            paths.iter().map(|path| shown(path.as_bytes())).collect()
        };
        Self {
            since: (&changes.base).into(),
            added: paths(&changes.added),
            changed: paths(&changes.changed),
            removed: paths(&changes.removed),
            kept: changes.kept,
        }
    }
}

impl ChangesReport {
    /// In one line.
    pub fn line(&self) -> String {
        let number = |paths: &Vec<String>| grouped(paths.len() as u64);
        format!(
            "{} added, {} changed, {} removed since {} of {}; {} as they were",
            number(&self.added),
            number(&self.changed),
            number(&self.removed),
            self.since.archive,
            self.since.made,
            grouped(self.kept)
        )
    }
}
