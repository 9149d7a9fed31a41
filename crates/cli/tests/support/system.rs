//! What tests do with the system beside what the program does: the same on each, as far as it goes.

use std::fs;
use std::path::Path;
use under_seal_core::disk::{Links, bytes_in_holes, identity_at};

#[path = "../../../core/tests/support/system.rs"]
mod of_core;

pub use of_core::{links, set_mode, set_time, symlink};

/// How many entries there are, the dossier's link among them, where it could be made.
pub fn with_link(count: usize) -> usize {
    count - 1 + usize::try_from(links(1)).unwrap()
}

/// What is told of the dossier, where its link could be made, and where not.
pub fn with_link_told(words: &str) -> String {
    if links(1) == 1 { words.to_owned() } else { words.replace(", 1 link", "") }
}

/// A screening command that looks, and says yes.
pub const LOOKS: &str = if cfg!(windows) { "dir /s" } else { "ls -R" };

/// A screening command that says no.
pub const SAYS_NO: &str = if cfg!(windows) { "exit 1 &" } else { "false #" };

/// A screening command that shows the environment, and says yes where the folder is there.
pub const SHOWS_SETTINGS: &str = if cfg!(windows) { "set & dir" } else { "env && test -d" };

/// What a shell ends with where it finds no program.
pub const NOT_FOUND: &str = if cfg!(windows) { "exit code 9009" } else { "exit code 127" };

/// A path as the program writes it here.
pub fn as_written(path: &str) -> String {
    path.replace('/', std::path::MAIN_SEPARATOR_STR)
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
#[cfg(unix)]
pub fn set_attribute(path: &Path, name: &str, value: &[u8]) -> bool {
    rustix::fs::setxattr(path, name, value, rustix::fs::XattrFlags::empty()).is_ok()
}

/// There are none.
#[cfg(windows)]
pub fn set_attribute(_: &Path, _: &str, _: &[u8]) -> bool {
    false
}

/// What an attribute says; nothing where there is none.
#[cfg(unix)]
pub fn attribute(path: &Path, name: &str) -> Option<Vec<u8>> {
    let mut value = [0; 100];
    let length = rustix::fs::getxattr(path, name, &mut value[..]).ok()?;
    Some(value[..length].to_vec())
}

/// There is none.
#[cfg(windows)]
pub fn attribute(_: &Path, _: &str) -> Option<Vec<u8>> {
    None
}
