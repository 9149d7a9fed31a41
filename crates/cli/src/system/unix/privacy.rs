//! What only the user may see, and what others may.

use std::fs::{DirBuilder, File, Metadata, OpenOptions, Permissions};
use std::io;
use std::os::unix::fs::{DirBuilderExt as _, MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::Path;
use tempfile::{NamedTempFile, TempDir};

/// Temporary folders begin so.
pub const PREFIX: &str = "under-seal-";

/// A temporary folder that only the user may enter.
pub fn temporary_folder() -> io::Result<TempDir> {
    tempfile::Builder::new().prefix(PREFIX).permissions(Permissions::from_mode(0o700)).tempdir()
}

/// Makes a folder, and those above it, that only the user may enter.
pub fn create_folders(path: &Path) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(0o700).create(path)
}

/// A new file that only the user may read and write.
pub fn create_file(path: &Path) -> io::Result<File> {
    OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)
}

/// A new file that only the user may read, and nobody write any more once this is closed.
pub fn create_copy(path: &Path) -> io::Result<File> {
    OpenOptions::new().write(true).create_new(true).mode(0o400).open(path)
}

/// Whether a file is the user's own, and nobody else can have read or written it.
pub fn is_own(metadata: &Metadata) -> bool {
    metadata.uid() == rustix::process::geteuid().as_raw() && metadata.mode() & 0o077 == 0
}

/// A file in a folder, under a temporary name, that everybody may read.
pub fn readable_file(folder: &Path) -> io::Result<NamedTempFile> {
    tempfile::Builder::new().permissions(Permissions::from_mode(0o644)).tempfile_in(folder)
}

/// Leaves no picture of the memory on the disk when the program ends in a bad way, nor lets another process of the user look into it.
/// Where the system cannot do that, it goes on without.
pub fn close_memory() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let Rlimit { maximum, .. } = getrlimit(Resource::Core);
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum });
    #[cfg(target_os = "linux")]
    let _ = rustix::process::set_dumpable_behavior(rustix::process::DumpableBehavior::NotDumpable);
}
