//! Playing the recipient of an archive in an open format.

use super::delivering::{Parcel, deliver};
use super::{Failed, Rehearsal, RehearsalError, RehearsalRequest, Step, compared, timed};
use crate::disk::{FileAction, FileError};
use crate::formats::archive::{Archive, ArchiveError, open_format_of};
use crate::formats::zip::PartsError;
use crate::ground::context::Context;
use crate::ground::secrets::Password;
use crate::tasks::compare::TimesKept;
use crate::tasks::handover::how_to_open;
use crate::tasks::open::open;
use crate::tasks::rehearse::carriers::Sent;
use std::path::{Path, PathBuf};

pub(super) fn play(
    archive: &Archive,
    request: &RehearsalRequest<'_>,
    rehearsal: &mut Rehearsal,
    context: &Context<'_>,
) -> Result<Result<(), Failed>, RehearsalError> {
    let (inbox, outcome) = (request.place.join("inbox"), request.place.join("opened"));
    let files = sent(&archive.paths())?;
    let (known, how) = (archive.zip_password(), how_to_open(archive));
    let (secret, password, needs_names) = (known.is_some(), known.flatten(), archive.needs_names());
    let parcel = Parcel { files, set: None, secret, key_file: false, how, needs_names, unchanged: 0 };
    let carried = match deliver(parcel, request, &inbox, rehearsal, context)? {
        Ok(carried) => carried,
        Err(refused) => return Ok(Err(Failed::Refused(refused))),
    };
    let Some((_, any)) = carried.arrived.first() else {
        return Ok(Err(Failed::NotWhole { missing: rehearsal.done_to.0.clone(), damaged: Vec::new() }));
    };
    let gathered = timed(Step::Gather, rehearsal, context, || gathered(any, context));
    let mut archive = match gathered {
        Ok(archive) => archive,
        Err(failed) => return Ok(Err(failed)),
    };
    if let Some(password) = password {
        archive = match timed(Step::Unlock, rehearsal, context, || unlocked(archive, password, context)) {
            Ok(archive) => archive,
            Err(error) => return Ok(Err(error.into())),
        };
    }
    let inside = match timed(Step::Check, rehearsal, context, || archive.entries_with_digests(context)) {
        Ok(inside) => inside,
        Err(error) => return Ok(Err(error.into())),
    };
    rehearsal.totals = archive.totals();
    let opened = match timed(Step::Open, rehearsal, context, || open(&mut archive, outcome.as_path(), context)) {
        Ok(opened) => opened,
        Err(error) => return Ok(Err(error.into())),
    };
    compared((&inside, &opened), (&outcome, TimesKept::by(&archive)), request, rehearsal, context)
}

/// The archive that one of the files that arrived belongs to.
fn gathered(any: &Path, context: &Context<'_>) -> Result<Archive, Failed> {
    let format = open_format_of(any, context)?.ok_or(Failed::Unknown)?;
    Archive::open(format, any, context).map_err(|error| match error {
        ArchiveError::Parts(PartsError::Missing { missing, .. }) if !missing.is_empty() => {
            Failed::NotWhole { missing, damaged: Vec::new() }
        }
        error => error.into(),
    })
}

fn unlocked(archive: Archive, password: &Password, context: &Context<'_>) -> Result<Archive, ArchiveError> {
    Ok(match archive {
        Archive::Zip(archive) => Archive::Zip(Box::new(archive.unlocked(password.clone(), context)?)),
        other => other,
    })
}

fn sent(paths: &[PathBuf]) -> Result<Vec<Sent>, FileError> {
    let one = |(number, path): (u32, &PathBuf)| {
        let metadata = path.metadata().map_err(FileError::on(FileAction::Read, path))?;
        Ok(Sent { number, path: path.clone(), bytes: metadata.len() })
    };
    (1..).zip(paths).map(one).collect()
}
