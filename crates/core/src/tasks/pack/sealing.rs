//! The writing half of a delivery: every source is read once and sealed into staged volumes.

use super::PackError;
use super::arranging::{Outlook, frame_room};
use super::since::Changes;
use crate::codecs::block::{Compressor, Squeeze};
use crate::codecs::error::CodecError;
use crate::disk::FileError;
use crate::disk::staging::Staging;
use crate::formats::error::ArchiveError;
use crate::formats::sealed::cells::{CellSeal, NotAuthentic, PlainCells};
use crate::formats::sealed::further_names::has_room;
use crate::formats::sealed::volume::in_page::InPage;
use crate::formats::sealed::volume::{
    Bound, CellLength, Cells, Ids, SpareWish, VolumeWriter, WriteError, WrittenVolumes,
};
use crate::formats::sealed::{
    About, ArchiveKey, Base, CarriedFrame, Carrier, CompressedFrame, Expected, FrameDraft, FrameSource, Framer,
    KeyCost, OldEntries, OldFrame, ParcelOf, SealError, SealedArchive, SealedError, SealedWriter, seal_head,
};
use crate::ground::context::{Context, Progress};
use crate::ground::entry::{Content, Entry, EntryPath, ListedEntry, Totals};
use crate::ground::pipeline::{Buffers, Stopped, ordered};
use crate::ground::secrets::Credentials;
use crate::source::feed::{Fed, ReadOnce, SourceSink, Taken, feed, feed_piped};
use crate::source::piped::Pipe;
use crate::source::{Catalogue, PassedOver, SourceEntry, SourceFile};
use std::collections::{HashMap, HashSet};

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
    pub spares: SpareWish,
    /// The number under which its first volume is staged.
    pub first_staged: u32,
    /// What stands in front of each volume in its file.
    pub opening: &'a [u8],
    pub credentials: &'a [Credentials],
    pub cost: KeyCost,
    /// What archives made before it came to.
    pub before: SoFar,
    /// What it builds upon, where it holds only what has changed.
    pub changes: Option<&'a Changes>,
    /// Which parcel of the delivery it is, where that is divided.
    pub parcel: Option<ParcelOf>,
}

/// What of an old archive goes into the new one.
pub enum Carried<'a> {
    /// There is none.
    Nothing,
    /// The contents of some of the catalogue's entries, as they come out of it.
    Piped(&'a Pipe),
    /// Its frames, beside what the catalogue has.
    Frames(FramesToCarry<'a>),
}

impl Carried<'_> {
    /// Content bytes that come from there, beside those that the catalogue counts.
    pub fn content_bytes(&self) -> u64 {
        match self {
            Self::Nothing | Self::Piped(_) => 0,
            Self::Frames(frames) => frames.old.content_bytes(),
        }
    }
}

/// Frames of a sealed archive that is revised.
pub struct FramesToCarry<'a> {
    /// The frames.
    pub source: FrameSource<'a>,
    /// Its entries, and what becomes of those that do not stay as they are.
    pub old: &'a OldEntries<'a>,
    /// The highest of their ids.
    pub last_id: u64,
    /// The ids that entries of the catalogue have, for those that take another's place.
    pub ids: &'a HashMap<EntryPath, u64>,
    /// Folders of the catalogue that come before all frames.
    pub first: &'a HashSet<EntryPath>,
}

/// Entries, each with its id: that of what it takes the place of, or the next behind the last that was given.
fn numbered<'a>(
    entries: Vec<&'a SourceEntry>,
    ids: &HashMap<EntryPath, u64>,
    mut last: u64,
) -> Vec<(u64, &'a SourceEntry)> {
    let mut id = |entry: &SourceEntry| match ids.get(&entry.path) {
        Some(id) => *id,
        None => {
            last = last.saturating_add(1);
            last
        }
    };
    entries.into_iter().map(|entry| (id(entry), entry)).collect()
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
pub(super) fn seal(
    job: &Job<'_>,
    carried: Carried<'_>,
    staging: &Staging,
    context: &Context<'_>,
) -> Result<Sealed, PackError> {
    let ids = Ids { set: context.random()?, cut: context.random()? };
    let key = ArchiveKey::generate(context)?;
    let cell_length = CellLength::within(job.volume_limit).ok_or(SealError::from(WriteError::NO_ROOM))?;
    let bound = Bound { set: ids.set, cell_length };
    let head = seal_head(&key, &bound, job.credentials, job.cost, context).map_err(SealError::from)?;
    let volumes = VolumeWriter::new(staging, ids, cell_length, job.volume_limit).map_err(SealError::from)?;
    let mut volumes = volumes.staged_from(job.first_staged).behind(job.opening).with_spares(job.spares);
    let (seal, cutting) = (CellSeal::new(&key, &bound).map_err(SealError::from)?, volumes.cutting());
    let buffers = Buffers::new(2 * context.threads);
    let (produced, written) = ordered(
        context.threads,
        |cells| compress_all(job, carried, cell_length, staging, &buffers, context, |plain| cells.submit(plain)),
        || |plain| seal.seal(plain, &cutting),
        |cells: Result<Cells, NotAuthentic>| -> Result<(), SealError> {
            let cells = cells?;
            volumes.write(&cells.bytes)?;
            buffers.give(cells.bytes);
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
    carried: Carried<'_>,
    cell_length: CellLength,
    staging: &Staging,
    buffers: &Buffers,
    context: &Context<'_>,
    submit: impl FnMut(PlainCells) -> Result<(), Stopped>,
) -> Result<(Fed, SealedArchive, SoFar), PackError> {
    let about = About {
        made_at: (context.clock)(),
        name: job.name.to_vec(),
        squeeze: Some(job.squeeze.number()),
        message: job.message.to_owned(),
        volume_limit: job.volume_limit,
        parcel: job.parcel,
        base: None,
    };
    let before = job.before;
    let make_scratch = || staging.create_scratch();
    let mut writer = SealedWriter::new(about, cell_length, &make_scratch, *context, buffers, submit)?;
    if !matches!(carried, Carried::Nothing) || job.changes.is_some() {
        writer = writer.in_any_order();
    }
    if let Some(Base { name, entries }) = job.changes.map(|changes| &changes.base) {
        writer = writer.upon(name.clone(), entries, &make_scratch, *context)?;
    }
    let old = match &carried {
        Carried::Frames(frames) => Some(frames.old),
        _ => None,
    };
    let carrier = || Some(Carrier::new(old?, job.squeeze));
    let (read, compressed) = ordered(
        context.threads,
        |frames| read_all(job, carried, buffers, context, |frame| frames.submit(frame)),
        || compressing(job.squeeze, buffers, &carrier),
        |frame: Result<FrameDone, PackError>| -> Result<(), PackError> {
            match frame? {
                FrameDone::Compressed(frame) => buffers.give(writer.write_content(frame)?),
                FrameDone::Carried(frames) => {
                    for frame in frames {
                        buffers.give(writer.write_carried(frame)?);
                    }
                }
            }
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

/// A frame, before it is compressed or carried.
enum FrameJob {
    Draft(FrameDraft),
    Old(OldFrame),
}

/// What comes of it.
enum FrameDone {
    Compressed(CompressedFrame),
    Carried(Vec<CarriedFrame>),
}

/// A worker with a compressor of its own, and a carrier where there is something to carry.
fn compressing<'a>(
    squeeze: Squeeze,
    buffers: &Buffers,
    carrier: impl FnOnce() -> Option<Result<Carrier<'a>, SealedError>>,
) -> impl FnMut(FrameJob) -> Result<FrameDone, PackError> {
    let mut compressor = Compressor::new(squeeze);
    let mut carrier = carrier().transpose();
    move |job| {
        let compressor = compressor.as_mut().map_err(|error| SealError::from(*error))?;
        match job {
            FrameJob::Draft(frame) => {
                let (block, left_over) = compressor.compress(frame.records, buffers.take()).map_err(SealError::from)?;
                buffers.give(left_over);
                Ok(FrameDone::Compressed(CompressedFrame { block, completed: frame.completed }))
            }
            FrameJob::Old(frame) => match &mut carrier {
                Ok(Some(carrier)) => {
                    let carried = carrier.carried(frame, compressor).map_err(ArchiveError::from)?;
                    Ok(FrameDone::Carried(carried))
                }
                _ => Err(SealError::from(CodecError::Compressor).into()),
            },
        }
    }
}

fn read_all(
    job: &Job<'_>,
    carried: Carried<'_>,
    buffers: &Buffers,
    context: &Context<'_>,
    submit: impl Fn(FrameJob) -> Result<(), Stopped>,
) -> Result<Fed, PackError> {
    let framer =
        Framer::new(frame_room(job.squeeze, job.volume_limit), buffers, |frame| submit(FrameJob::Draft(frame)));
    let further_names = match &carried {
        Carried::Frames(frames) => frames.old.further_names(),
        Carried::Nothing | Carried::Piped(_) => 0,
    };
    let mut framing = Framing { framer, outlook: job.outlook, context, further_names };
    let in_order = job.outlook.in_order(job.entries);
    let mut fed = match carried {
        Carried::Nothing => match job.changes {
            None => feed(job.catalogue, (1..).zip(in_order), &mut framing, context)?,
            Some(changes) => {
                feed(job.catalogue, numbered(in_order, &changes.ids, changes.last_id), &mut framing, context)?
            }
        },
        Carried::Piped(pipe) => feed_piped(job.catalogue, pipe, &mut framing, context)?,
        Carried::Frames(frames) => {
            let (first, others): (Vec<_>, Vec<_>) = numbered(in_order, frames.ids, frames.last_id)
                .into_iter()
                .partition(|(_, entry)| frames.first.contains(&entry.path));
            feed(job.catalogue, first, &mut framing, context)?;
            framing.framer.flush()?;
            let carry = |frame: OldFrame| {
                context.tell(Progress::Advance(frame.raw_bytes()));
                submit(FrameJob::Old(frame))
            };
            frames.source.carry(buffers, context, carry).map_err(ArchiveError::from)??;
            feed(job.catalogue, others, &mut framing, context)?
        }
    };
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
    /// How many further names of files there are so far.
    further_names: usize,
}

impl<F: Fn(FrameDraft) -> Result<(), Stopped>> SourceSink for Framing<'_, F> {
    type Error = PackError;

    fn take_whole(&mut self, source: &SourceEntry, entry: Entry) -> Result<(), PackError> {
        Ok(self.framer.begin(entry, self.outlook.expected(source))?)
    }

    fn take_further_name(&mut self, listed: &ListedEntry, owner: &EntryPath) -> Result<bool, PackError> {
        let takes = has_room(self.further_names) && self.framer.further_name(listed, owner)?;
        self.further_names += usize::from(takes);
        Ok(takes)
    }

    fn take_file(
        &mut self,
        source: &SourceEntry,
        entry: Entry,
        file: &mut SourceFile,
        is_last: bool,
    ) -> Result<ReadOnce, PackError> {
        self.framer.begin(entry, Expected { in_units: file.may_have_holes(), ..self.outlook.expected(source) })?;
        match file.attributes() {
            Ok(attributes) => attributes.iter().try_for_each(|attribute| self.framer.attribute(attribute))?,
            Err(error) => {
                self.framer.abandon();
                return Ok(ReadOnce::Failed(error));
            }
        }
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
            match file.pass_hole() {
                Ok(None) => {}
                Ok(Some(bytes)) => {
                    self.framer.hole(bytes)?;
                    total += bytes;
                    self.context.tell(Progress::Advance(bytes));
                    continue;
                }
                Err(error) => return Ok(Err(error)),
            }
            let wanted = file.until_hole().min(READ_BYTES) as usize;
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
