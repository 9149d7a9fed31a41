//! Gathering: the one set of volumes that some paths speak of, or each of several.

use super::candidates::Candidates;
use super::header::Ids;
use super::recognising::Trying;
use super::set::{GatherError, VolumeSet};
use crate::ground::context::Context;
use std::path::PathBuf;

impl VolumeSet {
    /// Finds the one set that the paths speak of. A volume stands for its whole set, sought in its
    /// folder; a folder stands for the set in it.
    pub fn gather(paths: &[PathBuf], context: &Context<'_>) -> Result<Self, GatherError> {
        let found = Candidates::among(paths, context)?;
        found.assemble(found.choose(paths)?, &mut Trying::default())
    }

    /// Every set that the paths speak of, at least one, in the order of their files. A damaged file may be recognised as a volume of any
    /// of them; what that takes is limited for all of them together.
    ///
    /// # Errors
    /// [`GatherError`].
    pub fn gather_each(paths: &[PathBuf], context: &Context<'_>) -> Result<Vec<Self>, GatherError> {
        let found = Candidates::among(paths, context)?;
        let mut trying = Trying::default();
        found.wanted(paths)?.into_iter().map(|ids| found.assemble(ids, &mut trying)).collect()
    }

    /// The set of these ids among those that the paths speak of.
    ///
    /// # Errors
    /// [`GatherError`]; [`GatherError::NoVolumes`] where none of its volumes is there.
    pub fn gather_one(paths: &[PathBuf], wanted: Ids, context: &Context<'_>) -> Result<Self, GatherError> {
        Candidates::among(paths, context)?.assemble(wanted, &mut Trying::default())
    }

    /// The sets that these very files make up; nothing else is looked at.
    ///
    /// # Errors
    /// [`GatherError`].
    pub fn each_from_files(paths: &[PathBuf]) -> Result<Vec<Self>, GatherError> {
        let found = Candidates::only(paths)?;
        let mut trying = Trying::default();
        found.wanted(paths)?.into_iter().map(|ids| found.assemble(ids, &mut trying)).collect()
    }

    /// The set that these very files make up; nothing else is looked at.
    pub fn from_files(paths: &[PathBuf]) -> Result<Self, GatherError> {
        let found = Candidates::only(paths)?;
        found.assemble(found.choose(paths)?, &mut Trying::default())
    }
}
