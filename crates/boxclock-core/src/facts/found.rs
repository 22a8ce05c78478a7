//! What analyses found, as findings: crashes, installations that did not end well, known faults, resources, clocks, messages that stay
//! away, and logs that keep little.

use super::{Finding, Level};
use crate::Result;
use crate::analysis::{CaseView, pass};
use crate::card::{CardAnalysis, CardMatch, Cards};
use crate::clock::human::date_time;
use crate::crash::{CrashAnalysis, CrashReport, Kind};
use crate::event::{RecordReader, Row};
use crate::install::{InstallAnalysis, Outcome, Run};
use crate::knot::{Knot, KnotAnalysis};
use crate::pattern::PatternAnalysis;
use crate::resource::ResourceAnalysis;
use crate::timeline::drift::ClockAnalysis;
use crate::timeline::marks::MarkAnalysis;
use crate::work::Work;

mod logs;
mod resources;

/// Findings of one kind that are made: more say the same.
const MOST_OF_A_KIND: usize = 12;

/// Finds the places of events.
struct Places<'v> {
    view: &'v CaseView,
    reader: RecordReader,
}

impl Places<'_> {
    fn of(&mut self, row: Row) -> (String, usize) {
        let event = self.view.loaded.table.event(row);
        let line = self.reader.place(event).line;
        (self.view.case.sources[event.source()].name.clone(), usize::try_from(line).unwrap_or(usize::MAX))
    }

    fn moment(&self, time: i64) -> String {
        date_time(time, &self.view.case.zone)[..19].to_owned()
    }
}

/// The findings of all analyses that have some.
///
/// # Errors
/// When cancelled.
pub(super) fn findings(view: &CaseView, work: &Work) -> Result<Vec<Finding>> {
    // One reading of the text for all that have not read it yet.
    let cards = CardAnalysis::new(Cards::of(&view.case));
    let marks = (pass(&PatternAnalysis), pass(&MarkAnalysis));
    let rest = (pass(&ResourceAnalysis), pass(&ClockAnalysis));
    view.run_together(
        &[&pass(&CrashAnalysis), &pass(&InstallAnalysis), &pass(&cards), &marks.0, &marks.1, &rest.0, &rest.1],
        work,
    )?;
    let crashes = view.run(&CrashAnalysis, work)?;
    let installs = view.run(&InstallAnalysis, work)?;
    let mut found: Vec<Finding> = crashes.iter().map(|report| of_crash(view, report)).collect();
    found.extend(installs.iter().filter_map(of_run));
    found.extend(view.run(&cards, work)?.iter().filter_map(|card| of_card(view, card)));
    found.extend(view.run(&KnotAnalysis::default(), work)?.iter().filter_map(of_knot));
    let resources = view.run(&ResourceAnalysis, work)?;
    let full = resources.iter().filter(|one| one.full.is_some()).count();
    let mut places = Places { view, reader: RecordReader::new(view.case.sources.clone()) };
    found.extend(
        resources
            .iter()
            .take(MOST_OF_A_KIND)
            .enumerate()
            .filter_map(|(at, one)| resources::of_resource(&mut places, one, at, full)),
    );
    found.extend(logs::clocks(view, work)?);
    found.extend(logs::missing_messages(&mut places, work)?);
    found.extend(logs::short_logs(&places));
    Ok(found)
}

fn of_crash(view: &CaseView, report: &CrashReport) -> Finding {
    let advice = report.remedies.first().map_or("Look at the page of this crash.".to_owned(), |(what, _)| what.clone());
    let time = report.time.map_or(String::new(), |time| format!(" at {}", &date_time(time, &view.case.zone)[..19]));
    let process = report.crash.process.as_deref().unwrap_or("a process");
    let name = report.crash.what.name.as_deref().unwrap_or(report.crash.what.kind.name());
    Finding {
        host: report.host.clone().unwrap_or_default(),
        level: if report.is_mark { Level::Warning } else { Level::Critical },
        check: "crash".into(),
        title: format!(
            "{} stopped{time}: {name}",
            if report.crash.what.kind == Kind::Stop { "the system" } else { process }
        ),
        evidence: report.summary.clone(),
        file: report.place.source.clone(),
        line: usize::try_from(report.place.line).unwrap_or(usize::MAX),
        more: Vec::new(),
        reason: "What stopped by itself did not do its work from then on.".into(),
        advice,
    }
}

fn of_card(view: &CaseView, found: &CardMatch) -> Option<Finding> {
    let places: Vec<(String, usize)> =
        found.places().map(|place| (place.source.clone(), usize::try_from(place.line).unwrap_or(usize::MAX))).collect();
    let (first, more) = places.split_first()?;
    let count: usize = found.signs.iter().map(|sign| sign.count).sum();
    let advice: Vec<&str> = found.card.remedies.iter().map(|remedy| remedy.what.as_str()).collect();
    Some(Finding {
        host: found.host(view),
        level: found.card.level,
        check: "card".into(),
        title: format!("This is known: {} ({})", found.card.title, found.card.name),
        evidence: match (found.signs.len(), found.card.signs.len()) {
            (_, 1) => crate::many(count as u64, "line"),
            (met, all) => format!("{met} of its {all} signs are met, by {}", crate::many(count as u64, "line")),
        },
        file: first.0.clone(),
        line: first.1,
        more: more.to_vec(),
        reason: found.card.cause.clone(),
        advice: advice.join("\n"),
    })
}

/// A knot is a place to look at, and no failure as such.
fn of_knot(knot: &Knot) -> Option<Finding> {
    let places: Vec<(String, usize)> = knot
        .strands
        .iter()
        .map(|strand| (strand.source.clone(), usize::try_from(strand.line).unwrap_or(usize::MAX)))
        .collect();
    let (first, more) = places.split_first()?;
    Some(Finding {
        host: knot.hosts.first().cloned().unwrap_or_default(),
        level: if knot.score >= 0.5 { Level::Warning } else { Level::Note },
        check: "knot".into(),
        title: format!("Unusual and bad together: {}", knot.reasons.join("; ")),
        evidence: knot.summary.clone(),
        file: first.0.clone(),
        line: first.1,
        more: more.to_vec(),
        reason: "What is rare and bad at the same time in several logs often lies close to the cause.".into(),
        advice: "Read these lines in order, and what comes just before the first of them.".into(),
    })
}

fn of_run(run: &Run) -> Option<Finding> {
    let (level, advice) = match run.outcome {
        Outcome::Failed | Outcome::RolledBack => {
            (Level::Critical, "Go to the line that failed first, fix that, and run the installation again.")
        }
        Outcome::CutOff => (Level::Warning, "Find out what ended it and what is half done; then run it again."),
        Outcome::Refused => {
            (Level::Warning, "Wait until the other installation has ended, or end it; then run this one again.")
        }
        Outcome::Cancelled | Outcome::Succeeded | Outcome::RestartNeeded | Outcome::Running => return None,
    };
    let place = run.first_failure.as_ref().map(|first| (first.place.source.clone(), first.place.line));
    let (file, line) = place.unwrap_or_else(|| (run.source.clone(), run.line));
    let product = run.product.as_deref().unwrap_or("an installation");
    Some(Finding {
        host: run.host.clone().unwrap_or_default(),
        level,
        check: "install".into(),
        title: format!("{product}: {}", run.outcome.name()),
        evidence: run.summary.clone(),
        file,
        line: usize::try_from(line).unwrap_or(usize::MAX),
        more: Vec::new(),
        reason: "What was to be installed is not there, or only in part.".into(),
        advice: advice.into(),
    })
}
