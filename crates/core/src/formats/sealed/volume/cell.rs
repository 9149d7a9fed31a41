//! A cell's check: finds accidental damage without the password, and ties a cell to its place.

use super::header::{Ids, VolumeKind};
use super::{CHECK_BYTES, CellLength, Geometry};

/// Where a cell stands.
#[derive(Debug, Clone, Copy)]
pub struct CellPlace<'a> {
    /// Set and cutting.
    pub ids: &'a Ids,
    /// What its volume holds.
    pub kind: VolumeKind,
    /// Its volume's number.
    pub volume: u32,
    /// Its index in that, from 0.
    pub index: u32,
}

impl CellPlace<'_> {
    /// The check of a cell that stands here: BLAKE3 over set id, cut id, kind, volume number, the cell's index in its volume and the
    /// [digest](Sealed::digest) of its sealed bytes, cut to 16 bytes.
    pub fn check(&self, sealed: &blake3::Hash) -> [u8; CHECK_BYTES] {
        let mut hasher = blake3::Hasher::new();
        hasher.update(&self.ids.set).update(&self.ids.cut).update(&[self.kind as u8]);
        hasher.update(&self.volume.to_le_bytes()).update(&self.index.to_le_bytes()).update(sealed.as_bytes());
        let mut check = [0; CHECK_BYTES];
        hasher.finalize_xof().fill(&mut check);
        check
    }
}

/// A whole cell as it was read: the digest of its sealed bytes (ciphertext and tag), and its check.
#[derive(Debug, Clone, Copy)]
pub struct Sealed {
    /// BLAKE3 of the sealed bytes: whatever place they may be of, they are hashed once.
    pub digest: blake3::Hash,
    check: [u8; CHECK_BYTES],
}

impl Sealed {
    /// Takes a whole cell; `None` for what is too short to be one.
    pub fn of(cell: &[u8]) -> Option<Self> {
        let (sealed, check) = cell.split_last_chunk()?;
        Some(Self { digest: blake3::hash(sealed), check: *check })
    }

    /// Whether the cell's check is right for this place.
    pub fn is_intact_at(&self, place: &CellPlace<'_>) -> bool {
        place.check(&self.digest) == self.check
    }
}

/// How a stream that is being written is cut, as far as cells depend on it.
#[derive(Debug, Clone, Copy)]
pub struct Cutting {
    /// Set and cutting.
    pub ids: Ids,
    /// Cells in every volume but the last.
    pub cells_per_volume: u32,
    /// Length of every cell but the last.
    pub cell_length: CellLength,
}

impl Cutting {
    /// Puts the check at the end of a whole cell, given the cell's number in the stream.
    pub fn put_check(&self, cell: u64, bytes: &mut [u8]) {
        if let Some((sealed, stored)) = bytes.split_last_chunk_mut::<CHECK_BYTES>() {
            *stored = self.check(cell, &blake3::hash(sealed));
        }
    }

    /// Puts a whole cell into a buffer, given its number in the stream, its sealed bytes and their digest.
    pub fn put_whole(&self, cell: u64, sealed: &[u8], digest: &blake3::Hash, whole: &mut Vec<u8>) {
        whole.clear();
        whole.extend_from_slice(sealed);
        whole.extend_from_slice(&self.check(cell, digest));
    }

    /// The check of a cell, given its number in the stream and the digest of its sealed bytes.
    fn check(&self, cell: u64, sealed: &blake3::Hash) -> [u8; CHECK_BYTES] {
        let (volume, index) = Geometry::locate_by(self.cells_per_volume, cell);
        CellPlace { ids: &self.ids, kind: VolumeKind::Data, volume, index }.check(sealed)
    }
}

/// Whole cells, one after another, as they stand in volumes. Only the stream's last cell is shorter than the others.
#[derive(Debug, Default)]
pub struct Cells {
    /// The first one's number in the stream.
    pub first: u64,
    /// How long each is.
    pub cell_length: CellLength,
    /// Their bytes.
    pub bytes: Vec<u8>,
}

impl Cells {
    /// Each cell with its number in the stream.
    pub fn iter_mut(&mut self) -> impl Iterator<Item = (u64, &mut [u8])> {
        (self.first..).zip(self.bytes.chunks_mut(self.cell_length.bytes()))
    }
}
