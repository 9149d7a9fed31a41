//! Why something, or everything, under the sources cannot be packed.

use super::choice::PatternError;
use crate::disk::{FileError, Interruption, interruptible};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::entry::{EntryPath, PathError};
use std::ffi::OsString;
use std::path::{Path, PathBuf};

/// Something under the sources that cannot be packed.
#[derive(Debug)]
pub struct PassedOver {
    /// Where it is on disk.
    pub disk_path: PathBuf,
    /// Why it cannot be packed.
    pub reason: PassedOverReason,
}

/// Why something cannot be packed.
#[derive(Debug, thiserror::Error)]
pub enum PassedOverReason {
    /// A device, a pipe or a socket: it has no content of its own.
    #[error("not a file, folder or link")]
    Special,
    /// The system does not let it be read.
    #[error(transparent)]
    Unreadable(#[from] FileError),
    /// Its path inside the archive would break a rule.
    #[error("the name cannot be packed: {0}")]
    Name(#[from] PathError),
    /// A link whose target is longer than an archive holds.
    #[error("the link's target is too long")]
    LongTarget,
    /// A link that is followed leads to a folder that it lies in, or links have led to it very often.
    #[error("the link leads back to a folder above it, or to one that is packed very often already")]
    Loop,
}

/// Why there is nothing to pack at all.
#[derive(Debug, thiserror::Error)]
pub enum SourceError {
    /// A named path does not exist.
    #[error("{} does not exist", path.display())]
    Missing {
        /// The absolute path that was tried.
        path: PathBuf,
        /// Names that do exist beside it and look alike, best first.
        similar: Vec<OsString>,
    },
    /// Two sources would have one name inside the archive.
    #[error("{} and {} have the same name", first.display(), second.display())]
    SameName {
        /// The one named first.
        first: PathBuf,
        /// The other.
        second: PathBuf,
    },
    /// A source such as `/` has no name to give to its entry.
    #[error("{} has no name", .0.display())]
    NoName(PathBuf),
    /// A source with wildcards matches nothing.
    #[error("{} matches nothing", .0.display())]
    NoMatch(PathBuf),
    /// A source with wildcards cannot be read.
    #[error("{} cannot be read: {why}", wildcard.display())]
    Wildcard {
        /// The source as it was written.
        wildcard: PathBuf,
        /// What is wrong with it.
        why: String,
    },
    /// A pattern cannot be read.
    #[error(transparent)]
    Pattern(#[from] PatternError),
    /// Everything was left out.
    #[error("everything is left out")]
    NothingChosen,
    /// These names are no text, and nothing is to be packed then, or there is nothing else.
    #[error("{} names are no text", .0.len())]
    NotText(Vec<EntryPath>),
    /// A named source cannot be packed.
    #[error("{} cannot be packed", .0.disk_path.display())]
    Unpackable(PassedOver),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(SourceError);

impl Classed for SourceError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Unpackable(what) if matches!(what.reason, PassedOverReason::Unreadable(_)) => ErrorClass::System,
            _ => ErrorClass::Usage,
        }
    }
}

pub(super) fn unpackable(disk_path: &Path, reason: PassedOverReason) -> SourceError {
    SourceError::Unpackable(PassedOver { disk_path: disk_path.to_owned(), reason })
}
