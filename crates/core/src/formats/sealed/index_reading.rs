//! Reading the index: the root that the tail tells, every page that the root tells, and the same of what an archive of changes builds
//! upon. Each part is believed by the digest that the part before it gives. Everything is read once and held to the format's rules; after
//! that an entry is read again when it is wanted.

use super::base::{Base, BaseEntry, BaseName, BaseRef, Becomes};
use super::error::SealedError;
use super::frame::FrameKind;
use super::further_names::FurtherNames;
use super::index::{About, IndexEntry, Place, Root};
use super::index_pages::{IndexPages, PageFrames, SharedFrames, agree};
use crate::formats::error::ArchiveError;
use crate::formats::listing::{Paged, held_by};
use crate::ground::entry::{ListedEntry, Totals};
use crate::ground::runs::{RUN_BYTES, Runs};
use crate::ground::wire::{Cursor, Malformed};
use std::sync::OnceLock;

/// A whole index: what the archive says of itself, and its entries, sorted by path, each with its place.
pub(super) struct Index {
    pub about: About,
    pages: IndexPages,
    pub further: FurtherNames,
    totals: Totals,
    /// Where the first part of the index begins in the inner stream, behind all content.
    pub content_end: u64,
    /// The entry with all content, where only one has any, by its place.
    pub only_content: Option<usize>,
    /// Whether entries stand in the stream as they stand in the list.
    in_list_order: bool,
    frames: SharedFrames,
    whole: OnceLock<Whole>,
}

/// All entries in memory, each with its place in the stream.
pub(super) struct Whole {
    pub listed: Vec<ListedEntry>,
    pub places: Vec<Place>,
}

impl Index {
    /// Reads the root and all pages, and holds them to the tail.
    pub fn read(mut frames: PageFrames) -> Result<Self, SealedError> {
        let Root { about, pages, sharing, in_units } = read_root(&mut frames)?;
        let tail = *frames.tail();
        let content_end = pages.first().map_or(tail.root_at, |page| page.frame_at);
        let frames = SharedFrames::new(frames);
        let pages = IndexPages::new(pages, in_units, frames.clone());
        if pages.count() as u64 != tail.entries {
            return Err(Malformed("index").into());
        }
        let (mut totals, mut with_content, mut at) = (Totals::default(), Vec::new(), 0);
        let (mut in_list_order, mut last_place) = (true, None);
        pages.prove(|IndexEntry { listed, place }| {
            totals.add(listed.entry.kind, listed.content.size);
            if listed.content.size > 0 && with_content.len() < 2 {
                with_content.push(at);
            }
            in_list_order &= last_place.is_none_or(|last| last < *place);
            (last_place, at) = (Some(*place), at + 1);
            Ok(())
        })?;
        if totals.content_bytes != tail.content_bytes {
            return Err(Malformed("index").into());
        }
        let recorded = |place| pages.entry(place).map(|entry| entry.listed);
        let further = FurtherNames::find(pages.count(), recorded, &sharing)?;
        totals.links -= further.count() as u64;
        totals.files += further.count() as u64;
        let only_content = with_content.first().copied().filter(|_| with_content.len() == 1 && further.count() == 0);
        let whole = OnceLock::new();
        Ok(Self { about, pages, further, totals, content_end, only_content, in_list_order, frames, whole })
    }

    /// How many entries there are.
    pub fn count(&self) -> usize {
        self.pages.count()
    }

    /// The entry at a place, as it is recorded.
    pub fn recorded(&self, place: usize) -> Result<IndexEntry, SealedError> {
        self.pages.entry(place)
    }

    /// The entry at a place, as it is in truth.
    pub fn listed(&self, place: usize) -> Result<ListedEntry, SealedError> {
        Ok(self.further.listed(place, self.pages.entry(place)?.listed))
    }

    /// All entries in memory. They are read at the first call, and stay.
    pub fn whole(&self) -> Result<&Whole, SealedError> {
        if let Some(whole) = self.whole.get() {
            return Ok(whole);
        }
        let mut whole = Whole { listed: Vec::with_capacity(self.count()), places: Vec::with_capacity(self.count()) };
        for (at, entry) in self.pages.entries().enumerate() {
            let IndexEntry { listed, place } = entry?;
            whole.listed.push(self.further.listed(at, listed));
            whole.places.push(place);
        }
        Ok(self.whole.get_or_init(|| whole))
    }

    /// The entries at these places, or all, as they are recorded, in the order in which they stand in the stream.
    pub fn in_stream_order<'a>(&'a self, wanted: &'a Wanted) -> Box<dyn Iterator<Item = PlacedEntry> + 'a> {
        let all = move || {
            (0..wanted.count(self)).map(move |number| {
                let at = wanted.at(number);
                Ok((at, self.recorded(at)?))
            })
        };
        if self.in_list_order {
            return Box::new(all());
        }
        let keyed = move || {
            all().map(|item: PlacedEntry| {
                let (at, entry) = item?;
                Ok(((entry.place, at), (at, entry)))
            })
        };
        Box::new(Runs::new(keyed, |(_, entry)| held_by(&entry.listed), RUN_BYTES))
    }

    /// Closes the files that pages are read from; what is read later opens them again.
    pub fn close_files(&self) {
        self.frames.lock().close_files();
    }

    /// Bytes of volumes that were read for pages so far.
    pub fn bytes_read(&self) -> u64 {
        self.frames.lock().stream().cells().bytes_read()
    }

    /// What the archive builds upon, if it is one of changes.
    pub fn read_base(&self) -> Result<Option<PagedBase>, SealedError> {
        let Some(property) = &self.about.base else { return Ok(None) };
        let BaseRef { name, pages } = BaseRef::decode(Cursor::new(property, "base"))?;
        let pages = IndexPages::new(pages, self.pages.may_have_holes(), self.frames.clone());
        pages.prove(|entry| BaseEntry::from_index_entry(entry.clone()).map(drop).map_err(SealedError::from))?;
        agree(pages.entries(), self.pages.entries(), |entry| {
            BaseEntry::from_index_entry(entry.clone()).is_ok_and(|entry| entry.becomes == Becomes::Replaced)
        })?;
        Ok(Some(PagedBase { name, pages, whole: OnceLock::new() }))
    }
}

/// An entry with its place in the list.
pub(super) type PlacedEntry = Result<(usize, IndexEntry), SealedError>;

/// Which entries are wanted.
pub(super) enum Wanted {
    /// Every one.
    All,
    /// Those at some places.
    Some(Vec<usize>),
}

impl Wanted {
    /// Those at these places, of which none is there twice.
    pub fn some(places: impl IntoIterator<Item = usize>) -> Self {
        let mut places: Vec<usize> = places.into_iter().collect();
        places.sort_unstable();
        Self::Some(places)
    }

    fn count(&self, index: &Index) -> usize {
        match self {
            Self::All => index.count(),
            Self::Some(places) => places.len(),
        }
    }

    fn at(&self, number: usize) -> usize {
        match self {
            Self::All => number,
            Self::Some(places) => places[number],
        }
    }
}

impl Paged for Index {
    fn count(&self) -> usize {
        Self::count(self)
    }

    fn totals(&self) -> Totals {
        self.totals
    }

    fn at(&self, place: usize) -> Result<ListedEntry, ArchiveError> {
        Ok(self.listed(place)?)
    }

    fn whole(&self) -> Result<&[ListedEntry], ArchiveError> {
        Ok(&Self::whole(self)?.listed)
    }
}

/// What an archive of changes builds upon, in pages.
pub(super) struct PagedBase {
    pub name: BaseName,
    pages: IndexPages,
    whole: OnceLock<Base>,
}

impl PagedBase {
    /// All of it in memory. It is read at the first call, and stays.
    pub fn whole(&self) -> Result<&Base, SealedError> {
        if let Some(whole) = self.whole.get() {
            return Ok(whole);
        }
        let entries = self.pages.entries().map(|entry| Ok(BaseEntry::from_index_entry(entry?)?));
        let entries = entries.collect::<Result<_, SealedError>>()?;
        Ok(self.whole.get_or_init(|| Base { name: self.name.clone(), entries }))
    }
}

fn read_root(frames: &mut PageFrames) -> Result<Root, SealedError> {
    let tail = *frames.tail();
    let (kind, frame_bytes, raw) = frames.read(tail.root_at)?;
    let right_place = kind == FrameKind::IndexRoot && frame_bytes == u64::from(tail.root_bytes);
    if !right_place || blake3::hash(raw).as_bytes() != &tail.index_digest {
        return Err(Malformed("index root").into());
    }
    Ok(Root::decode(raw)?)
}
