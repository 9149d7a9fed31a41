//! Supplements: cells of one cutting that are sent again, in a file of their own that lies among the volumes.
//!
//! Behind a header of kind 2 stands one page of runs, which says which cells follow; then those cells, with the checks
//! that they have in their volumes. docs/format.md gives every byte.

use super::header::{Ids, VolumeKind};
use super::{CHECK_BYTES, CellLength, Geometry, HEADER_BYTES};

/// Bytes of the page of runs.
pub const PAGE_BYTES: usize = 4_096;

/// Bytes of a run in the page: first cell 8, count 4, zeros 4.
const RUN_BYTES: usize = 16;

/// Bytes before the first run: how many there are 4, zeros 4.
const RUNS_AT: usize = 8;

/// The most runs of a supplement.
pub const MAX_RUNS: usize = (PAGE_BYTES - RUNS_AT - CHECK_BYTES) / RUN_BYTES;

/// Neighbouring cells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Run {
    /// The first one's number in the stream.
    pub first: u64,
    /// How many; at least one.
    pub count: u32,
}

impl Run {
    /// The cells from one number to before another; `None` for none.
    pub fn between(from: u64, to: u64) -> Option<Self> {
        let count = u32::try_from(to.checked_sub(from)?).unwrap_or(u32::MAX);
        (count > 0).then_some(Self { first: from, count })
    }

    /// All cells of a volume.
    pub fn of_volume(geometry: &Geometry, number: u32) -> Self {
        Self { first: geometry.first_cell(number), count: geometry.cells_in(number) }
    }

    /// The number of the cell behind it.
    pub fn end(&self) -> u64 {
        self.first.saturating_add(u64::from(self.count))
    }
}

/// Numbers of cells, sorted, as runs.
#[cfg(test)]
pub(crate) fn runs_of(cells: impl IntoIterator<Item = u64>) -> Vec<Run> {
    let mut runs: Vec<Run> = Vec::new();
    cells.into_iter().for_each(|cell| push_run(&mut runs, Run { first: cell, count: 1 }));
    runs
}

/// Puts a run behind others, as one with the last where they touch.
pub fn push_run(runs: &mut Vec<Run>, run: Run) {
    match runs.last_mut().map(|last| (last.end(), last.count.checked_add(run.count), last)) {
        Some((end, Some(count), last)) if end == run.first => last.count = count,
        _ => runs.push(run),
    }
}

/// What of these runs is in none of the others; both are sorted. Runs are claims, so their cells are not gone through.
pub fn without(runs: &[Run], others: &[Run]) -> Vec<Run> {
    let mut left = Vec::new();
    for run in runs {
        let mut at = run.first;
        let from = others.partition_point(|other| other.end() <= run.first);
        for other in others[from..].iter().take_while(|other| other.first < run.end()) {
            left.extend(Run::between(at, other.first));
            at = other.end();
        }
        left.extend(Run::between(at, run.end()));
    }
    left
}

/// What of these runs lies in their first cells, `room` of them.
pub fn within(runs: Vec<Run>, mut room: u64) -> Vec<Run> {
    let held = runs.into_iter().map_while(|run| {
        let count = run.count.min(u32::try_from(room).unwrap_or(u32::MAX));
        room -= u64::from(count);
        (count > 0).then_some(Run { count, ..run })
    });
    held.collect()
}

/// Where a cell begins in a supplement with these runs, in bytes; `None` where it is not in it.
pub fn offset_in(runs: &[Run], cell: u64, length: CellLength) -> Option<u64> {
    let mut before = 0_u64;
    for run in runs {
        if (run.first..run.end()).contains(&cell) {
            let place = before.checked_add(cell - run.first)?;
            return place.checked_mul(length.bytes() as u64)?.checked_add((HEADER_BYTES + PAGE_BYTES) as u64);
        }
        before += u64::from(run.count);
    }
    None
}

/// The page of runs. At most [`MAX_RUNS`] of them.
pub fn encode_page(ids: &Ids, runs: &[Run]) -> [u8; PAGE_BYTES] {
    let mut page = [0; PAGE_BYTES];
    let runs = &runs[..runs.len().min(MAX_RUNS)];
    page[..4].copy_from_slice(&(runs.len() as u32).to_le_bytes());
    for (run, bytes) in runs.iter().zip(page[RUNS_AT..].chunks_exact_mut(RUN_BYTES)) {
        bytes[..8].copy_from_slice(&run.first.to_le_bytes());
        bytes[8..12].copy_from_slice(&run.count.to_le_bytes());
    }
    let check = page_check(ids, &page);
    page[PAGE_BYTES - CHECK_BYTES..].copy_from_slice(&check);
    page
}

/// Reads a page: its check, then the runs, which must be sorted, apart, and within the stream. `None` where one of that is
/// not so.
pub fn decode_page(ids: &Ids, geometry: &Geometry, page: &[u8; PAGE_BYTES]) -> Option<Vec<Run>> {
    if page_check(ids, page) != page[PAGE_BYTES - CHECK_BYTES..] {
        return None;
    }
    let count = u32::from_le_bytes(page[..4].try_into().ok()?) as usize;
    let used = RUNS_AT + count.checked_mul(RUN_BYTES)?;
    if count == 0
        || count > MAX_RUNS
        || page[4..RUNS_AT].iter().chain(&page[used..PAGE_BYTES - CHECK_BYTES]).any(|byte| *byte != 0)
    {
        return None;
    }
    let mut runs: Vec<Run> = Vec::with_capacity(count);
    for bytes in page[RUNS_AT..used].chunks_exact(RUN_BYTES) {
        let (first, rest) = bytes.split_first_chunk::<8>()?;
        let (count, zeros) = rest.split_first_chunk::<4>()?;
        let run = Run { first: u64::from_le_bytes(*first), count: u32::from_le_bytes(*count) };
        let apart = runs.last().is_none_or(|last| last.end() < run.first);
        if !apart || run.count == 0 || run.end() > geometry.cells || zeros != [0; 4] {
            return None;
        }
        runs.push(run);
    }
    Some(runs)
}

/// BLAKE3 over set id, cut id, kind and the page's bytes, cut to 16 bytes.
fn page_check(ids: &Ids, page: &[u8; PAGE_BYTES]) -> [u8; CHECK_BYTES] {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&ids.set).update(&ids.cut).update(&[VolumeKind::Supplement as u8]);
    hasher.update(&page[..PAGE_BYTES - CHECK_BYTES]);
    let mut check = [0; CHECK_BYTES];
    hasher.finalize_xof().fill(&mut check);
    check
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const IDS: Ids = Ids { set: [1; 16], cut: [2; 16] };
    const GEOMETRY: Geometry = Geometry {
        data_volumes: 3,
        spare_volumes: 0,
        cells_per_volume: 10,
        cells: 25,
        last_cell_bytes: 4_096,
        cell_length: CellLength::LONGEST,
    };

    #[test]
    fn cells_become_runs_and_are_found_in_their_file() {
        let runs = runs_of([3, 4, 9, 24]);
        assert_eq!(runs, [Run { first: 3, count: 2 }, Run { first: 9, count: 1 }, Run { first: 24, count: 1 }]);
        let places = [2, 3, 4, 9, 24].map(|cell| offset_in(&runs, cell, CellLength::LONGEST));
        assert_eq!(places, [None, Some(8_192), Some(73_728), Some(139_264), Some(204_800)]);
        assert_eq!(decode_page(&IDS, &GEOMETRY, &encode_page(&IDS, &runs)), Some(runs));
    }

    #[rstest]
    #[case::none(0, &[])]
    #[case::a_part_of_the_first(1, &[(3, 1)])]
    #[case::the_first(2, &[(3, 2)])]
    #[case::two(3, &[(3, 2), (9, 1)])]
    #[case::all(6, &[(3, 2), (9, 1), (20, 3)])]
    #[case::more_than_there_are(u64::MAX, &[(3, 2), (9, 1), (20, 3)])]
    fn a_file_that_was_cut_short_holds_its_first_cells(#[case] room: u64, #[case] expected: &[(u64, u32)]) {
        let held: Vec<_> =
            within(runs_of([3, 4, 9, 20, 21, 22]), room).iter().map(|run| (run.first, run.count)).collect();
        assert_eq!(held, expected);
    }

    #[rstest]
    #[case::none(&[])]
    #[case::not_sorted(&[(9, 1), (3, 1)])]
    #[case::touching(&[(3, 2), (5, 1)])]
    #[case::empty(&[(3, 0)])]
    #[case::beyond_the_stream(&[(24, 2)])]
    #[case::far_beyond(&[(u64::MAX, u32::MAX)])]
    fn runs_that_contradict_themselves_are_refused(#[case] runs: &[(u64, u32)]) {
        let runs: Vec<Run> = runs.iter().map(|&(first, count)| Run { first, count }).collect();
        assert_eq!(decode_page(&IDS, &GEOMETRY, &encode_page(&IDS, &runs)), None);
    }

    #[test]
    fn every_flipped_byte_of_a_page_is_noticed() {
        let page = encode_page(&IDS, &runs_of([3, 4]));
        for at in 0..PAGE_BYTES {
            let mut flipped = page;
            flipped[at] ^= 1;
            assert_eq!(decode_page(&IDS, &GEOMETRY, &flipped), None, "byte {at}");
        }
    }
}
