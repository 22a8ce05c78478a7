//! Moments worth a mark on the rail: starts, unclean stops, installations, clocks that were set, and silence.

use std::collections::HashMap;
use std::sync::OnceLock;

use regex::bytes::{Regex, RegexBuilder, RegexSet, RegexSetBuilder};

use super::silence::silences;
use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Window};
use crate::event::{Row, Table};
use crate::work::{Work, parallel};

/// What happened then.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
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
const MAX_MARKS_PER_KIND: usize = 2000;

/// Finds the moments, in order of time.
#[derive(Clone, Copy, Debug)]
pub struct MarkAnalysis;

/// What one segment says by its words: event, and the place of its kind in [`WORDS`].
pub type MarkPiece = Vec<(u16, u8)>;

/// All words at once, and each kind's; a test compiles them.
fn words() -> Option<&'static (Regex, RegexSet)> {
    static COMPILED: OnceLock<Option<(Regex, RegexSet)>> = OnceLock::new();
    let compile = || {
        let patterns: Vec<String> = WORDS.iter().map(|(_, words)| format!("(?i-u:{words})")).collect();
        let any = RegexBuilder::new(&patterns.join("|")).unicode(false).build().ok()?;
        Some((any, RegexSetBuilder::new(&patterns).unicode(false).build().ok()?))
    };
    COMPILED.get_or_init(compile).as_ref()
}

impl Analysis for MarkAnalysis {
    const NAME: &'static str = "marks";
    const VERSION: u32 = 1;
    type Piece = MarkPiece;
    type Found = Vec<RailMark>;

    fn window(&self, piece: &mut MarkPiece, window: &Window<'_>) {
        let Some((any, each)) = words() else { return };
        let mut at = 0;
        while let Some(hit) = any.find_at(window.bytes, at) {
            let seen = window.event_at(hit.start());
            // A hit that goes over the end of a record is none.
            let kinds = each.matches(seen.text);
            piece.extend(kinds.into_iter().map(|kind| (seen.index as u16, kind as u8)));
            at = seen.end.max(hit.end());
        }
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, MarkPiece>, work: &Work) -> Result<Vec<RailMark>> {
        let table = &view.loaded.table;
        let of_parts = parallel(table.parts.len(), work, |at| {
            let part = &table.parts[at];
            let marks = pieces.of_part(at)?.into_iter().filter_map(|(event, kind)| {
                let event = (usize::from(event) < part.segment.len())
                    .then(|| table.event(Row(part.first_row + u32::from(event))))?;
                Some(RailMark { time: event.time()?, kind: WORDS.get(usize::from(kind))?.0, row: event.row })
            });
            Ok(marks.collect::<Vec<RailMark>>())
        });
        work.check()?;
        let mut marks: Vec<RailMark> = of_parts.into_iter().collect::<Result<Vec<_>>>()?.concat();
        marks.extend(silences(table, work));
        marks.extend(jumps_back(table));
        work.check()?;
        marks.sort_by_key(|mark| (mark.time, mark.kind, mark.row));
        let mut counts: HashMap<MarkKind, usize> = HashMap::new();
        marks.retain(|mark| {
            let count = counts.entry(mark.kind).or_default();
            *count += 1;
            *count <= MAX_MARKS_PER_KIND
        });
        Ok(marks)
    }
}

/// Where the times of a source go back by more than a minute in the order of its file: its clock was set, or it was written by two.
fn jumps_back(table: &Table) -> Vec<RailMark> {
    const BACK_NS: i64 = crate::clock::MINUTE;
    let mut found: Vec<RailMark> = Vec::new();
    for row in &table.disordered {
        if found.len() >= MAX_MARKS_PER_KIND {
            break;
        }
        let event = table.event(Row(*row));
        let before = row.checked_sub(1).map(|before| table.event(Row(before)));
        let before = before.filter(|before| before.source() == event.source());
        if let (Some(time), Some(last)) = (event.time(), before.and_then(|before| before.time()))
            && last.saturating_sub(time) > BACK_NS
        {
            found.push(RailMark { time, kind: MarkKind::ClockSet, row: event.row });
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::case;

    #[test]
    fn the_words_are_good() {
        let (any, each) = words().unwrap();
        assert_eq!(each.len(), WORDS.len());
        assert!(any.is_match(b"kernel: LINUX version 6.1.0"));
    }

    #[test]
    fn moments_are_found() {
        let mut text = String::new();
        for second in 0..100 {
            text.push_str(&format!("2026-04-12T02:{:02}:{:02}Z app: fed\n", second / 60, second % 60));
        }
        text.push_str("2026-04-12T03:00:00Z kernel: Linux version 6.1.0\n");
        text.push_str("2026-04-12T03:00:01Z kernel: EXT4-fs (vda1): recovering journal\n");
        text.push_str("2026-04-12T03:00:02Z dpkg: startup packages configure\n");
        text.push_str("2026-04-12T03:00:03Z systemd: Time has been changed\n");
        text.push_str("2026-04-12T03:00:04Z app: started the pump\n");
        let case = case(&[("a.log", text)]);
        let view = case.view();
        let found = view.run(&MarkAnalysis, &Work::default()).unwrap();
        let kinds: Vec<&str> = found.iter().map(|mark| mark.kind.name()).collect();
        assert_eq!(kinds, ["silence", "start", "unclean stop", "installation", "clock set"]);
        assert_eq!(view.loaded.table.event(found[0].row).line(), 100, "the last one before the silence");
    }

    #[test]
    fn a_clock_that_goes_back_is_marked_where_it_does() {
        let text = "2026-04-12T02:10:00Z app: fed\n2026-04-12T02:11:00Z app: fed\n2026-04-12T02:01:00Z app: fed\n\
                    2026-04-12T02:00:50Z app: fed\n2026-04-12T02:02:00Z app: fed\n";
        let case = case(&[("a.log", text)]);
        let view = case.view();
        let found = view.run(&MarkAnalysis, &Work::default()).unwrap();
        let lines: Vec<u64> = found.iter().map(|mark| view.loaded.table.event(mark.row).line()).collect();
        assert_eq!(lines, [3], "ten minutes back; ten seconds are no jump: {found:?}");
        assert_eq!(found[0].kind.name(), "clock set");
    }
}
