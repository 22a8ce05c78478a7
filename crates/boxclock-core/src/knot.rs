//! Knots: groups of events from several sources, close in time by corrected clocks, that are unusual and bad together.
//!
//! Every kind of message (see [`crate::pattern`]) that is rare, new, missing where it came regularly, or comes far more often than usual is a
//! *strand* at that moment. Strands that stand close to each other are a knot, if at least one of them is bad. A knot's score is the sum of its
//! strands, weighed by how bad they are and by how many sources it ties; its reasons say why, and its summary has a line for each
//! clause. Rare lines are frequent in healthy systems (a start writes dozens), so rarity alone is worth little.

use std::collections::{BTreeSet, HashMap, HashSet};

use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Reads};
use crate::cause;
use crate::clock::human::{date_time, duration_text};
use crate::clock::{DAY, MINUTE, SECOND};
use crate::code::{Outcome, reading};
use crate::event::{RecordReader, Row};
use crate::pattern::{PatternAnalysis, Rhythm, RhythmAnalysis};
use crate::timeline::marks::{MarkAnalysis, MarkKind};
use crate::work::Work;

/// Events up to which a kind of message is rare.
const RARE: u32 = 3;
/// Silence before a kind of message that makes it new.
const NEW_AFTER: i64 = 30 * MINUTE;
/// Strands that lie so close are of one knot.
const GAP_NS: i64 = 20 * SECOND;
/// Two seconds and an hour, as shares of that: closer is one moment, further is everything.
const NARROWEST: f64 = 0.1;
const WIDEST: f64 = 180.0;
/// A knot is no longer than that.
const LONGEST_NS: i64 = 5 * MINUTE;
/// Strands that are looked at: the strongest.
const MOST_STRANDS: usize = 4000;
/// Strands whose text is read.
const MOST_READ: usize = 20_000;
/// Knots that are given.
const MOST_KNOTS: usize = 5;
/// Lines of a knot.
const MOST_LINES: usize = 12;
/// How bad a strand of a knot is at least, once.
const BAD: f64 = 0.6;
/// A change or a restart that lies so close before it is named.
const BEFORE_NS: i64 = 10 * MINUTE;

/// Why a line is unusual.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Oddity {
    /// Its kind comes that many times in the whole case.
    Rare(u32),
    /// Its kind is new after so long, in nanoseconds.
    New(i64),
    /// Its kind came every so often, in nanoseconds, and comes no more: this is the last one.
    Missing(i64),
    /// So many came within ten seconds, far more than usual.
    TooMany(u32),
}

impl Oddity {
    /// For people.
    pub fn words(self) -> String {
        match self {
            Self::Rare(1) => "the only one of its kind".to_owned(),
            Self::Rare(count) => format!("only {count} of its kind"),
            Self::New(quiet) => format!("first time in {}", duration_text(quiet)),
            Self::Missing(period) => format!("came every {}, and stops here", duration_text(period)),
            Self::TooMany(count) => format!("{count} within ten seconds"),
        }
    }
}

/// A line of a knot.
#[derive(Clone, Debug)]
pub struct Strand {
    /// The event.
    pub row: Row,
    /// When, corrected, UTC nanoseconds.
    pub time: i64,
    /// Its source and line.
    pub source: String,
    /// The line, from 1.
    pub line: u64,
    /// What it says.
    pub text: String,
    /// Why it is unusual.
    pub oddity: Oddity,
    /// How bad it is, 0 to 1.
    pub bad: f64,
    /// What it adds to the score.
    weight: f64,
}

/// A group of unusual and bad events.
#[derive(Clone, Debug)]
pub struct Knot {
    /// From first to last, corrected, UTC nanoseconds.
    pub span: (i64, i64),
    /// 0 to 1, the strongest knot of the case first.
    pub score: f64,
    /// The lines that tell the story, in order of time.
    pub strands: Vec<Strand>,
    /// Unusual lines of it that are not among these.
    pub others: usize,
    /// The labels of its hosts.
    pub hosts: Vec<String>,
    /// How many sources it ties.
    pub sources: usize,
    /// Why it stands out.
    pub reasons: Vec<String>,
    /// In two or three sentences.
    pub summary: String,
    /// The words that stand in it and hardly elsewhere.
    pub words: Vec<String>,
}

/// Finds the unusual moments of all kinds of messages, in order of time: what knots are made of, however close it has to be.
#[derive(Clone, Copy, Debug)]
pub struct StrandAnalysis;

impl Analysis for StrandAnalysis {
    const NAME: &'static str = "strands";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = Vec<Strand>;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<Vec<Strand>> {
        strands(view, work)
    }
}

/// Finds knots, the strongest first. `scale` widens (2, 4 …) or narrows (0.5 …) what is close; 1 is usual.
#[derive(Clone, Copy, Debug)]
pub struct KnotAnalysis {
    /// What the usual gap is multiplied with.
    pub scale: f64,
}

impl Default for KnotAnalysis {
    fn default() -> Self {
        Self { scale: 1.0 }
    }
}

impl KnotAnalysis {
    /// How far apart two strands of one knot may lie, nanoseconds.
    pub fn gap_ns(&self) -> i64 {
        (GAP_NS as f64 * self.scale.clamp(NARROWEST, WIDEST)) as i64
    }

    /// The same with a wider or narrower gap, up to the limits.
    #[must_use]
    pub fn rescaled(self, wider: bool) -> Self {
        let scale = if wider { self.scale * 3.0 } else { self.scale / 3.0 };
        Self { scale: scale.clamp(NARROWEST, WIDEST) }
    }
}

impl Analysis for KnotAnalysis {
    const NAME: &'static str = "knots";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = Vec<Knot>;

    fn parameters(&self) -> String {
        if (self.scale - 1.0).abs() < f64::EPSILON { String::new() } else { format!("{:.3}", self.scale) }
    }

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<Vec<Knot>> {
        let strands = view.run(&StrandAnalysis, work)?;
        let marks = view.run(&MarkAnalysis, work)?;
        let changes: Vec<(i64, Row)> =
            marks.iter().filter(|mark| mark.kind != MarkKind::Silence).map(|mark| (mark.time, mark.row)).collect();
        let mut knots: Vec<Knot> =
            groups(&strands, self.gap_ns()).filter_map(|group| knot(view, group, &changes)).collect();
        knots.sort_by(|a, b| b.score.total_cmp(&a.score).then(a.span.cmp(&b.span)));
        knots.truncate(MOST_KNOTS);
        let best = knots.first().map_or(1.0, |knot| knot.score).max(f64::MIN_POSITIVE);
        for knot in &mut knots {
            // The strongest has at most 1: a weak one alone in a healthy case stays weak.
            knot.score = (knot.score / best.max(4.0) * 100.0).round() / 100.0;
        }
        Ok(knots)
    }
}

/// When each source begins, by corrected clocks: that of its first event in the order of time.
fn begins(view: &CaseView) -> Vec<i64> {
    let table = &view.loaded.table;
    let mut begins = vec![i64::MAX; view.case.sources.len()];
    let mut left = (0..begins.len()).filter(|source| !table.parts_of(*source).is_empty()).count();
    for row in &table.order {
        let event = table.event(Row(*row));
        let begin = &mut begins[event.source()];
        if *begin == i64::MAX
            && let Some(time) = event.time()
        {
            *begin = time;
            left -= 1;
            if left == 0 {
                break;
            }
        }
    }
    begins
}

/// The unusual moments of all kinds of messages.
fn strands(view: &CaseView, work: &Work) -> Result<Vec<Strand>> {
    let table = &view.loaded.table;
    let patterns = view.run(&PatternAnalysis, work)?;
    let rhythms = view.run(&RhythmAnalysis, work)?;
    let begins = begins(view);
    let mut odd: Vec<(Row, Oddity, f64)> = Vec::new();
    let mut rare = vec![false; rhythms.len()];
    for (index, rhythm) in rhythms.iter().enumerate() {
        let Some((first, last)) = rhythm.rows else { continue };
        if rhythm.count <= RARE {
            rare[index] = true;
        } else {
            odd.extend(new_strand(rhythm, first, begins[table.event(first).source()]));
        }
        if let (Some(_), Some(period)) = (rhythm.missing_since, rhythm.period_ns) {
            odd.push((last, Oddity::Missing(period), 0.7));
        }
        if let Some((row, count)) = rhythm.burst {
            odd.push((row, Oddity::TooMany(count), 0.6));
        }
    }
    for (row, index) in patterns.of_row.iter().enumerate() {
        if rare.get(*index as usize) != Some(&true) {
            continue;
        }
        let count = rhythms[*index as usize].count;
        odd.push((Row(row as u32), Oddity::Rare(count), 1.0 - 0.2 * f64::from(count - 1)));
    }
    work.check()?;
    // The worst by their level first: the words of all others are read only as far as there is room.
    odd.sort_by_key(|(row, ..)| (std::cmp::Reverse(table.event(*row).severity().0), *row));
    odd.truncate(MOST_READ);
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut strands = Vec::new();
    for (row, oddity, weight) in odd {
        work.check()?;
        let event = table.event(row);
        let Some(time) = event.time() else { continue };
        let record = reader.record(event);
        let text: String = record.body.lines().next().unwrap_or_default().chars().take(200).collect();
        let mut bad = cause::badness(&text, event.severity().0);
        // Words alone may be names (`libgpg-error`); the code of a failure is none.
        if event.codes().any(|code| reading::outcome(code, table.catalogues()) == Outcome::Failure) {
            bad = bad.max(0.7);
        }
        // That something stops to come is bad as such, that it begins to come is not.
        if matches!(oddity, Oddity::Missing(_)) {
            bad = bad.max(0.4);
        }
        let line = record.place.unwrap_or_else(|| event.place()).line;
        let source = view.case.sources[event.source()].name.clone();
        strands.push(Strand { row, time, source, line, text, oddity, bad, weight: weight * (0.08 + 0.92 * bad) });
    }
    strands.sort_by(|a, b| b.weight.total_cmp(&a.weight).then(a.row.cmp(&b.row)));
    strands.truncate(MOST_STRANDS);
    strands.sort_by_key(|strand| (strand.time, strand.row));
    Ok(strands)
}

/// A kind of message that is new: after a long time without it, in which it would have come had it always come like this.
fn new_strand(rhythm: &Rhythm, first: Row, begin: i64) -> Option<(Row, Oddity, f64)> {
    let quiet = rhythm.span.0.saturating_sub(begin);
    let lasted = rhythm.span.1.saturating_sub(rhythm.span.0).max(MINUTE);
    let expected = f64::from(rhythm.count) * quiet as f64 / lasted as f64;
    (quiet > NEW_AFTER && expected > 3.0).then_some((first, Oddity::New(quiet), 0.9))
}

/// Strands that lie close to each other.
fn groups(strands: &[Strand], gap: i64) -> impl Iterator<Item = &[Strand]> {
    let mut rest = strands;
    std::iter::from_fn(move || {
        let first = rest.first()?;
        let mut end = 1;
        while let Some(next) = rest.get(end) {
            let is_close = next.time.saturating_sub(rest[end - 1].time) <= gap;
            if !is_close || next.time.saturating_sub(first.time) > LONGEST_NS.max(gap) {
                break;
            }
            end += 1;
        }
        let (group, others) = rest.split_at(end);
        rest = others;
        Some(group)
    })
}

fn knot(view: &CaseView, group: &[Strand], changes: &[(i64, Row)]) -> Option<Knot> {
    let table = &view.loaded.table;
    let (first, last) = (group.first()?, group.last()?);
    if !group.iter().any(|strand| strand.bad >= BAD) {
        return None;
    }
    // One kind of message says one thing, however often it stands here.
    let mut kinds: HashMap<crate::pattern::PatternId, &Strand> = HashMap::new();
    for strand in group {
        let id = crate::pattern::PatternId::of(strand.text.as_bytes());
        let known = kinds.entry(id).or_insert(strand);
        if strand.weight > known.weight {
            *known = strand;
        }
    }
    let mut best: Vec<&Strand> = kinds.into_values().collect();
    // One line alone is no group.
    if best.len() < 2 {
        return None;
    }
    best.sort_by(|a, b| b.weight.total_cmp(&a.weight).then(a.row.cmp(&b.row)));
    let sources: BTreeSet<&str> = best.iter().map(|strand| strand.source.as_str()).collect();
    let mut score: f64 = best.iter().take(MOST_LINES).map(|strand| strand.weight).sum();
    score *= 1.0 + 0.25 * (sources.len().min(5) - 1) as f64;
    let others = best.len().saturating_sub(MOST_LINES);
    best.truncate(MOST_LINES);
    let worst = best
        .iter()
        .copied()
        .max_by(|a, b| (a.bad * a.weight).total_cmp(&(b.bad * b.weight)).then(b.time.cmp(&a.time)))?;
    best.sort_by_key(|strand| (strand.time, strand.row));
    let mut hosts: Vec<String> = Vec::new();
    for strand in &best {
        let host = table.event(strand.row).host();
        if !host.is_empty() && !hosts.iter().any(|known| known == host) {
            hosts.push(host.to_owned());
        }
    }
    let mut reasons: Vec<String> = Vec::new();
    let count = |wanted: fn(&Oddity) -> bool| best.iter().filter(|strand| wanted(&strand.oddity)).count();
    for (number, one, many) in [
        (
            count(|oddity| matches!(oddity, Oddity::Rare(1))),
            "1 line is the only one of its kind",
            "lines are the only ones of their kinds",
        ),
        (count(|oddity| matches!(oddity, Oddity::Rare(2..))), "1 line is rare", "lines are rare"),
        (count(|oddity| matches!(oddity, Oddity::New(_))), "1 kind of message is new", "kinds of messages are new"),
        (count(|oddity| matches!(oddity, Oddity::Missing(_))), "1 regular message stops", "regular messages stop"),
        (
            count(|oddity| matches!(oddity, Oddity::TooMany(_))),
            "1 kind comes far too often",
            "kinds come far too often",
        ),
    ] {
        match number {
            0 => {}
            1 => reasons.push(one.to_owned()),
            number => reasons.push(format!("{number} {many}")),
        }
    }
    if sources.len() > 1 {
        reasons.push(format!("in {} at the same time", crate::many(sources.len() as u64, "log")));
    }
    let before =
        changes.iter().rev().find(|(time, _)| *time < first.time && first.time.saturating_sub(*time) <= BEFORE_NS);
    let mark = before.map(|(time, row)| (first.time.saturating_sub(*time), *row));
    if let Some((apart, row)) = mark {
        let event = table.event(row);
        reasons.push(format!(
            "{} after a start, stop or installation on {}",
            duration_text(apart),
            or_this(event.host())
        ));
        score *= 1.15;
    }
    if let Oddity::New(quiet) = worst.oddity
        && quiet >= DAY
    {
        score *= 1.1;
    }
    let summary = summary(view, &best, worst, (first.time, last.time), sources.len(), hosts.len(), mark);
    let words = telling(view, &best);
    let strands = best.into_iter().cloned().collect();
    Some(Knot {
        span: (first.time, last.time),
        score,
        strands,
        others,
        sources: sources.len(),
        hosts,
        reasons,
        summary,
        words,
    })
}

fn or_this(host: &str) -> &str {
    if host.is_empty() { "this machine" } else { host }
}

/// Two or three sentences; each clause has its line in brackets.
fn summary(
    view: &CaseView,
    best: &[&Strand],
    worst: &Strand,
    span: (i64, i64),
    sources: usize,
    hosts: usize,
    mark: Option<(i64, Row)>,
) -> String {
    let table = &view.loaded.table;
    let at = |strand: &Strand| format!("[{}:{}]", strand.source, strand.line);
    let who = |strand: &Strand| {
        let event = table.event(strand.row);
        let component = event.component();
        match (event.host(), component) {
            ("", "") => String::new(),
            ("", component) => format!(", {component}"),
            (host, "") => format!(", {host}"),
            (host, component) => format!(", {component} on {host}"),
        }
    };
    let time = &date_time(worst.time, &view.case.zone)[..19];
    let mut text = format!("At {time}{}: \"{}\" {}, {}.", who(worst), worst.text, at(worst), worst.oddity.words());
    if let Some(before) = best.first().filter(|first| first.row != worst.row) {
        let apart = worst.time.saturating_sub(before.time);
        let apart =
            if apart > 0 { format!("{} before it", duration_text(apart)) } else { "At the same moment".to_owned() };
        text.push_str(&format!(" {apart}{}: \"{}\" {}.", who(before), before.text, at(before)));
    }
    if sources > 1 || best.len() > 2 {
        let of_hosts = if hosts > 1 { format!(" of {}", crate::many(hosts as u64, "host")) } else { String::new() };
        text.push_str(&format!(
            " {} unusual together within {}, in {}{of_hosts}.",
            if best.len() == 1 {
                "1 kind of message is".to_owned()
            } else {
                format!("{} kinds of messages are", best.len())
            },
            duration_text(span.1.saturating_sub(span.0).max(1)),
            crate::many(sources as u64, "log"),
        ));
    }
    if let Some((apart, row)) = mark {
        let event = table.event(row);
        let source = &view.case.sources[event.source()].name;
        text.push_str(&format!(
            " It follows a start, stop or installation on {} by {} [{source}:{}].",
            or_this(event.host()),
            duration_text(apart),
            event.place().line
        ));
    }
    text
}

/// Words of its lines that are no words of the trade, those that stand in several of its lines first.
fn telling(view: &CaseView, best: &[&Strand]) -> Vec<String> {
    const MOST_WORDS: usize = 8;
    let mut counts: HashMap<String, usize> = HashMap::new();
    let hosts: Vec<String> = view.loaded.table.hosts.iter().map(|host| host.to_lowercase()).collect();
    for strand in best {
        let words: HashSet<String> = strand
            .text
            .split(|letter: char| !letter.is_alphanumeric() && !matches!(letter, '-' | '_'))
            .filter(|word| word.chars().count() >= 4 && word.chars().any(char::is_alphabetic))
            .map(str::to_lowercase)
            .filter(|word| !cause::is_common_word(word) && !hosts.contains(word))
            .collect();
        for word in words {
            *counts.entry(word).or_default() += 1;
        }
    }
    let mut words: Vec<(String, usize)> = counts.into_iter().collect();
    words.sort_by(|a, b| b.1.cmp(&a.1).then(b.0.len().cmp(&a.0.len())).then(a.0.cmp(&b.0)));
    words.into_iter().take(MOST_WORDS).map(|(word, _)| word).collect()
}

#[cfg(test)]
mod tests;
