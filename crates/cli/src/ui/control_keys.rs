//! Ctrl-C under a bar: terminals show it as two letters where the cursor is, which would push the bar up by a line that nothing takes
//! away. As long as a bar is on the screen, they do not.

use rustix::termios::{LocalModes, OptionalActions, Termios, tcgetattr, tcgetpgrp, tcsetattr};
use std::io;
use std::sync::Mutex;

/// The terminal as it was.
static BEFORE: Mutex<Option<Termios>> = Mutex::new(None);

/// Control keys are not shown any more.
pub fn hide() {
    if !is_in_front() {
        return;
    }
    if let (Ok(mut before), Ok(settings)) = (BEFORE.lock(), tcgetattr(io::stdin())) {
        let mut silent = settings.clone();
        silent.local_modes.remove(LocalModes::ECHOCTL);
        // A terminal that cannot be set so shows them: nothing worse.
        let _ = tcsetattr(io::stdin(), OptionalActions::Now, &silent);
        before.get_or_insert(settings);
    }
}

/// The terminal is as it was.
pub fn show() {
    let Some(settings) = BEFORE.lock().ok().and_then(|mut before| before.take()) else { return };
    if is_in_front() {
        let _ = tcsetattr(io::stdin(), OptionalActions::Now, &settings);
    }
}

/// Whether the terminal is this program's now: a program in the background that sets it is stopped by the system (POSIX.1-2024
/// section 11.1.4).
fn is_in_front() -> bool {
    tcgetpgrp(io::stdin()).is_ok_and(|front| front == rustix::process::getpgrp())
}
