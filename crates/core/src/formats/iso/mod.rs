//! Disc images (ISO 9660, which is ECMA-119), with the names and modes of Rock Ridge (IEEE P1282) or the names of Joliet
//! where they are there: a reader.
//!
//! An image is a folder tree in sectors. Nothing in it has a checksum: that everything named in it lies within the file is
//! all that can be seen of its soundness.

mod descriptors;
mod error;
mod reader;
mod records;
mod rock_ridge;
mod walk;

pub use descriptors::is_iso;
pub use error::IsoError;
pub use reader::IsoReader;

use crate::disk::{FileAction, FileError, Links, open_regular};
use std::fs::{File, Metadata};
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};

/// Descriptors and folders fill whole sectors of so many bytes (ECMA-119, 6.1.2).
pub const SECTOR_BYTES: usize = 2_048;

/// A disc image's bytes.
#[derive(Debug)]
struct Image {
    file: File,
    path: PathBuf,
    metadata: Metadata,
}

impl Image {
    fn open(path: &Path) -> Result<Self, FileError> {
        let (file, metadata) = open_regular(path, Links::Follow)?;
        Ok(Self { file, path: path.to_owned(), metadata })
    }

    fn bytes(&self) -> u64 {
        self.metadata.len()
    }

    /// Fills a buffer from a place; `false` where the image ends before.
    fn fill(&self, at: u64, buffer: &mut [u8]) -> Result<bool, FileError> {
        if at.checked_add(buffer.len() as u64).is_none_or(|end| end > self.bytes()) {
            return Ok(false);
        }
        self.file.read_exact_at(buffer, at).map_err(FileError::on(FileAction::Read, &self.path))?;
        Ok(true)
    }

    /// The sector at a place.
    fn sector(&self, at: u64) -> Result<[u8; SECTOR_BYTES], IsoError> {
        let mut sector = [0; SECTOR_BYTES];
        if self.fill(at, &mut sector)? { Ok(sector) } else { Err(IsoError::CutShort(at)) }
    }
}
