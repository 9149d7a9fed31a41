//! One whole opening: from an unlocked archive to files that have landed.

use crate::context::{Context, Phase, Progress};
use crate::entry::ListedEntry;
use crate::landing::{Destination, Landed, Landing, LandingError};
use crate::sealed::{ExtractError, Salvage, SealedReader};
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
    /// It stopped on the way. What had landed is complete; nothing else has a name.
    #[error("{}", .0.why)]
    Stopped(Box<Stopped>),
}

/// An opening that stopped on the way.
#[derive(Debug)]
pub struct Stopped {
    /// The destination's absolute path.
    pub destination: PathBuf,
    /// What had landed before.
    pub landed: Landed,
    /// Why it stopped.
    pub why: ExtractError<LandingError>,
}

/// Extracts everything into `destination`.
///
/// # Errors
/// [`OpenError`].
pub fn open<'a>(
    archive: &mut SealedReader,
    destination: impl Into<Destination<'a>>,
    context: &Context<'_>,
) -> Result<Opened, OpenError> {
    let landing = Landing::prepare(destination.into(), archive.entries(), context)?;
    land(landing, archive.totals().content_bytes, context, |landing| archive.extract(landing, context))
}

/// Extracts some entries, by their places in [`SealedReader::entries`], into `destination`, with the folders above them.
///
/// # Errors
/// [`OpenError`].
pub fn open_some<'a>(
    archive: &mut SealedReader,
    wanted: &[usize],
    destination: impl Into<Destination<'a>>,
    context: &Context<'_>,
) -> Result<Opened, OpenError> {
    let wanted = with_folders_above(archive.entries(), wanted);
    let entries: Vec<ListedEntry> = wanted.iter().map(|place| archive.entries()[*place].clone()).collect();
    let landing = Landing::prepare(destination.into(), &entries, context)?;
    let bytes = entries.iter().map(|listed| listed.content.size).fold(0, u64::saturating_add);
    land(landing, bytes, context, |landing| archive.extract_some(&wanted, landing, context))
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

/// Extracts everything that is whole into `destination`.
///
/// # Errors
/// [`OpenError`].
pub fn open_salvaged<'a>(
    archive: &mut Salvage,
    destination: impl Into<Destination<'a>>,
    context: &Context<'_>,
) -> Result<Opened, OpenError> {
    let landing = Landing::prepare(destination.into(), archive.entries(), context)?;
    let bytes = archive.entries().iter().map(|listed| listed.content.size).fold(0, u64::saturating_add);
    land(landing, bytes, context, |landing| archive.extract(landing, context))
}

fn land(
    mut landing: Landing,
    bytes: u64,
    context: &Context<'_>,
    extract: impl FnOnce(&mut Landing) -> Result<(), ExtractError<LandingError>>,
) -> Result<Opened, OpenError> {
    let destination = landing.destination().to_owned();
    context.tell(Progress::Begin(Phase::Opening, bytes));
    let extracted = extract(&mut landing);
    context.tell(Progress::End);
    let outcome = extracted.and_then(|()| landing.finish().map_err(ExtractError::Sink));
    match outcome {
        Ok(()) => Ok(Opened { destination, landed: landing.landed().clone() }),
        Err(why) => Err(OpenError::Stopped(Box::new(Stopped { destination, landed: landing.stop(), why }))),
    }
}
