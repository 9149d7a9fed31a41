//! The inner stream: frames one after another, carried in cells, closed by the tail.
//!
//! A cell's plaintext begins with a mark that says where in it the first new frame begins, so that a
//! reader who has lost cells finds its way again.

use super::cells::{CellSeal, MAX_PLAIN_BYTES, TAG_BYTES};
use super::tail::{TAIL_BYTES, Tail};
use super::wire::Malformed;
use crate::volume::{
    CHECK_BYTES, CellError, CellReader, Head, LAST_CELL_STEP, VolumeWriter, WriteError, WrittenVolumes, cell_offset,
};
use std::collections::HashMap;
use std::path::PathBuf;

/// Bytes before the inner stream's part in a cell: the mark and two zeros.
const MARK_BYTES: usize = 4;

/// Bytes of the inner stream in every cell but the last.
pub const INNER_PER_CELL: usize = MAX_PLAIN_BYTES - MARK_BYTES;

/// The mark of a cell in which no frame begins.
const NO_FRAME: u16 = 0xFFFF;

/// Writes the inner stream into sealed cells.
pub struct StreamWriter<'a> {
    seal: CellSeal,
    volumes: VolumeWriter<'a>,
    plain: Vec<u8>,
    mark: u16,
    position: u64,
}

impl<'a> StreamWriter<'a> {
    /// A writer that hands its cells to `volumes`.
    pub fn new(seal: CellSeal, volumes: VolumeWriter<'a>) -> Self {
        let plain = Vec::with_capacity(MAX_PLAIN_BYTES + TAG_BYTES);
        let mut writer = Self { seal, volumes, plain, mark: NO_FRAME, position: 0 };
        writer.start_cell();
        writer
    }

    /// How many bytes of the inner stream are written.
    pub fn position(&self) -> u64 {
        self.position
    }

    /// The number of the volume being written.
    pub fn volume(&self) -> u32 {
        self.volumes.volume()
    }

    fn start_cell(&mut self) {
        self.plain.clear();
        self.plain.resize(MARK_BYTES, 0);
        self.mark = NO_FRAME;
    }

    fn flush(&mut self, is_last: bool) -> Result<(), WriteError> {
        self.plain[..2].copy_from_slice(&self.mark.to_le_bytes());
        // Sealing fails only beyond GCM's limits, which a cell is far from.
        self.seal.seal(self.volumes.cells(), is_last, &mut self.plain).map_err(|_| WriteError::TooManyCells)?;
        self.volumes.push(&self.plain)?;
        self.start_cell();
        Ok(())
    }

    /// Says that the next byte begins a frame.
    ///
    /// # Errors
    /// [`WriteError`].
    pub fn begin_frame(&mut self) -> Result<(), WriteError> {
        if self.plain.len() == MAX_PLAIN_BYTES {
            self.flush(false)?;
        }
        if self.mark == NO_FRAME {
            self.mark = (self.plain.len() - MARK_BYTES) as u16;
        }
        Ok(())
    }

    /// Writes bytes of the current frame.
    ///
    /// # Errors
    /// [`WriteError`].
    pub fn write(&mut self, mut bytes: &[u8]) -> Result<(), WriteError> {
        while !bytes.is_empty() {
            if self.plain.len() == MAX_PLAIN_BYTES {
                self.flush(false)?;
            }
            let (now, later) = bytes.split_at(bytes.len().min(MAX_PLAIN_BYTES - self.plain.len()));
            self.plain.extend_from_slice(now);
            self.position += now.len() as u64;
            bytes = later;
        }
        Ok(())
    }

    /// Closes the stream with the tail (whose lengths are filled in here) and the volumes with their headers.
    ///
    /// # Errors
    /// [`WriteError`].
    pub fn finish(mut self, mut tail: Tail, head: &Head) -> Result<WrittenVolumes, WriteError> {
        if self.plain.len() + TAIL_BYTES > MAX_PLAIN_BYTES {
            self.plain.resize(MAX_PLAIN_BYTES, 0);
            self.flush(false)?;
        }
        tail.inner_bytes = self.position;
        tail.cells = self.volumes.cells() + 1;
        let overhead = TAG_BYTES + CHECK_BYTES;
        let cell_bytes = (self.plain.len() + TAIL_BYTES + overhead).next_multiple_of(LAST_CELL_STEP);
        self.plain.resize(cell_bytes - overhead - TAIL_BYTES, 0);
        self.plain.extend_from_slice(&tail.encode());
        self.flush(true)?;
        self.volumes.finish(head)
    }
}

/// Why a part of the inner stream cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum StreamError {
    /// A cell is missing, damaged or unreadable.
    #[error(transparent)]
    Cell(#[from] CellError),
    /// A cell passes its check and yet is not what was sealed.
    #[error("volume {volume} was changed on purpose at byte {offset}")]
    NotAuthentic {
        /// The volume.
        volume: u32,
        /// A file that holds it.
        path: PathBuf,
        /// Where the cell begins in that file, in bytes.
        offset: u64,
    },
    /// Authentic bytes break the format's rules.
    #[error(transparent)]
    Malformed(#[from] Malformed),
}

/// Cells whose marks are remembered after the cells themselves are gone.
const MARKS_KEPT: usize = 1_024;

/// Reads the inner stream from any place; keeps one cell.
pub struct StreamReader {
    seal: CellSeal,
    cells: CellReader,
    current: Option<u64>,
    plain: Vec<u8>,
    marks: HashMap<u64, u16>,
}

impl StreamReader {
    /// A reader of this set's stream.
    pub fn new(seal: CellSeal, cells: CellReader) -> Self {
        let plain = Vec::with_capacity(MAX_PLAIN_BYTES + TAG_BYTES);
        Self { seal, cells, current: None, plain, marks: HashMap::new() }
    }

    /// The cells that are read.
    pub fn cells(&self) -> &CellReader {
        &self.cells
    }

    /// Opens a cell and gives its part of the inner stream.
    ///
    /// # Errors
    /// [`StreamError`].
    pub fn load(&mut self, cell: u64) -> Result<&[u8], StreamError> {
        if self.current != Some(cell) {
            self.current = None;
            let geometry = self.cells.set().geometry;
            let (seal, plain) = (&self.seal, &mut self.plain);
            // Where two copies differ and both pass their checks, the seal decides.
            let opened = self.cells.read(cell, |sealed| {
                plain.clear();
                plain.extend_from_slice(sealed);
                seal.open(cell, cell + 1 == geometry.cells, plain).ok()
            })?;
            if opened.is_none() {
                let (volume, index) = geometry.locate(cell);
                let files = self.cells.set().volumes.get(&volume).and_then(|copies| copies.first());
                let path = files.map(|file| file.path.clone()).unwrap_or_default();
                return Err(StreamError::NotAuthentic { volume, path, offset: cell_offset(index) });
            }
            if self.plain.get(2..MARK_BYTES) != Some(&[0, 0]) {
                return Err(Malformed("cell").into());
            }
            if self.marks.len() >= MARKS_KEPT {
                self.marks.clear();
            }
            self.marks.insert(cell, u16::from_le_bytes([self.plain[0], self.plain[1]]));
            self.current = Some(cell);
        }
        Ok(&self.plain[MARK_BYTES..])
    }

    /// Where in a cell's part of the inner stream the first frame begins, if one does.
    ///
    /// # Errors
    /// [`StreamError`].
    pub fn first_frame(&mut self, cell: u64) -> Result<Option<usize>, StreamError> {
        let mark = match self.marks.get(&cell) {
            Some(mark) => *mark,
            None => {
                self.load(cell)?;
                u16::from_le_bytes([self.plain[0], self.plain[1]])
            }
        };
        Ok((mark != NO_FRAME).then_some(mark.into()))
    }

    /// The tail, from the last cell.
    ///
    /// # Errors
    /// [`StreamError`].
    pub fn tail(&mut self) -> Result<Tail, StreamError> {
        let cells = self.cells.set().geometry.cells;
        let inner = self.load(cells.saturating_sub(1))?;
        let tail = inner.len().checked_sub(TAIL_BYTES).and_then(|at| inner.get(at..)).ok_or(Malformed("tail"))?;
        let tail = Tail::decode(tail)?;
        let last = inner.len() - TAIL_BYTES;
        let room = cells.saturating_sub(1).saturating_mul(INNER_PER_CELL as u64).saturating_add(last as u64);
        if tail.cells != cells || tail.inner_bytes > room {
            return Err(Malformed("tail").into());
        }
        Ok(tail)
    }

    /// Appends `length` bytes of the inner stream from `position` on to `output`. The caller has
    /// bounded the length.
    ///
    /// # Errors
    /// [`StreamError`].
    pub fn read(&mut self, mut position: u64, mut length: usize, output: &mut Vec<u8>) -> Result<(), StreamError> {
        while length > 0 {
            let inner = self.load(position / INNER_PER_CELL as u64)?;
            let from = (position % INNER_PER_CELL as u64) as usize;
            let part = inner.get(from..inner.len().min(from.saturating_add(length))).unwrap_or_default();
            if part.is_empty() {
                return Err(Malformed("stream").into());
            }
            output.extend_from_slice(part);
            position += part.len() as u64;
            length -= part.len();
        }
        Ok(())
    }
}
