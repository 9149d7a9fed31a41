//! The bytes of an archive that may lie in several files: one after the other, they are one. Under a cover they are deciphered
//! as they are read, from any place on.

use super::cipher::EntryKey;
use crate::disk::{FileAction, FileError};
use crate::formats::spot::{OpenSpot, Spot};
use std::io::{self, Read};

/// Files that are read as one.
#[derive(Debug)]
pub struct Segments {
    files: Vec<Segment>,
    length: u64,
    /// Where these are the bytes under a cover: what they are deciphered with, and where in the files they begin.
    covered: Option<(EntryKey, u64)>,
}

#[derive(Debug)]
struct Segment {
    /// `None` where it was closed for now.
    file: Option<OpenSpot>,
    spot: Spot,
    start: u64,
    length: u64,
}

impl Segments {
    /// Opens files that follow each other.
    ///
    /// # Errors
    /// [`FileError`] from the system, or where one is no regular file.
    pub fn open<S: Clone + Into<Spot>>(spots: &[S]) -> Result<Self, FileError> {
        let mut segments = Self { files: Vec::new(), length: 0, covered: None };
        for spot in spots.iter().cloned().map(Into::into) {
            let file = spot.open()?;
            let (start, length) = (segments.length, file.length());
            segments.files.push(Segment { file: Some(file), spot, start, length });
            segments.length = start.saturating_add(length);
        }
        Ok(segments)
    }

    /// The same files, opened once more.
    pub(super) fn reopened(&self) -> Result<Self, FileError> {
        Self::open(&self.spots().cloned().collect::<Vec<_>>())
    }

    /// Closes the files; what is read later opens them for as long as that takes.
    pub(super) fn close_files(&mut self) {
        self.files.iter_mut().for_each(|segment| segment.file = None);
    }

    /// So many bytes from a place on, deciphered: one file, wherever they lie.
    pub(super) fn deciphered(self, at: u64, length: u64, key: EntryKey) -> Self {
        Self { files: self.files, length, covered: Some((key, at)) }
    }

    /// Bytes of all of them.
    pub fn length(&self) -> u64 {
        self.length
    }

    /// How many files there are.
    pub fn count(&self) -> usize {
        if self.covered.is_some() { 1 } else { self.files.len() }
    }

    /// Where the files lie, in order.
    pub fn spots(&self) -> impl Iterator<Item = &Spot> {
        self.files.iter().map(|segment| &segment.spot)
    }

    /// Where a place in one of the files is in all of them; `None` where there is no such place.
    pub fn place(&self, number: u32, offset: u64) -> Option<u64> {
        if self.covered.is_some() {
            return (number == 0 && offset <= self.length).then_some(offset);
        }
        let segment = self.files.get(number as usize).filter(|segment| offset <= segment.length)?;
        segment.start.checked_add(offset)
    }

    /// Reads bytes at a place; fewer at the end.
    pub fn read_at(&self, at: u64, buffer: &mut [u8]) -> Result<usize, FileError> {
        let Some((key, begins_at)) = &self.covered else { return self.read_files_at(at, buffer) };
        let room = usize::try_from(self.length.saturating_sub(at)).unwrap_or(usize::MAX).min(buffer.len());
        let read = self.read_files_at(begins_at.saturating_add(at), &mut buffer[..room])?;
        Ok(key.apply_at(at, &mut buffer[..read]).map_or(0, |()| read))
    }

    fn read_files_at(&self, at: u64, buffer: &mut [u8]) -> Result<usize, FileError> {
        let place = self.files.partition_point(|segment| segment.start + segment.length <= at);
        let Some(segment) = self.files.get(place) else { return Ok(0) };
        let inside = at - segment.start;
        let room = usize::try_from(segment.length - inside).unwrap_or(usize::MAX).min(buffer.len());
        let read = match &segment.file {
            Some(file) => file.read_up_to(&mut buffer[..room], inside),
            None => segment.spot.open()?.read_up_to(&mut buffer[..room], inside),
        };
        read.map_err(FileError::on(FileAction::Read, &segment.spot.path))
    }

    /// Reads exactly so many bytes at a place; `None` where there are fewer.
    pub fn bytes_at(&self, at: u64, count: usize) -> Result<Option<Vec<u8>>, FileError> {
        if at.checked_add(count as u64).is_none_or(|end| end > self.length) {
            return Ok(None);
        }
        let mut bytes = vec![0; count];
        let mut done = 0;
        while done < count {
            match self.read_at(at + done as u64, &mut bytes[done..])? {
                0 => return Ok(None),
                read => done += read,
            }
        }
        Ok(Some(bytes))
    }

    /// A reader of so many bytes from a place on.
    pub fn range(&self, at: u64, length: u64) -> Range<'_> {
        Range { segments: self, at, left: length }
    }
}

/// A part of the bytes.
#[derive(Debug)]
pub struct Range<'a> {
    segments: &'a Segments,
    at: u64,
    left: u64,
}

impl Range<'_> {
    /// Bytes that were not read yet.
    pub fn left(&self) -> u64 {
        self.left
    }
}

impl Read for Range<'_> {
    /// An error of the system carries its [`FileError`].
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let room = usize::try_from(self.left).unwrap_or(usize::MAX).min(buffer.len());
        let read = self.segments.read_at(self.at, &mut buffer[..room]).map_err(io::Error::other)?;
        self.at += read as u64;
        self.left -= read as u64;
        Ok(read)
    }
}
