//! Processes that work for a thing: `task 4711 started as pid 20140`. The number of a process is a name of the thing from its start to its
//! end only, and only on its host; the lines of the process need not say it, for the system's logs know who wrote them.

use std::collections::{BTreeMap, HashSet};
use std::sync::LazyLock;

use regex::Regex;

use super::links::Lines;
use super::{Alias, Named};
use crate::Result;
use crate::clock::{MINUTE, SECOND};
use crate::event::Row;
use crate::work::Work;

/// Lines of the thing that are looked at for processes.
const MOST_LOOKED: usize = 500;
/// Processes of one thing.
const MOST_PROCESSES: usize = 16;
/// Lines of one process.
const MOST_ROWS: usize = 5000;
/// A process says its first word within this time of being named.
const BEGINS_WITHIN: i64 = MINUTE;
/// Clocks of two hosts differ by so much.
const BETWEEN_HOSTS: i64 = 2 * MINUTE;
/// A process that said nothing for so long is over; the number may be another's then.
const QUIET: i64 = 10 * MINUTE;

static PROCESS: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(r"(?i)\b(?:pid|process(?: id)?|prozess|child|worker process)\b[ =:#(\[]{0,2}(\d{2,7})\b").ok()
});

/// A process that a line of the thing names.
struct Said {
    pid: u32,
    row: Row,
    depth: usize,
    host: String,
}

/// Finds the processes of a thing, but for those in `without`, and adds their lines to what is `known` of it.
///
/// # Errors
/// When the work is cancelled.
pub(super) fn find(
    lines: &mut Lines<'_>,
    known: &mut BTreeMap<String, Named>,
    without: &[String],
    work: &Work,
) -> Result<Vec<Alias>> {
    let view = lines.view;
    let table = &view.loaded.table;
    let mut own: Vec<(Row, usize)> =
        known.values().flat_map(|named| named.rows.iter().map(|row| (*row, named.depth))).collect();
    own.sort_unstable();
    own.dedup_by_key(|(row, _)| *row);
    let taken: HashSet<Row> = own.iter().map(|(row, _)| *row).collect();
    let mut aliases = Vec::new();
    let all = said(lines, &own, known, without);
    let written = written_by(lines, &all, work)?;
    for (said, written) in all.iter().zip(&written) {
        let rows = rows_of(lines, said, written, &taken);
        let Some(first) = rows.first() else { continue };
        let of = table.event(*first).component().to_owned();
        let why = format!(
            "is the process that it is said to be there; {} of {} on {}",
            crate::plural::many(rows.len() as u64, "line"),
            if of.is_empty() { "it" } else { &of },
            said.host
        );
        let source = view.case.sources[table.event(said.row).source()].name.clone();
        let line = lines.reader.place(table.event(said.row)).line;
        aliases.push(Alias { identifier: said.pid.to_string(), source, line, why });
        known.insert(said.pid.to_string(), Named { rows, depth: said.depth + 1 });
    }
    Ok(aliases)
}

/// The processes that the lines of a thing name, each once, with the host that the line names, else its own.
fn said(lines: &mut Lines<'_>, own: &[(Row, usize)], known: &BTreeMap<String, Named>, without: &[String]) -> Vec<Said> {
    let table = &lines.view.loaded.table;
    let mut found: Vec<Said> = Vec::new();
    let Some(pattern) = PROCESS.as_ref() else { return found };
    for (row, depth) in own.iter().take(MOST_LOOKED) {
        let event = table.event(*row);
        let text = lines.reader.record(event).body;
        for number in pattern.captures_iter(&text).filter_map(|found| found.get(1)).take(3) {
            let Ok(pid) = number.as_str().parse() else { continue };
            let is_known = known.contains_key(number.as_str()) || without.iter().any(|name| name == number.as_str());
            if is_known || event.actor().pid == Some(pid) || found.iter().any(|said| said.pid == pid) {
                continue;
            }
            let words: HashSet<&str> =
                text.split(|letter: char| letter.is_whitespace() || ",;:()[]".contains(letter)).collect();
            let named = table.hosts.iter().find(|host| words.contains(host.as_str()));
            let host = named.map_or_else(|| event.host().to_owned(), Clone::clone);
            found.push(Said { pid, row: *row, depth: *depth, host });
        }
        if found.len() >= MOST_PROCESSES {
            break;
        }
    }
    found.truncate(MOST_PROCESSES);
    found
}

/// The lines of each of these processes with their times, in order: the rows of their hosts are gone through once.
fn written_by(lines: &Lines<'_>, all: &[Said], work: &Work) -> Result<Vec<Vec<(i64, Row)>>> {
    let table = &lines.view.loaded.table;
    let mut written: Vec<Vec<(i64, Row)>> = all.iter().map(|_| Vec::new()).collect();
    for (index, source) in lines.view.case.sources.iter().enumerate() {
        work.check()?;
        if all.iter().all(|said| source.host.as_ref().is_some_and(|host| *host != said.host)) {
            continue;
        }
        for row in table.rows_of(index) {
            let event = table.event(row);
            let by_it = all.iter().position(|said| event.actor().pid == Some(said.pid) && event.host() == said.host);
            if let (Some(at), Some(time)) = (by_it, event.time()) {
                written[at].push((time, row));
            }
        }
    }
    for rows in &mut written {
        rows.sort_unstable();
    }
    Ok(written)
}

/// The lines of a process from when it is named on; none where it was there before, or began much later.
fn rows_of(lines: &Lines<'_>, said: &Said, written: &[(i64, Row)], taken: &HashSet<Row>) -> Vec<Row> {
    let mention = lines.view.loaded.table.event(said.row);
    let Some(named_at) = mention.time() else { return Vec::new() };
    let slack = if mention.host() == said.host { 2 * SECOND } else { BETWEEN_HOSTS };
    let from = named_at.saturating_sub(slack);
    let was_there = written.iter().any(|(time, _)| *time < from && *time > from.saturating_sub(QUIET));
    let mut last = named_at.saturating_add(BEGINS_WITHIN + slack);
    if was_there {
        return Vec::new();
    }
    let mut found = Vec::new();
    for (time, row) in written.iter().copied().filter(|(time, _)| *time >= from) {
        if time > last || found.len() >= MOST_ROWS {
            break;
        }
        last = time.saturating_add(QUIET);
        if !taken.contains(&row) {
            found.push(row);
        }
    }
    found
}
