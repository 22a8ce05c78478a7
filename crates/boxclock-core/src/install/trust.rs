//! Signatures and certificates that an installation refused: whose they are, how long they hold, and which store lacks them.
//!
//! How logs say so is data (`trust.toml`).

use std::sync::LazyLock;

use regex::{Regex, RegexBuilder, RegexSet, RegexSetBuilder};
use serde::Deserialize;

use super::{AcceptedCertificate, Lined, Outcome, Place, Run, TrustRefusal};
use crate::Result;
use crate::analysis::CaseView;
use crate::clock::{MINUTE, SECOND, to_rfc3339};
use crate::code::Code;
use crate::event::{RecordReader, Row};
use crate::work::Work;

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
    codes: Vec<CodeRange>,
}

/// Codes that say that a signature is not trusted.
#[derive(Clone, Deserialize)]
struct CodeRange {
    family: String,
    from: u32,
    to: u32,
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
    codes: Vec<CodeRange>,
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
        codes: file.codes.clone(),
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
            let passed = patterns.passed.is_match(text) && !has_code(text);
            if !passed && !patterns.refused.is_match(text) {
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
            let place = Place { source: run.source.clone(), line: lines[at].line };
            let (signer, store) = (said(&patterns.signer), said(&patterns.store));
            let thumbprint = said(&patterns.thumbprint).map(|print| plain_thumbprint(&print));
            let valid_until = said(&patterns.valid_until).map(|until| written_time(&until));
            if passed {
                let known = run.accepted.iter().any(|other| other.thumbprint == thumbprint && other.signer == signer);
                if thumbprint.is_some() && !known && run.accepted.len() < MOST {
                    run.accepted.push(AcceptedCertificate { signer, thumbprint, valid_until, place });
                }
                continue;
            }
            let (host, accepted, codes) = (run.host.clone(), None, Vec::new());
            let refusal = TrustRefusal { signer, thumbprint, valid_until, store, host, place, accepted, codes };
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

/// Puts beside each certificate that was refused another one of the same signer that was accepted, in whichever run.
pub(super) fn side_by_side(runs: &mut [Run]) {
    let accepted: Vec<AcceptedCertificate> = runs.iter().flat_map(|run| run.accepted.clone()).collect();
    for refusal in runs.iter_mut().flat_map(|run| &mut run.trust) {
        let Some(signer) = &refusal.signer else { continue };
        // A year in its name is often all that differs.
        let bare = |name: &str| -> String {
            let letters = name.chars().filter(|letter| letter.is_alphabetic() || *letter == '=');
            letters.flat_map(char::to_lowercase).collect()
        };
        let same = |of: &String| bare(of) == bare(signer);
        let other = accepted
            .iter()
            .find(|other| other.signer.as_ref().is_some_and(same) && other.thumbprint != refusal.thumbprint);
        refusal.accepted = other.filter(|_| refusal.thumbprint.is_some()).cloned();
    }
}

/// Notes by which codes logs of the same host tell of a refusal while a run that refused something went on.
///
/// # Errors
/// When cancelled.
pub(super) fn codes(view: &CaseView, runs: &mut [Run], work: &Work) -> Result<()> {
    /// Codes that are noted, runs that are looked at, and events of each.
    const MOST_CODES: usize = 8;
    const MOST_RUNS: usize = 50;
    const MOST_EVENTS: usize = 2_000_000;
    let Some(patterns) = PATTERNS.as_ref() else { return Ok(()) };
    let table = &view.loaded.table;
    let mut reader = RecordReader::new(view.case.sources.clone());
    for run in runs.iter_mut().filter(|run| !run.trust.is_empty()).take(MOST_RUNS) {
        work.check()?;
        let Some(start) = run.start else { continue };
        let (from, until) = (start.saturating_sub(MINUTE), run.end.unwrap_or(start).saturating_add(MINUTE));
        let mut found: Vec<(String, Place)> = Vec::new();
        for row in table.order.iter().skip(table.place_of_time(from)).take(MOST_EVENTS).map(|row| Row(*row)) {
            let event = table.event(row);
            if event.order_time() > until || found.len() >= MOST_CODES {
                break;
            }
            if run.host.as_deref() != Some(event.host()) {
                continue;
            }
            let tells = |code: &Code| {
                let family = code.family.name();
                patterns
                    .codes
                    .iter()
                    .any(|range| range.family == family && (range.from..=range.to).contains(&code.number))
            };
            for code in event.codes().filter(tells) {
                let written = code.written(event.catalogues());
                let source = &view.case.sources[event.source()].name;
                if !found.iter().any(|(known, place)| *known == written && place.source == *source) {
                    found.push((written, Place { source: source.clone(), line: reader.place(event).line }));
                }
            }
        }
        if let Some(first) = run.trust.first_mut() {
            first.codes = found;
        }
    }
    Ok(())
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
        let mut codes: Vec<&str> = first.codes.iter().map(|(code, _)| code.as_str()).collect();
        codes.dedup();
        if codes.len() > 1 {
            run.summary.push_str(&format!(" Logs of this host call it {} then.", codes.join(", ")));
        }
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
