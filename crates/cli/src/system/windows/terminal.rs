//! The terminal of Windows: what asks for a password turns the echo off itself, and control keys are not shown anyway.

use std::io;

/// How a terminal is set.
#[derive(Clone)]
pub struct Settings;

impl Settings {
    /// As it is set now.
    pub fn now() -> Option<Self> {
        Some(Self)
    }

    /// What is typed is not shown, as long as it is asked for.
    pub fn without_echo(self) -> Self {
        self
    }

    /// They are not.
    pub fn without_control_keys(self) -> Self {
        self
    }

    /// It is as it was.
    pub fn apply(&self) {}
}

/// There are no programs in the background of a terminal.
pub fn is_in_front() -> bool {
    true
}

/// Whether nobody reads any more what is written, which is no failure: a reader has seen enough.
pub fn is_reader_gone(error: &io::Error) -> bool {
    // `ERROR_PIPE_NOT_CONNECTED` (winerror.h).
    error.kind() == io::ErrorKind::BrokenPipe || error.raw_os_error() == Some(233)
}
