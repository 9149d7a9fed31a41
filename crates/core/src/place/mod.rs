//! Putting bytes on disk for good: open folders, new files, renames that never replace, and sync.
//!
//! Every change that Under Seal makes to a disk goes through a [`Folder`], so that what protects the
//! user's data stands in one place. [`staging`] builds the all-or-nothing placing of a volume set on it.

pub mod missing;
pub mod staging;

use cap_fs_ext::DirExt as _;
use cap_std::ambient_authority;
use cap_std::fs::{Dir, DirBuilder, DirBuilderExt as _, FileType, OpenOptions, OpenOptionsExt as _};
use rustix::fs::{AtFlags, Mode, OFlags, RenameFlags, Timespec, Timestamps};
use rustix::io::Errno;
use std::ffi::{OsStr, OsString};
use std::fmt;
use std::fs::{File, Metadata};
use std::io::{self, Write};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use crate::entry::Timestamp;

/// What was being done to a file when the system said no.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileAction {
    /// Opening it or asking for its properties.
    Open,
    /// Reading from it.
    Read,
    /// Listing a folder.
    List,
    /// Making a new file, folder or link.
    Create,
    /// Writing to it, or setting its mode or times.
    Write,
    /// Waiting until the disk holds it.
    Sync,
    /// Giving it its final name.
    Rename,
    /// Removing it.
    Remove,
}

impl fmt::Display for FileAction {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(match self {
            Self::Open => "open",
            Self::Read => "read",
            Self::List => "list",
            Self::Create => "create",
            Self::Write => "write",
            Self::Sync => "sync",
            Self::Rename => "rename",
            Self::Remove => "remove",
        })
    }
}

/// The system refused an operation on one file or folder.
#[derive(Debug, thiserror::Error)]
#[error("cannot {action} {}", path.display())]
pub struct FileError {
    /// What was being done.
    pub action: FileAction,
    /// To which file or folder.
    pub path: PathBuf,
    /// What the system said.
    pub source: io::Error,
}

impl FileError {
    /// Attaches an action and a path to what the system said; for `map_err`.
    pub fn on(action: FileAction, path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> Self {
        let path = path.into();
        move |source| Self { action, path, source }
    }

    /// Whether the name was taken already.
    pub fn is_taken(&self) -> bool {
        self.source.kind() == io::ErrorKind::AlreadyExists
    }
}

/// The absolute form of a path, without following links and without a slash at its end.
pub fn absolute(path: &Path) -> PathBuf {
    std::path::absolute(path).unwrap_or_else(|_| path.to_owned()).components().collect()
}

/// Whether opening a path may go through a link at its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Links {
    /// Links are followed.
    Follow,
    /// A link is an error.
    Refuse,
}

/// Opens a regular file for reading; never waits on a pipe or device.
///
/// # Errors
/// [`FileError`] from the system, or where the path is no regular file.
pub fn open_regular(path: &Path, links: Links) -> Result<(File, Metadata), FileError> {
    let opened = || FileError::on(FileAction::Open, path);
    let no_follow = if links == Links::Refuse { OFlags::NOFOLLOW } else { OFlags::empty() };
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC | no_follow;
    let file = rustix::fs::open(path, flags, Mode::empty()).map_err(|errno| opened()(errno.into()))?;
    let file = File::from(file);
    let metadata = file.metadata().map_err(opened())?;
    if metadata.is_file() {
        Ok((file, metadata))
    } else {
        Err(opened()(io::Error::new(io::ErrorKind::InvalidInput, "it is no regular file")))
    }
}

/// A file being written, with the path to name it by in errors.
#[derive(Debug)]
pub struct NewFile {
    file: File,
    path: PathBuf,
}

impl NewFile {
    /// Appends bytes.
    ///
    /// # Errors
    /// [`FileError`] from the system, a full disk included.
    pub fn write(&mut self, bytes: &[u8]) -> Result<(), FileError> {
        self.file.write_all(bytes).map_err(FileError::on(FileAction::Write, &self.path))
    }

    /// Overwrites bytes at an offset from the file's beginning.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<(), FileError> {
        use std::os::unix::fs::FileExt as _;
        self.file.write_all_at(bytes, offset).map_err(FileError::on(FileAction::Write, &self.path))
    }

    /// Sets permission bits and modification time, on the open file.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn set_mode_and_time(&self, mode: u32, modified: Timestamp) -> Result<(), FileError> {
        rustix::fs::fchmod(&self.file, Mode::from_raw_mode(mode))
            .and_then(|()| rustix::fs::futimens(&self.file, &modified_only(modified)))
            .map_err(|errno| FileError::on(FileAction::Write, &self.path)(errno.into()))
    }

    /// Waits until the disk holds the file.
    ///
    /// # Errors
    /// [`FileError`] from the system; some systems tell of a full or broken disk only here.
    pub fn sync(&self) -> Result<(), FileError> {
        self.file.sync_all().map_err(FileError::on(FileAction::Sync, &self.path))
    }

    /// Lets the system drop the synced file's pages from its cache, so that a later reading comes from the
    /// disk. Only a hint: a system that keeps the pages still gives back what was written.
    pub fn drop_cached_pages(&self) {
        let _ = rustix::fs::fadvise(&self.file, 0, None, rustix::fs::Advice::DontNeed);
    }
}

fn modified_only(modified: Timestamp) -> Timestamps {
    Timestamps {
        last_access: Timespec { tv_sec: 0, tv_nsec: rustix::fs::UTIME_OMIT },
        last_modification: Timespec { tv_sec: modified.seconds, tv_nsec: modified.nanoseconds.into() },
    }
}

/// An open folder. Names given to it are single components; what they name is never reached through a
/// symbolic link, and stays right even if the folder's own path is swapped meanwhile.
#[derive(Debug)]
pub struct Folder {
    dir: Dir,
    path: PathBuf,
}

impl Folder {
    /// Opens an existing folder; links on the way are the user's own and are followed.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn open(path: &Path) -> Result<Self, FileError> {
        let shown = absolute(path);
        let dir = Dir::open_ambient_dir(path, ambient_authority()).map_err(FileError::on(FileAction::Open, &shown))?;
        Ok(Self { dir, path: shown })
    }

    /// Opens a folder, making it and those above it where they do not exist.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn open_or_create(path: &Path) -> Result<Self, FileError> {
        let shown = absolute(path);
        Dir::create_ambient_dir_all(path, ambient_authority()).map_err(FileError::on(FileAction::Create, &shown))?;
        Self::open(path)
    }

    /// The absolute path it was opened under.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Another handle on this folder.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn itself(&self) -> Result<Self, FileError> {
        let dir = self.dir.try_clone().map_err(FileError::on(FileAction::Open, &self.path))?;
        Ok(Self { dir, path: self.path.clone() })
    }

    fn failed(&self, action: FileAction, name: &OsStr) -> impl FnOnce(io::Error) -> FileError {
        FileError::on(action, self.path.join(name))
    }

    /// Opens a folder in this one, unless it is a link.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn subfolder(&self, name: &OsStr) -> Result<Self, FileError> {
        let dir = self.dir.open_dir_nofollow(name).map_err(self.failed(FileAction::Open, name))?;
        Ok(Self { dir, path: self.path.join(name) })
    }

    /// Makes and opens a new folder that only the user may enter, until [`Folder::set_mode_and_time`].
    ///
    /// # Errors
    /// [`FileError`] from the system; taken names included.
    pub fn create_subfolder(&self, name: &OsStr) -> Result<Self, FileError> {
        let mut private = DirBuilder::new();
        private.mode(0o700);
        self.dir.create_dir_with(name, &private).map_err(self.failed(FileAction::Create, name))?;
        self.subfolder(name)
    }

    /// Makes a new file; an existing one, or a link of that name, is an error.
    ///
    /// # Errors
    /// [`FileError`] from the system; taken names included.
    pub fn create_file(&self, name: &OsStr, mode: u32) -> Result<NewFile, FileError> {
        let mut options = OpenOptions::new();
        options.write(true).create_new(true).mode(mode);
        let file = self.dir.open_with(name, &options).map_err(self.failed(FileAction::Create, name))?;
        Ok(NewFile { file: file.into_std(), path: self.path.join(name) })
    }

    /// Opens a file of this folder to change bytes in it.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn reopen_file(&self, name: &OsStr) -> Result<NewFile, FileError> {
        let flags = OFlags::RDWR | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let file = rustix::fs::openat(&self.dir, name, flags, Mode::empty())
            .map_err(|errno| self.failed(FileAction::Open, name)(errno.into()))?;
        Ok(NewFile { file: File::from(file), path: self.path.join(name) })
    }

    /// The whole text of a small file, or `None` where there is none.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn read_text(&self, name: &OsStr) -> Result<Option<String>, FileError> {
        match self.dir.read_to_string(name) {
            Ok(text) => Ok(Some(text)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.failed(FileAction::Read, name)(error)),
        }
    }

    /// What a name stands for here, links not followed; `None` where there is nothing.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn kind_of(&self, name: &OsStr) -> Result<Option<FileType>, FileError> {
        match self.dir.symlink_metadata(name) {
            Ok(metadata) => Ok(Some(metadata.file_type())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.failed(FileAction::Open, name)(error)),
        }
    }

    /// The names in this folder, sorted.
    ///
    /// # Errors
    /// [`FileError`] from the system.
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
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn remove_file(&self, name: &OsStr) -> Result<(), FileError> {
        self.dir.remove_file(name).map_err(self.failed(FileAction::Remove, name))
    }

    /// Removes an empty folder.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn remove_subfolder(&self, name: &OsStr) -> Result<(), FileError> {
        self.dir.remove_dir(name).map_err(self.failed(FileAction::Remove, name))
    }

    /// Gives a file of this folder its final name in another (or this) one, never replacing anything.
    ///
    /// # Errors
    /// [`FileError`] from the system; [`FileError::is_taken`] where the name exists.
    pub fn publish(&self, name: &OsStr, to: &Self, final_name: &OsStr) -> Result<(), FileError> {
        let failed = |errno: Errno| to.failed(FileAction::Rename, final_name)(errno.into());
        match rustix::fs::renameat_with(&self.dir, name, &to.dir, final_name, RenameFlags::NOREPLACE) {
            // File systems that cannot rename so: a hard link fails on a taken name too.
            Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => {}
            outcome => return outcome.map_err(failed),
        }
        match rustix::fs::linkat(&self.dir, name, &to.dir, final_name, AtFlags::empty()) {
            Ok(()) => return self.remove_file(name),
            // FAT has neither; the check and the rename are then two steps.
            Err(Errno::PERM | Errno::NOSYS | Errno::NOTSUP) => {}
            Err(errno) => return Err(failed(errno)),
        }
        if to.kind_of(final_name)?.is_some() {
            return Err(failed(Errno::EXIST));
        }
        rustix::fs::renameat(&self.dir, name, &to.dir, final_name).map_err(failed)
    }

    /// Makes a symbolic link whose target is stored as given.
    ///
    /// # Errors
    /// [`FileError`] from the system; taken names included.
    pub fn create_link(&self, name: &OsStr, target: &OsStr, modified: Timestamp) -> Result<(), FileError> {
        rustix::fs::symlinkat(target, &self.dir, name)
            .map_err(|errno| self.failed(FileAction::Create, name)(errno.into()))?;
        rustix::fs::utimensat(&self.dir, name, &modified_only(modified), AtFlags::SYMLINK_NOFOLLOW)
            .map_err(|errno| self.failed(FileAction::Write, name)(errno.into()))
    }

    /// Sets this folder's own permission bits and modification time.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn set_mode_and_time(&self, mode: u32, modified: Timestamp) -> Result<(), FileError> {
        let itself = self.readable_handle()?;
        rustix::fs::fchmod(&itself, Mode::from_raw_mode(mode))
            .and_then(|()| rustix::fs::futimens(&itself, &modified_only(modified)))
            .map_err(|errno| FileError::on(FileAction::Write, &self.path)(errno.into()))
    }

    /// Waits until the disk holds this folder's list of names.
    ///
    /// # Errors
    /// [`FileError`] from the system.
    pub fn sync(&self) -> Result<(), FileError> {
        let itself = self.readable_handle()?;
        match rustix::fs::fsync(&itself) {
            // Some network file systems cannot sync a folder; they hold nothing back either.
            Ok(()) | Err(Errno::INVAL | Errno::NOTSUP) => Ok(()),
            Err(errno) => Err(FileError::on(FileAction::Sync, &self.path)(errno.into())),
        }
    }

    /// Bytes that may still be written to this folder's file system; `None` where it does not say.
    pub fn free_bytes(&self) -> Option<u64> {
        let about = rustix::fs::fstatvfs(self.readable_handle().ok()?.as_fd()).ok()?;
        about.f_bavail.checked_mul(about.f_frsize)
    }

    /// The directory handle may be a path-only one, which can be neither synced nor changed.
    fn readable_handle(&self) -> Result<File, FileError> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        rustix::fs::openat(&self.dir, c".", flags, Mode::empty())
            .map(File::from)
            .map_err(|errno| FileError::on(FileAction::Open, &self.path)(errno.into()))
    }
}
