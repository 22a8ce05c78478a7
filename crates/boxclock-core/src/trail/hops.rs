//! Stations of a thing: their lines, their order, and where the way ends.

use std::collections::{BTreeMap, HashSet};

use crate::clock::SECOND;
use crate::event::Row;

use super::links::{Lines, without_lists};
use super::names::Look;
use super::outcome::{Said, said};
use super::{EndState, Hop, HopOutcome, Named};

/// Each station is held against each other one: of more, only the times tell the order. It is a word of the logs then.
const MOST_STATIONS: usize = 60;
/// A clock that is wrong is set behind its cause by so much.
const JUST_AFTER: i64 = 1_000_000;
/// Rows of a process beside the named ones that are looked at.
const MOST_BETWEEN: u32 = 4000;
/// Rows in front in which a process that works on one thing only says nothing.
const NEAR_BEFORE: u32 = 400;
/// A thing whose last word is so close to the end of its host's logs may go on.
const AT_THE_END: i64 = 5 * SECOND;

/// A hop with what its order and the end need.
pub(super) struct Station {
    pub hop: Hop,
    /// Rows that name the thing.
    rows: Vec<Row>,
    /// Steps of names from the one asked for.
    depth: usize,
    /// The first row of a failure that nothing good follows.
    failed_at: Option<Row>,
    /// Its last word of success, and whether that word says so by itself.
    answered_at: Option<(Row, bool)>,
    /// When it began, failed and answered, by clocks that are set so that nothing arrives before it was sent.
    begin_moment: Option<i64>,
    failed_moment: Option<i64>,
    answered_moment: Option<i64>,
}

/// The stations of all names, in order.
pub(super) fn stations(lines: &mut Lines<'_>, known: &BTreeMap<String, Named>) -> Vec<Station> {
    let table = &lines.view.loaded.table;
    // Of each source and program: the names with their events.
    let mut places: BTreeMap<(usize, String), BTreeMap<&str, Vec<Row>>> = BTreeMap::new();
    for (name, named) in known {
        for row in &named.rows {
            let event = table.event(*row);
            // A line that begins with the name and a colon makes it look like the program.
            let program = Some(event.component()).filter(|component| !known.contains_key(*component));
            let names = places.entry((event.source(), program.unwrap_or_default().to_owned())).or_default();
            names.entry(name).or_default().push(*row);
        }
    }
    let mut stations: Vec<Station> = Vec::new();
    for ((source, component), names) in places {
        // The name that the station's own lines are about: it stands in most of them, and in front.
        let own = names.iter().max_by_key(|(name, rows)| {
            let place = rows.first().map_or(0, |row| lines.parsed(*row).slot(name).unwrap_or(usize::MAX));
            (rows.len(), std::cmp::Reverse((place, known[**name].depth)))
        });
        let Some(name) = own.map(|(name, _)| (*name).to_owned()) else { continue };
        let mut rows: Vec<Row> = Vec::new();
        for (name, of_name) in &names {
            rows.extend(of_name.iter().filter(|row| without_lists(lines, name, **row)));
        }
        if rows.is_empty() {
            continue;
        }
        rows.sort_by_key(|row| (table.event(*row).order_time(), *row));
        rows.dedup();
        let depth = known[&name].depth;
        stations.extend(station(lines, source, component, name, depth, rows));
    }
    in_order(lines, stations, known)
}

fn station(
    lines: &mut Lines<'_>,
    source: usize,
    component: String,
    identifier: String,
    depth: usize,
    rows: Vec<Row>,
) -> Option<Station> {
    let table = &lines.view.loaded.table;
    let (first, last) = (*rows.first()?, *rows.last()?);
    let mut place = |row: Row| {
        let event = table.event(row);
        (event.time(), lines.reader.place(event).line, row)
    };
    let (first_place, last_place) = (place(first), place(last));
    let mut pids: Vec<u32> = rows.iter().filter_map(|row| table.event(*row).actor().pid).collect();
    pids.sort_unstable();
    pids.dedup();
    let event = table.event(first);
    let name = &lines.view.case.sources[source].name;
    let file = name.rsplit('/').next().unwrap_or_default();
    let stem = file.split('.').next().unwrap_or(file).to_owned();
    let all = with_rows_of_its_process(lines, &rows);
    let (mut found, mut code, mut last_code) = (Said::Nothing, None, None);
    let (mut failed_at, mut answered_at, mut again_at) = (None, None, None);
    for row in &all {
        let event = table.event(*row);
        let (says, number) = said(&lines.reader.record(event).body, event.severity().0);
        last_code = number.or(last_code);
        match says {
            Said::Failed => failed_at = failed_at.or(Some(*row)),
            Said::Answered => (failed_at, answered_at) = (None, Some((*row, true))),
            // What is over after a failure is over because of it.
            Said::Ended if matches!(found, Said::Failed | Said::Again) => continue,
            Said::Ended => answered_at = answered_at.or(Some((*row, false))),
            // As long as nothing follows, the attempt failed.
            Said::Again => again_at = Some(*row),
            Said::Handed | Said::Nothing => {}
        }
        if !matches!(says, Said::Again | Said::Nothing) {
            again_at = None;
        }
        if says != Said::Nothing && !(found == Said::Failed && says == Said::Handed) {
            (found, code) = (says, number.or(if says == Said::Failed && found == Said::Failed { code } else { None }));
        }
    }
    let hop = Hop {
        host: event.host().to_owned(),
        source: name.clone(),
        component: if component.is_empty() { stem } else { component },
        pid: pids.first().copied().filter(|_| pids.len() == 1),
        identifier,
        first: first_place,
        last: last_place,
        events: rows.len(),
        outcome: if again_at.is_some() { HopOutcome::Failed } else { found.outcome() },
        code: code.or(last_code),
        gap_before_ms: None,
    };
    let failed_at = failed_at.filter(|_| hop.outcome == HopOutcome::Failed).or(again_at);
    Some(Station {
        hop,
        rows,
        depth,
        failed_at,
        answered_at,
        begin_moment: None,
        failed_moment: None,
        answered_moment: None,
    })
}

/// The rows that name a thing, with those between them of the thread or process that wrote all of them, where it works on one at a
/// time: it names no other in between, and is a thread, or a process that says nothing before.
fn with_rows_of_its_process(lines: &mut Lines<'_>, rows: &[Row]) -> Vec<Row> {
    let table = &lines.view.loaded.table;
    let (Some(first), Some(last)) = (rows.iter().min(), rows.iter().max()) else { return Vec::new() };
    let actor = table.event(*first).actor();
    let by_one = |row: &Row| {
        let other = table.event(*row).actor();
        (other.pid, other.tid) == (actor.pid, actor.tid)
    };
    let began_before = || table.rows_near(*first, NEAR_BEFORE).any(|row| row < *first && by_one(&row));
    let is_its_own = actor.tid.is_some() || (actor.pid.is_some() && !began_before());
    if !is_its_own || !rows.iter().all(by_one) || last.0.saturating_sub(first.0) > MOST_BETWEEN {
        return rows.to_vec();
    }
    let mut all = rows.to_vec();
    let source = table.event(*first).source();
    for row in (first.0..=last.0).map(Row).filter(|row| by_one(row) && table.event(*row).source() == source) {
        if rows.contains(&row) {
            continue;
        }
        if lines.parsed(row).tokens.iter().any(|token| token.look == Look::Name) {
            return rows.to_vec();
        }
        all.push(row);
    }
    all.sort_by_key(|row| (table.event(*row).order_time(), *row));
    all
}

/// An order that lines show: the first station handed the thing to the second, no earlier than at this row.
struct Handing {
    from: usize,
    to: usize,
    row: Row,
}

/// Who handed to whom: a station whose first line names the other's name got it from there; one that names it later handed it on.
fn handings(lines: &mut Lines<'_>, stations: &[Station], known: &BTreeMap<String, Named>) -> Vec<Handing> {
    let mut handings: Vec<Handing> = Vec::new();
    if stations.len() > MOST_STATIONS {
        return handings;
    }
    for (at, station) in stations.iter().enumerate() {
        for (other, beside) in stations.iter().enumerate() {
            let name = &beside.hop.identifier;
            if at == other || *name == station.hop.identifier || station.rows.len() < 2 {
                continue;
            }
            let Some(named) = known.get(name) else { continue };
            let first_of_both = station.rows.iter().find(|row| named.rows.contains(row));
            let Some(row) = first_of_both.copied() else { continue };
            // Both names in one line, and the station's own: else it only speaks of the other.
            if lines.parsed(row).slot(&station.hop.identifier).is_none() {
                continue;
            }
            if Some(&row) == station.rows.first() {
                handings.push(Handing { from: other, to: at, row });
            } else {
                handings.push(Handing { from: at, to: other, row });
            }
        }
    }
    by_names_of_programs(lines, stations, &mut handings);
    // Where two lines say the opposite, neither is believed.
    let said: HashSet<(usize, usize)> = handings.iter().map(|one| (one.from, one.to)).collect();
    handings.retain(|one| !said.contains(&(one.to, one.from)));
    // Programs that share a file stand in it as it happened.
    for (from, earlier) in stations.iter().enumerate() {
        for (to, later) in stations.iter().enumerate() {
            let in_file = earlier.hop.source == later.hop.source && earlier.hop.first.2 < later.hop.first.2;
            let said = handings.iter().any(|one| [(one.from, one.to), (one.to, one.from)].contains(&(from, to)));
            if in_file && !said {
                handings.push(Handing { from, to, row: later.hop.first.2 });
            }
        }
    }
    handings
}

/// Stations under one name say by the other's program who handed to whom, where the times of one host do not say the opposite.
fn by_names_of_programs(lines: &mut Lines<'_>, stations: &[Station], handings: &mut Vec<Handing>) {
    let table = &lines.view.loaded.table;
    let has_word = |text: &str, word: &str| {
        let part = |letter: Option<char>| letter.is_some_and(|letter| letter.is_alphanumeric() || letter == '_');
        text.match_indices(word)
            .any(|(at, _)| !part(text[..at].chars().next_back()) && !part(text[at + word.len()..].chars().next()))
    };
    let mut named: Vec<Handing> = Vec::new();
    for (at, station) in stations.iter().enumerate().filter(|(_, station)| station.rows.len() > 1) {
        for (other, beside) in stations.iter().enumerate() {
            let program = &beside.hop.component;
            let known = handings.iter().any(|one| [(one.from, one.to), (one.to, one.from)].contains(&(at, other)));
            if at == other || known || program.len() < 4 || *program == station.hop.component {
                continue;
            }
            let row = station.rows.iter().copied().find(|row| {
                let body = lines.reader.record(table.event(*row)).body;
                has_word(&body, program)
            });
            let Some(row) = row else { continue };
            let (from, to) = if Some(&row) == station.rows.first() { (other, at) } else { (at, other) };
            let begin = |at: usize| stations[at].hop.first.0;
            let backwards = begin(from).zip(begin(to)).is_some_and(|(from, to)| from.saturating_sub(to) > SECOND);
            if !(backwards && station.hop.host == beside.hop.host) {
                named.push(Handing { from, to, row });
            }
        }
    }
    handings.append(&mut named);
}

/// How far the clock of each host must be set so that what was handed on arrives after it was sent: nanoseconds.
fn late_hosts(lines: &Lines<'_>, stations: &[Station], handings: &[Handing]) -> BTreeMap<String, i64> {
    let table = &lines.view.loaded.table;
    let mut late: BTreeMap<String, i64> = BTreeMap::new();
    let begin = |station: &Station| station.hop.first.0;
    // Each round moves one host behind another: as many rounds as there are stations are enough, unless lines contradict each other.
    for _ in 0..stations.len() {
        let mut moved = false;
        for Handing { from, to, row } in handings {
            let (from, to) = (&stations[*from], &stations[*to]);
            let sent = if from.rows.contains(row) { table.event(*row).time() } else { begin(from) };
            let (Some(sent), Some(came)) = (sent, begin(to)) else { continue };
            if from.hop.host == to.hop.host {
                continue;
            }
            let of = |host: &str| late.get(host).copied().unwrap_or_default();
            let sent = sent.saturating_add(of(&from.hop.host));
            let came = came.saturating_add(of(&to.hop.host));
            if came < sent {
                let behind = late.entry(to.hop.host.clone()).or_default();
                *behind = behind.saturating_add(sent.saturating_sub(came)).saturating_add(JUST_AFTER);
                moved = true;
            }
        }
        if !moved {
            break;
        }
    }
    late
}

/// Stations in the order of the way. Times of one host are believed; clocks of different hosts only as far as what was handed on
/// arrives after it was sent.
fn in_order(lines: &mut Lines<'_>, mut stations: Vec<Station>, known: &BTreeMap<String, Named>) -> Vec<Station> {
    let handings = handings(lines, &stations, known);
    let late = late_hosts(lines, &stations, &handings);
    let table = &lines.view.loaded.table;
    for station in &mut stations {
        let late = late.get(&station.hop.host).copied().unwrap_or_default();
        let moment = |row: Row| table.event(row).time().map(|time| time.saturating_add(late));
        station.begin_moment = moment(station.hop.first.2);
        station.failed_moment = station.failed_at.and_then(moment);
        station.answered_moment = station.answered_at.and_then(|(row, _)| moment(row));
    }
    // The earliest of those to which all have handed on that do so.
    let mut left: Vec<usize> = (0..stations.len()).collect();
    let mut order: Vec<usize> = Vec::new();
    let key = |at: &usize| (stations[*at].begin_moment, stations[*at].depth, stations[*at].hop.first.2);
    while !left.is_empty() {
        let waits = |at: &usize| handings.iter().any(|one| one.to == *at && left.contains(&one.from));
        let ready = left.iter().copied().filter(|at| !waits(at)).min_by_key(key);
        // A circle of handings: the earliest breaks it.
        let Some(next) = ready.or_else(|| left.iter().copied().min_by_key(key)) else { break };
        left.retain(|at| *at != next);
        order.push(next);
    }
    let mut slots: Vec<Option<Station>> = stations.into_iter().map(Some).collect();
    let mut sorted: Vec<Station> = order.into_iter().filter_map(|at| slots.get_mut(at)?.take()).collect();
    for at in 1..sorted.len() {
        let gap = sorted[at].hop.first.0.zip(sorted[at - 1].hop.first.0);
        sorted[at].hop.gap_before_ms = gap.map(|(now, before)| now.saturating_sub(before) / 1_000_000);
    }
    sorted
}

/// Where and how the way ended.
pub(super) fn ending(lines: &mut Lines<'_>, stations: &mut [Station]) -> (EndState, (String, u64, Row)) {
    let view = lines.view;
    let table = &view.loaded.table;
    let mut place = |row: Row| {
        let event = table.event(row);
        (view.case.sources[event.source()].name.clone(), lines.reader.place(event).line, row)
    };
    let follows = |station: &Station, failed: &Station| {
        let gap = station.begin_moment.zip(failed.failed_moment).map(|(begin, failed)| begin.saturating_sub(failed));
        station.hop.host == failed.hop.host && gap.is_some_and(|gap| gap > SECOND)
    };
    // The last station that failed; but one that began only after another had failed follows from that.
    let mut failed: Option<usize> = None;
    for at in (0..stations.len()).rev().filter(|at| stations[*at].failed_at.is_some()) {
        failed = match failed {
            None => Some(at),
            Some(later) if follows(&stations[later], &stations[at]) => Some(at),
            later => later,
        };
    }
    let top = stations.first().and_then(|top| {
        let (row, by_itself) = top.answered_at.filter(|_| top.failed_at.is_none())?;
        Some((row, by_itself, top.answered_moment))
    });
    if let Some(at) = failed {
        // An answer after the failure: it was mended on the way.
        if let Some((row, true, moment)) = top
            && stations.len() > 1
            && moment.map(|moment| moment.saturating_add(SECOND)) >= stations[at].failed_moment
        {
            return (EndState::Answered, place(row));
        }
        let row = stations[at].failed_at.unwrap_or(stations[at].hop.last.2);
        return (EndState::Failed, place(row));
    }
    if let Some((row, ..)) = top.filter(|(_, _, moment)| {
        // Many logs write whole seconds.
        let answered = moment.map(|moment| moment.saturating_add(SECOND));
        stations.len() == 1 || answered >= stations[1].begin_moment
    }) {
        return (EndState::Answered, place(row));
    }
    let clocks_differ = stations.iter().any(|station| station.begin_moment != station.hop.first.0);
    let Some(deepest) = stations.last_mut() else { return (EndState::Lost, (String::new(), 0, Row(0))) };
    if let Some((row, _)) = deepest.answered_at.filter(|_| deepest.hop.outcome == HopOutcome::Answered) {
        return (EndState::Answered, place(row));
    }
    let last = deepest.hop.last.2;
    // Where the clocks of the hosts differ, its own host's logs say when the case ends.
    let host = table.event(last).host();
    let of_host = (0..view.case.sources.len()).filter_map(|source| {
        let event = table.event(table.rows_of(source).next_back()?);
        event.time().filter(|_| event.host() == host)
    });
    let end = if clocks_differ { of_host.max() } else { table.span.map(|(_, last)| last) };
    let is_at_end = deepest.hop.last.0.zip(end).is_some_and(|(at, end)| end.saturating_sub(at) < AT_THE_END);
    if is_at_end {
        return (EndState::Running, place(last));
    }
    deepest.hop.outcome = HopOutcome::Stopped;
    (EndState::Lost, place(last))
}
