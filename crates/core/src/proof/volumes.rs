//! Checking volumes without the password: which are here, which are missing, which are damaged and where.

use crate::context::{Cancelled, Context, Phase, Progress};
use crate::place::FileError;
use crate::volume::{CellReader, VolumeFile, VolumeSet, cell_offset};
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
    let mut volumes = Vec::new();
    for number in 1..=set.geometry.data_volumes {
        context.tell(Progress::Volume(number));
        let files = set.volumes.get(&number).map(Vec::as_slice).unwrap_or_default();
        volumes.push(inspect_volume(number, files, &mut reader, context)?);
    }
    context.tell(Progress::End);
    Ok(SetReport { volumes })
}

fn inspect_volume(
    number: u32,
    files: &[VolumeFile],
    reader: &mut CellReader,
    context: &Context<'_>,
) -> Result<VolumeReport, InspectError> {
    let geometry = reader.set().geometry;
    let mut lost_everywhere: Option<Vec<u32>> = None;
    let mut reports = Vec::new();
    for (copy, file) in files.iter().enumerate() {
        let mut lost = Vec::new();
        for index in 0..geometry.cells_in(number) {
            context.go_on()?;
            let read = reader.read_copy(number, copy, index)?;
            context.tell(Progress::Advance(geometry.cell_bytes(geometry.first_cell(number) + u64::from(index)) as u64));
            if read.is_none() {
                lost.push(index);
            }
        }
        reports.push(FileReport {
            path: file.path.clone(),
            bytes: file.length,
            expected_bytes: geometry.volume_bytes(number),
            header_damaged: file.header_damaged,
            damage: stretches(&lost, geometry.volume_bytes(number)),
        });
        lost_everywhere = Some(match lost_everywhere {
            None => lost,
            Some(before) => before.into_iter().filter(|index| lost.contains(index)).collect(),
        });
    }
    let state = match lost_everywhere {
        None => VolumeState::Missing,
        Some(lost) if !lost.is_empty() => VolumeState::Damaged,
        Some(_) if reports.iter().any(FileReport::is_intact) => VolumeState::Intact,
        Some(_) => VolumeState::Usable,
    };
    Ok(VolumeReport { number, state, files: reports })
}

/// Runs of neighbouring cells, as byte ranges of the file.
fn stretches(lost: &[u32], volume_bytes: u64) -> Vec<Damage> {
    let mut stretches: Vec<Damage> = Vec::new();
    for index in lost {
        let (from, to) = (cell_offset(*index), cell_offset(index + 1).min(volume_bytes));
        match stretches.last_mut() {
            Some(last) if last.to == from => last.to = to,
            _ => stretches.push(Damage { from, to }),
        }
    }
    stretches
}
