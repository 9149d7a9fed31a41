//! One deflate stream (RFC 1951) from chunks that are compressed each by itself: each but the last ends with a sync flush, and
//! may refer back into the one before it. So all cores work on one stream, and its bytes are the same for any number of them.

use crate::codecs::block::{Squeeze, looks_random};
use flate2::{Compress, Compression, FlushCompress, Status};

/// Content is cut into chunks of so many bytes.
pub const CHUNK_BYTES: usize = 1024 * 1024;

/// At the slowest squeeze into chunks of so many: a content that is one chunk by itself can be compressed optimally.
const UTMOST_CHUNK_BYTES: usize = 8 * 1024 * 1024;

/// What an optimal compressor takes for its work, of its own scale up to 12.
const OPTIMAL_LEVEL: i32 = 12;

/// How long the chunks of a content are, in bytes.
pub fn chunk_bytes(squeeze: Squeeze) -> usize {
    if squeeze == Squeeze::Utmost { UTMOST_CHUNK_BYTES } else { CHUNK_BYTES }
}

/// A chunk may refer back to so many bytes before it: deflate's window.
pub const WINDOW_BYTES: usize = 32 * 1024;

/// The compressor failed, for want of memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the compressor failed")]
pub struct DeflateFailed;

/// Whether a content that begins so is worth compressing.
pub fn pays(squeeze: Squeeze, beginning: &[u8]) -> bool {
    squeeze != Squeeze::None && !beginning.is_empty() && !looks_random(beginning)
}

/// Compresses chunks, reusing its contexts.
pub struct Deflater {
    compressor: Compress,
    /// For chunks that are all of their stream, where that is worth its time: it cannot go on from what came before.
    optimal: Option<libdeflater::Compressor>,
}

impl Deflater {
    /// A compressor that squeezes so hard.
    pub fn new(squeeze: Squeeze) -> Self {
        let level = match squeeze {
            Squeeze::None | Squeeze::Light => Compression::fast(),
            Squeeze::Even => Compression::default(),
            Squeeze::Hard | Squeeze::Utmost => Compression::best(),
        };
        let optimal_level = libdeflater::CompressionLvl::new(OPTIMAL_LEVEL).ok().filter(|_| squeeze == Squeeze::Utmost);
        let optimal = optimal_level.map(libdeflater::Compressor::new);
        Self { compressor: Compress::new(level, false), optimal }
    }

    /// A chunk as a part of its stream; `window` is what comes right before it there.
    pub fn chunk(&mut self, content: &[u8], window: &[u8], last: bool) -> Result<Vec<u8>, DeflateFailed> {
        let Self { compressor, optimal } = self;
        if let Some(optimal) = optimal.as_mut().filter(|_| last && window.is_empty()) {
            return whole(optimal, content);
        }
        compressor.reset();
        if !window.is_empty() {
            compressor.set_dictionary(window).map_err(|_| DeflateFailed)?;
        }
        let flush = if last { FlushCompress::Finish } else { FlushCompress::Sync };
        let mut bytes = Vec::new();
        bytes.try_reserve_exact(content.len() / 2 + 1024).map_err(|_| DeflateFailed)?;
        loop {
            let taken = usize::try_from(compressor.total_in()).map_err(|_| DeflateFailed)?;
            let rest = content.get(taken..).ok_or(DeflateFailed)?;
            let status = compressor.compress_vec(rest, &mut bytes, flush).map_err(|_| DeflateFailed)?;
            let all_in = compressor.total_in() == content.len() as u64;
            match status {
                Status::StreamEnd => return Ok(bytes),
                // A flush is complete when room is left over.
                Status::Ok | Status::BufError if all_in && !last && bytes.len() < bytes.capacity() => {
                    return Ok(bytes);
                }
                _ => bytes.try_reserve(bytes.capacity().max(1024)).map_err(|_| DeflateFailed)?,
            }
        }
    }
}

/// A stream of one chunk.
fn whole(compressor: &mut libdeflater::Compressor, content: &[u8]) -> Result<Vec<u8>, DeflateFailed> {
    let room = compressor.deflate_compress_bound(content.len());
    let mut bytes = Vec::new();
    bytes.try_reserve_exact(room).map_err(|_| DeflateFailed)?;
    bytes.resize(room, 0);
    let length = compressor.deflate_compress(content, &mut bytes).map_err(|_| DeflateFailed)?;
    bytes.truncate(length);
    Ok(bytes)
}

/// What the chunk behind this one may refer back to.
pub fn window_of(content: &[u8]) -> &[u8] {
    &content[content.len().saturating_sub(WINDOW_BYTES)..]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Read as _;

    proptest! {
        #[test]
        fn pieces_join_into_one_stream(
            lengths in prop::collection::vec(0_usize..90_000, 1..5),
            modulus in 1_u8..=255,
            squeeze in prop_oneof![Just(Squeeze::Light), Just(Squeeze::Utmost)],
        ) {
            let chunks: Vec<Vec<u8>> = lengths.iter().map(|length| {
                let mut chunk = vec![0; *length];
                blake3::Hasher::new().update(&length.to_le_bytes()).finalize_xof().fill(&mut chunk);
                chunk.iter_mut().for_each(|byte| *byte %= modulus);
                chunk
            }).collect();
            let (mut deflater, mut stream, mut window) = (Deflater::new(squeeze), Vec::new(), Vec::new());
            for (place, chunk) in chunks.iter().enumerate() {
                stream.extend(deflater.chunk(chunk, &window, place + 1 == chunks.len()).unwrap());
                window = window_of(chunk).to_vec();
            }
            let mut whole = Vec::new();
            flate2::read::DeflateDecoder::new(&stream[..]).read_to_end(&mut whole).unwrap();
            prop_assert!(whole == chunks.concat());
        }
    }
}
