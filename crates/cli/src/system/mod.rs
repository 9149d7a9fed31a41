//! What the program asks of the system itself: the terminal, what it is told while it runs, other programs, and what only its user may
//! see. No other module of the program knows on which system it is; files and names are the core's.
//!
//! [`unix`] and [`windows`] have the same functions.

use std::env;
use std::io;
use std::path::{Path, PathBuf};

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

/// Where a program is: at its path, or, where that is a name alone, in the first of the folders in which programs are sought that has it.
pub fn program_at(program: &Path) -> Option<PathBuf> {
    if program.components().nth(1).is_some() {
        return program.is_file().then(|| program.to_owned());
    }
    env::split_paths(&env::var_os("PATH")?).map(|folder| folder.join(program)).find(|path| path.is_file())
}
