//! Changing what is in an archive: something is added, taken out, renamed or brought up to date. The new archive is written, read back
//! and verified beside the old one, like any other, and takes its place only then. What stays is not compressed again in a sealed
//! archive: its frames go over as they are.

mod edit;
mod revision;

pub use edit::{Edit, EditError};
pub use revision::{Changes, Revision};

use crate::formats::archive::Archive;
use crate::formats::error::ArchiveError;
use crate::formats::reader::ArchiveReader;
use crate::formats::sealed::{KeyCost, SealedReader};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::Context;
use crate::ground::entry::ListedEntry;
use crate::ground::secrets::Credentials;
use crate::source::Catalogue;
use crate::tasks::pack::{Delivery, OldContents, PackError, PackRequest, Packed};

/// Why an archive was not changed. It is as it was.
#[derive(Debug, thiserror::Error)]
#[error(transparent)]
pub struct ReviseError(#[from] pub PackError);

impl Classed for ReviseError {
    fn class(&self) -> ErrorClass {
        match &self.0 {
            // Everything was to be taken out.
            PackError::NothingPacked(unreadable) if unreadable.is_empty() => ErrorClass::Usage,
            error => error.class(),
        }
    }
}

/// The archive that is changed.
pub enum Old {
    /// Sealed volumes, or such a volume in a page.
    Sealed(Box<SealedReader>),
    /// A file of an open format.
    Open(Archive),
}

impl Old {
    /// What reads it.
    pub fn reader(&self) -> &dyn ArchiveReader {
        match self {
            Self::Sealed(reader) => &**reader,
            Self::Open(archive) => &**archive,
        }
    }

    /// What is in it.
    ///
    /// # Errors
    /// [`ArchiveError`] where that cannot be read again.
    pub fn entries(&self) -> Result<&[ListedEntry], ArchiveError> {
        self.reader().entries()
    }
}

/// Prepares an archive as a revision plans it. The request's sources count for nothing; `gathered` is what was listed on disk for it.
///
/// # Errors
/// [`ReviseError`]; nothing was written.
pub fn prepare(
    old: &Old,
    revision: &Revision,
    gathered: Vec<Catalogue>,
    request: &PackRequest<'_>,
    context: &Context<'_>,
) -> Result<Delivery, ReviseError> {
    let entries = match old {
        Old::Sealed(_) => revision.fresh(),
        Old::Open(archive) => revision.all(archive.entries().map_err(PackError::from)?),
    };
    Ok(Delivery::prepare_from(request, entries, gathered, revision.needed(), context)?)
}

/// Writes, verifies and places a revision.
///
/// # Errors
/// [`ReviseError`]; the old archive is as it was.
pub fn revise(
    old: &mut Old,
    revision: &Revision,
    delivery: Delivery,
    credentials: &[Credentials],
    cost: KeyCost,
    context: &Context<'_>,
) -> Result<Packed, ReviseError> {
    match old {
        Old::Sealed(reader) => {
            let (fates, ids) = revision.fates(reader.entries().map_err(PackError::from)?);
            let first = revision.folders_first();
            let contents = OldContents::Frames { reader, fates, ids: &ids, first: &first };
            Ok(delivery.pack_from(contents, credentials, cost, context)?)
        }
        Old::Open(archive) => Ok(delivery.pack_from(
            OldContents::Entries { archive: &mut **archive, as_stored: true },
            credentials,
            cost,
            context,
        )?),
    }
}
