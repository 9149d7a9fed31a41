//! Standard input and other descriptors that are open already.

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::fs::File;
use std::io::{self, Read};
use std::os::fd::AsFd as _;
use std::path::PathBuf;

/// So often it is asked whether the work is to stop, while nothing comes: every fifth of a second.
const LOOK_EVERY: Timespec = Timespec { tv_sec: 0, tv_nsec: 200_000_000 };

/// Standard input, without the library's own buffer, in which a password would stay.
pub fn standard_input() -> io::Result<File> {
    io::stdin().as_fd().try_clone_to_owned().map(File::from)
}

/// The descriptor of this number.
pub fn descriptor(number: u32) -> io::Result<File> {
    File::open(descriptor_path(number))
}

/// Where the system has a descriptor as a file.
pub fn descriptor_path(number: u32) -> PathBuf {
    PathBuf::from(format!("/dev/fd/{number}"))
}

/// Something that is waited for no longer than the user wishes: where the work is to stop, it ends.
pub struct Stoppable {
    from: File,
    is_stopping: fn() -> bool,
}

impl Stoppable {
    /// What comes from here, until this says that the work is to stop.
    pub fn new(from: File, is_stopping: fn() -> bool) -> Self {
        Self { from, is_stopping }
    }
}

impl Read for Stoppable {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            let mut waited = [PollFd::new(&self.from, PollFlags::IN)];
            let ready = match poll(&mut waited, Some(&LOOK_EVERY)) {
                // A signal came.
                Err(rustix::io::Errno::INTR) => 0,
                outcome => outcome?,
            };
            if (self.is_stopping)() {
                return Ok(0);
            }
            if ready > 0 {
                return self.from.read(buffer);
            }
        }
    }
}
