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

/// The words stand below the bar, so many columns in.
const INDENT: usize = 11;

/// How many volumes there will be is told once one part in so many has been read.
const TOLD_FROM: u64 = 10;

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

    /// How many volumes there will be, once enough is written to tell.
    fn volumes_expected(&self, state: &State) -> Option<u32> {
        let limit = self.volume_limit.filter(|_| state.written > 0 && state.raw >= state.total / TOLD_FROM)?;
        let stream = u128::from(state.written) * u128::from(state.total) / u128::from(state.raw.max(1));
        let expected = u32::try_from(stream / u128::from(limit.max(1)) + 1).unwrap_or(u32::MAX);
        Some(expected.max(state.volume)).filter(|expected| *expected > 1)
    }

    /// What is told beside the bar, what matters most first.
    fn words(&self, state: &State) -> Vec<String> {
        // What is sampled is a choice of what there is: its bytes say nothing.
        if state.phase == Phase::Sampling {
            return Vec::new();
        }
        let mut parts = vec![format!("{} of {}", text::size(state.done), text::size(state.total.max(state.done)))];
        let seconds = state.started.elapsed().as_secs_f64();
        if seconds > 0.5 && state.done > 0 {
            let speed = state.done as f64 / seconds;
            let left = (state.total.saturating_sub(state.done) as f64 / speed).ceil() as u64;
            parts.push(format!("{}:{:02} left", left / 60, left % 60));
            parts.push(format!("{}/s", text::size(speed as u64)));
        }
        let part = if matches!(state.phase, Phase::Portioning | Phase::Reuniting) { "piece" } else { "volume" };
        let number = state.volume.max(1);
        match (self.volumes_known(), self.volumes_expected(state)) {
            (Some(1), _) => {}
            (Some(count), _) => parts.push(format!("{part} {number} of {count}")),
            (None, Some(count)) => parts.push(format!("{part} {number} of about {count}")),
            (None, None) if state.volume > 1 => parts.push(format!("{part} {number}")),
            (None, None) => {}
        }
        if state.phase == Phase::Packing && state.written > 0 {
            let saved = 100.0 - 100.0 * state.written as f64 / state.raw.max(1) as f64;
            parts.push(format!("{} written", text::size(state.written)));
            parts.push(format!("{:.0} % saved", saved.max(0.0)));
        }
        if state.entries > 0 {
            parts.push(text::count(state.entries, "item"));
        }
        parts
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

/// As many of the words as fit into so many columns, each whole; the first ones matter most.
fn fitting(words: &[String], columns: usize) -> String {
    let mut line = String::new();
    for word in words {
        let separator = if line.is_empty() { "" } else { ", " };
        if text::columns(&line) + separator.len() + text::columns(word) > columns {
            break;
        }
        line.push_str(separator);
        line.push_str(word);
    }
    line
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
        // The bar is drawn on a terminal only.
        let room = textwrap::termwidth().saturating_sub(INDENT + 1);
        state.bar.set_message(format!("{:INDENT$}{}", "", fitting(&self.words(state), room)));
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::wide(80, "12 MB of 40 MB, 0:07 left, 4 MB/s, volume 3 of about 9")]
    #[case::narrow(40, "12 MB of 40 MB, 0:07 left, 4 MB/s")]
    #[case::just_too_narrow(32, "12 MB of 40 MB, 0:07 left")]
    #[case::no_room(9, "")]
    fn what_matters_most_is_told_where_there_is_little_room(#[case] columns: usize, #[case] expected: &str) {
        let words = ["12 MB of 40 MB", "0:07 left", "4 MB/s", "volume 3 of about 9"].map(str::to_owned);
        assert_eq!(fitting(&words, columns), expected);
    }

    #[rstest]
    #[case::nothing_written(0, 0, 1, None)]
    #[case::too_early(40_000, 50_000, 1, None)]
    #[case::a_tenth(100_000, 100_000, 1, Some(11))]
    #[case::half_saved(250_000, 500_000, 3, Some(6))]
    #[case::fewer_than_there_are(1_000, 900_000, 3, Some(3))]
    #[case::only_one(1_000, 900_000, 1, None)]
    fn volumes_are_counted_once_they_can_be_told(
        #[case] written: u64,
        #[case] raw: u64,
        #[case] volume: u32,
        #[case] expected: Option<u32>,
    ) {
        let mut line = ProgressLine {
            state: Mutex::new(None),
            shape: Shape::Hidden,
            last_logged: AtomicU32::new(0),
            volume_limit: Some(100_000),
            volumes: AtomicU32::new(0),
        };
        let state = State { written, raw, volume, ..line.begin(Phase::Packing, 1_000_000) };
        assert_eq!(line.volumes_expected(&state), expected);
        line.volume_limit = None;
        assert_eq!(line.volumes_expected(&state), None);
    }
}
