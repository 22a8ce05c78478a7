//! The way of one thing (a request, job, mail, session) through sources and hosts: its hops, the names that it goes by, and where it
//! stops.
//!
//! Names are found where two values stand in one event and go on together. A value that many things share (a session of all
//! requests, a port, a count) is none: what comes up together with others of the same kind, or lives much longer, is left out.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::LazyLock;

use regex::Regex;
use serde_json::{Value, json};

use crate::analysis::CaseView;
use crate::clock::{MINUTE, SECOND, to_rfc3339};
use crate::event::{RecordReader, Row};
use crate::work::Work;
use crate::{Error, Result};

mod candidates;
mod drawing;
mod names;
mod peers;
#[cfg(test)]
mod tests;

pub use candidates::{Candidate, suggested};
pub use drawing::draw;
use names::{mentions, names_in, shape};
pub use peers::{Peers, peers};

/// Names that one thing may have.
const MOST_ALIASES: usize = 48;
/// Events of one name: more, and it is a word of the logs and no name.
const MOST_EVENTS: usize = 20_000;
/// Names from name to name.
const MOST_STEPS: usize = 16;

/// What came of a hop.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HopOutcome {
    /// It went on to the next.
    Passed,
    /// It was answered.
    Answered,
    /// It failed there.
    Failed,
    /// It was handed on and did not arrive.
    Stopped,
    /// Nothing says.
    Unknown,
}

impl HopOutcome {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Passed => "passed",
            Self::Answered => "answered",
            Self::Failed => "failed",
            Self::Stopped => "stopped",
            Self::Unknown => "unknown",
        }
    }
}

/// One station of the way.
#[derive(Clone, Debug)]
pub struct Hop {
    /// The label of the host.
    pub host: String,
    /// The source.
    pub source: String,
    /// The program.
    pub component: String,
    /// Its process.
    pub pid: Option<u32>,
    /// The name it had there.
    pub identifier: String,
    /// First event: time, line, row.
    pub first: (Option<i64>, u64, Row),
    /// Last event: time, line, row.
    pub last: (Option<i64>, u64, Row),
    /// How many events.
    pub events: usize,
    /// What came of it.
    pub outcome: HopOutcome,
    /// The number of the answer or failure.
    pub code: Option<i64>,
    /// Milliseconds from the first event of the hop before.
    pub gap_before_ms: Option<i64>,
}

/// Another name of the same thing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Alias {
    /// The name.
    pub identifier: String,
    /// The source and line where it stands beside one that was known.
    pub source: String,
    /// The line.
    pub line: u64,
    /// Why it is taken to be one.
    pub why: String,
}

/// How the way ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EndState {
    /// With an answer.
    Answered,
    /// With a failure.
    Failed,
    /// It was handed on and did not arrive.
    Lost,
    /// It goes on at the end of the case.
    Running,
}

impl EndState {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Answered => "answered",
            Self::Failed => "failed",
            Self::Lost => "lost",
            Self::Running => "running",
        }
    }
}

/// The way of one thing.
#[derive(Clone, Debug)]
pub struct Trail {
    /// The hops, in order.
    pub hops: Vec<Hop>,
    /// How it ended.
    pub state: EndState,
    /// Where: source and line.
    pub end: (String, u64, Row),
    /// The names that it goes by beside the one asked for.
    pub aliases: Vec<Alias>,
    /// In a few sentences.
    pub summary: String,
    /// All events of it, in order.
    pub rows: Vec<Row>,
}

/// What is known of one name.
struct Named {
    rows: Vec<Row>,
    depth: usize,
}

fn span(view: &CaseView, rows: &[Row]) -> Option<(i64, i64)> {
    let times: Vec<i64> = rows.iter().filter_map(|row| view.loaded.table.event(*row).time()).collect();
    Some((*times.iter().min()?, *times.iter().max()?))
}

/// Follows a name through a case.
///
/// # Errors
/// When the name is too short or in no event, or the work is cancelled.
pub fn follow(view: &CaseView, identifier: &str, work: &Work) -> Result<Trail> {
    follow_without(view, identifier, &[], work)
}

/// The same without some names: somebody has seen that they are of other things.
///
/// # Errors
/// As [`follow`].
pub fn follow_without(view: &CaseView, identifier: &str, without: &[String], work: &Work) -> Result<Trail> {
    let identifier = identifier.trim();
    if identifier.chars().count() < 3 {
        return Err(Error::new(format!(
            "\"{identifier}\" is too short to be followed: it stands in too many lines by chance"
        )));
    }
    let table = &view.loaded.table;
    let mut reader = RecordReader::new(view.case.sources.clone());
    let own = mentions(view, vec![identifier.to_owned()], work)?.remove(identifier).unwrap_or_default();
    if own.is_empty() {
        return Err(Error::new(format!("\"{identifier}\" stands in no event of this case")));
    }
    if own.len() > MOST_EVENTS {
        return Err(Error::new(format!(
            "\"{identifier}\" stands in {} events: too many to be the name of one thing",
            own.len()
        )));
    }
    let own_shape = shape(identifier);
    let mut known: BTreeMap<String, Named> = BTreeMap::new();
    known.insert(identifier.to_owned(), Named { rows: own, depth: 0 });
    let mut aliases: Vec<Alias> = Vec::new();
    let mut refused: HashSet<String> = without.iter().cloned().collect();
    let mut bodies: HashMap<Row, String> = HashMap::new();
    for step in 1..=MOST_STEPS {
        work.check()?;
        // Names that stand beside known ones, each with the event.
        let mut beside: BTreeMap<String, (Row, String)> = BTreeMap::new();
        for (name, named) in known.iter().filter(|(_, named)| named.depth + 1 == step) {
            for row in named.rows.iter().take(400) {
                let text = bodies.entry(*row).or_insert_with(|| whole_text(&mut reader, view, *row));
                for other in names_in(text) {
                    let taken = known.contains_key(&other) || refused.contains(&other) || beside.contains_key(&other);
                    if !taken && shape(&other) != shape(name) && shape(&other) != own_shape && !is_a_place(view, &other)
                    {
                        beside.insert(other, (*row, name.clone()));
                    }
                }
            }
        }
        if beside.is_empty() || known.len() >= MOST_ALIASES {
            break;
        }
        let mut found = mentions(view, beside.keys().take(2000).cloned().collect(), work)?;
        let Some((from, to)) = span(view, &known.values().flat_map(|named| named.rows.clone()).collect::<Vec<_>>())
        else {
            break;
        };
        let slack = (to - from).max(30 * SECOND) * 3 + 2 * MINUTE;
        for (name, (row, of)) in beside {
            work.check()?;
            let rows = found.remove(&name).unwrap_or_default();
            if known.len() >= MOST_ALIASES
                || !goes_on(view, &mut reader, &mut bodies, &rows, &known[&of], &of, (from - slack, to + slack))
            {
                refused.insert(name);
                continue;
            }
            let event = table.event(row);
            let source = view.case.sources[event.source()].name.clone();
            let why = format!(
                "stands beside {of} there, and goes on with it in {}",
                crate::plural::many(rows.len() as u64, "event")
            );
            aliases.push(Alias { identifier: name.clone(), source, line: reader.place(event).line, why });
            known.insert(name, Named { rows, depth: step });
        }
    }
    Ok(trail(view, identifier, &known, aliases, &mut reader))
}

fn whole_text(reader: &mut RecordReader, view: &CaseView, row: Row) -> String {
    let event = view.loaded.table.event(row);
    let record = reader.record(event);
    let mut text = record.body;
    for (name, value) in &record.attributes {
        match value {
            Value::String(value) if value.len() < 200 => text.push_str(&format!(" {name}={value}")),
            Value::Number(value) => text.push_str(&format!(" {name}={value}")),
            _ => {}
        }
    }
    text
}

/// Whether a word names a host or a program of the case.
fn is_a_place(view: &CaseView, word: &str) -> bool {
    let table = &view.loaded.table;
    table.hosts.iter().any(|host| host == word) || table.components.iter().any(|component| component == word)
}

/// Whether another name goes on with a known one: it stands elsewhere too, lives as long, and no other thing of the same kind has it.
fn goes_on(
    view: &CaseView,
    reader: &mut RecordReader,
    bodies: &mut HashMap<Row, String>,
    rows: &[Row],
    of: &Named,
    of_name: &str,
    (from, to): (i64, i64),
) -> bool {
    const MOST: usize = 400;
    if rows.len() < 2 || rows.len() > MOST {
        return false;
    }
    if span(view, rows).is_none_or(|(first, last)| first < from || last > to) {
        return false;
    }
    let shared = rows.iter().filter(|row| of.rows.contains(row)).count();
    if shared == rows.len() && rows.len() > 2 {
        // Never without it: an attribute.
        return false;
    }
    let kind = shape(of_name);
    rows.iter().all(|row| {
        let text = bodies.entry(*row).or_insert_with(|| whole_text(reader, view, *row));
        !names_in(text).iter().any(|other| other != of_name && shape(other) == kind)
    })
}

/// What an event says of the way.
fn outcome_of(text: &str, severity: u8) -> (HopOutcome, Option<i64>) {
    static FAILED: LazyLock<Option<Regex>> = LazyLock::new(|| {
        Regex::new(r"(?i)\b(?:failed|failure|fails|error|refused|denied|rejected|dropped|discarded|timed? ?-?out|aborted|lost|gave up|giving up|unreachable|no answer|bounced?|expired|broken|cannot|could not|unable)\b").ok()
    });
    static ANSWERED: LazyLock<Option<Regex>> = LazyLock::new(|| {
        Regex::new(r"(?i)\b(?:answer(?:ed|s)?|respon(?:se|ded|ds)|repl(?:y|ied|ies)|returned|complete[ds]?|finished|done|ended|ends|ok|success(?:ful(?:ly)?)?|delivered|accepted|closed|committed|printed|struck off|acknowledged|ack)\b").ok()
    });
    static HANDED: LazyLock<Option<Regex>> = LazyLock::new(|| {
        Regex::new(r"(?i)\b(?:handed|hands?|passed|passing|forward(?:ed|ing|s)?|sent|sending|sends|queued|put|enqueued|dispatch(?:ed|ing)?|submitted|relayed|routed|calls?|calling|proxied|transferred|published)\b").ok()
    });
    static CODE: LazyLock<Option<Regex>> = LazyLock::new(|| {
        Regex::new(r#"(?i)(?:\b(?:rc|code|status|result|exit|error|answered|returned|response|http)[ =:"]{1,3}(?P<code>-?\d{1,5})\b|[<>] (?P<reply>[1-5]\d\d)\b|" (?P<http>[1-5]\d\d) )"#).ok()
    });
    let is = |regex: &LazyLock<Option<Regex>>| regex.as_ref().is_some_and(|regex| regex.is_match(text));
    let captures = CODE.as_ref().and_then(|regex| regex.captures(text));
    let code: Option<i64> = captures
        .and_then(|found| ["code", "reply", "http"].iter().find_map(|name| found.name(name)?.as_str().parse().ok()));
    let bad_code = code.is_some_and(|code| (400..600).contains(&code));
    let outcome = if severity >= 17 || bad_code || is(&FAILED) {
        HopOutcome::Failed
    } else if is(&HANDED) && !is(&ANSWERED) {
        HopOutcome::Passed
    } else if is(&ANSWERED) || code.is_some_and(|code| (200..400).contains(&code) || code == 0) {
        HopOutcome::Answered
    } else {
        HopOutcome::Unknown
    };
    (outcome, code)
}

fn trail(
    view: &CaseView,
    identifier: &str,
    known: &BTreeMap<String, Named>,
    aliases: Vec<Alias>,
    reader: &mut RecordReader,
) -> Trail {
    let table = &view.loaded.table;
    // Of each source and program: the names with their events.
    let mut stations: BTreeMap<(usize, String), BTreeMap<&str, Vec<Row>>> = BTreeMap::new();
    for (name, named) in known {
        for row in &named.rows {
            let event = table.event(*row);
            let names = stations.entry((event.source(), event.component().to_owned())).or_default();
            names.entry(name).or_default().push(*row);
        }
    }
    let mut hops: Vec<(usize, Hop)> = Vec::new();
    for ((source, component), names) in stations {
        // The name that the station's own lines are about: it stands in most of them, and is the nearest to its beginning.
        let own = names.iter().max_by_key(|(name, rows)| (rows.len(), std::cmp::Reverse(known[**name].depth)));
        let Some((name, rows)) = own.map(|(name, rows)| ((*name).to_owned(), rows.clone())) else { continue };
        let mut rows = rows;
        rows.sort_by_key(|row| (table.event(*row).order_time(), *row));
        rows.dedup();
        let (Some(first), Some(last)) = (rows.first().copied(), rows.last().copied()) else { continue };
        let mut place = |row: Row| {
            let event = table.event(row);
            (event.time(), reader.place(event).line, row)
        };
        let mut pids: Vec<u32> = rows.iter().filter_map(|row| table.event(*row).actor().pid).collect();
        pids.dedup();
        let event = table.event(first);
        let file = view.case.sources[source].name.rsplit('/').next().unwrap_or_default();
        let stem = file.split('.').next().unwrap_or(file).to_owned();
        let depth = known[&name].depth;
        let (first_place, last_place) = (place(first), place(last));
        let (outcome, code) = said(table, reader, &rows);
        hops.push((
            depth,
            Hop {
                host: event.host().to_owned(),
                source: view.case.sources[source].name.clone(),
                component: if component.is_empty() { stem } else { component },
                pid: pids.first().copied().filter(|_| pids.len() == 1),
                identifier: name,
                first: first_place,
                last: last_place,
                events: rows.len(),
                outcome,
                code,
                gap_before_ms: None,
            },
        ));
    }
    // By the steps from name to name where clocks may lie, else by time.
    hops.sort_by_key(|(depth, hop)| {
        (hop.first.0.map(|time| time.div_euclid(SECOND)), *depth, hop.first.0, hop.first.2)
    });
    let mut hops: Vec<Hop> = hops.into_iter().map(|(_, hop)| hop).collect();
    let starts: Vec<Option<i64>> = hops.iter().map(|hop| hop.first.0).collect();
    for (at, hop) in hops.iter_mut().enumerate().skip(1) {
        hop.gap_before_ms = hop.first.0.zip(starts[at - 1]).map(|(now, before)| (now - before) / 1_000_000);
    }
    let mut rows: Vec<Row> = known.values().flat_map(|named| named.rows.iter().copied()).collect();
    rows.sort_by_key(|row| (table.event(*row).order_time(), *row));
    rows.dedup();
    let (state, end) = ending(view, reader, &mut hops, &rows);
    let summary = summary(identifier, &hops, state, &end);
    Trail { hops, state, end, aliases, summary, rows }
}

/// What came of a hop by its events: a failure anywhere that nothing good follows, else its last word.
fn said(table: &crate::event::Table, reader: &mut RecordReader, rows: &[Row]) -> (HopOutcome, Option<i64>) {
    let mut found = (HopOutcome::Unknown, None);
    let mut last_code = None;
    for row in rows {
        let event = table.event(*row);
        let text = reader.record(event).body;
        let (outcome, code) = outcome_of(&text, event.severity().0);
        last_code = code.or(last_code);
        if outcome != HopOutcome::Unknown {
            found = (outcome, code);
        }
    }
    (found.0, found.1.or(last_code))
}

/// Where and how the way ended.
fn ending(
    view: &CaseView,
    reader: &mut RecordReader,
    hops: &mut [Hop],
    rows: &[Row],
) -> (EndState, (String, u64, Row)) {
    let table = &view.loaded.table;
    let place = |hop: &Hop| (hop.source.clone(), hop.last.1, hop.last.2);
    let last_of_case = table.span.map(|(_, last)| last);
    let last_row = rows.last().copied().unwrap_or(Row(0));
    let last_event = table.event(last_row);
    let fallback = (view.case.sources[last_event.source()].name.clone(), reader.place(last_event).line, last_row);
    // The first failure in the order of time is the one that others repeat.
    let failed = hops.iter().filter(|hop| hop.outcome == HopOutcome::Failed).min_by_key(|hop| hop.last.0);
    if let Some(hop) = failed {
        return (EndState::Failed, place(hop));
    }
    let answered_first = hops.first().is_some_and(|hop| hop.outcome == HopOutcome::Answered);
    if answered_first {
        let end = hops.first().map_or(fallback.clone(), place);
        return (EndState::Answered, end);
    }
    let deepest = hops.len().saturating_sub(1);
    if let Some(hop) = hops.get_mut(deepest) {
        if hop.outcome == HopOutcome::Answered {
            return (EndState::Answered, place(hop));
        }
        let recent = hop.last.0.zip(last_of_case).is_some_and(|(at, last)| last - at < 5 * SECOND);
        if recent {
            return (EndState::Running, place(hop));
        }
        hop.outcome = HopOutcome::Stopped;
        return (EndState::Lost, place(hop));
    }
    (EndState::Lost, fallback)
}

fn summary(identifier: &str, hops: &[Hop], state: EndState, end: &(String, u64, Row)) -> String {
    let way: Vec<String> = hops
        .iter()
        .map(
            |hop| {
                if hop.host.is_empty() { hop.component.clone() } else { format!("{} on {}", hop.component, hop.host) }
            },
        )
        .collect();
    let how = match state {
        EndState::Answered => "It was answered",
        EndState::Failed => "It failed",
        EndState::Lost => "It was handed on and did not arrive; its last word is",
        EndState::Running => "It still goes on; its last word is",
    };
    format!("{identifier} went through {}. {how} at {}:{}.", way.join(", then "), end.0, end.1)
}

impl Trail {
    /// As the JSON contract has it: a line for each hop, then the end.
    pub fn json(&self) -> Vec<Value> {
        let moment = |(time, line, _): &(Option<i64>, u64, Row)| json!({"time": time.map(to_rfc3339), "line": line});
        let mut lines: Vec<Value> = Vec::new();
        for (at, hop) in self.hops.iter().enumerate() {
            lines.push(json!({
                "hop": at + 1, "host": hop.host, "source": hop.source, "component": hop.component, "pid": hop.pid, "identifier": hop.identifier,
                "first": moment(&hop.first), "last": moment(&hop.last), "events": hop.events, "outcome": hop.outcome.name(),
                "code": hop.code.map(|code| json!({"number": code, "name": code.to_string()})), "gap_before_ms": hop.gap_before_ms,
            }));
        }
        let aliases = self.aliases.iter().map(|alias| json!({"identifier": alias.identifier, "source": alias.source, "line": alias.line, "why": alias.why}));
        lines.push(json!({
            "end": {"state": self.state.name(), "source": self.end.0, "line": self.end.1},
            "aliases": aliases.collect::<Vec<_>>(), "summary": self.summary,
        }));
        lines
    }
}
