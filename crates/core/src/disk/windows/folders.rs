//! Folders of Windows: as long as the one is open that somebody named, nobody can rename or remove it, so that its path stays right.

use super::files::OPEN_LINK_ITSELF;
use super::{system_time, timestamp};
use crate::disk::terms::{NEW_FOLDER_MODE, Place};
use crate::ground::entry::Timestamp;
use cap_fs_ext::{DirExt as _, FollowSymlinks, OpenOptionsFollowExt as _, SystemTimeSpec};
use cap_std::fs::{Dir, DirBuilder, OpenOptions};
use cap_std::time::SystemTime;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io;
use std::os::windows::fs::{OpenOptionsExt as _, symlink_dir, symlink_file};
use std::path::{Path, PathBuf};
use tempfile::TempPath;
use winapi_util::file::information;

/// What the system says where there are no hard links, or no more of a file (winerror.h): `ERROR_INVALID_FUNCTION`,
/// `ERROR_NOT_SAME_DEVICE`, `ERROR_NOT_SUPPORTED`, `ERROR_TOO_MANY_LINKS`.
const NO_HARD_LINK: [i32; 4] = [1, 17, 50, 1_142];

/// What it says where there are no symbolic links, or this user may make none: `ERROR_INVALID_FUNCTION`, `ERROR_ACCESS_DENIED`,
/// `ERROR_NOT_SUPPORTED`, `ERROR_PRIVILEGE_NOT_HELD`.
const NO_LINK: [i32; 4] = [1, 5, 50, 1_314];

/// A folder is opened with this flag (`FILE_FLAG_BACKUP_SEMANTICS`, winbase.h), and its times are changed with this right
/// (`FILE_WRITE_ATTRIBUTES`, winnt.h), beside that to look at them (`FILE_READ_ATTRIBUTES`).
const OPENS_FOLDERS: u32 = 0x0200_0000;

/// Others may read, write and remove what is open (`FILE_SHARE_READ`, `FILE_SHARE_WRITE`, `FILE_SHARE_DELETE`, winnt.h).
const SHARES_ALL: u32 = 0x1 | 0x2 | 0x4;
const READS_ATTRIBUTES: u32 = 0x0080;
const WRITES_ATTRIBUTES: u32 = 0x0100;

/// Never through a link. It can be removed while it is open here: what is made in a folder is cleared away by whoever holds it.
pub fn open_subfolder((_, path): Place<'_>, name: &OsStr) -> io::Result<Dir> {
    let mut options = fs::OpenOptions::new();
    options.read(true).share_mode(SHARES_ALL).custom_flags(OPENS_FOLDERS | OPEN_LINK_ITSELF);
    let folder = options.open(path.join(name))?;
    let metadata = folder.metadata()?;
    if metadata.is_symlink() || !metadata.is_dir() {
        return Err(io::ErrorKind::NotADirectory.into());
    }
    Ok(Dir::from_std_file(folder))
}

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
    let (metadata, target) = (dir.symlink_metadata(name)?, to.join(final_name));
    if metadata.is_dir() {
        // Folders replace nothing anyway.
        return fs::rename(from.join(name), target);
    }
    let was_read_only = metadata.permissions().readonly();
    let path = TempPath::try_from_path(from.join(name))?;
    path.persist_noclobber(&target).map_err(|failed| {
        let error = failed.error;
        // What was not renamed stays.
        let _ = failed.path.keep();
        error
    })?;
    // Renaming in this way takes all attributes off.
    if was_read_only {
        let mut permissions = fs::symlink_metadata(&target)?.permissions();
        permissions.set_readonly(true);
        fs::set_permissions(&target, permissions)?;
    }
    Ok(())
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

/// Whether the system lets this user make links, and the file system has such. Where one leads to a folder that is there, it is one to a
/// folder: Windows tells these apart.
pub fn create_link((dir, path): Place<'_>, name: &OsStr, target: &OsStr) -> io::Result<bool> {
    let leads_to_folder = dir.metadata(target).is_ok_and(|there| there.is_dir());
    let make = if leads_to_folder { symlink_dir } else { symlink_file };
    match make(Path::new(target), &path.join(name)) {
        // What only stands in for Windows may say so, and make none.
        Ok(()) => Ok(dir.symlink_metadata(name).is_ok()),
        Err(error) if error.raw_os_error().is_some_and(|code| NO_LINK.contains(&code)) => Ok(false),
        Err(error) => Err(error),
    }
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
