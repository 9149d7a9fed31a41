//! Writing: entries one after the other, each behind a header that is made right when its end is known, then the directory.
//! Parts are filled to their limit; no header is cut in two (section 8.3). An archive under a cover goes into the entry that is
//! open in another one, where nothing that is written can be changed: lengths stand behind the data there (section 4.3.9).

use super::MAX_PARTS;
use super::directory::MAX_COMMENT_BYTES;
use super::encryption::Encrypting;
use super::headers::{Described, DirectoryAt, Finished, IN_PARTS, STAYED_ONE, end};
use crate::disk::staging::Staging;
use crate::disk::{FileError, Interruption, NewFile, interruptible};
use crate::ground::entry::EntryKind;

/// Why an archive cannot be written.
#[derive(Debug, thiserror::Error)]
pub enum ZipWriteError {
    /// The parts are too small for a header.
    #[error("parts too small for a header of {0} bytes")]
    PartTooSmall(u64),
    /// It would come to more than [`MAX_PARTS`].
    #[error("more than {MAX_PARTS} parts")]
    TooManyParts,
    /// A name is longer than a header holds.
    #[error("a name of {0} bytes")]
    LongName(usize),
    /// The comment is longer than [`MAX_COMMENT_BYTES`].
    #[error("a comment of {0} bytes")]
    LongComment(usize),
    /// A name is no UTF-8, and readers would make something else of it.
    #[error("a name that is no text")]
    NotText(Vec<u8>),
    /// A file has grown past what its header can say.
    #[error("a file grew past 4 GiB while it was packed")]
    Grown,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(ZipWriteError);

/// Bytes are written in portions of about so many: a small entry, its header included, would be several writes.
const WRITE_BYTES: usize = 256 * 1024;

/// A place in one of the parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct At {
    disk: u16,
    offset: u64,
}

/// The parts of an archive, staged, as they are filled.
struct Parts<'a> {
    staging: &'a Staging,
    limit: Option<u64>,
    current: NewFile,
    /// Bytes of each part that is full, and of the current one.
    full: Vec<u64>,
    filled: u64,
    /// The last of these bytes, which are still to be written.
    waiting: Vec<u8>,
}

impl<'a> Parts<'a> {
    fn begin(staging: &'a Staging, limit: Option<u64>) -> Result<Self, FileError> {
        let current = staging.create(1)?;
        Ok(Self { current, staging, limit, full: Vec::new(), filled: 0, waiting: Vec::new() })
    }

    fn at(&self) -> At {
        At { disk: u16::try_from(self.full.len()).unwrap_or(u16::MAX), offset: self.filled }
    }

    fn room(&self) -> u64 {
        self.limit.map_or(u64::MAX, |limit| limit.saturating_sub(self.filled))
    }

    fn next(&mut self) -> Result<(), ZipWriteError> {
        let number = u32::try_from(self.full.len()).unwrap_or(u32::MAX).saturating_add(2);
        if number > MAX_PARTS {
            return Err(ZipWriteError::TooManyParts);
        }
        self.flush()?;
        let full = std::mem::replace(&mut self.current, self.staging.create(number)?);
        full.sync()?;
        full.close()?;
        self.full.push(self.filled);
        self.filled = 0;
        Ok(())
    }

    /// Writes what is waiting.
    fn flush(&mut self) -> Result<(), FileError> {
        if !self.waiting.is_empty() {
            self.current.write(&self.waiting)?;
            self.waiting.clear();
        }
        Ok(())
    }

    /// Writes bytes that may be cut anywhere.
    fn write(&mut self, mut bytes: &[u8]) -> Result<(), ZipWriteError> {
        while !bytes.is_empty() {
            if self.room() == 0 {
                self.next()?;
            }
            let (now, later) = bytes.split_at(usize::try_from(self.room()).unwrap_or(usize::MAX).min(bytes.len()));
            if now.len() >= WRITE_BYTES {
                self.flush()?;
                self.current.write(now)?;
            } else {
                self.waiting.extend_from_slice(now);
            }
            self.filled += now.len() as u64;
            if self.waiting.len() >= WRITE_BYTES {
                self.flush()?;
            }
            bytes = later;
        }
        Ok(())
    }

    /// Writes bytes that must stand in one part; where.
    fn write_whole(&mut self, bytes: &[u8]) -> Result<At, ZipWriteError> {
        let length = bytes.len() as u64;
        if self.limit.is_some_and(|limit| length > limit) {
            return Err(ZipWriteError::PartTooSmall(length));
        }
        if self.room() < length {
            self.next()?;
        }
        let at = self.at();
        self.write(bytes)?;
        Ok(at)
    }

    /// Makes the current one the last, which begins with what says so if it is the only one.
    fn finish(mut self, split: bool) -> Result<Vec<u64>, ZipWriteError> {
        if split && self.full.is_empty() {
            self.patch(At { disk: 0, offset: 0 }, &STAYED_ONE)?;
        }
        self.flush()?;
        self.current.sync()?;
        self.current.close()?;
        self.full.push(self.filled);
        Ok(self.full)
    }

    /// Writes over bytes that are there.
    fn patch(&mut self, at: At, bytes: &[u8]) -> Result<(), FileError> {
        if usize::from(at.disk) == self.full.len() {
            let waits_from = self.filled - self.waiting.len() as u64;
            let waiting = at.offset.checked_sub(waits_from).and_then(|from| usize::try_from(from).ok());
            if let Some(waiting) = waiting.and_then(|from| self.waiting.get_mut(from..)?.get_mut(..bytes.len())) {
                waiting.copy_from_slice(bytes);
                return Ok(());
            }
            self.flush()?;
            return self.current.write_at(at.offset, bytes);
        }
        let mut part = self.staging.reopen(u32::from(at.disk) + 1)?;
        part.write_at(at.offset, bytes)?;
        part.sync()?;
        part.close()
    }
}

/// Where an archive's bytes go.
enum Output<'a> {
    Parts(Parts<'a>),
    /// Into the entry that is open there.
    Cover(Box<ZipWriter<'a>>),
}

impl Output<'_> {
    fn at(&self) -> At {
        match self {
            Self::Parts(parts) => parts.at(),
            Self::Cover(outer) => At { disk: 0, offset: outer.open.as_ref().map_or(0, |open| open.finished.size) },
        }
    }

    fn write(&mut self, bytes: &[u8]) -> Result<(), ZipWriteError> {
        match self {
            Self::Parts(parts) => parts.write(bytes),
            // The authentication code stands for the checksum.
            Self::Cover(outer) => outer.write(bytes.to_vec(), &crc32fast::Hasher::new(), bytes.len() as u64).map(drop),
        }
    }

    /// Writes bytes that must stand in one part; where.
    fn write_whole(&mut self, bytes: &[u8]) -> Result<At, ZipWriteError> {
        if let Self::Parts(parts) = self {
            return parts.write_whole(bytes);
        }
        let at = self.at();
        self.write(bytes)?;
        Ok(at)
    }

    /// Sees to it that so many bytes will stand in one part.
    fn make_room(&mut self, bytes: u64) -> Result<(), ZipWriteError> {
        match self {
            Self::Parts(parts) if parts.room() < bytes => parts.next(),
            _ => Ok(()),
        }
    }
}

fn check_comment(comment: &[u8]) -> Result<(), ZipWriteError> {
    let length = comment.len();
    if length > MAX_COMMENT_BYTES { Err(ZipWriteError::LongComment(length)) } else { Ok(()) }
}

/// An archive under way.
pub struct ZipWriter<'a> {
    output: Output<'a>,
    split: bool,
    comment: &'a [u8],
    directory: Vec<u8>,
    /// Where in the directory each header ends.
    ends: Vec<usize>,
    open: Option<Open>,
}

/// The entry that is being written.
struct Open {
    described: Described,
    header_at: At,
    encrypting: Option<Box<Encrypting>>,
    finished: Finished,
    sum: crc32fast::Hasher,
}

impl<'a> ZipWriter<'a> {
    /// Begins an archive, in parts of at most so many bytes where there is a limit.
    pub fn begin(staging: &'a Staging, limit: Option<u64>, comment: &'a [u8]) -> Result<Self, ZipWriteError> {
        check_comment(comment)?;
        let mut parts = Parts::begin(staging, limit)?;
        if limit.is_some() {
            parts.write_whole(&IN_PARTS)?;
        }
        Ok(Self::writing_into(Output::Parts(parts), limit.is_some(), comment))
    }

    /// Begins an archive under a cover, which is encrypted so.
    pub fn begin_covered(
        staging: &'a Staging,
        limit: Option<u64>,
        comment: &'a [u8],
        (cover, encrypting): (Described, Box<Encrypting>),
    ) -> Result<Self, ZipWriteError> {
        check_comment(comment)?;
        let mut outer = Self::begin(staging, limit, &[])?;
        outer.begin_entry(cover, Some(encrypting))?;
        Ok(Self::writing_into(Output::Cover(Box::new(outer)), false, comment))
    }

    const fn writing_into(output: Output<'a>, split: bool, comment: &'a [u8]) -> Self {
        Self { output, split, comment, directory: Vec::new(), ends: Vec::new(), open: None }
    }

    /// Begins an entry. One that is open was abandoned: what was written of it stays, and nothing speaks of it.
    pub fn begin_entry(
        &mut self,
        described: Described,
        encrypting: Option<Box<Encrypting>>,
    ) -> Result<(), ZipWriteError> {
        if described.name.len() > u16::MAX.into() {
            return Err(ZipWriteError::LongName(described.name.len()));
        }
        let lengths_behind = matches!(self.output, Output::Cover(_)) && described.kind != EntryKind::Folder;
        let described = Described { lengths_behind, ..described };
        let header_at = self.output.write_whole(&described.local(Finished::default()))?;
        let mut finished = Finished::default();
        if let Some(encrypting) = &encrypting {
            self.output.write(encrypting.front())?;
            finished.compressed = encrypting.front().len() as u64;
        }
        self.open = Some(Open { described, header_at, encrypting, finished, sum: crc32fast::Hasher::new() });
        Ok(())
    }

    /// The next bytes of the entry, compressed; `sum` is of the content that they stand for.
    pub fn write(&mut self, mut bytes: Vec<u8>, sum: &crc32fast::Hasher, size: u64) -> Result<Vec<u8>, ZipWriteError> {
        let Some(open) = &mut self.open else { return Ok(bytes) };
        if let Some(encrypting) = &mut open.encrypting {
            encrypting.apply(&mut bytes);
        }
        self.output.write(&bytes)?;
        open.finished.compressed += bytes.len() as u64;
        open.finished.size += size;
        open.sum.combine(sum);
        Ok(bytes)
    }

    /// Gives up the entry that is open.
    pub fn abandon_entry(&mut self) {
        self.open = None;
    }

    /// Ends the entry: its header gets what is known now, and the directory gets one.
    pub fn end_entry(&mut self) -> Result<(), ZipWriteError> {
        let Some(Open { described, header_at, encrypting, mut finished, sum }) = self.open.take() else {
            return Ok(());
        };
        match encrypting {
            Some(encrypting) => {
                let code = encrypting.code();
                self.output.write(&code)?;
                finished.compressed += code.len() as u64;
            }
            None => finished.crc = sum.finalize(),
        }
        self.list(&described, header_at, finished)
    }

    /// The next bytes of the entry, as they are stored already.
    pub fn write_stored(&mut self, bytes: &[u8]) -> Result<(), ZipWriteError> {
        self.output.write(bytes)
    }

    /// Ends an entry whose bytes were stored already, and came to this.
    pub fn end_stored(&mut self, finished: Finished) -> Result<(), ZipWriteError> {
        match self.open.take() {
            Some(Open { described, header_at, .. }) => self.list(&described, header_at, finished),
            None => Ok(()),
        }
    }

    fn list(&mut self, described: &Described, header_at: At, finished: Finished) -> Result<(), ZipWriteError> {
        let over = |value: u64| value >= u64::from(u32::MAX);
        if !described.wide && (over(finished.size) || over(finished.compressed)) {
            return Err(ZipWriteError::Grown);
        }
        match &mut self.output {
            Output::Parts(parts) => parts.patch(header_at, &described.local(finished))?,
            output if described.lengths_behind => output.write(&described.descriptor(finished))?,
            Output::Cover(_) => {}
        }
        self.directory.extend(described.central(finished, header_at.disk, header_at.offset));
        self.ends.push(self.directory.len());
        Ok(())
    }

    /// Bytes written so far.
    pub fn bytes_written(&self) -> u64 {
        match &self.output {
            Output::Parts(parts) => parts.full.iter().sum::<u64>() + parts.filled,
            Output::Cover(outer) => outer.bytes_written(),
        }
    }

    /// The part that is being written, from 1.
    pub fn part(&self) -> u32 {
        match &self.output {
            Output::Parts(parts) => u32::from(parts.at().disk) + 1,
            Output::Cover(outer) => outer.part(),
        }
    }

    /// Writes directory and end; the length of each part.
    pub fn finish(mut self) -> Result<Vec<u64>, ZipWriteError> {
        let (mut begun, mut start, mut in_last, mut last_disk) = (None, 0, 0, 0);
        let stops = std::mem::take(&mut self.ends);
        let entries = stops.len() as u64;
        for stop in stops {
            let at = self.output.write_whole(&self.directory[start..stop])?;
            begun.get_or_insert(at);
            in_last = if at.disk == last_disk { in_last + 1 } else { 1 };
            (last_disk, start) = (at.disk, stop);
        }
        let begun = begun.unwrap_or_else(|| self.output.at());
        let directory = DirectoryAt {
            disk: begun.disk,
            offset: begun.offset,
            bytes: self.directory.len() as u64,
            entries,
            entries_in_last: in_last,
        };
        // The end stands in one part: its length is known whatever the part.
        let length = end(directory, (u16::MAX, 0), self.comment).len() as u64;
        self.output.make_room(length)?;
        let At { disk, offset } = self.output.at();
        let entries_in_last = if disk == last_disk { in_last } else { 0 };
        let directory = DirectoryAt { entries_in_last, ..directory };
        self.output.write_whole(&end(directory, (disk, offset), self.comment))?;
        match self.output {
            Output::Parts(parts) => parts.finish(self.split),
            Output::Cover(mut outer) => {
                outer.end_entry()?;
                outer.finish()
            }
        }
    }
}
