//! The codes of a case: how often, where, first and last seen.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::case::Loaded;
use crate::clock::to_rfc3339;
use crate::code::Code;
use crate::event::{NO_TIME, Row};

/// One code of a case.
#[derive(Clone, Debug)]
pub struct CodeCount {
    /// The code.
    pub code: Code,
    /// Events that hold it.
    pub count: u64,
    /// First and last corrected time.
    pub span: Option<(i64, i64)>,
    /// Its first event in merged order.
    pub first_row: Row,
    /// Labels of the hosts.
    pub hosts: Vec<String>,
}

/// A code, as `codes --as jsonl` prints it.
#[derive(Serialize)]
struct CodeLine<'a> {
    number: Option<u32>,
    family: &'static str,
    name: Option<&'static str>,
    failure: bool,
    count: u64,
    first: Option<String>,
    last: Option<String>,
    hosts: &'a [String],
    gloss: &'a str,
    meaning: &'a str,
    check: &'static str,
}

/// All codes: failures first, then the most frequent.
pub fn codes(loaded: &Loaded) -> Vec<CodeCount> {
    let table = &loaded.table;
    let mut found: BTreeMap<Code, (CodeCount, i64)> = BTreeMap::new();
    for part in &table.parts {
        let mut last: Option<(u16, Code)> = None;
        for (event, code) in &part.segment.codes {
            // A code that stands twice in an event is one event.
            if last.replace((*event, *code)) == Some((*event, *code)) {
                continue;
            }
            let index = usize::from(*event);
            let actor = part.actor_ids[usize::from(part.segment.actor_ids[index])];
            let raw = part.segment.times[index];
            let time =
                if raw == NO_TIME { None } else { Some(table.drift_of(part.segment.source, actor).correct(raw)) };
            let row = Row(part.first_row + u32::from(*event));
            let host = &table.hosts[table.actors[actor as usize].host as usize];
            let key = time.unwrap_or(i64::MAX);
            let (entry, first_key) = found.entry(*code).or_insert_with(|| {
                (CodeCount { code: *code, count: 0, span: None, first_row: row, hosts: Vec::new() }, key)
            });
            entry.count += 1;
            if key < *first_key {
                (*first_key, entry.first_row) = (key, row);
            }
            if let Some(time) = time {
                let (first, last) = entry.span.unwrap_or((time, time));
                entry.span = Some((first.min(time), last.max(time)));
            }
            if !host.is_empty() && !entry.hosts.contains(host) {
                entry.hosts.push(host.clone());
            }
        }
    }
    let mut codes: Vec<CodeCount> = found.into_values().map(|(code, _)| code).collect();
    codes.sort_by_key(|code| (code.code.reading().outcome, std::cmp::Reverse(code.count)));
    codes
}

impl CodeCount {
    /// The code as a line of JSON, without line end.
    pub fn json(&self) -> String {
        let reading = self.code.reading();
        let line = CodeLine {
            number: self.code.number_out(),
            family: self.code.family.name(),
            name: reading.name,
            failure: reading.is_failure(),
            count: self.count,
            first: self.span.map(|(first, _)| to_rfc3339(first)),
            last: self.span.map(|(_, last)| to_rfc3339(last)),
            hosts: &self.hosts,
            gloss: &reading.gloss,
            meaning: &reading.meaning,
            check: reading.check,
        };
        serde_json::to_string(&line).unwrap_or_default()
    }
}
