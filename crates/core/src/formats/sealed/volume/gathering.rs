//! Gathering: the one set of volumes that some paths speak of.

use super::candidates::Candidates;
use super::header::Ids;
use super::set::{GatherError, VolumeSet};
use std::path::PathBuf;

impl VolumeSet {
    /// Finds the one set that the paths speak of. A volume stands for its whole set, sought in its
    /// folder; a folder stands for the set in it.
    pub fn gather(paths: &[PathBuf]) -> Result<Self, GatherError> {
        let found = Candidates::among(paths)?;
        let wanted = found.choose(paths)?;
        found.assemble(wanted)
    }

    /// The set of these ids among those that the paths speak of.
    ///
    /// # Errors
    /// [`GatherError`]; [`GatherError::NoVolumes`] where none of its volumes is there.
    pub fn gather_one(paths: &[PathBuf], wanted: Ids) -> Result<Self, GatherError> {
        Candidates::among(paths)?.assemble(wanted)
    }

    /// The set that these very files make up; nothing else is looked at.
    pub fn from_files(paths: &[PathBuf]) -> Result<Self, GatherError> {
        let found = Candidates::only(paths)?;
        let wanted = found.choose(paths)?;
        found.assemble(wanted)
    }
}
