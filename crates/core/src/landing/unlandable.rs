//! What is not landed, whatever its archive: what has a name by which the program knows its own unfinished work, with all that is in it,
//! and links where there can be none. It is named and left; the rest lands.

use super::marker::looks_arriving;
use crate::disk::names::name_of;
use crate::disk::staging::looks_staged;
use crate::ground::entry::{EntryPath, ListedEntry};
use std::ffi::OsStr;

/// Why something is not landed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NotLandedWhy {
    /// It, or a folder above it, is called like unfinished work of this program.
    LooksUnfinished,
    /// It is a link, and the system, or the file system, lets none be made.
    NoLinks,
}

/// Something that was in the archive, and is not landed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotLanded {
    /// Its path in the archive.
    pub path: EntryPath,
    /// Why.
    pub why: NotLandedWhy,
}

/// What of these entries is not landed in a folder of this name, in their order.
pub(super) fn not_landed(destination: Option<&OsStr>, entries: &[ListedEntry]) -> Vec<NotLanded> {
    let one = |listed: &ListedEntry| {
        let why = why_not(destination, &listed.entry.path)?;
        Some(NotLanded { path: listed.entry.path.clone(), why })
    };
    entries.iter().filter_map(one).collect()
}

fn why_not(destination: Option<&OsStr>, path: &EntryPath) -> Option<NotLandedWhy> {
    let mut folder = destination.unwrap_or_default().to_owned();
    for name in path.components() {
        let name_here = name_of(name);
        if looks_arriving(name) || looks_staged(&folder, &name_here) {
            return Some(NotLandedWhy::LooksUnfinished);
        }
        folder = name_here;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("out", "a/steps", None)]
    #[case::folder_alone("out", "form.unfinished/notes", None)]
    #[case::steps("out", "form.unfinished/steps", Some(NotLandedWhy::LooksUnfinished))]
    #[case::below_a_lock("out", "a/form.unfinished/in-use-0/x", Some(NotLandedWhy::LooksUnfinished))]
    #[case::opened_into_one("form.unfinished", "volume-00001", Some(NotLandedWhy::LooksUnfinished))]
    #[case::marker("out", "a/.arriving-0123456789abcdef", Some(NotLandedWhy::LooksUnfinished))]
    fn names_of_unfinished_work_are_known(
        #[case] destination: &str,
        #[case] path: &str,
        #[case] expected: Option<NotLandedWhy>,
    ) {
        assert_eq!(why_not(Some(destination.as_ref()), &EntryPath::new(path).unwrap()), expected);
    }
}
