//! Small files that an option names: read to their end, or to a limit, since a device or a pipe may have none.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use zeroize::Zeroizing;

/// The most that a configuration, a template, a message, patterns or a ledger may have, in bytes.
pub const MAX_TEXT_BYTES: u64 = 16 * 1024 * 1024;

/// So much is read without the buffer growing.
const ROOM_BYTES: u64 = 64 * 1024;

/// All bytes of a file, at most so many.
///
/// # Errors
/// What the system said; [`io::ErrorKind::FileTooLarge`] where it has more.
pub fn bytes(path: &Path, limit: u64) -> io::Result<Zeroizing<Vec<u8>>> {
    up_to(File::open(path)?, limit)
}

/// All that can be read from here, at most so many bytes.
pub fn up_to(from: impl Read, limit: u64) -> io::Result<Zeroizing<Vec<u8>>> {
    // Room for a secret at once: a buffer that grows leaves copies behind that nobody wipes.
    let mut bytes = Zeroizing::new(Vec::with_capacity(limit.min(ROOM_BYTES) as usize + 1));
    from.take(limit + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > limit { Err(io::ErrorKind::FileTooLarge.into()) } else { Ok(bytes) }
}

/// A file's text.
///
/// # Errors
/// As of [`bytes`]; [`io::ErrorKind::InvalidData`] for what is not UTF-8.
pub fn text(path: &Path) -> io::Result<String> {
    String::from_utf8(std::mem::take(&mut *bytes(path, MAX_TEXT_BYTES)?)).map_err(|_| io::ErrorKind::InvalidData.into())
}
