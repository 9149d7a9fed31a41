//! Streams that are compressed as a whole: recognised by how they begin, and read through, several one behind the other
//! included. No decompressor gets more memory than a stated limit.

use crate::disk::{FileAction, FileError, Interruption, Links, interruptible, open_regular};
use crate::ground::context::Context;
use crate::ground::retrying::uninterrupted;
use std::fs::File;
use std::io::{self, BufReader, Read, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};

/// No decompressor takes more memory than this for its window, in bytes.
pub const MAX_WINDOW_BYTES: u64 = 128 * 1024 * 1024;

/// So many bytes are read at once.
const READ_BYTES: usize = 256 * 1024;

/// How a stream is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wrapping {
    /// Not at all.
    None,
    /// Gzip (RFC 1952).
    Gzip,
    /// Zstandard (RFC 8878).
    Zstandard,
    /// Xz.
    Xz,
    /// Bzip2.
    Bzip2,
}

impl Wrapping {
    /// How a stream that begins so is compressed.
    pub fn of(beginning: &[u8]) -> Self {
        match beginning {
            [0x1F, 0x8B, 8, ..] => Self::Gzip,
            [0x28, 0xB5, 0x2F, 0xFD, ..] => Self::Zstandard,
            // A frame that decompressors pass over may come first.
            [0x50..=0x5F, 0x2A, 0x4D, 0x18, ..] => Self::Zstandard,
            [0xFD, b'7', b'z', b'X', b'Z', 0, ..] => Self::Xz,
            [b'B', b'Z', b'h', b'1'..=b'9', ..] => Self::Bzip2,
            _ => Self::None,
        }
    }

    /// What people call it; nothing where there is none.
    pub fn names(self) -> Vec<&'static str> {
        match self {
            Self::None => Vec::new(),
            Self::Gzip => vec!["gzip"],
            Self::Zstandard => vec!["Zstandard"],
            Self::Xz => vec!["xz"],
            Self::Bzip2 => vec!["bzip2"],
        }
    }
}

/// A file, and how it is compressed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrappedFile {
    /// Where it is.
    pub path: PathBuf,
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
    pub fn look_at(path: &Path) -> Result<Self, FileError> {
        let (mut file, _) = open_regular(path, Links::Follow)?;
        let mut beginning = Vec::new();
        (&mut file).take(8).read_to_end(&mut beginning).map_err(FileError::on(FileAction::Read, path))?;
        Ok(Self { path: path.to_owned(), wrapping: Wrapping::of(&beginning) })
    }

    /// Begins to read what is inside.
    pub fn open<'a>(&self, context: &'a Context<'a>) -> Result<Unwrapped<'a>, UnwrapError> {
        let (mut file, _) = open_regular(&self.path, Links::Follow)?;
        file.seek(SeekFrom::Start(0)).map_err(FileError::on(FileAction::Read, &self.path))?;
        let reader = self.reader(BufReader::with_capacity(READ_BYTES, file)).map_err(|_| UnwrapError::Damaged)?;
        Ok(Unwrapped { reader, path: self.path.clone(), context, position: 0 })
    }

    fn reader(&self, file: BufReader<File>) -> io::Result<Box<dyn Read>> {
        Ok(match self.wrapping {
            Wrapping::None => Box::new(file),
            Wrapping::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(file)),
            Wrapping::Zstandard => {
                let mut decoder = zstd::stream::read::Decoder::with_buffer(file)?;
                decoder.window_log_max(MAX_WINDOW_BYTES.ilog2())?;
                Box::new(decoder)
            }
            Wrapping::Xz => {
                let flags = liblzma::stream::CONCATENATED;
                let stream = liblzma::stream::Stream::new_stream_decoder(MAX_WINDOW_BYTES * 2, flags)?;
                Box::new(liblzma::bufread::XzDecoder::new_stream(file, stream))
            }
            Wrapping::Bzip2 => Box::new(bzip2::bufread::MultiBzDecoder::new(file)),
        })
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
