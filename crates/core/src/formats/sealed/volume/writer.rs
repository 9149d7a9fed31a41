//! Cutting a stream of sealed cells into staged volume files, and writing their headers last.

use super::header::{Head, Header, Ids, VolumeKind};
use super::in_page::VolumeBytes;
use super::spares::SpareWish;
use super::{CellLength, Cutting, Geometry, HEADER_BYTES, MAX_CELLS, MAX_VOLUMES, MIN_VOLUME_BYTES, names};
use crate::disk::staging::{Placing, Staging};
use crate::disk::{FileAction, FileError, Interruption, NewFile, interruptible};
use crate::ground::class::{Classed, ErrorClass};

/// Why volumes cannot be written.
#[derive(Debug, thiserror::Error)]
pub enum WriteError {
    /// The fit leaves no room for a header and one cell.
    #[error("a volume needs at least {least} bytes")]
    FitTooSmall {
        /// The bytes of a volume with one cell.
        least: u64,
    },
    /// The set would have more volumes than the format counts.
    #[error("more than {MAX_VOLUMES} volumes")]
    TooManyVolumes,
    /// The stream is longer than the format counts.
    #[error("more than {MAX_CELLS} cells")]
    TooManyCells,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(WriteError);

impl WriteError {
    /// Not even the shortest cells fit.
    pub const NO_ROOM: Self = Self::FitTooSmall { least: MIN_VOLUME_BYTES };
}

impl Classed for WriteError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::FitTooSmall { .. } | Self::TooManyVolumes | Self::TooManyCells => ErrorClass::Usage,
        }
    }
}

/// Cuts cells into volumes.
pub struct VolumeWriter<'a> {
    staging: &'a Staging,
    cutting: Cutting,
    volume: u32,
    /// The number under which the first volume is staged.
    first_staged: u32,
    /// What stands in front of each volume in its file.
    opening: &'a [u8],
    spares: SpareWish,
    index: u32,
    file: Option<NewFile>,
    cells: u64,
    last_cell_bytes: u32,
}

/// What was written.
#[derive(Debug, Clone)]
pub struct WrittenVolumes {
    /// Set and cut.
    pub ids: Ids,
    /// How it is unlocked.
    pub head: Head,
    /// How the stream is cut.
    pub geometry: Geometry,
    /// The way from each staged file of a data volume to its final name, in order.
    pub placings: Vec<Placing>,
    /// The same of the spare volumes, once they are made.
    pub spares: Vec<Placing>,
    /// BLAKE3 of each of these as it was written.
    pub spare_digests: Vec<blake3::Hash>,
}

/// How many cells of a length a volume of at most `volume_limit` bytes has.
///
/// # Errors
/// [`WriteError::FitTooSmall`].
pub fn cells_per_volume(cell_length: CellLength, volume_limit: Option<u64>) -> Result<u32, WriteError> {
    let least = cell_length.offset_of(1).max(MIN_VOLUME_BYTES);
    match volume_limit {
        Some(limit) => cell_length.cells_within(limit).ok_or(WriteError::FitTooSmall { least }),
        None => Ok(u32::MAX),
    }
}

impl WrittenVolumes {
    /// The number of a staged data volume whose header or length is not what was written; `None` where all are right.
    ///
    /// # Errors
    /// [`FileError`] where one cannot be read.
    pub fn wrong_header(&self, staging: &Staging) -> Result<Option<u32>, FileError> {
        for (number, placing) in (1..).zip(&self.placings) {
            let (ids, geometry, head) = (self.ids, self.geometry, self.head.clone());
            let expected = Header { kind: VolumeKind::Data, ids, number, geometry, head }.encode();
            let path = staging.path_of(placing.number);
            let volume = VolumeBytes::open(&path.as_path().into())?;
            let mut there = [0; HEADER_BYTES];
            volume.read_up_to(&mut there, 0).map_err(FileError::on(FileAction::Read, &path))?;
            if volume.length != geometry.volume_bytes(number) || there.as_slice() != expected.as_slice() {
                return Ok(Some(number));
            }
        }
        Ok(None)
    }

    /// The way from each staged file to its final name.
    pub fn all_placings(&self) -> Vec<Placing> {
        self.placings.iter().chain(&self.spares).cloned().collect()
    }
}

impl<'a> VolumeWriter<'a> {
    /// A writer into `staging`, of volumes of at most `volume_limit` bytes.
    pub fn new(
        staging: &'a Staging,
        ids: Ids,
        cell_length: CellLength,
        volume_limit: Option<u64>,
    ) -> Result<Self, WriteError> {
        let cutting = Cutting { ids, cells_per_volume: cells_per_volume(cell_length, volume_limit)?, cell_length };
        Ok(Self {
            staging,
            cutting,
            volume: 0,
            first_staged: 1,
            opening: &[],
            spares: SpareWish::NONE,
            index: 0,
            file: None,
            cells: 0,
            last_cell_bytes: 0,
        })
    }

    /// Stages its volumes under numbers from this one on, where several sets are staged together.
    #[must_use]
    pub fn staged_from(self, first_staged: u32) -> Self {
        Self { first_staged, ..self }
    }

    /// Puts these bytes in front of each volume in its file.
    #[must_use]
    pub fn behind(self, opening: &'a [u8]) -> Self {
        Self { opening, ..self }
    }

    /// Says in the headers how many spare volumes there are to be. [`stage_spares`](super::spares::making::stage_spares) makes them.
    #[must_use]
    pub fn with_spares(self, spares: SpareWish) -> Self {
        Self { spares, ..self }
    }

    fn staged_number(&self, volume: u32) -> u32 {
        self.first_staged.saturating_add(volume).saturating_sub(1)
    }

    /// How the cells are cut, for making their checks.
    pub fn cutting(&self) -> Cutting {
        self.cutting
    }

    /// The number of the volume being written, from 1.
    pub fn volume(&self) -> u32 {
        self.volume
    }

    /// Writes the stream's next cells, checks and all.
    pub fn write(&mut self, mut cells: &[u8]) -> Result<(), WriteError> {
        let cell_bytes = self.cutting.cell_length.bytes();
        while !cells.is_empty() {
            if self.volume == 0 || self.index == self.cutting.cells_per_volume {
                self.next_volume()?;
            }
            let room = u64::from(self.cutting.cells_per_volume - self.index) * cell_bytes as u64;
            let (now, later) = cells.split_at(usize::try_from(room).unwrap_or(usize::MAX).min(cells.len()));
            if let Some(file) = &mut self.file {
                file.write(now)?;
            }
            let count = now.len().div_ceil(cell_bytes);
            self.cells += count as u64;
            if self.cells > MAX_CELLS {
                return Err(WriteError::TooManyCells);
            }
            self.index += count as u32;
            self.last_cell_bytes = (now.len() - (count - 1) * cell_bytes) as u32;
            cells = later;
        }
        Ok(())
    }

    fn next_volume(&mut self) -> Result<(), WriteError> {
        if self.volume == MAX_VOLUMES {
            return Err(WriteError::TooManyVolumes);
        }
        self.close()?;
        self.volume += 1;
        self.index = 0;
        let mut file = self.staging.create(self.staged_number(self.volume))?;
        file.write(self.opening)?;
        file.write(&[0; HEADER_BYTES])?;
        self.file = Some(file);
        Ok(())
    }

    fn close(&mut self) -> Result<(), FileError> {
        self.file.take().map_or(Ok(()), NewFile::close)
    }

    /// Writes every header, now that the count is known, and syncs every file.
    pub fn finish(mut self, head: &Head) -> Result<WrittenVolumes, WriteError> {
        self.close()?;
        let single = self.volume == 1;
        let geometry = Geometry {
            data_volumes: self.volume,
            spare_volumes: self.spares.count(self.volume),
            cells_per_volume: if single { self.index } else { self.cutting.cells_per_volume },
            cells: self.cells,
            last_cell_bytes: self.last_cell_bytes,
            cell_length: self.cutting.cell_length,
        };
        let mut placings = Vec::new();
        for number in 1..=self.volume {
            let header = Header { kind: VolumeKind::Data, ids: self.cutting.ids, number, geometry, head: head.clone() };
            let staged = self.staged_number(number);
            let mut file = self.staging.reopen(staged)?;
            file.write_at(self.opening.len() as u64, &header.encode())?;
            file.finish()?;
            placings.push(Placing { number: staged, suffix: names::suffix(number, self.volume) });
        }
        let (ids, head) = (self.cutting.ids, head.clone());
        Ok(WrittenVolumes { ids, head, geometry, placings, spares: Vec::new(), spare_digests: Vec::new() })
    }
}
