//! What files have beside their content, counted: so that it can be told what of it a format keeps, and what not.

use crate::disk::has_attributes;
use crate::ground::entry::EntryKind;
use std::path::Path;

/// What files have beside their content, in numbers.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Extras {
    /// Files that are further names of others (hard links).
    pub further_names: u64,
    /// Files with holes.
    pub with_holes: u64,
    /// Files and folders with extended attributes.
    pub with_attributes: WithAttributes,
}

/// How many files and folders were found to have extended attributes that could be packed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct WithAttributes {
    /// Files.
    pub files: u64,
    /// Folders, whose attributes are never packed.
    pub folders: u64,
}

impl WithAttributes {
    pub(super) fn count(&mut self, kind: EntryKind, disk_path: &Path, follow: bool) {
        let counter = match kind {
            EntryKind::File => &mut self.files,
            EntryKind::Folder => &mut self.folders,
            EntryKind::Link => return,
        };
        *counter += u64::from(has_attributes(disk_path, follow));
    }
}
