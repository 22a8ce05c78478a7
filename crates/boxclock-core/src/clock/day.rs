//! Dates for stamps that carry only a time of day.
//!
//! A step back over more than half a day is midnight. The last line's date is that of the file's modification time, or
//! the day before where its time of day is later than that.

use super::{DAY, HOUR};

/// A step back of more than this within a file means that midnight lies between.
const HALF: i64 = 12 * HOUR;
/// A step forward of more than this is a late line of the day before: a quiet gap is rarely so long, and ends anywhere.
const LATE: i64 = 22 * HOUR;

/// Counts the midnights while the times of day of a file (or of one piece of it) go by in order.
#[derive(Clone, Copy, Debug, Default)]
pub struct DayCounter {
    last: Option<i64>,
    days: i64,
}

impl DayCounter {
    /// A counter for times of day that follow a line which says this time.
    pub fn from(of_day: i64) -> Self {
        Self { last: Some(of_day), days: 0 }
    }

    /// Takes the next time of day (nanoseconds since midnight) and gives it with the days since the first one added. A
    /// step forward over nearly a day takes one back: it is a late line of the old day.
    pub fn next(&mut self, of_day: i64) -> i64 {
        if let Some(last) = self.last {
            if of_day < last - HALF {
                self.days += 1;
            } else if of_day > last + LATE {
                self.days -= 1;
            }
        }
        self.last = Some(of_day);
        of_day + self.days * DAY
    }
}

/// Nanoseconds (whole days) to add so that `last`, counted from day 0, is the latest that is not after `not_after`. An
/// hour of slack covers clocks that run ahead.
pub fn shift(last: i64, not_after: i64) -> i64 {
    (not_after.saturating_add(HOUR).saturating_sub(last)).div_euclid(DAY).saturating_mul(DAY)
}

/// Days to add to a piece whose first time is `first` so that it is not before what was written last, `last` (both civil), by
/// more than an hour.
pub fn days_after(first: i64, last: i64) -> i64 {
    let under = last.saturating_sub(HOUR).saturating_sub(first);
    if under <= 0 { -((-under).div_euclid(DAY)) } else { under.div_euclid(DAY) + 1 }
}

/// Days to take from a piece whose last time is `last` so that it is not after the piece behind, whose first time is
/// `behind` (both civil).
pub fn days_before(last: i64, behind: i64) -> i64 {
    let over = last.saturating_sub(behind).saturating_sub(HALF);
    if over <= 0 { 0 } else { over.div_euclid(DAY) + 1 }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn midnight_in_the_file() {
        let mut days = DayCounter::default();
        let read: Vec<i64> = [22, 23, 0, 23, 1, 9, 20, 3].map(|hour| days.next(hour * HOUR) / HOUR).to_vec();
        let mut quiet = DayCounter::default();
        assert_eq!([1, 20, 2].map(|hour| quiet.next(hour * HOUR) / HOUR), [1, 20, 26]);
        assert_eq!(read, [22, 23, 24, 23, 25, 33, 44, 51]);
        let shift = shift(51 * HOUR, 100 * DAY + 3 * HOUR);
        assert_eq!(51 * HOUR + shift, 100 * DAY + 3 * HOUR);
    }

    #[test]
    fn pieces_go_after_each_other() {
        assert_eq!(days_after(HOUR, 23 * HOUR), 1);
        assert_eq!(days_after(13 * HOUR, 14 * HOUR), 0);
        assert_eq!(days_after(5 * DAY + 2 * HOUR, 3 * DAY + HOUR), -2);
    }

    #[test]
    fn pieces_go_before_each_other() {
        assert_eq!(days_before(23 * HOUR, HOUR), 1);
        assert_eq!(days_before(13 * HOUR, HOUR), 0);
        assert_eq!(days_before(3 * DAY, HOUR), 3);
    }
}
