//! What the reader of every archive format offers: entries that are known beforehand, their content on demand, and what can be said of
//! the whole. A format fills in what it has; the rest has defaults.

use super::error::ArchiveError;
use super::listing::Listing;
use super::members::Refused;
use super::sealed::volume::VolumeSet;
use super::sealed::{About, Base, BaseName};
use super::spot::Spot;
use crate::ground::attributes::Attribute;
use crate::ground::context::{Cancelled, Context, Progress};
use crate::ground::entry::{Content, EntryKind, ListedEntry, Totals};
use crate::ground::holes::ContentDigest;
use crate::ground::secrets::{Credentials, Password};
use crate::ground::sink::{EntrySink, OnlyEnds};
use std::any::Any;
use std::path::PathBuf;

/// What is to become of an archive that has a flaw.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flaws {
    /// It is refused.
    Refused,
    /// What is whole in front of the flaw is read.
    ReadBefore,
}

/// How content is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Encryption {
    /// Not at all: a checksum finds accidents, and nothing finds more.
    None,
    /// With the old cipher of ZIP, which withstands nobody.
    Old,
    /// With AES and an authentication code.
    Aes,
}

/// What can be said of an archive as a whole.
#[derive(Debug, Clone, Default)]
pub struct Facts {
    /// What the sender says; empty where nothing is said.
    pub message: String,
    /// What a disc is called.
    pub label: Vec<u8>,
    /// Bytes that stand in front of the archive, as a program that extracts itself has them.
    pub bytes_in_front: u64,
    /// How contents are compressed, or where names come from: each way that occurs, as people call it.
    pub methods: Vec<&'static str>,
    /// How contents are encrypted, each way that occurs; empty where nothing ever is.
    pub encryptions: Vec<Encryption>,
    /// Names, sizes and dates are kept by the same password as contents.
    pub hides_names: bool,
    /// It was opened with a key file.
    pub key_file: bool,
    /// Nothing is seen of what is inside before the password is known.
    pub is_covered: bool,
    /// Its files are of no use under other names.
    pub needs_names: bool,
    /// Something behind what is read of it is damaged, where only what is whole was wanted.
    pub has_flaw: bool,
    /// It has no mark of its end, or a flaw in front of it: what is read may not be all.
    pub may_lack_the_end: bool,
    /// It ends before it says it does; entries may be whole all the same.
    pub is_short: bool,
    /// It shares its file with another file system (UDF), in which there may be other things.
    pub has_other_system: bool,
}

/// An archive that is open for reading.
pub trait ArchiveReader: Any + Send {
    /// Every entry, sorted by path. Where the format keeps no BLAKE3, a content's digest is zero here; the sink is told the
    /// right one.
    fn listing(&self) -> Listing<'_>;

    /// All of them at once, in memory, where they stay.
    ///
    /// # Errors
    /// [`ArchiveError`] where they cannot be read again.
    fn entries(&self) -> Result<&[ListedEntry], ArchiveError> {
        match self.listing() {
            Listing::Whole(entries) => Ok(entries),
            Listing::Paged(pages) => pages.whole(),
        }
    }

    /// Where it is read from, in order.
    fn spots(&self) -> Vec<Spot>;

    /// The files that it is read from, in order.
    fn paths(&self) -> Vec<PathBuf> {
        self.spots().into_iter().map(|spot| spot.path).collect()
    }

    /// Hands some entries, by their places in [`ArchiveReader::entries`], to the sink.
    ///
    /// # Errors
    /// [`ArchiveError`]; what the sink was told to end before that is complete and right.
    fn extract_some(
        &mut self,
        wanted: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), ArchiveError>;

    /// Hands every entry to the sink.
    fn extract(&mut self, sink: &mut dyn EntrySink, context: &Context<'_>) -> Result<(), ArchiveError> {
        let all: Vec<usize> = (0..self.listing().len()).collect();
        self.extract_some(&all, sink, context)
    }

    /// Closes the files that are kept open, since nothing is read from it for now: on some systems what is open cannot be removed.
    fn close_files(&mut self) {}

    /// What is in it and cannot be extracted.
    fn refused(&self) -> &[Refused] {
        &[]
    }

    /// What can be said of it as a whole.
    fn facts(&self) -> Facts {
        Facts::default()
    }

    /// Whether a password keeps any of it.
    fn is_secret(&self) -> bool {
        false
    }

    /// The password that it was unlocked with, where it is kept for reading on.
    fn password(&self) -> Option<&Password> {
        None
    }

    /// The same archive, unlocked.
    ///
    /// # Errors
    /// [`ArchiveError::OpenToAll`] where it has no password; whatever its format says to a wrong one.
    fn unlocked(&self, _: &Credentials, _: &Context<'_>) -> Result<Box<dyn ArchiveReader>, ArchiveError> {
        Err(ArchiveError::OpenToAll)
    }

    /// The share that compression left of the entry at a place, where that is known.
    ///
    /// # Errors
    /// [`ArchiveError`] where that cannot be read again.
    fn kept_share(&self, _: usize) -> Result<Option<f64>, ArchiveError> {
        Ok(None)
    }

    /// The volumes that it is read from, where it has any.
    fn volumes(&self) -> Option<&VolumeSet> {
        None
    }

    /// What a sealed archive says of itself.
    fn about(&self) -> Option<&About> {
        None
    }

    /// Which archive one of changes builds upon.
    fn base_name(&self) -> Option<&BaseName> {
        None
    }

    /// What is in that, all of it in memory, where it stays.
    ///
    /// # Errors
    /// [`ArchiveError`] where it cannot be read again.
    fn base(&self) -> Result<Option<&Base>, ArchiveError> {
        Ok(None)
    }

    /// From now on whatever protects the archive's own bytes, beside its contents, is compared too.
    fn compare_checks(&mut self) {}

    /// What it holds in all.
    fn totals(&self) -> Totals {
        match self.listing() {
            Listing::Whole(entries) => Totals::of(entries),
            Listing::Paged(pages) => pages.totals(),
        }
    }
}

/// Reads entries to their ends, so that everything that can be compared is, and keeps nothing.
pub fn verify_some(
    archive: &mut dyn ArchiveReader,
    places: &[usize],
    context: &Context<'_>,
) -> Result<(), ArchiveError> {
    archive.extract_some(places, &mut OnlyEnds::telling(|_, _| {}), context)
}

/// So many bytes of content are handed on at once.
pub(super) const CONTENT_BYTES: usize = 128 * 1024;

/// No more than so much of a hole is handed on at once, so that whoever wants to stop is heard.
const HOLE_PIECE_BYTES: u64 = 64 * 1024 * 1024;

/// Nor is it handed on in more pieces than about so many: a few bytes can claim any length, and the work is bounded by what is stored.
const HOLE_PIECES: u64 = 1024;

/// How much of a hole of this length is handed on at once.
pub(super) fn hole_piece(hole: u64) -> u64 {
    hole.min(HOLE_PIECE_BYTES.max(hole.div_ceil(HOLE_PIECES)))
}

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

/// Gives one file to the sink, and says what it came to: what `read` fills buffers with, until it has nothing more. `differs`
/// tells the error where that comes to another length than is listed.
///
/// # Errors
/// What `read` comes upon, `differs`, or [`Cancelled`].
pub(super) fn deliver_file<E: From<Cancelled>, N: Into<Next>>(
    listed: &ListedEntry,
    attributes: &[Attribute],
    sink: &mut dyn EntrySink,
    context: &Context<'_>,
    differs: impl Fn() -> E,
    mut read: impl FnMut(&mut [u8]) -> Result<N, E>,
) -> Result<Content, E> {
    context.tell(Progress::Entry(&listed.entry.path));
    sink.begin(&listed.entry)?;
    attributes.iter().try_for_each(|attribute| sink.attribute(attribute))?;
    let in_units = listed.content.holes > 0;
    let (mut content, mut digest) = (Content { in_units, ..Content::default() }, ContentDigest::new(in_units));
    let mut buffer = vec![0; CONTENT_BYTES];
    let mut hole = 0;
    loop {
        context.go_on()?;
        let next = if hole > 0 { Next::Hole(hole) } else { read(&mut buffer)?.into() };
        let bytes = match next {
            Next::Bytes(count) => count as u64,
            Next::Hole(whole) => hole_piece(whole),
        };
        content.size = content.size.saturating_add(bytes);
        if content.size > listed.content.size {
            return Err(differs());
        }
        match next {
            Next::Bytes(0) => break,
            Next::Bytes(count) => {
                digest.update(&buffer[..count]);
                sink.content(&buffer[..count])?;
            }
            Next::Hole(whole) => {
                hole = whole - bytes;
                content.holes += bytes;
                digest.hole(bytes);
                sink.hole(bytes)?;
            }
        }
        context.tell(Progress::Advance(bytes));
    }
    if content.size != listed.content.size {
        return Err(differs());
    }
    content.digest = digest.finish();
    sink.end(&listed.entry, &content)?;
    Ok(content)
}

/// Gives what is wanted and has no content to the sink, folders and links; the places of the files among the wanted.
///
/// # Errors
/// [`Cancelled`], from the sink.
pub(super) fn deliver_without_content(
    listed: &[ListedEntry],
    wanted: &[usize],
    sink: &mut dyn EntrySink,
) -> Result<Vec<usize>, Cancelled> {
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
