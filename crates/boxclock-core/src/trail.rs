//! The way of one thing (a request, job, mail, session) through sources and hosts: its hops, the names that it goes by, and where it
//! stops.
//!
//! Names are found where two values stand in one event, one for one, and go on together ([`links`]). A value that many things share
//! (a session of all requests, a port, a count) is none.

use std::collections::{BTreeMap, HashSet};

use serde_json::{Value, json};

use crate::analysis::CaseView;
use crate::clock::to_rfc3339;
use crate::event::{RecordReader, Row};
use crate::work::Work;
use crate::{Error, Result};

mod candidates;
mod drawing;
mod hops;
mod links;
mod names;
mod outcome;
mod peers;
mod processes;
#[cfg(test)]
mod tests;

pub use candidates::{Candidate, suggested};
pub use drawing::draw;
use links::Lines;
use names::mentions;
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
    // Brackets and quotes around a name are the writer's.
    let identifier = identifier.trim().trim_matches(['<', '>', '{', '}', '[', ']', '(', ')', '"', '\'', '#']);
    if identifier.chars().count() < 3 {
        return Err(Error::new(format!(
            "\"{identifier}\" is too short to be followed: it stands in too many lines by chance"
        )));
    }
    let table = &view.loaded.table;
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
    let mut lines = Lines::new(view);
    let own = if identifier.bytes().all(|byte| byte.is_ascii_digit()) {
        links::rows_of_number(&mut lines, identifier, own, work)?
    } else {
        own
    };
    let mut known: BTreeMap<String, Named> = BTreeMap::new();
    known.insert(identifier.to_owned(), Named { rows: own, depth: 0 });
    let mut refused: HashSet<String> = without.iter().cloned().collect();
    let mut aliases = links::find(&mut lines, &mut known, &mut refused, work)?;
    aliases.extend(processes::find(&mut lines, &mut known, without, work)?);
    let mut stations = hops::stations(&mut lines, &known);
    let (state, end) = hops::ending(&mut lines, &mut stations);
    let hops: Vec<Hop> = stations.into_iter().map(|station| station.hop).collect();
    let mut rows: Vec<Row> = known.values().flat_map(|named| named.rows.iter().copied()).collect();
    rows.sort_by_key(|row| (table.event(*row).order_time(), *row));
    rows.dedup();
    let summary = summary(identifier, &hops, state, &end);
    Ok(Trail { hops, state, end, aliases, summary, rows })
}

fn whole_text(reader: &mut RecordReader, view: &CaseView, row: Row) -> String {
    let event = view.loaded.table.event(row);
    let record = reader.record(event);
    let mut text = record.body;
    // A thread works on one thing after the other: its name is none of them.
    for (name, value) in record.attributes.iter().filter(|(name, _)| !name.contains("thread")) {
        match value {
            Value::String(value) if value.len() < 200 => text.push_str(&format!(" {name}={value}")),
            Value::Number(value) => text.push_str(&format!(" {name}={value}")),
            _ => {}
        }
    }
    text
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
