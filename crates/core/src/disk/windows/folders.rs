//! Folders of Windows: as long as one is open, nobody can rename or remove it, so that its path stays right.

use super::{system_time, timestamp};
use crate::disk::terms::{NEW_FOLDER_MODE, Place};
use crate::ground::entry::Timestamp;
use cap_fs_ext::{DirExt as _, FollowSymlinks, OpenOptionsFollowExt as _, SystemTimeSpec};
use cap_std::fs::{Dir, DirBuilder, OpenOptions};
use cap_std::time::SystemTime;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io;
use std::os::windows::fs::OpenOptionsExt as _;
use std::path::PathBuf;
use tempfile::TempPath;
use winapi_util::file::information;

/// What the system says where there are no hard links, or no more of a file (winerror.h): `ERROR_INVALID_FUNCTION`,
/// `ERROR_NOT_SAME_DEVICE`, `ERROR_NOT_SUPPORTED`, `ERROR_TOO_MANY_LINKS`.
const NO_HARD_LINK: [i32; 4] = [1, 17, 50, 1_142];

/// A folder is opened with this flag (`FILE_FLAG_BACKUP_SEMANTICS`, winbase.h), and its times are changed with this right
/// (`FILE_WRITE_ATTRIBUTES`, winnt.h), beside that to look at them (`FILE_READ_ATTRIBUTES`).
const OPENS_FOLDERS: u32 = 0x0200_0000;
const READS_ATTRIBUTES: u32 = 0x0080;
const WRITES_ATTRIBUTES: u32 = 0x0100;

/// There are no permission bits: whoever may enter is inherited from the folder above.
pub fn with_mode(_: u32) -> DirBuilder {
    DirBuilder::new()
}

pub fn new_file(_: u32) -> OpenOptions {
    let mut options = OpenOptions::new();
    options.read(true).write(true).create_new(true);
    options
}

pub fn open_to_change(dir: &Dir, name: &OsStr) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.read(true).write(true).follow(FollowSymlinks::No);
    Ok(dir.open_with(name, &options)?.into_std())
}

pub fn open_to_read(dir: &Dir, name: &OsStr) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.read(true).follow(FollowSymlinks::No);
    Ok(dir.open_with(name, &options)?.into_std())
}

/// A hard link; whether the file system can.
pub fn add_name(dir: &Dir, name: &OsStr, to: &Dir, further: &OsStr) -> io::Result<bool> {
    match dir.hard_link(name, to, further) {
        Ok(()) => Ok(true),
        Err(error) if error.raw_os_error().is_some_and(|code| NO_HARD_LINK.contains(&code)) => Ok(false),
        Err(error) => Err(error),
    }
}

pub fn link_target(dir: &Dir, name: &OsStr) -> io::Result<PathBuf> {
    dir.read_link_contents(name)
}

/// Never replaces anything.
pub fn rename_to_free((dir, from): Place<'_>, name: &OsStr, (_, to): Place<'_>, final_name: &OsStr) -> io::Result<()> {
    let target = to.join(final_name);
    if dir.symlink_metadata(name)?.is_dir() {
        // Folders replace nothing anyway.
        return fs::rename(from.join(name), target);
    }
    let path = TempPath::try_from_path(from.join(name))?;
    path.persist_noclobber(target).map_err(|failed| {
        let error = failed.error;
        // What was not renamed stays.
        let _ = failed.path.keep();
        error
    })
}

pub fn rename_over(dir: &Dir, name: &OsStr, to: &Dir, final_name: &OsStr) -> io::Result<()> {
    dir.rename(name, to, final_name)
}

pub fn size_and_time(dir: &Dir, name: &OsStr) -> io::Result<(u64, Timestamp)> {
    let metadata = dir.symlink_metadata(name)?;
    Ok((metadata.len(), timestamp(metadata.modified()?.into_std())))
}

pub fn number_of(dir: &Dir, name: &OsStr) -> io::Result<u64> {
    Ok(information(&open_to_read(dir, name)?)?.file_index())
}

/// Where it leads to a folder that is there, it is one to a folder: Windows tells these apart.
pub fn create_link(dir: &Dir, name: &OsStr, target: &OsStr) -> io::Result<()> {
    dir.symlink(target, name)
}

pub fn set_link_time(dir: &Dir, name: &OsStr, modified: Timestamp) -> io::Result<()> {
    let time = SystemTimeSpec::Absolute(SystemTime::from_std(system_time(modified)));
    dir.set_symlink_times(name, None, Some(time))
}

pub fn itself((_, path): Place<'_>) -> io::Result<File> {
    let mut options = fs::OpenOptions::new();
    options.access_mode(READS_ATTRIBUTES | WRITES_ATTRIBUTES).custom_flags(OPENS_FOLDERS);
    options.open(path)
}

pub fn number(dir: &Dir) -> io::Result<u64> {
    Ok(information(&dir.try_clone()?.into_std_file())?.file_index())
}

/// There are no permission bits: it is as it was made.
pub fn mode(_: &Dir) -> io::Result<u32> {
    Ok(NEW_FOLDER_MODE)
}

/// Nothing shows it here without asking for lists of rights: whoever could write into a user's folder has them from the user.
pub fn is_only_mine(_: &Dir) -> io::Result<bool> {
    Ok(true)
}

pub fn free_bytes((_, path): Place<'_>) -> Option<u64> {
    fs4::available_space(path).ok()
}

/// A folder's list of names is written by the file system's own journal, and cannot be waited for.
pub fn sync(_: &File) -> io::Result<()> {
    Ok(())
}
