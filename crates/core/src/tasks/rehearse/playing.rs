//! Playing the recipient: what arrived is gathered, checked and unlocked with what the recipient has, opened, and compared.

use super::browser;
use super::carriers::{Carried, Sent};
use super::delivering::deliver;
use super::{Earlier, Failed, Received, Rehearsal, RehearsalError, RehearsalRequest, Step, compared, timed};
use crate::disk::names::name_of;
use crate::disk::{FileAction, FileError, Interruption, folder_of};
use crate::formats::abilities::TimesKept;
use crate::formats::archive::Archive;
use crate::formats::error::ArchiveError;
use crate::formats::reader::{ArchiveReader, Flaws};
use crate::formats::sealed::volume::{GatherError, VolumeFile, VolumeKind, VolumeSet};
use crate::formats::sealed::{SealedReader, unlock};
use crate::formats::spot::Spot;
use crate::formats::zip::ZipError;
use crate::ground::context::Context;
use crate::ground::entry::{Entry, EntryKind, EntryPath, ListedEntry};
use crate::landing::{Destination, Landed};
use crate::tasks::check::{VolumeState, inspect};
use crate::tasks::handover::Package;
use crate::tasks::handover::dividing::Share;
use crate::tasks::open::upon::{Found, look, remove_gone};
use crate::tasks::open::{Opened, open};
use crate::tasks::pack::since::state_of;
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

/// How a step ended that can fail for the recipient, and for whoever plays.
type Played<T> = Result<Result<T, Failed>, RehearsalError>;

pub(super) fn play(request: &RehearsalRequest<'_>, rehearsal: &mut Rehearsal, context: &Context<'_>) -> Played<()> {
    let (inbox, outcome) = (request.place.join("inbox"), request.place.join("opened"));
    let carried = match deliver(sent(request.package)?, request, &inbox, rehearsal, context)? {
        Ok(carried) => carried,
        Err(refused) => return Ok(Err(Failed::Refused(refused))),
    };
    let unlocked = match request.package {
        Package::Volumes { .. } => volumes(&inbox, request, rehearsal, context)?,
        Package::Archive(_) => file(&carried, request, rehearsal, context),
    };
    let (mut archive, inside) = match unlocked {
        Ok(unlocked) => unlocked,
        Err(failed) => return Ok(Err(failed)),
    };
    if let (Some(base), true) = (archive.base_name(), request.earlier.is_empty()) {
        return Ok(Err(Failed::NoBase(base.clone())));
    }
    let mut left_behind = BTreeSet::new();
    if let Err(failed) = in_turn(request.earlier, (&outcome, &mut left_behind), context)? {
        return Ok(Err(failed));
    }
    // Of what the page saved, the archive itself tells what it builds upon.
    let mut sealed = None;
    if let Some(with) = &request.browser {
        let password = request.package.is_secret().then(|| request.credentials.password.clone());
        let given = (carried.arrived.as_slice(), password);
        let place = request.place.join("browser");
        let saved = timed(Step::Browse, rehearsal, context, || browser::play(with, given, &place, context));
        let saved = match saved? {
            Ok(saved) => saved,
            Err(said) => return Ok(Err(Failed::Page(said))),
        };
        if let [ListedEntry { entry: Entry { kind: EntryKind::File, path, .. }, .. }] = inside.as_slice() {
            let found = found_there(&*archive, &outcome, context)?;
            let bytes = take_as_it_is(&saved, path, &outcome)?;
            if let (Some(found), Some(base)) = (&found, archive.base()?) {
                remove_gone(base, found, &outcome, context)?;
            }
            let landed = Landed { files: 1, bytes, ..Landed::default() };
            let opened = Opened { destination: outcome.clone(), landed };
            let inside = if archive.base_name().is_some() { state_of(&*archive)?.0 } else { inside };
            rehearsal.received = Some(Received { archive, opened, expected: Vec::new(), times: TimesKept::Neither });
            return compared(
                (&inside, &left_behind),
                (&outcome, TimesKept::Neither, TimesKept::Nanoseconds),
                request,
                rehearsal,
                context,
            );
        }
        sealed = Some(match gathered(&saved, context) {
            Ok(saved) => std::mem::replace(&mut archive, saved),
            Err(failed) => return Ok(Err(failed)),
        });
    }
    let opened = timed(Step::Open, rehearsal, context, || {
        update(&mut *archive, sealed.as_deref(), (&outcome, &mut left_behind), context)
    });
    let opened = match opened? {
        Ok(opened) => opened,
        Err(failed) => return Ok(Err(failed)),
    };
    let told = sealed.as_deref().unwrap_or(&*archive);
    let (inside, times) = match told.base_name() {
        None => (inside, archive.format.abilities.times),
        // Times are not among what changes; that of a folder tells when something in it was changed here.
        Some(_) => (state_of(told)?.0, TimesKept::Neither),
    };
    rehearsal.received = Some(Received { archive, opened, expected: Vec::new(), times: TimesKept::Neither });
    compared((&inside, &left_behind), (&outcome, times, times), request, rehearsal, context)
}

/// Opens what the recipient has had before, one after the other. Paths that are not extracted are noted beside the folder.
fn in_turn(
    earlier: &[Earlier],
    (outcome, left_behind): (&Path, &mut BTreeSet<EntryPath>),
    context: &Context<'_>,
) -> Played<()> {
    for Earlier { set, credentials, limit } in earlier {
        let unlocked = unlock(set, credentials, *limit).and_then(|key| SealedReader::with_key(set.clone(), &key));
        let mut reader = match unlocked {
            Ok(reader) => reader,
            Err(error) => return Ok(Err(Failed::Unlock(error))),
        };
        if let Err(failed) = update(&mut reader, None, (outcome, &mut *left_behind), context)? {
            return Ok(Err(failed));
        }
    }
    Ok(Ok(()))
}

/// Opens an archive into a folder, and where it holds only changes, removes what is gone. What it builds upon is told by `sealed`, where
/// that was saved as something else.
fn update(
    archive: &mut dyn ArchiveReader,
    sealed: Option<&dyn ArchiveReader>,
    (outcome, left_behind): (&Path, &mut BTreeSet<EntryPath>),
    context: &Context<'_>,
) -> Played<Opened> {
    let told = sealed.unwrap_or(archive);
    let found = found_there(told, outcome, context)?;
    if let (Some(Found { lacks_base: true, .. }), Some(base)) = (&found, told.base_name()) {
        return Ok(Err(Failed::NoBase(base.clone())));
    }
    let into = Destination { known: found.as_ref().map(|found| &found.known), ..Destination::from(outcome) };
    let opened = match open(archive, into, context) {
        Ok(opened) => opened,
        Err(error) => return Ok(Err(error.into())),
    };
    if let (Some(found), Some(base)) = (&found, sealed.map_or_else(|| archive.base(), ArchiveReader::base)?) {
        remove_gone(base, found, outcome, context)?;
    }
    left_behind.extend(opened.landed.refused_links.iter().map(|link| link.path.clone()));
    left_behind.extend(opened.landed.not_landed.iter().map(|left| left.path.clone()));
    Ok(Ok(opened))
}

/// What is in the folder of the outcome before an archive of changes is opened into it; `None` for any other archive.
fn found_there(
    archive: &dyn ArchiveReader,
    outcome: &Path,
    context: &Context<'_>,
) -> Result<Option<Found>, RehearsalError> {
    let Some(base) = archive.base()? else { return Ok(None) };
    Ok(Some(look(base, archive.entries()?, outcome, context)?))
}

/// A lone file was saved as it is, and has nothing but its name and its content; how many bytes that is.
fn take_as_it_is(saved: &Path, path: &EntryPath, outcome: &Path) -> Result<u64, FileError> {
    fs::create_dir_all(outcome).map_err(FileError::on(FileAction::Create, outcome))?;
    let to = outcome.join(name_of(browser::saved_as(path).as_bytes()));
    fs::create_dir_all(folder_of(&to)).map_err(FileError::on(FileAction::Create, &to))?;
    fs::rename(saved, &to).map_err(FileError::on(FileAction::Create, &to))?;
    Ok(to.metadata().map_err(FileError::on(FileAction::Read, &to))?.len())
}

/// An archive that was unlocked, and what is in it, with digests.
type Unlocked = (Archive, Vec<ListedEntry>);

/// Volumes: checked without the password, then unlocked.
fn volumes(
    inbox: &PathBuf,
    request: &RehearsalRequest<'_>,
    rehearsal: &mut Rehearsal,
    context: &Context<'_>,
) -> Played<Unlocked> {
    let set = match timed(Step::Gather, rehearsal, context, || VolumeSet::gather(std::slice::from_ref(inbox), context))
    {
        Ok(set) => set,
        Err(GatherError::Interrupted(stop @ Interruption::Cancelled(_))) => return Err(stop.into()),
        Err(error) => return Ok(Err(error.into())),
    };
    let found = timed(Step::Check, rehearsal, context, || inspect(&set, context))?;
    rehearsal.made_good = found.volumes.iter().filter(|one| one.made_good).map(|one| one.number).collect();
    if !found.is_complete() {
        let (missing, damaged) = (found.numbers(VolumeState::Missing), found.numbers(VolumeState::Damaged));
        return Ok(Err(Failed::NotWhole { missing, damaged, spares: set.spares.len() }));
    }
    let unlocked = timed(Step::Unlock, rehearsal, context, || {
        unlock(&set, request.credentials, request.limit).and_then(|key| SealedReader::with_key(set.clone(), &key))
    });
    Ok(unlocked.map_err(Failed::Unlock).and_then(|reader| {
        let archive = Archive::from(reader);
        let inside = archive.entries()?.to_vec();
        Ok((archive, inside))
    }))
}

/// A file of an open format: unlocked, then read to its end.
fn file(
    carried: &Carried,
    request: &RehearsalRequest<'_>,
    rehearsal: &mut Rehearsal,
    context: &Context<'_>,
) -> Result<Unlocked, Failed> {
    let Some((_, any)) = carried.arrived.first() else {
        return Err(Failed::NotWhole { missing: rehearsal.done_to.0.clone(), damaged: Vec::new(), spares: 0 });
    };
    let mut archive = timed(Step::Gather, rehearsal, context, || gathered(any, context))?;
    if archive.is_secret() {
        archive = timed(Step::Unlock, rehearsal, context, || archive.unlock(request.credentials, context))?;
    }
    let inside = timed(Step::Check, rehearsal, context, || archive.entries_with_digests(context))?;
    Ok((archive, inside))
}

/// The archive that one of the files that arrived belongs to.
fn gathered(any: &Path, context: &Context<'_>) -> Result<Archive, Failed> {
    match Archive::open(any, Flaws::Refused, context) {
        Ok(archive) => archive.ok_or(Failed::Unknown),
        Err(ArchiveError::Zip(ZipError::MissingParts { missing, .. })) if !missing.is_empty() => {
            Err(Failed::NotWhole { missing, damaged: Vec::new(), spares: 0 })
        }
        Err(error) => Err(error.into()),
    }
}

/// What the sender has. Of each volume the best copy comes first; a supplement of the sender's own is no volume.
fn sent(package: &Package) -> Result<Vec<Sent>, RehearsalError> {
    let numbered: Vec<(u32, Spot, Option<Share>)> = match package {
        Package::Archive(archive) => (1..).zip(archive.spots()).map(|(number, spot)| (number, spot, None)).collect(),
        Package::Volumes { set, .. } => {
            let is_file = |file: &&VolumeFile| file.spot.attached.is_none();
            let whole = |files: &Vec<VolumeFile>| {
                let volumes = || files.iter().filter(|file| file.runs.is_none());
                volumes().find(is_file).or_else(|| volumes().next()).map(|file| file.spot.clone())
            };
            // Spare volumes are numbered behind the others.
            let share = |kind, number| Some(Share::of(0, set.groups(), kind, number));
            let spares = set
                .spares
                .iter()
                .map(|(number, files)| (set.geometry.data_volumes + number, files, share(VolumeKind::Spare, *number)));
            let data = set.volumes.iter().map(|(number, files)| (*number, files, share(VolumeKind::Data, *number)));
            data.chain(spares).filter_map(|(number, files, share)| Some((number, whole(files)?, share))).collect()
        }
    };
    let one = |(number, spot, share): (u32, Spot, Option<Share>)| match spot {
        Spot { attached: Some(_), .. } => Err(RehearsalError::InMessages),
        Spot { path, attached: None } => {
            let bytes = fs::metadata(&path).map_err(FileError::on(FileAction::Read, &path))?.len();
            Ok(Sent { number, path, bytes, share })
        }
    };
    numbered.into_iter().map(one).collect()
}
