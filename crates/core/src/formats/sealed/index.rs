//! The index: pages of entries sorted by path, and a root that says where they are.
//!
//! The tail holds the root's digest and the root each page's, so that every part of the index can be
//! believed by itself.

use super::further_names::{MAX_FURTHER_NAMES, Sharing};
use super::record::{RecordError, entry_bytes, put_content, put_entry_value, take_content, take_entry_value};
use crate::codecs::block::MAX_BLOCK_BYTES;
use crate::ground::entry::{EntryKind, ListedEntry, Timestamp};
use crate::ground::wire::{Cursor, Malformed};

/// The most bytes of a page before compression.
pub const MAX_PAGE_BYTES: usize = 256 * 1024;

/// The most pages of an index; with [`MAX_PAGE_BYTES`] the bound of what a list can come to (4 GiB), which is read a page at a time.
pub const MAX_PAGES: usize = 16_384;

/// Bytes of an index entry beside its entry value: place 16, content 48.
const ENTRY_EXTRA_BYTES: usize = 64;

/// Bytes that even the shortest index entry has: fixed values and a path of one byte.
const MIN_ENTRY_BYTES: usize = 32 + 1 + ENTRY_EXTRA_BYTES;

/// Top bit of a property's type: a reader that does not know it must refuse the archive.
const MUST_BE_UNDERSTOOD: u16 = 0x8000;
const MADE_AT: u16 = 1;
const NAME: u16 = 2;
const SQUEEZE: u16 = 3;
const MESSAGE: u16 = 4;
const VOLUME_LIMIT: u16 = 5;
const PARCEL: u16 = 6;
const FURTHER_NAMES: u16 = 7;
const BASE: u16 = 0x8005;
const HOLES: u16 = 0x8006;

/// The most parcels that an archive may say its delivery has. Those that are made here are fewer.
pub const MAX_PARCELS: u32 = 65_535;

/// Bytes of a further name's id and of its owner's.
const SHARING_BYTES: usize = 16;

/// The longest message, in bytes of UTF-8.
pub const MAX_MESSAGE_BYTES: usize = 64 * 1024;

/// Where an entry's record begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Place {
    /// Where its frame begins in the inner stream.
    pub frame_at: u64,
    /// Where the entry record begins in the frame before compression.
    pub record_at: u32,
}

/// One entry of the index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IndexEntry {
    /// What a reader sees.
    pub listed: ListedEntry,
    /// Where it begins.
    pub place: Place,
}

/// Which of a delivery's archives one is: each opens alone, and all of them together are what was sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct ParcelOf {
    /// The delivery's id, random, one for each packing.
    pub delivery: [u8; 16],
    /// Its number, from 1.
    pub number: u32,
    /// How many there are.
    pub count: u32,
}

/// What an archive says of itself as a whole, sealed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct About {
    /// When it was made.
    pub made_at: Timestamp,
    /// What its maker called it, as bytes of a file name without extension.
    pub name: Vec<u8>,
    /// How hard it was compressed, as [`crate::codecs::block::Squeeze`] numbers it; `None` where it does not say.
    pub squeeze: Option<u8>,
    /// What its maker wants to say to whoever opens it; empty where nothing is said. At most [`MAX_MESSAGE_BYTES`].
    pub message: String,
    /// How many bytes a volume was to have at the most; `None` where it does not say.
    pub volume_limit: Option<u64>,
    /// Which parcel of a delivery it is; `None` where it is an archive by itself.
    pub parcel: Option<ParcelOf>,
    /// What it builds upon, as bytes of the property; `None` where it holds everything itself.
    pub base: Option<Vec<u8>>,
}

/// Where a page is and what it begins with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PageRef {
    /// Where its frame begins in the inner stream.
    pub frame_at: u64,
    /// Bytes of its frame, header included.
    pub frame_bytes: u32,
    /// How many entries it holds.
    pub entries: u32,
    /// BLAKE3 of the page before compression.
    pub digest: [u8; 32],
    /// Its first path.
    pub first_path: Vec<u8>,
}

/// The index's root.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Root {
    /// What the archive says of itself.
    pub about: About,
    /// The pages in order.
    pub pages: Vec<PageRef>,
    /// Which entries are further names of files, sorted by their ids, at most [`MAX_FURTHER_NAMES`].
    pub sharing: Vec<Sharing>,
    /// Whether the digests of some contents are of their units, since they have holes.
    pub in_units: bool,
}

/// Collects entries, in order, into one page.
#[derive(Debug, Default)]
pub struct PageBuilder {
    bytes: Vec<u8>,
    entries: u32,
    first_path: Vec<u8>,
}

impl PageBuilder {
    /// Whether the page has no room for this entry any more.
    pub fn is_full_for(&self, entry: &IndexEntry) -> bool {
        let more = entry_bytes(&entry.listed.entry) + ENTRY_EXTRA_BYTES;
        self.entries > 0 && self.bytes.len() + 8 + more > MAX_PAGE_BYTES
    }

    /// Adds an entry: its value, place, four zeros, content.
    pub fn add(&mut self, entry: &IndexEntry) {
        if self.entries == 0 {
            self.first_path = entry.listed.entry.path.as_bytes().to_vec();
        }
        self.entries += 1;
        put_entry_value(&entry.listed.entry, &mut self.bytes);
        self.bytes.extend_from_slice(&entry.place.frame_at.to_le_bytes());
        self.bytes.extend_from_slice(&entry.place.record_at.to_le_bytes());
        self.bytes.extend_from_slice(&[0; 4]);
        put_content(&entry.listed.content, 0, &mut self.bytes);
    }

    /// Whether nothing was added.
    pub fn is_empty(&self) -> bool {
        self.entries == 0
    }

    /// The page's bytes, and its reference without the place.
    pub fn finish(self) -> (Vec<u8>, PageRef) {
        let mut page = self.entries.to_le_bytes().to_vec();
        page.extend_from_slice(&[0; 4]);
        page.extend_from_slice(&self.bytes);
        let digest = *blake3::hash(&page).as_bytes();
        let page_ref =
            PageRef { frame_at: 0, frame_bytes: 0, entries: self.entries, digest, first_path: self.first_path };
        (page, page_ref)
    }
}

/// Reads a page that the root refers to: digest, count, entries.
pub fn read_page(page: &[u8], expected: &PageRef) -> Result<Vec<IndexEntry>, RecordError> {
    let mut cursor = Cursor::new(page, "index page");
    if blake3::hash(page).as_bytes() != &expected.digest || page.len() > MAX_PAGE_BYTES {
        return Err(cursor.malformed().into());
    }
    let count = cursor.u32()?;
    cursor.zeros(4)?;
    if count != expected.entries || count as usize > page.len() / MIN_ENTRY_BYTES {
        return Err(cursor.malformed().into());
    }
    let mut entries = Vec::with_capacity(count as usize);
    for _ in 0..count {
        let entry = take_entry_value(&mut cursor)?;
        let place = Place { frame_at: cursor.u64()?, record_at: cursor.u32()? };
        cursor.zeros(4)?;
        let (content, abandoned) = take_content(&mut cursor)?;
        let bare = content == Default::default();
        if abandoned || (entry.kind != EntryKind::File && !bare) {
            return Err(cursor.malformed().into());
        }
        entries.push(IndexEntry { listed: ListedEntry { entry, content }, place });
    }
    if entries.first().is_none_or(|first| first.listed.entry.path.as_bytes() != expected.first_path) {
        return Err(cursor.malformed().into());
    }
    cursor.end()?;
    Ok(entries)
}

/// Holds the whole index to its order: paths rise, none comes twice, and only folders have entries below
/// them.
pub fn check_order<'a>(mut entries: impl Iterator<Item = &'a ListedEntry>) -> Result<(), Malformed> {
    let Some(mut before) = entries.next() else { return Ok(()) };
    for entry in entries {
        let (one, other) = (&before.entry.path, &entry.entry.path);
        let below = other.is_below(one);
        if one >= other || (below && before.entry.kind != EntryKind::Folder) {
            return Err(Malformed("index order"));
        }
        before = entry;
    }
    Ok(())
}

impl Root {
    /// The root's bytes; `None` where they would be more than a frame may hold.
    pub fn encode(&self) -> Option<Vec<u8>> {
        let mut properties = Vec::new();
        let mut made_at = self.about.made_at.seconds.to_le_bytes().to_vec();
        made_at.extend_from_slice(&self.about.made_at.nanoseconds.to_le_bytes());
        let squeeze = self.about.squeeze.map(|number| vec![number]);
        let volume_limit = self.about.volume_limit.map(u64::to_le_bytes);
        let parcel = self.about.parcel.map(|ParcelOf { delivery, number, count }| {
            [&delivery[..], &number.to_le_bytes(), &count.to_le_bytes()].concat()
        });
        let sharing = Some(put_sharing(&self.sharing)).filter(|sharing| !sharing.is_empty());
        let message = Some(self.about.message.as_bytes()).filter(|message| !message.is_empty());
        let told = [
            (MADE_AT, Some(made_at.as_slice())),
            (NAME, Some(self.about.name.as_slice())),
            (SQUEEZE, squeeze.as_deref()),
            (MESSAGE, message),
            (VOLUME_LIMIT, volume_limit.as_ref().map(<[u8; 8]>::as_slice)),
            (PARCEL, parcel.as_deref()),
            (FURTHER_NAMES, sharing.as_deref()),
            (BASE, self.about.base.as_deref()),
            (HOLES, self.in_units.then_some(&[][..])),
        ];
        for (kind, value) in told.into_iter().filter_map(|(kind, value)| Some((kind, value?))) {
            properties.extend_from_slice(&kind.to_le_bytes());
            properties.extend_from_slice(&[0; 2]);
            properties.extend_from_slice(&u32::try_from(value.len()).ok()?.to_le_bytes());
            properties.extend_from_slice(value);
        }
        let mut root = u32::try_from(self.pages.len()).ok()?.to_le_bytes().to_vec();
        root.extend_from_slice(&u32::try_from(properties.len()).ok()?.to_le_bytes());
        root.extend_from_slice(&properties);
        put_page_refs(&self.pages, &mut root)?;
        let is_bounded = self.pages.len() <= MAX_PAGES && self.sharing.len() <= MAX_FURTHER_NAMES;
        (root.len() <= MAX_BLOCK_BYTES && is_bounded).then_some(root)
    }

    /// Reads a root whose digest the caller has compared.
    pub fn decode(bytes: &[u8]) -> Result<Self, RootError> {
        let mut cursor = Cursor::new(bytes, "index root");
        let (page_count, properties) = (cursor.u32()?, cursor.u32()? as usize);
        let (about, sharing, in_units) = read_properties(Cursor::new(cursor.bytes(properties)?, "index root"))?;
        let pages = take_page_refs(page_count, &mut cursor)?;
        cursor.end()?;
        Ok(Self { about, pages, sharing, in_units })
    }
}

fn put_sharing(sharing: &[Sharing]) -> Vec<u8> {
    sharing.iter().flat_map(|Sharing { id, owner }| [id.to_le_bytes(), owner.to_le_bytes()]).flatten().collect()
}

/// Takes ids of further names, each with its owner's: they rise, and there is at least one.
fn take_sharing(mut cursor: Cursor<'_>) -> Result<Vec<Sharing>, Malformed> {
    let malformed = cursor.malformed();
    let bytes = cursor.clone().rest().len();
    if bytes == 0 || bytes / SHARING_BYTES > MAX_FURTHER_NAMES {
        return Err(malformed);
    }
    let mut sharing: Vec<Sharing> = Vec::with_capacity(bytes / SHARING_BYTES);
    while !cursor.is_empty() {
        sharing.push(Sharing { id: cursor.u64()?, owner: cursor.u64()? });
    }
    if sharing.is_sorted_by(|one, other| one.id < other.id) { Ok(sharing) } else { Err(malformed) }
}

/// Appends where pages are; `None` for a path that is too long.
pub(super) fn put_page_refs(pages: &[PageRef], output: &mut Vec<u8>) -> Option<()> {
    for page in pages {
        output.extend_from_slice(&page.frame_at.to_le_bytes());
        output.extend_from_slice(&page.frame_bytes.to_le_bytes());
        output.extend_from_slice(&page.entries.to_le_bytes());
        output.extend_from_slice(&page.digest);
        output.extend_from_slice(&u16::try_from(page.first_path.len()).ok()?.to_le_bytes());
        output.extend_from_slice(&page.first_path);
    }
    Some(())
}

/// Takes where so many pages are.
pub(super) fn take_page_refs(count: u32, cursor: &mut Cursor<'_>) -> Result<Vec<PageRef>, Malformed> {
    if count as usize > MAX_PAGES {
        return Err(cursor.malformed());
    }
    let mut pages = Vec::new();
    for _ in 0..count {
        let (frame_at, frame_bytes, entries) = (cursor.u64()?, cursor.u32()?, cursor.u32()?);
        let digest = cursor.array()?;
        let path_bytes = cursor.u16()?;
        let first_path = cursor.bytes(path_bytes.into())?.to_vec();
        pages.push(PageRef { frame_at, frame_bytes, entries, digest, first_path });
    }
    Ok(pages)
}

/// Why a root cannot be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RootError {
    /// It breaks the format's rules.
    #[error(transparent)]
    Malformed(#[from] Malformed),
    /// A property that this version does not know and may not skip.
    #[error("unknown property {0}")]
    UnknownProperty(u16),
}

fn read_properties(mut cursor: Cursor<'_>) -> Result<(About, Vec<Sharing>, bool), RootError> {
    let (mut about, mut sharing, mut in_units) = (About::default(), Vec::new(), false);
    let mut known = Vec::new();
    while !cursor.is_empty() {
        let kind = cursor.u16()?;
        // Readers would differ about which of two counts.
        if [MADE_AT, NAME, SQUEEZE, MESSAGE, VOLUME_LIMIT, PARCEL, FURTHER_NAMES, BASE, HOLES].contains(&kind) {
            if known.contains(&kind) {
                return Err(Malformed("property twice").into());
            }
            known.push(kind);
        }
        cursor.zeros(2)?;
        let length = cursor.u32()? as usize;
        let mut value = Cursor::new(cursor.bytes(length)?, "index root");
        match kind {
            MADE_AT => {
                about.made_at = Timestamp { seconds: value.i64()?, nanoseconds: value.u32()? };
                value.end()?;
                if about.made_at.nanoseconds > 999_999_999 {
                    return Err(Malformed("nanoseconds").into());
                }
            }
            NAME => about.name = value.rest().to_vec(),
            SQUEEZE => {
                about.squeeze = Some(value.u8()?);
                value.end()?;
            }
            MESSAGE => {
                let message = value.rest();
                let text = std::str::from_utf8(message).ok().filter(|text| text.len() <= MAX_MESSAGE_BYTES);
                about.message = text.ok_or(Malformed("message"))?.to_owned();
            }
            VOLUME_LIMIT => {
                about.volume_limit = Some(value.u64()?);
                value.end()?;
            }
            PARCEL => {
                let parcel = ParcelOf { delivery: value.array()?, number: value.u32()?, count: value.u32()? };
                value.end()?;
                if parcel.number == 0 || parcel.number > parcel.count || parcel.count > MAX_PARCELS {
                    return Err(Malformed("parcel").into());
                }
                about.parcel = Some(parcel);
            }
            FURTHER_NAMES => sharing = take_sharing(value)?,
            HOLES => {
                in_units = true;
                value.end()?;
            }
            BASE => about.base = Some(value.rest().to_vec()),
            unknown if unknown & MUST_BE_UNDERSTOOD != 0 => return Err(RootError::UnknownProperty(unknown)),
            _ => {}
        }
    }
    Ok((about, sharing, in_units))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::entry::{Content, Entry, EntryPath};
    use rstest::rstest;

    fn entry(path: &str, kind: EntryKind) -> IndexEntry {
        let link_target = if kind == EntryKind::Link { b"x".to_vec() } else { Vec::new() };
        let path = EntryPath::new(path).unwrap();
        let entry = Entry { id: 1, path, kind, mode: 0o644, modified: Timestamp::default(), link_target };
        let listed = ListedEntry { entry, content: Content::default() };
        IndexEntry { listed, place: Place { frame_at: 3, record_at: 9 } }
    }

    #[test]
    fn pages_and_roots_come_back() {
        let entries = [entry("a", EntryKind::Folder), entry("a/b", EntryKind::Link)];
        let mut builder = PageBuilder::default();
        entries.iter().for_each(|entry| builder.add(entry));
        let (page, page_ref) = builder.finish();
        assert_eq!(read_page(&page, &page_ref).unwrap(), entries);
        let made_at = Timestamp { seconds: 1_700_000_000, nanoseconds: 5 };
        let (message, volume_limit) = ("Mind the step.".into(), Some(70_000));
        let parcel = Some(ParcelOf { delivery: [7; 16], number: 2, count: 2 });
        let about =
            About { made_at, name: b"dossier".to_vec(), squeeze: Some(2), message, volume_limit, parcel, base: None };
        let sharing = vec![Sharing { id: 2, owner: 7 }, Sharing { id: 3, owner: 1 }];
        let root = Root { about, pages: vec![page_ref], sharing, in_units: true };
        assert_eq!(Root::decode(&root.encode().unwrap()).unwrap(), root);
    }

    /// The last byte that fits is used, and a page that is longer is refused.
    #[test]
    fn a_page_is_filled_to_its_last_byte() {
        let called = |bytes: usize| entry(&"a".repeat(bytes), EntryKind::File);
        let bytes_of = |path: usize| entry_bytes(&called(path).listed.entry) + ENTRY_EXTRA_BYTES;
        let page = |last: usize| {
            let mut builder = PageBuilder::default();
            assert!(builder.is_empty());
            (0..8).for_each(|_| builder.add(&called(30_000)));
            let is_full = builder.is_full_for(&called(last));
            builder.add(&called(last));
            assert!(!builder.is_empty());
            (is_full, builder.finish())
        };
        let last = MAX_PAGE_BYTES - 8 - 8 * bytes_of(30_000) - (bytes_of(1) - 1);
        let (is_full, (bytes, page_ref)) = page(last);
        assert_eq!((is_full, bytes.len(), read_page(&bytes, &page_ref).is_ok()), (false, MAX_PAGE_BYTES, true));
        let (is_full, (bytes, page_ref)) = page(last + 1);
        assert_eq!((is_full, read_page(&bytes, &page_ref).is_ok()), (true, false));
    }

    /// What the one entry of a page is, what is changed in the page, and in what the root says of it; and whether it is read.
    #[rstest]
    #[case::honest(EntryKind::File, 9, |_: &mut [u8]| {}, |_: &mut PageRef| {}, true)]
    #[case::a_folder_with_content(EntryKind::Folder, 9, |_: &mut [u8]| {}, |_: &mut PageRef| {}, false)]
    #[case::abandoned(EntryKind::File, 9, |page: &mut [u8]| page[8 + 32 + 1 + 16] |= 2, |_: &mut PageRef| {}, false)]
    #[case::more_entries(EntryKind::File, 9, |page: &mut [u8]| page[0] = 2, |_: &mut PageRef| {}, false)]
    #[case::endless_entries(EntryKind::File, 9, |page: &mut [u8]| page[..4].fill(255), |told: &mut PageRef| told.entries = u32::MAX, false)]
    #[case::another_path(EntryKind::File, 9, |_: &mut [u8]| {}, |told: &mut PageRef| told.first_path = b"b".to_vec(), false)]
    fn a_page_keeps_what_the_root_says(
        #[case] kind: EntryKind,
        #[case] size: u64,
        #[case] change: fn(&mut [u8]),
        #[case] say: fn(&mut PageRef),
        #[case] good: bool,
    ) {
        let mut builder = PageBuilder::default();
        let mut only = entry("a", kind);
        only.listed.content.size = size;
        builder.add(&only);
        let (mut page, mut page_ref) = builder.finish();
        change(&mut page);
        page_ref.digest = *blake3::hash(&page).as_bytes();
        say(&mut page_ref);
        assert_eq!(read_page(&page, &page_ref).is_ok(), good);
        page_ref.digest[0] ^= 1;
        assert!(read_page(&page, &page_ref).is_err());
    }

    /// How many pages a root has, how long their first paths are, and how many further names there are.
    #[rstest]
    #[case::most_pages(MAX_PAGES, 1, 1, true)]
    #[case::too_many_pages(MAX_PAGES + 1, 1, 1, false)]
    #[case::most_further_names(1, 1, MAX_FURTHER_NAMES, true)]
    #[case::too_many_further_names(1, 1, MAX_FURTHER_NAMES + 1, false)]
    #[case::longer_than_a_frame_may_be(300, 30_000, 1, false)]
    fn a_root_is_bounded(#[case] pages: usize, #[case] path: usize, #[case] further: usize, #[case] good: bool) {
        let first_path = vec![b'a'; path];
        let page = PageRef { frame_at: 0, frame_bytes: 0, entries: 1, digest: [0; 32], first_path };
        let sharing = (0..further as u64).map(|id| Sharing { id, owner: id }).collect();
        let root = Root { pages: vec![page; pages], sharing, ..Root::default() };
        let encoded = root.encode();
        assert_eq!(encoded.is_some(), good);
        assert!(encoded.is_none_or(|bytes| Root::decode(&bytes).unwrap() == root));
        let mut refs = Vec::new();
        put_page_refs(&root.pages, &mut refs).unwrap();
        assert_eq!(take_page_refs(pages as u32, &mut Cursor::new(&refs, "pages")).is_ok(), pages <= MAX_PAGES);
        assert_eq!(
            take_sharing(Cursor::new(&put_sharing(&root.sharing), "names")).is_ok(),
            further <= MAX_FURTHER_NAMES
        );
    }

    /// A property: its type and value, and whether the root is read with it behind the ones that it has.
    #[rstest]
    #[case::unknown_one(8, b"x", true)]
    #[case::unknown_one_that_must_be_understood(0x8007, b"x", false)]
    #[case::a_parcel(PARCEL, &[0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0], true)]
    #[case::a_parcel_without_a_number(PARCEL, &[0; 24], false)]
    #[case::a_parcel_beyond_the_last(PARCEL, &[0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 0, 0, 0, 1, 0, 0, 0], false)]
    #[case::too_many_parcels(PARCEL, &[0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 1, 0], false)]
    #[case::most_parcels(PARCEL, &[0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 255, 255, 0, 0], true)]
    #[case::a_short_parcel(PARCEL, &[0; 20], false)]
    #[case::a_further_name(FURTHER_NAMES, &[1; SHARING_BYTES], true)]
    #[case::one_further_name_twice(FURTHER_NAMES, &[1; 2 * SHARING_BYTES], false)]
    #[case::half_a_further_name(FURTHER_NAMES, &[1; SHARING_BYTES / 2], false)]
    #[case::no_further_name(FURTHER_NAMES, b"", false)]
    #[case::holes(HOLES, b"", true)]
    #[case::holes_with_something_in_them(HOLES, b"x", false)]
    #[case::a_second_name(NAME, b"lamp", false)]
    #[case::a_second_time(MADE_AT, &[0; 12], false)]
    fn properties_stand_once_and_are_known_or_passed_over(#[case] kind: u16, #[case] value: &[u8], #[case] good: bool) {
        let about = About { name: b"dossier".to_vec(), squeeze: Some(2), ..About::default() };
        let mut root = Root { about, ..Root::default() }.encode().unwrap();
        let property = [&kind.to_le_bytes()[..], &[0, 0], &(value.len() as u32).to_le_bytes(), value].concat();
        let length = u32::from_le_bytes(root[4..8].try_into().unwrap()) + property.len() as u32;
        root[4..8].copy_from_slice(&length.to_le_bytes());
        root.extend(property);
        assert_eq!(Root::decode(&root).is_ok(), good);
    }

    #[test]
    fn a_second_has_less_than_a_thousand_million_nanoseconds() {
        for (nanoseconds, good) in [(999_999_999, true), (1_000_000_000, false)] {
            let made_at = Timestamp { seconds: 0, nanoseconds };
            let root = Root { about: About { made_at, ..About::default() }, ..Root::default() };
            assert_eq!(Root::decode(&root.encode().unwrap()).is_ok(), good);
        }
    }

    #[rstest]
    #[case::rising(&[("a", EntryKind::Folder), ("a/b", EntryKind::File), ("a.b", EntryKind::File)], true)]
    #[case::twice(&[("a", EntryKind::File), ("a", EntryKind::File)], false)]
    #[case::falling(&[("b", EntryKind::File), ("a", EntryKind::File)], false)]
    #[case::below_a_file(&[("a", EntryKind::File), ("a/b", EntryKind::File)], false)]
    #[case::below_a_link(&[("a", EntryKind::Link), ("a/b", EntryKind::File)], false)]
    fn an_index_out_of_order_is_refused(#[case] paths: &[(&str, EntryKind)], #[case] good: bool) {
        let entries: Vec<_> = paths.iter().map(|(path, kind)| entry(path, *kind).listed).collect();
        assert_eq!(check_order(entries.iter()).is_ok(), good);
    }
}
