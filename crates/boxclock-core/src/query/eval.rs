//! Evaluating a filter over the event table: cheap columns first, the text only where it still matters.

use super::text::TextTest;
use super::{Expr, Filter, Leaf, TimeTest, ValueTest};
use crate::analysis::{CaseView, pass};
use crate::case::{Reader, Source};
use crate::clock::human::of_leap_year;
use crate::clock::{Civil, ClockCorrection, DAY, SECOND, Zone};
use crate::event::{NO_TIME, Part, RecordReader, Row, Table, TableActor, flag};
use crate::pattern::{Pattern, PatternAnalysis, Patterns};
use crate::text::{Encoding, SourceFile};
use crate::work::{Work, parallel};
use crate::{Result, limits};
use serde_json::{Map, Value};
use std::sync::Arc;

/// A set of rows: one bit each.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RowSet {
    words: Vec<u64>,
}

impl RowSet {
    fn with_rows(rows: usize) -> Self {
        Self { words: vec![0; rows.div_ceil(64)] }
    }

    /// Whether a row is in the set.
    #[inline]
    pub fn contains(&self, row: u32) -> bool {
        self.words.get(row as usize / 64).is_some_and(|word| word >> (row % 64) & 1 == 1)
    }

    /// Number of rows in the set.
    pub fn count(&self) -> usize {
        self.words.iter().map(|word| word.count_ones() as usize).sum()
    }

    /// The rows in it, in order.
    pub fn iter(&self) -> impl Iterator<Item = u32> + '_ {
        self.words
            .iter()
            .enumerate()
            .filter(|(_, word)| **word != 0)
            .flat_map(|(at, word)| (0..64).filter(move |bit| word >> bit & 1 == 1).map(move |bit| at as u32 * 64 + bit))
    }

    fn add_part(&mut self, first_row: u32, words: &[u64]) {
        for (index, packed) in words.iter().copied().enumerate().filter(|(_, packed)| *packed != 0) {
            let at = first_row as usize + index * 64;
            let shift = at % 64;
            self.words[at / 64] |= packed << shift;
            if shift > 0
                && let Some(next) = self.words.get_mut(at / 64 + 1)
            {
                *next |= packed >> (64 - shift);
            }
        }
    }
}

/// One bit for each truth, 64 to a word.
fn packed(bits: &[bool]) -> Vec<u64> {
    let word = |chunk: &[bool]| {
        // Most words of most filters are empty: that is found out many at a time.
        if chunk.iter().map(|bit| u32::from(*bit)).sum::<u32>() == 0 {
            return 0;
        }
        chunk.iter().enumerate().fold(0_u64, |word, (bit, set)| word | u64::from(*set) << bit)
    };
    bits.chunks(64).map(word).collect()
}

impl Filter {
    /// The rows that pass. Uses all cores.
    ///
    /// # Errors
    /// When cancelled. A source that cannot be read (any more) has no rows that match a text.
    pub fn rows(&self, view: &CaseView, work: &Work) -> Result<RowSet> {
        let table = &*view.loaded.table;
        let patterns = if self.root.asks_about_patterns() { view.run(&PatternAnalysis, work)? } else { Arc::default() };
        let plan = Plan { table, view, sources: &view.case.sources, work, pins: &self.pins, patterns };
        if self.root.asks_for_patterns() {
            view.run_together(&[&pass(&PatternAnalysis)], work)?;
        }
        let span = self.span();
        let found = parallel(table.parts.len(), work, |index| {
            let part = &table.parts[index];
            // Most parts are wholly outside of a span.
            if span.is_some_and(|span| plan.side_of(part, span) == Side::Outside) {
                return Vec::new();
            }
            let mut bits = vec![true; part.segment.len()];
            plan.narrow(&self.root, part, &mut bits);
            packed(&bits)
        });
        work.check()?;
        let mut rows = RowSet::with_rows(table.len());
        for (part, bits) in table.parts.iter().zip(found) {
            rows.add_part(part.first_row, &bits);
        }
        Ok(rows)
    }

    /// The rows that pass, in merged order. Uses all cores.
    ///
    /// # Errors
    /// As [`Filter::rows`].
    pub fn rows_in_order(&self, view: &CaseView, work: &Work) -> Result<Vec<u32>> {
        let rows = self.rows(view, work)?;
        let table = &*view.loaded.table;
        // What passes a span of time stands next to each other in the order, but for times that do not fit their file's.
        let near = match self.span() {
            Some((from, to)) if table.disordered.is_empty() => {
                let end = table.place_of_time(to.saturating_add(1));
                &table.order[table.place_of_time(from).min(end)..end]
            }
            _ => &*table.order,
        };
        Ok(rows_in_order(near, &rows))
    }

    /// The span of time outside of which nothing passes, if the filter demands one.
    fn span(&self) -> Option<(i64, i64)> {
        let of = |expr: &Expr| match expr {
            Expr::Leaf(Leaf::Time(TimeTest::Between(from, to))) => Some((*from, *to)),
            _ => None,
        };
        match &self.root {
            Expr::And(all) => {
                let spans = all.iter().filter_map(of);
                spans.reduce(|(from, to), (other, end)| (from.max(other), to.min(end)))
            }
            root => of(root),
        }
    }
}

/// How the times of a part lie to a span.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Side {
    /// All are in it.
    Inside,
    /// None is.
    Outside,
    /// Some are, or it is not known.
    Across,
}

/// The rows that are problems, see [`crate::event::EventRef::is_problem`].
pub fn problem_rows(table: &Table) -> RowSet {
    let mut rows = RowSet::with_rows(table.len());
    for part in &table.parts {
        let columns = part.segment.severities.iter().zip(&part.segment.flags);
        let mut bits: Vec<bool> =
            columns.map(|(severity, flags)| *severity >= 17 || flags & (flag::SUSPECT | flag::DUMP) != 0).collect();
        for event in table.escalated(part) {
            bits[usize::from(event)] = true;
        }
        rows.add_part(part.first_row, &packed(&bits));
    }
    rows
}

/// The rows of a set in merged order, and for each its place in `order`. Uses all cores.
pub fn rows_in_order(order: &[u32], rows: &RowSet) -> Vec<u32> {
    const PIECE: usize = 1 << 20;
    let pieces = parallel(order.len().div_ceil(PIECE), &Work::default(), |piece| {
        let rest = &order[piece * PIECE..];
        rest[..rest.len().min(PIECE)].iter().copied().filter(|row| rows.contains(*row)).collect::<Vec<u32>>()
    });
    pieces.concat()
}

struct Plan<'a> {
    table: &'a Table,
    view: &'a CaseView,
    sources: &'a Arc<Vec<Source>>,
    work: &'a Work,
    pins: &'a std::collections::HashSet<u32>,
    /// What is known of patterns, where the filter asks for it.
    patterns: Arc<Patterns>,
}

impl Plan<'_> {
    /// Clears the bits of events that do not pass.
    fn narrow(&self, expr: &Expr, part: &Part, bits: &mut [bool]) {
        match expr {
            Expr::And(all) => {
                // Text last: by then few events may be left to look at.
                let mut ordered: Vec<&Expr> = all.iter().collect();
                ordered.sort_by_key(|expr| cost(expr));
                for expr in ordered {
                    self.narrow(expr, part, bits);
                    if !bits.contains(&true) {
                        break;
                    }
                }
            }
            Expr::Or(all) => {
                let mut open = bits.to_vec();
                for expr in all {
                    let mut passed = open.clone();
                    self.narrow(expr, part, &mut passed);
                    open.iter_mut().zip(&passed).for_each(|(open, passed)| *open &= !passed);
                }
                // What is still open passed none of them.
                bits.iter_mut().zip(&open).for_each(|(bit, open)| *bit &= !open);
            }
            Expr::Not(inner) => {
                let mut passed = bits.to_vec();
                self.narrow(inner, part, &mut passed);
                bits.iter_mut().zip(&passed).for_each(|(bit, passed)| *bit &= !passed);
            }
            Expr::Leaf(leaf) => self.leaf(leaf, part, bits),
        }
    }

    fn leaf(&self, leaf: &Leaf, part: &Part, bits: &mut [bool]) {
        let source = &self.sources[part.segment.source as usize];
        match leaf {
            Leaf::Level(low, high) => {
                let severities = part.segment.severities.iter();
                bits.iter_mut().zip(severities).for_each(|(bit, number)| *bit &= *number >= *low && *number <= *high);
            }
            Leaf::Source(names) => keep_all(bits, names.matches(&source.name)),
            Leaf::Format(names) => keep_all(bits, names.matches(source.reader.name())),
            Leaf::Host(names) => {
                self.by_actor(part, bits, |actor| names.matches(&self.table.hosts[actor.host as usize]));
            }
            Leaf::Component(names) => {
                self.by_actor(part, bits, |actor| names.matches(&self.table.components[actor.component as usize]));
            }
            Leaf::Pid(ids) => self.by_actor(part, bits, |actor| actor.pid.is_some_and(|id| ids.contains(&id))),
            Leaf::Tid(ids) => self.by_actor(part, bits, |actor| actor.tid.is_some_and(|id| ids.contains(&id))),
            Leaf::Code(codes) => {
                let mut passed = vec![false; bits.len()];
                for (event, code) in &part.segment.codes {
                    let row = Row(part.first_row + u32::from(*event));
                    let code = self.table.code_of(part.segment.source, row, *code);
                    passed[usize::from(*event)] |= codes.contains(&code);
                }
                bits.iter_mut().zip(passed).for_each(|(bit, passed)| *bit &= passed);
            }
            Leaf::Time(test) => self.time(test, part, bits),
            Leaf::Attribute(name, values) => {
                let mut reader = RecordReader::new(Arc::clone(self.sources));
                for (index, bit) in bits.iter_mut().enumerate().filter(|(_, bit)| **bit) {
                    let cancelled = index % 256 == 0 && self.work.is_cancelled();
                    *bit = !cancelled && {
                        let record = reader.record(self.table.event(Row(part.first_row + index as u32)));
                        has(&record.attributes, name, values)
                    };
                }
            }
            Leaf::Pin(pinned) => {
                let rows = part.first_row..;
                bits.iter_mut().zip(rows).for_each(|(bit, row)| *bit &= self.pins.contains(&row) == *pinned);
            }
            Leaf::FirstSeen(from, to) => {
                self.by_pattern(part, bits, |pattern| {
                    pattern.span.is_some_and(|(first, _)| (*from..=*to).contains(&first))
                });
            }
            Leaf::Count(low, high) => self.by_pattern(part, bits, |pattern| (*low..=*high).contains(&pattern.count)),
            Leaf::Pattern(ids) => {
                let at = self.table.locate(Row(part.first_row)).0;
                crate::pattern::narrow(self.view, at, ids, bits);
            }
            Leaf::Text(test) => {
                if !self.work.is_cancelled() {
                    self.text(test, source, part, bits);
                }
            }
        }
    }

    fn by_pattern(&self, part: &Part, bits: &mut [bool], test: impl Fn(&Pattern) -> bool) {
        let rows = part.first_row..;
        bits.iter_mut().zip(rows).filter(|(bit, _)| **bit).for_each(|(bit, row)| {
            *bit = self.patterns.of(Row(row)).is_some_and(&test);
        });
    }

    fn by_actor(&self, part: &Part, bits: &mut [bool], test: impl Fn(&TableActor) -> bool) {
        let passed: Vec<bool> = part.actor_ids.iter().map(|id| test(&self.table.actors[*id as usize])).collect();
        if passed.iter().all(|passed| *passed) {
            return;
        }
        bits.iter_mut().zip(&part.segment.actor_ids).for_each(|(bit, actor)| *bit &= passed[usize::from(*actor)]);
    }

    fn side_of(&self, part: &Part, (from, to): (i64, i64)) -> Side {
        let mut drift = part.actor_ids.iter().map(|id| self.table.drift_of(part.segment.source, *id));
        let (Some(one), Some(first), Some(last)) =
            (drift.next(), part.segment.times.first(), part.segment.times.last())
        else {
            return Side::Across;
        };
        // Events without time stand before all others in a sorted part.
        if !part.segment.sorted || *first == NO_TIME || drift.any(|other| other != one) {
            return Side::Across;
        }
        let (first, last) = (one.correct(*first), one.correct(*last));
        if last < from || first > to {
            Side::Outside
        } else if first >= from && last <= to {
            Side::Inside
        } else {
            Side::Across
        }
    }

    fn time(&self, test: &TimeTest, part: &Part, bits: &mut [bool]) {
        let drift: Vec<ClockCorrection> =
            part.actor_ids.iter().map(|id| self.table.drift_of(part.segment.source, *id)).collect();
        let one = drift.iter().all(|other| *other == drift[0]).then(|| drift[0]);
        if let TimeTest::Between(from, to) = test {
            match self.side_of(part, (*from, *to)) {
                Side::Inside => return,
                Side::Outside => return bits.fill(false),
                Side::Across => {}
            }
        }
        // The usual case, without a branch an event: one amount for all.
        if let (TimeTest::Between(from, to), Some(ClockCorrection { add_ns, rate_ppb: 0, .. })) = (test, one) {
            let (from, to) = ((*from).max(NO_TIME + 1).saturating_sub(add_ns), to.saturating_sub(add_ns));
            let from = from.max(NO_TIME + 1);
            bits.iter_mut().zip(part.segment.times.iter()).for_each(|(bit, time)| *bit &= *time >= from && *time <= to);
            return;
        }
        let times = part.segment.times.iter().zip(&part.segment.actor_ids);
        let corrected = times.map(|(time, actor)| {
            let drift = one.unwrap_or_else(|| drift[usize::from(*actor)]);
            if *time == NO_TIME { NO_TIME } else { drift.correct(*time) }
        });
        match test {
            TimeTest::Between(from, to) => {
                let from = (*from).max(NO_TIME + 1);
                bits.iter_mut().zip(corrected).for_each(|(bit, time)| *bit &= time >= from && time <= *to);
            }
            TimeTest::Yearly(from, to, zone) => {
                bits.iter_mut().zip(corrected).for_each(|(bit, time)| {
                    *bit &= time != NO_TIME && {
                        let Civil { month, day, hour, minute, second, nanos, .. } = zone.civil(time);
                        let of_day = (i64::from(hour) * 60 + i64::from(minute)) * 60 + i64::from(second);
                        let ns = of_day * SECOND + i64::from(nanos);
                        let place = of_leap_year(month, day, ns).unwrap_or(-1);
                        if from <= to { (*from..=*to).contains(&place) } else { place >= *from || place <= *to }
                    };
                });
            }
            TimeTest::Daily(from, to, zone) => {
                let mut clock = DayClock { zone, valid: (1, 0), offset: 0 };
                bits.iter_mut().zip(corrected).for_each(|(bit, time)| {
                    *bit &= time != NO_TIME && {
                        let of_day = clock.of_day(time);
                        if from <= to { of_day >= *from && of_day <= *to } else { of_day >= *from || of_day <= *to }
                    };
                });
            }
        }
    }

    fn text(&self, test: &TextTest, source: &Source, part: &Part, bits: &mut [bool]) {
        let wanted = bits.iter().filter(|bit| **bit).count();
        if wanted == 0 {
            return;
        }
        let plain = matches!(source.reader, Reader::Lines(_)) && source.encoding == Encoding::Utf8;
        if plain && wanted * 16 > bits.len() {
            if search_whole(test, source, part, bits).is_err() {
                bits.fill(false);
            }
            return;
        }
        let mut reader = RecordReader::new(Arc::clone(self.sources));
        for (index, bit) in bits.iter_mut().enumerate().filter(|(_, bit)| **bit) {
            let event = self.table.event(Row(part.first_row + index as u32));
            *bit = match source.reader {
                Reader::Lines(_) if source.encoding == Encoding::Utf8 => {
                    reader.bytes(event).is_ok_and(|bytes| test.regex.is_match(bytes))
                }
                Reader::Lines(_) => reader.text(event).is_ok_and(|text| test.regex.is_match(text.as_bytes())),
                Reader::Dump(_) => test.regex.is_match(reader.record(event).body.as_bytes()),
            };
        }
    }
}

thread_local! {
    /// Each worker reads into the same memory again and again: it stays in the processor's cache.
    static WINDOW: std::cell::RefCell<Vec<u8>> = const { std::cell::RefCell::new(Vec::new()) };
}

/// Bytes that are searched at once: small enough for the cache.
const WINDOW_BYTES: u32 = 256 << 10;

/// One pass over all bytes of a part. Records beyond [`limits::RECORD_BYTES`] are searched up to there.
fn search_whole(test: &TextTest, source: &Source, part: &Part, bits: &mut [bool]) -> std::io::Result<()> {
    let offsets = &part.segment.offsets;
    let file = SourceFile::open(&source.path)?;
    WINDOW.with_borrow_mut(|window| {
        let mut first = 0;
        while first < offsets.len() {
            // Whole records, at least one.
            let next = first + offsets[first..].partition_point(|offset| *offset - offsets[first] < WINDOW_BYTES);
            let start = part.segment.offset + u64::from(offsets[first]);
            let end = offsets.get(next).map_or(part.end, |offset| part.segment.offset + u64::from(*offset));
            let last = part.segment.offset + u64::from(offsets[next - 1]);
            let end = end.min(last + limits::RECORD_BYTES as u64);
            file.read_into(start, (end - start) as usize, window)?;
            test.narrow(window, &offsets[first..next], &mut bits[first..next]);
            first = next;
        }
        Ok(())
    })
}

/// Whether an attribute has one of these values; of a list one is enough. The name is compared without regard to case.
fn has(attributes: &Map<String, Value>, name: &str, test: &ValueTest) -> bool {
    // A name without a point in it is written `attributes.retry`.
    let short = name.strip_prefix("attributes.").unwrap_or(name);
    let same = |key: &String| key.eq_ignore_ascii_case(name) || key.eq_ignore_ascii_case(short);
    let found = attributes.iter().find(|(key, _)| same(key)).map(|(_, value)| value);
    let found = found.or_else(|| inside(attributes, short));
    let one = |value: &Value| match (test, value) {
        (ValueTest::Names(names), Value::String(text)) => names.matches(text),
        (ValueTest::Names(names), other) => names.matches(&other.to_string()),
        // Many logs write their numbers as texts.
        (ValueTest::Number(how, wanted), Value::String(text)) => {
            text.trim().parse().is_ok_and(|number| how.holds(number, *wanted))
        }
        (ValueTest::Number(how, wanted), other) => other.as_f64().is_some_and(|number| how.holds(number, *wanted)),
    };
    match found {
        Some(Value::Array(list)) => list.iter().any(one),
        Some(value) => one(value),
        None => false,
    }
}

/// An attribute inside of another, `request.method`: names may have points themselves.
fn inside<'a>(attributes: &'a Map<String, Value>, name: &str) -> Option<&'a Value> {
    name.match_indices('.').find_map(|(point, _)| {
        let (outer, rest) = (name.get(..point)?, name.get(point + 1..)?);
        let (_, value) = attributes.iter().find(|(key, _)| key.eq_ignore_ascii_case(outer))?;
        let object = value.as_object()?;
        let own = object.iter().find(|(key, _)| key.eq_ignore_ascii_case(rest)).map(|(_, value)| value);
        own.or_else(|| inside(object, rest))
    })
}

fn keep_all(bits: &mut [bool], keep: bool) {
    if !keep {
        bits.fill(false);
    }
}

fn cost(expr: &Expr) -> u8 {
    match expr {
        Expr::And(all) | Expr::Or(all) => all.iter().map(cost).max().unwrap_or(0),
        Expr::Not(inner) => cost(inner),
        Expr::Leaf(Leaf::Attribute(..) | Leaf::Pattern(_) | Leaf::FirstSeen(..) | Leaf::Count(..)) => 4,
        Expr::Leaf(Leaf::Text(_)) => 3,
        Expr::Leaf(Leaf::Time(TimeTest::Daily(..) | TimeTest::Yearly(..))) => 2,
        Expr::Leaf(Leaf::Time(TimeTest::Between(..))) => 0,
        Expr::Leaf(_) => 1,
    }
}

/// Times of day in a zone, fast for many instants near each other.
struct DayClock<'a> {
    zone: &'a Zone,
    /// The instants between which the offset is known to hold.
    valid: (i64, i64),
    offset: i64,
}

impl DayClock<'_> {
    fn of_day(&mut self, utc_ns: i64) -> i64 {
        if utc_ns < self.valid.0 || utc_ns > self.valid.1 {
            // Offsets change on quarters of an hour.
            let quarter = utc_ns.div_euclid(900 * SECOND);
            self.valid =
                (quarter.saturating_mul(900 * SECOND), quarter.saturating_add(1).saturating_mul(900 * SECOND) - 1);
            self.offset = i64::from(self.zone.offset_at(utc_ns)) * SECOND;
        }
        utc_ns.saturating_add(self.offset).rem_euclid(DAY)
    }
}
