//! One file a command: read arguments, call the core, show the result.

pub mod check;
pub mod demo;
pub mod open;
pub mod pack;

use crate::failure::Failure;
use serde::Serialize;
use std::io::Write as _;

/// Prints lines to standard output, in colour where that is a terminal.
fn print_lines(lines: &[String]) -> Result<(), Failure> {
    let mut output = anstream::stdout().lock();
    for line in lines {
        writeln!(output, "{line}").map_err(Failure::Output)?;
    }
    output.flush().map_err(Failure::Output)
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
