//! An archive's own place: where it is replaced by what is made of it, and where the new volumes of it lie.

use crate::disk::staging::{self, StagingError};
use crate::disk::{Folder, folder_of};
use crate::formats::archive::Archive;
use crate::formats::registry::{Format, PAGE, SEALED};
use crate::formats::sealed::volume::names::spare_suffix;
use crate::formats::sealed::volume::spares::spare_bytes;
use crate::formats::sealed::volume::{Geometry, VolumeFile, VolumeSet};
use crate::formats::spot::Spot;
use crate::ground::context::Context;
use crate::tasks::pack::Target;
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

/// Completes, or clears away, what earlier runs of this user's left in the folder of an archive, or in this folder, where they were cut
/// off while volumes got their names: else the volumes that are there are not all of any set.
///
/// # Errors
/// [`StagingError`] from the system.
pub fn complete_earlier(place: &Path, context: &Context<'_>) -> Result<(), StagingError> {
    let folder = if place.is_dir() { place } else { folder_of(place) };
    if staging::folders_in(folder).is_empty() {
        return Ok(());
    }
    staging::settle_all(&Folder::open(folder)?, context)
}

/// Where a set lies whose volumes are there once each, under the names that they were made with, in one folder: there it can be
/// replaced. `None` for any other, and for one that is in a page.
pub fn own_place(set: &VolumeSet) -> Option<Target> {
    let count = set.geometry.data_volumes;
    let target = |number: u32, files: &[VolumeFile]| {
        let [file @ VolumeFile { runs: None, in_page: None, spot: Spot { attached: None, .. }, .. }] = files else {
            return None;
        };
        Some(Target { folder: folder_of(&file.spot.path).to_owned(), stem: file.archive_name(number, count)? })
    };
    let mut targets = set.volumes.iter().map(|(number, files)| target(*number, files));
    let first = targets.next()??;
    (set.is_certain() && targets.all(|target| target.as_ref() == Some(&first))).then_some(first)
}

/// Where a page with a sealed volume in it can be replaced. `None` for volumes that are not in a page.
pub fn own_page(set: &VolumeSet) -> Option<Target> {
    let mut files = set.volumes.values().flatten();
    let (Some(VolumeFile { spot: Spot { path, attached: None }, in_page: Some(_), .. }), None) =
        (files.next(), files.next())
    else {
        return None;
    };
    let (format, stem) = Format::of_name(path.file_name()?)?;
    let named_so = set.is_certain() && path.ends_with(named(&stem, format));
    (*format == PAGE && named_so).then(|| Target { folder: folder_of(path).to_owned(), stem })
}

/// Where an archive of an open format can be replaced: under a name that says its format, as it is written here.
pub fn own_file(archive: &Archive) -> Option<(Target, &'static Format)> {
    let Spot { path, attached: None } = archive.spots().pop()? else { return None };
    let (format, stem) = Format::of_name(path.file_name()?)?;
    let is_right = format.is_read_as(archive.format) && path.ends_with(named(&stem, format));
    let target = Target { folder: folder_of(&path).to_owned(), stem };
    is_right.then_some((target, format))
}

/// The name of an archive's only or last file.
fn named(stem: &OsStr, format: &Format) -> OsString {
    let mut name = stem.to_owned();
    name.push(format.extension());
    name
}

/// Where the data volumes of a set that is cut so have their names, in order, and their lengths in bytes.
pub fn placed(target: &Target, geometry: &Geometry) -> Vec<(PathBuf, u64)> {
    let count = geometry.data_volumes;
    let volume = |number| (target.path_with(&SEALED.suffix(number, count)), geometry.volume_bytes(number));
    (1..=count).map(volume).collect()
}

/// The same of its spare volumes.
pub fn placed_spares(target: &Target, geometry: &Geometry) -> Vec<(PathBuf, u64)> {
    let count = geometry.spare_volumes;
    (1..=count).map(|number| (target.path_with(&spare_suffix(number, count)), spare_bytes(geometry))).collect()
}
