//! Why a disc image cannot be read.

use crate::disk::{Interruption, interruptible};
use crate::formats::members::MAX_SHARING;
use crate::ground::class::{Classed, ErrorClass};

/// Why a disc image cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum IsoError {
    /// It has no descriptor of a volume that is read here.
    #[error("no descriptor of a volume")]
    NoVolume,
    /// Something breaks a rule of the format.
    #[error("malformed {what}, {at} bytes in")]
    Malformed {
        /// What.
        what: &'static str,
        /// Where in the image.
        at: u64,
    },
    /// A folder lies in two places, or within itself, or folders share bytes.
    #[error("a folder in two places, {0} bytes in")]
    FolderTwice(u64),
    /// More than [`MAX_ENTRIES`](crate::formats::members::MAX_ENTRIES), or paths longer than
    /// [`MAX_PATHS_BYTES`](crate::formats::members::MAX_PATHS_BYTES) in all.
    #[error("more entries than are read here")]
    TooMany,
    /// Contents that come to more than [`MAX_SHARING`] times the image.
    #[error("contents of more than {MAX_SHARING} times its length")]
    Expands,
    /// It ends before the folder that this place should hold.
    #[error("it is cut short: there is nothing {0} bytes in")]
    CutShort(u64),
    /// It ends before, or within, an entry's content.
    #[error("{} lies beyond the end of the image", String::from_utf8_lossy(.name))]
    BeyondEnd {
        /// What the image calls it.
        name: Vec<u8>,
    },
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(IsoError);

impl Classed for IsoError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::TooMany | Self::Expands | Self::FolderTwice(_) => ErrorClass::Unsafe,
            Self::NoVolume | Self::Malformed { .. } | Self::CutShort(_) | Self::BeyondEnd { .. } => ErrorClass::Damaged,
        }
    }
}
