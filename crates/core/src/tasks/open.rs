//! One whole opening: from an unlocked archive to files that have landed.

use crate::formats::archive::ArchiveError;
use crate::formats::reader::{ArchiveReader, ExtractError};
use crate::formats::sealed::Salvage;
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{Content, Entry, EntryKind, EntrySink, ListedEntry};
use crate::landing::{Destination, Flat, Foreseen, Landed, Landing, LandingError, Screen, survey};
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
    pub why: ExtractError<ArchiveError, LandingError>,
}

/// Extracts everything into `destination`.
///
/// # Errors
/// [`OpenError`].
pub fn open<'a, A: ArchiveReader>(
    archive: &mut A,
    destination: impl Into<Destination<'a>>,
    context: &Context<'_>,
) -> Result<Opened, OpenError>
where
    ArchiveError: From<A::Error>,
{
    land(&mut Whole(archive), destination.into(), context)
}

/// Extracts some entries, by their places in [`ArchiveReader::entries`], into `destination`, with the folders above them.
///
/// # Errors
/// [`OpenError`].
pub fn open_some<'a, A: ArchiveReader>(
    archive: &mut A,
    wanted: &[usize],
    destination: impl Into<Destination<'a>>,
    context: &Context<'_>,
) -> Result<Opened, OpenError>
where
    ArchiveError: From<A::Error>,
{
    let wanted = with_folders_above(archive.entries(), wanted);
    let entries = wanted.iter().map(|place| archive.entries()[*place].clone()).collect();
    land(&mut Part { archive, wanted, entries }, destination.into(), context)
}

/// Extracts everything that is whole into `destination`.
///
/// # Errors
/// [`OpenError`].
pub fn open_salvaged<'a>(
    archive: &mut Salvage,
    destination: impl Into<Destination<'a>>,
    context: &Context<'_>,
) -> Result<Opened, OpenError> {
    land(archive, destination.into(), context)
}

/// What would become of files that meet others, and whether all of these entries could land. Nothing is written.
///
/// # Errors
/// [`LandingError`].
pub fn foresee(
    entries: &[ListedEntry],
    destination: Destination<'_>,
    context: &Context<'_>,
) -> Result<Foreseen, LandingError> {
    let flat = destination.flat.then(|| Flat::of(entries));
    let entries = flat.as_ref().map_or(entries, |flat| &flat.entries);
    survey(destination.folder, entries, destination.on_clash, context)
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

type Sink<'a> = dyn EntrySink<Error = LandingError> + 'a;
type Delivered = Result<(), ExtractError<ArchiveError, LandingError>>;

/// What can be extracted: entries that are known beforehand, and then handed over.
trait Extractable {
    /// What is handed over, sorted by path.
    fn entries(&self) -> &[ListedEntry];

    fn hand_over(&mut self, sink: &mut Sink<'_>, context: &Context<'_>) -> Delivered;
}

struct Whole<'a, A>(&'a mut A);

impl<A: ArchiveReader> Extractable for Whole<'_, A>
where
    ArchiveError: From<A::Error>,
{
    fn entries(&self) -> &[ListedEntry] {
        self.0.entries()
    }

    fn hand_over(&mut self, sink: &mut Sink<'_>, context: &Context<'_>) -> Delivered {
        self.0.extract(sink, context).map_err(ExtractError::of_any_archive)
    }
}

struct Part<'a, A> {
    archive: &'a mut A,
    wanted: Vec<usize>,
    entries: Vec<ListedEntry>,
}

impl<A: ArchiveReader> Extractable for Part<'_, A>
where
    ArchiveError: From<A::Error>,
{
    fn entries(&self) -> &[ListedEntry] {
        &self.entries
    }

    fn hand_over(&mut self, sink: &mut Sink<'_>, context: &Context<'_>) -> Delivered {
        self.archive.extract_some(&self.wanted, sink, context).map_err(ExtractError::of_any_archive)
    }
}

impl Extractable for Salvage {
    fn entries(&self) -> &[ListedEntry] {
        Self::entries(self)
    }

    fn hand_over(&mut self, sink: &mut Sink<'_>, context: &Context<'_>) -> Delivered {
        self.extract(sink, context).map_err(ExtractError::of_any_archive)
    }
}

fn land(
    archive: &mut impl Extractable,
    destination: Destination<'_>,
    context: &Context<'_>,
) -> Result<Opened, OpenError> {
    let flat = destination.flat.then(|| Flat::of(archive.entries()));
    let mut landing = Landing::prepare(destination, entries_of(archive, flat.as_ref()), context)?;
    let folder = landing.destination().to_owned();
    let filled = match destination.screen {
        None => deliver(archive, flat.as_ref(), &mut landing, context),
        Some(screen) => deliver_screened(archive, flat.as_ref(), &mut landing, destination, screen, context),
    };
    let outcome = filled.and_then(|()| landing.finish().map_err(ExtractError::Sink));
    match outcome {
        Ok(()) => {
            flat.into_iter().for_each(|flat| landing.was_flattened(flat));
            Ok(Opened { destination: folder, landed: landing.landed().clone() })
        }
        Err(why) => {
            let (landed, removed) = landing.stop(entries_of(archive, flat.as_ref()));
            Err(OpenError::Stopped(Box::new(Stopped { destination: folder, landed, removed, why })))
        }
    }
}

/// The entries as they land.
fn entries_of<'a>(archive: &'a impl Extractable, flat: Option<&'a Flat>) -> &'a [ListedEntry] {
    flat.map_or_else(|| archive.entries(), |flat| &flat.entries)
}

fn deliver(
    archive: &mut impl Extractable,
    flat: Option<&Flat>,
    landing: &mut Landing,
    context: &Context<'_>,
) -> Delivered {
    let bytes = archive.entries().iter().map(|listed| listed.content.size).fold(0, u64::saturating_add);
    context.tell(Progress::Begin(Phase::Opening, bytes));
    let delivered = match flat {
        None => archive.hand_over(landing, context),
        Some(flat) => archive.hand_over(&mut Flattening { flat, landing, current: None }, context),
    };
    context.tell(Progress::End);
    delivered
}

/// Into a closed folder first; from there, when that was looked at.
fn deliver_screened(
    archive: &mut impl Extractable,
    flat: Option<&Flat>,
    landing: &mut Landing,
    destination: Destination<'_>,
    screen: Screen<'_>,
    context: &Context<'_>,
) -> Delivered {
    let staging = landing.make_staging().map_err(ExtractError::Sink)?;
    let closed = Destination { origin_marks: destination.origin_marks, ..staging.path().into() };
    let prepared = Landing::prepare(closed, entries_of(archive, flat), context);
    let mut closed = prepared.map_err(ExtractError::Sink)?.closed();
    deliver(archive, flat, &mut closed, context)?;
    let contents = closed.finish_staging().map_err(ExtractError::Sink)?;
    let marked = closed.landed().marked;
    drop(closed);
    context.go_on().map_err(ArchiveError::from)?;
    let verdict = screen(staging.path());
    // Whoever stopped this has stopped the screening too.
    context.go_on().map_err(ArchiveError::from)?;
    verdict.map_err(|why| ExtractError::Sink(LandingError::Screened(why)))?;
    landing.adopt(&staging, (&contents, marked), entries_of(archive, flat)).map_err(ExtractError::Sink)
}

/// Gives entries on with the paths that they have without folders.
struct Flattening<'a> {
    flat: &'a Flat,
    landing: &'a mut Landing,
    current: Option<Entry>,
}

impl EntrySink for Flattening<'_> {
    type Error = LandingError;

    fn begin(&mut self, entry: &Entry) -> Result<(), LandingError> {
        let place = self.flat.place_of(&entry.path).filter(|_| entry.kind == EntryKind::File);
        self.current = place.map(|path| Entry { path: path.clone(), ..entry.clone() });
        self.current.as_ref().map_or(Ok(()), |entry| self.landing.begin(entry))
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), LandingError> {
        self.landing.content(bytes)
    }

    fn hole(&mut self, bytes: u64) -> Result<(), LandingError> {
        self.landing.hole(bytes)
    }

    fn needs_digests(&self) -> bool {
        self.landing.needs_digests()
    }

    fn end(&mut self, _: &Entry, content: &Content) -> Result<(), LandingError> {
        self.current.take().map_or(Ok(()), |entry| self.landing.end(&entry, content))
    }
}
