//! Pages of entries, of an index or of what is said of a base, one at a time: each is read where the root says, believed by its digest,
//! and decoded. Only the last few are kept, so that a list takes the same memory however long it is.

use super::error::SealedError;
use super::frame::{FRAME_HEADER_BYTES, FrameKind};
use super::frame_reading::read_frame;
use super::index::{IndexEntry, PageRef, check_order, read_page};
use super::stream::StreamReader;
use super::tail::Tail;
use crate::codecs::block::Decompressor;
use crate::ground::entry::EntryPath;
use crate::ground::wire::Malformed;
use std::cmp::Ordering;
use std::collections::VecDeque;
use std::hash::{BuildHasher as _, RandomState};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Pages that are kept after they were read; each takes about 600 KiB at the most.
const KEPT_PAGES: usize = 16;

/// So many ids are sorted at once; where there are more, all are read again for each further part of them.
const IDS_AT_ONCE: usize = 2 * 1024 * 1024;

/// What pages are read from: a way of its own into the archive, beside that of contents.
pub(super) struct PageFrames {
    stream: StreamReader,
    tail: Tail,
    decompressor: Decompressor,
    raw: Vec<u8>,
}

impl PageFrames {
    pub fn new(stream: StreamReader, tail: Tail) -> Result<Self, SealedError> {
        Ok(Self { stream, tail, decompressor: Decompressor::new()?, raw: Vec::new() })
    }

    /// Reads and decompresses the frame at a place, whatever it holds; its kind, its length with its header, and what is in it.
    pub fn read(&mut self, frame_at: u64) -> Result<(FrameKind, u64, &[u8]), SealedError> {
        let Self { stream, tail, decompressor, raw } = self;
        let header = read_frame(stream, decompressor, frame_at, tail, raw)?;
        Ok((header.kind, u64::from(header.stored_bytes) + FRAME_HEADER_BYTES as u64, raw))
    }

    pub const fn tail(&self) -> &Tail {
        &self.tail
    }

    pub const fn stream(&self) -> &StreamReader {
        &self.stream
    }

    pub fn close_files(&mut self) {
        self.stream.close_files();
    }
}

/// What several lists of pages are read from.
#[derive(Clone)]
pub(super) struct SharedFrames(Arc<Mutex<PageFrames>>);

impl SharedFrames {
    pub fn new(frames: PageFrames) -> Self {
        Self(Arc::new(Mutex::new(frames)))
    }

    pub fn lock(&self) -> MutexGuard<'_, PageFrames> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

type Page = Arc<[IndexEntry]>;

/// The pages that a root tells, in order.
pub(super) struct IndexPages {
    pages: Vec<PageRef>,
    /// The place of each page's first entry in the list; behind the last, how many entries there are.
    starts: Vec<usize>,
    /// Whether contents may have holes.
    in_units: bool,
    frames: SharedFrames,
    kept: Mutex<VecDeque<(usize, Page)>>,
}

impl IndexPages {
    pub fn new(pages: Vec<PageRef>, in_units: bool, frames: SharedFrames) -> Self {
        let mut count = 0_usize;
        let mut starts = vec![0];
        starts.extend(pages.iter().map(|page| {
            count = count.saturating_add(page.entries as usize);
            count
        }));
        Self { pages, starts, in_units, frames, kept: Mutex::default() }
    }

    /// Whether contents may have holes.
    pub const fn may_have_holes(&self) -> bool {
        self.in_units
    }

    /// How many entries there are, if every page keeps what the root says of it.
    pub fn count(&self) -> usize {
        self.starts.last().copied().unwrap_or(0)
    }

    /// The entry at a place, as it is recorded.
    pub fn entry(&self, place: usize) -> Result<IndexEntry, SealedError> {
        let number = self.starts.partition_point(|start| *start <= place).wrapping_sub(1);
        let page = self.page(number)?;
        let entry = self.starts.get(number).and_then(|start| page.get(place.checked_sub(*start)?));
        Ok(entry.ok_or(Malformed("index"))?.clone())
    }

    /// One entry after another, as they are recorded.
    pub fn entries(&self) -> impl Iterator<Item = Result<IndexEntry, SealedError>> {
        (0..self.count()).map(|place| self.entry(place))
    }

    /// Reads everything once and holds it to the format's rules: each page to what the root says of it, the order, across pages too, and
    /// that no id is there twice. `look` sees every entry.
    pub fn prove(&self, mut look: impl FnMut(&IndexEntry) -> Result<(), SealedError>) -> Result<(), SealedError> {
        let mut last = None;
        for number in 0..self.pages.len() {
            let page = self.page(number)?;
            check_order(last.iter().chain(page.iter().map(|entry| &entry.listed)))?;
            page.iter().try_for_each(&mut look)?;
            last = page.last().map(|entry| entry.listed.clone());
        }
        let ids_of = |number| {
            let page = self.page(number);
            let ids = page.map(|page| page.iter().map(|entry| entry.listed.entry.id).collect::<Vec<u64>>());
            ids.map_or_else(|error| vec![Err(error)], |ids| ids.into_iter().map(Ok).collect())
        };
        match all_differ(self.count(), IDS_AT_ONCE, || (0..self.pages.len()).flat_map(ids_of))? {
            true => Ok(()),
            false => Err(Malformed("index").into()),
        }
    }

    fn page(&self, number: usize) -> Result<Page, SealedError> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(at) = kept.iter().position(|(kept, _)| *kept == number) {
            let page = Arc::clone(&kept[at].1);
            kept.swap(at, 0);
            return Ok(page);
        }
        let page = self.read(number)?;
        kept.truncate(KEPT_PAGES - 1);
        kept.push_front((number, Arc::clone(&page)));
        Ok(page)
    }

    fn read(&self, number: usize) -> Result<Page, SealedError> {
        let page = self.pages.get(number).ok_or(Malformed("index"))?;
        let mut frames = self.frames.lock();
        let (kind, frame_bytes, raw) = frames.read(page.frame_at)?;
        if kind != FrameKind::IndexPage || frame_bytes != u64::from(page.frame_bytes) {
            return Err(Malformed("index page").into());
        }
        let entries = read_page(raw, page)?;
        // A reader that does not know of holes has to be told by the root.
        if !self.in_units && entries.iter().any(|entry| entry.listed.content.in_units) {
            return Err(Malformed("index page").into());
        }
        Ok(entries.into())
    }
}

/// Whether no two of so many ids are equal. Where they are more than are sorted at once, they are read again for each part of them.
fn all_differ<E, I: Iterator<Item = Result<u64, E>>>(
    count: usize,
    at_once: usize,
    read: impl Fn() -> I,
) -> Result<bool, E> {
    let parts = count.div_ceil(at_once) as u64;
    // Nobody can choose ids that all fall into one part.
    let hash = RandomState::new();
    let mut differ = true;
    for part in 0..parts {
        let is_in_part = |id: &u64| parts == 1 || hash.hash_one(id) % parts == part;
        let in_part = read().filter(|id| id.as_ref().map_or(true, is_in_part));
        let mut ids = in_part.collect::<Result<Vec<u64>, E>>()?;
        ids.sort_unstable();
        differ &= ids.is_sorted_by(|one, other| one < other);
    }
    Ok(differ)
}

/// Holds what is said of the base to what is here: `is_replaced` are those of the base that are here too, and no others of it.
pub(super) fn agree<E: From<Malformed>>(
    base: impl Iterator<Item = Result<IndexEntry, E>>,
    here: impl Iterator<Item = Result<IndexEntry, E>>,
    is_replaced: impl Fn(&IndexEntry) -> bool,
) -> Result<(), E> {
    let mut here = here.peekable();
    for entry in base {
        let entry = entry?;
        let order = loop {
            let order = match here.peek() {
                Some(Ok(new)) => path_of(new).cmp(path_of(&entry)),
                Some(Err(_)) => Ordering::Less,
                None => Ordering::Greater,
            };
            if order != Ordering::Less {
                break order;
            }
            here.next().transpose()?;
        };
        if (order == Ordering::Equal) != is_replaced(&entry) {
            return Err(Malformed("base entry").into());
        }
    }
    Ok(())
}

const fn path_of(entry: &IndexEntry) -> &EntryPath {
    &entry.listed.entry.path
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::formats::sealed::index::Place;
    use crate::ground::entry::{Content, Entry, EntryKind, ListedEntry, Timestamp};
    use proptest::prelude::*;
    use rstest::rstest;
    use std::collections::BTreeSet;

    proptest! {
        #[test]
        fn ids_that_are_twice_there_are_found_in_parts_too(ids: Vec<u8>, at_once in 1_usize..9) {
            let read = || ids.iter().map(|id| Ok::<_, ()>(u64::from(*id)));
            let differ = ids.iter().collect::<BTreeSet<_>>().len() == ids.len();
            prop_assert_eq!(all_differ(ids.len(), at_once, read), Ok(differ));
        }
    }

    fn entry(path: &str) -> IndexEntry {
        let (path, modified) = (EntryPath::new(path).unwrap(), Timestamp::default());
        let entry = Entry { id: 1, path, kind: EntryKind::Folder, mode: 0o755, modified, link_target: Vec::new() };
        IndexEntry {
            listed: ListedEntry { entry, content: Content::default() },
            place: Place { frame_at: 0, record_at: 0 },
        }
    }

    /// What is in the base, of which a capital letter is said to be replaced; what is here; and whether they agree.
    #[rstest]
    #[case::nothing("", "", true)]
    #[case::all_stays("ac", "b", true)]
    #[case::replaced("aBc", "b", true)]
    #[case::the_last("aB", "b", true)]
    #[case::behind_others("D", "abcd", true)]
    #[case::said_to_be_here("aB", "c", false)]
    #[case::said_to_be_here_and_all_before("aD", "abc", false)]
    #[case::here_unsaid("ab", "b", false)]
    #[case::here_unsaid_at_the_beginning("ab", "ac", false)]
    fn what_is_replaced_is_here_and_nothing_else_of_the_base(
        #[case] base: &str,
        #[case] here: &str,
        #[case] good: bool,
    ) {
        let listed = |letters: &str| -> Vec<Result<IndexEntry, Malformed>> {
            letters.to_lowercase().chars().map(|letter| Ok(entry(&letter.to_string()))).collect()
        };
        let is_replaced =
            |entry: &IndexEntry| base.contains(&String::from_utf8_lossy(path_of(entry).as_bytes()).to_uppercase());
        assert_eq!(agree(listed(base).into_iter(), listed(here).into_iter(), is_replaced).is_ok(), good);
    }

    #[rstest]
    #[case(vec![Err(Malformed("base"))], vec![])]
    #[case(vec![Ok(entry("b"))], vec![Ok(entry("a")), Err(Malformed("here"))])]
    fn what_cannot_be_read_agrees_with_nothing(
        #[case] base: Vec<Result<IndexEntry, Malformed>>,
        #[case] here: Vec<Result<IndexEntry, Malformed>>,
    ) {
        assert!(agree(base.into_iter(), here.into_iter(), |_| false).is_err());
    }
}
