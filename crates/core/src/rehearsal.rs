//! Rehearsing: playing the recipient before the sender lets go. In a closed place, with nothing of the sender's but the
//! volumes and what unlocks them: copies under other names and in another order are gathered, checked, unlocked, opened,
//! and compared with the sources.

use crate::context::{Context, NoRandomness};
use crate::entry::{EntryKind, ListedEntry};
use crate::opening::{OpenError, open};
use crate::place::{FileAction, FileError};
use crate::proof::{Comparison, InspectError, VolumeState, compare, inspect};
use crate::sealed::{CostLimit, Credentials, SealedError, SealedReader, Totals, unlock};
use crate::source::{Catalogue, Choice, Naming, SourceError};
use crate::volume::{GatherError, HEADER_BYTES, VolumeFile, VolumeSet};
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
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
    /// The volumes cannot be copied.
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
    rehearsal.done_to = timed(Step::Deliver, rehearsal, context, || deliver(request, &inbox, context))?;
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
        Ok((compare(&expected, &there, context)?, compare(archive.entries(), request.sources, context)?))
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

/// Copies the volumes under other names, the last first, and does to them what was asked for. The numbers of those that
/// were lost, and damaged.
fn deliver(
    request: &RehearsalRequest<'_>,
    inbox: &Path,
    context: &Context<'_>,
) -> Result<(Vec<u32>, Vec<u32>), RehearsalError> {
    fs::create_dir_all(inbox).map_err(FileError::on(FileAction::Create, inbox))?;
    let mut numbers: Vec<u32> = request.set.volumes.keys().copied().collect();
    let mut choice = Choices::new(request.faults.seed);
    let lost: Vec<u32> = (0..request.faults.lost).filter_map(|_| choice.take(&mut numbers)).collect();
    let copies: Vec<(u32, PathBuf)> = numbers
        .iter()
        .rev()
        .enumerate()
        .map(|(place, number)| (*number, inbox.join(format!("ATT{place:05}.bin"))))
        .collect();
    for (number, to) in &copies {
        context.go_on()?;
        // The best copy comes first; a supplement of the sender's own is no volume.
        let files = request.set.volumes.get(number).into_iter().flatten();
        if let Some(VolumeFile { path, .. }) = files.into_iter().find(|file| file.runs.is_none()) {
            fs::copy(path, to).map_err(FileError::on(FileAction::Read, path))?;
        }
    }
    let mut damaged = Vec::new();
    for _ in 0..request.faults.damaged {
        let Some((number, path)) = copies.get(choice.below(copies.len() as u64) as usize) else { break };
        damage(path, &mut choice).map_err(FileError::on(FileAction::Write, path))?;
        damaged.push(*number);
    }
    let sorted = |mut numbers: Vec<u32>| {
        numbers.sort_unstable();
        numbers.dedup();
        numbers
    };
    Ok((sorted(lost), sorted(damaged)))
}

/// Changes a byte behind the header.
fn damage(path: &Path, choice: &mut Choices) -> io::Result<()> {
    let file = File::options().read(true).write(true).open(path)?;
    let at = HEADER_BYTES as u64 + choice.below(file.metadata()?.len().saturating_sub(HEADER_BYTES as u64));
    let mut byte = [0];
    file.read_exact_at(&mut byte, at)?;
    byte[0] = byte[0].wrapping_add(1 + choice.below(200) as u8);
    file.write_all_at(&byte, at)
}

/// Choices that are the same for the same seed.
struct Choices(blake3::OutputReader);

impl Choices {
    fn new(seed: u64) -> Self {
        Self(blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof())
    }

    /// A number below another; 0 where that is 0.
    fn below(&mut self, end: u64) -> u64 {
        let mut bytes = [0; 8];
        self.0.fill(&mut bytes);
        u64::from_le_bytes(bytes).checked_rem(end).unwrap_or(0)
    }

    fn take(&mut self, numbers: &mut Vec<u32>) -> Option<u32> {
        let place = self.below(numbers.len() as u64) as usize;
        (place < numbers.len()).then(|| numbers.remove(place))
    }
}
