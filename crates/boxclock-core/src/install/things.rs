//! What a run says of the parts that it installs: states, what was skipped, workers with their jobs, other logs.

use super::run::Marked;
use super::{Item, Outcome, Role, Run, WorkerJob};
use crate::case::Source;

/// States, skipped things, workers, other logs.
pub(super) fn things(run: &mut Run, source: &Source, part: &[Marked<'_>]) {
    const MOST: usize = 5000;
    let mut board: Vec<WorkerJob> = Vec::new();
    for one in part {
        let line = one.line.line;
        if one.has(Role::Item) && run.items.len() < MOST {
            let named = |kind: &'static str| one.part(Role::Item, kind).map(|name| (kind, name));
            let (kind, name) = named("component")
                .or_else(|| named("package"))
                .unwrap_or_else(|| ("feature", one.part(Role::Item, "name").unwrap_or_default()));
            let state = |name| one.part(Role::Item, name);
            run.items.push(Item {
                kind,
                name,
                before: state("before"),
                asked: state("asked"),
                after: state("after"),
                why: String::new(),
                line,
            });
        }
        if one.has(Role::Skipped) && !one.is_bad() && run.skipped.len() < MOST {
            let name = one.part(Role::Skipped, "name").unwrap_or_default();
            run.skipped.push((name, line, one.part(Role::Skipped, "why").unwrap_or_default()));
        }
        if one.has(Role::Child)
            && run.child_logs.len() < 200
            && let Some(path) = one.part(Role::Child, "path")
        {
            let own = source.name.rsplit('/').next().unwrap_or_default();
            let is_own = path.replace('\\', "/").rsplit('/').next().is_some_and(|name| name.eq_ignore_ascii_case(own));
            if !is_own && !run.child_logs.iter().any(|(known, ..)| *known == path) {
                run.child_logs.push((path, None, line));
            }
        }
        if one.has(Role::Worker)
            && let (Some(worker), Some(job)) = (one.part(Role::Worker, "worker"), one.part(Role::Worker, "job"))
            && board.len() < MOST
        {
            let outcome = worker_outcome(one);
            match board.iter_mut().find(|known| known.worker == worker && known.job == job) {
                Some(known) => {
                    let again = matches!(known.outcome, "failed") && outcome == "running";
                    known.outcome = match (known.outcome, outcome) {
                        _ if again => "restarted",
                        ("failed" | "restarted", "done") => "fixed",
                        (before, "running") if before != "waiting" => before,
                        (_, now) => now,
                    };
                    known.line = line;
                    known.end = one.line.time.filter(|_| is_over(known.outcome));
                }
                None => board.push(WorkerJob {
                    worker,
                    job,
                    outcome,
                    line,
                    start: one.line.time,
                    end: one.line.time.filter(|_| is_over(outcome)),
                }),
            }
        }
    }
    run.remaining = board
        .iter()
        .filter(|one| matches!(one.outcome, "failed" | "waiting" | "running" | "restarted"))
        .map(|one| one.job.clone())
        .collect();
    if run.outcome == Outcome::Succeeded {
        run.remaining.clear();
    }
    run.workers = board;
}

fn is_over(outcome: &str) -> bool {
    matches!(outcome, "done" | "failed" | "fixed")
}

/// What a line says of a worker's job.
pub(super) fn worker_outcome(one: &Marked<'_>) -> &'static str {
    let text = one.line.text.to_ascii_lowercase();
    let has = |words: &[&str]| words.iter().any(|word| text.contains(word));
    if one.is_bad() || has(&["failed", "failure", "aborted", "died"]) {
        "failed"
    } else if has(&["done", "finished", "complete", "succeeded", " ok", "ended"]) {
        "done"
    } else if has(&["wait", "queued", "pending", "blocked"]) {
        "waiting"
    } else {
        "running"
    }
}
