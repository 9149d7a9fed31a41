//! Files that are complete and wait for the disk together: then each gets its name, without replacing anything that is not to be replaced.

use super::{Landing, Waiting};
use crate::disk::{FileError, Folder, NewFile, ToSync, sync_all};

/// So many files, or so many bytes of them, wait for the disk together at the most. They are open as long as they wait.
const WAITING_FILES: usize = 128;
const WAITING_BYTES: u64 = 512 * 1024 * 1024;

impl Landing {
    pub(super) fn has_many_waiting(&self) -> bool {
        self.waiting.len() >= WAITING_FILES || self.waiting_bytes >= WAITING_BYTES
    }

    /// Waits for the disk, then gives every waiting file its name, the first first. Where the disk does not hold them,
    /// none gets a name any more.
    pub(super) fn name_waiting(&mut self) -> Result<(), FileError> {
        if let Err(error) = self.sync_waiting() {
            self.remove_waiting();
            return Err(error);
        }
        self.waiting_bytes = 0;
        self.waiting.reverse();
        while !self.waiting.is_empty() {
            self.name_last()?;
        }
        Ok(())
    }

    /// Waits until the disk holds every waiting file, and closes them.
    fn sync_waiting(&mut self) -> Result<(), FileError> {
        let files: Vec<NewFile> = self.waiting.iter_mut().filter_map(|waiting| waiting.file.take()).collect();
        let mut files = files.into_iter();
        sync_all(files.len(), || files.next().map(|file| Ok(ToSync::File(file))))
    }

    /// Names the last file of the waiting list, where it stays if that fails.
    fn name_last(&mut self) -> Result<(), FileError> {
        let Some(path) = self.waiting.last().map(|file| file.path.clone()) else { return Ok(()) };
        let (place, _) = self.place_of(&path)?;
        let Some(file) = self.waiting.pop() else { return Ok(()) };
        let named = self.name_from(&place, &file);
        if named.is_err() {
            self.waiting.push(file);
        }
        named
    }

    /// Gives a file of a folder its name.
    pub(super) fn name_from(&mut self, from: &Folder, file: &Waiting) -> Result<(), FileError> {
        let (place, name) = self.place_of(&file.path)?;
        if file.replaces {
            self.clear_tree(&file.path, &place, &name)?;
            from.replace(&file.temporary, &place, &name)?;
            self.landed.replaced += 1;
        } else {
            // Before others can reach it: one of them may put something else in its place.
            let number = from.number_of(&file.temporary)?;
            from.publish(&file.temporary, &place, &name)?;
            self.landed_files.insert(file.id, (number, file.bytes));
        }
        self.touch(&file.path);
        self.landed.files += 1;
        self.landed.bytes += file.bytes;
        Ok(())
    }

    pub(super) fn remove_waiting(&mut self) {
        for file in std::mem::take(&mut self.waiting) {
            self.remove(&file);
        }
    }

    fn remove(&mut self, file: &Waiting) {
        let removed = self.place_of(&file.path).and_then(|(place, _)| place.remove_file(&file.temporary));
        self.litter |= removed.is_err();
    }
}
