//! One thing to pack, as it was listed.

use crate::ground::entry::{Entry, EntryKind, EntryPath, ListedEntry, Timestamp};
use std::path::PathBuf;

/// Where an entry's content comes from.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Origin {
    /// From where the walk found it, which its path tells.
    #[default]
    Walk,
    /// From there on disk, whatever its path is.
    Disk(Box<PathBuf>),
    /// From an archive, in which it is the entry at this place.
    Archive(usize),
    /// From a stream, which can be read once.
    Stream,
}

/// By which a file system knows a file, whatever it is called: the device, and the file's number on it. For what comes from an archive,
/// the number is an id there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FileNumber {
    /// The file system; `None` for an archive.
    pub device: Option<u64>,
    /// The file.
    pub number: u64,
}

/// One thing to pack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceEntry {
    /// Where it will stand in the archive.
    pub path: EntryPath,
    /// File, folder or link.
    pub kind: EntryKind,
    /// Bytes, when it was listed; 0 for folders, links and streams.
    pub size: u64,
    /// Permission bits.
    pub mode: u32,
    /// When it was last modified.
    pub modified: Timestamp,
    /// A link's target; empty for the other kinds.
    pub link_target: Vec<u8>,
    /// Where its content comes from.
    pub origin: Origin,
    /// Of a file with several names (hard links): files of one number are one.
    pub file_number: Option<Box<FileNumber>>,
    /// It has a name that was listed before this one.
    pub is_further_name: bool,
    /// About how many of its bytes are in holes: zeros that take no room on disk.
    pub holes: u64,
}

impl SourceEntry {
    /// An entry of an archive, at this place of its list.
    pub fn of_archive(place: usize, listed: &ListedEntry) -> Self {
        let Entry { path, kind, mode, modified, link_target, .. } = listed.entry.clone();
        let number = listed.content.shared_with.unwrap_or(listed.entry.id);
        Self {
            path,
            kind,
            size: listed.content.size,
            mode,
            modified,
            link_target,
            origin: Origin::Archive(place),
            file_number: (kind == EntryKind::File).then(|| Box::new(FileNumber { device: None, number })),
            is_further_name: listed.content.shared_with.is_some(),
            holes: listed.content.holes,
        }
    }

    /// A folder that is described so.
    pub fn folder(entry: &Entry) -> Self {
        let Entry { path, mode, modified, .. } = entry.clone();
        let kind = EntryKind::Folder;
        Self {
            path,
            kind,
            size: 0,
            mode,
            modified,
            link_target: Vec::new(),
            origin: Origin::Walk,
            file_number: None,
            is_further_name: false,
            holes: 0,
        }
    }

    /// Content bytes that it adds to those of others, where a file's further names need none.
    pub const fn own_bytes(&self) -> u64 {
        if self.is_further_name { 0 } else { self.size }
    }

    /// Those that are stored of it, where holes need none either.
    pub const fn stored_bytes(&self) -> u64 {
        self.own_bytes().saturating_sub(self.holes)
    }

    /// The most that its content may come to, in bytes, if it does not grow: of a stream that is not known.
    pub fn most_bytes(&self) -> u64 {
        if self.origin == Origin::Stream { u64::MAX } else { self.size }
    }

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
