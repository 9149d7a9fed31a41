//! Where something lies that is read as one file: in a file of its own, or attached to a message in one. Whoever reads an archive, one of
//! its parts, or a piece asks for its bytes here, and need not know which.

use super::messages::attached::Attached;
use crate::disk::{FileError, Links, open_regular, read_up_to_at};
use std::ffi::OsStr;
use std::fs::{File, Metadata};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What is called so that was attached to a message without any name.
const NO_NAME: &str = "unnamed";

/// Where something lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spot {
    /// The file, or that with the message.
    pub path: PathBuf,
    /// What it is of the message.
    pub attached: Option<Arc<Attached>>,
}

impl<P: AsRef<Path>> From<P> for Spot {
    fn from(path: P) -> Self {
        Self { path: path.as_ref().to_owned(), attached: None }
    }
}

impl Spot {
    /// Its own name: that of the file, or the one that it is attached under, which may be none; it proves nothing.
    pub fn own_name(&self) -> Option<&OsStr> {
        match &self.attached {
            // What climbs out of a folder in a message is no part of a name.
            Some(attached) => Path::new(attached.name.as_deref()?).file_name(),
            None => self.path.file_name(),
        }
    }

    /// What to call it: its own name, or, where that is none, a word for that.
    pub fn name(&self) -> &OsStr {
        self.own_name().unwrap_or(OsStr::new(NO_NAME))
    }

    /// Opens it, whatever is in it.
    ///
    /// # Errors
    /// [`FileError`] from the system, or where the path is no regular file.
    pub fn open(&self) -> Result<OpenSpot, FileError> {
        let (file, metadata) = open_regular(&self.path, Links::Follow)?;
        Ok(OpenSpot { file, metadata, attached: self.attached.clone() })
    }

    /// How many bytes it has.
    ///
    /// # Errors
    /// As of [`Spot::open`].
    pub fn length(&self) -> Result<u64, FileError> {
        Ok(self.open()?.length())
    }
}

/// Something that lies somewhere, open for reading.
#[derive(Debug)]
pub struct OpenSpot {
    file: File,
    /// The file's, also where it holds more.
    pub metadata: Metadata,
    attached: Option<Arc<Attached>>,
}

impl OpenSpot {
    /// How many bytes it had when it was opened.
    pub fn length(&self) -> u64 {
        self.attached.as_ref().map_or(self.metadata.len(), |attached| attached.bytes)
    }

    /// The file that it is in.
    pub fn file(&self) -> &File {
        &self.file
    }

    /// Reads from an offset on, until the buffer is full or nothing follows; how many bytes.
    ///
    /// # Errors
    /// From the system.
    pub fn read_up_to(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        match &self.attached {
            Some(attached) => attached.read_up_to(&self.file, buffer, offset),
            None => read_up_to_at(&self.file, buffer, offset),
        }
    }

    /// Reads it from its beginning to its end.
    pub fn into_reader(self) -> impl Read {
        FromBeginning { spot: self, at: 0 }
    }
}

/// How far something has been read.
struct FromBeginning {
    spot: OpenSpot,
    at: u64,
}

impl Read for FromBeginning {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.spot.read_up_to(buffer, self.at)?;
        self.at += count as u64;
        Ok(count)
    }
}
