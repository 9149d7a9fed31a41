//! Checking volumes without the password: which are here, which are missing, which are damaged and where.

use crate::context::{Cancelled, Context, Phase, Progress};
use crate::place::FileError;
use crate::volume::supplement::{Run, push_run, runs_of};
use crate::volume::{CELL_BYTES, CellReader, VolumeFile, VolumeSet};
use std::path::PathBuf;

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
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// Its length if it were whole.
    pub expected_bytes: u64,
    /// Its header is damaged.
    pub header_damaged: bool,
    /// It is a supplement: it holds some cells only, maybe of other volumes too, and is told of those of this volume.
    pub supplement: bool,
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

/// Why a check stopped.
#[derive(Debug, thiserror::Error)]
pub enum InspectError {
    /// The system refused to let a file be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// The user asked to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// Reads every cell of every file of the set and compares its check.
///
/// # Errors
/// [`InspectError`]; damage is no error but a finding.
pub fn inspect(set: &VolumeSet, context: &Context<'_>) -> Result<SetReport, InspectError> {
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

fn inspect_volume(
    number: u32,
    files: &[VolumeFile],
    reader: &mut CellReader,
    context: &Context<'_>,
) -> Result<(VolumeReport, Vec<Run>), InspectError> {
    let geometry = reader.set().geometry;
    let mut lost_everywhere: Option<Vec<u32>> = None;
    let mut reports = Vec::new();
    for (copy, file) in files.iter().enumerate() {
        let (mut lost, mut damaged) = (Vec::new(), Vec::new());
        for index in 0..geometry.cells_in(number) {
            context.go_on()?;
            let Some(offset) = file.offset_of(&geometry, number, index) else {
                lost.push(index);
                continue;
            };
            let read = reader.read_copy(number, copy, index)?;
            context.tell(Progress::Advance(geometry.cell_bytes(geometry.first_cell(number) + u64::from(index)) as u64));
            if read.is_none() {
                lost.push(index);
                damaged.push(offset);
            }
        }
        let whole = if file.runs.is_none() { geometry.volume_bytes(number) } else { file.length };
        reports.push(FileReport {
            path: file.path.clone(),
            bytes: file.length,
            expected_bytes: whole,
            header_damaged: file.header_damaged,
            supplement: file.runs.is_some(),
            damage: stretches(&damaged, whole),
        });
        lost_everywhere = Some(match lost_everywhere {
            None => lost,
            Some(before) => before.into_iter().filter(|index| lost.contains(index)).collect(),
        });
    }
    let state = match &lost_everywhere {
        None => VolumeState::Missing,
        Some(lost) if !lost.is_empty() => VolumeState::Damaged,
        Some(_) if reports.iter().any(|file| file.is_intact() && !file.supplement) => VolumeState::Intact,
        Some(_) => VolumeState::Usable,
    };
    let first = geometry.first_cell(number);
    let lost = match lost_everywhere {
        // However many volumes a header may speak of, what is missing takes a run each at the most.
        None => vec![Run { first, count: geometry.cells_in(number) }],
        Some(lost) => runs_of(lost.into_iter().map(|index| first + u64::from(index))),
    };
    Ok((VolumeReport { number, state, files: reports }, lost))
}

/// Runs of neighbouring cells, given where each begins, as byte ranges of the file.
fn stretches(damaged: &[u64], file_bytes: u64) -> Vec<Damage> {
    let mut stretches: Vec<Damage> = Vec::new();
    for from in damaged {
        let (from, to) = (*from, from.saturating_add(CELL_BYTES as u64).min(file_bytes));
        match stretches.last_mut() {
            Some(last) if last.to == from => last.to = to,
            _ => stretches.push(Damage { from, to: to.max(from) }),
        }
    }
    stretches
}
