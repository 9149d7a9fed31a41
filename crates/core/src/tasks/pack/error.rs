//! Why nothing was packed.

use super::parcels::ParcelError;
use super::target::WayError;
use crate::disk::staging::StagingError;
use crate::disk::{Interruption, interruptible};
use crate::formats::error::ArchiveError;
use crate::formats::registry::{Format, Lacks};
use crate::formats::sealed::SealError;
use crate::formats::sealed::volume::GatherError;
use crate::formats::sealed::volume::spares::making::SpareError;
use crate::formats::zip::ZipWriteError;
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::Cancelled;
use crate::source::{PassedOver, SourceError};

/// Why nothing was packed. No volume has a final name then.
#[derive(Debug, thiserror::Error)]
pub enum PackError {
    /// The sources cannot be listed.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// Not one of the sources could be read.
    #[error("nothing could be packed")]
    NothingPacked(Vec<PassedOver>),
    /// A file cannot be read that was to take the place of one in the archive.
    #[error("{} cannot be read", .0.disk_path.display())]
    Needed(PassedOver),
    /// What is packed cannot be divided into parcels.
    #[error(transparent)]
    Parcels(#[from] ParcelError),
    /// A parcel came out larger than the fit, however it was divided.
    #[error("a parcel came out larger than the fit")]
    ParcelTooLarge,
    /// The target is not free.
    #[error(transparent)]
    Way(#[from] WayError),
    /// The staging folder cannot be used.
    #[error(transparent)]
    Staging(#[from] StagingError),
    /// The archive cannot be written.
    #[error(transparent)]
    Seal(#[from] SealError),
    /// The ZIP archive cannot be written.
    #[error(transparent)]
    Zip(ZipWriteError),
    /// The compressor failed, for want of memory.
    #[error("the compressor failed")]
    Compressor,
    /// The format cannot do what is wished.
    #[error(transparent)]
    Lacks(#[from] Lacks),
    /// Archives of this format are only read.
    #[error("{0} is not written")]
    NotWritten(&'static Format),
    /// Names can be hidden in ZIP only by what hides everything else: the password.
    #[error("names are hidden with a password only")]
    HidingNeedsPassword,
    /// The archive that it is made from cannot be read.
    #[error(transparent)]
    Old(#[from] ArchiveError),
    /// The spare volumes were not made.
    #[error(transparent)]
    Spares(#[from] SpareError),
    /// What was written cannot be found again.
    #[error("reading back: {0}")]
    Regather(#[source] GatherError),
    /// What was written is not what was packed.
    #[error("reading back: {0}")]
    ReadBack(#[source] ArchiveError),
    /// What was written opens, and yet does not say the same as what was packed.
    #[error("reading back: the contents differ")]
    ContentsDiffer,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(PackError);

impl Classed for PackError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Source(error) => error.class(),
            Self::Way(error) => error.class(),
            Self::Staging(error) => error.class(),
            Self::Seal(error) => error.class(),
            Self::Old(error) => error.class(),
            Self::Spares(error) => error.class(),
            Self::Parcels(error) => error.class(),
            Self::Zip(ZipWriteError::Interrupted(error)) => error.class(),
            Self::Zip(_) | Self::Lacks(_) | Self::NotWritten(_) | Self::HidingNeedsPassword | Self::ParcelTooLarge => {
                ErrorClass::Usage
            }
            Self::Compressor | Self::NothingPacked(_) | Self::Needed(_) => ErrorClass::System,
            Self::Regather(GatherError::Interrupted(error)) => error.class(),
            Self::ReadBack(error) => match error.interruption() {
                Some(interruption) => interruption.class(),
                None if error.is_lack_of_memory() => ErrorClass::System,
                None => ErrorClass::Damaged,
            },
            Self::Regather(_) | Self::ContentsDiffer => ErrorClass::Damaged,
        }
    }
}

impl PackError {
    /// What reading back came upon.
    pub(super) fn reading_back(error: ArchiveError) -> Self {
        match error.interruption() {
            Some(Interruption::Cancelled(_)) => Cancelled.into(),
            _ => Self::ReadBack(error),
        }
    }
}
