//! The delivery: what the sender has is carried, without what is to be lost, and changed where that is asked for.

use super::{Rehearsal, RehearsalError, RehearsalRequest, Step, timed};
use crate::disk::{FileAction, FileError, read_up_to_at, write_all_at};
use crate::formats::sealed::volume::VolumeFile;
use crate::ground::codes::hexadecimal;
use crate::ground::context::Context;
use crate::tasks::handover::{NoteFields, Package};
use crate::tasks::page::{ByMail, page_sum};
use crate::tasks::rehearse::carriers::{Carried, Choices, Load, Sent, Trip, Way, carry};
use std::fs::{self, File};
use std::io;
use std::path::Path;

/// Has it carried; what arrived, or the trips that were refused.
pub(super) fn deliver(
    files: Vec<Sent>,
    request: &RehearsalRequest<'_>,
    inbox: &Path,
    rehearsal: &mut Rehearsal,
    context: &Context<'_>,
) -> Result<Result<Carried, Vec<Trip>>, RehearsalError> {
    let (carried, done_to) = timed(Step::Deliver, rehearsal, context, || carried(files, request, inbox, context))?;
    rehearsal.trips.clone_from(&carried.trips);
    rehearsal.losses = carried.losses;
    rehearsal.done_to = done_to;
    let refused: Vec<Trip> = carried.trips.iter().filter(|trip| trip.refused).cloned().collect();
    Ok(if refused.is_empty() { Ok(carried) } else { Err(refused) })
}

/// Numbers of the volumes that were lost, and damaged.
type DoneTo = (Vec<u32>, Vec<u32>);

/// Has the files carried, but for what is to be lost, and does to the others what was asked for.
fn carried(
    files: Vec<Sent>,
    request: &RehearsalRequest<'_>,
    inbox: &Path,
    context: &Context<'_>,
) -> Result<(Carried, DoneTo), RehearsalError> {
    let under_way = request.place.join("under-way");
    for folder in [inbox, &under_way] {
        fs::create_dir_all(folder).map_err(FileError::on(FileAction::Create, folder))?;
    }
    let fields = NoteFields {
        archive: request.stem.to_owned(),
        sets: request.package.set_text().into_iter().collect(),
        volumes: files.iter().map(|file| (file.name(), file.bytes)).collect(),
        // It is only known when the recipient has looked.
        spares: None,
        messages_to_spare: 0,
        upon: None,
        secret: request.package.is_secret(),
        key_file: request.credentials.key_file.is_some().then(|| "KEY-FILE".to_owned()),
        how: request.how.to_owned(),
        page: page_by_mail(&files, request).then(|| hexadecimal(&page_sum())),
        in_page: request.package.is_in_page(),
    };
    let mut choices = Choices::new(request.faults.seed);
    let load = Load {
        volumes: &files,
        fields: &fields,
        inbox,
        under_way: &under_way,
        keep_names: request.package.needs_names(),
        lost: request.faults.lost,
    };
    let carried = carry(request.way, &load, &mut choices, context)?;
    let lost = carried.trips.iter().filter(|trip| trip.lost).flat_map(|trip| trip.volumes.clone()).collect();
    // A volume whose header is damaged would be no volume of the set any more.
    let unchanged = match request.package {
        Package::Volumes { set, .. } => set.any_file().map_or(0, VolumeFile::cells_at),
        Package::Archive(_) => 0,
    };
    let mut damaged = Vec::new();
    for _ in 0..request.faults.damaged {
        let Some((number, path)) = carried.arrived.get(choices.below(carried.arrived.len() as u64) as usize) else {
            break;
        };
        damage(path, unchanged, &mut choices).map_err(FileError::on(FileAction::Write, path))?;
        damaged.push(*number);
    }
    let sorted = |mut numbers: Vec<u32>| {
        numbers.sort_unstable();
        numbers.dedup();
        numbers
    };
    Ok((carried, (sorted(lost), sorted(damaged))))
}

/// Whether the page goes with the volumes by mail, as `handover` has it unless it is told otherwise.
fn page_by_mail(files: &[Sent], request: &RehearsalRequest<'_>) -> bool {
    let (Way::Mail { limit }, Package::Volumes { set, .. }) = (request.way, request.package) else { return false };
    let first = files.first().map_or(0, |file| file.bytes);
    !set.is_in_page() && ByMail::of(first, limit) != ByMail::NotAtAll
}

/// Changes a byte behind those that stay as they are.
fn damage(path: &Path, unchanged: u64, choices: &mut Choices) -> io::Result<()> {
    let file = File::options().read(true).write(true).open(path)?;
    let at = unchanged + choices.below(file.metadata()?.len().saturating_sub(unchanged));
    let mut byte = [0];
    read_up_to_at(&file, &mut byte, at)?;
    byte[0] = byte[0].wrapping_add(1 + choices.below(200) as u8);
    write_all_at(&file, &byte, at)
}
