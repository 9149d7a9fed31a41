//! Holes: stretches of a file that are zeros and stored nowhere, so that a file can be far larger than the disk. Nobody reads them, not
//! even to know whether a content is the right one: the digest of a file with holes passes over them.

use super::sink::zeros;

/// Holes begin and end at multiples of this many bytes; what is left of one at either end counts as content.
pub const HOLE_UNIT: u64 = 64 * 1024;

/// No more holes of a file than this are kept where all of them are listed; those behind count as content.
pub const MOST_HOLES: usize = 64 * 1024;

/// A hole in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hole {
    /// Where it begins, a multiple of [`HOLE_UNIT`].
    pub at: u64,
    /// Its length, a multiple of [`HOLE_UNIT`] and not 0.
    pub bytes: u64,
}

impl Hole {
    /// The whole units within a stretch of zeros.
    pub fn within(from: u64, to: u64) -> Option<Self> {
        let at = from.checked_next_multiple_of(HOLE_UNIT)?;
        let bytes = to.checked_sub(at)? / HOLE_UNIT * HOLE_UNIT;
        (bytes > 0).then_some(Self { at, bytes })
    }

    /// Where it ends.
    pub const fn end(&self) -> u64 {
        self.at.saturating_add(self.bytes)
    }
}

/// A stretch of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stretch {
    /// So many bytes that are stored.
    Stored(u64),
    /// A hole of so many bytes.
    Hole(u64),
}

/// A file of this length with these holes, which are in order, stretch by stretch.
pub fn stretches(size: u64, holes: &[Hole]) -> impl Iterator<Item = Stretch> {
    let begins = [0].into_iter().chain(holes.iter().map(Hole::end));
    let ends = holes.iter().map(|hole| (hole.at, hole.bytes)).chain([(size, 0)]);
    let stretches = begins.zip(ends);
    stretches
        .flat_map(|(begin, (end, hole))| [Stretch::Stored(end.saturating_sub(begin)), Stretch::Hole(hole)])
        .filter(|stretch| !matches!(stretch, Stretch::Stored(0) | Stretch::Hole(0)))
}

/// The digest of a content: BLAKE3 of its bytes or, of a content with holes, of those units of it in which there is anything but zeros.
///
/// The latter is BLAKE3 of, for each such unit in order, its number (8 bytes) and its bytes; then the content's length (8 bytes). The
/// last unit may be short. Whether zeros are a hole on disk makes no difference to it.
#[derive(Debug, Clone)]
pub struct ContentDigest {
    hasher: Box<blake3::Hasher>,
    units: Option<Units>,
}

/// Where a digest of units is.
#[derive(Debug, Clone, Default)]
struct Units {
    /// The number of the unit that is not complete.
    number: u64,
    /// What there is of it.
    begun: Vec<u8>,
}

impl ContentDigest {
    /// A digest of a content: of its units, or of its bytes.
    pub fn new(in_units: bool) -> Self {
        Self { hasher: Box::default(), units: in_units.then(Units::default) }
    }

    /// Takes the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        match &mut self.units {
            None => {
                self.hasher.update(bytes);
            }
            Some(units) => units.update(bytes, &mut self.hasher),
        }
    }

    /// Takes so many zeros.
    pub fn hole(&mut self, bytes: u64) {
        match &mut self.units {
            None => zeros(bytes).for_each(|piece| {
                self.hasher.update(piece);
            }),
            Some(units) => units.hole(bytes, &mut self.hasher),
        }
    }

    /// The digest of what was taken so far.
    pub fn finish(&self) -> [u8; 32] {
        let Some(units) = &self.units else { return *self.hasher.finalize().as_bytes() };
        let mut hasher = self.hasher.clone();
        let length = units.number.saturating_mul(HOLE_UNIT).saturating_add(units.begun.len() as u64);
        put(units.number, &units.begun, &mut hasher);
        *hasher.update(&length.to_le_bytes()).finalize().as_bytes()
    }
}

impl Units {
    fn update(&mut self, mut bytes: &[u8], hasher: &mut blake3::Hasher) {
        while !bytes.is_empty() {
            if self.begun.is_empty() && bytes.len() as u64 >= HOLE_UNIT {
                let (unit, rest) = bytes.split_at(HOLE_UNIT as usize);
                put(self.number, unit, hasher);
                (self.number, bytes) = (self.number.saturating_add(1), rest);
                continue;
            }
            let (now, later) = bytes.split_at(bytes.len().min(HOLE_UNIT as usize - self.begun.len()));
            self.begun.extend_from_slice(now);
            bytes = later;
            self.end_if_complete(hasher);
        }
    }

    fn hole(&mut self, bytes: u64, hasher: &mut blake3::Hasher) {
        let lacking = (HOLE_UNIT - self.begun.len() as u64) % HOLE_UNIT;
        let filling = lacking.min(bytes);
        self.zeros(filling, hasher);
        let left = bytes - filling;
        self.number = self.number.saturating_add(left / HOLE_UNIT);
        self.zeros(left % HOLE_UNIT, hasher);
    }

    /// Fewer zeros than a unit has bytes.
    fn zeros(&mut self, bytes: u64, hasher: &mut blake3::Hasher) {
        self.begun.resize(self.begun.len() + bytes as usize, 0);
        self.end_if_complete(hasher);
    }

    fn end_if_complete(&mut self, hasher: &mut blake3::Hasher) {
        if self.begun.len() as u64 == HOLE_UNIT {
            put(self.number, &self.begun, hasher);
            self.number = self.number.saturating_add(1);
            self.begun.clear();
        }
    }
}

/// A unit with nothing but zeros counts for nothing.
fn put(number: u64, unit: &[u8], hasher: &mut blake3::Hasher) {
    if unit.iter().any(|byte| *byte != 0) {
        hasher.update(&number.to_le_bytes());
        hasher.update(unit);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, HOLE_UNIT, Some((0, HOLE_UNIT)))]
    #[case(1, 2 * HOLE_UNIT, Some((HOLE_UNIT, HOLE_UNIT)))]
    #[case(1, 2 * HOLE_UNIT - 1, None)]
    #[case(0, HOLE_UNIT - 1, None)]
    #[case(9, 3, None)]
    #[case(u64::MAX, u64::MAX, None)]
    fn a_hole_is_of_whole_units(#[case] from: u64, #[case] to: u64, #[case] expected: Option<(u64, u64)>) {
        assert_eq!(Hole::within(from, to), expected.map(|(at, bytes)| Hole { at, bytes }));
    }

    #[derive(Debug, Clone)]
    enum Piece {
        Bytes(Vec<u8>),
        Zeros(usize),
    }

    fn piece() -> impl Strategy<Value = Piece> {
        let unit = HOLE_UNIT as usize;
        let zeros = prop_oneof![Just(unit), Just(unit - 1), 0..3 * unit].prop_map(Piece::Zeros);
        prop_oneof![zeros, prop::collection::vec(any::<u8>(), 0..2 * unit).prop_map(Piece::Bytes)]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]

        /// However a content comes, as bytes or as holes, its digest is that of its units.
        #[test]
        fn a_digest_of_units_depends_on_nothing_but_the_content(pieces in prop::collection::vec(piece(), 0..5), cut in 1_usize..200_000) {
            let (mut digest, mut whole) = (ContentDigest::new(true), Vec::new());
            for piece in &pieces {
                match piece {
                    Piece::Bytes(bytes) => {
                        digest.update(bytes);
                        whole.extend_from_slice(bytes);
                    }
                    Piece::Zeros(count) => {
                        digest.hole(*count as u64);
                        whole.resize(whole.len() + count, 0);
                    }
                }
            }
            let mut expected = blake3::Hasher::new();
            for (number, unit) in whole.chunks(HOLE_UNIT as usize).enumerate() {
                if unit.iter().any(|byte| *byte != 0) {
                    expected.update(&(number as u64).to_le_bytes()).update(unit);
                }
            }
            let expected = *expected.update(&(whole.len() as u64).to_le_bytes()).finalize().as_bytes();
            let mut as_bytes = ContentDigest::new(true);
            whole.chunks(cut).for_each(|piece| as_bytes.update(piece));
            prop_assert_eq!(digest.finish(), expected);
            prop_assert_eq!(as_bytes.finish(), expected);
        }
    }
}
