//! A new archive from the contents of another: one thread extracts while others compress and write, and nothing of it goes to disk in
//! between.

use super::PackError;
use crate::formats::error::ArchiveError;
use crate::formats::reader::ArchiveReader;
use crate::ground::context::{Context, Observer, Progress};
use crate::ground::entry::{Entry, EntryKind, EntryPath};
use crate::source::piped::{Pipe, pipe};
use crate::source::{Catalogue, Origin};
use std::collections::HashMap;
use std::thread;

/// Whoever writes tells how far the work is.
struct Silent;

impl Observer for Silent {
    fn told(&self, _: Progress<'_>) {}
}

/// Extracts the files that a catalogue has of an archive into a pipe, while `write` reads from it.
///
/// # Errors
/// What the archive comes upon, else what `write` does.
pub(super) fn extracting<T>(
    archive: &mut dyn ArchiveReader,
    catalogue: &Catalogue,
    context: &Context<'_>,
    write: impl FnOnce(&Pipe) -> Result<T, PackError>,
) -> Result<T, PackError> {
    let (mut wanted, mut places) = (Vec::new(), HashMap::<EntryPath, usize>::new());
    for (place, entry) in catalogue.entries.iter().enumerate().filter(|(_, entry)| entry.kind == EntryKind::File) {
        if let Origin::Archive(old) = entry.origin
            && let Some(listed) = archive.entries().get(old)
        {
            wanted.push(old);
            places.insert(listed.entry.path.clone(), place);
        }
    }
    wanted.sort_unstable();
    let place_of = |entry: &Entry| places.get(&entry.path).copied();
    let (mut sink, pipe) = pipe(&place_of);
    let quiet = Context { observer: &Silent, ..*context };
    thread::scope(|scope| {
        let extraction = move || -> Result<(), ArchiveError> {
            archive.extract_some(&wanted, &mut sink, &quiet)?;
            Ok(sink.finish()?)
        };
        let extraction = thread::Builder::new().spawn_scoped(scope, extraction).map_err(|_| PackError::Compressor)?;
        let written = write(&pipe);
        // Where writing failed, extracting is only stopped by that.
        drop(pipe);
        match (extraction.join(), written) {
            (Err(panic), _) => std::panic::resume_unwind(panic),
            (Ok(Err(error)), _) if !error.is_cancelled() => Err(error.into()),
            (_, written) => written,
        }
    })
}
