//! Reading the index: the root that the tail tells, every page that the root tells, and the same of what an archive of changes builds
//! upon. Each part is believed by the digest that the part before it gives.

use super::base::{Base, BaseEntry, BaseRef, Becomes};
use super::error::SealedError;
use super::frame::{FRAME_HEADER_BYTES, FrameKind};
use super::frame_reading::read_frame;
use super::further_names::{FurtherNames, listed as as_listed};
use super::index::{About, IndexEntry, PageRef, Place, Root, check_order, read_page};
use super::stream::StreamReader;
use super::tail::Tail;
use crate::codecs::block::Decompressor;
use crate::ground::entry::{EntryPath, ListedEntry};
use crate::ground::wire::{Cursor, Malformed};

/// A whole index: what the archive says of itself, and its entries, sorted by path, each with its place.
pub(super) struct Index {
    pub about: About,
    pub listed: Vec<ListedEntry>,
    pub places: Vec<Place>,
    pub further: FurtherNames,
    /// Whether contents may have holes.
    pub in_units: bool,
    pub content_end: u64,
}

/// Reads the root and all pages, and holds them to the tail.
pub(super) fn read_index(
    stream: &mut StreamReader,
    decompressor: &mut Decompressor,
    tail: &Tail,
) -> Result<Index, SealedError> {
    let root = read_root(stream, decompressor, tail)?;
    let content_end = root.pages.first().map_or(tail.root_at, |page| page.frame_at);
    let mut index = Index {
        about: root.about,
        listed: Vec::new(),
        places: Vec::new(),
        further: FurtherNames::new(),
        in_units: root.in_units,
        content_end,
    };
    let mut raw = Vec::new();
    for page in &root.pages {
        let page = read_index_page(page, root.in_units, stream, decompressor, tail, &mut raw)?;
        check_order(index.listed.last().into_iter().chain(page.iter().map(|entry| &entry.listed)))?;
        for IndexEntry { listed, place } in page {
            index.listed.push(listed);
            index.places.push(place);
        }
    }
    refuse_one_id_twice(index.listed.iter())?;
    let content_bytes = index.listed.iter().map(|listed| listed.content.size).fold(0, u64::saturating_add);
    if index.listed.len() as u64 != tail.entries || content_bytes != tail.content_bytes {
        return Err(Malformed("index").into());
    }
    index.further = as_listed(&mut index.listed, &root.sharing)?;
    Ok(index)
}

fn refuse_one_id_twice<'a>(entries: impl Iterator<Item = &'a ListedEntry>) -> Result<(), Malformed> {
    let mut ids: Vec<u64> = entries.map(|listed| listed.entry.id).collect();
    ids.sort_unstable();
    if ids.is_sorted_by(|one, other| one < other) { Ok(()) } else { Err(Malformed("index")) }
}

fn read_index_page(
    page: &PageRef,
    in_units: bool,
    stream: &mut StreamReader,
    decompressor: &mut Decompressor,
    tail: &Tail,
    raw: &mut Vec<u8>,
) -> Result<Vec<IndexEntry>, SealedError> {
    let header = read_frame(stream, decompressor, page.frame_at, tail, raw)?;
    if header.kind != FrameKind::IndexPage || header.stored_bytes + FRAME_HEADER_BYTES as u32 != page.frame_bytes {
        return Err(Malformed("index page").into());
    }
    let entries = read_page(raw, page)?;
    // A reader that does not know of holes has to be told by the root.
    if !in_units && entries.iter().any(|entry| entry.listed.content.in_units) {
        return Err(Malformed("index page").into());
    }
    Ok(entries)
}

/// Holds what is said of the base to what is here: what is replaced is here, and nothing else of it.
pub(super) fn agrees(base: &Base, listed: &[ListedEntry]) -> Result<(), Malformed> {
    let is_here = |path: &EntryPath| listed.binary_search_by(|listed| listed.entry.path.cmp(path)).is_ok();
    let agrees = |entry: &BaseEntry| is_here(&entry.listed.entry.path) == (entry.becomes == Becomes::Replaced);
    if base.entries.iter().all(agrees) { Ok(()) } else { Err(Malformed("base entry")) }
}

/// Reads what an archive of changes says of the one that it builds upon; `None` of any other.
pub(super) fn read_base(
    (about, in_units): (&About, bool),
    stream: &mut StreamReader,
    decompressor: &mut Decompressor,
    tail: &Tail,
) -> Result<Option<Base>, SealedError> {
    let Some(property) = &about.base else { return Ok(None) };
    let BaseRef { name, pages } = BaseRef::decode(Cursor::new(property, "base"))?;
    let (mut entries, mut raw) = (Vec::<BaseEntry>::new(), Vec::new());
    for page in &pages {
        let page = read_index_page(page, in_units, stream, decompressor, tail, &mut raw)?;
        check_order(entries.last().map(|last| &last.listed).into_iter().chain(page.iter().map(|entry| &entry.listed)))?;
        for entry in page {
            entries.push(BaseEntry::from_index_entry(entry)?);
        }
    }
    refuse_one_id_twice(entries.iter().map(|entry| &entry.listed))?;
    Ok(Some(Base { name, entries }))
}

fn read_root(stream: &mut StreamReader, decompressor: &mut Decompressor, tail: &Tail) -> Result<Root, SealedError> {
    let mut raw = Vec::new();
    let header = read_frame(stream, decompressor, tail.root_at, tail, &mut raw)?;
    let right_place = header.kind == FrameKind::IndexRoot
        && header.stored_bytes.checked_add(FRAME_HEADER_BYTES as u32) == Some(tail.root_bytes);
    if !right_place || blake3::hash(&raw).as_bytes() != &tail.index_digest {
        return Err(Malformed("index root").into());
    }
    Ok(Root::decode(&raw)?)
}
