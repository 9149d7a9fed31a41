//! How long the cells of a stream are: chosen once, from what a volume may have, so that whole cells fill it.

use super::{HEADER_BYTES, LAST_CELL_STEP};

/// Bytes of every cell of a stream but its last: a multiple of 64, from 4,096 to 65,536.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct CellLength(u32);

/// The longest cells, in bytes.
const MAX_CELL_BYTES: usize = 65_536;

/// The shortest cells that a reader takes, in bytes.
const MIN_CELL_BYTES: u32 = 4_096;

/// The length of cells is a multiple of this, in bytes.
const STEP: u32 = 64;

/// The least room for cells that a volume may have, in bytes.
const MIN_ROOM_BYTES: u64 = 8_192;

/// The longest cells are kept where they leave no more than one part in so many of a volume unused.
const UNUSED_PARTS: u64 = 100;

/// The smallest volume that makes sense, in bytes: a header and the least room for cells.
pub const MIN_VOLUME_BYTES: u64 = HEADER_BYTES as u64 + MIN_ROOM_BYTES;

impl CellLength {
    /// The longest.
    pub const LONGEST: Self = Self(MAX_CELL_BYTES as u32);

    /// Takes a length that a header says; `None` where it is not permitted.
    pub fn new(bytes: u32) -> Option<Self> {
        ((MIN_CELL_BYTES..=MAX_CELL_BYTES as u32).contains(&bytes) && bytes.is_multiple_of(STEP)).then_some(Self(bytes))
    }

    /// The length for volumes of at most so many bytes: the longest, or where that leaves more than a hundredth unused, one of which
    /// as few as possible fill the volume. `None` where the volume is too small.
    pub fn within(volume_limit: Option<u64>) -> Option<Self> {
        let Some(limit) = volume_limit else { return Some(Self::LONGEST) };
        let room = limit.checked_sub(HEADER_BYTES as u64).filter(|room| *room >= MIN_ROOM_BYTES)?;
        let longest = MAX_CELL_BYTES as u64;
        if room >= longest && is_little(room % longest, limit) {
            return Some(Self::LONGEST);
        }
        let each = u32::try_from(room / room.div_ceil(longest)).ok()?;
        Self::new(each / STEP * STEP)
    }

    /// What volumes of so many cells leave unused of a limit, in bytes, where that is more than they leave which are made for it.
    pub fn unused(self, cells_per_volume: u32, volume_limit: u64) -> Option<u64> {
        let unused = volume_limit.saturating_sub(self.offset_of(cells_per_volume));
        Some(unused).filter(|unused| !is_little(*unused, volume_limit))
    }

    /// In bytes.
    pub const fn bytes(self) -> usize {
        self.0 as usize
    }

    /// How many whole cells fit into a volume of at most this many bytes; `None` if not even one does.
    pub fn cells_within(self, volume_limit: u64) -> Option<u32> {
        let cells = volume_limit.checked_sub(HEADER_BYTES as u64)? / u64::from(self.0);
        (cells > 0).then(|| u32::try_from(cells).unwrap_or(u32::MAX))
    }

    /// The length of a stream's last cell that holds so many bytes: rounded up, so that it tells little.
    pub fn last_holding(self, bytes: usize) -> usize {
        bytes.next_multiple_of(LAST_CELL_STEP).min(self.bytes())
    }

    /// Whether a stream's last cell may have this length.
    pub fn permits_last(self, bytes: u32) -> bool {
        let shorter = bytes > 0 && bytes < self.0 && bytes.is_multiple_of(LAST_CELL_STEP as u32);
        shorter || bytes == self.0
    }

    /// Where a cell begins in its volume's file, in bytes.
    pub fn offset_of(self, index: u32) -> u64 {
        HEADER_BYTES as u64 + u64::from(index) * u64::from(self.0)
    }
}

/// Whether volumes that leave so many bytes of a limit unused are filled.
const fn is_little(unused: u64, volume_limit: u64) -> bool {
    unused <= volume_limit / UNUSED_PARTS
}

impl Default for CellLength {
    fn default() -> Self {
        Self::LONGEST
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::none(None, 65_536)]
    #[case::million(Some(1_000_000), 62_208)]
    #[case::large(Some(5_000_000), 65_536)]
    #[case::a_mailbox(Some(7_300_000), 65_536)]
    #[case::small(Some(134_000), 64_896)]
    #[case::smaller_than_a_cell(Some(60_000), 55_872)]
    #[case::least(Some(12_288), 8_192)]
    fn cells_are_as_long_as_fills_a_volume(#[case] limit: Option<u64>, #[case] expected: usize) {
        assert_eq!(CellLength::within(limit).unwrap().bytes(), expected);
    }

    #[test]
    fn what_is_too_small_has_no_cells() {
        assert_eq!(CellLength::within(Some(MIN_VOLUME_BYTES - 1)), None);
    }

    proptest! {
        #[test]
        fn no_more_than_a_hundredth_is_unused(limit in 64_000_u64..20_000_000) {
            let length = CellLength::within(Some(limit)).unwrap();
            let cells = length.cells_within(limit).unwrap();
            prop_assert_eq!(CellLength::new(length.bytes() as u32), Some(length));
            prop_assert!((limit - length.offset_of(cells)) * 100 <= limit, "{:?}", length);
        }
    }
}
