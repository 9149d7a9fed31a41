//! What is asked of a handover, and why it may come to nothing.

use super::drafts::DraftError;
use super::note::{NoteError, Upon};
use crate::disk::{Interruption, interruptible};
use crate::formats::error::ArchiveError;
use crate::formats::sealed::volume::{GatherError, VolumeSet};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::fit::Fit;
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

/// How something is handed over.
#[derive(Debug, Clone)]
pub struct HandoverRequest<'a> {
    /// What the archive is called, for people and for the volumes' names.
    pub stem: &'a OsStr,
    /// What all of it is called, where that is more than one archive.
    pub title: Option<&'a OsStr>,
    /// The folder that is made; it must not be there.
    pub folder: &'a Path,
    /// How it goes: a message's limit means drafts, a disc labels.
    pub fit: Fit,
    /// The note's text with fields in braces (see [`note`]); the built-in one without it.
    pub template: Option<&'a str>,
    /// The name of the key file, where the password opens it only together with one.
    pub key_file: Option<&'a str>,
    /// What the recipient is told about opening it.
    pub how: &'a str,
    /// What it builds upon, where it holds only changes, as far as that is known.
    pub upon: Option<&'a Upon>,
    /// Whether the page that opens sealed volumes in a browser goes with them.
    pub page: bool,
    /// Further sets that go along, such as the other parcels of a delivery, each with what its volumes are called.
    pub together_with: &'a [(OsString, VolumeSet)],
    /// Who gets the messages, as addresses; left open where nobody is named.
    pub mail_to: &'a [String],
}

/// Why nothing was handed over.
#[derive(Debug, thiserror::Error)]
pub enum HandoverError {
    /// The folder is there already.
    #[error("{} is there already", .0.display())]
    Taken(PathBuf),
    /// A volume is missing or damaged.
    #[error("volumes {missing:?} are missing, {damaged:?} damaged")]
    NotWhole {
        /// Numbers of volumes that are missing.
        missing: Vec<u32>,
        /// Numbers of volumes of which no file is whole.
        damaged: Vec<u32>,
        /// Spare volumes make all of that good.
        made_good: bool,
    },
    /// Entries of an archive in an open format are damaged.
    #[error("{} entries are damaged", .0.len())]
    DamagedEntries(Vec<Vec<u8>>),
    /// An archive in an open format cannot be read.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    /// The note cannot be written.
    #[error(transparent)]
    Note(#[from] NoteError),
    /// A message cannot be drafted.
    #[error(transparent)]
    Draft(#[from] DraftError),
    /// The copied volumes cannot be found again.
    #[error("reading back: {0}")]
    Regather(#[source] GatherError),
    /// The copied volumes are not what they were.
    #[error("reading back: the volumes differ")]
    Differ,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(HandoverError);

impl Classed for HandoverError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Taken(_) => ErrorClass::Unsafe,
            Self::NotWhole { missing, .. } if !missing.is_empty() => ErrorClass::VolumesMissing,
            Self::NotWhole { .. } | Self::DamagedEntries(_) | Self::Regather(_) | Self::Differ => ErrorClass::Damaged,
            Self::Archive(error) => error.class(),
            Self::Note(_) => ErrorClass::Usage,
            Self::Draft(error) => error.class(),
        }
    }
}
