//! Open files of Unix.

use crate::disk::terms::Links;
use crate::ground::entry::Timestamp;
use rustix::fs::{Mode, OFlags, RawMode, Timespec, Timestamps, UTIME_OMIT};
use std::fs::File;
use std::io;
use std::num::NonZeroU64;
use std::os::unix::fs::FileExt as _;
use std::path::Path;

/// What a new file lets be done with it, before the user's own mask is applied.
const NEW_FILE_MODE: RawMode = 0o666;

/// Never waits on a pipe or device.
pub fn open_to_read(path: &Path, links: Links) -> io::Result<File> {
    let no_follow = if links == Links::Refuse { OFlags::NOFOLLOW } else { OFlags::empty() };
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC | no_follow;
    Ok(rustix::fs::open(path, flags, Mode::empty())?.into())
}

/// Makes it where it is not there; no link, and nothing that would be waited for.
pub fn open_to_append(path: &Path) -> io::Result<File> {
    let flags =
        OFlags::WRONLY | OFlags::CREATE | OFlags::APPEND | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    Ok(rustix::fs::open(path, flags, Mode::from_raw_mode(NEW_FILE_MODE))?.into())
}

pub fn read_at(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
    file.read_at(buffer, offset)
}

pub fn write_at(file: &File, bytes: &[u8], offset: u64) -> io::Result<usize> {
    file.write_at(bytes, offset)
}

/// A hint: the system may drop these pages from its cache, and begins to write out what it holds back of them.
#[cfg(not(target_os = "macos"))]
pub fn drop_cached(file: &File, from: u64, length: Option<NonZeroU64>) {
    let _ = rustix::fs::fadvise(file, from, length, rustix::fs::Advice::DontNeed);
}

/// There is no such hint.
#[cfg(target_os = "macos")]
pub fn drop_cached(_: &File, _from: u64, _length: Option<NonZeroU64>) {}

/// Tells what the system says when it is closed: some tell only then that what was written is lost.
pub fn close(file: File) -> io::Result<()> {
    Ok(nix::unistd::close(file)?)
}

pub fn set_mode_and_time(file: &File, mode: u32, modified: Timestamp) -> io::Result<()> {
    rustix::fs::fchmod(file, Mode::from_raw_mode(mode as RawMode))?;
    Ok(rustix::fs::futimens(file, &modified_only(modified))?)
}

pub(super) fn modified_only(modified: Timestamp) -> Timestamps {
    Timestamps {
        last_access: Timespec { tv_sec: 0, tv_nsec: UTIME_OMIT },
        last_modification: Timespec { tv_sec: modified.seconds, tv_nsec: modified.nanoseconds.into() },
    }
}
