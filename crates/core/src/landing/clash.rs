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

/// What is known of a file that is there, where one of the same path is to be extracted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KnownThere {
    /// It is an older state of the same, which nobody has changed: it is replaced.
    Outdated,
    /// It is the same already: it stays.
    UpToDate,
}

/// What is known of files that are there, by path.
pub type Known = HashMap<EntryPath, KnownThere>;

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
