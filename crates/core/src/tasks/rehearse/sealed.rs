//! Playing the recipient of sealed volumes.

use super::delivering::{Parcel, deliver};
use super::{Failed, Rehearsal, RehearsalError, RehearsalRequest, Step, compared, timed};
use crate::disk::{FileAction, FileError};
use crate::formats::sealed::volume::{HEADER_BYTES, VolumeFile, VolumeSet};
use crate::formats::sealed::{CostLimit, SealedReader, unlock};
use crate::ground::context::Context;
use crate::ground::secrets::Credentials;
use crate::tasks::check::{VolumeState, inspect};
use crate::tasks::compare::TimesKept;
use crate::tasks::handover::HOW_TO_OPEN_VOLUMES;
use crate::tasks::open::open;
use crate::tasks::rehearse::carriers::Sent;
use std::fs;

pub(super) fn play(
    set: &VolumeSet,
    (credentials, limit): (&Credentials, CostLimit),
    request: &RehearsalRequest<'_>,
    rehearsal: &mut Rehearsal,
    context: &Context<'_>,
) -> Result<Result<(), Failed>, RehearsalError> {
    let (inbox, outcome) = (request.place.join("inbox"), request.place.join("opened"));
    let parcel = Parcel {
        files: sent(set)?,
        set: Some(set.ids.set_text()),
        secret: *credentials != Credentials::none(),
        key_file: credentials.key_file.is_some(),
        how: HOW_TO_OPEN_VOLUMES.to_owned(),
        needs_names: false,
        unchanged: HEADER_BYTES as u64,
    };
    if let Err(refused) = deliver(parcel, request, &inbox, rehearsal, context)? {
        return Ok(Err(Failed::Refused(refused)));
    }
    let set = match timed(Step::Gather, rehearsal, context, || VolumeSet::gather(std::slice::from_ref(&inbox))) {
        Ok(set) => set,
        Err(error) => return Ok(Err(error.into())),
    };
    let found = timed(Step::Check, rehearsal, context, || inspect(&set, context))?;
    if !found.is_complete() {
        let (missing, damaged) = (found.numbers(VolumeState::Missing), found.numbers(VolumeState::Damaged));
        return Ok(Err(Failed::NotWhole { missing, damaged }));
    }
    let unlocked = timed(Step::Unlock, rehearsal, context, || {
        unlock(&set, credentials, limit).and_then(|key| SealedReader::with_key(set.clone(), &key))
    });
    let mut archive = match unlocked {
        Ok(archive) => archive,
        Err(error) => return Ok(Err(Failed::Unlock(error))),
    };
    rehearsal.totals = archive.totals();
    let opened = match timed(Step::Open, rehearsal, context, || open(&mut archive, &outcome, context)) {
        Ok(opened) => opened,
        Err(error) => return Ok(Err(error.into())),
    };
    compared((archive.entries(), &opened), (&outcome, TimesKept::Nanoseconds), request, rehearsal, context)
}

/// What the sender has. The best copy comes first; a supplement of the sender's own is no volume.
fn sent(set: &VolumeSet) -> Result<Vec<Sent>, FileError> {
    let mut sent = Vec::new();
    for (number, files) in &set.volumes {
        if let Some(VolumeFile { path, .. }) = files.iter().find(|file| file.runs.is_none()) {
            let metadata = fs::metadata(path).map_err(FileError::on(FileAction::Read, path))?;
            sent.push(Sent { number: *number, path: path.clone(), bytes: metadata.len() });
        }
    }
    Ok(sent)
}
