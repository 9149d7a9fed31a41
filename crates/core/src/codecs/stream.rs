//! Streams that are compressed as a whole: recognised by how they begin, and read through, several one behind the other
//! included. No decompressor gets more memory than a stated limit.

use std::io::{self, BufRead, Read};

/// No decompressor takes more memory than this for its window, in bytes.
pub const MAX_WINDOW_BYTES: u64 = 128 * 1024 * 1024;

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

    /// What reads through a stream that is compressed so.
    ///
    /// # Errors
    /// Where there is too little memory for that.
    pub fn reader(self, from: impl BufRead + 'static) -> io::Result<Box<dyn Read>> {
        Ok(match self {
            Self::None => Box::new(from),
            Self::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(from)),
            Self::Zstandard => {
                let mut decoder = zstd::stream::read::Decoder::with_buffer(from)?;
                decoder.window_log_max(MAX_WINDOW_BYTES.ilog2())?;
                Box::new(decoder)
            }
            Self::Xz => {
                let flags = liblzma::stream::CONCATENATED;
                let stream = liblzma::stream::Stream::new_stream_decoder(MAX_WINDOW_BYTES * 2, flags)?;
                Box::new(liblzma::bufread::XzDecoder::new_stream(from, stream))
            }
            Self::Bzip2 => Box::new(bzip2::bufread::MultiBzDecoder::new(from)),
        })
    }
}
