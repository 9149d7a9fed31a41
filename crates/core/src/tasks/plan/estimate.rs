//! How large an archive will be at each squeeze, and how long it will take: by compressing evenly spaced samples of its
//! record stream, or all of it where it is small.

use super::PlanError;
use super::layout::Layout;
use crate::codecs::block::{Block, CodecError, Compressor, Decompressor, Squeeze};
use crate::formats::sealed::frame::FRAME_HEADER_BYTES;
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::pipeline::ordered;
use crate::source::Catalogue;
use std::time::Instant;

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

/// A slow squeeze takes up to twenty-five times as long as a fast one. So what its level gains is told from so few places, of
/// this length each.
const SLOW_SAMPLES: u64 = 4;
const HARD_SAMPLE_BYTES: u64 = 640 * 1024;
const UTMOST_SAMPLE_BYTES: u64 = 160 * 1024;

/// What its larger blocks gain, which short stretches do not show, is told from so many of its own blocks, by a fast
/// compressor that finds matches as far away.
const LONG_SAMPLES: u64 = 3;

/// So much is compressed whole at the slow squeezes, in blocks of their own size.
const SLOW_WHOLE_BYTES: u64 = 2 * 1024 * 1024;

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
pub fn estimate(catalogue: &Catalogue, wanted: &[Squeeze], context: &Context<'_>) -> Result<Vec<Estimate>, PlanError> {
    let layout = Layout::new(catalogue);
    let index = index_bytes(&layout, catalogue.entries.len())?;
    let sampler = Sampler { layout: &layout, context };
    let is_wanted = |squeeze: &Squeeze| wanted.contains(squeeze);
    let slow: Vec<Slow> = sampler.slow(wanted);
    // What the slow squeezes make of few samples is held against what the usual one makes of many.
    let is_held_against = slow.iter().any(|slow| !slow.steps.is_empty());
    let quick: Vec<Squeeze> = [Squeeze::Light, Squeeze::Even]
        .into_iter()
        .filter(|squeeze| is_wanted(squeeze) || (*squeeze == Squeeze::Even && is_held_against))
        .collect();
    // Where only a slow squeeze is wanted, the time is for that.
    let sampling = if quick.iter().any(is_wanted) { Sampling::THOROUGH } else { Sampling::LIGHTER };
    let fast = Stretches::growing(layout.total, Squeeze::Even.block_bytes() as u64, sampling);
    let fast_bytes = if quick.is_empty() { 0 } else { fast.bytes() };
    let slow_bytes = slow.iter().map(Slow::bytes).sum::<u64>();
    context.tell(Progress::Begin(Phase::Sampling, fast_bytes + slow_bytes));
    let methods: Vec<Method> = quick.iter().map(|squeeze| Method::As(*squeeze)).collect();
    let measured = if quick.is_empty() { Vec::new() } else { sampler.measure(&methods, &fast)? };
    let mut estimates = Vec::new();
    if is_wanted(&Squeeze::None) {
        estimates.push(none(&layout, index, context));
    }
    let mut usual = (0.0, 0.0);
    for (squeeze, samples) in quick.iter().zip(&measured) {
        usual = total(samples, &fast, layout.total);
        if is_wanted(squeeze) {
            let seconds = seconds(samples, layout.total, context);
            estimates.push(finished(*squeeze, usual, fast.whole, seconds, index));
        }
    }
    for slow in &slow {
        let (sum, samples) = sampler.estimate_slow(slow, usual)?;
        let seconds = seconds(&samples, layout.total, context);
        estimates.push(finished(slow.squeeze, sum, slow.steps.is_empty(), seconds, index));
    }
    context.tell(Progress::End);
    Ok(estimates)
}

/// How a stretch is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Method {
    /// At this squeeze, in its blocks.
    As(Squeeze),
    /// Fast, in the blocks of this squeeze, with matches from anywhere in a block.
    FarAs(Squeeze),
}

impl Method {
    const fn block_bytes(self) -> usize {
        match self {
            Self::As(squeeze) | Self::FarAs(squeeze) => squeeze.block_bytes(),
        }
    }

    fn compressor(self) -> Result<Compressor, CodecError> {
        match self {
            Self::As(squeeze) => Compressor::new(squeeze),
            Self::FarAs(_) => Compressor::finding_far(Squeeze::Even),
        }
    }
}

/// A slow squeeze: how its sum is told from that of the usual one.
struct Slow {
    squeeze: Squeeze,
    /// What is held against the usual squeeze, and where, one after the other; nothing where all of the stream is compressed.
    steps: Vec<(Method, Stretches)>,
}

impl Slow {
    fn bytes(&self) -> u64 {
        self.steps.iter().map(|(_, stretches)| stretches.bytes()).sum()
    }
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

struct Sampler<'a> {
    layout: &'a Layout<'a>,
    context: &'a Context<'a>,
}

impl Sampler<'_> {
    fn stretches(&self, count: u64, bytes: u64) -> Stretches {
        Stretches::evenly(self.layout.total, count, bytes)
    }

    /// The slow squeezes that are wanted.
    fn slow(&self, wanted: &[Squeeze]) -> Vec<Slow> {
        let with = |squeeze: Squeeze, sample_bytes| {
            let steps = match self.layout.total <= SLOW_WHOLE_BYTES {
                true => Vec::new(),
                false => vec![
                    (Method::FarAs(squeeze), self.stretches(LONG_SAMPLES, squeeze.block_bytes() as u64)),
                    (Method::As(squeeze), self.stretches(SLOW_SAMPLES, sample_bytes)),
                ],
            };
            Slow { squeeze, steps }
        };
        let all = [with(Squeeze::Hard, HARD_SAMPLE_BYTES), with(Squeeze::Utmost, UTMOST_SAMPLE_BYTES)];
        all.into_iter().filter(|slow| wanted.contains(&slow.squeeze)).collect()
    }

    /// The sum of a slow squeeze with its standard error, from that of the usual one, and the samples at it.
    fn estimate_slow(&self, slow: &Slow, usual: (f64, f64)) -> Result<((f64, f64), Vec<Sample>), PlanError> {
        if slow.steps.is_empty() {
            let whole = self.stretches(u64::from(u32::MAX), slow.squeeze.block_bytes() as u64);
            let samples = self.measure(&[Method::As(slow.squeeze)], &whole)?.pop().unwrap_or_default();
            return Ok((total(&samples, &whole, self.layout.total), samples));
        }
        let (mut sum, mut samples) = (usual, Vec::new());
        for (method, stretches) in &slow.steps {
            let mut measured = self.measure(&[Method::As(Squeeze::Even), *method], stretches)?;
            samples = measured.pop().unwrap_or_default();
            let faster = measured.pop().unwrap_or_default();
            sum = by_ratio(&samples, &faster, sum, stretches, self.layout.total);
        }
        Ok((sum, samples))
    }

    /// Compresses every stretch in every one of the methods; for each of these, a sample a stretch.
    fn measure(&self, methods: &[Method], stretches: &Stretches) -> Result<Vec<Vec<Sample>>, PlanError> {
        let read = |from, to| self.layout.stretch(from, to);
        stretches.measured(methods.len(), read, || measuring(methods), self.context)
    }
}

/// A worker with compressors of its own.
fn measuring(methods: &[Method]) -> impl FnMut(Vec<u8>) -> Result<Vec<Sample>, CodecError> + use<> {
    let methods = methods.to_vec();
    let mut compressors: Vec<_> = methods.iter().map(|method| method.compressor()).collect();
    let mut decompressor = Decompressor::new();
    move |stretch| {
        let decompressor = decompressor.as_mut().map_err(|error| *error)?;
        let mut samples = Vec::new();
        for (method, compressor) in methods.iter().zip(&mut compressors) {
            let compressor = compressor.as_mut().map_err(|error| *error)?;
            let (mut sample, started) = (Sample { raw: stretch.len() as f64, ..Sample::default() }, Instant::now());
            for block in stretch.chunks(method.block_bytes()) {
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

/// The same for a slow squeeze, from what it makes of the samples beside a faster one, whose sum is known better.
fn by_ratio(
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
    finished(Squeeze::None, (sum as f64, 0.0), true, seconds(&[], layout.total, context), index)
}

fn finished(squeeze: Squeeze, sum: (f64, f64), exact: bool, seconds: f64, index: u64) -> Estimate {
    Estimate { squeeze, stream_bytes: Likely::around(sum, index), seconds, exact }
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
