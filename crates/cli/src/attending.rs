//! Attending to a browser, so that it never outlives the run that started it, however that ends: this very program, started once more,
//! starts the browser and ends it when its own input is closed. Nobody types that; the first argument tells it.

use crate::system::{program_at, programs};
use std::ffi::{OsStr, OsString};
use std::io::{self, Read as _};
use std::path::Path;
use std::process::{Command, ExitCode, Stdio};
use std::sync::mpsc::channel;
use std::time::Duration;

/// The argument that asks for it.
const ATTEND: &str = "--attend-to";

/// So often it is looked whether the browser has ended by itself.
const LOOK_EVERY: Duration = Duration::from_millis(100);

/// What starts a program that ends when the input of what is started is closed; its arguments are to be added.
///
/// # Errors
/// [`io::ErrorKind::NotFound`] where there is no such program: whoever attends could not tell any more.
pub fn attended(program: &Path) -> io::Result<Command> {
    if program_at(program).is_none() {
        return Err(io::ErrorKind::NotFound.into());
    }
    let mut command = programs::command(std::env::current_exe()?);
    command.arg(ATTEND).arg(program).stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
    Ok(command)
}

/// Attends to the program that is named, where that is asked for; how it ended.
pub fn attend(mut arguments: impl Iterator<Item = OsString>) -> Option<ExitCode> {
    if arguments.nth(1).as_deref() != Some(OsStr::new(ATTEND)) {
        return None;
    }
    let ended = arguments.next().map(|program| ends_with(&program, arguments));
    Some(if ended.is_some_and(|ended| ended.is_ok()) { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

fn ends_with(program: &OsStr, arguments: impl Iterator<Item = OsString>) -> io::Result<()> {
    let mut command = programs::command(program);
    let mut child = command.args(arguments).stdin(Stdio::null()).spawn()?;
    let (closed, told) = channel();
    std::thread::Builder::new().spawn(move || {
        // Nothing is ever written to it: it ends.
        let _ = io::stdin().read_to_end(&mut Vec::new());
        let _ = closed.send(());
    })?;
    while child.try_wait()?.is_none() {
        if told.recv_timeout(LOOK_EVERY).is_ok() {
            // One that has ended just now cannot be ended.
            let _ = child.kill();
            break;
        }
    }
    child.wait().map(drop)
}
