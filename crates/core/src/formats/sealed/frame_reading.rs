//! Frames as they are read: one at a place of the inner stream, or all in order.

use super::error::SealedError;
use super::frame::{FRAME_HEADER_BYTES, FrameHeader};
use super::stream::StreamReader;
use super::tail::{TAIL_BYTES, Tail};
use crate::codecs::block::Decompressor;
use crate::codecs::error::CodecError;
use crate::ground::pipeline::Buffers;
use crate::ground::wire::Malformed;

/// Reads and decompresses the frame at a place of the inner stream.
pub(super) fn read_frame(
    stream: &mut StreamReader,
    decompressor: &mut Decompressor,
    frame_at: u64,
    tail: &Tail,
    raw: &mut Vec<u8>,
) -> Result<FrameHeader, SealedError> {
    let frame = read_stored_frame(stream, frame_at, tail, Vec::new())?;
    decompressor.decompress(frame.header.codec, &frame.stored, frame.header.raw_bytes as usize, raw)?;
    Ok(frame.header)
}

/// A frame as it is stored.
pub(super) struct StoredFrame {
    pub at: u64,
    pub header: FrameHeader,
    pub stored: Vec<u8>,
}

/// Reads the frame at a place of the inner stream into `buffer`.
pub(super) fn read_stored_frame(
    stream: &mut StreamReader,
    frame_at: u64,
    tail: &Tail,
    mut buffer: Vec<u8>,
) -> Result<StoredFrame, SealedError> {
    let left = tail.inner_bytes.saturating_sub(frame_at);
    if left < FRAME_HEADER_BYTES as u64 {
        return Err(Malformed("frame place").into());
    }
    buffer.clear();
    stream.read(frame_at, FRAME_HEADER_BYTES, &mut buffer)?;
    let header = FrameHeader::decode(&buffer)?;
    if u64::from(header.stored_bytes) > left - FRAME_HEADER_BYTES as u64 {
        return Err(Malformed("frame length").into());
    }
    buffer.clear();
    buffer.try_reserve(header.stored_bytes as usize).map_err(|_| CodecError::Compressor)?;
    stream.read(frame_at + FRAME_HEADER_BYTES as u64, header.stored_bytes as usize, &mut buffer)?;
    Ok(StoredFrame { at: frame_at, header, stored: buffer })
}

/// Goes through all frames in order and holds the cells' marks to where frames really begin.
pub(super) struct FrameWalk<'a> {
    tail: &'a Tail,
    position: u64,
    /// Cells before this one have had their marks compared.
    marks_compared: u64,
}

impl<'a> FrameWalk<'a> {
    pub fn new(tail: &'a Tail) -> Self {
        Self { tail, position: 0, marks_compared: 0 }
    }

    pub fn next(&mut self, stream: &mut StreamReader, buffers: &Buffers) -> Result<Option<StoredFrame>, SealedError> {
        if self.position == self.tail.inner_bytes {
            return Ok(None);
        }
        let frame_at = self.position;
        let per_cell = stream.inner_per_cell();
        let cell = frame_at / per_cell;
        if cell >= self.marks_compared {
            self.no_frame_begins_before(cell, stream)?;
            if stream.first_frame(cell)? != Some((frame_at % per_cell) as usize) {
                return Err(Malformed("frame mark").into());
            }
            self.marks_compared = cell + 1;
        }
        let frame = read_stored_frame(stream, frame_at, self.tail, buffers.take())?;
        self.position += FRAME_HEADER_BYTES as u64 + u64::from(frame.header.stored_bytes);
        Ok(Some(frame))
    }

    fn no_frame_begins_before(&mut self, cell: u64, stream: &mut StreamReader) -> Result<(), SealedError> {
        while self.marks_compared < cell {
            if stream.first_frame(self.marks_compared)?.is_some() {
                return Err(Malformed("frame mark").into());
            }
            self.marks_compared += 1;
        }
        Ok(())
    }

    /// Behind the last frame there is nothing but zeros and the tail.
    pub fn finish(mut self, stream: &mut StreamReader) -> Result<(), SealedError> {
        self.no_frame_begins_before(self.tail.cells, stream)?;
        let per_cell = stream.inner_per_cell();
        for cell in self.tail.inner_bytes / per_cell..self.tail.cells {
            let tail_bytes = if cell + 1 == self.tail.cells { TAIL_BYTES } else { 0 };
            let inner = stream.load(cell)?;
            let from = self.tail.inner_bytes.saturating_sub(cell * per_cell) as usize;
            let padding = inner.get(from..inner.len() - tail_bytes).ok_or(Malformed("padding"))?;
            if padding.iter().any(|byte| *byte != 0) {
                return Err(Malformed("padding").into());
            }
        }
        Ok(())
    }
}
