//! Years for stamps that carry none.
//!
//! A file's modification time is at or after its last line. Going backwards through the file from there, each step
//! from January back to December is one year less.

use super::scan::{Civil, STAND_IN_YEAR};
use super::{DAY, HOUR};

/// A step back of more than this many months within a file means that a year has ended.
const WRAP_MONTHS: i32 = 6;

/// Counts the New Years while the stamps of a file (or of one piece of it) go by in order.
#[derive(Clone, Copy, Debug, Default)]
pub struct WrapCounter {
    last_month: i32,
    wraps: i32,
    /// The day of the last stamp, and what its year makes of it: most stamps are of the same day as the one before.
    last_day: Option<i64>,
    move_by: i64,
}

impl WrapCounter {
    /// Takes the next stamp (civil nanoseconds in the stand-in year) and gives it in the stand-in year plus the New
    /// Years met so far. A step forward over more than six months takes one back: it is a late line of the old year.
    pub fn next(&mut self, civil_ns: i64) -> i64 {
        let day = civil_ns.div_euclid(DAY);
        if self.last_day == Some(day) {
            return civil_ns.saturating_add(self.move_by);
        }
        let moved = self.next_day(civil_ns);
        (self.last_day, self.move_by) = (Some(day), moved.saturating_sub(civil_ns));
        moved
    }

    fn next_day(&mut self, civil_ns: i64) -> i64 {
        let month = i32::from(Civil::from_ns(civil_ns).month);
        if self.last_month != 0 {
            if month + WRAP_MONTHS < self.last_month {
                self.wraps += 1;
            } else if month > self.last_month + WRAP_MONTHS {
                self.wraps -= 1;
            }
        }
        self.last_month = month;
        if self.wraps == 0 { civil_ns } else { in_year(civil_ns, STAND_IN_YEAR + self.wraps) }
    }
}

/// The same day and time in another year; 29 February becomes 1 March where there is none.
pub fn in_year(civil_ns: i64, year: i32) -> i64 {
    let mut civil = Civil::from_ns(civil_ns);
    civil.year = year;
    if civil.month == 2 && civil.day == 29 && !is_leap(year) {
        (civil.month, civil.day) = (3, 1);
    }
    civil.to_ns().unwrap_or(civil_ns)
}

fn is_leap(year: i32) -> bool {
    year % 4 == 0 && (year % 100 != 0 || year % 400 == 0)
}

/// The number of years to add to a piece's stamps so that its last one, `last_ns`, is the latest that is not after
/// `not_after_ns` (both civil). A day and a bit of slack covers zones and clocks that run ahead.
pub fn shift(last_ns: i64, not_after_ns: i64) -> i32 {
    let limit = not_after_ns.saturating_add(DAY + HOUR);
    let years = Civil::from_ns(limit).year - Civil::from_ns(last_ns).year;
    let moved = in_year(last_ns, Civil::from_ns(last_ns).year + years);
    if moved > limit { years - 1 } else { years }
}

/// Adds `years` to a civil stamp.
pub fn add(civil_ns: i64, years: i32) -> i64 {
    if years == 0 { civil_ns } else { in_year(civil_ns, Civil::from_ns(civil_ns).year + years) }
}

/// [`add`] for one stamp after the other: those of one day are moved by the same.
pub fn adder(years: i32) -> impl FnMut(i64) -> i64 {
    let (mut last_day, mut move_by) = (None, 0);
    move |civil_ns| {
        let day = civil_ns.div_euclid(DAY);
        if last_day != Some(day) {
            (last_day, move_by) = (Some(day), add(civil_ns, years).saturating_sub(civil_ns));
        }
        civil_ns.saturating_add(move_by)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clock::scan::{bsd, iso};

    fn at(text: &str) -> i64 {
        iso(text.as_bytes()).and_then(|(civil, _)| civil.to_ns()).unwrap()
    }

    fn read(lines: &[&str], modified: &str) -> Vec<i32> {
        let mut counter = WrapCounter::default();
        let stamps: Vec<i64> = lines
            .iter()
            .map(|line| counter.next(bsd(line.as_bytes()).and_then(|(civil, _)| civil.to_ns()).unwrap()))
            .collect();
        let years = shift(*stamps.last().unwrap(), at(modified));
        let mut add_to = adder(years);
        stamps
            .into_iter()
            .map(|stamp| {
                assert_eq!(add_to(stamp), add(stamp, years));
                Civil::from_ns(add(stamp, years)).year
            })
            .collect()
    }

    #[test]
    fn new_year_inside_the_file() {
        let lines = ["Dec 30 10:00:00 x", "Dec 31 23:59:59 x", "Jan  1 00:00:01 x", "Jan  2 08:00:00 x"];
        assert_eq!(read(&lines, "2026-01-02 08:00:05"), [2025, 2025, 2026, 2026]);
    }

    #[test]
    fn touched_long_after() {
        assert_eq!(read(&["Dec 30 10:00:00 x"], "2026-01-15 00:00:00"), [2025]);
        assert_eq!(read(&["Apr 12 02:31:07 x"], "2026-11-23 00:00:00"), [2026]);
        assert_eq!(read(&["Dec 12 02:31:07 x"], "2026-11-23 00:00:00"), [2025]);
    }

    #[test]
    fn a_clock_slightly_ahead_of_the_file_time() {
        assert_eq!(read(&["Apr 12 02:38:00 x"], "2026-04-12 02:31:00"), [2026]);
        assert_eq!(read(&["Jan  1 01:00:00 x"], "2025-12-31 23:00:00"), [2026]);
    }

    #[test]
    fn a_late_line_of_the_old_year() {
        let lines = ["Dec 31 23:59:58 x", "Jan  1 00:00:01 x", "Dec 31 23:59:59 x", "Jan  1 00:00:02 x"];
        assert_eq!(read(&lines, "2026-01-01 00:10:00"), [2025, 2026, 2025, 2026]);
    }

    #[test]
    fn leap_day_in_a_common_year() {
        assert_eq!(in_year(at("2000-02-29 12:00:00"), 2026), at("2026-03-01 12:00:00"));
        assert_eq!(in_year(at("2000-02-29 12:00:00"), 2024), at("2024-02-29 12:00:00"));
    }
}
