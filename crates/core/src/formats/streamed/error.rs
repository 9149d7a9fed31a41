//! Why an archive that is read from its beginning to its end cannot be.

use super::wrapped::UnwrapError;
use crate::disk::{Interruption, interruptible};
use crate::formats::members::{MAX_ENTRIES, MAX_PATHS_BYTES};
use crate::ground::class::{Classed, ErrorClass};

/// Why an archive that is read from its beginning to its end cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum StreamedError {
    /// It ends in the middle of something, or without the zeros that end it.
    #[error("it is cut short")]
    CutShort,
    /// A header's sum is wrong.
    #[error("a header is damaged, {0} bytes in")]
    Header(u64),
    /// A header or record breaks a rule of the format.
    #[error("malformed {what}, {at} bytes in")]
    Malformed {
        /// What.
        what: &'static str,
        /// Where in what is inside the compression.
        at: u64,
    },
    /// There are more than [`MAX_ENTRIES`], or their names are longer than [`MAX_PATHS_BYTES`] in all.
    #[error("more than {MAX_ENTRIES} entries, or names of more than {MAX_PATHS_BYTES} bytes")]
    TooMany,
    /// It is another archive now than when it was opened.
    #[error("it changed while it was read")]
    Changed,
    /// What it is compressed with does not decompress.
    #[error("it does not decompress")]
    Damaged,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(StreamedError);

impl Classed for StreamedError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::TooMany => ErrorClass::Unsafe,
            _ => ErrorClass::Damaged,
        }
    }
}

impl From<UnwrapError> for StreamedError {
    fn from(error: UnwrapError) -> Self {
        match error {
            UnwrapError::Damaged => Self::Damaged,
            UnwrapError::Interrupted(error) => error.into(),
        }
    }
}
