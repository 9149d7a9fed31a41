//! The entropy of bytes: how many bits each says, by itself. It tells what looks random from what does not.

/// The entropy of these bytes, each by itself, in bits: 0 to 8; 0 where there are none.
pub fn bits_a_byte(bytes: impl Iterator<Item = u8>) -> f64 {
    let mut counts = [0_u32; 256];
    bytes.for_each(|byte| counts[usize::from(byte)] += 1);
    let total = f64::from(counts.iter().sum::<u32>());
    let shares = counts.iter().filter(|count| **count > 0).map(|count| f64::from(*count) / total);
    shares.map(|share| -share * share.log2()).sum()
}
