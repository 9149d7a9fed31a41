//! Signals. What whoever started the program had told the system to ignore stays ignored.

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGTSTP, SIGXFSZ};
use signal_hook::iterator::Signals;
use signal_hook::low_level::emulate_default_handler;
use std::fs;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// Calls `stop` for each Ctrl-C, SIGTERM or SIGHUP, and for Ctrl-Z `pause`, with what stops the program until `fg` continues it: whether
/// it was stopped.
pub fn heed(stop: fn(), pause: fn(&dyn Fn() -> bool)) {
    // A file that is larger than the user may write is then an error like a full disk, and not the end.
    let _ = signal_hook::flag::register(SIGXFSZ, Arc::new(AtomicBool::new(false)));
    let ignored = ignored();
    let heeded = [SIGINT, SIGTERM, SIGHUP, SIGTSTP].into_iter().filter(|signal| !is_in(*signal, ignored));
    // Where they cannot be watched, a signal ends the program at once; what it leaves is cleared by the next run.
    let Ok(mut signals) = Signals::new(heeded) else { return };
    let watching = move || {
        for signal in signals.forever() {
            if signal == SIGTSTP { pause(&|| emulate_default_handler(SIGTSTP).is_ok()) } else { stop() }
        }
    };
    // The same holds where there is no thread for it.
    let _ = std::thread::Builder::new().spawn(watching);
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
