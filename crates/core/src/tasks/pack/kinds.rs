//! Kinds of files, by their extension: how much of each there is, and what squeezing leaves of it.

use crate::codecs::block::{Compressor, Squeeze};
use crate::codecs::error::CodecError;
use crate::codecs::lzma::{Filter, promising};
use crate::ground::entry::{EntryKind, EntryPath};
use crate::source::{Catalogue, SourceEntry};
use std::cmp::Reverse;
use std::collections::BTreeMap;

/// Files of each kind that are tried, and how much of each.
const TRIED_FILES: usize = 6;
const TRIED_BYTES: usize = 128 * 1024;

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
    /// What the slow squeezes gain by, from the same samples.
    pub filter: Filter,
}

/// The kinds of files, heaviest first, each with what squeezing leaves of it.
pub fn kinds(catalogue: &Catalogue) -> Result<Vec<KindWeight>, CodecError> {
    let mut weights: BTreeMap<String, Vec<&SourceEntry>> = BTreeMap::new();
    for entry in catalogue.entries.iter().filter(|entry| entry.kind == EntryKind::File) {
        weights.entry(extension(&entry.path)).or_default().push(entry);
    }
    let mut compressor = Compressor::new(Squeeze::Light)?;
    let mut kinds = Vec::new();
    for (extension, files) in weights {
        let (kept, filter) = tried(catalogue, &files, &mut compressor)?;
        let bytes = files.iter().map(|file| file.size).sum();
        kinds.push(KindWeight { extension, files: files.len() as u64, bytes, kept, filter });
    }
    kinds.sort_by_key(|kind| Reverse(kind.bytes));
    Ok(kinds)
}

/// The share that squeezing leaves of some of these files, and the filter that is found for them.
fn tried(
    catalogue: &Catalogue,
    files: &[&SourceEntry],
    compressor: &mut Compressor,
) -> Result<(f64, Filter), CodecError> {
    let step = files.len().div_ceil(TRIED_FILES).max(1);
    let (mut all, mut stored) = (Vec::new(), 0);
    for file in files.iter().step_by(step) {
        let mut bytes = Vec::new();
        if let Ok(mut source) = catalogue.open(&file.path) {
            let middle = file.size.saturating_sub(TRIED_BYTES as u64) / 2 / 16 * 16;
            // What cannot be read counts for nothing here, and is told elsewhere.
            let _ = source.skip(middle).and_then(|()| source.read(&mut bytes, TRIED_BYTES));
        }
        all.extend_from_slice(&bytes);
        all.truncate(all.len() & !3);
        stored += compressor.compress(bytes, Vec::new())?.0.stored.len();
    }
    let kept = if all.is_empty() { 1.0 } else { (stored as f64 / all.len() as f64).min(1.0) };
    Ok((kept, promising(&all)?.likely))
}

/// The extension of a path's name: behind its last dot, unless that begins the name; in small letters.
pub fn extension(path: &EntryPath) -> String {
    let name = String::from_utf8_lossy(path.parent_and_name().1).into_owned();
    match name.rsplit_once('.') {
        Some((stem, extension)) if !stem.is_empty() && !extension.contains(' ') => extension.to_lowercase(),
        _ => String::new(),
    }
}
