//! The terms in which a system is asked, the same on every one.

use cap_std::fs::Dir;
use std::path::Path;

/// Whether opening a path may go through a link at its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Links {
    /// Links are followed.
    Follow,
    /// A link is an error.
    Refuse,
}

/// By which a system knows a file, whatever it is called.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FileIdentity {
    /// The file system.
    pub device: u64,
    /// The file on it.
    pub number: u64,
}

/// The permission bits of a new folder: nobody else may enter.
pub const NEW_FOLDER_MODE: u32 = 0o700;

/// An open folder, and the path that it was opened under.
pub type Place<'a> = (&'a Dir, &'a Path);
