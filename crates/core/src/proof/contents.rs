//! Verifying an unlocked archive to the last byte, without writing anything.

use crate::context::{Context, Phase, Progress};
use crate::entry::{Content, Entry, EntrySink};
use crate::sealed::{ExtractError, SealedError, SealedReader};
use std::convert::Infallible;

/// Reads every byte of the stream: authenticates every cell, decompresses every frame, compares every
/// record with the index and every file's digest.
///
/// # Errors
/// [`SealedError`], the first thing that is not right.
pub fn verify_contents(archive: &mut SealedReader, context: &Context<'_>) -> Result<(), SealedError> {
    context.tell(Progress::Begin(Phase::Verifying, archive.totals().content_bytes));
    let outcome = archive.extract(&mut Nowhere, context);
    context.tell(Progress::End);
    outcome.map_err(|error| match error {
        ExtractError::Archive(error) => error,
        ExtractError::Sink(never) => match never {},
    })
}

/// A sink that keeps nothing: the reader itself does all comparing.
struct Nowhere;

impl EntrySink for Nowhere {
    type Error = Infallible;

    fn begin(&mut self, _: &Entry) -> Result<(), Infallible> {
        Ok(())
    }

    fn content(&mut self, _: &[u8]) -> Result<(), Infallible> {
        Ok(())
    }

    fn end(&mut self, _: &Entry, _: &Content) -> Result<(), Infallible> {
        Ok(())
    }
}
