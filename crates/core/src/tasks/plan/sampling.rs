//! Which parts of a stream are compressed to tell what all of it comes to, and what is told from them.

use super::PlanError;
use crate::codecs::error::CodecError;
use crate::ground::context::{Context, Progress};
use crate::ground::pipeline::ordered;

/// How much of a stream is compressed to tell what all of it comes to.
#[derive(Debug, Clone, Copy)]
pub(super) struct Sampling {
    /// So many bytes are compressed whole: what that takes is not felt.
    whole_bytes: u64,
    /// Of more, so many stretches for the square root of its length in MiB: a sample that is twice as sure costs four times as
    /// much, and one that grows so is ever smaller beside what packing takes.
    stretches_a_root: f64,
}

impl Sampling {
    /// For what is chosen.
    pub const THOROUGH: Self = Self { whole_bytes: 16 * 1024 * 1024, stretches_a_root: 6.0 };

    /// For slower compressors beside it.
    pub const LIGHTER: Self = Self { whole_bytes: 8 * 1024 * 1024, stretches_a_root: 3.0 };
}

/// Which parts of the stream are compressed.
pub(super) struct Stretches {
    pub parts: Vec<(u64, u64)>,
    /// Whether they are all there is.
    pub whole: bool,
}

impl Stretches {
    /// So many stretches of this length, evenly spaced; all of the stream where that is no more.
    pub(super) fn evenly(total: u64, count: u64, bytes: u64) -> Self {
        let whole = total <= count * bytes;
        let count = if whole { total.div_ceil(bytes) } else { count };
        let step = if whole { bytes } else { total / count };
        // Each lies somewhere in its part of the stream: what comes round in the sources at equal distances, small files of two
        // kinds by turns say, would meet stretches that do so too.
        let room = if whole { 1 } else { step - bytes + 1 };
        let part = |place: u64| {
            let from = place * step + scattered(place) % room;
            (from, (from + bytes).min(total))
        };
        Self { parts: (0..count).map(part).collect(), whole }
    }

    /// Stretches of this length, as many as a sample of the stream needs, or all of the stream.
    pub(super) fn growing(total: u64, bytes: u64, sampling: Sampling) -> Self {
        let mebibytes = total as f64 / (1024.0 * 1024.0);
        let count = (sampling.stretches_a_root * mebibytes.sqrt()).ceil() as u64;
        Self::evenly(total, count.max(sampling.whole_bytes / bytes.max(1)), bytes)
    }

    pub(super) fn bytes(&self) -> u64 {
        self.parts.iter().map(|(from, to)| to - from).sum()
    }

    /// Has each stretch, as it is read, measured in so many methods, which the workers know; for each of these, a sample a stretch.
    pub(super) fn measured<T: Send, W: FnMut(T) -> Result<Vec<Sample>, CodecError>>(
        &self,
        methods: usize,
        read: impl Fn(u64, u64) -> T + Send + Sync,
        make_worker: impl Fn() -> W + Sync,
        context: &Context<'_>,
    ) -> Result<Vec<Vec<Sample>>, PlanError> {
        let mut samples = vec![Vec::new(); methods];
        let (read, measured) = ordered(
            context.threads,
            |jobs| {
                for (from, to) in &self.parts {
                    context.go_on()?;
                    if jobs.submit(read(*from, *to)).is_err() {
                        break;
                    }
                    context.tell(Progress::Advance(to - from));
                }
                context.go_on()
            },
            make_worker,
            |measured: Result<Vec<Sample>, CodecError>| -> Result<(), PlanError> {
                samples.iter_mut().zip(measured?).for_each(|(all, one)| all.push(one));
                Ok(())
            },
        )?;
        measured?;
        read?;
        Ok(samples)
    }
}

/// A number that is as good as random and the same in every run (the finalizer of SplitMix64).
fn scattered(place: u64) -> u64 {
    let mixed = place.wrapping_add(1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    let mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    mixed ^ (mixed >> 31)
}

/// What one stretch came to at one squeeze.
#[derive(Clone, Copy, Default)]
pub(super) struct Sample {
    pub raw: f64,
    pub stored: f64,
    pub seconds: f64,
}

fn stored(samples: &[Sample]) -> Vec<f64> {
    samples.iter().map(|sample| sample.stored).collect()
}

/// The sum over the whole stream, and its standard error.
pub(super) fn total(samples: &[Sample], stretches: &Stretches, stream: u64) -> (f64, f64) {
    let raw: f64 = samples.iter().map(|sample| sample.raw).sum();
    let sum: f64 = samples.iter().map(|sample| sample.stored).sum();
    if stretches.whole || raw == 0.0 {
        return (sum, 0.0);
    }
    let scale = stream as f64 / raw;
    (sum * scale, standard_error(&stored(samples), scale))
}

/// The same for a slow squeeze, from what it makes of the samples beside a faster one, whose sum is known better.
pub(super) fn by_ratio(
    samples: &[Sample],
    faster: &[Sample],
    known: (f64, f64),
    stretches: &Stretches,
    stream: u64,
) -> (f64, f64) {
    let (sum, faster_sum): (f64, f64) = (stored(samples).iter().sum(), stored(faster).iter().sum());
    let ratio = if faster_sum > 0.0 { sum / faster_sum } else { 1.0 };
    let differences: Vec<f64> =
        samples.iter().zip(faster).map(|(slow, faster)| slow.stored - ratio * faster.stored).collect();
    let error = standard_error(&differences, stream as f64 / stretches.bytes().max(1) as f64);
    (known.0 * ratio, (error.powi(2) + (ratio * known.1).powi(2)).sqrt())
}

/// The standard error of a sum over `scale` times as much, from evenly spaced samples: neighbours are alike, so their
/// differences tell more than their distances from the mean.
fn standard_error(samples: &[f64], scale: f64) -> f64 {
    let count = samples.len() as f64;
    if count < 2.0 {
        return samples.iter().sum::<f64>() * scale;
    }
    let squares: f64 = samples.windows(2).map(|pair| (pair[0] - pair[1]).powi(2)).sum();
    let variance = squares / (2.0 * (count - 1.0));
    (variance * count * (1.0 - 1.0 / scale).max(0.0)).sqrt() * scale
}
