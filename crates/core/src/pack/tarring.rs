//! The writing half of a delivery as tar: every source is read once into one stream, whose pieces are compressed in parallel
//! and written in order.

use super::open_formats::Read;
use super::{Format, PackError};
use crate::codec::Squeeze;
use crate::context::{Context, Progress};
use crate::deflate::{Deflater, PIECE_BYTES, window_of};
use crate::entry::{Content, Entry, EntryKind};
use crate::pipeline::{Jobs, ordered};
use crate::place::staging::Staging;
use crate::source::{Catalogue, PassedOver, SourceEntry};
use crate::tar::{BLOCK_BYTES, end, headers, padding};

/// How much is read from a source at a time, in bytes.
const READ_BYTES: usize = 256 * 1024;

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
    format: Format,
    squeeze: Squeeze,
    staging: &Staging,
    context: &Context<'_>,
) -> Result<(u64, Read), PackError> {
    let mut file = staging.create(1)?;
    let (mut sum, mut raw, mut written) = (crc32fast::Hasher::new(), 0_u64, 0_u64);
    if format == Format::TarGz {
        file.write(&GZIP_HEADER)?;
        written += GZIP_HEADER.len() as u64;
    }
    let (read, packed) = ordered(
        context.threads,
        |jobs| read_all(catalogue, context, jobs),
        || packing(format, squeeze),
        |packed: Option<Packed>| -> Result<(), PackError> {
            let packed = packed.ok_or(PackError::Compressor)?;
            file.write(&packed.bytes)?;
            sum.combine(&packed.sum);
            (raw, written) = (raw + packed.length, written + packed.bytes.len() as u64);
            context.tell(Progress::Written { stream: written, raw });
            Ok(())
        },
    );
    // Where writing failed, reading was only stopped by that.
    packed?;
    let read = read?;
    if format == Format::TarGz {
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
fn packing(format: Format, squeeze: Squeeze) -> impl FnMut(Piece) -> Option<Packed> {
    let mut deflater = Deflater::new(squeeze);
    move |piece| {
        let mut sum = crc32fast::Hasher::new();
        if format == Format::TarGz {
            sum.update(&piece.content);
        }
        let length = piece.content.len() as u64;
        let bytes = match format {
            Format::TarGz => deflater.piece(&piece.content, &piece.window, piece.last).ok()?,
            // A frame each: one after the other they are read through (RFC 8878 section 3.1).
            Format::TarZst => zstd::bulk::compress(&piece.content, squeeze.level().unwrap_or(1)).ok()?,
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
        let content = std::mem::replace(&mut self.piece, Vec::with_capacity(PIECE_BYTES));
        Ok(self.jobs.submit(Piece { content, window, last })?)
    }

    /// A file of the length that it had when it was opened: what it grew by is not read, and what it lacks now is filled up with
    /// zeros; both are told.
    fn add_file(&mut self, source: &SourceEntry, id: u64) -> Result<(), PackError> {
        let mut file = match self.catalogue.open(&source.path) {
            Ok(file) => file,
            Err(error) => {
                let disk_path = self.catalogue.disk_path(&source.path);
                self.read.passed_over.push(PassedOver { disk_path, reason: error.into() });
                return Ok(());
            }
        };
        let size = file.size();
        self.put(&headers(&Entry { mode: file.mode, modified: file.modified, ..source.entry(id) }, size))?;
        let (mut digest, mut left, mut buffer) = (blake3::Hasher::new(), size, Vec::new());
        let mut trouble = None;
        while left > 0 && trouble.is_none() {
            self.context.go_on()?;
            buffer.clear();
            let wanted = usize::try_from(left).unwrap_or(usize::MAX).min(READ_BYTES);
            if let Err(error) = file.read(&mut buffer, wanted) {
                trouble = Some(error);
            }
            if buffer.is_empty() {
                break;
            }
            digest.update(&buffer);
            left -= buffer.len() as u64;
            self.context.tell(Progress::Advance(buffer.len() as u64));
            self.put(&buffer)?;
        }
        let unchanged = trouble.is_none() && file.is_unchanged(size - left).unwrap_or(false);
        while left > 0 {
            let filled = usize::try_from(left).unwrap_or(usize::MAX).min(BLOCK_BYTES);
            digest.update(&ZEROS[..filled]);
            self.put(&ZEROS[..filled])?;
            left -= filled as u64;
        }
        self.put(&ZEROS[..padding(size)])?;
        if !unchanged {
            self.read.changed.push(source.path.clone());
        }
        let content = Content { size, digest: *digest.finalize().as_bytes(), changed_while_read: false };
        self.read.totals.add(EntryKind::File, size);
        self.read.contents.push((source.path.clone(), content));
        Ok(())
    }
}
