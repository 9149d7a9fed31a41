//! The writing half of a delivery: every source is read once and sealed into staged volumes.

use super::{Delivery, PackError};
use crate::context::{Context, Phase, Progress};
use crate::entry::{Entry, EntryKind, EntryPath};
use crate::place::FileError;
use crate::place::staging::Staging;
use crate::sealed::{About, ArchiveKey, KeyCost, Password, SealError, SealedWriter, Sealing, Totals, seal_head};
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
    password: &Password,
    cost: KeyCost,
    staging: &Staging,
    context: &Context<'_>,
) -> Result<Sealed, PackError> {
    let ids = Ids { set: context.random()?, cut: context.random()? };
    let key = ArchiveKey::generate(context)?;
    let head = seal_head(&key, &ids.set, password, cost, context).map_err(SealError::from)?;
    let volumes = VolumeWriter::new(staging, ids, delivery.fit.volume_limit()).map_err(SealError::from)?;
    let about = About { made_at: (context.clock)(), name: delivery.target.stem.as_bytes().to_vec() };
    let writer = SealedWriter::new(volumes, Sealing { ids, key: &key, head: &head, about })?;
    let buffer = vec![0; READ_BYTES];
    let mut packing = Packing { writer, context, buffer, passed_over: Vec::new(), changed: Vec::new() };
    context.tell(Progress::Begin(Phase::Packing, delivery.catalogue.total_bytes()));
    for (id, source) in (1..).zip(&delivery.catalogue.entries) {
        context.go_on()?;
        context.tell(Progress::Entry(&source.path));
        packing.add(id, source)?;
    }
    let Packing { writer, passed_over, changed, .. } = packing;
    let sealed = writer.finish()?;
    context.tell(Progress::End);
    Ok(Sealed {
        ids,
        written: sealed.volumes,
        totals: sealed.totals,
        index_digest: sealed.index_digest,
        passed_over,
        changed,
    })
}

struct Packing<'a> {
    writer: SealedWriter<'a>,
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

impl Packing<'_> {
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
            return Ok(self.writer.begin(entry(source.mode, source.modified))?);
        }
        for reading in 1..=READINGS {
            let mut file = match SourceFile::open(&source.disk_path) {
                Ok(file) => file,
                Err(error) => {
                    self.pass_over(source, error);
                    return Ok(());
                }
            };
            self.writer.begin(entry(file.mode, file.modified))?;
            match self.read(&mut file)? {
                Reading::Steady => {
                    self.writer.end(false);
                    return Ok(());
                }
                Reading::Changed if reading < READINGS => self.writer.abandon(),
                Reading::Changed => {
                    self.writer.end(true);
                    self.changed.push(source.path.clone());
                }
                Reading::Failed(error) => {
                    self.writer.abandon();
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
            self.writer.content(&self.buffer[..count])?;
            total += count as u64;
            self.context.tell(Progress::Advance(count as u64));
            self.context.tell(Progress::Written(self.writer.stream_bytes()));
            self.context.tell(Progress::Volume(self.writer.volume().max(1)));
        }
        Ok(match file.is_unchanged(total) {
            Ok(true) => Reading::Steady,
            Ok(false) => Reading::Changed,
            Err(error) => Reading::Failed(error),
        })
    }
}
