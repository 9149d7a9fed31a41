//! Tar archives (POSIX.1-2024, `pax`): a row of headers of 512 bytes, each followed by its content, and two blocks of zeros
//! at the end. There is no directory, so reading goes through all of it once before anything is said of it.
//!
//! Nothing protects contents but what the archive may be compressed with; headers have a sum each.

mod described;
mod header;
mod reader;
mod records;
mod sparse;
mod writer;

pub use reader::{TarReader, is_tar};
pub use writer::{end, headers, padding};

/// Headers and contents fill whole blocks of so many bytes.
pub const BLOCK_BYTES: usize = 512;

/// Holes, and second names of files, come out without being stored: they cost an archive nothing, and a disk a lot. In all they
/// come to no more than this many bytes, or than [`crate::formats::members::MAX_SHARING`] times what is stored where that is more.
pub const MAX_UNSTORED_BYTES: u64 = 64 * 1024 * 1024 * 1024;

/// No name and no set of extended records is longer than this, in bytes.
pub const MAX_RECORDS_BYTES: u64 = 1024 * 1024;
