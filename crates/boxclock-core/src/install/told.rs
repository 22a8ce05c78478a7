//! A run as people read it, and as the JSON contract has it.

use serde_json::{Map, Value, json};

use super::{Item, Outcome, Phase, Place, ResultCode, Run, TrustRefusal};
use crate::clock::to_rfc3339;

/// What happened in a run, in a few sentences.
pub(super) fn summary(run: &Run) -> String {
    let what = match (&run.product, &run.version) {
        (Some(product), Some(version)) => format!("{product} {version}"),
        (Some(product), None) => product.clone(),
        _ => "An installation".to_owned(),
    };
    let kind = match run.kind {
        "upgrade" => "upgrade",
        "remove" => "removal",
        "repair" => "repair",
        "patch" => "patch",
        _ => "installation",
    };
    let host = run.host.as_ref().map_or(String::new(), |host| format!(" on {host}"));
    let code = run.code.as_ref().map_or(String::new(), |code| match &code.name {
        Some(name) => format!(" with {} ({name})", code.number),
        None => format!(" with {}", code.number),
    });
    let how = match run.outcome {
        Outcome::Succeeded => "ended well",
        Outcome::RestartNeeded => "ended well",
        Outcome::Failed => "failed",
        Outcome::RolledBack => "failed and was rolled back",
        Outcome::Cancelled => "was cancelled by a person",
        Outcome::Refused => "could not begin: another one was active",
        Outcome::CutOff => "ends in the middle of its log",
        Outcome::Running => "still runs",
    };
    let until = if run.outcome == Outcome::RestartNeeded { ", and is not in effect before a restart" } else { "" };
    let mut text = format!("{what}: the {kind}{host} {how}{code}{until}.");
    if let Some(first) = &run.first_failure {
        let step = first.step.as_ref().map_or(String::new(), |step| format!(" in {step}"));
        text.push_str(&format!(
            " What failed first{step}: \"{}\" ({}:{}).",
            first.text.trim(),
            first.place.source,
            first.place.line
        ));
    }
    if let Some((name, line)) = &run.last_open {
        text.push_str(&format!(" {name} (line {line}) was open at the end."));
    }
    if !run.consequences.is_empty() {
        text.push_str(&format!(" {} followed from it.", crate::plural::many(run.consequences.len() as u64, "line")));
    }
    if let Some(line) = run.read_up_to {
        text.push_str(&format!(" Its log is longer and was read up to line {line}: the end is not known."));
    }
    text
}

impl TrustRefusal {
    /// As the JSON contract has it; the source is named where it is not that of the run.
    fn json(&self, of_run: &str) -> Value {
        let source = Some(&self.place.source).filter(|source| *source != of_run);
        json!({"signer": self.signer, "thumbprint": self.thumbprint, "valid_until": self.valid_until, "store": self.store,
            "host": self.host, "source": source, "line": self.place.line,
            "accepted": self.accepted.as_ref().map(|other| json!({"signer": other.signer, "thumbprint": other.thumbprint,
                "valid_until": other.valid_until, "source": other.place.source, "line": other.place.line})),
            "codes": self.codes.iter().map(|(code, place)| json!({"code": code, "source": place.source, "line": place.line})).collect::<Vec<_>>()})
    }
}

impl Run {
    /// As the JSON contract has it; `number` counts from 1.
    pub fn json(&self, number: usize) -> Value {
        let time = |time: Option<i64>| time.map(to_rfc3339);
        let phase = |phase: &Phase| {
            json!({"name": phase.name, "depth": phase.depth, "start": time(phase.start), "end": time(phase.end), "line": phase.line,
                "outcome": phase.outcome, "percent": phase.percent})
        };
        let item = |item: &Item| json!({"kind": item.kind, "name": item.name, "before": item.before, "asked": item.asked, "after": item.after, "why": item.why, "line": item.line});
        let first = self.first_failure.as_ref().map(|first| {
            json!({"source": first.place.source, "line": first.place.line, "step": first.step, "code": first.code.as_ref().map(ResultCode::json)})
        });
        let not_failures = self
            .not_failures
            .iter()
            .map(|(place, why)| json!({"source": place.source, "line": place.line, "why": why}));
        let members = [
            ("run", json!(number)),
            ("host", json!(self.host)),
            ("source", json!(self.source)),
            ("line", json!(self.line)),
            ("last_line", json!(self.last_line)),
            ("kind", json!(self.kind)),
            ("product", json!(self.product)),
            ("version", json!(self.version)),
            ("start", json!(time(self.start))),
            ("end", json!(time(self.end))),
            ("outcome", json!(self.outcome.name())),
            ("code", json!(self.code.as_ref().map(ResultCode::json))),
            ("restart_needed", json!(self.restart_needed)),
            ("first_failure", json!(first)),
            ("consequences", self.consequences.iter().map(Place::json).collect()),
            ("not_failures", not_failures.collect()),
            ("rollback", json!(self.rollback.as_ref().map(Place::json))),
            ("phases", self.phases.iter().map(phase).collect()),
            ("items", self.items.iter().map(item).collect()),
            ("skipped", self.skipped.iter().map(|(name, line, why)| json!({"name": name, "line": line, "why": why})).collect()),
            (
                "workers",
                self.workers
                    .iter()
                    .map(|one| json!({"worker": one.worker, "job": one.job, "outcome": one.outcome, "line": one.line, "log": self.source}))
                    .collect(),
            ),
            (
                "child_logs",
                self.child_logs.iter().map(|(path, source, line)| json!({"path": path, "source": source, "line": line})).collect(),
            ),
            ("remaining", json!(self.remaining)),
            ("last_open", json!(self.last_open.as_ref().map(|(name, line)| json!({"line": line, "name": name})))),
            ("trust", self.trust.iter().map(|refusal| refusal.json(&self.source)).collect()),
            ("summary", json!(self.summary)),
        ];
        Value::Object(members.into_iter().map(|(name, value)| (name.to_owned(), value)).collect::<Map<_, _>>())
    }
}
