//! Taking back: where an extraction stops on the way, what it has brought goes again, so that no half of an archive
//! passes for a whole one.
//!
//! Only what is surely this run's goes: files of the length and time that they were given, links, each still the
//! one that it has made, and folders in which nothing is left. What took the place of something else stays, since that is gone.

use super::Landing;
use super::made_folder::MadeFolder;
use crate::disk::{FileError, NEW_FOLDER_MODE};
use crate::ground::entry::{EntryKind, ListedEntry};

impl Landing {
    /// Takes back what has landed, or was complete and waited for its name; how many files went. What cannot be taken back stays.
    pub(super) fn take_back(&mut self, entries: &[ListedEntry]) -> u64 {
        let mut removed = self.waiting.len() as u64;
        self.remove_arriving();
        self.remove_waiting();
        // What is left of them in the end gets its modes once more.
        self.settled = false;
        let landed = std::mem::take(&mut self.landed_files);
        for MadeFolder { path, modified, .. } in self.made_folders.clone() {
            // Some may have got modes already with which nothing in them can be removed.
            let opened = self.open(path.as_bytes());
            let _ = opened.and_then(|place| place.set_mode_and_time(NEW_FOLDER_MODE, modified));
        }
        for listed in entries {
            let Some((number, bytes)) = landed.get(&listed.entry.id) else { continue };
            let gone = self.take_back_one(listed, *number).unwrap_or(false);
            match (gone, listed.entry.kind) {
                (true, EntryKind::File) => {
                    removed += 1;
                    self.landed.files -= 1;
                    self.landed.bytes -= bytes;
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

    fn take_back_one(&mut self, listed: &ListedEntry, number: u64) -> Result<bool, FileError> {
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
        // Another run may have put the same thing in its place.
        let is_ours = is_ours && place.number_of(&name)? == number;
        if is_ours {
            place.remove_file(&name)?;
        }
        Ok(is_ours)
    }

    /// Folders that are empty go, the deepest first; the others get their modes and times as ever. Where another run has been at
    /// work here, they all stay: it may have found them there.
    fn take_back_folders(&mut self) {
        if self.has_met_another() {
            return;
        }
        let mut made = std::mem::take(&mut self.made_folders);
        made.sort_by(|one, other| other.path.cmp(&one.path));
        let mut gone = Vec::new();
        for folder in made {
            let removed = self.place_of(&folder.path).and_then(|(place, name)| place.remove_subfolder(&name));
            match removed {
                Ok(()) => gone.push(folder),
                Err(_) => self.made_folders.push(folder),
            }
            self.way.1.clear();
        }
        self.landed.folders -= gone.len() as u64;
        // It may have begun meanwhile, and found them before they went.
        if self.has_met_another() {
            gone.iter().rev().for_each(|folder| drop(self.put_back(folder)));
        }
    }

    fn put_back(&mut self, folder: &MadeFolder) -> Result<(), FileError> {
        let (place, name) = self.place_of(&folder.path)?;
        place.create_subfolder(&name)?;
        self.made_folders.push(folder.clone());
        self.landed.folders += 1;
        Ok(())
    }

    fn has_met_another(&self) -> bool {
        self.marker.as_ref().is_some_and(|marker| marker.has_met_another(&self.root))
    }
}
