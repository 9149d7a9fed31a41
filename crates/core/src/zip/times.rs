//! Times in headers: two seconds of a clock on somebody's wall (section 4.4.6), unless an extra field knows better.

use super::directory::{Extra, extras};
use crate::entry::Timestamp;
use crate::wire::Cursor;

/// Extended timestamps: signed seconds since 1970, UTC.
pub(super) const EXTENDED_TIME: u16 = 0x5455;

/// Times in units of 100 nanoseconds since 1601, UTC (section 4.5.5).
pub(super) const FINE_TIMES: u16 = 0x000A;

/// Seconds from 1601 to 1970.
const SECONDS_TO_1970: i64 = 11_644_473_600;

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
        (None, None) => Timestamp { seconds: wall_clock(time, date), nanoseconds: 0 },
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
fn wall_clock(time: u16, date: u16) -> i64 {
    let (year, month, day) = (1980 + i64::from(date >> 9), i64::from(date >> 5 & 15), i64::from(date & 31));
    let (hour, minute, second) = (i64::from(time >> 11), i64::from(time >> 5 & 63), i64::from(time & 31) * 2);
    if !(1..=12).contains(&month) || !(1..=31).contains(&day) || hour > 23 || minute > 59 || second > 59 {
        return days_since_1970(1980, 1, 1) * 86_400;
    }
    days_since_1970(year, month, day) * 86_400 + hour * 3_600 + minute * 60 + second
}

/// Days of the Gregorian calendar, counted in years that begin with March.
const fn days_since_1970(year: i64, month: i64, day: i64) -> i64 {
    let (year, month) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
    let before = year * 365 + year.div_euclid(4) - year.div_euclid(100) + year.div_euclid(400);
    before + (153 * month + 2) / 5 + day - 1 - 719_468
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
