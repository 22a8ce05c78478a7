//! How each kind of message comes: its rhythm, its bursts, and its silence where it used to come.

use super::Patterns;
use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Reads};
use crate::clock::{MINUTE, SECOND};
use crate::event::Row;
use crate::work::Work;

/// Events of a pattern from which a rhythm is believed.
const FEWEST: u32 = 12;
/// How much gaps may vary, as a share of the usual gap.
const MOST_VARIATION: f64 = 0.35;
/// Usual gaps that have to be missing before a pattern is missed.
const GAPS_MISSED: i64 = 6;
/// The window in which a burst is counted.
const BURST_NS: i64 = 10 * SECOND;
/// How many times the usual rate a burst is.
const BURST_TIMES: f64 = 12.0;
/// Events that a burst has at least.
const BURST_FEWEST: u32 = 8;

/// How one pattern comes, over all sources and by corrected clocks.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Rhythm {
    /// Events with a time.
    pub count: u32,
    /// Its first and last event with a time.
    pub rows: Option<(Row, Row)>,
    /// Corrected times of these, UTC nanoseconds.
    pub span: (i64, i64),
    /// The usual gap between two of them in nanoseconds, where they come regularly.
    pub period_ns: Option<i64>,
    /// Since when it is missing, where it came regularly and its source went on without it, UTC nanoseconds.
    pub missing_since: Option<i64>,
    /// The largest burst: its first event, and how many came within ten seconds.
    pub burst: Option<(Row, u32)>,
    /// The pattern that follows it most often as the next event of its source; by its place in the list of patterns.
    pub followed_by: Option<u32>,
}

/// Works out the rhythm of each pattern, in the order of [`Patterns::list`].
#[derive(Clone, Copy, Debug)]
pub struct RhythmAnalysis;

impl Analysis for RhythmAnalysis {
    const NAME: &'static str = "rhythms";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = Vec<Rhythm>;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<Vec<Rhythm>> {
        let patterns = view.run(&super::PatternAnalysis, work)?;
        rhythms(view, &patterns, work)
    }
}

/// What is counted of a pattern while the events go by.
#[derive(Clone, Copy, Default)]
struct Count {
    rhythm: Rhythm,
    gap_sum: f64,
    gap_squares: f64,
    /// The burst that goes on: when it began, its first event, how many.
    open: Option<(i64, Row, u32)>,
    /// The next pattern of the same source that leads, and how far (a majority vote).
    next: (u32, u32),
}

fn rhythms(view: &CaseView, patterns: &Patterns, work: &Work) -> Result<Vec<Rhythm>> {
    let table = &view.loaded.table;
    let mut counts = vec![Count::default(); patterns.list.len()];
    let mut last_of_source: Vec<(i64, u32)> = vec![(i64::MIN, u32::MAX); view.case.sources.len()];
    for (number, row) in table.order.iter().enumerate() {
        if number.is_multiple_of(65_536) {
            work.check()?;
        }
        let row = Row(*row);
        let event = table.event(row);
        let (Some(time), Some(index)) = (event.time(), patterns.of_row.get(row.0 as usize).copied()) else { continue };
        let Some(count) = counts.get_mut(index as usize) else { continue };
        let source = event.source();
        count.add(row, time);
        let before = std::mem::replace(&mut last_of_source[source], (time, index)).1;
        if let Some(before) = counts.get_mut(before as usize) {
            before.vote(index);
        }
    }
    let source_of = |row: Row| table.event(row).source();
    let finish = |count: Count| {
        let mut rhythm = count.rhythm;
        let gaps = f64::from(rhythm.count.saturating_sub(1)).max(1.0);
        let mean = count.gap_sum / gaps;
        let spread = (count.gap_squares / gaps - mean * mean).max(0.0).sqrt();
        if rhythm.count >= FEWEST && mean > 0.0 && spread <= MOST_VARIATION * mean {
            let period = mean as i64;
            rhythm.period_ns = Some(period);
            let last_heard = rhythm.rows.map_or(i64::MIN, |(_, last)| last_of_source[source_of(last)].0);
            if last_heard.saturating_sub(rhythm.span.1) > period.saturating_mul(GAPS_MISSED).max(MINUTE) {
                rhythm.missing_since = Some(rhythm.span.1.saturating_add(period));
            }
        }
        let usual = BURST_NS as f64 * f64::from(rhythm.count)
            / (rhythm.span.1.saturating_sub(rhythm.span.0)).max(BURST_NS) as f64;
        rhythm.burst = rhythm.burst.filter(|(_, most)| {
            *most >= BURST_FEWEST && *most < rhythm.count && f64::from(*most) >= BURST_TIMES * usual
        });
        // A majority of a vote that is not one has few ahead.
        let ahead = count.next.1;
        rhythm.followed_by = (rhythm.count >= 3 && ahead.saturating_mul(2) > rhythm.count).then_some(count.next.0);
        rhythm
    };
    Ok(counts.into_iter().map(finish).collect())
}

impl Count {
    fn add(&mut self, row: Row, time: i64) {
        let rhythm = &mut self.rhythm;
        match &mut rhythm.rows {
            None => (rhythm.rows, rhythm.span) = (Some((row, row)), (time, time)),
            Some((_, last)) => {
                let gap = time.saturating_sub(rhythm.span.1) as f64;
                self.gap_sum += gap;
                self.gap_squares += gap * gap;
                (*last, rhythm.span.1) = (row, time);
            }
        }
        rhythm.count += 1;
        let goes_on = self.open.filter(|(began, ..)| time.saturating_sub(*began) <= BURST_NS);
        let (began, first, before) = goes_on.unwrap_or((time, row, 0));
        self.open = Some((began, first, before + 1));
        if rhythm.burst.is_none_or(|(_, most)| before + 1 > most) {
            rhythm.burst = Some((first, before + 1));
        }
    }

    /// Votes for the pattern that came next (Boyer and Moore's majority vote).
    fn vote(&mut self, next: u32) {
        self.next = match self.next {
            (_, 0) => (next, 1),
            (leading, ahead) if leading == next => (leading, ahead + 1),
            (leading, ahead) => (leading, ahead - 1),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{case, log};

    /// The rhythm of the messages that begin so.
    fn of(files: &[(&str, &str)], begins: &str) -> Rhythm {
        let case = case(files);
        let view = case.view();
        let patterns = view.run(&super::super::PatternAnalysis, &Work::default()).unwrap();
        let found = view.run(&RhythmAnalysis, &Work::default()).unwrap();
        let mut reader = crate::event::RecordReader::new(view.case.sources.clone());
        let place = patterns
            .list
            .iter()
            .position(|pattern| reader.record(view.loaded.table.event(pattern.first)).body.starts_with(begins));
        found[place.expect("such a message")]
    }

    fn every_minute(from: u32, to: u32, text: &str) -> crate::testing::TestLog {
        (from..to)
            .fold(log(), |log, minute| log.at(&format!("{:02}:{:02}:00", minute / 60, minute % 60)).info("a", text))
    }

    #[test]
    fn a_regular_message_has_its_period_and_is_missed() {
        let text = every_minute(0, 60, "heartbeat").at("01:30:00").info("a", "still here").text();
        let found = of(&[("gw/app.log", &text)], "heartbeat");
        assert_eq!((found.count, found.period_ns), (60, Some(MINUTE)));
        let since = crate::clock::to_rfc3339(found.missing_since.unwrap());
        assert_eq!(since, "2026-04-12T01:00:00.000000000Z");
    }

    #[test]
    fn what_ends_with_its_source_is_not_missed() {
        let text = every_minute(0, 60, "heartbeat").text();
        let other = every_minute(0, 300, "tick").text();
        let found = of(&[("gw/app.log", &text), ("gw/other.log", &other)], "heartbeat");
        assert_eq!((found.period_ns, found.missing_since), (Some(MINUTE), None));
    }

    #[test]
    fn what_comes_anyhow_has_no_period() {
        let times = ["00:00:00", "00:00:01", "00:20:00", "00:21:00", "02:00:00", "02:00:05", "03:00:00"];
        let mut text = log();
        for time in times.iter().chain(["05:00:00", "05:00:01", "09:00:00", "11:00:00", "11:00:01", "15:00:00"].iter())
        {
            text = text.at(time).info("a", "door opened");
        }
        assert_eq!(of(&[("gw/app.log", &text.text())], "door").period_ns, None);
    }

    #[test]
    fn a_burst_is_many_times_the_usual_rate() {
        let mut text = every_minute(0, 120, "refused");
        for _ in 0..20 {
            text = text.at("03:00:00").info("a", "refused");
        }
        let found = of(&[("gw/app.log", &text.text())], "refused");
        assert_eq!(found.burst.map(|(_, count)| count), Some(20));
        let steady = every_minute(0, 120, "refused").text();
        assert_eq!(of(&[("gw/app.log", &steady)], "refused").burst, None);
    }

    #[test]
    fn what_follows_it_most_often_is_known() {
        let mut text = log();
        for minute in 0..10 {
            text = text.at(&format!("00:{minute:02}:00")).info("a", "job taken").info("a", "job done");
        }
        let case = case(&[("gw/app.log", text.text())]);
        let view = case.view();
        let found = view.run(&RhythmAnalysis, &Work::default()).unwrap();
        assert_eq!(found[0].followed_by, Some(1));
    }
}
