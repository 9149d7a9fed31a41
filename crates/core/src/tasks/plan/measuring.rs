//! What samples of a record stream come to, and how long that takes, when they are compressed as packing would or faster.

use super::PlanError;
use super::sampling::{Sample, Stretches};
use crate::codecs::block::{Block, Compressor, Decompressor, Squeeze};
use crate::codecs::error::CodecError;
use crate::formats::sealed::FrameRoom;
use crate::formats::sealed::frame::FRAME_HEADER_BYTES;
use crate::ground::context::Context;
use crate::tasks::pack::arranging::frame_room;
use crate::tasks::pack::layout::{Layout, Stretch};
use std::time::Instant;

/// How a stretch is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Method {
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

/// Compresses samples of a record stream.
#[derive(Clone, Copy)]
pub(super) struct Sampler<'a> {
    pub layout: &'a Layout<'a>,
    pub volume_limit: Option<u64>,
    pub context: &'a Context<'a>,
}

impl Sampler<'_> {
    /// Compresses every stretch in every one of the methods; for each of these, a sample a stretch.
    pub fn measure(&self, methods: &[Method], stretches: &Stretches) -> Result<Vec<Vec<Sample>>, PlanError> {
        let read = |from, to| self.layout.stretch(from, to);
        let rooms: Vec<FrameRoom> = methods.iter().map(|method| method.room(self.volume_limit)).collect();
        stretches.measured(methods.len(), read, || measuring(methods, &rooms), self.context)
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
