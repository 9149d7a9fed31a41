//! The files of an archive in parts: as the application note's section 8 names them (`.z01`, `.z02`, …, `.zip`), or cut into
//! plain numbered pieces, which are known by their numbers.

use super::directory::find_end;
use super::{Segments, ZipError};
use crate::disk::names::{bytes_of, name_of};
use crate::disk::numbered::Row;
use crate::disk::{FileError, Folder, Interruption, absolute, folder_of};
use crate::formats::spot::Spot;
use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::path::Path;

/// Signatures with which a ZIP archive, or its first part, begins (sections 4.3.7, 4.3.16, 8.5.3 and 8.5.4).
const BEGINNINGS: [&[u8; 4]; 4] = [b"PK\x03\x04", b"PK\x05\x06", b"PK\x07\x08", b"PK00"];

/// Whether a file is a ZIP archive, or a part of one: by how it begins, and, where something stands in front, by how it ends.
pub fn is_zip(spot: &Spot, beside: &[Spot]) -> Result<bool, FileError> {
    let segments = Segments::open(std::slice::from_ref(spot))?;
    let begins = segments.bytes_at(0, 4)?.unwrap_or_default();
    if begins_like_zip(&begins) {
        return Ok(true);
    }
    match find_end(&segments) {
        Ok(_) | Err(ZipError::Parts { .. } | ZipError::TwoEnds) => Ok(true),
        Err(ZipError::Interrupted(Interruption::File(error))) => Err(error),
        Err(_) => is_named_part(spot, beside),
    }
}

/// Whether a ZIP archive, or its first part, begins so.
pub fn begins_like_zip(beginning: &[u8]) -> bool {
    BEGINNINGS.iter().any(|signature| beginning.starts_with(*signature))
}

/// A middle part begins with anything, and so does a last one that is cut short; their names, beside the first one's, say
/// what they are.
fn is_named_part(spot: &Spot, beside: &[Spot]) -> Result<bool, FileError> {
    let name = lower_name(spot);
    if is_part_name(&name) {
        return Ok(true);
    }
    let Some(stem) = name.strip_suffix(b".zip") else { return Ok(false) };
    let first = [stem, b".z01"].concat();
    let is_first = |name: &OsStr| name.as_encoded_bytes().eq_ignore_ascii_case(&first);
    let is_beside = || beside.iter().filter_map(Spot::own_name).any(is_first);
    Ok(is_beside() || names_around(spot)?.iter().any(|name| is_first(name)))
}

/// The names in the folder of a file; none where something is attached to a message.
fn names_around(spot: &Spot) -> Result<Vec<OsString>, FileError> {
    match spot.attached {
        Some(_) => Ok(Vec::new()),
        None => Folder::open(folder_of(&absolute(&spot.path)))?.names(),
    }
}

/// Whether a name, in small letters, is that of a part which is not the last one, or of a plain piece of a ZIP archive.
pub fn is_part_name(name: &[u8]) -> bool {
    part_number(name).is_some() || has_zip_before_number(name)
}

fn lower_name(spot: &Spot) -> Vec<u8> {
    spot.own_name().unwrap_or_default().as_encoded_bytes().to_ascii_lowercase()
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
    let row = Row::of(&name_of(name), &[]);
    row.and_then(|row| row.pattern.whole_name()).is_some_and(|whole| whole.as_encoded_bytes().ends_with(b".zip"))
        && !name.ends_with(b".zip")
}

/// Opens an archive with all its parts, from any one of them. They are sought in the folder of a file, and among what is named as lying
/// beside it.
pub fn open_parts(spot: &Spot, beside: &[Spot]) -> Result<Segments, ZipError> {
    let lower = lower_name(spot);
    if has_zip_before_number(&lower) {
        return open_pieces(spot, beside);
    }
    let last = match part_number(&lower) {
        Some(_) => Siblings::of(spot, beside)?
            .find(b"zip")
            .ok_or(ZipError::MissingParts { missing: Vec::new(), count: None })?,
        None => absolute_spot(spot),
    };
    let segments = Segments::open(std::slice::from_ref(&last))?;
    let parts = match find_end(&segments) {
        Err(ZipError::Parts { parts, .. }) => parts,
        // Whatever else is wrong with it, reading it tells.
        _ => return Ok(segments),
    };
    let siblings = Siblings::of(&last, beside)?;
    let found: Vec<(u32, Option<Spot>)> =
        (1..parts).map(|number| (number, siblings.find(format!("z{number:02}").as_bytes()))).collect();
    let missing: Vec<u32> = found.iter().filter(|(_, spot)| spot.is_none()).map(|(number, _)| *number).collect();
    if !missing.is_empty() {
        return Err(ZipError::MissingParts { missing, count: Some(parts) });
    }
    let all: Vec<Spot> = found.into_iter().filter_map(|(_, spot)| spot).chain([last]).collect();
    Ok(Segments::open(&all)?)
}

/// Plain pieces: one behind the other they are the archive.
fn open_pieces(spot: &Spot, beside: &[Spot]) -> Result<Segments, ZipError> {
    let all = lying_beside(spot, beside)?;
    let names: Vec<OsString> = all.iter().filter_map(|spot| Some(spot.own_name()?.to_owned())).collect();
    let row = Row::of(spot.own_name().unwrap_or_default(), &names);
    let row = row.ok_or(ZipError::MissingParts { missing: Vec::new(), count: None })?;
    let first = row.first();
    let last = row.names.keys().next_back().copied().unwrap_or(first);
    let last = row.count.map_or(last, |count| (first + count).saturating_sub(1));
    let missing: Vec<u32> = (first..=last).filter(|number| !row.names.contains_key(number)).collect();
    if !missing.is_empty() {
        return Err(ZipError::MissingParts { missing, count: row.count });
    }
    let called = |name: &OsString| all.iter().find(|spot| spot.own_name() == Some(name.as_os_str())).cloned();
    let spots: Vec<Spot> = row.names.values().filter_map(|names| called(names.first()?)).collect();
    Ok(Segments::open(&spots)?)
}

fn absolute_spot(spot: &Spot) -> Spot {
    Spot { path: absolute(&spot.path), attached: spot.attached.clone() }
}

/// What lies beside something: the files of its folder, where it is a file, and what is named besides. A file comes before what is
/// attached under its name.
fn lying_beside(spot: &Spot, beside: &[Spot]) -> Result<Vec<Spot>, FileError> {
    let path = absolute(&spot.path);
    let folder = folder_of(&path);
    let around = names_around(spot)?.into_iter().map(|name| Spot::from(folder.join(name)));
    Ok(around.chain(beside.iter().cloned()).collect())
}

/// What lies beside something and is called like it but for the end, by that end, in small letters.
struct Siblings(BTreeMap<Vec<u8>, Spot>);

impl Siblings {
    fn of(spot: &Spot, beside: &[Spot]) -> Result<Self, FileError> {
        let name = lower_name(spot);
        let stem = bytes_of(Path::new(&name_of(&name)).file_stem().unwrap_or_default()).into_owned();
        let mut found = BTreeMap::new();
        for other in lying_beside(spot, beside)? {
            let lower = lower_name(&other);
            if let Some(end) = lower.strip_prefix(stem.as_slice()).and_then(|end| end.strip_prefix(b".")) {
                found.entry(end.to_vec()).or_insert(other);
            }
        }
        Ok(Self(found))
    }

    fn find(&self, end: &[u8]) -> Option<Spot> {
        self.0.get(end).cloned()
    }
}
