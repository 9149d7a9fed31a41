//! Sealing and opening cells: AES-256-GCM with the cell's place in the stream as its nonce.

use super::keys::{ArchiveKey, KeyPurpose};
use crate::formats::sealed::volume::header::BOUND_BYTES;
use crate::formats::sealed::volume::{Bound, CHECK_BYTES, Cells, Cutting, SealJudge};
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use std::fmt;
use zeroize::Zeroizing;

/// Bytes of a GCM tag.
pub const TAG_BYTES: usize = 16;

/// Bytes of a cell that are no plaintext: tag and check.
pub const CELL_OVERHEAD: usize = TAG_BYTES + CHECK_BYTES;

/// A cell was not authentic: no key of ours made it, or not for this place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a cell is not authentic")]
pub struct NotAuthentic;

/// Cells that hold plaintext where their ciphertext will stand, with room for tag and check behind it.
#[derive(Debug)]
pub struct PlainCells {
    /// The cells.
    pub cells: Cells,
    /// The stream ends with them.
    pub with_last: bool,
}

/// Seals and opens the cells of one archive.
pub struct CellSeal {
    key: LessSafeKey,
    bound: [u8; BOUND_BYTES],
}

impl CellSeal {
    /// The seal of the archive with this key, bound to this.
    ///
    /// # Errors
    /// [`NotAuthentic`] never in practice: only for a key of the wrong length.
    pub fn new(key: &ArchiveKey, bound: &Bound) -> Result<Self, NotAuthentic> {
        let cells = key.derive(&bound.set, KeyPurpose::Cells);
        let key = UnboundKey::new(&AES_256_GCM, cells.as_slice()).map_err(|_| NotAuthentic)?;
        Ok(Self { key: LessSafeKey::new(key), bound: bound.bytes() })
    }

    /// Turns plaintext into ciphertext, tag and check, in place, cell by cell.
    ///
    /// # Errors
    /// [`NotAuthentic`] never in practice: only for cells of wrong lengths.
    pub fn seal(&self, plain: PlainCells, cutting: &Cutting) -> Result<Cells, NotAuthentic> {
        let PlainCells { mut cells, with_last } = plain;
        let last =
            cells.bytes.len().div_ceil(cells.cell_length.bytes()).checked_sub(1).map(|more| cells.first + more as u64);
        for (cell, bytes) in cells.iter_mut() {
            let nonce = nonce(cell, with_last && Some(cell) == last);
            let overhead = bytes.len().checked_sub(CELL_OVERHEAD).ok_or(NotAuthentic)?;
            let (text, behind) = bytes.split_at_mut(overhead);
            let tag =
                self.key.seal_in_place_separate_tag(nonce, Aad::from(self.bound), text).map_err(|_| NotAuthentic)?;
            behind[..TAG_BYTES].copy_from_slice(tag.as_ref());
            cutting.put_check(cell, bytes);
        }
        Ok(cells)
    }

    /// Turns ciphertext and tag into plaintext, in place; the length of the plaintext.
    ///
    /// # Errors
    /// [`NotAuthentic`]; what is left in `sealed` must not be used then.
    pub fn open(&self, cell: u64, is_last: bool, sealed: &mut [u8]) -> Result<usize, NotAuthentic> {
        let plain = self.key.open_in_place(nonce(cell, is_last), Aad::from(self.bound), sealed);
        plain.map(|plain| plain.len()).map_err(|_| NotAuthentic)
    }
}

impl SealJudge for CellSeal {
    fn is_genuine(&self, cell: u64, is_last: bool, sealed: &[u8]) -> bool {
        let mut opened = Zeroizing::new(sealed.to_vec());
        self.open(cell, is_last, &mut opened).is_ok()
    }
}

impl fmt::Debug for CellSeal {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("CellSeal")
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
