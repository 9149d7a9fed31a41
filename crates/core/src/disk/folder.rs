//! Open folders: names in them are made, found, renamed and removed without following links.

use super::copying::read_on;
use super::file::set_mode_and_time;
use super::holes::holes_of;
use super::portability::System;
use super::system::folders;
use super::terms::{NEW_FOLDER_MODE, Place};
use super::{FileAction, FileError, Interruption, NameRules, NewFile, ScratchFile, absolute, faults};
use crate::ground::context::Context;
use crate::ground::entry::Timestamp;
use crate::ground::holes::{ContentDigest, Stretch, stretches};
use cap_std::ambient_authority;
use cap_std::fs::{Dir, FileType};
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};

/// An open folder. Names given to it are single components; what they name is never reached through a
/// symbolic link, and stays right even if the folder's own path is swapped meanwhile.
#[derive(Debug)]
pub struct Folder {
    dir: Dir,
    path: PathBuf,
}

impl Folder {
    /// Opens an existing folder; links on the way are the user's own and are followed.
    pub fn open(path: &Path) -> Result<Self, FileError> {
        let shown = absolute(path);
        let dir = Dir::open_ambient_dir(path, ambient_authority()).map_err(FileError::on(FileAction::Open, &shown))?;
        Ok(Self { dir, path: shown })
    }

    /// Opens a folder, making it and those above it where they do not exist.
    pub fn open_or_create(path: &Path) -> Result<Self, FileError> {
        let shown = absolute(path);
        faults::before(FileAction::Create)
            .and_then(|()| Dir::create_ambient_dir_all(path, ambient_authority()))
            .map_err(FileError::on(FileAction::Create, &shown))?;
        Self::open(path)
    }

    /// The absolute path it was opened under.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Another handle on this folder.
    pub fn itself(&self) -> Result<Self, FileError> {
        let dir = self.dir.try_clone().map_err(FileError::on(FileAction::Open, &self.path))?;
        Ok(Self { dir, path: self.path.clone() })
    }

    fn failed(&self, action: FileAction, name: &OsStr) -> impl FnOnce(io::Error) -> FileError {
        FileError::on(action, self.path.join(name))
    }

    /// Opens a folder in this one, unless it is a link.
    pub fn subfolder(&self, name: &OsStr) -> Result<Self, FileError> {
        let dir = folders::open_subfolder(self.at(), name).map_err(self.failed(FileAction::Open, name))?;
        Ok(Self { dir, path: self.path.join(name) })
    }

    /// Makes and opens a new folder that only the user may enter, until [`Folder::set_mode_and_time`].
    ///
    /// # Errors
    /// [`FileError`] from the system; taken names included.
    pub fn create_subfolder(&self, name: &OsStr) -> Result<Self, FileError> {
        faults::before(FileAction::Create)
            .and_then(|()| self.dir.create_dir_with(name, &folders::with_mode(NEW_FOLDER_MODE)))
            .map_err(self.failed(FileAction::Create, name))?;
        self.subfolder(name)
    }

    /// Makes a new file; an existing one, or a link of that name, is an error.
    ///
    /// # Errors
    /// [`FileError`] from the system; taken names included.
    pub fn create_file(&self, name: &OsStr, mode: u32) -> Result<NewFile, FileError> {
        let file = self.create_new(name, mode)?;
        Ok(NewFile::new(file, self.path.join(name)))
    }

    /// Makes a file that has a name in this folder only for a moment.
    ///
    /// # Errors
    /// [`FileError`] from the system; taken names included.
    pub fn create_scratch(&self, name: &OsStr) -> Result<ScratchFile, FileError> {
        let file = self.create_new(name, 0o600)?;
        self.remove_file(name)?;
        Ok(ScratchFile::new(file, self.path.join(name)))
    }

    fn create_new(&self, name: &OsStr, mode: u32) -> Result<File, FileError> {
        let file = faults::before(FileAction::Create)
            .and_then(|()| self.dir.open_with(name, &folders::new_file(mode)))
            .map_err(self.failed(FileAction::Create, name))?;
        Ok(file.into_std())
    }

    /// Opens a file of this folder to change bytes in it.
    pub fn reopen_file(&self, name: &OsStr) -> Result<NewFile, FileError> {
        let file = folders::open_to_change(&self.dir, name).map_err(self.failed(FileAction::Open, name))?;
        Ok(NewFile::new(file, self.path.join(name)))
    }

    /// All bytes of a small file, or `None` where there is none.
    pub fn read_bytes(&self, name: &OsStr) -> Result<Option<Vec<u8>>, FileError> {
        match self.dir.read(name) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.failed(FileAction::Read, name)(error)),
        }
    }

    /// Reads a regular file from its beginning to its end, and hands on what it holds.
    ///
    /// # Errors
    /// [`FileError`], or what `take` comes upon.
    pub fn read_file(&self, name: &OsStr, take: impl FnMut(&[u8]) -> Result<(), FileError>) -> Result<(), FileError> {
        NewFile::new(self.open_to_read(name)?, self.path.join(name)).read_through(take).map(drop)
    }

    /// Gives a file of this folder another name, in another (or this) folder, beside the one that it has. Whether the file system can.
    ///
    /// # Errors
    /// [`FileError`] from the system; [`FileError::is_taken`] where the name exists.
    pub fn add_name(&self, name: &OsStr, to: &Self, further: &OsStr) -> Result<bool, FileError> {
        faults::before(FileAction::Create)
            .and_then(|()| folders::add_name(&self.dir, name, &to.dir, further))
            .map_err(to.failed(FileAction::Create, further))
    }

    fn open_to_read(&self, name: &OsStr) -> Result<File, FileError> {
        folders::open_to_read(&self.dir, name).map_err(self.failed(FileAction::Open, name))
    }

    /// A regular file's length and digest, by its units or not.
    ///
    /// # Errors
    /// [`Interruption`], where it is no regular file too.
    pub fn digest_of(
        &self,
        name: &OsStr,
        in_units: bool,
        context: &Context<'_>,
    ) -> Result<(u64, [u8; 32]), Interruption> {
        let mut file = self.open_to_read(name)?;
        let failed = || self.failed(FileAction::Read, name);
        let metadata = file.metadata().map_err(failed())?;
        let holes = if in_units { holes_of(&file, &metadata) } else { Vec::new() };
        let (mut digest, mut size) = (ContentDigest::new(in_units), 0);
        for stretch in stretches(u64::MAX, &holes) {
            match stretch {
                Stretch::Hole(bytes) => {
                    file.seek(SeekFrom::Current(i64::try_from(bytes).unwrap_or(i64::MAX))).map_err(failed())?;
                    digest.hole(bytes);
                    size += bytes;
                }
                Stretch::Stored(bytes) => {
                    size += read_on(&file, &self.path.join(name), bytes, context, |bytes| {
                        digest.update(bytes);
                        Ok::<_, Interruption>(())
                    })?;
                }
            }
        }
        Ok((size, digest.finish()))
    }

    /// Where a link leads.
    ///
    /// # Errors
    /// [`FileError`] from the system, where it is no link too.
    pub fn link_target(&self, name: &OsStr) -> Result<PathBuf, FileError> {
        folders::link_target(&self.dir, name).map_err(self.failed(FileAction::Read, name))
    }

    /// What a name stands for here, links not followed; `None` where there is nothing.
    pub fn kind_of(&self, name: &OsStr) -> Result<Option<FileType>, FileError> {
        match self.dir.symlink_metadata(name) {
            Ok(metadata) => Ok(Some(metadata.file_type())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.failed(FileAction::Open, name)(error)),
        }
    }

    /// The names in this folder, sorted.
    pub fn names(&self) -> Result<Vec<OsString>, FileError> {
        let listed = || FileError::on(FileAction::List, &self.path);
        let mut names = Vec::new();
        for entry in self.dir.entries().map_err(listed())? {
            names.push(entry.map_err(listed())?.file_name());
        }
        names.sort();
        Ok(names)
    }

    /// Removes a file or link.
    pub fn remove_file(&self, name: &OsStr) -> Result<(), FileError> {
        faults::before(FileAction::Remove)
            .and_then(|()| self.dir.remove_file(name))
            .map_err(self.failed(FileAction::Remove, name))
    }

    /// Removes an empty folder.
    pub fn remove_subfolder(&self, name: &OsStr) -> Result<(), FileError> {
        faults::before(FileAction::Remove)
            .and_then(|()| self.dir.remove_dir(name))
            .map_err(self.failed(FileAction::Remove, name))
    }

    /// Gives a file of this folder its final name in another (or this) one, never replacing anything.
    ///
    /// # Errors
    /// [`FileError`] from the system; [`FileError::is_taken`] where the name exists.
    pub fn publish(&self, name: &OsStr, to: &Self, final_name: &OsStr) -> Result<(), FileError> {
        faults::before(FileAction::Rename)
            .and_then(|()| folders::rename_to_free(self.at(), name, to.at(), final_name))
            .map_err(to.failed(FileAction::Rename, final_name))
    }

    /// Gives a file of this folder its final name in another (or this) one, in the place of a file or link that has it; what a
    /// link leads to stays.
    ///
    /// # Errors
    /// [`FileError`] from the system; [`FileError::is_taken`] where something else has the name.
    pub fn replace(&self, name: &OsStr, to: &Self, final_name: &OsStr) -> Result<(), FileError> {
        if to.kind_of(final_name)?.is_some_and(|kind| !kind.is_file() && !kind.is_symlink()) {
            return Err(to.failed(FileAction::Rename, final_name)(io::ErrorKind::AlreadyExists.into()));
        }
        faults::before(FileAction::Rename)
            .and_then(|()| folders::rename_over(&self.dir, name, &to.dir, final_name))
            .map_err(to.failed(FileAction::Rename, final_name))
    }

    /// Removes a folder with everything in it; links in it are removed, not followed.
    pub fn remove_tree(&self, name: &OsStr) -> Result<(), FileError> {
        faults::before(FileAction::Remove)
            .and_then(|()| self.dir.remove_dir_all(name))
            .map_err(self.failed(FileAction::Remove, name))
    }

    /// What this folder takes as names. `own` is the name of a file of the caller's in it, with small letters: beside that something
    /// may be made and removed again.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn name_rules(&self, own: &OsStr) -> Result<NameRules, FileError> {
        let here = NameRules::here();
        if here.system == System::Windows {
            return Ok(here);
        }
        let capital = own.to_string_lossy().to_uppercase();
        if self.kind_of(OsStr::new(&capital))?.is_none() {
            return Ok(NameRules { folds: false, ..here });
        }
        let mut with_colon = own.to_owned();
        with_colon.push(":");
        match self.create_file(&with_colon, 0o600) {
            Ok(file) => {
                drop(file);
                self.remove_file(&with_colon)?;
                Ok(NameRules { folds: true, ..here })
            }
            Err(error) if error.source.kind() == io::ErrorKind::InvalidInput => Ok(NameRules::of_fat()),
            Err(error) => Err(error),
        }
    }

    /// A file's length in bytes, and when it was modified; of a link, its own.
    pub fn size_and_time_of(&self, name: &OsStr) -> Result<(u64, Timestamp), FileError> {
        folders::size_and_time(&self.dir, name).map_err(self.failed(FileAction::Open, name))
    }

    /// The number by which the file system knows a file or link here.
    pub fn number_of(&self, name: &OsStr) -> Result<u64, FileError> {
        folders::number_of(&self.dir, name).map_err(self.failed(FileAction::Open, name))
    }

    /// Makes a symbolic link whose target is stored as given. Whether the system lets this user make any here.
    ///
    /// # Errors
    /// [`FileError`] from the system; taken names included.
    pub fn create_link(&self, name: &OsStr, target: &OsStr, modified: Timestamp) -> Result<bool, FileError> {
        let made = faults::before(FileAction::Create)
            .and_then(|()| folders::create_link(self.at(), name, target))
            .map_err(self.failed(FileAction::Create, name))?;
        if made {
            faults::before(FileAction::Write)
                .and_then(|()| folders::set_link_time(&self.dir, name, modified))
                .map_err(self.failed(FileAction::Write, name))?;
        }
        Ok(made)
    }

    /// Sets this folder's own permission bits and modification time.
    pub fn set_mode_and_time(&self, mode: u32, modified: Timestamp) -> Result<(), FileError> {
        self.opened()?.set_mode_and_time(mode, modified)
    }

    /// Waits until the disk holds this folder's list of names.
    pub fn sync(&self) -> Result<(), FileError> {
        self.opened()?.sync()
    }

    /// This folder, open so that it can be changed and synced itself, whatever mode it gets meanwhile.
    ///
    /// # Errors
    /// [`FileError`] from the system; its user may be allowed to write into it and not to read it.
    pub fn opened(&self) -> Result<OpenFolder, FileError> {
        let handle = folders::itself(self.at()).map_err(FileError::on(FileAction::Open, &self.path))?;
        Ok(OpenFolder { handle, path: self.path.clone() })
    }

    /// The number by which the file system knows this folder.
    pub fn number(&self) -> Result<u64, FileError> {
        folders::number(&self.dir).map_err(FileError::on(FileAction::Open, &self.path))
    }

    /// This folder's permission bits.
    pub fn mode(&self) -> Result<u32, FileError> {
        folders::mode(&self.dir).map_err(FileError::on(FileAction::Open, &self.path))
    }

    /// Whether this folder belongs to the user, and nobody else may write into it.
    pub fn is_only_mine(&self) -> Result<bool, FileError> {
        folders::is_only_mine(&self.dir).map_err(FileError::on(FileAction::Open, &self.path))
    }

    /// Bytes that may still be written to this folder's file system; `None` where it does not say.
    pub fn free_bytes(&self) -> Option<u64> {
        folders::free_bytes(self.at())
    }

    fn at(&self) -> Place<'_> {
        (&self.dir, &self.path)
    }
}

/// A folder that is open for changing and syncing it itself.
#[derive(Debug)]
pub struct OpenFolder {
    handle: File,
    path: PathBuf,
}

impl OpenFolder {
    /// Sets its permission bits and modification time.
    pub fn set_mode_and_time(&self, mode: u32, modified: Timestamp) -> Result<(), FileError> {
        set_mode_and_time(&self.handle, mode, modified).map_err(FileError::on(FileAction::Write, &self.path))
    }

    /// Waits until the disk holds its list of names, its mode and time.
    pub fn sync(&self) -> Result<(), FileError> {
        faults::before(FileAction::Sync)
            .and_then(|()| folders::sync(&self.handle))
            .map_err(FileError::on(FileAction::Sync, &self.path))
    }
}
