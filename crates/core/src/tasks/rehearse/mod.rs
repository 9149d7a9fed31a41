//! Rehearsing: playing the recipient before the sender lets go. In a closed place, with nothing of the sender's but the
//! volumes and what unlocks them: what a carrier brings under other names and in another order is gathered, checked,
//! unlocked, opened, and compared with the sources; on request by the page in a real browser. So are archives in open formats, whose parts need their names.

pub mod browser;
pub mod carriers;
mod delivering;
mod loopback;
pub mod note;
mod playing;

use crate::disk::{Interruption, NameRules, interruptible};
use crate::formats::abilities::TimesKept;
use crate::formats::archive::Archive;
use crate::formats::error::ArchiveError;
use crate::formats::sealed::volume::{GatherError, VolumeSet};
use crate::formats::sealed::{BaseName, CostLimit, SealedError};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::Context;
use crate::ground::entry::{EntryKind, EntryPath, ListedEntry};
use crate::ground::secrets::Credentials;
use crate::landing::Places;
use crate::source::{Catalogue, SourceError};
use crate::tasks::compare::{Comparison, compare};
use crate::tasks::handover::Package;
use crate::tasks::handover::dividing::Losses;
use crate::tasks::open::{OpenError, Opened};
use crate::tasks::rehearse::carriers::{CarryError, Trip, Way};
use browser::{BrowserError, InBrowser};
use std::collections::BTreeSet;
use std::path::Path;
use std::time::Duration;

/// What is rehearsed.
pub struct RehearsalRequest<'a> {
    /// What is sent.
    pub package: &'a Package,
    /// What the recipient unlocks it with.
    pub credentials: &'a Credentials,
    /// How costly unlocking may be.
    pub limit: CostLimit,
    /// What the recipient is told about opening it.
    pub how: &'a str,
    /// What the recipient has opened before, where it is an archive of changes; the oldest first.
    pub earlier: &'a [Earlier],
    /// What it was packed from.
    pub sources: &'a Catalogue,
    /// An empty folder that only the user may enter.
    pub place: &'a Path,
    /// How the volumes go to the recipient.
    pub way: Way,
    /// What the archive is called.
    pub stem: &'a str,
    /// What goes wrong on the way.
    pub faults: Faults,
    /// The browser in which the recipient opens it, where that is rehearsed too.
    pub browser: Option<InBrowser<'a>>,
}

/// An archive that the recipient has opened already, and what unlocks it.
pub struct Earlier {
    /// Its volumes.
    pub set: VolumeSet,
    /// What unlocks it.
    pub credentials: Credentials,
    /// How costly unlocking may be.
    pub limit: CostLimit,
}

/// What goes wrong on the way, on request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Faults {
    /// So many messages, media or files are lost, with all that is in them.
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
    /// They are known by their headers, or by what they hold.
    Gather,
    /// Every cell's check is compared; every content of an open format read to its end.
    Check,
    /// The archive is unlocked.
    Unlock,
    /// The page is opened in a browser, is given what arrived and what unlocks it, and saves everything.
    Browse,
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
        /// So many spare volumes arrived, and were too few.
        spares: usize,
    },
    /// What arrived of an archive in an open format is none, or not whole.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    /// What arrived is of no known format.
    #[error("what arrived is of no known format")]
    Unknown,
    /// It cannot be unlocked.
    #[error(transparent)]
    Unlock(SealedError),
    /// The page in the browser did not save it, and said this.
    #[error("the page said: {0}")]
    Page(String),
    /// It cannot be extracted.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// What it builds upon is not among what the recipient has opened before.
    #[error("what it builds upon is not there")]
    NoBase(BaseName),
    /// What was extracted is not what is inside.
    #[error("what was extracted differs from what was packed")]
    Differs,
    /// The sources have changed since; the archive is good.
    #[error("the sources have changed")]
    SourcesChanged,
}

/// What the recipient has in the end, as opening itself reports it.
pub struct Received {
    /// What was opened: the archive that arrived, or the one that the page saved of it.
    pub archive: Archive,
    /// What has landed of it, and what has not.
    pub opened: Opened,
    /// What the folder holds then, with everything that was opened into it before; sorted.
    pub expected: Vec<ListedEntry>,
    /// How exactly times are kept in that.
    pub times: TimesKept,
}

/// How it went.
pub struct Rehearsal {
    /// The steps that were taken, each with how long it took; the last one failed, if one did.
    pub steps: Vec<(Step, Duration)>,
    /// Why it did not come to its end.
    pub failed: Option<Failed>,
    /// Each message, medium or upload.
    pub trips: Vec<Trip>,
    /// What losing any of these comes to, where there are spare volumes.
    pub losses: Option<Losses>,
    /// Numbers of the volumes that were lost with their messages or media, and damaged, on request; those of spare volumes follow those of
    /// the data volumes.
    pub done_to: (Vec<u32>, Vec<u32>),
    /// Numbers of the data volumes that were missing or damaged, and made good by spare ones.
    pub made_good: Vec<u32>,
    /// What the recipient has, once it was opened. What is told of it comes from here, and never from the sources.
    pub received: Option<Received>,
    /// How the sources compare with what is inside.
    pub sources: Comparison,
}

/// Why there was no rehearsal at all.
#[derive(Debug, thiserror::Error)]
pub enum RehearsalError {
    /// The volumes cannot be carried.
    #[error(transparent)]
    Carry(#[from] CarryError),
    /// The browser cannot be used.
    #[error(transparent)]
    Browser(BrowserError),
    /// What was extracted cannot be listed.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// What arrived cannot be read again.
    #[error(transparent)]
    Archive(ArchiveError),
    /// What is to be sent lies in messages: it was sent already.
    #[error("it lies in messages")]
    InMessages,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(RehearsalError);

impl From<ArchiveError> for RehearsalError {
    fn from(error: ArchiveError) -> Self {
        match error {
            ArchiveError::Interrupted(error) => Self::Interrupted(error),
            error => Self::Archive(error),
        }
    }
}

impl From<BrowserError> for RehearsalError {
    fn from(error: BrowserError) -> Self {
        match error {
            BrowserError::Interrupted(error) => Self::Interrupted(error),
            error => Self::Browser(error),
        }
    }
}

impl Classed for RehearsalError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Carry(error) => error.class(),
            Self::Browser(error) => error.class(),
            Self::Source(_) => ErrorClass::System,
            Self::Archive(error) => error.class(),
            Self::InMessages => ErrorClass::Usage,
        }
    }
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
        losses: None,
        done_to: (Vec::new(), Vec::new()),
        made_good: Vec::new(),
        received: None,
        sources: Comparison::default(),
    };
    let played = playing::play(request, &mut rehearsal, context)?;
    // What ends because the user wants it to has not failed.
    context.go_on()?;
    rehearsal.failed = played.err();
    Ok(rehearsal)
}

/// What both kinds of archives end with: what was extracted is compared with what is inside, and that with the sources. What the
/// recipient's own report says is not extracted is not looked for, and a bit that gives rights away not restored: both are meant so.
fn compared(
    (inside, left_behind): (&[ListedEntry], &BTreeSet<EntryPath>),
    (outcome, landed_times, source_times): (&Path, TimesKept, TimesKept),
    request: &RehearsalRequest<'_>,
    rehearsal: &mut Rehearsal,
    context: &Context<'_>,
) -> Result<Result<(), Failed>, RehearsalError> {
    let places = match Places::matter(NameRules::here(), inside.iter().map(|listed| &listed.entry.path)) {
        true => Places::here(inside),
        false => Places::default(),
    };
    let mut expected: Vec<ListedEntry> = inside.to_vec();
    for listed in &mut expected {
        listed.entry.path = places.path_here(&listed.entry.path);
        if listed.entry.kind != EntryKind::Link {
            listed.entry.mode &= 0o777;
        }
        if request.browser.is_some() {
            listed.entry.path = browser::saved_as(&listed.entry.path);
        }
    }
    expected.retain(|listed| !left_behind.contains(&listed.entry.path));
    expected.sort_by(|one, other| one.entry.path.cmp(&other.entry.path));
    let compared = timed(Step::Compare, rehearsal, context, || -> Result<_, RehearsalError> {
        Ok((
            note::holds_exactly(outcome, &expected, landed_times, context)?,
            compare(inside, request.sources, source_times, context)?,
        ))
    });
    let (is_landed, sources) = compared?;
    if let Some(received) = &mut rehearsal.received {
        (received.expected, received.times) = (expected, landed_times);
    }
    let sources_changed = !sources.is_same() || !request.sources.passed_over.is_empty();
    rehearsal.sources = sources;
    Ok(match (is_landed, sources_changed) {
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
