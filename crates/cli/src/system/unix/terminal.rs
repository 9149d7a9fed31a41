//! The terminal of Unix (POSIX.1-2024 chapter 11).

use rustix::termios::{LocalModes, OptionalActions, Termios, tcgetattr, tcgetpgrp, tcsetattr};
use std::io;

/// How a terminal is set.
#[derive(Clone)]
pub struct Settings(Termios);

impl Settings {
    /// As it is set now; `None` where there is none.
    pub fn now() -> Option<Self> {
        tcgetattr(io::stdin()).ok().map(Self)
    }

    /// What is typed is not shown.
    pub fn without_echo(mut self) -> Self {
        self.0.local_modes.remove(LocalModes::ECHO);
        self
    }

    /// Control keys are not shown.
    pub fn without_control_keys(mut self) -> Self {
        self.0.local_modes.remove(LocalModes::ECHOCTL);
        self
    }

    /// Sets the terminal so. One that cannot be is as it was.
    pub fn apply(&self) {
        let _ = tcsetattr(io::stdin(), OptionalActions::Now, &self.0);
    }
}

/// Whether the terminal is this program's now: a program in the background that sets it is stopped by the system (POSIX.1-2024
/// section 11.1.4).
pub fn is_in_front() -> bool {
    tcgetpgrp(io::stdin()).is_ok_and(|front| front == rustix::process::getpgrp())
}

/// Whether nobody reads any more what is written, which is no failure: a reader has seen enough.
pub fn is_reader_gone(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::BrokenPipe
}
