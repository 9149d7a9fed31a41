//! Folders of Unix: what stands in one is reached through its open descriptor, whatever becomes of its path meanwhile.

use super::facts::{PERMISSIONS, time};
use super::files::modified_only;
use crate::disk::terms::Place;
use crate::ground::entry::Timestamp;
use cap_fs_ext::DirExt as _;
use cap_std::fs::{Dir, DirBuilder, DirBuilderExt as _, MetadataExt as _, OpenOptions, OpenOptionsExt as _};
use rustix::fs::{AtFlags, Mode, OFlags, RenameFlags, Stat};
use rustix::io::Errno;
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::AsFd as _;
use std::os::unix::ffi::OsStringExt as _;
use std::path::PathBuf;

/// Never through a link.
pub fn open_subfolder((dir, _): Place<'_>, name: &OsStr) -> io::Result<Dir> {
    dir.open_dir_nofollow(name)
}

pub fn with_mode(mode: u32) -> DirBuilder {
    let mut builder = DirBuilder::new();
    builder.mode(mode);
    builder
}

pub fn new_file(mode: u32) -> OpenOptions {
    let mut options = OpenOptions::new();
    options.read(true).write(true).create_new(true).mode(mode);
    options
}

pub fn open_to_change(dir: &Dir, name: &OsStr) -> io::Result<File> {
    let flags = OFlags::RDWR | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(rustix::fs::openat(dir, name, flags, Mode::empty())?.into())
}

/// Never waits on a pipe or device.
pub fn open_to_read(dir: &Dir, name: &OsStr) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    Ok(rustix::fs::openat(dir, name, flags, Mode::empty())?.into())
}

/// A hard link; whether the file system can.
pub fn add_name(dir: &Dir, name: &OsStr, to: &Dir, further: &OsStr) -> io::Result<bool> {
    match rustix::fs::linkat(dir, name, to, further, AtFlags::empty()) {
        Ok(()) => Ok(true),
        // There are no hard links, or no more of this file.
        Err(Errno::PERM | Errno::NOSYS | Errno::NOTSUP | Errno::MLINK | Errno::XDEV) => Ok(false),
        Err(errno) => Err(errno.into()),
    }
}

pub fn link_target(dir: &Dir, name: &OsStr) -> io::Result<PathBuf> {
    let target = rustix::fs::readlinkat(dir, name, Vec::new())?;
    Ok(OsString::from_vec(target.into_bytes()).into())
}

/// Never replaces anything.
pub fn rename_to_free((from, _): Place<'_>, name: &OsStr, (to, _): Place<'_>, final_name: &OsStr) -> io::Result<()> {
    match rustix::fs::renameat_with(from, name, to, final_name, RenameFlags::NOREPLACE) {
        // File systems that cannot rename so: a hard link fails on a taken name too.
        Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => {}
        outcome => return Ok(outcome?),
    }
    match rustix::fs::linkat(from, name, to, final_name, AtFlags::empty()) {
        Ok(()) => return from.remove_file(name),
        // FAT has neither; the check and the rename are then two steps.
        Err(Errno::PERM | Errno::NOSYS | Errno::NOTSUP) => {}
        Err(errno) => return Err(errno.into()),
    }
    match rustix::fs::statat(to, final_name, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(_) => Err(Errno::EXIST.into()),
        Err(Errno::NOENT) => rename_over(from, name, to, final_name),
        Err(errno) => Err(errno.into()),
    }
}

pub fn rename_over(dir: &Dir, name: &OsStr, to: &Dir, final_name: &OsStr) -> io::Result<()> {
    Ok(rustix::fs::renameat(dir, name, to, final_name)?)
}

fn status_of(dir: &Dir, name: &OsStr) -> io::Result<Stat> {
    Ok(rustix::fs::statat(dir, name, AtFlags::SYMLINK_NOFOLLOW)?)
}

pub fn size_and_time(dir: &Dir, name: &OsStr) -> io::Result<(u64, Timestamp)> {
    let stat = status_of(dir, name)?;
    Ok((u64::try_from(stat.st_size).unwrap_or(0), time(stat.st_mtime, stat.st_mtime_nsec)))
}

pub fn number_of(dir: &Dir, name: &OsStr) -> io::Result<u64> {
    Ok(status_of(dir, name)?.st_ino)
}

/// Whether the file system has links.
pub fn create_link((dir, _): Place<'_>, name: &OsStr, target: &OsStr) -> io::Result<bool> {
    match rustix::fs::symlinkat(target, dir, name) {
        Ok(()) => Ok(true),
        Err(Errno::PERM | Errno::NOSYS | Errno::NOTSUP) => Ok(false),
        Err(errno) => Err(errno.into()),
    }
}

pub fn set_link_time(dir: &Dir, name: &OsStr, modified: Timestamp) -> io::Result<()> {
    Ok(rustix::fs::utimensat(dir, name, &modified_only(modified), AtFlags::SYMLINK_NOFOLLOW)?)
}

/// The directory handle may be a path-only one, which can be neither synced nor changed.
pub fn itself((dir, _): Place<'_>) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    Ok(rustix::fs::openat(dir, c".", flags, Mode::empty())?.into())
}

pub fn number(dir: &Dir) -> io::Result<u64> {
    Ok(dir.dir_metadata()?.ino())
}

pub fn mode(dir: &Dir) -> io::Result<u32> {
    Ok(dir.dir_metadata()?.mode() & PERMISSIONS)
}

/// Whether it belongs to the user, and nobody else may write into it.
pub fn is_only_mine(dir: &Dir) -> io::Result<bool> {
    const WRITTEN_BY_OTHERS: u32 = 0o022;
    let metadata = dir.dir_metadata()?;
    Ok(metadata.uid() == rustix::process::geteuid().as_raw() && metadata.mode() & WRITTEN_BY_OTHERS == 0)
}

pub fn free_bytes(place: Place<'_>) -> Option<u64> {
    let about = rustix::fs::fstatvfs(itself(place).ok()?.as_fd()).ok()?;
    about.f_bavail.checked_mul(about.f_frsize)
}

pub fn sync(handle: &File) -> io::Result<()> {
    // On macOS this is a full sync (`F_FULLFSYNC`): a plain one ends when the disk's own memory has it.
    match handle.sync_all() {
        // Some network file systems cannot sync a folder; they hold nothing back either.
        Err(error) if matches!(Errno::from_io_error(&error), Some(Errno::INVAL | Errno::NOTSUP)) => Ok(()),
        outcome => outcome,
    }
}
