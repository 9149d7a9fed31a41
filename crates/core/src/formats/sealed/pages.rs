//! Gathering the index while the contents are written: entries fill pages, and full pages are compressed at once.
//!
//! Compressed pages are kept in memory up to a limit and spill to a scratch file beyond it, sealed under a key that is
//! thrown away with it: an index names everything, and a disk may keep what was deleted.

use super::cells::{NotAuthentic, TAG_BYTES};
use super::error::SealError;
use super::index::{IndexEntry, PageBuilder, PageRef};
use crate::codecs::block::{Block, Compressor, Squeeze};
use crate::disk::{FileError, ScratchFile};
use crate::ground::context::Context;
use crate::ground::entry::EntryPath;
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use zeroize::Zeroizing;

/// Bytes of compressed pages that are kept in memory.
const KEPT_BYTES: usize = 16 * 1024 * 1024;

/// Makes the scratch file, if one is needed.
pub type MakeScratch<'a> = dyn Fn() -> Result<ScratchFile, FileError> + Sync + 'a;

/// The pages of an index that is being written.
pub struct PageStore<'a> {
    context: Context<'a>,
    make_scratch: &'a MakeScratch<'a>,
    compressor: Compressor,
    page: PageBuilder,
    last_path: Option<EntryPath>,
    pages: Vec<StoredPage>,
    room: usize,
    spill: Option<Spill>,
}

struct StoredPage {
    page_ref: PageRef,
    /// The compressed page; where it was spilled, without its bytes.
    block: Block,
    spilled_bytes: Option<usize>,
}

impl<'a> PageStore<'a> {
    /// An empty store.
    ///
    /// # Errors
    /// [`SealError`] where there is no memory for a compressor.
    pub fn new(make_scratch: &'a MakeScratch<'a>, context: Context<'a>) -> Result<Self, SealError> {
        Ok(Self {
            context,
            make_scratch,
            // The index is small and read often, so it is compressed whatever the contents are.
            compressor: Compressor::new(Squeeze::default())?,
            page: PageBuilder::default(),
            last_path: None,
            pages: Vec::new(),
            room: KEPT_BYTES,
            spill: None,
        })
    }

    /// Adds an entry, whose path must come after those before it.
    pub fn add(&mut self, entry: &IndexEntry) -> Result<(), SealError> {
        let path = &entry.listed.entry.path;
        if self.last_path.as_ref().is_some_and(|last| last >= path) {
            return Err(SealError::OutOfOrder);
        }
        self.last_path = Some(path.clone());
        if self.page.is_full_for(entry) {
            self.close_page()?;
        }
        self.page.add(entry);
        Ok(())
    }

    fn close_page(&mut self) -> Result<(), SealError> {
        let (bytes, page_ref) = std::mem::take(&mut self.page).finish();
        let (mut block, _) = self.compressor.compress(bytes, Vec::new())?;
        block.stored.shrink_to_fit();
        let mut spilled_bytes = None;
        if let Some(room) = self.room.checked_sub(block.stored.len()) {
            self.room = room;
        } else {
            self.room = 0;
            let spill = match &mut self.spill {
                Some(spill) => spill,
                none => none.insert(Spill::new((self.make_scratch)()?, &self.context)?),
            };
            spilled_bytes = Some(block.stored.len());
            spill.put(std::mem::take(&mut block.stored))?;
        }
        self.pages.push(StoredPage { page_ref, block, spilled_bytes });
        Ok(())
    }

    /// Gives up all pages in order: each with its reference, to which `write` adds the place. The references.
    ///
    /// # Errors
    /// [`SealError`], `write`'s included.
    pub fn finish(
        mut self,
        mut write: impl FnMut(&mut PageRef, &Block) -> Result<(), SealError>,
    ) -> Result<Vec<PageRef>, SealError> {
        if !self.page.is_empty() {
            self.close_page()?;
        }
        if let Some(spill) = &mut self.spill {
            spill.rewind();
        }
        let mut references = Vec::with_capacity(self.pages.len());
        for StoredPage { mut page_ref, mut block, spilled_bytes } in self.pages {
            if let (Some(bytes), Some(spill)) = (spilled_bytes, &mut self.spill) {
                block.stored = spill.take(bytes)?;
            }
            write(&mut page_ref, &block)?;
            references.push(page_ref);
        }
        Ok(references)
    }
}

/// Pages in a scratch file, written and then read in order.
struct Spill {
    file: ScratchFile,
    key: LessSafeKey,
    position: u64,
    count: u64,
}

impl Spill {
    fn new(file: ScratchFile, context: &Context<'_>) -> Result<Self, SealError> {
        let key: Zeroizing<[u8; 32]> = Zeroizing::new(context.random()?);
        let key = UnboundKey::new(&AES_256_GCM, key.as_slice()).map_err(|_| NotAuthentic)?;
        Ok(Self { file, key: LessSafeKey::new(key), position: 0, count: 0 })
    }

    /// Each page has its own nonce, its number; the key is used for this file only.
    fn next_nonce(&mut self) -> Nonce {
        let mut bytes = [0; 12];
        bytes[4..].copy_from_slice(&self.count.to_be_bytes());
        self.count += 1;
        Nonce::assume_unique_for_key(bytes)
    }

    fn put(&mut self, mut page: Vec<u8>) -> Result<(), SealError> {
        let nonce = self.next_nonce();
        self.key.seal_in_place_append_tag(nonce, Aad::empty(), &mut page).map_err(|_| NotAuthentic)?;
        self.file.write_at(self.position, &page)?;
        self.position += page.len() as u64;
        Ok(())
    }

    fn rewind(&mut self) {
        (self.position, self.count) = (0, 0);
    }

    fn take(&mut self, bytes: usize) -> Result<Vec<u8>, SealError> {
        let mut page = vec![0; bytes + TAG_BYTES];
        self.file.read_at(self.position, &mut page)?;
        self.position += page.len() as u64;
        let nonce = self.next_nonce();
        self.key.open_in_place(nonce, Aad::empty(), &mut page).map_err(|_| NotAuthentic)?;
        page.truncate(bytes);
        Ok(page)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::disk::Folder;
    use crate::formats::sealed::index::{Place, read_page};
    use crate::ground::context::for_tests::in_context;
    use crate::ground::entry::{Content, Entry, EntryKind, ListedEntry, Timestamp};
    use rstest::rstest;

    fn entry(number: u64) -> IndexEntry {
        let path = EntryPath::new(format!("survey/{number:08}")).unwrap();
        let modified = Timestamp::default();
        let entry = Entry { id: number, path, kind: EntryKind::Folder, mode: 0o755, modified, link_target: Vec::new() };
        let listed = ListedEntry { entry, content: Content::default() };
        IndexEntry { listed, place: Place { frame_at: number, record_at: 0 } }
    }

    fn with_store<T>(scratch: &MakeScratch<'_>, work: impl FnOnce(PageStore<'_>) -> T) -> T {
        in_context(|context| work(PageStore::new(scratch, *context).unwrap()))
    }

    /// Room in memory for no page, for one, and for all of three: the same pages come back, in order.
    #[rstest]
    fn pages_that_spill_come_back_in_order(#[values(0, 12_000, usize::MAX)] room: usize) {
        let place = tempfile::tempdir().unwrap();
        let folder = Folder::open(place.path()).unwrap();
        let entries: Vec<IndexEntry> = (0..6_000).map(entry).collect();
        let mut read = Vec::new();
        with_store(&|| folder.create_scratch("scratch".as_ref()), |mut store| {
            store.room = room;
            entries.iter().for_each(|entry| store.add(entry).unwrap());
            assert_eq!(store.spill.is_some(), room != usize::MAX);
            let references = store.finish(|page_ref, block| {
                let mut raw = Vec::new();
                let mut decompressor = crate::codecs::block::Decompressor::new().unwrap();
                decompressor.decompress(block.codec, &block.stored, block.raw_bytes, &mut raw).unwrap();
                read.extend(read_page(&raw, page_ref).unwrap());
                Ok(())
            });
            assert!(references.unwrap().len() > 2);
        });
        assert_eq!(read, entries);
        assert_eq!(std::fs::read_dir(place.path()).unwrap().count(), 0);
    }

    #[rstest]
    #[case(5, 5)]
    #[case(5, 4)]
    fn entries_out_of_order_are_refused(#[case] first: u64, #[case] second: u64) {
        let no_scratch = || unreachable!("two entries need none");
        with_store(&no_scratch, |mut store| {
            store.add(&entry(first)).unwrap();
            assert!(matches!(store.add(&entry(second)), Err(SealError::OutOfOrder)));
        });
    }
}
