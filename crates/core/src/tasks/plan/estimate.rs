//! An estimate: how large an archive will be, surely between two bounds, and how long making it will take.

use super::measuring::Sampler;
use super::sampling::Sample;
use crate::codecs::block::Squeeze;

/// Where everything was compressed, what may still differ: a file that changes, the index's digests.
const SURE_WITHIN: f64 = 0.005;

/// A number of bytes, and the range that it is surely in (about 19 times of 20).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Likely {
    /// The least.
    pub low: u64,
    /// The best guess.
    pub likely: u64,
    /// The most.
    pub high: u64,
}

/// What an archive would come to at one squeeze.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Estimate {
    /// The squeeze.
    pub squeeze: Squeeze,
    /// Bytes of the archive's inner stream.
    pub stream_bytes: Likely,
    /// Seconds of packing and reading back, as far as computing goes; disks may be slower.
    pub seconds: f64,
    /// Whether everything was compressed to find this out.
    pub exact: bool,
}

/// What digests, checks and seals take both ways, as measured (docs/limits.md): about 1 GB/s all together.
const SEALING_SECONDS_A_BYTE: f64 = 1e-9;

impl Estimate {
    /// From a sum with its standard error, the index's bytes, and what samples of so many bytes took.
    pub(super) fn new(
        squeeze: Squeeze,
        (sum, exact): ((f64, f64), bool),
        index: u64,
        samples: &[Sample],
        sampler: Sampler<'_>,
    ) -> Self {
        let (raw, seconds) =
            samples.iter().fold((0.0, 0.0), |(raw, seconds), sample| (raw + sample.raw, seconds + sample.seconds));
        let rate = if raw > 0.0 { seconds / raw } else { 0.0 };
        let threads = sampler.context.threads.max(1) as f64;
        let seconds = (rate + SEALING_SECONDS_A_BYTE) * sampler.layout.total as f64 / threads;
        Self { squeeze, stream_bytes: Likely::around(sum, index), seconds, exact }
    }
}

impl Likely {
    /// A sum with its standard error, and bytes that are sure to come to it.
    pub(super) fn around((sum, error): (f64, f64), sure: u64) -> Self {
        let around = (2.0 * error).max(SURE_WITHIN * sum);
        let bytes = |sum: f64| sum.max(0.0) as u64 + sure;
        Self { low: bytes(sum - around), likely: bytes(sum), high: bytes(sum + around) }
    }
}
