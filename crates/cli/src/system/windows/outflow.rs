//! Standard output that an archive goes to.

use std::io::{self, Write};

/// Standard output.
pub struct StandardOutput(io::Stdout);

impl StandardOutput {
    /// Standard output.
    ///
    /// # Errors
    /// None; what is closed says so when it is written to.
    pub fn open() -> io::Result<Self> {
        Ok(Self(io::stdout()))
    }
}

impl Write for StandardOutput {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}
