//! What takes the place of something of another kind: a folder that of a file or link, and a file or link that of a folder. That happens
//! only where the earlier state of the same archive left what is there, or where somebody wishes files to be replaced.

use super::Landing;
use super::clash::{Resolution, TreeMark};
use crate::disk::{FileAction, FileError, Folder, NEW_FOLDER_MODE};
use crate::ground::entry::EntryPath;
use std::ffi::{OsStr, OsString};
use std::io;

/// The mark of a folder as it is now; links are not followed.
pub(super) fn tree_mark(above: &Folder, name: &OsStr) -> Result<TreeMark, FileError> {
    let mut mark = blake3::Hasher::new();
    add(&above.subfolder(name)?, &mut mark)?;
    Ok(*mark.finalize().as_bytes())
}

fn add(folder: &Folder, mark: &mut blake3::Hasher) -> Result<(), FileError> {
    let mut names = folder.names()?;
    names.sort();
    for name in names {
        let kind = folder.kind_of(&name)?;
        let is_folder = kind.is_some_and(|kind| kind.is_dir());
        mark.update(name.as_encoded_bytes()).update(&[0, u8::from(is_folder)]);
        if is_folder {
            add(&folder.subfolder(&name)?, mark)?;
        } else {
            let (bytes, modified) = folder.size_and_time_of(&name)?;
            mark.update(&bytes.to_le_bytes());
            mark.update(&modified.seconds.to_le_bytes()).update(&modified.nanoseconds.to_le_bytes());
        }
        // No name has this in it, so it ends the folder, or the file.
        mark.update(b"/");
    }
    Ok(())
}

/// Lets a folder and everything in it be removed, whatever their modes.
fn open_up(above: &Folder, name: &OsStr) -> Result<(), FileError> {
    let (_, modified) = above.size_and_time_of(name)?;
    let folder = above.subfolder(name)?;
    folder.set_mode_and_time(NEW_FOLDER_MODE, modified)?;
    for name in folder.names()? {
        if folder.kind_of(&name)?.is_some_and(|kind| kind.is_dir()) {
            open_up(&folder, &name)?;
        }
    }
    Ok(())
}

impl Landing {
    /// Whether a folder is to take the place of the file or link that is there; that is gone then.
    pub(super) fn clears_for_folder(
        &mut self,
        path: &EntryPath,
        place: &Folder,
        name: &OsStr,
    ) -> Result<bool, FileError> {
        let gives_way = self.resolutions.get(path) == Some(&Resolution::Replace)
            && place.kind_of(name)?.is_some_and(|kind| kind.is_file() || kind.is_symlink());
        if gives_way {
            place.remove_file(name)?;
            self.landed.replaced += 1;
        }
        Ok(gives_way)
    }

    /// Clears a folder out of the way of a file or link, where that is to be and nothing in it has changed since it was looked at.
    pub(super) fn clear_tree(&mut self, path: &EntryPath, place: &Folder, name: &OsStr) -> Result<(), FileError> {
        let Some(Resolution::ReplaceTree(seen)) = self.resolutions.get(path) else { return Ok(()) };
        let seen = *seen;
        let aside = self.set_aside(path, place, name)?;
        if tree_mark(place, &aside)? != seen {
            place.publish(&aside, place, name)?;
            let changed = FileError::on(FileAction::Rename, place.path().join(name));
            return Err(changed(io::ErrorKind::AlreadyExists.into()));
        }
        open_up(place, &aside)?;
        place.remove_tree(&aside)
    }

    /// Gives a folder a name by which the next run clears it away, if this one is killed now.
    fn set_aside(&mut self, path: &EntryPath, place: &Folder, name: &OsStr) -> Result<OsString, FileError> {
        self.arrivals += 1;
        let folder = path.parent_and_name().0.unwrap_or_default();
        let Some(marker) = &mut self.marker else { return Ok(name.to_owned()) };
        let aside = marker.temporary(folder, self.arrivals)?;
        place.publish(name, place, &aside)?;
        Ok(aside)
    }
}
