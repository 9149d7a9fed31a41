//! `guide`: step by step through sending or receiving. Each step asks one question, takes the sensible answer for the return key, goes
//! back for `b`, and shows the command that the answers stand for. Those commands are then run as if they had been typed, and in the
//! end they stand there as a script.

mod lines;
mod recipient;
mod sender;

use super::print_text;
use crate::args::screens;
use crate::failure::Failure;
use crate::ui::paint::{Tone, paint};
use crate::ui::prompt;
use std::io::Write as _;
use std::path::PathBuf;

/// What a question leads to.
enum Turn {
    /// The next question.
    Next,
    /// The one before.
    Back,
}

/// One question, on what has been answered so far.
type Step<T> = fn(&mut T) -> Result<Turn, Failure>;

/// Who is led.
const ROLES: [&str; 2] = ["[s]end something", "[o]pen something that you received"];

/// For the bare program: somebody at a terminal is offered the guide, everybody is shown the commands.
pub fn offer() -> Result<u8, Failure> {
    let overview = || print_text(&screens::command().render_help());
    if !prompt::can_ask() {
        overview()?;
        // Whoever calls it with nothing from a script has made a mistake.
        return Ok(2);
    }
    say("Under Seal packs files and folders into password-encrypted archives, and proves that they open again.");
    match prompt::choose("Do you want to", &[ROLES[0], ROLES[1], "see all [c]ommands"], Some(2))? {
        0 => sender::run(),
        1 => recipient::run(),
        _ => overview(),
    }
}

/// Runs the command; the exit code.
pub fn run() -> Result<u8, Failure> {
    if !prompt::can_ask() {
        return Err(Failure::NobodyToAsk {
            what: "The guide asks its questions on a terminal",
            instead: "Without one, `under-seal help` shows commands and examples.",
        });
    }
    say("At each step, b goes back and Ctrl-C ends it. Nothing is written before the last yes.");
    match prompt::choose("Do you want to", &ROLES, Some(0))? {
        0 => sender::run(),
        _ => recipient::run(),
    }
}

/// Asks one question after the other, back and forth.
fn ask_all<T>(answers: &mut T, steps: &[Step<T>]) -> Result<(), Failure> {
    let mut at = 0;
    while let Some(step) = steps.get(at) {
        at = match step(answers)? {
            Turn::Next => at + 1,
            Turn::Back => at.saturating_sub(1),
        };
    }
    Ok(())
}

/// A sentence on the way, on standard error as the questions are.
fn say(sentence: &str) {
    // The terminal may be gone; the next question notices.
    let _ = writeln!(anstream::stderr(), "{}", crate::ui::text::wrapped(sentence, &std::io::stderr()));
}

/// A heading for one step.
fn step(title: &str) {
    say(&format!("\n{}", paint(Tone::Strong, title)));
}

/// What was typed at a question with free text: `None` goes back.
fn read(question: &str, usual: Option<&str>) -> Result<Option<String>, Failure> {
    let typed = prompt::read_line(question, usual)?;
    Ok((typed != "b").then_some(typed))
}

/// The paths that were typed, as a shell takes them apart, asked for until all of them are there: `None` goes back.
fn read_paths(question: &str, usual: Option<&str>) -> Result<Option<Vec<PathBuf>>, Failure> {
    loop {
        let Some(typed) = read(question, usual)? else { return Ok(None) };
        let Some(paths) = shlex::split(&typed).filter(|paths| !paths.is_empty()) else {
            say("A quote has no end. Type it again.");
            continue;
        };
        let paths: Vec<PathBuf> = paths.iter().map(|path| typed_path(path)).collect();
        match paths.iter().find(|path| !path.exists()) {
            Some(absent) => say(&format!(
                "{} is not there. Check the spelling, and the folder that you are in.",
                crate::ui::text::path(absent)
            )),
            None => return Ok(Some(paths)),
        }
    }
}

/// A path as it was typed: with the home folder put in, as a shell does, and so that no command takes it for an option.
fn typed_path(typed: &str) -> PathBuf {
    match (typed.strip_prefix("~/"), std::env::home_dir()) {
        (Some(rest), Some(home)) => home.join(rest),
        _ if typed.starts_with('-') => PathBuf::from(".").join(typed),
        _ => PathBuf::from(typed),
    }
}

/// The choice at a question, of which the last goes back.
fn choose(question: &str, choices: &[&str], usual: usize) -> Result<Option<usize>, Failure> {
    let with_back: Vec<&str> = choices.iter().copied().chain(["[b]ack"]).collect();
    let chosen = prompt::choose(question, &with_back, Some(usual))?;
    Ok((chosen < choices.len()).then_some(chosen))
}
