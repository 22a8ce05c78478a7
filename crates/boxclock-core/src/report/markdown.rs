//! The report as Markdown: story, cause with its evidence, codes, sources, and what was left out.

use std::fmt::Write as _;
use std::sync::Arc;

use super::codes::CodeAnalysis;
use super::{Report, sources};
use crate::Result;
use crate::clock::human::{date_time, drift_text};
use crate::event::{EventRef, RecordReader};
use crate::logbook::Story;
use crate::work::Work;

/// Writes the report. `drawing` is the file name of the timeline's drawing, if there is one beside it.
///
/// # Errors
/// When the codes cannot be counted.
pub fn markdown(report: &Report<'_>, drawing: Option<&str>) -> Result<String> {
    let mut text = format!("# {}\n\n", line(report.title()));
    story(report, &mut text);
    if let Some(file) = drawing {
        let _ = writeln!(text, "## Timeline\n\n![The case on one clock]({})\n", file.replace(' ', "%20"));
    }
    cause(report, &mut text);
    pins(report, &mut text);
    clocks(report, &mut text);
    code_table(report, &mut text)?;
    source_table(report, &mut text);
    left_out(report, &mut text);
    Ok(text)
}

fn story(report: &Report<'_>, text: &mut String) {
    let _ = writeln!(text, "## Story\n");
    for (key, label, _) in Story::FIELDS.iter().skip(1) {
        let value = report.story.get(key);
        let value = if value.is_empty() { "not stated".to_owned() } else { line(value) };
        let _ = writeln!(text, "- **{label}:** {value}");
    }
    if let Some((first, last)) = report.view.loaded.table.span {
        let _ = writeln!(
            text,
            "- **Read:** {} of {}, from {} to {} ({})",
            crate::many(report.view.loaded.table.len(), "event"),
            crate::many(report.view.case.sources.len(), "source"),
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
        let when =
            event.and_then(|event| event.time()).map_or("no time".to_owned(), |time| date_time(time, &report.zone));
        let note = if pin.note.is_empty() { String::new() } else { format!(": {}", line(&pin.note)) };
        let _ = writeln!(text, "{}. **{}** {when}{note}", number + 1, kind.name());
        if !reason.is_empty() {
            let _ = writeln!(text, "   - why: {}", line(reason));
        }
        let _ = writeln!(text, "   - evidence: {}", evidence(report, pin, event));
        if let Some(event) = event {
            let _ = writeln!(text, "\n{}", quote(&reader.record(event).body, "     "));
        }
    }
    text.push('\n');
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
        let when =
            event.and_then(|event| event.time()).map_or("no time".to_owned(), |time| date_time(time, &report.zone));
        let _ = writeln!(text, "- {when} {}: {} ({})", pin.kind.name(), line(&pin.note), evidence(report, pin, event));
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
        let name = reading.name.unwrap_or(code.code.family.title());
        let _ = writeln!(text, "| {number} {name} | {} | {} | {first} |", cell(&reading.meaning), code.count);
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

/// One line of text that Markdown shows as it is.
fn line(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for c in crate::visible(text, false).chars() {
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
