//! Every layer's error under one roof, and the class that decides a program's exit code.

use crate::codecs::block::CodecError;
use crate::disk::FileError;
use crate::disk::staging::StagingError;
use crate::formats::error::ArchiveError;
use crate::formats::iso::IsoError;
use crate::formats::registry::Lacks;
use crate::formats::sealed::frame::FrameError;
use crate::formats::sealed::index::RootError;
use crate::formats::sealed::record::RecordError;
use crate::formats::sealed::stream::StreamError;
use crate::formats::sealed::volume::{CellError, GatherError, HeaderError, WriteError};
use crate::formats::sealed::{HeadError, SealError, SealedError};
use crate::formats::streamed::StreamedError;
use crate::formats::zip::{ZipError, ZipWriteError};
use crate::ground::secrets::PasswordError;
use crate::landing::LandingError;
use crate::source::{PassedOverReason, SourceError};
use crate::tasks::check::InspectError;
use crate::tasks::check::collect::CollectError;
use crate::tasks::handover::{DraftError, HandoverError};
use crate::tasks::open::{OpenError, StopReason};
use crate::tasks::pack::parcels::ParcelError;
use crate::tasks::pack::{PackError, TargetError, WayError};
use crate::tasks::plan::PlanError;
use crate::tasks::portion::PortionError;
use crate::tasks::recast::RecutError;
use crate::tasks::rehearse::RehearsalError;
use crate::tasks::rehearse::carriers::CarryError;
use crate::tasks::resend::ResendError;
use crate::tasks::reunite::{PiecesError, ReuniteError};

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
    /// There was no rehearsal.
    #[error(transparent)]
    Rehearsal(#[from] RehearsalError),
    /// Nothing was handed over.
    #[error(transparent)]
    Handover(#[from] HandoverError),
    /// What a slip asks for cannot be made again.
    #[error(transparent)]
    Resend(#[from] ResendError),
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
    /// The volumes cannot be checked.
    #[error(transparent)]
    Inspect(#[from] InspectError),
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

/// What kind of thing went wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ErrorClass {
    /// The request cannot be carried out as it stands.
    Usage,
    /// No keyhole opens with this password.
    WrongPassword,
    /// Volumes are missing.
    VolumesMissing,
    /// Bytes are damaged, or were changed on purpose.
    Damaged,
    /// Refused, because it could do harm.
    Unsafe,
    /// The system said no: a full disk, no permission.
    System,
    /// The user asked to stop.
    Cancelled,
}

impl Error {
    /// What kind of thing went wrong.
    pub fn class(&self) -> ErrorClass {
        match self {
            Self::Target(_) | Self::Password(_) | Self::Lacks(_) => ErrorClass::Usage,
            Self::Source(error) => source_class(error),
            Self::Pack(error) => pack_class(error),
            Self::Parcels(error) => parcel_class(error),
            Self::Plan(PlanError::Codec(_) | PlanError::NoThreads(_)) => ErrorClass::System,
            Self::Plan(PlanError::Cancelled(_)) => ErrorClass::Cancelled,
            Self::Recut(error) => recut_class(error),
            Self::Rehearsal(
                RehearsalError::Carry(CarryError::Cancelled(_))
                | RehearsalError::Cancelled(_)
                | RehearsalError::Inspect(InspectError::Cancelled(_)),
            ) => ErrorClass::Cancelled,
            Self::Rehearsal(_) => ErrorClass::System,
            Self::Handover(error) => handover_class(error),
            Self::Resend(ResendError::OtherSet) => ErrorClass::Usage,
            Self::Resend(ResendError::Cell(error)) => cell_class(error),
            Self::Resend(ResendError::File(error)) => file_class(error),
            Self::Resend(ResendError::NoRandomness(_)) => ErrorClass::System,
            Self::Resend(ResendError::Cancelled(_)) => ErrorClass::Cancelled,
            Self::Portion(error) => portion_class(error),
            Self::Pieces(PiecesError::File(error)) => file_class(error),
            Self::Pieces(PiecesError::Cancelled(_)) => ErrorClass::Cancelled,
            Self::Pieces(_) => ErrorClass::Usage,
            Self::Reunite(error) => reunite_class(error),
            Self::Collect(CollectError::Gather(error)) | Self::Gather(error) => gather_class(error),
            Self::Collect(CollectError::File(error)) => file_class(error),
            Self::Collect(CollectError::NoRandomness(_)) => ErrorClass::System,
            Self::Collect(CollectError::Cancelled(_)) => ErrorClass::Cancelled,
            Self::Inspect(InspectError::File(_)) => ErrorClass::System,
            Self::Inspect(InspectError::Cancelled(_)) => ErrorClass::Cancelled,
            Self::Sealed(error) => sealed_class(error),
            Self::Archive(error) => archive_class(error),
            Self::Open(OpenError::Refused(error)) => landing_class(error),
            Self::Open(OpenError::Stopped(stopped)) => match &stopped.why {
                StopReason::Archive(error) => archive_class(error),
                StopReason::Landing(error) => landing_class(error),
            },
        }
    }
}

fn portion_class(error: &PortionError) -> ErrorClass {
    match error {
        PortionError::NoRoom | PortionError::TooMany(_) | PortionError::NoName(_) => ErrorClass::Usage,
        PortionError::Taken(_) | PortionError::Changed => ErrorClass::Unsafe,
        PortionError::Differs => ErrorClass::Damaged,
        PortionError::Staging(error) => staging_class(error),
        PortionError::File(error) => file_class(error),
        PortionError::Cancelled(_) => ErrorClass::Cancelled,
    }
}

fn reunite_class(error: &ReuniteError) -> ErrorClass {
    match error {
        ReuniteError::Missing { .. } => ErrorClass::VolumesMissing,
        ReuniteError::Damaged(_) | ReuniteError::WholeDiffers | ReuniteError::Differs => ErrorClass::Damaged,
        ReuniteError::Ambiguous { .. } | ReuniteError::NoName => ErrorClass::Usage,
        ReuniteError::Taken(_) => ErrorClass::Unsafe,
        ReuniteError::File(error) => file_class(error),
        ReuniteError::NoRandomness(_) => ErrorClass::System,
        ReuniteError::Cancelled(_) => ErrorClass::Cancelled,
    }
}

fn archive_class(error: &ArchiveError) -> ErrorClass {
    match error {
        ArchiveError::Sealed(error) => sealed_class(error),
        ArchiveError::Zip(error) => zip_class(error),
        ArchiveError::Streamed(StreamedError::File(error)) => file_class(error),
        ArchiveError::Streamed(StreamedError::Cancelled(_)) => ErrorClass::Cancelled,
        ArchiveError::Streamed(StreamedError::TooMany) => ErrorClass::Unsafe,
        ArchiveError::Streamed(_) => ErrorClass::Damaged,
        ArchiveError::Iso(error) => iso_class(error),
        ArchiveError::OpenToAll => ErrorClass::Damaged,
        ArchiveError::NoKeyFile | ArchiveError::Several => ErrorClass::Usage,
        ArchiveError::File(error) => file_class(error),
        ArchiveError::Cancelled(_) => ErrorClass::Cancelled,
    }
}

fn iso_class(error: &IsoError) -> ErrorClass {
    match error {
        IsoError::TooMany | IsoError::Expands | IsoError::FolderTwice(_) => ErrorClass::Unsafe,
        IsoError::NoVolume | IsoError::Malformed { .. } => ErrorClass::Damaged,
        IsoError::CutShort(_) | IsoError::BeyondEnd { .. } => ErrorClass::Damaged,
        IsoError::File(error) => file_class(error),
        IsoError::Cancelled(_) => ErrorClass::Cancelled,
    }
}

fn zip_class(error: &ZipError) -> ErrorClass {
    match error {
        ZipError::NeedsPassword => ErrorClass::Usage,
        ZipError::WrongPassword => ErrorClass::WrongPassword,
        ZipError::Parts { .. } | ZipError::MissingParts { .. } => ErrorClass::VolumesMissing,
        ZipError::TwoEnds | ZipError::Contradiction { .. } | ZipError::LargeDirectory(_) => ErrorClass::Unsafe,
        ZipError::NoEnd | ZipError::Malformed(_) | ZipError::Damaged { .. } => ErrorClass::Damaged,
        ZipError::Unsupported { .. } => ErrorClass::Usage,
        ZipError::File(error) => file_class(error),
        ZipError::Cancelled(_) => ErrorClass::Cancelled,
    }
}

fn file_class(error: &FileError) -> ErrorClass {
    if error.is_taken() { ErrorClass::Unsafe } else { ErrorClass::System }
}

fn pack_class(error: &PackError) -> ErrorClass {
    match error {
        PackError::Cancelled(_) => ErrorClass::Cancelled,
        PackError::Source(error) => source_class(error),
        PackError::Way(error) => way_class(error),
        PackError::Staging(error) => staging_class(error),
        PackError::File(error) => file_class(error),
        PackError::Seal(error) => seal_class(error),
        PackError::Zip(ZipWriteError::File(error)) => file_class(error),
        PackError::Zip(_) => ErrorClass::Usage,
        PackError::Lacks(_) | PackError::HidingNeedsPassword => ErrorClass::Usage,
        PackError::Compressor => ErrorClass::System,
        PackError::Regather(GatherError::File(error))
        | PackError::ReadBack(
            ArchiveError::File(error)
            | ArchiveError::Zip(ZipError::File(error))
            | ArchiveError::Streamed(StreamedError::File(error)),
        ) => file_class(error),
        PackError::ReadBack(ArchiveError::Sealed(SealedError::Codec(CodecError::Compressor))) => ErrorClass::System,
        PackError::Regather(_) | PackError::ReadBack(_) | PackError::ContentsDiffer => ErrorClass::Damaged,
        PackError::Parcels(error) => parcel_class(error),
        PackError::ParcelTooLarge => ErrorClass::Usage,
        PackError::NothingPacked(_) | PackError::NoRandomness(_) => ErrorClass::System,
        PackError::NoThreads(_) | PackError::Stopped(_) => ErrorClass::System,
    }
}

fn source_class(error: &SourceError) -> ErrorClass {
    match error {
        SourceError::Cancelled(_) => ErrorClass::Cancelled,
        SourceError::Unpackable(what) if matches!(what.reason, PassedOverReason::Unreadable(_)) => ErrorClass::System,
        _ => ErrorClass::Usage,
    }
}

fn parcel_class(error: &ParcelError) -> ErrorClass {
    match error {
        ParcelError::Cancelled(_) => ErrorClass::Cancelled,
        ParcelError::Codec(_) | ParcelError::NoThreads(_) => ErrorClass::System,
        _ => ErrorClass::Usage,
    }
}

fn way_class(error: &WayError) -> ErrorClass {
    match error {
        WayError::Taken { .. } | WayError::EarlierRunCompleted(_) => ErrorClass::Unsafe,
        WayError::SomethingElse(_) | WayError::SeveralArchives(_) => ErrorClass::Unsafe,
        WayError::Staging(error) => staging_class(error),
        WayError::File(error) => file_class(error),
    }
}

fn staging_class(error: &StagingError) -> ErrorClass {
    match error {
        StagingError::InUse(_) | StagingError::InTheWay(_) | StagingError::Changed(_) => ErrorClass::Unsafe,
        StagingError::File(error) => file_class(error),
    }
}

fn seal_class(error: &SealError) -> ErrorClass {
    match error {
        SealError::Write(error) => write_class(error),
        SealError::TooManyEntries => ErrorClass::Usage,
        SealError::Head(_)
        | SealError::Codec(_)
        | SealError::Seal(_)
        | SealError::OutOfOrder
        | SealError::Stopped(_) => ErrorClass::System,
    }
}

fn write_class(error: &WriteError) -> ErrorClass {
    match error {
        WriteError::File(error) => file_class(error),
        WriteError::FitTooSmall | WriteError::TooManyVolumes | WriteError::TooManyCells => ErrorClass::Usage,
    }
}

fn recut_class(error: &RecutError) -> ErrorClass {
    match error {
        RecutError::Way(error) => way_class(error),
        RecutError::Staging(error) => staging_class(error),
        RecutError::File(error) => file_class(error),
        RecutError::Cell(error) => cell_class(error),
        RecutError::Write(error) => write_class(error),
        RecutError::Regather(_) | RecutError::CellsDiffer => ErrorClass::Damaged,
        RecutError::NoRandomness(_) => ErrorClass::System,
        RecutError::Cancelled(_) => ErrorClass::Cancelled,
    }
}

fn handover_class(error: &HandoverError) -> ErrorClass {
    match error {
        HandoverError::Taken(_) => ErrorClass::Unsafe,
        HandoverError::NotWhole { missing, .. } if !missing.is_empty() => ErrorClass::VolumesMissing,
        HandoverError::NotWhole { .. } | HandoverError::Regather(_) | HandoverError::Differ => ErrorClass::Damaged,
        HandoverError::DamagedEntries(_) => ErrorClass::Damaged,
        HandoverError::Archive(error) => archive_class(error),
        HandoverError::Note(_) | HandoverError::Draft(DraftError::TooLarge { .. }) => ErrorClass::Usage,
        HandoverError::File(error) | HandoverError::Draft(DraftError::File(error)) => file_class(error),
        HandoverError::NoRandomness(_) | HandoverError::Draft(DraftError::NoRandomness(_)) => ErrorClass::System,
        HandoverError::Cancelled(_) => ErrorClass::Cancelled,
    }
}

fn cell_class(error: &CellError) -> ErrorClass {
    match error {
        CellError::Missing(_) => ErrorClass::VolumesMissing,
        CellError::Damaged { .. } => ErrorClass::Damaged,
        CellError::File(error) => file_class(error),
    }
}

fn gather_class(error: &GatherError) -> ErrorClass {
    match error {
        GatherError::Unusable { why: HeaderError::NotAVolume | HeaderError::UnknownVersion(_), .. }
        | GatherError::Missing { .. }
        | GatherError::NoVolumes { .. }
        | GatherError::SeveralSets(_) => ErrorClass::Usage,
        GatherError::Unusable { .. } => ErrorClass::Damaged,
        GatherError::Incomplete { .. } => ErrorClass::VolumesMissing,
        GatherError::File(_) => ErrorClass::System,
    }
}

fn sealed_class(error: &SealedError) -> ErrorClass {
    match error {
        SealedError::Head(HeadError::WrongPassword) => ErrorClass::WrongPassword,
        SealedError::Head(HeadError::Costly(_)) => ErrorClass::Unsafe,
        SealedError::Head(HeadError::NoMemory(_) | HeadError::NoRandomness(_)) => ErrorClass::System,
        SealedError::Stream(StreamError::Cell(error)) => cell_class(error),
        SealedError::Record(RecordError::UnsafePath { .. }) => ErrorClass::Unsafe,
        SealedError::Codec(CodecError::Compressor) | SealedError::NoThreads(_) => ErrorClass::System,
        SealedError::Cancelled(_) => ErrorClass::Cancelled,
        error if error.needs_newer_version() => ErrorClass::Usage,
        _ => ErrorClass::Damaged,
    }
}

fn landing_class(error: &LandingError) -> ErrorClass {
    match error {
        LandingError::Clashes(_)
        | LandingError::Folded(_)
        | LandingError::Screened(_)
        | LandingError::ChangedByScreen(_) => ErrorClass::Unsafe,
        LandingError::File(error) => file_class(error),
        LandingError::NoRoom { .. } | LandingError::NoRandomness(_) => ErrorClass::System,
        LandingError::Cancelled(_) => ErrorClass::Cancelled,
    }
}

impl SealedError {
    /// Whether the archive was made by a later version of the format, in a way that this one may not skip.
    pub fn needs_newer_version(&self) -> bool {
        matches!(
            self,
            Self::Head(HeadError::Unknown)
                | Self::Record(RecordError::UnknownType(_))
                | Self::Frame(FrameError::UnknownKind(_))
                | Self::Root(RootError::UnknownProperty(_))
        )
    }
}
