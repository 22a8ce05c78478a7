//! Crashes that lines of logs tell: reports among other lines, and marks of an end without one.

#![allow(
    clippy::indexing_slicing,
    clippy::arithmetic_side_effects,
    reason = "it works on the case: numbers of files have been read by then"
)]

use std::collections::HashMap;

use super::report::{CrashPlace, CrashReport};
use super::text::{self, TextLine, Told};
use super::{Crash, Kind, TimeFrom, What};
use crate::analysis::CaseView;
use crate::clock::MINUTE;
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
pub(super) fn told(view: &CaseView, beginnings: &[Vec<u16>], work: &Work) -> Result<Vec<CrashReport>> {
    let table = &view.loaded.table;
    let mut reader = RecordReader::new(view.case.sources.clone());
    let (mut found, mut tried) = (Vec::new(), 0_usize);
    // Lines up to here belong to the report before.
    let mut used: HashMap<usize, u64> = HashMap::new();
    for (part, beginnings) in table.parts.iter().zip(beginnings) {
        for index in beginnings {
            work.check()?;
            let row = Row(part.first_row.saturating_add(u32::from(*index)));
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
                let mut report = CrashReport::new(place, format, crash);
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
pub(super) fn unclean(view: &CaseView, work: &Work) -> Result<Vec<CrashReport>> {
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
        let mut report = CrashReport::new(
            place,
            source.reader.name(),
            Crash { what, platform: source.platform, ..Crash::default() },
        );
        report.row = Some(mark.row);
        report.host = host;
        report.time = Some(mark.time);
        report.time_from = TimeFrom::Log;
        report.is_mark = true;
        found.push(report);
    }
    Ok(found)
}
