//! What is in an archive, entry after entry. A format that keeps its list in pages gives them one at a time, so that a long list takes no
//! more memory than a short one; a command that goes through the list once, or asks for a few entries, reads it here. Others have all of it
//! at once ([`ArchiveReader::entries`](super::reader::ArchiveReader::entries)).

use super::error::ArchiveError;
use crate::ground::entry::{ListedEntry, Totals};
use crate::ground::runs::{RUN_BYTES, Runs};
use std::borrow::Cow;

/// A list that is kept in pages.
pub trait Paged {
    /// How many entries there are.
    fn count(&self) -> usize;

    /// What they hold in all.
    fn totals(&self) -> Totals;

    /// The entry at a place.
    ///
    /// # Errors
    /// [`ArchiveError`] where its page cannot be read again, or there is no such place.
    fn at(&self, place: usize) -> Result<ListedEntry, ArchiveError>;

    /// All of them, in memory.
    ///
    /// # Errors
    /// [`ArchiveError`] where a page cannot be read again.
    fn whole(&self) -> Result<&[ListedEntry], ArchiveError>;
}

/// The entries of an archive, sorted by path.
#[derive(Clone, Copy)]
pub enum Listing<'a> {
    /// All are in memory.
    Whole(&'a [ListedEntry]),
    /// They are read when they are wanted.
    Paged(&'a dyn Paged),
}

/// An entry of a list, or why it cannot be had.
pub type Listed<'a> = Result<Cow<'a, ListedEntry>, ArchiveError>;

/// An entry of a list with its place in it, or why it cannot be had.
pub type Placed<'a> = Result<(usize, Cow<'a, ListedEntry>), ArchiveError>;

impl<'a> Listing<'a> {
    /// How many there are.
    pub fn len(self) -> usize {
        match self {
            Self::Whole(entries) => entries.len(),
            Self::Paged(pages) => pages.count(),
        }
    }

    /// Whether there is none.
    pub fn is_empty(self) -> bool {
        self.len() == 0
    }

    /// The entry at a place, of those there are.
    ///
    /// # Errors
    /// [`ArchiveError`] where it cannot be read again.
    pub fn at(self, place: usize) -> Listed<'a> {
        match self {
            Self::Whole(entries) => Ok(Cow::Borrowed(&entries[place])),
            Self::Paged(pages) => pages.at(place).map(Cow::Owned),
        }
    }

    /// One after another.
    pub fn iter(self) -> impl Iterator<Item = Listed<'a>> {
        (0..self.len()).map(move |place| self.at(place))
    }

    /// Those at some places, each with its place, in the order of a key; those with the same key as they stand in the list.
    pub fn in_order<K: Ord + Clone + 'a, I: Iterator<Item = usize> + 'a>(
        self,
        places: impl Fn() -> I + 'a,
        key: impl Fn(usize, &ListedEntry) -> Result<K, ArchiveError> + Copy + 'a,
    ) -> impl Iterator<Item = Placed<'a>> + 'a {
        let read = move || {
            places().map(move |place| {
                let listed = self.at(place)?;
                Ok(((key(place, &listed)?, place), (place, listed)))
            })
        };
        Runs::new(
            read,
            |(_, listed)| match listed {
                Cow::Borrowed(_) => 0,
                Cow::Owned(listed) => held_by(listed),
            },
            RUN_BYTES,
        )
    }
}

/// What an allocation takes beside its bytes.
const ALLOCATION: usize = 32;

/// What an entry takes in memory beside its own size, in bytes.
pub(super) fn held_by(listed: &ListedEntry) -> usize {
    2 * ALLOCATION + listed.entry.path.as_bytes().len() + listed.entry.link_target.len()
}
