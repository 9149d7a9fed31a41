//! Clashes: what becomes of a file or link that meets something that is there. Decided for all of them before a byte is written.

use crate::entry::{Entry, EntryPath, Timestamp};
use std::collections::{HashMap, HashSet};

/// What is done where a file to be extracted meets one that is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OnClash {
    /// Nothing is extracted at all.
    #[default]
    Refuse,
    /// The file that is there stays; the other is not extracted.
    Keep,
    /// The file that is there is replaced, once the other is complete and verified.
    Replace,
    /// Whichever was modified later; the one that is there where both were at once.
    Newer,
    /// Both: the extracted one gets a number behind its name.
    Both,
}

/// What was decided for one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Resolution {
    /// It is not extracted, whatever is there.
    Leave,
    /// It is not extracted.
    Keep,
    /// It takes the place of the one that is there.
    Replace,
    /// It goes beside that, under this path.
    Beside(EntryPath),
}

/// What was decided, by the entry's path.
pub(super) type Resolutions = HashMap<EntryPath, Resolution>;

/// A file or link that is in the way of another.
pub(super) struct Clash<'a> {
    /// What would be extracted.
    pub entry: &'a Entry,
    /// When what is there was modified.
    pub there: Timestamp,
    /// A free path beside it, if there is any.
    pub beside: Option<EntryPath>,
}

impl OnClash {
    /// What becomes of one file or link; `None` where nothing is to be done unasked.
    pub(super) fn resolve(self, clash: Clash<'_>) -> Option<Resolution> {
        Some(match self {
            Self::Refuse => return None,
            Self::Keep => Resolution::Keep,
            Self::Replace => Resolution::Replace,
            Self::Newer if clash.entry.modified > clash.there => Resolution::Replace,
            Self::Newer => Resolution::Keep,
            Self::Both => Resolution::Beside(clash.beside?),
        })
    }
}

/// How many numbers are tried for a free name.
const MOST_NUMBERS: u32 = 10_000;

/// The first free path like `notes (2).txt` beside `path`; `taken` answers for names on disk, `given` are paths that
/// other entries have or get.
pub(super) fn free_beside(
    path: &EntryPath,
    given: &HashSet<EntryPath>,
    mut taken: impl FnMut(&[u8]) -> bool,
) -> Option<EntryPath> {
    let (parent, name) = path.parent_and_name();
    // A dot at the beginning hides a name, and begins no extension.
    let dot = name.iter().rposition(|byte| *byte == b'.').filter(|dot| *dot > 0).unwrap_or(name.len());
    let (stem, extension) = name.split_at(dot);
    (2..MOST_NUMBERS).find_map(|number| {
        let name = [stem, format!(" ({number})").as_bytes(), extension].concat();
        let full = parent.map_or(name.clone(), |parent| [parent, b"/", &name].concat());
        let path = EntryPath::new(full).ok()?;
        (!given.contains(&path) && !taken(&name)).then_some(path)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("a/notes.txt", "a/notes (2).txt")]
    #[case("notes", "notes (3)")]
    #[case(".hidden", ".hidden (2)")]
    #[case("a/b.tar.gz", "a/b.tar (2).gz")]
    fn the_first_free_number_is_taken(#[case] path: &str, #[case] expected: &str) {
        let given = HashSet::from([EntryPath::new("notes (2)").unwrap()]);
        let free = free_beside(&EntryPath::new(path).unwrap(), &given, |name| name == b"b (2).tar.gz");
        assert_eq!(free.unwrap().as_bytes(), expected.as_bytes());
    }
}
