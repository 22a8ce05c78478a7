//! Other things of the same kind: where they usually go on to, and how many end where this one ends.

use std::collections::{BTreeMap, BTreeSet};

use crate::Result;
use crate::analysis::CaseView;
use crate::event::{RecordReader, Row};
use crate::work::Work;

use super::names::{alike, mentions, names_in};
use super::{Trail, whole_text};

/// Things of the same kind that are looked at.
const MOST: usize = 300;
/// Hops whose lines are looked at, and lines before and after each.
const MOST_HOPS: usize = 4;
const NEAR: usize = 2000;
/// So few say nothing.
const LEAST: usize = 3;

/// What others of the same kind say about a trail.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Peers {
    /// How many others were looked at.
    pub others: usize,
    /// Where this one was seen last under its own name: host and program.
    pub last: String,
    /// How many others were seen last there too.
    pub end_there: usize,
    /// Since when those end there, in a row up to this one and beyond: UTC nanoseconds.
    pub since: Option<i64>,
    /// The next station of most others, which this one did not come to; with how many came to it.
    pub missing: Option<(String, usize)>,
}

impl Peers {
    /// In a sentence or two.
    pub fn words(&self, zone: &crate::clock::Zone) -> String {
        let mut text = format!("{} of {} others like it were seen last in {}", self.end_there, self.others, self.last);
        if let Some(since) = self.since {
            text.push_str(&format!(", all since {}", &crate::clock::human::date_time(since, zone)[..19]));
        }
        text.push('.');
        if let Some((station, count)) = &self.missing {
            text.push_str(&format!(" {count} of them went on to {station}, where this one never arrived."));
        }
        text
    }
}

/// Looks at other things of the same kind. `None` where there are too few of them.
///
/// # Errors
/// When cancelled.
pub fn peers(view: &CaseView, identifier: &str, trail: &Trail, work: &Work) -> Result<Option<Peers>> {
    let table = &view.loaded.table;
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut names: BTreeSet<String> = BTreeSet::new();
    // Others stand in the lines of the programs that this one went through under its own name.
    for hop in trail.hops.iter().filter(|hop| hop.identifier == identifier).take(MOST_HOPS) {
        let rows: Vec<Row> = table.rows_of(table.event(hop.first.2).source()).collect();
        let at = rows.partition_point(|row| *row < hop.first.2);
        for row in rows.iter().skip(at.saturating_sub(NEAR)).take(NEAR * 2) {
            work.check()?;
            let near = names_in(&whole_text(&mut reader, view, *row));
            names.extend(near.into_iter().filter(|name| alike(name, identifier)));
            if names.len() > MOST {
                break;
            }
        }
    }
    names.insert(identifier.to_owned());
    let station = |row: Row| {
        let event = table.event(row);
        match (event.host(), event.component()) {
            ("", program) => program.to_owned(),
            (host, "") => host.to_owned(),
            (host, program) => format!("{program} on {host}"),
        }
    };
    // For each: its stations in order, and when it began.
    let mut ways: BTreeMap<String, (i64, Vec<String>)> = BTreeMap::new();
    for (name, mut rows) in mentions(view, names.into_iter().collect(), work)? {
        rows.sort_by_key(|row| (table.event(*row).order_time(), *row));
        let Some(begin) = rows.first().and_then(|row| table.event(*row).time()) else { continue };
        let mut stations: Vec<String> = Vec::new();
        for one in rows.into_iter().map(station) {
            if !stations.contains(&one) {
                stations.push(one);
            }
        }
        ways.insert(name, (begin, stations));
    }
    let Some((_, own)) = ways.remove(identifier) else { return Ok(None) };
    let Some(last) = own.last().cloned() else { return Ok(None) };
    if ways.len() < LEAST {
        return Ok(None);
    }
    let ends = |stations: &[String]| stations.last() == Some(&last);
    let end_there = ways.values().filter(|(_, stations)| ends(stations)).count();
    let mut by_time: Vec<(i64, bool)> = ways.values().map(|(begin, stations)| (*begin, ends(stations))).collect();
    by_time.sort_unstable();
    // The tail of those that all end there, if others went on before.
    let tail = by_time.iter().rev().take_while(|(_, ends)| *ends).count();
    let since = (tail >= LEAST && tail < by_time.len()).then(|| by_time[by_time.len() - tail].0);
    let mut next: BTreeMap<&String, usize> = BTreeMap::new();
    for (_, stations) in ways.values() {
        let behind = stations.iter().skip_while(|station| **station != last).skip(1).find(|one| !own.contains(one));
        if let Some(station) = behind {
            *next.entry(station).or_default() += 1;
        }
    }
    let missing = next.into_iter().max_by_key(|(_, count)| *count).filter(|(_, count)| *count >= LEAST);
    let missing = missing.map(|(station, count)| (station.clone(), count));
    Ok(Some(Peers { others: ways.len(), last, end_there, since, missing }))
}
