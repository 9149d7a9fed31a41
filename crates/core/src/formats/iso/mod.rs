//! Disc images (ISO 9660, which is ECMA-119), with the names and modes of Rock Ridge (IEEE P1282) or the names of Joliet
//! where they are there: a reader.
//!
//! An image is a folder tree in sectors. Nothing in it has a checksum: that everything named in it lies within the file is
//! all that can be seen of its soundness.

mod descriptors;
mod reader;
mod records;
mod rock_ridge;
mod walk;

pub use descriptors::is_iso;
pub use reader::IsoReader;

use crate::disk::{FileAction, FileError, Links, open_regular};
use crate::formats::members::MAX_SHARING;
use crate::ground::context::Cancelled;
use std::fs::{File, Metadata};
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};

/// Descriptors and folders fill whole sectors of so many bytes (ECMA-119, 6.1.2).
pub const SECTOR_BYTES: usize = 2_048;

/// Why a disc image cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum IsoError {
    /// It has no descriptor of a volume that is read here.
    #[error("no descriptor of a volume")]
    NoVolume,
    /// Something breaks a rule of the format.
    #[error("malformed {what}, {at} bytes in")]
    Malformed {
        /// What.
        what: &'static str,
        /// Where in the image.
        at: u64,
    },
    /// A folder lies in two places, or within itself, or folders share bytes.
    #[error("a folder in two places, {0} bytes in")]
    FolderTwice(u64),
    /// More than [`MAX_ENTRIES`](crate::formats::members::MAX_ENTRIES), or paths longer than
    /// [`MAX_PATHS_BYTES`](crate::formats::members::MAX_PATHS_BYTES) in all.
    #[error("more entries than are read here")]
    TooMany,
    /// Contents that come to more than [`MAX_SHARING`] times the image.
    #[error("contents of more than {MAX_SHARING} times its length")]
    Expands,
    /// It ends before the folder that this place should hold.
    #[error("it is cut short: there is nothing {0} bytes in")]
    CutShort(u64),
    /// It ends before, or within, an entry's content.
    #[error("{} lies beyond the end of the image", String::from_utf8_lossy(.name))]
    BeyondEnd {
        /// What the image calls it.
        name: Vec<u8>,
    },
    /// The system refused an operation.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

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
