//! A stream in which contents stand one behind the other, each filled up to a whole number of blocks.

use super::error::StreamedError;
use super::wrapped::Unwrapped;
use crate::formats::reader::CONTENT_BYTES;

/// A stream, with what is still to be read of the current content.
pub(in crate::formats) struct Filled<'a> {
    stream: Unwrapped<'a>,
    /// Bytes of the content, and of what fills up its last block, that were not read yet.
    content: u64,
    filling: u64,
    /// For what is passed over: the same for every entry, as there may be very many small ones.
    spare: Vec<u8>,
}

impl<'a> Filled<'a> {
    pub const fn new(stream: Unwrapped<'a>) -> Self {
        Self { stream, content: 0, filling: 0, spare: Vec::new() }
    }

    /// Bytes that were read so far.
    pub fn position(&self) -> u64 {
        self.stream.position()
    }

    /// Bytes that are left of the current content.
    pub const fn left(&self) -> u64 {
        self.content
    }

    /// Fills a buffer with what stands between contents; how much of it, which is less only at the end.
    pub fn fill(&mut self, buffer: &mut [u8]) -> Result<usize, StreamedError> {
        Ok(self.stream.fill(buffer)?)
    }

    /// A content of so many bytes comes next, in blocks of that many.
    pub const fn follow(&mut self, bytes: u64, block_bytes: u64) {
        self.content = bytes;
        self.filling = (block_bytes - bytes % block_bytes) % block_bytes;
    }

    /// The next bytes of the content; none at its end.
    pub fn read(&mut self, buffer: &mut [u8]) -> Result<usize, StreamedError> {
        let room = usize::try_from(self.content).unwrap_or(usize::MAX).min(buffer.len());
        if room == 0 {
            return Ok(0);
        }
        let read = self.stream.read(&mut buffer[..room])?;
        if read == 0 {
            return Err(StreamedError::CutShort);
        }
        self.content -= read as u64;
        Ok(read)
    }

    /// Passes over what is left of the content and its last block; `see` is shown what there is of the content.
    pub fn pass_over(&mut self, mut see: impl FnMut(&[u8])) -> Result<(), StreamedError> {
        let mut buffer = std::mem::take(&mut self.spare);
        buffer.resize(CONTENT_BYTES, 0);
        loop {
            match self.read(&mut buffer)? {
                0 => break,
                read => see(&buffer[..read]),
            }
        }
        self.content = std::mem::take(&mut self.filling);
        while self.read(&mut buffer)? > 0 {}
        self.spare = buffer;
        Ok(())
    }

    /// All of a content that is no longer than this, and what fills its last block; `None` where it is longer.
    pub fn whole(&mut self, most_bytes: u64) -> Result<Option<Vec<u8>>, StreamedError> {
        if self.content > most_bytes {
            return Ok(None);
        }
        let mut all = vec![0; usize::try_from(self.content).unwrap_or(0)];
        let mut filled = 0;
        while filled < all.len() {
            filled += self.read(&mut all[filled..])?;
        }
        self.pass_over(|_| {})?;
        Ok(Some(all))
    }

    /// Reads on to the end of the stream: what a compression keeps for its end, a checksum say, is behind the archive's own end.
    pub fn exhaust(&mut self) -> Result<(), StreamedError> {
        self.spare.resize(CONTENT_BYTES, 0);
        while self.stream.fill(&mut self.spare)? > 0 {}
        Ok(())
    }
}
