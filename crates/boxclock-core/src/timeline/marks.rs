//! Moments worth a mark on the rail: starts, unclean stops, installations, clocks that were set, and silence.

use std::sync::Arc;

use regex::bytes::{RegexSet, RegexSetBuilder};

use crate::case::{Loaded, Source};
use crate::event::{RecordReader, Row};
use crate::query::Filter;
use crate::work::Work;
use crate::{Error, Result};

/// What happened then.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum MarkKind {
    /// A system or its log service started.
    Start,
    /// A system stopped without having been shut down.
    UncleanStop,
    /// An installation began.
    Install,
    /// A clock was set.
    ClockSet,
    /// Nothing was written for much longer than is usual for the host.
    Silence,
}

impl MarkKind {
    /// For people.
    pub fn name(self) -> &'static str {
        match self {
            Self::Start => "start",
            Self::UncleanStop => "unclean stop",
            Self::Install => "installation",
            Self::ClockSet => "clock set",
            Self::Silence => "silence",
        }
    }
}

/// A moment and what happened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RailMark {
    /// Corrected time, UTC nanoseconds.
    pub time: i64,
    /// What.
    pub kind: MarkKind,
    /// The event that says so; for silence the last one before it.
    pub row: Row,
}

/// Words by which programs say these things. Sources: the kernel's banner and journal recovery messages, the texts of the event
/// log's own events 6005, 6008, 12 and 41, the service manager's, dpkg's and the installer service's first lines.
const WORDS: [(MarkKind, &str); 4] = [
    (
        MarkKind::Start,
        r"Linux version [0-9]|Booting (Linux|paravirtualized)|event log service was started|operating system started at|syslogd? .{0,40}(start|restart)|Startup finished in",
    ),
    (
        MarkKind::UncleanStop,
        r"(previous|last) system shutdown .{0,60}unexpected|rebooted without cleanly shutting down|unclean(ly)? (shut ?down|stop)|Kernel panic|recovering journal|was not properly (unmounted|shut down)|shut ?down was unexpected",
    ),
    (
        MarkKind::Install,
        r"startup (archives|packages) (unpack|configure|install|remove)|=== (Verbose )?logging started|Start-Date: |Beginning a .{0,30}Installer transaction|install(ation|er) (run |of .{0,40})?(started|begins|starting)|setup (started|begins)",
    ),
    (
        MarkKind::ClockSet,
        r"system time has (been )?changed|clock (was |has been )?(set|stepped|jumped)|Time has been changed|time jumped",
    ),
];

/// Marks of one kind that are kept: more would cover the rail.
const MOST: usize = 2000;
/// Silence is this many times as long as the longest usual pause of a host…
const LONGER: i64 = 20;
/// …and at least this long.
const SILENCE: i64 = 5 * crate::clock::MINUTE;

/// Looks for the moments, in order of time. Cost: one search through all text.
///
/// # Errors
/// When cancelled.
pub fn marks(loaded: &Loaded, sources: &Arc<Vec<Source>>, work: &Work) -> Result<Vec<RailMark>> {
    let table = &loaded.table;
    let all: Vec<&str> = WORDS.iter().map(|(_, words)| *words).collect();
    let any = Filter::find(&format!("/(?i){}/", all.join("|"))).map_err(|error| Error::new(error.message))?;
    let found = any.rows(table, sources, work)?;
    let kinds = kinds()?;
    let mut reader = RecordReader::new(Arc::clone(sources));
    let mut marks: Vec<RailMark> = Vec::new();
    let mut counts = [0; WORDS.len()];
    for row in table.order.iter().filter(|row| found.contains(**row)) {
        let event = table.event(Row(*row));
        let Some(time) = event.time() else { continue };
        let text = reader.text(event).unwrap_or_default();
        for kind in kinds.matches(text.as_bytes()) {
            if counts[kind] < MOST {
                counts[kind] += 1;
                marks.push(RailMark { time, kind: WORDS[kind].0, row: event.row });
            }
        }
        if counts.iter().all(|count| *count >= MOST) {
            break;
        }
    }
    marks.extend(silences(loaded, work));
    marks.extend(jumps_back(loaded, work));
    work.check()?;
    marks.sort_by_key(|mark| (mark.time, mark.kind));
    Ok(marks)
}

fn kinds() -> Result<RegexSet> {
    let patterns = WORDS.iter().map(|(_, words)| format!("(?i){words}"));
    RegexSetBuilder::new(patterns).build().map_err(|error| Error::caused("the words of rail marks", error))
}

/// Where the times of a source go back by more than a minute in the order of its file: its clock was set, or it was written by two.
fn jumps_back(loaded: &Loaded, work: &Work) -> Vec<RailMark> {
    const BACK: i64 = crate::clock::MINUTE;
    let table = &loaded.table;
    let mut found: Vec<RailMark> = Vec::new();
    for (at, row) in table.disordered.iter().enumerate() {
        if found.len() >= MOST || (at % 65_536 == 0 && work.is_cancelled()) {
            break;
        }
        let event = table.event(Row(*row));
        let before = row.checked_sub(1).map(|before| table.event(Row(before)));
        let before = before.filter(|before| before.source() == event.source());
        if let (Some(time), Some(last)) = (event.time(), before.and_then(|before| before.time()))
            && last.saturating_sub(time) > BACK
        {
            found.push(RailMark { time, kind: MarkKind::ClockSet, row: event.row });
        }
    }
    found
}

/// Where a host is silent for much longer than it usually is.
fn silences(loaded: &Loaded, work: &Work) -> Vec<RailMark> {
    #[derive(Clone, Default)]
    struct Lane {
        last: Option<(i64, Row)>,
        /// A slowly forgetting mean of the pauses, nanoseconds.
        pause: f64,
        events: u32,
    }
    let table = &loaded.table;
    let mut lanes = vec![Lane::default(); table.hosts.len()];
    let mut found = Vec::new();
    for (at, row) in table.order.iter().enumerate() {
        if at % 65_536 == 0 && work.is_cancelled() {
            break;
        }
        let event = table.event(Row(*row));
        let Some(time) = event.time() else { continue };
        let lane = &mut lanes[event.actor().host as usize];
        if let Some((last, row)) = lane.last {
            let pause = time.saturating_sub(last);
            let usual = (lane.pause as i64).saturating_mul(LONGER).max(SILENCE);
            if lane.events > 50 && pause > usual && found.len() < MOST {
                found.push(RailMark { time: last, kind: MarkKind::Silence, row });
            } else {
                lane.pause += (pause as f64 - lane.pause) / 64.0;
            }
        }
        lane.last = Some((time, event.row));
        lane.events = lane.events.saturating_add(1);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::{Case, Options};

    #[test]
    fn moments_are_found() {
        let root = tempfile::tempdir().unwrap();
        let mut text = String::new();
        for second in 0..100 {
            text.push_str(&format!("2026-04-12T02:{:02}:{:02}Z app: fed\n", second / 60, second % 60));
        }
        text.push_str("2026-04-12T03:00:00Z kernel: Linux version 6.1.0\n");
        text.push_str("2026-04-12T03:00:01Z kernel: EXT4-fs (vda1): recovering journal\n");
        text.push_str("2026-04-12T03:00:02Z dpkg: startup packages configure\n");
        text.push_str("2026-04-12T03:00:03Z systemd: Time has been changed\n");
        text.push_str("2026-04-12T03:00:04Z app: started the pump\n");
        std::fs::write(root.path().join("a.log"), text).unwrap();
        let case = Case::open(&[root.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
        let loaded = case.load(&Work::default()).unwrap();
        let found = marks(&loaded, &case.sources, &Work::default()).unwrap();
        let kinds: Vec<&str> = found.iter().map(|mark| mark.kind.name()).collect();
        assert_eq!(kinds, ["silence", "start", "unclean stop", "installation", "clock set"]);
        assert_eq!(loaded.table.event(found[0].row).line(), 100, "the last one before the silence");
    }

    #[test]
    fn a_clock_that_goes_back_is_marked_where_it_does() {
        let root = tempfile::tempdir().unwrap();
        let text = "2026-04-12T02:10:00Z app: fed\n2026-04-12T02:11:00Z app: fed\n2026-04-12T02:01:00Z app: fed\n\
                    2026-04-12T02:00:50Z app: fed\n2026-04-12T02:02:00Z app: fed\n";
        std::fs::write(root.path().join("a.log"), text).unwrap();
        let case = Case::open(&[root.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
        let loaded = case.load(&Work::default()).unwrap();
        let found = marks(&loaded, &case.sources, &Work::default()).unwrap();
        let lines: Vec<u64> = found.iter().map(|mark| loaded.table.event(mark.row).line()).collect();
        assert_eq!(lines, [3], "ten minutes back; ten seconds are no jump: {found:?}");
        assert_eq!(found[0].kind.name(), "clock set");
    }
}
