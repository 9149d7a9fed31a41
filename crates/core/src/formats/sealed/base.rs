//! What an archive of changes says of the archive that it builds upon: which that is, and everything that is in it, each entry with what
//! becomes of it. The list stands in pages like those of the index.

use super::index::{IndexEntry, PageRef, Place, RootError, put_page_refs, take_page_refs};
use crate::ground::entry::{ListedEntry, Timestamp};
use crate::ground::wire::{Cursor, Malformed};

/// What becomes of an entry of the base.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Becomes {
    /// It stays as it is.
    Stays,
    /// The archive of changes has another in its place.
    Replaced,
    /// It is not there any more.
    Removed,
}

/// An entry of the base.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BaseEntry {
    /// What it is there.
    pub listed: ListedEntry,
    /// What becomes of it.
    pub becomes: Becomes,
    /// Whether the base holds its content itself, and does not build upon another archive that has it.
    pub held: bool,
}

/// Which archive it builds upon.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct BaseName {
    /// Its set id.
    pub set: [u8; 16],
    /// BLAKE3 of its index's root.
    pub index_digest: [u8; 32],
    /// When it was made.
    pub made_at: Timestamp,
    /// What its maker called it, as bytes of a file name without extension.
    pub name: Vec<u8>,
}

/// What an archive of changes builds upon.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Base {
    /// Which archive it is.
    pub name: BaseName,
    /// Everything in it, sorted by path.
    pub entries: Vec<BaseEntry>,
}

/// The base, as an archive's root tells it: which it is, and where the pages are that list what is in it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct BaseRef {
    /// Which it is.
    pub name: BaseName,
    /// The pages in order.
    pub pages: Vec<PageRef>,
}

impl BaseEntry {
    /// As it stands in a page, where the place of an index entry tells what becomes of it.
    pub fn to_index_entry(&self) -> IndexEntry {
        let frame_at = match self.becomes {
            Becomes::Stays => 0,
            Becomes::Replaced => 1,
            Becomes::Removed => 2,
        };
        IndexEntry { listed: self.listed.clone(), place: Place { frame_at, record_at: self.held.into() } }
    }

    /// The same way back.
    ///
    /// # Errors
    /// [`Malformed`] for what no entry says.
    pub(super) fn from_index_entry(IndexEntry { listed, place }: IndexEntry) -> Result<Self, Malformed> {
        let becomes = match place.frame_at {
            0 => Becomes::Stays,
            1 => Becomes::Replaced,
            2 => Becomes::Removed,
            _ => return Err(Malformed("base entry")),
        };
        let held = match place.record_at {
            0 => false,
            1 => true,
            _ => return Err(Malformed("base entry")),
        };
        Ok(Self { listed, becomes, held })
    }
}

impl BaseRef {
    /// The property's value: set id, index digest, time, length of the name, name, count of pages, pages as in the root. `None` for what
    /// is too long.
    pub(super) fn encode(&self) -> Option<Vec<u8>> {
        let BaseName { set, index_digest, made_at, name } = &self.name;
        let mut value = [&set[..], &index_digest[..]].concat();
        value.extend_from_slice(&made_at.seconds.to_le_bytes());
        value.extend_from_slice(&made_at.nanoseconds.to_le_bytes());
        value.extend_from_slice(&u16::try_from(name.len()).ok()?.to_le_bytes());
        value.extend_from_slice(name);
        value.extend_from_slice(&u32::try_from(self.pages.len()).ok()?.to_le_bytes());
        put_page_refs(&self.pages, &mut value)?;
        Some(value)
    }

    /// Reads the property's value.
    ///
    /// # Errors
    /// [`RootError`] where it breaks the format's rules.
    pub(super) fn decode(mut cursor: Cursor<'_>) -> Result<Self, RootError> {
        let (set, index_digest) = (cursor.array()?, cursor.array()?);
        let made_at = Timestamp { seconds: cursor.i64()?, nanoseconds: cursor.u32()? };
        if made_at.nanoseconds > 999_999_999 {
            return Err(Malformed("nanoseconds").into());
        }
        let length = cursor.u16()?;
        let name = cursor.bytes(length.into())?.to_vec();
        let count = cursor.u32()?;
        let pages = take_page_refs(count, &mut cursor)?;
        cursor.end()?;
        Ok(Self { name: BaseName { set, index_digest, made_at, name }, pages })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::entry::{Content, Entry, EntryKind, EntryPath};
    use rstest::rstest;

    fn base() -> BaseRef {
        let made_at = Timestamp { seconds: 1_700_000_000, nanoseconds: 7 };
        let name = BaseName { set: [3; 16], index_digest: [4; 32], made_at, name: b"letters".to_vec() };
        let page = PageRef { frame_at: 9, frame_bytes: 80, entries: 2, digest: [5; 32], first_path: b"a".to_vec() };
        BaseRef { name, pages: vec![page] }
    }

    /// A change to the property, and whether it can be read then.
    #[rstest]
    #[case::as_it_was(|_: &mut Vec<u8>| {}, true)]
    #[case::cut_short(|value: &mut Vec<u8>| value.truncate(70), false)]
    #[case::with_more_behind(|value: &mut Vec<u8>| value.push(0), false)]
    #[case::too_many_nanoseconds(|value: &mut Vec<u8>| value[59] = 0xFF, false)]
    #[case::a_longer_name(|value: &mut Vec<u8>| value[61] = 0xFF, false)]
    #[case::too_many_pages(|value: &mut Vec<u8>| value[72] = 0xFF, false)]
    fn a_base_comes_back_or_is_refused(#[case] change: fn(&mut Vec<u8>), #[case] good: bool) {
        let mut value = base().encode().unwrap();
        change(&mut value);
        let read = BaseRef::decode(Cursor::new(&value, "base"));
        assert_eq!(read.is_ok_and(|read| read == base()), good);
    }

    #[rstest]
    #[case::removed_and_held(2, 1, true)]
    #[case::replaced(1, 0, true)]
    #[case::something_else(3, 0, false)]
    #[case::held_twice(0, 2, false)]
    fn an_entry_of_the_base_comes_back_or_is_refused(
        #[case] frame_at: u64,
        #[case] record_at: u32,
        #[case] good: bool,
    ) {
        let path = EntryPath::new("a").unwrap();
        let (kind, link_target) = (EntryKind::File, Vec::new());
        let entry = Entry { id: 1, path, kind, mode: 0o644, modified: Timestamp::default(), link_target };
        let listed = ListedEntry { entry, content: Content::default() };
        let index_entry = IndexEntry { listed, place: Place { frame_at, record_at } };
        let read = BaseEntry::from_index_entry(index_entry.clone()).map(|entry| entry.to_index_entry());
        assert_eq!(read.is_ok_and(|read| read == index_entry), good);
    }
}
