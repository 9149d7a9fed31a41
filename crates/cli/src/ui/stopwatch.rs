//! Time that passes while the program runs: what it spent stopped (Ctrl-Z) does not count.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// Milliseconds that the program has spent stopped in all.
static STOPPED: AtomicU64 = AtomicU64::new(0);

/// Notes that the program was stopped for so long.
pub fn was_stopped(time: Duration) {
    STOPPED.fetch_add(u64::try_from(time.as_millis()).unwrap_or(u64::MAX), Ordering::Relaxed);
}

fn stopped() -> Duration {
    Duration::from_millis(STOPPED.load(Ordering::Relaxed))
}

/// Runs from when it is made.
#[derive(Debug, Clone, Copy)]
pub struct Stopwatch {
    started: Instant,
    stopped_before: Duration,
}

impl Stopwatch {
    /// A stopwatch that starts now.
    pub fn start() -> Self {
        Self { started: Instant::now(), stopped_before: stopped() }
    }

    /// How long the program has run since.
    pub fn elapsed(&self) -> Duration {
        self.started.elapsed().saturating_sub(stopped().saturating_sub(self.stopped_before))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stop_does_not_count() {
        let watch = Stopwatch::start();
        std::thread::sleep(Duration::from_millis(30));
        let before = watch.elapsed();
        assert!(before >= Duration::from_millis(30));
        was_stopped(Duration::from_millis(25));
        assert!(watch.elapsed() < before);
        assert!(Stopwatch::start().elapsed() < before, "an earlier stop is nothing to a later watch");
    }
}
