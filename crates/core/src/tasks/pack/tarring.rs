//! The writing half of a delivery as tar: sources are read into one stream, whose chunks are compressed in parallel
//! and written in order.

use super::{Contents, PackError};
use crate::codecs::block::Squeeze;
use crate::codecs::deflate::{CHUNK_BYTES, Deflater, window_of};
use crate::codecs::stream::Wrapping;
use crate::disk::FileError;
use crate::disk::staging::Staging;
use crate::formats::members::MAX_SHARING;
use crate::formats::tar::{BLOCK_BYTES, end, further_name, headers, headers_with_holes, padding};
use crate::ground::attributes::Attribute;
use crate::ground::context::{Context, Progress};
use crate::ground::entry::{Content, Entry, EntryPath, ListedEntry};
use crate::ground::holes::{ContentDigest, Hole, Stretch, stretches};
use crate::ground::pipeline::{Jobs, ordered, room};
use crate::source::feed::{Fed, ReadOnce, SourceSink, Taken, feed_whole};
use crate::source::piped::Pipe;
use crate::source::{Catalogue, SourceEntry, SourceFile};
use std::collections::HashMap;

/// How much is read from a source at a time, in bytes.
const READ_BYTES: usize = 256 * 1024;

/// Files that are no longer than this are read before anything of them is written.
const WHOLE_BYTES: u64 = 16 * 1024 * 1024;

/// What fills up.
const ZEROS: [u8; BLOCK_BYTES] = [0; BLOCK_BYTES];

/// A gzip member's header: deflate, no name, no time, any system (RFC 1952 section 2.3.1).
const GZIP_HEADER: [u8; 10] = [0x1F, 0x8B, 8, 0, 0, 0, 0, 0, 0, 0xFF];

/// A chunk of the stream.
struct Chunk {
    content: Vec<u8>,
    window: Vec<u8>,
    last: bool,
}

/// A chunk as it is written, and the sum and length of what it stands for.
struct CompressedChunk {
    bytes: Vec<u8>,
    sum: crc32fast::Hasher,
    length: u64,
}

/// Writes the archive; its length in bytes, and what was read for it.
pub(super) fn tar(
    catalogue: &Catalogue,
    pipe: Option<&Pipe>,
    wrapping: Wrapping,
    squeeze: Squeeze,
    staging: &Staging,
    context: &Context<'_>,
) -> Result<(u64, (Fed, Contents)), PackError> {
    let mut file = staging.create(1)?;
    let (mut sum, mut raw, mut written) = (crc32fast::Hasher::new(), 0_u64, 0_u64);
    if wrapping == Wrapping::Gzip {
        file.write(&GZIP_HEADER)?;
        written += GZIP_HEADER.len() as u64;
    }
    let (read, packed) = ordered(
        context.threads,
        |jobs| read_all(catalogue, pipe, context, jobs),
        || packing(wrapping, squeeze),
        |packed: Option<CompressedChunk>| -> Result<(), PackError> {
            let packed = packed.ok_or(PackError::Compressor)?;
            file.write(&packed.bytes)?;
            sum.combine(&packed.sum);
            (raw, written) = (raw + packed.length, written + packed.bytes.len() as u64);
            context.tell(Progress::Written { stream: written, raw });
            Ok(())
        },
    )?;
    // Where writing failed, reading was only stopped by that.
    packed?;
    let read = read?;
    if wrapping == Wrapping::Gzip {
        // The length is counted modulo 2^32 (RFC 1952 section 2.3.1).
        let length = (raw & u64::from(u32::MAX)) as u32;
        file.write(&[sum.finalize().to_le_bytes(), length.to_le_bytes()].concat())?;
        written += 8;
    }
    file.sync()?;
    file.close()?;
    Ok((written, read))
}

/// A worker with a compressor of its own; `None` where that fails.
fn packing(wrapping: Wrapping, squeeze: Squeeze) -> impl FnMut(Chunk) -> Option<CompressedChunk> {
    let mut deflater = Deflater::new(squeeze);
    move |chunk| {
        let mut sum = crc32fast::Hasher::new();
        if wrapping == Wrapping::Gzip {
            sum.update(&chunk.content);
        }
        let length = chunk.content.len() as u64;
        let bytes = match wrapping {
            Wrapping::Gzip => deflater.chunk(&chunk.content, &chunk.window, chunk.last).ok()?,
            // A frame each: one after the other they are read through (RFC 8878 section 3.1).
            Wrapping::Zstandard => zstd::bulk::compress(&chunk.content, squeeze.zstandard_level().unwrap_or(1)).ok()?,
            _ => chunk.content,
        };
        Some(CompressedChunk { bytes, sum, length })
    }
}

/// The reading side.
struct Stream<'a> {
    context: &'a Context<'a>,
    jobs: &'a Jobs<Chunk, Option<CompressedChunk>>,
    chunk: Vec<u8>,
    window: Vec<u8>,
    length: u64,
    contents: Contents,
    /// How many further names each file has that has any.
    further_names: HashMap<EntryPath, u64>,
}

fn read_all(
    catalogue: &Catalogue,
    pipe: Option<&Pipe>,
    context: &Context<'_>,
    jobs: &Jobs<Chunk, Option<CompressedChunk>>,
) -> Result<(Fed, Contents), PackError> {
    let mut stream = Stream {
        context,
        jobs,
        chunk: Vec::new(),
        window: Vec::new(),
        length: 0,
        contents: Contents::default(),
        further_names: HashMap::new(),
    };
    let fed = feed_whole(catalogue, pipe, &mut stream, context)?;
    // What comes out of an archive comes in the order of that.
    stream.contents.sort_by(|(one, _), (other, _)| one.cmp(other));
    stream.put(&end(stream.length))?;
    stream.submit_chunk(true)?;
    Ok((fed, stream.contents))
}

/// A file that changes while it is read is read again; so that nothing of the first reading is in the archive, short files are
/// read before their header is written. Of a long one the header tells the length that it had when it was opened, and what it
/// lacks then is filled up with zeros: a second reading is put behind, under the same name, and counts.
impl SourceSink for Stream<'_> {
    type Error = PackError;

    fn take_whole(&mut self, _: &SourceEntry, entry: Entry) -> Result<(), PackError> {
        self.put(&headers(&entry, 0, &[]))
    }

    fn take_file(
        &mut self,
        _: &SourceEntry,
        entry: Entry,
        file: &mut SourceFile,
        is_last: bool,
    ) -> Result<ReadOnce, PackError> {
        let attributes = match file.attributes() {
            Ok(attributes) => attributes.to_vec(),
            Err(error) => return Ok(ReadOnce::Failed(error)),
        };
        if file.size() > WHOLE_BYTES {
            return self.put_file(&entry, file, &attributes).map(ReadOnce::Taken);
        }
        let mut whole = Vec::new();
        match self.read_whole(file, &mut whole)? {
            Err(error) => Ok(ReadOnce::Failed(error)),
            Ok(false) if !is_last => Ok(ReadOnce::Dropped),
            Ok(steady) => self.put_whole(&entry, &whole, file.holes(), &attributes, steady).map(ReadOnce::Taken),
        }
    }

    fn take_further_name(&mut self, listed: &ListedEntry, owner: &EntryPath) -> Result<bool, PackError> {
        let names = self.further_names.entry(owner.clone()).or_default();
        // A reader may have to go through the archive once for each.
        if *names >= MAX_SHARING - 1 {
            return Ok(false);
        }
        *names += 1;
        self.put(&further_name(&listed.entry, owner))?;
        Ok(true)
    }

    fn was_taken(&mut self, source: &SourceEntry, content: &Content) {
        self.contents.push((source.path.clone(), *content));
    }
}

impl Stream<'_> {
    /// Puts bytes into the stream.
    fn put(&mut self, mut bytes: &[u8]) -> Result<(), PackError> {
        self.length += bytes.len() as u64;
        while !bytes.is_empty() {
            let (now, later) = bytes.split_at(bytes.len().min(CHUNK_BYTES - self.chunk.len()));
            self.chunk.extend_from_slice(now);
            bytes = later;
            if self.chunk.len() == CHUNK_BYTES {
                self.submit_chunk(false)?;
            }
        }
        Ok(())
    }

    fn submit_chunk(&mut self, last: bool) -> Result<(), PackError> {
        let next = window_of(&self.chunk).to_vec();
        let window = std::mem::replace(&mut self.window, next);
        let content = std::mem::replace(&mut self.chunk, room(CHUNK_BYTES)?);
        Ok(self.jobs.submit(Chunk { content, window, last })?)
    }

    /// Reads a short file to its end; whether it is as it was then.
    fn read_whole(&mut self, file: &mut SourceFile, whole: &mut Vec<u8>) -> Result<Result<bool, FileError>, PackError> {
        loop {
            self.context.go_on()?;
            let before = whole.len();
            if let Err(error) = file.read(whole, READ_BYTES) {
                return Ok(Err(error));
            }
            if whole.len() == before {
                return Ok(file.is_unchanged(before as u64));
            }
        }
    }

    fn put_whole(
        &mut self,
        entry: &Entry,
        whole: &[u8],
        holes: &[Hole],
        attributes: &[Attribute],
        steady: bool,
    ) -> Result<Taken, PackError> {
        let size = whole.len() as u64;
        // Of a file that became shorter the holes may lie elsewhere.
        let holes = if steady { holes } else { &[] };
        let mut content = Putting::begin(self, entry, size, holes, attributes)?;
        let mut left = whole;
        for stretch in stretches(size, holes) {
            let (Stretch::Stored(bytes) | Stretch::Hole(bytes)) = stretch;
            let (now, later) = left.split_at(left.len().min(usize::try_from(bytes).unwrap_or(usize::MAX)));
            match stretch {
                Stretch::Stored(_) => content.put(self, now)?,
                Stretch::Hole(bytes) => content.hole(bytes),
            }
            left = later;
        }
        self.context.tell(Progress::Advance(size));
        Ok(Taken { content: content.end(self)?, real_bytes: size, steady })
    }

    /// Puts a long file into the stream while it is read. What it grew by since it was opened is not read.
    fn put_file(&mut self, entry: &Entry, file: &mut SourceFile, attributes: &[Attribute]) -> Result<Taken, PackError> {
        let (size, holes) = (file.size(), file.holes().to_vec());
        let mut content = Putting::begin(self, entry, size, &holes, attributes)?;
        let (mut real_bytes, mut failed, mut buffer) = (0, false, Vec::new());
        for stretch in stretches(size, &holes) {
            let mut left = match stretch {
                Stretch::Stored(bytes) => bytes,
                Stretch::Hole(bytes) => {
                    failed |= !file.pass_whole_hole(bytes).unwrap_or(false);
                    real_bytes += if failed { 0 } else { bytes };
                    content.hole(bytes);
                    self.context.tell(Progress::Advance(bytes));
                    continue;
                }
            };
            while left > 0 && !failed {
                self.context.go_on()?;
                buffer.clear();
                let wanted = usize::try_from(left).unwrap_or(usize::MAX).min(READ_BYTES);
                failed = file.read(&mut buffer, wanted).is_err() || buffer.is_empty();
                content.put(self, &buffer)?;
                left -= buffer.len() as u64;
                real_bytes += buffer.len() as u64;
                self.context.tell(Progress::Advance(buffer.len() as u64));
            }
            while left > 0 {
                self.context.go_on()?;
                let filled = usize::try_from(left).unwrap_or(usize::MAX).min(BLOCK_BYTES);
                content.put(self, &ZEROS[..filled])?;
                left -= filled as u64;
            }
        }
        let steady = !failed && file.is_unchanged(real_bytes).unwrap_or(false);
        Ok(Taken { content: content.end(self)?, real_bytes, steady })
    }
}

/// A content on its way into the stream.
struct Putting {
    size: u64,
    stored: u64,
    holes: u64,
    digest: ContentDigest,
}

impl Putting {
    /// Puts the headers of a file of this length and with these holes.
    fn begin(
        stream: &mut Stream<'_>,
        entry: &Entry,
        size: u64,
        holes: &[Hole],
        attributes: &[Attribute],
    ) -> Result<Self, PackError> {
        let has_holes = !holes.is_empty();
        stream.put(&if has_holes {
            headers_with_holes(entry, size, holes, attributes)
        } else {
            headers(entry, size, attributes)
        })?;
        Ok(Self { size, stored: 0, holes: 0, digest: ContentDigest::new(has_holes) })
    }

    fn put(&mut self, stream: &mut Stream<'_>, bytes: &[u8]) -> Result<(), PackError> {
        self.digest.update(bytes);
        self.stored += bytes.len() as u64;
        stream.put(bytes)
    }

    fn hole(&mut self, bytes: u64) {
        self.digest.hole(bytes);
        self.holes += bytes;
    }

    /// Fills up the last block; what the content came to.
    fn end(self, stream: &mut Stream<'_>) -> Result<Content, PackError> {
        stream.put(&ZEROS[..padding(self.stored)])?;
        let Self { size, holes, .. } = self;
        let digest = self.digest.finish();
        Ok(Content { size, digest, in_units: holes > 0, holes, ..Content::default() })
    }
}
