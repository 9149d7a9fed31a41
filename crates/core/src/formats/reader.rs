//! What the reader of every archive format offers: entries that are known beforehand, and their content on demand.

use crate::ground::context::{Cancelled, Context, Progress};
use crate::ground::entry::{Content, EntryKind, EntrySink, ListedEntry, OnlyEnds, zeros};

/// Why an extraction stopped.
#[derive(Debug, thiserror::Error)]
pub enum ExtractError<A, S> {
    /// The archive cannot be read on.
    #[error("{0}")]
    Archive(#[from] A),
    /// The receiving side stopped.
    #[error("{0}")]
    Sink(S),
}

impl<A, S> ExtractError<A, S> {
    /// The same, with the archive's error as that of whatever archive it is.
    pub fn of_any_archive<B: From<A>>(self) -> ExtractError<B, S> {
        match self {
            Self::Archive(error) => ExtractError::Archive(error.into()),
            Self::Sink(error) => ExtractError::Sink(error),
        }
    }
}

/// An archive that is open for reading.
pub trait ArchiveReader {
    /// Why it cannot be read.
    type Error;

    /// Every entry, sorted by path. Where the format keeps no BLAKE3, a content's digest is zero here; the sink is told the
    /// right one.
    fn entries(&self) -> &[ListedEntry];

    /// Hands every entry to the sink.
    ///
    /// # Errors
    /// [`ExtractError`]; what the sink was told to end before that is complete and right.
    fn extract<S: EntrySink + ?Sized>(
        &mut self,
        sink: &mut S,
        context: &Context<'_>,
    ) -> Result<(), ExtractError<Self::Error, S::Error>> {
        let all: Vec<usize> = (0..self.entries().len()).collect();
        self.extract_some(&all, sink, context)
    }

    /// Hands some entries, by their places in [`ArchiveReader::entries`], to the sink.
    ///
    /// # Errors
    /// [`ExtractError`].
    fn extract_some<S: EntrySink + ?Sized>(
        &mut self,
        wanted: &[usize],
        sink: &mut S,
        context: &Context<'_>,
    ) -> Result<(), ExtractError<Self::Error, S::Error>>;
}

/// Reads entries to their ends, so that everything that can be compared is, and keeps nothing.
///
/// # Errors
/// The archive's own.
pub fn verify_some<A: ArchiveReader>(archive: &mut A, places: &[usize], context: &Context<'_>) -> Result<(), A::Error> {
    match archive.extract_some(places, &mut OnlyEnds::without_digests(|_, _| {}), context) {
        Ok(()) => Ok(()),
        Err(ExtractError::Archive(error)) => Err(error),
        Err(ExtractError::Sink(never)) => match never {},
    }
}

/// So many bytes of content are handed on at once.
pub(super) const CONTENT_BYTES: usize = 128 * 1024;

/// No more than so much of a hole is handed on at once, so that whoever wants to stop is heard.
const HOLE_BYTES: u64 = 64 * 1024 * 1024;

/// What comes next of a content.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Next {
    /// So many bytes, which are in the buffer; none at the end.
    Bytes(usize),
    /// So many zeros that are stored nowhere.
    Hole(u64),
}

impl From<usize> for Next {
    fn from(bytes: usize) -> Self {
        Self::Bytes(bytes)
    }
}

/// Hands one file to the sink: what `read` fills buffers with, until it has nothing more. `differs` tells the error where that
/// comes to another length than is listed.
///
/// # Errors
/// [`ExtractError`].
pub fn hand_over<A: From<Cancelled>, S: EntrySink + ?Sized, N: Into<Next>>(
    listed: &ListedEntry,
    sink: &mut S,
    context: &Context<'_>,
    differs: impl Fn() -> A,
    mut read: impl FnMut(&mut [u8]) -> Result<N, A>,
) -> Result<(), ExtractError<A, S::Error>> {
    context.tell(Progress::Entry(&listed.entry.path));
    sink.begin(&listed.entry).map_err(ExtractError::Sink)?;
    let (mut content, mut digest, mut buffer) = (Content::default(), blake3::Hasher::new(), vec![0; CONTENT_BYTES]);
    let needs_digest = sink.needs_digests();
    let mut hole = 0;
    loop {
        context.go_on().map_err(A::from)?;
        let next = if hole > 0 { Next::Hole(hole) } else { read(&mut buffer)?.into() };
        let bytes = match next {
            Next::Bytes(count) => count as u64,
            Next::Hole(whole) => whole.min(HOLE_BYTES),
        };
        content.size = content.size.saturating_add(bytes);
        if content.size > listed.content.size {
            return Err(differs().into());
        }
        match next {
            Next::Bytes(0) => break,
            Next::Bytes(count) => {
                digest.update(&buffer[..count]);
                sink.content(&buffer[..count]).map_err(ExtractError::Sink)?;
            }
            Next::Hole(whole) => {
                hole = whole - bytes;
                content.holes += bytes;
                if needs_digest {
                    zeros(bytes).for_each(|piece| {
                        digest.update(piece);
                    });
                }
                sink.hole(bytes).map_err(ExtractError::Sink)?;
            }
        }
        context.tell(Progress::Advance(bytes));
    }
    if content.size != listed.content.size {
        return Err(differs().into());
    }
    if needs_digest || content.holes == 0 {
        content.digest = *digest.finalize().as_bytes();
    }
    sink.end(&listed.entry, &content).map_err(ExtractError::Sink)
}

/// Hands over what is wanted and has no content, folders and links; the places of the files among the wanted.
///
/// # Errors
/// The sink's own.
pub fn hand_over_without_content<S: EntrySink + ?Sized>(
    listed: &[ListedEntry],
    wanted: &[usize],
    sink: &mut S,
) -> Result<Vec<usize>, S::Error> {
    let mut files = Vec::new();
    for place in wanted {
        match listed.get(*place).map(|listed| &listed.entry) {
            None => {}
            Some(entry) if entry.kind == EntryKind::File => files.push(*place),
            Some(entry) => {
                sink.begin(entry)?;
                sink.end(entry, &Content::default())?;
            }
        }
    }
    Ok(files)
}
