//! What a new archive is to replace: old volumes or parts of its name. They are known by what they hold, since a name alone says
//! nothing of whose they are; and what is in them is compared with what will be in the new one, so that nobody loses files
//! who meant to add some.

use super::Delivery;
use super::target::{Target, WayError};
use crate::disk::staging::{Leftover, Replaced, settle};
use crate::disk::{FileError, Folder, absolute};
use crate::formats::archive::{Archive, recognise};
use crate::formats::reader::Flaws;
use crate::formats::registry::Format;
use crate::formats::sealed::volume::{Ids, VolumeKind, VolumeSet, header_of, names};
use crate::formats::sealed::{CostLimit, SealedReader, key_of_open_to_all, unlock};
use crate::formats::zip::open_parts;
use crate::ground::context::Context;
use crate::ground::entry::{EntryKind, EntryPath};
use crate::ground::secrets::Credentials;
use std::collections::{BTreeMap, HashSet};
use std::ffi::{OsStr, OsString};
use std::io;
use std::path::{Path, PathBuf};

/// An old archive that goes when the new one is placed.
#[derive(Debug, Default)]
pub struct OldArchive {
    /// Its files.
    pub files: Vec<Replaced>,
    /// Files beside them whose names are such, and which were not recognised: they stay.
    pub left: Vec<PathBuf>,
    /// The paths of its files, by archive; parcels are one each.
    archives: Vec<Vec<PathBuf>>,
}

/// What is in an old archive and not in the new one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Loss {
    /// These files and links; none where the new one has all of them.
    Known(Vec<EntryPath>),
    /// It cannot be seen: it has another password, or is damaged.
    Unknown,
}

impl OldArchive {
    /// Finds the old archive among files of a folder that have names of a target's volumes.
    pub(super) fn find(
        target: &Target,
        folder: &Folder,
        there: Vec<OsString>,
        format: &'static Format,
        context: &Context<'_>,
    ) -> Result<Self, WayError> {
        let path = |name: &OsStr| absolute(&target.folder).join(name);
        let last = target.path_with(format.extension());
        let archives = match format.abilities.volumes {
            true => sealed(target, format, &there)?,
            false => of_open_format(&last, format, context),
        };
        let known: HashSet<&PathBuf> = archives.iter().flatten().collect();
        let mut old = Self::default();
        for name in there {
            if !known.contains(&path(&name)) {
                if path(&name) == last {
                    return Err(WayError::SomethingElse(path(&name)));
                }
                old.left.push(path(&name));
            } else if let Some(suffix) = format.suffix_of(&name, &target.stem) {
                let (bytes, modified) = folder.size_and_time_of(&name)?;
                old.files.push(Replaced { suffix: suffix.to_owned(), bytes, modified });
            }
        }
        old.archives = archives;
        Ok(old)
    }

    /// Where its files are, and how long they are in bytes.
    pub fn replaced(&self, target: &Target) -> Vec<(PathBuf, u64)> {
        self.files.iter().map(|file| (target.path_with(&file.suffix), file.bytes)).collect()
    }

    /// Every file and link in it; `None` where that cannot be seen.
    fn entries(&self, format: &Format, credentials: &[Credentials], context: &Context<'_>) -> Option<Vec<EntryPath>> {
        let mut all = Vec::new();
        for paths in &self.archives {
            let archive = match format.abilities.volumes {
                true => Archive::from(opened(paths, credentials)?),
                false => match Archive::open(paths.last()?, Flaws::Refused, context).ok()?? {
                    archive if archive.facts().is_covered => archive.unlock(credentials.first()?, context).ok()?,
                    archive => archive,
                },
            };
            let contents = archive.entries().ok()?.iter().filter(|listed| listed.entry.kind != EntryKind::Folder);
            all.extend(contents.map(|listed| listed.entry.path.clone()));
        }
        Some(all)
    }
}

impl Target {
    /// Files that have this archive's name already and stop its packing: any, or where they may be replaced what is something else;
    /// nothing is touched. None where the folder cannot be looked into.
    pub fn in_the_way(&self, replace: bool, format: &'static Format, context: &Context<'_>) -> Vec<PathBuf> {
        let Ok(folder) = Folder::open(&self.folder) else { return Vec::new() };
        let there = self.names_there(&folder, format).unwrap_or_default();
        if !replace {
            return self.paths_of(&there);
        }
        match OldArchive::find(self, &folder, there, format, context) {
            Err(WayError::SomethingElse(path)) => vec![path],
            _ => Vec::new(),
        }
    }

    /// Names in its folder that files of this archive have, or would have.
    fn names_there(&self, folder: &Folder, format: &Format) -> Result<Vec<OsString>, FileError> {
        Ok(folder.names()?.into_iter().filter(|name| format.suffix_of(name, &self.stem).is_some()).collect())
    }

    fn paths_of(&self, names: &[OsString]) -> Vec<PathBuf> {
        names.iter().map(|name| absolute(&self.folder).join(name)).collect()
    }

    /// Settles what an earlier run left, and says which old volumes of this name are to be
    /// replaced: none, unless `replace` allows it.
    ///
    /// # Errors
    /// [`WayError`]; no volume was touched then.
    pub fn make_way(
        &self,
        replace: bool,
        format: &'static Format,
        context: &Context<'_>,
    ) -> Result<OldArchive, WayError> {
        let folder = match Folder::open(&self.folder) {
            Err(error) if error.source.kind() == io::ErrorKind::NotFound => return Ok(OldArchive::default()),
            folder => folder?,
        };
        let leftover = settle(&folder, &self.stem, context)?;
        let there = self.names_there(&folder, format)?;
        if there.is_empty() {
            return Ok(OldArchive::default());
        }
        if replace {
            return OldArchive::find(self, &folder, there, format, context);
        }
        let mut bytes = 0;
        for name in &there {
            bytes += folder.size_and_time_of(name)?.0;
        }
        let paths = self.paths_of(&there);
        Err(match leftover {
            Leftover::Completed => WayError::EarlierRunCompleted(paths),
            _ => WayError::Taken { paths, bytes },
        })
    }
}

impl Delivery {
    /// Whether there is an old archive that this one replaces.
    pub fn replaces(&self) -> bool {
        !self.old.files.is_empty()
    }

    /// What would be gone with the old archive, as far as one of these credentials, or none, lets it be seen.
    pub fn loss(&self, credentials: &[Credentials], context: &Context<'_>) -> Loss {
        let Some(old) = self.old.entries(self.format, credentials, context) else { return Loss::Unknown };
        let new: HashSet<&EntryPath> = self.catalogue.entries.iter().map(|entry| &entry.path).collect();
        Loss::Known(old.into_iter().filter(|path| !new.contains(path)).collect())
    }
}

/// The volumes of one set, or parcels, by archive. A volume has the name that belongs to its number.
fn sealed(target: &Target, format: &Format, there: &[OsString]) -> Result<Vec<Vec<PathBuf>>, WayError> {
    let (mut sets, mut parcels): (BTreeMap<Ids, Vec<PathBuf>>, Vec<Vec<PathBuf>>) = Default::default();
    for name in there {
        let path = absolute(&target.folder).join(name);
        let Some(header) = header_of(&path)? else { continue };
        let suffix = format.suffix_of(name, &target.stem).unwrap_or_default();
        let is_its_own = match header.kind {
            VolumeKind::Spare => names::spare_named(suffix).is_some_and(|(number, _)| number == header.number),
            _ => suffix == format.suffix(header.number, header.geometry.data_volumes),
        };
        if is_its_own {
            sets.entry(header.ids).or_default().push(path);
        } else if header.geometry.data_volumes == 1 && names::is_parcel_suffix(suffix) {
            parcels.push(vec![path]);
        }
    }
    if sets.len() > 1 {
        return Err(WayError::SeveralArchives(sets.into_values().flatten().collect()));
    }
    Ok(sets.into_values().chain(parcels).collect())
}

/// The files of an archive of an open format, the last one known by what it holds, the others by what that says of them.
fn of_open_format(last: &Path, format: &Format, context: &Context<'_>) -> Vec<Vec<PathBuf>> {
    match recognise(last, context) {
        Ok(Some(known)) if format.is_read_as(known.format) => {}
        _ => return Vec::new(),
    }
    // Where parts are missing, those that are here are known by nothing.
    let parts = format.abilities.parts.then(|| open_parts(&last.into(), &[]).ok()).flatten();
    vec![parts.map_or_else(|| vec![last.to_owned()], |parts| parts.spots().map(|spot| spot.path.clone()).collect())]
}

fn opened(paths: &[PathBuf], credentials: &[Credentials]) -> Option<SealedReader> {
    let set = VolumeSet::from_files(paths).ok()?.complete().ok()?;
    if let Some(key) = key_of_open_to_all(&set, false).ok()? {
        return SealedReader::with_key(set, &key).ok();
    }
    let keys = credentials.iter().filter(|given| **given != Credentials::none());
    let key = keys.map(|given| unlock(&set, given, CostLimit::Bearable)).find_map(Result::ok)?;
    SealedReader::with_key(set, &key).ok()
}
