//! What tests do with the system beside what the program does: the same on each, as far as it goes.

use std::fs;
use std::path::Path;
use under_seal_core::disk::{Links, bytes_in_holes, identity_at};

/// A path as the program writes it here.
pub fn as_written(path: &str) -> String {
    path.replace('/', std::path::MAIN_SEPARATOR_STR)
}

/// How many links are there of so many that were to be made.
pub fn links(made: u64) -> u64 {
    if cfg!(unix) { made } else { 0 }
}

/// Makes a symbolic link. On Windows not everybody may, and what stands in for Windows makes none: there is none then.
pub fn symlink(target: impl AsRef<Path>, at: impl AsRef<Path>) {
    #[cfg(unix)]
    std::os::unix::fs::symlink(target, at).unwrap();
    #[cfg(windows)]
    let _ = (target, at);
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

/// Whether only the user may read or write a file, as far as a mode tells that here.
pub fn is_private(path: impl AsRef<Path>) -> bool {
    cfg!(windows) || under_seal_core::disk::mode_of(&fs::metadata(path).unwrap()) & 0o777 == 0o600
}

/// Whether two paths are names of one file.
pub fn are_one(one: &Path, other: &Path) -> bool {
    let identity = |path: &Path| identity_at(path, &fs::metadata(path).unwrap(), Links::Follow).unwrap().0;
    identity(one) == identity(other)
}

/// The bytes of a file that are not in holes; Windows does not tell which are.
pub fn bytes_on_disk(path: impl AsRef<Path>) -> u64 {
    let metadata = fs::metadata(path).unwrap();
    if cfg!(windows) { 0 } else { metadata.len() - bytes_in_holes(&metadata) }
}

/// Whether an attribute could be set.
pub fn set_attribute(path: &Path, name: &str, value: &[u8]) -> bool {
    #[cfg(unix)]
    let is_set = rustix::fs::setxattr(path, name, value, rustix::fs::XattrFlags::empty()).is_ok();
    #[cfg(windows)]
    let is_set = (path, name, value).2.is_empty();
    is_set
}

/// What an attribute says; nothing where there is none.
pub fn attribute(path: &Path, name: &str) -> Option<Vec<u8>> {
    #[cfg(unix)]
    let value = {
        let mut value = [0; 100];
        let length = rustix::fs::getxattr(path, name, &mut value[..]).ok()?;
        Some(value[..length].to_vec())
    };
    #[cfg(windows)]
    let value = (path, name).1.is_empty().then(Vec::new);
    value
}
