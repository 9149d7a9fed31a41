//! Rehearsing: playing the recipient before the sender lets go. In a closed place, with nothing of the sender's but the
//! volumes and what unlocks them: what a carrier brings under other names and in another order is gathered, checked,
//! unlocked, opened, and compared with the sources.

use crate::carriers::{Carried, CarryError, Choices, Load, Sent, Trip, Way, carry};
use crate::context::{Context, NoRandomness};
use crate::entry::{EntryKind, ListedEntry};
use crate::handover::NoteFields;
use crate::opening::{OpenError, open};
use crate::place::{FileAction, FileError};
use crate::proof::{Comparison, InspectError, TimesKept, VolumeState, compare, inspect};
use crate::sealed::{CostLimit, Credentials, SealedError, SealedReader, Totals, opens_without_password, unlock};
use crate::source::{Catalogue, Choice, Naming, SourceError};
use crate::volume::{GatherError, HEADER_BYTES, VolumeFile, VolumeSet};
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::FileExt as _;
use std::path::Path;
use std::time::Duration;

/// What is rehearsed.
pub struct RehearsalRequest<'a> {
    /// The volumes.
    pub set: &'a VolumeSet,
    /// What unlocks them.
    pub credentials: &'a Credentials,
    /// How costly unlocking may be.
    pub limit: CostLimit,
    /// What they were packed from.
    pub sources: &'a Catalogue,
    /// An empty folder that only the user may enter.
    pub place: &'a Path,
    /// How the volumes go to the recipient.
    pub way: Way,
    /// What the archive is called.
    pub stem: &'a str,
    /// What goes wrong on the way.
    pub faults: Faults,
}

/// What goes wrong on the way, on request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Faults {
    /// So many volumes are lost.
    pub lost: u32,
    /// In so many places a byte is changed.
    pub damaged: u32,
    /// Which ones: the same for the same seed.
    pub seed: u64,
}

/// A step of the recipient's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    /// Volumes arrive.
    Deliver,
    /// They are known by their headers.
    Gather,
    /// Every cell's check is compared.
    Check,
    /// The archive is unlocked.
    Unlock,
    /// Everything is extracted.
    Open,
    /// What was extracted is compared with what is inside, and that with the sources.
    Compare,
}

/// Why a rehearsal did not come to its end.
#[derive(Debug, thiserror::Error)]
pub enum Failed {
    /// The carrier refused volumes for their length.
    #[error("{} trips were refused", .0.len())]
    Refused(Vec<Trip>),
    /// No set was found.
    #[error(transparent)]
    Gather(#[from] GatherError),
    /// Volumes are missing or damaged.
    #[error("volumes {missing:?} are missing, {damaged:?} damaged")]
    NotWhole {
        /// Numbers of the missing ones.
        missing: Vec<u32>,
        /// Numbers of the damaged ones.
        damaged: Vec<u32>,
    },
    /// It cannot be unlocked.
    #[error(transparent)]
    Unlock(SealedError),
    /// It cannot be extracted.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// What was extracted is not what is inside.
    #[error("what was extracted differs from what was packed")]
    Differs,
    /// The sources have changed since; the archive is good.
    #[error("the sources have changed")]
    SourcesChanged,
}

/// How it went.
#[derive(Debug)]
pub struct Rehearsal {
    /// The steps that were taken, each with how long it took; the last one failed, if one did.
    pub steps: Vec<(Step, Duration)>,
    /// Why it did not come to its end.
    pub failed: Option<Failed>,
    /// Each message, medium or upload.
    pub trips: Vec<Trip>,
    /// Numbers of the volumes that were lost, and damaged, on request.
    pub done_to: (Vec<u32>, Vec<u32>),
    /// What was extracted.
    pub totals: Totals,
    /// How the sources compare with what is inside.
    pub sources: Comparison,
}

/// Why there was no rehearsal at all.
#[derive(Debug, thiserror::Error)]
pub enum RehearsalError {
    /// The volumes cannot be carried.
    #[error(transparent)]
    Carry(#[from] CarryError),
    /// The system refused an operation on a file.
    #[error(transparent)]
    File(#[from] FileError),
    /// What was extracted cannot be listed.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// The system gave no random bytes.
    #[error(transparent)]
    NoRandomness(#[from] NoRandomness),
    /// The volumes cannot be checked.
    #[error(transparent)]
    Inspect(#[from] InspectError),
    /// Reading was cancelled.
    #[error(transparent)]
    Cancelled(#[from] crate::context::Cancelled),
}

/// Plays the recipient. What went wrong with the delivery is no error but the result.
///
/// # Errors
/// [`RehearsalError`] where it could not be played.
pub fn rehearse(request: &RehearsalRequest<'_>, context: &Context<'_>) -> Result<Rehearsal, RehearsalError> {
    let mut rehearsal = Rehearsal {
        steps: Vec::new(),
        failed: None,
        trips: Vec::new(),
        done_to: (Vec::new(), Vec::new()),
        totals: Totals::default(),
        sources: Comparison::default(),
    };
    rehearsal.failed = play(request, &mut rehearsal, context)?.err();
    Ok(rehearsal)
}

fn play(
    request: &RehearsalRequest<'_>,
    rehearsal: &mut Rehearsal,
    context: &Context<'_>,
) -> Result<Result<(), Failed>, RehearsalError> {
    let (inbox, outcome) = (request.place.join("inbox"), request.place.join("opened"));
    let (carried, done_to) = timed(Step::Deliver, rehearsal, context, || deliver(request, &inbox, context))?;
    rehearsal.trips = carried.trips;
    rehearsal.done_to = done_to;
    let refused: Vec<Trip> = rehearsal.trips.iter().filter(|trip| trip.refused).cloned().collect();
    if !refused.is_empty() {
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
        unlock(&set, request.credentials, request.limit).and_then(|key| SealedReader::with_key(set.clone(), &key))
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
    // A link that leads outside is not made, and a bit that gives rights away not restored: both are meant so.
    let refused =
        |listed: &&ListedEntry| !opened.landed.refused_links.iter().any(|link| link.path == listed.entry.path);
    let mut expected: Vec<ListedEntry> = archive.entries().iter().filter(refused).cloned().collect();
    expected
        .iter_mut()
        .filter(|listed| listed.entry.kind != EntryKind::Link)
        .for_each(|listed| listed.entry.mode &= 0o777);
    let compared = timed(Step::Compare, rehearsal, context, || -> Result<_, RehearsalError> {
        let choice = Choice { naming: Naming::Contents, ..Choice::default() };
        let there = match expected.is_empty() {
            true => Catalogue::default(),
            false => Catalogue::gather(std::slice::from_ref(&outcome), &choice, &|_| false, context)?,
        };
        Ok((
            compare(&expected, &there, TimesKept::Nanoseconds, context)?,
            compare(archive.entries(), request.sources, TimesKept::Nanoseconds, context)?,
        ))
    });
    let (landed, sources) = compared?;
    let sources_changed = !sources.is_same() || !request.sources.passed_over.is_empty();
    rehearsal.sources = sources;
    Ok(match (landed.is_same(), sources_changed) {
        (false, _) => Err(Failed::Differs),
        (true, true) => Err(Failed::SourcesChanged),
        (true, false) => Ok(()),
    })
}

/// Does a step, and notes how long it took.
fn timed<T>(step: Step, rehearsal: &mut Rehearsal, context: &Context<'_>, work: impl FnOnce() -> T) -> T {
    let now = || {
        let now = (context.clock)();
        i128::from(now.seconds) * 1_000_000_000 + i128::from(now.nanoseconds)
    };
    let begun = now();
    let outcome = work();
    let took = u64::try_from(now() - begun).unwrap_or(0);
    rehearsal.steps.push((step, Duration::from_nanos(took)));
    outcome
}

/// Numbers of the volumes that were lost, and damaged.
type DoneTo = (Vec<u32>, Vec<u32>);

/// Has the volumes carried, without those that were to be lost, and does to the others what was asked for.
fn deliver(
    request: &RehearsalRequest<'_>,
    inbox: &Path,
    context: &Context<'_>,
) -> Result<(Carried, DoneTo), RehearsalError> {
    let under_way = request.place.join("under-way");
    for folder in [inbox, &under_way] {
        fs::create_dir_all(folder).map_err(FileError::on(FileAction::Create, folder))?;
    }
    let mut volumes = sent(request.set)?;
    let fields = NoteFields {
        archive: request.stem.to_owned(),
        set: request.set.ids.set_text(),
        volumes: volumes.iter().map(|volume| (volume.name(), volume.bytes)).collect(),
        secret: !opens_without_password(&request.set.head, &request.set.ids.set),
    };
    let mut choices = Choices::new(request.faults.seed);
    let lost = (0..request.faults.lost).filter_map(|_| choices.take(&mut volumes)).map(|volume| volume.number);
    let lost = lost.collect();
    let load = Load { volumes: &volumes, fields: &fields, inbox, under_way: &under_way };
    let carried = carry(request.way, &load, &mut choices, context)?;
    let mut damaged = Vec::new();
    for _ in 0..request.faults.damaged {
        let Some((number, path)) = carried.arrived.get(choices.below(carried.arrived.len() as u64) as usize) else {
            break;
        };
        damage(path, &mut choices).map_err(FileError::on(FileAction::Write, path))?;
        damaged.push(*number);
    }
    let sorted = |mut numbers: Vec<u32>| {
        numbers.sort_unstable();
        numbers.dedup();
        numbers
    };
    Ok((carried, (sorted(lost), sorted(damaged))))
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

/// Changes a byte behind the header.
fn damage(path: &Path, choices: &mut Choices) -> io::Result<()> {
    let file = File::options().read(true).write(true).open(path)?;
    let at = HEADER_BYTES as u64 + choices.below(file.metadata()?.len().saturating_sub(HEADER_BYTES as u64));
    let mut byte = [0];
    file.read_exact_at(&mut byte, at)?;
    byte[0] = byte[0].wrapping_add(1 + choices.below(200) as u8);
    file.write_all_at(&byte, at)
}
