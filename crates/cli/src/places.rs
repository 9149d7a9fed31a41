//! What is typed for an archive that is read: places with volumes in them, and behind them patterns for what is inside.

use crate::failure::Failure;
use crate::ui::prompt;
use crate::words;
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
        gather(&self.places)
    }
}

/// The set that is in these places. Where there are several, it is asked on a terminal which one.
pub fn gather(places: &[PathBuf]) -> Result<VolumeSet, Failure> {
    match VolumeSet::gather(places) {
        Err(GatherError::SeveralSets(found)) if prompt::can_ask() => {
            let numbers: Vec<String> = (1..=found.len()).map(|number| number.to_string()).collect();
            let lines: Vec<String> = numbers
                .iter()
                .zip(&found)
                .map(|(number, set)| format!("  {number}  {}\n", words::one_set(set)))
                .collect();
            let question = format!("Volumes of {} archives are here:\n{}Which one?", found.len(), lines.concat());
            let mut choices: Vec<&str> = numbers.iter().map(String::as_str).collect();
            choices.push("stop");
            match found.get(prompt::choose(&question, &choices)?) {
                Some(set) => Ok(VolumeSet::gather_one(places, set.ids)?),
                None => Err(Failure::GivenUp),
            }
        }
        outcome => Ok(outcome?),
    }
}
