//! One deflate stream (RFC 1951) from pieces that are compressed each by itself: each but the last ends with a sync flush, and
//! may refer back into the one before it. So all cores work on one stream, and its bytes are the same for any number of them.

use crate::codecs::block::{Squeeze, looks_random};
use flate2::{Compress, Compression, FlushCompress, Status};

/// Content is cut into pieces of so many bytes.
pub const PIECE_BYTES: usize = 1024 * 1024;

/// A piece may refer back to so many bytes before it: deflate's window.
pub const WINDOW_BYTES: usize = 32 * 1024;

/// The compressor failed, for want of memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the compressor failed")]
pub struct DeflateFailed;

/// Whether a content that begins so is worth compressing.
pub fn pays(squeeze: Squeeze, beginning: &[u8]) -> bool {
    squeeze != Squeeze::None && !beginning.is_empty() && !looks_random(beginning)
}

/// Compresses pieces, reusing its context.
pub struct Deflater(Compress);

impl Deflater {
    /// A compressor that squeezes so hard; deflate has no level above its best.
    pub fn new(squeeze: Squeeze) -> Self {
        let level = match squeeze {
            Squeeze::None | Squeeze::Light => Compression::fast(),
            Squeeze::Even => Compression::default(),
            Squeeze::Hard | Squeeze::Utmost => Compression::best(),
        };
        Self(Compress::new(level, false))
    }

    /// A piece as a part of its stream; `window` is what comes right before it there.
    pub fn piece(&mut self, content: &[u8], window: &[u8], last: bool) -> Result<Vec<u8>, DeflateFailed> {
        let Self(compressor) = self;
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

/// What the piece behind this one may refer back to.
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
        fn pieces_join_into_one_stream(lengths in prop::collection::vec(0_usize..90_000, 1..5), modulus in 1_u8..=255) {
            let pieces: Vec<Vec<u8>> = lengths.iter().map(|length| {
                let mut piece = vec![0; *length];
                blake3::Hasher::new().update(&length.to_le_bytes()).finalize_xof().fill(&mut piece);
                piece.iter_mut().for_each(|byte| *byte %= modulus);
                piece
            }).collect();
            let (mut deflater, mut stream, mut window) = (Deflater::new(Squeeze::Light), Vec::new(), Vec::new());
            for (place, piece) in pieces.iter().enumerate() {
                stream.extend(deflater.piece(piece, &window, place + 1 == pieces.len()).unwrap());
                window = window_of(piece).to_vec();
            }
            let mut whole = Vec::new();
            flate2::read::DeflateDecoder::new(&stream[..]).read_to_end(&mut whole).unwrap();
            prop_assert!(whole == pieces.concat());
        }
    }
}
