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

use super::spot::{OpenSpot, Spot};
use crate::disk::{FileAction, FileError, all_came};

/// Descriptors and folders fill whole sectors of so many bytes (ECMA-119, 6.1.2).
pub const SECTOR_BYTES: usize = 2_048;

/// A disc image's bytes.
#[derive(Debug)]
struct Image {
    file: OpenSpot,
    spot: Spot,
}

impl Image {
    fn open(spot: &Spot) -> Result<Self, FileError> {
        Ok(Self { file: spot.open()?, spot: spot.clone() })
    }

    fn bytes(&self) -> u64 {
        self.file.length()
    }

    /// Fills a buffer from a place; `false` where the image ends before.
    fn fill(&self, at: u64, buffer: &mut [u8]) -> Result<bool, FileError> {
        if at.checked_add(buffer.len() as u64).is_none_or(|end| end > self.bytes()) {
            return Ok(false);
        }
        self.file
            .read_up_to(buffer, at)
            .and_then(|filled| all_came(filled, buffer.len()))
            .map_err(FileError::on(FileAction::Read, &self.spot.path))?;
        Ok(true)
    }

    /// The sector at a place.
    fn sector(&self, at: u64) -> Result<[u8; SECTOR_BYTES], IsoError> {
        let mut sector = [0; SECTOR_BYTES];
        if self.fill(at, &mut sector)? { Ok(sector) } else { Err(IsoError::CutShort(at)) }
    }
}
