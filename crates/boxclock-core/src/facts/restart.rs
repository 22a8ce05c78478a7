//! Restarts that a program asked for by its exit: done, and not in effect before a restart. People swallow these, since the
//! number is no failure.

use std::collections::HashMap;

use super::{Finding, Level};
use crate::case::{Case, Loaded};
use crate::clock::MINUTE;
use crate::clock::human::{date_time, duration_text};
use crate::code::{Code, Outcome};
use crate::event::{EventRef, Row};
use crate::timeline::marks::{MarkKind, RailMark, marks};
use crate::work::Work;
use crate::{Result, code};

/// A restart that comes so soon was part of the installation.
const AT_ONCE: i64 = 10 * MINUTE;

/// For each host and code the first time that a restart was asked for and did not come, or came late.
///
/// # Errors
/// When cancelled.
pub fn restart_findings(case: &Case, loaded: &Loaded, work: &Work) -> Result<Vec<Finding>> {
    let asked = asked(loaded);
    if asked.is_empty() {
        return Ok(Vec::new());
    }
    let marks = marks(loaded, &case.sources, work)?;
    let mut findings: Vec<Finding> =
        asked.into_iter().filter_map(|(row, code)| finding(case, loaded, &marks, row, code)).collect();
    findings.sort_by(|a, b| (a.level, &a.host, &a.evidence).cmp(&(b.level, &b.host, &b.evidence)));
    Ok(findings)
}

/// For each host and code the first event that asks for a restart.
fn asked(loaded: &Loaded) -> Vec<(Row, Code)> {
    let table = &loaded.table;
    let mut known: HashMap<Code, bool> = HashMap::new();
    let mut first: HashMap<(u32, Code), (i64, Row)> = HashMap::new();
    for part in &table.parts {
        for (event, code) in &part.segment.codes {
            let row = Row(part.first_row + u32::from(*event));
            let code = table.code_of(part.segment.source, row, *code);
            let asks = |code: &Code| code::reading::outcome(*code) == Outcome::Restart;
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

fn finding(case: &Case, loaded: &Loaded, marks: &[RailMark], row: Row, code: Code) -> Option<Finding> {
    let event = loaded.table.event(row);
    let asked = event.time()?;
    let of_host = |other: EventRef<'_>| other.actor().host == event.actor().host;
    let starts = marks.iter().filter(|mark| mark.kind == MarkKind::Start && mark.time > asked);
    let start = starts.map(|mark| (mark.time, loaded.table.event(mark.row))).find(|(_, start)| of_host(*start));
    let last = loaded.table.span.map_or(asked, |(_, last)| last);
    let (level, title, what) = match start {
        Some((time, _)) if time.saturating_sub(asked) <= AT_ONCE => return None,
        Some((time, _)) => {
            let late = duration_text(time.saturating_sub(asked));
            (Level::Note, "restart needed, and late", format!("the host was started {late} later"))
        }
        None => {
            let rest = duration_text(last.saturating_sub(asked));
            (Level::Warning, "restart needed, and none seen", format!("no start of the host in the {rest} after it"))
        }
    };
    let reading = code.reading();
    let name = reading.name.map_or(String::new(), |name| format!(" {name}"));
    Some(Finding {
        host: event.host().to_owned(),
        level,
        check: "restart-asked-for".into(),
        title: title.into(),
        evidence: format!("{}{name} at {}; {what}", code.written(), &date_time(asked, &case.zone)[..19]),
        file: case.sources[event.source()].name.clone(),
        line: usize::try_from(event.place().line).unwrap_or(usize::MAX),
        reason: "What was installed is not in effect before a restart: files in use are replaced only then, and old and new \
                 parts work side by side until it comes. Scripts often take this code for plain success."
            .into(),
        advice: "See what was started between the two moments; restart the host, then look whether the failure is gone."
            .into(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::Options;

    fn found(text: &str) -> Vec<Finding> {
        let root = tempfile::tempdir().unwrap();
        std::fs::write(root.path().join("setup.log"), text).unwrap();
        let case = Case::open(&[root.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
        let loaded = case.load(&Work::default()).unwrap();
        restart_findings(&case, &loaded, &Work::default()).unwrap()
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
