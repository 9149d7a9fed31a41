//! Files whose headers cannot be believed: their cells' checks fit one number of one set only. Trying takes reading and hashing,
//! so a hostile folder could make a reader try without end: there is a limit, and what was not tried is told.

use super::cell::{CellPlace, Sealed};
use super::header::VolumeKind;
use super::set::{VolumeFile, VolumeSet};

/// How many of a volume's first cells are tried.
const CELLS_TRIED: u32 = 4;

/// So many bytes are hashed in all to recognise the files of one gathering: a second's work or two.
const MAX_TRIED_BYTES: u64 = 1024 * 1024 * 1024;

/// What trying has come to so far, in all of one gathering.
pub(super) struct Trying {
    bytes_left: u64,
}

impl Default for Trying {
    fn default() -> Self {
        Self { bytes_left: MAX_TRIED_BYTES }
    }
}

impl Trying {
    /// Whether so many bytes more may be hashed.
    fn may_hash(&mut self, bytes: u64) -> bool {
        let left = self.bytes_left.checked_sub(bytes);
        self.bytes_left = left.unwrap_or(0);
        left.is_some()
    }
}

/// What trying came to for one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Tried {
    /// It is the volume of this kind and number.
    Is(VolumeKind, u32),
    /// It is none that was tried, and all were.
    IsNone,
    /// The limit was reached before all were tried.
    GivenUp,
}

impl VolumeSet {
    /// Adds a file whose header is not believed, as the volume that its cells say it is.
    pub(super) fn add_damaged(&mut self, file: VolumeFile, trying: &mut Trying) {
        match recognise(self, &file, trying) {
            Tried::Is(VolumeKind::Spare, number) => self.spares.entry(number).or_default().push(file),
            Tried::Is(_, number) => self.volumes.entry(number).or_default().push(file),
            Tried::IsNone => self.unrecognised.push(file.spot.path),
            Tried::GivenUp => self.untried.push(file.spot.path),
        }
    }
}

/// Bytes that are hashed to compare a cell's check with a place, as blocks of BLAKE3.
const PLACE_BYTES: u64 = 128;

/// Which volume a file is, told by the checks of its first cells: one that is absent, or another copy of one that is here. A cell
/// is hashed once, and its place for each number.
fn recognise(set: &VolumeSet, file: &VolumeFile, trying: &mut Trying) -> Tried {
    let Ok(open) = file.open() else { return Tried::IsNone };
    let data = set.missing().into_iter().chain(set.volumes.keys().copied());
    // Where nothing says how many spare volumes there are, those that were made together with this one may say it.
    let spares = 1..=set.spare_count().max(set.geometry.spare_volumes);
    let volumes: Vec<(VolumeKind, u32)> =
        data.map(|number| (VolumeKind::Data, number)).chain(spares.map(|number| (VolumeKind::Spare, number))).collect();
    let mut buffer = vec![0; set.geometry.cell_length.bytes()];
    for index in 0..CELLS_TRIED.min(set.geometry.cells_per_volume) {
        let Ok(filled) = open.read_up_to(&mut buffer, set.geometry.cell_length.offset_of(index)) else {
            continue;
        };
        // The stream's last cell may be shorter than the others.
        let mut hashed: Option<(usize, Option<Sealed>)> = None;
        for &(kind, number) in &volumes {
            let Some(length) = set.geometry.cell_bytes_in(kind, number, index) else { continue };
            let Some(bytes) = buffer[..filled].get(..length) else { continue };
            let sealed = match hashed {
                Some((hashed, sealed)) if hashed == length => sealed,
                _ => {
                    if !trying.may_hash(length as u64) {
                        return Tried::GivenUp;
                    }
                    Sealed::of(bytes)
                }
            };
            hashed = Some((length, sealed));
            if !trying.may_hash(PLACE_BYTES) {
                return Tried::GivenUp;
            }
            let place = CellPlace { ids: &set.ids, kind, volume: number, index };
            if sealed.is_some_and(|sealed| sealed.is_intact_at(&place)) {
                return Tried::Is(kind, number);
            }
        }
    }
    Tried::IsNone
}
