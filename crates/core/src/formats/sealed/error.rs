//! Why a sealed archive cannot be read, or written.

use super::cells::NotAuthentic;
use super::frame::FrameError;
use super::further_names::TooFar;
use super::head::HeadError;
use super::index::RootError;
use super::record::RecordError;
use super::stream::StreamError;
use super::volume::WriteError;
use crate::codecs::error::CodecError;
use crate::disk::{Interruption, interruptible};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::wire::Malformed;

/// Why an archive cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum SealedError {
    /// It cannot be unlocked.
    #[error(transparent)]
    Head(#[from] HeadError),
    /// A part of the stream is missing, damaged, not authentic or malformed.
    #[error(transparent)]
    Stream(#[from] StreamError),
    /// A record breaks the format's rules, needs a newer version or has an unsafe path.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// A frame breaks the format's rules or needs a newer version.
    #[error(transparent)]
    Frame(#[from] FrameError),
    /// The index's root breaks the format's rules or needs a newer version.
    #[error(transparent)]
    Root(#[from] RootError),
    /// A frame does not decompress.
    #[error(transparent)]
    Codec(#[from] CodecError),
    /// A file's content is not what its digest says.
    #[error("the content of {} is not what was packed", String::from_utf8_lossy(.0))]
    WrongDigest(Vec<u8>),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

impl SealedError {
    /// Whether the archive was made by a later version of the format, in a way that this one may not skip.
    pub fn needs_newer_version(&self) -> bool {
        matches!(
            self,
            Self::Head(HeadError::Unknown)
                | Self::Record(RecordError::UnknownType(_))
                | Self::Frame(FrameError::UnknownKind(_) | FrameError::UnknownCodec(_))
                | Self::Root(RootError::UnknownProperty(_))
        )
    }
}

interruptible!(SealedError);

impl Classed for SealedError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Head(HeadError::WrongPassword { .. }) => ErrorClass::WrongPassword,
            Self::Head(HeadError::Costly(_)) => ErrorClass::Unsafe,
            Self::Head(HeadError::NoMemory(_) | HeadError::NoRandomness(_)) => ErrorClass::System,
            Self::Stream(StreamError::Cell(error)) => error.class(),
            Self::Record(RecordError::UnsafePath { .. }) => ErrorClass::Unsafe,
            Self::Codec(CodecError::Compressor) => ErrorClass::System,
            error if error.needs_newer_version() => ErrorClass::Usage,
            _ => ErrorClass::Damaged,
        }
    }
}

impl From<Malformed> for SealedError {
    fn from(malformed: Malformed) -> Self {
        StreamError::from(malformed).into()
    }
}

/// Why an archive cannot be written.
#[derive(Debug, thiserror::Error)]
pub enum SealError {
    /// Volumes cannot be written.
    #[error(transparent)]
    Write(#[from] WriteError),
    /// The head cannot be made.
    #[error(transparent)]
    Head(#[from] HeadError),
    /// Compression failed.
    #[error(transparent)]
    Codec(#[from] CodecError),
    /// Sealing failed.
    #[error(transparent)]
    Seal(#[from] NotAuthentic),
    /// More entries than one index holds.
    #[error("too many entries")]
    TooManyEntries,
    /// Entries came in another order than that of their paths.
    #[error("entries out of order")]
    OutOfOrder,
    /// A file with further names cannot be moved so far from them.
    #[error(transparent)]
    TooFar(#[from] TooFar),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(SealError);

impl Classed for SealError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Write(error) => error.class(),
            Self::TooManyEntries | Self::TooFar(_) => ErrorClass::Usage,
            Self::Head(HeadError::KeyholeCount(_)) => ErrorClass::Usage,
            Self::Head(_) | Self::Codec(_) | Self::Seal(_) | Self::OutOfOrder => ErrorClass::System,
        }
    }
}
