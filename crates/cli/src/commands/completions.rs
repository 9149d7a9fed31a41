//! `completions`: what lets a shell complete commands, options and the words that they take.

use super::{print_json, print_lines};
use crate::args::{Arguments, CompletionsArguments};
use crate::failure::{DONE, Failure};
use clap::{CommandFactory as _, ValueEnum as _};
use serde::Serialize;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    shell: String,
    script: String,
}

/// Runs the command; the exit code.
pub fn run(arguments: &CompletionsArguments) -> Result<u8, Failure> {
    let mut script = Vec::new();
    clap_complete::generate(arguments.shell, &mut Arguments::command(), "under-seal", &mut script);
    // For bash the library writes the hyphen of the program's name in two ways, so that nothing would be completed behind a command.
    let script = String::from_utf8_lossy(&script).replace("under__subcmd__seal", "under__seal");
    if arguments.output.json {
        let shell = arguments.shell.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default();
        print_json(&Report { command: "completions", exit_code: DONE, shell, script })?;
    } else {
        print_lines(&[script.trim_end().to_owned()])?;
    }
    Ok(DONE)
}
