//! What the reading pane says of the lines of the Box view.

use boxclock_core::case::ZoneFrom;
use boxclock_core::clock::human::{date_time, drift_text, duration_text};
use boxclock_core::gather::time_of;
use boxclock_core::report::sources::SourceOut;
use boxclock_core::source::Class;
use boxclock_core::timeline::drift::Suggestion;

use super::{BoxView, CHECK};
use crate::context::Context;
use crate::pane::Pane;
use crate::text::{grouped, many};
use crate::theme::Hue;

/// A time of the seal in the zone of the screen, to the second.
fn shown_time(cx: &Context, text: &str) -> String {
    time_of(text).map_or_else(|| text.to_owned(), |time| date_time(time, &cx.zone)[..19].to_owned())
}

impl BoxView {
    /// The seal in a line: its shape, words and hue.
    pub(super) fn seal_words(&self, cx: &Context) -> (&'static str, String, Hue) {
        let Some(seal) = &cx.view.case.seal else { return ("·", String::new(), Hue::Sky) };
        let made = format!(
            "sealed {} by {}, {}",
            shown_time(cx, &seal.sealed_at),
            seal.sealed_by,
            many(seal.files.len() as u64, "file")
        );
        if let Some(percent) = cx.jobs.percent(CHECK) {
            return ("·", format!("checking the seal … {percent} %   Esc stops"), Hue::Sky);
        }
        match &self.verdict {
            None => ("·", format!("{made}; v checks whether it holds"), Hue::Sky),
            Some(Ok(verdict)) if verdict.findings.is_empty() => ("●", format!("the seal holds: {made}"), Hue::Green),
            Some(Ok(verdict)) => {
                let wrong = many(verdict.findings.len() as u64, "file");
                ("■", format!("the seal is broken: {wrong} not as sealed; {made}"), Hue::Vermilion)
            }
            Some(Err(error)) => ("■", format!("the seal cannot be checked: {error}"), Hue::Vermilion),
        }
    }

    /// The seal in the reading pane: who made it, from what, and what a check found.
    pub(super) fn seal_pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        let Some(seal) = &cx.view.case.seal else { return };
        pane.strong("the seal of this box");
        pane.facts("sealed", &shown_time(cx, &seal.sealed_at));
        pane.facts("by", &seal.sealed_by);
        pane.facts("files", &grouped(seal.files.len() as u64));
        pane.facts("hosts", &seal.hosts.iter().map(|host| host.label.as_str()).collect::<Vec<_>>().join(", "));
        if let Some(redaction) = &seal.redaction {
            let times: u64 = redaction.rules.iter().map(|rule| rule.places).sum();
            pane.facts("redacted", &many(times, "replacement"));
        }
        for step in &seal.custody {
            pane.facts("from", &format!("{} {} by {}, SHA-256 {}", step.at, step.what, step.by, step.box_sha256));
        }
        let Some(Ok(verdict)) = &self.verdict else { return };
        match &verdict.signature {
            Some(signature) => {
                pane.facts("signed", &format!("with the key {}", signature.fingerprint()));
                pane.facts("signer", &signature.by);
            }
            None => pane.facts("signed", "by nobody"),
        }
        if verdict.seal.story_sha256.is_none() {
            pane.faint("The story is not part of the seal: an older program sealed this box.");
        }
        for finding in &verdict.findings {
            pane.heading(finding.kind);
            pane.text(&finding.path);
            pane.faint(&finding.detail);
        }
    }
}

/// A clock that seems to be wrong, and what shows it.
pub(super) fn clock_pane(cx: &Context, pane: &mut Pane<'_>, one: &Suggestion) {
    let zone = &cx.zone;
    pane.strong(&format!("the clock of {}", one.host));
    pane.facts("add", &format!("{}; a accepts it, d sets another", one.drift_text()));
    pane.facts("sure", one.confidence.name());
    pane.facts("from", one.ground.words());
    pane.facts("why", &one.reason);
    for pair in &one.evidence {
        pane.heading(&pair.shared);
        for (source, line, time) in [&pair.here, &pair.there] {
            let time = date_time(*time, zone);
            pane.text(&time);
            pane.faint(&format!("  {source}:{line}"));
        }
    }
}

/// Where a host was gathered from, and its clock against ours at that moment.
pub(super) fn host_pane(cx: &Context, pane: &mut Pane<'_>, label: &str) {
    pane.paragraph(if label.is_empty() { "sources of no host" } else { label }, cx.theme.strong());
    let Some(host) = cx.view.case.seal.as_ref().and_then(|seal| seal.hosts.iter().find(|host| host.label == label))
    else {
        return;
    };
    pane.facts("from", host.origin.as_deref().unwrap_or_default());
    pane.facts("zone", host.zone.as_deref().unwrap_or("not known"));
    let here = time_of(&host.clock_here);
    let there = host.clock_there.as_deref().and_then(time_of);
    match here.zip(there) {
        Some((here, there)) => {
            let add = here.saturating_sub(there);
            let within = host.clock_within_ms.unwrap_or(0);
            pane.facts(
                "clock",
                &format!("at gathering: {} there, {} here", date_time(there, &cx.zone), date_time(here, &cx.zone)),
            );
            // What lies within the error of asking is no drift.
            if add.unsigned_abs() / 1_000_000 > within.max(1000) {
                let text =
                    format!("off by {} (±{within} ms); d and {} corrects it", duration_text(-add), duration_text(add));
                pane.facts("", &text);
            } else {
                pane.facts("", "in step with ours");
            }
        }
        None => pane.facts("clock", "could not be asked when this was gathered"),
    }
    let (settings, facts): (Vec<_>, Vec<_>) = cx
        .view
        .case
        .documents
        .iter()
        .filter(|document| document.host == label)
        .partition(|document| document.class == Class::Configuration);
    for (label, documents) in [("settings", settings), ("facts", facts)] {
        for (index, document) in documents.iter().enumerate().take(20) {
            pane.facts(if index == 0 { label } else { " " }, &document.name);
        }
    }
}

pub(super) fn source_pane(cx: &Context, pane: &mut Pane<'_>, source: &SourceOut) {
    pane.strong(&source.source);
    match source.hosts.as_slice() {
        [] => pane.facts("host", source.host.as_deref().unwrap_or("not labelled")),
        // Several hosts wrote into one file: each line names its own.
        hosts => pane.facts("hosts", &hosts.join(", ")),
    }
    pane.facts("format", source.format);
    pane.facts("encoding", &source.encoding);
    let from = match source.zone_from {
        ZoneFrom::Line => "stated in each line",
        ZoneFrom::Header => "stated in the file's header",
        ZoneFrom::User => "set by you",
        ZoneFrom::Host => "the host's zone, as gathered",
        ZoneFrom::Case => "assumed: the case's zone",
    };
    pane.facts("zone", &format!("{} ({from})", source.zone));
    let own = cx.drift().get(&source.source).map(|drift| (drift, "D"));
    let of_host = source.host.as_ref().and_then(|host| cx.drift().get(host)).map(|drift| (drift, "d"));
    match own.or(of_host) {
        Some((drift, key)) => {
            pane.facts("clock", &format!("{} added to every time; {key} changes it", drift_text(*drift)));
        }
        None => pane.facts("clock", "as written; d corrects it"),
    }
    if let Some(contest) = cx.view.case.sources.get(source.members.end - 1).and_then(|source| source.contest.as_ref()) {
        let won = contest.winner.format.name() == source.format;
        let why = if won { contest.reason() } else { "chosen by hand".to_owned() };
        pane.facts("why", &why);
    }
    let last = cx.view.case.sources.get(source.members.end - 1);
    if let Some(boxclock_core::case::Reader::Lines(detected)) = last.map(|source| source.reader)
        && let Some(columns) = detected.format.columns()
    {
        pane.facts("columns", &format!("{columns}; e changes them: {}({columns})", source.format));
    }
    pane.heading("totals");
    let numbers = [
        ("bytes", source.bytes),
        ("records", source.event_bytes),
        ("twice", source.repeated_bytes),
        ("outside", source.other_bytes),
        ("lines", source.lines),
        ("events", source.events),
        ("attached", source.attached_lines),
        ("repeated", source.repeated_lines),
        ("undated", source.undated_events),
    ];
    for (label, number) in numbers {
        // Most sources have nothing repeated and nothing outside of records.
        if number > 0 || !matches!(label, "twice" | "outside" | "repeated") {
            pane.facts(label, &grouped(number));
        }
    }
    if !source.files.is_empty() {
        pane.heading("files, oldest first");
        for file in &source.files {
            pane.text(&file.source);
            let events = many(file.events, "event");
            let text = match file.first.map(|first| date_time(first, &cx.zone)[..19].to_owned()) {
                Some(first) => format!("  {events} from {first}"),
                None if file.events == 0 => "  no events of its own".to_owned(),
                None => format!("  {events} without times"),
            };
            pane.faint(&text);
        }
    }
    if !source.trouble.is_empty() {
        pane.heading("problems");
        for trouble in &source.trouble {
            pane.paragraph(trouble, cx.theme.severity(boxclock_core::severity::Severity::WARN));
        }
    }
}
