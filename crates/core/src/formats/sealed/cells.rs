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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::formats::sealed::volume::cell::{CellPlace, Sealed};
    use crate::formats::sealed::volume::{CellLength, Ids, VolumeKind};
    use crate::ground::context::for_tests::in_context;
    use rstest::rstest;

    const IDS: Ids = Ids { set: [1; 16], cut: [2; 16] };
    const LENGTH: CellLength = CellLength::LONGEST;

    /// Those of two archives.
    fn seals() -> [CellSeal; 2] {
        let keys = in_context(|context| [(), ()].map(|()| ArchiveKey::generate(context).unwrap()));
        keys.map(|key| CellSeal::new(&key, &Bound { set: IDS.set, cell_length: LENGTH }).unwrap())
    }

    /// Two cells, of which the second is short and may end the stream.
    #[rstest]
    fn a_cell_is_genuine_in_its_own_place_alone(#[values(false, true)] with_last: bool) {
        let [seal, other] = seals();
        let plain: Vec<u8> = (0..LENGTH.bytes() + 4_096).map(|at| (at % 251) as u8).collect();
        let cells = Cells { first: 3, cell_length: LENGTH, bytes: plain.clone() };
        let cutting = Cutting { ids: IDS, cells_per_volume: 9, cell_length: LENGTH };
        let sealed = seal.seal(PlainCells { cells, with_last }, &cutting).unwrap();
        for (number, whole, plain) in [
            (3, &sealed.bytes[..LENGTH.bytes()], &plain[..LENGTH.bytes()]),
            (4, &sealed.bytes[LENGTH.bytes()..], &plain[LENGTH.bytes()..]),
        ] {
            let is_last = with_last && number == 4;
            let place = CellPlace { ids: &IDS, kind: VolumeKind::Data, volume: 1, index: number };
            assert!(Sealed::of(whole).unwrap().is_intact_at(&place));
            let cell = &whole[..whole.len() - CHECK_BYTES];
            let mut opened = cell.to_vec();
            let bytes = seal.open(number.into(), is_last, &mut opened).unwrap();
            assert_eq!((bytes, &opened[..bytes]), (whole.len() - 32, &plain[..whole.len() - 32]));
            assert!(seal.is_genuine(number.into(), is_last, cell));
            assert!(!seal.is_genuine(number.into(), !is_last, cell));
            assert!(!seal.is_genuine(u64::from(number) + 1, is_last, cell));
            assert!(!other.is_genuine(number.into(), is_last, cell));
            let changed: Vec<u8> = cell.iter().enumerate().map(|(at, byte)| byte ^ u8::from(at == 9)).collect();
            assert!(!seal.is_genuine(number.into(), is_last, &changed));
        }
        assert_eq!(format!("{seal:?}"), "CellSeal");
    }
}
