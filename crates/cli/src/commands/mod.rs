//! One file a command: read arguments, call the core, show the result.

pub mod about;
pub mod check;
pub mod compare;
pub mod completions;
pub mod confirm;
pub mod deliveries;
mod demo;
mod extras;
pub mod fits;
pub mod guide;
pub mod handover;
pub mod help;
mod in_place;
pub mod list;
pub mod manual;
mod mend;
pub mod open;
pub mod pack;
pub mod page;
pub mod peek;
pub mod plan;
pub mod portion;
pub mod recast;
pub mod receipt;
pub mod rehearse;
pub mod relock;
pub mod resend;
pub mod reunite;
pub mod revise;
pub mod since;
mod sources;
mod standing;

use crate::args::{Command, OutputArguments, WorkArguments};
use crate::failure::{DONE, Failure};
use crate::system::terminal::is_reader_gone;
use crate::system::unless_reader_gone;
use crate::ui::pager;
use crate::ui::paint::gist;
use crate::ui::text;
use serde::Serialize;
use std::io::{self, BufWriter, Write};

/// Does what was typed; the exit code.
pub fn run(command: &Command) -> Result<u8, Failure> {
    match command {
        Command::Plan(arguments) => plan::run(arguments),
        Command::Pack(arguments) => pack::run(arguments),
        Command::Fits(arguments) => fits::run(arguments),
        Command::Page(arguments) => page::run(arguments),
        Command::Check(arguments) => check::run(arguments),
        Command::Open(arguments) => open::run(arguments),
        Command::List(arguments) => list::run(arguments),
        Command::About(arguments) => about::run(arguments),
        Command::Peek(arguments) => peek::run(arguments),
        Command::Compare(arguments) => compare::run(arguments),
        Command::Revise(arguments) => revise::run(arguments),
        Command::Recast(arguments) => recast::run(arguments),
        Command::Relock(arguments) => relock::run(arguments),
        Command::Receipt(arguments) => receipt::run(arguments),
        Command::Confirm(arguments) => confirm::run(arguments),
        Command::Mend(arguments) => mend::run(arguments),
        Command::Resend(arguments) => resend::run(arguments),
        Command::Handover(arguments) => handover::run(arguments),
        Command::Rehearse(arguments) => rehearse::run(arguments),
        Command::Portion(arguments) => portion::run(arguments),
        Command::Reunite(arguments) => reunite::run(arguments),
        Command::Guide(_) => guide::run(),
        Command::Help(arguments) => help::run(arguments),
        Command::Completions(arguments) => completions::run(arguments),
        Command::Manual(arguments) => manual::run(arguments),
        Command::Demo(arguments) => demo::run(arguments),
    }
}

/// Prints lines to standard output, in colour where that is a terminal. A reader who has seen enough, and closed
/// the pipe, is no failure.
fn print_lines(lines: &[String]) -> Result<(), Failure> {
    print_lines_to(anstream::stdout().lock(), lines)
}

fn print_lines_to(output: impl Write, lines: &[String]) -> Result<(), Failure> {
    print_each_to(output, lines.iter().map(|line| Ok(line.as_str())))
}

/// Prints lines as they come, of which all together may be more than there is memory for.
fn print_each(lines: impl Iterator<Item = Result<String, Failure>>) -> Result<(), Failure> {
    print_each_to(BufWriter::new(anstream::stdout().lock()), lines)
}

fn print_each_to<T: AsRef<str>>(
    mut output: impl Write,
    lines: impl Iterator<Item = Result<T, Failure>>,
) -> Result<(), Failure> {
    let mut print =
        |lines: &str| lines.split('\n').try_for_each(|line| writeln!(output, "{}", text::within_terminal(line)));
    for line in lines {
        match print(line?.as_ref()) {
            Err(error) if is_reader_gone(&error) => return Ok(()),
            printed => printed.map_err(Failure::Output)?,
        }
    }
    unless_reader_gone(output.flush()).map_err(Failure::Output)
}

/// Prints a text that was asked for, such as help.
pub fn print_text(text: &clap::builder::StyledStr) -> Result<u8, Failure> {
    pager::show(&text.ansi().to_string()).map(|()| DONE).map_err(Failure::Output)
}

/// How a result is printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Printing {
    /// As lines for people.
    Lines,
    /// As one JSON object.
    Json,
    /// Not at all.
    Nothing,
}

impl From<&OutputArguments> for Printing {
    fn from(output: &OutputArguments) -> Self {
        match (output.json, output.quiet) {
            (true, _) => Self::Json,
            (false, true) => Self::Nothing,
            (false, false) => Self::Lines,
        }
    }
}

impl From<&WorkArguments> for Printing {
    fn from(work: &WorkArguments) -> Self {
        Self::from(&work.output)
    }
}

/// Prints a result.
fn show(
    report: &impl Serialize,
    printing: impl Into<Printing>,
    lines: impl FnOnce() -> Vec<String>,
) -> Result<(), Failure> {
    match printing.into() {
        Printing::Lines => print_lines(&lines()),
        Printing::Json => print_json(report),
        Printing::Nothing => say_what_went_wrong(report, lines),
    }
}

/// What makes the exit code another than 0 is said even where nothing else is, in one line on standard error.
fn say_what_went_wrong(report: &impl Serialize, lines: impl FnOnce() -> Vec<String>) -> Result<(), Failure> {
    let told = serde_json::to_value(report).map_err(io::Error::from).map_err(Failure::Output)?;
    if told["exit_code"] == DONE {
        return Ok(());
    }
    let lines = lines();
    let line = gist(&lines).split('\n').map(str::trim).collect::<Vec<_>>().join(" ");
    writeln!(anstream::stderr(), "under-seal: {line}").map_err(Failure::Output)
}

/// Prints a result to standard error, where standard output has something else.
fn show_aside(
    report: &impl Serialize,
    printing: impl Into<Printing>,
    lines: impl FnOnce() -> Vec<String>,
) -> Result<(), Failure> {
    match printing.into() {
        Printing::Lines => print_lines_to(anstream::stderr().lock(), &lines()),
        Printing::Json => print_json_to(io::stderr().lock(), report),
        Printing::Nothing => say_what_went_wrong(report, lines),
    }
}

/// Prints one JSON object to standard output.
fn print_json(value: &impl Serialize) -> Result<(), Failure> {
    print_json_to(io::stdout().lock(), value)
}

/// As it comes: all of it may be more than there is memory for.
fn print_json_to(output: impl Write, value: &impl Serialize) -> Result<(), Failure> {
    let mut output = BufWriter::new(output);
    let printed = serde_json::to_writer_pretty(&mut output, value).map_err(io::Error::from);
    let printed = printed.and_then(|()| writeln!(output)).and_then(|()| output.flush());
    unless_reader_gone(printed).map_err(Failure::Output)
}

/// A failed command as a JSON object (docs/json.md).
#[derive(Serialize)]
struct FailureObject<'a> {
    command: &'a str,
    exit_code: u8,
    error: &'a str,
    reason: &'a str,
}

/// Prints the JSON object of a command that failed.
pub fn print_failure(command: &str, failure: &Failure, reason: &str) -> Result<(), Failure> {
    print_json(&FailureObject { command, exit_code: failure.exit_code(), error: failure.kind(), reason })
}
