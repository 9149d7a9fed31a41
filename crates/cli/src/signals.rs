//! What the system tells the program: to stop, and to pause.

use crate::failure::CANCELLED;
use crate::leftover::remove_leftovers;
use crate::system;
use crate::ui::{progress, prompt, stopwatch};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

/// Set by the first Ctrl-C, or whatever else the system says that means it.
static STOPPING: AtomicBool = AtomicBool::new(false);

/// Whether the user wants to stop.
pub fn is_stopping() -> bool {
    STOPPING.load(Ordering::Relaxed)
}

/// Lets the first signal stop the work in good order, and the second end it at once; lets Ctrl-Z stop the program and `fg`
/// continue it, with the terminal usable meanwhile and the time not counted.
pub fn watch() {
    system::signals::heed(stop, pause);
}

fn stop() {
    if STOPPING.swap(true, Ordering::SeqCst) || prompt::give_up_asking() {
        progress::clear_screen();
        remove_leftovers();
        std::process::exit(CANCELLED.into());
    }
}

fn pause(until_continued: &dyn Fn() -> bool) {
    prompt::show_typing();
    let stopped = Instant::now();
    if until_continued() {
        stopwatch::was_stopped(stopped.elapsed());
    }
    prompt::hide_typing();
}
