//! One thing to pack, as it was listed.

use crate::ground::entry::{Entry, EntryKind, EntryPath, Timestamp};
use std::fs::Metadata;
use std::os::unix::fs::MetadataExt as _;

/// One thing to pack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceEntry {
    /// Where it will stand in the archive.
    pub path: EntryPath,
    /// File, folder or link.
    pub kind: EntryKind,
    /// Bytes, when it was listed; 0 for folders and links.
    pub size: u64,
    /// Permission bits.
    pub mode: u32,
    /// When it was last modified.
    pub modified: Timestamp,
    /// A link's target; empty for the other kinds.
    pub link_target: Vec<u8>,
}

impl SourceEntry {
    /// The entry that it becomes, with what was known when it was listed.
    pub fn entry(&self, id: u64) -> Entry {
        Entry {
            id,
            path: self.path.clone(),
            kind: self.kind,
            mode: self.mode,
            modified: self.modified,
            link_target: self.link_target.clone(),
        }
    }
}

/// Permission bits and modification time, as entries hold them.
pub(super) fn mode_and_time(metadata: &Metadata) -> (u32, Timestamp) {
    let nanoseconds = u32::try_from(metadata.mtime_nsec()).unwrap_or(0);
    (metadata.mode() & 0o7777, Timestamp { seconds: metadata.mtime(), nanoseconds })
}
