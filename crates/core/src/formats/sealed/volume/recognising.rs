//! Files whose headers cannot be believed: their cells' checks fit one number of one set only. Trying takes reading and hashing,
//! so a hostile folder could make a reader try without end: there is a limit, and what was not tried is told.

use super::cell;
use super::header::VolumeKind;
use super::set::{VolumeFile, VolumeSet, read_up_to};
use super::{CELL_BYTES, cell_offset};
use crate::disk::{Links, open_regular};

/// How many of a volume's first cells are tried.
const CELLS_TRIED: u32 = 4;

/// Sets of more volumes than this do not have their present volumes tried for a damaged copy.
const COPIES_TRIED: u32 = 1_000;

/// So many bytes are hashed in all to recognise the files of one gathering: a second's work or two.
const MAX_TRIED_BYTES: u64 = 4 * 1024 * 1024 * 1024;

/// What trying has come to so far, in all of one gathering.
pub(super) struct Trying {
    bytes_left: u64,
}

impl Default for Trying {
    fn default() -> Self {
        Self { bytes_left: MAX_TRIED_BYTES }
    }
}

/// What trying came to for one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Tried {
    /// It is the volume of this number.
    Is(u32),
    /// It is none that was tried, and all were.
    IsNone,
    /// The limit was reached before all were tried.
    GivenUp,
}

impl VolumeSet {
    /// Adds a file whose header is not believed, as the volume that its cells say it is.
    pub(super) fn add_damaged(&mut self, file: VolumeFile, trying: &mut Trying) {
        match recognise(self, &file, trying) {
            Tried::Is(number) => self.volumes.entry(number).or_default().push(file),
            Tried::IsNone => self.unrecognised.push(file.path),
            Tried::GivenUp => self.untried.push(file.path),
        }
    }
}

/// Which volume a file is, told by the checks of its first cells: one that is absent, or, in sets that are not very large,
/// another copy of one that is here.
fn recognise(set: &VolumeSet, file: &VolumeFile, trying: &mut Trying) -> Tried {
    let Ok((open, _)) = open_regular(&file.path, Links::Follow) else { return Tried::IsNone };
    let mut numbers = set.missing();
    if set.geometry.data_volumes <= COPIES_TRIED {
        numbers.extend(set.volumes.keys());
    }
    let mut buffer = vec![0; CELL_BYTES];
    for index in 0..CELLS_TRIED.min(set.geometry.cells_per_volume) {
        let Ok(filled) = read_up_to(&open, &mut buffer, cell_offset(index)) else { continue };
        for &number in numbers.iter().filter(|number| index < set.geometry.cells_in(**number)) {
            let length = set.geometry.cell_bytes(set.geometry.first_cell(number) + u64::from(index));
            let Some(bytes) = buffer[..filled].get(..length) else { continue };
            match trying.bytes_left.checked_sub(length as u64) {
                Some(left) => trying.bytes_left = left,
                None => return Tried::GivenUp,
            }
            if cell::is_intact(&set.ids, VolumeKind::Data, number, index, bytes) {
                return Tried::Is(number);
            }
        }
    }
    Tried::IsNone
}
