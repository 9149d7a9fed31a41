//! Questions on the terminal, passwords without echo. Never waits where nobody can answer.

use crate::failure::Failure;
use rustix::termios::{LocalModes, OptionalActions, Termios};
use std::io::{self, IsTerminal as _, Write as _};
use std::path::PathBuf;
use std::sync::Mutex;
use under_seal_core::Error;
use under_seal_core::ground::secrets::Password;
use zeroize::Zeroizing;

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

/// Asks whether to go on; `yes` alone means yes.
pub fn confirm(question: &str) -> Result<bool, Failure> {
    let _asking = Asking::begin(Echo::On);
    let answer = line(&format!("{question} Type yes to go on: "))?;
    Ok(answer.trim().eq_ignore_ascii_case("yes"))
}

/// Asks for one of several words, until one of them is given. Only where [`can_ask`] says yes.
pub fn choose(question: &str, words: &[&str]) -> Result<usize, Failure> {
    let _asking = Asking::begin(Echo::On);
    loop {
        let answer = line(&format!("{question} Type {}: ", words.join(", ")))?;
        if let Some(place) = words.iter().position(|word| word.eq_ignore_ascii_case(answer.trim())) {
            return Ok(place);
        }
        if answer.is_empty() {
            return Err(Failure::GivenUp);
        }
    }
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

/// Asks for a password on the terminal.
pub fn ask(purpose: Purpose) -> Result<Password, Failure> {
    if !can_ask() {
        let (what, instead) = match purpose {
            Purpose::Renew => ("A new password is needed", "Give it with --new-password-from FILE."),
            _ => ("A password is needed", "Give it with --password-from FILE or in the variable UNDER_SEAL_PASSWORD."),
        };
        return Err(Failure::NobodyToAsk { what, instead });
    }
    let _asking = Asking::begin(Echo::Off);
    let password = hidden_line(if purpose == Purpose::Renew { "New password: " } else { "Password: " })?;
    if purpose != Purpose::Unlock && hidden_line("The same again: ")? != password {
        return Err(Failure::PasswordsDiffer);
    }
    Ok(password)
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
static BEFORE_ASKING: Mutex<Option<(Termios, Echo)>> = Mutex::new(None);

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
        if let (Ok(mut before), Ok(settings)) = (BEFORE_ASKING.lock(), rustix::termios::tcgetattr(io::stdin())) {
            if echo == Echo::Off {
                let mut silent = settings.clone();
                silent.local_modes.remove(LocalModes::ECHO);
                let _ = rustix::termios::tcsetattr(io::stdin(), OptionalActions::Now, &silent);
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
        // If even that fails there is nothing more to be done.
        let _ = rustix::termios::tcsetattr(io::stdin(), OptionalActions::Now, settings);
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
        let mut settings = settings.clone();
        if !on(*echo) {
            settings.local_modes.remove(LocalModes::ECHO);
        }
        // If that fails there is nothing more to be done.
        let _ = rustix::termios::tcsetattr(io::stdin(), OptionalActions::Now, &settings);
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
