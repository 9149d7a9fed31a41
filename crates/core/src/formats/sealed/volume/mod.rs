//! Volumes: fixed-length cells in files that tell, each by itself, which part of which set they are.
//!
//! This layer is transport. It moves sealed cells and an opaque head, finds accidental damage, and
//! knows no key; nothing keyed depends on how a set is cut. Whoever has the key hands in a judge ([`SealJudge`]), and cells that it does
//! not take count as damaged wherever cells are taken. docs/format.md gives every byte.

mod candidates;
pub mod cell;
pub mod cell_length;
mod gathering;
pub mod header;
pub mod in_page;
pub mod names;
pub mod reader;
mod recognising;
pub mod set;
pub mod spares;
pub mod supplement;
pub mod writer;

pub use cell::{Cells, Cutting};
pub use cell_length::{CellLength, MIN_VOLUME_BYTES};
pub use header::{Bound, Head, Header, HeaderError, Ids, VolumeKind};
pub use reader::{CellCopy, CellError, CellReader};
pub use set::{GatherError, SealJudge, SetSummary, VolumeFile, VolumeSet, header_of};
pub use spares::{Groups, Shortfall, SpareWish, SpareWishError};
pub use writer::{VolumeWriter, WriteError, WrittenVolumes, cells_per_volume};

/// Bytes of a volume's header.
pub const HEADER_BYTES: usize = 4_096;

/// The length of a stream's last cell, where it is shorter than the others, is a multiple of this, in bytes.
pub const LAST_CELL_STEP: usize = 4_096;

/// Bytes of a cell's check, at its end.
pub const CHECK_BYTES: usize = 16;

/// The most volumes that a set may have, data and spare ones each.
pub const MAX_VOLUMES: u32 = 65_535;

/// The most cells that a stream may have.
pub const MAX_CELLS: u64 = 1 << 32;

/// How a stream of cells is cut into volumes. Volumes are numbered from 1, cells from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Geometry {
    /// Volumes that hold the stream.
    pub data_volumes: u32,
    /// Spare volumes that were made with them. More may have been added since.
    pub spare_volumes: u32,
    /// Cells in every data volume but the last.
    pub cells_per_volume: u32,
    /// Cells in the stream.
    pub cells: u64,
    /// Length of the stream's last cell in bytes.
    pub last_cell_bytes: u32,
    /// Length of every other cell.
    pub cell_length: CellLength,
}

impl Geometry {
    /// Whether the numbers agree with each other and keep to the limits.
    pub fn is_consistent(&self) -> bool {
        (1..=MAX_CELLS).contains(&self.cells)
            && (1..=self.cells).contains(&self.cells_per_volume.into())
            && (1..=MAX_VOLUMES).contains(&self.data_volumes)
            && self.spare_volumes <= MAX_VOLUMES
            && u64::from(self.data_volumes) == self.cells.div_ceil(u64::from(self.cells_per_volume))
            && self.cell_length.permits_last(self.last_cell_bytes)
    }

    /// The first cell of a data volume.
    pub fn first_cell(&self, volume: u32) -> u64 {
        u64::from(volume.saturating_sub(1)) * u64::from(self.cells_per_volume)
    }

    /// How many cells a data volume holds.
    pub fn cells_in(&self, volume: u32) -> u32 {
        let left = self.cells.saturating_sub(self.first_cell(volume));
        u32::try_from(left).unwrap_or(u32::MAX).min(self.cells_per_volume)
    }

    /// The data volume that holds a cell, and the cell's index in it.
    pub fn locate(&self, cell: u64) -> (u32, u32) {
        Self::locate_by(self.cells_per_volume, cell)
    }

    /// The same, for a stream whose length is not known yet.
    fn locate_by(cells_per_volume: u32, cell: u64) -> (u32, u32) {
        let per_volume = u64::from(cells_per_volume.max(1));
        let volume = u32::try_from(cell / per_volume).unwrap_or(u32::MAX).saturating_add(1);
        (volume, u32::try_from(cell % per_volume).unwrap_or(u32::MAX))
    }

    /// Bytes of a cell, its check included.
    pub fn cell_bytes(&self, cell: u64) -> usize {
        if cell + 1 == self.cells { self.last_cell_bytes as usize } else { self.cell_length.bytes() }
    }

    /// Bytes of the cell of this index in a volume, its check included; `None` where the volume has no such cell.
    pub fn cell_bytes_in(&self, kind: VolumeKind, volume: u32, index: u32) -> Option<usize> {
        match kind {
            VolumeKind::Spare => (index < spares::cells_in_spare(self)).then(|| self.cell_length.bytes()),
            _ if index >= self.cells_in(volume) => None,
            _ => Some(self.cell_bytes(self.first_cell(volume) + u64::from(index))),
        }
    }

    /// Bytes of all data volumes.
    pub fn total_bytes(&self) -> u64 {
        (1..=self.data_volumes).map(|volume| self.volume_bytes(volume)).sum()
    }

    /// Bytes of a whole data volume.
    pub fn volume_bytes(&self, volume: u32) -> u64 {
        let cells = self.cells_in(volume);
        let Some(others) = cells.checked_sub(1) else { return HEADER_BYTES as u64 };
        let last = self.cell_bytes(self.first_cell(volume) + u64::from(others));
        self.cell_length.offset_of(others) + last as u64
    }
}
