//! What is typed for an archive that is read: places with volumes in them, and behind them patterns for what is inside.

use crate::failure::Failure;
use std::path::{Path, PathBuf};
use under_seal_core::volume::{GatherError, VolumeSet};

/// Volumes, or folders with volumes in them; and what is wanted of the archive.
#[derive(Debug, PartialEq, Eq)]
pub struct Typed {
    /// Where the volumes are.
    pub places: Vec<PathBuf>,
    /// Patterns, or paths inside the archive.
    pub inside: Vec<String>,
}

/// Tells places and patterns apart. The first is a place; of the rest, files that are there, and folders with volumes in
/// them. A folder without any may well be called like something inside.
pub fn tell_apart(typed: &[PathBuf]) -> Typed {
    let mut told = Typed { places: Vec::new(), inside: Vec::new() };
    for (number, path) in typed.iter().enumerate() {
        match path.to_str() {
            Some(text) if number > 0 && !is_place(path) => told.inside.push(text.to_owned()),
            _ => told.places.push(path.clone()),
        }
    }
    told
}

fn is_place(path: &Path) -> bool {
    path.is_file() || path.is_dir() && !matches!(VolumeSet::gather(&[path.to_owned()]), Err(GatherError::NoVolumes(_)))
}

impl Typed {
    /// The set that is there; not all of its volumes need be.
    pub fn set(&self) -> Result<VolumeSet, Failure> {
        Ok(VolumeSet::gather(&self.places)?)
    }
}
