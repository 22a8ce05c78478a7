//! What the package manager of Debian says in its three logs, brought together: the history says what was asked for and how it ended,
//! the terminal's log why, dpkg's own log what state each package came to.
//!
//! Source: lines that apt and dpkg wrote, apt.conf(5), dpkg(1) (states of packages).

use std::collections::HashMap;

use super::{FirstFailure, Item, Lined, Outcome, Place, ResultCode, Run};
use crate::case::Source;
use crate::clock::{MINUTE, SECOND};
use crate::code::{Family, catalogue};
use crate::format::InstallerLog;

fn new_run(source: &Source, line: &Lined, log: InstallerLog) -> Run {
    Run {
        host: source.host.clone(),
        source: source.name.clone(),
        line: line.line,
        last_line: line.line,
        row: Some(line.row),
        kind: "unknown",
        start: line.time,
        package_log: Some(log),
        ..Run::default()
    }
}

/// `name:amd64 (1.0, 2.0)` or `name:amd64 (1.0, automatic)`.
fn packages(text: &str) -> Vec<(String, Vec<String>)> {
    let mut found = Vec::new();
    for piece in text.split("), ") {
        let Some((name, versions)) = piece.split_once(" (") else { continue };
        let name = name.trim().split(':').next().unwrap_or_default().to_owned();
        let versions = versions
            .trim_end_matches(')')
            .split(", ")
            .filter(|version| *version != "automatic")
            .map(str::to_owned)
            .collect();
        found.push((name, versions));
    }
    found
}

/// The runs in the history.
pub(super) fn history(source: &Source, lines: &[Lined]) -> Vec<Run> {
    let mut runs: Vec<Run> = Vec::new();
    let mut start_text = None;
    for line in lines {
        let Some((label, value)) = line.text.split_once(": ") else { continue };
        let value = value.trim();
        if label == "Start-Date" {
            start_text = Some(line.text.as_str());
            let mut run = new_run(source, line, InstallerLog::AptHistory);
            run.outcome = Outcome::CutOff;
            runs.push(run);
            continue;
        }
        let Some(run) = runs.last_mut() else { continue };
        run.last_line = line.line;
        let kind = match label {
            "Install" => Some("install"),
            "Upgrade" | "Downgrade" => Some("upgrade"),
            "Remove" | "Purge" => Some("remove"),
            "Reinstall" => Some("repair"),
            _ => None,
        };
        if let Some(kind) = kind {
            // What was asked for decides: installing may take others along.
            let rank = |kind: &str| {
                ["unknown", "remove", "install", "repair", "upgrade"].iter().position(|known| *known == kind)
            };
            if rank(kind) > rank(run.kind) {
                run.kind = kind;
            }
            for (name, versions) in packages(value) {
                let (before, asked) = match (kind, versions.as_slice()) {
                    ("upgrade", [before, asked, ..]) => (Some(before.clone()), Some(asked.clone())),
                    ("remove", [before, ..]) => (Some(before.clone()), None),
                    (_, [asked, ..]) => (None, Some(asked.clone())),
                    _ => (None, None),
                };
                run.items.push(Item { kind: "package", name, before, asked, line: line.line, ..Item::default() });
            }
            if run.product.is_none() {
                run.product = run.items.first().map(|item| item.name.clone());
                run.version = run.items.first().and_then(|item| item.asked.clone()).filter(|_| run.items.len() == 1);
            }
        } else if label == "Error" {
            run.outcome = Outcome::Failed;
            let number = value.rsplit_once('(').and_then(|(_, rest)| rest.trim_end_matches(')').parse().ok());
            run.code = number.map(|number| ResultCode { number, name: None });
            run.consequences.push(Place { source: source.name.clone(), line: line.line });
        } else if label == "End-Date" {
            run.end = time_behind(line, run.start, start_text);
            if run.outcome == Outcome::CutOff {
                run.outcome = Outcome::Succeeded;
            }
        } else if label == "Commandline" {
            run.remaining.clear();
            name_by_command(run, value);
        }
    }
    runs
}

/// `apt-get install tankwarden-tools`: the packages that a person named.
fn name_by_command(run: &mut Run, command: &str) {
    let mut words = command
        .split_whitespace()
        .skip_while(|word| !matches!(*word, "install" | "remove" | "purge" | "reinstall" | "--install" | "-i"));
    words.next();
    let named = words.find(|word| !word.starts_with('-'));
    if let Some(name) = named {
        // A file of a package has its name up to the first underscore.
        let bare = name.rsplit('/').next().unwrap_or(name);
        let bare = if name.contains('/') { bare.split('_').next().unwrap_or(bare) } else { bare };
        let bare = bare.split(['=', ':']).next().unwrap_or(bare);
        run.product = Some(bare.trim_end_matches(".deb").trim_end_matches(".rpm").to_owned());
    }
}

/// The end's time: as far behind the beginning as its local time is behind the beginning's.
fn time_behind(line: &Lined, start: Option<i64>, start_text: Option<&str>) -> Option<i64> {
    let local = |text: &str| -> Option<i64> {
        let mut words = text.split_whitespace().skip(1);
        let (date, time): (jiff::civil::Date, jiff::civil::Time) =
            (words.next()?.parse().ok()?, words.next()?.parse().ok()?);
        let moment = date.to_datetime(time).to_zoned(jiff::tz::TimeZone::UTC).ok()?;
        Some(moment.timestamp().as_second())
    };
    let lasted = local(&line.text)?.checked_sub(local(start_text?)?)?;
    start?.checked_add(lasted.checked_mul(SECOND)?)
}

/// The runs in the terminal's log.
pub(super) fn terminal(source: &Source, lines: &[Lined]) -> Vec<Run> {
    let mut runs: Vec<Run> = Vec::new();
    let mut in_failures = false;
    for (at, line) in lines.iter().enumerate() {
        let text = line.text.rsplit('\r').next().unwrap_or(&line.text);
        if text.starts_with("Log started:") {
            let mut run = new_run(source, line, InstallerLog::AptTerminal);
            run.outcome = Outcome::CutOff;
            runs.push(run);
            in_failures = false;
            continue;
        }
        let Some(run) = runs.last_mut() else { continue };
        if !text.trim().is_empty() {
            run.last_line = line.line;
        }
        if text.starts_with("Log ended:") {
            run.end = line.time;
            if run.outcome == Outcome::CutOff {
                run.outcome = if run.first_failure.is_some() { Outcome::Failed } else { Outcome::Succeeded };
            }
        } else if text.starts_with("Errors were encountered") {
            in_failures = true;
            run.outcome = Outcome::Failed;
        } else if in_failures && text.starts_with(' ') {
            run.remaining.push(package_of(text.trim()));
        } else if let Some(rest) = text.strip_prefix("dpkg: error processing ") {
            let name = package_of(rest.split_whitespace().nth(1).unwrap_or_default());
            let why = lines
                .get(at + 1)
                .filter(|next| next.text.starts_with(' '))
                .map(|next| next.text.trim().to_owned())
                .unwrap_or_default();
            let is_dependency = why.contains("dependency problems");
            let place = Place { source: source.name.clone(), line: line.line };
            if run.first_failure.is_none() && !is_dependency {
                let code = errno_in(&why).or_else(|| exit_status(&why));
                let text = if why.is_empty() { text.to_owned() } else { why };
                run.first_failure = Some(FirstFailure { place, step: Some(name), code, text });
            } else {
                run.consequences.push(place);
            }
        } else if text.contains("problem unpacking")
            || text.starts_with("E: ")
            || text.starts_with("dpkg: error: ")
            || text.starts_with("dpkg: unrecoverable")
        {
            let place = Place { source: source.name.clone(), line: line.line };
            if run.first_failure.is_none() {
                run.first_failure =
                    Some(FirstFailure { place, step: None, code: errno_in(text), text: text.to_owned() });
            } else {
                run.consequences.push(place);
            }
        } else if let Some(rest) = text.strip_prefix("Unpacking ") {
            let name =
                rest.split_whitespace().next().unwrap_or_default().split(':').next().unwrap_or_default().to_owned();
            run.items.push(Item {
                kind: "package",
                name,
                after: Some("unpacked".into()),
                line: line.line,
                ..Item::default()
            });
        } else if let Some(rest) = text.strip_prefix("Setting up ") {
            let name = rest.split_whitespace().next().unwrap_or_default().split(':').next().unwrap_or_default();
            if let Some(item) = run.items.iter_mut().find(|item| item.name == name) {
                item.after = Some("installed".into());
            }
        } else if text.contains("reboot") && text.contains("required") {
            run.restart_needed = true;
        }
    }
    for run in &mut runs {
        if let Some(failed) = run.first_failure.as_ref().and_then(|first| first.step.clone())
            && let Some(item) = run.items.iter_mut().find(|item| item.name == failed)
        {
            item.after = Some("failed".into());
        }
    }
    runs
}

/// `/var/cache/apt/archives/name_1.0_amd64.deb` or `name`.
fn package_of(text: &str) -> String {
    let name = text.rsplit('/').next().unwrap_or(text);
    name.split(['_', ':', ' ']).next().unwrap_or(name).trim().to_owned()
}

/// The number of an error that a text names in the words of the C library.
fn errno_in(text: &str) -> Option<ResultCode> {
    const WORDS: [(&str, u32); 14] = [
        ("No space left on device", 28),
        ("Permission denied", 13),
        ("Read-only file system", 30),
        ("No such file or directory", 2),
        ("Input/output error", 5),
        ("Operation not permitted", 1),
        ("File exists", 17),
        ("Text file busy", 26),
        ("Disk quota exceeded", 122),
        ("Too many open files", 24),
        ("Cannot allocate memory", 12),
        ("Device or resource busy", 16),
        ("Is a directory", 21),
        ("Not a directory", 20),
    ];
    let (_, number) = WORDS.iter().find(|(words, _)| text.contains(words))?;
    let name =
        catalogue::entry(crate::code::Code { family: Family::Errno, number: *number }).map(|row| row.name.to_owned());
    Some(ResultCode { number: i64::from(*number), name })
}

/// `… returned error exit status 7`.
fn exit_status(text: &str) -> Option<ResultCode> {
    let number = text
        .rsplit_once("exit status ")?
        .1
        .trim()
        .split(|letter: char| !letter.is_ascii_digit())
        .next()?
        .parse()
        .ok()?;
    Some(ResultCode { number, name: None })
}

/// The runs in dpkg's own log: a beginning, or a pause of minutes, begins one.
pub(super) fn dpkg(source: &Source, lines: &[Lined]) -> Vec<Run> {
    const PAUSE_NS: i64 = 2 * MINUTE;
    let mut runs: Vec<Run> = Vec::new();
    let mut last: Option<i64> = None;
    // Where each package stands among the items of the run.
    let mut places: HashMap<String, usize> = HashMap::new();
    for line in lines {
        let words: Vec<&str> = line.text.split_whitespace().collect();
        let paused = line.time.zip(last).is_none_or(|(now, last)| now.saturating_sub(last) > PAUSE_NS);
        if paused || runs.is_empty() {
            places.clear();
            let mut run = new_run(source, line, InstallerLog::Dpkg);
            run.outcome = Outcome::Succeeded;
            runs.push(run);
        }
        last = line.time.or(last);
        let Some(run) = runs.last_mut() else { continue };
        run.last_line = line.line;
        run.end = line.time.or(run.end);
        let name = |text: &str| text.split(':').next().unwrap_or(text).to_owned();
        let version = |text: &str| (text != "<none>").then(|| text.to_owned());
        match words.as_slice() {
            [what @ ("install" | "upgrade" | "remove" | "purge"), package, before, after, ..] => {
                let kind = match *what {
                    "purge" | "remove" => "remove",
                    other => {
                        if other == "upgrade" {
                            "upgrade"
                        } else {
                            "install"
                        }
                    }
                };
                if run.kind == "unknown" || kind == "upgrade" {
                    run.kind = kind;
                }
                run.product.get_or_insert(name(package));
                places.entry(name(package)).or_insert(run.items.len());
                run.items.push(Item {
                    kind: "package",
                    name: name(package),
                    before: version(before),
                    asked: version(after),
                    line: line.line,
                    ..Item::default()
                });
            }
            ["status", state, package, ..] => {
                let package = name(package);
                let at = *places.entry(package.clone()).or_insert(run.items.len());
                if at == run.items.len() {
                    run.items.push(Item { kind: "package", name: package, line: line.line, ..Item::default() });
                }
                if let Some(item) = run.items.get_mut(at) {
                    item.after = Some((*state).to_owned());
                }
            }
            _ => {}
        }
    }
    for run in &mut runs {
        let half = |item: &&Item| {
            item.after.as_deref().is_some_and(|state| {
                matches!(state, "half-installed" | "half-configured" | "unpacked" | "triggers-awaited")
            })
        };
        let halves: Vec<Item> = run.items.iter().filter(half).cloned().collect();
        if let Some(first) = halves.first() {
            run.outcome =
                if halves.iter().any(|item| item.after.as_deref().is_some_and(|state| state.starts_with("half-"))) {
                    Outcome::CutOff
                } else {
                    Outcome::Failed
                };
            run.last_open = Some((first.name.clone(), first.line));
            run.remaining = halves.iter().map(|item| item.name.clone()).collect();
        }
        if run.version.is_none() && run.items.len() == 1 {
            run.version = run.items[0].asked.clone();
        }
    }
    runs
}

/// Brings the runs of the three logs that are of the same time together: the history's stands for them.
pub(super) fn joined(runs: Vec<Run>) -> Vec<Run> {
    let kind = |run: &Run| run.package_log;
    let (mut packages, mut others): (Vec<Run>, Vec<Run>) = runs.into_iter().partition(|run| run.package_log.is_some());
    packages.sort_by_key(|run| (kind(run), run.start));
    let mut kept: Vec<Run> = Vec::new();
    for run in packages {
        let overlaps = |known: &&mut Run| {
            let (start, end) = (known.start.unwrap_or(i64::MIN), known.end.or(known.start).unwrap_or(i64::MAX));
            known.host == run.host
                && known.source != run.source
                && run
                    .start
                    .is_some_and(|at| at >= start.saturating_sub(5 * SECOND) && at <= end.saturating_add(5 * MINUTE))
        };
        let Some(known) = kept.iter_mut().rev().find(overlaps) else {
            kept.push(run);
            continue;
        };
        let of_dpkg = kind(&run) == Some(InstallerLog::Dpkg);
        if let Some(first) = run.first_failure {
            let old = std::mem::replace(&mut known.consequences, run.consequences);
            known.consequences.extend(old);
            known.first_failure = Some(first);
            known.remaining = run.remaining;
        }
        if run.end > known.end && !of_dpkg {
            known.end = run.end;
        }
        if known.outcome == Outcome::CutOff {
            known.last_open = known.last_open.take().or(run.last_open);
        }
        known.restart_needed |= run.restart_needed;
        known.trust.extend(run.trust);
        for item in run.items {
            if let Some(of_history) = known.items.iter_mut().find(|other| other.name == item.name) {
                // dpkg knows the state; the terminal's line shows where it was unpacked.
                if item.after.is_some() {
                    of_history.after =
                        if of_dpkg || of_history.after.is_none() { item.after } else { of_history.after.take() };
                }
                of_history.line = item.line;
            }
        }
    }
    others.extend(kept);
    others
}
