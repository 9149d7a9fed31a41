//! The writing half of a delivery: every source is read once and sealed into staged volumes.

use super::PackError;
use super::arranging::{Outlook, frame_room};
use crate::codecs::block::{Compressor, Squeeze};
use crate::codecs::error::CodecError;
use crate::disk::FileError;
use crate::disk::staging::Staging;
use crate::formats::sealed::cells::{CellSeal, NotAuthentic, PlainCells};
use crate::formats::sealed::volume::in_page::InPage;
use crate::formats::sealed::volume::{Bound, CellLength, Cells, Ids, VolumeWriter, WriteError, WrittenVolumes};
use crate::formats::sealed::{
    About, ArchiveKey, CompressedFrame, FrameDraft, Framer, KeyCost, SealError, SealedArchive, SealedWriter, seal_head,
};
use crate::ground::context::{Context, Progress};
use crate::ground::entry::{Content, Entry, EntryPath, Totals};
use crate::ground::pipeline::{Spares, Stopped, ordered};
use crate::ground::secrets::Credentials;
use crate::source::feed::{Fed, ReadOnce, SourceSink, Taken, feed};
use crate::source::{Catalogue, PassedOver, SourceEntry, SourceFile};

/// How much is read from a source at a time, in bytes.
const READ_BYTES: u64 = 256 * 1024;

/// One archive to be made.
#[derive(Clone, Copy)]
pub(super) struct Job<'a> {
    pub catalogue: &'a Catalogue,
    /// What of the catalogue goes into it, by path.
    pub entries: &'a [&'a SourceEntry],
    /// What is expected of it.
    pub outlook: &'a Outlook<'a>,
    /// What it is called, as bytes of a file name without extension.
    pub name: &'a [u8],
    pub squeeze: Squeeze,
    pub message: &'a str,
    pub volume_limit: Option<u64>,
    /// The number under which its first volume is staged.
    pub first_staged: u32,
    /// What stands in front of each volume in its file.
    pub opening: &'a [u8],
    pub credentials: &'a [Credentials],
    pub cost: KeyCost,
    /// What archives made before it came to.
    pub before: SoFar,
}

/// What all archives of a delivery have come to so far.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct SoFar {
    /// Bytes of their streams.
    pub stream: u64,
    /// Bytes before compression.
    pub raw: u64,
}

/// What was written.
pub(super) struct Sealed {
    pub ids: Ids,
    pub written: WrittenVolumes,
    pub totals: Totals,
    pub index_digest: [u8; 32],
    pub passed_over: Vec<PassedOver>,
    pub changed: Vec<EntryPath>,
    pub so_far: SoFar,
    /// Where its volume is in a page, once it is in one.
    pub in_page: Option<InPage>,
}

/// Four stages, each with threads of its own: sources are read into frames; frames are compressed; cells are filled in
/// order and sealed; volumes are written, here.
pub(super) fn seal(job: &Job<'_>, staging: &Staging, context: &Context<'_>) -> Result<Sealed, PackError> {
    let ids = Ids { set: context.random()?, cut: context.random()? };
    let key = ArchiveKey::generate(context)?;
    let cell_length = CellLength::within(job.volume_limit).ok_or(SealError::from(WriteError::NO_ROOM))?;
    let bound = Bound { set: ids.set, cell_length };
    let head = seal_head(&key, &bound, job.credentials, job.cost, context).map_err(SealError::from)?;
    let volumes = VolumeWriter::new(staging, ids, cell_length, job.volume_limit).map_err(SealError::from)?;
    let mut volumes = volumes.staged_from(job.first_staged).behind(job.opening);
    let (seal, cutting) = (CellSeal::new(&key, &bound).map_err(SealError::from)?, volumes.cutting());
    let spares = Spares::new(2 * context.threads);
    let (produced, written) = ordered(
        context.threads,
        |cells| compress_all(job, cell_length, staging, &spares, context, |plain| cells.submit(plain)),
        || |plain| seal.seal(plain, &cutting),
        |cells: Result<Cells, NotAuthentic>| -> Result<(), SealError> {
            let cells = cells?;
            volumes.write(&cells.bytes)?;
            spares.give(cells.bytes);
            context.tell(Progress::Volume(volumes.volume() + job.first_staged - 1));
            Ok(())
        },
    )?;
    // Where writing failed, everything before it was only stopped by that.
    written?;
    let (read, sealed, so_far) = produced?;
    let written = volumes.finish(&head).map_err(SealError::from)?;
    Ok(Sealed {
        ids,
        written,
        totals: sealed.totals,
        index_digest: sealed.index_digest,
        passed_over: read.passed_over,
        changed: read.changed,
        so_far,
        in_page: None,
    })
}

/// The first two stages and the filling of cells.
fn compress_all(
    job: &Job<'_>,
    cell_length: CellLength,
    staging: &Staging,
    spares: &Spares,
    context: &Context<'_>,
    submit: impl FnMut(PlainCells) -> Result<(), Stopped>,
) -> Result<(Fed, SealedArchive, SoFar), PackError> {
    let about = About {
        made_at: (context.clock)(),
        name: job.name.to_vec(),
        squeeze: Some(job.squeeze.number()),
        message: job.message.to_owned(),
    };
    let before = job.before;
    let make_scratch = || staging.create_scratch();
    let mut writer = SealedWriter::new(about, cell_length, &make_scratch, *context, spares, submit)?;
    let (read, compressed) = ordered(
        context.threads,
        |frames| read_all(job, spares, context, |frame| frames.submit(frame)),
        || compressing(job.squeeze, spares),
        |frame: Result<CompressedFrame, CodecError>| -> Result<(), SealError> {
            spares.give(writer.write_content(frame?)?);
            context.tell(Progress::Written {
                stream: before.stream + writer.stream_bytes(),
                raw: before.raw + writer.raw_bytes(),
            });
            Ok(())
        },
    )?;
    compressed?;
    let read = read?;
    let so_far = SoFar { stream: before.stream + writer.stream_bytes(), raw: before.raw + writer.raw_bytes() };
    let sealed = writer.finish(read.totals)?;
    Ok((read, sealed, so_far))
}

/// A worker with a compressor of its own.
fn compressing(squeeze: Squeeze, spares: &Spares) -> impl FnMut(FrameDraft) -> Result<CompressedFrame, CodecError> {
    let mut compressor = Compressor::new(squeeze);
    move |frame| {
        let compressor = compressor.as_mut().map_err(|error| *error)?;
        let (block, left_over) = compressor.compress(frame.records, spares.take())?;
        spares.give(left_over);
        Ok(CompressedFrame { block, completed: frame.completed })
    }
}

fn read_all(
    job: &Job<'_>,
    spares: &Spares,
    context: &Context<'_>,
    submit: impl Fn(FrameDraft) -> Result<(), Stopped>,
) -> Result<Fed, PackError> {
    let framer = Framer::new(frame_room(job.squeeze, job.volume_limit), spares, submit);
    let mut framing = Framing { framer, outlook: job.outlook, context };
    let mut fed = feed(job.catalogue, job.outlook.in_order(job.entries), &mut framing, context)?;
    // Read by kinds, told by paths; else they come in the catalogue's order already.
    if job.squeeze.is_slow() {
        fed.passed_over.sort_by(|one, other| one.disk_path.cmp(&other.disk_path));
        fed.changed.sort();
    }
    Ok(Fed { totals: framing.framer.finish()?, ..fed })
}

/// Sources become records, which fill frames.
struct Framing<'a, F: Fn(FrameDraft) -> Result<(), Stopped>> {
    framer: Framer<'a, F>,
    outlook: &'a Outlook<'a>,
    context: &'a Context<'a>,
}

impl<F: Fn(FrameDraft) -> Result<(), Stopped>> SourceSink for Framing<'_, F> {
    type Error = PackError;

    fn take_whole(&mut self, source: &SourceEntry, entry: Entry) -> Result<(), PackError> {
        Ok(self.framer.begin(entry, self.outlook.expected(source))?)
    }

    fn take_file(
        &mut self,
        source: &SourceEntry,
        entry: Entry,
        file: &mut SourceFile,
        is_last: bool,
    ) -> Result<ReadOnce, PackError> {
        self.framer.begin(entry, self.outlook.expected(source))?;
        match self.read(file)? {
            Err(error) => {
                self.framer.abandon();
                Ok(ReadOnce::Failed(error))
            }
            Ok((false, _)) if !is_last => {
                self.framer.abandon();
                Ok(ReadOnce::Dropped)
            }
            Ok((steady, size)) => {
                self.framer.end(!steady);
                // Its digest is in its record.
                let content = Content { size, ..Content::default() };
                Ok(ReadOnce::Taken(Taken { content, real_bytes: size, steady }))
            }
        }
    }
}

impl<F: Fn(FrameDraft) -> Result<(), Stopped>> Framing<'_, F> {
    /// Reads a file into records; whether it is as it was then, and its length.
    fn read(&mut self, file: &mut SourceFile) -> Result<Result<(bool, u64), FileError>, PackError> {
        let mut total = 0;
        while file.left() > 0 {
            self.context.go_on()?;
            let wanted = file.left().min(READ_BYTES) as usize;
            let count = match self.framer.content(wanted, |output, wanted| file.read(output, wanted))? {
                Ok(0) => break,
                Ok(count) => count as u64,
                Err(error) => return Ok(Err(error)),
            };
            total += count;
            self.context.tell(Progress::Advance(count));
        }
        Ok(file.is_unchanged(total).map(|steady| (steady, total)))
    }
}
