//! Verifying an unlocked archive to the last byte, without writing anything.

use crate::formats::sealed::{ExtractError, SealedError, SealedReader, Totals};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{Content, Entry, OnlyEnds};

/// Reads every byte of the stream: compares every cell's check, authenticates the cell, decompresses every frame,
/// compares every record with the index and every file's digest. Counts what was verified.
///
/// # Errors
/// [`SealedError`], the first thing that is not right.
pub fn verify_contents(archive: &mut SealedReader, context: &Context<'_>) -> Result<Totals, SealedError> {
    context.tell(Progress::Begin(Phase::Verifying, archive.totals().content_bytes));
    archive.compare_checks();
    let mut verified = Totals::default();
    // The reader itself does all comparing.
    let mut count = OnlyEnds::telling(|entry: &Entry, content: &Content| verified.add(entry.kind, content.size));
    let outcome = archive.extract(&mut count, context);
    context.tell(Progress::End);
    match outcome {
        Ok(()) => Ok(verified),
        Err(ExtractError::Archive(error)) => Err(error),
        Err(ExtractError::Sink(never)) => match never {},
    }
}
