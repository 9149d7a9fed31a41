//! A file of Windows has attributes instead of permission bits, times in steps of 100 ns, and a number on its volume that an open handle
//! tells.

use super::timestamp;
use crate::disk::terms::FileIdentity;
use crate::disk::terms::Links;
use crate::ground::entry::{EntryKind, Timestamp};
use std::fs::{File, Metadata};
use std::io;
use std::path::Path;
use winapi_util::{Handle, file};

/// What stands for permission bits: of files, of folders, and without those for writing.
const FILE_MODE: u32 = 0o644;
const FOLDER_MODE: u32 = 0o755;
const WRITE_BITS: u32 = 0o222;

/// The owner's permission to write, in a mode.
pub(super) const OWNER_WRITES: u32 = 0o200;

pub fn mode_of(metadata: &Metadata) -> u32 {
    match (metadata.is_dir(), metadata.permissions().readonly() && metadata.is_file()) {
        // Of a folder the attribute says something else.
        (true, _) => FOLDER_MODE,
        (false, true) => FILE_MODE & !WRITE_BITS,
        (false, false) => FILE_MODE,
    }
}

pub const fn mode_here(mode: u32, kind: EntryKind) -> u32 {
    match kind {
        EntryKind::Folder => FOLDER_MODE,
        EntryKind::File if mode & OWNER_WRITES == 0 => FILE_MODE & !WRITE_BITS,
        EntryKind::File | EntryKind::Link => FILE_MODE,
    }
}

/// Times are in steps of 100 ns (Windows documentation, `FILETIME`).
pub const fn time_here(time: Timestamp) -> Timestamp {
    Timestamp { nanoseconds: time.nanoseconds / 100 * 100, ..time }
}

pub fn modified_of(metadata: &Metadata) -> Timestamp {
    metadata.modified().map(timestamp).unwrap_or_default()
}

pub fn status_changed_of(_: &Metadata) -> Option<Timestamp> {
    None
}

pub fn identity_of(file: &File, _: &Metadata) -> io::Result<FileIdentity> {
    Ok(told(&file::information(file)?).0)
}

pub fn identity_at(path: &Path, metadata: &Metadata, links: Links) -> io::Result<(FileIdentity, u64)> {
    // A link's own handle is told from its target's by how it is opened.
    if metadata.is_symlink() && links == Links::Refuse {
        return Ok((FileIdentity { device: 0, number: 0 }, 1));
    }
    Ok(told(&file::information(Handle::from_path_any(path)?)?))
}

fn told(information: &file::Information) -> (FileIdentity, u64) {
    let identity = FileIdentity { device: information.volume_serial_number(), number: information.file_index() };
    (identity, information.number_of_links())
}

/// `ERROR_TOO_MANY_OPEN_FILES` (winerror.h).
pub const fn has_too_many_open(code: i32) -> bool {
    code == 4
}

/// `ERROR_SHARING_VIOLATION`, `ERROR_LOCK_VIOLATION`, `ERROR_USER_MAPPED_FILE` (winerror.h).
pub const fn is_in_use(code: i32) -> bool {
    matches!(code, 32 | 33 | 1_224)
}

pub fn is_readable(path: &Path) -> bool {
    File::open(path).is_ok()
}
