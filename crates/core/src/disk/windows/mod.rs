//! Windows: what differs between systems, as it is here. [`super::unix`] has the same functions.

pub mod attributes;
pub mod facts;
pub mod files;
pub mod folders;
pub mod holes;
pub mod names;

/// The stream in which programs that fetch files note where a file came from ("mark of the web").
pub const ORIGIN_MARKS: [&str; 1] = ["Zone.Identifier"];

use crate::ground::entry::Timestamp;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// A time as the standard library has it; the nearest one, where that cannot hold it.
fn system_time(time: Timestamp) -> SystemTime {
    let whole = Duration::from_secs(time.seconds.unsigned_abs());
    let second = if time.seconds < 0 { UNIX_EPOCH.checked_sub(whole) } else { UNIX_EPOCH.checked_add(whole) };
    let time = second.and_then(|second| second.checked_add(Duration::from_nanos(time.nanoseconds.into())));
    time.unwrap_or(UNIX_EPOCH)
}

fn timestamp(time: SystemTime) -> Timestamp {
    match time.duration_since(UNIX_EPOCH) {
        Ok(since) => {
            Timestamp { seconds: i64::try_from(since.as_secs()).unwrap_or(i64::MAX), nanoseconds: since.subsec_nanos() }
        }
        Err(before) => {
            let before = before.duration();
            let seconds = -i64::try_from(before.as_secs()).unwrap_or(i64::MAX);
            match before.subsec_nanos() {
                0 => Timestamp { seconds, nanoseconds: 0 },
                nanoseconds => Timestamp { seconds: seconds - 1, nanoseconds: 1_000_000_000 - nanoseconds },
            }
        }
    }
}
