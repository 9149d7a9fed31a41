//! Verifying an unlocked archive to the last byte, without writing anything.

use crate::context::{Context, Phase, Progress};
use crate::entry::{Content, Entry, EntrySink};
use crate::sealed::{ExtractError, SealedError, SealedReader, Totals};
use std::convert::Infallible;

/// Reads every byte of the stream: compares every cell's check, authenticates the cell, decompresses every frame,
/// compares every record with the index and every file's digest. Counts what was verified.
///
/// # Errors
/// [`SealedError`], the first thing that is not right.
pub fn verify_contents(archive: &mut SealedReader, context: &Context<'_>) -> Result<Totals, SealedError> {
    context.tell(Progress::Begin(Phase::Verifying, archive.totals().content_bytes));
    archive.compare_checks();
    let mut verified = Counting(Totals::default());
    let outcome = archive.extract(&mut verified, context);
    context.tell(Progress::End);
    match outcome {
        Ok(()) => Ok(verified.0),
        Err(ExtractError::Archive(error)) => Err(error),
        Err(ExtractError::Sink(never)) => match never {},
    }
}

/// A sink that keeps nothing but the count: the reader itself does all comparing.
struct Counting(Totals);

impl EntrySink for Counting {
    type Error = Infallible;

    fn begin(&mut self, _: &Entry) -> Result<(), Infallible> {
        Ok(())
    }

    fn content(&mut self, _: &[u8]) -> Result<(), Infallible> {
        Ok(())
    }

    fn end(&mut self, entry: &Entry, content: &Content) -> Result<(), Infallible> {
        self.0.add(entry.kind, content.size);
        Ok(())
    }
}
