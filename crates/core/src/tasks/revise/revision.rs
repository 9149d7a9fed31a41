//! What changes when an archive becomes what an edit plans: for people, and for those who write it.

use super::edit::{Edit, Planned};
use crate::formats::sealed::{Fate, Fates};
use crate::ground::entry::{EntryPath, ListedEntry, Totals};
use crate::source::{Origin, SourceEntry};
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

/// What becomes of an archive's entries, all sorted by path.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Changes {
    /// How many entries stay as they are, but for their paths.
    pub kept: u64,
    /// What was not there.
    pub added: Vec<EntryPath>,
    /// What has another content, or is of another kind.
    pub changed: Vec<EntryPath>,
    /// What has another time or mode, and nothing else.
    pub only_around: Vec<EntryPath>,
    /// What is not there any more.
    pub removed: Vec<EntryPath>,
    /// What has another path: the old and the new one. What lies in a renamed folder is not among them. In the order of the wishes.
    pub renamed: Vec<(EntryPath, EntryPath)>,
}

impl Changes {
    /// Whether nothing changes.
    pub fn is_nothing(&self) -> bool {
        *self == Self { kept: self.kept, ..Self::default() }
    }
}

/// An archive as it is to be.
#[derive(Debug)]
pub struct Revision {
    /// What changes.
    pub changes: Changes,
    /// What it will hold in all, as far as files on disk stay as they were listed.
    pub totals: Totals,
    /// All of it, sorted by path.
    planned: Vec<Planned>,
    /// Which entries of the old list are still in it.
    stays: Vec<bool>,
}

impl Revision {
    /// What an edit came to.
    pub fn of(edit: Edit<'_>) -> Self {
        let listed = edit.listed;
        let mut changes = Changes::default();
        let mut totals = Totals::default();
        let mut stays = vec![false; listed.len()];
        let mut counted = HashSet::new();
        for planned in edit.planned.values() {
            match planned {
                Planned::Old { place, entry } => {
                    stays[*place] = true;
                    let content = &listed[*place].content;
                    // What several names share counts with the first that stays.
                    let is_first = counted.insert(content.shared_with.unwrap_or(listed[*place].entry.id));
                    totals.add(entry.kind, if is_first { content.size } else { 0 });
                    let old = &listed[*place].entry;
                    if (old.mode, old.modified) == (entry.mode, entry.modified) {
                        changes.kept += 1;
                    } else {
                        changes.only_around.push(entry.path.clone());
                    }
                }
                Planned::Fresh(entry) => totals.add(entry.kind, entry.own_bytes()),
            }
        }
        let place_of = |path: &EntryPath| listed.binary_search_by(|old| old.entry.path.cmp(path)).ok();
        for entry in edit.planned.values().filter_map(fresh) {
            match place_of(&entry.path) {
                Some(place) if !stays[place] => changes.changed.push(entry.path.clone()),
                _ => changes.added.push(entry.path.clone()),
            }
        }
        let gone = listed.iter().zip(&stays).filter(|(_, stays)| !**stays).map(|(listed, _)| &listed.entry.path);
        changes.removed = gone.filter(|path| changes.changed.binary_search(path).is_err()).cloned().collect();
        changes.renamed = edit.renamed;
        let planned = edit.planned.into_values().collect();
        Self { changes, totals, planned, stays }
    }

    /// Everything that it will hold, where each content comes from disk or from the old archive.
    pub fn all(&self, listed: &[ListedEntry]) -> Vec<SourceEntry> {
        let one = |planned: &Planned| match planned {
            Planned::Fresh(entry) => entry.clone(),
            Planned::Old { place, entry } => {
                let content = listed[*place].content;
                SourceEntry::of_archive(*place, &ListedEntry { entry: entry.clone(), content })
            }
        };
        self.planned.iter().map(one).collect()
    }

    /// What is not carried over: whatever comes from disk, and folders that must come first.
    pub fn fresh(&self) -> Vec<SourceEntry> {
        let first = self.folders_first();
        let one = |planned: &Planned| match planned {
            Planned::Fresh(entry) => Some(entry.clone()),
            Planned::Old { entry, .. } if first.contains(&entry.path) => Some(SourceEntry::folder(entry)),
            Planned::Old { .. } => None,
        };
        self.planned.iter().filter_map(one).collect()
    }

    /// The files on disk that take the place of something in the archive.
    pub fn needed(&self) -> HashSet<PathBuf> {
        let replacing = self.planned.iter().filter_map(fresh);
        let replacing = replacing.filter(|entry| self.changes.changed.binary_search(&entry.path).is_ok());
        let on_disk = |entry: &SourceEntry| match &entry.origin {
            Origin::Disk(path) => Some(path.as_ref().clone()),
            Origin::Walk | Origin::Archive(_) | Origin::Stream => None,
        };
        replacing.filter_map(on_disk).collect()
    }

    /// Folders that must come before all that is carried over, since something moves into them: each folder comes before what is
    /// in it.
    pub fn folders_first(&self) -> HashSet<EntryPath> {
        let mut first = HashSet::new();
        for (from, to) in &self.changes.renamed {
            if !to.folders_above().all(|folder| from.is_below(&folder)) {
                first.extend(to.folders_above());
            }
        }
        first
    }

    /// What of the old entries does not stay as it is, and the ids of those not carried over that take the place of one.
    pub fn fates(&self, listed: &[ListedEntry]) -> (Fates, HashMap<EntryPath, u64>) {
        let (mut fates, mut ids) = (Fates::new(), HashMap::new());
        let first = self.folders_first();
        for planned in &self.planned {
            match planned {
                Planned::Old { entry, .. } if first.contains(&entry.path) => {
                    fates.insert(entry.id, Fate::Gone);
                    ids.insert(entry.path.clone(), entry.id);
                }
                Planned::Old { place, entry } if *entry != listed[*place].entry => {
                    fates.insert(entry.id, Fate::Becomes(entry.clone()));
                }
                _ => {}
            }
        }
        for (old, _) in listed.iter().zip(&self.stays).filter(|(_, stays)| !**stays) {
            fates.insert(old.entry.id, Fate::Gone);
            if self.changes.changed.binary_search(&old.entry.path).is_ok() {
                ids.insert(old.entry.path.clone(), old.entry.id);
            }
        }
        (fates, ids)
    }
}

fn fresh(planned: &Planned) -> Option<&SourceEntry> {
    match planned {
        Planned::Fresh(entry) => Some(entry),
        Planned::Old { .. } => None,
    }
}
