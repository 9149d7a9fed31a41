//! `peek`: one file of an archive, to standard output or in the system's viewer, reading no more than that file; of a folder, what is
//! directly in it.

mod as_json;
mod viewer;

use super::list::nothing;
use crate::archives::{load_all, verify_first};
use crate::args::{PeekArguments, WorkArguments};
use crate::credentials::Wanted;
use crate::failure::{DONE, Failure};
use crate::places::tell_apart;
use crate::session;
use crate::system::terminal;
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use std::io::{self, IsTerminal as _, Write};
use under_seal_core::formats::listing::Listing;
use under_seal_core::ground::context::Cancelled;
use under_seal_core::ground::entry::{Content, Entry, EntryKind, ListedEntry};
use under_seal_core::ground::sink::EntrySink;
use under_seal_core::tasks::list::folders_called;
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
    let mut typed = tell_apart(&arguments.typed, &WorkArguments::quiet());
    // What is sought comes last, even where something of that name is here as well.
    let sought = match typed.inside.len() {
        // The archive alone: what is at its top.
        0 if typed.places.len() == 1 => String::new(),
        0 => typed.places.pop().map(|last| last.to_string_lossy().into_owned()).unwrap_or_default(),
        1 => typed.inside.remove(0),
        _ => return Err(Failure::SeveralToPeek),
    };
    // What is printed may be on the same screen: no bar may write over it.
    let quiet = WorkArguments::quiet();
    let mut archive = load_all(&typed.places, &arguments.unlock, Wanted::Content, &quiet)?;
    if sought.is_empty() {
        return super::list::show_folder(&archive, &sought, &arguments.output);
    }
    let place = match find(archive.listing(), &sought) {
        Ok(place) => place,
        Err(failure) if folders_called(archive.listing(), &sought)?.is_empty() => return Err(failure),
        Err(_) => return super::list::show_folder(&archive, &sought, &arguments.output),
    };
    let progress = ProgressLine::for_reading(None, &quiet);
    let context = session::context(&progress, None);
    if arguments.viewer {
        let mut copy = PrivateCopy::begin()?;
        let read = archive.extract_some(&[place], &mut copy, &context);
        return copy.shown_after(read).map(|()| DONE);
    }
    verify_first(&mut archive, place, &context)?;
    if arguments.output.json {
        return as_json::print(&mut *archive, place, &context);
    }
    let looks = io::stdout().is_terminal() && !arguments.raw;
    let mut printer = Printer { output: io::stdout().lock(), looks, path: sought, stopped: None };
    let read = archive.extract_some(&[place], &mut printer, &context);
    match printer.stopped {
        None => Ok(read.map(|()| DONE)?),
        Some(Stop::Failed(failure)) => Err(failure),
        // Whoever reads this has seen enough.
        Some(Stop::Closed) => Ok(DONE),
    }
}

/// The place of a file: its path, or the end of its path where only one file ends so.
fn find(listing: Listing<'_>, sought: &str) -> Result<usize, Failure> {
    let wanted = sought.trim_start_matches("./").as_bytes();
    let mut found = Vec::new();
    for (place, listed) in listing.iter().enumerate() {
        let ListedEntry { entry, .. } = &*listed?;
        if entry.kind != EntryKind::File {
            continue;
        }
        if entry.path.as_bytes() == wanted {
            return Ok(place);
        }
        if entry.path.as_bytes().strip_suffix(wanted).is_some_and(|front| front.ends_with(b"/")) {
            found.push((place, entry.path.clone()));
        }
    }
    match found.as_slice() {
        [(only, _)] => Ok(*only),
        [] => Err(nothing(listing, sought)),
        _ => Err(Failure::SeveralInside {
            sought: crate::ui::text::shown(wanted),
            found: found.iter().map(|(_, path)| crate::ui::text::shown(path.as_bytes())).collect(),
        }),
    }
}

/// Why printing stops.
enum Stop {
    Closed,
    Failed(Failure),
}

struct Printer<W> {
    output: W,
    /// Whether the beginning is still to be looked at: no terminal takes what is no text.
    looks: bool,
    path: String,
    stopped: Option<Stop>,
}

impl<W: Write> Printer<W> {
    fn stop(&mut self, why: Stop) -> Cancelled {
        self.stopped = Some(why);
        Cancelled
    }

    fn printed(&mut self, outcome: io::Result<()>) -> Result<(), Cancelled> {
        outcome.map_err(|error| match terminal::is_reader_gone(&error) {
            true => self.stop(Stop::Closed),
            false => self.stop(Stop::Failed(Failure::Output(error))),
        })
    }
}

impl<W: Write> EntrySink for Printer<W> {
    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        if std::mem::take(&mut self.looks) && !is_text(&bytes[..bytes.len().min(LOOKED_AT_BYTES)]) {
            let why = Stop::Failed(Failure::NoText(self.path.clone()));
            return Err(self.stop(why));
        }
        let outcome = self.output.write_all(bytes);
        self.printed(outcome)
    }

    fn end(&mut self, _: &Entry, _: &Content) -> Result<(), Cancelled> {
        let outcome = self.output.flush();
        self.printed(outcome)
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
