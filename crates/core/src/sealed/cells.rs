//! Sealing and opening cells: AES-256-GCM with the cell's place in the stream as its nonce.

use super::keys::{ArchiveKey, KeyPurpose};
use crate::volume::header::bound_bytes;
use crate::volume::{CELL_BYTES, CHECK_BYTES};
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};

/// Bytes of a GCM tag.
pub const TAG_BYTES: usize = 16;

/// The most plaintext bytes in a cell.
pub const MAX_PLAIN_BYTES: usize = CELL_BYTES - CHECK_BYTES - TAG_BYTES;

/// A cell was not authentic: no key of ours made it, or not for this place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a cell is not authentic")]
pub struct NotAuthentic;

/// Seals and opens the cells of one archive.
pub struct CellSeal {
    key: LessSafeKey,
    bound: [u8; 27],
}

impl CellSeal {
    /// The seal of the archive with this key and set id.
    ///
    /// # Errors
    /// [`NotAuthentic`] never in practice: only for a key of the wrong length.
    pub fn new(key: &ArchiveKey, set: &[u8; 16]) -> Result<Self, NotAuthentic> {
        let cells = key.derive(set, KeyPurpose::Cells);
        let key = UnboundKey::new(&AES_256_GCM, cells.as_slice()).map_err(|_| NotAuthentic)?;
        Ok(Self { key: LessSafeKey::new(key), bound: bound_bytes(set) })
    }

    /// Turns plaintext into ciphertext and tag, in place.
    ///
    /// # Errors
    /// [`NotAuthentic`] never in practice: only for a plaintext beyond GCM's limit.
    pub fn seal(&self, cell: u64, is_last: bool, plain: &mut Vec<u8>) -> Result<(), NotAuthentic> {
        self.key.seal_in_place_append_tag(nonce(cell, is_last), Aad::from(self.bound), plain).map_err(|_| NotAuthentic)
    }

    /// Turns ciphertext and tag into plaintext, in place.
    ///
    /// # Errors
    /// [`NotAuthentic`]; what is left in `sealed` must not be used then.
    pub fn open(&self, cell: u64, is_last: bool, sealed: &mut Vec<u8>) -> Result<(), NotAuthentic> {
        let length = self
            .key
            .open_in_place(nonce(cell, is_last), Aad::from(self.bound), sealed)
            .map_err(|_| NotAuthentic)?
            .len();
        sealed.truncate(length);
        Ok(())
    }
}

/// One nonce for each cell of the stream, and another for the same cell as the last one, so that a
/// stream cut short cannot pass as whole. The key is new for every stream.
fn nonce(cell: u64, is_last: bool) -> Nonce {
    let mut bytes = [0; 12];
    bytes[0] = u8::from(is_last);
    bytes[4..].copy_from_slice(&cell.to_be_bytes());
    Nonce::assume_unique_for_key(bytes)
}
