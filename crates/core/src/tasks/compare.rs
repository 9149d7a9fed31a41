//! Comparing an archive with folders on disk: what was added, removed or changed since it was packed. Content counts by
//! its digest, never by its date.

use crate::disk::{FileError, Interruption, mode_here, time_here};
use crate::formats::abilities::TimesKept;
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{EntryKind, EntryPath, ListedEntry};
use crate::ground::holes::ContentDigest;
use crate::landing::Places;
use crate::source::{Catalogue, SourceEntry};
use std::cmp::Ordering;

/// In what an entry differs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Differences {
    /// One is a file and the other a folder, or the like.
    pub kind: bool,
    /// Other content, or another link target.
    pub content: bool,
    /// Modified at another time.
    pub time: bool,
    /// Other permission bits.
    pub mode: bool,
}

impl Differences {
    /// Whether it differs in anything.
    pub fn any(self) -> bool {
        self != Self::default()
    }
}

/// One thing that is in both.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Compared {
    /// Its path in the archive.
    pub path: EntryPath,
    /// File, folder or link, on disk.
    pub kind: EntryKind,
    /// In what it differs.
    pub differences: Differences,
}

/// What a comparison found, all sorted by path.
#[derive(Debug, Default)]
pub struct Comparison {
    /// On disk, and not in the archive.
    pub added: Vec<EntryPath>,
    /// In the archive, and not on disk, as far as that could be read.
    pub removed: Vec<EntryPath>,
    /// In both.
    pub both: Vec<Compared>,
    /// On disk, and unreadable, so that nothing can be said.
    pub unreadable: Vec<(EntryPath, FileError)>,
    renaming: Renaming,
    places: Places,
}

impl Comparison {
    /// Whether the one thing at the top has another name on disk than in the archive.
    pub const fn is_renamed(&self) -> bool {
        self.renaming.0.is_some()
    }

    /// What something has as its path in the archive that is called so on disk.
    pub fn in_archive(&self, path: &EntryPath) -> EntryPath {
        self.places.path_in_archive(&self.renaming.in_archive(path))
    }

    /// What something is called on disk that has this path in the archive.
    pub fn on_disk(&self, path: &EntryPath) -> EntryPath {
        self.renaming.on_disk(&self.places.path_here(path))
    }

    fn with_paths_of_the_archive(mut self, places: Places) -> Self {
        if places.are_those_of_the_archive() {
            return Self { places, ..self };
        }
        let paths = self.added.iter_mut().chain(&mut self.removed);
        let both = self.both.iter_mut().map(|compared| &mut compared.path);
        let unreadable = self.unreadable.iter_mut().map(|(path, _)| path);
        paths.chain(both).chain(unreadable).for_each(|path| *path = places.path_in_archive(path));
        [&mut self.added, &mut self.removed].into_iter().for_each(|paths| paths.sort());
        self.both.sort_by(|one, other| one.path.cmp(&other.path));
        self.unreadable.sort_by(|(one, _), (other, _)| one.cmp(other));
        Self { places, ..self }
    }

    /// Whether archive and disk are the same in everything that could be read.
    pub fn is_same(&self) -> bool {
        self.added.is_empty()
            && self.removed.is_empty()
            && self.unreadable.is_empty()
            && self.both.iter().all(|compared| !compared.differences.any())
    }
}

/// Compares what an archive lists with what is on disk. Where both have one thing at their top, under different names,
/// those are taken for one: a folder may have been moved.
///
/// # Errors
/// [`Interruption`]; a file that cannot be read is no error but a finding.
pub fn compare(
    entries: &[ListedEntry],
    disk: &Catalogue,
    times: TimesKept,
    context: &Context<'_>,
) -> Result<Comparison, Interruption> {
    context.tell(Progress::Begin(Phase::Comparing, disk.total_bytes()));
    // What the system cannot call as the archive does is called otherwise here.
    let places = Places::here(entries);
    let entries = places.entries(entries);
    let mut found = Comparison { renaming: Renaming::between(entries, disk), ..Comparison::default() };
    let mut listed = entries.iter().peekable();
    for entry in &disk.entries {
        context.go_on()?;
        context.tell(Progress::Entry(&entry.path));
        let path = found.renaming.in_archive(&entry.path);
        while let Some(gone) = listed.next_if(|listed| listed.entry.path < path) {
            found.removed.push(gone.entry.path.clone());
        }
        match listed.next_if(|listed| listed.entry.path.cmp(&path) == Ordering::Equal) {
            None => found.added.push(path),
            Some(listed) => match differences(listed, entry, disk, times, context) {
                Ok(differences) => found.both.push(Compared { path, kind: entry.kind, differences }),
                Err(Interruption::File(error)) => found.unreadable.push((path, error)),
                Err(interruption) => return Err(interruption),
            },
        }
        context.tell(Progress::Advance(entry.size));
    }
    found.removed.extend(listed.map(|listed| listed.entry.path.clone()));
    // Of what lies in a folder that cannot be read nobody can say that it is not there.
    let renaming = &found.renaming;
    let is_unknown = |path: &EntryPath| disk.is_passed_over(&renaming.on_disk(path));
    found.removed.retain(|path| !is_unknown(path));
    context.tell(Progress::End);
    Ok(found.with_paths_of_the_archive(places))
}

fn differences(
    listed: &ListedEntry,
    there: &SourceEntry,
    disk: &Catalogue,
    times: TimesKept,
    context: &Context<'_>,
) -> Result<Differences, Interruption> {
    let entry = &listed.entry;
    let differences = Differences {
        kind: entry.kind != there.kind,
        content: false,
        time: times.differ(time_here(entry.modified), there.modified),
        // A link's own mode means nothing.
        mode: mode_here(entry.mode, there.kind) != there.mode
            && there.kind != EntryKind::Link
            && times != TimesKept::Neither,
    };
    let content = match there.kind {
        _ if differences.kind => false,
        EntryKind::Folder => false,
        EntryKind::Link => entry.link_target != there.link_target,
        EntryKind::File if listed.content.size != there.size => true,
        EntryKind::File => digest(there, listed.content.in_units, disk, context)? != Some(listed.content.digest),
    };
    Ok(Differences { content, ..differences })
}

/// The digest of a file, by its units or not; `None` where it changed while it was read.
fn digest(
    entry: &SourceEntry,
    in_units: bool,
    disk: &Catalogue,
    context: &Context<'_>,
) -> Result<Option<[u8; 32]>, Interruption> {
    let mut file = disk.open(entry)?;
    let mut digest = ContentDigest::new(in_units);
    let read = file.digest_on(&mut digest, context)?;
    Ok(file.is_unchanged(read)?.then(|| digest.finish()))
}

/// The one thing at the top, where it has another name on disk than in the archive.
#[derive(Debug, Default)]
struct Renaming(Option<(Vec<u8>, Vec<u8>)>);

impl Renaming {
    fn between(entries: &[ListedEntry], disk: &Catalogue) -> Self {
        let there = only_top(disk.entries.iter().map(|entry| &entry.path));
        let inside = only_top(entries.iter().map(|listed| &listed.entry.path));
        Self(there.zip(inside).filter(|(there, inside)| there != inside))
    }

    fn in_archive(&self, path: &EntryPath) -> EntryPath {
        self.0.as_ref().map_or_else(|| path.clone(), |(there, inside)| instead(path, there, inside))
    }

    fn on_disk(&self, path: &EntryPath) -> EntryPath {
        self.0.as_ref().map_or_else(|| path.clone(), |(there, inside)| instead(path, inside, there))
    }
}

/// A path with another name at its top.
fn instead(path: &EntryPath, top: &[u8], new: &[u8]) -> EntryPath {
    let below = path.as_bytes().get(top.len()..).unwrap_or_default();
    EntryPath::new([new, below].concat()).unwrap_or_else(|_| path.clone())
}

fn only_top<'a>(paths: impl Iterator<Item = &'a EntryPath>) -> Option<Vec<u8>> {
    let mut tops = paths.filter_map(|path| path.components().next());
    let first = tops.next()?;
    tops.all(|top| top == first).then(|| first.to_vec())
}
