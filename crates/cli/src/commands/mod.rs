//! One file a command: read arguments, call the core, show the result.

pub mod about;
pub mod check;
pub mod compare;
pub mod confirm;
pub mod demo;
pub mod fits;
pub mod handover;
mod in_place;
pub mod list;
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
mod standing;

use crate::args::WorkArguments;
use crate::failure::Failure;
use serde::Serialize;
use std::io::{self, Write as _};

/// Prints lines to standard output, in colour where that is a terminal. A reader who has seen enough, and closed
/// the pipe, is no failure.
fn print_lines(lines: &[String]) -> Result<(), Failure> {
    let mut output = anstream::stdout().lock();
    let mut print = || {
        lines.iter().try_for_each(|line| writeln!(output, "{line}"))?;
        output.flush()
    };
    match print() {
        Err(error) if error.kind() != io::ErrorKind::BrokenPipe => Err(Failure::Output(error)),
        _ => Ok(()),
    }
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

impl From<&WorkArguments> for Printing {
    fn from(work: &WorkArguments) -> Self {
        match (work.json, work.quiet) {
            (true, _) => Self::Json,
            (false, true) => Self::Nothing,
            (false, false) => Self::Lines,
        }
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
        Printing::Nothing => Ok(()),
    }
}

/// Prints one JSON object to standard output.
fn print_json(value: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value).map_err(|error| Failure::Output(error.into()))?;
    print_lines(&[text])
}

/// A failed command as a JSON object (docs/json.md).
#[derive(Serialize)]
struct FailureObject<'a> {
    command: &'a str,
    exit_code: u8,
    error: &'a str,
    message: &'a str,
}

/// Prints the JSON object of a command that failed.
pub fn print_failure(command: &str, failure: &Failure, message: &str) -> Result<(), Failure> {
    print_json(&FailureObject { command, exit_code: failure.exit_code(), error: failure.kind(), message })
}
