//! The note of a handover, played: what it tells the recipient to run is run as it stands, with this very program, in a folder that holds
//! what the recipient has then; once with the files of the folder, once with what the drafts bring.

use super::StepLine;
use crate::args::RehearseArguments;
use crate::credentials::PASSWORD_VARIABLE;
use crate::failure::{DONE, Failure, LOOK};
use crate::places::gather;
use crate::system::programs;
use crate::ui::text::{self, count};
use std::ffi::OsString;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::slice;
use std::time::Instant;
use under_seal_core::Error;
use under_seal_core::disk::{FileAction, FileError};
use under_seal_core::formats::abilities::TimesKept;
use under_seal_core::ground::context::Context;
use under_seal_core::ground::entry::ListedEntry;
use under_seal_core::ground::secrets::{Credentials, Password};
use under_seal_core::tasks::handover::NOTE_TEXT;
use under_seal_core::tasks::rehearse::note::{commands, holds_exactly, receive_drafts, receive_files, wrong_sum};

/// Into this folder a note has everything extracted.
const OPENED: &str = "opened";

/// What is needed to play it.
pub(super) struct Note<'a> {
    pub handover: &'a Path,
    pub arguments: &'a RehearseArguments,
    /// What unlocks it, where it needs a password.
    pub credentials: Option<&'a Credentials>,
    /// What comes out of it, in the end.
    pub expected: &'a [ListedEntry],
    pub times: TimesKept,
    /// An empty folder that only the user may enter.
    pub place: &'a Path,
    /// The file by which an archive of another format is opened, whose note names no command.
    pub open_by: Option<PathBuf>,
}

/// Plays it; a step for the note, and one for the drafts where there are some.
pub(super) fn play(note: &Note<'_>, context: &Context<'_>) -> Result<Vec<StepLine>, Failure> {
    let begun = Instant::now();
    let desk = note.desk("saved")?;
    let text = receive_files(note.handover, &desk).map_err(Error::from)?;
    let verdict = match wrong_sum(&desk, context).map_err(Error::from)? {
        Some(name) => {
            Err(format!("{}: its SHA-256 is not the one that was handed over with it", text::shown(name.as_bytes())))
        }
        None => note.run(&text, &desk, context)?,
    };
    let told = verdict.map(|ran| format!("{ran} of {NOTE_TEXT}, as they stand, gave everything"));
    let mut steps = vec![step("note", begun, told)];
    let begun = Instant::now();
    let desk = note.desk("attached")?;
    if let Some((drafts, text)) = receive_drafts(note.handover, &desk).map_err(Error::from)? {
        let told = note.run(&text, &desk, context)?;
        let told = told.map(|ran| format!("{ran} of the first of {}, too", count(drafts as u64, "message")));
        steps.push(step("drafts", begun, told));
    }
    Ok(steps)
}

fn step(step: &'static str, begun: Instant, verdict: Result<String, String>) -> StepLine {
    let passed = verdict.is_ok();
    StepLine { step, seconds: begun.elapsed().as_secs_f64(), passed, verdict: verdict.unwrap_or_else(|why| why) }
}

impl Note<'_> {
    /// A folder for the recipient, with what the recipient has already: what was opened before, and the key file.
    fn desk(&self, name: &str) -> Result<PathBuf, Failure> {
        let desk = self.place.join(name);
        fs::create_dir_all(&desk).map_err(FileError::on(FileAction::Create, &desk))?;
        let copy = |file: &Path| -> Result<(), Failure> {
            let to = desk.join(file.file_name().unwrap_or_default());
            Ok(fs::copy(file, &to).map(drop).map_err(FileError::on(FileAction::Create, &to))?)
        };
        for archive in &self.arguments.after {
            for file in gather(slice::from_ref(archive), &self.arguments.work)?.paths() {
                copy(&file)?;
            }
        }
        self.arguments.unlock.password.key_file.as_deref().map_or(Ok(()), copy)?;
        if !self.arguments.after.is_empty() {
            let key_file = self.arguments.unlock.password.key_file.as_deref().and_then(Path::file_name);
            let key_file = key_file.into_iter().flat_map(|name| ["--key-file".into(), name.to_owned()]);
            let line = ["open", ".", "--all", "--update", "--into", OPENED].map(OsString::from);
            self.started(line.into_iter().chain(key_file), &desk, true)?;
        }
        Ok(desk)
    }

    /// Runs the commands of a text; how many there were, or what went wrong.
    fn run(&self, text: &str, desk: &Path, context: &Context<'_>) -> Result<Result<String, String>, Failure> {
        let mut lines: Vec<(String, Vec<OsString>)> = Vec::new();
        for line in commands(text) {
            let Some(words) = shlex::split(line) else { return Ok(Err(format!("no shell takes {line}"))) };
            lines.push((line.to_owned(), words.into_iter().map(OsString::from).collect()));
        }
        if let (true, Some(file)) = (lines.is_empty(), &self.open_by) {
            let words = ["open".into(), file.as_os_str().to_owned(), "--into".into(), OPENED.into()];
            lines.push(("open".to_owned(), words.to_vec()));
        }
        for (line, words) in &lines {
            context.go_on().map_err(|cancelled| Failure::Core(Error::from(cancelled)))?;
            // Checking asks for no password; everything else of a note may.
            let asks = words.first().is_none_or(|command| command != "check");
            let (code, said) = self.started(words.iter().cloned(), desk, asks)?;
            if code != DONE && code != LOOK {
                let said = said.lines().next().unwrap_or_default().trim_start_matches("under-seal: ").to_owned();
                return Ok(Err(format!("\"under-seal {line}\" ends with {code}: {said}")));
            }
        }
        let is_whole = holds_exactly(&desk.join(OPENED), self.expected, self.times, context).map_err(Error::from)?;
        Ok(match is_whole {
            true => Ok(count(lines.len() as u64, "command")),
            false => Err("what its commands extract is not what was packed".to_owned()),
        })
    }

    /// Runs this program with these words in a folder; its exit code, and what it says of what went wrong.
    fn started(
        &self,
        words: impl Iterator<Item = OsString>,
        folder: &Path,
        asks: bool,
    ) -> Result<(u8, String), Failure> {
        let program = std::env::current_exe().map_err(Failure::Temporary)?;
        let mut command = programs::command(program);
        command.args(words).current_dir(folder).stdin(Stdio::null());
        let password = self.credentials.filter(|_| asks).map(|credentials| &credentials.password);
        if let Some(password) = password.and_then(|password: &Password| std::str::from_utf8(password.as_bytes()).ok()) {
            command.env(PASSWORD_VARIABLE, password);
        }
        let output = command.output().map_err(Failure::Temporary)?;
        let code = output.status.code().and_then(|code| u8::try_from(code).ok());
        let ended = || Failure::Temporary(io::Error::other("a command of the note was ended"));
        Ok((code.ok_or_else(ended)?, String::from_utf8_lossy(&output.stderr).into_owned()))
    }
}
