//! Whether a source is written newest first, as lists are exported and as some programs print their own logs.
//!
//! Such a source is read backwards wherever order counts: its last record happened first.

use super::{Reader, Source};
use crate::clock::{DAY, Stamp};
use crate::format::Detected;
use crate::limits;
use crate::text::{SourceFile, bare_line};

/// Records in the samples that must have a time before the question is asked.
const MIN_RECORDS: usize = 3;
/// One step forward in so many steps back is a late line, more are another order.
const STEPS_BACK: usize = 20;

/// Steps between the times of records that follow each other.
#[derive(Default)]
struct Steps {
    back: usize,
    forward: usize,
    records: usize,
    /// From the first to the last, in nanoseconds.
    sum: i64,
    last: Option<i64>,
}

impl Steps {
    /// Takes the next time; stamps without year or date begin again after `period` nanoseconds.
    fn take(&mut self, time: i64, period: Option<i64>) {
        self.records += 1;
        let Some(last) = self.last.replace(time) else { return };
        let mut step = time.saturating_sub(last);
        if let Some(period) = period {
            step -= if step > period / 2 { period } else { 0 };
            step += if step < -period / 2 { period } else { 0 };
        }
        self.back += usize::from(step < 0);
        self.forward += usize::from(step > 0);
        self.sum = self.sum.saturating_add(step);
    }

    fn rises(&self) -> bool {
        self.forward * STEPS_BACK > self.back
    }

    fn falls(&self) -> bool {
        self.records >= MIN_RECORDS && self.back >= 2 && !self.rises() && self.sum < 0
    }
}

/// Whether a source's times fall from its start, through its middle, to its end.
/// `start` is the decoded start of the file, where it was read already: most sources rise there, and need no other look.
pub(super) fn is_newest_first(source: &Source, start: Option<&[u8]>) -> bool {
    let Reader::Lines(detected) = source.reader else { return false };
    if detected.format.sorts_by_time() {
        return false;
    }
    if start.is_some_and(|start| steps_in(source, detected, start, false).rises()) {
        return false;
    }
    let Ok(file) = SourceFile::open(&source.path) else { return false };
    let piece = limits::SAMPLE_BYTES as u64;
    let mut places = vec![source.mark_bytes];
    if source.len_bytes > 2 * piece {
        places.extend([(source.len_bytes / 2) & !3, source.len_bytes.saturating_sub(piece) & !3]);
    }
    let mut all = Steps::default();
    for place in places {
        let steps = steps_at(source, detected, &file, place);
        // Most sources rise, which their first sample says already.
        if steps.rises() {
            return false;
        }
        all.back += steps.back;
        all.forward += steps.forward;
        all.records += steps.records;
        all.sum = all.sum.saturating_add(steps.sum);
    }
    all.falls()
}

fn steps_at(source: &Source, detected: Detected, file: &SourceFile, place: u64) -> Steps {
    // What cannot be read is named when its events are read.
    let bytes = file.read(place, limits::SAMPLE_BYTES).unwrap_or_default();
    steps_in(source, detected, &source.encoding.decode(&bytes), place > source.mark_bytes)
}

/// The steps in a decoded piece; one from inside the file may start in the middle of a line.
fn steps_in(source: &Source, detected: Detected, text: &[u8], inside: bool) -> Steps {
    let mut steps = Steps::default();
    let lines = text.split(|byte| *byte == source.line_end as u8).skip(usize::from(inside));
    let mut kind = None;
    for line in lines {
        let Some(head) = detected.format.head(bare_line(line), detected.hint) else { continue };
        let (this, time, period) = match head.stamp {
            Stamp::Utc(ns, _) => (0, ns, None),
            Stamp::Local(ns) => (1, ns, None),
            Stamp::NoYear(ns) => (2, ns, Some(366 * DAY)),
            Stamp::TimeOfDay(ns) => (3, ns, Some(DAY)),
            Stamp::None | Stamp::Uptime(_) | Stamp::OutOfRange => continue,
        };
        if *kind.get_or_insert(this) == this {
            steps.take(time, period);
        }
    }
    steps
}

#[cfg(test)]
mod tests {
    use crate::testing::case;

    fn lines(order: &[u32]) -> String {
        order.iter().map(|minute| format!("2026-04-12T02:{minute:02}:00Z INFO feeder: step {minute}\n")).collect()
    }

    fn is_newest_first(text: &str) -> bool {
        case(&[("feeder.log", text)]).open().sources[0].newest_first
    }

    #[test]
    fn only_what_falls_throughout_is_newest_first() {
        let falling: Vec<u32> = (0..50).rev().collect();
        assert!(is_newest_first(&lines(&falling)));
        assert!(is_newest_first(&lines(&[9, 8, 8, 7])));
        assert!(!is_newest_first(&lines(&[1, 2, 3, 4])));
        assert!(!is_newest_first(&lines(&[3, 2])), "one late line");
        assert!(!is_newest_first(&lines(&[9, 8, 7, 30, 29, 28])));
        let then_rising: Vec<u32> = (10..50).rev().chain(10..50).collect();
        assert!(!is_newest_first(&lines(&then_rising)));
    }
}
