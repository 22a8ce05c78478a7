//! The analyses, headless: crashes, installations, trails, comparisons, causes, findings, patterns.

use std::collections::HashMap;
use std::io::{self, Write};
use std::sync::Arc;

use boxclock_core::analysis::CaseView;
use boxclock_core::cause::CauseAnalysis;
use boxclock_core::clock::human::date_time;
use boxclock_core::compare::Difference;
use boxclock_core::crash::{CrashAnalysis, CrashReport};
use boxclock_core::event::RecordReader;
use boxclock_core::facts;
use boxclock_core::install::{InstallAnalysis, Installers, Run};
use boxclock_core::many;
use boxclock_core::pattern::{
    self, KindAnalysis, PatternAnalysis, PatternId, RhythmAnalysis, UsualAnalysis, UsualPlace,
};
use boxclock_core::summaries::SummaryAnalysis;
use boxclock_core::trail;
use boxclock_core::visible;
use boxclock_core::visible::safe_json;
use boxclock_core::work::Work;

use crate::args::{self, ListForm};
use crate::outcome::{Failure, of_form};

/// Writes one object on a line of its own.
fn object(out: &mut dyn Write, value: &serde_json::Value) -> io::Result<()> {
    write!(out, "{}", safe_json(value.to_string()))?;
    writeln!(out)
}

/// Prints the crashes of a case.
pub fn crashes(view: &CaseView, form: ListForm, work: &Work) -> Result<(), Failure> {
    let found = view.run(&CrashAnalysis, work)?;
    let mut out = of_form(form);
    for report in found.iter() {
        if form == ListForm::Jsonl {
            object(&mut out, &report.json())?;
        } else {
            page(&mut out, view, report)?;
        }
    }
    if found.is_empty() && form == ListForm::Text {
        writeln!(out, "no crash: no dump, no report and no line that tells of one")?;
    }
    Ok(out.flush()?)
}

/// One crash for people.
fn page(out: &mut dyn Write, view: &CaseView, report: &CrashReport) -> io::Result<()> {
    const FRAMES: usize = 16;
    let crash = &report.crash;
    let time = report.time.map_or("-".to_owned(), |time| date_time(time, &view.case.zone)[..19].to_owned());
    writeln!(
        out,
        "{time}  {}  {}  {}:{}",
        report.host.as_deref().unwrap_or("-"),
        crash.process.as_deref().unwrap_or("-"),
        visible(&report.place.source, false),
        report.place.line
    )?;
    writeln!(out, "  {}", visible(&report.summary, false))?;
    for (value, means) in crash.what.parameters.iter().filter(|(_, means)| !means.is_empty()) {
        writeln!(out, "    0x{value:x}  {means}")?;
    }
    for (place, frame) in report.frames.iter().take(FRAMES).enumerate() {
        let sure = if frame.sure.name() == "certain" { "" } else { frame.sure.name() };
        writeln!(out, "    {place:>2}  {}  {sure}", visible(&frame.text(), false))?;
    }
    if report.frames.len() > FRAMES {
        writeln!(out, "        and {} more", report.frames.len() - FRAMES)?;
    }
    for suspect in &report.verdict.suspects {
        writeln!(
            out,
            "  suspect {:.2}  {}: {}",
            suspect.score,
            visible(&suspect.module, false),
            visible(&suspect.why.join("; "), false)
        )?;
    }
    for witness in &report.verdict.witnesses {
        writeln!(out, "  witness       {}: {}", visible(&witness.module, false), witness.why)?;
    }
    if let Some(missing) = report.missing_words() {
        writeln!(out, "  {}", visible(&missing, false))?;
    }
    for (text, place) in &report.around.no_dump {
        let place = place.as_ref().map_or(String::new(), |place| format!("  {}:{}", place.source, place.line));
        writeln!(out, "  no dump: {}{}", visible(text, false), visible(&place, false))?;
    }
    for told in &report.around.history {
        writeln!(out, "  history: {}", visible(told, false))?;
    }
    for (word, lines) in [("changed before", &report.around.changes), ("before it", &report.around.before)] {
        for line in lines {
            let time = line.time.map_or("-".to_owned(), |time| date_time(time, &view.case.zone)[..19].to_owned());
            let place = format!("{}:{}", line.place.source, line.place.line);
            writeln!(out, "  {word}: {time}  {}  {}", visible(&place, false), visible(&line.text, false))?;
        }
    }
    for damage in &crash.trouble {
        writeln!(out, "  damage: {}", visible(damage, false))?;
    }
    for (what, proves) in &report.remedies {
        writeln!(out, "  do: {what}\n      {proves}")?;
    }
    writeln!(out)
}

/// Prints the installations of a case.
pub fn installs(view: &CaseView, form: ListForm, work: &Work) -> Result<(), Failure> {
    let found = view.run(&InstallAnalysis, work)?;
    for mistake in Installers::of_case(&view.case).mistakes() {
        crate::outcome::say(mistake);
    }
    let mut out = of_form(form);
    for (index, run) in found.iter().enumerate() {
        if form == ListForm::Jsonl {
            object(&mut out, &run.json(index + 1))?;
        } else {
            run_page(&mut out, view, run)?;
        }
    }
    if found.is_empty() && form == ListForm::Text {
        writeln!(out, "no installation: no log of an installer or package manager with a run in it")?;
    }
    Ok(out.flush()?)
}

/// One run for people.
fn run_page(out: &mut dyn Write, view: &CaseView, run: &Run) -> io::Result<()> {
    const PHASES: usize = 20;
    let time =
        |time: Option<i64>| time.map_or("-".to_owned(), |time| date_time(time, &view.case.zone)[..19].to_owned());
    writeln!(
        out,
        "{}  {}  {}  {}:{}-{}",
        time(run.start),
        run.host.as_deref().unwrap_or("-"),
        run.outcome.name(),
        visible(&run.source, false),
        run.line,
        run.last_line
    )?;
    writeln!(out, "  {}", visible(&run.summary, false))?;
    for phase in run.phases.iter().take(PHASES) {
        let indent = "  ".repeat(phase.depth.min(10));
        writeln!(
            out,
            "    {} {indent}{}  {}",
            time(phase.start),
            visible(&phase.name, false),
            phase.outcome.unwrap_or("open")
        )?;
    }
    if run.phases.len() > PHASES {
        writeln!(out, "    and {} more phases", run.phases.len() - PHASES)?;
    }
    for (place, why) in run.not_failures.iter().take(8) {
        writeln!(out, "  no failure: {}:{}: {why}", visible(&place.source, false), place.line)?;
    }
    for refusal in &run.trust {
        writeln!(out, "  not trusted: {}", visible(&refusal.sentence(), false))?;
    }
    for (path, source, line) in &run.child_logs {
        writeln!(
            out,
            "  other log (line {line}): {} {}",
            visible(path, false),
            source.as_deref().unwrap_or("(not in the case)")
        )?;
    }
    for item in run.items.iter().filter(|item| item.before != item.after).take(20) {
        let state = |state: &Option<String>| state.clone().unwrap_or_else(|| "-".into());
        writeln!(
            out,
            "  {} {}: {} → {} (asked: {})",
            item.kind,
            visible(&item.name, false),
            state(&item.before),
            state(&item.after),
            state(&item.asked)
        )?;
    }
    if !run.remaining.is_empty() {
        writeln!(out, "  still to do: {}", visible(&run.remaining.join(", "), false))?;
    }
    writeln!(out)
}

/// Prints the way of one thing.
pub fn trail(view: &CaseView, identifier: &str, form: ListForm, work: &Work) -> Result<(), Failure> {
    let trail = trail::follow(view, identifier, work)?;
    let mut out = of_form(form);
    if form == ListForm::Jsonl {
        for line in trail.json() {
            object(&mut out, &line)?;
        }
        return Ok(out.flush()?);
    }
    for hop in &trail.hops {
        let time =
            |time: Option<i64>| time.map_or("-".to_owned(), |time| date_time(time, &view.case.zone)[..23].to_owned());
        let code = hop.code.map_or(String::new(), |code| format!(" ({code})"));
        writeln!(
            out,
            "{}  {:<12} {:<16} {:<24} {:>11}  {}{code}  {}:{}-{}",
            time(hop.first.0),
            hop.host,
            visible(&hop.component, false),
            visible(&hop.identifier, false),
            many(hop.events as u64, "event"),
            hop.outcome.name(),
            visible(&hop.source, false),
            hop.first.1,
            hop.last.1
        )?;
    }
    for alias in &trail.aliases {
        writeln!(
            out,
            "  also {}: {} ({}:{})",
            visible(&alias.identifier, false),
            visible(&alias.why, false),
            visible(&alias.source, false),
            alias.line
        )?;
    }
    writeln!(out, "{}", visible(&trail.summary, false))?;
    Ok(out.flush()?)
}

/// Prints differences, the most telling first.
pub fn differences(found: &[Difference], most: usize, form: ListForm) -> io::Result<()> {
    let mut out = of_form(form);
    for (index, one) in found.iter().take(most).enumerate() {
        if form == ListForm::Jsonl {
            object(&mut out, &one.json(index + 1))?;
            continue;
        }
        let place = |place: &Option<boxclock_core::compare::Place>| {
            place.as_ref().map_or("-".to_owned(), |place| format!("{}:{}", visible(&place.source, false), place.line))
        };
        writeln!(out, "{:>3}  {:<9} {:.2}  {}", index + 1, one.kind.name(), one.score, visible(&one.what, false))?;
        writeln!(out, "       {}   bad {}   good {}", one.why, place(&one.bad), place(&one.good))?;
    }
    if found.is_empty() && form == ListForm::Text {
        writeln!(out, "no difference that matters")?;
    }
    out.flush()
}

/// Prints the suggested causes, the likeliest first.
pub fn cause(view: &CaseView, form: ListForm, work: &Work) -> Result<(), Failure> {
    let found = view.run(&CauseAnalysis, work)?;
    let mut out = of_form(form);
    for (index, one) in found.iter().enumerate() {
        if form == ListForm::Jsonl {
            object(&mut out, &one.json())?;
            continue;
        }
        let score = if one.provable { format!("{:.2}", one.score) } else { "not provable".to_owned() };
        writeln!(out, "{}. {score}  {}", index + 1, visible(&one.summary, false))?;
        for link in &one.chain {
            let time = view.loaded.table.event(link.place.row).time();
            let time = time.map_or("-".to_owned(), |time| date_time(time, &view.case.zone)[..19].to_owned());
            writeln!(
                out,
                "   {time}  {}:{}  {}",
                visible(&link.place.source, false),
                link.place.line,
                visible(&link.text, false)
            )?;
            if !link.why.is_empty() {
                writeln!(out, "            because {}", visible(&link.why, false))?;
            }
        }
        if let Some(card) = &one.card {
            writeln!(out, "   fault card: {card} (boxclock cards)")?;
        }
        for open in &one.questions {
            writeln!(out, "   to find out: {}", visible(&open.what, false))?;
        }
        for missing in &one.missing {
            writeln!(out, "   to gather: {}", visible(missing, false))?;
        }
        writeln!(out)?;
    }
    if found.is_empty() && form == ListForm::Text {
        writeln!(out, "no symptom: this case shows no new trouble")?;
    }
    Ok(out.flush()?)
}

/// Prints what is wrong, the worst first; gives whether something could not be read.
pub fn findings(view: &CaseView, form: ListForm, work: &Work) -> Result<bool, Failure> {
    let checks = facts::Checks::load();
    let (found, unread) = facts::checks::all_findings(view, &checks, work)?;
    let mut out = of_form(form);
    for one in &found {
        if form == ListForm::Jsonl {
            object(&mut out, &one.json())?;
            continue;
        }
        writeln!(out, "{:<9} {:<14} {}", one.level.word(), one.host, visible(&one.title, false))?;
        writeln!(out, "  {} ({}:{})", visible(&one.evidence, false), visible(&one.file, false), one.line)?;
        for (file, line) in one.more.iter().take(4) {
            writeln!(out, "  and {}:{line}", visible(file, false))?;
        }
        for step in one.advice.lines() {
            writeln!(out, "  {}", visible(step, false))?;
        }
    }
    for (file, why) in &unread {
        crate::outcome::say(&format!("{file}: {why}"));
    }
    if found.is_empty() && form == ListForm::Text {
        writeln!(out, "no finding")?;
    }
    out.flush()?;
    Ok(!unread.is_empty())
}

/// Prints what is asked for of the messages of a case: patterns, kinds, lists of what went wrong, or the values of one pattern.
pub fn of_messages(view: &CaseView, arguments: &args::Patterns, work: &Work) -> Result<(), Failure> {
    let (most, form) = (arguments.most, arguments.listing.form);
    match &arguments.values {
        Some(pattern) => values(view, pattern, most, form, work),
        None if arguments.summaries => summaries(view, most, form, work),
        None if arguments.kinds => kinds(view, most, form, work),
        None => patterns(view, most, form, work),
    }
}

/// Prints lists in the logs that say what went wrong, with the events that their items tell of.
fn summaries(view: &CaseView, most: Option<usize>, form: ListForm, work: &Work) -> Result<(), Failure> {
    let found = view.run(&SummaryAnalysis, work)?;
    let mut out = of_form(form);
    for list in found.iter().take(most.unwrap_or(usize::MAX)) {
        let value = list.json(view);
        if form == ListForm::Jsonl {
            object(&mut out, &value)?;
            continue;
        }
        let source = visible(value["source"].as_str().unwrap_or_default(), false);
        writeln!(out, "{source}:{}  {}", list.line, visible(&list.heading, false))?;
        for (item, json) in list.items.iter().zip(value["items"].as_array().into_iter().flatten()) {
            let origin = &json["origin"];
            let place = match (origin["source"].as_str(), origin["line"].as_u64()) {
                (Some(source), Some(line)) => format!("{}:{line}", visible(source, false)),
                _ => "not found in the logs".to_owned(),
            };
            writeln!(out, "  {:>6}  {}  <- {place}", item.line, visible(&item.text, false))?;
        }
    }
    if found.is_empty() && form == ListForm::Text {
        writeln!(out, "no list of what went wrong")?;
    }
    Ok(out.flush()?)
}

/// Prints the kinds of messages, the rarest first.
fn kinds(view: &CaseView, most: Option<usize>, form: ListForm, work: &Work) -> Result<(), Failure> {
    let found = view.run(&KindAnalysis, work)?;
    let patterns = view.run(&PatternAnalysis, work)?;
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut out = of_form(form);
    for kind in found.iter().rev().take(most.unwrap_or(usize::MAX)) {
        let event = view.loaded.table.event(kind.first);
        let place = reader.place(event);
        if form == ListForm::Jsonl {
            let time = |time: Option<i64>| time.map(boxclock_core::clock::to_rfc3339);
            let ids =
                kind.patterns.iter().filter_map(|at| patterns.list.get(*at)).map(|pattern| pattern.id.to_string());
            let value = serde_json::json!({
                "kind": kind.id().to_string(), "component": kind.component, "template": kind.template, "count": kind.count,
                "patterns": ids.collect::<Vec<_>>(), "first": time(kind.span.map(|(first, _)| first)),
                "last": time(kind.span.map(|(_, last)| last)),
                "source": view.case.sources[event.source()].name, "line": place.line,
            });
            object(&mut out, &value)?;
        } else {
            let (component, template) = (visible(&kind.component, false), visible(&kind.template, false));
            writeln!(out, "{:>9} × {}  {component:<24} {template}", kind.count, kind.id())?;
        }
    }
    Ok(out.flush()?)
}

/// Prints what the values of one pattern usually are, and the unusual ones.
fn values(view: &CaseView, pattern: &str, most: Option<usize>, form: ListForm, work: &Work) -> Result<(), Failure> {
    let pattern: PatternId = pattern.parse().map_err(|error| Failure::Usage(format!("--values: {error}")))?;
    let found = view.run(&UsualAnalysis { pattern }, work)?;
    if found.events == 0 {
        return Err(
            boxclock_core::Error::new(format!("{pattern}: no event has this pattern: see boxclock patterns")).into()
        );
    }
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut out = of_form(form);
    let unusual: Vec<_> = found
        .unusual
        .iter()
        .take(most.unwrap_or(usize::MAX))
        .map(|one| {
            let event = view.loaded.table.event(one.row);
            (one, view.case.sources[event.source()].name.clone(), reader.place(event).line, event.time())
        })
        .collect();
    if form == ListForm::Jsonl {
        let places = found.places.iter().map(|place| {
            let common: Vec<_> =
                place.common.iter().map(|(text, count)| serde_json::json!({"text": text, "count": count})).collect();
            let (low, middle, high) =
                place.range.map_or((None, None, None), |(low, middle, high)| (Some(low), Some(middle), Some(high)));
            serde_json::json!({
                "kind": place.kind.name(), "before": place.before, "different": place.different, "common": common,
                "low": low, "middle": middle, "high": high,
            })
        });
        let unusual = unusual.iter().map(|(one, source, line, time)| {
            serde_json::json!({
                "text": one.text, "why": one.why, "place": one.place, "source": source, "line": line,
                "time": time.map(boxclock_core::clock::to_rfc3339),
            })
        });
        let value = serde_json::json!({
            "pattern": pattern.to_string(), "events": found.events, "places": places.collect::<Vec<_>>(),
            "unusual": unusual.collect::<Vec<_>>(),
        });
        object(&mut out, &value)?;
    } else {
        writeln!(out, "{pattern}: {} looked at", many(u64::from(found.events), "event"))?;
        for told in found.places.iter().filter_map(UsualPlace::sentence) {
            writeln!(out, "  usually {}", visible(&told, false))?;
        }
        for (one, source, line, _) in unusual {
            writeln!(out, "  unusual {}, {}  {}:{line}", visible(&one.text, false), one.why, visible(&source, false))?;
        }
    }
    Ok(out.flush()?)
}

/// Prints the patterns of messages, the rarest first.
fn patterns(view: &CaseView, most: Option<usize>, form: ListForm, work: &Work) -> Result<(), Failure> {
    let found = view.run(&PatternAnalysis, work)?;
    let all_kinds = if form == ListForm::Jsonl { view.run(&KindAnalysis, work)? } else { Arc::default() };
    let mut kind_of = HashMap::new();
    for kind in all_kinds.iter() {
        kind_of
            .extend(kind.patterns.iter().filter_map(|at| found.list.get(*at)).map(|pattern| (pattern.id, kind.id())));
    }
    let rhythms = view.run(&RhythmAnalysis, work)?;
    let mut list: Vec<_> = found.list.iter().zip(rhythms.iter()).collect();
    list.sort_by_key(|(pattern, _)| (pattern.count, pattern.span.map(|(first, _)| first), pattern.id));
    let table = &view.loaded.table;
    let hosts = found.hosts_of(table);
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut out = of_form(form);
    for (pattern, rhythm) in list.into_iter().take(most.unwrap_or(usize::MAX)) {
        let event = table.event(pattern.first);
        let place = reader.place(event);
        let example: String = reader.record(event).body.lines().next().unwrap_or_default().chars().take(400).collect();
        let time = |time: Option<i64>| time.map(boxclock_core::clock::to_rfc3339);
        let of_hosts = hosts.get(&pattern.id).cloned().unwrap_or_default();
        if form == ListForm::Jsonl {
            let values: Vec<_> = pattern::values(&example)
                .into_iter()
                .map(|value| serde_json::json!({"kind": value.kind.name(), "text": &example[value.at]}))
                .collect();
            let burst = rhythm.burst.map(|(row, count)| {
                let event = table.event(row);
                let place = reader.place(event);
                serde_json::json!({"source": view.case.sources[event.source()].name, "line": place.line, "count": count})
            });
            let follows = rhythm.followed_by.and_then(|at| found.list.get(at as usize)).map(|next| next.id.to_string());
            let value = serde_json::json!({
                "values": values, "period_s": rhythm.period_ns.map(|ns| ns as f64 / 1e9),
                "missing_since": time(rhythm.missing_since), "burst": burst, "followed_by": follows,
                "pattern": pattern.id.to_string(), "kind": kind_of.get(&pattern.id).map(ToString::to_string), "template": boxclock_core::pattern::template(&example), "count": pattern.count,
                "first": time(pattern.span.map(|(first, _)| first)), "last": time(pattern.span.map(|(_, last)| last)), "example": example,
                "source": view.case.sources[event.source()].name, "line": place.line, "hosts": of_hosts,
            });
            object(&mut out, &value)?;
        } else {
            writeln!(
                out,
                "{:>9} × {}  {:<24} {}",
                pattern.count,
                pattern.id,
                of_hosts.join(","),
                visible(&example, false)
            )?;
        }
    }
    Ok(out.flush()?)
}
