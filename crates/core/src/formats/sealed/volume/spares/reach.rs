//! What spare volumes can make good, reckoned from which cells of which volumes are lost: of each column as many as there are spare cells
//! of it. Cells are told as runs, which may be claims, and are never gone through one by one.

use super::Groups;
use crate::formats::sealed::volume::Geometry;
use crate::formats::sealed::volume::supplement::{Run, push_run};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

/// What spare volumes cannot make good.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Beyond {
    /// The cells that cannot be recreated, in order.
    pub cells: Vec<Run>,
    /// Some of them, as few as possible: with these here, all others can be recreated.
    pub asked: Vec<Run>,
}

/// Neighbouring columns of a group in which the same volumes are lost.
struct Stretch {
    columns: Range<u32>,
    lost: Vec<u32>,
    /// So many cells of each column are one too few.
    lacking: usize,
}

/// What of the lost cells the spare volumes cannot make good, given which cells of each spare volume are here.
pub fn beyond(geometry: &Geometry, lost: &[Run], spares: &BTreeMap<u32, Vec<Range<u32>>>) -> Beyond {
    if spares.is_empty() {
        return Beyond { cells: lost.to_vec(), asked: lost.to_vec() };
    }
    let groups = Groups::of(geometry.data_volumes);
    let mut by_group = BTreeMap::<u32, Vec<(u32, Range<u32>)>>::new();
    for (number, columns) in by_volume(geometry, lost) {
        by_group.entry(groups.of_volume(number)).or_default().push((number, columns));
    }
    let (mut cells, mut asked) = (Vec::new(), Vec::new());
    for (group, lost) in by_group {
        let here = spares
            .iter()
            .filter(|(number, _)| groups.has_spare(group, **number))
            .flat_map(|(_, columns)| columns.clone());
        let stretches = stretches(&lost, &here.collect::<Vec<_>>());
        // The same volumes are asked for all along, the one with the most such columns first, so that the runs are few. Of equal ones
        // that is the last, whose last cell may be shorter.
        let mut columns = BTreeMap::<u32, u64>::new();
        for Stretch { columns: these, lost, .. } in &stretches {
            lost.iter().for_each(|number| *columns.entry(*number).or_default() += u64::from(these.end - these.start));
        }
        let mut preferred: Vec<u32> = columns.keys().copied().collect();
        preferred.sort_by_key(|number| (columns.get(number).copied(), *number));
        for Stretch { columns, lost, lacking } in stretches {
            let run = |number: u32| Run {
                first: geometry.first_cell(number) + u64::from(columns.start),
                count: columns.end - columns.start,
            };
            cells.extend(lost.iter().map(|number| run(*number)));
            asked.extend(
                preferred.iter().rev().filter(|number| lost.contains(number)).take(lacking).map(|number| run(*number)),
            );
        }
    }
    Beyond { cells: sorted(cells), asked: sorted(asked) }
}

/// Runs cut where a volume ends: for each its number and the indices of its cells.
fn by_volume<'a>(geometry: &'a Geometry, runs: &'a [Run]) -> impl Iterator<Item = (u32, Range<u32>)> + 'a {
    runs.iter().flat_map(move |run| {
        let (mut at, end) = (run.first, run.end());
        std::iter::from_fn(move || {
            let (number, index) = geometry.locate(at);
            let left = u32::try_from(end.checked_sub(at).filter(|left| *left > 0)?).unwrap_or(u32::MAX);
            let until = geometry.cells_in(number).min(index.saturating_add(left));
            at += u64::from(until.checked_sub(index).filter(|count| *count > 0)?);
            Some((number, index..until))
        })
    })
}

/// The stretches of columns in which more is lost than spare cells are here.
fn stretches(lost: &[(u32, Range<u32>)], here: &[Range<u32>]) -> Vec<Stretch> {
    let mut borders = BTreeMap::<u32, (Vec<u32>, Vec<u32>, i64)>::new();
    for (number, columns) in lost {
        borders.entry(columns.start).or_default().0.push(*number);
        borders.entry(columns.end).or_default().1.push(*number);
    }
    for columns in here {
        borders.entry(columns.start).or_default().2 += 1;
        borders.entry(columns.end).or_default().2 -= 1;
    }
    let (mut is_lost, mut spares, mut from) = (BTreeSet::new(), 0_i64, 0);
    let mut stretches = Vec::new();
    for (at, (begins, ends, more)) in borders {
        let lacking = is_lost.len().saturating_sub(usize::try_from(spares).unwrap_or(0));
        if lacking > 0 && at > from {
            stretches.push(Stretch { columns: from..at, lost: is_lost.iter().copied().collect(), lacking });
        }
        is_lost.retain(|number| !ends.contains(number));
        is_lost.extend(begins);
        spares += more;
        from = at;
    }
    stretches
}

fn sorted(mut runs: Vec<Run>) -> Vec<Run> {
    runs.sort_unstable();
    let mut joined = Vec::with_capacity(runs.len());
    runs.into_iter().for_each(|run| push_run(&mut joined, run));
    joined
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::formats::sealed::volume::CellLength;
    use crate::formats::sealed::volume::supplement::{runs_of, without};
    use proptest::prelude::*;

    proptest! {
        /// Against counting every column by itself.
        #[test]
        fn exactly_what_columns_lack_is_told(
            lost in prop::collection::btree_set(0_u64..47, 0..30),
            held in prop::collection::vec(prop::collection::btree_set(0_u32..10, 0..10), 1..4),
        ) {
            let geometry = Geometry {
                data_volumes: 5, spare_volumes: 3, cells_per_volume: 10, cells: 47, last_cell_bytes: 4_096,
                cell_length: CellLength::LONGEST,
            };
            let ranges = |columns: &BTreeSet<u32>| columns.iter().map(|column| *column..*column + 1).collect();
            let spares = (1..).zip(held.iter().map(ranges)).collect();
            let runs = runs_of(lost.iter().copied());
            let Beyond { cells, asked } = beyond(&geometry, &runs, &spares);
            let single = |runs: &[Run]| runs.iter().flat_map(|run| run.first..run.end()).collect::<BTreeSet<u64>>();
            let lacking = |column: u64| {
                let lost = lost.iter().filter(|cell| *cell % 10 == column).count();
                lost.saturating_sub(held.iter().filter(|held| held.contains(&(column as u32))).count())
            };
            let expected: BTreeSet<u64> = lost.iter().copied().filter(|cell| lacking(cell % 10) > 0).collect();
            prop_assert_eq!(single(&cells), expected);
            prop_assert!(single(&asked).is_subset(&single(&cells)));
            prop_assert_eq!(single(&asked).len(), (0..10).map(lacking).sum::<usize>());
            // With what is asked for, nothing is beyond them.
            prop_assert_eq!(beyond(&geometry, &without(&runs, &asked), &spares), Beyond::default());
        }
    }

    #[test]
    fn of_whole_volumes_one_whole_volume_is_asked_for() {
        let geometry = Geometry {
            data_volumes: 5,
            spare_volumes: 1,
            cells_per_volume: 10,
            cells: 47,
            last_cell_bytes: 4_096,
            cell_length: CellLength::LONGEST,
        };
        let lost = [Run { first: 10, count: 10 }, Run { first: 40, count: 7 }];
        let spares = BTreeMap::from([(1, Vec::from([Range { start: 0, end: 10 }]))]);
        let asked = beyond(&geometry, &lost, &spares).asked;
        assert_eq!(asked, [Run { first: 40, count: 7 }]);
    }
}
