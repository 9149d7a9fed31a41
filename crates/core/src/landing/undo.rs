//! Taking back: where an extraction stops on the way, what it has brought goes again, so that no half of an archive
//! passes for a whole one.
//!
//! Only what is surely this run's goes: files of the length and time that they were given, links, and folders in which
//! nothing is left. What took the place of something else stays, since that is gone.

use super::Landing;
use crate::entry::{EntryKind, ListedEntry};
use crate::place::FileError;
use std::collections::HashSet;

impl Landing {
    /// Takes back what has landed, or was complete and waited for its name; how many files went. What cannot be taken back stays.
    pub(super) fn take_back(&mut self, entries: &[ListedEntry]) -> u64 {
        let mut removed = self.waiting.len() as u64;
        self.remove_arriving();
        self.remove_waiting();
        // What is left of them in the end gets its modes once more.
        self.settled = false;
        let ids: HashSet<u64> = std::mem::take(&mut self.landed_ids).into_iter().collect();
        for (path, _, modified) in self.made_folders.clone() {
            // Some may have got modes already with which nothing in them can be removed.
            let opened = self.open(path.as_bytes());
            let _ = opened.and_then(|place| place.set_mode_and_time(0o700, modified));
        }
        for listed in entries.iter().filter(|listed| ids.contains(&listed.entry.id)) {
            let gone = self.take_back_one(listed).unwrap_or(false);
            match (gone, listed.entry.kind) {
                (true, EntryKind::File) => {
                    removed += 1;
                    self.landed.files -= 1;
                    self.landed.bytes -= listed.content.size;
                }
                (true, EntryKind::Link) => self.landed.links -= 1,
                _ => {}
            }
        }
        self.way.1.clear();
        self.take_back_folders();
        self.landed.beside.clear();
        removed
    }

    fn take_back_one(&mut self, listed: &ListedEntry) -> Result<bool, FileError> {
        let Some((path, _)) = self.place_for(&listed.entry) else { return Ok(false) };
        let (place, name) = self.place_of(&path)?;
        let is_ours = match (place.kind_of(&name)?, listed.entry.kind) {
            (Some(kind), EntryKind::Link) => kind.is_symlink(),
            (Some(kind), EntryKind::File) => {
                let as_given = (listed.content.size, listed.entry.modified);
                kind.is_file() && place.size_and_time_of(&name)? == as_given
            }
            _ => false,
        };
        if is_ours {
            place.remove_file(&name)?;
        }
        Ok(is_ours)
    }

    /// Folders that are empty go, the deepest first; the others get their modes and times as ever.
    fn take_back_folders(&mut self) {
        let mut made = std::mem::take(&mut self.made_folders);
        made.sort_by(|one, other| other.0.cmp(&one.0));
        for folder in made {
            let removed = self.place_of(&folder.0).and_then(|(place, name)| place.remove_subfolder(&name));
            match removed {
                Ok(()) => self.landed.folders -= 1,
                Err(_) => self.made_folders.push(folder),
            }
            self.way.1.clear();
        }
    }
}
