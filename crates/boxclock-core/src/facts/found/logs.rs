//! What the logs themselves say as findings: clocks that were wrong, messages that stay away, logs that keep little.

use std::collections::BTreeMap;

use super::{MOST_OF_A_KIND, Places};
use crate::Result;
use crate::analysis::CaseView;
use crate::clock::HOUR;
use crate::clock::human::duration_text;
use crate::facts::{Finding, Level};
use crate::pattern::{PatternAnalysis, RhythmAnalysis};
use crate::timeline::drift::{ClockAnalysis, Suggestion};
use crate::work::Work;

/// Clocks that were wrong, as far as the case shows it.
pub(super) fn clocks(view: &CaseView, work: &Work) -> Result<Vec<Finding>> {
    let found = view.run(&ClockAnalysis, work)?;
    let of_one = |one: &Suggestion| {
        let pair = one.evidence.first()?;
        let (file, line, _) = &pair.here;
        Some(Finding {
            host: one.host.clone(),
            level: Level::Warning,
            check: "clock".into(),
            title: format!("The clock of {} seems wrong: add {} to its times", one.host, one.drift_text()),
            evidence: one.reason.clone(),
            file: file.clone(),
            line: usize::try_from(*line).unwrap_or(usize::MAX),
            more: vec![(pair.there.0.clone(), usize::try_from(pair.there.1).unwrap_or(usize::MAX))],
            reason: "Times of hosts are compared with each other: with a wrong clock what comes first and what follows is wrong.".into(),
            advice: "Correct it for this case, and set the host's clock by a time service.".into(),
        })
    };
    Ok(found.iter().filter_map(of_one).take(MOST_OF_A_KIND).collect())
}

/// Messages that came regularly, and stay away while their log goes on.
pub(super) fn missing_messages(places: &mut Places<'_>, work: &Work) -> Result<Vec<Finding>> {
    /// So often a message must have come to be missed.
    const OFTEN: u32 = 20;
    /// So many of its periods it must be missing.
    const PERIODS: i64 = 10;
    let view = places.view;
    let patterns = view.run(&PatternAnalysis, work)?;
    let rhythms = view.run(&RhythmAnalysis, work)?;
    let Some((_, end)) = view.loaded.table.span else { return Ok(Vec::new()) };
    let mut found = Vec::new();
    for (pattern, rhythm) in patterns.list.iter().zip(rhythms.iter()) {
        let Some(((since, period), (_, last))) = rhythm.missing_since.zip(rhythm.period_ns).zip(rhythm.rows) else {
            continue;
        };
        if rhythm.count < OFTEN || end.saturating_sub(since) < period.saturating_mul(PERIODS) {
            continue;
        }
        let event = view.loaded.table.event(last);
        let (host, body) = (event.host().to_owned(), places.reader.record(view.loaded.table.event(pattern.first)).body);
        let text: String = body.lines().next().unwrap_or_default().chars().take(120).collect();
        let (file, line) = places.of(last);
        found.push((
            since,
            Finding {
                host,
                level: Level::Note,
                check: "silence".into(),
                title: format!("Stays away since {}: \"{text}\"", places.moment(since)),
                evidence: format!(
                    "it came {} times, every {}, and its log goes on without it",
                    rhythm.count,
                    duration_text(period)
                ),
                file,
                line,
                more: Vec::new(),
                reason: "What reports at a beat and falls silent has often stopped, or was told to be silent.".into(),
                advice: "Look whether what writes it still runs, and what was changed there just before.".into(),
            },
        ));
    }
    found.sort_by_key(|(since, _)| *since);
    Ok(found.into_iter().map(|(_, finding)| finding).take(MOST_OF_A_KIND).collect())
}

/// Rotated logs that together reach back a few hours only, while others of the host reach back for days.
pub(super) fn short_logs(places: &mut Places<'_>) -> Vec<Finding> {
    const SHORT_NS: i64 = 24 * HOUR;
    const LONG_NS: i64 = 3 * 24 * HOUR;
    let view = places.view;
    let table = &view.loaded.table;
    // A log and those that it was rotated to: `app.log`, `app.log.1`, `app.log.2.gz`, `app-20260412.log`.
    let mut families: BTreeMap<(String, String), (i64, i64, usize, usize)> = BTreeMap::new();
    for (index, source) in view.case.sources.iter().enumerate() {
        let times = || table.rows_of(index).filter_map(|row| table.event(row).time());
        let (Some(first), Some(last)) = (times().min(), times().max()) else { continue };
        let key = (source.host.clone().unwrap_or_default(), family(&source.name));
        let known = families.entry(key).or_insert((first, last, 0, index));
        if first < known.0 {
            known.3 = index;
        }
        *known = (known.0.min(first), known.1.max(last), known.2 + 1, known.3);
    }
    let mut reach: BTreeMap<&str, i64> = BTreeMap::new();
    for ((host, _), (first, last, ..)) in &families {
        let longest = reach.entry(host).or_default();
        *longest = (*longest).max(last.saturating_sub(*first));
    }
    let mut found = Vec::new();
    for ((host, name), (first, last, files, oldest)) in &families {
        let span = last.saturating_sub(*first);
        if *files < 3 || span >= SHORT_NS || reach.get(host.as_str()).copied().unwrap_or(0) < LONG_NS {
            continue;
        }
        let source = &view.case.sources[*oldest];
        found.push(Finding {
            host: host.clone(),
            level: Level::Note,
            check: "retention".into(),
            title: format!("{name} keeps {} only", duration_text(span)),
            evidence: format!("{files} files, the oldest line of {}", places.moment(*first)),
            file: source.name.clone(),
            line: 1,
            more: Vec::new(),
            reason: "What began earlier is not in it any more: its first line is no beginning.".into(),
            advice: "Let it keep more, or find what writes so much, before the next failure.".into(),
        });
    }
    found.truncate(MOST_OF_A_KIND);
    found
}

/// The name of a log without what rotation adds.
fn family(name: &str) -> String {
    let mut name = name.to_owned();
    for packed in [".gz", ".xz", ".bz2", ".zst"] {
        name = name.strip_suffix(packed).map_or(name.clone(), str::to_owned);
    }
    let is_counter =
        |end: &str| !end.is_empty() && end.len() <= 10 && end.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-');
    if let Some((rest, end)) = name.rsplit_once('.')
        && is_counter(end)
    {
        name = rest.to_owned();
    }
    if let Some((rest, end)) = name.rsplit_once('.')
        && let Some((stem, number)) = rest.rsplit_once(['-', '_'])
        && is_counter(number)
    {
        name = format!("{stem}.{end}");
    }
    name
}
