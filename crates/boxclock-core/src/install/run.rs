//! Runs in the log of one installer: where each begins and ends, what it is, and how it ended.
//!
//! The loudest line is not the cause. What counts: a bad line after which the run did not go on as before. Bad words in lines that
//! say themselves that they are harmless, failures that a retry cured, failures that steps followed which ended well, and
//! everything during the rollback are told apart.

use std::borrow::Cow;
use std::cell::RefCell;

use super::failure::failures;
use super::things::things;
use super::{Installer, Installers, Lined, Outcome, Phase, Place, ResultCode, Role, Run, Words, result_code};
use crate::case::Source;
use crate::clock::MINUTE;
use crate::code::Platform;
use crate::pattern::PatternId;

/// A pause after which a new beginning is another run, whatever came before.
const NEW_RUN_AFTER_NS: i64 = 30 * MINUTE;

/// A line with what it says.
pub(super) struct Marked<'a> {
    pub(super) line: &'a Lined,
    pub(super) roles: Vec<(Role, usize)>,
    words: Words<'a>,
    /// What the phrases saw.
    said: Cow<'a, str>,
    /// Whether its installer is a known one.
    is_known: bool,
    /// Whether the next line says that it does not count.
    pub(super) is_excused: bool,
    /// The named parts of each role that was asked for: they are asked for again and again.
    parts: RefCell<Vec<(Role, Parts)>>,
}

/// Named parts of a line.
type Parts = Vec<(String, String)>;

impl Marked<'_> {
    pub(super) fn has(&self, role: Role) -> bool {
        self.roles.iter().any(|(known, _)| *known == role)
    }

    /// A named part, without what stands around it.
    pub(super) fn part(&self, role: Role, name: &str) -> Option<String> {
        if !self.has(role) {
            return None;
        }
        let mut known = self.parts.borrow_mut();
        let at = known.iter().position(|(of, _)| *of == role).unwrap_or_else(|| {
            known.push((role, self.parts_of(role)));
            known.len() - 1
        });
        known[at].1.iter().find(|(of, _)| of == name).map(|(_, text)| text.clone())
    }

    fn parts_of(&self, role: Role) -> Parts {
        let phrase = self.roles.iter().find(|(known, _)| *known == role).map(|(_, phrase)| *phrase);
        let Some(regex) = phrase.and_then(|phrase| self.words.regex(phrase)) else { return Parts::new() };
        let Some(captures) = regex.captures(&self.said) else { return Parts::new() };
        let named = regex.capture_names().flatten().filter_map(|name| Some((name, captures.name(name)?.as_str())));
        named
            .map(|(name, text)| (name.to_owned(), text.trim().trim_matches(['"', '\'', '.', ':']).trim().to_owned()))
            .filter(|(_, text)| !text.is_empty())
            .collect()
    }

    /// The number it says was returned.
    pub(super) fn code(&self, platform: Platform) -> Option<ResultCode> {
        // What an action returned is in a list of its own.
        let text = self.part(Role::Result, "code").filter(|_| !self.has(Role::PhaseEnd))?;
        let number = match text.trim_start_matches('-').strip_prefix("0x") {
            Some(hex) => i64::from_str_radix(hex, 16).ok()?,
            None => text.parse().ok()?,
        };
        Some(result_code(number, platform))
    }

    fn says_zero(&self) -> bool {
        self.code(Platform::Windows).is_some_and(|code| code.number == 0)
    }

    /// Whether it says that something went wrong, by level or by words.
    pub(super) fn is_bad(&self) -> bool {
        let value = self.part(Role::PhaseEnd, "value");
        if let Some(value) = value {
            return value == "3";
        }
        let how = self.part(Role::PhaseEnd, "how").map(|how| how.to_ascii_lowercase());
        if how.is_some_and(|how| matches!(how.as_str(), "failed" | "aborted")) {
            return true;
        }
        // The level speaks where there is one; words count in lines without.
        let severity = match self.line.severity {
            // The level of a record is not about what is attached to it.
            1..=12 if self.is_known && !self.line.is_first => 0,
            severity => severity,
        };
        match severity {
            17.. => true,
            1..=12 => self.has(Role::Failed),
            // "Success or error status: 0" is good news.
            _ => self.has(Role::Failed) || self.has(Role::Error) && !self.says_zero(),
        }
    }
}

/// The runs of a source. `end` is when the last event of the case was; `is_one` whether it is a run even where no line says that one
/// begins.
pub(super) fn runs(
    source: &Source,
    lines: &[Lined],
    end: Option<i64>,
    is_one: bool,
    installers: &Installers,
    installer: Option<&Installer>,
) -> Vec<Run> {
    let words = installers.words(installer);
    let mut marked: Vec<Marked<'_>> = Vec::with_capacity(lines.len());
    for line in lines {
        // Lines that name a component are known installers' by it; the words of all look at the text alone.
        let by_a_worker = line.component.as_deref().is_some_and(is_worker);
        let said = if installer.is_some() || by_a_worker { line.said() } else { Cow::Borrowed(line.text.as_str()) };
        let roles = words.roles(&said);
        marked.push(Marked {
            roles,
            line,
            words,
            said,
            is_known: installer.is_some(),
            is_excused: false,
            parts: RefCell::default(),
        });
    }
    for at in 1..marked.len() {
        marked[at - 1].is_excused = marked[at].has(Role::Excused);
    }
    let mut starts: Vec<usize> = Vec::new();
    let mut ended = true;
    let mut kind_of_start: Option<PatternId> = None;
    let mut last_time: Option<i64> = None;
    for (at, one) in marked.iter().enumerate() {
        let paused =
            one.line.time.zip(last_time).is_some_and(|(now, last)| now.saturating_sub(last) > NEW_RUN_AFTER_NS);
        let may_start = one.has(Role::Start) && !is_about_a_part(one);
        let shape = may_start.then(|| PatternId::of(one.line.text.as_bytes()));
        let is_next = match installer {
            Some(installer) => installer.has_start() && (ended || paused || !installer.chained),
            None => ended || paused || shape == kind_of_start,
        };
        if may_start && is_next {
            starts.push(at);
            kind_of_start = shape;
            ended = false;
        } else if is_end(one) {
            ended = true;
        }
        last_time = one.line.time.or(last_time);
    }
    if starts.is_empty() && installer.is_some_and(|installer| !installer.has_start() || marked.iter().any(is_end)) {
        starts.push(0);
    }
    if starts.is_empty()
        && is_one
        && marked.iter().any(|one| is_end(one) || one.has(Role::Phase) || one.has(Role::Result))
    {
        starts.push(0);
    }
    let bounds: Vec<usize> = starts.iter().copied().chain([marked.len()]).collect();
    let of_case = end;
    let mut found: Vec<Run> = Vec::new();
    for pair in bounds.windows(2) {
        let part = &marked[pair[0]..pair[1]];
        found.extend(read_run(source, part, of_case, installer));
    }
    found
}

/// Whether a component is one of several that do the same: `worker-3`.
fn is_worker(component: &str) -> bool {
    let component = component.to_ascii_lowercase();
    ["worker", "runner", "agent"].iter().any(|word| component.strip_prefix(word).is_some_and(|rest| !rest.is_empty()))
}

/// A beginning of a step is none of a run.
fn is_about_a_part(one: &Marked<'_>) -> bool {
    one.has(Role::Phase) || one.has(Role::PhaseEnd) || one.has(Role::Item) || one.has(Role::Worker)
}

fn is_end(one: &Marked<'_>) -> bool {
    let said = one.has(Role::Succeeded) || one.has(Role::Failed) || one.has(Role::Cancelled);
    said && !is_about_a_part(one) && !one.has(Role::Harmless)
}

fn kind_of(text: &str) -> &'static str {
    let text = text.to_ascii_lowercase();
    let has = |words: &[&str]| words.iter().any(|word| text.contains(word));
    if has(&["uninstall", "remov", "purge", "eras", "delete device"]) || matches!(text.as_str(), "rm") {
        "remove"
    } else if has(&["upgrad", "updat", "migrat"]) || matches!(text.as_str(), "up" | "dup" | "dist-upgrade") {
        "upgrade"
    } else if has(&["repair", "reinstall"]) {
        "repair"
    } else if has(&["patch", "hotfix"]) {
        "patch"
    } else if has(&[
        "install",
        "setup",
        "set-up",
        "setting up",
        "unpacking",
        "deploy",
        "provision",
        "roll-out",
        "rollout",
    ]) || matches!(text.as_str(), "in" | "ci")
    {
        "install"
    } else {
        "unknown"
    }
}

fn read_run(
    source: &Source,
    part: &[Marked<'_>],
    end_of_case: Option<i64>,
    installer: Option<&Installer>,
) -> Option<Run> {
    if part.iter().any(|one| one.has(Role::NotARun)) {
        return None;
    }
    let first = part.first()?.line;
    // Blank lines behind the last word are no part of it.
    let last = part.iter().rev().find(|one| !one.line.text.trim().is_empty())?.line;
    let mut run = Run {
        host: source.host.clone(),
        source: source.name.clone(),
        line: first.line,
        last_line: last.line,
        row: Some(first.row),
        kind: "unknown",
        beside: installer.map_or_else(Vec::new, |installer| installer.beside.clone()),
        start: part.iter().find_map(|one| one.line.time),
        end: part.iter().rev().find_map(|one| one.line.time),
        ..Run::default()
    };
    name_it(&mut run, part);
    if let Some(installer) = installer {
        let said =
            part.iter().find_map(|one| one.part(Role::Start, "kind").or_else(|| one.part(Role::Product, "kind")));
        run.kind = kind_of(said.or_else(|| installer.kind.clone()).as_deref().unwrap_or_default());
    }
    run.phases = phases(part);
    let mut ending = ending(part);
    if let Some(installer) = installer {
        let fails = |one: &Marked<'_>| one.has(Role::Failed) && !one.has(Role::Harmless) && !one.is_excused;
        let stopped = matches!(ending.outcome, Some(Outcome::Cancelled | Outcome::Refused));
        if installer.any_failure
            && !stopped
            && let Some(at) = part.iter().rposition(fails)
        {
            ending = Ending { outcome: Some(Outcome::Failed), at: Some(at) };
        }
        if installer.silent && ending.outcome.is_none() {
            let bad = part.iter().rposition(|one| one.is_bad() && !one.has(Role::Harmless) && !one.is_excused);
            ending = Ending { outcome: Some(bad.map_or(Outcome::Succeeded, |_| Outcome::Failed)), at: bad };
        }
    }
    let rollback = part
        .iter()
        .position(|one| one.has(Role::Rollback) && !one.has(Role::Harmless) && !says_nothing_was_undone(one));
    run.rollback = rollback.filter(|_| ending.outcome != Some(Outcome::Succeeded)).map(|at| place(source, &part[at]));
    let is_running = run.end.zip(end_of_case).is_some_and(|(end, last)| last.saturating_sub(end) < 2 * MINUTE);
    run.restart_needed = part.iter().any(|one| one.has(Role::Restart) && !says_no_restart(&one.line.text));
    let said = ending.outcome;
    run.outcome = match said {
        Some(Outcome::Failed) if run.rollback.is_some() => Outcome::RolledBack,
        Some(Outcome::Succeeded) if run.restart_needed => Outcome::RestartNeeded,
        Some(outcome) => outcome,
        None if run.rollback.is_some() => Outcome::RolledBack,
        None if is_running => Outcome::Running,
        None => Outcome::CutOff,
    };
    run.code = ending.at.and_then(|at| code_near(part, at, source.platform));
    // A number near the end that means failure is one of its steps', where the run says itself that it ended well.
    if said == Some(Outcome::Succeeded) {
        run.code = run.code.filter(|code| matches!(code.number, 0 | 3010 | 1641));
    }
    if run.outcome == Outcome::Succeeded && run.code.as_ref().is_some_and(|code| matches!(code.number, 3010 | 1641)) {
        run.outcome = Outcome::RestartNeeded;
        run.restart_needed = true;
    }
    if matches!(run.outcome, Outcome::CutOff | Outcome::Running) {
        run.last_open =
            run.phases.iter().rev().find(|phase| phase.outcome.is_none()).map(|phase| (phase.name.clone(), phase.line));
        run.end = run.end.filter(|_| run.outcome == Outcome::CutOff);
    }
    failures(&mut run, source, part, ending.at, rollback);
    things(&mut run, source, part);
    Some(run)
}

pub(super) fn place(source: &Source, one: &Marked<'_>) -> Place {
    Place { source: source.name.clone(), line: one.line.line }
}

fn says_no_restart(text: &str) -> bool {
    let text = text.to_ascii_lowercase();
    [
        "no restart",
        "no reboot",
        "not require",
        "without restart",
        "without reboot",
        "restart required: no",
        "reboot required: no",
        "not needed",
        "not required",
        "restart: none",
        "reboot: none",
        "restart: no",
        "reboot: no",
    ]
    .iter()
    .any(|word| text.contains(word))
}

fn says_nothing_was_undone(one: &Marked<'_>) -> bool {
    let text = one.line.text.to_ascii_lowercase();
    [
        "no rollback",
        "rollback disabled",
        "without rollback",
        "rollback not",
        "enable rollback",
        "rollback script",
        "rollback point",
        "rollbackdisabled",
    ]
    .iter()
    .any(|word| text.contains(word))
}

/// What is installed, and how.
fn name_it(run: &mut Run, part: &[Marked<'_>]) {
    for (at, one) in part.iter().enumerate() {
        for role in [Role::Start, Role::Product] {
            if !one.has(role) || (role == Role::Start && at > 3) {
                continue;
            }
            // The installer's own words about the product count more than a sentence.
            if run.product.is_none()
                || one.part(Role::Product, "product").is_some_and(|_| one.line.text.contains("Product"))
            {
                run.product = one.part(role, "product").or(run.product.take());
            }
            let version = one.part(role, "version");
            // What it says of both in one sentence counts more than the name of the product.
            let is_sentence = role == Role::Product && is_sentence_of_service(one);
            run.version = if is_sentence { version } else { run.version.take().or(version) };
        }
        if run.kind == "unknown" && at < 12 && (one.has(Role::Start) || one.has(Role::Product)) {
            let said = one.part(Role::Start, "kind").unwrap_or_else(|| one.line.text.clone());
            run.kind = kind_of(&said);
            if one.part(Role::Product, "from").is_some() {
                run.kind = "upgrade";
            }
        }
        if one.part(Role::Product, "from").is_some() && matches!(run.kind, "install" | "unknown") {
            run.kind = "upgrade";
        }
    }
    let says = |words: &[&str]| part.iter().take(400).any(|one| words.iter().any(|word| one.line.text.contains(word)));
    if run.kind == "unknown" || run.kind == "install" {
        if says(&["REMOVE=ALL", "REMOVE = ALL", "-- Removal completed", "-- Removal failed"]) {
            run.kind = "remove";
        } else if says(&["REINSTALLMODE", "-- Configuration completed"]) {
            run.kind = "repair";
        } else if run.kind == "unknown" {
            let ends: Vec<&str> = part.iter().filter(|one| is_end(one)).map(|one| one.line.text.as_str()).collect();
            run.kind = kind_of(&ends.join(" "));
        }
        if run.kind == "unknown" {
            // What the service of an installer always says of what it tidies up is not about this run.
            let own = |text: &&str| !text.contains("uninstalled install packages");
            let all = part.iter().take(30).map(|one| one.line.text.as_str()).filter(own).collect::<Vec<_>>().join(" ");
            run.kind = kind_of(&all);
            if run.kind == "unknown" {
                run.kind = kind_of(run.source.rsplit('/').next().unwrap_or_default());
            }
        }
    }
}

/// The phases, nested as they begin and end.
fn phases(part: &[Marked<'_>]) -> Vec<Phase> {
    const MOST: usize = 10_000;
    let mut phases: Vec<Phase> = Vec::new();
    let mut open: Vec<usize> = Vec::new();
    for one in part {
        if one.has(Role::PhaseEnd)
            && let Some(name) = one.part(Role::PhaseEnd, "name")
        {
            let how = one.part(Role::PhaseEnd, "how").map(|how| how.to_ascii_lowercase());
            let outcome = match (one.part(Role::PhaseEnd, "value").as_deref(), how.as_deref()) {
                (Some("3"), _) | (_, Some("failed" | "aborted")) => "failed",
                (Some("0"), _) | (_, Some("skipped")) => "skipped",
                _ => "done",
            };
            let at = open.iter().rposition(|at| phases[*at].name.eq_ignore_ascii_case(&name));
            if let Some(at) = at {
                // What was begun inside and has no end of its own ended with it.
                for inner in open.drain(at..) {
                    phases[inner].end = one.line.time;
                    phases[inner].outcome.get_or_insert(outcome);
                }
                continue;
            }
        }
        if one.has(Role::Phase) && phases.len() < MOST {
            let number = one.part(Role::Phase, "number");
            let name = one.part(Role::Phase, "name").or(number.clone()).unwrap_or_default();
            if name.is_empty() {
                continue;
            }
            let counted = one.is_known || number.is_some() || one.part(Role::Phase, "of").is_some();
            // Counted steps follow each other.
            if counted && let Some(before) = open.pop() {
                phases[before].end = one.line.time;
                phases[before].outcome.get_or_insert("done");
            }
            open.push(phases.len());
            let depth = open.len() - 1;
            phases.push(Phase {
                name,
                depth,
                start: one.line.time,
                line: one.line.line,
                percent: percent(&one.line.text),
                ..Phase::default()
            });
        } else if let Some(percent) = percent(&one.line.text)
            && let Some(now) = open.last()
        {
            phases[*now].percent = Some(percent);
        }
    }
    phases
}

fn percent(text: &str) -> Option<u8> {
    let at = text.find('%')?;
    let digits: String = text.get(..at)?.trim_end().chars().rev().take_while(char::is_ascii_digit).collect();
    let digits: String = digits.chars().rev().collect();
    digits.parse().ok().filter(|percent| *percent <= 100)
}

struct Ending {
    outcome: Option<Outcome>,
    at: Option<usize>,
}

/// How the run ended, by its last words of that kind.
fn ending(part: &[Marked<'_>]) -> Ending {
    let mut found = Ending { outcome: None, at: None };
    for (at, one) in part.iter().enumerate() {
        if is_about_a_part(one) || one.is_excused {
            continue;
        }
        let says = if one.has(Role::Cancelled) {
            Some(Outcome::Cancelled)
        } else if one.has(Role::Refused)
            && !part[at..].iter().any(|later| later.has(Role::Succeeded) || later.has(Role::Phase))
        {
            Some(Outcome::Refused)
        } else if one.has(Role::Failed) && !one.has(Role::Harmless) {
            Some(Outcome::Failed)
        } else if one.has(Role::Succeeded) && !negated(&one.line.text) {
            Some(Outcome::Succeeded)
        } else {
            None
        };
        let by_code = one.code(Platform::Windows).filter(|_| says.is_none() && is_final_code(one, at, part.len()));
        let says = says.or_else(|| {
            by_code.map(|code| match code.number {
                0 => Outcome::Succeeded,
                3010 | 1641 => Outcome::RestartNeeded,
                1602 | 0x8007_0642 | 130 => Outcome::Cancelled,
                1618 => Outcome::Refused,
                _ => Outcome::Failed,
            })
        });
        // A person's stop and a refusal are why it then failed.
        match (says, found.outcome) {
            (Some(Outcome::Failed), Some(Outcome::Cancelled | Outcome::Refused)) => found.at = Some(at),
            (Some(Outcome::Succeeded), Some(Outcome::RestartNeeded)) => {}
            // "Success or error status: 1603" names both: the number decides.
            (Some(Outcome::Succeeded), _)
                if one.code(Platform::Windows).is_some_and(|code| !matches!(code.number, 0 | 3010 | 1641)) =>
            {
                found = Ending { outcome: Some(Outcome::Failed), at: Some(at) };
            }
            (Some(says), _) => found = Ending { outcome: Some(says), at: Some(at) },
            (None, _) => {}
        }
    }
    found
}

fn negated(text: &str) -> bool {
    let text = text.to_ascii_lowercase();
    [
        "not complete",
        "not successful",
        "unsuccessful",
        "not succeed",
        "not finish",
        "incomplete",
        "was not done",
        "never finished",
    ]
    .iter()
    .any(|word| text.contains(word))
}

/// Whether it is what the service of an installer says at the end of product, version and result, in any language.
fn is_sentence_of_service(one: &Marked<'_>) -> bool {
    let names = |part| one.part(Role::Product, part).is_some();
    one.line.text.contains(". ") && names("product") && names("version")
}

/// A number returned near the end is the run's; earlier ones are of its steps.
fn is_final_code(one: &Marked<'_>, at: usize, len: usize) -> bool {
    let text = &one.line.text;
    let of_engine = text.contains("MainEngineThread")
        || text.contains("Apply complete")
        || text.contains("error status")
        || is_sentence_of_service(one);
    let lower = text.to_ascii_lowercase();
    of_engine || (len - at <= 4 && (lower.contains("exit") || lower.contains("rc=") || lower.contains("result")))
}

/// The number on the line of the end, else on one of the lines around it.
fn code_near(part: &[Marked<'_>], at: usize, platform: Platform) -> Option<ResultCode> {
    const AROUND: usize = 6;
    let near = part.get(at.saturating_sub(AROUND)..(at + AROUND + 1).min(part.len()))?;
    let own = part.get(at)?.code(platform);
    own.or_else(|| {
        near.iter().rev().filter(|one| is_final_code(one, part.len(), part.len())).find_map(|one| one.code(platform))
    })
    .or_else(|| near.iter().rev().find_map(|one| one.code(platform)))
}
