//! How large an archive will be at each squeeze, and how long it will take: by compressing evenly spaced samples of its
//! record stream, or all of it where it is small.

use super::PlanError;
use super::layout::Layout;
use crate::codec::{Block, CodecError, Compressor, Decompressor, Squeeze};
use crate::context::{Context, Phase, Progress};
use crate::pipeline::ordered;
use crate::sealed::frame::FRAME_HEADER_BYTES;
use crate::source::Catalogue;
use std::time::Instant;

/// So much is compressed whole: what it takes is not felt.
const WHOLE_BYTES: u64 = 16 * 1024 * 1024;

/// Of more, so many stretches of one block each for the square root of its length in MiB: a sample that is twice as sure costs
/// four times as much, and one that grows so is ever smaller beside what packing takes.
const STRETCHES_A_ROOT: f64 = 6.0;

/// What is sampled for the slow squeezes, beside the usual one for comparison.
const SLOW_SAMPLES: u64 = 5;
const SLOW_SAMPLE_BYTES: u64 = 2 * 1024 * 1024;

/// So much is compressed whole at the slow squeezes, in blocks of their own size.
const SLOW_WHOLE_BYTES: u64 = SLOW_SAMPLES * SLOW_SAMPLE_BYTES;

/// Where everything was compressed, what may still differ: a file that changes, the index's digests.
const SURE_WITHIN: f64 = 0.005;

/// Index entries that are made for estimating the index, in so many runs.
const INDEX_RUNS: usize = 8;
const INDEX_RUN_ENTRIES: usize = 256;

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

/// Estimates these squeezes, in their own order.
///
/// # Errors
/// [`PlanError`].
pub fn estimate(catalogue: &Catalogue, wanted: &[Squeeze], context: &Context<'_>) -> Result<Vec<Estimate>, PlanError> {
    let layout = Layout::new(catalogue);
    let index = index_bytes(&layout, catalogue.entries.len())?;
    let sampler = Sampler { layout: &layout, context };
    let is_wanted = |squeeze: &Squeeze| wanted.contains(squeeze);
    let slow = sampler.slow_stretches(wanted);
    // What the slow squeezes make of few samples is held against what the usual one makes of many.
    let is_held_against = slow.iter().any(|(_, stretches)| !stretches.whole);
    let quick: Vec<Squeeze> = [Squeeze::Light, Squeeze::Even]
        .into_iter()
        .filter(|squeeze| is_wanted(squeeze) || (*squeeze == Squeeze::Even && is_held_against))
        .collect();
    let fast = Stretches::growing(layout.total, Squeeze::Even.block_bytes() as u64);
    let fast_bytes = if quick.is_empty() { 0 } else { fast.bytes() };
    let slow_bytes = slow.iter().map(|(_, stretches)| stretches.bytes()).sum::<u64>();
    context.tell(Progress::Begin(Phase::Sampling, fast_bytes + slow_bytes));
    let measured = if quick.is_empty() { Vec::new() } else { sampler.measure(&quick, &fast)? };
    let mut estimates = Vec::new();
    if is_wanted(&Squeeze::None) {
        estimates.push(none(&layout, index, context));
    }
    let mut even_total = (0.0, 0.0);
    for (squeeze, samples) in quick.iter().zip(&measured) {
        let (sum, error) = total(samples, &fast, layout.total);
        if *squeeze == Squeeze::Even {
            even_total = (sum, error);
        }
        if is_wanted(squeeze) {
            let seconds = seconds(samples, layout.total, context);
            estimates.push(finished(*squeeze, sum, error, fast.whole, seconds, index));
        }
    }
    for (squeezes, stretches) in &slow {
        let measured = sampler.measure(squeezes, stretches)?;
        for (squeeze, samples) in squeezes.iter().zip(&measured).filter(|(squeeze, _)| **squeeze != Squeeze::Even) {
            let (sum, error) = match stretches.whole {
                true => total(samples, stretches, layout.total),
                // The first of them is the usual squeeze.
                false => by_ratio(samples, &measured[0], even_total, stretches, layout.total),
            };
            let seconds = seconds(samples, layout.total, context);
            estimates.push(finished(*squeeze, sum, error, stretches.whole, seconds, index));
        }
    }
    context.tell(Progress::End);
    Ok(estimates)
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
    pub(super) fn growing(total: u64, bytes: u64) -> Self {
        let mebibytes = total as f64 / (1024.0 * 1024.0);
        let count = (STRETCHES_A_ROOT * mebibytes.sqrt()).ceil() as u64;
        Self::evenly(total, count.max(WHOLE_BYTES / bytes.max(1)), bytes)
    }

    pub(super) fn bytes(&self) -> u64 {
        self.parts.iter().map(|(from, to)| to - from).sum()
    }

    /// Has each stretch, as it is read, measured in so many ways, which the workers know; for each of these, a sample a stretch.
    pub(super) fn measured<T: Send, W: FnMut(T) -> Result<Vec<Sample>, CodecError>>(
        &self,
        ways: usize,
        read: impl Fn(u64, u64) -> T + Send + Sync,
        make_worker: impl Fn() -> W + Sync,
        context: &Context<'_>,
    ) -> Result<Vec<Vec<Sample>>, PlanError> {
        let mut samples = vec![Vec::new(); ways];
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

struct Sampler<'a> {
    layout: &'a Layout<'a>,
    context: &'a Context<'a>,
}

impl Sampler<'_> {
    fn stretches(&self, count: u64, bytes: u64) -> Stretches {
        Stretches::evenly(self.layout.total, count, bytes)
    }

    /// The slow squeezes that are wanted, with the usual one in front where not all of the stream is compressed.
    fn slow_stretches(&self, wanted: &[Squeeze]) -> Vec<(Vec<Squeeze>, Stretches)> {
        let slow: Vec<Squeeze> =
            [Squeeze::Hard, Squeeze::Utmost].into_iter().filter(|squeeze| wanted.contains(squeeze)).collect();
        if slow.is_empty() {
            return Vec::new();
        }
        if self.layout.total <= SLOW_WHOLE_BYTES {
            let own =
                |squeeze: Squeeze| (vec![squeeze], self.stretches(u64::from(u32::MAX), squeeze.block_bytes() as u64));
            return slow.into_iter().map(own).collect();
        }
        let squeezes = [vec![Squeeze::Even], slow].concat();
        vec![(squeezes, self.stretches(SLOW_SAMPLES, SLOW_SAMPLE_BYTES))]
    }

    /// Compresses every stretch at every one of the squeezes; for each of these, a sample a stretch.
    fn measure(&self, squeezes: &[Squeeze], stretches: &Stretches) -> Result<Vec<Vec<Sample>>, PlanError> {
        let read = |from, to| self.layout.stretch(from, to);
        stretches.measured(squeezes.len(), read, || measuring(squeezes), self.context)
    }
}

/// A worker with compressors of its own.
fn measuring(squeezes: &[Squeeze]) -> impl FnMut(Vec<u8>) -> Result<Vec<Sample>, CodecError> + use<> {
    let squeezes = squeezes.to_vec();
    let mut compressors: Vec<_> = squeezes.iter().map(|squeeze| Compressor::new(*squeeze)).collect();
    let mut decompressor = Decompressor::new();
    move |stretch| {
        let decompressor = decompressor.as_mut().map_err(|error| *error)?;
        let mut samples = Vec::new();
        for (squeeze, compressor) in squeezes.iter().zip(&mut compressors) {
            let compressor = compressor.as_mut().map_err(|error| *error)?;
            let (mut sample, started) = (Sample { raw: stretch.len() as f64, ..Sample::default() }, Instant::now());
            for block in stretch.chunks(squeeze.block_bytes()) {
                let (Block { codec, stored, raw_bytes }, spare) = compressor.compress(block.to_vec(), Vec::new())?;
                sample.stored += (stored.len() + FRAME_HEADER_BYTES) as f64;
                decompressor.decompress_owned(codec, stored, raw_bytes, spare)?;
            }
            sample.seconds = started.elapsed().as_secs_f64();
            samples.push(sample);
        }
        Ok(samples)
    }
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

/// The same for a slow squeeze, from what it makes of the samples beside the usual squeeze, whose sum is known better.
fn by_ratio(samples: &[Sample], usual: &[Sample], known: (f64, f64), stretches: &Stretches, stream: u64) -> (f64, f64) {
    let (sum, usual_sum): (f64, f64) = (stored(samples).iter().sum(), stored(usual).iter().sum());
    let ratio = if usual_sum > 0.0 { sum / usual_sum } else { 1.0 };
    let differences: Vec<f64> =
        samples.iter().zip(usual).map(|(slow, usual)| slow.stored - ratio * usual.stored).collect();
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

fn seconds(samples: &[Sample], stream: u64, context: &Context<'_>) -> f64 {
    let (raw, seconds) =
        samples.iter().fold((0.0, 0.0), |(raw, seconds), sample| (raw + sample.raw, seconds + sample.seconds));
    let rate = if raw > 0.0 { seconds / raw } else { 0.0 };
    (rate + SEALING_SECONDS_A_BYTE) * stream as f64 / context.threads.max(1) as f64
}

/// What digests, checks and seals take both ways, as measured (docs/limits.md): about 1 GB/s all together.
const SEALING_SECONDS_A_BYTE: f64 = 1e-9;

fn none(layout: &Layout<'_>, index: u64, context: &Context<'_>) -> Estimate {
    let frames = layout.total.div_ceil(Squeeze::None.block_bytes() as u64);
    let sum = layout.total + frames * FRAME_HEADER_BYTES as u64;
    finished(Squeeze::None, sum as f64, 0.0, true, seconds(&[], layout.total, context), index)
}

fn finished(squeeze: Squeeze, sum: f64, error: f64, exact: bool, seconds: f64, index: u64) -> Estimate {
    Estimate { squeeze, stream_bytes: Likely::around((sum, error), index), seconds, exact }
}

impl Likely {
    /// A sum with its standard error, and bytes that are sure to come to it.
    pub(super) fn around((sum, error): (f64, f64), sure: u64) -> Self {
        let around = (2.0 * error).max(SURE_WITHIN * sum);
        let bytes = |sum: f64| sum.max(0.0) as u64 + sure;
        Self { low: bytes(sum - around), likely: bytes(sum), high: bytes(sum + around) }
    }
}

/// Bytes of the index: from runs of entries that stand beside each other, as they will in its pages.
fn index_bytes(layout: &Layout<'_>, entries: usize) -> Result<u64, PlanError> {
    let mut compressor = Compressor::new(Squeeze::default())?;
    let runs = INDEX_RUNS.min(entries.div_ceil(INDEX_RUN_ENTRIES)).max(1);
    let (mut made, mut bytes) = (0, 0);
    for run in 0..runs {
        let first = run * (entries / runs);
        let count = INDEX_RUN_ENTRIES.min(entries - first);
        let (block, _) = compressor.compress(layout.index_page(first, count), Vec::new())?;
        made += count;
        bytes += block.stored.len() + FRAME_HEADER_BYTES;
    }
    Ok((bytes as u64 * entries as u64).div_ceil(made.max(1) as u64))
}
