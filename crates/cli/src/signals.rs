//! What the system tells the program: to stop, to pause, that a file grew too large. What whoever started it had told the system
//! to ignore stays ignored.

use crate::failure::CANCELLED;
use crate::leftover::remove_leftover;
use crate::ui::{progress, prompt, stopwatch};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGTSTP, SIGXFSZ};
use signal_hook::iterator::Signals;
use signal_hook::low_level::emulate_default_handler;
use std::fs;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

/// Set by the first Ctrl-C, SIGTERM or SIGHUP.
static STOPPING: AtomicBool = AtomicBool::new(false);

/// Whether the user wants to stop.
pub fn is_stopping() -> bool {
    STOPPING.load(Ordering::Relaxed)
}

/// Lets the first signal stop the work in good order, and the second end it at once; lets Ctrl-Z stop the program and `fg`
/// continue it, with the terminal usable meanwhile and the time not counted.
pub fn watch() {
    // A file that is larger than the user may write is then an error like a full disk, and not the end.
    let _ = signal_hook::flag::register(SIGXFSZ, Arc::new(AtomicBool::new(false)));
    let ignored = ignored();
    let heeded = [SIGINT, SIGTERM, SIGHUP, SIGTSTP].into_iter().filter(|signal| !is_in(*signal, ignored));
    // Where they cannot be watched, a signal ends the program at once; what it leaves is cleared by the next run.
    let Ok(mut signals) = Signals::new(heeded) else { return };
    let watching = move || {
        for signal in signals.forever() {
            if signal == SIGTSTP {
                pause();
            } else if STOPPING.swap(true, Ordering::SeqCst) || prompt::give_up_asking() {
                progress::clear_screen();
                remove_leftover();
                std::process::exit(CANCELLED.into());
            }
        }
    };
    // The same holds where there is no thread for it.
    let _ = std::thread::Builder::new().spawn(watching);
}

fn pause() {
    prompt::show_typing();
    let stopped = Instant::now();
    if emulate_default_handler(SIGTSTP).is_ok() {
        stopwatch::was_stopped(stopped.elapsed());
    }
    prompt::hide_typing();
}

/// The signals that were ignored when the program was started, as `nohup` does, a bit each from the lowest (Linux,
/// proc_pid_status(5)); none where the system does not tell.
fn ignored() -> u64 {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok()).unwrap_or(0)
}

fn is_in(signal: i32, mask: u64) -> bool {
    u32::try_from(signal - 1).ok().and_then(|bit| 1_u64.checked_shl(bit)).is_some_and(|bit| mask & bit != 0)
}
