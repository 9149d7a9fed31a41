//! Estimates of the slow squeezes: what they make of few samples is held against what the usual one makes of many. Where there
//! is little, all of it is tried.

use super::PlanError;
use super::estimate::Estimate;
use super::measuring::{Method, Sampler};
use super::sampling::{Sample, Sampling, Stretches, by_ratio, total};
use crate::codecs::block::Squeeze;

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

    const fn of(squeeze: Squeeze) -> Self {
        if matches!(squeeze, Squeeze::Hard) { Self::HARD } else { Self::UTMOST }
    }
}

/// The standard error of [`SlowSampling::learns`].
const LEARNING_VARIES: f64 = 0.02;

/// What its larger blocks gain, which short stretches do not show, is told from so many of its own blocks, by a fast
/// compressor that finds matches as far away.
const LONG_SAMPLES: u64 = 3;

/// So much is compressed whole at the slow squeezes, in blocks of their own size.
const SLOW_WHOLE_BYTES: u64 = 2 * 1024 * 1024;

/// What samples of other squeezes are held against.
const USUAL: Method = Method::As(Squeeze::Even);

/// What is wanted, and where it is tried.
pub(super) struct Slow<'a> {
    sampler: Sampler<'a>,
    squeezes: Vec<Squeeze>,
    trial: Trial,
}

enum Trial {
    /// On all that there is.
    Whole(Stretches),
    /// On samples, beside the usual squeeze, which is tried on these.
    Samples(Stretches),
}

impl<'a> Slow<'a> {
    pub fn new(sampler: Sampler<'a>, wanted: &[Squeeze]) -> Self {
        let bytes = sampler.layout.total;
        let trial = if bytes <= SLOW_WHOLE_BYTES {
            Trial::Whole(Stretches::evenly(bytes, 1, SLOW_WHOLE_BYTES))
        } else {
            Trial::Samples(Stretches::growing(bytes, Squeeze::Even.block_bytes() as u64, Sampling::LIGHTER))
        };
        Self { sampler, squeezes: wanted.to_vec(), trial }
    }

    /// Where a squeeze is tried, and in which way, one step after the other.
    fn steps(&self, squeeze: Squeeze) -> [(Method, Stretches); 2] {
        let SlowSampling { places, bytes, .. } = SlowSampling::of(squeeze);
        let stretches = |count, bytes| Stretches::evenly(self.sampler.layout.total, count, bytes);
        [
            (Method::FarAs(squeeze), stretches(LONG_SAMPLES, squeeze.block_bytes() as u64)),
            (Method::As(squeeze), stretches(places, bytes)),
        ]
    }

    /// Bytes that are read.
    pub fn work(&self) -> u64 {
        match &self.trial {
            Trial::Whole(all) => self.squeezes.len() as u64 * all.bytes(),
            Trial::Samples(many) => {
                let steps = self.squeezes.iter().flat_map(|squeeze| self.steps(*squeeze));
                many.bytes() + steps.map(|(_, stretches)| stretches.bytes()).sum::<u64>()
            }
        }
    }

    /// The estimates, each with an index of so many bytes.
    pub fn estimates(&self, index: u64) -> Result<Vec<Estimate>, PlanError> {
        match &self.trial {
            Trial::Whole(all) => self.squeezes.iter().map(|squeeze| self.whole(*squeeze, all, index)).collect(),
            Trial::Samples(many) => {
                let samples = self.sampler.measure(&[USUAL], many)?.pop().unwrap_or_default();
                let known = total(&samples, many, self.sampler.layout.total);
                self.squeezes.iter().map(|squeeze| self.sampled(*squeeze, known, index)).collect()
            }
        }
    }

    fn whole(&self, squeeze: Squeeze, all: &Stretches, index: u64) -> Result<Estimate, PlanError> {
        let samples = self.sampler.measure(&[Method::As(squeeze)], all)?.pop().unwrap_or_default();
        let sum = total(&samples, all, self.sampler.layout.total);
        Ok(Estimate::new(squeeze, (sum, true), index, &samples, self.sampler))
    }

    /// From what the usual squeeze comes to, with its standard error.
    fn sampled(&self, squeeze: Squeeze, known: (f64, f64), index: u64) -> Result<Estimate, PlanError> {
        let (mut sum, mut samples): (_, Vec<Sample>) = (known, Vec::new());
        for (method, stretches) in self.steps(squeeze) {
            let mut measured = self.sampler.measure(&[USUAL, method], &stretches)?;
            samples = measured.pop().unwrap_or_default();
            let usual = measured.pop().unwrap_or_default();
            sum = by_ratio(&samples, &usual, sum, &stretches, self.sampler.layout.total);
        }
        let SlowSampling { learns, slows, .. } = SlowSampling::of(squeeze);
        sum = (sum.0 * learns, sum.1.hypot(LEARNING_VARIES * sum.0));
        samples.iter_mut().for_each(|sample| sample.seconds *= slows);
        Ok(Estimate::new(squeeze, (sum, false), index, &samples, self.sampler))
    }
}
