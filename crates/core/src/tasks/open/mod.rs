//! One whole opening: from an unlocked archive to files that have landed.

pub mod streaming;
pub mod upon;

use crate::disk::NameRules;
use crate::formats::error::ArchiveError;
use crate::formats::reader::ArchiveReader;
use crate::ground::attributes::Attribute;
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Cancelled, Context, Phase, Progress};
use crate::ground::entry::{Content, Entry, ListedEntry};
use crate::ground::sink::EntrySink;
use crate::landing::{Destination, Foreseen, Landed, Landing, LandingError, Places, Prepared, Screen, survey};
use std::collections::BTreeSet;
use std::path::PathBuf;

/// What was extracted, and where.
#[derive(Debug)]
pub struct Opened {
    /// The destination's absolute path.
    pub destination: PathBuf,
    /// What has landed.
    pub landed: Landed,
}

/// Why an opening stopped.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// Nothing was written: the destination does not suit.
    #[error(transparent)]
    Refused(#[from] LandingError),
    /// Nothing was written: what is in the archive cannot be read again.
    #[error(transparent)]
    Unreadable(#[from] ArchiveError),
    /// It stopped on the way. What stays is complete; nothing else has a name.
    #[error("{}", .0.why)]
    Stopped(Box<Stopped>),
}

/// An opening that stopped on the way.
#[derive(Debug)]
pub struct Stopped {
    /// The destination's absolute path.
    pub destination: PathBuf,
    /// What had landed before, and stays.
    pub landed: Landed,
    /// So many files had landed, and were taken back.
    pub removed: u64,
    /// Why it stopped.
    pub why: StopReason,
}

/// Extracts everything into `destination`.
pub fn open<'a>(
    archive: &mut dyn ArchiveReader,
    destination: impl Into<Destination<'a>>,
    context: &Context<'_>,
) -> Result<Opened, OpenError> {
    land(Extracted { archive, part: None }, destination.into(), context)
}

/// Extracts some entries, by their places in [`ArchiveReader::entries`], into `destination`, with the folders above them.
pub fn open_some<'a>(
    archive: &mut dyn ArchiveReader,
    wanted: &[usize],
    destination: impl Into<Destination<'a>>,
    context: &Context<'_>,
) -> Result<Opened, OpenError> {
    let all = archive.entries()?;
    let wanted = with_folders_above(all, wanted);
    let entries = wanted.iter().map(|place| all[*place].clone()).collect();
    land(Extracted { archive, part: Some((wanted, entries)) }, destination.into(), context)
}

/// What would become of files that meet others, and whether all of these entries, of all that the archive holds, could land. Nothing is
/// written.
pub fn foresee(
    all: &[ListedEntry],
    entries: &[ListedEntry],
    destination: Destination<'_>,
    context: &Context<'_>,
) -> Result<Foreseen, LandingError> {
    let places = Places::of(all, entries, NameRules::here(), destination.flat);
    survey(destination, &places, entries, context)
}

fn with_folders_above(entries: &[ListedEntry], wanted: &[usize]) -> Vec<usize> {
    let mut all: BTreeSet<usize> = wanted.iter().copied().collect();
    for place in wanted {
        for folder in entries[*place].entry.path.folders_above() {
            if let Ok(found) = entries.binary_search_by(|listed| listed.entry.path.cmp(&folder))
                && !all.insert(found)
            {
                break;
            }
        }
    }
    all.into_iter().collect()
}

/// Why an opening stopped on the way.
#[derive(Debug, thiserror::Error)]
pub enum StopReason {
    /// The archive cannot be read on.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    /// What comes out of it cannot land.
    #[error(transparent)]
    Landing(#[from] LandingError),
}

impl Classed for StopReason {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Archive(error) => error.class(),
            Self::Landing(error) => error.class(),
        }
    }
}

impl Classed for OpenError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Refused(error) => error.class(),
            Self::Unreadable(error) => error.class(),
            Self::Stopped(stopped) => stopped.why.class(),
        }
    }
}

/// What is extracted: everything, or some entries, which stand by their places and as they are.
struct Extracted<'a> {
    archive: &'a mut dyn ArchiveReader,
    part: Option<(Vec<usize>, Vec<ListedEntry>)>,
}

impl Extracted<'_> {
    /// What is delivered, sorted by path.
    fn entries(&self) -> Result<&[ListedEntry], ArchiveError> {
        self.part.as_ref().map_or_else(|| self.archive.entries(), |(_, entries)| Ok(entries))
    }

    fn deliver(&mut self, sink: &mut dyn EntrySink, context: &Context<'_>) -> Result<(), ArchiveError> {
        match &self.part {
            None => self.archive.extract(sink, context),
            Some((wanted, _)) => self.archive.extract_some(wanted, sink, context),
        }
    }
}

fn land(mut archive: Extracted<'_>, destination: Destination<'_>, context: &Context<'_>) -> Result<Opened, OpenError> {
    let (places, mut landing) = prepare(&archive, destination, context)?;
    let folder = landing.destination().to_owned();
    let filled = match destination.screen {
        None => deliver(&mut archive, &places, &mut landing, context),
        Some(screen) => deliver_screened(&mut archive, &places, &mut landing, destination, screen, context),
    };
    let outcome = filled.and_then(|()| Ok(landing.finish()?));
    match outcome {
        Ok(()) => Ok(Opened { destination: folder, landed: landing.landed().clone() }),
        Err(why) => {
            let (landed, removed) = landing.stop(places.entries(archive.entries().unwrap_or_default()));
            Err(OpenError::Stopped(Box::new(Stopped { destination: folder, landed, removed, why })))
        }
    }
}

/// What lands where, once it is known which names the destination takes.
fn prepare(
    archive: &Extracted<'_>,
    destination: Destination<'_>,
    context: &Context<'_>,
) -> Result<(Places, Landing), OpenError> {
    let (all, entries) = (archive.archive.entries()?, archive.entries()?);
    let mut rules = NameRules::here();
    loop {
        let places = Places::of(all, entries, rules, destination.flat);
        match Landing::prepare(destination, &places, entries, context)? {
            Prepared::Ready(landing) => return Ok((places, *landing)),
            Prepared::TakesOther(others) => rules = others,
        }
    }
}

fn deliver(
    archive: &mut Extracted<'_>,
    places: &Places,
    landing: &mut Landing,
    context: &Context<'_>,
) -> Result<(), StopReason> {
    let bytes = archive.entries()?.iter().map(|listed| listed.content.own_bytes()).fold(0, u64::saturating_add);
    context.tell(Progress::Begin(Phase::Opening, bytes));
    let mut sink = IntoLanding { places, landing, failed: None };
    let delivered = archive.deliver(&mut sink, context);
    context.tell(Progress::End);
    match sink.failed {
        Some(why) => Err(why.into()),
        None => Ok(delivered?),
    }
}

/// Into a closed folder first; from there, when that was looked at.
fn deliver_screened(
    archive: &mut Extracted<'_>,
    places: &Places,
    landing: &mut Landing,
    destination: Destination<'_>,
    screen: Screen<'_>,
    context: &Context<'_>,
) -> Result<(), StopReason> {
    let staging = landing.make_staging()?;
    let closed = Destination { origin_marks: destination.origin_marks, ..staging.path().into() };
    let mut closed = Landing::prepare_closed(closed, places, archive.entries()?, context)?;
    deliver(archive, places, &mut closed, context)?;
    let contents = closed.finish_staging()?;
    let (marked, attributes) = (closed.landed().marked, closed.landed().attributes.clone());
    drop(closed);
    context.go_on().map_err(ArchiveError::from)?;
    let verdict = screen(staging.path());
    // Whoever stopped this has stopped the screening too.
    context.go_on().map_err(ArchiveError::from)?;
    verdict.map_err(LandingError::Screened)?;
    Ok(landing.adopt(&staging, (&contents, marked, attributes), places.entries(archive.entries()?))?)
}

/// Hands entries to a landing as they land, and keeps why it failed.
struct IntoLanding<'a> {
    places: &'a Places,
    landing: &'a mut Landing,
    failed: Option<LandingError>,
}

impl IntoLanding<'_> {
    fn noting<T>(&mut self, outcome: Result<T, LandingError>) -> Result<T, Cancelled> {
        outcome.map_err(|why| {
            self.failed = Some(why);
            Cancelled
        })
    }
}

impl EntrySink for IntoLanding<'_> {
    fn begin(&mut self, entry: &Entry) -> Result<(), Cancelled> {
        let outcome = self.places.place(entry).map_or(Ok(()), |entry| self.landing.begin(&entry));
        self.noting(outcome)
    }

    fn attribute(&mut self, attribute: &Attribute) -> Result<(), Cancelled> {
        let outcome = self.landing.attribute(attribute);
        self.noting(outcome)
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        let outcome = self.landing.content(bytes);
        self.noting(outcome)
    }

    fn hole(&mut self, bytes: u64) -> Result<(), Cancelled> {
        let outcome = self.landing.hole(bytes);
        self.noting(outcome)
    }

    fn further_name(&mut self, entry: &Entry, of: &Entry, content: &Content) -> Result<bool, Cancelled> {
        let (Some(entry), Some(of)) = (self.places.place(entry), self.places.place(of)) else { return Ok(true) };
        let outcome = self.landing.further_name(&entry, &of, content);
        self.noting(outcome)
    }

    fn end(&mut self, entry: &Entry, content: &Content) -> Result<(), Cancelled> {
        let outcome = self.places.place(entry).map_or(Ok(()), |entry| self.landing.end(&entry, content));
        self.noting(outcome)
    }
}
