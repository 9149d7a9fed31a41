//! Why an archive of whatever format cannot be read.

use super::iso::IsoError;
use super::sealed::SealedError;
use super::streamed::StreamedError;
use super::zip::ZipError;
use crate::disk::FileError;
use crate::ground::context::Cancelled;

/// Why an archive cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum ArchiveError {
    /// A sealed one.
    #[error(transparent)]
    Sealed(#[from] SealedError),
    /// A ZIP archive.
    #[error(transparent)]
    Zip(#[from] ZipError),
    /// One that is read from its beginning to its end.
    #[error(transparent)]
    Streamed(#[from] StreamedError),
    /// A disc image.
    #[error(transparent)]
    Iso(#[from] IsoError),
    /// Nothing in it is encrypted, and a password was given: whoever gave it expects another archive.
    #[error("it has no password")]
    OpenToAll,
    /// Several archives are there, and one is wanted.
    #[error("several archives")]
    Several,
    /// A key file was given, which its format does not know.
    #[error("its format knows no key files")]
    NoKeyFile,
    /// The system refused an operation.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user, or whoever receives the entries, asked to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}
