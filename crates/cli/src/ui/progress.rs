//! Progress: how far, how fast, how long still. As a bar on a terminal, or as lines of JSON where that is wanted.

use super::control_keys;
use super::stopwatch::Stopwatch;
use super::text;
use crate::args::{ProgressName, WorkArguments};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use serde::Serialize;
use std::io::{self, IsTerminal as _, Write as _};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};
use under_seal_core::ground::context::{Observer, Phase, Progress};
use under_seal_core::ground::fit::Fit;

/// How often the words beside the bar change.
const REWRITE: Duration = Duration::from_millis(100);

/// How often a line of JSON comes.
const LINE_OF_JSON: Duration = Duration::from_millis(500);

/// The bar that is on the screen now, for whoever has to end the program at once.
static ON_SCREEN: Mutex<Option<ProgressBar>> = Mutex::new(None);

/// Takes the bar off the screen.
pub fn clear_screen() {
    if let Ok(Some(bar)) = ON_SCREEN.lock().map(|mut bar| bar.take()) {
        bar.finish_and_clear();
        control_keys::show();
    }
}

/// How progress is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Shape {
    Hidden,
    Bar,
    Json,
}

/// One line of JSON (docs/json.md).
#[derive(Serialize)]
struct Step {
    phase: &'static str,
    state: &'static str,
    done_bytes: u64,
    total_bytes: u64,
    written_bytes: Option<u64>,
    items: u64,
    volume: u32,
    volume_count: Option<u32>,
    seconds: f64,
}

/// Tells progress on standard error.
pub struct ProgressLine {
    state: Mutex<Option<State>>,
    shape: Shape,
    /// The volume that was last told to the log.
    last_logged: AtomicU32,
    volume_limit: Option<u64>,
    /// How many volumes there are, where that is known; 0 before.
    volumes: AtomicU32,
}

struct State {
    phase: Phase,
    bar: ProgressBar,
    started: Stopwatch,
    rewritten: Instant,
    total: u64,
    done: u64,
    written: u64,
    raw: u64,
    entries: u64,
    volume: u32,
}

impl ProgressLine {
    /// A line for writing volumes of this fit.
    pub fn for_writing(fit: Fit, work: &WorkArguments) -> Self {
        Self::new(fit.volume_limit(), None, work)
    }

    /// A line for reading a set of so many volumes.
    pub fn for_reading(volumes: Option<u32>, work: &WorkArguments) -> Self {
        Self::new(None, volumes, work)
    }

    fn new(volume_limit: Option<u64>, volumes: Option<u32>, work: &WorkArguments) -> Self {
        let output = &work.output;
        let shape = match output.progress {
            ProgressName::Json => Shape::Json,
            // Lines and a bar on one screen would write over each other.
            ProgressName::Auto if io::stderr().is_terminal() && !output.quiet && output.verbose == 0 => Shape::Bar,
            ProgressName::Auto | ProgressName::None => Shape::Hidden,
        };
        let volumes = AtomicU32::new(volumes.unwrap_or(0));
        Self { state: Mutex::new(None), shape, last_logged: AtomicU32::new(0), volume_limit, volumes }
    }

    fn volumes_known(&self) -> Option<u32> {
        Some(self.volumes.load(Ordering::Relaxed)).filter(|known| *known > 0)
    }

    /// How many volumes there will be, as far as can be told.
    fn volumes_expected(&self, state: &State) -> Option<(u32, bool)> {
        if let Some(known) = self.volumes_known() {
            return Some((known, true));
        }
        let (limit, raw) = (self.volume_limit?, state.raw.max(1));
        let expected = u128::from(state.written) * u128::from(state.total) / u128::from(raw) / u128::from(limit) + 1;
        Some((u32::try_from(expected).unwrap_or(u32::MAX).max(state.volume), false))
    }

    fn words(&self, state: &State) -> String {
        // What is sampled is a choice of what there is: its bytes say nothing.
        if state.phase == Phase::Sampling {
            return String::new();
        }
        let mut parts = vec![format!("{} of {}", text::size(state.done), text::size(state.total.max(state.done)))];
        if state.phase == Phase::Packing && state.written > 0 {
            let saved = 100.0 - 100.0 * state.written as f64 / state.raw.max(1) as f64;
            parts.push(format!("{} written, {:.0} % saved", text::size(state.written), saved.max(0.0)));
        }
        if state.entries > 0 {
            parts.push(text::count(state.entries, "item"));
        }
        let part = if matches!(state.phase, Phase::Portioning | Phase::Reuniting) { "piece" } else { "volume" };
        match self.volumes_expected(state) {
            Some((count, true)) if count > 1 => parts.push(format!("{part} {} of {count}", state.volume.max(1))),
            Some((count, false)) => parts.push(format!("volume {} of about {count}", state.volume.max(1))),
            _ => {}
        }
        let seconds = state.started.elapsed().as_secs_f64();
        if seconds > 0.5 && state.done > 0 {
            let speed = state.done as f64 / seconds;
            let left = (state.total.saturating_sub(state.done) as f64 / speed).ceil() as u64;
            parts.push(format!("{}/s", text::size(speed as u64)));
            parts.push(format!("{}:{:02} left", left / 60, left % 60));
        }
        parts.join(", ")
    }

    /// Tells the log, where there is one.
    fn log(&self, progress: &Progress<'_>) {
        match progress {
            Progress::Begin(phase, bytes) => tracing::info!(bytes, "{}", word(*phase)),
            Progress::Entry(path) => tracing::debug!(path = text::shown(path.as_bytes()), "file"),
            Progress::Volume(number) if self.last_logged.swap(*number, Ordering::Relaxed) != *number => {
                tracing::info!(number, "volume");
            }
            Progress::End => tracing::info!("done"),
            _ => {}
        }
    }

    fn begin(&self, phase: Phase, total: u64) -> State {
        let target = match self.shape {
            Shape::Bar => {
                control_keys::hide();
                ProgressDrawTarget::stderr_with_hz(10)
            }
            Shape::Hidden | Shape::Json => ProgressDrawTarget::hidden(),
        };
        let bar = ProgressBar::with_draw_target(Some(total.max(1)), target);
        if let Ok(mut on_screen) = ON_SCREEN.lock() {
            *on_screen = Some(bar.clone());
        }
        if let Ok(style) = ProgressStyle::with_template("{prefix:>10} {bar:24} {percent:>3} %\n{wide_msg}") {
            bar.set_style(style.progress_chars("▬▬·"));
        }
        bar.set_prefix(word(phase));
        let now = Instant::now();
        let rewritten = now.checked_sub(REWRITE).unwrap_or(now);
        State {
            phase,
            bar,
            started: Stopwatch::start(),
            rewritten,
            total,
            done: 0,
            written: 0,
            raw: 0,
            entries: 0,
            volume: 0,
        }
    }
}

impl State {
    /// Tells where it is as a line of JSON; nobody who reads it is no failure.
    fn tell(&self, state: &'static str, volumes: Option<u32>) {
        let step = Step {
            phase: word(self.phase),
            state,
            done_bytes: self.done,
            total_bytes: self.total,
            written_bytes: (self.phase == Phase::Packing).then_some(self.written),
            items: self.entries,
            volume: self.volume,
            volume_count: volumes,
            seconds: self.started.elapsed().as_secs_f64(),
        };
        if let Ok(line) = serde_json::to_string(&step) {
            let _ = writeln!(io::stderr(), "{line}");
        }
    }

    fn finish(&self) {
        self.bar.finish_and_clear();
        control_keys::show();
    }
}

/// What a phase is called while it lasts.
fn word(phase: Phase) -> &'static str {
    match phase {
        Phase::Sampling => "Sampling",
        Phase::Weighing => "Weighing",
        Phase::Packing => "Packing",
        Phase::Sparing => "Sparing",
        Phase::Mending => "Mending",
        Phase::Verifying => "Verifying",
        Phase::Inspecting => "Checking",
        Phase::Opening => "Opening",
        Phase::Comparing => "Comparing",
        Phase::Delivering => "Delivering",
        Phase::Portioning => "Cutting",
        Phase::Searching => "Searching",
        Phase::Reuniting => "Joining",
    }
}

impl Observer for ProgressLine {
    fn told(&self, progress: Progress<'_>) {
        self.log(&progress);
        if self.shape == Shape::Hidden {
            return;
        }
        let Ok(mut guard) = self.state.lock() else { return };
        let as_json = self.shape == Shape::Json;
        if let Progress::Begin(phase, total) = progress {
            let begun = guard.insert(self.begin(phase, total));
            if as_json {
                begun.tell("begun", self.volumes_known());
            }
        }
        let Some(state) = guard.as_mut() else { return };
        match progress {
            Progress::Begin(..) | Progress::Staged => {}
            Progress::Advance(bytes) => state.done += bytes,
            Progress::Written { stream, raw } => (state.written, state.raw) = (stream, raw),
            Progress::Entry(_) => state.entries += 1,
            Progress::Volume(number) => state.volume = number,
            Progress::End => {
                if state.phase == Phase::Packing {
                    self.volumes.store(state.volume, Ordering::Relaxed);
                }
                if as_json {
                    state.tell("done", self.volumes_known());
                }
                state.finish();
                *guard = None;
                return;
            }
        }
        let every = if as_json { LINE_OF_JSON } else { REWRITE };
        if state.rewritten.elapsed() < every {
            return;
        }
        state.rewritten = Instant::now();
        if as_json {
            state.tell("at work", self.volumes_known());
            return;
        }
        state.bar.set_position(state.done.min(state.total));
        let words = self.words(state);
        state.bar.set_message(format!("{:>10} {words}", ""));
    }
}

impl Drop for ProgressLine {
    /// After an error the bar must not stay on the screen.
    fn drop(&mut self) {
        if let Ok(Some(state)) = self.state.get_mut() {
            state.finish();
        }
    }
}
