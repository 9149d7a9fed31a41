//! What the system said no to, in words, and whatever else can interrupt any work.

use crate::ui::text::{name, path};
use std::ffi::OsString;
use std::io;
use std::path::Path;
use under_seal_core::disk::{FileAction, FileError, Interruption, has_too_many_open, is_in_use};
use under_seal_core::ground::pipeline::{NoThreads, Stopped};

/// What is said wherever somebody ends what is under way, or answers a question so.
pub const CANCELLED: &str = "Cancelled. Nothing unfinished is left.";

/// What interrupted some work. `outcome` is a sentence on what there is of it then; empty where there is nothing to say.
pub fn interrupted(error: &Interruption, outcome: &str) -> String {
    match error {
        Interruption::Cancelled(_) => CANCELLED.to_owned(),
        Interruption::File(error) => file_error(error),
        Interruption::NoThreads(error) => no_threads(*error),
        Interruption::Stopped(Stopped::NoMemory) => format!("{outcome} {TOO_LITTLE_MEMORY}").trim_start().to_owned(),
        Interruption::NoRandomness(_) => {
            format!("{outcome} The system gives no random numbers, without which no key can be made.")
                .trim_start()
                .to_owned()
        }
        Interruption::Stopped(Stopped::Unwanted) => {
            let outcome = if outcome.is_empty() { "It was not done." } else { outcome };
            format!("{outcome} Something else had failed before.")
        }
    }
}

/// The system does not give as many threads as are wanted; half of what it gave leaves room for the others that are needed.
pub fn no_threads(NoThreads(had): NoThreads) -> String {
    match had / 2 {
        0 => {
            "The system gives this program too few threads to work with. Close other programs and try again.".to_owned()
        }
        fewer => format!("The system gives this program no more than {had} threads. Add --threads {fewer}."),
    }
}

/// The system gives no memory for what comes next.
pub const TOO_LITTLE_MEMORY: &str =
    "There is too little memory. Close other programs, or add --threads 1, which takes least.";

/// What the system said, as the end of a sentence.
pub fn system(error: &io::Error) -> String {
    match error.kind() {
        _ if is_in_use(error) => "it is open in another program".to_owned(),
        io::ErrorKind::NotFound => "it is not there".to_owned(),
        io::ErrorKind::PermissionDenied => "permission denied".to_owned(),
        io::ErrorKind::AlreadyExists => "it is there already".to_owned(),
        io::ErrorKind::StorageFull => "the disk is full".to_owned(),
        io::ErrorKind::QuotaExceeded => "your quota on this disk is used up".to_owned(),
        io::ErrorKind::FileTooLarge => "the file system cannot hold a file that large".to_owned(),
        io::ErrorKind::ReadOnlyFilesystem => "the disk is read-only".to_owned(),
        io::ErrorKind::NotADirectory => "it, or something on the way to it, is not a folder".to_owned(),
        io::ErrorKind::IsADirectory => "it is a folder".to_owned(),
        io::ErrorKind::InvalidFilename => "the name is too long".to_owned(),
        io::ErrorKind::InvalidData => "it is not UTF-8 text".to_owned(),
        _ => {
            let text = error.to_string();
            // Windows ends it as a sentence of its own.
            text.split(" (os error").next().unwrap_or(&text).trim_end_matches('.').to_lowercase()
        }
    }
}

pub fn file_error(error: &FileError) -> String {
    let what = match error.action {
        FileAction::Open => "cannot be opened",
        FileAction::Read => "cannot be read",
        FileAction::List => "cannot be listed",
        FileAction::Create => "cannot be made",
        FileAction::Write | FileAction::Sync | FileAction::Close => "cannot be written",
        FileAction::Rename => "cannot be given its name",
        FileAction::Remove => "cannot be removed",
    };
    let next = match error.source.kind() {
        _ if is_in_use(&error.source) => " Close it there, and try again.",
        _ if has_too_many_open(&error.source) => " Let the program open more (ulimit -n), or add --threads 1.",
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => " Make room, or choose another place.",
        io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem
            if !matches!(error.action, FileAction::Open | FileAction::Read | FileAction::List) =>
        {
            " Choose a place where you may write."
        }
        io::ErrorKind::PermissionDenied => " Ask its owner for the right to read it.",
        io::ErrorKind::InvalidFilename => " Choose a shorter name with --to or --name.",
        _ => "",
    };
    let reason = match (error.action, error.source.kind()) {
        (FileAction::Create, io::ErrorKind::NotFound) => "the system allows nothing to be made there".to_owned(),
        _ => system(&error.source),
    };
    format!("{} {what}: {reason}.{next}", path(&error.path))
}

pub fn missing_path(at: &Path, similar: &[OsString]) -> String {
    if at.is_symlink() {
        return format!("{} is a link that leads nowhere. Name what it should lead to.", path(at));
    }
    let there = match similar {
        [] => "Check the spelling.".to_owned(),
        similar => {
            let names: Vec<String> = similar.iter().map(|similar| name(similar)).collect();
            format!("Beside it there is: {}.", names.join(", "))
        }
    };
    format!("{} does not exist. {there}", path(at))
}
