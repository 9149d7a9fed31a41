//! Every floor's error under one roof. Each error knows its own class; what people are told is the program's.

use crate::disk::staging::StagingError;
use crate::disk::{Interruption, interruptible};
use crate::formats::error::ArchiveError;
use crate::formats::registry::Lacks;
use crate::formats::sealed::SealedError;
use crate::formats::sealed::volume::GatherError;
use crate::ground::class::Classed;
use crate::ground::secrets::PasswordError;
use crate::source::SourceError;
use crate::tasks::check::collect::CollectError;
use crate::tasks::handover::HandoverError;
use crate::tasks::mend::MendError;
use crate::tasks::open::OpenError;
use crate::tasks::pack::parcels::ParcelError;
use crate::tasks::pack::{PackError, TargetError};
use crate::tasks::plan::PlanError;
use crate::tasks::portion::PortionError;
use crate::tasks::recast::RecutError;
use crate::tasks::recast::converting::ConvertError;
use crate::tasks::rehearse::RehearsalError;
use crate::tasks::relock::RelockError;
use crate::tasks::resend::ResendError;
use crate::tasks::reunite::{PiecesError, ReuniteError};
use crate::tasks::revise::{EditError, ReviseError};

pub use crate::ground::class::ErrorClass;

/// Anything that can end a piece of work.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// There is no target to pack to.
    #[error(transparent)]
    Target(#[from] TargetError),
    /// The password cannot be one.
    #[error(transparent)]
    Password(#[from] PasswordError),
    /// What is on disk cannot be listed, to pack it or to compare it with an archive.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// A format cannot do what is wished.
    #[error(transparent)]
    Lacks(#[from] Lacks),
    /// Nothing was packed.
    #[error(transparent)]
    Pack(#[from] PackError),
    /// What is packed cannot be divided into parcels.
    #[error(transparent)]
    Parcels(#[from] ParcelError),
    /// Nothing was planned.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// The set was not cut anew.
    #[error(transparent)]
    Recut(#[from] RecutError),
    /// What an earlier run left cannot be completed.
    #[error(transparent)]
    Staging(#[from] StagingError),
    /// The archive cannot be changed so.
    #[error(transparent)]
    Edit(#[from] EditError),
    /// It did not become another one.
    #[error(transparent)]
    Convert(#[from] ConvertError),
    /// Another archive was not made of it.
    #[error(transparent)]
    Revise(#[from] ReviseError),
    /// The archive was not locked anew.
    #[error(transparent)]
    Relock(#[from] RelockError),
    /// There was no rehearsal.
    #[error(transparent)]
    Rehearsal(#[from] RehearsalError),
    /// Nothing was handed over.
    #[error(transparent)]
    Handover(#[from] HandoverError),
    /// What a slip asks for cannot be made again.
    #[error(transparent)]
    Resend(#[from] ResendError),
    /// Volumes were not recreated, or no spare ones made.
    #[error(transparent)]
    Mend(#[from] MendError),
    /// The volumes cannot be brought together.
    #[error(transparent)]
    Collect(#[from] CollectError),
    /// A file was not cut.
    #[error(transparent)]
    Portion(#[from] PortionError),
    /// No plain pieces were found.
    #[error(transparent)]
    Pieces(#[from] PiecesError),
    /// Plain pieces were not joined.
    #[error(transparent)]
    Reunite(#[from] ReuniteError),
    /// No set of volumes was found.
    #[error(transparent)]
    Gather(#[from] GatherError),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
    /// The archive cannot be read.
    #[error(transparent)]
    Sealed(#[from] SealedError),
    /// The archive, of whatever format, cannot be read.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    /// The archive cannot be extracted.
    #[error(transparent)]
    Open(#[from] OpenError),
}

interruptible!(Error);

impl Error {
    /// What kind of thing went wrong.
    pub fn class(&self) -> ErrorClass {
        match self {
            Self::Target(_) | Self::Password(_) | Self::Lacks(_) => ErrorClass::Usage,
            Self::Source(error) => error.class(),
            Self::Pack(error) => error.class(),
            Self::Parcels(error) => error.class(),
            Self::Plan(error) => error.class(),
            Self::Recut(error) => error.class(),
            Self::Staging(error) => error.class(),
            Self::Edit(error) => error.class(),
            Self::Revise(error) => error.class(),
            Self::Convert(error) => error.class(),
            Self::Relock(error) => error.class(),
            Self::Rehearsal(error) => error.class(),
            Self::Handover(error) => error.class(),
            Self::Resend(error) => error.class(),
            Self::Mend(error) => error.class(),
            Self::Collect(error) => error.class(),
            Self::Portion(error) => error.class(),
            Self::Pieces(error) => error.class(),
            Self::Reunite(error) => error.class(),
            Self::Gather(error) => error.class(),
            Self::Interrupted(error) => error.class(),
            Self::Sealed(error) => error.class(),
            Self::Archive(error) => error.class(),
            Self::Open(error) => error.class(),
        }
    }
}
