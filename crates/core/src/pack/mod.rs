//! One whole delivery, from sources to volumes that are proven to open.
//!
//! The order protects the user: nothing is written before the target is known to be free; everything is
//! written under a staging folder; it is read back from disk, unlocked with the password and verified to
//! the last byte; and only then do the volumes get their names, all or none.

mod sealing;
pub mod target;

pub use target::{Target, TargetError, WayError};

use crate::codec::Squeeze;
use crate::context::{Cancelled, Context, NoRandomness};
use crate::entry::{EntryPath, link_stays_inside};
use crate::fit::Fit;
use crate::pipeline::Stopped;
use crate::place::staging::{Placing, Staging, StagingError};
use crate::place::{FileError, Folder};
use crate::proof::verify_contents;
use crate::sealed::{Credentials, KeyCost, SealError, SealedError, SealedReader, Totals};
use crate::source::{Catalogue, Choice, PassedOver, SourceEntry, SourceError};
use crate::volume::{GatherError, Geometry, Ids, VolumeSet, WriteError};
use sealing::Sealed;
use std::fs;
use std::path::{Path, PathBuf};

/// What to pack, and into what.
pub struct PackRequest<'a> {
    /// Files and folders.
    pub sources: &'a [PathBuf],
    /// What of them is packed.
    pub choice: &'a Choice,
    /// Where the volumes go.
    pub target: &'a Target,
    /// How large a volume may be.
    pub fit: Fit,
    /// How hard to compress.
    pub squeeze: Squeeze,
    /// What to say to whoever opens it; sealed with the rest. Empty where nothing is said.
    pub message: &'a str,
    /// Whether volumes that have the target's name already are replaced.
    pub replace: bool,
}

/// A delivery that can be made: the sources are listed and the target is free. Nothing was written yet.
#[derive(Debug)]
pub struct Delivery {
    target: Target,
    fit: Fit,
    squeeze: Squeeze,
    message: String,
    catalogue: Catalogue,
    replaced: Vec<String>,
}

/// A finished volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackedVolume {
    /// Where it is.
    pub path: PathBuf,
    /// Its length.
    pub bytes: u64,
}

/// A finished, verified delivery.
#[derive(Debug)]
pub struct Packed {
    /// Set and cutting.
    pub ids: Ids,
    /// What was packed.
    pub totals: Totals,
    /// What was read back from the finished volumes and verified.
    pub verified: Totals,
    /// The volumes in order.
    pub volumes: Vec<PackedVolume>,
    /// Old volumes that were replaced.
    pub replaced: Vec<PathBuf>,
    /// What could not be packed.
    pub passed_over: Vec<PassedOver>,
    /// What was not to be packed.
    pub left_out: LeftOut,
    /// Files that changed while they were read, twice.
    pub changed: Vec<EntryPath>,
    /// Links that an opening will not make, because they could lead outside.
    pub outward_links: Vec<EntryPath>,
}

/// What the sender's choice left out.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LeftOut {
    /// How many files, links and whole folders, by patterns or as litter.
    pub chosen: u64,
    /// Folders on other file systems.
    pub other_systems: Vec<EntryPath>,
    /// Files of this archive's own name, so that it is not packed into itself.
    pub own_output: u64,
    /// Patterns that matched nothing, as they were written.
    pub unmatched: Vec<String>,
}

/// Why nothing was packed. No volume has a final name then.
#[derive(Debug, thiserror::Error)]
pub enum PackError {
    /// The sources cannot be listed.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// Not one of the sources could be read.
    #[error("nothing could be packed")]
    NothingPacked(Vec<PassedOver>),
    /// The target is not free.
    #[error(transparent)]
    Way(#[from] WayError),
    /// The staging folder cannot be used.
    #[error(transparent)]
    Staging(#[from] StagingError),
    /// The system refused an operation.
    #[error(transparent)]
    File(#[from] FileError),
    /// The archive cannot be written.
    #[error(transparent)]
    Seal(#[from] SealError),
    /// What was written cannot be found again.
    #[error("reading back: {0}")]
    Regather(#[source] GatherError),
    /// What was written is not what was packed.
    #[error("reading back: {0}")]
    ReadBack(#[source] SealedError),
    /// What was written opens, and yet does not say the same as what was packed.
    #[error("reading back: the contents differ")]
    ContentsDiffer,
    /// The system gave no random bytes.
    #[error(transparent)]
    NoRandomness(#[from] NoRandomness),
    /// Reading was stopped, since nobody took what was read.
    #[error(transparent)]
    Stopped(#[from] Stopped),
    /// The user asked to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

impl<'a> PackRequest<'a> {
    /// Everything below the sources, in one volume, compressed as usual.
    pub fn new(sources: &'a [PathBuf], choice: &'a Choice, target: &'a Target) -> Self {
        Self { sources, choice, target, fit: Fit::OneVolume, squeeze: Squeeze::default(), message: "", replace: false }
    }
}

impl Delivery {
    /// Looks at everything that can be known before the password is.
    ///
    /// # Errors
    /// [`PackError`]; nothing was written, but what an earlier run left may have been cleared or completed.
    pub fn prepare(request: &PackRequest<'_>, context: &Context<'_>) -> Result<Self, PackError> {
        if request.fit.volume_limit().is_some_and(|limit| Geometry::cells_within(limit).is_none()) {
            return Err(SealError::from(WriteError::FitTooSmall).into());
        }
        let replaced = request.target.make_way(request.replace)?;
        // An archive that is made inside a source must not be packed into itself, nor an old one that it replaces.
        let folder = fs::canonicalize(&request.target.folder).ok();
        let is_own = |path: &Path| {
            path.parent() == folder.as_deref() && path.file_name().is_some_and(|name| request.target.is_own_name(name))
        };
        let catalogue = Catalogue::gather(request.sources, request.choice, &is_own, context)?;
        Ok(Self {
            target: request.target.clone(),
            fit: request.fit,
            squeeze: request.squeeze,
            message: request.message.to_owned(),
            catalogue,
            replaced,
        })
    }

    /// What will be packed.
    pub fn catalogue(&self) -> &Catalogue {
        &self.catalogue
    }

    /// Packs, verifies, places. Each of the credentials will open the archive; an attempt at one will cost `cost`.
    ///
    /// # Errors
    /// [`PackError`]; no volume has a name then, and old ones are as they were.
    pub fn pack(self, credentials: &[Credentials], cost: KeyCost, context: &Context<'_>) -> Result<Packed, PackError> {
        let target = Folder::open_or_create(&self.target.folder)?;
        let staging = Staging::begin(target, &self.target.stem)?;
        let mut sealed = sealing::seal(&self, credentials, cost, &staging, context)?;
        let Self { target, catalogue, replaced, .. } = self;
        if sealed.totals == Totals::default() {
            return Err(PackError::NothingPacked(sealed.passed_over));
        }
        let outward = |entry: &&SourceEntry| !link_stays_inside(&entry.path, &entry.link_target);
        let outward_links = catalogue.entries.iter().filter(outward).map(|entry| entry.path.clone()).collect();
        // With many entries the catalogue is large, and reading back needs room for the index.
        let left_out = LeftOut {
            chosen: catalogue.left_out,
            other_systems: catalogue.other_systems,
            own_output: catalogue.own_output,
            unmatched: catalogue.unmatched,
        };
        let mut passed_over = catalogue.passed_over;
        drop(catalogue.entries);
        passed_over.append(&mut sealed.passed_over);
        let verified = read_back(&sealed, credentials, &staging, context)?;
        context.go_on()?;
        staging.place(&sealed.written.placings, &replaced)?;
        let geometry = sealed.written.geometry;
        let volume = |placing: &Placing| PackedVolume {
            path: target.path_with(&placing.suffix),
            bytes: geometry.volume_bytes(placing.number),
        };
        Ok(Packed {
            ids: sealed.ids,
            totals: sealed.totals,
            verified,
            volumes: sealed.written.placings.iter().map(volume).collect(),
            replaced: replaced.iter().map(|suffix| target.path_with(suffix)).collect(),
            passed_over,
            left_out,
            changed: sealed.changed,
            outward_links,
        })
    }
}

/// Reads everything back from disk, with nothing but the staged files and the credentials, and counts it.
fn read_back(
    sealed: &Sealed,
    credentials: &[Credentials],
    staging: &Staging,
    context: &Context<'_>,
) -> Result<Totals, PackError> {
    let files: Vec<_> = sealed.written.placings.iter().map(|placing| staging.path_of(placing.number)).collect();
    let set = VolumeSet::from_files(&files).map_err(PackError::Regather)?;
    let mut verified = Totals::default();
    for (place, credentials) in credentials.iter().enumerate() {
        let mut archive = SealedReader::unlock(set.clone(), credentials).map_err(PackError::ReadBack)?;
        if archive.index_digest() != sealed.index_digest {
            return Err(PackError::ContentsDiffer);
        }
        // All keyholes lead to the same contents; once is enough.
        if place == 0 {
            verified = verify_contents(&mut archive, context).map_err(|error| match error {
                SealedError::Cancelled(cancelled) => cancelled.into(),
                error => PackError::ReadBack(error),
            })?;
        }
    }
    if verified == sealed.totals { Ok(verified) } else { Err(PackError::ContentsDiffer) }
}
