//! What the program lends to the core: randomness, the clock, the wish to stop, and what a password costs.

use crate::args::{ColorName, MAX_THREADS, OutputArguments};
use crate::ui::progress::ProgressLine;
use crate::ui::text;
use crate::{owner, signals};
use anstream::ColorChoice;
use std::io::{self, Write as _};
use std::num::NonZeroUsize;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};
use under_seal_core::formats::sealed::KeyCost;
use under_seal_core::ground::context::{Context, NoRandomness, Randomness};
use under_seal_core::ground::entry::Timestamp;

/// Settles for the whole run how output looks: the log, step by step on standard error, not at all, in large steps, or file by file;
/// colour; sizes.
pub fn start_output(output: &OutputArguments) {
    match output.color {
        // What the variables NO_COLOR, CLICOLOR, CLICOLOR_FORCE and TERM say is asked by `anstream`.
        ColorName::Auto => {}
        ColorName::Always => ColorChoice::Always.write_global(),
        ColorName::Never => ColorChoice::Never.write_global(),
    }
    text::write_exact_sizes(output.exact);
    IS_QUIET.store(output.quiet, Ordering::Relaxed);
    start_log(output.verbose);
}

/// Whether nothing is to be said but results.
static IS_QUIET: AtomicBool = AtomicBool::new(false);

/// Says something on the side, on standard error.
pub fn mention(sentence: &str) {
    if !IS_QUIET.load(Ordering::Relaxed) {
        // Whoever cannot be told loses nothing else by it.
        let _ = writeln!(anstream::stderr(), "{}", text::wrapped(sentence, &io::stderr()));
    }
}

fn start_log(verbose: u8) {
    let level = match verbose {
        0 => return,
        1 => tracing::Level::INFO,
        _ => tracing::Level::DEBUG,
    };
    tracing_subscriber::fmt()
        .with_writer(anstream::stderr)
        .with_max_level(level)
        .with_target(false)
        // Whoever cannot be told loses nothing else by it.
        .log_internal_errors(false)
        .without_time()
        .init();
}

struct SystemRandomness;

impl Randomness for SystemRandomness {
    fn fill(&self, buffer: &mut [u8]) -> Result<(), NoRandomness> {
        getrandom::fill(buffer).map_err(|_| NoRandomness)
    }
}

/// The time.
pub fn now() -> Timestamp {
    // Debug builds, which nobody is given, can be told to go wrong here, so that what happens then is tested.
    #[allow(clippy::panic, reason = "that is what is tested")]
    if cfg!(debug_assertions) && std::env::var_os("UNDER_SEAL_DEBUG_PANIC").is_some() {
        panic!("as it was told to");
    }
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let seconds = i64::try_from(since.as_secs()).unwrap_or(i64::MAX);
    Timestamp { seconds, nanoseconds: since.subsec_nanos() }
}

/// The core's context, with this line told about progress; without a number of threads, one for each core.
pub fn context(progress: &ProgressLine, threads: Option<NonZeroUsize>) -> Context<'_> {
    Context {
        observer: progress,
        cancel: &signals::is_stopping,
        randomness: &SystemRandomness,
        clock: &now,
        owner_key: &owner::key,
        threads: threads
            .or_else(|| std::thread::available_parallelism().ok())
            .map_or(1, NonZeroUsize::get)
            .min(MAX_THREADS),
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
