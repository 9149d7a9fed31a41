//! Reading files from where they stand, piece by piece: whoever copies, joins or digests a file does it through here, and can be
//! stopped between two pieces.

use super::{FileAction, FileError, Interruption, Links, open_regular};
use crate::ground::context::Context;
use crate::ground::retrying::uninterrupted;
use sha2::{Digest as _, Sha256};
use std::io::Read;
use std::path::Path;

/// So many bytes are read at once.
const READ_BYTES: u64 = 1024 * 1024;

/// A SHA-256, by which pieces and copies are known anywhere (FIPS 180-4).
pub type Sha256Sum = [u8; 32];

/// Reads a file from where it stands, at most so many bytes, and hands on what it holds; how many there were.
///
/// # Errors
/// [`Interruption`], or what `take` comes upon.
pub fn read_on<E: From<Interruption>>(
    mut file: impl Read,
    path: &Path,
    bytes: u64,
    context: &Context<'_>,
    mut take: impl FnMut(&[u8]) -> Result<(), E>,
) -> Result<u64, E> {
    let mut buffer = vec![0; READ_BYTES.min(bytes) as usize];
    let mut done = 0;
    while done < bytes {
        context.go_on().map_err(Interruption::from)?;
        let room = buffer.len().min(usize::try_from(bytes - done).unwrap_or(usize::MAX));
        let read = uninterrupted(|| file.read(&mut buffer[..room]));
        let count = read.map_err(|error| Interruption::from(FileError::on(FileAction::Read, path)(error)))?;
        if count == 0 {
            break;
        }
        take(&buffer[..count])?;
        done += count as u64;
    }
    Ok(done)
}

/// Reads a regular file from its beginning to its end, and hands on what it holds; how many bytes.
///
/// # Errors
/// [`Interruption`], or what `take` comes upon.
pub fn read_through<E: From<Interruption>>(
    path: &Path,
    context: &Context<'_>,
    take: impl FnMut(&[u8]) -> Result<(), E>,
) -> Result<u64, E> {
    let (file, _) = open_regular(path, Links::Follow).map_err(Interruption::from)?;
    read_on(file, path, u64::MAX, context, take)
}

/// A file's BLAKE3, read from its beginning to its end: whether something of the program's own is what was written.
///
/// # Errors
/// [`Interruption`].
pub(crate) fn digest_of(path: &Path, context: &Context<'_>) -> Result<blake3::Hash, Interruption> {
    let mut digest = blake3::Hasher::new();
    read_through(path, context, |bytes| {
        digest.update(bytes);
        Ok::<_, Interruption>(())
    })?;
    Ok(digest.finalize())
}

/// A file's SHA-256, read from its beginning to its end.
pub(crate) fn sum_of(path: &Path, context: &Context<'_>) -> Result<Sha256Sum, Interruption> {
    let (file, _) = open_regular(path, Links::Follow)?;
    sum_on(file, path, context)
}

/// The SHA-256 of what is still to be read, which the path names in errors.
pub(crate) fn sum_on(from: impl Read, path: &Path, context: &Context<'_>) -> Result<Sha256Sum, Interruption> {
    let mut sum = Sha256::new();
    read_on(from, path, u64::MAX, context, |bytes| {
        sum.update(bytes);
        Ok::<_, Interruption>(())
    })?;
    Ok(sum.finalize().into())
}
