//! Frames: the units of compression. Each stands alone, so they can be made and read in parallel.

use crate::codecs::block::{Codec, MAX_BLOCK_BYTES};
use crate::ground::wire::{Cursor, Malformed};

/// Bytes of a frame's header.
pub const FRAME_HEADER_BYTES: usize = 16;

/// Top bit of a frame's flags: a reader that does not know the kind may pass over it.
const MAY_BE_SKIPPED: u8 = 0x80;

/// What a frame holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FrameKind {
    /// Records: entries and their content.
    Content,
    /// A page of the index.
    IndexPage,
    /// The index's root.
    IndexRoot,
    /// Nothing that means anything; also any unknown kind that may be skipped.
    Pad,
}

/// A frame's header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FrameHeader {
    /// What the frame holds.
    pub kind: FrameKind,
    /// How its payload is stored.
    pub codec: Codec,
    /// Bytes of the payload as stored.
    pub stored_bytes: u32,
    /// Bytes of the payload before compression.
    pub raw_bytes: u32,
}

/// Why a frame's header cannot be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum FrameError {
    /// It breaks the format's rules.
    #[error(transparent)]
    Malformed(#[from] Malformed),
    /// A kind that this version does not know and may not skip.
    #[error("unknown frame kind {0}")]
    UnknownKind(u8),
    /// A codec that this version does not know, of a frame that it may not skip.
    #[error("unknown codec {0}")]
    UnknownCodec(u8),
}

impl FrameHeader {
    /// The header's bytes.
    pub fn encode(&self) -> [u8; FRAME_HEADER_BYTES] {
        let mut bytes = [0; FRAME_HEADER_BYTES];
        (bytes[0], bytes[1]) = match self.kind {
            FrameKind::Content => (1, 0),
            FrameKind::IndexPage => (2, 0),
            FrameKind::IndexRoot => (3, 0),
            FrameKind::Pad => (4, MAY_BE_SKIPPED),
        };
        bytes[2] = match self.codec {
            Codec::Stored => 0,
            Codec::Zstandard => 1,
            Codec::Lzma2 => 2,
        };
        bytes[4..8].copy_from_slice(&self.stored_bytes.to_le_bytes());
        bytes[8..12].copy_from_slice(&self.raw_bytes.to_le_bytes());
        bytes
    }

    /// Reads a header and holds its lengths to the limits.
    pub fn decode(bytes: &[u8]) -> Result<Self, FrameError> {
        let mut cursor = Cursor::new(bytes, "frame header");
        let (kind, flags, codec) = (cursor.u8()?, cursor.u8()?, cursor.u8()?);
        cursor.zeros(1)?;
        let (stored_bytes, raw_bytes) = (cursor.u32()?, cursor.u32()?);
        cursor.zeros(4)?;
        let malformed = cursor.malformed();
        cursor.end()?;
        let kind = match kind {
            1 => FrameKind::Content,
            2 => FrameKind::IndexPage,
            3 => FrameKind::IndexRoot,
            4 => FrameKind::Pad,
            _ if flags & MAY_BE_SKIPPED != 0 => FrameKind::Pad,
            unknown => return Err(FrameError::UnknownKind(unknown)),
        };
        if stored_bytes as usize > MAX_BLOCK_BYTES || flags & !MAY_BE_SKIPPED != 0 {
            return Err(malformed.into());
        }
        if kind == FrameKind::Pad {
            // Whatever it holds, in whatever codec, is passed over as it stands.
            return Ok(Self { kind, codec: Codec::Stored, stored_bytes, raw_bytes: stored_bytes });
        }
        let codec = match codec {
            0 => Codec::Stored,
            1 => Codec::Zstandard,
            2 => Codec::Lzma2,
            unknown => return Err(FrameError::UnknownCodec(unknown)),
        };
        // What was stored compressed is shorter than it was; so one limit holds both lengths.
        let lengths_agree = match codec {
            Codec::Stored => stored_bytes == raw_bytes,
            Codec::Zstandard | Codec::Lzma2 => stored_bytes < raw_bytes,
        };
        if !lengths_agree || raw_bytes as usize > MAX_BLOCK_BYTES {
            return Err(malformed.into());
        }
        Ok(Self { kind, codec, stored_bytes, raw_bytes })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const HEADER: FrameHeader =
        FrameHeader { kind: FrameKind::Content, codec: Codec::Zstandard, stored_bytes: 1_000, raw_bytes: 5_000 };
    const MAX: u32 = MAX_BLOCK_BYTES as u32;

    #[test]
    fn a_frame_header_comes_back() {
        assert_eq!(FrameHeader::decode(&HEADER.encode()), Ok(HEADER));
    }

    #[rstest]
    #[case::reserved_byte(3, 1)]
    #[case::more_than_8_mib(11, 1)]
    #[case::compressed_longer_than_raw(6, 1)]
    #[case::unknown_flag(1, 0x01)]
    #[case::reserved_tail(15, 1)]
    fn a_header_beyond_the_limits_is_malformed(#[case] at: usize, #[case] value: u8) {
        let mut bytes = HEADER.encode();
        bytes[at] = value;
        assert_eq!(FrameHeader::decode(&bytes), Err(FrameError::Malformed(Malformed("frame header"))));
    }

    /// Codec, lengths as stored and before compression.
    #[rstest]
    #[case::most(Codec::Stored, MAX, MAX, true)]
    #[case::too_much(Codec::Stored, MAX + 1, MAX + 1, false)]
    #[case::stored_otherwise(Codec::Stored, 9, 10, false)]
    #[case::compressed_from_the_most(Codec::Zstandard, 9, MAX, true)]
    #[case::compressed_from_too_much(Codec::Lzma2, 9, MAX + 1, false)]
    #[case::compressed_to_the_same(Codec::Lzma2, 9, 9, false)]
    fn lengths_are_held_to_the_limit_and_to_the_codec(
        #[case] codec: Codec,
        #[case] stored_bytes: u32,
        #[case] raw_bytes: u32,
        #[case] good: bool,
    ) {
        let header = FrameHeader { kind: FrameKind::Content, codec, stored_bytes, raw_bytes };
        assert_eq!(FrameHeader::decode(&header.encode()).is_ok(), good);
        let pad = FrameHeader { kind: FrameKind::Pad, codec: Codec::Stored, ..header };
        assert_eq!(FrameHeader::decode(&pad.encode()).is_ok(), stored_bytes <= MAX);
    }

    #[rstest]
    #[case::needed(1, 0x00, Err(FrameError::UnknownCodec(9)))]
    #[case::skippable(77, 0x80, Ok(FrameKind::Pad))]
    fn unknown_codecs_are_newer_unless_the_frame_may_be_skipped(
        #[case] kind: u8,
        #[case] flags: u8,
        #[case] expected: Result<FrameKind, FrameError>,
    ) {
        let mut bytes = HEADER.encode();
        (bytes[0], bytes[1], bytes[2]) = (kind, flags, 9);
        assert_eq!(FrameHeader::decode(&bytes).map(|header| header.kind), expected);
    }

    #[rstest]
    #[case::skippable(77, 0x80, Ok(FrameKind::Pad))]
    #[case::needed(77, 0x00, Err(FrameError::UnknownKind(77)))]
    #[case::known(4, 0x00, Ok(FrameKind::Pad))]
    fn unknown_kinds_are_skipped_or_refused_by_their_bit(
        #[case] kind: u8,
        #[case] flags: u8,
        #[case] expected: Result<FrameKind, FrameError>,
    ) {
        let mut bytes = HEADER.encode();
        (bytes[0], bytes[1]) = (kind, flags);
        assert_eq!(FrameHeader::decode(&bytes).map(|header| header.kind), expected);
    }
}
