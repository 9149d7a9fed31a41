//! From the paths that a sender types to the roots of the walk: what each is called inside the archive.

use super::choice::Naming;
use super::error::{SourceError, unpackable};
use crate::disk::missing::missing;
use crate::disk::names::bytes_of;
use crate::disk::portability::System;
use crate::disk::{FileAction, FileError, NameRules, resolved};
use crate::ground::entry::EntryPath;
use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::io;
use std::path::{Component, Path, PathBuf};

/// Where a walk begins.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Root {
    /// What it is called inside the archive.
    pub path: EntryPath,
    /// Where it is, absolute and without links.
    pub disk_path: PathBuf,
    /// Whether what lies below it is packed too; not so for a folder that only stands above a source.
    pub whole: bool,
}

/// Puts the paths that match in the place of sources with wildcards in them, for shells that leave that to programs. A
/// source that is there is taken as it is.
///
/// # Errors
/// [`SourceError::NoMatch`], or [`SourceError::Wildcard`] for one that cannot be read.
pub fn expand(sources: &[PathBuf]) -> Result<Vec<PathBuf>, SourceError> {
    let mut expanded = Vec::new();
    for source in sources {
        match found_by(source) {
            None => expanded.push(source.clone()),
            Some(Ok(found)) if found.is_empty() => return Err(SourceError::NoMatch(source.clone())),
            Some(Ok(found)) => expanded.extend(found),
            Some(Err(error)) => {
                return Err(SourceError::Wildcard { wildcard: source.clone(), why: error.msg.to_owned() });
            }
        }
    }
    Ok(expanded)
}

/// The paths that match a name with wildcards, sorted; `None` for what is there as it is, has none, or matches nothing.
pub fn matching(typed: &Path) -> Option<Vec<PathBuf>> {
    found_by(typed)?.ok().filter(|found| !found.is_empty())
}

/// What wildcards find; `None` where there are none.
fn found_by(typed: &Path) -> Option<Result<Vec<PathBuf>, glob::PatternError>> {
    let rules = NameRules::here();
    // Nobody takes a bracket for a wildcard on Windows.
    let brackets = rules.system != System::Windows;
    let text = typed.to_str().filter(|text| text.contains(['*', '?']) || (brackets && text.contains('[')))?;
    if fs::symlink_metadata(typed).is_ok() {
        return None;
    }
    let options = glob::MatchOptions {
        require_literal_leading_dot: true,
        case_sensitive: !rules.folds,
        ..glob::MatchOptions::new()
    };
    let text = if brackets { text.to_owned() } else { text.replace('[', "[[]") };
    Some(glob::glob_with(&text, options).map(|paths| paths.filter_map(Result::ok).collect()))
}

/// The roots of these sources, in the order of their paths.
pub(super) fn roots_of(sources: &[PathBuf], naming: Naming) -> Result<Vec<Root>, SourceError> {
    let mut roots: BTreeMap<EntryPath, (PathBuf, Root)> = BTreeMap::new();
    for source in sources {
        let disk_path = resolved(source).map_err(|error| unreachable_source(source, error))?;
        for root in roots_of_source(source, &disk_path, naming)? {
            let known = roots.get_mut(&root.path);
            match known {
                None => drop(roots.insert(root.path.clone(), (source.clone(), root))),
                // A folder above a source, and the same folder: whole if either is.
                Some((_, known)) if known.disk_path == root.disk_path && !(known.whole && root.whole) => {
                    known.whole |= root.whole;
                }
                Some((first, _)) => {
                    return Err(SourceError::SameName { first: first.clone(), second: source.clone() });
                }
            }
        }
    }
    without_what_is_inside(roots.into_values())
}

/// A source that lies inside another one is packed with that.
fn without_what_is_inside(roots: impl Iterator<Item = (PathBuf, Root)>) -> Result<Vec<Root>, SourceError> {
    let mut kept: Vec<Root> = Vec::new();
    let mut whole: Option<(PathBuf, Root)> = None;
    for (source, root) in roots {
        if let Some((first, above)) = &whole
            && root.path.is_below(&above.path)
        {
            if root.disk_path.starts_with(&above.disk_path) {
                continue;
            }
            return Err(SourceError::SameName { first: first.clone(), second: source });
        }
        if root.whole {
            whole = Some((source, root.clone()));
        }
        kept.push(root);
    }
    Ok(kept)
}

fn roots_of_source(source: &Path, disk_path: &Path, naming: Naming) -> Result<Vec<Root>, SourceError> {
    let named = |name: OsString, disk_path: &Path, whole| -> Result<Root, SourceError> {
        let path = EntryPath::new(bytes_of(&name).into_owned()).map_err(|error| unpackable(disk_path, error.into()))?;
        Ok(Root { path, disk_path: disk_path.to_owned(), whole })
    };
    let own_name = || own_name(source, disk_path).ok_or_else(|| SourceError::NoName(source.to_owned()));
    match naming {
        Naming::Contents if disk_path.is_dir() => {
            let listed = fs::read_dir(disk_path).and_then(|entries| entries.collect::<io::Result<Vec<_>>>());
            let listed = listed.map_err(FileError::on(FileAction::List, disk_path));
            let listed = listed.map_err(|error| unpackable(disk_path, error.into()))?;
            listed.into_iter().map(|entry| named(entry.file_name(), &entry.path(), true)).collect()
        }
        Naming::AsTyped => {
            let mut typed = typed_components(source);
            if typed.is_empty() {
                typed.push(own_name()?);
            }
            // From the source upwards: each folder above it is that of its path on disk.
            let (mut roots, mut place) = (Vec::new(), disk_path);
            for depth in (1..=typed.len()).rev() {
                let path = typed[..depth].join(OsStr::new("/"));
                roots.push(named(path, place, depth == typed.len())?);
                let Some(above) = place.parent() else { break };
                place = above;
            }
            Ok(roots)
        }
        Naming::OwnName | Naming::Contents => Ok(vec![named(own_name()?, disk_path, true)?]),
    }
}

/// The names that were typed, behind the root or the last `..`; of an absolute path only the last.
fn typed_components(source: &Path) -> Vec<OsString> {
    let mut typed: Vec<OsString> = Vec::new();
    for component in source.components() {
        match component {
            Component::Normal(name) => typed.push(name.to_owned()),
            Component::CurDir => {}
            Component::ParentDir | Component::RootDir | Component::Prefix(_) => typed.clear(),
        }
    }
    if source.is_absolute() { typed.split_off(typed.len().saturating_sub(1)) } else { typed }
}

/// The last component as the user wrote it, or, for `.` and the like, as the system knows it.
fn own_name(source: &Path, canonical: &Path) -> Option<OsString> {
    let written = source.components().next_back().and_then(|last| match last {
        Component::Normal(name) => Some(name),
        _ => None,
    });
    written.or_else(|| canonical.file_name()).map(ToOwned::to_owned)
}

fn unreachable_source(source: &Path, error: io::Error) -> SourceError {
    if error.kind() == io::ErrorKind::NotFound {
        let (path, similar) = missing(source);
        SourceError::Missing { path, similar }
    } else {
        unpackable(source, FileError::on(FileAction::Open, source)(error).into())
    }
}
