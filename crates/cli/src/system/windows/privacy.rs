//! What only the user may see: on Windows whatever lies in the user's own folders, from which it inherits who may read it. Temporary
//! files and the program's own lie there.

use std::fs::{self, File, Metadata, OpenOptions};
use std::io;
use std::path::Path;
use tempfile::{NamedTempFile, TempDir};

/// Temporary folders begin so.
pub const PREFIX: &str = "under-seal-";

/// A temporary folder.
pub fn temporary_folder() -> io::Result<TempDir> {
    tempfile::Builder::new().prefix(PREFIX).tempdir()
}

/// Makes a folder, and those above it.
pub fn create_folders(path: &Path) -> io::Result<()> {
    fs::create_dir_all(path)
}

/// A new file.
pub fn create_file(path: &Path) -> io::Result<File> {
    OpenOptions::new().write(true).create_new(true).open(path)
}

/// The same for a copy that is looked at.
pub fn create_copy(path: &Path) -> io::Result<File> {
    create_file(path)
}

/// What lies in the user's own folder is.
pub fn is_own(_: &Metadata) -> bool {
    true
}

/// A file in a folder, under a temporary name.
pub fn readable_file(folder: &Path) -> io::Result<NamedTempFile> {
    tempfile::Builder::new().tempfile_in(folder)
}

/// Windows asks before it keeps a picture of a program's memory, and lets the user's own programs look into each other.
pub fn close_memory() {}
