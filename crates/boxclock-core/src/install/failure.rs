//! What failed first in a run, what followed, and what only sounds bad; where the reason stands in another log, that is the place.

use std::collections::HashMap;

use super::run::{Marked, place};
use super::things::worker_outcome;
use super::{FirstFailure, Outcome, ResultCode, Role, Run, name_of_code};
use crate::case::Source;
use crate::clock::MINUTE;
use crate::code::{Code, Form, Platform};
use crate::pattern::PatternId;

/// Lines of bad words that one run keeps.
const MOST_LINES: usize = 500;

/// Whether a line shows that the run went on: another step began, or one ended well.
fn is_progress(one: &Marked<'_>) -> bool {
    if one.has(Role::Rollback) || one.is_bad() {
        return false;
    }
    let ended_well = one.part(Role::PhaseEnd, "value").map_or(one.has(Role::PhaseEnd), |value| value == "1");
    one.has(Role::Phase) || ended_well
}

/// Finds what failed first, what followed, and what only sounds bad.
pub(super) fn failures(
    run: &mut Run,
    source: &Source,
    part: &[Marked<'_>],
    end: Option<usize>,
    rollback: Option<usize>,
) {
    let failed = matches!(run.outcome, Outcome::Failed | Outcome::RolledBack | Outcome::CutOff | Outcome::Refused);
    let stop = rollback.filter(|_| run.rollback.is_some()).or(end).unwrap_or(part.len());
    // How many steps came behind each line, up to where it was given up.
    let mut behind = vec![0_usize; part.len() + 1];
    for at in (0..part.len()).rev() {
        let counts = at < stop && is_progress(&part[at]);
        behind[at] = behind[at + 1] + usize::from(counts);
    }
    let mut tries: HashMap<PatternId, usize> = HashMap::new();
    let mut bad: Vec<usize> = Vec::new();
    for (at, one) in part.iter().enumerate().filter(|(_, one)| one.is_bad()) {
        if run.not_failures.len() + bad.len() >= MOST_LINES {
            break;
        }
        *tries.entry(PatternId::of(one.line.text.as_bytes())).or_default() += 1;
        let why = if one.has(Role::Harmless) && !one.has(Role::Failed) {
            Some("the line says itself that it does not matter".to_owned())
        } else if one.is_excused {
            Some("the next line says that it is ignored".to_owned())
        } else if Some(at) == end && !failed {
            None
        } else if rollback.is_some_and(|back| at > back) && one.has(Role::Rollback) {
            Some("it was while the run was undone".to_owned())
        } else if is_cured(part, at, stop) || is_done_later(part, at) {
            Some("tried again, and then it went well".to_owned())
        } else if !failed {
            Some("the run went on and ended well".to_owned())
        } else if at < stop && behind[at + 1] > 1 {
            Some(format!("the run went on: {} steps followed", behind[at + 1]))
        } else {
            None
        };
        match why {
            Some(why) => run.not_failures.push((place(source, one), why)),
            None => bad.push(at),
        }
    }
    if !failed || run.outcome == Outcome::CutOff && bad.is_empty() {
        return;
    }
    // Before the end if anything is; the end's own words only repeat it.
    let before = bad.iter().copied().find(|at| *at < stop && Some(*at) != end);
    // A summary says how it ended before it tells the steps.
    let told_first = |end: &usize| part.iter().skip(*end).any(|one| one.has(Role::Phase));
    let behind_the_end = || end.filter(told_first).and_then(|end| bad.iter().copied().find(|at| *at > end));
    let first = before.or_else(behind_the_end).or(bad.first().copied());
    let Some(first) = first.map(|at| where_a_traceback_says_it(part, at)) else { return };
    if run.outcome == Outcome::CutOff {
        // A log that ends in the middle does not say that this was the reason.
        run.consequences = Vec::new();
    }
    let step = step_of(run, &part[first]);
    let code = failure_code(part, first, source.platform);
    let text = part[first].line.text.clone();
    run.first_failure = Some(FirstFailure { place: place(source, &part[first]), step, code, text });
    run.consequences = bad.iter().filter(|at| **at > first).map(|at| place(source, &part[*at])).collect();
}

/// A traceback says at its end what it is about; the line itself for what is none.
fn where_a_traceback_says_it(part: &[Marked<'_>], at: usize) -> usize {
    const LONGEST: usize = 400;
    if !part[at].line.text.trim_start().starts_with("Traceback (most recent call last)") {
        return at;
    }
    let behind = part.iter().enumerate().skip(at + 1).take(LONGEST);
    // Lines of frames are indented; the exception stands where the traceback began.
    let indent = |text: &str| text.len() - text.trim_start().len();
    let own = indent(&part[at].line.text);
    let of_event = behind.take_while(|(_, one)| one.line.row == part[at].line.row);
    let said = |one: &Marked<'_>| {
        let name = one.line.text.trim_start().split([':', ' ']).next().unwrap_or_default();
        indent(&one.line.text) <= own
            && ["Error", "Exception", "Exit", "Interrupt"].iter().any(|end| name.ends_with(end))
    };
    of_event.filter(|(_, one)| said(one)).map(|(at, _)| at).next().unwrap_or(at)
}

/// Whether what failed there was tried again and went well.
fn is_cured(part: &[Marked<'_>], at: usize, stop: usize) -> bool {
    const AHEAD: usize = 40;
    let later = part.get(at + 1..stop.min(at + AHEAD).max(at + 1)).unwrap_or_default();
    let Some(again) = later.iter().position(|one| one.has(Role::Retry)).or(part[at].has(Role::Retry).then_some(0))
    else {
        return false;
    };
    later.iter().skip(again).any(|one| {
        let text = one.line.text.to_ascii_lowercase();
        !one.is_bad()
            && [
                "succe",
                " ok",
                "done",
                "passed",
                "worked",
                "went well",
                "complete",
                "finished",
                "installed",
                "copied",
                "downloaded",
                "connected",
            ]
            .iter()
            .any(|word| text.contains(word))
    }) && !later.iter().any(|one| one.has(Role::Failed) && !one.has(Role::Harmless) && !one.has(Role::Retry))
}

/// Whether a worker's job that failed there was done later.
fn is_done_later(part: &[Marked<'_>], at: usize) -> bool {
    let job = |one: &Marked<'_>| one.part(Role::Worker, "job");
    let Some(own) = job(&part[at]) else { return false };
    let last = part.iter().skip(at + 1).rfind(|one| job(one).as_ref() == Some(&own));
    last.is_some_and(|last| worker_outcome(last) == "done")
}

/// The phase that a line stands in: the innermost that was open.
fn step_of(run: &Run, one: &Marked<'_>) -> Option<String> {
    if let Some(name) = one.part(Role::PhaseEnd, "name") {
        return Some(name);
    }
    if let Some(name) = one.part(Role::Phase, "name") {
        return Some(name);
    }
    let line = one.line.line;
    let mut before = run.phases.iter().filter(|phase| phase.line <= line);
    let mut open = before.clone().filter(|phase| phase.end.zip(one.line.time).is_none_or(|(end, at)| end >= at));
    open.next_back().or(before.next_back()).map(|phase| phase.name.clone())
}

/// The number of the failure: on its line, or the next.
fn failure_code(part: &[Marked<'_>], at: usize, platform: Platform) -> Option<ResultCode> {
    const FOLLOWING: usize = 3;
    // What is bad at once behind it speaks of the same.
    let behind = part.get(at + 1..)?.iter().take(FOLLOWING).take_while(|one| one.is_bad()).count();
    let own = part.get(at..(at + 1 + behind.max(1)).min(part.len()))?;
    let said = own.iter().find_map(|one| one.code(platform)).filter(|code| code.number != 0);
    said.or_else(|| {
        let is_number = |code: &&Code| code.number != 0 && !matches!(code.family.form(), Form::Name | Form::State);
        let code = own.iter().take(1 + behind).find_map(|one| one.line.codes.iter().find(is_number))?;
        Some(ResultCode { number: i64::from(code.number), name: name_of_code(*code) })
    })
}

/// Links logs that are named to their sources and runs: where the reason stands in the other log, it is the first failure.
pub(super) fn link_children(runs: &mut [Run], sources: &[(String, Option<String>)]) {
    let file_name = |path: &str| path.replace('\\', "/").rsplit('/').next().unwrap_or_default().to_ascii_lowercase();
    let mut by_name: HashMap<(Option<&str>, String), Vec<&str>> = HashMap::new();
    for (name, host) in sources {
        by_name.entry((host.as_deref(), file_name(name))).or_default().push(name);
    }
    let mut moved: Vec<(usize, FirstFailure)> = Vec::new();
    for index in 0..runs.len() {
        let (host, own) = (runs[index].host.clone(), runs[index].source.clone());
        let (start, end) = (runs[index].start, runs[index].end);
        let first_line = runs[index].first_failure.as_ref().map(|first| first.place.line);
        let mut child_failure = None;
        let mut children = std::mem::take(&mut runs[index].child_logs);
        for (path, source, line) in &mut children {
            let found =
                by_name.get(&(host.as_deref(), file_name(path))).into_iter().flatten().find(|name| **name != own);
            *source = found.map(|name| (*name).to_owned());
            let Some(source) = source else { continue };
            // The child's run that lies in the time of the parent.
            let inside = |child: &&Run| {
                child.source == *source
                    && child.start.zip(end).is_none_or(|(child, end)| child <= end.saturating_add(MINUTE))
                    && child.end.zip(start).is_none_or(|(child, start)| child >= start.saturating_sub(MINUTE))
            };
            let child = runs.iter().filter(inside).find(|child| child.first_failure.is_some());
            if let Some(first) = child.and_then(|child| child.first_failure.clone())
                // A parent that is named by its own child ends here.
                && first.place.source == *source
                && first_line.is_none_or(|first_line| *line <= first_line + 40)
            {
                child_failure.get_or_insert(first);
            }
        }
        runs[index].child_logs = children;
        if runs[index].outcome.is_failure()
            && let Some(first) = child_failure
        {
            moved.push((index, first));
        }
    }
    for (index, first) in moved {
        if let Some(own) = runs[index].first_failure.replace(first) {
            runs[index].consequences.insert(0, own.place);
        }
    }
}
