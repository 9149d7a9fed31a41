//! A cell's check: finds accidental damage without the password, and ties a cell to its place.

use super::CHECK_BYTES;
use super::header::{Ids, VolumeKind};

/// The check of a cell's sealed bytes (ciphertext and tag): BLAKE3 over set id, cut id, kind, volume
/// number, the cell's index in its volume and the sealed bytes, cut to 16 bytes.
pub fn check(ids: &Ids, kind: VolumeKind, volume: u32, index: u32, sealed: &[u8]) -> [u8; CHECK_BYTES] {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&ids.set).update(&ids.cut).update(&[kind as u8]);
    hasher.update(&volume.to_le_bytes()).update(&index.to_le_bytes()).update(sealed);
    let mut check = [0; CHECK_BYTES];
    hasher.finalize_xof().fill(&mut check);
    check
}

/// A cell's sealed bytes, if its check is right for this place.
pub fn checked<'a>(ids: &Ids, kind: VolumeKind, volume: u32, index: u32, cell: &'a [u8]) -> Option<&'a [u8]> {
    let (sealed, stored) = cell.split_at_checked(cell.len().checked_sub(CHECK_BYTES)?)?;
    (check(ids, kind, volume, index, sealed) == stored).then_some(sealed)
}
