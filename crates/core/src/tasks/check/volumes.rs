//! Checking volumes without the password: which are here, which are missing, which are damaged and where.

use crate::disk::Interruption;
use crate::formats::sealed::volume::supplement::{Run, push_run, without};
use crate::formats::sealed::volume::{CellReader, VolumeFile, VolumeSet};
use crate::formats::spot::Spot;
use crate::ground::context::{Context, Phase, Progress};

/// A run of damaged cells in one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Damage {
    /// The first damaged byte's offset in the file.
    pub from: u64,
    /// The offset behind the last damaged byte.
    pub to: u64,
}

/// What was found of one file of a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileReport {
    /// Where it is.
    pub spot: Spot,
    /// Its length in bytes.
    pub bytes: u64,
    /// Its length if it were whole.
    pub expected_bytes: u64,
    /// Its header is damaged.
    pub header_damaged: bool,
    /// It is a supplement: it holds some cells only, maybe of other volumes too, and is told of those of this volume.
    pub supplement: bool,
    /// It has every cell of this volume, undamaged.
    pub has_all: bool,
    /// Damaged stretches, in order; what is missing at the end counts among them.
    pub damage: Vec<Damage>,
}

impl FileReport {
    /// Whether nothing is wrong with it. Bytes behind its end do no harm.
    pub fn is_intact(&self) -> bool {
        !self.header_damaged && self.damage.is_empty()
    }

    /// Whether the file ends too early.
    pub fn is_cut_short(&self) -> bool {
        self.bytes < self.expected_bytes
    }
}

/// What can be said of one volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VolumeState {
    /// One of its files has nothing wrong with it.
    Intact,
    /// Every cell can be had, but from no file that is intact by itself.
    Usable,
    /// Some cells cannot be had.
    Damaged,
    /// It is not here.
    Missing,
}

/// One volume of the set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VolumeReport {
    /// From 1.
    pub number: u32,
    /// What can be said of it.
    pub state: VolumeState,
    /// Its files; more than one where there are copies.
    pub files: Vec<FileReport>,
}

/// What was found of a whole set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetReport {
    /// Every volume that should be here, in order.
    pub volumes: Vec<VolumeReport>,
    /// The cells that cannot be had from any file, in order.
    pub lost: Vec<Run>,
}

impl SetReport {
    /// The numbers of the volumes in this state.
    pub fn numbers(&self, state: VolumeState) -> Vec<u32> {
        self.volumes.iter().filter(|volume| volume.state == state).map(|volume| volume.number).collect()
    }

    /// Whether everything that was packed can be had from what is here.
    pub fn is_complete(&self) -> bool {
        self.volumes.iter().all(|volume| matches!(volume.state, VolumeState::Intact | VolumeState::Usable))
    }
}

/// Reads every cell of every file of the set and compares its check.
///
/// # Errors
/// [`Interruption`]; damage is no error but a finding.
pub fn inspect(set: &VolumeSet, context: &Context<'_>) -> Result<SetReport, Interruption> {
    let total = set.volumes.values().flatten().map(|file| file.length).sum();
    context.tell(Progress::Begin(Phase::Inspecting, total));
    let mut reader = CellReader::new(set.clone());
    let (mut volumes, mut lost) = (Vec::new(), Vec::new());
    for number in 1..=set.geometry.data_volumes {
        context.tell(Progress::Volume(number));
        let files = set.volumes.get(&number).map(Vec::as_slice).unwrap_or_default();
        let (report, lost_here) = inspect_volume(number, files, &mut reader, context)?;
        volumes.push(report);
        lost_here.into_iter().for_each(|run| push_run(&mut lost, run));
    }
    context.tell(Progress::End);
    Ok(SetReport { volumes, lost })
}

/// Looks at every cell that a volume's files can hold. What a header says of cells that no file has room for costs nothing.
fn inspect_volume(
    number: u32,
    files: &[VolumeFile],
    reader: &mut CellReader,
    context: &Context<'_>,
) -> Result<(VolumeReport, Vec<Run>), Interruption> {
    let geometry = reader.set().geometry;
    let all = vec![Run::of_volume(&geometry, number)];
    let mut lost_everywhere = all.clone();
    let mut reports = Vec::new();
    for (copy, file) in files.iter().enumerate() {
        let held = file.held(&geometry, number);
        let (mut intact, mut damaged) = (Vec::new(), Vec::new());
        for cell in held.iter().flat_map(|run| run.first..run.end()) {
            context.go_on()?;
            let index = u32::try_from(cell - geometry.first_cell(number)).unwrap_or(u32::MAX);
            let read = reader.read_copy(number, copy, index)?;
            context.tell(Progress::Advance(geometry.cell_bytes(cell) as u64));
            match read {
                Some(_) => push_run(&mut intact, Run { first: cell, count: 1 }),
                None => damaged.extend(file.offset_of(&geometry, number, index)),
            }
        }
        let whole = if file.runs.is_none() { geometry.volume_bytes(number) } else { file.length };
        let mut damage = stretches(&damaged, geometry.cell_length.bytes() as u64, whole);
        if file.length < whole {
            // What is missing at the end, in one stretch with what is damaged before it.
            let end =
                held.last().map_or(0, |run| u32::try_from(run.end() - geometry.first_cell(number)).unwrap_or(u32::MAX));
            join(&mut damage, Damage { from: geometry.cell_length.offset_of(end).min(whole), to: whole });
        }
        let lost = without(&all, &intact);
        reports.push(FileReport {
            spot: file.spot.clone(),
            bytes: file.length,
            expected_bytes: whole,
            header_damaged: file.header_damaged,
            supplement: file.runs.is_some(),
            has_all: lost.is_empty(),
            damage,
        });
        lost_everywhere = without(&lost_everywhere, &intact);
    }
    let state = match lost_everywhere.as_slice() {
        _ if files.is_empty() => VolumeState::Missing,
        [_, ..] => VolumeState::Damaged,
        [] if reports.iter().any(|file| file.is_intact() && file.has_all) => VolumeState::Intact,
        [] => VolumeState::Usable,
    };
    Ok((VolumeReport { number, state, files: reports }, lost_everywhere))
}

/// Puts a stretch behind others, as one with the last where they touch.
fn join(stretches: &mut Vec<Damage>, next: Damage) {
    match stretches.last_mut() {
        Some(last) if last.to >= next.from => last.to = last.to.max(next.to),
        _ if next.from < next.to => stretches.push(next),
        _ => {}
    }
}

/// Runs of neighbouring cells, given where each begins, as byte ranges of the file.
fn stretches(damaged: &[u64], cell_bytes: u64, file_bytes: u64) -> Vec<Damage> {
    let mut stretches: Vec<Damage> = Vec::new();
    for from in damaged {
        let (from, to) = (*from, from.saturating_add(cell_bytes).min(file_bytes));
        join(&mut stretches, Damage { from, to: to.max(from) });
    }
    stretches
}
