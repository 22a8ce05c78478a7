//! Growth of a resource: a straight line through its values since they were lowest.
//!
//! Source of the formulas: ordinary least squares, and its coefficient of determination.

use super::Sample;
use crate::clock::HOUR;

/// Values that a line has to go through.
const FEWEST: usize = 8;
/// How much of the values' variation the line has to explain.
const FITS: f64 = 0.8;
/// Points that it has to have grown by.
const LEAST_RISE: f64 = 10.0;

/// The longest look ahead that growth is told for.
const AHEAD_NS: i64 = 30 * 24 * HOUR;

/// How a resource grows.
#[derive(Clone, Debug, PartialEq)]
pub struct Growth {
    /// Where it begins.
    pub first: Sample,
    /// The last value.
    pub last: Sample,
    /// Points of a hundred that it grows in an hour.
    pub points_per_hour: f64,
    /// When it is full if it goes on so, UTC nanoseconds.
    pub full_at: i64,
}

impl Growth {
    /// The growth of values in order of time; `None` where they do not grow steadily up to the last, or would not be full within
    /// thirty days.
    pub(super) fn of(samples: &[&Sample]) -> Option<Self> {
        // From where they were lowest last.
        let lowest = samples.iter().map(|sample| sample.percent).fold(f64::INFINITY, f64::min);
        let start = samples.iter().rposition(|sample| sample.percent <= lowest)?;
        let grown = samples.get(start..).filter(|grown| grown.len() >= FEWEST)?;
        let (first, last) = (*grown.first()?, *grown.last()?);
        if last.percent - first.percent < LEAST_RISE {
            return None;
        }
        let hours = |time: i64| time.saturating_sub(first.time) as f64 / HOUR as f64;
        let count = grown.len() as f64;
        let mean_time = grown.iter().map(|sample| hours(sample.time)).sum::<f64>() / count;
        let mean = grown.iter().map(|sample| sample.percent).sum::<f64>() / count;
        let (mut with_time, mut of_time, mut of_values) = (0.0, 0.0, 0.0);
        for sample in grown {
            let (time, value) = (hours(sample.time) - mean_time, sample.percent - mean);
            with_time += time * value;
            of_time += time * time;
            of_values += value * value;
        }
        if of_time <= 0.0 || of_values <= 0.0 {
            return None;
        }
        let slope = with_time / of_time;
        let fit = with_time * with_time / (of_time * of_values);
        if slope <= 0.0 || fit < FITS {
            return None;
        }
        let ahead_ns = (100.0 - last.percent) / slope * HOUR as f64;
        (ahead_ns <= AHEAD_NS as f64).then(|| Self {
            first: first.clone(),
            last: last.clone(),
            points_per_hour: slope,
            full_at: last.time.saturating_add(ahead_ns as i64),
        })
    }
}
