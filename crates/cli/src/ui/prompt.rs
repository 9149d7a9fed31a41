//! The password: from a file, from the variable, or asked for without echo. Never waits where nobody can answer.

use crate::args::PasswordArguments;
use crate::failure::Failure;
use rustix::termios::{LocalModes, OptionalActions, Termios};
use std::fs;
use std::io::{self, IsTerminal as _, Write as _};
use std::sync::Mutex;
use under_seal_core::Error;
use under_seal_core::sealed::Password;
use zeroize::Zeroizing;

/// The variable that holds a password for programs that run this one.
pub const PASSWORD_VARIABLE: &str = "UNDER_SEAL_PASSWORD";

/// No password file is longer than this; what is longer was named by mistake.
const MAX_PASSWORD_FILE_BYTES: u64 = 64 * 1024;

/// What the password is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// Sealing: asked twice.
    Seal,
    /// Unlocking: asked once.
    Unlock,
}

/// The password given by option or variable, if there is one.
pub fn given(arguments: &PasswordArguments) -> Result<Option<Password>, Failure> {
    if let Some(path) = &arguments.password_from {
        let unreadable = |source| Failure::PasswordFile { path: path.clone(), source };
        let length = fs::metadata(path).map_err(unreadable)?.len();
        if length > MAX_PASSWORD_FILE_BYTES {
            return Err(Failure::PasswordFileTooLong(path.clone()));
        }
        let bytes = fs::read(path).map_err(unreadable)?;
        return Ok(Some(Password::from_file_bytes(bytes).map_err(Error::from)?));
    }
    match std::env::var_os(PASSWORD_VARIABLE) {
        Some(value) => {
            let value = Zeroizing::new(value.into_encoded_bytes());
            let text = std::str::from_utf8(&value).map_err(|_| Failure::PasswordVariable)?;
            Ok(Some(Password::new(text).map_err(Error::from)?))
        }
        None => Ok(None),
    }
}

/// The password given by option or variable, or else asked for.
pub fn password(arguments: &PasswordArguments, purpose: Purpose) -> Result<Password, Failure> {
    match given(arguments)? {
        Some(password) => Ok(password),
        None => ask(purpose),
    }
}

/// Asks on the terminal.
pub fn ask(purpose: Purpose) -> Result<Password, Failure> {
    if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
        return Err(Failure::NobodyToAsk);
    }
    let _echo_off = EchoOff::begin();
    let password = hidden_line("Password: ")?;
    if purpose == Purpose::Seal && hidden_line("The same again: ")? != password {
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

/// The terminal's settings from before a password was asked for, as long as it is.
static BEFORE_ASKING: Mutex<Option<Termios>> = Mutex::new(None);

/// No echo from before the first question until after the last answer, so that what is typed early is not
/// shown either. Dropped, it puts the terminal back as it was.
struct EchoOff;

impl EchoOff {
    fn begin() -> Self {
        // A terminal that cannot be set so is still asked without echo, once the question stands.
        if let (Ok(mut before), Ok(settings)) = (BEFORE_ASKING.lock(), rustix::termios::tcgetattr(io::stdin())) {
            let mut silent = settings.clone();
            silent.local_modes.remove(LocalModes::ECHO);
            let _ = rustix::termios::tcsetattr(io::stdin(), OptionalActions::Now, &silent);
            *before = Some(settings);
        }
        Self
    }
}

impl Drop for EchoOff {
    fn drop(&mut self) {
        restore_terminal();
    }
}

/// Puts the terminal back as it was before a password was asked for; whether one was being asked for.
fn restore_terminal() -> bool {
    let Ok(mut before) = BEFORE_ASKING.lock() else { return false };
    let settings = before.take();
    if let Some(settings) = &settings {
        // If even that fails there is nothing more to be done.
        let _ = rustix::termios::tcsetattr(io::stdin(), OptionalActions::Now, settings);
    }
    settings.is_some()
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
