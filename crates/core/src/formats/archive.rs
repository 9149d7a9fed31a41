//! Archives of whatever format: a file is recognised by its content, and opened by what its format's row says.

use super::error::ArchiveError;
use super::messages::structure::FlawedMessage;
use super::reader::{ArchiveReader, Flaws};
use super::registry::{ALL, Format, Lying, Reading, SEALED};
use super::sealed::SealedReader;
use super::spot::Spot;
use crate::disk::{FileAction, FileError};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{Content, Entry, ListedEntry};
use crate::ground::secrets::Credentials;
use crate::ground::sink::OnlyEnds;
use std::ops::{Deref, DerefMut};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Something of an open format.
#[derive(Debug, Clone)]
pub struct Recognised {
    /// Its format.
    pub format: &'static Format,
    /// Where it is, and what beside it.
    pub lying: Lying,
    /// Where it was looked for in messages: what was not looked for there, and in which file.
    pub flawed_messages: Vec<(PathBuf, FlawedMessage)>,
    reading: Reading,
}

/// Which open format a file has, by its content; `None` for sealed volumes and whatever is unknown.
///
/// # Errors
/// [`ArchiveError`] from the system, or where the user asked to stop.
pub fn recognise(path: &Path, context: &Context<'_>) -> Result<Option<Recognised>, ArchiveError> {
    if !path.metadata().map_err(FileError::on(FileAction::Open, path))?.is_file() {
        return Ok(None);
    }
    recognise_lying(Lying { spot: path.into(), beside: Arc::from([]) }, context)
}

/// The same of whatever lies somewhere.
///
/// # Errors
/// As of [`recognise`].
pub fn recognise_lying(lying: Lying, context: &Context<'_>) -> Result<Option<Recognised>, ArchiveError> {
    for format in ALL {
        if let Some(reading) = format.reading
            && (reading.recognise)(&lying, context)?
        {
            return Ok(Some(Recognised { format, lying, flawed_messages: Vec::new(), reading }));
        }
    }
    Ok(None)
}

impl Recognised {
    /// Opens it. The contents of what is encrypted cannot be had before it is [unlocked](Archive::unlock).
    pub fn open(&self, flaws: Flaws, context: &Context<'_>) -> Result<Archive, ArchiveError> {
        Ok(Archive { format: self.format, reader: (self.reading.open)(&self.lying, flaws, context)? })
    }
}

/// An archive that is open for reading.
pub struct Archive {
    /// Its format.
    pub format: &'static Format,
    reader: Box<dyn ArchiveReader>,
}

impl From<SealedReader> for Archive {
    fn from(reader: SealedReader) -> Self {
        Self::of(&SEALED, reader)
    }
}

impl Deref for Archive {
    type Target = dyn ArchiveReader;

    fn deref(&self) -> &Self::Target {
        self.reader.as_ref()
    }
}

impl DerefMut for Archive {
    fn deref_mut(&mut self) -> &mut Self::Target {
        self.reader.as_mut()
    }
}

impl Archive {
    /// What this reader reads, which is of this format.
    pub fn of(format: &'static Format, reader: impl ArchiveReader + 'static) -> Self {
        Self { format, reader: Box::new(reader) }
    }

    /// Opens a file of an open format; `None` where it is of none.
    pub fn open(path: &Path, flaws: Flaws, context: &Context<'_>) -> Result<Option<Self>, ArchiveError> {
        recognise(path, context)?.map(|file| file.open(flaws, context)).transpose()
    }

    /// The same archive, unlocked.
    pub fn unlock(&self, credentials: &Credentials, context: &Context<'_>) -> Result<Self, ArchiveError> {
        Ok(Self { format: self.format, reader: self.reader.unlocked(credentials, context)? })
    }

    /// What opens it, as far as it needs a password.
    pub fn opened_by(&self) -> Credentials {
        self.password().cloned().map_or_else(Credentials::none, Credentials::from)
    }

    /// Of how many volumes, parts or files it is.
    pub fn file_count(&self) -> u32 {
        match self.volumes() {
            Some(set) => set.geometry.data_volumes,
            None => u32::try_from(self.paths().len()).unwrap_or(u32::MAX),
        }
    }

    /// What it is called: as the sender called it, or as its last file is, without the end that its format gives.
    pub fn name(&self) -> Vec<u8> {
        if let Some(about) = self.about() {
            return about.name.clone();
        }
        let last = self.spots().pop();
        let mut name = PathBuf::from(last.as_ref().map(Spot::name).unwrap_or_default());
        // What is compressed as a whole may have the format's end in front of the compression's.
        let ends_in = |name: &Path, end: &str| {
            name.extension().is_some_and(|last| last.eq_ignore_ascii_case(end.trim_start_matches('.')))
        };
        let is_own = |name: &Path| self.format.extensions.iter().any(|end| ends_in(name, end));
        let has_two = !self.format.abilities.direct && !is_own(&name);
        name.set_extension("");
        if has_two && is_own(&name) {
            name.set_extension("");
        }
        name.file_name().unwrap_or_default().as_encoded_bytes().to_vec()
    }

    /// Refuses an archive in which nothing is encrypted, where a password was given for it: anybody can have made it. Sealed
    /// archives are asked when they are unlocked.
    pub fn refuse_if_open_to_all(&self) -> Result<(), ArchiveError> {
        if self.is_secret() || self.format.abilities.keyholes { Ok(()) } else { Err(ArchiveError::OpenToAll) }
    }

    /// Every entry with its content's digest. A format that keeps none is read to its end for that.
    pub fn entries_with_digests(&mut self, context: &Context<'_>) -> Result<Vec<ListedEntry>, ArchiveError> {
        if self.format.abilities.digests {
            return Ok(self.entries()?.to_vec());
        }
        context.tell(Progress::Begin(Phase::Verifying, self.totals().content_bytes));
        let mut digests = Vec::with_capacity(self.listing().len());
        let mut keep = OnlyEnds::telling(|entry: &Entry, content: &Content| {
            digests.push(ListedEntry { entry: entry.clone(), content: *content });
        });
        let read = self.extract(&mut keep, context);
        context.tell(Progress::End);
        read?;
        digests.sort_by(|one, other| one.entry.path.cmp(&other.entry.path));
        Ok(digests)
    }
}
