//! Times in headers: two seconds of a clock on somebody's wall (section 4.4.6), unless an extra field knows better.

use super::directory::{Extra, extras};
use crate::ground::entry::Timestamp;
use crate::ground::wire::Cursor;

/// Extended timestamps: signed seconds since 1970, UTC.
pub(super) const EXTENDED_TIME: u16 = 0x5455;

/// Times in units of 100 nanoseconds since 1601, UTC (section 4.5.5).
pub(super) const FINE_TIMES: u16 = 0x000A;

/// Seconds from 1601 to 1970.
const SECONDS_TO_1970: i64 = 11_644_473_600;

/// Seconds from 1970 to 1980, when the calendar of headers begins.
const FIRST_DAY: i64 = 315_532_800;

const UNITS_IN_SECOND: u64 = 10_000_000;

/// When an entry was modified. The extended timestamp wins; the fine one adds what is below a second where both agree.
pub(super) fn modified(time: u16, date: u16, extra: &[u8]) -> Timestamp {
    let mut extended = None;
    let mut fine = None;
    for Extra { id, data } in extras(extra) {
        match id {
            EXTENDED_TIME => extended = extended.or_else(|| read_extended(data)),
            FINE_TIMES => fine = fine.or_else(|| read_fine(data)),
            _ => {}
        }
    }
    match (extended, fine) {
        (Some(seconds), Some(fine)) if fine.seconds == seconds => fine,
        (Some(seconds), _) => Timestamp { seconds, nanoseconds: 0 },
        (None, Some(fine)) => fine,
        (None, None) => wall_clock(time, date),
    }
}

fn read_extended(data: &[u8]) -> Option<i64> {
    let mut cursor = Cursor::new(data, "timestamp");
    let has_modified = cursor.u8().ok()? & 1 == 1;
    let seconds = cursor.array().ok().map(i32::from_le_bytes)?;
    has_modified.then_some(seconds.into())
}

fn read_fine(data: &[u8]) -> Option<Timestamp> {
    let mut cursor = Cursor::new(data, "timestamps");
    cursor.u32().ok()?;
    let (tag, length) = (cursor.u16().ok()?, cursor.u16().ok()?);
    let units = cursor.u64().ok().filter(|units| tag == 1 && length >= 24 && *units > 0)?;
    let seconds = i64::try_from(units / UNITS_IN_SECOND).ok()? - SECONDS_TO_1970;
    Some(Timestamp { seconds, nanoseconds: u32::try_from(units % UNITS_IN_SECOND * 100).ok()? })
}

/// A date and time of day without a zone, taken for UTC. What is no date counts as the first day there is.
fn wall_clock(time: u16, date: u16) -> Timestamp {
    // Each field has few bits: none is cut here.
    let field = |value: u16, from: u32, mask: u16| i8::try_from(value >> from & mask).unwrap_or(-1);
    let year = 1980 + i16::try_from(date >> 9).unwrap_or(0);
    let clock = [field(time, 11, 31), field(time, 5, 63), field(time, 0, 31) * 2];
    let there = Timestamp::of_calendar(year, field(date, 5, 15), field(date, 0, 31), clock);
    there.unwrap_or(Timestamp { seconds: FIRST_DAY, nanoseconds: 0 })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn field(id: u16, data: &[u8]) -> Vec<u8> {
        [&id.to_le_bytes(), &(data.len() as u16).to_le_bytes(), data].concat()
    }

    fn fine(units: u64) -> Vec<u8> {
        let times = [units.to_le_bytes(); 3].concat();
        field(FINE_TIMES, &[&[0; 4][..], &[1, 0, 24, 0], &times].concat())
    }

    const AT: u64 = (1_930_000_000 + SECONDS_TO_1970 as u64) * UNITS_IN_SECOND;

    /// Date and time in a header, its extra fields, and what they come to.
    #[rstest]
    #[case::first_day(0x0021, 0, vec![], 315_532_800, 0)]
    #[case::leap_day(44 << 9 | 2 << 5 | 29, 23 << 11 | 59 << 5 | 29, vec![], 1_709_251_198, 0)]
    #[case::last_day(127 << 9 | 12 << 5 | 31, 0, vec![], 4_354_732_800, 0)]
    #[case::no_date(0, 0, vec![], 315_532_800, 0)]
    #[case::before_1970(0x0021, 0, field(EXTENDED_TIME, &[1, 0xFE, 0xFF, 0xFF, 0xFF]), -2, 0)]
    #[case::without_the_one(0x0021, 0, field(EXTENDED_TIME, &[2, 1, 0, 0, 0]), 315_532_800, 0)]
    #[case::fine(0x0021, 0, fine(AT + 7), 1_930_000_000, 700)]
    #[case::extended_wins(0x0021, 0, [fine(AT + 7), field(EXTENDED_TIME, &[1, 1, 0, 0, 0])].concat(), 1, 0)]
    fn the_best_known_time_counts(
        #[case] date: u16,
        #[case] time: u16,
        #[case] extra: Vec<u8>,
        #[case] seconds: i64,
        #[case] nanoseconds: u32,
    ) {
        assert_eq!(modified(time, date, &extra), Timestamp { seconds, nanoseconds });
    }
}
