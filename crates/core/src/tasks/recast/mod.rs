//! Making something else of an archive, with the same content. [`converting`]: another format, or squeezed otherwise. Here: a set is cut to another fit, without the password: cells are carried over as they are, sealed, and get new checks
//! for their new places. The set id and the head stay, so the password stays too; the cut id is new. The old volumes go when the
//! new ones are read back, or stay where the new ones go elsewhere.

pub mod converting;

use crate::disk::staging::{Staging, StagingError};
use crate::disk::{Folder, Interruption, interruptible};
use crate::formats::registry::SEALED;
use crate::formats::sealed::volume::spares::making::{SpareError, prove_staged, stage_spares};
use crate::formats::sealed::volume::{
    CellError, CellReader, GatherError, Geometry, Ids, MAX_VOLUMES, SpareWish, VolumeSet, VolumeWriter, WriteError,
    WrittenVolumes, cells_per_volume,
};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::fit::Fit;
use crate::tasks::in_place::{placed, placed_spares};
use crate::tasks::pack::{Target, WayError};
use std::path::PathBuf;

/// A set that was cut anew.
#[derive(Debug)]
pub struct Recut {
    /// Set and new cutting.
    pub ids: Ids,
    /// The new volumes in order, and their lengths in bytes.
    pub volumes: Vec<(PathBuf, u64)>,
    /// As many spare volumes as there were, and their lengths.
    pub spares: Vec<(PathBuf, u64)>,
    /// Old volumes of the target's name that were replaced, and their lengths.
    pub replaced: Vec<(PathBuf, u64)>,
}

/// Why a set was not cut anew. No new volume has a final name then.
#[derive(Debug, thiserror::Error)]
pub enum RecutError {
    /// The target is not free.
    #[error(transparent)]
    Way(#[from] WayError),
    /// The staging folder cannot be used.
    #[error(transparent)]
    Staging(#[from] StagingError),
    /// Headers contradict each other, and only the password can tell which of them to carry over.
    #[error("headers contradict each other")]
    Contradicting(Vec<PathBuf>),
    /// The fit does not hold one cell of the set, though it may hold shorter ones, which an archive that is packed anew has.
    #[error("a volume needs at least {least} bytes")]
    CellsTooLong {
        /// Bytes of each of its cells.
        cell_bytes: u64,
        /// Bytes that a volume has at least.
        least: u64,
    },
    /// A cell of the old set cannot be had.
    #[error(transparent)]
    Cell(#[from] CellError),
    /// The new volumes cannot be written.
    #[error(transparent)]
    Write(#[from] WriteError),
    /// The spare volumes were not made.
    #[error(transparent)]
    Spares(#[from] SpareError),
    /// What was written cannot be found again.
    #[error("reading back: {0}")]
    Regather(#[source] GatherError),
    /// What was read back is not what was carried over.
    #[error("reading back: the cells differ")]
    CellsDiffer,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(RecutError);

impl Classed for RecutError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Way(error) => error.class(),
            Self::Staging(error) => error.class(),
            Self::Cell(error) => error.class(),
            Self::Write(error) => error.class(),
            Self::Spares(error) => error.class(),
            Self::CellsTooLong { .. } => ErrorClass::Usage,
            Self::Regather(_) | Self::CellsDiffer | Self::Contradicting(_) => ErrorClass::Damaged,
        }
    }
}

/// How a set would be cut.
///
/// # Errors
/// [`RecutError::CellsTooLong`]; [`RecutError::Write`] where there would be too many volumes.
pub fn outline(set: &VolumeSet, fit: Fit) -> Result<Geometry, RecutError> {
    let Geometry { cells, cell_length, .. } = set.geometry;
    let cell_bytes = cell_length.bytes() as u64;
    let too_long = |_| RecutError::CellsTooLong { cell_bytes, least: cell_length.offset_of(1) };
    let per_volume = u64::from(cells_per_volume(cell_length, fit.volume_limit()).map_err(too_long)?).min(cells);
    let data_volumes = u32::try_from(cells.div_ceil(per_volume)).ok().filter(|count| *count <= MAX_VOLUMES);
    let data_volumes = data_volumes.ok_or(WriteError::TooManyVolumes)?;
    Ok(Geometry {
        data_volumes,
        spare_volumes: SpareWish::Count(set.spare_count()).count(data_volumes),
        cells_per_volume: u32::try_from(per_volume).unwrap_or(u32::MAX),
        ..set.geometry
    })
}

/// What volumes leave of a fit that was not the one which their cells were made for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slack {
    /// What each volume but the last has, in bytes.
    pub volume_bytes: u64,
    /// What it may have, in bytes.
    pub limit: u64,
    /// Fits that such volumes fill, in bytes, rising: that which they have, and the next ones.
    pub filled: Vec<u64>,
}

/// What is left of a fit by a set that is cut so; `None` where that is next to nothing, or where there is one volume.
pub fn slack(cut: &Geometry, fit: Fit) -> Option<Slack> {
    let limit = fit.volume_limit().filter(|_| cut.data_volumes > 1)?;
    let Geometry { cell_length, cells_per_volume, .. } = *cut;
    cell_length.unused(cells_per_volume, limit)?;
    let filled = (0..3).map(|more| cell_length.offset_of(cells_per_volume.saturating_add(more))).collect();
    Some(Slack { volume_bytes: cell_length.offset_of(cells_per_volume), limit, filled })
}

/// Cuts a set to another fit. Every cell of the old set must be had, by its check; every cell of the new one is read
/// back and compared before the volumes get their names.
///
/// # Errors
/// [`RecutError`]; the old set is as it was.
pub fn recut(
    set: &VolumeSet,
    target: &Target,
    fit: Fit,
    replace: bool,
    context: &Context<'_>,
) -> Result<Recut, RecutError> {
    if !set.rivals.is_empty() {
        return Err(RecutError::Contradicting(set.contradicting.clone()));
    }
    let old = target.make_way(replace, &SEALED, context)?;
    let ids = Ids { set: set.ids.set, cut: context.random()? };
    let staging = Staging::begin(Folder::open_or_create(&target.folder)?, &target.stem, context)?;
    let spares = SpareWish::Count(set.spare_count());
    let mut writer =
        VolumeWriter::new(&staging, ids, set.geometry.cell_length, fit.volume_limit())?.with_spares(spares);
    let cutting = writer.cutting();
    let mut cell = Vec::with_capacity(set.geometry.cell_length.bytes());
    let carried = digest_of_cells(set, Phase::Packing, context, |number, sealed, digest| {
        cutting.put_whole(number, sealed, digest, &mut cell);
        Ok(writer.write(&cell)?)
    })?;
    let mut written = writer.finish(&set.head)?;
    stage_spares(&mut written, &staging, context)?;
    context.tell(Progress::Staged);
    prove_staged(&written, &staging, context)?;
    if read_back(&staging, &written, context)? != carried {
        return Err(RecutError::CellsDiffer);
    }
    context.go_on()?;
    staging.place(&written.all_placings(), &old.files)?;
    let (volumes, spares) = (placed(target, &written.geometry), placed_spares(target, &written.geometry));
    Ok(Recut { ids, volumes, spares, replaced: old.replaced(target) })
}

fn read_back(staging: &Staging, written: &WrittenVolumes, context: &Context<'_>) -> Result<blake3::Hash, RecutError> {
    let files: Vec<_> = written.placings.iter().map(|placing| staging.path_of(placing.number)).collect();
    let set = VolumeSet::from_files(&files).map_err(RecutError::Regather)?;
    digest_of_cells(&set, Phase::Verifying, context, |_, _, _| Ok(()))
}

/// Reads all cells in order, gives each with its digest to `take`, and digests those.
fn digest_of_cells(
    set: &VolumeSet,
    phase: Phase,
    context: &Context<'_>,
    mut take: impl FnMut(u64, &[u8], &blake3::Hash) -> Result<(), RecutError>,
) -> Result<blake3::Hash, RecutError> {
    context.tell(Progress::Begin(phase, set.geometry.total_bytes()));
    let mut reader = CellReader::new(set.clone());
    let mut hasher = blake3::Hasher::new();
    for cell in 0..set.geometry.cells {
        context.go_on()?;
        let digest = reader.read_intact(cell)?;
        hasher.update(digest.as_bytes());
        take(cell, reader.held(), &digest)?;
        context.tell(Progress::Advance(set.geometry.cell_bytes(cell) as u64));
    }
    context.tell(Progress::End);
    Ok(hasher.finalize())
}
