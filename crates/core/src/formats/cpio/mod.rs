//! Cpio archives: a row of headers, each followed by a name and a content, and an entry of a certain name at the end. Two forms are
//! read: the portable one of old (POSIX.1-2017, `pax`, "cpio Interchange Format"), whose numbers are
//! octal, and the "new ASCII" one of System V Release 4 (`newc`), whose numbers are hexadecimal and which may have a sum of each
//! content. There is no directory, so reading goes through all of it once before anything is said of it.

mod header;
mod walk;

pub use walk::{is_cpio, open};

/// No name is longer than this, in bytes, with the zero that ends it.
pub const MAX_NAME_BYTES: u64 = 64 * 1024;

/// What the entry that ends an archive is called (POSIX.1-2017, `pax`, "cpio Interchange Format").
const END_NAME: &[u8] = b"TRAILER!!!";
