//! Media: folders that stand for discs or sticks, with a capacity and a largest file. Names are shortened as old file
//! systems do, and one medium is in the drive at a time: the recipient copies it before the next one goes in.

use super::{Carried, CarryError, Choices, Load, Sent, Trip, carried_one, copy, free_name, lose};
use crate::disk::{FileAction, FileError};
use crate::ground::context::Context;
use crate::tasks::handover::dividing::{self, Item};
use std::fs;
use std::path::{Path, PathBuf};

pub use crate::ground::fit::SECTOR_BYTES;

/// Letters of a name, and of its end (ECMA-119 section 7.5, at the first level of interchange).
const NAME_LETTERS: (usize, usize) = (8, 3);

pub(super) fn carry(
    capacity: u64,
    largest_file: u64,
    load: &Load<'_>,
    choices: &mut Choices,
    context: &Context<'_>,
) -> Result<Carried, CarryError> {
    let (fitting, too_large): (Vec<&Sent>, Vec<&Sent>) =
        load.volumes.iter().partition(|volume| volume.bytes <= largest_file && on_disc(volume.bytes) <= capacity);
    let (kept, lost) = lose(divide(&fitting, capacity), load.lost, choices)?;
    let mut carried = Carried::without(lost.iter().map(|medium| trip(medium, false)));
    for medium in choices.shuffled(kept) {
        let drive = load.under_way.join("drive");
        fs::create_dir(&drive).map_err(FileError::on(FileAction::Create, &drive))?;
        let mut recorded = Vec::new();
        for volume in &medium {
            let to = if load.keep_names { drive.join(volume.name()) } else { short_name(&volume.path, &drive) };
            copy(&volume.path, &to, context)?;
            recorded.push((volume.number, to));
        }
        for (number, from) in &recorded {
            let to = kept_name(from, load.inbox);
            copy(from, &to, context)?;
            carried.arrived.push((*number, to));
        }
        fs::remove_dir_all(&drive).map_err(FileError::on(FileAction::Remove, &drive))?;
        carried.trips.push(trip(&medium, false));
        medium.iter().for_each(|volume| carried_one(volume, context));
    }
    carried.trips.extend(too_large.iter().map(|volume| trip(&[*volume], true)));
    Ok(carried)
}

/// Of so many bytes, those in whole sectors.
pub(super) const fn whole_sectors(bytes: u64) -> u64 {
    bytes - bytes % SECTOR_BYTES
}

/// Bytes that a file takes of a medium.
const fn on_disc(bytes: u64) -> u64 {
    bytes.div_ceil(SECTOR_BYTES).saturating_mul(SECTOR_BYTES)
}

fn trip(volumes: &[&Sent], refused: bool) -> Trip {
    let bytes = volumes.iter().map(|volume| volume.bytes).sum();
    Trip { refused, ..Trip::of(volumes.iter().copied(), bytes) }
}

/// Which volumes go on which medium (see [`dividing::divide`]).
fn divide<'v>(volumes: &[&'v Sent], capacity: u64) -> Vec<Vec<&'v Sent>> {
    let items: Vec<Item> =
        volumes.iter().map(|volume| Item { bytes: on_disc(volume.bytes), share: volume.share }).collect();
    let media = dividing::divide(&items, capacity);
    media.iter().map(|medium| medium.iter().map(|at| volumes[*at]).collect()).collect()
}

/// The name that the medium's file system keeps: a few capital letters and digits, the last of them numbers where that
/// name is taken.
fn short_name(path: &Path, drive: &Path) -> PathBuf {
    let (stem, end) = (letters(path.file_stem(), NAME_LETTERS.0), letters(path.extension(), NAME_LETTERS.1));
    free_name(drive, |place| {
        let number = if place == 0 { String::new() } else { place.to_string() };
        let kept: String = stem.chars().take(NAME_LETTERS.0.saturating_sub(number.len())).collect();
        format!("{kept}{number}.{end}")
    })
}

fn letters(name: Option<&std::ffi::OsStr>, count: usize) -> String {
    let name = name.unwrap_or_default().to_string_lossy().to_ascii_uppercase();
    name.chars().filter(char::is_ascii_alphanumeric).take(count).collect()
}

/// The name under which the recipient keeps a copy: where one came from another medium already, a number tells them apart.
fn kept_name(from: &Path, inbox: &Path) -> PathBuf {
    let name = from.file_name().unwrap_or_default().to_string_lossy();
    free_name(inbox, |place| if place == 0 { name.clone().into_owned() } else { format!("{place} {name}") })
}
