//! The writing half of a delivery as ZIP: every source is read once; chunks of files are compressed in parallel, so that one
//! huge file keeps all cores as busy as many small ones do, and written in order.

use super::{Contents, PackError};
use crate::codecs::block::Squeeze;
use crate::codecs::deflate::{self, Deflater, chunk_bytes, window_of};
use crate::disk::staging::Staging;
use crate::disk::{FileError, Interruption};
use crate::formats::error::ArchiveError;
use crate::formats::zip::{
    Described, ENCRYPTION_BYTES, END_BYTES, Encrypting, Finished, Method, SALT_BYTES, ZipReader, ZipWriteError,
    ZipWriter,
};
use crate::ground::context::{Context, Progress};
use crate::ground::entry::{Content, Entry, EntryKind, Timestamp};
use crate::ground::pipeline::{Jobs, ordered, room};
use crate::ground::secrets::Password;
use crate::source::feed::{Fed, ReadOnce, SourceSink, Taken, feed, feed_whole};
use crate::source::piped::Pipe;
use crate::source::{Catalogue, Origin, SourceEntry, SourceFile};

/// Steps are worked on in groups of about so much content, and no more than so many: handing each of very small files from
/// thread to thread would take as long as compressing it.
const GROUP_BYTES: usize = 128 * 1024;
const GROUP_STEPS: usize = 16;

/// One archive to be made.
#[derive(Clone, Copy)]
pub(super) struct ZipJob<'a> {
    pub catalogue: &'a Catalogue,
    /// Where contents come from that are in an archive until now.
    pub old: OldEntries<'a>,
    pub squeeze: Squeeze,
    pub comment: &'a [u8],
    pub part_limit: Option<u64>,
    pub password: Option<&'a Password>,
    /// Whether names are hidden too, under a cover; for that a password is needed.
    pub covered: bool,
}

/// Entries of another archive.
#[derive(Clone, Copy)]
pub(super) enum OldEntries<'a> {
    /// There is none.
    None,
    /// Their contents are extracted into this pipe.
    Piped(&'a Pipe),
    /// They go over as they are stored there.
    Stored(&'a ZipReader),
}

impl<'a> OldEntries<'a> {
    /// The pipe, where they go through one.
    pub const fn pipe(self) -> Option<&'a Pipe> {
        match self {
            Self::Piped(pipe) => Some(pipe),
            Self::None | Self::Stored(_) => None,
        }
    }

    /// Whether all that a catalogue has of an archive can go over as it is stored.
    pub fn can_be_carried(catalogue: &Catalogue, zip: &ZipReader) -> bool {
        let can = |entry: &SourceEntry| match entry.origin {
            Origin::Archive(place) if entry.kind == EntryKind::File => zip.as_stored(place, &entry.entry(0)).is_some(),
            _ => true,
        };
        catalogue.entries.iter().all(can)
    }
}

/// A step of an entry that goes over as it is stored.
enum Carry {
    Begin(Described),
    Bytes(Vec<u8>),
    End(Finished),
}

/// What the writing side is told, in order: a chunk of content, with the entry's beginning in front where it is the first,
/// and its end behind where it is the last.
#[derive(Default)]
struct Instruction {
    begin: Option<(Described, [u8; SALT_BYTES])>,
    chunk: Option<Chunk>,
    end: Option<End>,
    carry: Option<Carry>,
}

impl Instruction {
    /// Bytes of content in it.
    fn content_bytes(&self) -> usize {
        match (&self.chunk, &self.carry) {
            (Some(chunk), _) => chunk.content.len(),
            (None, Some(Carry::Bytes(bytes))) => bytes.len(),
            _ => 0,
        }
    }
}

/// How an entry ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum End {
    /// It is complete.
    Complete,
    /// What was read of it is no good, and it stays unnamed.
    Abandoned,
}

struct Chunk {
    content: Vec<u8>,
    /// What came right before it in the file, for the compressor to refer to.
    window: Vec<u8>,
    compressed: bool,
    last: bool,
}

/// An instruction when its work is done.
#[derive(Default)]
struct Done {
    begin: Option<(Described, Option<Box<Encrypting>>)>,
    chunk: Option<CompressedChunk>,
    end: Option<End>,
    carry: Option<Carry>,
}

/// A chunk, as it is written.
struct CompressedChunk {
    bytes: Vec<u8>,
    sum: crc32fast::Hasher,
    size: u64,
}

/// Writes the archive; each part's length in bytes, and what was read for it.
pub(super) fn zip(
    job: &ZipJob<'_>,
    staging: &Staging,
    context: &Context<'_>,
) -> Result<(Vec<u64>, (Fed, Contents)), PackError> {
    let mut writer = begin(job, staging, context)?;
    let mut raw = 0;
    let (read, written) = ordered(
        context.threads,
        |steps| read_all(job, context, steps),
        || working(job),
        |done: Option<Vec<Done>>| {
            done.ok_or(PackError::Compressor)?.into_iter().try_for_each(|Done { begin, chunk, end, carry }| {
                match carry {
                    None => {}
                    Some(Carry::Begin(described)) => writer.begin_entry(described, None)?,
                    Some(Carry::Bytes(bytes)) => {
                        writer.write_stored(&bytes)?;
                        context.tell(Progress::Written { stream: writer.bytes_written(), raw });
                        context.tell(Progress::Volume(writer.part()));
                    }
                    Some(Carry::End(finished)) => {
                        raw += finished.size;
                        writer.end_stored(finished)?;
                    }
                }
                if let Some((described, encrypting)) = begin {
                    writer.begin_entry(described, encrypting)?;
                }
                if let Some(CompressedChunk { bytes, sum, size }) = chunk {
                    writer.write(bytes, &sum, size)?;
                    raw += size;
                    context.tell(Progress::Written { stream: writer.bytes_written(), raw });
                    context.tell(Progress::Volume(writer.part()));
                }
                match end {
                    Some(End::Abandoned) => writer.abandon_entry(),
                    Some(End::Complete) => writer.end_entry()?,
                    None => {}
                }
                Ok::<(), PackError>(())
            })
        },
    )?;
    // Where writing failed, reading was only stopped by that.
    written?;
    let read = read?;
    Ok((writer.finish()?, read))
}

fn begin<'a>(job: &ZipJob<'a>, staging: &'a Staging, context: &Context<'_>) -> Result<ZipWriter<'a>, PackError> {
    let Some(password) = job.password.filter(|_| job.covered) else {
        return Ok(ZipWriter::begin(staging, job.part_limit, job.comment)?);
    };
    // It comes to no more, as long as no source grows.
    let headers = zip_headers_bytes(job.catalogue, true) + job.comment.len() as u64;
    let at_most = job.catalogue.most_bytes().saturating_add(headers);
    let described = Described::cover(at_most, (context.clock)());
    let encrypting = Encrypting::begin(password, context.random()?).ok_or(PackError::Compressor)?;
    Ok(ZipWriter::begin_covered(staging, job.part_limit, job.comment, (described, Box::new(encrypting)))?)
}

/// What ZIP with a password adds to contents: headers, where links lead, the directory and what encryption takes; and, where
/// names are hidden, the cover.
pub(crate) fn zip_headers_bytes(catalogue: &Catalogue, hide_names: bool) -> u64 {
    let headers = |described: &Described| {
        described.local(Finished::default()).len() + described.central(Finished::default(), 0, 0).len()
    };
    let of = |source: &SourceEntry| {
        let described = Described::of(&inside(catalogue, source), source.most_bytes(), Method::Stored, !hide_names);
        let added = match source.kind {
            EntryKind::Folder => 0,
            _ if hide_names => described.descriptor(Finished::default()).len() as u64,
            _ => ENCRYPTION_BYTES,
        };
        let link = if source.kind == EntryKind::Link { source.link_target.len() as u64 } else { 0 };
        headers(&described) as u64 + added + link
    };
    let archive = catalogue.entries.iter().map(of).sum::<u64>() + END_BYTES as u64;
    let cover = headers(&Described::cover(archive, Timestamp::default())) + END_BYTES;
    archive + if hide_names { cover as u64 + ENCRYPTION_BYTES } else { 0 }
}

/// The entry that a source becomes, under a name that is text.
fn inside(catalogue: &Catalogue, source: &SourceEntry) -> Entry {
    Entry { path: catalogue.text_names.of(&source.path).clone(), ..source.entry(0) }
}

/// A worker with a compressor of its own; nothing comes of what the system has no memory for.
fn working<'a>(job: &'a ZipJob<'_>) -> impl FnMut(Vec<Instruction>) -> Option<Vec<Done>> + 'a {
    let mut deflater = Deflater::new(job.squeeze);
    move |steps| steps.into_iter().map(|step| done(step, job.password, &mut deflater)).collect()
}

fn done(step: Instruction, password: Option<&Password>, deflater: &mut Deflater) -> Option<Done> {
    let begin = match step.begin {
        None => None,
        Some((described, salt)) => match password.filter(|_| described.encryption.is_some()) {
            None => Some((described, None)),
            Some(password) => Some((described, Some(Box::new(Encrypting::begin(password, salt)?)))),
        },
    };
    let chunk = match step.chunk {
        None => None,
        Some(chunk) => Some(packed(chunk, deflater)?),
    };
    Some(Done { begin, chunk, end: step.end, carry: step.carry })
}

fn packed(chunk: Chunk, deflater: &mut Deflater) -> Option<CompressedChunk> {
    let mut sum = crc32fast::Hasher::new();
    sum.update(&chunk.content);
    let size = chunk.content.len() as u64;
    let bytes = match chunk.compressed {
        true => deflater.chunk(&chunk.content, &chunk.window, chunk.last).ok()?,
        false => chunk.content,
    };
    Some(CompressedChunk { bytes, sum, size })
}

/// The reading side.
struct Pieces<'a> {
    job: ZipJob<'a>,
    context: &'a Context<'a>,
    jobs: &'a Jobs<Vec<Instruction>, Option<Vec<Done>>>,
    /// What is still to be handed over, and how much content there is in it.
    group: Vec<Instruction>,
    group_bytes: usize,
    contents: Contents,
}

/// How reading a file went: whether it is as it was then, and what it came to.
type Outcome = Result<(bool, Content), FileError>;

fn read_all(
    job: &ZipJob<'_>,
    context: &Context<'_>,
    jobs: &Jobs<Vec<Instruction>, Option<Vec<Done>>>,
) -> Result<(Fed, Contents), PackError> {
    let mut chunks =
        Pieces { job: *job, context, jobs, group: Vec::new(), group_bytes: 0, contents: Contents::default() };
    let fed = match job.old {
        OldEntries::Stored(zip) => chunks.carry_and_feed(zip)?,
        other => feed_whole(job.catalogue, other.pipe(), &mut chunks, context)?,
    };
    chunks.submit_group()?;
    // Under other names they may stand in another order.
    chunks.contents.sort_by(|(one, _), (other, _)| one.cmp(other));
    Ok((fed, chunks.contents))
}

impl SourceSink for Pieces<'_> {
    type Error = PackError;

    /// A folder, or a link: its content is where it leads.
    fn take_whole(&mut self, source: &SourceEntry, _: Entry) -> Result<(), PackError> {
        let target = (source.kind == EntryKind::Link).then(|| source.link_target.clone());
        let chunk = target.map(|content| Chunk { content, window: Vec::new(), compressed: false, last: true });
        let begin = self.begin(self.describe(source, Method::Stored))?;
        self.submit(Instruction { begin, chunk, end: Some(End::Complete), carry: None })
    }

    fn take_file(
        &mut self,
        source: &SourceEntry,
        _: Entry,
        file: &mut SourceFile,
        is_last: bool,
    ) -> Result<ReadOnce, PackError> {
        let (step, outcome) = self.read(source, file)?;
        let (end, reading) = match outcome {
            Err(error) => (End::Abandoned, ReadOnce::Failed(error)),
            Ok((false, _)) if !is_last => (End::Abandoned, ReadOnce::Dropped),
            Ok((steady, content)) => {
                (End::Complete, ReadOnce::Taken(Taken { content, real_bytes: content.size, steady }))
            }
        };
        self.submit(Instruction { end: Some(end), ..step })?;
        Ok(reading)
    }

    fn was_taken(&mut self, source: &SourceEntry, content: &Content) {
        self.contents.push((self.job.catalogue.text_names.of(&source.path).clone(), *content));
    }
}

impl Pieces<'_> {
    fn describe(&self, entry: &SourceEntry, method: Method) -> Described {
        let encrypted = self.job.password.is_some() && !self.job.covered;
        Described::of(&inside(self.job.catalogue, entry), entry.most_bytes(), method, encrypted)
    }

    /// Folders first, then what goes over as it is stored, then the rest.
    fn carry_and_feed(&mut self, zip: &ZipReader) -> Result<Fed, PackError> {
        let (catalogue, context) = (self.job.catalogue, self.context);
        let stands_stored =
            |entry: &SourceEntry| entry.kind == EntryKind::File && matches!(entry.origin, Origin::Archive(_));
        let numbered = || (1..).zip(&catalogue.entries);
        let folders = numbered().filter(|(_, entry)| entry.kind == EntryKind::Folder);
        let mut fed = feed(catalogue, folders, self, context)?;
        for entry in catalogue.entries.iter().filter(|entry| stands_stored(entry)) {
            self.carry(entry, zip)?;
            fed.totals.add(entry.kind, entry.size);
        }
        let others = numbered().filter(|(_, entry)| entry.kind != EntryKind::Folder && !stands_stored(entry));
        let rest = feed(catalogue, others, self, context)?;
        fed.totals.add_all(&rest.totals);
        Ok(Fed { totals: fed.totals, ..rest })
    }

    fn carry(&mut self, entry: &SourceEntry, zip: &ZipReader) -> Result<(), PackError> {
        let Origin::Archive(place) = entry.origin else { return Ok(()) };
        let becomes = inside(self.job.catalogue, entry);
        let Some(mut stored) = zip.as_stored(place, &becomes) else { return Ok(()) };
        let finished = stored.finished;
        let step = |carry| Instruction { carry: Some(carry), ..Instruction::default() };
        self.context.tell(Progress::Entry(&entry.path));
        self.submit(step(Carry::Begin(stored.described.clone())))?;
        loop {
            self.context.go_on()?;
            let bytes = stored.next(GROUP_BYTES).map_err(ArchiveError::from)?;
            if bytes.is_empty() {
                break;
            }
            self.submit(step(Carry::Bytes(bytes)))?;
        }
        self.context.tell(Progress::Advance(finished.size));
        self.submit(step(Carry::End(finished)))?;
        // Its digest is not known without reading it.
        let content = Content { size: finished.size, ..Content::default() };
        self.was_taken(entry, &content);
        Ok(())
    }

    fn submit(&mut self, step: Instruction) -> Result<(), PackError> {
        self.group_bytes += step.content_bytes();
        self.group.push(step);
        let is_full = self.group_bytes >= GROUP_BYTES || self.group.len() >= GROUP_STEPS;
        if is_full { self.submit_group() } else { Ok(()) }
    }

    fn submit_group(&mut self) -> Result<(), PackError> {
        self.group_bytes = 0;
        Ok(self.jobs.submit(std::mem::take(&mut self.group))?)
    }

    /// What an entry begins with.
    fn begin(&self, described: Described) -> Result<Option<(Described, [u8; SALT_BYTES])>, PackError> {
        if std::str::from_utf8(&described.name).is_err() {
            return Err(PackError::Zip(ZipWriteError::NotText(described.name)));
        }
        let salt = if described.encryption.is_some() { self.context.random()? } else { [0; SALT_BYTES] };
        Ok(Some((described, salt)))
    }

    /// Reads a file chunk by chunk; the last one is given back, for the end to be put behind it. How the file is stored shows
    /// with the first: what looks random is stored as it is.
    fn read(&mut self, entry: &SourceEntry, file: &mut SourceFile) -> Result<(Instruction, Outcome), PackError> {
        let (mut digest, mut size, mut window) = (blake3::Hasher::new(), 0_u64, Vec::new());
        let mut compressed = None;
        let last_step = loop {
            self.context.go_on()?;
            let wanted = usize::try_from(file.left()).unwrap_or(usize::MAX).min(chunk_bytes(self.job.squeeze));
            // Of what said that it is empty nothing is known.
            let mut content = room(if file.size() == 0 { 0 } else { wanted })?;
            let read = if wanted == 0 { Ok(()) } else { file.read(&mut content, wanted) };
            let (begin, compressed) = match compressed {
                Some(compressed) => (None, compressed),
                None => {
                    let pays = deflate::pays(self.job.squeeze, &content);
                    let described = self.describe(entry, if pays { Method::Deflate } else { Method::Stored });
                    let described = Described { mode: file.mode, modified: file.modified, ..described };
                    (self.begin(described)?, *compressed.insert(pays))
                }
            };
            if let Err(error) = read {
                return Ok((Instruction { begin, ..Instruction::default() }, Err(error)));
            }
            let last = file.left() == 0 || content.is_empty();
            digest.update(&content);
            size += content.len() as u64;
            self.context.tell(Progress::Advance(content.len() as u64));
            let next = if compressed { window_of(&content).to_vec() } else { Vec::new() };
            let window_before = std::mem::replace(&mut window, next);
            let chunk = Some(Chunk { content, window: window_before, compressed, last });
            let step = Instruction { begin, chunk, ..Instruction::default() };
            if last {
                break step;
            }
            self.submit(step)?;
        };
        let content = Content { size, digest: *digest.finalize().as_bytes(), ..Content::default() };
        let outcome = file.is_unchanged(size).map(|steady| (steady, content));
        Ok((last_step, outcome))
    }
}

impl From<ZipWriteError> for PackError {
    fn from(error: ZipWriteError) -> Self {
        match error {
            ZipWriteError::Interrupted(Interruption::File(error)) => error.into(),
            error => Self::Zip(error),
        }
    }
}
