//! What was read: one row a source.

use serde::Serialize;

use crate::case::{Case, Loaded};
use crate::clock::to_rfc3339;

/// A source, as the contract names its parts.
#[derive(Clone, Debug, Serialize)]
pub struct SourceOut {
    /// Its name.
    pub source: String,
    /// Its host: the label, or the one host that its lines name.
    pub host: Option<String>,
    /// Its format.
    pub format: &'static str,
    /// Its encoding.
    pub encoding: &'static str,
    /// The zone of its times.
    pub zone: String,
    /// Where that zone is known from.
    pub zone_from: &'static str,
    /// Its size in bytes.
    pub bytes: u64,
    /// Its lines.
    pub lines: u64,
    /// Its events.
    pub events: u64,
    /// Lines that belong to the event before.
    pub attached_lines: u64,
    /// Events without a time of their own.
    pub undated_events: u64,
    /// First corrected time.
    pub first: Option<String>,
    /// Last corrected time.
    pub last: Option<String>,
    /// What could not be read or understood.
    pub trouble: Vec<String>,
}

/// All sources of a case.
pub fn sources(case: &Case, loaded: &Loaded) -> Vec<SourceOut> {
    let rows = case.sources.iter().zip(loaded.reports.iter()).enumerate();
    rows.map(|(index, (source, report))| {
        let (zone, zone_from) = source.zone_shown(report);
        let host = host_of(case, loaded, index);
        let own = loaded.table.source_drift.get(index).copied().flatten();
        let drift = own.or_else(|| host.as_deref().map(|host| loaded.drift_of_host(host))).unwrap_or_default();
        let time = |time: Option<i64>| time.map(|time| to_rfc3339(drift.correct(time)));
        SourceOut {
            source: source.name.clone(),
            host,
            format: source.reader.name(),
            encoding: source.encoding.name(),
            zone,
            zone_from,
            bytes: source.len_bytes,
            lines: report.lines,
            events: report.events,
            attached_lines: report.attached_lines,
            undated_events: report.undated_events,
            first: time(report.first),
            last: time(report.last),
            trouble: report.trouble.iter().map(|trouble| trouble.text.clone()).collect(),
        }
    })
    .collect()
}

/// The label of a source's host, else the one host that its lines name.
fn host_of(case: &Case, loaded: &Loaded, index: usize) -> Option<String> {
    if let Some(label) = &case.sources[index].host {
        return Some(label.clone());
    }
    let table = &loaded.table;
    let parts = table.parts.iter().filter(|part| part.segment.source as usize == index);
    let mut named = parts.flat_map(|part| part.actor_ids.iter().map(|id| table.actors[*id as usize].host));
    let first = named.next().filter(|host| *host != 0)?;
    named.all(|host| host == first).then(|| table.hosts[first as usize].clone())
}
