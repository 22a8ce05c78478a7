//! Lists for people and as JSON lines: sources, codes, the meaning of codes.

use std::io::{self, Write};

use boxclock_core::analysis::CaseView;
use boxclock_core::case::{Case, Loaded, Reader};
use boxclock_core::clock::human::date_time;
use boxclock_core::clock::to_rfc3339;
use boxclock_core::report;
use boxclock_core::report::codes::{CodeAnalysis, CodeCount, Order};
use boxclock_core::timeline::drift::{Pair, Suggestion};
use boxclock_core::visible::safe_json;
use boxclock_core::work::Work;
use boxclock_core::{Error, visible};

use crate::args::ListForm;
use crate::outcome::{of_form, shown};

/// Prints the sources of a case.
pub fn sources(case: &Case, loaded: &Loaded, form: ListForm) -> io::Result<()> {
    let mut out = of_form(form);
    let rows = report::sources::sources(case, loaded);
    if form == ListForm::Text {
        writeln!(
            out,
            "{:<12} {:<12} {:<9} {:<16} {:>12} {:>10} {:>9}  source",
            "host", "format", "encoding", "zone", "bytes", "events", "attached"
        )?;
    }
    for row in rows {
        if form == ListForm::Jsonl {
            write!(out, "{}", safe_json(serde_json::to_string(&row)?))?;
            writeln!(out)?;
            continue;
        }
        writeln!(
            out,
            "{:<12} {:<12} {:<9} {:<16} {:>12} {:>10} {:>9}  {}",
            row.host.as_deref().unwrap_or("-"),
            row.format,
            row.encoding,
            format!("{} {}", row.zone, row.zone_from.name()),
            row.bytes,
            row.events,
            row.attached_lines,
            visible(&row.source, false)
        )?;
        for trouble in &row.trouble {
            writeln!(out, "{:13}trouble: {}", "", visible(trouble, false))?;
        }
    }
    out.flush()
}

/// Prints which clocks seem to be wrong, and why.
pub fn drift(suggestions: &[Suggestion], form: ListForm) -> io::Result<()> {
    let mut out = of_form(form);
    for one in suggestions {
        if form == ListForm::Jsonl {
            writeln!(out, "{}", one.json())?;
            continue;
        }
        let Suggestion { host, ground, confidence, reason, evidence, .. } = one;
        let drift = one.drift_text();
        writeln!(out, "{host}  add {drift}  confidence {}: {}", confidence.name(), ground.words())?;
        writeln!(out, "  {reason}")?;
        for Pair { shared, here, there, .. } in evidence {
            writeln!(out, "  {}", visible(shared, false))?;
            for (source, line, time) in [here, there] {
                writeln!(out, "    {}  {}:{line}", to_rfc3339(*time), visible(source, false))?;
            }
        }
    }
    if suggestions.is_empty() && form == ListForm::Text {
        writeln!(out, "no clock seems to be wrong, as far as the hosts share messages or identifiers")?;
    }
    out.flush()
}

/// Prints what was tried on each source, and why one format won.
pub fn explain(case: &Case) -> io::Result<()> {
    let mut out = shown();
    for source in case.sources.iter() {
        writeln!(out, "{}", visible(&source.name, false))?;
        let marked = if source.mark_bytes > 0 { ", as its byte-order mark says" } else { "" };
        writeln!(out, "  encoding {}{marked}", source.encoding_name())?;
        writeln!(out, "  zone {} ({})", source.zone.name(), source.zone_from.name())?;
        let Some(contest) = &source.contest else {
            writeln!(out, "  format {}: by its first bytes", source.reader.name())?;
            continue;
        };
        if source.reader.name() == contest.winner.format.name() {
            writeln!(out, "  format {}: {}", source.reader.name(), contest.reason())?;
        } else {
            writeln!(out, "  format {}: chosen by hand", source.reader.name())?;
        }
        if let Reader::Lines(detected) = source.reader
            && let Some(columns) = detected.format.columns()
        {
            writeln!(out, "  columns {}", visible(&columns, false))?;
        }
        writeln!(out, "  score {:.2}, from {} lines of head, middle and end", contest.score(), contest.lines)?;
        for contender in &contest.contenders {
            writeln!(
                out,
                "    {:<18} {:>5} of {} lines start a record",
                contender.name, contender.heads, contest.lines
            )?;
        }
        for trouble in &source.trouble {
            writeln!(out, "  trouble: {}", visible(&trouble.text, false))?;
        }
    }
    out.flush()
}

/// Prints the codes of a case.
pub fn codes(view: &CaseView, first: bool, form: ListForm) -> boxclock_core::Result<()> {
    let counted = view.run(&CodeAnalysis::default(), &Work::default())?;
    print_codes(&view.case, counted.to_vec(), first, form).map_err(|error| Error::caused("cannot print", error))
}

fn print_codes(case: &Case, mut codes: Vec<CodeCount>, first: bool, form: ListForm) -> io::Result<()> {
    let mut out = of_form(form);
    if first {
        report::codes::sort(&mut codes, Order::FirstSeen, &case.catalogues);
    }
    for code in codes {
        if form == ListForm::Jsonl {
            writeln!(out, "{}", code.json(&case.catalogues))?;
            continue;
        }
        let reading = code.code.info(&case.catalogues);
        let time = |time: i64| date_time(time, &case.zone);
        let (first, last) = code.span.map_or(("-".into(), "-".into()), |(first, last)| (time(first), time(last)));
        let hosts: Vec<&str> = code.hosts.iter().map(|(host, _)| host.as_str()).collect();
        let words = if reading.gloss.is_empty() { &reading.meaning } else { &reading.gloss };
        writeln!(
            out,
            "{:>8} × {:<12} {:<32} {:<14}  first {first}  last {last}  {}  {words}",
            code.count,
            code.code.written(&case.catalogues),
            reading.name.filter(|name| *name != code.code.written(&case.catalogues)).unwrap_or("-"),
            reading.outcome.words(),
            hosts.join(",")
        )?;
    }
    out.flush()
}
