//! The crashes of a case: dumps, reports in text, and marks of an end without either, each judged, with those of its kind.

#![allow(
    clippy::indexing_slicing,
    clippy::arithmetic_side_effects,
    clippy::cast_possible_truncation,
    reason = "it works on the case: numbers of files have been read by then"
)]

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::sync::LazyLock;

use serde::Deserialize;
use serde_json::{Map, Value, json};

use super::judge::{self, Verdict};
use super::program::Programs;
use super::stack::Frame;
use super::text::{self, TextLine, Told};
use super::walk::Walker;
use super::{Crash, DumpFormat, Kind, Module, TimeFrom, What};
use crate::analysis::{Analysis, CaseView, Pieces, Window};
use crate::case::Reader;
use crate::clock::human::date_time;
use crate::clock::{MINUTE, SECOND, to_rfc3339};
use crate::code::Platform;
use crate::event::{EventRef, RecordReader, Row};
use crate::timeline::marks::{MarkAnalysis, MarkKind};
use crate::work::Work;
use crate::{Result, limits};

/// Crashes that are read from text in one case.
const MOST_TOLD: usize = 5000;
/// Lines behind the first that a report may go on over.
const MOST_LINES: usize = 600;
/// Lines that are looked at first: nearly all beginnings that are none show it there.
const FIRST_LINES: usize = 40;
/// Beginnings that are tried in one case.
const MOST_TRIED: usize = 50_000;
/// Threads of a dump whose stacks are walked.
const MOST_THREADS: usize = 64;

/// A place in a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CrashPlace {
    /// The name of the source.
    pub source: String,
    /// The line, from 1.
    pub line: u64,
}

/// One crash of a case.
#[derive(Clone, Debug)]
pub struct CrashReport {
    /// Where it stands.
    pub place: CrashPlace,
    /// The event of it.
    pub row: Option<Row>,
    /// The format: of the dump, `crash-text` for a report, that of the log for a mark.
    pub format: String,
    /// The label of its host.
    pub host: Option<String>,
    /// When, UTC nanoseconds, corrected.
    pub time: Option<i64>,
    /// Where that time is from.
    pub time_from: TimeFrom,
    /// What the dump or text says.
    pub crash: Crash,
    /// The stack of the thread that failed, innermost first.
    pub frames: Vec<Frame>,
    /// The stacks of other threads, as far as they are walked: the place of the thread among the crash's, and its frames.
    pub others: Vec<(usize, Vec<Frame>)>,
    /// What that lets be concluded.
    pub verdict: Verdict,
    /// What it has in common with others of its kind.
    pub fingerprint: String,
    /// Other crashes of the same fingerprint.
    pub same_as: Vec<CrashPlace>,
    /// Lines elsewhere that tell of the same end.
    pub told_by: Vec<CrashPlace>,
    /// Whether there is only a mark: no dump and no report.
    pub is_mark: bool,
    /// Modules in the stack whose files are not at hand.
    pub missing: Vec<String>,
    /// In two or three sentences.
    pub summary: String,
    /// What to do, with what it proves.
    pub remedies: Vec<(String, String)>,
}

/// Finds and judges all crashes, in order of time.
#[derive(Clone, Copy, Debug)]
pub struct CrashAnalysis;

impl Analysis for CrashAnalysis {
    const NAME: &'static str = "crashes";
    const VERSION: u32 = 1;
    /// Events in which the report of a crash may begin.
    type Piece = Vec<u16>;
    type Found = Vec<CrashReport>;

    fn window(&self, piece: &mut Vec<u16>, window: &Window<'_>) {
        if matches!(window.source.reader, Reader::Dump(_)) {
            return;
        }
        let mut at = 0;
        while let Some((start, end)) = text::next_beginning(window.bytes, at) {
            let seen = window.event_at(start);
            piece.push(seen.index as u16);
            at = seen.end.max(end);
        }
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, Vec<u16>>, work: &Work) -> Result<Vec<CrashReport>> {
        let mut all = dumps(view, work)?;
        all.extend(told(view, pieces, work)?);
        all.extend(unclean(view, work)?);
        let mut all = together(all);
        judge_all(view, &mut all);
        Ok(all)
    }
}

fn bare(place: CrashPlace, format: &str, crash: Crash) -> CrashReport {
    CrashReport {
        place,
        row: None,
        format: format.to_owned(),
        host: None,
        time: None,
        time_from: TimeFrom::Nowhere,
        crash,
        frames: Vec::new(),
        others: Vec::new(),
        verdict: Verdict::default(),
        fingerprint: String::new(),
        same_as: Vec::new(),
        told_by: Vec::new(),
        is_mark: false,
        missing: Vec::new(),
        summary: String::new(),
        remedies: Vec::new(),
    }
}

/// The dumps of a case.
fn dumps(view: &CaseView, work: &Work) -> Result<Vec<CrashReport>> {
    let table = &view.loaded.table;
    let mut found = Vec::new();
    for (index, source) in view.case.sources.iter().enumerate() {
        work.check()?;
        let Reader::Dump(format) = source.reader else { continue };
        let mut programs = Programs::new(&view.case.programs, source.host.as_deref());
        let mut report = examine(format, &source.path, &mut programs);
        report.place.source.clone_from(&source.name);
        report.host.clone_from(&source.host);
        let event = table.rows_of(index).next().map(|row| table.event(row));
        report.row = event.map(|event| event.row);
        report.time = event.and_then(|event| event.time()).or(report.crash.time).or(Some(source.modified));
        report.time_from = if report.crash.time.is_some() { TimeFrom::Dump } else { TimeFrom::File };
        found.push(report);
    }
    Ok(found)
}

/// Reads a dump with its stacks.
pub fn examine(format: &dyn DumpFormat, path: &std::path::Path, programs: &mut Programs<'_>) -> CrashReport {
    let place = CrashPlace { source: path.display().to_string(), line: 1 };
    let read = super::read(format, path);
    let mut report = match read {
        Ok(crash) => bare(place, format.name(), crash),
        Err(error) => {
            let crash = Crash { trouble: vec![error.to_string()], ..Crash::default() };
            return bare(place, format.name(), crash);
        }
    };
    let crash = &report.crash;
    report.frames.clone_from(&crash.frames);
    // Without registers the address of the failure is all that is known.
    if let (None, Some(address)) = (crash.thread().and_then(|thread| thread.registers.as_ref()), crash.address)
        && report.frames.is_empty()
    {
        report.frames.push(super::stack::frame_at(crash, programs, address, address));
    }
    let (mut is_damaged, mut handled) = (false, None);
    if report.frames.is_empty()
        && let Ok(file) = File::open(path)
    {
        let mut walker = Walker { crash, file: &file, programs, is_damaged: false, handled: None };
        if let Some(registers) = crash.thread().and_then(|thread| thread.registers.as_ref()) {
            report.frames = walker.stack(registers);
            is_damaged = walker.is_damaged;
            handled = walker.handled;
        }
        for (place, thread) in
            crash.threads.iter().enumerate().filter(|(_, thread)| Some(thread.id) != crash.tid).take(MOST_THREADS)
        {
            if let Some(registers) = &thread.registers {
                report.others.push((place, walker.stack(registers)));
            }
        }
    }
    if let Some((info, access)) = handled {
        let what = super::signal::what(info, report.crash.pid, access, None, &report.crash.memory);
        let name = what.name.unwrap_or_default();
        let words = what.words.map_or(String::new(), |words| format!(", which came since it {words}"));
        report.crash.what.words = Some(format!("the program's own handler of {name} ended it{words}"));
        report.crash.what.address = report.crash.what.address.or(what.address);
    }
    if is_damaged && report.crash.what.number == Some(11) {
        let words = "left a function whose stack frame is damaged: its return address was overwritten by a write beyond a local variable";
        report.crash.what.words = Some(words.into());
    }
    let access = told_access(&report.crash, &report.frames, programs);
    if access.is_some() {
        report.crash.what.access = access;
        let registers = report.crash.thread().and_then(|thread| thread.registers.clone());
        if let Some(address) = report.crash.what.address {
            report.crash.what.words =
                Some(super::signal::access_words(address, access, registers.as_ref(), &report.crash.memory));
        }
    }
    let crash = &report.crash;
    for frame in &report.frames {
        let module = frame.module.as_ref().and_then(|name| crash.modules.iter().find(|module| module.name() == name));
        if let Some(module) = module.filter(|module| !module.path.starts_with('['))
            && programs.of(module).is_none()
            && !matches!(format.name(), "crash-text")
            && !report.missing.contains(&module.path)
        {
            report.missing.push(module.path.clone());
        }
    }
    report
}

/// What the failing instruction did, from the program's file, where the dump does not hold its bytes.
fn told_access(crash: &Crash, frames: &[Frame], programs: &mut Programs<'_>) -> Option<super::Access> {
    let registers = crash.thread()?.registers.as_ref()?;
    let asked = crash.what.kind == Kind::Signal
        && crash.what.number == Some(11)
        && crash.what.address.is_some()
        && crash.what.access.is_none()
        && registers.machine != super::Machine::Arm64;
    frames.first().filter(|_| asked)?;
    let module = crash.module_at(registers.instruction)?;
    let program = programs.of(module)?;
    let at = super::stack::address_in_file(module, registers.instruction, &program)?;
    super::instruction::access(program.bytes_at(at, 16)?)
}

/// The lines of an event and of those behind it that may belong to its report.
fn lines_from(view: &CaseView, reader: &mut RecordReader, first: EventRef<'_>, most: usize) -> Vec<TextLine> {
    let table = &view.loaded.table;
    let mut lines: Vec<TextLine> = Vec::new();
    let mut row = first.row;
    let own = limits::RECORD_BYTES / 16;
    while (row.0 as usize) < table.len() {
        let event = table.event(row);
        if event.source() != first.source() || lines.len() >= most && event.row != first.row {
            break;
        }
        let same = event.component() == first.component() && event.actor().host == first.actor().host;
        if same || event.row == first.row {
            let record = reader.record(event);
            let place = record.place.unwrap_or_else(|| event.place()).line;
            let text = record.body;
            for (number, line) in text.lines().take(own).enumerate() {
                let text = crate::event::without_uptime(line).to_owned();
                lines.push(TextLine { line: place.saturating_add(number as u64), text });
            }
        }
        let Some(next) = row.0.checked_add(1) else { break };
        row = Row(next);
    }
    lines
}

/// The crashes that lines of logs tell.
fn told(view: &CaseView, pieces: &Pieces<'_, Vec<u16>>, work: &Work) -> Result<Vec<CrashReport>> {
    let table = &view.loaded.table;
    let mut reader = RecordReader::new(view.case.sources.clone());
    let (mut found, mut tried) = (Vec::new(), 0_usize);
    // Lines up to here belong to the report before.
    let mut used: HashMap<usize, u64> = HashMap::new();
    for (at, part) in table.parts.iter().enumerate() {
        for index in pieces.of_part(at)? {
            work.check()?;
            let row = Row(part.first_row.saturating_add(u32::from(index)));
            let event = table.event(row);
            let source = event.source();
            tried += 1;
            if found.len() >= MOST_TOLD || tried > MOST_TRIED {
                return Ok(found);
            }
            let record = reader.record(event);
            let place = record.place.unwrap_or_else(|| event.place()).line;
            let body = record.body;
            let own_lines = body.lines().count().max(1);
            let last = place.saturating_add(own_lines as u64).saturating_sub(1);
            if used.get(&source).is_some_and(|used| last <= *used) {
                continue;
            }
            let mut lines = lines_from(view, &mut reader, event, FIRST_LINES);
            let begins = (0..own_lines.min(lines.len())).any(|from| lines.get(from..).and_then(text::read).is_some());
            if !begins {
                continue;
            }
            if lines.len() >= FIRST_LINES {
                lines = lines_from(view, &mut reader, event, MOST_LINES);
            }
            let mut from = 0;
            while from < own_lines.min(lines.len()) {
                let Some(line) = lines.get(from) else { break };
                let Some(Told { crash, lines: count, is_mark, .. }) = lines.get(from..).and_then(text::read) else {
                    from += 1;
                    continue;
                };
                let place = CrashPlace { source: view.case.sources[source].name.clone(), line: line.line };
                let end = lines.get((from + count.max(1)).saturating_sub(1)).map_or(line.line, |line| line.line);
                used.insert(source, end);
                let format = if is_mark { view.case.sources[source].reader.name() } else { "crash-text" };
                let mut report = bare(place, format, crash);
                report.row = Some(row);
                report.host = Some(event.host().to_owned())
                    .filter(|host| !host.is_empty())
                    .or_else(|| view.case.sources[source].host.clone());
                report.time = event.time();
                report.time_from = if report.time.is_some() { TimeFrom::Log } else { TimeFrom::File };
                report.time = report.time.or(Some(view.case.sources[source].modified));
                report.is_mark = is_mark;
                report.frames.clone_from(&report.crash.frames);
                if report.crash.pid.is_none() && event.component() != "kernel" && !is_mark {
                    report.crash.pid = event.actor().pid;
                }
                if report.crash.process.is_none() && !is_manager(event.component()) {
                    report.crash.process = Some(event.component().to_owned()).filter(|name| !name.is_empty());
                }
                if report.crash.platform == Platform::Unknown {
                    report.crash.platform = view.case.sources[source].platform;
                }
                found.push(report);
                from += count.max(1);
            }
        }
    }
    Ok(found)
}

/// Programs that tell of others.
fn is_manager(component: &str) -> bool {
    let name = component.to_ascii_lowercase();
    [
        "systemd",
        "kernel",
        "init",
        "supervisord",
        "service control manager",
        "application error",
        "windows error reporting",
        "postmaster",
    ]
    .iter()
    .any(|known| name.starts_with(known))
}

/// Systems that stopped without having been shut down.
fn unclean(view: &CaseView, work: &Work) -> Result<Vec<CrashReport>> {
    let marks = view.run(&MarkAnalysis, work)?;
    let table = &view.loaded.table;
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut found: Vec<CrashReport> = Vec::new();
    for mark in marks.iter().filter(|mark| mark.kind == MarkKind::UncleanStop) {
        let event = table.event(mark.row);
        let source = &view.case.sources[event.source()];
        let host = Some(event.host().to_owned()).filter(|host| !host.is_empty()).or_else(|| source.host.clone());
        let near = |known: &&mut CrashReport| {
            known.host == host && known.time.is_some_and(|time| mark.time.abs_diff(time) < 10 * MINUTE.unsigned_abs())
        };
        let place = CrashPlace { source: source.name.clone(), line: reader.place(event).line };
        if let Some(known) = found.iter_mut().find(near) {
            known.told_by.push(place);
            continue;
        }
        let what = What {
            kind: Kind::Stop,
            name: Some("unclean stop".into()),
            words: Some("the system stopped without having been shut down: power, reset, or a stop of which nothing was written".into()),
            ..What::default()
        };
        let mut report =
            bare(place, source.reader.name(), Crash { what, platform: source.platform, ..Crash::default() });
        report.row = Some(mark.row);
        report.host = host;
        report.time = Some(mark.time);
        report.time_from = TimeFrom::Log;
        report.is_mark = true;
        found.push(report);
    }
    Ok(found)
}

/// How much a report says: the more, the rather it stands for the others of the same end.
fn weight(report: &CrashReport) -> u32 {
    let of_dump = u32::from(!report.is_mark && report.format != "crash-text");
    of_dump * 8
        + u32::from(!report.is_mark) * 4
        + u32::from(!report.frames.is_empty()) * 2
        + u32::from(report.crash.pid.is_some())
}

fn same_name(a: &str, b: &str) -> bool {
    let bare = |name: &str| name.to_ascii_lowercase().trim_end_matches(".exe").trim_end_matches(".service").to_owned();
    let (a, b) = (bare(a), bare(b));
    // The kernel keeps 15 bytes of a name.
    a == b || (a.len().min(b.len()) >= 4 && (a.starts_with(&b) || b.starts_with(&a)))
}

/// Whether two reports are of the same end.
fn same_end(a: &CrashReport, b: &CrashReport) -> bool {
    if a.host != b.host {
        return false;
    }
    let apart = a.time.zip(b.time).map(|(a, b)| a.abs_diff(b));
    let within = |limit: i64| apart.is_some_and(|apart| apart <= limit.unsigned_abs());
    let system = |report: &CrashReport| {
        report.crash.what.kind == Kind::Stop || report.crash.what.name.as_deref() == Some("Kernel panic")
    };
    if system(a) && system(b) {
        let stops = a.crash.what.number.zip(b.crash.what.number);
        // It is noticed only at the next start.
        return match stops {
            Some((a, b)) => a == b && within(24 * 60 * MINUTE),
            None => within(60 * MINUTE),
        };
    }
    if system(a) || system(b) {
        return false;
    }
    let file_time = a.time_from == TimeFrom::File || b.time_from == TimeFrom::File;
    let named = a.crash.process.as_deref().zip(b.crash.process.as_deref()).map(|(a, b)| same_name(a, b));
    if let Some((one, other)) = a.crash.pid.zip(b.crash.pid) {
        return one == other && (within(2 * MINUTE) || (file_time && named != Some(false)));
    }
    // A manager names the service, the dump the program.
    let same_signal = a.crash.what.number.is_some() && a.crash.what.number == b.crash.what.number;
    (named == Some(true) && within(30 * SECOND)) || (same_signal && a.is_mark != b.is_mark && within(5 * SECOND))
}

/// Brings reports of the same end together: a dump stands for the lines that tell of it.
fn together(mut all: Vec<CrashReport>) -> Vec<CrashReport> {
    all.sort_by_key(|report| (std::cmp::Reverse(weight(report)), report.time));
    let mut kept: Vec<CrashReport> = Vec::new();
    for report in all {
        // Two dumps or reports of their own are two crashes, whatever they say.
        let of = kept.iter_mut().find(|known| (report.is_mark || known.is_mark) && same_end(known, &report));
        match of {
            Some(known) => {
                if known.time_from == TimeFrom::File && report.time_from == TimeFrom::Log {
                    (known.time, known.time_from) = (report.time, report.time_from);
                }
                if known.crash.what.name.is_none() {
                    known.crash.what = report.crash.what.clone();
                    known.crash.code = report.crash.code;
                }
                known.crash.pid = known.crash.pid.or(report.crash.pid);
                known.crash.process = known.crash.process.take().or(report.crash.process);
                if known.frames.is_empty() {
                    known.frames = report.frames;
                    known.crash.modules.extend(report.crash.modules);
                }
                if known.crash.what.words.is_none() {
                    known.crash.what.words = report.crash.what.words;
                }
                known.told_by.push(report.place);
                known.told_by.extend(report.told_by);
            }
            None => kept.push(report),
        }
    }
    kept.sort_by(|a, b| (a.time, &a.place.source, a.place.line).cmp(&(b.time, &b.place.source, b.place.line)));
    kept
}

/// Judges each, then finds those of the same kind.
fn judge_all(view: &CaseView, all: &mut [CrashReport]) {
    for report in all.iter_mut() {
        let class = judge::refine(&mut report.crash, &report.frames);
        report.verdict = judge::judge(&report.crash, &report.frames, class, report.time);
        report.fingerprint = judge::fingerprint(&report.crash, &report.frames);
        report.remedies = remedies(report);
    }
    let places: Vec<(String, CrashPlace)> =
        all.iter().map(|report| (report.fingerprint.clone(), report.place.clone())).collect();
    let of_kind: HashMap<&str, usize> = places.iter().fold(HashMap::new(), |mut counts, (print, _)| {
        *counts.entry(print.as_str()).or_default() += 1;
        counts
    });
    for report in all.iter_mut() {
        if of_kind.get(report.fingerprint.as_str()).is_some_and(|count| *count > 1) {
            let same = places.iter().filter(|(print, place)| *print == report.fingerprint && *place != report.place);
            report.same_as = same.map(|(_, place)| place.clone()).take(200).collect();
        }
        report.summary = summary(view, report);
    }
}

/// One of the remedies in the data.
#[derive(Deserialize)]
struct Remedy {
    class: Vec<String>,
    os: String,
    r#do: String,
    proves: String,
}

#[derive(Deserialize)]
struct RemedyFile {
    remedy: Vec<Remedy>,
}

static REMEDIES: LazyLock<Vec<Remedy>> = LazyLock::new(|| {
    let read: std::result::Result<RemedyFile, _> = toml::from_str(include_str!("data/remedies.toml"));
    read.map(|file| file.remedy).unwrap_or_default()
});

fn remedies(report: &CrashReport) -> Vec<(String, String)> {
    const MOST: usize = 5;
    let os = match report.crash.platform {
        Platform::Windows => "windows",
        Platform::Macos => "macos",
        Platform::Linux => "linux",
        _ => "any",
    };
    let module = report.verdict.suspects.first().map(|suspect| suspect.module.clone());
    let process = report.crash.process.clone().unwrap_or_else(|| "the program".into());
    let fits = |remedy: &&Remedy| {
        remedy.class.iter().any(|class| class == report.verdict.class)
            && (remedy.os == "any" || remedy.os == os)
            && (module.is_some() || !remedy.r#do.contains("MODULE"))
            && (report.is_mark || !remedy.r#do.contains("written next time"))
    };
    let fill = |text: &str| text.replace("MODULE", module.as_deref().unwrap_or_default()).replace("PROCESS", &process);
    // What is about the suspect before what is general.
    let mut fitting: Vec<&Remedy> = REMEDIES.iter().filter(fits).collect();
    fitting.sort_by_key(|remedy| !remedy.r#do.contains("MODULE"));
    fitting.into_iter().take(MOST).map(|remedy| (fill(&remedy.r#do), fill(&remedy.proves))).collect()
}

fn summary(view: &CaseView, report: &CrashReport) -> String {
    let crash = &report.crash;
    let is_kernel = report.frames.first().is_some_and(|first| first.module.as_deref() == Some("kernel"))
        || matches!(
            crash.what.name.as_deref(),
            Some("Kernel panic" | "Oops" | "general protection fault" | "soft lockup" | "hard lockup" | "stall")
        );
    let who = match (&crash.process, crash.what.kind) {
        (_, Kind::Stop) => "The system".to_owned(),
        _ if is_kernel => "The kernel".to_owned(),
        (Some(process), _) => process.clone(),
        (None, _) => "A process".to_owned(),
    };
    let running = crash.process.as_ref().filter(|_| crash.what.kind == Kind::Stop || is_kernel);
    let running = running.map_or(String::new(), |process| format!(" while {process} ran"));
    let host = report.host.as_ref().map_or(String::new(), |host| format!(" on {host}"));
    let when = report.time.map_or(String::new(), |time| format!(" at {}", &date_time(time, &view.case.zone)[..19]));
    let name = crash.what.name.as_deref().unwrap_or("no named signal or exception");
    let detail = crash.what.detail.as_deref().filter(|detail| crash.what.words.is_none() && !detail.is_empty());
    let words = crash.what.words.as_deref().or(detail).map_or(String::new(), |words| format!(": it {words}"));
    let words = if crash.what.words.as_deref().is_some_and(|words| {
        words.starts_with("the ")
            || words.starts_with("a ")
            || words.starts_with("an ")
            || words.starts_with("sent ")
            || words.starts_with("all ")
            || words.starts_with("there ")
            || words.starts_with("ended from")
            || words.starts_with("two ")
            || words.starts_with("processor ")
            || words.starts_with("memory ")
            || words.starts_with("Caused")
    }) || crash.what.words.is_none()
        || crash.what.kind == Kind::Stop
    {
        words.replacen(": it ", ": ", 1)
    } else {
        words
    };
    let words = words.trim_end_matches('.');
    let ended = match crash.what.kind {
        Kind::Hang => "did not go on",
        Kind::Killed => "was ended",
        _ => "stopped",
    };
    let mut text = format!("{who}{host} {ended}{when}{running} with {name}{words}.");
    let frames = judge::telling(&report.frames);
    if let Some(frame) = frames.iter().find(|frame| frame.function.is_some() && !judge::is_witness(frame)) {
        text.push_str(&format!(" On the stack: {}.", frame.text()));
    }
    match (report.verdict.suspects.first(), report.verdict.provable) {
        (Some(first), true) => text.push_str(&format!(
            " To blame: {}, since {}.",
            first.module,
            first.why.first().map_or("", String::as_str)
        )),
        (first, _) => {
            let suspect = first
                .filter(|first| first.score >= 0.3)
                .map_or(String::new(), |first| format!(" First suspect: {}.", first.module));
            let doubt = report.verdict.doubts.first().map_or(String::new(), |doubt| format!(": {doubt}"));
            text.push_str(&format!("{suspect} Not provable from this{doubt}."));
        }
    }
    if !report.same_as.is_empty() {
        let count = report.same_as.len() + 1;
        text.push_str(&format!(" The same happened {count} times in this case."));
    }
    if report.is_mark {
        text.push_str(" There is no dump of it in the case.");
    }
    text
}

impl CrashReport {
    /// A module as the JSON contract has it.
    fn module_json(&self, module: &Module, in_stack: &HashSet<&str>) -> Value {
        let mut members = Map::new();
        members.insert("name".into(), module.name().into());
        if module.path != module.name() {
            members.insert("path".into(), module.path.clone().into());
        }
        if module.base != 0 {
            members.insert("base".into(), format!("0x{:x}", module.base).into());
        }
        if module.end > module.base {
            members.insert("size".into(), module.end.saturating_sub(module.base).into());
        }
        if let Some(id) = &module.build_id {
            members.insert("build_id".into(), id.clone().into());
        }
        if let Some(version) = &module.version {
            members.insert("version".into(), version.clone().into());
        }
        if let Some(built) = judge::built(module, &self.crash, self.time) {
            let text = to_rfc3339(built.saturating_mul(SECOND));
            members.insert("date".into(), text.get(..10).unwrap_or_default().into());
        }
        if let Some(days) = judge::age_days(module, &self.crash, self.time) {
            members.insert("age_days".into(), days.into());
        }
        members.insert("own".into(), judge::own(module, &self.crash).name().into());
        members.insert("in_stack".into(), in_stack.contains(module.name()).into());
        Value::Object(members)
    }

    /// How many threads there were, where that is known.
    pub fn thread_count(&self) -> Option<usize> {
        self.crash.thread_count.or(Some(self.crash.threads.len()).filter(|count| *count > 0))
    }

    /// The name of the thread that failed.
    pub fn thread_name(&self) -> Option<&str> {
        let crash = &self.crash;
        crash
            .thread()
            .or(crash.threads.first().filter(|_| crash.tid.is_none()))
            .and_then(|thread| thread.name.as_deref())
    }

    /// As the JSON contract has it.
    pub fn json(&self) -> Value {
        let crash = &self.crash;
        let what = &crash.what;
        let hex = |number: u64| format!("0x{number:x}");
        let in_stack: HashSet<&str> = self.frames.iter().filter_map(|frame| frame.module.as_deref()).collect();
        let parameters: Vec<Value> =
            what.parameters.iter().map(|(value, means)| json!({"value": hex(*value), "means": means})).collect();
        let mut value = json!({
            "source": self.place.source, "line": self.place.line, "format": self.format, "host": self.host,
            "time": self.time.map(to_rfc3339), "time_from": self.time_from.name(),
            "process": crash.process, "pid": crash.pid, "executable": crash.executable,
            "what": {
                "kind": what.kind.name(), "number": what.number, "name": what.name, "detail": what.detail,
                "address": what.address.map(hex), "access": what.access.map(super::Access::name),
                "parameters": parameters, "words": what.words,
            },
            "thread": {"id": crash.tid, "name": self.thread_name()},
            "threads": self.thread_count(),
            "frames": self.frames.iter().map(Frame::json).collect::<Vec<_>>(),
            "modules": crash.modules.iter().map(|module| self.module_json(module, &in_stack)).collect::<Vec<_>>(),
            "unloaded": crash.unloaded.iter().map(|module| module.name().to_owned()).collect::<Vec<_>>(),
            "suspects": self.verdict.suspects.iter().map(|one| json!({"module": one.module, "score": one.score, "why": one.why})).collect::<Vec<_>>(),
            "witnesses": self.verdict.witnesses.iter().map(|one| json!({"module": one.module, "why": one.why})).collect::<Vec<_>>(),
            "provable": self.verdict.provable,
            "doubts": self.verdict.doubts,
            "fingerprint": self.fingerprint,
            "same_as": self.same_as.iter().map(|place| place.source.clone()).collect::<Vec<_>>(),
            "told_by": self.told_by.iter().map(|place| json!({"source": place.source, "line": place.line})).collect::<Vec<_>>(),
            "missing_programs": self.missing,
            "damage": crash.trouble,
            "summary": self.summary,
            "remedies": self.remedies.iter().map(|(what, proves)| json!({"do": what, "proves": proves})).collect::<Vec<_>>(),
        });
        if !crash.attributes.is_empty()
            && let Some(members) = value.as_object_mut()
        {
            members.insert("attributes".into(), Value::Object(crash.attributes.clone()));
        }
        value
    }
}
