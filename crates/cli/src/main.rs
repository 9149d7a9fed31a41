//! Under Seal: seals folders into password-encrypted volumes, and proves that they open again.
//!
//! What is typed becomes arguments ([`args`]) in [`mistyped`], which knows what people try first, once [`wildcards`] are expanded where no shell does that; [`settings`] puts them together with the configuration file, and [`named_file`] reads the small files that options name, [`credentials`]
//! puts them together with passwords and key files; [`secrecy`] keeps those in memory; [`places`] tells volumes from what is wanted of them. [`commands`] call the core and show its results, [`words`] turns errors into sentences
//! and [`failure`] into exit codes; [`attending`] keeps a browser no longer than the run that started it; [`ui`] draws, [`signals`] hears whether to stop, [`system`] alone knows which system it runs on, and [`session`] is what the core is lent, the
//! user's own key of [`owner`] among it.

mod archives;
mod args;
mod attending;
mod browsers;
mod commands;
mod credentials;
mod failure;
mod inflow;
mod leftover;
mod made_folders;
mod mistyped;
mod named_file;
mod owner;
mod places;
mod secrecy;
mod session;
mod settings;
mod signals;
mod standing_input;
mod system;
mod ui;
mod watching;
mod wildcards;
mod words;

use crate::leftover::remove_leftovers;
use args::Command;
use failure::{DONE, Failure, LOOK};
use made_folders::MissingFolders;
use mistyped::Typed;
use std::any::Any;
use std::io::Write as _;
use std::process::ExitCode;

/// The exit code of a defect in the program itself (sysexits.h, `EX_SOFTWARE`).
const DEFECT: u8 = 70;

fn main() -> ExitCode {
    if let Some(code) = attending::attend(std::env::args_os()) {
        return code;
    }
    signals::watch();
    // What is under way clears up as it is left; the words come once, in the end.
    std::panic::set_hook(Box::new(|_| {}));
    std::panic::catch_unwind(run).unwrap_or_else(|panic| {
        defect(&*panic);
        ExitCode::from(DEFECT)
    })
}

/// Says that the program itself went wrong.
fn defect(panic: &(dyn Any + Send)) {
    let what = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
    let what = what.or_else(|| panic.downcast_ref::<String>().cloned()).unwrap_or_default();
    remove_leftovers();
    say(&format!(
        "under-seal: The program has a defect, and stopped ({}). Nothing unfinished has a final name; the next run clears what is left under a temporary name. Please tell its makers what you typed.",
        ui::text::shown(what.as_bytes())
    ));
}

fn run() -> ExitCode {
    match mistyped::read(std::env::args_os()) {
        Typed::Arguments(arguments) => run_command(&arguments.command),
        Typed::Nothing => ended(commands::guide::offer(), "help", false),
        Typed::Text(text) => ended(commands::print_text(&text), "help", false),
        Typed::Mistaken { mistyped, command, json } => {
            ended(Err(Failure::Mistyped(mistyped)), command.unwrap_or_default(), json)
        }
    }
}

fn run_command(command: &Command) -> ExitCode {
    let (name, output) = command.output();
    session::start_output(output);
    let missing = MissingFolders::before(command.target(), matches!(command, Command::Open(_)));
    let outcome = commands::run(command);
    if !matches!(outcome, Ok(DONE | LOOK)) {
        missing.remove_empty();
    }
    ended(outcome, name, output.json && !command.prints_archive())
}

/// The exit code, once it is said what went wrong.
fn ended(outcome: Result<u8, Failure>, command: &'static str, json: bool) -> ExitCode {
    standing_input::remove();
    match outcome {
        Ok(code) => ExitCode::from(code),
        Err(failure) => {
            report(&failure, command, json);
            ExitCode::from(failure.exit_code())
        }
    }
}

fn report(failure: &Failure, command: &'static str, json: bool) {
    let message = words::explain_of(command, failure);
    if json {
        // If even this cannot be printed, the exit code still tells.
        let _ = commands::print_failure(command, failure, &message);
    }
    say(&format!("under-seal: {message}"));
}

fn say(sentence: &str) {
    let sentence = ui::text::wrapped(sentence, &std::io::stderr());
    let name = ui::paint::paint(ui::paint::Tone::Bad, "under-seal:");
    // The terminal may be gone by now (SIGHUP); the exit code still tells.
    let _ = writeln!(anstream::stderr(), "{}", sentence.replacen("under-seal:", &name, 1));
}
