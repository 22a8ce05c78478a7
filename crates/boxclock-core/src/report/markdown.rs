//! The report as Markdown: story, cause with its evidence, codes, sources, and what was left out.

use std::fmt::Write as _;
use std::sync::Arc;

use super::codes::CodeAnalysis;
use super::{Report, sources};
use crate::Result;
use crate::clock::human::{date_time, drift_text, duration_text};
use crate::event::{EventRef, RecordReader};
use crate::facts::checks::all_findings;
use crate::facts::{Checks, Finding, Level};
use crate::gather::{Seal, time_of};
use crate::logbook::{Link, Story, Verified};
use crate::work::Work;

/// Next steps that are listed.
const MAX_STEPS: usize = 12;

/// Writes the report. `drawing` is the file name of the timeline's drawing, if there is one beside it.
///
/// # Errors
/// When the codes cannot be counted, or the checks cannot run.
pub fn markdown(report: &Report<'_>, drawing: Option<&str>) -> Result<String> {
    let mut text = format!("# {}\n\n", line(report.title()));
    summary(report, &mut text);
    origin(report, &mut text);
    if let Some(file) = drawing {
        let _ = writeln!(text, "## Timeline\n\n![The case on one clock]({})\n", file.replace(' ', "%20"));
    }
    cause(report, &mut text);
    remedies(report, &mut text);
    after(report, &mut text);
    next_steps(report, &mut text)?;
    story(report, &mut text);
    pins(report, &mut text);
    clocks(report, &mut text);
    code_table(report, &mut text)?;
    source_table(report, &mut text);
    left_out(report, &mut text);
    Ok(text)
}

/// What happened, how long, to whom, and why: the sentences that everybody reads.
fn summary(report: &Report<'_>, text: &mut String) {
    let links = report.links();
    let of_kind = |kind: Link| links.iter().find(|(other, ..)| *other == kind);
    let told = |key: &str| Some(report.story.get(key)).filter(|value| !value.is_empty());
    let mut sentences = Vec::new();
    let note = of_kind(Link::Symptom).map(|(_, _, pin, _)| pin.note.as_str()).filter(|note| !note.is_empty());
    match told("happened").or(note) {
        Some(happened) => sentences.push(sentence(happened)),
        None => sentences.push("What happened is not stated.".to_owned()),
    }
    let symptom = of_kind(Link::Symptom).and_then(|(.., event)| event.and_then(|event| event.time()));
    let since = told("since").and_then(|text| crate::clock::human::moment(text, &report.zone, i64::MAX / 2).ok());
    if let Some(began) = since.or(symptom) {
        let mut lasted = format!("It began {}", moment_of(report, began));
        if let Some(last) = last_problem(report).filter(|last| *last > began) {
            let long = duration_text(last.saturating_sub(began));
            lasted.push_str(&format!(" and lasted at least {long}, to the last problem in this case"));
        }
        sentences.push(format!("{lasted}."));
    }
    if let Some(affected) = told("affected") {
        sentences.push(sentence(&format!("Affected: {affected}")));
    }
    if let Some(impact) = told("impact") {
        sentences.push(sentence(&format!("Impact: {impact}")));
    }
    sentences.push(match of_kind(Link::Root) {
        Some((_, _, pin, event)) => {
            let what = if pin.note.is_empty() { "the first line of the chain below" } else { &pin.note };
            sentence(&format!("The cause: {what} ({})", when(report, *event)))
        }
        None => "The cause is not established.".to_owned(),
    });
    let _ = writeln!(text, "{}\n", line(&sentences.join(" ")));
}

/// A text as a sentence: with a capital letter and a full stop.
fn sentence(text: &str) -> String {
    let stop = if text.trim().ends_with(['.', '!', '?']) { "" } else { "." };
    format!("{}{stop}", capital(text.trim()))
}

/// A text with a capital letter in front.
fn capital(text: &str) -> String {
    let mut letters = text.chars();
    let first: String = letters.next().into_iter().flat_map(char::to_uppercase).collect();
    format!("{first}{}", letters.as_str())
}

/// A moment with its date and zone, to the second.
fn moment_of(report: &Report<'_>, time: i64) -> String {
    format!("{} ({})", &date_time(time, &report.zone)[..19], report.zone)
}

/// When the last problem was. What lies before the last million events is not looked at.
fn last_problem(report: &Report<'_>) -> Option<i64> {
    const MOST: usize = 1_000_000;
    let table = &report.view.loaded.table;
    let events = table.order.iter().rev().take(MOST).map(|row| table.event(crate::event::Row(*row)));
    events.filter(EventRef::is_problem).find_map(|event| event.time())
}

/// Date, time and host of an event.
fn when(report: &Report<'_>, event: Option<EventRef<'_>>) -> String {
    let time = event.and_then(|event| event.time()).map_or("no time".to_owned(), |time| date_time(time, &report.zone));
    match event.map(|event| event.host()).filter(|host| !host.is_empty()) {
        Some(host) => format!("{time}, {host}"),
        None => time,
    }
}

/// Who wrote it, when, with what, from which box.
fn origin(report: &Report<'_>, text: &mut String) {
    let by = report.author.as_ref().map_or(String::new(), |author| format!(" by {}", line(author)));
    let _ = writeln!(
        text,
        "Written {}{by} with Box Clock {}.",
        moment_of(report, report.written),
        env!("CARGO_PKG_VERSION"),
    );
    let name = code_span(&report.view.case.name);
    let sealed = |seal: &Seal| match time_of(&seal.sealed_at) {
        Some(time) => moment_of(report, time),
        None => line(&seal.sealed_at),
    };
    let _ = match (&report.view.case.seal, &report.box_sha256) {
        (Some(seal), Some(sha256)) => writeln!(text, "Box: {name}, sealed {}, SHA-256 `{sha256}`.\n", sealed(seal)),
        (Some(seal), None) => writeln!(text, "Box: {name}, sealed {}.\n", sealed(seal)),
        (None, _) => writeln!(text, "Case: {name}, not a sealed box.\n"),
    };
}

/// The checklist: what was done by whom and when, and what is open.
fn remedies(report: &Report<'_>, text: &mut String) {
    if report.remedies.is_empty() {
        return;
    }
    let _ = writeln!(text, "## Remedies\n");
    for step in &report.remedies {
        let (mark, done) = match &step.done {
            Some((by, at)) => {
                let at = time_of(at).map_or_else(|| line(at), |time| moment_of(report, time));
                ("x", format!(" Done by {}, {at}.", line(by)))
            }
            None => (" ", String::new()),
        };
        let proves = if step.proves.is_empty() { String::new() } else { format!(" {}", line(&sentence(&step.proves))) };
        let _ = writeln!(text, "- [{mark}] {}{proves}{done}", line(&sentence(&step.what)));
    }
    text.push('\n');
}

/// Whether the failure was gone in later boxes: the last answer with its lines, those before in one line each.
fn after(report: &Report<'_>, text: &mut String) {
    let Some(last) = report.verdicts.first() else { return };
    let when = |one: &Verified| time_of(&one.at).map_or_else(|| line(&one.at), |time| moment_of(report, time));
    let _ = writeln!(text, "## After the fix\n");
    let _ = writeln!(
        text,
        "{} against {}: **{}**. {}\n",
        when(last),
        code_span(&last.later),
        last.verdict,
        line(&last.summary)
    );
    for item in &last.items {
        let _ = writeln!(text, "- {}", line(item));
    }
    for one in report.verdicts.iter().skip(1) {
        let _ = writeln!(text, "- before, {} against {}: {}", when(one), code_span(&one.later), one.verdict);
    }
    text.push('\n');
}

/// What to do next: what the checks advise, the worst first.
fn next_steps(report: &Report<'_>, text: &mut String) -> Result<()> {
    let (findings, _) = all_findings(report.view, &Checks::load(), &Work::default())?;
    let mut open: Vec<&Finding> =
        findings.iter().filter(|one| one.level <= Level::Warning && !one.advice.is_empty()).collect();
    open.sort_by_key(|one| one.level);
    if open.is_empty() {
        return Ok(());
    }
    let _ = writeln!(text, "## Next steps\n");
    for one in open.iter().take(MAX_STEPS) {
        let host = if one.host.is_empty() { String::new() } else { format!(" on {}", line(&one.host)) };
        let _ = writeln!(
            text,
            "- {}{host}: {}",
            line(&capital(&one.title)),
            line(&sentence(one.advice.lines().next().unwrap_or_default()))
        );
    }
    if open.len() > MAX_STEPS {
        let _ = writeln!(text, "- and {} more: `boxclock findings` lists them", open.len() - MAX_STEPS);
    }
    text.push('\n');
    Ok(())
}

fn story(report: &Report<'_>, text: &mut String) {
    let _ = writeln!(text, "## Story\n");
    for (key, label, _) in Story::FIELDS.iter().skip(1) {
        let value = report.story.get(key);
        if !value.is_empty() {
            let _ = writeln!(text, "- **{label}:** {}", line(value));
        }
    }
    if let Some((first, last)) = report.view.loaded.table.span {
        let _ = writeln!(
            text,
            "- **Read:** {} of {}, from {} to {} ({})",
            crate::many(report.view.loaded.table.len(), "event"),
            // Rotated files of one log are one source, as in the table below.
            crate::many(sources::sources(&report.view.case, &report.view.loaded).len(), "source"),
            date_time(first, &report.zone),
            date_time(last, &report.zone),
            report.zone
        );
    }
    text.push('\n');
}

fn cause(report: &Report<'_>, text: &mut String) {
    let _ = writeln!(text, "## Cause\n");
    let links = report.links();
    if links.is_empty() {
        let _ = writeln!(text, "No chain has been drawn yet.\n");
        return;
    }
    let mut reader = report.reader();
    for (number, (kind, reason, pin, event)) in links.into_iter().enumerate() {
        let note = if pin.note.is_empty() { String::new() } else { format!(": {}", line(&pin.note)) };
        let _ = writeln!(text, "{}. **{}** {}{note}", number + 1, kind.name(), line(&when(report, event)));
        if !reason.is_empty() {
            let _ = writeln!(text, "   - why: {}", line(reason));
        }
        let _ = writeln!(text, "   - evidence: {}", evidence(report, pin, event));
        if let Some(event) = event {
            let _ = writeln!(text, "\n{}", quote(&as_it_stands(report, &mut reader, event), "     "));
        }
    }
    text.push('\n');
}

/// The lines of an event as they stand in their file, with what stands in front of the message; of a record that was decoded its
/// message.
fn as_it_stands(report: &Report<'_>, reader: &mut RecordReader, event: EventRef<'_>) -> String {
    let source = &report.view.case.sources[event.source()];
    let is_text = source.decoded.is_none() && matches!(source.reader, crate::case::Reader::Lines(_));
    let lines = if is_text { reader.text(event).ok() } else { None };
    lines.unwrap_or_else(|| reader.record(event).body).trim_end().to_owned()
}

/// Where a pin's record stands: file, line, byte.
fn evidence(report: &Report<'_>, pin: &crate::logbook::Pin, event: Option<EventRef<'_>>) -> String {
    match event {
        Some(event) => {
            // A decoded record's place is that in its own file.
            let mut reader = RecordReader::new(Arc::clone(&report.view.case.sources));
            let place = reader.record(event).place.unwrap_or_else(|| event.place());
            let name = code_span(&report.view.case.sources[event.source()].name);
            format!("{name}, line {}, byte {}", place.line, place.offset)
        }
        None => format!("{}, byte {} (this source is not in the case now)", code_span(&pin.source), pin.offset),
    }
}

fn pins(report: &Report<'_>, text: &mut String) {
    let loose: Vec<_> = report.pins.iter().filter(|pin| !report.chain.iter().any(|link| link.pin == pin.id)).collect();
    if loose.is_empty() {
        return;
    }
    let _ = writeln!(text, "## Other marked places\n");
    for pin in loose {
        let event = report.event_of(pin);
        let (kind, note) = (pin.kind.name(), line(&pin.note));
        let _ = writeln!(text, "- {} {kind}: {note} ({})", line(&when(report, event)), evidence(report, pin, event));
    }
    text.push('\n');
}

fn clocks(report: &Report<'_>, text: &mut String) {
    let table = &report.view.loaded.table;
    let corrected: Vec<_> = table.hosts.iter().zip(table.drift.iter()).filter(|(_, drift)| !drift.is_none()).collect();
    if corrected.is_empty() {
        return;
    }
    let _ = writeln!(text, "## Clocks\n");
    for (host, drift) in corrected {
        let _ = writeln!(text, "- {}: {} was added to every time of this host", line(host), drift_text(*drift));
    }
    text.push('\n');
}

fn code_table(report: &Report<'_>, text: &mut String) -> Result<()> {
    let codes = report.view.run(&CodeAnalysis::default(), &Work::default())?;
    let failures: Vec<_> =
        codes.iter().filter(|code| code.code.info(&report.view.case.catalogues).is_failure()).collect();
    if failures.is_empty() {
        return Ok(());
    }
    let _ = writeln!(text, "## Codes that mean failure\n\n| code | meaning | events | first |\n|---|---|--:|---|");
    for code in failures {
        let reading = code.code.info(&report.view.case.catalogues);
        let number = code.code.written(&report.view.case.catalogues);
        let first = code.span.map_or("-".to_owned(), |(first, _)| date_time(first, &report.zone));
        // A code whose family is written with it is not named twice.
        let name = reading.name.unwrap_or(code.code.family.title());
        let code_and_name = if number.contains(name) { number } else { format!("{number} {name}") };
        let code_and_name = code_and_name.replace('|', "\\|");
        let _ = writeln!(text, "| {} | {} | {} | {first} |", code_and_name, cell(&reading.meaning), code.count);
    }
    text.push('\n');
    Ok(())
}

fn source_table(report: &Report<'_>, text: &mut String) {
    let _ =
        writeln!(text, "## Sources\n\n| source | host | format | zone | events | trouble |\n|---|---|---|---|--:|---|");
    for source in sources::sources(&report.view.case, &report.view.loaded) {
        let _ = writeln!(
            text,
            "| {} | {} | {} | {} ({}) | {} | {} |",
            cell(&source.source),
            cell(source.host.as_deref().unwrap_or("-")),
            source.format,
            source.zone,
            source.zone_from.name(),
            source.events,
            cell(&source.trouble.join("; "))
        );
    }
    text.push('\n');
}

fn left_out(report: &Report<'_>, text: &mut String) {
    if report.view.case.left_out.is_empty() {
        return;
    }
    let _ = writeln!(text, "## Left out\n");
    for left in &report.view.case.left_out {
        let _ = writeln!(text, "- `{}`: {}", line(&left.path), line(&left.reason));
    }
}

/// Text that Markdown shows as it is; what stood on several lines still does.
fn line(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for c in crate::visible(text.trim(), true).chars() {
        if c == '\n' {
            safe.push_str("<br>");
            continue;
        }
        if matches!(c, '\\' | '*' | '_' | '`' | '<' | '>' | '#' | '[' | ']' | '|') {
            safe.push('\\');
        }
        safe.push(c);
    }
    safe
}

fn cell(text: &str) -> String {
    line(text)
}

/// A name as it is, with more backticks around it than it holds: nothing in it is markup.
fn code_span(name: &str) -> String {
    let name = crate::visible(name, false);
    let longest = name.split(|letter| letter != '`').map(str::len).max().unwrap_or(0);
    let fence = "`".repeat(longest + 1);
    let blank = if longest > 0 { " " } else { "" };
    format!("{fence}{blank}{name}{blank}{fence}")
}

/// A block of the source's text, its fence longer than any in it.
fn quote(body: &str, indent: &str) -> String {
    let shown: String = crate::visible(body, true).chars().take(2000).collect();
    let longest = shown.split(|c| c != '`').map(str::len).max().unwrap_or(0);
    let fence = "`".repeat(longest.max(2) + 1);
    let lines: Vec<String> = shown.lines().map(|line| format!("{indent}{line}")).collect();
    format!("{indent}{fence}\n{}\n{indent}{fence}\n", lines.join("\n"))
}
