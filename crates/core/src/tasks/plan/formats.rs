//! What the same sources would come to in the open formats, by compressing evenly spaced samples of contents as each of
//! these formats would.

use super::PlanError;
use super::estimate::Likely;
use super::sampling::{Sample, Sampling, Stretches, total};
use crate::codecs::block::Squeeze;
use crate::codecs::deflate::{self, CHUNK_BYTES, Deflater, WINDOW_BYTES, chunk_bytes, window_of};
use crate::codecs::error::CodecError;
use crate::formats::registry::{Format, TAR, TAR_GZ, TAR_ZST, ZIP};
use crate::formats::tar;
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::EntryKind;
use crate::source::{Catalogue, Extras, SourceEntry};
use crate::tasks::pack::zip_headers_bytes;

/// What a file's extended attributes take in tar at the most, where they are no more than most file systems have room for.
const USUAL_ATTRIBUTES_BYTES: u64 = 8 * 1024;

/// What an archive would come to in an open format.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct InFormat {
    /// The format.
    pub format: &'static Format,
    /// Its bytes; a ZIP archive with a password, which adds some for each file.
    pub bytes: Likely,
    /// Whether everything was compressed to find this out.
    pub exact: bool,
}

/// What one file has in a stretch.
struct Segment {
    /// What stands in front of it in a tar archive, and behind it, if it begins and ends here.
    headers: Vec<u8>,
    padding: usize,
    /// What comes right before it in its file.
    window: Vec<u8>,
    content: Vec<u8>,
}

/// What the sources would come to in these open formats at a squeeze, in their own order; ZIP with a password, which hides names too or not.
pub fn in_open_formats(
    catalogue: &Catalogue,
    wanted: &[&'static Format],
    squeeze: Squeeze,
    hide_names: bool,
    context: &Context<'_>,
) -> Result<Vec<InFormat>, PlanError> {
    if wanted.iter().all(|format| format.abilities.volumes) {
        return Ok(Vec::new());
    }
    let of_zip = catalogue.extras() != Extras { with_attributes: catalogue.with_attributes, ..Extras::default() };
    if of_zip && wanted.contains(&&ZIP) && wanted.len() > 1 {
        // ZIP has a content again for each name, and zeros for holes.
        let (zip, others): (Vec<_>, Vec<_>) = wanted.iter().copied().partition(|format| *format == &ZIP);
        let mut all = in_open_formats(catalogue, &zip, squeeze, hide_names, context)?;
        all.extend(in_open_formats(catalogue, &others, squeeze, hide_names, context)?);
        return Ok(all);
    }
    let contents = Contents::new(catalogue, if wanted.contains(&&ZIP) { whole_bytes } else { stored_bytes });
    let stretches = Stretches::growing(contents.total, CHUNK_BYTES as u64, Sampling::LIGHTER);
    context.tell(Progress::Begin(Phase::Sampling, stretches.bytes()));
    let samples =
        stretches.measured(3, |from, to| contents.stretch(from, to), || measuring(squeeze, wanted), context)?;
    context.tell(Progress::End);
    let exact = stretches.whole;
    let estimated = |format, samples: &[Sample], sure| {
        let bytes = Likely::around(total(samples, &stretches, contents.total), sure);
        InFormat { format, bytes, exact }
    };
    let plain = tar_bytes(catalogue);
    let with_attributes = if catalogue.packs_attributes { catalogue.with_attributes.files } else { 0 };
    let attributes = with_attributes.saturating_mul(USUAL_ATTRIBUTES_BYTES);
    let (zip, gzip, zstandard) = (&samples[0], &samples[1], &samples[2]);
    let all = vec![
        estimated(&ZIP, zip, zip_headers_bytes(catalogue, hide_names)),
        InFormat {
            format: &TAR,
            bytes: Likely { low: plain, likely: plain, high: plain + attributes },
            exact: attributes == 0,
        },
        estimated(&TAR_GZ, gzip, 0),
        estimated(&TAR_ZST, zstandard, 0),
    ];
    Ok(all.into_iter().filter(|one| wanted.contains(&one.format)).collect())
}

/// All contents one after the other, of which any stretch can be read.
struct Contents<'a> {
    catalogue: &'a Catalogue,
    starts: Vec<u64>,
    /// Bytes of all contents, and one more, in which whatever has none at the end lies.
    total: u64,
    /// Bytes that a content has here.
    bytes_of: fn(&SourceEntry) -> u64,
}

impl<'a> Contents<'a> {
    fn new(catalogue: &'a Catalogue, bytes_of: fn(&SourceEntry) -> u64) -> Self {
        let (mut starts, mut total) = (Vec::with_capacity(catalogue.entries.len()), 0);
        for source in &catalogue.entries {
            starts.push(total);
            total += bytes_of(source);
        }
        Self { catalogue, starts, total: total + 1, bytes_of }
    }

    fn stretch(&self, from: u64, to: u64) -> Vec<Segment> {
        let first = self.starts.partition_point(|start| *start < from).saturating_sub(1);
        let entries = self.catalogue.entries.iter().zip(&self.starts).skip(first);
        let mut segments = Vec::new();
        for (source, start) in entries.take_while(|(_, start)| **start < to) {
            let size = (self.bytes_of)(source);
            let (begins, end) = (*start >= from, start + size);
            if !begins && end <= from {
                continue;
            }
            let skipped = from.saturating_sub(*start);
            let wanted = to.min(end) - (start + skipped);
            let mut segment = Segment { headers: Vec::new(), padding: 0, window: Vec::new(), content: Vec::new() };
            if begins {
                segment.headers = tar_headers(source);
            }
            if end <= to {
                segment.padding = tar::padding(size);
            }
            if source.kind == EntryKind::File {
                self.read(source, skipped, wanted, &mut segment);
            }
            segments.push(segment);
        }
        segments
    }

    /// Files that cannot be read are told from the catalogue; here they count for nothing.
    fn read(&self, source: &SourceEntry, skipped: u64, wanted: u64, segment: &mut Segment) {
        let Ok(mut file) = self.catalogue.open(source) else { return };
        let before = skipped.min(WINDOW_BYTES as u64);
        let mut read = Vec::new();
        let all = (before + wanted) as usize;
        let _ = match (self.bytes_of)(source) == source.size {
            true => file.skip(skipped - before).and_then(|()| file.read(&mut read, all)),
            false => file.read_stored(skipped - before, &mut read, all),
        };
        segment.content = read.split_off(read.len().min(before as usize));
        segment.window = read;
    }
}

/// Bytes of a content, where each name of a file has its own, and holes are zeros.
fn whole_bytes(source: &SourceEntry) -> u64 {
    if source.kind == EntryKind::File { source.size } else { 0 }
}

/// Bytes of a content that are stored where neither is so.
fn stored_bytes(source: &SourceEntry) -> u64 {
    if source.kind == EntryKind::File { source.stored_bytes() } else { 0 }
}

/// What stands in front of an entry in tar. A file with holes has about as much as one without.
fn tar_headers(source: &SourceEntry) -> Vec<u8> {
    match source.is_further_name {
        true => tar::further_name(&source.entry(0), &source.path),
        false => tar::headers(&source.entry(0), source.stored_bytes(), &[]),
    }
}

/// A worker with compressors of its own: what a stretch comes to in ZIP, with gzip, and with Zstandard, as far as that is wanted.
fn measuring(
    squeeze: Squeeze,
    wanted: &[&'static Format],
) -> impl FnMut(Vec<Segment>) -> Result<Vec<Sample>, CodecError> + use<> {
    let [zip_wanted, gzip_wanted, zstandard_wanted] = [&ZIP, &TAR_GZ, &TAR_ZST].map(|format| wanted.contains(&format));
    let mut deflater = Deflater::new(squeeze);
    let failed = |_| CodecError::Compressor;
    move |segments| {
        let raw: usize = segments.iter().map(|segment| segment.content.len()).sum();
        let (mut zip, mut stream) = (0, Vec::with_capacity(raw));
        for segment in &segments {
            zip += match zip_wanted && deflate::pays(squeeze, &segment.content) {
                true => {
                    // Where chunks are long, a stretch stands for all of one.
                    let is_long = chunk_bytes(squeeze) > CHUNK_BYTES;
                    let window = if is_long { &[][..] } else { &segment.window };
                    deflater.chunk(&segment.content, window, true).map_err(failed)?.len()
                }
                false => segment.content.len(),
            };
            stream.extend_from_slice(&segment.headers);
            stream.extend_from_slice(&segment.content);
            stream.resize(stream.len() + segment.padding, 0);
        }
        let (mut gzip, mut zstandard, mut window) = (0, 0, Vec::new());
        for chunk in stream.chunks(CHUNK_BYTES) {
            if gzip_wanted {
                gzip += deflater.chunk(chunk, &window, true).map_err(failed)?.len();
            }
            if zstandard_wanted {
                let level = squeeze.zstandard_level().unwrap_or(1);
                zstandard += zstd::bulk::compress(chunk, level).map_err(|_| CodecError::Compressor)?.len();
            }
            window = window_of(chunk).to_vec();
        }
        let sample = |stored: usize| Sample { raw: raw as f64, stored: stored as f64, seconds: 0.0 };
        Ok(vec![sample(zip), sample(gzip), sample(zstandard)])
    }
}

/// A plain tar archive's length: exactly, but for extended attributes.
fn tar_bytes(catalogue: &Catalogue) -> u64 {
    let bytes = catalogue.entries.iter().map(|source| tar_bytes_of(catalogue, source)).sum::<u64>();
    bytes + tar::end(bytes).len() as u64
}

fn tar_bytes_of(catalogue: &Catalogue, source: &SourceEntry) -> u64 {
    let has_holes = source.holes > 0 && !source.is_further_name;
    let file = has_holes.then(|| catalogue.open(source).ok()).flatten().filter(|file| !file.holes().is_empty());
    let (headers, stored) = match file {
        Some(file) => {
            let stored = source.size.saturating_sub(file.holes().iter().map(|hole| hole.bytes).sum());
            (tar::headers_with_holes(&source.entry(0), source.size, file.holes(), &[]), stored)
        }
        None => (tar_headers(source), if source.kind == EntryKind::File { source.own_bytes() } else { 0 }),
    };
    headers.len() as u64 + stored + tar::padding(stored) as u64
}
