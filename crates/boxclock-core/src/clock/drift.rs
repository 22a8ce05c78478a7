//! Corrections of clocks that were wrong.

use super::SECOND;

/// How a clock is corrected: an amount to add, and perhaps a rate at which that amount changes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ClockCorrection {
    /// Nanoseconds to add at `since` (at all times, where there is no rate).
    pub add_ns: i64,
    /// Parts per billion by which what is added grows with time: 1000 is 1 ppm, 86.4 ms a day.
    pub rate_ppb: i64,
    /// When `add_ns` is right, in UTC nanoseconds by the wrong clock.
    pub since: i64,
}

/// The largest rate: a clock that gains or loses half of the time. Below it, correcting keeps the order of times.
pub const MOST_PPB: i64 = 500_000_000;

impl From<i64> for ClockCorrection {
    fn from(add_ns: i64) -> Self {
        Self { add_ns, rate_ppb: 0, since: 0 }
    }
}

impl ClockCorrection {
    /// The corrected time of a time by the wrong clock, both UTC nanoseconds.
    #[inline]
    pub fn correct(self, time: i64) -> i64 {
        if self.rate_ppb == 0 {
            return time.saturating_add(self.add_ns);
        }
        let elapsed = i128::from(time) - i128::from(self.since);
        let grown = elapsed * i128::from(self.rate_ppb) / i128::from(SECOND);
        let corrected = i128::from(time) + i128::from(self.add_ns) + grown;
        // The lowest value means "no time" in the event table.
        corrected.clamp(i128::from(i64::MIN + 1), i128::from(i64::MAX)) as i64
    }

    /// Whether it changes nothing.
    pub fn is_none(self) -> bool {
        self.add_ns == 0 && self.rate_ppb == 0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rate_grows_from_its_moment() {
        let drift = ClockCorrection { add_ns: -SECOND, rate_ppb: 20_000, since: 1000 * SECOND };
        assert_eq!(drift.correct(1000 * SECOND), 999 * SECOND);
        assert_eq!(drift.correct(2000 * SECOND), 1999 * SECOND + 20_000_000);
        assert_eq!(drift.correct(0), -SECOND - 20_000_000);
    }

    #[test]
    fn the_ends_of_time_hold() {
        for rate_ppb in [0, MOST_PPB, -MOST_PPB] {
            let drift = ClockCorrection { add_ns: i64::MAX, rate_ppb, since: i64::MIN };
            drift.correct(i64::MAX);
            drift.correct(i64::MIN + 1);
        }
    }
}
