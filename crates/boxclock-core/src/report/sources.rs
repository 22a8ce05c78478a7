//! What was read: one row a source.

use std::collections::BTreeSet;
use std::ops::Range;

use serde::Serialize;

use crate::case::{Case, Loaded, SourceReport, ZoneFrom};
use crate::clock::to_rfc3339;

/// A source, as the contract names its parts. The generations of a log are one source, named by the youngest.
#[derive(Clone, Debug, Serialize)]
pub struct SourceOut {
    /// Its name.
    pub source: String,
    /// Its host: the label, or the one host that its lines name.
    pub host: Option<String>,
    /// The hosts that its lines name, where there are several.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub hosts: Vec<String>,
    /// Its format.
    pub format: &'static str,
    /// Its encoding.
    pub encoding: String,
    /// The zone of its times.
    pub zone: String,
    /// Where that zone is known from.
    pub zone_from: ZoneFrom,
    /// Its size in bytes: the sum of `event_bytes`, `other_bytes` and `repeated_bytes`.
    pub bytes: u64,
    /// Its lines: the sum of events, attached and repeated lines, for text.
    pub lines: u64,
    /// Its events.
    pub events: u64,
    /// Lines that belong to the event before.
    pub attached_lines: u64,
    /// Events without a time of their own.
    pub undated_events: u64,
    /// First corrected time, UTC nanoseconds.
    #[serde(serialize_with = "rfc3339")]
    pub first: Option<i64>,
    /// Last corrected time, UTC nanoseconds.
    #[serde(serialize_with = "rfc3339")]
    pub last: Option<i64>,
    /// What could not be read or understood.
    pub trouble: Vec<String>,
    /// Bytes of its records.
    pub event_bytes: u64,
    /// Bytes of no record: a byte-order mark, blank lines before the first record.
    pub other_bytes: u64,
    /// Bytes of lines that stand in two generations, and are read once.
    pub repeated_bytes: u64,
    /// Lines that stand in two generations, and are read once.
    pub repeated_lines: u64,
    /// Its files, oldest first, where it has several.
    pub files: Vec<FileOut>,
    /// The places of its files in the list of the case's sources.
    #[serde(skip)]
    pub members: Range<usize>,
}

/// One generation of a source.
#[derive(Clone, Debug, Serialize)]
pub struct FileOut {
    /// Its name; events carry it.
    pub source: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// Its events.
    pub events: u64,
    /// First corrected time, UTC nanoseconds.
    #[serde(serialize_with = "rfc3339")]
    pub first: Option<i64>,
    /// Last corrected time, UTC nanoseconds.
    #[serde(serialize_with = "rfc3339")]
    pub last: Option<i64>,
    /// Lines that stand again in the next file.
    pub repeated_lines: u64,
}

/// All sources of a case.
pub fn sources(case: &Case, loaded: &Loaded) -> Vec<SourceOut> {
    let mut rows: Vec<SourceOut> = Vec::new();
    let mut start = 0;
    for (index, source) in case.sources.iter().enumerate() {
        if source.generations == 0 {
            rows.push(row(case, loaded, start..index + 1));
            start = index + 1;
        }
    }
    rows
}

fn row(case: &Case, loaded: &Loaded, members: Range<usize>) -> SourceOut {
    let youngest = members.end - 1;
    let source = &case.sources[youngest];
    // Before the first view there are no reports yet.
    let nothing = SourceReport::default();
    let report_of = |index: usize| loaded.reports.get(index).unwrap_or(&nothing);
    let reports = || members.clone().map(report_of);
    let (zone, zone_from) = source.zone_shown(report_of(youngest));
    let mut hosts = hosts_of(case, loaded, youngest);
    let host = if hosts.len() == 1 { hosts.pop() } else { None };
    let corrected = |index: usize, time: Option<i64>| {
        let own = loaded.table.source_drift.get(index).copied().flatten();
        let drift = own.or_else(|| host.as_deref().map(|host| loaded.drift_of_host(host))).unwrap_or_default();
        time.map(|time| drift.correct(time))
    };
    let first = |index: usize| corrected(index, report_of(index).first);
    let last = |index: usize| corrected(index, report_of(index).last);
    let file = |index: usize| FileOut {
        source: case.sources[index].name.clone(),
        bytes: case.sources[index].own_bytes(),
        events: report_of(index).events,
        first: first(index),
        last: last(index),
        repeated_lines: case.sources[index].repeated_lines,
    };
    let several = members.len() > 1;
    let trouble_of = |index: usize| {
        report_of(index).trouble.iter().map(move |trouble| {
            if several { format!("{}: {}", case.sources[index].name, trouble.text) } else { trouble.text.clone() }
        })
    };
    let sizes = || members.clone().map(|index| &case.sources[index]);
    SourceOut {
        source: source.name.clone(),
        format: source.reader.name(),
        encoding: source.encoding_name().to_owned(),
        zone,
        zone_from,
        bytes: sizes().map(super::super::case::Source::own_bytes).sum(),
        lines: reports().map(|report| report.lines).sum(),
        events: reports().map(|report| report.events).sum(),
        attached_lines: reports().map(|report| report.attached_lines).sum(),
        undated_events: reports().map(|report| report.undated_events).sum(),
        first: members.clone().filter_map(first).min(),
        last: members.clone().filter_map(last).max(),
        trouble: members.clone().flat_map(trouble_of).collect(),
        event_bytes: reports().map(|report| report.event_bytes).sum(),
        other_bytes: reports().map(|report| report.other_bytes).sum(),
        repeated_bytes: sizes().map(|source| source.len_bytes - source.stop).sum(),
        repeated_lines: sizes().map(|source| source.repeated_lines).sum(),
        files: if several { members.clone().map(file).collect() } else { Vec::new() },
        host,
        hosts,
        members,
    }
}

/// A time as the contract writes it.
#[expect(clippy::ref_option, reason = "as serde calls it")]
pub(crate) fn rfc3339<S: serde::Serializer>(time: &Option<i64>, serializer: S) -> Result<S::Ok, S::Error> {
    time.map(to_rfc3339).serialize(serializer)
}

/// The label of a source's host, else the hosts that its lines name.
pub fn hosts_of(case: &Case, loaded: &Loaded, index: usize) -> Vec<String> {
    if let Some(label) = case.sources.get(index).and_then(|source| source.host.clone()) {
        return vec![label];
    }
    let table = &loaded.table;
    let actors = table.parts_of(index).iter().flat_map(|part| part.actor_ids.iter());
    let named: BTreeSet<u32> = actors.map(|id| table.actors[*id as usize].host).filter(|host| *host != 0).collect();
    named.into_iter().map(|host| table.hosts[host as usize].clone()).collect()
}
