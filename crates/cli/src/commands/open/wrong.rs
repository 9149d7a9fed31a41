//! All that is wrong with the volumes, where an opening ended at the first of it: whoever asks the sender for one volume only finds the next
//! one missing after that.

use crate::archives::joining;
use crate::args::OpenArguments;
use crate::failure::{DAMAGED, Failure, MISSING};
use crate::session;
use crate::ui::progress::ProgressLine;
use crate::ui::text::{capitalized, numbers_with_words};
use under_seal_core::Error;
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::formats::sealed::SealedError;
use under_seal_core::formats::sealed::stream::StreamError;
use under_seal_core::formats::sealed::volume::{CellError, GatherError, VolumeSet};
use under_seal_core::tasks::check::{VolumeState, inspect};
use under_seal_core::tasks::open::{OpenError, StopReason};
use under_seal_core::tasks::resend::Slip;

/// A slip of more letters is shown by `check`, which has lines for it.
const LONGEST_SLIP: usize = 72;

/// The failure with everything that is wrong with these volumes, and the slip that asks for it.
pub fn with_all_that_is_wrong(failure: Failure, set: &VolumeSet, arguments: &OpenArguments) -> Failure {
    if ![MISSING, DAMAGED].contains(&failure.exit_code()) {
        return failure;
    }
    let progress = ProgressLine::for_reading(Some(set.geometry.data_volumes), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    // A piece may begin like the volume that was cut.
    if let [only] = set.paths().as_slice()
        && let Some(command) = joining(only, &context)
    {
        let sentence = "It looks like one of several pieces of a file. Join them first with".to_owned();
        return Failure::WithWayOut { why: Box::new(failure), sentence, command: Some(command) };
    }
    // Whoever has waited long enough, or a disk that gives nothing back, hears of the first.
    let Ok(found) = inspect(set, &context) else { return failure };
    drop(progress);
    let told = told_by(&failure);
    let other =
        |state| -> Vec<u32> { found.numbers(state).into_iter().filter(|number| !told.contains(number)).collect() };
    let (missing, damaged) = (other(VolumeState::Missing), other(VolumeState::Damaged));
    let also = numbers_with_words(
        "volume",
        &[(&missing, "is missing too", "are missing too"), (&damaged, "is damaged too", "are damaged too")],
    );
    let slip = Slip::of(set, &found).map(|slip| slip.code());
    if also.is_empty() && slip.is_none() {
        return failure;
    }
    Failure::NotWhole {
        why: Box::new(failure),
        also: capitalized(&also),
        slip: slip.map(|slip| Some(slip).filter(|slip| slip.len() <= LONGEST_SLIP)),
    }
}

/// The volumes that a failure names.
fn told_by(failure: &Failure) -> Vec<u32> {
    let of_cell = |error: &CellError| match error {
        CellError::Missing(number) | CellError::Disputed(number) => vec![*number],
        CellError::Damaged { volume, .. } | CellError::BeyondSpares { volume, .. } => vec![*volume],
        CellError::Interrupted(_) => Vec::new(),
    };
    let of_archive = |error: &ArchiveError| match error {
        ArchiveError::Sealed(SealedError::Stream(StreamError::Cell(error))) => of_cell(error),
        _ => Vec::new(),
    };
    match failure {
        Failure::Core(Error::Gather(GatherError::Incomplete { missing, .. })) => missing.clone(),
        Failure::Core(Error::Open(OpenError::Stopped(stopped))) => match &stopped.why {
            StopReason::Archive(error) => of_archive(error),
            StopReason::Landing(_) => Vec::new(),
        },
        Failure::Core(Error::Open(OpenError::Unreadable(error)) | Error::Archive(error)) => of_archive(error),
        Failure::Core(Error::Sealed(SealedError::Stream(StreamError::Cell(error)))) => of_cell(error),
        _ => Vec::new(),
    }
}
