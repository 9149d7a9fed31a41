//! Everything that can end a command, and the exit code that it ends with.

use std::io;
use std::path::PathBuf;
use under_seal_core::place::FileError;
use under_seal_core::{Error, ErrorClass};

/// Done, nothing to add.
pub const DONE: u8 = 0;
/// Done, with something to look at.
pub const LOOK: u8 = 1;
/// Volumes are missing.
pub const MISSING: u8 = 4;
/// Damaged or tampered with.
pub const DAMAGED: u8 = 5;
/// Something unsafe was refused.
pub const UNSAFE: u8 = 6;

/// Why a command stopped.
#[derive(Debug)]
pub enum Failure {
    /// The core stopped.
    Core(Error),
    /// The password file cannot be read.
    PasswordFile {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The password file is far too long to be one.
    PasswordFileTooLong(PathBuf),
    /// The variable holds no text.
    PasswordVariable,
    /// A password is needed and there is no terminal to ask on.
    NobodyToAsk,
    /// The two passwords typed are not the same.
    PasswordsDiffer,
    /// The user did not want to give a password.
    GivenUp,
    /// The terminal cannot be used.
    Prompt(io::Error),
    /// The result cannot be printed.
    Output(io::Error),
    /// The demonstration cannot write its data.
    File(FileError),
    /// A step of the demonstration went otherwise than told.
    Demonstration(String),
}

impl<E: Into<Error>> From<E> for Failure {
    fn from(error: E) -> Self {
        Self::Core(error.into())
    }
}

impl Failure {
    /// The exit code (README, "Exit codes").
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Core(error) => class_code(error.class()),
            Self::PasswordFile { source, .. } if source.kind() != io::ErrorKind::NotFound => 7,
            Self::PasswordFile { .. }
            | Self::PasswordFileTooLong(_)
            | Self::PasswordVariable
            | Self::NobodyToAsk
            | Self::PasswordsDiffer => 2,
            Self::Prompt(_) | Self::Output(_) | Self::File(_) => 7,
            Self::GivenUp => 130,
            Self::Demonstration(_) => LOOK,
        }
    }

    /// The exit code as a word, for JSON.
    pub fn kind(&self) -> &'static str {
        match self.exit_code() {
            LOOK => "look",
            2 => "usage",
            3 => "wrong-password",
            MISSING => "volumes-missing",
            DAMAGED => "damaged",
            UNSAFE => "refused",
            130 => "cancelled",
            _ => "system",
        }
    }
}

fn class_code(class: ErrorClass) -> u8 {
    match class {
        ErrorClass::Usage => 2,
        ErrorClass::WrongPassword => 3,
        ErrorClass::VolumesMissing => MISSING,
        ErrorClass::Damaged => DAMAGED,
        ErrorClass::Unsafe => UNSAFE,
        ErrorClass::System => 7,
        ErrorClass::Cancelled => 130,
    }
}
