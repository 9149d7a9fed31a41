//! A file of Unix is a number on a device, has permission bits, and a time at which anything of it changed.

use crate::disk::terms::FileIdentity;
use crate::disk::terms::Links;
use crate::ground::entry::{EntryKind, Timestamp};
use rustix::fs::{Access, AtFlags, CWD};
use std::fs::{File, Metadata};
use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

/// The permission bits of a mode (POSIX.1-2024, `sys/stat.h`), without those that say what kind of file it is.
pub(super) const PERMISSIONS: u32 = 0o7777;

/// A time as file systems tell it.
pub(super) fn time(seconds: i64, nanoseconds: impl TryInto<u32>) -> Timestamp {
    Timestamp { seconds, nanoseconds: nanoseconds.try_into().unwrap_or(0) }
}

pub fn mode_of(metadata: &Metadata) -> u32 {
    metadata.mode() & PERMISSIONS
}

pub const fn mode_here(mode: u32, _: EntryKind) -> u32 {
    mode
}

pub const fn time_here(time: Timestamp) -> Timestamp {
    time
}

pub fn modified_of(metadata: &Metadata) -> Timestamp {
    time(metadata.mtime(), metadata.mtime_nsec())
}

pub fn status_changed_of(metadata: &Metadata) -> Option<Timestamp> {
    Some(time(metadata.ctime(), metadata.ctime_nsec()))
}

fn identity(metadata: &Metadata) -> FileIdentity {
    FileIdentity { device: metadata.dev(), number: metadata.ino() }
}

pub fn identity_of(_: &File, metadata: &Metadata) -> io::Result<FileIdentity> {
    Ok(identity(metadata))
}

pub fn identity_at(_: &Path, metadata: &Metadata, _: Links) -> io::Result<(FileIdentity, u64)> {
    Ok((identity(metadata), metadata.nlink()))
}

/// `EMFILE` and `ENFILE` (POSIX.1-2024, errno.h): this process, or the system, has too many files open.
pub fn has_too_many_open(code: i32) -> bool {
    [rustix::io::Errno::MFILE, rustix::io::Errno::NFILE].iter().any(|error| error.raw_os_error() == code)
}

/// Open files stand in nobody's way.
pub const fn is_in_use(_: i32) -> bool {
    false
}

pub fn is_readable(path: &Path) -> bool {
    rustix::fs::accessat(CWD, path, Access::READ_OK, AtFlags::empty()).is_ok()
}
