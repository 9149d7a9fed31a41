//! Methods: how an entry's data is compressed (section 4.4.5), each decompressed by a crate of its own, with a limit to the
//! memory that a stream may ask for.

use crate::codecs::stream::MAX_WINDOW_BYTES;
use std::io::{self, BufRead, BufReader, Cursor, Read};

/// The same as a power of two.
const MAX_WINDOW_LOG: u32 = MAX_WINDOW_BYTES.ilog2();

/// Flag: an LZMA stream says itself where it ends (section 4.4.4).
const LZMA_END_MARKED: u16 = 1 << 1;

/// How data is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Method {
    /// Not at all.
    Stored,
    /// Deflate (RFC 1951).
    Deflate,
    /// Deflate with a window of 64 KiB.
    Deflate64,
    /// Bzip2.
    Bzip2,
    /// LZMA.
    Lzma {
        /// Whether the stream says itself where it ends.
        end_marked: bool,
    },
    /// Zstandard (RFC 8878).
    Zstandard,
    /// Xz.
    Xz,
}

impl Method {
    /// The method of this number; `None` where it is not read here.
    pub(super) const fn from_number(number: u16, flags: u16) -> Option<Self> {
        Some(match number {
            0 => Self::Stored,
            8 => Self::Deflate,
            9 => Self::Deflate64,
            12 => Self::Bzip2,
            14 => Self::Lzma { end_marked: flags & LZMA_END_MARKED != 0 },
            93 => Self::Zstandard,
            95 => Self::Xz,
            _ => return None,
        })
    }

    /// Its number (section 4.4.5).
    pub const fn number(self) -> u16 {
        match self {
            Self::Stored => 0,
            Self::Deflate => 8,
            Self::Deflate64 => 9,
            Self::Bzip2 => 12,
            Self::Lzma { .. } => 14,
            Self::Zstandard => 93,
            Self::Xz => 95,
        }
    }

    /// What it says in an entry's flags.
    pub(super) const fn flags(self) -> u16 {
        if matches!(self, Self::Lzma { end_marked: true }) { LZMA_END_MARKED } else { 0 }
    }

    /// What reading it needs (section 4.4.3).
    pub(super) const fn version(self) -> u16 {
        match self {
            Self::Stored | Self::Deflate => 20,
            Self::Deflate64 => 21,
            Self::Bzip2 => 46,
            Self::Lzma { .. } | Self::Zstandard | Self::Xz => 63,
        }
    }

    /// What people call it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Stored => "stored",
            Self::Deflate => "deflate",
            Self::Deflate64 => "deflate64",
            Self::Bzip2 => "bzip2",
            Self::Lzma { .. } => "LZMA",
            Self::Zstandard => "Zstandard",
            Self::Xz => "xz",
        }
    }

    /// A reader of the content, which comes to `size` bytes.
    pub(super) fn decompressing<'a>(self, data: impl Read + 'a, size: u64) -> io::Result<Box<dyn Read + 'a>> {
        let mut data = BufReader::with_capacity(64 * 1024, data);
        Ok(match self {
            Self::Stored => Box::new(data),
            Self::Deflate => Box::new(flate2::bufread::DeflateDecoder::new(data)),
            Self::Deflate64 => Box::new(deflate64::Deflate64Decoder::with_buffer(data)),
            Self::Bzip2 => Box::new(bzip2::bufread::MultiBzDecoder::new(data)),
            Self::Lzma { end_marked } => {
                let header = lzma_header(&mut data, (!end_marked).then_some(size))?;
                let stream = liblzma::stream::Stream::new_lzma_decoder(MAX_WINDOW_BYTES * 2)?;
                Box::new(liblzma::bufread::XzDecoder::new_stream(Cursor::new(header).chain(data), stream))
            }
            Self::Zstandard => {
                let mut decoder = zstd::stream::read::Decoder::with_buffer(data)?;
                decoder.window_log_max(MAX_WINDOW_LOG)?;
                Box::new(decoder)
            }
            Self::Xz => {
                let stream = liblzma::stream::Stream::new_stream_decoder(MAX_WINDOW_BYTES * 2, 0)?;
                Box::new(liblzma::bufread::XzDecoder::new_stream(data, stream))
            }
        })
    }
}

/// The header of a lone LZMA stream, from the one that stands in front of it in a ZIP (section 5.8.8): a version, the length
/// of the properties, and the properties.
fn lzma_header(data: &mut impl BufRead, size: Option<u64>) -> io::Result<Vec<u8>> {
    let mut front = [0; 9];
    data.read_exact(&mut front)?;
    if front[2..4] != [5, 0] {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let size = size.unwrap_or(u64::MAX).to_le_bytes();
    Ok([&front[4..], &size].concat())
}
