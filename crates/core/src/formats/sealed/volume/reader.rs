//! Reading a set's cells by their number in the stream, from whichever copy is undamaged.

use super::CHECK_BYTES;
use super::cell::{CellPlace, Sealed};
use super::header::VolumeKind;
use super::in_page::VolumeBytes;
use super::set::{VolumeFile, VolumeSet};
use crate::disk::{FileError, Interruption, interruptible};
use crate::ground::class::{Classed, ErrorClass};
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
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(CellError);

impl Classed for CellError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Missing(_) => ErrorClass::VolumesMissing,
            Self::Damaged { .. } => ErrorClass::Damaged,
        }
    }
}

/// Reads cells; keeps one file open at a time.
#[derive(Debug)]
pub struct CellReader {
    set: VolumeSet,
    /// Which file of the set is open: the number of its volume, and which copy of that.
    open: Option<((u32, usize), VolumeBytes)>,
    buffer: Vec<u8>,
    held: usize,
    bytes_read: u64,
}

impl CellReader {
    /// A reader of this set.
    pub fn new(set: VolumeSet) -> Self {
        let buffer = vec![0; set.geometry.cell_length.bytes()];
        Self { set, open: None, buffer, held: 0, bytes_read: 0 }
    }

    /// The set that is read.
    pub fn set(&self) -> &VolumeSet {
        &self.set
    }

    /// Bytes of cells read so far.
    pub fn bytes_read(&self) -> u64 {
        self.bytes_read
    }

    /// What `accept` left of the cell that was read last.
    pub fn held(&self) -> &[u8] {
        &self.buffer[..self.held]
    }

    /// Reads the sealed bytes of a cell, from the first copy whose check is right and which `accept` takes. `accept`
    /// may change them in place, and says how many of them are held then. Whether it took any copy.
    ///
    /// # Errors
    /// [`CellError`] where no copy's check is right.
    pub fn read(&mut self, cell: u64, mut accept: impl FnMut(&mut [u8]) -> Option<usize>) -> Result<bool, CellError> {
        self.read_checked(cell, |sealed, _| accept(sealed))
    }

    /// Reads the sealed bytes of a cell without the password: from the first copy whose check is right, as they are held then.
    /// Their BLAKE3, which [`Cutting::put_whole`](super::Cutting::put_whole) takes.
    ///
    /// # Errors
    /// [`CellError`] where no copy's check is right.
    pub fn read_intact(&mut self, cell: u64) -> Result<blake3::Hash, CellError> {
        let mut digest = blake3::Hash::from_bytes([0; 32]);
        self.read_checked(cell, |sealed, found| {
            digest = found;
            Some(sealed.len())
        })?;
        Ok(digest)
    }

    fn read_checked(
        &mut self,
        cell: u64,
        mut accept: impl FnMut(&mut [u8], blake3::Hash) -> Option<usize>,
    ) -> Result<bool, CellError> {
        self.held = 0;
        let (volume, index) = self.set.geometry.locate(cell);
        let copies = self.set.volumes.get(&volume).map_or(0, Vec::len);
        let mut any_checked = false;
        for copy in 0..copies {
            if let Some((length, digest)) = self.read_copy(volume, copy, index)? {
                any_checked = true;
                if let Some(held) = accept(&mut self.buffer[..length], digest) {
                    self.held = held.min(length);
                    return Ok(true);
                }
            }
        }
        match self.copy_of(volume, 0) {
            None => Err(CellError::Missing(volume)),
            Some(_) if any_checked => Ok(false),
            Some(first) => {
                let offset = self.set.geometry.cell_length.offset_of(index);
                Err(CellError::Damaged { volume, path: first.spot.path.clone(), offset })
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
        for copy in 0..self.set.volumes.get(&volume).map_or(0, Vec::len) {
            if let Some(length) = self.fetch(volume, copy, index)?
                && let Some(held) = open(&mut self.buffer[..length - CHECK_BYTES])
            {
                self.held = held.min(length);
                return Ok(true);
            }
        }
        self.read(cell, open)
    }

    fn copy_of(&self, volume: u32, copy: usize) -> Option<&VolumeFile> {
        self.set.volumes.get(&volume)?.get(copy)
    }

    /// Reads one copy (counted from 0) of a cell. The length of its sealed bytes and their BLAKE3, or `None` where the check is
    /// wrong or the bytes cannot be read.
    ///
    /// # Errors
    /// [`FileError`] where the file cannot be opened.
    pub fn read_copy(
        &mut self,
        volume: u32,
        copy: usize,
        index: u32,
    ) -> Result<Option<(usize, blake3::Hash)>, FileError> {
        let Some(length) = self.fetch(volume, copy, index)? else { return Ok(None) };
        let place = CellPlace { ids: &self.set.ids, kind: VolumeKind::Data, volume, index };
        let intact = Sealed::of(&self.buffer[..length]).filter(|sealed| sealed.is_intact_at(&place));
        Ok(intact.map(|sealed| (length - CHECK_BYTES, sealed.digest)))
    }

    /// Reads one copy of a cell into the buffer, whatever it is; its length, or `None` where it cannot be read.
    fn fetch(&mut self, volume: u32, copy: usize, index: u32) -> Result<Option<usize>, FileError> {
        let which = (volume, copy);
        let Some(copy) = self.copy_of(volume, copy) else { return Ok(None) };
        let length = self.set.geometry.cell_bytes(self.set.geometry.first_cell(volume) + u64::from(index));
        let Some(offset) = copy.offset_of(&self.set.geometry, volume, index) else { return Ok(None) };
        if self.open.as_ref().is_none_or(|(open, _)| *open != which) {
            self.open = Some((which, copy.open()?));
        }
        let Some((_, file)) = &self.open else { return Ok(None) };
        // A disc that cannot be read there, or a file that ends before, is as bad as a wrong check.
        if file.read_exact_at(&mut self.buffer[..length], offset).is_err() {
            return Ok(None);
        }
        self.bytes_read += length as u64;
        Ok(Some(length))
    }
}
