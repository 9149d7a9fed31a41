//! Where things are extracted to, and what is wished of it; and what has landed there in the end.

use super::clash::{Known, OnClash};
use super::unlandable::{NotLanded, RefusedLink};
use crate::disk::OriginMark;
use crate::ground::entry::EntryPath;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// Where things are extracted to, and how.
#[derive(Clone, Copy)]
pub struct Destination<'a> {
    /// The folder.
    pub folder: &'a Path,
    /// What becomes of files that meet others there.
    pub on_clash: OnClash,
    /// Files there of which it is known what becomes of them, whatever else is wished.
    pub known: Option<&'a Known>,
    /// What becomes of names that cannot be there.
    pub on_unsafe_name: OnUnsafeName,
    /// Whether files lie right in the folder, without the folders that they have in the archive. Links have no place then.
    pub flat: bool,
    /// Whether what is complete stays where an extraction stops on the way; otherwise it goes again.
    pub keep_complete: bool,
    /// Marks that every file gets.
    pub origin_marks: &'a [OriginMark],
    /// Who looks at the files before they land.
    pub screen: Option<Screen<'a>>,
}

/// What becomes of names that cannot be where things are extracted to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OnUnsafeName {
    /// They get others, by a rule, and that is told.
    #[default]
    Rename,
    /// Nothing is extracted at all.
    Refuse,
}

/// Somebody who looks at all files in a closed folder, before any of them lands. An error says why none may.
pub type Screen<'a> = &'a dyn Fn(&Path) -> Result<(), String>;

impl<'a> From<&'a Path> for Destination<'a> {
    fn from(folder: &'a Path) -> Self {
        Self {
            folder,
            on_clash: OnClash::default(),
            known: None,
            on_unsafe_name: OnUnsafeName::default(),
            flat: false,
            keep_complete: false,
            origin_marks: &[],
            screen: None,
        }
    }
}

impl<'a> From<&'a PathBuf> for Destination<'a> {
    fn from(folder: &'a PathBuf) -> Self {
        folder.as_path().into()
    }
}

/// What has landed, complete and under its own name.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Landed {
    /// Regular files.
    pub files: u64,
    /// Folders, not counting those that were there.
    pub folders: u64,
    /// Symbolic links.
    pub links: u64,
    /// So many of them are further names of others (hard links).
    pub further_names: u64,
    /// Content bytes of the files; what several share counts once.
    pub bytes: u64,
    /// Links that were not made.
    pub refused_links: Vec<RefusedLink>,
    /// What is not landed whatever is there.
    pub not_landed: Vec<NotLanded>,
    /// What has another name here, since its own cannot be here: the path here, and that in the archive.
    pub renamed: Vec<(EntryPath, EntryPath)>,
    /// Links that were left out, since there are no folders.
    pub flat_links: u64,
    /// Files that were not extracted, since one of that name was there.
    pub kept: u64,
    /// Files that took the place of others.
    pub replaced: u64,
    /// Files that stand beside others: what they are called, and what they were to be.
    pub beside: Vec<(EntryPath, EntryPath)>,
    /// Extended attributes.
    pub attributes: Attributes,
    /// Files that got the marks of where they came from; a file system may have no room for those.
    pub marked: u64,
}

/// How many names of attributes that were not set are told.
const MOST_NAMES: usize = 8;

/// What became of extended attributes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Attributes {
    /// How many were set.
    pub set: u64,
    /// How many were not: only the users' own are, where the file system has such.
    pub left: u64,
    /// The names of some of those.
    pub left_names: BTreeSet<Vec<u8>>,
}

impl Attributes {
    pub(super) fn leave(&mut self, name: &[u8]) {
        self.left += 1;
        if self.left_names.len() < MOST_NAMES {
            self.left_names.insert(name.to_vec());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_that_is_left_counts_and_some_of_it_is_named() {
        let mut attributes = Attributes::default();
        (0..=MOST_NAMES).for_each(|number| attributes.leave(&[number as u8]));
        attributes.leave(&[0]);
        assert_eq!((attributes.left, attributes.left_names.len()), (MOST_NAMES as u64 + 2, MOST_NAMES));
    }
}
