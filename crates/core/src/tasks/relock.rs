//! Locking an archive anew: other passwords, under a new key. Every cell is opened and sealed again, in its place, without being
//! decompressed: content, names and the cut stay. Set id and key are new, since one key must never seal two streams. The old volumes
//! go when the new ones have been opened with each of the new passwords and verified to the last byte, or stay where the new ones
//! go elsewhere.

use crate::disk::staging::{Staging, StagingError};
use crate::disk::{Folder, Interruption, interruptible};
use crate::formats::error::ArchiveError;
use crate::formats::reader::ArchiveReader as _;
use crate::formats::registry::SEALED;
use crate::formats::sealed::cells::{CELL_OVERHEAD, CellSeal, NotAuthentic, PlainCells};
use crate::formats::sealed::stream::CELLS_TOGETHER;
use crate::formats::sealed::volume::spares::making::{SpareError, prove_staged, stage_spares};
use crate::formats::sealed::volume::{
    Bound, Cells, GatherError, Geometry, Ids, SpareWish, VolumeSet, VolumeWriter, WriteError, WrittenVolumes,
};
use crate::formats::sealed::{ArchiveKey, HeadError, KeyCost, SealedError, SealedReader, seal_head};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::Totals;
use crate::ground::pipeline::{Buffers, Stopped, ordered};
use crate::ground::secrets::Credentials;
use crate::tasks::check::verify_contents;
use crate::tasks::in_place::{placed, placed_spares};
use crate::tasks::pack::{Target, WayError};
use std::path::PathBuf;

/// What is locked anew, and how.
pub struct RelockRequest<'a> {
    /// Where the new volumes go.
    pub target: &'a Target,
    /// Whether volumes that have the target's name already are replaced.
    pub replace: bool,
    /// Each of these opens it then, and nothing else does.
    pub credentials: &'a [Credentials],
    /// What an attempt at one of them costs.
    pub cost: KeyCost,
}

/// An archive that was locked anew.
#[derive(Debug)]
pub struct Relocked {
    /// The new set.
    pub ids: Ids,
    /// The new volumes in order, and their lengths in bytes.
    pub volumes: Vec<(PathBuf, u64)>,
    /// As many spare volumes as there were, and their lengths.
    pub spares: Vec<(PathBuf, u64)>,
    /// Old volumes that were replaced, and their lengths.
    pub replaced: Vec<(PathBuf, u64)>,
    /// What was read back from the new volumes and verified.
    pub verified: Totals,
}

/// Why an archive was not locked anew. No new volume has a final name then.
#[derive(Debug, thiserror::Error)]
pub enum RelockError {
    /// The target is not free.
    #[error(transparent)]
    Way(#[from] WayError),
    /// The staging folder cannot be used.
    #[error(transparent)]
    Staging(#[from] StagingError),
    /// The archive cannot be read.
    #[error(transparent)]
    Old(#[from] SealedError),
    /// The new head cannot be made.
    #[error(transparent)]
    Head(#[from] HeadError),
    /// A cell cannot be sealed; never in practice.
    #[error(transparent)]
    Seal(#[from] NotAuthentic),
    /// The new volumes cannot be written.
    #[error(transparent)]
    Write(#[from] WriteError),
    /// The spare volumes were not made.
    #[error(transparent)]
    Spares(#[from] SpareError),
    /// What was written cannot be found again.
    #[error("reading back: {0}")]
    Regather(#[source] GatherError),
    /// What was written cannot be read again.
    #[error("reading back: {0}")]
    ReadBack(#[source] ArchiveError),
    /// What was read back is another archive.
    #[error("reading back: the contents differ")]
    ContentsDiffer,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(RelockError);

impl Classed for RelockError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Way(error) => error.class(),
            Self::Staging(error) => error.class(),
            Self::Old(error) => error.class(),
            Self::Write(error) => error.class(),
            Self::Spares(error) => error.class(),
            Self::Head(HeadError::KeyholeCount(_)) => ErrorClass::Usage,
            Self::Head(_) | Self::Seal(_) => ErrorClass::System,
            Self::Regather(_) | Self::ContentsDiffer => ErrorClass::Damaged,
            Self::ReadBack(error) => match error.interruption() {
                Some(interruption) => interruption.class(),
                None => ErrorClass::Damaged,
            },
        }
    }
}

/// Locks an archive anew, of which all volumes must be here.
///
/// # Errors
/// [`RelockError`]; the old set is as it was.
pub fn relock(
    old: &mut SealedReader,
    request: &RelockRequest<'_>,
    context: &Context<'_>,
) -> Result<Relocked, RelockError> {
    let RelockRequest { target, replace, credentials, cost } = *request;
    let (geometry, totals) = (old.set().geometry, old.totals());
    let way = target.make_way(replace, &SEALED, context)?;
    let staging = Staging::begin(Folder::open_or_create(&target.folder)?, &target.stem, context)?;
    let ids = Ids { set: context.random()?, cut: context.random()? };
    let bound = Bound { set: ids.set, cell_length: geometry.cell_length };
    let key = ArchiveKey::generate(context).map_err(Interruption::from)?;
    let head = seal_head(&key, &bound, credentials, cost, context)?;
    let seal = CellSeal::new(&key, &bound)?;
    let limit = (geometry.data_volumes > 1).then(|| geometry.volume_bytes(1));
    let spares = SpareWish::Count(old.set().spare_count());
    let mut writer = VolumeWriter::new(&staging, ids, geometry.cell_length, limit)?.with_spares(spares);
    seal_anew(old, &seal, &mut writer, context)?;
    let mut written = writer.finish(&head)?;
    stage_spares(&mut written, &staging, context)?;
    context.tell(Progress::Staged);
    let verified = read_back(&staging, &written, (credentials, old.index_digest(), totals), context)?;
    context.go_on()?;
    old.close_files();
    staging.place(&written.all_placings(), &way.files)?;
    let (volumes, spares) = (placed(target, &written.geometry), placed_spares(target, &written.geometry));
    Ok(Relocked { ids, volumes, spares, replaced: way.replaced(target), verified })
}

/// Opens every cell, and seals it in its place under the new key, some at a time beside each other.
fn seal_anew(
    old: &mut SealedReader,
    seal: &CellSeal,
    writer: &mut VolumeWriter<'_>,
    context: &Context<'_>,
) -> Result<(), RelockError> {
    let cutting = writer.cutting();
    context.tell(Progress::Begin(Phase::Packing, old.set().geometry.total_bytes()));
    let buffers = Buffers::new(2 * context.threads);
    let (opened, written) = ordered(
        context.threads,
        |cells| open_all(old, &buffers, context, |plain| cells.submit(plain)),
        || |plain| seal.seal(plain, &cutting),
        |cells: Result<Cells, NotAuthentic>| -> Result<(), RelockError> {
            let cells = cells?;
            writer.write(&cells.bytes)?;
            context.tell(Progress::Volume(writer.volume()));
            context.tell(Progress::Advance(cells.bytes.len() as u64));
            buffers.give(cells.bytes);
            Ok(())
        },
    )?;
    // Where writing failed, opening was only stopped by that.
    written?;
    opened?;
    context.tell(Progress::End);
    Ok(())
}

/// Opens all cells in order, and submits them ready to be sealed.
fn open_all(
    old: &mut SealedReader,
    buffers: &Buffers,
    context: &Context<'_>,
    submit: impl Fn(PlainCells) -> Result<(), Stopped>,
) -> Result<(), RelockError> {
    let Geometry { cells, cell_length, .. } = old.set().geometry;
    let mut first = 0;
    while first < cells {
        context.go_on()?;
        let end = cells.min(first + CELLS_TOGETHER as u64);
        let mut bytes = buffers.take();
        bytes.clear();
        for cell in first..end {
            bytes.extend_from_slice(old.plain_cell(cell)?);
            bytes.resize(bytes.len() + CELL_OVERHEAD, 0);
        }
        submit(PlainCells { cells: Cells { first, cell_length, bytes }, with_last: end == cells })?;
        first = end;
    }
    Ok(())
}

/// Opens the staged volumes with each of the credentials, and verifies everything in them once.
fn read_back(
    staging: &Staging,
    written: &WrittenVolumes,
    (credentials, index_digest, totals): (&[Credentials], [u8; 32], Totals),
    context: &Context<'_>,
) -> Result<Totals, RelockError> {
    prove_staged(written, staging, context)?;
    let files: Vec<_> = written.placings.iter().map(|placing| staging.path_of(placing.number)).collect();
    let set = VolumeSet::from_files(&files).map_err(RelockError::Regather)?;
    let mut verified = None;
    for credentials in credentials {
        let unlocked = SealedReader::unlock(set.clone(), credentials);
        let mut archive = unlocked.map_err(|error| RelockError::ReadBack(error.into()))?;
        if archive.index_digest() != index_digest {
            return Err(RelockError::ContentsDiffer);
        }
        if verified.is_none() {
            verified = Some(verify_contents(&mut archive, context).map_err(RelockError::ReadBack)?);
        }
    }
    verified.filter(|verified| *verified == totals).ok_or(RelockError::ContentsDiffer)
}
