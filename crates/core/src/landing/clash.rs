//! Clashes: what becomes of a file or link that meets something that is there. Decided for all of them before a byte is written.

use crate::ground::entry::{Entry, EntryPath, Timestamp};
use std::collections::HashMap;

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

/// What is known of something that is there, where one of the same path is to be extracted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KnownThere {
    /// It is an older state of the same, which nobody has changed: it is replaced.
    Outdated,
    /// It is the same already: it stays.
    UpToDate,
}

/// What is known of files that are there, by path.
pub type Known = HashMap<EntryPath, KnownThere>;

/// What tells one state of a folder with everything in it from another: names, kinds, lengths and times.
pub(super) type TreeMark = [u8; 32];

/// What was decided for one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Resolution {
    /// It is not extracted, whatever is there.
    Leave,
    /// It is not extracted.
    Keep,
    /// It takes the place of the one that is there.
    Replace,
    /// It takes the place of a folder that is there, if that is as it was when this mark was taken.
    ReplaceTree(TreeMark),
    /// A folder that is there as this archive has it, for another parcel brought it: it takes more, and gets its mode and time again.
    Again,
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::entry::EntryKind;
    use rstest::rstest;

    /// What is asked for, when what comes was modified beside what is there since 5, and what becomes of it.
    #[rstest]
    #[case::refused(OnClash::Refuse, 6, None)]
    #[case::kept(OnClash::Keep, 6, Some(Resolution::Keep))]
    #[case::replaced(OnClash::Replace, 4, Some(Resolution::Replace))]
    #[case::newer(OnClash::Newer, 6, Some(Resolution::Replace))]
    #[case::as_new(OnClash::Newer, 5, Some(Resolution::Keep))]
    #[case::older(OnClash::Newer, 4, Some(Resolution::Keep))]
    #[case::both(OnClash::Both, 6, Some(Resolution::Beside(EntryPath::new("a (2)").unwrap())))]
    fn one_of_two_files_stays(#[case] asked: OnClash, #[case] comes: i64, #[case] expected: Option<Resolution>) {
        let at = |seconds| Timestamp { seconds, nanoseconds: 0 };
        let (path, kind, link_target) = (EntryPath::new("a").unwrap(), EntryKind::File, Vec::new());
        let entry = Entry { id: 1, path, kind, mode: 0o644, modified: at(comes), link_target };
        let clash = Clash { entry: &entry, there: at(5), beside: EntryPath::new("a (2)").ok() };
        assert_eq!(asked.resolve(clash), expected);
    }
}
