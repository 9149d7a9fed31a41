//! What has changed since another archive was made: what goes into an archive of changes, and the list of all that is in the other.

use crate::codecs::block::{Compressor, Squeeze};
use crate::codecs::error::CodecError;
use crate::disk::Interruption;
use crate::formats::abilities::TimesKept;
use crate::formats::error::ArchiveError;
use crate::formats::reader::ArchiveReader;
use crate::formats::sealed::frame::FRAME_HEADER_BYTES;
use crate::formats::sealed::index::PageBuilder;
use crate::formats::sealed::{Base, BaseEntry, BaseName, Becomes, SealedReader};
use crate::ground::context::Context;
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry};
use crate::source::{Catalogue, Origin, PassedOver, SourceEntry};
use crate::tasks::compare::{Comparison, Differences, compare};
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

/// Everything that is there once an archive was opened, and those before it upon which it builds.
#[derive(Debug)]
pub struct State {
    /// Which archive it is.
    pub name: BaseName,
    /// The entries, sorted by path.
    entries: Vec<ListedEntry>,
    /// Whether the archive holds each of them itself.
    held: Vec<bool>,
}

impl State {
    /// The state that an archive leads to.
    ///
    /// # Errors
    /// [`ArchiveError`] where its list cannot be read again.
    pub fn of(archive: &SealedReader) -> Result<Self, ArchiveError> {
        let about = archive.about();
        let name = BaseName {
            set: archive.set().ids.set,
            index_digest: archive.index_digest(),
            made_at: about.made_at,
            name: about.name.clone(),
        };
        let (entries, held) = state_of(archive)?;
        Ok(Self { name, entries, held })
    }

    /// The entries, sorted by path.
    pub fn entries(&self) -> &[ListedEntry] {
        &self.entries
    }
}

/// Everything that is there once an archive was opened, and those before it upon which it builds, sorted by path; and whether it holds
/// each of that itself.
///
/// # Errors
/// [`ArchiveError`] where its list cannot be read again.
pub fn state_of(archive: &dyn ArchiveReader) -> Result<(Vec<ListedEntry>, Vec<bool>), ArchiveError> {
    // That names share a content is said of one archive, and this is no longer one.
    let alone = |listed: &ListedEntry| {
        let content = Content { shared_with: None, ..listed.content };
        ListedEntry { entry: listed.entry.clone(), content }
    };
    let all = archive.listing().iter().map(|listed| Ok((alone(&*listed?), true)));
    let mut all = all.collect::<Result<Vec<(ListedEntry, bool)>, ArchiveError>>()?;
    if let Some(base) = archive.base()? {
        let stays = base.entries.iter().filter(|entry| entry.becomes == Becomes::Stays);
        all.extend(stays.map(|entry| (entry.listed.clone(), false)));
        all.sort_by(|(one, _), (other, _)| one.entry.path.cmp(&other.entry.path));
    }
    Ok(all.into_iter().unzip())
}

/// What has changed, and what the writer says of the base.
#[derive(Debug)]
pub struct Changes {
    /// What it builds upon.
    pub base: Base,
    /// What is in the archive and was not in the base.
    pub added: Vec<EntryPath>,
    /// What has another content, another mode, or is of another kind.
    pub changed: Vec<EntryPath>,
    /// What is not there any more.
    pub removed: Vec<EntryPath>,
    /// How many entries stay as they are.
    pub kept: u64,
    /// The ids that changed entries have in the base.
    pub(super) ids: HashMap<EntryPath, u64>,
    /// The highest id there.
    pub(super) last_id: u64,
    /// Files on disk without which nothing is packed, since they take the place of something.
    pub(super) needed: HashSet<PathBuf>,
}

impl Changes {
    /// Whether nothing has changed.
    pub fn is_nothing(&self) -> bool {
        self.added.is_empty() && self.changed.is_empty() && self.removed.is_empty()
    }

    /// What the list of everything in the base takes, in bytes.
    ///
    /// # Errors
    /// [`CodecError`] for want of memory.
    pub fn list_bytes(&self) -> Result<u64, CodecError> {
        let mut compressor = Compressor::new(Squeeze::default())?;
        let (mut bytes, mut page) = (0, PageBuilder::default());
        let mut close = |page: PageBuilder| -> Result<u64, CodecError> {
            let (block, _) = compressor.compress(page.finish().0, Vec::new())?;
            Ok((block.stored.len() + FRAME_HEADER_BYTES) as u64)
        };
        for entry in self.base.entries.iter().map(BaseEntry::to_index_entry) {
            if page.is_full_for(&entry) {
                bytes += close(std::mem::take(&mut page))?;
            }
            page.add(&entry);
        }
        Ok(bytes + if page.is_empty() { 0 } else { close(page)? })
    }

    /// Finds what has changed on disk since a state; of the catalogue stays what has.
    ///
    /// # Errors
    /// [`Interruption`]; a file that cannot be read counts as it was, and is told as passed over.
    pub fn since(state: State, disk: Catalogue, context: &Context<'_>) -> Result<(Self, Catalogue), Interruption> {
        let found = compare(&state.entries, &disk, TimesKept::Nanoseconds, context)?;
        let changed = changed_paths(&found);
        let (mut entries, mut needed) = (Vec::new(), HashSet::new());
        for entry in &disk.entries {
            let path = found.in_archive(&entry.path);
            let is_changed = changed.binary_search(&path).is_ok();
            if is_changed || found.added.binary_search(&path).is_ok() {
                let there = disk.disk_path(entry);
                if is_changed && entry.kind == EntryKind::File {
                    needed.insert(there.clone());
                }
                entries.push(SourceEntry { path, origin: Origin::Disk(Box::new(there)), ..entry.clone() });
            }
        }
        let last_id = state.entries.iter().map(|listed| listed.entry.id).max().unwrap_or(0);
        let (mut ids, mut kept, mut listed) = (HashMap::new(), 0, Vec::with_capacity(state.entries.len()));
        for (entry, held) in state.entries.into_iter().zip(state.held) {
            let Entry { path, id, .. } = &entry.entry;
            let becomes = if changed.binary_search(path).is_ok() {
                ids.insert(path.clone(), *id);
                Becomes::Replaced
            } else if found.removed.binary_search(path).is_ok() {
                Becomes::Removed
            } else {
                kept += 1;
                Becomes::Stays
            };
            listed.push(BaseEntry { listed: entry, becomes, held });
        }
        let unreadable = found
            .unreadable
            .into_iter()
            .map(|(_, error)| PassedOver { disk_path: error.path.clone(), reason: error.into() });
        let mut catalogue = Catalogue::assembled(entries, vec![disk]);
        catalogue.passed_over.extend(unreadable);
        let base = Base { name: state.name, entries: listed };
        let (added, removed) = (found.added, found.removed);
        let changes = Self { base, added, changed, removed, kept, ids, last_id, needed };
        Ok((changes, catalogue))
    }
}

/// What has another content or mode, or is of another kind; sorted. Another time alone is none.
fn changed_paths(found: &Comparison) -> Vec<EntryPath> {
    let counts = |differences: Differences| differences.kind || differences.content || differences.mode;
    let changed = found.both.iter().filter(|compared| counts(compared.differences));
    changed.map(|compared| compared.path.clone()).collect()
}
