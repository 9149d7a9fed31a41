//! The feed: every source goes to a writer once, in the order of the catalogue, and a file that changes while it is read goes once more.
//! What cannot be read, or changed all the same, is noted in one way for all writers.

use super::catalogue::Catalogue;
use super::entry::{FileNumber, Origin, SourceEntry};
use super::error::PassedOver;
use super::piped::{OutOfPipe, Pipe};
use super::reading::SourceFile;
use crate::disk::{FileError, Interruption};
use crate::ground::context::{Cancelled, Context, Progress};
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry, Totals};
use std::collections::{HashMap, HashSet};

/// How often a file that changes while it is read is read.
const READINGS: u32 = 2;

/// A file that could not be read to its end when its length was written down already.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilledUp {
    /// Its path in the archive.
    pub path: EntryPath,
    /// Bytes of it that are the file's.
    pub real_bytes: u64,
    /// Bytes of it in all.
    pub bytes: u64,
}

/// What came of reading all sources.
#[derive(Debug, Default)]
pub struct Fed {
    /// What was taken.
    pub totals: Totals,
    /// What could not be read.
    pub passed_over: Vec<PassedOver>,
    /// What changed while it was read, twice.
    pub changed: Vec<EntryPath>,
    /// What is filled up with zeros.
    pub filled_up: Vec<FilledUp>,
    /// How many files are kept as further names of others.
    pub further_names: u64,
}

/// A content that was taken.
#[derive(Debug, Clone, Copy)]
pub struct Taken {
    /// What it came to.
    pub content: Content,
    /// So many bytes of it are the file's; the rest are zeros.
    pub real_bytes: u64,
    /// The file was the same before and after.
    pub steady: bool,
}

/// What came of reading a file once.
#[derive(Debug)]
pub enum ReadOnce {
    /// It is in the archive.
    Taken(Taken),
    /// It changed meanwhile; nothing of it is in the archive.
    Dropped,
    /// It cannot be read; nothing of it is in the archive.
    Failed(FileError),
}

/// What takes sources: a writer.
pub trait SourceSink {
    /// Why it cannot go on.
    type Error: From<Interruption>;

    /// Takes a folder or a link.
    ///
    /// # Errors
    /// Its own; nothing more is read then.
    fn take_whole(&mut self, source: &SourceEntry, entry: Entry) -> Result<(), Self::Error>;

    /// Reads a file and takes it. One that changes meanwhile may be dropped, unless this is the last time that it is read.
    ///
    /// # Errors
    /// Its own; nothing more is read then.
    fn take_file(
        &mut self,
        source: &SourceEntry,
        entry: Entry,
        file: &mut SourceFile,
        is_last: bool,
    ) -> Result<ReadOnce, Self::Error>;

    /// Takes a further name of a file that is taken already, which is called so: whether it can. Where it cannot, the file is read again
    /// under this name.
    ///
    /// # Errors
    /// Its own; nothing more is read then.
    fn take_further_name(&mut self, _: &ListedEntry, _owner: &EntryPath) -> Result<bool, Self::Error> {
        Ok(false)
    }

    /// A file is taken, and this is what of it is in the archive.
    fn was_taken(&mut self, _: &SourceEntry, _: &Content) {}
}

/// Reads the sources, in order, each with its number in the archive.
///
/// # Errors
/// The sink's own.
pub fn feed<'a, S: SourceSink>(
    catalogue: &Catalogue,
    sources: impl IntoIterator<Item = (u64, &'a SourceEntry)>,
    sink: &mut S,
    context: &Context<'_>,
) -> Result<Fed, S::Error> {
    let mut fed = Fed::default();
    fed.take_all(catalogue, sources, sink, context)?;
    Ok(fed)
}

/// The same for all of a catalogue of which some files come out of an archive: folders first, then those files as they come, then
/// the rest.
///
/// # Errors
/// The sink's own, and [`Interruption::Cancelled`] where the extraction ended before its end.
pub fn feed_piped<S: SourceSink>(
    catalogue: &Catalogue,
    pipe: &Pipe,
    sink: &mut S,
    context: &Context<'_>,
) -> Result<Fed, S::Error> {
    let mut fed = Fed::default();
    let numbered = || (1..).zip(&catalogue.entries);
    fed.take_all(catalogue, numbered().filter(|(_, entry)| entry.kind == EntryKind::Folder), sink, context)?;
    let mut several = SeveralNames::of(&catalogue.entries);
    while let Some((place, content)) = pipe.next().map_err(Interruption::from)? {
        let Some(source) = catalogue.entries.get(place) else { continue };
        context.go_on().map_err(Interruption::from)?;
        context.tell(Progress::Entry(&source.path));
        let entry = source.entry(place as u64 + 1);
        let is_taken = match content {
            OutOfPipe::Content(content) => {
                let mut file = SourceFile::piped(source, content);
                match sink.take_file(source, entry.clone(), &mut file, true)? {
                    ReadOnce::Taken(taken) => {
                        several.note(source, &entry, &taken.content);
                        fed.take(source, taken, sink);
                        true
                    }
                    ReadOnce::Dropped | ReadOnce::Failed(_) => false,
                }
            }
            OutOfPipe::FurtherName => fed.take_further_name(source, entry.id, &several, sink, context)?,
        };
        // Only an extraction that met an error ends within a file.
        if !is_taken {
            return Err(Interruption::from(Cancelled).into());
        }
    }
    let comes_last = |entry: &SourceEntry| match entry.kind {
        EntryKind::Folder => false,
        EntryKind::Link => true,
        EntryKind::File => !matches!(entry.origin, Origin::Archive(_)),
    };
    fed.take_all(catalogue, numbered().filter(|(_, entry)| comes_last(entry)), sink, context)?;
    Ok(fed)
}

/// All of a catalogue, with or without files that come out of an archive.
///
/// # Errors
/// Those of [`feed`] and [`feed_piped`].
pub fn feed_whole<S: SourceSink>(
    catalogue: &Catalogue,
    pipe: Option<&Pipe>,
    sink: &mut S,
    context: &Context<'_>,
) -> Result<Fed, S::Error> {
    match pipe {
        Some(pipe) => feed_piped(catalogue, pipe, sink, context),
        None => feed(catalogue, (1..).zip(&catalogue.entries), sink, context),
    }
}

/// Has one file taken; what it came to, or why it could not be read.
fn file<S: SourceSink>(
    catalogue: &Catalogue,
    source: &SourceEntry,
    id: u64,
    sink: &mut S,
) -> Result<Result<(Entry, Taken), FileError>, S::Error> {
    let mut taken: Option<(Entry, Taken)> = None;
    for reading in 1..=READINGS {
        let mut entry = source.entry(id);
        let read = match catalogue.open_once(source) {
            Ok(mut file) => {
                (entry.mode, entry.modified) = (file.mode, file.modified);
                sink.take_file(source, entry.clone(), &mut file, reading == READINGS)?
            }
            Err(error) => ReadOnce::Failed(error),
        };
        match (read, taken.take()) {
            (ReadOnce::Taken(now), _) if now.steady => return Ok(Ok((entry, now))),
            (ReadOnce::Taken(now), _) => taken = Some((entry, now)),
            (ReadOnce::Dropped, before) => taken = before,
            // What an earlier reading came to is all that there is.
            (ReadOnce::Failed(_), Some(before)) => return Ok(Ok(before)),
            (ReadOnce::Failed(error), None) => return Ok(Err(error)),
        }
    }
    // The last reading is never dropped.
    let nothing = Taken { content: Content::default(), real_bytes: 0, steady: false };
    Ok(Ok(taken.unwrap_or((source.entry(id), nothing))))
}

/// The files with several names, as far as one of those was taken.
struct SeveralNames {
    /// Files of which several names are to be taken.
    numbers: HashSet<FileNumber>,
    /// What was taken of them, under the name that it has there.
    taken: HashMap<FileNumber, ListedEntry>,
}

impl SeveralNames {
    fn of<'a>(sources: impl IntoIterator<Item = &'a SourceEntry>) -> Self {
        let further = sources.into_iter().filter(|source| source.is_further_name);
        let numbers = further.filter_map(|source| source.file_number.as_deref().copied()).collect();
        Self { numbers, taken: HashMap::new() }
    }

    fn note(&mut self, source: &SourceEntry, entry: &Entry, content: &Content) {
        if let Some(number) = source.file_number.as_deref().filter(|number| self.numbers.contains(number)) {
            self.taken.insert(*number, ListedEntry { entry: entry.clone(), content: *content });
        }
    }

    /// The name under which a file was taken that has this name too.
    fn taken(&self, source: &SourceEntry) -> Option<&ListedEntry> {
        self.taken.get(source.file_number.as_deref()?)
    }
}

impl Fed {
    /// Has a further name taken of a file that was; whether that was so, and it can be.
    fn take_further_name<S: SourceSink>(
        &mut self,
        source: &SourceEntry,
        id: u64,
        several: &SeveralNames,
        sink: &mut S,
        context: &Context<'_>,
    ) -> Result<bool, S::Error> {
        let Some(owner) = several.taken(source) else { return Ok(false) };
        let Entry { mode, modified, .. } = owner.entry;
        let content = Content { shared_with: Some(owner.entry.id), ..owner.content };
        let listed = ListedEntry { entry: Entry { mode, modified, ..source.entry(id) }, content };
        if !sink.take_further_name(&listed, &owner.entry.path)? {
            return Ok(false);
        }
        context.tell(Progress::Advance(content.size));
        sink.was_taken(source, &content);
        self.totals.add(EntryKind::File, 0);
        self.further_names += 1;
        Ok(true)
    }

    fn take_all<'a, S: SourceSink>(
        &mut self,
        catalogue: &Catalogue,
        sources: impl IntoIterator<Item = (u64, &'a SourceEntry)>,
        sink: &mut S,
        context: &Context<'_>,
    ) -> Result<(), S::Error> {
        let sources: Vec<(u64, &SourceEntry)> = sources.into_iter().collect();
        let mut several = SeveralNames::of(sources.iter().map(|(_, source)| *source));
        for (id, source) in sources {
            context.go_on().map_err(Interruption::from)?;
            context.tell(Progress::Entry(&source.path));
            if source.kind != EntryKind::File {
                sink.take_whole(source, source.entry(id))?;
                self.totals.add(source.kind, 0);
                continue;
            }
            if self.take_further_name(source, id, &several, sink, context)? {
                continue;
            }
            match file(catalogue, source, id, sink)? {
                Ok((entry, taken)) => {
                    several.note(source, &entry, &taken.content);
                    self.take(source, taken, sink);
                }
                Err(error) => {
                    let disk_path = catalogue.disk_path(source);
                    self.passed_over.push(PassedOver { disk_path, reason: error.into() });
                }
            }
        }
        Ok(())
    }

    fn take<S: SourceSink>(&mut self, source: &SourceEntry, taken: Taken, sink: &mut S) {
        sink.was_taken(source, &taken.content);
        self.note(source, taken);
    }

    fn note(&mut self, source: &SourceEntry, Taken { content, real_bytes, steady }: Taken) {
        if real_bytes < content.size {
            self.filled_up.push(FilledUp { path: source.path.clone(), real_bytes, bytes: content.size });
        } else if !steady {
            self.changed.push(source.path.clone());
        }
        self.totals.add(EntryKind::File, content.own_bytes());
    }
}
