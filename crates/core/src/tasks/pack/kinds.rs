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
    /// What the slow squeezes gain by, from the same samples; none where they are not asked for.
    pub filter: Filter,
}

/// The kinds of files, heaviest first, each with what squeezing leaves of it; with filters if these squeezes use them.
pub fn kinds(catalogue: &Catalogue, squeezes: &[Squeeze]) -> Result<Vec<KindWeight>, CodecError> {
    let mut weights: BTreeMap<String, Vec<&SourceEntry>> = BTreeMap::new();
    for entry in catalogue.entries.iter().filter(|entry| entry.kind == EntryKind::File) {
        weights.entry(extension(&entry.path)).or_default().push(entry);
    }
    let uses_filters = squeezes.iter().any(|squeeze| squeeze.is_slow());
    let mut compressor = Compressor::new(Squeeze::Light)?;
    let mut kinds = Vec::new();
    for (extension, files) in weights {
        let sample = sample(catalogue, &files);
        let filter = if uses_filters { promising(&sample.concat())?.likely } else { Filter::None };
        let kept = kept(sample, &mut compressor)?;
        let bytes = files.iter().map(|file| file.own_bytes()).sum();
        kinds.push(KindWeight { extension, files: files.len() as u64, bytes, kept, filter });
    }
    kinds.sort_by_key(|kind| Reverse(kind.bytes));
    Ok(kinds)
}

/// Pieces from the middles of some of these files, each a multiple of four bytes long.
fn sample(catalogue: &Catalogue, files: &[&SourceEntry]) -> Vec<Vec<u8>> {
    let step = files.len().div_ceil(TRIED_FILES).max(1);
    let piece = |file: &&SourceEntry| {
        let mut bytes = Vec::new();
        let mut source = catalogue.open(file).ok()?;
        let middle = file.stored_bytes().saturating_sub(TRIED_BYTES as u64) / 2 / 16 * 16;
        source.read_stored(middle, &mut bytes, TRIED_BYTES).ok()?;
        bytes.truncate(bytes.len() & !3);
        Some(bytes)
    };
    // What cannot be read counts for nothing here, and is told elsewhere.
    files.iter().step_by(step).filter_map(piece).collect()
}

/// The share that squeezing leaves of a sample.
fn kept(sample: Vec<Vec<u8>>, compressor: &mut Compressor) -> Result<f64, CodecError> {
    let bytes: usize = sample.iter().map(Vec::len).sum();
    let mut stored = 0;
    for piece in sample {
        stored += compressor.compress(piece, Vec::new())?.0.stored.len();
    }
    Ok(if bytes == 0 { 1.0 } else { (stored as f64 / bytes as f64).min(1.0) })
}

/// The extension of a path's name: behind its last dot, unless that begins the name; in small letters. Numbers at the end,
/// as of versions and parts, are passed over where an extension stands before them.
pub fn extension(path: &EntryPath) -> String {
    let name = String::from_utf8_lossy(path.parent_and_name().1);
    let ends: Vec<&str> = name.trim_start_matches('.').split('.').skip(1).collect();
    let is_number = |end: &str| end.bytes().all(|letter| letter.is_ascii_digit());
    let end = ends.iter().rev().find(|end| !is_number(end)).or(ends.last()).copied().unwrap_or_default();
    if end.contains(' ') { String::new() } else { end.to_lowercase() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("Survey/chart.TIF", "tif")]
    #[case::version("libwick.so.1.2", "so")]
    #[case::part("scan 2024.tif.001", "tif")]
    #[case::number_alone("levels.2024", "2024")]
    #[case::letter_and_number("bell.mp3", "mp3")]
    #[case::hidden(".notes", "")]
    #[case::hidden_with_one(".notes.txt", "txt")]
    #[case::end_of_a_sentence("Mr. Vane was here", "")]
    #[case::none("README", "")]
    fn a_kind_is_told_by_the_name(#[case] path: &str, #[case] kind: &str) {
        let path = EntryPath::new(path.as_bytes().to_vec()).unwrap();
        assert_eq!(extension(&path), kind);
    }
}
