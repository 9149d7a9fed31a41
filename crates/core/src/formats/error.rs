//! Why an archive of whatever format cannot be read.

use super::iso::IsoError;
use super::sealed::SealedError;
use super::streamed::StreamedError;
use super::zip::ZipError;
use crate::codecs::error::CodecError;
use crate::disk::{Interruption, interruptible};
use crate::ground::class::{Classed, ErrorClass};

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
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(ArchiveError);

impl Classed for ArchiveError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Sealed(error) => error.class(),
            Self::Zip(error) => error.class(),
            Self::Streamed(error) => error.class(),
            Self::Iso(error) => error.class(),
            Self::OpenToAll => ErrorClass::Damaged,
            Self::NoKeyFile | Self::Several => ErrorClass::Usage,
        }
    }
}

impl ArchiveError {
    /// What interrupted the reading, where it was that and not the archive.
    pub const fn interruption(&self) -> Option<&Interruption> {
        match self {
            Self::Interrupted(error)
            | Self::Sealed(SealedError::Interrupted(error))
            | Self::Zip(ZipError::Interrupted(error))
            | Self::Streamed(StreamedError::Interrupted(error))
            | Self::Iso(IsoError::Interrupted(error)) => Some(error),
            _ => None,
        }
    }

    /// Whether it was only stopped.
    pub const fn is_cancelled(&self) -> bool {
        matches!(self.interruption(), Some(Interruption::Cancelled(_)))
    }

    /// The entry whose content is not whole, and what is wrong with it, where that is all: the rest can be read on.
    pub fn damaged_entry(&self) -> Option<(&[u8], &'static str)> {
        match self {
            Self::Zip(ZipError::Damaged { name, what, .. }) => Some((name, what)),
            Self::Iso(IsoError::BeyondEnd { name }) => Some((name, "it lies beyond the end of the image")),
            _ => None,
        }
    }

    /// Whether there was too little memory for reading on.
    pub const fn is_lack_of_memory(&self) -> bool {
        matches!(self, Self::Sealed(SealedError::Codec(CodecError::Compressor)))
    }
}
