//! Where an archive's files have holes, known before any content comes out: for whoever writes a format that tells all holes of a file
//! before its first byte. It costs one more reading of what is stored of those files, and of no others.

use super::error::ArchiveError;
use super::reader::ArchiveReader;
use crate::ground::context::{Cancelled, Context};
use crate::ground::entry::{Content, Entry, EntryPath};
use crate::ground::holes::{Hole, MOST_HOLES};
use crate::ground::sink::EntrySink;
use std::collections::HashMap;

/// The holes of files, by path in the archive. Of a file with more than [`MOST_HOLES`] those behind are not told: they count as content.
pub type HolesAhead = HashMap<EntryPath, Vec<Hole>>;

/// The holes of those of the wanted entries that have any.
///
/// # Errors
/// [`ArchiveError`] where one of them cannot be read.
pub fn holes_ahead(
    archive: &mut dyn ArchiveReader,
    wanted: &[usize],
    context: &Context<'_>,
) -> Result<HolesAhead, ArchiveError> {
    let entries = archive.listing();
    let mut with_holes = Vec::new();
    for place in wanted.iter().filter(|place| **place < entries.len()) {
        if entries.at(*place)?.content.holes > 0 {
            with_holes.push(*place);
        }
    }
    let mut noting = Noting::default();
    if !with_holes.is_empty() {
        archive.extract_some(&with_holes, &mut noting, &context.unwatched())?;
    }
    Ok(noting.found)
}

/// Notes where holes are, and keeps no content.
#[derive(Default)]
struct Noting {
    found: HolesAhead,
    holes: HolesSoFar,
}

/// Where the holes are of a content that comes by.
#[derive(Debug, Default)]
pub struct HolesSoFar {
    at: u64,
    holes: Vec<Hole>,
}

impl HolesSoFar {
    /// So many bytes that are stored.
    pub fn stored(&mut self, bytes: u64) {
        self.at = self.at.saturating_add(bytes);
    }

    /// So many that are not, which may be a part of a hole; whether it is one that is told.
    pub fn hole(&mut self, bytes: u64) -> bool {
        let at = self.at;
        self.at = at.saturating_add(bytes);
        let has_room = self.holes.len() < MOST_HOLES;
        match self.holes.last_mut() {
            Some(last) if last.end() == at => last.bytes = last.bytes.saturating_add(bytes),
            _ if has_room => self.holes.push(Hole { at, bytes }),
            _ => return false,
        }
        true
    }

    /// Those of a content that is complete; the next one begins.
    pub fn take(&mut self) -> Vec<Hole> {
        std::mem::take(self).holes
    }
}

impl EntrySink for Noting {
    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        self.holes.stored(bytes.len() as u64);
        Ok(())
    }

    fn hole(&mut self, bytes: u64) -> Result<(), Cancelled> {
        self.holes.hole(bytes);
        Ok(())
    }

    fn further_name(&mut self, entry: &Entry, of: &Entry, _: &Content) -> Result<bool, Cancelled> {
        if let Some(holes) = self.found.get(&of.path).cloned() {
            self.found.insert(entry.path.clone(), holes);
        }
        Ok(true)
    }

    fn end(&mut self, entry: &Entry, _: &Content) -> Result<(), Cancelled> {
        self.found.insert(entry.path.clone(), self.holes.take());
        Ok(())
    }
}
