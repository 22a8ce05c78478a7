//! What the logs themselves say as findings: clocks that were wrong, messages that stay away, logs that keep little.

use std::collections::BTreeMap;

use super::{MOST_OF_A_KIND, Places};
use crate::Result;
use crate::analysis::CaseView;
use crate::clock::HOUR;
use crate::clock::human::duration_text;
use crate::facts::{Finding, Level};
use crate::pattern::{PatternAnalysis, RhythmAnalysis};
use crate::report::sources::{SourceOut, sources};
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
    let view = places.view;
    let patterns = view.run(&PatternAnalysis, work)?;
    let rhythms = view.run(&RhythmAnalysis, work)?;
    let mut found = Vec::new();
    for (pattern, rhythm) in patterns.list.iter().zip(rhythms.iter()) {
        let Some(((since, period), (_, last))) = rhythm.missing_since.zip(rhythm.period_ns).zip(rhythm.rows) else {
            continue;
        };
        if rhythm.count < OFTEN {
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
                title: format!("Missing since {}: \"{text}\"", places.moment(since)),
                evidence: format!(
                    "it came {} times, every {}, and its log goes on without it",
                    rhythm.count,
                    duration_text(period)
                ),
                file,
                line,
                more: Vec::new(),
                reason: "What reports regularly and falls silent has often stopped, or was told to be silent.".into(),
                advice: "Check whether what writes it still runs, and what was changed there just before.".into(),
            },
        ));
    }
    found.sort_by_key(|(since, _)| *since);
    Ok(found.into_iter().map(|(_, finding)| finding).take(MOST_OF_A_KIND).collect())
}

/// Rotated logs that together reach back a few hours only, while others of the host reach back for days.
pub(super) fn short_logs(places: &Places<'_>) -> Vec<Finding> {
    const FEWEST_FILES: usize = 3;
    const SHORT_NS: i64 = 24 * HOUR;
    const LONG_NS: i64 = 3 * 24 * HOUR;
    // A log with all that it was rotated to is one.
    let logs = sources(&places.view.case, &places.view.loaded);
    let span = |log: &SourceOut| log.last.zip(log.first).map(|(last, first)| last.saturating_sub(first));
    let mut reach: BTreeMap<Option<&str>, i64> = BTreeMap::new();
    for log in &logs {
        let longest = reach.entry(log.host.as_deref()).or_default();
        *longest = (*longest).max(span(log).unwrap_or(0));
    }
    let is_short = |log: &&SourceOut| {
        let others = reach.get(&log.host.as_deref()).copied().unwrap_or(0);
        log.members.len() >= FEWEST_FILES && others >= LONG_NS && span(log).is_some_and(|span| span < SHORT_NS)
    };
    let of_one = |log: &SourceOut| {
        let first = log.first?;
        Some(Finding {
            host: log.host.clone().unwrap_or_default(),
            level: Level::Note,
            check: "retention".into(),
            title: format!("{} keeps {} only", log.source, duration_text(span(log)?)),
            evidence: format!("{} files, the oldest line of {}", log.members.len(), places.moment(first)),
            file: places.view.case.sources.get(log.members.start)?.name.clone(),
            line: 1,
            more: Vec::new(),
            reason: "What began earlier is not in it any more: its first line is not a beginning.".into(),
            advice: "Let it keep more, or find what writes so much, before the next failure.".into(),
        })
    };
    logs.iter().filter(is_short).filter_map(of_one).take(MOST_OF_A_KIND).collect()
}
