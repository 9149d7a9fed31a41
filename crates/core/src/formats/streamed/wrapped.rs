//! What may be compressed as a whole: how it begins tells how, and its content is read from the beginning to the end.

use crate::codecs::stream::Wrapping;
use crate::disk::{FileAction, FileError, Interruption, interruptible};
use crate::formats::spot::Spot;
use crate::ground::context::Context;
use crate::ground::retrying::uninterrupted;
use std::io::{BufReader, Read};
use std::path::PathBuf;

/// So many bytes are read at once.
const READ_BYTES: usize = 256 * 1024;

/// So many bytes of a beginning tell how it is compressed.
const BEGINNING_BYTES: usize = 8;

/// A file, and how it is compressed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrappedFile {
    /// Where it is.
    pub spot: Spot,
    /// How it is compressed.
    pub wrapping: Wrapping,
}

/// Bytes on their way out of a compressed file.
pub struct Unwrapped<'a> {
    reader: Box<dyn Read>,
    path: PathBuf,
    context: &'a Context<'a>,
    position: u64,
}

/// Why a stream cannot be read on.
#[derive(Debug, thiserror::Error)]
pub enum UnwrapError {
    /// It does not decompress, or ends before it should.
    #[error("it does not decompress")]
    Damaged,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(UnwrapError);

impl WrappedFile {
    /// Looks at how a file begins.
    ///
    /// # Errors
    /// [`FileError`] from the system, or where it is no regular file.
    pub fn look_at(spot: &Spot) -> Result<Self, FileError> {
        let mut beginning = [0; BEGINNING_BYTES];
        let filled = spot.open()?.read_up_to(&mut beginning, 0).map_err(FileError::on(FileAction::Read, &spot.path))?;
        Ok(Self { spot: spot.clone(), wrapping: Wrapping::of(&beginning[..filled]) })
    }

    /// Begins to read what is inside.
    pub fn open<'a>(&self, context: &'a Context<'a>) -> Result<Unwrapped<'a>, UnwrapError> {
        let file = BufReader::with_capacity(READ_BYTES, self.spot.open()?.into_reader());
        let reader = self.wrapping.reader(file).map_err(|_| UnwrapError::Damaged)?;
        Ok(Unwrapped { reader, path: self.spot.path.clone(), context, position: 0 })
    }
}

impl Unwrapped<'_> {
    /// Bytes that came out so far.
    pub fn position(&self) -> u64 {
        self.position
    }

    /// The next bytes; none at the end.
    pub fn read(&mut self, buffer: &mut [u8]) -> Result<usize, UnwrapError> {
        self.context.go_on()?;
        match uninterrupted(|| self.reader.read(buffer)) {
            Ok(count) => {
                self.position += count as u64;
                Ok(count)
            }
            // What the system says comes with its number; what a decompressor says does not.
            Err(error) if error.raw_os_error().is_some() => {
                Err(FileError::on(FileAction::Read, &self.path)(error).into())
            }
            Err(_) => Err(UnwrapError::Damaged),
        }
    }

    /// Fills a buffer; how much of it, which is less only at the end.
    pub fn fill(&mut self, buffer: &mut [u8]) -> Result<usize, UnwrapError> {
        let mut filled = 0;
        while filled < buffer.len() {
            match self.read(&mut buffer[filled..])? {
                0 => break,
                count => filled += count,
            }
        }
        Ok(filled)
    }
}
