//! Checking volumes: which are here, which are missing, which are damaged and where. No password is needed for that; a set that is
//! unlocked has its seals judged too, so that what was changed on purpose counts as damaged, and spare volumes as far as they make it good.

use crate::disk::Interruption;
use crate::formats::sealed::volume::spares::column::{Column, Verdict};
use crate::formats::sealed::volume::spares::reach::{Beyond, beyond};
use crate::formats::sealed::volume::spares::{cells_in_spare, spare_bytes};
use crate::formats::sealed::volume::supplement::{Run, push_run, without};
use crate::formats::sealed::volume::{
    CHECK_BYTES, CellCopy, CellReader, Geometry, Groups, SealJudge, Shortfall, VolumeKind, VolumeSet,
};
use crate::formats::spot::Spot;
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::pipeline::ordered;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

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
    /// Stretches that were changed on purpose: their checks are right and their seals are not. Known only where seals are judged.
    pub forged: Vec<Damage>,
}

impl FileReport {
    /// Whether nothing is wrong with it. Bytes behind its end do no harm.
    pub fn is_intact(&self) -> bool {
        !self.header_damaged && self.damage.is_empty() && self.forged.is_empty()
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
    /// Spare volumes make good what is lost of it.
    pub made_good: bool,
    /// Its files; more than one where there are copies.
    pub files: Vec<FileReport>,
}

impl VolumeReport {
    /// Whether some of it cannot be had from any of its files.
    pub const fn is_lost(&self) -> bool {
        matches!(self.state, VolumeState::Missing | VolumeState::Damaged)
    }

    /// Whether some of it was changed on purpose, and cannot be had from another copy.
    pub fn is_forged(&self) -> bool {
        self.is_lost() && self.files.iter().any(|file| !file.forged.is_empty())
    }
}

/// What was found of a whole set.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SetReport {
    /// Every data volume that should be here, in order.
    pub volumes: Vec<VolumeReport>,
    /// Every spare volume that was made with them or is here, in order.
    pub spares: Vec<VolumeReport>,
    /// The data cells that cannot be had from any file that has them, in order.
    pub lost: Vec<Run>,
    /// What of these the spare volumes cannot make good, and what of that is enough.
    pub beyond: Beyond,
    /// Spare volumes that are intact, but were not made of these data volumes: somebody changed one or the other on purpose. Without the
    /// password they are not used; where seals are judged, it was these.
    pub not_fitting: Vec<u32>,
    /// Some spare volumes contradict each other, and only the password can tell which are right.
    pub disputed: bool,
    /// Seals were judged, since the set is unlocked.
    pub seals_judged: bool,
}

impl SetReport {
    /// Whether volumes and spare volumes contradict each other, and nothing tells which of them were changed on purpose: nobody judged
    /// their seals.
    pub fn is_contradictory(&self) -> bool {
        self.disputed || (!self.seals_judged && !self.not_fitting.is_empty())
    }

    /// The numbers of the data volumes that were changed on purpose.
    pub fn forged(&self) -> Vec<u32> {
        self.volumes.iter().filter(|volume| volume.is_forged()).map(|volume| volume.number).collect()
    }

    /// The numbers of the data volumes in this state.
    pub fn numbers(&self, state: VolumeState) -> Vec<u32> {
        self.volumes.iter().filter(|volume| volume.state == state).map(|volume| volume.number).collect()
    }

    /// Which volumes are enough so that the spare volumes that are intact make good the rest, whatever cells are damaged.
    pub fn shortfalls(&self, groups: Groups) -> Vec<Shortfall> {
        let lost = self.volumes.iter().filter(|volume| volume.is_lost()).map(|volume| volume.number);
        let fits = |volume: &&VolumeReport| !volume.is_lost() && !self.not_fitting.contains(&volume.number);
        groups.shortfalls(lost, self.spares.iter().filter(fits).map(|volume| volume.number))
    }

    /// Whether everything that was packed can be had from what is here.
    pub fn is_complete(&self) -> bool {
        self.beyond.cells.is_empty() && !self.disputed
    }

    /// Whether of every volume, data and spare, a file is intact.
    pub fn is_whole(&self) -> bool {
        let mut all = self.volumes.iter().chain(&self.spares);
        all.all(|volume| volume.state == VolumeState::Intact) && self.not_fitting.is_empty()
    }

    /// Whether it can be had only with the spare volumes.
    pub fn needs_spares(&self) -> bool {
        self.is_complete() && !self.lost.is_empty()
    }
}

/// Reads every cell of every file of the set and compares its check, and its seal where the set is unlocked; and finds what spare volumes
/// make good.
///
/// # Errors
/// [`Interruption`]; damage is no error but a finding.
pub fn inspect(set: &VolumeSet, context: &Context<'_>) -> Result<SetReport, Interruption> {
    let bytes: u64 = set.files().map(|file| file.length).sum();
    // Where spare volumes can be compared with the others, everything is read once more.
    let is_compared = (0..set.groups().count()).any(|group| is_compared(set, group));
    let times = if is_compared { 2 } else { 1 };
    context.tell(Progress::Begin(Phase::Inspecting, bytes.saturating_mul(times)));
    let mut reader = CellReader::new(set.clone());
    let mut report = SetReport { seals_judged: set.judge.is_some(), ..SetReport::default() };
    for number in 1..=set.geometry.data_volumes {
        context.tell(Progress::Volume(number));
        let (volume, lost_here) = inspect_volume(VolumeKind::Data, number, &mut reader, context)?;
        report.volumes.push(volume);
        lost_here.into_iter().for_each(|run| push_run(&mut report.lost, run));
    }
    let mut held = BTreeMap::new();
    let made_with_them = 1..=set.geometry.spare_volumes.min(set.groups().most_spares());
    for number in made_with_them.chain(set.spares.keys().copied()).collect::<BTreeSet<u32>>() {
        let (volume, lost_here) = inspect_volume(VolumeKind::Spare, number, &mut reader, context)?;
        let index = |cell: u64| u32::try_from(cell).unwrap_or(u32::MAX);
        let here = without(&[all_of(&set.geometry, VolumeKind::Spare, number)], &lost_here);
        held.insert(number, here.iter().map(|run| index(run.first)..index(run.end())).collect::<Vec<_>>());
        report.spares.push(volume);
    }
    held.retain(|_, columns| !columns.is_empty());
    let judged = judge_spares(set, context)?;
    for (number, columns) in &judged.unused {
        match held.get_mut(number) {
            // Where seals are judged, each cell of a spare volume is good or bad by itself.
            Some(held) if report.seals_judged => *held = without_columns(held, columns),
            _ => drop(held.remove(number)),
        }
    }
    held.retain(|_, columns| !columns.is_empty());
    report.beyond = beyond(&set.geometry, &report.lost, &held);
    report.not_fitting = judged.not_fitting.into_iter().collect();
    report.disputed = judged.disputed;
    for volume in &mut report.volumes {
        let all = [Run::of_volume(&set.geometry, volume.number)];
        volume.made_good = volume.is_lost() && !report.disputed && without(&all, &report.beyond.cells) == all;
    }
    context.tell(Progress::End);
    Ok(report)
}

/// What comparing spare volumes with each other and with the data volumes came to.
#[derive(Default)]
struct Judged {
    not_fitting: BTreeSet<u32>,
    disputed: bool,
    /// Columns in which a spare volume's cell makes nothing good, in order.
    unused: BTreeMap<u32, Vec<Run>>,
}

impl Judged {
    /// Notes what came of a column, of which these spare volumes have cells.
    fn note(&mut self, index: u32, outcome: ColumnOutcome) {
        match outcome {
            ColumnOutcome::TooFew => {}
            ColumnOutcome::Disputed => self.disputed = true,
            ColumnOutcome::Contradicted(spares) => {
                self.leave(index, &spares);
                self.not_fitting.extend(spares);
            }
            ColumnOutcome::Unproven(spares) => self.leave(index, &spares),
        }
    }

    fn leave(&mut self, index: u32, spares: &[u32]) {
        for number in spares {
            push_run(self.unused.entry(*number).or_default(), Run { first: index.into(), count: 1 });
        }
    }
}

/// What comparing the cells of a column came to.
enum ColumnOutcome {
    /// There are too few spare cells to compare anything.
    TooFew,
    /// All agree but those of these spare volumes.
    Contradicted(Vec<u32>),
    /// They contradict each other, and nobody judges.
    Disputed,
    /// No choice among the cells of these spare volumes gives what was sealed.
    Unproven(Vec<u32>),
}

/// Judges a column of a group: by its seals where there is a judge, else by what most of its cells say.
fn judge_column(column: &Column, set: &VolumeSet, (group, index): (u32, u32)) -> ColumnOutcome {
    let Some(judge) = &set.judge else {
        return match column.verdict() {
            Verdict::TooFew => ColumnOutcome::TooFew,
            Verdict::Disputed => ColumnOutcome::Disputed,
            Verdict::Enough(others) => ColumnOutcome::Contradicted(others),
        };
    };
    let first = *set.groups().members(group).start();
    let is_genuine = |member: u8, bytes: &[u8]| is_genuine(&**judge, set, (first + u32::from(member), index), bytes);
    column.proven(is_genuine).map_or_else(|| ColumnOutcome::Unproven(column.spares()), ColumnOutcome::Contradicted)
}

/// Whether these bytes, and zeros behind them, are what was sealed as the cell of an index in a volume.
fn is_genuine(judge: &dyn SealJudge, set: &VolumeSet, (volume, index): (u32, u32), bytes: &[u8]) -> bool {
    let geometry = &set.geometry;
    let cell = geometry.first_cell(volume) + u64::from(index);
    let length = geometry.cell_bytes_in(VolumeKind::Data, volume, index).and_then(|cell| cell.checked_sub(CHECK_BYTES));
    let sealed = length.and_then(|length| bytes.get(..length));
    sealed.is_some_and(|sealed| judge.is_genuine(cell, cell + 1 == geometry.cells, sealed))
}

/// These columns without those.
fn without_columns(held: &[Range<u32>], unused: &[Run]) -> Vec<Range<u32>> {
    let index = |cell: u64| u32::try_from(cell).unwrap_or(u32::MAX);
    let held: Vec<Run> = held.iter().filter_map(|range| Run::between(range.start.into(), range.end.into())).collect();
    without(&held, unused).iter().map(|run| index(run.first)..index(run.end())).collect()
}

/// Compares all spare cells that are here with what the others of their columns say. Each worker reads and compares one column at a time.
fn judge_spares(set: &VolumeSet, context: &Context<'_>) -> Result<Judged, Interruption> {
    let groups = set.groups();
    let mut judged = Judged::default();
    for group in (0..groups.count()).filter(|group| is_compared(set, *group)) {
        let (produced, compared) = ordered(
            context.threads,
            |columns| (0..columns_with_spares(set, group)).try_for_each(|index| columns.submit(index)),
            || {
                let mut reader = CellReader::new(set.clone());
                move |index| {
                    context.go_on()?;
                    let before = reader.bytes_read();
                    let column = reader.read_column(group, index, None)?;
                    let judged = |column: &Column| judge_column(column, set, (group, index));
                    let outcome = column.as_ref().map_or(ColumnOutcome::TooFew, judged);
                    column.into_iter().for_each(|column| reader.give_back(column));
                    Ok::<_, Interruption>((index, outcome, reader.bytes_read() - before))
                }
            },
            |compared: Result<_, Interruption>| -> Result<(), Interruption> {
                let (index, outcome, bytes) = compared?;
                judged.note(index, outcome);
                context.tell(Progress::Advance(bytes));
                Ok(())
            },
        )?;
        compared?;
        produced?;
    }
    Ok(judged)
}

/// Whether spare volumes of a group are compared with the others: where there are more than volumes are missing, since otherwise all of
/// them are needed, and none is left to compare anything with. What they give can be judged in any case where there is a judge.
fn is_compared(set: &VolumeSet, group: u32) -> bool {
    let groups = set.groups();
    let missing = groups.members(group).filter(|number| !set.volumes.contains_key(number)).count();
    let spares = set.spares.keys().filter(|number| groups.has_spare(group, **number)).count();
    spares > missing || (spares == missing && spares > 0 && set.judge.is_some())
}

/// In how many columns of a group there may be spare cells; others are claims.
fn columns_with_spares(set: &VolumeSet, group: u32) -> u32 {
    let spares = set.spares.iter().filter(|(number, _)| set.groups().has_spare(group, **number));
    spares.flat_map(|(_, files)| files).map(|file| file.held_of_spare(&set.geometry)).max().unwrap_or(0)
}

/// All cells of a volume: those of a data volume by their numbers in the stream, those of a spare one by their indices.
fn all_of(geometry: &Geometry, kind: VolumeKind, number: u32) -> Run {
    match kind {
        VolumeKind::Spare => Run { first: 0, count: cells_in_spare(geometry) },
        _ => Run::of_volume(geometry, number),
    }
}

/// Looks at every cell that a volume's files can hold, and tells which are lost. What a header says of cells that no file has room for
/// costs nothing.
fn inspect_volume(
    kind: VolumeKind,
    number: u32,
    reader: &mut CellReader,
    context: &Context<'_>,
) -> Result<(VolumeReport, Vec<Run>), Interruption> {
    let (geometry, files) = (reader.set().geometry, reader.set().copies_of(kind, number).to_vec());
    let all = all_of(&geometry, kind, number);
    let index_of = |cell: u64| u32::try_from(cell - all.first).unwrap_or(u32::MAX);
    let mut lost_everywhere = vec![all];
    let mut reports = Vec::new();
    for (copy, file) in files.iter().enumerate() {
        let held = match kind {
            VolumeKind::Spare => Run::between(0, file.held_of_spare(&geometry).into()).into_iter().collect(),
            _ => file.held(&geometry, number),
        };
        let (mut intact, mut damaged, mut forged) = (Vec::new(), Vec::new(), Vec::new());
        for cell in held.iter().flat_map(|run| run.first..run.end()) {
            context.go_on()?;
            let index = index_of(cell);
            let before = reader.bytes_read();
            let read = reader.read_copy(kind, number, copy, index)?;
            context.tell(Progress::Advance(reader.bytes_read() - before));
            match read {
                CellCopy::Intact { .. } => push_run(&mut intact, Run { first: cell, count: 1 }),
                CellCopy::Forged => forged.extend(file.offset_of(&geometry, number, index)),
                CellCopy::Damaged => damaged.extend(file.offset_of(&geometry, number, index)),
            }
        }
        let whole = match kind {
            _ if file.runs.is_some() => file.length,
            VolumeKind::Spare => spare_bytes(&geometry),
            _ => geometry.volume_bytes(number),
        };
        let mut damage = stretches(&damaged, geometry.cell_length.bytes() as u64, whole);
        if file.length < whole {
            // What is missing at the end, in one stretch with what is damaged before it.
            let end = held.last().map_or(0, |run| index_of(run.end()));
            join(&mut damage, Damage { from: geometry.cell_length.offset_of(end).min(whole), to: whole });
        }
        let lost = without(&[all], &intact);
        reports.push(FileReport {
            spot: file.spot.clone(),
            bytes: file.length,
            expected_bytes: whole,
            header_damaged: file.header_damaged,
            supplement: file.runs.is_some(),
            has_all: lost.is_empty(),
            damage,
            forged: stretches(&forged, geometry.cell_length.bytes() as u64, whole),
        });
        lost_everywhere = without(&lost_everywhere, &intact);
    }
    let state = match lost_everywhere.as_slice() {
        _ if files.is_empty() => VolumeState::Missing,
        [_, ..] => VolumeState::Damaged,
        [] if reports.iter().any(|file| file.is_intact() && file.has_all) => VolumeState::Intact,
        [] => VolumeState::Usable,
    };
    Ok((VolumeReport { number, state, made_good: false, files: reports }, lost_everywhere))
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
