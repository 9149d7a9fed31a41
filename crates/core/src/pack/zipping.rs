//! The writing half of a delivery as ZIP: every source is read once; pieces of files are compressed in parallel, so that one
//! huge file keeps all cores as busy as many small ones do, and written in order.

use super::PackError;
use super::open_formats::Read;
use crate::codec::{Squeeze, looks_random};
use crate::context::{Context, Progress};
use crate::deflate::{Deflater, PIECE_BYTES, window_of};
use crate::entry::{Content, EntryKind};
use crate::pipeline::{Jobs, ordered};
use crate::place::FileError;
use crate::place::staging::Staging;
use crate::sealed::Password;
use crate::source::{Catalogue, PassedOver, SourceEntry, SourceFile};
use crate::zip::{Described, Encrypting, SALT_BYTES, ZipWriteError, ZipWriter, may_need_64};

/// How often a file that changes while it is read is read.
const READINGS: u32 = 2;

/// The methods that are written.
const STORED: u16 = 0;
const DEFLATE: u16 = 8;

/// One archive to be made.
#[derive(Clone, Copy)]
pub(super) struct ZipJob<'a> {
    pub catalogue: &'a Catalogue,
    pub squeeze: Squeeze,
    pub comment: &'a [u8],
    pub part_limit: Option<u64>,
    pub password: Option<&'a Password>,
}

/// What the writing side is told, in order.
enum Step {
    /// An entry begins.
    Begin(Described, [u8; SALT_BYTES]),
    /// A piece of its content.
    Piece(Piece),
    /// It ends, or is given up.
    End { abandoned: bool },
}

struct Piece {
    content: Vec<u8>,
    /// What came right before it in the file, for the compressor to refer to.
    window: Vec<u8>,
    compressed: bool,
    last: bool,
}

/// A step when its work is done.
enum Done {
    Begin(Described, Option<Box<Encrypting>>),
    Piece { bytes: Vec<u8>, sum: crc32fast::Hasher, size: u64 },
    End { abandoned: bool },
    Failed,
}

/// Writes the archive; each part's length in bytes, and what was read for it.
pub(super) fn zip(job: &ZipJob<'_>, staging: &Staging, context: &Context<'_>) -> Result<(Vec<u64>, Read), PackError> {
    let mut writer = ZipWriter::begin(staging, job.part_limit, job.comment)?;
    let mut raw = 0;
    let (read, written) = ordered(
        context.threads,
        |steps| read_all(job, context, steps),
        || working(job),
        |done: Done| -> Result<(), PackError> {
            match done {
                Done::Begin(described, encrypting) => writer.begin_entry(described, encrypting)?,
                Done::Piece { bytes, sum, size } => {
                    writer.write(bytes, &sum, size)?;
                    raw += size;
                    context.tell(Progress::Written { stream: writer.bytes_written(), raw });
                    context.tell(Progress::Volume(writer.part()));
                }
                Done::End { abandoned: true } => writer.abandon_entry(),
                Done::End { abandoned: false } => writer.end_entry()?,
                Done::Failed => return Err(PackError::Compressor),
            }
            Ok(())
        },
    );
    // Where writing failed, reading was only stopped by that.
    written?;
    let read = read?;
    Ok((writer.finish()?, read))
}

/// A worker with a compressor of its own.
fn working<'a>(job: &'a ZipJob<'_>) -> impl FnMut(Step) -> Done + 'a {
    let mut deflater = Deflater::new(job.squeeze);
    move |step| match step {
        Step::Begin(described, salt) => {
            let encrypting = match job.password.filter(|_| described.encrypted) {
                None => None,
                Some(password) => match Encrypting::begin(password, salt) {
                    None => return Done::Failed,
                    Some(encrypting) => Some(Box::new(encrypting)),
                },
            };
            Done::Begin(described, encrypting)
        }
        Step::Piece(piece) => {
            let mut sum = crc32fast::Hasher::new();
            sum.update(&piece.content);
            let size = piece.content.len() as u64;
            if !piece.compressed {
                return Done::Piece { bytes: piece.content, sum, size };
            }
            let bytes = deflater.piece(&piece.content, &piece.window, piece.last);
            bytes.map_or(Done::Failed, |bytes| Done::Piece { bytes, sum, size })
        }
        Step::End { abandoned } => Done::End { abandoned },
    }
}

/// The reading side.
struct Reading<'a> {
    job: ZipJob<'a>,
    context: &'a Context<'a>,
    steps: &'a Jobs<Step, Done>,
    read: Read,
}

/// How reading a file went.
enum Outcome {
    Steady(Content),
    Changed(Content),
    Failed(FileError),
}

fn read_all(job: &ZipJob<'_>, context: &Context<'_>, steps: &Jobs<Step, Done>) -> Result<Read, PackError> {
    let mut reading = Reading { job: *job, context, steps, read: Read::default() };
    for entry in &job.catalogue.entries {
        context.go_on()?;
        context.tell(Progress::Entry(&entry.path));
        match entry.kind {
            EntryKind::File => reading.add_file(entry)?,
            EntryKind::Folder | EntryKind::Link => reading.add_whole(entry)?,
        }
    }
    Ok(reading.read)
}

impl Reading<'_> {
    fn describe(&self, entry: &SourceEntry, method: u16) -> Described {
        let mut name = entry.path.as_bytes().to_vec();
        if entry.kind == EntryKind::Folder {
            name.push(b'/');
        }
        let has_content = entry.kind != EntryKind::Folder;
        let encrypted = self.job.password.is_some() && has_content;
        Described {
            name,
            kind: entry.kind,
            mode: entry.mode,
            modified: entry.modified,
            method,
            encrypted,
            wide: has_content && may_need_64(entry.size, encrypted),
        }
    }

    fn begin(&self, described: Described) -> Result<(), PackError> {
        if std::str::from_utf8(&described.name).is_err() {
            return Err(PackError::Zip(ZipWriteError::NotText(described.name)));
        }
        let salt = if described.encrypted { self.context.random()? } else { [0; SALT_BYTES] };
        Ok(self.steps.submit(Step::Begin(described, salt))?)
    }

    /// A folder, or a link: its content is where it leads.
    fn add_whole(&mut self, entry: &SourceEntry) -> Result<(), PackError> {
        self.begin(self.describe(entry, STORED))?;
        if entry.kind == EntryKind::Link {
            let content = entry.link_target.clone();
            let piece = Piece { content, window: Vec::new(), compressed: false, last: true };
            self.steps.submit(Step::Piece(piece))?;
        }
        self.steps.submit(Step::End { abandoned: false })?;
        self.read.totals.add(entry.kind, 0);
        Ok(())
    }

    fn add_file(&mut self, entry: &SourceEntry) -> Result<(), PackError> {
        let catalogue = self.job.catalogue;
        let passed_over =
            |error: FileError| PassedOver { disk_path: catalogue.disk_path(&entry.path), reason: error.into() };
        for reading in 1..=READINGS {
            let mut file = match catalogue.open(&entry.path) {
                Ok(file) => file,
                Err(error) => {
                    self.read.passed_over.push(passed_over(error));
                    return Ok(());
                }
            };
            let outcome = self.read(entry, &mut file)?;
            let again = matches!(outcome, Outcome::Changed(_)) && reading < READINGS;
            let abandoned = again || matches!(outcome, Outcome::Failed(_));
            self.steps.submit(Step::End { abandoned })?;
            let content = match outcome {
                Outcome::Changed(_) if again => continue,
                Outcome::Failed(error) => {
                    self.read.passed_over.push(passed_over(error));
                    return Ok(());
                }
                Outcome::Changed(content) => {
                    self.read.changed.push(entry.path.clone());
                    content
                }
                Outcome::Steady(content) => content,
            };
            self.read.totals.add(EntryKind::File, content.size);
            self.read.contents.push((entry.path.clone(), content));
            return Ok(());
        }
        Ok(())
    }

    /// Reads a file piece by piece. How it is stored shows with the first: what looks random is stored as it is.
    fn read(&mut self, entry: &SourceEntry, file: &mut SourceFile) -> Result<Outcome, PackError> {
        let (mut digest, mut size, mut window) = (blake3::Hasher::new(), 0_u64, Vec::new());
        let mut compressed = None;
        loop {
            self.context.go_on()?;
            let wanted = usize::try_from(file.left()).unwrap_or(usize::MAX).min(PIECE_BYTES);
            let mut content = Vec::with_capacity(wanted);
            let read = if wanted == 0 { Ok(()) } else { file.read(&mut content, wanted) };
            let compressed = match compressed {
                Some(compressed) => compressed,
                None => {
                    let pays = self.job.squeeze != Squeeze::None && !content.is_empty() && !looks_random(&content);
                    let described = self.describe(entry, if pays { DEFLATE } else { STORED });
                    self.begin(Described { mode: file.mode, modified: file.modified, ..described })?;
                    *compressed.insert(pays)
                }
            };
            if let Err(error) = read {
                return Ok(Outcome::Failed(error));
            }
            let last = file.left() == 0 || content.is_empty();
            digest.update(&content);
            size += content.len() as u64;
            self.context.tell(Progress::Advance(content.len() as u64));
            let next = if compressed { window_of(&content).to_vec() } else { Vec::new() };
            let window_before = std::mem::replace(&mut window, next);
            self.steps.submit(Step::Piece(Piece { content, window: window_before, compressed, last }))?;
            if last {
                break;
            }
        }
        let content = Content { size, digest: *digest.finalize().as_bytes(), changed_while_read: false };
        Ok(match file.is_unchanged(size) {
            Ok(true) => Outcome::Steady(content),
            Ok(false) => Outcome::Changed(content),
            Err(error) => Outcome::Failed(error),
        })
    }
}

impl From<ZipWriteError> for PackError {
    fn from(error: ZipWriteError) -> Self {
        match error {
            ZipWriteError::File(error) => error.into(),
            error => Self::Zip(error),
        }
    }
}

/// The names of the parts' ends, in order: `.zip` alone, or `.z01`, `.z02`, …, `.zip` (section 8.3.1).
pub(super) fn suffixes(parts: usize) -> impl Iterator<Item = String> {
    (1..=parts).map(move |number| if number == parts { ".zip".to_owned() } else { format!(".z{number:02}") })
}
