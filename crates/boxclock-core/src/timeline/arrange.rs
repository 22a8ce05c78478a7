//! How rows are arranged to be read: runs of one pattern folded into their first event, the worst first.

use std::collections::HashMap;
use std::sync::Arc;

use crate::Result;
use crate::analysis::CaseView;
use crate::clock::MINUTE;
use crate::event::{Row, flag};
use crate::pattern::{PatternAnalysis, Patterns};
use crate::query::{RowSet, problem_rows};
use crate::severity::Severity;
use crate::work::Work;

/// A longer pause ends a run.
const MAX_PAUSE_NS: i64 = MINUTE;
/// Where a dump stands among the severities: before all others.
const DUMP_RANK: u8 = Severity::MAX + 1;

/// How rows are arranged.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Arrangement {
    /// Whether runs of the same pattern are folded.
    pub fold: bool,
    /// Whether the worst come first; otherwise the order is that of time.
    pub worst_first: bool,
}

/// Events in a row with the same pattern.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Run {
    /// How many.
    pub count: u32,
    /// From the first to the last, in nanoseconds.
    pub lasts_ns: i64,
}

/// Rows as they are read.
#[derive(Clone, Debug, Default)]
pub struct ArrangedRows {
    /// Rows as they are arranged; of folded runs the first. `None` for all in merged order.
    pub rows: Option<Arc<Vec<u32>>>,
    /// All rows that pass the filter, in merged order, whatever is folded; `None` for all of the case.
    pub passed: Option<Arc<Vec<u32>>>,
    /// Places (in `rows`) of problems.
    pub problems: Arc<Vec<u32>>,
    /// For each place the run that it stands for, where runs are folded.
    pub runs: Option<Arc<Vec<Run>>>,
    /// Whether the worst come first.
    pub worst_first: bool,
}

impl ArrangedRows {
    /// Arranges the rows that pass a filter (`None` for all), given in merged order.
    ///
    /// # Errors
    /// When cancelled.
    pub fn of(view: &CaseView, passed: Option<Arc<Vec<u32>>>, how: Arrangement, work: &Work) -> Result<Self> {
        let table = &view.loaded.table;
        let (mut rows, mut runs) = (passed.clone(), None);
        if how.fold {
            let patterns = view.run(&PatternAnalysis, work)?;
            let all = rows.as_ref().map_or(&*table.order, |rows| rows.as_slice());
            let (firsts, folded) = fold_runs(view, all, &patterns);
            (rows, runs) = (Some(Arc::new(firsts)), Some(folded));
        }
        work.check()?;
        if how.worst_first {
            let all = rows.as_ref().map_or(&*table.order, |rows| rows.as_slice());
            let mut places: Vec<u32> = (0..all.len() as u32).collect();
            let rank = |place: &u32| {
                let event = table.event(Row(all[*place as usize]));
                let number = if event.flags() & flag::DUMP != 0 { DUMP_RANK } else { event.severity().0 };
                // Text that looks bad counts as a warning.
                std::cmp::Reverse(if number == 0 && event.is_problem() { Severity::WARN.0 } else { number })
            };
            places.sort_by_cached_key(rank);
            runs = runs.map(|runs: Vec<Run>| places.iter().map(|place| runs[*place as usize]).collect());
            rows = Some(Arc::new(places.iter().map(|place| all[*place as usize]).collect()));
        }
        work.check()?;
        let shown = rows.as_ref().map_or(&*table.order, |rows| rows.as_slice());
        let problems = Arc::new(places_in(shown, &problem_rows(table)));
        Ok(Self { problems, rows, passed, runs: runs.map(Arc::new), worst_first: how.worst_first })
    }

    /// The rows that these stand for, those inside of folded runs included: each of `chosen` with the count of its run.
    ///
    /// # Errors
    /// When cancelled.
    pub fn unfolded(&self, view: &CaseView, chosen: &[(u32, u32)], work: &Work) -> Result<Vec<u32>> {
        if chosen.iter().all(|(_, count)| *count <= 1) {
            return Ok(chosen.iter().map(|(row, _)| *row).collect());
        }
        let table = &view.loaded.table;
        let patterns = view.run(&PatternAnalysis, work)?;
        // What belongs to a run: the next ones of its source that have its pattern, in order.
        let mut left: HashMap<(usize, u32), u32> = HashMap::new();
        let starts: HashMap<u32, u32> = chosen.iter().copied().collect();
        let of =
            |row: u32| (table.event(Row(row)).source(), patterns.of_row.get(row as usize).copied().unwrap_or(u32::MAX));
        let passed = self.passed.as_ref().map_or(&*table.order, |rows| rows.as_slice());
        let mut rows = Vec::new();
        for row in passed {
            if let Some(count) = starts.get(row) {
                left.insert(of(*row), *count);
            }
            if let Some(more) = left.get_mut(&of(*row)).filter(|more| **more > 0) {
                *more -= 1;
                rows.push(*row);
            }
        }
        Ok(rows)
    }
}

/// The first of each run of events with the same pattern, and the runs. A run is of one source, and what other sources write
/// meanwhile does not end it; a pause does.
fn fold_runs(view: &CaseView, rows: &[u32], patterns: &Patterns) -> (Vec<u32>, Vec<Run>) {
    /// The run that a source is in: its pattern, its place among the runs, its first and last time.
    struct Open {
        pattern: Option<u32>,
        run: usize,
        first: Option<i64>,
        last: Option<i64>,
    }
    let mut firsts: Vec<u32> = Vec::new();
    let mut runs: Vec<Run> = Vec::new();
    let mut open: HashMap<usize, Open> = HashMap::new();
    for row in rows {
        let event = view.loaded.table.event(Row(*row));
        let (pattern, time) = (patterns.of_row.get(*row as usize).copied(), event.time());
        if let Some(of) = open.get_mut(&event.source())
            && of.pattern == pattern
            && time.zip(of.last).is_none_or(|(time, last)| time.saturating_sub(last) <= MAX_PAUSE_NS)
        {
            runs[of.run].count += 1;
            runs[of.run].lasts_ns = time.zip(of.first).map_or(0, |(time, first)| time.saturating_sub(first));
            of.last = time;
            continue;
        }
        open.insert(event.source(), Open { pattern, run: runs.len(), first: time, last: time });
        firsts.push(*row);
        runs.push(Run { count: 1, lasts_ns: 0 });
    }
    (firsts, runs)
}

/// The places of the rows that are in a set.
pub fn places_in(rows: &[u32], set: &RowSet) -> Vec<u32> {
    rows.iter().zip(0_u32..).filter(|(row, _)| set.contains(**row)).map(|(_, place)| place).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{case, log};

    fn arranged(fold: bool, worst_first: bool) -> (Vec<u64>, Vec<u32>, usize) {
        let text = log()
            .info("app", "fed tank 1")
            .info("app", "fed tank 2")
            .at("00:00:01")
            .error("app", "refused")
            .info("app", "fed tank 3")
            .at("00:02:00")
            .info("app", "fed tank 4")
            .text();
        let case = case(&[("app.log", &text)]);
        let view = case.view();
        let found = ArrangedRows::of(&view, None, Arrangement { fold, worst_first }, &Work::default()).unwrap();
        let rows = found.rows.as_ref().map_or(view.loaded.table.order.to_vec(), |rows| rows.to_vec());
        let counts = found.runs.as_ref().map_or(Vec::new(), |runs| runs.iter().map(|run| run.count).collect());
        let chosen: Vec<(u32, u32)> = rows.iter().zip(&counts).map(|(row, count)| (*row, *count)).collect();
        let unfolded = found.unfolded(&view, &chosen, &Work::default()).unwrap().len();
        (rows.iter().map(|row| view.loaded.table.event(Row(*row)).line()).collect(), counts, unfolded)
    }

    #[test]
    fn runs_are_folded_and_nothing_is_lost() {
        assert_eq!(arranged(false, false), (vec![1, 2, 3, 4, 5], Vec::new(), 0));
        // A pause of two minutes ends a run; so does another pattern.
        assert_eq!(arranged(true, false), (vec![1, 3, 4, 5], vec![2, 1, 1, 1], 5));
    }

    #[test]
    fn the_worst_come_first() {
        assert_eq!(arranged(false, true).0, [3, 1, 2, 4, 5]);
        assert_eq!(arranged(true, true), (vec![3, 1, 4, 5], vec![1, 2, 1, 1], 5));
    }
}
