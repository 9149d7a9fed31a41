//! The writing half of a delivery as tar: sources are read into one stream, whose pieces are compressed in parallel
//! and written in order.

use super::open_formats::Read;
use super::{FilledUp, PackError};
use crate::codecs::block::Squeeze;
use crate::codecs::deflate::{Deflater, PIECE_BYTES, window_of};
use crate::codecs::stream::Wrapping;
use crate::disk::FileError;
use crate::disk::staging::Staging;
use crate::formats::tar::{BLOCK_BYTES, end, headers, padding};
use crate::ground::context::{Context, Progress};
use crate::ground::entry::{Content, Entry, EntryKind};
use crate::ground::pipeline::{Jobs, ordered, room};
use crate::source::{Catalogue, PassedOver, SourceEntry, SourceFile};

/// How much is read from a source at a time, in bytes.
const READ_BYTES: usize = 256 * 1024;

/// Files that are no longer than this are read before anything of them is written.
const WHOLE_BYTES: u64 = 16 * 1024 * 1024;

/// How often a file that changes while it is read is read.
const READINGS: u32 = 2;

/// What fills up.
const ZEROS: [u8; BLOCK_BYTES] = [0; BLOCK_BYTES];

/// A gzip member's header: deflate, no name, no time, any system (RFC 1952 section 2.3.1).
const GZIP_HEADER: [u8; 10] = [0x1F, 0x8B, 8, 0, 0, 0, 0, 0, 0, 0xFF];

/// A piece of the stream.
struct Piece {
    content: Vec<u8>,
    window: Vec<u8>,
    last: bool,
}

/// A piece as it is written, and the sum and length of what it stands for.
struct Packed {
    bytes: Vec<u8>,
    sum: crc32fast::Hasher,
    length: u64,
}

/// Writes the archive; its length in bytes, and what was read for it.
pub(super) fn tar(
    catalogue: &Catalogue,
    wrapping: Wrapping,
    squeeze: Squeeze,
    staging: &Staging,
    context: &Context<'_>,
) -> Result<(u64, Read), PackError> {
    let mut file = staging.create(1)?;
    let (mut sum, mut raw, mut written) = (crc32fast::Hasher::new(), 0_u64, 0_u64);
    if wrapping == Wrapping::Gzip {
        file.write(&GZIP_HEADER)?;
        written += GZIP_HEADER.len() as u64;
    }
    let (read, packed) = ordered(
        context.threads,
        |jobs| read_all(catalogue, context, jobs),
        || packing(wrapping, squeeze),
        |packed: Option<Packed>| -> Result<(), PackError> {
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
fn packing(wrapping: Wrapping, squeeze: Squeeze) -> impl FnMut(Piece) -> Option<Packed> {
    let mut deflater = Deflater::new(squeeze);
    move |piece| {
        let mut sum = crc32fast::Hasher::new();
        if wrapping == Wrapping::Gzip {
            sum.update(&piece.content);
        }
        let length = piece.content.len() as u64;
        let bytes = match wrapping {
            Wrapping::Gzip => deflater.piece(&piece.content, &piece.window, piece.last).ok()?,
            // A frame each: one after the other they are read through (RFC 8878 section 3.1).
            Wrapping::Zstandard => zstd::bulk::compress(&piece.content, squeeze.level().unwrap_or(1)).ok()?,
            _ => piece.content,
        };
        Some(Packed { bytes, sum, length })
    }
}

/// The reading side.
struct Reading<'a> {
    catalogue: &'a Catalogue,
    context: &'a Context<'a>,
    jobs: &'a Jobs<Piece, Option<Packed>>,
    piece: Vec<u8>,
    window: Vec<u8>,
    length: u64,
    read: Read,
}

fn read_all(
    catalogue: &Catalogue,
    context: &Context<'_>,
    jobs: &Jobs<Piece, Option<Packed>>,
) -> Result<Read, PackError> {
    let mut reading =
        Reading { catalogue, context, jobs, piece: Vec::new(), window: Vec::new(), length: 0, read: Read::default() };
    for (id, source) in (1..).zip(&catalogue.entries) {
        context.go_on()?;
        context.tell(Progress::Entry(&source.path));
        match source.kind {
            EntryKind::File => reading.add_file(source, id)?,
            EntryKind::Folder | EntryKind::Link => {
                reading.put(&headers(&source.entry(id), 0))?;
                reading.read.totals.add(source.kind, 0);
            }
        }
    }
    reading.put(&end(reading.length))?;
    reading.hand_over(true)?;
    Ok(reading.read)
}

impl Reading<'_> {
    /// Puts bytes into the stream.
    fn put(&mut self, mut bytes: &[u8]) -> Result<(), PackError> {
        self.length += bytes.len() as u64;
        while !bytes.is_empty() {
            let (now, later) = bytes.split_at(bytes.len().min(PIECE_BYTES - self.piece.len()));
            self.piece.extend_from_slice(now);
            bytes = later;
            if self.piece.len() == PIECE_BYTES {
                self.hand_over(false)?;
            }
        }
        Ok(())
    }

    fn hand_over(&mut self, last: bool) -> Result<(), PackError> {
        let next = window_of(&self.piece).to_vec();
        let window = std::mem::replace(&mut self.window, next);
        let content = std::mem::replace(&mut self.piece, room(PIECE_BYTES)?);
        Ok(self.jobs.submit(Piece { content, window, last })?)
    }

    /// A file. One that changes while it is read is read again; so that nothing of the first reading is in the archive, short
    /// files are read before their header is written. Of a long one the header tells the length that it had when it was opened,
    /// and what it lacks then is filled up with zeros: a second reading is put behind, under the same name, and counts.
    fn add_file(&mut self, source: &SourceEntry, id: u64) -> Result<(), PackError> {
        let mut put: Option<Put> = None;
        for reading in 1..=READINGS {
            match self.read_once(source, id, reading == READINGS)? {
                Once::Dropped => {}
                Once::Put(now) => put = Some(now),
                // What an earlier reading came to is all that there is.
                Once::Failed(_) if put.is_some() => break,
                Once::Failed(error) => {
                    let disk_path = self.catalogue.disk_path(&source.path);
                    self.read.passed_over.push(PassedOver { disk_path, reason: error.into() });
                    return Ok(());
                }
            }
            if put.as_ref().is_some_and(|put| put.steady) {
                break;
            }
        }
        let Some(Put { content, real_bytes, steady }) = put else { return Ok(()) };
        if real_bytes < content.size {
            self.read.filled_up.push(FilledUp { path: source.path.clone(), real_bytes, bytes: content.size });
        } else if !steady {
            self.read.changed.push(source.path.clone());
        }
        self.read.totals.add(EntryKind::File, content.size);
        self.read.contents.push((source.path.clone(), content));
        Ok(())
    }

    /// Reads a file once, for the last time or not, and puts it into the stream unless that can wait for another reading.
    fn read_once(&mut self, source: &SourceEntry, id: u64, last: bool) -> Result<Once, PackError> {
        let mut file = match self.catalogue.open(&source.path) {
            Ok(file) => file,
            Err(error) => return Ok(Once::Failed(error)),
        };
        let entry = Entry { mode: file.mode, modified: file.modified, ..source.entry(id) };
        if file.size() > WHOLE_BYTES {
            return self.put_file(&entry, &mut file).map(Once::Put);
        }
        let mut whole = Vec::new();
        match self.read_whole(&mut file, &mut whole)? {
            Err(error) => Ok(Once::Failed(error)),
            Ok(false) if !last => Ok(Once::Dropped),
            Ok(steady) => self.put_whole(&entry, &whole, steady).map(Once::Put),
        }
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

    fn put_whole(&mut self, entry: &Entry, whole: &[u8], steady: bool) -> Result<Put, PackError> {
        let size = whole.len() as u64;
        self.put(&headers(entry, size))?;
        self.put(whole)?;
        self.put(&ZEROS[..padding(size)])?;
        self.context.tell(Progress::Advance(size));
        let content = Content { size, digest: *blake3::hash(whole).as_bytes(), ..Content::default() };
        Ok(Put { content, real_bytes: size, steady })
    }

    /// Puts a long file into the stream while it is read. What it grew by since it was opened is not read.
    fn put_file(&mut self, entry: &Entry, file: &mut SourceFile) -> Result<Put, PackError> {
        let size = file.size();
        self.put(&headers(entry, size))?;
        let (mut digest, mut left, mut buffer) = (blake3::Hasher::new(), size, Vec::new());
        let mut failed = false;
        while left > 0 && !failed {
            self.context.go_on()?;
            buffer.clear();
            let wanted = usize::try_from(left).unwrap_or(usize::MAX).min(READ_BYTES);
            failed = file.read(&mut buffer, wanted).is_err();
            if buffer.is_empty() {
                break;
            }
            digest.update(&buffer);
            left -= buffer.len() as u64;
            self.context.tell(Progress::Advance(buffer.len() as u64));
            self.put(&buffer)?;
        }
        let real_bytes = size - left;
        let steady = !failed && file.is_unchanged(real_bytes).unwrap_or(false);
        while left > 0 {
            self.context.go_on()?;
            let filled = usize::try_from(left).unwrap_or(usize::MAX).min(BLOCK_BYTES);
            digest.update(&ZEROS[..filled]);
            self.put(&ZEROS[..filled])?;
            left -= filled as u64;
        }
        self.put(&ZEROS[..padding(size)])?;
        let content = Content { size, digest: *digest.finalize().as_bytes(), ..Content::default() };
        Ok(Put { content, real_bytes, steady })
    }
}

/// A content in the stream.
struct Put {
    content: Content,
    /// So many bytes of it are the file's; the rest are zeros.
    real_bytes: u64,
    /// The file was the same before and after.
    steady: bool,
}

/// What came of reading a file once.
enum Once {
    /// It is in the stream.
    Put(Put),
    /// It changed meanwhile; nothing of it is in the stream.
    Dropped,
    /// It cannot be read; nothing of it is in the stream.
    Failed(FileError),
}
