//! What stands around a crash in its case: the last lines before it, what was put in before the first of its kind, and what it has in
//! common with others.

use std::collections::{BTreeSet, HashMap, HashSet};

use serde_json::{Value, json};

use super::report::{CrashPlace, CrashReport, same_name};
use super::signs::{Sign, What};
use super::stack::Frame;
use super::undumped::{self, DumpFacts};
use super::{Kind, judge};
use crate::Result;
use crate::analysis::CaseView;
use crate::clock::human::{date_time, duration_text};
use crate::clock::{DAY, HOUR, MINUTE, SECOND, to_rfc3339};
use crate::event::{EventRef, RecordReader, Row, flag};
use crate::timeline::marks::{MarkAnalysis, MarkKind, RailMark};
use crate::work::Work;

/// Lines of the process, and of its host, that are told.
const LINES: usize = 4;
/// Events before a crash that are looked through for them, and before all crashes together: each has the same share.
const LOOKED_AT: usize = 100_000;
const LOOKED_AT_IN_ALL: usize = 10_000_000;
/// How long before a crash its last lines may be.
const LINES_WITHIN: i64 = DAY;
/// How long before the first of its kind a change may be, and how many are told.
const CHANGES_WITHIN: i64 = 14 * DAY;
const CHANGES: usize = 5;
/// How far from a crash a line may be that says what became of its dump.
const NEAR_DUMP: i64 = 2 * MINUTE;
/// Characters of a line that are kept.
const LINE_CHARS: usize = 300;

/// A line that is told with a crash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NearLine {
    /// Where it stands.
    pub place: CrashPlace,
    /// Its event.
    pub row: Row,
    /// Its corrected time, UTC nanoseconds.
    pub time: Option<i64>,
    /// The first line of its message.
    pub text: String,
    /// Whether the process itself wrote it.
    pub own: bool,
}

impl NearLine {
    /// As it stands in the answer of `crashes`.
    pub(super) fn json(&self) -> Value {
        json!({
            "source": self.place.source, "line": self.place.line, "time": self.time.map(to_rfc3339), "text": self.text,
            "own": self.own,
        })
    }
}

/// What stands around a crash.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Around {
    /// The last lines of the process and of its host before it, in order.
    pub before: Vec<NearLine>,
    /// Installations, devices and drivers before the first crash of its kind on its host, in order.
    pub changes: Vec<NearLine>,
    /// What it has in common with others, in sentences.
    pub history: Vec<String>,
    /// Why there is no dump of it, where lines or facts say so: sentences, with the line that says it.
    pub no_dump: Vec<(String, Option<CrashPlace>)>,
}

struct Teller<'a> {
    view: &'a CaseView,
    reader: RecordReader,
    marks: &'a [RailMark],
    signs: &'a [Sign],
    /// Events before one crash that are looked through.
    looked_at: usize,
    facts: HashMap<Option<String>, DumpFacts>,
}

impl Teller<'_> {
    fn line(&mut self, event: EventRef<'_>, own: bool) -> NearLine {
        let record = self.reader.record(event);
        let line = record.place.unwrap_or_else(|| event.place()).line;
        let source = self.view.case.sources.get(event.source()).map_or("", |source| source.name.as_str());
        let text = record.body.lines().find(|line| !line.trim().is_empty()).unwrap_or_default();
        NearLine {
            place: CrashPlace { source: source.to_owned(), line },
            row: event.row,
            time: event.time(),
            text: text.chars().take(LINE_CHARS).collect(),
            own,
        }
    }

    /// The last lines of the process and of its host before a crash.
    fn before(&mut self, report: &CrashReport, ends: &HashSet<Row>) -> Vec<NearLine> {
        let table = &self.view.loaded.table;
        let (Some(row), Some(at)) = (report.row, report.time) else { return Vec::new() };
        let event = table.event(row);
        // A dump is dated by its own time or that of its file; the lines before it are found by that time.
        let place = if event.time().is_some() { table.place_of(row) } else { table.place_of_time(at) };
        let (mut own, mut near) = (Vec::new(), Vec::new());
        // A system that stopped wrote nothing under its own name.
        let wanted = if report.crash.what.kind == Kind::Stop { 0 } else { LINES };
        for place in (0..place).rev().take(self.looked_at) {
            let Some(event) = table.at(place) else { break };
            let is_enough = own.len() >= wanted && (wanted > 0 || near.len() >= LINES);
            if event.time().is_some_and(|time| at.saturating_sub(time) > LINES_WITHIN) || is_enough {
                break;
            }
            if event.flags() & flag::DUMP != 0
                || ends.contains(&event.row)
                || !is_on(self.view, report.host.as_deref(), event)
            {
                continue;
            }
            if is_of(report, event) {
                own.push(event.row);
            } else if near.len() < LINES {
                near.push(event.row);
            }
        }
        let mut rows: Vec<(Row, bool)> = own.into_iter().map(|row| (row, true)).collect();
        rows.extend(near.into_iter().map(|row| (row, false)));
        rows.sort_by_key(|(row, _)| table.place_of(*row));
        rows.into_iter().map(|(row, own)| self.line(table.event(row), own)).collect()
    }

    /// Why there is no dump of a crash.
    fn no_dump(&mut self, report: &CrashReport) -> Vec<(String, Option<CrashPlace>)> {
        let table = &self.view.loaded.table;
        let mut told: Vec<(String, Option<CrashPlace>)> = Vec::new();
        told.extend(undumped::of_kind(report).map(|text| (text, None)));
        let of_system = report.crash.what.kind == Kind::Stop;
        let (signs, at) = (self.signs, report.time.unwrap_or_default());
        let start = signs.partition_point(|sign| sign.time < at.saturating_sub(NEAR_DUMP));
        let near = signs.iter().skip(start).take_while(|sign| sign.time <= at.saturating_add(NEAR_DUMP));
        for sign in near.filter(|sign| sign.what == What::NoDump) {
            let event = table.event(sign.row);
            if told.iter().any(|(known, _)| *known == sign.subject) || !is_on(self.view, report.host.as_deref(), event)
            {
                continue;
            }
            let line = self.line(event, false);
            if of_system || report.row == Some(sign.row) || names(report, &line.text) {
                told.push((sign.subject.clone(), Some(line.place)));
            }
        }
        // A signal that writes no core needs no other reason; facts of a host of Linux say nothing of a stop.
        if told.is_empty() && !of_system {
            let of_host = || DumpFacts::of(&self.view.case, report.host.as_deref());
            let facts = self.facts.entry(report.host.clone()).or_insert_with(of_host);
            told.extend(facts.tell().into_iter().map(|text| (text, None)));
        }
        told
    }

    /// What was put in on the host before the first crash of this kind.
    fn changes(&mut self, report: &CrashReport, first: i64) -> Vec<NearLine> {
        let table = &self.view.loaded.table;
        let installs = self.marks.iter().filter(|mark| mark.kind == MarkKind::Install);
        let installs = installs.map(|mark| (mark.time, mark.row));
        let devices = self.signs.iter().filter(|sign| matches!(sign.what, What::Attached | What::Driver));
        let devices = devices.map(|sign| (sign.time, sign.row));
        let mut found: Vec<(i64, Row)> = installs
            .chain(devices)
            .filter(|(time, row)| {
                *time < first
                    && first.saturating_sub(*time) <= CHANGES_WITHIN
                    && is_on(self.view, report.host.as_deref(), table.event(*row))
            })
            .collect();
        found.sort();
        found.dedup_by_key(|(_, row)| *row);
        let start = found.len().saturating_sub(CHANGES);
        found.split_off(start).into_iter().map(|(_, row)| self.line(table.event(row), false)).collect()
    }
}

/// Whether a line names the process that ended.
fn names(report: &CrashReport, text: &str) -> bool {
    let pid = report.crash.pid.is_some_and(|pid| {
        let pid = pid.to_string();
        text.split(|letter: char| !letter.is_ascii_alphanumeric()).any(|word| word == pid)
    });
    pid || report.crash.process.as_deref().is_some_and(|name| {
        let bare = name.trim_end_matches(".service");
        bare.len() >= 3 && text.contains(bare)
    })
}

/// Whether an event is of a host: by its line, or by the label of its source. Without labels all are of one.
fn is_on(view: &CaseView, host: Option<&str>, event: EventRef<'_>) -> bool {
    let label = view.case.sources.get(event.source()).and_then(|source| source.host.as_deref());
    let named = Some(event.host()).filter(|host| !host.is_empty());
    host == named || host == label
}

/// Whether the process that ended wrote an event: by its number, else by its name where the lines have no numbers.
fn is_of(report: &CrashReport, event: EventRef<'_>) -> bool {
    let name = report.crash.process.as_deref();
    if report.crash.what.kind == Kind::Stop {
        return false;
    }
    match (report.crash.pid, event.actor().pid) {
        (Some(one), Some(other)) => one == other,
        _ => name.is_some_and(|name| !event.component().is_empty() && same_name(name, event.component())),
    }
}

/// Tells what stands around each crash. Those of one kind have one fingerprint.
pub(super) fn tell(view: &CaseView, all: &mut [CrashReport], signs: &[Sign], work: &Work) -> Result<()> {
    if all.is_empty() {
        return Ok(());
    }
    let marks = view.run(&MarkAnalysis, work)?;
    // The lines that tell of a crash are none before it.
    let tell = |report: &CrashReport| -> Vec<Row> {
        let told = report.told_by.iter().filter_map(|place| view.row_of_line(&place.source, place.line));
        report.row.into_iter().chain(told).collect()
    };
    let ends: HashSet<Row> = all.iter().flat_map(tell).collect();
    let mut teller = Teller {
        view,
        reader: RecordReader::new(view.case.sources.clone()),
        marks: &marks,
        signs,
        looked_at: LOOKED_AT.min(LOOKED_AT_IN_ALL / all.len().max(1)),
        facts: HashMap::new(),
    };
    let mut firsts: HashMap<OnHost, i64> = HashMap::new();
    for report in all.iter() {
        let Some(time) = report.time else { continue };
        let first = firsts.entry((report.host.clone(), report.fingerprint.clone())).or_insert(time);
        *first = time.min(*first);
    }
    let history = history(view, all, &marks, signs);
    for (report, history) in all.iter_mut().zip(history) {
        work.check()?;
        let first = firsts.get(&(report.host.clone(), report.fingerprint.clone())).copied();
        report.around = Around {
            before: teller.before(report, &ends),
            changes: first.map_or(Vec::new(), |first| teller.changes(report, first)),
            history,
            no_dump: if report.is_mark { teller.no_dump(report) } else { Vec::new() },
        };
    }
    Ok(())
}

/// What each has in common with others.
fn history(view: &CaseView, all: &[CrashReport], marks: &[RailMark], signs: &[Sign]) -> Vec<Vec<String>> {
    let mut of_kind: HashMap<&str, Vec<&CrashReport>> = HashMap::new();
    for report in all {
        of_kind.entry(&report.fingerprint).or_default().push(report);
    }
    let kinds: HashMap<&str, Vec<String>> =
        of_kind.iter().map(|(print, of)| (*print, of_one_kind(view, of, marks, signs))).collect();
    let culprits = culprits(all);
    let tell = |report: &CrashReport| {
        let mut told = kinds.get(report.fingerprint.as_str()).cloned().unwrap_or_default();
        let suspect = report.verdict.suspects.first();
        let key = suspect.map(|first| (report.host.clone(), first.module.clone()));
        // Of one kind they have one stack; that a module is in several kinds says more.
        if let Some((key, (of, kinds, in_all))) = key.and_then(|key| culprits.get_key_value(&key))
            && *kinds > 1
        {
            told.push(format!(
                "{} is on the stack of {of} of the {in_all} crashes of this host that have one, in {kinds} kinds of failure",
                key.1
            ));
        }
        told
    };
    all.iter().map(tell).collect()
}

/// A host, and a module or kind of crash on it.
type OnHost = (Option<String>, String);

/// By host and module: on the stacks of how many crashes it is, in how many kinds, and how many crashes of that host have a stack.
fn culprits(all: &[CrashReport]) -> HashMap<OnHost, (usize, usize, usize)> {
    let mut stacks: HashMap<&Option<String>, usize> = HashMap::new();
    let mut seen: HashMap<OnHost, (usize, BTreeSet<&str>)> = HashMap::new();
    for report in all.iter().filter(|report| !report.frames.is_empty()) {
        let in_all = stacks.entry(&report.host).or_default();
        *in_all = in_all.saturating_add(1);
        let modules: BTreeSet<&str> = report
            .frames
            .iter()
            .filter(|frame| !judge::is_witness(frame))
            .filter_map(|frame| frame.module.as_deref())
            .collect();
        for module in modules {
            let (count, kinds) = seen.entry((report.host.clone(), module.to_owned())).or_default();
            *count = count.saturating_add(1);
            kinds.insert(&report.fingerprint);
        }
    }
    let counted = seen.into_iter().map(|(key, (count, kinds))| {
        let in_all = stacks.get(&key.0).copied().unwrap_or(count);
        (key, (count, kinds.len(), in_all))
    });
    counted.collect()
}

/// What crashes of one kind have in common.
fn of_one_kind(view: &CaseView, reports: &[&CrashReport], marks: &[RailMark], signs: &[Sign]) -> Vec<String> {
    let mut told = Vec::new();
    if reports.len() < 2 {
        return told;
    }
    let count = reports.len();
    let mut times: Vec<i64> = reports.iter().filter_map(|report| report.time).collect();
    times.sort_unstable();
    let mut hosts: Vec<&str> = reports.iter().filter_map(|report| report.host.as_deref()).collect();
    hosts.sort_unstable();
    hosts.dedup();
    let on = match hosts.as_slice() {
        [] => String::new(),
        [one] => format!(" on {one}"),
        [one, two] => format!(" on {one} and {two}"),
        more => format!(" on {} hosts", more.len()),
    };
    if let [first, .., last] = times.as_slice() {
        let (first, last) = (moment(*first, view), moment(*last, view));
        told.push(format!("it happened {count} times{on}, first at {first}, last at {last}"));
    }
    told.extend(rhythm(&times));
    // One kind are those that are alike in their innermost frames; the whole stack says more.
    let of_stack = |report: &&CrashReport| -> Vec<String> { report.frames.iter().map(Frame::text).collect() };
    let stacks: Vec<Vec<String>> = reports.iter().map(of_stack).filter(|stack| !stack.is_empty()).collect();
    let same = stacks.iter().filter(|stack| Some(*stack) == stacks.first()).count();
    if same > 1 && same == stacks.len() {
        told.push(format!("{same} of them have the very same stack"));
    }
    let addresses: Vec<u64> = reports.iter().filter_map(|report| report.crash.what.address).collect();
    if let Some(first) = addresses.first()
        && addresses.len() > 1
        && addresses.iter().all(|address| address == first)
    {
        told.push(format!("{} of them touched the same address, 0x{first:x}", addresses.len()));
    }
    told.extend(after_start(view, reports, marks));
    told.extend(while_attached(view, reports, signs));
    told
}

/// A moment to the minute in the zone of the case.
fn moment(time: i64, view: &CaseView) -> String {
    date_time(time, &view.case.zone).get(..16).unwrap_or_default().to_owned()
}

/// Whether they come at equal distances: at least three of them, none off by more than a tenth.
fn rhythm(times: &[i64]) -> Option<String> {
    let gaps: Vec<i64> =
        times.windows(2).filter_map(|pair| Some(pair.get(1)?.saturating_sub(*pair.first()?))).collect();
    let mean = gaps.iter().sum::<i64>().checked_div(i64::try_from(gaps.len()).ok()?)?;
    let near = |gap: &i64| gap.abs_diff(mean) <= (mean / 10).max(2 * SECOND).unsigned_abs();
    (gaps.len() >= 3 && mean >= 10 * SECOND && gaps.iter().all(near))
        .then(|| format!("one came about every {}", duration_text(mean)))
}

/// How long after the start of the system, or of the process, each came, where that is much the same.
fn after_start(view: &CaseView, reports: &[&CrashReport], marks: &[RailMark]) -> Option<String> {
    let table = &view.loaded.table;
    let since_start = |report: &&CrashReport| {
        let stated = report.crash.attributes.get("system.uptime_s").and_then(Value::as_i64);
        if let Some(seconds) = stated {
            return Some(seconds.saturating_mul(SECOND));
        }
        let (time, host) = (report.time?, report.host.as_deref()?);
        let end = marks.partition_point(|mark| mark.time < time);
        let start = marks
            .get(..end)?
            .iter()
            .rev()
            .find(|mark| mark.kind == MarkKind::Start && is_on(view, Some(host), table.event(mark.row)))?;
        Some(time.saturating_sub(start.time))
    };
    let spans: Vec<i64> = reports.iter().filter_map(since_start).collect();
    let (least, most) = (*spans.iter().min()?, *spans.iter().max()?);
    // Hours after a start say nothing of it.
    let alike = most.saturating_sub(least) <= (least / 10).max(MINUTE) && most <= 2 * HOUR;
    (spans.len() >= 2 && spans.len() == reports.len() && alike).then(|| {
        let (least, most) = (duration_text(least), duration_text(most));
        let when = if least == most { least } else { format!("between {least} and {most}") };
        format!("each came {when} after the start of the system")
    })
}

/// Devices that were there at each of them, and else for the smaller part of the time.
fn while_attached(view: &CaseView, reports: &[&CrashReport], signs: &[Sign]) -> Vec<String> {
    const MOST_DEVICES: usize = 2;
    let table = &view.loaded.table;
    let host = reports.first().and_then(|report| report.host.as_deref());
    let times: Vec<i64> = reports.iter().filter_map(|report| report.time).collect();
    if times.len() < 2 || reports.iter().any(|report| report.host.as_deref() != host) {
        return Vec::new();
    }
    let mut acts: HashMap<&str, Vec<(i64, What)>> = HashMap::new();
    for sign in signs.iter().filter(|sign| matches!(sign.what, What::Attached | What::Detached)) {
        if is_on(view, host, table.event(sign.row)) {
            acts.entry(&sign.subject).or_default().push((sign.time, sign.what));
        }
    }
    let Some((first, last)) = span_of(view, host) else { return Vec::new() };
    let mut found: Vec<(i64, String)> = Vec::new();
    for (device, acts) in acts {
        let spans = attached(&acts, first, last);
        let there = |time: &i64| spans.iter().any(|(from, to)| from <= time && time <= to);
        let total: i64 = spans.iter().map(|(from, to)| to.saturating_sub(*from)).sum();
        let share = total.saturating_mul(100).checked_div(last.saturating_sub(first)).unwrap_or(100);
        if times.iter().all(there) && share <= 60 {
            let told = format!(
                "each came while {device} was attached, which it was for {share} % of the time that the logs of this host cover"
            );
            found.push((share, told));
        }
    }
    found.sort();
    found.into_iter().take(MOST_DEVICES).map(|(_, told)| told).collect()
}

/// When a device was there: what is detached first was there from the beginning.
fn attached(acts: &[(i64, What)], first: i64, last: i64) -> Vec<(i64, i64)> {
    let mut spans = Vec::new();
    let mut since = acts.first().filter(|(_, what)| *what == What::Detached).map(|_| first);
    for (time, what) in acts {
        if *what == What::Attached {
            since = since.or(Some(*time));
        } else {
            spans.extend(since.take().map(|since| (since, *time)));
        }
    }
    spans.extend(since.map(|since| (since, last)));
    spans
}

/// From when to when the logs of a host reach.
fn span_of(view: &CaseView, host: Option<&str>) -> Option<(i64, i64)> {
    let table = &view.loaded.table;
    let mut span: Option<(i64, i64)> = None;
    for (index, source) in view.case.sources.iter().enumerate() {
        let mut rows = table.rows_of(index);
        let first = rows.next().map(|row| table.event(row));
        let is_its = source.host.as_deref() == host || first.is_some_and(|event| Some(event.host()) == host);
        let ends = [first, rows.next_back().map(|row| table.event(row))];
        for time in ends.into_iter().flatten().filter_map(|event| event.time()).filter(|_| is_its) {
            let (from, to) = span.get_or_insert((time, time));
            (*from, *to) = ((*from).min(time), (*to).max(time));
        }
    }
    span
}

#[cfg(test)]
mod tests;
