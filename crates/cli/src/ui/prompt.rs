//! Questions on the terminal, passwords without echo. Never waits where nobody can answer.

use super::text::{columns, wrapped};
use crate::failure::Failure;
use crate::system::terminal::Settings;
use std::io::{self, IsTerminal as _, Write as _};
use std::path::PathBuf;
use std::sync::Mutex;
use under_seal_core::Error;
use under_seal_core::ground::secrets::Password;
use zeroize::Zeroizing;

/// A question and its choices that take more columns than this stand in two lines.
const ONE_LINE_COLUMNS: usize = 90;

/// What the password is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// Sealing: asked twice.
    Seal,
    /// Locking anew: asked twice, as the new one.
    Renew,
    /// Unlocking: asked once.
    Unlock,
}

/// Whether there is a terminal to ask on.
pub fn can_ask() -> bool {
    io::stdin().is_terminal() && io::stderr().is_terminal()
}

/// Asks whether to go on; the return key alone means no.
pub fn confirm(question: &str) -> Result<bool, Failure> {
    Ok(choose(question, &["[y]es", "[n]o"], Some(1))? == 0)
}

/// Asks for one of several choices, each written with its key in brackets (`[k]eep yours`), until one of the keys is typed, or the word
/// that it stands in. The return key alone takes the choice at `usual`, and that is said. Only where [`can_ask`] says yes.
pub fn choose(question: &str, choices: &[&str], usual: Option<usize>) -> Result<usize, Failure> {
    loop {
        if let Ok(place) = choose_or_read(question, choices, usual)? {
            return Ok(place);
        }
    }
}

/// The same where something else may be typed as well, if it is not one of the keys: [`Err`] holds it. An empty text is asked for again
/// where nothing is usual.
pub fn choose_or_read(
    question: &str,
    choices: &[&str],
    usual: Option<usize>,
) -> Result<Result<usize, String>, Failure> {
    let asked = question_line(question, choices, usual);
    let _asking = Asking::begin(Echo::On);
    loop {
        let answer = line(&asked)?;
        if answer.is_empty() {
            return Err(Failure::GivenUp);
        }
        let typed = answer.trim();
        match (typed, usual) {
            ("", Some(usual)) => return Ok(Ok(usual)),
            ("", None) => {}
            _ => {
                let place = choices.iter().position(|choice| is_chosen(choice, typed));
                return Ok(place.ok_or_else(|| typed.to_owned()));
            }
        }
    }
}

/// A question with its choices behind it, and what the return key does.
fn question_line(question: &str, choices: &[&str], usual: Option<usize>) -> String {
    let usual = usual.and_then(|usual| choices.get(usual)).map(|choice| format!(" (Enter means {})", word_of(choice)));
    let (choices, usual) = (choices.join(", "), usual.unwrap_or_default());
    let line = format!("{question} {choices}{usual}:");
    // What does not fit into one line stands clearer in two.
    let in_two = format!("{question}\n{choices}{usual}:");
    let is_long =
        columns(question.lines().last().unwrap_or_default()) + columns(&choices) + columns(&usual) > ONE_LINE_COLUMNS;
    format!("{} ", wrapped(if is_long { &in_two } else { &line }, &io::stderr()))
}

/// The word that a choice's key stands in: of `[k]eep yours` it is `keep`.
fn word_of(choice: &str) -> String {
    let word = choice.split(' ').find(|word| word.contains('[')).unwrap_or(choice);
    word.chars().filter(|letter| letter.is_alphanumeric()).collect()
}

fn is_chosen(choice: &str, typed: &str) -> bool {
    let key = choice.split(['[', ']']).nth(1).unwrap_or_default();
    key.eq_ignore_ascii_case(typed) || word_of(choice).eq_ignore_ascii_case(typed)
}

/// Asks for a path, which is taken as it is typed. `what` and `instead` tell those whom nobody can ask.
pub fn ask_for_path(question: &str, what: &'static str, instead: &'static str) -> Result<PathBuf, Failure> {
    if !can_ask() {
        return Err(Failure::NobodyToAsk { what, instead });
    }
    let _asking = Asking::begin(Echo::On);
    let answer = line(question)?;
    let path = answer.trim_end_matches(['\r', '\n']);
    if path.is_empty() { Err(Failure::GivenUp) } else { Ok(path.into()) }
}

/// Asks for a line; nothing typed takes what is usual, where something is, and that is said.
pub fn read_line(question: &str, usual: Option<&str>) -> Result<String, Failure> {
    let _asking = Asking::begin(Echo::On);
    let usual_said = usual.map(|usual| format!(" (Enter means {usual})")).unwrap_or_default();
    loop {
        let answer = line(&format!("{} ", wrapped(&format!("{question}{usual_said}:"), &io::stderr())))?;
        if answer.is_empty() {
            return Err(Failure::GivenUp);
        }
        match (answer.trim(), usual) {
            ("", Some(usual)) => return Ok(usual.to_owned()),
            ("", None) => {}
            (typed, _) => return Ok(typed.to_owned()),
        }
    }
}

/// Waits for the return key.
pub fn wait_for_enter(question: &str) -> Result<(), Failure> {
    let _asking = Asking::begin(Echo::On);
    line(question).map(drop)
}

/// Lets somebody else ask, on a terminal that is put back as it was whatever happens: a signal ends the program at once.
pub fn while_asking<T>(ask: impl FnOnce() -> T) -> T {
    let _asking = Asking::begin(Echo::On);
    ask()
}

/// A line that is shown as it is typed; empty, without even a line break, where nothing comes any more.
fn line(question: &str) -> Result<String, Failure> {
    let mut error = anstream::stderr();
    write!(error, "{question}").and_then(|()| error.flush()).map_err(Failure::Prompt)?;
    let mut answer = String::new();
    io::stdin().read_line(&mut answer).map_err(|error| match error.kind() {
        io::ErrorKind::Interrupted => Failure::GivenUp,
        _ => Failure::Prompt(error),
    })?;
    Ok(answer)
}

/// So often somebody may type two passwords that are not the same.
const ATTEMPTS: u32 = 3;

/// Asks for a password on the terminal; a new one twice.
pub fn ask(purpose: Purpose) -> Result<Password, Failure> {
    if !can_ask() {
        let (what, instead) = match purpose {
            Purpose::Renew => ("A new password is needed", "Give it with --new-password-from FILE."),
            _ => ("A password is needed", "Give it with --password-from FILE or in the variable UNDER_SEAL_PASSWORD."),
        };
        return Err(Failure::NobodyToAsk { what, instead });
    }
    let _asking = Asking::begin(Echo::Off);
    let question = if purpose == Purpose::Renew { "New password: " } else { "Password: " };
    for left in (0..ATTEMPTS).rev() {
        let password = hidden_line(question)?;
        if purpose == Purpose::Unlock || hidden_line("The same again: ")? == password {
            return Ok(password);
        }
        if left > 0 {
            let again = "The two passwords are not the same. Once more, from the beginning.";
            writeln!(anstream::stderr(), "{again}").map_err(Failure::Prompt)?;
        }
    }
    Err(Failure::PasswordsDiffer)
}

fn hidden_line(question: &str) -> Result<Password, Failure> {
    let line = rpassword::prompt_password(question).map_err(|error| match error.kind() {
        // A signal came; its handler may be a moment behind.
        io::ErrorKind::Interrupted => Failure::GivenUp,
        _ => Failure::Prompt(error),
    });
    let line = Zeroizing::new(line?);
    Ok(Password::new(&line).map_err(Error::from)?)
}

/// The terminal's settings from before something was asked, as long as it is, and whether the answer is shown.
static BEFORE_ASKING: Mutex<Option<(Settings, Echo)>> = Mutex::new(None);

/// Whether what is typed is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Echo {
    On,
    Off,
}

/// As long as something is asked, a signal ends the program at once. For a password there is no echo from before the
/// first question until after the last answer, so that what is typed early is not shown either. Dropped, it puts the
/// terminal back as it was.
struct Asking;

impl Asking {
    fn begin(echo: Echo) -> Self {
        // A terminal that cannot be set so is still asked without echo, once the question stands.
        if let (Ok(mut before), Some(settings)) = (BEFORE_ASKING.lock(), Settings::now()) {
            if echo == Echo::Off {
                settings.clone().without_echo().apply();
            }
            *before = Some((settings, echo));
        }
        Self
    }
}

impl Drop for Asking {
    fn drop(&mut self) {
        restore_terminal();
    }
}

/// Puts the terminal back as it was before a password was asked for; whether one was being asked for.
fn restore_terminal() -> bool {
    let Ok(mut before) = BEFORE_ASKING.lock() else { return false };
    let settings = before.take();
    if let Some((settings, _)) = &settings {
        settings.apply();
    }
    settings.is_some()
}

/// Before the program is stopped: the terminal as it was, if something is being asked.
pub fn show_typing() {
    set_echo(|_| true);
}

/// After the program goes on: no echo again, if a password is being asked for.
pub fn hide_typing() {
    set_echo(|echo| echo == Echo::On);
}

fn set_echo(on: impl Fn(Echo) -> bool) {
    let Ok(before) = BEFORE_ASKING.lock() else { return };
    if let Some((settings, echo)) = before.as_ref() {
        let settings = settings.clone();
        if on(*echo) { settings } else { settings.without_echo() }.apply();
    }
}

/// For the signal handler, since a waiting prompt notices nothing: if a password is being asked for, the
/// terminal is put back; whether it was.
pub fn give_up_asking() -> bool {
    let asking = restore_terminal();
    if asking {
        // The terminal may be gone.
        let _ = writeln!(io::stderr());
    }
    asking
}
