//! What flows into the program while it runs: standard input and other descriptors that are open already. Each is read once, by
//! whoever claims it first: a password, a list of paths, or what is packed.

use crate::failure::{BadValue, Failure};
use crate::signals;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, IsTerminal as _, Read};
use std::os::fd::AsFd as _;
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};

/// So often it is asked whether the work is to stop, while nothing comes: every fifth of a second.
const LOOK_EVERY: Timespec = Timespec { tv_sec: 0, tv_nsec: 200_000_000 };

/// The number of its descriptor (POSIX.1-2024, `STDIN_FILENO`).
const STANDARD_INPUT_NUMBER: u32 = 0;

/// The descriptors that are read already.
static CLAIMED: Mutex<BTreeSet<u32>> = Mutex::new(BTreeSet::new());

/// Standard input, which something is piped into.
///
/// # Errors
/// [`BadValue::NothingPiped`] where it is a terminal, and [`BadValue::ReadTwice`] where it is read already.
pub fn standard_input() -> Result<io::Result<File>, Failure> {
    if io::stdin().is_terminal() {
        return Err(Failure::Value(BadValue::NothingPiped));
    }
    claim(STANDARD_INPUT_NUMBER)?;
    // Without the library's own buffer, in which a password would stay.
    Ok(io::stdin().as_fd().try_clone_to_owned().map(File::from))
}

/// The descriptor of this number.
///
/// # Errors
/// [`BadValue::ReadTwice`] where it is read already; what the system says where it is not open.
pub fn descriptor(number: u32) -> Result<io::Result<File>, Failure> {
    claim(number)?;
    Ok(File::open(descriptor_path(number)))
}

/// Where the system has a descriptor as a file.
pub fn descriptor_path(number: u32) -> PathBuf {
    PathBuf::from(format!("/dev/fd/{number}"))
}

/// Something that is waited for no longer than the user wishes: where the work is to stop, it ends.
pub struct Stoppable(pub File);

impl Read for Stoppable {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            let mut waited = [PollFd::new(&self.0, PollFlags::IN)];
            let ready = match poll(&mut waited, Some(&LOOK_EVERY)) {
                // A signal came.
                Err(rustix::io::Errno::INTR) => 0,
                outcome => outcome?,
            };
            if signals::is_stopping() {
                return Ok(0);
            }
            if ready > 0 {
                return self.0.read(buffer);
            }
        }
    }
}

fn claim(number: u32) -> Result<(), Failure> {
    let is_first = CLAIMED.lock().unwrap_or_else(PoisonError::into_inner).insert(number);
    if is_first { Ok(()) } else { Err(Failure::Value(BadValue::ReadTwice)) }
}
