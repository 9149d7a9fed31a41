//! Compressing and decompressing one block, and judging whether compression was worth it.
//!
//! A block stands alone: exactly one Zstandard frame (RFC 8878) that states its content size and needs
//! no dictionary, one stream of LZMA2 ([`super::lzma`]), or the bytes as they are. Decompression trusts nothing that it reads.

use super::entropy::bits_a_byte;
use super::error::CodecError;
use super::lzma::{self, Effort, Filter};
use zstd::bulk;
use zstd::zstd_safe::{self, CParameter};

/// The most bytes that a block may have before compression.
pub const MAX_BLOCK_BYTES: usize = 8 * 1024 * 1024;

/// How hard to compress.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Squeeze {
    /// Not at all.
    None,
    /// Fast.
    Light,
    /// The middle way between time and size.
    #[default]
    Even,
    /// Slow and smaller, in the largest blocks.
    Hard,
    /// Very slow and smallest, in the largest blocks.
    Utmost,
}

impl Squeeze {
    /// Every squeeze, from none to utmost.
    pub const ALL: [Self; 5] = [Self::None, Self::Light, Self::Even, Self::Hard, Self::Utmost];

    /// The Zstandard level of a file that is compressed with that as a whole; `None` where nothing is compressed.
    pub const fn zstandard_level(self) -> Option<i32> {
        match self {
            Self::None => None,
            Self::Light => Some(1),
            Self::Even => Some(3),
            Self::Hard => Some(12),
            Self::Utmost => Some(19),
        }
    }

    /// Bytes that are gathered in a block before it is compressed: larger ones for harder squeezes. A block may
    /// become longer by an entry's record, and stays under [`MAX_BLOCK_BYTES`].
    pub const fn block_bytes(self) -> usize {
        match self {
            Self::None | Self::Light | Self::Even => 1024 * 1024,
            Self::Hard | Self::Utmost => MAX_BLOCK_BYTES - 64 * 1024,
        }
    }

    /// Whether it takes much longer than reading and writing.
    pub const fn is_slow(self) -> bool {
        matches!(self, Self::Hard | Self::Utmost)
    }

    /// The number under which an archive keeps it.
    pub const fn number(self) -> u8 {
        self as u8
    }

    /// The squeeze with this number.
    pub const fn from_number(number: u8) -> Option<Self> {
        Some(match number {
            0 => Self::None,
            1 => Self::Light,
            2 => Self::Even,
            3 => Self::Hard,
            4 => Self::Utmost,
            _ => return None,
        })
    }
}

/// The Zstandard levels whose result LZMA2's is held against: what takes little beside it.
const BESIDE_BRIEF: i32 = 3;
const BESIDE_FULL: i32 = 12;

/// The largest window a reader must provide: log2 of [`MAX_BLOCK_BYTES`].
const MAX_WINDOW_LOG: u32 = 23;

/// How a block's bytes are stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Codec {
    /// As they are.
    Stored,
    /// One Zstandard frame.
    Zstandard,
    /// One .xz stream of LZMA2.
    Lzma2,
}

/// A block in its stored form.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Block {
    /// How its bytes are stored.
    pub codec: Codec,
    /// The stored bytes.
    pub stored: Vec<u8>,
    /// Bytes before compression.
    pub raw_bytes: usize,
}

/// How many pieces of a block are looked at, and how long each is.
const PIECES: usize = 32;
const PIECE_BYTES: usize = 512;

/// How much of the middle of a block that looks random is tried.
const TRIED_BYTES: usize = 128 * 1024;

/// Bits a byte from which on a sample counts as looking random. 16 KiB of random bytes have 7.99.
const RANDOM_LOOKING: f64 = 7.9;

/// Compresses blocks, reusing its contexts.
pub struct Compressor {
    /// `None` where nothing is compressed.
    context: Option<bulk::Compressor<'static>>,
    /// A fast one, to try blocks that look random.
    trial: Option<bulk::Compressor<'static>>,
    /// LZMA2 too, where it is worth its time.
    slow: Option<Effort>,
}

impl Compressor {
    /// A compressor that squeezes so hard.
    pub fn new(squeeze: Squeeze) -> Result<Self, CodecError> {
        let (level, slow) = match squeeze {
            Squeeze::Hard => (Some(BESIDE_BRIEF), Some(Effort::Brief)),
            Squeeze::Utmost => (Some(BESIDE_FULL), Some(Effort::Full)),
            fast => (fast.zstandard_level(), None),
        };
        let trial = level.and(Squeeze::Light.zstandard_level());
        Ok(Self { context: level.map(compressor).transpose()?, trial: trial.map(compressor).transpose()?, slow })
    }

    /// The same, and it finds matches from anywhere in a block, however far away: for telling what larger blocks would gain,
    /// without a slow squeeze's work.
    pub fn finding_far(squeeze: Squeeze) -> Result<Self, CodecError> {
        let mut far = Self::new(squeeze)?;
        if let Some(context) = &mut far.context {
            for parameter in [CParameter::WindowLog(MAX_WINDOW_LOG), CParameter::EnableLongDistanceMatching(true)] {
                context.set_parameter(parameter).map_err(|_| CodecError::Compressor)?;
            }
        }
        Ok(far)
    }

    /// The block's stored form: compressed where that saves at least one part in 64, at the slow squeezes by what makes it
    /// shorter. Of a block that looks random a part is tried fast, and the block is stored as it is if that saves nothing:
    /// to compress all of it would take long to find the same.
    ///
    /// `spare` is a buffer to use; where one is left over, it is given back beside the block.
    ///
    /// # Errors
    /// [`CodecError::Compressor`]; a block over [`MAX_BLOCK_BYTES`] is [`CodecError::Malformed`].
    pub fn compress(&mut self, block: Vec<u8>, mut spare: Vec<u8>) -> Result<(Block, Vec<u8>), CodecError> {
        if block.len() > MAX_BLOCK_BYTES {
            return Err(CodecError::Malformed);
        }
        let raw_bytes = block.len();
        let slow = self.slow.map(|effort| lzma::promising(&block).map(|found| (effort, found))).transpose()?;
        let has_filter = slow.is_some_and(|(_, found)| found.to_try().any(|filter| filter != Filter::None));
        let codec = match &mut self.context {
            Some(context) if has_filter || !is_hopeless(self.trial.as_mut(), &block, &mut spare)? => {
                let mut codec = compress_to(context, &block, &mut spare)?.then_some(Codec::Zstandard);
                for (effort, filter) in
                    slow.into_iter().flat_map(|(effort, found)| found.to_try().map(move |filter| (effort, filter)))
                {
                    let shortest = if codec.is_some() { spare.len() } else { worthwhile_bytes(block.len()) };
                    if compress_shorter(&block, filter, effort, shortest, &mut spare)? {
                        codec = Some(Codec::Lzma2);
                    }
                }
                codec
            }
            _ => None,
        };
        Ok(match codec {
            Some(codec) => (Block { codec, stored: spare, raw_bytes }, block),
            None => (Block { codec: Codec::Stored, stored: block, raw_bytes }, spare),
        })
    }
}

/// Whether a block looks random, and a part of it, tried fast, is not left shorter.
fn is_hopeless(
    trial: Option<&mut bulk::Compressor<'static>>,
    block: &[u8],
    buffer: &mut Vec<u8>,
) -> Result<bool, CodecError> {
    let Some(trial) = trial.filter(|_| block.len() >= 2 * TRIED_BYTES && entropy(block) >= RANDOM_LOOKING) else {
        return Ok(false);
    };
    let from = (block.len() - TRIED_BYTES) / 2;
    Ok(!compress_to(trial, &block[from..from + TRIED_BYTES], buffer)?)
}

/// Compresses a block with LZMA2 into the buffer, if that is shorter than so many bytes; whether it is.
fn compress_shorter(
    block: &[u8],
    filter: Filter,
    effort: Effort,
    bytes: usize,
    buffer: &mut Vec<u8>,
) -> Result<bool, CodecError> {
    let mut output = Vec::new();
    output.try_reserve_exact(bytes.saturating_sub(1)).map_err(|_| CodecError::Compressor)?;
    let is_shorter = lzma::compress(block, filter, effort, &mut output)?;
    if is_shorter {
        *buffer = output;
    }
    Ok(is_shorter)
}

/// What a block must be left shorter than to be stored compressed.
const fn worthwhile_bytes(length: usize) -> usize {
    length.saturating_sub(length / 64)
}

/// Compresses some bytes into the buffer; whether that saves at least one part in 64.
fn compress_to(
    context: &mut bulk::Compressor<'static>,
    bytes: &[u8],
    buffer: &mut Vec<u8>,
) -> Result<bool, CodecError> {
    buffer.clear();
    buffer.try_reserve(zstd_safe::compress_bound(bytes.len())).map_err(|_| CodecError::Compressor)?;
    let length = context.compress_to_buffer(bytes, buffer).map_err(|_| CodecError::Compressor)?;
    Ok(length < worthwhile_bytes(bytes.len()))
}

fn compressor(level: i32) -> Result<bulk::Compressor<'static>, CodecError> {
    let mut context = bulk::Compressor::new(level).map_err(|_| CodecError::Compressor)?;
    for parameter in [
        CParameter::ContentSizeFlag(true),
        CParameter::ChecksumFlag(false),
        CParameter::DictIdFlag(false),
        CParameter::WindowLog(0),
    ] {
        context.set_parameter(parameter).map_err(|_| CodecError::Compressor)?;
    }
    Ok(context)
}

/// Whether a block looks random, as what is compressed or encrypted already does: no compressor makes much of it.
pub fn looks_random(block: &[u8]) -> bool {
    block.len() >= PIECES * PIECE_BYTES && entropy(block) >= RANDOM_LOOKING
}

/// The entropy of a sample of the block's bytes, taken evenly, each byte by itself, in bits: 0 to 8.
fn entropy(block: &[u8]) -> f64 {
    let step = (block.len() / PIECES).max(1);
    let pieces = block.chunks(step).map(|piece| &piece[..piece.len().min(PIECE_BYTES)]);
    bits_a_byte(pieces.flatten().copied())
}

/// Decompresses blocks, reusing one context.
pub struct Decompressor(bulk::Decompressor<'static>);

impl Decompressor {
    /// A decompressor.
    pub fn new() -> Result<Self, CodecError> {
        bulk::Decompressor::new().map(Self).map_err(|_| CodecError::Compressor)
    }

    /// The block's bytes, which must be exactly `length` long, and the buffer that is left over of `stored` and `spare`.
    ///
    /// # Errors
    /// [`CodecError::Malformed`]; nothing beyond `length` is ever allocated.
    pub fn decompress_owned(
        &mut self,
        codec: Codec,
        stored: Vec<u8>,
        length: usize,
        mut spare: Vec<u8>,
    ) -> Result<(Vec<u8>, Vec<u8>), CodecError> {
        if codec == Codec::Stored && stored.len() == length && length <= MAX_BLOCK_BYTES {
            return Ok((stored, spare));
        }
        self.decompress(codec, &stored, length, &mut spare)?;
        Ok((spare, stored))
    }

    /// Puts the block's bytes, which must be exactly `length` long, into `output`.
    ///
    /// # Errors
    /// [`CodecError::Malformed`]; nothing beyond `length` is ever allocated.
    pub fn decompress(
        &mut self,
        codec: Codec,
        stored: &[u8],
        length: usize,
        output: &mut Vec<u8>,
    ) -> Result<(), CodecError> {
        output.clear();
        if length > MAX_BLOCK_BYTES {
            return Err(CodecError::Malformed);
        }
        match codec {
            Codec::Stored if stored.len() == length => output.extend_from_slice(stored),
            Codec::Zstandard if is_one_frame(stored, length) => {
                output.try_reserve(length).map_err(|_| CodecError::Compressor)?;
                let written = self.0.decompress_to_buffer(stored, output);
                if !written.is_ok_and(|written| written == length) {
                    output.clear();
                    return Err(CodecError::Malformed);
                }
            }
            Codec::Lzma2 => lzma::decompress(stored, length, output)?,
            _ => return Err(CodecError::Malformed),
        }
        Ok(())
    }
}

/// Whether the bytes are exactly one Zstandard frame with this content size, a bounded window and no
/// dictionary. The library by itself would accept several frames and skippable ones.
fn is_one_frame(stored: &[u8], length: usize) -> bool {
    let Some(header) = FrameHeader::read(stored) else { return false };
    header.content_size == length as u64
        && header.window <= 1 << MAX_WINDOW_LOG
        && zstd_safe::find_frame_compressed_size(stored).is_ok_and(|size| size == stored.len())
}

struct FrameHeader {
    content_size: u64,
    window: u64,
}

impl FrameHeader {
    /// RFC 8878 §3.1.1.1. `None` also for frames without a content size or with a dictionary.
    fn read(frame: &[u8]) -> Option<Self> {
        let rest = frame.strip_prefix(&0xFD2F_B528_u32.to_le_bytes())?;
        let (&descriptor, rest) = rest.split_first()?;
        let (size_flag, single_segment) = (descriptor >> 6, descriptor & 0x20 != 0);
        let (reserved, dictionary) = (descriptor & 0x08, descriptor & 0x03);
        if reserved != 0 || dictionary != 0 {
            return None;
        }
        let (window, rest) = if single_segment {
            (None, rest)
        } else {
            let (&byte, rest) = rest.split_first()?;
            let base = 1u64 << (10 + (byte >> 3));
            (Some(base + base / 8 * u64::from(byte & 7)), rest)
        };
        let field = |width: usize| {
            let mut bytes = [0; 8];
            bytes[..width].copy_from_slice(rest.get(..width)?);
            Some(u64::from_le_bytes(bytes))
        };
        let content_size = match (size_flag, single_segment) {
            (0, false) => return None,
            (0, true) => field(1)?,
            (1, _) => field(2)? + 256,
            (2, _) => field(4)?,
            _ => field(8)?,
        };
        Some(Self { content_size, window: window.unwrap_or(content_size) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn text(length: usize) -> Vec<u8> {
        b"the lamp was lit at dusk; ".iter().copied().cycle().take(length).collect()
    }

    #[rstest]
    fn every_squeeze_gives_back_what_it_got(
        #[values(Squeeze::None, Squeeze::Light, Squeeze::Even, Squeeze::Hard, Squeeze::Utmost)] squeeze: Squeeze,
    ) {
        let block = text(squeeze.block_bytes());
        let compressed = Compressor::new(squeeze).unwrap().compress(block.clone(), Vec::new()).unwrap().0;
        assert_eq!(compressed.codec == Codec::Stored, squeeze == Squeeze::None);
        let mut output = Vec::new();
        let mut decompressor = Decompressor::new().unwrap();
        decompressor.decompress(compressed.codec, &compressed.stored, block.len(), &mut output).unwrap();
        assert_eq!(output, block);
        assert_eq!(Squeeze::from_number(squeeze.number()), Some(squeeze));
    }

    #[rstest]
    #[case::empty(Vec::new(), Codec::Stored)]
    #[case::short(text(9), Codec::Stored)]
    #[case::text(text(300_000), Codec::Zstandard)]
    #[case::largest(text(MAX_BLOCK_BYTES), Codec::Zstandard)]
    #[case::hash_output(blake3::Hasher::new().finalize_xof_bytes(70_000), Codec::Stored)]
    fn a_block_comes_back_and_is_compressed_only_where_that_saves(#[case] block: Vec<u8>, #[case] expected: Codec) {
        let mut compressor = Compressor::new(Squeeze::default()).unwrap();
        let Block { codec, stored, .. } = compressor.compress(block.clone(), Vec::new()).unwrap().0;
        assert_eq!(codec, expected);
        let mut output = Vec::new();
        Decompressor::new().unwrap().decompress(codec, &stored, block.len(), &mut output).unwrap();
        assert_eq!(output, block);
    }

    trait XofBytes {
        fn finalize_xof_bytes(&self, length: usize) -> Vec<u8>;
    }

    impl XofBytes for blake3::Hasher {
        fn finalize_xof_bytes(&self, length: usize) -> Vec<u8> {
            let mut bytes = vec![0; length];
            self.finalize_xof().fill(&mut bytes);
            bytes
        }
    }

    #[rstest]
    #[case::two_frames(|frame: &mut Vec<u8>| frame.extend(frame.clone()))]
    #[case::skippable_frame_behind(|frame: &mut Vec<u8>| frame.extend([0x50, 0x2A, 0x4D, 0x18, 0, 0, 0, 0]))]
    #[case::cut_short(|frame: &mut Vec<u8>| frame.truncate(frame.len() - 1))]
    #[case::other_content_size(|frame: &mut Vec<u8>| frame[6] ^= 1)]
    #[case::dictionary_wanted(|frame: &mut Vec<u8>| frame[4] |= 1)]
    #[case::no_frame_at_all(|frame: &mut Vec<u8>| frame.clear())]
    fn anything_but_one_plain_frame_is_refused(#[case] spoil: fn(&mut Vec<u8>)) {
        let block = text(5_000);
        let mut frame = Compressor::new(Squeeze::default()).unwrap().compress(block, Vec::new()).unwrap().0.stored;
        spoil(&mut frame);
        let outcome = Decompressor::new().unwrap().decompress(Codec::Zstandard, &frame, 5_000, &mut Vec::new());
        assert_eq!(outcome, Err(CodecError::Malformed));
    }
}
