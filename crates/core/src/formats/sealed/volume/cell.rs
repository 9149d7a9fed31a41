//! A cell's check: finds accidental damage without the password, and ties a cell to its place.

use super::header::{Ids, VolumeKind};
use super::{CELL_BYTES, CHECK_BYTES, Geometry};

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

/// Whether a whole cell's check is right for this place.
pub fn is_intact(ids: &Ids, kind: VolumeKind, volume: u32, index: u32, cell: &[u8]) -> bool {
    cell.split_last_chunk().is_some_and(|(sealed, stored)| check(ids, kind, volume, index, sealed) == *stored)
}

/// How a stream that is being written is cut, as far as cells depend on it.
#[derive(Debug, Clone, Copy)]
pub struct Cutting {
    /// Set and cutting.
    pub ids: Ids,
    /// Cells in every volume but the last.
    pub cells_per_volume: u32,
}

impl Cutting {
    /// Puts the check at the end of a whole cell, given the cell's number in the stream.
    pub fn put_check(&self, cell: u64, bytes: &mut [u8]) {
        let (volume, index) = Geometry::locate_by(self.cells_per_volume, cell);
        if let Some((sealed, stored)) = bytes.split_last_chunk_mut::<CHECK_BYTES>() {
            *stored = check(&self.ids, VolumeKind::Data, volume, index, sealed);
        }
    }
}

/// Whole cells, one after another, as they stand in volumes. Only the stream's last cell is shorter than
/// [`CELL_BYTES`].
#[derive(Debug, Default)]
pub struct Cells {
    /// The first one's number in the stream.
    pub first: u64,
    /// Their bytes.
    pub bytes: Vec<u8>,
}

impl Cells {
    /// Each cell with its number in the stream.
    pub fn iter_mut(&mut self) -> impl Iterator<Item = (u64, &mut [u8])> {
        (self.first..).zip(self.bytes.chunks_mut(CELL_BYTES))
    }
}
