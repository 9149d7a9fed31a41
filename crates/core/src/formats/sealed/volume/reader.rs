//! Reading a set's cells by their number in the stream, from whichever copy is undamaged.

use super::CHECK_BYTES;
use super::cell::{CellPlace, Sealed};
use super::header::VolumeKind;
use super::in_page::VolumeBytes;
use super::set::VolumeSet;
use super::spares::column::{Column, Verdict};
use crate::disk::{FileError, Interruption, has_too_many_open, interruptible};
use crate::ground::class::{Classed, ErrorClass};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// Why a cell cannot be had.
#[derive(Debug, thiserror::Error)]
pub enum CellError {
    /// Its volume is not here.
    #[error("volume {0} is missing")]
    Missing(u32),
    /// Every copy of it fails its check, ends before it or cannot be read there.
    #[error("volume {volume} is damaged at byte {offset}")]
    Damaged {
        /// The volume.
        volume: u32,
        /// The file that holds it (its first copy).
        path: PathBuf,
        /// Where the cell begins in the volume, in bytes.
        offset: u64,
    },
    /// It is not here, or damaged, and so much of the same column is too that the spare volumes do not make all of it good.
    #[error("spare volumes are too few to recreate all of volume {volume}")]
    BeyondSpares {
        /// The volume.
        volume: u32,
        /// Whether it is here, and damaged.
        is_here: bool,
    },
    /// Spare volumes contradict each other on what a cell of it was, and only the password can tell which are right.
    #[error("spare volumes contradict each other on volume {0}")]
    Disputed(u32),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(CellError);

impl Classed for CellError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Missing(_) | Self::BeyondSpares { is_here: false, .. } => ErrorClass::VolumesMissing,
            Self::Damaged { .. } | Self::BeyondSpares { .. } | Self::Disputed(_) => ErrorClass::Damaged,
        }
    }
}

/// So many files are kept open at most.
const MAX_OPEN: usize = 32;

/// One file of a set: the kind and the number of its volume, and which copy of that, counted from 0.
type Copy = (VolumeKind, u32, usize);

/// What a copy of a cell turned out to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CellCopy {
    /// Its check is right, and so is its seal, as far as anybody can judge that.
    Intact {
        /// Bytes without the check.
        length: usize,
        /// BLAKE3 of these.
        digest: blake3::Hash,
    },
    /// Its check is right and its seal is wrong: somebody changed it on purpose.
    Forged,
    /// Its check is wrong, or it cannot be read.
    Damaged,
}

/// Reads cells; keeps a few files open. A cell of which no copy is right is recreated from spare volumes.
#[derive(Debug)]
pub struct CellReader {
    set: VolumeSet,
    open: BTreeMap<Copy, VolumeBytes>,
    buffer: Vec<u8>,
    held: usize,
    bytes_read: u64,
    column: Column,
    /// How often a spare volume gave something that was not taken: those are asked last.
    distrusted: BTreeMap<u32, u32>,
}

impl CellReader {
    /// A reader of this set.
    pub fn new(set: VolumeSet) -> Self {
        let buffer = vec![0; set.geometry.cell_length.bytes()];
        Self {
            set,
            open: BTreeMap::new(),
            buffer,
            held: 0,
            bytes_read: 0,
            column: Column::default(),
            distrusted: BTreeMap::new(),
        }
    }

    /// The set that is read.
    pub fn set(&self) -> &VolumeSet {
        &self.set
    }

    /// Closes the files that are kept open; what is read later opens them again.
    pub fn close_files(&mut self) {
        self.open.clear();
    }

    /// Bytes of cells read so far.
    pub fn bytes_read(&self) -> u64 {
        self.bytes_read
    }

    /// What `accept` left of the cell that was read last.
    pub fn held(&self) -> &[u8] {
        &self.buffer[..self.held]
    }

    /// Reads the sealed bytes of a cell, from the first copy whose check is right and which `accept` takes, or recreated from spare
    /// volumes so that it does. `accept` may change them in place, and says how many of them are held then. Whether it took any.
    ///
    /// # Errors
    /// [`CellError`] where no copy's check is right, and the spare volumes are too few.
    pub fn read(&mut self, cell: u64, mut accept: impl FnMut(&mut [u8]) -> Option<usize>) -> Result<bool, CellError> {
        self.held = 0;
        let (volume, index) = self.set.geometry.locate(cell);
        let mut any_checked = false;
        for copy in 0..self.set.copies_of(VolumeKind::Data, volume).len() {
            let which = (VolumeKind::Data, volume, copy);
            // Whoever takes it judges the seal too.
            if let Some((length, _)) = self.in_buffer(|reader, buffer| reader.read_checked(which, index, buffer))? {
                any_checked = true;
                if let Some(held) = accept(&mut self.buffer[..length]) {
                    self.held = held.min(length);
                    return Ok(true);
                }
            }
        }
        if self.recreate(volume, index, &mut accept)? {
            return Ok(true);
        }
        if any_checked { Ok(false) } else { Err(self.lost(volume, index)) }
    }

    /// Reads the sealed bytes of a cell: from the first copy that is intact, or recreated from spare volumes, as they are held then. Where
    /// nobody judges seals, those must not contradict each other. Their BLAKE3, which
    /// [`Cutting::put_whole`](super::Cutting::put_whole) takes.
    ///
    /// # Errors
    /// [`CellError`] where no copy's check is right, and the spare volumes are too few or contradict each other.
    pub fn read_intact(&mut self, cell: u64) -> Result<blake3::Hash, CellError> {
        let (volume, index) = self.set.geometry.locate(cell);
        for copy in 0..self.set.copies_of(VolumeKind::Data, volume).len() {
            if let CellCopy::Intact { length, digest } = self.read_copy(VolumeKind::Data, volume, copy, index)? {
                self.held = length;
                return Ok(digest);
            }
        }
        self.held = 0;
        if let Some(judge) = self.set.judge.clone() {
            let is_last = cell + 1 == self.set.geometry.cells;
            let mut genuine = |sealed: &mut [u8]| judge.is_genuine(cell, is_last, sealed).then_some(sealed.len());
            return match self.recreate(volume, index, &mut genuine)? {
                true => Ok(blake3::hash(self.held())),
                false => Err(self.lost(volume, index)),
            };
        }
        let (group, member) = self.member(volume);
        let Some(column) = self.read_column(group, index, Some(volume))? else { return Err(self.lost(volume, index)) };
        let verdict = column.recreate_unproven(member, &mut self.buffer);
        self.column = column;
        match verdict {
            Verdict::TooFew => Err(self.lost(volume, index)),
            Verdict::Disputed => Err(CellError::Disputed(volume)),
            Verdict::Enough(_) => {
                self.held = self.sealed_bytes(VolumeKind::Data, volume, index).unwrap_or(0);
                Ok(blake3::hash(self.held()))
            }
        }
    }

    /// Why a cell cannot be had of which no copy's check is right.
    fn lost(&self, volume: u32, index: u32) -> CellError {
        let (groups, first) = (self.set.groups(), self.set.copies_of(VolumeKind::Data, volume).first());
        let group = groups.of_volume(volume);
        match first {
            _ if self.set.spares.keys().any(|spare| groups.has_spare(group, *spare)) => {
                CellError::BeyondSpares { volume, is_here: first.is_some() }
            }
            None => CellError::Missing(volume),
            Some(first) => {
                let offset = self.set.geometry.cell_length.offset_of(index);
                CellError::Damaged { volume, path: first.spot.path.clone(), offset }
            }
        }
    }

    /// Reads the sealed bytes of a cell whose seal `open` can judge: where that takes them, their check need not be
    /// compared. Otherwise this is [`CellReader::read`].
    ///
    /// # Errors
    /// [`CellError`] where no copy is taken and no copy's check is right.
    pub fn read_sealed(
        &mut self,
        cell: u64,
        mut open: impl FnMut(&mut [u8]) -> Option<usize>,
    ) -> Result<bool, CellError> {
        let (volume, index) = self.set.geometry.locate(cell);
        for copy in 0..self.set.copies_of(VolumeKind::Data, volume).len() {
            let which = (VolumeKind::Data, volume, copy);
            if let Some(length) = self.in_buffer(|reader, buffer| reader.fetch_into(which, index, buffer))?
                && let Some(held) = open(&mut self.buffer[..length - CHECK_BYTES])
            {
                self.held = held.min(length);
                return Ok(true);
            }
        }
        self.read(cell, open)
    }

    /// Reads one copy (counted from 0) of a volume's cell.
    ///
    /// # Errors
    /// [`FileError`] where the file cannot be opened.
    pub fn read_copy(&mut self, kind: VolumeKind, volume: u32, copy: usize, index: u32) -> Result<CellCopy, FileError> {
        self.in_buffer(|reader, buffer| reader.read_copy_into((kind, volume, copy), index, buffer))
    }

    /// Reads something into this reader's own buffer, which has room for a whole cell.
    fn in_buffer<T>(&mut self, read: impl FnOnce(&mut Self, &mut [u8]) -> T) -> T {
        let mut buffer = std::mem::take(&mut self.buffer);
        buffer.resize(self.set.geometry.cell_length.bytes(), 0);
        let outcome = read(self, &mut buffer);
        self.buffer = buffer;
        outcome
    }

    /// The same, into a buffer that has room for a whole cell. The seal of a spare cell cannot be judged.
    fn read_copy_into(&mut self, which: Copy, index: u32, into: &mut [u8]) -> Result<CellCopy, FileError> {
        let Some((length, digest)) = self.read_checked(which, index, into)? else { return Ok(CellCopy::Damaged) };
        let (kind, volume, _) = which;
        if let Some(judge) = self.set.judge.as_ref().filter(|_| kind == VolumeKind::Data) {
            let cell = self.set.geometry.first_cell(volume) + u64::from(index);
            if !judge.is_genuine(cell, cell + 1 == self.set.geometry.cells, &into[..length]) {
                return Ok(CellCopy::Forged);
            }
        }
        Ok(CellCopy::Intact { length, digest })
    }

    /// Reads one copy of a cell whose check is right, whatever its seal; the length of its sealed bytes and their BLAKE3.
    fn read_checked(
        &mut self,
        which: Copy,
        index: u32,
        into: &mut [u8],
    ) -> Result<Option<(usize, blake3::Hash)>, FileError> {
        let Some(length) = self.fetch_into(which, index, into)? else { return Ok(None) };
        let place = CellPlace { ids: &self.set.ids, kind: which.0, volume: which.1, index };
        let intact = Sealed::of(&into[..length]).filter(|sealed| sealed.is_intact_at(&place));
        Ok(intact.map(|sealed| (length - CHECK_BYTES, sealed.digest)))
    }

    /// Reads one copy of a cell, whatever it is, into a buffer that has room for a whole one; its length, or `None` where it cannot be
    /// read.
    fn fetch_into(&mut self, which: Copy, index: u32, into: &mut [u8]) -> Result<Option<usize>, FileError> {
        let (kind, volume, copy) = which;
        let Some(copy) = self.set.copies_of(kind, volume).get(copy) else { return Ok(None) };
        let Some(length) = self.set.geometry.cell_bytes_in(kind, volume, index) else { return Ok(None) };
        let Some(offset) = copy.offset_of(&self.set.geometry, volume, index) else { return Ok(None) };
        if !self.open.contains_key(&which) {
            if self.open.len() >= MAX_OPEN {
                self.open.clear();
            }
            let opened = match copy.open() {
                // Those that are kept open are too many where few may be.
                Err(error) if has_too_many_open(&error.source) && !self.open.is_empty() => {
                    self.open.clear();
                    copy.open()
                }
                opened => opened,
            };
            self.open.insert(which, opened?);
        }
        let Some(file) = self.open.get(&which) else { return Ok(None) };
        // A disc that cannot be read there, or a file that ends before, is as bad as a wrong check.
        if file.read_exact_at(&mut into[..length], offset).is_err() {
            return Ok(None);
        }
        self.bytes_read += length as u64;
        Ok(Some(length))
    }

    fn sealed_bytes(&self, kind: VolumeKind, volume: u32, index: u32) -> Option<usize> {
        self.set.geometry.cell_bytes_in(kind, volume, index)?.checked_sub(CHECK_BYTES)
    }

    /// The group of a data volume, and which member of that it is.
    fn member(&self, volume: u32) -> (u32, u8) {
        let groups = self.set.groups();
        let group = groups.of_volume(volume);
        (group, u8::try_from(volume.saturating_sub(*groups.members(group).start())).unwrap_or(u8::MAX))
    }

    /// Recreates a cell so that `accept` takes it; whether that came about. No copy of the cell is believed.
    fn recreate(
        &mut self,
        volume: u32,
        index: u32,
        accept: &mut impl FnMut(&mut [u8]) -> Option<usize>,
    ) -> Result<bool, CellError> {
        let (group, member) = self.member(volume);
        let Some(column) = self.read_column(group, index, Some(volume))? else { return Ok(false) };
        let length = self.sealed_bytes(VolumeKind::Data, volume, index).unwrap_or(0);
        let mut held = None;
        let used = column.recreate(member, &mut self.buffer, |recreated| {
            held = accept(&mut recreated[..length]);
            held.is_some()
        });
        if let Some(used) = &used {
            for number in column.passed_over(used) {
                *self.distrusted.entry(number).or_default() += 1;
            }
        }
        self.column = column;
        self.held = held.unwrap_or(0).min(length);
        Ok(used.is_some())
    }

    /// The column of an index in a group, with the cells that are intact; `untrusted` counts as unknown. `None` where the spare
    /// volumes are too few.
    ///
    /// # Errors
    /// [`FileError`] where a file cannot be opened.
    pub fn read_column(&mut self, group: u32, index: u32, untrusted: Option<u32>) -> Result<Option<Column>, FileError> {
        let (groups, geometry) = (self.set.groups(), self.set.geometry);
        let mut spares: Vec<(u32, u8)> = Vec::new();
        for number in self.set.spares.keys() {
            spares.extend(groups.of_spare(*number).filter(|(of, _)| *of == group).map(|(_, place)| (*number, place)));
        }
        spares.sort_by_key(|(number, _)| self.distrusted.get(number).copied().unwrap_or(0));
        let members = groups.members(group).filter(|number| index < geometry.cells_in(*number));
        let is_gone = |number: &u32| Some(*number) == untrusted || !self.set.volumes.contains_key(number);
        // What cannot succeed is not begun.
        if members.clone().filter(is_gone).count() > spares.len() {
            return Ok(None);
        }
        let mut column = std::mem::take(&mut self.column);
        column.begin(geometry.cell_length.bytes());
        for number in members {
            let member = self.member(number).1;
            column.take_member(member, |into| {
                if Some(number) == untrusted { Ok(None) } else { self.read_into(VolumeKind::Data, number, index, into) }
            })?;
        }
        for (number, place) in spares {
            column.take_spare(number, place, |into| self.read_into(VolumeKind::Spare, number, index, into))?;
        }
        if column.has_too_few() {
            self.column = column;
            return Ok(None);
        }
        Ok(Some(column))
    }

    /// Gives the memory of a column back, for the next.
    pub fn give_back(&mut self, column: Column) {
        self.column = column;
    }

    /// Reads a volume's cell from the first copy that is intact; the length of its sealed bytes.
    fn read_into(
        &mut self,
        kind: VolumeKind,
        volume: u32,
        index: u32,
        into: &mut [u8],
    ) -> Result<Option<usize>, FileError> {
        for copy in 0..self.set.copies_of(kind, volume).len() {
            if let CellCopy::Intact { length, .. } = self.read_copy_into((kind, volume, copy), index, into)? {
                return Ok(Some(length));
            }
        }
        Ok(None)
    }
}
