//! Restarts that a program asked for by its exit: done, and not in effect before a restart. People swallow these, since the
//! number is no failure.

use std::collections::HashMap;

use super::{Finding, Level};
use crate::analysis::{Analysis, CaseView, Pieces, Reads};
use crate::case::Case;
use crate::clock::MINUTE;
use crate::clock::human::{date_time, duration_text};
use crate::code::{Code, Outcome};
use crate::event::{EventRef, Row, Table};
use crate::timeline::marks::{MarkAnalysis, MarkKind, RailMark};
use crate::work::Work;
use crate::{Result, code};

/// A restart that comes so soon was part of the installation.
const AT_ONCE_NS: i64 = 10 * MINUTE;

/// Finds for each host and code the first time that a restart was asked for and did not come, or came late.
#[derive(Clone, Copy, Debug)]
pub struct RestartAnalysis;

impl Analysis for RestartAnalysis {
    const NAME: &'static str = "restarts";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = Vec<Finding>;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<Vec<Finding>> {
        let table = &view.loaded.table;
        let asked = asked(table);
        if asked.is_empty() {
            return Ok(Vec::new());
        }
        let marks = view.run(&MarkAnalysis, work)?;
        let findings = asked.into_iter().filter_map(|(row, code)| finding(&view.case, table, &marks, row, code));
        let mut findings: Vec<Finding> = findings.collect();
        findings.sort_by(|a, b| (a.level, &a.host, &a.evidence).cmp(&(b.level, &b.host, &b.evidence)));
        Ok(findings)
    }
}

/// For each host and code the first event that asks for a restart.
fn asked(table: &Table) -> Vec<(Row, Code)> {
    let mut known: HashMap<Code, bool> = HashMap::new();
    let mut first: HashMap<(u32, Code), (i64, Row)> = HashMap::new();
    for part in &table.parts {
        for (event, code) in &part.segment.codes {
            let row = Row(part.first_row + u32::from(*event));
            let code = table.code_of(part.segment.source, row, *code);
            let asks = |code: &Code| code::reading::outcome(*code, table.catalogues()) == Outcome::Restart;
            if !*known.entry(code).or_insert_with_key(asks) {
                continue;
            }
            let event = table.event(row);
            let key = (event.time().unwrap_or(i64::MAX), row);
            let entry = first.entry((event.actor().host, code)).or_insert(key);
            *entry = (*entry).min(key);
        }
    }
    first.into_iter().map(|((_, code), (_, row))| (row, code)).collect()
}

fn finding(case: &Case, table: &Table, marks: &[RailMark], row: Row, code: Code) -> Option<Finding> {
    let event = table.event(row);
    let asked = event.time()?;
    let of_host = |other: EventRef<'_>| other.actor().host == event.actor().host;
    let starts = marks.iter().filter(|mark| mark.kind == MarkKind::Start && mark.time > asked);
    let start = starts.map(|mark| (mark.time, table.event(mark.row))).find(|(_, start)| of_host(*start));
    let last = table.span.map_or(asked, |(_, last)| last);
    let (level, title, what) = match start {
        Some((time, _)) if time.saturating_sub(asked) <= AT_ONCE_NS => return None,
        Some((time, _)) => {
            let late = duration_text(time.saturating_sub(asked));
            (Level::Note, "restart needed, and late", format!("the host was started {late} later"))
        }
        None => {
            let rest = duration_text(last.saturating_sub(asked));
            (Level::Warning, "restart needed, and none seen", format!("no start of the host in the {rest} after it"))
        }
    };
    let reading = code.info(&case.catalogues);
    let name = reading.name.map_or(String::new(), |name| format!(" {name}"));
    Some(Finding {
        host: event.host().to_owned(),
        level,
        check: "restart-asked-for".into(),
        title: title.into(),
        evidence: format!("{}{name} at {}; {what}", code.written(&case.catalogues), &date_time(asked, &case.zone)[..19]),
        file: case.sources[event.source()].name.clone(),
        line: usize::try_from(event.place().line).unwrap_or(usize::MAX),
        more: Vec::new(),
        reason: "What was installed is not in effect before a restart: files in use are replaced only then, and old and new \
                 parts work side by side until it comes. Scripts often take this code for plain success."
            .into(),
        advice: "See what was started between the two moments; restart the host, then check whether the failure is gone."
            .into(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::case;

    fn found(text: &str) -> Vec<Finding> {
        case(&[("setup.log", text)]).view().run(&RestartAnalysis, &Work::default()).unwrap().to_vec()
    }

    const ASKED: &str = "2026-04-12T02:00:00Z setup: copied\n2026-04-12T02:00:10Z setup: finished, exit code 3010\n";

    #[test]
    fn a_restart_that_did_not_come_is_named_with_its_line() {
        let findings =
            found(&format!("{ASKED}2026-04-12T02:30:10Z setup: exit code 3010\n2026-04-12T03:00:10Z app: fed\n"));
        assert_eq!(findings.len(), 1, "{findings:?}");
        let Finding { level, evidence, line, .. } = &findings[0];
        assert_eq!((*level, *line), (Level::Warning, 2));
        assert!(evidence.starts_with("3010 ERROR_SUCCESS_REBOOT_REQUIRED at 2026-04-12 02:00:10"), "{evidence}");
        assert!(evidence.ends_with("no start of the host in the 1h00m after it"), "{evidence}");
    }

    #[test]
    fn a_late_one_is_worth_a_note_and_one_at_once_is_not() {
        let late = found(&format!("{ASKED}2026-04-12T05:00:10Z kernel: Linux version 6.1.0\n"));
        assert_eq!(late[0].level, Level::Note);
        assert!(late[0].evidence.ends_with("the host was started 3h00m later"), "{}", late[0].evidence);
        assert_eq!(found(&format!("{ASKED}2026-04-12T02:03:10Z kernel: Linux version 6.1.0\n")), []);
        assert_eq!(found("2026-04-12T02:00:00Z setup: finished, exit code 1603\n"), []);
    }
}
