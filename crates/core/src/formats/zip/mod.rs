//! ZIP archives, as the public application note describes them: a directory at the end names entries, each of which
//! stands somewhere before it behind a header of its own. The note's sections are named where a layout is read.
//!
//! Reading believes nothing twice said that is not said alike: directory and local headers must agree, entries lie apart and
//! before the directory, and there is one end only. What comes out is held to its declared size and CRC, and, where it is
//! encrypted with AES-256, to its authentication code.
//!
//! An archive may lie under a [cover](`COVER_NAME`), which hides names too: it is written as an entry of another, and read as
//! if that were not there.

mod agreement;
mod cipher;
mod cover;
mod directory;
mod encryption;
mod headers;
mod methods;
mod names;
mod parts;
mod reader;
mod segments;
mod times;
mod writer;

pub use agreement::Encryption;
pub use cover::COVER_NAME;
pub use directory::{END_BYTES, MAX_COMMENT_BYTES};
pub use encryption::{ENCRYPTION_BYTES, Encrypting, SALT_BYTES};
pub use headers::{Described, Finished, may_need_64};
pub use methods::Method;
pub use parts::{PartsError, is_zip, open_parts};
pub use reader::ZipReader;
pub use segments::Segments;
pub use writer::{MAX_PARTS, ZipWriteError, ZipWriter};

use crate::disk::FileError;
use crate::formats::members::RefusedReason;
use crate::ground::context::Cancelled;
use crate::ground::wire::Malformed;

/// No directory is longer than this, in bytes: some million entries.
pub const MAX_DIRECTORY_BYTES: u64 = 1 << 28;

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
    /// The directory is longer than [`MAX_DIRECTORY_BYTES`].
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
    /// The system refused an operation.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}
