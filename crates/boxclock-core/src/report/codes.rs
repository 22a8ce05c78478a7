//! The codes of a case: how often, where, first and last seen, and which usually stand near each other.

use rustc_hash::FxHashMap;
use serde::Serialize;

use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Reads};
use crate::case::{Case, Loaded};
use crate::clock::{MINUTE, to_rfc3339};
use crate::code::rank::Clues;
use crate::code::{Catalogues, Code, Family, Outcome};
use crate::event::{EventRef, NO_TIME, Part, Row, Table};
use crate::format::LineFormat;
use crate::work::{Work, parallel};

/// Slices of the small density line of a code.
pub const SLICES: usize = 24;

/// One code of a case.
#[derive(Clone, Debug)]
pub struct CodeCount {
    /// The code.
    pub code: Code,
    /// Events that hold it.
    pub count: u64,
    /// First and last corrected time.
    pub span: Option<(i64, i64)>,
    /// Its first event in order of time.
    pub first_row: Row,
    /// Labels of the hosts that have it, with the number of events, most first.
    pub hosts: Vec<(String, u64)>,
    /// Numbers of the sources that have it, ascending.
    pub sources: Vec<u32>,
    /// Events in each slice of the axis that was asked for.
    pub slices: [u32; SLICES],
}

/// Orders of the list.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Order {
    /// Failures first, then what needs a restart; the most frequent first.
    #[default]
    Worst,
    /// By the time they were first seen.
    FirstSeen,
}

/// A code, as `codes --as jsonl` prints it.
#[derive(Serialize)]
struct CodeLine<'a> {
    number: Option<u32>,
    text: String,
    family: &'static str,
    name: Option<&'static str>,
    failure: bool,
    outcome: &'static str,
    known: bool,
    count: u64,
    first: Option<String>,
    last: Option<String>,
    hosts: Vec<&'a str>,
    gloss: &'a str,
    meaning: &'a str,
    causes: &'static str,
    check: &'static str,
}

/// What is counted of a code in one group of parts.
struct Counted {
    count: u64,
    span: Option<(i64, i64)>,
    first: (i64, Row),
    hosts: Vec<(u32, u64)>,
    sources: Vec<u32>,
    slices: [u32; SLICES],
}

/// Counts all codes, the worst first, with how many events stand in each slice of a span of time.
#[derive(Clone, Copy, Debug, Default)]
pub struct CodeAnalysis {
    /// The span that is cut into slices, first and last moment in UTC nanoseconds; `None` is that of the case.
    pub axis: Option<(i64, i64)>,
}

impl Analysis for CodeAnalysis {
    const NAME: &'static str = "codes";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = Vec<CodeCount>;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<Vec<CodeCount>> {
        count_all(&view.loaded.table, self.axis.or(view.loaded.table.span), work)
    }

    fn parameters(&self) -> String {
        format!("{:?}", self.axis)
    }
}

fn count_all(table: &Table, axis: Option<(i64, i64)>, work: &Work) -> Result<Vec<CodeCount>> {
    let groups = parallel(table.parts.len().div_ceil(64), work, |group| {
        let mut found: FxHashMap<Code, Counted> = FxHashMap::default();
        for part in table.parts.iter().skip(group * 64).take(64) {
            count_part(table, part, axis, &mut found);
        }
        found
    });
    work.check()?;
    let mut all: FxHashMap<Code, Counted> = FxHashMap::default();
    for (code, counted) in groups.into_iter().flatten() {
        match all.entry(code) {
            std::collections::hash_map::Entry::Occupied(mut entry) => entry.get_mut().merge(counted),
            std::collections::hash_map::Entry::Vacant(entry) => _ = entry.insert(counted),
        }
    }
    let mut codes: Vec<CodeCount> = all.into_iter().map(|(code, counted)| counted.named(code, table)).collect();
    sort(&mut codes, Order::Worst, table.catalogues());
    Ok(codes)
}

fn count_part(table: &Table, part: &Part, axis: Option<(i64, i64)>, found: &mut FxHashMap<Code, Counted>) {
    let segment = &part.segment;
    for (index, row, code) in carried(table, part) {
        let actor = part.actor_ids[usize::from(segment.actor_ids[index])];
        let time = time_of(table, part, index);
        let host = table.actors[actor as usize].host;
        let counted = found.entry(code).or_insert_with(|| Counted::new(row));
        counted.count += 1;
        counted.first = counted.first.min((time.unwrap_or(i64::MAX), row));
        if let Some(time) = time {
            let (first, last) = counted.span.unwrap_or((time, time));
            counted.span = Some((first.min(time), last.max(time)));
            if let Some((from, to)) = axis.filter(|(from, to)| (*from..=*to).contains(&time)) {
                let span = i128::from(to) - i128::from(from) + 1;
                let slice = (i128::from(time) - i128::from(from)) * SLICES as i128 / span;
                counted.slices[slice as usize] += 1;
            }
        }
        add(&mut counted.hosts, host, 1);
        if counted.sources.last() != Some(&segment.source) && !counted.sources.contains(&segment.source) {
            counted.sources.push(segment.source);
        }
    }
}

/// The codes of a part with their events: index and row. A code that stands twice in an event is one event.
fn carried<'a>(table: &'a Table, part: &'a Part) -> impl Iterator<Item = (usize, Row, Code)> + 'a {
    let codes = &part.segment.codes;
    codes.iter().enumerate().filter_map(move |(place, (event, code))| {
        let mut before = codes[..place].iter().rev().take_while(|(other, _)| other == event);
        let row = Row(part.first_row + u32::from(*event));
        let first = !before.any(|(_, other)| other == code);
        first.then(|| (usize::from(*event), row, table.code_of(part.segment.source, row, *code)))
    })
}

/// The corrected time of an event of a part.
fn time_of(table: &Table, part: &Part, index: usize) -> Option<i64> {
    let actor = part.actor_ids[usize::from(part.segment.actor_ids[index])];
    let raw = part.segment.times[index];
    (raw != NO_TIME).then(|| table.drift_of(part.segment.source, actor).correct(raw))
}

fn add(hosts: &mut Vec<(u32, u64)>, host: u32, count: u64) {
    match hosts.iter_mut().find(|(other, _)| *other == host) {
        Some((_, sum)) => *sum += count,
        None => hosts.push((host, count)),
    }
}

impl Counted {
    fn new(row: Row) -> Self {
        Self {
            count: 0,
            span: None,
            first: (i64::MAX, row),
            hosts: Vec::new(),
            sources: Vec::new(),
            slices: [0; SLICES],
        }
    }

    fn merge(&mut self, other: Self) {
        self.count += other.count;
        self.span = match (self.span, other.span) {
            (Some((a, b)), Some((c, d))) => Some((a.min(c), b.max(d))),
            (span, None) | (None, span) => span,
        };
        self.first = self.first.min(other.first);
        other.hosts.into_iter().for_each(|(host, count)| add(&mut self.hosts, host, count));
        self.sources.extend(other.sources);
        self.slices.iter_mut().zip(other.slices).for_each(|(sum, count)| *sum += count);
    }

    fn named(mut self, code: Code, table: &Table) -> CodeCount {
        self.hosts.sort_by_key(|(host, count)| (std::cmp::Reverse(*count), *host));
        self.sources.sort_unstable();
        self.sources.dedup();
        let name = |(host, count): (u32, u64)| (table.hosts[host as usize].clone(), count);
        let hosts = self.hosts.into_iter().map(name).filter(|(host, _)| !host.is_empty()).collect();
        let Counted { count, span, first: (_, first_row), sources, slices, .. } = self;
        CodeCount { code, count, span, first_row, hosts, sources, slices }
    }
}

/// Puts codes into an order.
pub fn sort(codes: &mut [CodeCount], order: Order, own: &Catalogues) {
    match order {
        // A failure that is part of healthy work (a page that is not there) stands behind those that are none.
        Order::Worst => codes.sort_by_cached_key(|code| {
            let outcome = code.code.info(own).outcome;
            (
                outcome,
                outcome == Outcome::Failure && !code.code.escalates(own),
                std::cmp::Reverse(code.count),
                code.code,
            )
        }),
        Order::FirstSeen => codes.sort_by_key(|code| (code.span.map_or(i64::MAX, |(first, _)| first), code.code)),
    }
}

/// How far before and after a code its relatives are looked for.
pub const NEAR_NS: i64 = MINUTE;

/// A code that stands near another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Relative {
    /// It.
    pub code: Code,
    /// In how many events at most a minute before the other.
    pub before: u64,
    /// In how many events at most a minute after it.
    pub after: u64,
    /// In how many events of the case.
    pub total: u64,
}

impl Relative {
    /// For sorting: failures first, and what stands mostly near the other before what stands everywhere.
    pub fn nearness(&self, near: u64, own: &Catalogues) -> (Outcome, std::cmp::Reverse<u64>, std::cmp::Reverse<u64>) {
        let share = near.saturating_mul(1000) / self.total.max(1);
        (self.code.info(own).outcome, std::cmp::Reverse(share), std::cmp::Reverse(near))
    }
}

/// Finds the codes that stand at most [`NEAR_NS`] before or after this one, in the order of [`Relative::nearness`].
#[derive(Clone, Copy, Debug)]
pub struct RelativesOf(pub Code);

impl Analysis for RelativesOf {
    const NAME: &'static str = "relatives";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = Vec<Relative>;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<Vec<Relative>> {
        relatives(&view.loaded.table, self.0, work)
    }

    fn parameters(&self) -> String {
        format!("{:?}", self.0)
    }
}

fn relatives(table: &Table, of: Code, work: &Work) -> Result<Vec<Relative>> {
    let each = |want: &(dyn Fn(Code) -> bool + Sync)| -> Vec<(i64, Code)> {
        let groups = parallel(table.parts.len().div_ceil(64), work, |group| {
            let mut found = Vec::new();
            for part in table.parts.iter().skip(group * 64).take(64) {
                let wanted = carried(table, part).filter(|(_, _, code)| want(*code));
                found.extend(wanted.filter_map(|(index, _, code)| Some((time_of(table, part, index)?, code))));
            }
            found
        });
        groups.into_iter().flatten().collect()
    };
    let mut times: Vec<i64> = each(&|code| code == of).into_iter().map(|(time, _)| time).collect();
    times.sort_unstable();
    times.dedup();
    let mut counts: FxHashMap<Code, Relative> = FxHashMap::default();
    for (time, code) in each(&|code| code != of) {
        let next = times.partition_point(|other| *other < time);
        let before = times.get(next).is_some_and(|other| other.saturating_sub(time) <= NEAR_NS);
        let last = next.checked_sub(1).and_then(|last| times.get(last));
        let after = last.is_some_and(|other| time.saturating_sub(*other) <= NEAR_NS);
        let relative = counts.entry(code).or_insert(Relative { code, before: 0, after: 0, total: 0 });
        relative.before += u64::from(before);
        relative.after += u64::from(after);
        relative.total += 1;
    }
    let near = |relative: &Relative| relative.before.max(relative.after);
    let mut relatives: Vec<Relative> = counts.into_values().filter(|relative| near(relative) > 0).collect();
    relatives.sort_by_key(|relative| (relative.nearness(near(relative), table.catalogues()), relative.code));
    work.check()?;
    Ok(relatives)
}

/// What is known of the place of an event, for ranking the families that its codes could be of.
pub fn clues<'a>(case: &'a Case, loaded: &'a Loaded, event: EventRef<'a>) -> Clues<'a> {
    let source = &case.sources[event.source()];
    let mut in_source: FxHashMap<Family, u64> = FxHashMap::default();
    for part in loaded.table.parts.iter().filter(|part| part.segment.source as usize == event.source()) {
        for (_, code) in &part.segment.codes {
            *in_source.entry(code.family).or_default() += 1;
        }
    }
    Clues {
        platform: source.platform,
        format: source.reader.name(),
        at_home: source.reader.lines().map_or(&[], LineFormat::families),
        component: event.component(),
        in_source: in_source.into_iter().collect(),
        chosen: None,
    }
}

impl CodeCount {
    /// The code as a line of JSON, without line end.
    pub fn json(&self, own: &Catalogues) -> String {
        let reading = self.code.info(own);
        let line = CodeLine {
            number: self.code.number_out(),
            text: self.code.written(own),
            family: self.code.family.name(),
            name: reading.name,
            failure: reading.is_failure(),
            outcome: reading.outcome.name(),
            known: reading.known,
            count: self.count,
            first: self.span.map(|(first, _)| to_rfc3339(first)),
            last: self.span.map(|(_, last)| to_rfc3339(last)),
            hosts: self.hosts.iter().map(|(host, _)| host.as_str()).collect(),
            gloss: &reading.gloss,
            meaning: &reading.meaning,
            causes: reading.causes,
            check: reading.check,
        };
        crate::visible::safe_json(serde_json::to_string(&line).unwrap_or_default())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::code::NO_CATALOGUES;

    fn view(text: &str) -> (crate::testing::TestCase, CaseView) {
        let case = crate::testing::case(&[("tank.log", text)]);
        let view = case.view();
        (case, view)
    }

    fn codes(view: &CaseView) -> Vec<CodeCount> {
        view.run(&CodeAnalysis::default(), &Work::default()).unwrap().to_vec()
    }

    const TEXT: &str = "\
2026-04-12T02:00:00Z bridge: open failed: 0x80070005\n\
2026-04-12T02:00:10Z bridge: retry: hr=-2147024891, then 0x80070005\n\
2026-04-12T02:00:20Z console: write: ENOSPC\n\
2026-04-12T02:30:00Z console: write: ENOSPC\n\
2026-04-12T02:30:30Z setup: exit code 3010\n\
2026-04-12T02:59:00Z console: GET /feed HTTP/1.1 404\n";

    #[test]
    fn writings_of_a_code_are_one_row_and_worst_comes_first() {
        let (_root, view) = view(TEXT);
        let codes = codes(&view);
        let rows: Vec<(String, u64)> =
            codes.iter().map(|code| (code.code.written(&NO_CATALOGUES), code.count)).collect();
        let expected = [("0x80070005", 2), ("28", 2), ("404", 1), ("3010", 1)];
        assert_eq!(rows, expected.map(|(text, count)| (text.to_owned(), count)));
        assert_eq!(codes[0].slices.iter().sum::<u32>(), 2);
        assert_eq!((codes[1].slices[0], codes[1].slices[12]), (1, 1), "{:?}", codes[1].slices);
        assert_eq!(codes[0].first_row, Row(0));
        let mut first = codes;
        sort(&mut first, Order::FirstSeen, &NO_CATALOGUES);
        let order: Vec<String> = first.iter().map(|code| code.code.written(&NO_CATALOGUES)).collect();
        assert_eq!(order, ["0x80070005", "28", "3010", "404"]);
    }

    #[test]
    fn relatives_stand_within_a_minute() {
        let (_root, view) = view(TEXT);
        let code = |number, family| Code { family, number };
        let disk = code(28, Family::Errno);
        let near = view.run(&RelativesOf(disk), &Work::default()).unwrap();
        // Twice in one event is one event.
        let before = near.iter().find(|relative| relative.code == code(0x8007_0005, Family::Hresult)).unwrap();
        assert_eq!((before.before, before.after), (2, 0));
        let after = near.iter().find(|relative| relative.code.number == 3010).unwrap();
        assert_eq!((after.before, after.after), (0, 1));
        assert!(near.iter().all(|relative| relative.code.number != 404), "that is half an hour away");
    }

    #[test]
    fn columns_of_a_log_of_accesses_are_codes() {
        let text = "#Fields: date time cs-method cs-uri-stem sc-status sc-win32-status time-taken\n\
                    2026-04-12 00:14:55 GET /tanks 200 0 1603\n2026-04-12 00:14:56 GET /dose 502 1236 30012\n\
                    2026-04-12 00:14:57 GET /dose 401 5 3\n";
        let (_root, view) = view(text);
        let found: Vec<String> =
            codes(&view).iter().map(|code| format!("{}:{}", code.code.family.name(), code.code.number)).collect();
        assert_eq!(found, ["win32:5", "win32:1236", "http:502", "http:401", "http:200"]);
    }

    #[test]
    fn clues_know_the_source() {
        let (_root, view) = view(TEXT);
        let clues = clues(&view.case, &view.loaded, view.loaded.table.event(Row(2)));
        assert_eq!((clues.component, clues.format), ("console", "iso-text"));
        assert!(clues.in_source.contains(&(Family::Hresult, 2)), "{:?}", clues.in_source);
    }
}
