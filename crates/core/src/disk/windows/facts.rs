//! A file of Windows has attributes instead of permission bits, times in steps of 100 ns, and a number on its volume that an open handle
//! tells.

use super::timestamp;
use crate::disk::terms::FileIdentity;
use crate::disk::terms::Links;
use crate::ground::entry::Timestamp;
use std::fs::{File, Metadata};
use std::io;
use std::path::Path;
use winapi_util::{Handle, file};

/// What stands for permission bits: of files, of folders, and without those for writing.
const FILE_MODE: u32 = 0o644;
const FOLDER_MODE: u32 = 0o755;
const WRITE_BITS: u32 = 0o222;

pub fn mode_of(metadata: &Metadata) -> u32 {
    let mode = if metadata.is_dir() { FOLDER_MODE } else { FILE_MODE };
    // Of a folder the attribute says something else.
    if metadata.permissions().readonly() && metadata.is_file() { mode & !WRITE_BITS } else { mode }
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

pub fn is_readable(path: &Path) -> bool {
    File::open(path).is_ok()
}
