//! Tar archives (POSIX.1-2024, `pax`): a row of headers of 512 bytes, each followed by its content, and two blocks of zeros
//! at the end. There is no directory, so reading goes through all of it once before anything is said of it.
//!
//! Nothing protects contents but what the archive may be compressed with; headers have a sum each.

mod header;
mod reader;
mod records;
mod sparse;
mod writer;

pub use reader::{TarReader, is_tar};
pub use writer::{end, headers, padding};

use crate::codecs::stream::UnwrapError;
use crate::disk::FileError;
use crate::formats::members::{MAX_ENTRIES, MAX_PATHS_BYTES};

/// Headers and contents fill whole blocks of so many bytes.
pub const BLOCK_BYTES: usize = 512;

/// Holes, and second names of files, come out without being stored: they cost an archive nothing, and a disk a lot. In all they
/// come to no more than this many bytes, or than [`crate::formats::members::MAX_SHARING`] times what is stored where that is more.
pub const MAX_UNSTORED_BYTES: u64 = 64 * 1024 * 1024 * 1024;

/// No name and no set of extended records is longer than this, in bytes.
pub const MAX_RECORDS_BYTES: u64 = 1024 * 1024;

/// Why a tar archive cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum TarError {
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
    /// The system refused an operation.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked to stop.
    #[error(transparent)]
    Cancelled(#[from] crate::ground::context::Cancelled),
}

impl From<UnwrapError> for TarError {
    fn from(error: UnwrapError) -> Self {
        match error {
            UnwrapError::Damaged => Self::Damaged,
            UnwrapError::File(error) => error.into(),
            UnwrapError::Cancelled(error) => error.into(),
        }
    }
}
