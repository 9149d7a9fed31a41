//! What is handed over, of whatever format: files that were found whole, each with the name that it gets; and whether
//! copies of them are what they were.

use super::dividing::Share;
use super::note::{NoteFields, Spares};
use super::package::Package;
use super::request::{HandoverError, HandoverRequest};
use crate::disk::{Sha256Sum, sum_of};
use crate::formats::archive::Archive;
use crate::formats::sealed::volume::names::spare_suffix;
use crate::formats::sealed::volume::spares::spare_bytes;
use crate::formats::sealed::volume::{VolumeKind, VolumeSet};
use crate::formats::spot::Spot;
use crate::ground::codes::hexadecimal;
use crate::ground::context::Context;
use crate::tasks::check::{damaged_contents, inspect};
use crate::tasks::page::page_sum;
use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

/// One file of it.
#[derive(Debug, Clone)]
pub(super) struct Part {
    pub spot: Spot,
    pub name: OsString,
    pub bytes: u64,
    pub share: Option<Share>,
}

/// What was found whole.
pub(super) struct Bundle {
    pub parts: Vec<Part>,
    /// What a note may name.
    pub fields: NoteFields,
}

impl Bundle {
    pub fn of(
        package: &mut Package,
        request: &HandoverRequest<'_>,
        context: &Context<'_>,
    ) -> Result<Self, HandoverError> {
        let HandoverRequest { stem, key_file, how, upon, .. } = *request;
        let (secret, is_readable) = (package.is_secret(), package.is_readable());
        let mut sets: Vec<String> = package.set_text().into_iter().collect();
        let mut parts = match package {
            Package::Volumes { set, .. } => volumes((0, set), stem, context)?,
            Package::Archive(archive) => files(archive, is_readable, context)?,
        };
        for (at, (stem, set)) in (1..).zip(request.together_with) {
            parts.extend(volumes((at, set), stem, context)?);
            sets.push(set.ids.set_text());
        }
        let spares = match package {
            Package::Volumes { set, .. } if request.together_with.is_empty() => spares_of(set, parts.len()),
            _ => None,
        };
        let (how, key_file) = (how.to_owned(), key_file.map(str::to_owned));
        let in_page = package.is_in_page();
        let page = request.page.then(|| hexadecimal(&page_sum())).filter(|_| !sets.is_empty() && !in_page);
        let archive = request.title.unwrap_or(stem).to_string_lossy().into_owned();
        let volumes = parts.iter().map(|part| (part.name.to_string_lossy().into_owned(), part.bytes)).collect();
        let fields = NoteFields {
            archive,
            sets,
            volumes,
            spares,
            messages_to_spare: 0,
            upon: upon.cloned(),
            secret,
            key_file,
            how,
            page,
            in_page,
        };
        Ok(Self { parts, fields })
    }

    /// What a note may name, once the copies' SHA-256 are known.
    pub fn fields_with(&self, sums: &[Sha256Sum]) -> NoteFields {
        let own = sums.first().filter(|_| self.fields.in_page).map(|sum| hexadecimal(sum));
        NoteFields { page: own.or_else(|| self.fields.page.clone()), ..self.fields.clone() }
    }

    /// Whether copies are what they were, as they stand on disk.
    pub fn compare(&self, copies: &[PathBuf], sums: &[Sha256Sum], context: &Context<'_>) -> Result<(), HandoverError> {
        let found = copies.iter().map(|copy| sum_of(copy, context)).collect::<Result<Vec<_>, _>>()?;
        let mut same = found == sums;
        if !self.fields.sets.is_empty() {
            let copied = VolumeSet::each_from_files(copies).map_err(HandoverError::Regather)?;
            same &= copied.len() == self.fields.sets.len();
            for set in &copied {
                same &= inspect(set, context)?.is_whole();
            }
        }
        if same { Ok(()) } else { Err(HandoverError::Differ) }
    }
}

/// Of every data volume a file that has nothing wrong with it, and of every spare one that has such a file.
fn volumes((at, set): (usize, &VolumeSet), stem: &OsStr, context: &Context<'_>) -> Result<Vec<Part>, HandoverError> {
    let share = |kind, number| Some(Share::of(at, set.groups(), kind, number));
    let found = inspect(set, context)?;
    let (mut missing, mut damaged, mut whole) = (Vec::new(), Vec::new(), Vec::new());
    for volume in &found.volumes {
        let files = set.volumes.get(&volume.number).map(Vec::as_slice).unwrap_or_default();
        let good = files.iter().zip(&volume.files).find(|(_, report)| report.is_intact() && !report.supplement);
        match good {
            Some((file, _)) => {
                let mut name = stem.to_owned();
                name.push(file.suffix(volume.number, set.geometry.data_volumes));
                let bytes = file.file_bytes(set.geometry.volume_bytes(volume.number));
                let share = share(VolumeKind::Data, volume.number);
                whole.push(Part { spot: file.spot.clone(), name, bytes, share });
            }
            None if files.is_empty() => missing.push(volume.number),
            None => damaged.push(volume.number),
        }
    }
    let spares = found.spares.iter().filter(|spare| !found.not_fitting.contains(&spare.number));
    for spare in spares {
        let files = set.copies_of(VolumeKind::Spare, spare.number);
        if let Some((file, _)) = files.iter().zip(&spare.files).find(|(_, report)| report.is_intact()) {
            let mut name = stem.to_owned();
            name.push(spare_suffix(spare.number, set.spare_count()));
            let (bytes, share) = (spare_bytes(&set.geometry), share(VolumeKind::Spare, spare.number));
            whole.push(Part { spot: file.spot.clone(), name, bytes, share });
        }
    }
    if missing.is_empty() && damaged.is_empty() {
        Ok(whole)
    } else {
        Err(HandoverError::NotWhole { missing, damaged, made_good: found.needs_spares() })
    }
}

/// How many spare volumes of a set go along, where all of its data volumes do and so many files.
fn spares_of(set: &VolumeSet, files: usize) -> Option<Spares> {
    let data_volumes = set.geometry.data_volumes;
    let count = u32::try_from(files).ok()?.checked_sub(data_volumes).filter(|count| *count > 0)?;
    Some(Spares { count, may_be_lost: set.groups().survives_any(count) })
}

/// The files of an archive that is whole, as far as that can be seen.
fn files(archive: &mut Archive, is_readable: bool, context: &Context<'_>) -> Result<Vec<Part>, HandoverError> {
    if is_readable {
        let damaged = damaged_contents(archive, context)?;
        if !damaged.is_empty() {
            return Err(HandoverError::DamagedEntries(damaged.into_iter().map(|entry| entry.name).collect()));
        }
    }
    let part = |spot: Spot| {
        let bytes = spot.length()?;
        Ok(Part { name: spot.own_name().unwrap_or_default().to_owned(), spot, bytes, share: None })
    };
    archive.spots().into_iter().map(part).collect()
}
