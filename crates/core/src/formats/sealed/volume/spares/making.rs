//! Making spare volumes: column by column out of data cells whose checks are right, so that memory does not grow with the volumes.

use super::cells_in_spare;
use super::code::Sums;
use super::column::Column;
use crate::disk::staging::{Placing, Staging};
use crate::disk::{FileError, Interruption, NewFile, digest_of, interruptible};
use crate::formats::sealed::volume::cell::CellPlace;
use crate::formats::sealed::volume::header::Header;
use crate::formats::sealed::volume::names::spare_suffix;
use crate::formats::sealed::volume::{
    CHECK_BYTES, CellError, CellReader, GatherError, VolumeKind, VolumeSet, WrittenVolumes,
};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::pipeline::{Stopped, ordered};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// Why spare volumes were not made.
#[derive(Debug, thiserror::Error)]
pub enum SpareError {
    /// The data volumes cannot be found again.
    #[error("reading back: {0}")]
    Regather(#[source] GatherError),
    /// A data cell cannot be had.
    #[error(transparent)]
    Cell(#[from] CellError),
    /// What was written of a volume cannot be read again as it was.
    #[error("volume {0} is damaged as it was written")]
    Damaged(u32),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(SpareError);

impl Classed for SpareError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Cell(error) => error.class(),
            Self::Regather(_) | Self::Damaged(_) => ErrorClass::Damaged,
        }
    }
}

/// Makes the spare volumes that the headers of staged data volumes speak of, beside those. [`prove_staged`] reads them back.
///
/// # Errors
/// [`SpareError`].
pub fn stage_spares(written: &mut WrittenVolumes, staging: &Staging, context: &Context<'_>) -> Result<(), SpareError> {
    let count = written.geometry.spare_volumes;
    let Some(last) = written.placings.last().filter(|_| count > 0) else { return Ok(()) };
    let staged_number = |number: u32| last.number.saturating_add(number);
    let files: Vec<_> = written.placings.iter().map(|placing| staging.path_of(placing.number)).collect();
    let set = VolumeSet::from_files(&files).map_err(SpareError::Regather)?;
    let numbers: Vec<u32> = (1..=count).collect();
    let digests = make_spares(&set, &numbers, |number| staging.create(staged_number(number)), context)?;
    written.spares = numbers
        .iter()
        .map(|number| Placing { number: staged_number(*number), suffix: spare_suffix(*number, count) })
        .collect();
    written.spare_digests = digests.into_values().collect();
    Ok(())
}

/// Whether staged volumes are what was written, as far as their cells do not prove it: every header, and every spare volume.
///
/// # Errors
/// [`SpareError::Damaged`], the first that is not.
pub fn prove_staged(written: &WrittenVolumes, staging: &Staging, context: &Context<'_>) -> Result<(), SpareError> {
    if let Some(number) = written.wrong_header(staging)? {
        return Err(SpareError::Damaged(number));
    }
    let spares = written.spares.iter().zip(&written.spare_digests);
    let files: Vec<_> = (1..)
        .zip(spares)
        .map(|(number, (placing, digest))| (number, staging.path_of(placing.number), *digest))
        .collect();
    prove_files(&files, context)
}

/// Reads files of volumes, each with its number, and compares them with the BLAKE3 of what was written.
///
/// # Errors
/// [`SpareError::Damaged`], the first that is not.
pub fn prove_files(files: &[(u32, PathBuf, blake3::Hash)], context: &Context<'_>) -> Result<(), SpareError> {
    for (number, path, digest) in files {
        if digest_of(path, context)? != *digest {
            return Err(SpareError::Damaged(*number));
        }
    }
    Ok(())
}

/// Makes the spare volumes of these numbers, in files that `create` gives, and waits until the disk holds them; the BLAKE3 of each.
///
/// # Errors
/// [`CellError`] where a data cell cannot be had, not even from other spare volumes, or where a file cannot be written.
pub fn make_spares(
    set: &VolumeSet,
    numbers: &[u32],
    mut create: impl FnMut(u32) -> Result<NewFile, FileError>,
    context: &Context<'_>,
) -> Result<BTreeMap<u32, blake3::Hash>, CellError> {
    let groups = set.groups();
    let mut digests = BTreeMap::new();
    let mut by_group = BTreeMap::<u32, Vec<(u32, u8)>>::new();
    for number in numbers {
        let Some((group, place)) = groups.of_spare(*number) else { continue };
        by_group.entry(group).or_default().push((*number, place));
    }
    let bytes_of = |group| groups.members(group).map(|number| set.geometry.volume_bytes(number)).sum::<u64>();
    context.tell(Progress::Begin(Phase::Sparing, by_group.keys().map(|group| bytes_of(*group)).sum()));
    for (group, spares) in by_group {
        let mut files: Vec<(NewFile, blake3::Hasher)> = Vec::with_capacity(spares.len());
        for (number, _) in &spares {
            let mut file = create(*number)?;
            let (ids, geometry, head) = (set.ids, set.geometry, set.head.clone());
            let header = Header { kind: VolumeKind::Spare, ids, number: *number, geometry, head }.encode();
            file.write(&header)?;
            let mut digest = blake3::Hasher::new();
            digest.update(&header);
            files.push((file, digest));
        }
        write_cells(set, group, &spares, &mut files, context)?;
        for ((number, _), (file, digest)) in spares.iter().zip(files) {
            file.finish()?;
            digests.insert(*number, digest.finalize());
        }
    }
    context.tell(Progress::End);
    Ok(digests)
}

/// Writes all cells of a group's spare volumes, each into its file. Each worker reads, compares and sums up one column at a time.
fn write_cells(
    set: &VolumeSet,
    group: u32,
    spares: &[(u32, u8)],
    files: &mut [(NewFile, blake3::Hasher)],
    context: &Context<'_>,
) -> Result<(), CellError> {
    let (groups, geometry) = (set.groups(), set.geometry);
    let members = u8::try_from(groups.members(group).count()).unwrap_or(u8::MAX);
    let sums = Sums::of_spares(&spares.iter().map(|(_, place)| *place).collect::<Vec<_>>(), members);
    let (produced, written) = ordered(
        context.threads,
        |indices| (0..cells_in_spare(&geometry)).try_for_each(|index| indices.submit(index)),
        || {
            let (mut reader, mut column) = (CellReader::new(set.clone()), Column::default());
            let sums = &sums;
            move |index| {
                context.go_on()?;
                let read = read_members(&mut reader, group, index, &mut column)?;
                let cells = spare_cells(set, sums, spares, index, &column).ok_or(Stopped::Unwanted)?;
                Ok::<_, CellError>((cells, read))
            }
        },
        |made: Result<(Vec<u8>, u64), CellError>| -> Result<(), CellError> {
            let (cells, read) = made?;
            let cells = cells.chunks_exact(geometry.cell_length.bytes());
            files.iter_mut().zip(cells).try_for_each(|((file, digest), cell)| {
                digest.update(cell);
                file.write(cell)
            })?;
            context.tell(Progress::Advance(read));
            Ok(())
        },
    )?;
    // Where writing failed, the rest was only stopped by that.
    written?;
    Ok(produced?)
}

/// The data cells of an index in a group; how many bytes they have.
fn read_members(reader: &mut CellReader, group: u32, index: u32, column: &mut Column) -> Result<u64, CellError> {
    let (groups, geometry) = (reader.set().groups(), reader.set().geometry);
    column.begin(geometry.cell_length.bytes());
    let mut read = 0;
    for (member, number) in (0..).zip(groups.members(group)).filter(|(_, number)| index < geometry.cells_in(*number)) {
        let cell = geometry.first_cell(number) + u64::from(index);
        column.take_member(member, |into| {
            reader.read_intact(cell)?;
            into[..reader.held().len()].copy_from_slice(reader.held());
            Ok::<_, CellError>(Some(reader.held().len()))
        })?;
        read += geometry.cell_bytes(cell) as u64;
    }
    Ok(read)
}

/// The cells of the spare volumes at an index, one behind the other, with their checks.
fn spare_cells(set: &VolumeSet, sums: &Sums, spares: &[(u32, u8)], index: u32, column: &Column) -> Option<Vec<u8>> {
    let members = column.whole()?;
    let cell_bytes = set.geometry.cell_length.bytes();
    let mut cells = vec![0; cell_bytes * spares.len()];
    for ((sum, (number, _)), cell) in spares.iter().enumerate().zip(cells.chunks_exact_mut(cell_bytes)) {
        sums.work_out(sum, &members, cell);
        let (sealed, check) = cell.split_last_chunk_mut::<CHECK_BYTES>()?;
        let place = CellPlace { ids: &set.ids, kind: VolumeKind::Spare, volume: *number, index };
        *check = place.check(&blake3::hash(sealed));
    }
    Some(cells)
}
