//! Small files that an option names: read to their end, or to a limit, since a device or a pipe may have none.

use std::fs::File;
use std::io::{self, Read as _};
use std::path::Path;
use zeroize::Zeroizing;

/// The most that a configuration, a template, a message, patterns or a ledger may have, in bytes.
pub const MAX_TEXT_BYTES: u64 = 16 * 1024 * 1024;

/// All bytes of a file, at most so many.
///
/// # Errors
/// What the system said; [`io::ErrorKind::FileTooLarge`] where it has more.
pub fn bytes(path: &Path, limit: u64) -> io::Result<Zeroizing<Vec<u8>>> {
    let mut bytes = Zeroizing::new(Vec::new());
    File::open(path)?.take(limit + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > limit { Err(io::ErrorKind::FileTooLarge.into()) } else { Ok(bytes) }
}

/// A file's text.
///
/// # Errors
/// As of [`bytes`]; [`io::ErrorKind::InvalidData`] for what is not UTF-8.
pub fn text(path: &Path) -> io::Result<String> {
    String::from_utf8(bytes(path, MAX_TEXT_BYTES)?.to_vec()).map_err(|_| io::ErrorKind::InvalidData.into())
}
