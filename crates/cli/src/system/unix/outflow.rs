//! Standard output that an archive goes to: whether it is open at all, and waited for no longer than the user wishes.

use crate::signals;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{FileType, OFlags, fcntl_getfl, fstat, stat};
use std::io::{self, Write};

/// So often it is asked whether the work is to stop, while nothing is taken: every fifth of a second.
const LOOK_EVERY: Timespec = Timespec { tv_sec: 0, tv_nsec: 200_000_000 };

/// What a pipe that is ready takes without waiting (POSIX.1-2024, `_POSIX_PIPE_BUF` is the least; Linux, pipe(7)).
const PIPE_BYTES: usize = 4_096;

/// Standard output.
pub struct StandardOutput {
    output: io::Stdout,
    /// Somebody reads at the other end, and may be slow.
    has_reader: bool,
}

impl StandardOutput {
    /// Standard output, where it is open.
    ///
    /// # Errors
    /// [`io::ErrorKind::NotConnected`] where the program was started with it closed.
    pub fn open() -> io::Result<Self> {
        let output = io::stdout();
        let found = fstat(&output)?;
        // Rust's library opens /dev/null for reading and writing in the place of what is closed; a shell opens it for writing only.
        let is_null = stat("/dev/null").is_ok_and(|null| null.st_rdev == found.st_rdev);
        if is_null && fcntl_getfl(&output)? & OFlags::RWMODE == OFlags::RDWR {
            return Err(io::Error::new(io::ErrorKind::NotConnected, "standard output is closed"));
        }
        let has_reader = matches!(FileType::from_raw_mode(found.st_mode), FileType::Fifo | FileType::Socket);
        Ok(Self { output, has_reader })
    }
}

impl Write for StandardOutput {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if !self.has_reader {
            return self.output.write(bytes);
        }
        // What the library still holds goes first.
        self.output.flush()?;
        loop {
            let mut waited = [PollFd::new(&self.output, PollFlags::OUT)];
            let ready = match poll(&mut waited, Some(&LOOK_EVERY)) {
                // A signal came.
                Err(rustix::io::Errno::INTR) => 0,
                outcome => outcome?,
            };
            if signals::is_stopping() {
                return Err(io::Error::other("the work is to stop"));
            }
            if ready > 0 {
                return Ok(rustix::io::write(&self.output, &bytes[..bytes.len().min(PIPE_BYTES)])?);
            }
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        self.output.flush()
    }
}
