//! How large an archive will be at each squeeze, and how long it will take: by compressing evenly spaced samples of its
//! record stream, or all of it where it is small.

use super::PlanError;
use super::layout::{Layout, Stretch};
use crate::codecs::block::{Block, Compressor, Decompressor, Squeeze};
use crate::codecs::error::CodecError;
use crate::formats::sealed::FrameRoom;
use crate::formats::sealed::frame::FRAME_HEADER_BYTES;
use crate::formats::sealed::record::{DATA_PREFIX_BYTES, RECORD_HEADER_BYTES};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::fit::Fit;
use crate::ground::pipeline::ordered;
use crate::source::Catalogue;
use crate::tasks::pack::arranging::{Outlook, frame_room};
use crate::tasks::pack::kinds::KindWeight;
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

/// How a slow squeeze, which takes fifteen to fifty times as long as a fast one, is tried.
#[derive(Clone, Copy)]
struct SlowSampling {
    /// In how many places, and how long each is, in bytes.
    places: u64,
    bytes: u64,
    /// What LZMA leaves of what these tell: it goes on learning in a block that is longer. Measured on six corpora.
    learns: f64,
    /// How much longer a byte takes in a block of full length, which the processor's caches do not hold.
    slows: f64,
}

impl SlowSampling {
    const HARD: Self = Self { places: 14, bytes: 256 * 1024, learns: 0.965, slows: 1.3 };
    const UTMOST: Self = Self { places: 10, bytes: 160 * 1024, learns: 0.95, slows: 2.0 };
}

/// The standard error of [`SlowSampling::learns`].
const LEARNING_VARIES: f64 = 0.02;

/// What its larger blocks gain, which short stretches do not show, is told from so many of its own blocks, by a fast
/// compressor that finds matches as far away.
const LONG_SAMPLES: u64 = 3;

/// So much is compressed whole at the slow squeezes, in blocks of their own size.
const SLOW_WHOLE_BYTES: u64 = 2 * 1024 * 1024;

/// What a file that goes on in the next frame takes there: another data record's header and prefix.
const DATA_OVERHEAD_BYTES: usize = RECORD_HEADER_BYTES + DATA_PREFIX_BYTES;

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

/// Estimates these squeezes, in their own order, for volumes of this fit.
pub fn estimate(
    catalogue: &Catalogue,
    kinds: &[KindWeight],
    wanted: &[Squeeze],
    fit: Fit,
    context: &Context<'_>,
) -> Result<Vec<Estimate>, PlanError> {
    let outlook = Outlook::new(Squeeze::default(), kinds);
    let layout = Layout::new(catalogue, &outlook);
    let index = index_bytes(&layout, catalogue.entries.len())?;
    let sampler = Sampler { layout: &layout, volume_limit: fit.volume_limit(), context };
    let quick: Vec<Squeeze> = wanted.iter().copied().filter(|squeeze| !squeeze.is_slow()).collect();
    let mut estimates = sampler.estimate_quick(&quick, index)?;
    let slow: Vec<Squeeze> = wanted.iter().copied().filter(|squeeze| squeeze.is_slow()).collect();
    if let Some(one) = slow.first() {
        // Both arrange content in the same way.
        let outlook = Outlook::new(*one, kinds);
        let layout = Layout::new(catalogue, &outlook);
        estimates.extend(Sampler { layout: &layout, ..sampler }.estimate_slow(&slow, index)?);
    }
    estimates.sort_by_key(|estimate| estimate.squeeze.number());
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
    /// How large its blocks get, where a volume has at most so many bytes.
    fn room(self, volume_limit: Option<u64>) -> FrameRoom {
        match self {
            Self::As(squeeze) | Self::FarAs(squeeze) => frame_room(squeeze, volume_limit),
        }
    }

    fn compressor(self) -> Result<Compressor, CodecError> {
        match self {
            Self::As(squeeze) => Compressor::new(squeeze),
            Self::FarAs(_) => Compressor::finding_far(Squeeze::Even),
        }
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

#[derive(Clone, Copy)]
struct Sampler<'a> {
    layout: &'a Layout<'a>,
    volume_limit: Option<u64>,
    context: &'a Context<'a>,
}

impl Sampler<'_> {
    fn stretches(&self, count: u64, bytes: u64) -> Stretches {
        Stretches::evenly(self.layout.total, count, bytes)
    }

    /// Estimates of squeezes that are fast enough to be tried on many places.
    fn estimate_quick(&self, wanted: &[Squeeze], index: u64) -> Result<Vec<Estimate>, PlanError> {
        let (mut estimates, total_bytes) = (Vec::new(), self.layout.total);
        let methods: Vec<Method> =
            wanted.iter().filter(|squeeze| **squeeze != Squeeze::None).map(|squeeze| Method::As(*squeeze)).collect();
        if wanted.contains(&Squeeze::None) {
            let room = frame_room(Squeeze::None, self.volume_limit).raw_bytes_of(1.0) as u64;
            let frames = total_bytes.div_ceil(room).max(1);
            let sum = total_bytes + frames * FRAME_HEADER_BYTES as u64 + (frames - 1) * DATA_OVERHEAD_BYTES as u64;
            estimates.push(self.finished(Squeeze::None, (sum as f64, 0.0), true, &[], index));
        }
        if methods.is_empty() {
            return Ok(estimates);
        }
        let stretches = Stretches::growing(total_bytes, Squeeze::Even.block_bytes() as u64, Sampling::THOROUGH);
        self.context.tell(Progress::Begin(Phase::Sampling, stretches.bytes()));
        for (method, samples) in methods.iter().zip(self.measure(&methods, &stretches)?) {
            if let Method::As(squeeze) = method {
                let sum = total(&samples, &stretches, total_bytes);
                estimates.push(self.finished(*squeeze, sum, stretches.whole, &samples, index));
            }
        }
        self.context.tell(Progress::End);
        Ok(estimates)
    }

    /// Estimates of the slow ones: what they make of few samples is held against what the usual one makes of many.
    fn estimate_slow(&self, wanted: &[Squeeze], index: u64) -> Result<Vec<Estimate>, PlanError> {
        let total_bytes = self.layout.total;
        let usual = Method::As(Squeeze::Even);
        let many = Stretches::growing(total_bytes, Squeeze::Even.block_bytes() as u64, Sampling::LIGHTER);
        let sampling = |squeeze| if squeeze == Squeeze::Hard { SlowSampling::HARD } else { SlowSampling::UTMOST };
        let steps = |squeeze: Squeeze| {
            let SlowSampling { places, bytes, .. } = sampling(squeeze);
            [
                (Method::FarAs(squeeze), self.stretches(LONG_SAMPLES, squeeze.block_bytes() as u64)),
                (Method::As(squeeze), self.stretches(places, bytes)),
            ]
        };
        let all = self.stretches(u64::from(u32::MAX), Squeeze::Utmost.block_bytes() as u64);
        let is_small = total_bytes <= SLOW_WHOLE_BYTES;
        let work = match is_small {
            true => wanted.len() as u64 * total_bytes,
            false => {
                let steps = wanted.iter().flat_map(|squeeze| steps(*squeeze));
                many.bytes() + steps.map(|(_, stretches)| stretches.bytes()).sum::<u64>()
            }
        };
        self.context.tell(Progress::Begin(Phase::Sampling, work));
        let mut estimates = Vec::new();
        let known = match is_small {
            true => (0.0, 0.0),
            false => total(&self.measure(&[usual], &many)?.pop().unwrap_or_default(), &many, total_bytes),
        };
        for squeeze in wanted {
            let (mut sum, mut samples) = (known, Vec::new());
            if is_small {
                samples = self.measure(&[Method::As(*squeeze)], &all)?.pop().unwrap_or_default();
                sum = total(&samples, &all, total_bytes);
            } else {
                for (method, stretches) in steps(*squeeze) {
                    let mut measured = self.measure(&[usual, method], &stretches)?;
                    samples = measured.pop().unwrap_or_default();
                    let faster = measured.pop().unwrap_or_default();
                    sum = by_ratio(&samples, &faster, sum, &stretches, total_bytes);
                }
                let SlowSampling { learns, slows, .. } = sampling(*squeeze);
                sum = (sum.0 * learns, sum.1.hypot(LEARNING_VARIES * sum.0));
                samples.iter_mut().for_each(|sample| sample.seconds *= slows);
            }
            estimates.push(self.finished(*squeeze, sum, is_small, &samples, index));
        }
        self.context.tell(Progress::End);
        Ok(estimates)
    }

    /// Compresses every stretch in every one of the methods; for each of these, a sample a stretch.
    fn measure(&self, methods: &[Method], stretches: &Stretches) -> Result<Vec<Vec<Sample>>, PlanError> {
        let read = |from, to| self.layout.stretch(from, to);
        let rooms: Vec<FrameRoom> = methods.iter().map(|method| method.room(self.volume_limit)).collect();
        stretches.measured(methods.len(), read, || measuring(methods, &rooms), self.context)
    }

    fn finished(&self, squeeze: Squeeze, sum: (f64, f64), exact: bool, samples: &[Sample], index: u64) -> Estimate {
        let seconds = seconds(samples, self.layout.total, self.context);
        Estimate { squeeze, stream_bytes: Likely::around(sum, index), seconds, exact }
    }
}

/// A worker with compressors of its own.
fn measuring(
    methods: &[Method],
    rooms: &[FrameRoom],
) -> impl FnMut(Stretch) -> Result<Vec<Sample>, CodecError> + use<> {
    let rooms = rooms.to_vec();
    let mut compressors: Vec<_> = methods.iter().map(|method| method.compressor()).collect();
    let mut decompressor = Decompressor::new();
    move |stretch| {
        let decompressor = decompressor.as_mut().map_err(|error| *error)?;
        let mut samples = Vec::new();
        for (room, compressor) in rooms.iter().zip(&mut compressors) {
            let compressor = compressor.as_mut().map_err(|error| *error)?;
            let (mut sample, started) =
                (Sample { raw: stretch.records.len() as f64, ..Sample::default() }, Instant::now());
            for block in stretch.records.chunks(room.raw_bytes_of(stretch.kept)) {
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
