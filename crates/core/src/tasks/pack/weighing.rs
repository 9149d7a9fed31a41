//! What each entry takes when it is packed, before anything is divided among parcels.
//!
//! Every file is compressed by itself. Small files are also compressed as they will stand, several in a frame: what that saves, those
//! share that can be made smaller. The same is done with the list of entries. A division by these weights comes close to the limit; what
//! goes beyond it all the same is divided anew once it is sealed.

use super::arranging::Outlook;
use super::kinds::kinds;
use super::layout::Layout;
use super::parcel_error::ParcelError;
use crate::codecs::block::{Compressor, Squeeze};
use crate::formats::sealed::frame::FRAME_HEADER_BYTES;
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::EntryKind;
use crate::ground::pipeline::ordered;
use crate::source::{Catalogue, SourceEntry};

/// Bytes of records beside a file's content, as far as they do not shrink: digest, id, times.
const RECORDS_BYTES: u64 = 64;

/// A file of which more than nine tenths are left takes what it takes alone, whatever it stands beside.
const fn hardly_shrinks(alone: u64, raw: u64) -> bool {
    raw > RECORDS_BYTES && alone.saturating_sub(RECORDS_BYTES) > raw / 10 * 9
}

/// So many entries of the list are compressed at a time.
const LISTED_TOGETHER: usize = 256;

/// Frames of a parcel are not those that were compressed here: one part in so many is added to what is shared.
const UNSURE_PART: u64 = 64;

/// What each entry takes, by its place in the catalogue, in bytes.
pub(super) fn weigh(catalogue: &Catalogue, squeeze: Squeeze, context: &Context<'_>) -> Result<Vec<u64>, ParcelError> {
    context.tell(Progress::Begin(Phase::Weighing, catalogue.total_bytes()));
    let contents = each(
        catalogue.entries.iter().collect(),
        |entry, compressor| alone(catalogue, entry, compressor, squeeze.block_bytes(), context),
        squeeze,
        context,
    )?;
    // Only slow squeezes go by kinds when they arrange what they pack.
    let kinds = if squeeze.is_slow() { kinds(catalogue, &[squeeze])? } else { Vec::new() };
    let outlook = Outlook::new(squeeze, &kinds);
    let layout = Layout::new(catalogue, &outlook);
    let groups = groups(&layout, squeeze.block_bytes() as u64);
    let together = each(
        groups.iter().collect(),
        |group, compressor| {
            let (block, _) = compressor.compress(layout.stretch(group.from, group.to).records, Vec::new())?;
            Ok((block.stored.len() + FRAME_HEADER_BYTES) as u64)
        },
        squeeze,
        context,
    )?;
    context.tell(Progress::End);
    let mut weights: Vec<u64> = contents.iter().map(|alone| alone + RECORDS_BYTES).collect();
    for (group, bytes) in groups.iter().zip(together) {
        group.share(bytes, catalogue, &mut weights);
    }
    add_list(&layout, catalogue.entries.len(), &mut weights)?;
    Ok(weights)
}

/// Does something with each, with a compressor, on all threads; what came of them, in order.
fn each<T: Send>(
    all: Vec<T>,
    work: impl Fn(T, &mut Compressor) -> Result<u64, ParcelError> + Sync,
    squeeze: Squeeze,
    context: &Context<'_>,
) -> Result<Vec<u64>, ParcelError> {
    let mut found = Vec::with_capacity(all.len());
    let (handed_out, done) = ordered(
        context.threads,
        |jobs| {
            for one in all {
                context.go_on()?;
                if jobs.submit(one).is_err() {
                    break;
                }
            }
            Ok(())
        },
        || {
            let mut compressor = Compressor::new(squeeze);
            let work = &work;
            move |one: T| work(one, compressor.as_mut().map_err(|error| *error)?)
        },
        |bytes: Result<u64, ParcelError>| -> Result<(), ParcelError> {
            found.push(bytes?);
            Ok(())
        },
    )?;
    done?;
    handed_out.map(|()| found)
}

/// What a file's content comes to by itself.
fn alone(
    catalogue: &Catalogue,
    entry: &SourceEntry,
    compressor: &mut Compressor,
    block_bytes: usize,
    context: &Context<'_>,
) -> Result<u64, ParcelError> {
    if entry.kind != EntryKind::File {
        return Ok(0);
    }
    // What cannot be read is passed over when it is packed, and weighs nothing.
    let Ok(mut file) = catalogue.open(entry) else { return Ok(0) };
    let (mut weight, mut block, mut spare) = (0, Vec::new(), Vec::new());
    while file.left() > 0 {
        context.go_on()?;
        block.clear();
        if let Ok(Some(hole)) = file.pass_hole() {
            context.tell(Progress::Advance(hole));
            continue;
        }
        if file.read(&mut block, block_bytes).is_err() || block.is_empty() {
            break;
        }
        context.tell(Progress::Advance(block.len() as u64));
        let (compressed, left_over) = compressor.compress(block, spare)?;
        weight += (compressed.stored.len() + FRAME_HEADER_BYTES) as u64;
        (block, spare) = (compressed.stored, left_over);
    }
    Ok(weight)
}

/// Entries that stand beside each other in a frame.
struct Group {
    places: Vec<usize>,
    /// Where their records stand in the stream before compression.
    from: u64,
    to: u64,
}

/// Neighbours that fit in one frame, several in each.
fn groups(layout: &Layout<'_>, frame_bytes: u64) -> Vec<Group> {
    let mut groups: Vec<Group> = Vec::new();
    for (place, from, to) in layout.spans() {
        match groups.last_mut().filter(|group| to - group.from <= frame_bytes) {
            Some(group) => {
                group.places.push(place);
                group.to = to;
            }
            None => groups.push(Group { places: vec![place], from, to }),
        }
    }
    groups.retain(|group| group.places.len() > 1);
    groups
}

impl Group {
    /// Shares what all of it comes to among its entries: what hardly shrinks takes what it takes alone, and the others the rest, each as
    /// much as it would take alone beside them.
    fn share(&self, together: u64, catalogue: &Catalogue, weights: &mut [u64]) {
        let is_fixed = |place: usize| {
            let entry = &catalogue.entries[place];
            // In a parcel without the file that it is a further name of, it has the content itself.
            entry.is_further_name || hardly_shrinks(weights[place], entry.stored_bytes())
        };
        let (fixed, others): (Vec<usize>, Vec<usize>) = self.places.iter().partition(|place| is_fixed(**place));
        let sum = |places: &[usize]| places.iter().map(|place| weights[*place]).sum::<u64>();
        let (rest, alone) = (together.saturating_sub(sum(&fixed)), sum(&others));
        for place in others.into_iter().filter(|_| rest < alone) {
            let shared = u128::from(weights[place]) * u128::from(rest) / u128::from(alone);
            let shared = u64::try_from(shared).unwrap_or(u64::MAX);
            weights[place] = shared + shared / UNSURE_PART + 1;
        }
    }
}

/// Adds what each entry takes in the list.
fn add_list(layout: &Layout<'_>, entries: usize, weights: &mut [u64]) -> Result<(), ParcelError> {
    let mut compressor = Compressor::new(Squeeze::default())?;
    for first in (0..entries).step_by(LISTED_TOGETHER) {
        let listed = LISTED_TOGETHER.min(entries - first);
        let (page, _) = compressor.compress(layout.index_page(first, listed), Vec::new())?;
        let each = ((page.stored.len() + FRAME_HEADER_BYTES) as u64).div_ceil(listed as u64);
        weights[first..first + listed].iter_mut().for_each(|weight| *weight += each);
    }
    Ok(())
}
