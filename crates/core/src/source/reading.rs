//! Reading one source, a file on disk, of which it is noticed when it changes meanwhile, or a content that comes out of an archive or from a stream.

use super::entry::SourceEntry;
use super::piped::PipedContent;
use super::stream::STREAM_PATH;
use crate::disk::{
    FileAction, FileError, Interruption, Links, Stamp, attributes_of, holes_of, mode_of, modified_of, open_regular,
};
use crate::ground::attributes::Attribute;
use crate::ground::context::Context;
use crate::ground::entry::Timestamp;
use crate::ground::holes::{ContentDigest, Hole};
use std::fmt;
use std::fs::File;
use std::io::{Read, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};

/// How much is read at the most of a file that said it was empty: some systems' own files say so and hold text, and so can
/// files on a network.
const READ_OF_EMPTY_BYTES: u64 = 64 * 1024 * 1024;

/// How much is read at a time for a digest.
const DIGEST_BYTES: usize = 1024 * 1024;

/// An open source.
#[derive(Debug)]
pub struct SourceFile {
    backing: Backing,
    size: u64,
    left: u64,
    /// Bytes that were read, or passed over.
    at: u64,
    /// Of a file on disk: its holes, and how many of them lie behind.
    holes: Vec<Hole>,
    passed_holes: usize,
    /// It may have holes.
    may_have_holes: bool,
    /// Its extended attributes, where they are to be packed.
    attributes: Vec<Attribute>,
    /// Permission bits at opening.
    pub mode: u32,
    /// Modification time at opening.
    pub modified: Timestamp,
}

/// What is read.
#[derive(Debug)]
enum Backing {
    Disk { file: File, path: PathBuf, before: Stamp },
    Piped(PipedContent),
    Stream(Stream),
}

/// A stream that is read once.
struct Stream(Box<dyn Read + Send>);

impl fmt::Debug for Stream {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("Stream")
    }
}

impl SourceFile {
    /// Opens a regular file, without waiting on anything that took its name since it was listed.
    ///
    /// # Errors
    /// [`FileError`] from the system, or where it is no regular file any more.
    pub fn open(path: &Path, links: Links) -> Result<Self, FileError> {
        let (file, metadata) = open_regular(path, links)?;
        let (mode, modified) = (mode_of(&metadata), modified_of(&metadata));
        let before = Stamp::of(&metadata);
        let size = before.size;
        let left = if size == 0 { READ_OF_EMPTY_BYTES } else { size };
        let holes = holes_of(&file, &metadata);
        let may_have_holes = !holes.is_empty();
        let backing = Backing::Disk { file, path: path.to_owned(), before };
        Ok(Self {
            backing,
            size,
            left,
            at: 0,
            holes,
            passed_holes: 0,
            may_have_holes,
            attributes: Vec::new(),
            mode,
            modified,
        })
    }

    /// The content of this entry, which comes out of an archive.
    pub(super) fn piped(entry: &SourceEntry, content: PipedContent) -> Self {
        let SourceEntry { size, mode, modified, .. } = *entry;
        let may_have_holes = entry.holes > 0;
        Self { may_have_holes, ..Self::without_holes(Backing::Piped(content), (size, size), (mode, modified)) }
    }

    /// What comes from a stream, as this entry.
    pub(super) fn stream(entry: &SourceEntry, from: Box<dyn Read + Send>) -> Self {
        let SourceEntry { mode, modified, .. } = *entry;
        Self::without_holes(Backing::Stream(Stream(from)), (0, u64::MAX), (mode, modified))
    }

    fn without_holes(backing: Backing, (size, left): (u64, u64), (mode, modified): (u32, Timestamp)) -> Self {
        Self {
            backing,
            size,
            left,
            at: 0,
            holes: Vec::new(),
            passed_holes: 0,
            may_have_holes: false,
            attributes: Vec::new(),
            mode,
            modified,
        }
    }

    /// With its extended attributes.
    ///
    /// # Errors
    /// [`FileError`] where one cannot be read.
    pub(super) fn with_attributes(mut self) -> Result<Self, FileError> {
        if let Backing::Disk { file, path, .. } = &self.backing {
            self.attributes = attributes_of(file, path)?;
        }
        Ok(self)
    }

    /// The extended attributes that go into the archive with it.
    ///
    /// # Errors
    /// [`FileError`] where what comes out of an archive ends.
    pub fn attributes(&mut self) -> Result<&[Attribute], FileError> {
        if let Backing::Piped(content) = &mut self.backing {
            self.attributes.append(&mut content.attributes()?);
        }
        Ok(&self.attributes)
    }

    /// Whether it may have holes, so that it is digested by its units.
    pub fn may_have_holes(&self) -> bool {
        self.may_have_holes
    }

    /// Its holes in order, as far as they are known before they are come upon.
    pub fn holes(&self) -> &[Hole] {
        match &self.backing {
            Backing::Piped(content) => content.holes(),
            Backing::Disk { .. } | Backing::Stream(_) => &self.holes,
        }
    }

    /// Passes over a hole that begins here; how many bytes it has.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn pass_hole(&mut self) -> Result<Option<u64>, FileError> {
        if let Backing::Piped(content) = &mut self.backing {
            let hole = content.pass_hole()?;
            self.advance(hole.unwrap_or(0));
            return Ok(hole);
        }
        let Some(hole) = self.hole_here() else { return Ok(None) };
        let bytes = hole.end() - self.at;
        self.skip(bytes)?;
        Ok(Some(bytes))
    }

    /// Passes over a hole of so many bytes, which may come in pieces; whether it was one.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn pass_whole_hole(&mut self, bytes: u64) -> Result<bool, FileError> {
        let mut left = bytes;
        while left > 0 {
            match self.pass_hole()?.and_then(|piece| left.checked_sub(piece)) {
                Some(rest) => left = rest,
                None => return Ok(false),
            }
        }
        Ok(true)
    }

    /// How many bytes there are up to the next hole that is known, at the most.
    pub fn until_hole(&self) -> u64 {
        self.holes.get(self.passed_holes).map_or(self.left, |hole| hole.at.saturating_sub(self.at))
    }

    /// The hole of a file on disk within which reading is.
    fn hole_here(&self) -> Option<Hole> {
        self.holes.get(self.passed_holes).copied().filter(|hole| hole.at <= self.at)
    }

    fn advance(&mut self, bytes: u64) {
        self.at = self.at.saturating_add(bytes);
        self.left = self.left.saturating_sub(bytes);
        while self.holes.get(self.passed_holes).is_some_and(|hole| hole.end() <= self.at) {
            self.passed_holes += 1;
        }
    }

    /// How long it was when it was opened, in bytes.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Bytes that are still to be read, if the file is as long as it said. What it grew by since is not read.
    pub fn left(&self) -> u64 {
        self.left
    }

    /// Appends the next bytes, at most `wanted`, to `output`; none where the file ends before it should. A hole is read as zeros.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn read(&mut self, output: &mut Vec<u8>, wanted: usize) -> Result<(), FileError> {
        let before = output.len();
        let most = self.left.min(wanted as u64);
        if let Some(hole) = self.hole_here() {
            let bytes = most.min(hole.end() - self.at);
            output.resize(before + usize::try_from(bytes).unwrap_or(0), 0);
            return self.skip(bytes);
        }
        let most = if self.holes.is_empty() { most } else { most.min(self.until_hole()) };
        let outcome = match &mut self.backing {
            Backing::Disk { file, path, .. } => {
                let outcome = file.take(most).read_to_end(output);
                outcome.map(drop).map_err(FileError::on(FileAction::Read, path.as_path()))
            }
            Backing::Stream(Stream(from)) => {
                let outcome = from.take(most).read_to_end(output);
                outcome.map(drop).map_err(FileError::on(FileAction::Read, Path::new(STREAM_PATH)))
            }
            Backing::Piped(content) => content.read(output, usize::try_from(most).unwrap_or(usize::MAX)),
        };
        self.advance((output.len() - before) as u64);
        outcome
    }

    /// Reads a file on disk on to its end into a digest, whose kind decides whether holes are read; how many bytes there were.
    ///
    /// # Errors
    /// [`Interruption`].
    pub fn digest_on(&mut self, digest: &mut ContentDigest, context: &Context<'_>) -> Result<u64, Interruption> {
        let (from, mut buffer) = (self.at, Vec::new());
        loop {
            context.go_on()?;
            if let Some(bytes) = self.pass_hole()? {
                digest.hole(bytes);
                continue;
            }
            buffer.clear();
            self.read(&mut buffer, DIGEST_BYTES)?;
            if buffer.is_empty() {
                return Ok(self.at - from);
            }
            digest.update(&buffer);
        }
    }

    /// Appends bytes that are stored, at most `wanted`, behind so many others of a file on disk; holes do not count.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn read_stored(&mut self, mut behind: u64, output: &mut Vec<u8>, wanted: usize) -> Result<(), FileError> {
        let end = output.len().saturating_add(wanted);
        loop {
            if self.pass_hole()?.is_some() {
                continue;
            }
            let before = behind.min(self.until_hole());
            if before > 0 {
                self.skip(before)?;
                behind -= before;
                continue;
            }
            let from = output.len();
            let most = usize::try_from(self.until_hole()).unwrap_or(usize::MAX).min(end - from);
            self.read(output, most)?;
            if output.len() == from || output.len() >= end {
                return Ok(());
            }
        }
    }

    /// Goes on behind the next so many bytes of a file on disk.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn skip(&mut self, bytes: u64) -> Result<(), FileError> {
        let offset = i64::try_from(bytes).unwrap_or(i64::MAX);
        if let Backing::Disk { file, path, .. } = &mut self.backing {
            file.seek(SeekFrom::Current(offset)).map_err(FileError::on(FileAction::Read, path.as_path()))?;
        }
        self.advance(bytes);
        Ok(())
    }

    /// Whether the file is still as it was when it was opened, given how many bytes were read.
    pub fn is_unchanged(&self, bytes_read: u64) -> Result<bool, FileError> {
        let (file, path, before) = match &self.backing {
            Backing::Disk { file, path, before } => (file, path, before),
            Backing::Piped(_) => return Ok(bytes_read == self.size),
            Backing::Stream(_) => return Ok(true),
        };
        let metadata = file.metadata().map_err(FileError::on(FileAction::Open, path))?;
        Ok(Stamp::of(&metadata) == *before && bytes_read == self.size)
    }
}
