//! A file's lines with their places: the beginning of each, since no more is needed to tell a boundary or a header, and how long it
//! is. Lines may be as long as the file.

use crate::ground::retrying::uninterrupted;
use std::io::{self, Read};

/// So much of a line is kept.
pub(super) const HEAD_BYTES: usize = 8 * 1024;

/// So much is read at once.
const BUFFER_BYTES: usize = 512 * 1024;

/// A line of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Line<'a> {
    /// Where it begins in the file, in bytes.
    pub at: u64,
    /// Its length in bytes, its end included.
    pub bytes: u64,
    /// Of these its end, as CRLF or LF; none at the end of the file.
    pub end_bytes: u64,
    /// How it begins, without its end; at most [`HEAD_BYTES`].
    pub head: &'a [u8],
}

/// Reads lines.
pub(super) struct Lines<R> {
    from: R,
    buffer: Vec<u8>,
    /// What of the buffer was not given yet.
    left: std::ops::Range<usize>,
    /// Where the next line begins in the file.
    at: u64,
    /// How a line begins that is longer than what is kept of it.
    long: Vec<u8>,
}

impl<R: Read> Lines<R> {
    pub fn new(from: R) -> Self {
        Self { from, buffer: vec![0; BUFFER_BYTES], left: 0..0, at: 0, long: Vec::new() }
    }

    /// The next line; `None` at the file's end.
    pub fn next(&mut self) -> io::Result<Option<Line<'_>>> {
        let at = self.at;
        let end = loop {
            if let Some(end) = memchr::memchr(b'\n', &self.buffer[self.left.clone()]) {
                break Some(end + 1);
            }
            if self.left.len() >= HEAD_BYTES || self.fill()? == 0 {
                break None;
            }
        };
        if let Some(bytes) = end {
            let line = self.left.start..self.left.start + bytes;
            self.left.start = line.end;
            self.at += bytes as u64;
            let line = &self.buffer[line];
            return Ok(Some(Line { at, bytes: bytes as u64, end_bytes: end_of(line), head: head_of(line) }));
        }
        if self.left.is_empty() {
            return Ok(None);
        }
        // The line is longer than what is kept of it, or the file's last one.
        self.long.clear();
        self.long.extend_from_slice(head_of(&self.buffer[self.left.clone()]));
        let (bytes, end_bytes) = self.skip_line()?;
        self.at += bytes;
        Ok(Some(Line { at, bytes, end_bytes, head: &self.long }))
    }

    /// Goes to the end of the line that begins here; how long it is, and how long its end is.
    fn skip_line(&mut self) -> io::Result<(u64, u64)> {
        let (mut bytes, mut is_after_return) = (0, false);
        loop {
            let left = &self.buffer[self.left.clone()];
            if let Some(end) = memchr::memchr(b'\n', left) {
                let end_bytes = if end == 0 { 1 + u64::from(is_after_return) } else { end_of(&left[..=end]) };
                self.left.start += end + 1;
                return Ok((bytes + end as u64 + 1, end_bytes));
            }
            is_after_return = left.ends_with(b"\r");
            bytes += left.len() as u64;
            self.left = 0..0;
            if self.fill()? == 0 {
                return Ok((bytes, 0));
            }
        }
    }

    /// Reads on behind what is left; how many bytes.
    fn fill(&mut self) -> io::Result<usize> {
        self.buffer.copy_within(self.left.clone(), 0);
        self.left = 0..self.left.len();
        let room = self.left.end..;
        let count = uninterrupted(|| self.from.read(&mut self.buffer[room.clone()]))?;
        self.left.end += count;
        Ok(count)
    }
}

/// How long a line's end is.
fn end_of(line: &[u8]) -> u64 {
    match line {
        [.., b'\r', b'\n'] => 2,
        [.., b'\n'] => 1,
        _ => 0,
    }
}

/// A line without its end, cut to what is kept.
fn head_of(line: &[u8]) -> &[u8] {
    let line = line.strip_suffix(b"\n").unwrap_or(line);
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    &line[..line.len().min(HEAD_BYTES)]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Whatever the lengths of lines, and however little a read gives: the same lines as of all of it at once.
        #[test]
        fn lines_are_what_they_are(lengths in prop::collection::vec(prop_oneof![0..100_usize, 8_000..9_000_usize, Just(700_000)], 0..12), ended: bool) {
            let mut text = Vec::new();
            for (number, length) in lengths.iter().enumerate() {
                text.extend(std::iter::repeat_n(b'a' + number as u8, *length));
                text.extend(if number % 2 == 0 { &b"\n"[..] } else { b"\r\n" });
            }
            if !ended {
                text.extend(b"end");
            }
            let mut lines = Lines::new(text.as_slice());
            let mut at = 0;
            for expected in text.split_inclusive(|byte| *byte == b'\n') {
                let line = lines.next().unwrap().unwrap();
                let end = expected.len() - expected.trim_ascii_end().len();
                prop_assert_eq!((line.at, line.bytes, line.end_bytes), (at, expected.len() as u64, end as u64));
                prop_assert_eq!(line.head, head_of(expected));
                at += line.bytes;
            }
            prop_assert_eq!(lines.next().unwrap(), None);
        }
    }
}
