//! What the program asks of the system itself: the terminal, what it is told while it runs, other programs, and what only its user may
//! see. No other module of the program knows on which system it is; files and names are the core's.
//!
//! [`unix`] and [`windows`] have the same functions.

use std::io;

#[cfg(unix)]
mod unix;
#[cfg(windows)]
mod windows;

#[cfg(unix)]
pub use unix::{inflow, outflow, privacy, programs, signals, terminal};
#[cfg(windows)]
pub use windows::{inflow, outflow, privacy, programs, signals, terminal};

/// What printing came to. A reader who has seen enough, and is gone, is no failure.
pub fn unless_reader_gone(printed: io::Result<()>) -> io::Result<()> {
    match printed {
        Err(error) if terminal::is_reader_gone(&error) => Ok(()),
        outcome => outcome,
    }
}
