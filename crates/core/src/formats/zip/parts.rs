//! The files of an archive in parts: as the application note's section 8 names them (`.z01`, `.z02`, …, `.zip`), or cut into
//! plain numbered pieces, which are known by their numbers.

use super::directory::find_end;
use super::{Segments, ZipError};
use crate::disk::numbered::Row;
use crate::disk::{FileError, Folder, Interruption, absolute};
use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

/// Signatures with which a ZIP archive, or its first part, begins (sections 4.3.7, 4.3.16, 8.5.3 and 8.5.4).
const BEGINNINGS: [&[u8; 4]; 4] = [b"PK\x03\x04", b"PK\x05\x06", b"PK\x07\x08", b"PK00"];

/// Whether a file is a ZIP archive, or a part of one: by how it begins, and, where something stands in front, by how it ends.
pub fn is_zip(path: &Path) -> Result<bool, FileError> {
    let segments = Segments::open(&[path])?;
    let begins = segments.bytes_at(0, 4)?.unwrap_or_default();
    if BEGINNINGS.iter().any(|beginning| **beginning == *begins) {
        return Ok(true);
    }
    match find_end(&segments) {
        Ok(_) | Err(ZipError::Parts { .. } | ZipError::TwoEnds) => Ok(true),
        Err(ZipError::Interrupted(Interruption::File(error))) => Err(error),
        Err(_) => is_named_part(path),
    }
}

/// A middle part begins with anything, and so does a last one that is cut short; their names, beside the first one's, say
/// what they are.
fn is_named_part(path: &Path) -> Result<bool, FileError> {
    let name = path.file_name().unwrap_or_default().as_bytes().to_ascii_lowercase();
    let is_last = || Ok(name.ends_with(b".zip") && Siblings::of(&absolute(path))?.find(b"z01").is_some());
    if part_number(&name).is_some() || has_zip_before_number(&name) { Ok(true) } else { is_last() }
}

/// What follows the names of the parts of an archive of so many, in order: `.zip` alone, or `.z01`, `.z02`, …, `.zip` (section 8.3.1).
pub fn suffixes(parts: usize) -> impl Iterator<Item = String> {
    (1..=parts).map(move |number| if number == parts { ".zip".to_owned() } else { format!(".z{number:02}") })
}

/// Whether this follows the name of a part that is not the last one.
pub fn is_part_suffix(suffix: &str) -> bool {
    let digits = suffix.strip_prefix(".z").filter(|digits| digits.len() >= 2);
    digits.is_some_and(|digits| digits.bytes().all(|byte| byte.is_ascii_digit()))
}

/// The number of a part: `name.z01`.
fn part_number(name: &[u8]) -> Option<u32> {
    let dot = name.iter().rposition(|byte| *byte == b'.')?;
    let digits = name[dot + 1..].strip_prefix(b"z")?;
    std::str::from_utf8(digits).ok().filter(|digits| digits.len() >= 2)?.parse().ok()
}

fn has_zip_before_number(name: &[u8]) -> bool {
    let row = Row::of(OsStr::from_bytes(name), &[]);
    row.and_then(|row| row.pattern.whole_name()).is_some_and(|whole| whole.as_bytes().ends_with(b".zip"))
        && !name.ends_with(b".zip")
}

/// Opens an archive with all its parts, from any one of them.
pub fn open_parts(path: &Path) -> Result<Segments, ZipError> {
    let path = absolute(path);
    let name = path.file_name().unwrap_or_default().to_owned();
    let lower = name.as_bytes().to_ascii_lowercase();
    if has_zip_before_number(&lower) {
        return open_pieces(&path, &name);
    }
    let last = match part_number(&lower) {
        Some(_) => {
            Siblings::of(&path)?.find(b"zip").ok_or(ZipError::MissingParts { missing: Vec::new(), count: None })?
        }
        None => path,
    };
    let segments = Segments::open(&[&last])?;
    let parts = match find_end(&segments) {
        Err(ZipError::Parts { parts, .. }) => parts,
        // Whatever else is wrong with it, reading it tells.
        _ => return Ok(segments),
    };
    let siblings = Siblings::of(&last)?;
    let found: Vec<(u32, Option<PathBuf>)> =
        (1..parts).map(|number| (number, siblings.find(format!("z{number:02}").as_bytes()))).collect();
    let missing: Vec<u32> = found.iter().filter(|(_, path)| path.is_none()).map(|(number, _)| *number).collect();
    if !missing.is_empty() {
        return Err(ZipError::MissingParts { missing, count: Some(parts) });
    }
    let all: Vec<PathBuf> = found.into_iter().filter_map(|(_, path)| path).chain([last]).collect();
    Ok(Segments::open(&all)?)
}

/// Plain pieces: one behind the other they are the archive.
fn open_pieces(path: &Path, name: &OsStr) -> Result<Segments, ZipError> {
    let folder = path.parent().unwrap_or(Path::new("/"));
    let row = Row::of(name, &Folder::open(folder)?.names()?);
    let row = row.ok_or(ZipError::MissingParts { missing: Vec::new(), count: None })?;
    let first = row.first();
    let last = row.names.keys().next_back().copied().unwrap_or(first);
    let last = row.count.map_or(last, |count| (first + count).saturating_sub(1));
    let missing: Vec<u32> = (first..=last).filter(|number| !row.names.contains_key(number)).collect();
    if !missing.is_empty() {
        return Err(ZipError::MissingParts { missing, count: row.count });
    }
    let paths: Vec<PathBuf> = row.names.values().filter_map(|names| Some(folder.join(names.first()?))).collect();
    Ok(Segments::open(&paths)?)
}

/// The files beside one that differ from it in their ends only, by these, in small letters.
struct Siblings(BTreeMap<Vec<u8>, PathBuf>);

impl Siblings {
    fn of(path: &Path) -> Result<Self, FileError> {
        let folder = path.parent().unwrap_or(Path::new("/"));
        let stem = path.file_stem().unwrap_or_default().as_bytes().to_ascii_lowercase();
        let end = |name: &OsString| {
            let lower = name.as_bytes().to_ascii_lowercase();
            let end = lower.strip_prefix(stem.as_slice())?.strip_prefix(b".")?.to_vec();
            Some((end, folder.join(name)))
        };
        Ok(Self(Folder::open(folder)?.names()?.iter().filter_map(end).collect()))
    }

    fn find(&self, end: &[u8]) -> Option<PathBuf> {
        self.0.get(end).cloned()
    }
}
