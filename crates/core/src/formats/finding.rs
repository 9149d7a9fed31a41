//! Finding an archive of an open format in the places that somebody names: a file, parts of one archive, or a folder that it lies in.

use super::archive::{Recognised, recognise};
use super::error::ArchiveError;
use super::zip::open_parts;
use crate::disk::{FileAction, FileError, absolute};
use crate::ground::context::Context;
use std::fs;
use std::path::{Path, PathBuf};

/// The archive that these places name: a file of it, or several of its parts. `None` where the first is of no open format, or there are
/// others and it is of a format that has no parts.
///
/// # Errors
/// [`ArchiveError`]; [`ArchiveError::Several`] where not all of them are parts of one.
pub fn named(places: &[PathBuf], context: &Context<'_>) -> Result<Option<Recognised>, ArchiveError> {
    let Some((first, others)) = places.split_first().filter(|(first, _)| first.is_file()) else { return Ok(None) };
    let Some(found) = recognise(first, context)? else { return Ok(None) };
    if others.is_empty() {
        return Ok(Some(found));
    }
    if !found.format.abilities.parts {
        return Ok(None);
    }
    let parts: Vec<PathBuf> = open_parts(first)?.paths().map(absolute).collect();
    let all_are_parts = others.iter().all(|other| parts.contains(&absolute(other)));
    if all_are_parts { Ok(Some(found)) } else { Err(ArchiveError::Several) }
}

/// The archive of an open format that lies in a folder, parts of one taken together; `None` where there is none.
///
/// # Errors
/// [`ArchiveError`]; [`ArchiveError::Several`] where there are several.
pub fn lying_in(folder: &Path, context: &Context<'_>) -> Result<Option<Recognised>, ArchiveError> {
    let listed = fs::read_dir(folder).and_then(Iterator::collect::<Result<Vec<_>, _>>);
    let listed = listed.map_err(FileError::on(FileAction::List, folder))?;
    let mut paths: Vec<PathBuf> = listed.iter().map(fs::DirEntry::path).filter(|path| path.is_file()).collect();
    paths.sort();
    let mut found: Option<Recognised> = None;
    for path in paths {
        // What cannot be read here is not what is looked for.
        let Ok(Some(other)) = recognise(&path, context) else { continue };
        // Parts of one archive differ in their ends only.
        let is_part = |one: &Recognised| {
            one.format.abilities.parts && one.format == other.format && one.path.file_stem() == path.file_stem()
        };
        match &found {
            None => found = Some(other),
            Some(one) if is_part(one) => {}
            Some(_) => return Err(ArchiveError::Several),
        }
    }
    Ok(found)
}
