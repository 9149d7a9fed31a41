//! The writing half of a delivery: every source is read once and sealed into staged volumes.

use super::{Delivery, PackError};
use crate::codec::{Block, CodecError, Compressor, Squeeze};
use crate::context::{Context, Phase, Progress};
use crate::entry::{Entry, EntryKind, EntryPath};
use crate::pipeline::{Stopped, ordered};
use crate::place::FileError;
use crate::place::staging::Staging;
use crate::sealed::{
    About, ArchiveKey, Credentials, Framer, Framing, KeyCost, SealError, SealedWriter, Sealing, Totals, seal_head,
};
use crate::source::{PassedOver, SourceEntry, SourceFile};
use crate::volume::{Ids, VolumeWriter, WrittenVolumes};
use std::os::unix::ffi::OsStrExt as _;

/// How much is read from a source at a time, in bytes.
const READ_BYTES: usize = 256 * 1024;

/// How often a file that changes while it is read is read.
const READINGS: u32 = 2;

/// What was written.
pub(super) struct Sealed {
    pub ids: Ids,
    pub written: WrittenVolumes,
    pub totals: Totals,
    pub index_digest: [u8; 32],
    pub passed_over: Vec<PassedOver>,
    pub changed: Vec<EntryPath>,
}

pub(super) fn seal(
    delivery: &Delivery,
    credentials: &[Credentials],
    cost: KeyCost,
    staging: &Staging,
    context: &Context<'_>,
) -> Result<Sealed, PackError> {
    let ids = Ids { set: context.random()?, cut: context.random()? };
    let key = ArchiveKey::generate(context)?;
    let head = seal_head(&key, &ids.set, credentials, cost, context).map_err(SealError::from)?;
    let volumes = VolumeWriter::new(staging, ids, delivery.fit.volume_limit()).map_err(SealError::from)?;
    let squeeze = delivery.squeeze;
    let name = delivery.target.stem.as_bytes().to_vec();
    let about = About { made_at: (context.clock)(), name, squeeze: Some(squeeze.number()) };
    let mut writer = SealedWriter::new(volumes, Sealing { ids, key: &key, head: &head, about })?;
    context.tell(Progress::Begin(Phase::Packing, delivery.catalogue.total_bytes()));
    let (read, written) = ordered(
        context.threads,
        |jobs| read_all(delivery, context, |frame| jobs.submit(frame)),
        || compressing(squeeze),
        |block: Result<Block, CodecError>| -> Result<(), SealError> {
            writer.write_content(&block?)?;
            context.tell(Progress::Written(writer.stream_bytes()));
            context.tell(Progress::Volume(writer.volume().max(1)));
            Ok(())
        },
    );
    // Where writing failed, reading was only stopped by that.
    written?;
    let read = read?;
    let sealed = writer.finish(read.framing)?;
    context.tell(Progress::End);
    Ok(Sealed {
        ids,
        written: sealed.volumes,
        totals: sealed.totals,
        index_digest: sealed.index_digest,
        passed_over: read.passed_over,
        changed: read.changed,
    })
}

/// A worker with a compressor of its own.
fn compressing(squeeze: Squeeze) -> impl FnMut(Vec<u8>) -> Result<Block, CodecError> {
    let mut compressor = Compressor::new(squeeze);
    move |frame| compressor.as_mut().map_err(|error| *error)?.compress(frame)
}

/// What came of reading all sources.
struct Read {
    framing: Framing,
    passed_over: Vec<PassedOver>,
    changed: Vec<EntryPath>,
}

fn read_all(
    delivery: &Delivery,
    context: &Context<'_>,
    hand_over: impl Fn(Vec<u8>) -> Result<(), Stopped>,
) -> Result<Read, PackError> {
    let buffer = vec![0; READ_BYTES];
    let framer = Framer::new(delivery.squeeze.block_bytes(), hand_over);
    let mut packing = Packing { framer, context, buffer, passed_over: Vec::new(), changed: Vec::new() };
    for (id, source) in (1..).zip(&delivery.catalogue.entries) {
        context.go_on()?;
        context.tell(Progress::Entry(&source.path));
        packing.add(id, source)?;
    }
    let Packing { framer, passed_over, changed, .. } = packing;
    Ok(Read { framing: framer.finish()?, passed_over, changed })
}

struct Packing<'a, F: Fn(Vec<u8>) -> Result<(), Stopped>> {
    framer: Framer<F>,
    context: &'a Context<'a>,
    buffer: Vec<u8>,
    passed_over: Vec<PassedOver>,
    changed: Vec<EntryPath>,
}

/// How reading a file went.
enum Reading {
    Steady,
    Changed,
    Failed(FileError),
}

impl<F: Fn(Vec<u8>) -> Result<(), Stopped>> Packing<'_, F> {
    fn add(&mut self, id: u64, source: &SourceEntry) -> Result<(), PackError> {
        let entry = |mode, modified| Entry {
            id,
            path: source.path.clone(),
            kind: source.kind,
            mode,
            modified,
            link_target: source.link_target.clone(),
        };
        if source.kind != EntryKind::File {
            return Ok(self.framer.begin(entry(source.mode, source.modified))?);
        }
        for reading in 1..=READINGS {
            let mut file = match SourceFile::open(&source.disk_path) {
                Ok(file) => file,
                Err(error) => {
                    self.pass_over(source, error);
                    return Ok(());
                }
            };
            self.framer.begin(entry(file.mode, file.modified))?;
            match self.read(&mut file)? {
                Reading::Steady => {
                    self.framer.end(false);
                    return Ok(());
                }
                Reading::Changed if reading < READINGS => self.framer.abandon(),
                Reading::Changed => {
                    self.framer.end(true);
                    self.changed.push(source.path.clone());
                }
                Reading::Failed(error) => {
                    self.framer.abandon();
                    self.pass_over(source, error);
                    return Ok(());
                }
            }
        }
        Ok(())
    }

    fn pass_over(&mut self, source: &SourceEntry, error: FileError) {
        self.passed_over.push(PassedOver { disk_path: source.disk_path.clone(), reason: error.into() });
    }

    fn read(&mut self, file: &mut SourceFile) -> Result<Reading, PackError> {
        let mut total = 0;
        loop {
            self.context.go_on()?;
            let count = match file.read(&mut self.buffer) {
                Ok(0) => break,
                Ok(count) => count,
                Err(error) => return Ok(Reading::Failed(error)),
            };
            self.framer.content(&self.buffer[..count])?;
            total += count as u64;
            self.context.tell(Progress::Advance(count as u64));
        }
        Ok(match file.is_unchanged(total) {
            Ok(true) => Reading::Steady,
            Ok(false) => Reading::Changed,
            Err(error) => Reading::Failed(error),
        })
    }
}
