//! Why a sealed archive cannot be read, or written.

use super::cells::NotAuthentic;
use super::frame::FrameError;
use super::head::HeadError;
use super::index::RootError;
use super::record::RecordError;
use super::stream::StreamError;
use super::volume::WriteError;
use crate::codecs::block::CodecError;
use crate::disk::FileError;
use crate::ground::context::{Cancelled, NoRandomness};
use crate::ground::pipeline::{NoThreads, Stopped};
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
    /// The system gave too few threads.
    #[error(transparent)]
    NoThreads(#[from] NoThreads),
    /// A file's content is not what its digest says.
    #[error("the content of {} is not what was packed", String::from_utf8_lossy(.0))]
    WrongDigest(Vec<u8>),
    /// The user asked to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
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
    /// Nobody took the cells any more.
    #[error(transparent)]
    Stopped(#[from] Stopped),
}

impl From<FileError> for SealError {
    fn from(error: FileError) -> Self {
        Self::Write(error.into())
    }
}

impl From<NoRandomness> for SealError {
    fn from(error: NoRandomness) -> Self {
        Self::Head(error.into())
    }
}
