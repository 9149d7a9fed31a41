//! Verifying an unlocked archive to the last byte, without writing anything.

use crate::formats::error::ArchiveError;
use crate::formats::reader::ArchiveReader;
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{Content, Entry, Totals};
use crate::ground::sink::OnlyEnds;

/// Reads every byte of the archive. Of a sealed one: compares every cell's check, authenticates the cell, decompresses every frame,
/// compares every record with the index and every file's digest. Counts what was verified.
///
/// # Errors
/// [`ArchiveError`], the first thing that is not right.
pub fn verify_contents(archive: &mut dyn ArchiveReader, context: &Context<'_>) -> Result<Totals, ArchiveError> {
    context.tell(Progress::Begin(Phase::Verifying, archive.totals().content_bytes));
    archive.compare_checks();
    let mut verified = Totals::default();
    // The reader itself does all comparing.
    let mut count = OnlyEnds::telling(|entry: &Entry, content: &Content| verified.add(entry.kind, content.own_bytes()));
    let outcome = archive.extract(&mut count, context);
    context.tell(Progress::End);
    outcome.map(|()| verified)
}
