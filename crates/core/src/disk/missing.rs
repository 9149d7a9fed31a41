//! What to say of a path that is not there: where it was sought, and what stands beside it and looks alike.

use super::absolute;
use std::ffi::OsString;
use std::fs;
use std::path::{Path, PathBuf};

/// How alike two names must be (Jaro-Winkler, 1 is equal) for one to be offered for the other.
const ALIKE: f64 = 0.8;

/// The absolute form of a path that does not exist, and up to three names beside it that look alike.
pub fn missing(path: &Path) -> (PathBuf, Vec<OsString>) {
    let absolute = absolute(path);
    let (Some(folder), Some(wanted)) = (absolute.parent(), absolute.file_name()) else {
        return (absolute, Vec::new());
    };
    let wanted = wanted.to_string_lossy().to_lowercase();
    let names = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.file_name());
    let mut similar: Vec<(f64, OsString)> = names
        .map(|name| (strsim::jaro_winkler(&wanted, &name.to_string_lossy().to_lowercase()), name))
        .filter(|(likeness, _)| *likeness > ALIKE)
        .collect();
    similar.sort_by(|one, other| other.0.total_cmp(&one.0).then_with(|| one.1.cmp(&other.1)));
    let similar = similar.into_iter().take(3).map(|(_, name)| name).collect();
    (absolute, similar)
}
