//! What weighs most: folders, and what each top-level path holds.

use crate::ground::entry::{EntryKind, EntryPath, Totals};
use crate::source::{Catalogue, SourceEntry};
use std::cmp::Reverse;
use std::collections::BTreeMap;

/// A top-level path as the recipient will see it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TopLevel {
    /// Its name.
    pub path: EntryPath,
    /// What it is.
    pub kind: EntryKind,
    /// What it holds, itself included.
    pub totals: Totals,
}

/// A folder, and what lies directly in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FolderWeight {
    /// The folder; `None` for what stands at the top by itself.
    pub path: Option<EntryPath>,
    /// Files directly in it.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// The top-level paths in order.
pub(super) fn top_level(catalogue: &Catalogue) -> Vec<TopLevel> {
    let mut found: Vec<TopLevel> = Vec::new();
    for entry in &catalogue.entries {
        let is_new = found.last().is_none_or(|top| !entry.path.is_below(&top.path));
        if is_new {
            found.push(TopLevel { path: entry.path.clone(), kind: entry.kind, totals: Totals::default() });
        }
        if let Some(top) = found.last_mut() {
            top.totals.add(entry.kind, entry.own_bytes());
        }
    }
    found
}

/// The folders, heaviest first by what lies directly in them.
pub(super) fn folders(catalogue: &Catalogue) -> Vec<FolderWeight> {
    let mut weights: BTreeMap<Option<EntryPath>, (u64, u64)> = BTreeMap::new();
    for entry in files(catalogue) {
        let weight = weights.entry(entry.path.parent()).or_default();
        *weight = (weight.0 + 1, weight.1 + entry.own_bytes());
    }
    let folder = |(path, (files, bytes))| FolderWeight { path, files, bytes };
    let mut folders: Vec<FolderWeight> = weights.into_iter().map(folder).collect();
    folders.sort_by_key(|folder| Reverse(folder.bytes));
    folders
}

fn files(catalogue: &Catalogue) -> impl Iterator<Item = &SourceEntry> {
    catalogue.entries.iter().filter(|entry| entry.kind == EntryKind::File)
}
