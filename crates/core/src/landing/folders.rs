//! The folders of a landing: opened component by component, made where they are missing, and given their modes and times when
//! everything is in them.

use super::Landing;
use super::clash::Resolution;
use super::made_folder::{MadeFolder, RESTORED_MODE};
use crate::disk::names::name_of;
use crate::disk::{FileError, Folder, NEW_FOLDER_MODE, ToSync, sync_all};
use crate::ground::entry::{Entry, EntryPath, is_at_or_above};
use std::ffi::OsString;
use std::rc::Rc;

impl Landing {
    /// Opens a folder of the tree, component by component, never through a link, making what is missing.
    pub(super) fn open(&mut self, path: &[u8]) -> Result<Rc<Folder>, FileError> {
        let (reached, open) = &mut self.way;
        while open.last().is_some_and(|(length, _)| !is_at_or_above(&reached[..*length], path)) {
            open.pop();
        }
        reached.clear();
        reached.extend_from_slice(path);
        let mut done = open.last().map_or(0, |(length, _)| *length);
        let mut place = open.last().map_or_else(|| Rc::clone(&self.root), |(_, place)| Rc::clone(place));
        while done < path.len() {
            let from = if done == 0 { 0 } else { done + 1 };
            done = path[from..].iter().position(|byte| *byte == b'/').map_or(path.len(), |length| from + length);
            let name = &name_of(&path[from..done]);
            let folder = match place.kind_of(name)? {
                Some(_) => place.subfolder(name)?,
                None => place.create_subfolder(name)?,
            };
            place = Rc::new(folder);
            open.push((done, Rc::clone(&place)));
        }
        Ok(place)
    }

    pub(super) fn place_of(&mut self, path: &EntryPath) -> Result<(Rc<Folder>, OsString), FileError> {
        let (parent, name) = path.parent_and_name();
        let name = name_of(name);
        let place = match parent {
            Some(parent) => self.open(parent)?,
            None => Rc::clone(&self.root),
        };
        Ok((place, name))
    }

    pub(super) fn make_folder(&mut self, entry: &Entry) -> Result<(), FileError> {
        if !self.lands(entry) {
            return Ok(());
        }
        let made = MadeFolder::of(entry);
        let (parent, name) = self.place_of(&entry.path)?;
        if self.clears_for_folder(&entry.path, &parent, &name)? || parent.kind_of(&name)?.is_none() {
            if let Some(marker) = &mut self.marker {
                marker.note_folder(&made)?;
            }
            parent.create_subfolder(&name)?;
        } else if self.left_folders.contains(&entry.path) {
            // It has its mode already, with which nothing may be able to land in it.
            parent.subfolder(&name)?.set_mode_and_time(NEW_FOLDER_MODE, entry.modified)?;
        } else {
            if self.resolutions.get(&entry.path) == Some(&Resolution::Again) {
                self.meet_folder(made, &parent.subfolder(&name)?)?;
            }
            return Ok(());
        }
        self.made_folders.push(made);
        self.touch(&entry.path);
        self.touched.insert(entry.path.as_bytes().to_vec());
        self.landed.folders += 1;
        Ok(())
    }

    /// A folder that is there takes more, whatever its mode, if it is this user's.
    fn meet_folder(&mut self, met: MadeFolder, folder: &Folder) -> Result<(), FileError> {
        if let Some(marker) = &mut self.marker {
            marker.note_met(&met)?;
        }
        if folder.set_mode_and_time(met.mode_meanwhile(), met.modified).is_ok() {
            self.met_folders.push(met);
        }
        Ok(())
    }

    /// Gives the folders that were made, or met, their modes and times, the deepest first, and waits until the disk holds them with
    /// their lists of names.
    pub(super) fn settle_folders(&mut self) -> Result<(), FileError> {
        // From the top down once more: a folder that was swapped for something else meanwhile is noticed.
        self.way.1.clear();
        let mut made = [self.made_folders.as_slice(), &self.met_folders].concat();
        made.sort_by(|one, other| other.path.cmp(&one.path));
        let mut made = made.into_iter();
        sync_all(made.len(), || {
            let MadeFolder { path, mode, modified } = made.next()?;
            self.touched.remove(path.as_bytes());
            let settled = self.open(path.as_bytes()).and_then(|place| {
                let open = place.opened()?;
                open.set_mode_and_time(mode & RESTORED_MODE, modified)?;
                Ok(ToSync::Folder(open))
            });
            Some(settled)
        })?;
        self.settled = true;
        Ok(())
    }

    /// Waits until the disk holds the lists of names of the other folders that were changed, which were there before.
    pub(super) fn sync_folders(&mut self) -> Result<(), FileError> {
        let mut paths: Vec<Vec<u8>> = std::mem::take(&mut self.touched).into_iter().collect();
        // In the order of a walk, so that each folder is opened once.
        paths.sort_unstable();
        let mut paths = paths.into_iter();
        sync_all(paths.len(), || {
            loop {
                let path = paths.next()?;
                let place = if path.is_empty() { Ok(Rc::clone(&self.root)) } else { self.open(&path) };
                match place.and_then(|place| place.opened()) {
                    // Whoever may write into a folder and not read it cannot wait for it either.
                    Err(error) if error.source.kind() == std::io::ErrorKind::PermissionDenied => {}
                    folder => return Some(folder.map(ToSync::Folder)),
                }
            }
        })
    }

    /// Something was made or named at this path, so that the folder's list of names has changed.
    pub(super) fn touch(&mut self, path: &EntryPath) {
        let folder = path.parent_and_name().0.unwrap_or_default();
        if !self.touched.contains(folder) {
            self.touched.insert(folder.to_vec());
        }
    }
}
