//! Archives of whatever format: recognised by their content, and read in one way.

use crate::codecs::stream::{WrappedFile, Wrapping};
use crate::disk::{FileAction, FileError};
use crate::formats::iso::{IsoError, IsoReader, is_iso};
use crate::formats::lone::LoneReader;
use crate::formats::members::Refused;
use crate::formats::reader::{ArchiveReader, ExtractError};
use crate::formats::sealed::{SealedError, SealedReader};
use crate::formats::tar::{TarError, TarReader, is_tar};
use crate::formats::zip::{PartsError, ZipError, ZipReader, is_zip, open_parts};
use crate::ground::context::{Cancelled, Context, Phase, Progress};
use crate::ground::entry::{Content, Entry, EntrySink, ListedEntry, OnlyEnds, Totals};
use crate::ground::secrets::Password;
use std::path::{Path, PathBuf};

/// Why an archive cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum ArchiveError {
    /// A sealed one.
    #[error(transparent)]
    Sealed(#[from] SealedError),
    /// A ZIP archive.
    #[error(transparent)]
    Zip(#[from] ZipError),
    /// A tar archive, or a lone compressed file.
    #[error(transparent)]
    Tar(#[from] TarError),
    /// A disc image.
    #[error(transparent)]
    Iso(#[from] IsoError),
    /// Parts of an archive are missing.
    #[error(transparent)]
    Parts(#[from] PartsError),
    /// Nothing in it is encrypted, and a password was given: whoever gave it expects another archive.
    #[error("it has no password")]
    OpenToAll,
    /// The user asked to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// An open format.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OpenFormat {
    /// ZIP, in one file or in parts.
    Zip,
    /// Tar, maybe compressed as a whole.
    Tar,
    /// A disc image (ISO 9660).
    DiscImage,
    /// A file that is compressed by itself.
    Lone,
}

/// Which open format a file has, by its content; `None` for sealed volumes and whatever is unknown.
///
/// # Errors
/// [`ArchiveError`] from the system, or where the user asked to stop.
pub fn open_format_of(path: &Path, context: &Context<'_>) -> Result<Option<OpenFormat>, ArchiveError> {
    let metadata = path.metadata().map_err(FileError::on(FileAction::Open, path)).map_err(TarError::from)?;
    if !metadata.is_file() {
        return Ok(None);
    }
    // An image may end with an archive of another kind, which is in it.
    if is_iso(path).map_err(TarError::from)? {
        return Ok(Some(OpenFormat::DiscImage));
    }
    if is_zip(path).map_err(TarError::from)? {
        return Ok(Some(OpenFormat::Zip));
    }
    let file = WrappedFile::look_at(path).map_err(TarError::from)?;
    if is_tar(&file, context)? {
        return Ok(Some(OpenFormat::Tar));
    }
    Ok((file.wrapping != Wrapping::None).then_some(OpenFormat::Lone))
}

/// An archive that is open for reading.
pub enum Archive {
    /// A sealed one, unlocked.
    Sealed(Box<SealedReader>),
    /// A ZIP archive.
    Zip(Box<ZipReader>),
    /// A tar archive.
    Tar(Box<TarReader>),
    /// A disc image.
    DiscImage(Box<IsoReader>),
    /// A lone compressed file.
    Lone(Box<LoneReader>),
}

impl Archive {
    /// Opens what has this format. The contents of what is encrypted cannot be had so (see [`ZipReader::unlocked`]).
    ///
    /// # Errors
    /// [`ArchiveError`].
    pub fn open(format: OpenFormat, path: &Path, context: &Context<'_>) -> Result<Self, ArchiveError> {
        let wrapped = || WrappedFile::look_at(path).map_err(TarError::from);
        Ok(match format {
            OpenFormat::Zip => Self::Zip(Box::new(ZipReader::open(open_parts(path)?, None, context)?)),
            OpenFormat::Tar => Self::Tar(Box::new(TarReader::open(wrapped()?, context)?)),
            OpenFormat::DiscImage => Self::DiscImage(Box::new(IsoReader::open(path, context)?)),
            OpenFormat::Lone => Self::Lone(Box::new(LoneReader::open(wrapped()?, context)?)),
        })
    }

    /// Opens what has this format as far as it is whole: a tar archive up to its first flaw.
    ///
    /// # Errors
    /// [`ArchiveError`].
    pub fn open_what_is_whole(format: OpenFormat, path: &Path, context: &Context<'_>) -> Result<Self, ArchiveError> {
        match format {
            OpenFormat::Tar => {
                let file = WrappedFile::look_at(path).map_err(TarError::from)?;
                Ok(Self::Tar(Box::new(TarReader::open_what_is_whole(file, context)?)))
            }
            _ => Self::open(format, path, context),
        }
    }

    /// Whether something behind what is read of it is damaged, where only what is whole was wanted.
    pub fn has_flaw(&self) -> bool {
        matches!(self, Self::Tar(archive) if archive.flaw().is_some())
    }

    /// Whether what is read of it may not be all: a tar archive that has a flaw, or no mark of its end.
    pub fn may_lack_the_end(&self) -> bool {
        matches!(self, Self::Tar(archive) if archive.lacks_end() || archive.flaw().is_some())
    }

    /// The files that it is read from, in order.
    pub fn paths(&self) -> Vec<PathBuf> {
        match self {
            Self::Sealed(archive) => archive.set().volumes.values().flatten().map(|file| file.path.clone()).collect(),
            Self::Zip(archive) => archive.segments().paths().map(Path::to_owned).collect(),
            Self::Tar(archive) => vec![archive.file().path.clone()],
            Self::DiscImage(archive) => vec![archive.path().to_owned()],
            Self::Lone(archive) => vec![archive.file().path.clone()],
        }
    }

    /// The password of a ZIP archive of which some is encrypted; where it is not known yet, nothing inside.
    pub fn zip_password(&self) -> Option<Option<&Password>> {
        match self {
            Self::Zip(archive) if archive.is_encrypted() => Some(archive.password()),
            _ => None,
        }
    }

    /// Refuses an archive of an open format in which nothing is encrypted, where a password was given for it: anybody can have
    /// made it.
    ///
    /// # Errors
    /// [`ArchiveError::OpenToAll`].
    pub fn refuse_if_open_to_all(&self) -> Result<(), ArchiveError> {
        let locked = matches!(self, Self::Sealed(_)) || self.zip_password().is_some();
        if locked { Ok(()) } else { Err(ArchiveError::OpenToAll) }
    }

    /// Whether names, sizes and dates are kept by the same password as contents.
    pub fn hides_names(&self) -> bool {
        match self {
            Self::Sealed(_) => true,
            Self::Zip(archive) => archive.hides_names(),
            Self::Tar(_) | Self::DiscImage(_) | Self::Lone(_) => false,
        }
    }

    /// Whether its files are of no use under other names: parts are found by theirs, and what is in a lone compressed file is
    /// called after it.
    pub fn needs_names(&self) -> bool {
        matches!(self, Self::Lone(_)) || (matches!(self, Self::Zip(_)) && self.paths().len() > 1)
    }

    /// What the format is called.
    pub fn format(&self) -> &'static str {
        match self {
            Self::Sealed(_) => "sealed",
            Self::Zip(_) => "zip",
            Self::Tar(_) => "tar",
            Self::DiscImage(_) => "disc image",
            Self::Lone(_) => "compressed file",
        }
    }

    /// The sealed archive that it is, if it is one.
    pub fn sealed(&self) -> Option<&SealedReader> {
        match self {
            Self::Sealed(archive) => Some(archive),
            Self::Zip(_) | Self::Tar(_) | Self::DiscImage(_) | Self::Lone(_) => None,
        }
    }

    /// What is in it and cannot be extracted.
    pub fn refused(&self) -> &[Refused] {
        match self {
            Self::Sealed(_) | Self::Lone(_) => &[],
            Self::Zip(archive) => archive.refused(),
            Self::Tar(archive) => archive.refused(),
            Self::DiscImage(archive) => archive.refused(),
        }
    }

    /// What the sender says.
    pub fn message(&self) -> String {
        match self {
            Self::Sealed(archive) => archive.about().message.clone(),
            Self::Zip(archive) => String::from_utf8_lossy(archive.comment()).into_owned(),
            Self::Tar(_) | Self::DiscImage(_) | Self::Lone(_) => String::new(),
        }
    }

    /// The share that squeezing left of each entry, where that is known.
    pub fn kept_shares(&self) -> Vec<Option<f64>> {
        match self {
            Self::Sealed(archive) => archive.kept_shares(),
            Self::Zip(archive) => archive.kept_shares().into_iter().map(Some).collect(),
            // What is compressed as a whole leaves no share of its own to each.
            Self::Tar(_) | Self::DiscImage(_) | Self::Lone(_) => vec![None; self.entries().len()],
        }
    }

    /// What it holds in all.
    pub fn totals(&self) -> Totals {
        let mut totals = Totals::default();
        self.entries().iter().for_each(|listed| totals.add(listed.entry.kind, listed.content.size));
        totals
    }

    /// Every entry with its content's digest. A format that keeps none is read to its end for that.
    ///
    /// # Errors
    /// [`ArchiveError`].
    pub fn entries_with_digests(&mut self, context: &Context<'_>) -> Result<Vec<ListedEntry>, ArchiveError> {
        if let Self::Sealed(archive) = self {
            return Ok(archive.entries().to_vec());
        }
        context.tell(Progress::Begin(Phase::Verifying, self.totals().content_bytes));
        let mut digests = Vec::with_capacity(self.entries().len());
        let mut keep = OnlyEnds::telling(|entry: &Entry, content: &Content| {
            digests.push(ListedEntry { entry: entry.clone(), content: *content });
        });
        let read = self.extract(&mut keep, context);
        context.tell(Progress::End);
        match read {
            Ok(()) => {
                digests.sort_by(|one, other| one.entry.path.cmp(&other.entry.path));
                Ok(digests)
            }
            Err(ExtractError::Archive(error)) => Err(error),
            Err(ExtractError::Sink(never)) => match never {},
        }
    }
}

impl ArchiveReader for Archive {
    type Error = ArchiveError;

    fn entries(&self) -> &[ListedEntry] {
        match self {
            Self::Sealed(archive) => archive.entries(),
            Self::Zip(archive) => archive.entries(),
            Self::Tar(archive) => archive.entries(),
            Self::DiscImage(archive) => archive.entries(),
            Self::Lone(archive) => archive.entries(),
        }
    }

    fn extract<S: EntrySink + ?Sized>(
        &mut self,
        sink: &mut S,
        context: &Context<'_>,
    ) -> Result<(), ExtractError<ArchiveError, S::Error>> {
        match self {
            Self::Sealed(archive) => archive.extract(sink, context).map_err(ExtractError::of_any_archive),
            Self::Zip(archive) => archive.extract(sink, context).map_err(ExtractError::of_any_archive),
            Self::Tar(archive) => archive.extract(sink, context).map_err(ExtractError::of_any_archive),
            Self::DiscImage(archive) => archive.extract(sink, context).map_err(ExtractError::of_any_archive),
            Self::Lone(archive) => archive.extract(sink, context).map_err(ExtractError::of_any_archive),
        }
    }

    fn extract_some<S: EntrySink + ?Sized>(
        &mut self,
        wanted: &[usize],
        sink: &mut S,
        context: &Context<'_>,
    ) -> Result<(), ExtractError<ArchiveError, S::Error>> {
        match self {
            Self::Sealed(archive) => archive.extract_some(wanted, sink, context).map_err(ExtractError::of_any_archive),
            Self::Zip(archive) => archive.extract_some(wanted, sink, context).map_err(ExtractError::of_any_archive),
            Self::Tar(archive) => archive.extract_some(wanted, sink, context).map_err(ExtractError::of_any_archive),
            Self::DiscImage(archive) => {
                archive.extract_some(wanted, sink, context).map_err(ExtractError::of_any_archive)
            }
            Self::Lone(archive) => archive.extract_some(wanted, sink, context).map_err(ExtractError::of_any_archive),
        }
    }
}
