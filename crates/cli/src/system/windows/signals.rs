//! What a console tells: Ctrl-C, Ctrl-Break, and that its window is closed.

/// Calls `stop` for each of them. Nothing is paused here.
pub fn heed(stop: fn(), _pause: fn(&dyn Fn() -> bool)) {
    // Where they cannot be watched, one ends the program at once; what it leaves is cleared by the next run.
    let _ = ctrlc::set_handler(stop);
}
