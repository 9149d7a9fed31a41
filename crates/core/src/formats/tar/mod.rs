//! Tar archives (POSIX.1-2024, `pax`): a row of headers of 512 bytes, each followed by its content, and two blocks of zeros
//! at the end. There is no directory, so reading goes through all of it once before anything is said of it.
//!
//! Nothing protects contents but what the archive may be compressed with; headers have a sum each.

mod header;
mod records;
mod sparse;
mod walk;
mod writer;

pub use walk::{is_tar, open};
pub use writer::{end, further_name, headers, headers_with_holes, padding};

/// Headers and contents fill whole blocks of so many bytes.
pub const BLOCK_BYTES: usize = 512;

/// No name and no set of extended records is longer than this, in bytes.
pub const MAX_RECORDS_BYTES: u64 = 1024 * 1024;
