//! `peek`: one file of an archive, to standard output or in the system's viewer, reading no more than that file.

mod viewer;

use super::list::nothing;
use crate::archives::{Wanted, archive_failure, given};
use crate::args::{PeekArguments, WorkArguments};
use crate::failure::{DONE, Failure};
use crate::places::tell_apart;
use crate::session;
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use std::io::{self, IsTerminal as _, Write};
use under_seal_core::Error;
use under_seal_core::formats::reader::{ArchiveReader as _, ExtractError, verify_some};
use under_seal_core::ground::entry::{Content, Entry, EntryKind, EntrySink, ListedEntry};
use viewer::PrivateCopy;

/// So much of a file decides whether it is text.
const LOOKED_AT_BYTES: usize = 8 * 1024;

/// Runs the command; the exit code.
pub fn run(arguments: &PeekArguments) -> Result<u8, Failure> {
    if arguments.viewer && !prompt::can_ask() {
        return Err(Failure::NobodyToAsk {
            what: "A viewer is waited for on a terminal",
            instead: "Without --viewer the file is printed.",
        });
    }
    let mut typed = tell_apart(&arguments.typed);
    // What is sought comes last, even where something of that name is here as well.
    let sought = match typed.inside.len() {
        0 => typed.places.pop().map(|last| last.to_string_lossy().into_owned()).unwrap_or_default(),
        1 => typed.inside.remove(0),
        _ => return Err(Failure::SeveralToPeek),
    };
    // What is printed may be on the same screen: no bar may write over it.
    let quiet = WorkArguments { quiet: true, ..WorkArguments::default() };
    let mut archive = given(&typed.places, &quiet)?.load(&arguments.unlock, Wanted::Content, &quiet)?.archive;
    let place = find(archive.entries(), &sought)?;
    let progress = ProgressLine::for_reading(None, &quiet);
    let context = session::context(&progress, None);
    if arguments.viewer {
        let mut copy = PrivateCopy::begin()?;
        return match archive.extract_some(&[place], &mut copy, &context) {
            Ok(()) => copy.show().map(|()| DONE),
            Err(ExtractError::Sink(error)) => Err(Failure::Viewer(error)),
            Err(ExtractError::Archive(error)) => Err(Failure::Core(Error::from(error))),
        };
    }
    if archive.sealed().is_none() {
        // What other formats let through may turn out damaged in the end: nothing of that is printed.
        verify_some(&mut archive, &[place], &context).map_err(archive_failure)?;
    }
    let looks = io::stdout().is_terminal() && !arguments.raw;
    let mut printer = Printer { output: io::stdout().lock(), looks, path: sought };
    match archive.extract_some(&[place], &mut printer, &context) {
        Ok(()) => Ok(DONE),
        Err(ExtractError::Sink(Stop::Failed(failure))) => Err(failure),
        // Whoever reads this has seen enough.
        Err(ExtractError::Sink(Stop::Closed)) => Ok(DONE),
        Err(ExtractError::Archive(error)) => Err(Failure::Core(Error::from(error))),
    }
}

/// The place of a file: its path, or the end of its path where only one file ends so.
fn find(entries: &[ListedEntry], sought: &str) -> Result<usize, Failure> {
    let wanted = sought.trim_start_matches("./").as_bytes();
    let is_file = |place: &usize| entries[*place].entry.kind == EntryKind::File;
    let whole = |place: &usize| entries[*place].entry.path.as_bytes() == wanted;
    let at_end = |place: &usize| {
        let front = entries[*place].entry.path.as_bytes().strip_suffix(wanted);
        front.is_some_and(|front| front.ends_with(b"/"))
    };
    let files = || (0..entries.len()).filter(is_file);
    if let Some(place) = files().find(whole) {
        return Ok(place);
    }
    let found: Vec<usize> = files().filter(at_end).collect();
    match found.as_slice() {
        [only] => Ok(*only),
        [] => Err(nothing(entries, sought)),
        _ => Err(Failure::SeveralInside {
            sought: crate::ui::text::shown(wanted),
            found: found.iter().map(|place| crate::ui::text::shown(entries[*place].entry.path.as_bytes())).collect(),
        }),
    }
}

/// Why printing stops.
#[derive(Debug)]
enum Stop {
    Closed,
    Failed(Failure),
}

impl std::fmt::Display for Stop {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.write_str("printing stopped")
    }
}

struct Printer<W> {
    output: W,
    /// Whether the beginning is still to be looked at: no terminal takes what is no text.
    looks: bool,
    path: String,
}

impl<W: Write> Printer<W> {
    fn printed(outcome: io::Result<()>) -> Result<(), Stop> {
        outcome.map_err(|error| match error.kind() {
            io::ErrorKind::BrokenPipe => Stop::Closed,
            _ => Stop::Failed(Failure::Output(error)),
        })
    }
}

impl<W: Write> EntrySink for Printer<W> {
    type Error = Stop;

    fn begin(&mut self, _: &Entry) -> Result<(), Stop> {
        Ok(())
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), Stop> {
        if std::mem::take(&mut self.looks) && !is_text(&bytes[..bytes.len().min(LOOKED_AT_BYTES)]) {
            return Err(Stop::Failed(Failure::NoText(self.path.clone())));
        }
        Self::printed(self.output.write_all(bytes))
    }

    fn end(&mut self, _: &Entry, _: &Content) -> Result<(), Stop> {
        Self::printed(self.output.flush())
    }
}

/// Whether bytes are text that harms no terminal: UTF-8, maybe cut at the end, without escapes.
fn is_text(bytes: &[u8]) -> bool {
    let valid = match std::str::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) if error.error_len().is_none() => std::str::from_utf8(&bytes[..error.valid_up_to()]).unwrap_or(""),
        Err(_) => return false,
    };
    valid.chars().all(|letter| !letter.is_control() || matches!(letter, '\n' | '\r' | '\t' | '\u{c}'))
}
