//! What the program lends to the core: randomness, the clock, the wish to stop, and what a password costs.

use crate::owner;
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use crate::ui::stopwatch;
use signal_hook::consts::SIGTSTP;
use signal_hook::iterator::Signals;
use signal_hook::low_level::emulate_default_handler;
use std::num::NonZeroUsize;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Instant, SystemTime, UNIX_EPOCH};
use tempfile::TempDir;
use under_seal_core::context::{Context, NoRandomness, Randomness};
use under_seal_core::entry::Timestamp;
use under_seal_core::sealed::KeyCost;

/// Set by the first Ctrl-C, SIGTERM or SIGHUP.
static STOPPING: AtomicBool = AtomicBool::new(false);

/// The exit code of a cancelled run.
const CANCELLED: i32 = 130;

/// Lets the first signal stop the work in good order, and the second end it at once.
pub fn watch_signals() {
    let outcome = ctrlc::set_handler(|| {
        if STOPPING.swap(true, Ordering::SeqCst) || prompt::give_up_asking() {
            remove_leftover();
            std::process::exit(CANCELLED);
        }
    });
    watch_stopping();
    // Without a handler a signal ends the program at once; what it leaves is cleared by the next run.
    drop(outcome);
}

/// What must not be left behind, however the program ends.
static LEFTOVER: Mutex<Option<TempDir>> = Mutex::new(None);

/// A folder that is removed when this is dropped, or a signal ends the program.
pub struct Leftover(PathBuf);

impl Leftover {
    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.0
    }
}

impl Drop for Leftover {
    fn drop(&mut self) {
        remove_leftover();
    }
}

/// Has a folder removed when what is returned is dropped, or a signal ends the program. One at a time.
pub fn remove_at_the_end(folder: TempDir) -> Leftover {
    let path = folder.path().to_owned();
    *LEFTOVER.lock().unwrap_or_else(PoisonError::into_inner) = Some(folder);
    Leftover(path)
}

fn remove_leftover() {
    drop(LEFTOVER.lock().unwrap_or_else(PoisonError::into_inner).take());
}

/// Lets Ctrl-Z stop the program and `fg` continue it, with the terminal usable meanwhile and the time not counted.
fn watch_stopping() {
    // Where it cannot be watched, Ctrl-Z stops the program all the same; only the times shown are then too long.
    let Ok(mut signals) = Signals::new([SIGTSTP]) else { return };
    std::thread::spawn(move || {
        for _ in signals.forever() {
            prompt::show_typing();
            let stopped = Instant::now();
            if emulate_default_handler(SIGTSTP).is_ok() {
                stopwatch::was_stopped(stopped.elapsed());
            }
            prompt::hide_typing();
        }
    });
}

/// Tells on standard error, step by step, what is done: not at all, in large steps, or file by file.
pub fn start_log(verbose: u8) {
    let level = match verbose {
        0 => return,
        1 => tracing::Level::INFO,
        _ => tracing::Level::DEBUG,
    };
    tracing_subscriber::fmt()
        .with_writer(anstream::stderr)
        .with_max_level(level)
        .with_target(false)
        .without_time()
        .init();
}

struct SystemRandomness;

impl Randomness for SystemRandomness {
    fn fill(&self, buffer: &mut [u8]) -> Result<(), NoRandomness> {
        getrandom::fill(buffer).map_err(|_| NoRandomness)
    }
}

fn now() -> Timestamp {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let seconds = i64::try_from(since.as_secs()).unwrap_or(i64::MAX);
    Timestamp { seconds, nanoseconds: since.subsec_nanos() }
}

/// The core's context, with this line told about progress; without a number of threads, one for each core.
pub fn context(progress: &ProgressLine, threads: Option<NonZeroUsize>) -> Context<'_> {
    Context {
        observer: progress,
        cancel: &|| STOPPING.load(Ordering::Relaxed),
        randomness: &SystemRandomness,
        clock: &now,
        owner_key: &owner::key,
        threads: threads.or_else(|| std::thread::available_parallelism().ok()).map_or(1, NonZeroUsize::get),
    }
}

/// What an attempt at a new archive's password costs. Debug builds, which nobody is given, can be told to make
/// it cheap, so that tests are quick.
pub fn key_cost() -> KeyCost {
    if cfg!(debug_assertions) && std::env::var_os("UNDER_SEAL_DEBUG_CHEAP_KEYS").is_some() {
        KeyCost::CHEAPEST
    } else {
        KeyCost::DEFAULT
    }
}
