//! Why a ZIP archive cannot be read.

use crate::disk::{Interruption, interruptible};
use crate::formats::members::RefusedReason;
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::wire::Malformed;

/// Why a ZIP archive cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum ZipError {
    /// There is no end record.
    #[error("no end of a directory")]
    NoEnd,
    /// There are two ends that both could be it.
    #[error("two ends of a directory")]
    TwoEnds,
    /// Bytes break a rule of the format.
    #[error(transparent)]
    Malformed(#[from] Malformed),
    /// The directory is longer than [`MAX_DIRECTORY_BYTES`](super::MAX_DIRECTORY_BYTES).
    #[error("a directory of {0} bytes")]
    LargeDirectory(u64),
    /// It is in so many parts, and this many were given.
    #[error("{given} of {parts} parts")]
    Parts {
        /// How many parts there should be.
        parts: u32,
        /// How many there are.
        given: usize,
    },
    /// Parts are missing, by their numbers from 1; of how many, where that is known. None are named where the last one is missing.
    #[error("parts {missing:?} are missing")]
    MissingParts {
        /// Their numbers.
        missing: Vec<u32>,
        /// How many there are.
        count: Option<u32>,
    },
    /// The directory and an entry's own header do not agree, or two entries share bytes.
    #[error("contradictory about an entry: {what}")]
    Contradiction {
        /// The entry's name.
        name: Vec<u8>,
        /// In what.
        what: &'static str,
    },
    /// An entry uses what is not read here.
    #[error("an entry uses {what}")]
    Unsupported {
        /// The entry's name.
        name: Vec<u8>,
        /// What it uses.
        what: RefusedReason,
    },
    /// An entry is encrypted, and no password was given.
    #[error("a password is needed")]
    NeedsPassword,
    /// The password is not the entry's.
    #[error("wrong password")]
    WrongPassword,
    /// Content is not what was packed: its checksum, code or length is wrong, or it does not decompress.
    #[error("damaged content: {what}")]
    Damaged {
        /// The entry's name.
        name: Vec<u8>,
        /// What is wrong.
        what: &'static str,
        /// It is encrypted, and the password may be the wrong one all the same.
        or_password: bool,
    },
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(ZipError);

impl Classed for ZipError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::NeedsPassword | Self::Unsupported { .. } => ErrorClass::Usage,
            Self::WrongPassword => ErrorClass::WrongPassword,
            Self::Parts { .. } | Self::MissingParts { .. } => ErrorClass::VolumesMissing,
            Self::TwoEnds | Self::Contradiction { .. } | Self::LargeDirectory(_) => ErrorClass::Unsafe,
            Self::NoEnd | Self::Malformed(_) | Self::Damaged { .. } => ErrorClass::Damaged,
        }
    }
}
