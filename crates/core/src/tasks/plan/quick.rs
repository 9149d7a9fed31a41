//! Estimates of squeezes that are fast enough to be tried in many places.

use super::PlanError;
use super::estimate::Estimate;
use super::measuring::{Method, Sampler};
use super::sampling::{Sampling, Stretches, total};
use crate::codecs::block::Squeeze;
use crate::formats::sealed::frame::FRAME_HEADER_BYTES;
use crate::formats::sealed::record::{DATA_PREFIX_BYTES, RECORD_HEADER_BYTES};
use crate::tasks::pack::arranging::frame_room;

/// What a file that goes on in the next frame takes there: another data record's header and prefix.
const DATA_OVERHEAD_BYTES: usize = RECORD_HEADER_BYTES + DATA_PREFIX_BYTES;

/// What is wanted, and where it is tried.
pub(super) struct Quick<'a> {
    sampler: Sampler<'a>,
    not_at_all: bool,
    squeezes: Vec<Squeeze>,
    stretches: Stretches,
}

impl<'a> Quick<'a> {
    pub fn new(sampler: Sampler<'a>, wanted: &[Squeeze]) -> Self {
        let (none, squeezes): (Vec<Squeeze>, Vec<Squeeze>) =
            wanted.iter().partition(|squeeze| **squeeze == Squeeze::None);
        let bytes = Squeeze::Even.block_bytes() as u64;
        let stretches = Stretches::growing(sampler.layout.total, bytes, Sampling::THOROUGH);
        Self { sampler, not_at_all: !none.is_empty(), squeezes, stretches }
    }

    /// Bytes that are read.
    pub fn work(&self) -> u64 {
        if self.squeezes.is_empty() { 0 } else { self.stretches.bytes() }
    }

    /// The estimates, each with an index of so many bytes.
    pub fn estimates(&self, index: u64) -> Result<Vec<Estimate>, PlanError> {
        let mut estimates = Vec::new();
        if self.not_at_all {
            estimates.push(self.stored(index));
        }
        if self.squeezes.is_empty() {
            return Ok(estimates);
        }
        let methods: Vec<Method> = self.squeezes.iter().map(|squeeze| Method::As(*squeeze)).collect();
        for (squeeze, samples) in self.squeezes.iter().zip(self.sampler.measure(&methods, &self.stretches)?) {
            let sum = total(&samples, &self.stretches, self.sampler.layout.total);
            estimates.push(Estimate::new(*squeeze, (sum, self.stretches.whole), index, &samples, self.sampler));
        }
        Ok(estimates)
    }

    /// What everything comes to as it is, which needs no trying.
    fn stored(&self, index: u64) -> Estimate {
        let bytes = self.sampler.layout.total;
        let room = frame_room(Squeeze::None, self.sampler.volume_limit).raw_bytes_of(1.0) as u64;
        let frames = bytes.div_ceil(room).max(1);
        let sum = bytes + frames * FRAME_HEADER_BYTES as u64 + (frames - 1) * DATA_OVERHEAD_BYTES as u64;
        Estimate::new(Squeeze::None, ((sum as f64, 0.0), true), index, &[], self.sampler)
    }
}
