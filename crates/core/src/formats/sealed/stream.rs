//! The inner stream: frames one after another, carried in cells, closed by the tail.
//!
//! A cell's plaintext begins with a mark that says where in it the first new frame begins, so that a
//! reader who has lost cells finds its way again.

use super::cells::{CELL_OVERHEAD, CellSeal, PlainCells};
use super::tail::{TAIL_BYTES, Tail};
use crate::formats::sealed::volume::{
    CellError, CellLength, CellReader, Cells, Geometry, HEADER_BYTES, LAST_CELL_STEP, MAX_VOLUMES,
};
use crate::ground::pipeline::{Buffers, Stopped};
use crate::ground::wire::Malformed;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

/// Bytes before the inner stream's part in a cell: the mark and two zeros.
const MARK_BYTES: usize = 4;

/// Bytes of the inner stream in every cell but the last.
pub const fn inner_per_cell(length: CellLength) -> usize {
    length.bytes() - CELL_OVERHEAD - MARK_BYTES
}

/// The mark of a cell in which no frame begins.
const NO_FRAME: u16 = 0xFFFF;

/// Cells that are submitted together, to be sealed by one worker.
pub const CELLS_TOGETHER: usize = 16;

/// How an inner stream of so many bytes will be cut into volumes of at most `volume_limit` bytes. `None` where not even
/// one cell fits, or there would be more volumes than a set may have.
pub fn geometry_of(inner_bytes: u64, volume_limit: Option<u64>) -> Option<Geometry> {
    let cell_length = CellLength::within(volume_limit)?;
    let per_cell = inner_per_cell(cell_length) as u64;
    let with_tail = inner_bytes + TAIL_BYTES as u64;
    let cells = with_tail.div_ceil(per_cell);
    let in_last = (with_tail - (cells - 1) * per_cell) as usize + MARK_BYTES + CELL_OVERHEAD;
    let per_volume = volume_limit.map_or(Some(u32::MAX), |limit| cell_length.cells_within(limit))?;
    let data_volumes =
        u32::try_from(cells.div_ceil(u64::from(per_volume))).ok().filter(|count| *count <= MAX_VOLUMES)?;
    let single = data_volumes == 1;
    let cells_per_volume = if single { u32::try_from(cells).ok()? } else { per_volume };
    let last_cell_bytes = cell_length.last_holding(in_last) as u32;
    Some(Geometry { data_volumes, spare_volumes: 0, cells_per_volume, cells, last_cell_bytes, cell_length })
}

/// The most bytes of an inner stream that fit an archive of one volume that is not to be longer than `volume_limit` bytes, and is cut
/// like any of one volume; `None` where nothing does.
pub fn inner_within(volume_limit: u64) -> Option<u64> {
    let room = volume_limit.checked_sub(HEADER_BYTES as u64)?;
    let length = CellLength::LONGEST;
    let (full, rest) = (room / length.bytes() as u64, room % length.bytes() as u64);
    let last =
        (rest / LAST_CELL_STEP as u64 * LAST_CELL_STEP as u64).saturating_sub((CELL_OVERHEAD + MARK_BYTES) as u64);
    (full * inner_per_cell(length) as u64 + last).checked_sub(TAIL_BYTES as u64)
}

/// Cuts the inner stream into cells, and hands them over in order, ready to be sealed.
pub struct StreamWriter<'a, H> {
    submit: H,
    cell_length: CellLength,
    buffers: &'a Buffers,
    /// Finished cells, then the one that is being filled.
    cells: Cells,
    /// Where the cell that is being filled begins in `cells`.
    current: usize,
    /// That cell's number in the stream.
    number: u64,
    mark: u16,
    position: u64,
}

impl<'a, H: FnMut(PlainCells) -> Result<(), Stopped>> StreamWriter<'a, H> {
    /// A writer of cells of this length, that hands them to `submit`, and takes its buffers from `buffers`.
    pub fn new(cell_length: CellLength, buffers: &'a Buffers, submit: H) -> Self {
        let mut writer = Self {
            submit,
            cell_length,
            buffers,
            cells: Cells::default(),
            current: 0,
            number: 0,
            mark: NO_FRAME,
            position: 0,
        };
        writer.start_together();
        writer
    }

    /// How many bytes of the inner stream are written.
    pub fn position(&self) -> u64 {
        self.position
    }

    fn plain_bytes(&self) -> usize {
        self.cells.bytes.len() - self.current
    }

    /// The most plaintext bytes in a cell.
    const fn max_plain_bytes(&self) -> usize {
        self.cell_length.bytes() - CELL_OVERHEAD
    }

    fn start_together(&mut self) {
        let mut bytes = self.buffers.take();
        bytes.clear();
        bytes.reserve(CELLS_TOGETHER * self.cell_length.bytes());
        self.cells = Cells { first: self.number, cell_length: self.cell_length, bytes };
        self.start_cell();
    }

    fn start_cell(&mut self) {
        self.current = self.cells.bytes.len();
        self.cells.bytes.extend_from_slice(&[0; MARK_BYTES]);
        self.mark = NO_FRAME;
    }

    /// Leaves room for tag and check behind the plaintext.
    fn close_cell(&mut self) {
        self.cells.bytes[self.current..self.current + 2].copy_from_slice(&self.mark.to_le_bytes());
        self.cells.bytes.resize(self.cells.bytes.len() + CELL_OVERHEAD, 0);
        self.number += 1;
    }

    fn next_cell(&mut self) -> Result<(), Stopped> {
        self.close_cell();
        if self.cells.bytes.len() >= CELLS_TOGETHER * self.cell_length.bytes() {
            let cells = std::mem::take(&mut self.cells);
            (self.submit)(PlainCells { cells, with_last: false })?;
            self.start_together();
        } else {
            self.start_cell();
        }
        Ok(())
    }

    /// Says that the next byte begins a frame.
    pub fn begin_frame(&mut self) -> Result<(), Stopped> {
        if self.plain_bytes() == self.max_plain_bytes() {
            self.next_cell()?;
        }
        if self.mark == NO_FRAME {
            self.mark = (self.plain_bytes() - MARK_BYTES) as u16;
        }
        Ok(())
    }

    /// Writes bytes of the current frame.
    pub fn write(&mut self, mut bytes: &[u8]) -> Result<(), Stopped> {
        while !bytes.is_empty() {
            if self.plain_bytes() == self.max_plain_bytes() {
                self.next_cell()?;
            }
            let (now, later) = bytes.split_at(bytes.len().min(self.max_plain_bytes() - self.plain_bytes()));
            self.cells.bytes.extend_from_slice(now);
            self.position += now.len() as u64;
            bytes = later;
        }
        Ok(())
    }

    /// Closes the stream with the tail, whose lengths are filled in here.
    pub fn finish(mut self, mut tail: Tail) -> Result<(), Stopped> {
        if self.plain_bytes() + TAIL_BYTES > self.max_plain_bytes() {
            self.cells.bytes.resize(self.current + self.max_plain_bytes(), 0);
            self.next_cell()?;
        }
        tail.inner_bytes = self.position;
        tail.cells = self.number + 1;
        let cell_bytes = self.cell_length.last_holding(self.plain_bytes() + TAIL_BYTES + CELL_OVERHEAD);
        self.cells.bytes.resize(self.current + cell_bytes - CELL_OVERHEAD - TAIL_BYTES, 0);
        self.cells.bytes.extend_from_slice(&tail.encode());
        self.close_cell();
        (self.submit)(PlainCells { cells: self.cells, with_last: true })
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
    seal: Arc<CellSeal>,
    cells: CellReader,
    /// The cell whose plaintext the cell reader holds.
    current: Option<u64>,
    marks: HashMap<u64, u16>,
    compare_checks: bool,
}

impl StreamReader {
    /// A reader of this set's stream.
    pub fn new(seal: impl Into<Arc<CellSeal>>, cells: CellReader) -> Self {
        Self { seal: seal.into(), cells, current: None, marks: HashMap::new(), compare_checks: false }
    }

    /// Another reader of the same stream.
    pub fn beside(&self) -> Self {
        Self::new(Arc::clone(&self.seal), CellReader::new(self.cells.set().clone()))
    }

    /// From now on the checks of cells are compared too, though a seal that is right says more: for proving that
    /// somebody without the password will find the volumes intact.
    pub fn compare_checks(&mut self) {
        (self.compare_checks, self.current) = (true, None);
    }

    /// Closes the files that are kept open; what is read later opens them again.
    pub fn close_files(&mut self) {
        self.cells.close_files();
    }

    /// The cells that are read.
    pub fn cells(&self) -> &CellReader {
        &self.cells
    }

    /// Bytes of the inner stream in every cell but the last.
    pub fn inner_per_cell(&self) -> u64 {
        inner_per_cell(self.cells.set().geometry.cell_length) as u64
    }

    /// Opens a cell and gives its part of the inner stream.
    pub fn load(&mut self, cell: u64) -> Result<&[u8], StreamError> {
        Ok(self.plain(cell)?.get(MARK_BYTES..).unwrap_or_default())
    }

    /// Opens a cell and gives its whole plaintext, mark and all.
    pub fn plain(&mut self, cell: u64) -> Result<&[u8], StreamError> {
        if self.current != Some(cell) {
            self.current = None;
            self.open(cell)?;
            self.current = Some(cell);
        }
        Ok(self.cells.held())
    }

    /// Opens a cell and notes its mark.
    fn open(&mut self, cell: u64) -> Result<(), StreamError> {
        let geometry = self.cells.set().geometry;
        let seal = &self.seal;
        // Where two copies differ and both pass their checks, the seal decides.
        let open = |sealed: &mut [u8]| seal.open(cell, cell + 1 == geometry.cells, sealed).ok();
        let opened = if self.compare_checks { self.cells.read(cell, open) } else { self.cells.read_sealed(cell, open) };
        if !opened? {
            let (volume, index) = geometry.locate(cell);
            let files = self.cells.set().volumes.get(&volume).and_then(|copies| copies.first());
            let path = files.map(|file| file.spot.path.clone()).unwrap_or_default();
            return Err(StreamError::NotAuthentic { volume, path, offset: geometry.cell_length.offset_of(index) });
        }
        let [low, high, 0, 0, ..] = *self.cells.held() else { return Err(Malformed("cell").into()) };
        if self.marks.len() >= MARKS_KEPT {
            self.marks.clear();
        }
        self.marks.insert(cell, u16::from_le_bytes([low, high]));
        Ok(())
    }

    /// Where in a cell's part of the inner stream the first frame begins, if one does.
    pub fn first_frame(&mut self, cell: u64) -> Result<Option<usize>, StreamError> {
        if !self.marks.contains_key(&cell) {
            self.load(cell)?;
        }
        let mark = self.marks.get(&cell).copied().unwrap_or(NO_FRAME);
        Ok((mark != NO_FRAME).then_some(mark.into()))
    }

    /// The tail, from the last cell.
    pub fn tail(&mut self) -> Result<Tail, StreamError> {
        let Geometry { cells, cell_length, .. } = self.cells.set().geometry;
        let inner = self.load(cells.saturating_sub(1))?;
        let tail = inner.len().checked_sub(TAIL_BYTES).and_then(|at| inner.get(at..)).ok_or(Malformed("tail"))?;
        let tail = Tail::decode(tail)?;
        let last = inner.len() - TAIL_BYTES;
        let room =
            cells.saturating_sub(1).saturating_mul(inner_per_cell(cell_length) as u64).saturating_add(last as u64);
        if tail.cells != cells || tail.inner_bytes > room {
            return Err(Malformed("tail").into());
        }
        Ok(tail)
    }

    /// Appends `length` bytes of the inner stream from `position` on to `output`. The caller has
    /// bounded the length.
    pub fn read(&mut self, mut position: u64, mut length: usize, output: &mut Vec<u8>) -> Result<(), StreamError> {
        let per_cell = self.inner_per_cell();
        while length > 0 {
            let inner = self.load(position / per_cell)?;
            let from = (position % per_cell) as usize;
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
