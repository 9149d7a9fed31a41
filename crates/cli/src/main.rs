//! Under Seal: seals folders into password-encrypted volumes, and proves that they open again.
//!
//! Arguments come in through [`args`]; [`settings`] puts them together with the configuration file, and [`credentials`]
//! with passwords and key files; [`places`] tells volumes from what is wanted of them. [`commands`] call the core and show its results, [`words`] turns errors into sentences
//! and [`failure`] into exit codes; [`ui`] draws, and [`session`] is what the core is lent, the
//! user's own key of [`owner`] among it.

mod archives;
mod args;
mod commands;
mod credentials;
mod failure;
mod owner;
mod places;
mod session;
mod settings;
mod ui;
mod words;

use args::{Arguments, Command};
use clap::Parser as _;
use failure::Failure;
use std::io::Write as _;
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    session::watch_signals();
    let (command, work) = match &arguments.command {
        Command::Plan(plan) => ("plan", Some(&plan.work)),
        Command::Pack(pack) => ("pack", Some(&pack.work)),
        Command::Fits(_) => ("fits", None),
        Command::Check(check) => ("check", Some(&check.work)),
        Command::Open(open) => ("open", Some(&open.work)),
        Command::List(list) => ("list", Some(&list.work)),
        Command::About(about) => ("about", Some(&about.work)),
        Command::Compare(compare) => ("compare", Some(&compare.work)),
        Command::Receipt(receipt) => ("receipt", Some(&receipt.work)),
        Command::Confirm(confirm) => ("confirm", Some(&confirm.work)),
        Command::Resend(resend) => ("resend", Some(&resend.work)),
        Command::Handover(handover) => ("handover", Some(&handover.work)),
        Command::Rehearse(rehearse) => ("rehearse", Some(&rehearse.work)),
        Command::Portion(portion) => ("portion", Some(&portion.work)),
        Command::Reunite(reunite) => ("reunite", Some(&reunite.work)),
        Command::Peek(_) => ("peek", None),
        Command::Demo(_) => ("demo", None),
    };
    let json = work.is_some_and(|work| work.json) || matches!(&arguments.command, Command::Fits(fits) if fits.json);
    session::start_log(work.map_or(0, |work| work.verbose));
    let outcome = match &arguments.command {
        Command::Plan(arguments) => commands::plan::run(arguments),
        Command::Pack(arguments) => commands::pack::run(arguments),
        Command::Fits(arguments) => commands::fits::run(arguments),
        Command::Check(arguments) => commands::check::run(arguments),
        Command::Open(arguments) => commands::open::run(arguments),
        Command::List(arguments) => commands::list::run(arguments),
        Command::About(arguments) => commands::about::run(arguments),
        Command::Peek(arguments) => commands::peek::run(arguments),
        Command::Compare(arguments) => commands::compare::run(arguments),
        Command::Receipt(arguments) => commands::receipt::run(arguments),
        Command::Confirm(arguments) => commands::confirm::run(arguments),
        Command::Resend(arguments) => commands::resend::run(arguments),
        Command::Handover(arguments) => commands::handover::run(arguments),
        Command::Rehearse(arguments) => commands::rehearse::run(arguments),
        Command::Portion(arguments) => commands::portion::run(arguments),
        Command::Reunite(arguments) => commands::reunite::run(arguments),
        Command::Demo(arguments) => commands::demo::run(arguments),
    };
    match outcome {
        Ok(code) => ExitCode::from(code),
        Err(failure) => {
            report(&failure, command, json);
            ExitCode::from(failure.exit_code())
        }
    }
}

fn report(failure: &Failure, command: &'static str, json: bool) {
    let message = words::explain(failure);
    if json {
        // If even this cannot be printed, the exit code still tells.
        let _ = commands::print_failure(command, failure, &message);
    }
    let sentence = ui::text::wrapped(&format!("under-seal: {message}"), &std::io::stderr());
    let name = ui::paint::paint(ui::paint::Tone::Bad, "under-seal:");
    // The terminal may be gone by now (SIGHUP); the exit code still tells.
    let _ = writeln!(anstream::stderr(), "{}", sentence.replacen("under-seal:", &name, 1));
}
