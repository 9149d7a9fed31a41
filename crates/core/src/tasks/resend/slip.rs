//! Resend slips: a short code with which a recipient, without the password, names the cells that are missing or damaged.

use crate::formats::sealed::volume::supplement::{MAX_RUNS, Run};
use crate::formats::sealed::volume::{Geometry, Ids, VolumeSet};
use crate::ground::codes::{self, CodeError, MAX_GROUPS};
use crate::tasks::check::SetReport;

/// The first byte of every slip, by which other codes are told from it.
const SLIP: u8 = 0x53;

/// Bytes of the set's and the cut's id in a slip.
const ID_BYTES: usize = 2;

/// The most bytes of a slip: a group carries 20 bits.
const MAX_BYTES: usize = MAX_GROUPS * 20 / 8;

/// What is to be sent again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slip {
    set: [u8; ID_BYTES],
    cut: [u8; ID_BYTES],
    /// Cells, sorted and apart.
    pub runs: Vec<Run>,
}

impl Slip {
    /// The slip for what is missing or damaged, as far as spare volumes do not make it good; `None` where nothing is.
    pub fn of(set: &VolumeSet, found: &SetReport) -> Option<Self> {
        let mut runs = found.beyond.asked.clone();
        if runs.is_empty() {
            return None;
        }
        let slip = |runs| Self { set: front(&set.ids.set), cut: front(&set.ids.cut), runs };
        // A code that nobody can type helps nobody: rather a little more is sent again.
        while slip(runs.clone()).bytes().len() > MAX_BYTES || runs.len() > MAX_RUNS {
            join_nearest(&mut runs);
        }
        Some(slip(runs))
    }

    /// The slip as it is told.
    pub fn code(&self) -> String {
        codes::encode(&self.bytes())
    }

    fn bytes(&self) -> Vec<u8> {
        let mut bytes = vec![SLIP];
        bytes.extend(self.set.iter().chain(&self.cut));
        put_number(self.runs.len() as u64, &mut bytes);
        let mut reached = 0;
        for run in &self.runs {
            put_number(run.first - reached, &mut bytes);
            put_number(u64::from(run.count) - 1, &mut bytes);
            reached = run.end();
        }
        bytes
    }

    /// Reads a slip that was told.
    ///
    /// # Errors
    /// [`CodeError`]; [`CodeError::Other`] for a code of another kind, or runs that make no sense.
    pub fn read(code: &str) -> Result<Self, CodeError> {
        let bytes = codes::decode(code)?;
        let (&kind, rest) = bytes.split_first().ok_or(CodeError::Length)?;
        if kind != SLIP {
            return Err(CodeError::Other);
        }
        let (set, rest) = rest.split_first_chunk().ok_or(CodeError::Length)?;
        let (cut, mut rest) = rest.split_first_chunk().ok_or(CodeError::Length)?;
        let count = take_number(&mut rest)?;
        if !(1..=MAX_RUNS as u64).contains(&count) {
            return Err(CodeError::Other);
        }
        let (mut runs, mut reached): (Vec<Run>, u64) = (Vec::new(), 0);
        for _ in 0..count {
            let first = reached.checked_add(take_number(&mut rest)?).ok_or(CodeError::Other)?;
            let more = u32::try_from(take_number(&mut rest)?).ok().and_then(|more| more.checked_add(1));
            let run = Run { first, count: more.ok_or(CodeError::Other)? };
            if run.first == reached && reached > 0 {
                return Err(CodeError::Other);
            }
            reached = run.end();
            runs.push(run);
        }
        // What filled up the last group.
        if rest.len() > 2 || rest.iter().any(|byte| *byte != 0) {
            return Err(CodeError::Length);
        }
        Ok(Self { set: *set, cut: *cut, runs })
    }

    /// Whether it speaks of this set, cut as this one is.
    pub fn is_of(&self, ids: &Ids, geometry: &Geometry) -> bool {
        let within = self.runs.last().is_some_and(|run| run.end() <= geometry.cells);
        self.set == front(&ids.set) && self.cut == front(&ids.cut) && within
    }
}

fn front(id: &[u8; 16]) -> [u8; ID_BYTES] {
    [id[0], id[1]]
}

/// Makes one run of the two that have least between them.
fn join_nearest(runs: &mut Vec<Run>) {
    let gap = |at: &usize| runs[*at].first - runs[*at - 1].end();
    let Some(at) = (1..runs.len()).min_by_key(gap) else { return };
    let behind = runs.remove(at);
    let before = &mut runs[at - 1];
    before.count = u32::try_from(behind.end() - before.first).unwrap_or(u32::MAX);
}

/// Seven bits a byte, the lowest first; the top bit says that more follow (LEB128, as DWARF's standard has it).
fn put_number(mut number: u64, bytes: &mut Vec<u8>) {
    while number >= 0x80 {
        bytes.push(number as u8 | 0x80);
        number >>= 7;
    }
    bytes.push(number as u8);
}

fn take_number(bytes: &mut &[u8]) -> Result<u64, CodeError> {
    let mut number = 0;
    for place in 0..9 {
        let (&byte, rest) = bytes.split_first().ok_or(CodeError::Length)?;
        *bytes = rest;
        number |= u64::from(byte & 0x7F) << (7 * place);
        if byte & 0x80 == 0 {
            return Ok(number);
        }
    }
    Err(CodeError::Other)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::formats::sealed::volume::supplement::runs_of;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_slip_comes_back(cells in prop::collection::btree_set(0_u64..100_000, 1..40)) {
            let slip = Slip { set: [1, 2], cut: [3, 4], runs: runs_of(cells) };
            prop_assume!(slip.bytes().len() <= MAX_BYTES);
            prop_assert_eq!(Slip::read(&slip.code()), Ok(slip));
        }

        /// Whatever is well typed is read without harm; what is taken for a slip keeps to the rules.
        #[test]
        fn no_code_does_harm(bytes in prop::collection::vec(any::<u8>(), 0..60), is_slip in any::<bool>()) {
            let bytes = [&[if is_slip { SLIP } else { 0 }], bytes.as_slice()].concat();
            if let Ok(slip) = Slip::read(&codes::encode(&bytes)) {
                prop_assert!(is_slip && slip.runs.windows(2).all(|two| two[0].end() < two[1].first));
            }
        }

        /// Too much for one slip: then it names all of that, and something more.
        #[test]
        fn nothing_lost_is_left_out(cells in prop::collection::btree_set(0_u64..1_000_000, 100..400)) {
            let mut runs = runs_of(cells.iter().copied());
            while runs.len() > 20 {
                join_nearest(&mut runs);
            }
            prop_assert!(cells.iter().all(|cell| runs.iter().any(|run| (run.first..run.end()).contains(cell))));
            prop_assert!(runs.windows(2).all(|two| two[0].end() < two[1].first));
        }
    }
}
