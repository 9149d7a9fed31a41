//! Under Seal: seals folders into password-encrypted volumes, and proves that they open again.
//!
//! Arguments come in through [`args`]; [`settings`] puts them together with the configuration file, and [`named_file`] reads the small files that options name, [`credentials`]
//! puts them together with passwords and key files; [`secrecy`] keeps those in memory; [`places`] tells volumes from what is wanted of them. [`commands`] call the core and show its results, [`words`] turns errors into sentences
//! and [`failure`] into exit codes; [`ui`] draws, and [`signals`] hears of the system, and [`session`] is what the core is lent, the
//! user's own key of [`owner`] among it.

mod archives;
mod args;
mod browsers;
mod commands;
mod credentials;
mod failure;
mod leftover;
mod named_file;
mod owner;
mod places;
mod secrecy;
mod session;
mod settings;
mod signals;
mod ui;
mod words;

use crate::leftover::remove_leftover;
use args::{Arguments, Command};
use clap::Parser as _;
use failure::Failure;
use std::any::Any;
use std::io::Write as _;
use std::process::ExitCode;

/// The exit code of a defect in the program itself (sysexits.h, `EX_SOFTWARE`).
const DEFECT: u8 = 70;

fn main() -> ExitCode {
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
    remove_leftover();
    say(&format!(
        "under-seal: The program itself went wrong, and stopped ({}). Nothing that is not finished has a final name; whatever is left under a \
         temporary name is cleared by the next run. Please tell its makers what you had typed.",
        ui::text::shown(what.as_bytes())
    ));
}

fn run() -> ExitCode {
    let arguments = Arguments::parse();
    let (command, work) = match &arguments.command {
        Command::Plan(plan) => ("plan", Some(&plan.work)),
        Command::Pack(pack) => ("pack", Some(&pack.work)),
        Command::Fits(_) => ("fits", None),
        Command::Page(_) => ("page", None),
        Command::Check(check) => ("check", Some(&check.work)),
        Command::Open(open) => ("open", Some(&open.work)),
        Command::List(list) => ("list", Some(&list.work)),
        Command::About(about) => ("about", Some(&about.work)),
        Command::Compare(compare) => ("compare", Some(&compare.work)),
        Command::Revise(revise) => ("revise", Some(&revise.work)),
        Command::Recast(recast) => ("recast", Some(&recast.work)),
        Command::Relock(relock) => ("relock", Some(&relock.work)),
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
    let json = work.is_some_and(|work| work.json) || arguments.command.prints_json_alone();
    session::start_log(work.map_or(0, |work| work.verbose));
    let outcome = match &arguments.command {
        Command::Plan(arguments) => commands::plan::run(arguments),
        Command::Pack(arguments) => commands::pack::run(arguments),
        Command::Fits(arguments) => commands::fits::run(arguments),
        Command::Page(arguments) => commands::page::run(arguments),
        Command::Check(arguments) => commands::check::run(arguments),
        Command::Open(arguments) => commands::open::run(arguments),
        Command::List(arguments) => commands::list::run(arguments),
        Command::About(arguments) => commands::about::run(arguments),
        Command::Peek(arguments) => commands::peek::run(arguments),
        Command::Compare(arguments) => commands::compare::run(arguments),
        Command::Revise(arguments) => commands::revise::run(arguments),
        Command::Recast(arguments) => commands::recast::run(arguments),
        Command::Relock(arguments) => commands::relock::run(arguments),
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
    say(&format!("under-seal: {message}"));
}

fn say(sentence: &str) {
    let sentence = ui::text::wrapped(sentence, &std::io::stderr());
    let name = ui::paint::paint(ui::paint::Tone::Bad, "under-seal:");
    // The terminal may be gone by now (SIGHUP); the exit code still tells.
    let _ = writeln!(anstream::stderr(), "{}", sentence.replacen("under-seal:", &name, 1));
}
