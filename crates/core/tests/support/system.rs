//! What tests do with the system beside what the core does: the same on each, as far as it goes.

use std::fs::{self, OpenOptions};
use std::path::Path;
use std::time::SystemTime;
use under_seal_core::disk::{mode_here, mode_of};
use under_seal_core::ground::entry::EntryKind;

/// Makes a symbolic link. On Windows not everybody may, and what stands in for Windows makes none: there is none then.
pub fn symlink(target: impl AsRef<Path>, at: impl AsRef<Path>) {
    #[cfg(unix)]
    std::os::unix::fs::symlink(target, at).unwrap();
    #[cfg(windows)]
    let _ = (target, at);
}

/// How many of so many links there are then.
pub fn links(made: u64) -> u64 {
    if cfg!(unix) { made } else { 0 }
}

/// Sets permission bits; on Windows only whether a file may be written.
pub fn set_mode(path: impl AsRef<Path>, mode: u32) {
    let mut permissions = fs::metadata(&path).unwrap().permissions();
    #[cfg(unix)]
    std::os::unix::fs::PermissionsExt::set_mode(&mut permissions, mode);
    #[cfg(windows)]
    permissions.set_readonly(mode & 0o200 == 0 && path.as_ref().is_file());
    fs::set_permissions(path, permissions).unwrap();
}

/// Says when something was last modified, a folder too.
pub fn set_time(path: impl AsRef<Path>, modified: SystemTime) {
    let mut options = OpenOptions::new();
    #[cfg(unix)]
    options.read(true);
    // To write attributes, of folders too (`FILE_WRITE_ATTRIBUTES`, `FILE_FLAG_BACKUP_SEMANTICS`).
    #[cfg(windows)]
    std::os::windows::fs::OpenOptionsExt::custom_flags(
        std::os::windows::fs::OpenOptionsExt::access_mode(&mut options, 0x0100),
        0x0200_0000,
    );
    options.open(path).unwrap().set_modified(modified).unwrap();
}

/// Whether something has these permission bits, or what becomes of them here.
pub fn has_mode(path: impl AsRef<Path>, mode: u32) -> bool {
    let metadata = fs::metadata(path).unwrap();
    let kind = if metadata.is_dir() { EntryKind::Folder } else { EntryKind::File };
    mode_of(&metadata) == mode_here(mode, kind)
}

/// What `tree` says of something, mode first, as it becomes here.
pub fn here(features: &str) -> String {
    let (mode, rest) = features.split_once(' ').unwrap();
    let mode = u32::from_str_radix(mode, 8).unwrap();
    let kind = if mode & 0o170_000 == 0o040_000 { EntryKind::Folder } else { EntryKind::File };
    let mode = if mode & 0o170_000 == 0o120_000 { mode } else { mode & 0o170_000 | mode_here(mode & 0o7777, kind) };
    format!("{mode:o} {rest}")
}
