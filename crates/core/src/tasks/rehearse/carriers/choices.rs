//! Choices that look random and are the same for the same seed, so that a rehearsal can be played again.

/// A row of choices.
pub struct Choices(blake3::OutputReader);

impl Choices {
    /// The row of this seed.
    pub fn new(seed: u64) -> Self {
        Self(blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof())
    }

    /// A number below another; 0 where that is 0.
    pub fn below(&mut self, end: u64) -> u64 {
        let mut bytes = [0; 8];
        self.0.fill(&mut bytes);
        u64::from_le_bytes(bytes).checked_rem(end).unwrap_or(0)
    }

    /// Takes one out.
    pub fn take<T>(&mut self, from: &mut Vec<T>) -> Option<T> {
        let place = self.below(from.len() as u64) as usize;
        (place < from.len()).then(|| from.remove(place))
    }

    /// All of them in another order.
    pub fn shuffled<T>(&mut self, mut all: Vec<T>) -> Vec<T> {
        let mut shuffled = Vec::with_capacity(all.len());
        while let Some(one) = self.take(&mut all) {
            shuffled.push(one);
        }
        shuffled
    }
}
