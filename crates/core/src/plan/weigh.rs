//! What weighs most: folders, kinds of files, and what each top-level path holds.

use super::PlanError;
use crate::codec::{Compressor, Squeeze};
use crate::context::Context;
use crate::entry::{EntryKind, EntryPath};
use crate::place::Links;
use crate::sealed::Totals;
use crate::source::{Catalogue, SourceEntry, SourceFile};
use std::cmp::Reverse;
use std::collections::BTreeMap;

/// Files of each kind that are tried, and how much of each.
const TRIED_FILES: usize = 6;
const TRIED_BYTES: usize = 128 * 1024;

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

/// A kind of files: those with the same extension.
#[derive(Debug, Clone, PartialEq)]
pub struct KindWeight {
    /// The extension in small letters, without its dot; empty where there is none.
    pub extension: String,
    /// How many.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// The share of them that a light squeeze leaves, from samples: near 1 where squeezing does not pay.
    pub kept: f64,
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
            top.totals.add(entry.kind, entry.size);
        }
    }
    found
}

/// The folders, heaviest first by what lies directly in them.
pub(super) fn folders(catalogue: &Catalogue) -> Vec<FolderWeight> {
    let mut weights: BTreeMap<Option<EntryPath>, (u64, u64)> = BTreeMap::new();
    for entry in files(catalogue) {
        let weight = weights.entry(entry.path.parent()).or_default();
        *weight = (weight.0 + 1, weight.1 + entry.size);
    }
    let folder = |(path, (files, bytes))| FolderWeight { path, files, bytes };
    let mut folders: Vec<FolderWeight> = weights.into_iter().map(folder).collect();
    folders.sort_by_key(|folder| Reverse(folder.bytes));
    folders
}

/// The kinds of files, heaviest first, each with what squeezing leaves of it.
pub(super) fn kinds(catalogue: &Catalogue, context: &Context<'_>) -> Result<Vec<KindWeight>, PlanError> {
    let mut weights: BTreeMap<String, Vec<&SourceEntry>> = BTreeMap::new();
    for entry in files(catalogue) {
        weights.entry(extension(&entry.path)).or_default().push(entry);
    }
    let mut compressor = Compressor::new(Squeeze::Light)?;
    let mut kinds = Vec::new();
    for (extension, files) in weights {
        context.go_on()?;
        let kept = kept(catalogue, &files, &mut compressor)?;
        let bytes = files.iter().map(|file| file.size).sum();
        kinds.push(KindWeight { extension, files: files.len() as u64, bytes, kept });
    }
    kinds.sort_by_key(|kind| Reverse(kind.bytes));
    Ok(kinds)
}

/// The share that squeezing leaves of some of these files.
fn kept(catalogue: &Catalogue, files: &[&SourceEntry], compressor: &mut Compressor) -> Result<f64, PlanError> {
    let links = if catalogue.follows { Links::Follow } else { Links::Refuse };
    let step = files.len().div_ceil(TRIED_FILES).max(1);
    let (mut raw, mut stored) = (0, 0);
    for file in files.iter().step_by(step) {
        let mut bytes = Vec::new();
        if let Ok(mut source) = SourceFile::open(&catalogue.disk_path(&file.path), links) {
            let middle = file.size.saturating_sub(TRIED_BYTES as u64) / 2;
            // What cannot be read counts for nothing here, and is told elsewhere.
            let _ = source.skip(middle).and_then(|()| source.read(&mut bytes, TRIED_BYTES));
        }
        raw += bytes.len();
        stored += compressor.compress(bytes, Vec::new())?.0.stored.len();
    }
    Ok(if raw == 0 { 1.0 } else { stored as f64 / raw as f64 })
}

fn files(catalogue: &Catalogue) -> impl Iterator<Item = &SourceEntry> {
    catalogue.entries.iter().filter(|entry| entry.kind == EntryKind::File)
}

/// The extension of a path's name: behind its last dot, unless that begins the name; in small letters.
pub fn extension(path: &EntryPath) -> String {
    let name = String::from_utf8_lossy(path.parent_and_name().1).into_owned();
    match name.rsplit_once('.') {
        Some((stem, extension)) if !stem.is_empty() && !extension.contains(' ') => extension.to_lowercase(),
        _ => String::new(),
    }
}
