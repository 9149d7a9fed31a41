//! Open files of Windows.

use super::facts::OWNER_WRITES;
use super::system_time;
use crate::disk::terms::Links;
use crate::ground::entry::Timestamp;
use std::fs::{File, OpenOptions};
use std::io;
use std::num::NonZeroU64;
use std::os::windows::fs::{FileExt as _, OpenOptionsExt as _};
use std::path::Path;

/// Opens a link itself (`FILE_FLAG_OPEN_REPARSE_POINT`, winbase.h).
pub(super) const OPEN_LINK_ITSELF: u32 = 0x0020_0000;

pub fn open_to_read(path: &Path, links: Links) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.read(true);
    if links == Links::Refuse {
        options.custom_flags(OPEN_LINK_ITSELF);
    }
    options.open(path)
}

/// Makes it where it is not there; no link.
pub fn open_to_append(path: &Path) -> io::Result<File> {
    OpenOptions::new().append(true).create(true).custom_flags(OPEN_LINK_ITSELF).open(path)
}

pub fn read_at(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
    file.seek_read(buffer, offset)
}

pub fn write_at(file: &File, bytes: &[u8], offset: u64) -> io::Result<usize> {
    file.seek_write(bytes, offset)
}

/// There is no such hint.
pub fn drop_cached(_: &File, _from: u64, _length: Option<NonZeroU64>) {}

/// Closing tells nothing here: what is lost was told by the sync before.
pub fn close(file: File) -> io::Result<()> {
    drop(file);
    Ok(())
}

/// Of a mode there is one bit here: whether a file is only to be read. The time is set first, since that counts as writing.
pub fn set_mode_and_time(file: &File, mode: u32, modified: Timestamp) -> io::Result<()> {
    file.set_modified(system_time(modified))?;
    let metadata = file.metadata()?;
    if metadata.is_file() {
        let mut permissions = metadata.permissions();
        permissions.set_readonly(mode & OWNER_WRITES == 0);
        file.set_permissions(permissions)?;
    }
    Ok(())
}
