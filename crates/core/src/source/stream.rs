//! A stream as a source: something that comes in once, from its beginning to its end, and of which nobody knows how long it will be,
//! such as what another program prints. It becomes one file.

use super::entry::{Origin, SourceEntry};
use crate::ground::entry::{Entry, EntryKind, EntryPath, Timestamp};
use std::fmt;
use std::io::Read;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

/// What a stream is called where a path on disk is told.
pub const STREAM_PATH: &str = "-";

/// The usual permission bits of a file, and of a folder.
const MODE: u32 = 0o644;
const FOLDER_MODE: u32 = 0o755;

/// A stream, and what it becomes in the archive.
#[derive(Clone)]
pub struct StreamSource {
    path: EntryPath,
    modified: Timestamp,
    from: Arc<Mutex<Option<Box<dyn Read + Send>>>>,
}

impl StreamSource {
    /// What comes from here, as a file under this path in the archive, and of this time.
    pub fn new(path: EntryPath, modified: Timestamp, from: Box<dyn Read + Send>) -> Self {
        Self { path, modified, from: Arc::new(Mutex::new(Some(from))) }
    }

    /// Where it will stand in the archive.
    pub fn path(&self) -> &EntryPath {
        &self.path
    }

    /// Where it is told to be on disk.
    pub fn disk_path() -> PathBuf {
        PathBuf::from(STREAM_PATH)
    }

    pub(super) fn entry(&self) -> SourceEntry {
        let Self { path, modified, .. } = self.clone();
        let (kind, origin) = (EntryKind::File, Origin::Stream);
        SourceEntry {
            path,
            kind,
            size: 0,
            mode: MODE,
            modified,
            link_target: Vec::new(),
            origin,
            file_number: None,
            is_further_name: false,
            holes: 0,
        }
    }

    /// The folders above it.
    pub(super) fn folders(&self) -> impl Iterator<Item = SourceEntry> {
        let (kind, mode, modified) = (EntryKind::Folder, FOLDER_MODE, self.modified);
        let one = move |path| Entry { id: 0, path, kind, mode, modified, link_target: Vec::new() };
        self.path.folders_above().map(move |path| SourceEntry::folder(&one(path)))
    }

    /// The stream, once.
    pub(super) fn take(&self) -> Option<Box<dyn Read + Send>> {
        self.from.lock().ok().and_then(|mut from| from.take())
    }
}

impl fmt::Debug for StreamSource {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.debug_struct("StreamSource").field("path", &self.path).finish_non_exhaustive()
    }
}
