//! A new archive from the contents of another: one thread extracts while others compress and write, and nothing of it goes to disk in
//! between.

use super::PackError;
use crate::formats::error::ArchiveError;
use crate::formats::holes_ahead::{HolesAhead, holes_ahead};
use crate::formats::reader::ArchiveReader;
use crate::formats::registry::Format;
use crate::formats::sealed::further_names::{can_be_recorded, has_room};
use crate::ground::context::Context;
use crate::ground::entry::{Entry, EntryKind, EntryPath};
use crate::source::piped::{Pipe, pipe};
use crate::source::{Catalogue, Origin};
use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

/// Extracts the files that a catalogue has of an archive into a pipe, while `write` reads from it.
///
/// # Errors
/// What the archive comes upon, else what `write` does.
pub(super) fn extracting<T>(
    archive: &mut dyn ArchiveReader,
    catalogue: &Catalogue,
    format: &Format,
    context: &Context<'_>,
    write: impl FnOnce(&Pipe) -> Result<T, PackError>,
) -> Result<T, PackError> {
    let old_entries = archive.entries()?;
    let (mut wanted, mut places) = (Vec::new(), HashMap::<EntryPath, usize>::new());
    for (place, entry) in catalogue.entries.iter().enumerate().filter(|(_, entry)| entry.kind == EntryKind::File) {
        if let Origin::Archive(old) = entry.origin
            && let Some(listed) = old_entries.get(old)
        {
            wanted.push(old);
            places.insert(listed.entry.path.clone(), place);
        }
    }
    wanted.sort_unstable();
    let place_of = |entry: &Entry| places.get(&entry.path).copied();
    let further = AtomicUsize::new(0);
    let path_of = |entry: &Entry| Some(&catalogue.entries.get(place_of(entry)?)?.path);
    // Whoever is told of a further name has to take it: its content does not come any more.
    let takes_further = |entry: &Entry, of: &Entry| match (path_of(entry), path_of(of)) {
        (Some(path), Some(owner)) if format.abilities.hard_links => {
            let has_room = has_room(further.load(Ordering::Relaxed)) || !format.abilities.volumes;
            let takes = has_room && can_be_recorded(path, owner);
            further.fetch_add(takes.into(), Ordering::Relaxed);
            takes
        }
        _ => false,
    };
    let ahead = if format.tells_holes_ahead() { holes_ahead(archive, &wanted, context)? } else { HolesAhead::new() };
    let holes = ahead.into_iter().filter_map(|(path, holes)| Some((*places.get(&path)?, holes))).collect();
    let (mut sink, pipe) = pipe(&place_of, &takes_further, holes);
    // Whoever writes tells how far the work is.
    let quiet = context.unwatched();
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
