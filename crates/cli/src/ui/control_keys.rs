//! Ctrl-C under a bar: terminals show it as two letters where the cursor is, which would push the bar up by a line that nothing takes
//! away. As long as a bar is on the screen, they do not.

use crate::system::terminal::{Settings, is_in_front};
use std::sync::Mutex;

/// The terminal as it was.
static BEFORE: Mutex<Option<Settings>> = Mutex::new(None);

/// Control keys are not shown any more.
pub fn hide() {
    if !is_in_front() {
        return;
    }
    if let (Ok(mut before), Some(settings)) = (BEFORE.lock(), Settings::now()) {
        settings.clone().without_control_keys().apply();
        before.get_or_insert(settings);
    }
}

/// The terminal is as it was.
pub fn show() {
    let Some(settings) = BEFORE.lock().ok().and_then(|mut before| before.take()) else { return };
    if is_in_front() {
        settings.apply();
    }
}
