//! What each squeeze would make of the same sources: by compressing evenly spaced samples of their record stream, or all of it
//! where it is small.

use super::PlanError;
use super::estimate::Estimate;
use super::measuring::Sampler;
use super::quick::Quick;
use super::slow::Slow;
use crate::codecs::block::{Compressor, Squeeze};
use crate::formats::sealed::frame::FRAME_HEADER_BYTES;
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::fit::Fit;
use crate::source::Catalogue;
use crate::tasks::pack::arranging::Outlook;
use crate::tasks::pack::kinds::KindWeight;
use crate::tasks::pack::layout::Layout;

/// Index entries that are made for estimating the index, in so many runs.
const INDEX_RUNS: usize = 8;
const INDEX_RUN_ENTRIES: usize = 256;

/// Estimates these squeezes, from none to utmost, for volumes of this fit.
pub fn estimate(
    catalogue: &Catalogue,
    kinds: &[KindWeight],
    wanted: &[Squeeze],
    fit: Fit,
    context: &Context<'_>,
) -> Result<Vec<Estimate>, PlanError> {
    let (slow, quick): (Vec<Squeeze>, Vec<Squeeze>) = wanted.iter().partition(|squeeze| squeeze.is_slow());
    // Squeezes of one speed arrange content in the same way.
    let quick_outlook = Outlook::new(Squeeze::default(), kinds);
    let quick_layout = Layout::new(catalogue, &quick_outlook);
    let slow_outlook = slow.first().map(|squeeze| Outlook::new(*squeeze, kinds));
    let slow_layout = slow_outlook.as_ref().map(|outlook| Layout::new(catalogue, outlook));
    let sampler = |layout| Sampler { layout, volume_limit: fit.volume_limit(), context };
    let quick = Quick::new(sampler(&quick_layout), &quick);
    let slow = slow_layout.as_ref().map(|layout| Slow::new(sampler(layout), &slow));
    let index = index_bytes(&quick_layout, catalogue.entries.len())?;

    let work = quick.work() + slow.as_ref().map_or(0, Slow::work);
    context.tell(Progress::Begin(Phase::Sampling, work));
    let mut estimates = quick.estimates(index)?;
    if let Some(slow) = slow {
        estimates.append(&mut slow.estimates(index)?);
    }
    context.tell(Progress::End);
    estimates.sort_by_key(|estimate| estimate.squeeze.number());
    Ok(estimates)
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
