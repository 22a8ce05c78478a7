//! Signatures and certificates that an installation refused: whose they are, how long they hold, and which store lacks them.
//!
//! How logs say so is data (`trust.toml`).

use std::sync::LazyLock;

use regex::{Regex, RegexBuilder, RegexSet, RegexSetBuilder};
use serde::Deserialize;

use super::{Lined, Outcome, Place, Run, TrustRefusal};
use crate::clock::{SECOND, to_rfc3339};

/// Lines before and after a refusal in which something more is said of it.
const NEAR_LINES: usize = 8;
/// Refusals that are kept of one run.
const MOST: usize = 20;

#[derive(Deserialize)]
struct TrustFile {
    refused: Vec<String>,
    passed: Vec<String>,
    signer: Vec<String>,
    thumbprint: Vec<String>,
    valid_until: Vec<String>,
    store: Vec<String>,
}

struct Patterns {
    refused: RegexSet,
    passed: RegexSet,
    /// Every line of a log is asked for this one only.
    any: Regex,
    signer: Vec<Regex>,
    thumbprint: Vec<Regex>,
    valid_until: Vec<Regex>,
    store: Vec<Regex>,
}

static PATTERNS: LazyLock<Option<Patterns>> = LazyLock::new(patterns);

fn patterns() -> Option<Patterns> {
    let file: TrustFile = toml::from_str(include_str!("trust.toml")).ok()?;
    let set = |patterns: &[String]| RegexSetBuilder::new(patterns).case_insensitive(true).build().ok();
    let each = |patterns: &[String]| -> Option<Vec<Regex>> {
        patterns.iter().map(|pattern| RegexBuilder::new(pattern).case_insensitive(true).build().ok()).collect()
    };
    Some(Patterns {
        refused: set(&file.refused)?,
        passed: set(&file.passed)?,
        any: RegexBuilder::new(WORDS).case_insensitive(true).build().ok()?,
        signer: each(&file.signer)?,
        thumbprint: each(&file.thumbprint)?,
        valid_until: each(&file.valid_until)?,
        store: each(&file.store)?,
    })
}

/// Words without one of which no line speaks of a signature or certificate.
const WORDS: &str = "sign|cert|key|trust|publisher|print|valid|expir|store|800b01|80096|catalog";

/// Notes in the runs of a log what they refused to trust; `lines` are all lines of the log.
pub(super) fn refusals(runs: &mut [Run], lines: &[Lined]) {
    let Some(patterns) = PATTERNS.as_ref() else { return };
    let speaks = |line: &Lined| {
        patterns.any.is_match(&line.text)
            || line.component.as_ref().is_some_and(|component| patterns.any.is_match(component))
    };
    let speaking: Vec<usize> = (0..lines.len()).filter(|at| speaks(&lines[*at])).collect();
    if speaking.is_empty() {
        return;
    }
    for run in runs {
        // Lines are in the order of their file.
        let from = speaking.partition_point(|at| lines[*at].line < run.line);
        let until = speaking.partition_point(|at| lines[*at].line <= run.last_line).max(from);
        let of_run = &speaking[from..until];
        for &at in of_run {
            if run.trust.len() >= MOST {
                break;
            }
            let text = &*lines[at].said();
            if !patterns.refused.is_match(text) || patterns.passed.is_match(text) && !has_code(text) {
                continue;
            }
            // A line that names another certificate speaks of that one.
            let own = first_value(&patterns.thumbprint, text);
            let of_it = |other: &usize| {
                let named = first_value(&patterns.thumbprint, &lines[*other].said());
                own.is_none() || named.is_none() || named == own
            };
            let first = of_run.partition_point(|other| other.saturating_add(NEAR_LINES) < at);
            let last = of_run.partition_point(|other| *other <= at + NEAR_LINES);
            // The line itself, then what follows, then what came before: the nearer the better.
            let mut order: Vec<usize> = of_run[first..last].iter().copied().filter(of_it).collect();
            order.sort_by_key(|other| (other.abs_diff(at), *other < at));
            let said = |which: &[Regex]| order.iter().find_map(|other| first_value(which, &lines[*other].said()));
            let refusal = TrustRefusal {
                signer: said(&patterns.signer),
                thumbprint: said(&patterns.thumbprint).map(|print| plain_thumbprint(&print)),
                valid_until: said(&patterns.valid_until).map(|until| written_time(&until)),
                store: said(&patterns.store),
                host: run.host.clone(),
                place: Place { source: run.source.clone(), line: lines[at].line },
            };
            add(&mut run.trust, refusal, lines[at].line);
        }
    }
}

/// Several lines say the same refusal: the first is kept, with what the others add.
fn add(known: &mut Vec<TrustRefusal>, new: TrustRefusal, line: u64) {
    let same = |a: &Option<String>, b: &Option<String>| a.is_none() || b.is_none() || a == b;
    let near = |one: &TrustRefusal| line.saturating_sub(one.place.line) <= 2 * NEAR_LINES as u64;
    let is_said = |one: &TrustRefusal| {
        let by_name = one.thumbprint.is_some() && one.thumbprint == new.thumbprint;
        same(&one.thumbprint, &new.thumbprint) && same(&one.signer, &new.signer) && (by_name || near(one))
    };
    match known.iter_mut().find(|one| is_said(one)) {
        Some(one) => {
            one.signer = one.signer.take().or(new.signer);
            one.thumbprint = one.thumbprint.take().or(new.thumbprint);
            one.valid_until = one.valid_until.take().or(new.valid_until);
            one.store = one.store.take().or(new.store);
        }
        None => known.push(new),
    }
}

fn first_value(which: &[Regex], text: &str) -> Option<String> {
    let value = which.iter().find_map(|pattern| pattern.captures(text)?.name("value"))?;
    Some(value.as_str().trim().to_owned()).filter(|value| !value.is_empty())
}

fn has_code(text: &str) -> bool {
    let text = text.to_ascii_lowercase();
    text.contains("0x800b01") || text.contains("0x80096")
}

/// Without blanks and colons between the bytes, in capitals: as lists of certificates are compared.
fn plain_thumbprint(text: &str) -> String {
    text.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_ascii_uppercase()
}

/// The moment of a key's end that is written in seconds since 1970, as RFC 3339; any other text as it is written.
fn written_time(text: &str) -> String {
    match text.parse::<i64>() {
        Ok(seconds) if text.len() >= 9 => seconds.checked_mul(SECOND).map_or_else(|| text.to_owned(), to_rfc3339),
        _ => text.to_owned(),
    }
}

/// What the summaries say of it: what was refused, and whether a later run of the same product passed.
pub(super) fn tell(runs: &mut [Run]) {
    let good = |run: &Run| matches!(run.outcome, Outcome::Succeeded | Outcome::RestartNeeded) && run.trust.is_empty();
    let passed: Vec<Option<Place>> = runs
        .iter()
        .map(|run| {
            let later = runs.iter().find(|later| {
                let is_after = later.start.zip(run.end.or(run.start)).is_some_and(|(later, before)| later > before);
                good(later)
                    && is_after
                    && later.host == run.host
                    && later.product.is_some()
                    && later.product == run.product
            });
            later
                .filter(|_| !run.trust.is_empty())
                .map(|later| Place { source: later.source.clone(), line: later.line })
        })
        .collect();
    for (run, passed) in runs.iter_mut().zip(passed) {
        let Some(first) = run.trust.first() else { continue };
        run.summary.push_str(&format!(" {}", first.sentence()));
        if let Some(place) = passed {
            run.summary.push_str(&format!(" A later run passed ({}:{}).", place.source, place.line));
        }
    }
}

impl TrustRefusal {
    /// In one sentence.
    pub fn sentence(&self) -> String {
        let whose = self.signer.as_ref().map_or(String::new(), |signer| format!(" of {signer}"));
        let parts = [
            self.thumbprint.as_ref().map(|print| format!("thumbprint {print}")),
            self.valid_until.as_ref().map(|until| format!("valid until {until}")),
            self.store.as_ref().map(|store| format!("store {store}")),
        ];
        let parts: Vec<String> = parts.into_iter().flatten().collect();
        let parts = if parts.is_empty() { String::new() } else { format!(" ({})", parts.join(", ")) };
        format!("A signature{whose}{parts} was refused ({}:{}).", self.place.source, self.place.line)
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_shipped_patterns_are_good() {
        assert!(super::patterns().is_some());
    }
}
