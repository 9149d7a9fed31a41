//! What is not finished has a temporary name: it gets its own when it is complete and on the disk, and is gone otherwise.

use super::{FileError, Folder, Interruption, NewFile, temporary_name};
use crate::ground::context::Context;
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

/// A file or folder under a temporary name, which goes when this is dropped, unless it was published.
pub struct Unfinished<'a> {
    folder: &'a Folder,
    name: OsString,
    is_folder: bool,
    published: bool,
}

impl<'a> Unfinished<'a> {
    /// A new file in a folder, under a name that begins so.
    pub fn file(
        folder: &'a Folder,
        prefix: &str,
        mode: u32,
        context: &Context<'_>,
    ) -> Result<(Self, NewFile), Interruption> {
        Self::file_named(folder, temporary_name(prefix, context)?, mode)
    }

    /// A new file in a folder, under this name.
    pub fn file_named(folder: &'a Folder, name: OsString, mode: u32) -> Result<(Self, NewFile), Interruption> {
        let file = folder.create_file(&name, mode)?;
        Ok((Self { folder, name, is_folder: false, published: false }, file))
    }

    /// A new folder in a folder, under a name that begins so; only the user may enter it.
    pub fn folder(folder: &'a Folder, prefix: &str, context: &Context<'_>) -> Result<(Self, Folder), Interruption> {
        let name = temporary_name(prefix, context)?;
        let inside = folder.create_subfolder(&name)?;
        Ok((Self { folder, name, is_folder: true, published: false }, inside))
    }

    /// Where it is.
    pub fn path(&self) -> PathBuf {
        self.folder.path().join(Path::new(&self.name))
    }

    /// Gives it its name, which nothing may have, and waits until the disk holds that. A name that the disk may not hold is taken
    /// back.
    pub fn publish(mut self, name: &OsStr) -> Result<(), FileError> {
        self.folder.publish(&self.name, self.folder, name)?;
        self.published = true;
        self.folder.sync().inspect_err(|_| self.remove(name))
    }

    /// That it cannot be removed is told to nobody: what came first is.
    fn remove(&self, name: &OsStr) {
        let _ = if self.is_folder { self.folder.remove_tree(name) } else { self.folder.remove_file(name) };
    }
}

impl Drop for Unfinished<'_> {
    fn drop(&mut self) {
        if !self.published {
            self.remove(&self.name);
        }
    }
}
