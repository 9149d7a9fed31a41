//! Further names: what shares its content with another file becomes a hard link to it, when that has its own name. On a file system that
//! has none it becomes a copy.

use super::made_folder::RESTORED_MODE;
use super::{FurtherName, Landing, LandingError, Waiting};
use crate::disk::FileError;
use crate::ground::entry::{Content, Entry};

impl Landing {
    /// A further name of a file that has ended: whether that lands too, so that there is something to be named.
    ///
    /// # Errors
    /// [`LandingError`].
    pub fn further_name(&mut self, entry: &Entry, of: &Entry, content: &Content) -> Result<bool, LandingError> {
        if self.place_for(of).is_none() {
            return Ok(false);
        }
        if self.lands(entry) {
            self.further.push(FurtherName { entry: entry.clone(), of: of.clone(), content: *content });
        }
        if let Some(contents) = &mut self.closed {
            contents.insert(entry.id, *content);
        }
        Ok(true)
    }

    /// Makes them all, once every file has its own name.
    pub(super) fn name_further(&mut self) -> Result<(), FileError> {
        for name in std::mem::take(&mut self.further) {
            self.name_one_further(&name)?;
        }
        // Those that became copies.
        self.name_waiting()
    }

    fn name_one_further(&mut self, FurtherName { entry, of, content }: &FurtherName) -> Result<(), FileError> {
        let (Some((path, replaces)), Some((of_path, _))) = (self.place_for(entry), self.place_for(of)) else {
            return Ok(());
        };
        let (from, of_name) = self.place_of(&of_path)?;
        let (place, _) = self.place_of(&path)?;
        self.arrivals += 1;
        let folder = path.parent_and_name().0.unwrap_or_default();
        let Some(marker) = &mut self.marker else { return Ok(()) };
        let temporary = marker.temporary(folder, self.arrivals)?;
        if !from.add_name(&of_name, &place, &temporary)? {
            let mut file = place.create_file(&temporary, 0o600)?;
            let copied = from.read_file(&of_name, |bytes| file.write(bytes));
            if let Err(error) = copied.and_then(|()| file.set_mode_and_time(entry.mode & RESTORED_MODE, of.modified)) {
                self.litter |= place.remove_file(&temporary).is_err();
                return Err(error);
            }
            let (id, bytes, file) = (entry.id, content.size, Some(file));
            self.waiting.push(Waiting { id, path, replaces, temporary, bytes, file });
            return if self.has_many_waiting() { self.name_waiting() } else { Ok(()) };
        }
        let linked = Waiting { id: entry.id, path, replaces, temporary, bytes: 0, file: None };
        if let Err(error) = self.name_from(&place, &linked) {
            self.litter |= place.remove_file(&linked.temporary).is_err();
            return Err(error);
        }
        self.landed.further_names += 1;
        Ok(())
    }
}
