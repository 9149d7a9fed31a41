//! The tail: the last 128 plaintext bytes of the last cell. It proves that the stream is complete and
//! says where the index begins.

use crate::ground::wire::{Cursor, Malformed};

/// Bytes of the tail.
pub const TAIL_BYTES: usize = 128;

/// The tail's values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Tail {
    /// Bytes of the inner stream: all frames.
    pub inner_bytes: u64,
    /// Where in the inner stream the index root's frame begins.
    pub root_at: u64,
    /// Bytes of the root's frame, its header included.
    pub root_bytes: u32,
    /// Cells in the stream, this one included.
    pub cells: u64,
    /// Entries in the index.
    pub entries: u64,
    /// Content bytes of all files.
    pub content_bytes: u64,
    /// BLAKE3 of the root before compression; the root holds the digests of the pages.
    pub index_digest: [u8; 32],
}

impl Tail {
    /// The tail's bytes.
    pub fn encode(&self) -> [u8; TAIL_BYTES] {
        let mut bytes = [0; TAIL_BYTES];
        bytes[0..8].copy_from_slice(&self.inner_bytes.to_le_bytes());
        bytes[8..16].copy_from_slice(&self.root_at.to_le_bytes());
        bytes[16..20].copy_from_slice(&self.root_bytes.to_le_bytes());
        bytes[24..32].copy_from_slice(&self.cells.to_le_bytes());
        bytes[32..40].copy_from_slice(&self.entries.to_le_bytes());
        bytes[40..48].copy_from_slice(&self.content_bytes.to_le_bytes());
        bytes[48..80].copy_from_slice(&self.index_digest);
        bytes
    }

    /// Reads a tail.
    ///
    /// # Errors
    /// [`Malformed`] where reserved bytes are not zero or the length is wrong.
    pub fn decode(bytes: &[u8]) -> Result<Self, Malformed> {
        let mut cursor = Cursor::new(bytes, "tail");
        let (inner_bytes, root_at, root_bytes) = (cursor.u64()?, cursor.u64()?, cursor.u32()?);
        cursor.zeros(4)?;
        let (cells, entries, content_bytes) = (cursor.u64()?, cursor.u64()?, cursor.u64()?);
        let index_digest = cursor.array()?;
        cursor.zeros(48)?;
        cursor.end()?;
        Ok(Self { inner_bytes, root_at, root_bytes, cells, entries, content_bytes, index_digest })
    }
}
