//! How stable the machines of a case were, day by day: crashes, processes that were ended, stops without a shutdown, starts, and
//! installations, counted.

use std::collections::BTreeMap;

use super::{CrashReport, Kind};
use crate::analysis::CaseView;
use crate::clock::human::date_time;
use crate::clock::{MINUTE, Zone};
use crate::report::canvas::{Anchor, BAD, CALM, Canvas, FAINT, INK, WARN};
use crate::timeline::marks::{MarkKind, RailMark};

/// What is counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum DayMark {
    /// A process or system ended by a fault of its own.
    Crash,
    /// A process was ended by another, or for want of memory.
    Killed,
    /// A system stopped without having been shut down.
    UncleanStop,
    /// A system started after a clean stop.
    Start,
    /// An installation began.
    Install,
}

impl DayMark {
    /// All of them, the worst first.
    pub const ALL: [Self; 5] = [Self::Crash, Self::Killed, Self::UncleanStop, Self::Start, Self::Install];

    /// Its sign; those of marks are the rail's.
    pub fn sign(self) -> &'static str {
        match self {
            Self::Crash => "✕",
            Self::Killed => "↓",
            Self::UncleanStop => "▾",
            Self::Start => "▴",
            Self::Install => "▪",
        }
    }

    /// For people.
    pub fn name(self) -> &'static str {
        match self {
            Self::Crash => "crash",
            Self::Killed => "killed",
            Self::UncleanStop => "unclean stop",
            Self::Start => "start",
            Self::Install => "installation",
        }
    }
}

/// A day on which something happened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StabilityDay {
    /// The day in the zone that was asked for: `2026-04-12`.
    pub day: String,
    /// How often each thing happened, in the order of [`DayMark::ALL`].
    pub counts: [usize; 5],
}

/// A start or stop that is told within this time of a crash of the system is that crash.
const SAME_STOP_NS: i64 = 15 * MINUTE;

/// Counts by day, in order of time; only days on which something happened. What has no time is in none.
pub fn stability(view: &CaseView, crashes: &[CrashReport], marks: &[RailMark], zone: &Zone) -> Vec<StabilityDay> {
    let mut days: BTreeMap<String, [usize; 5]> = BTreeMap::new();
    let mut count = |time: i64, mark: DayMark| {
        let counts = days.entry(date_time(time, zone)[..10].to_owned()).or_default();
        if let Some(count) = counts.get_mut(mark as usize) {
            *count = count.saturating_add(1);
        }
    };
    let host_of = |mark: &RailMark| view.loaded.table.event(mark.row).host();
    // When systems stopped by themselves, by host: the start after that is no clean one.
    let mut stops: Vec<(&str, i64)> = Vec::new();
    for crash in crashes {
        let Some(time) = crash.time else { continue };
        let mark = match crash.crash.what.kind {
            Kind::Stop if crash.is_mark => DayMark::UncleanStop,
            Kind::Killed | Kind::OutOfMemory => DayMark::Killed,
            _ => DayMark::Crash,
        };
        if crash.crash.what.kind == Kind::Stop {
            stops.push((crash.host.as_deref().unwrap_or_default(), time));
        }
        count(time, mark);
    }
    let near = |stops: &[(&str, i64)], host: &str, time: i64| {
        stops.iter().any(|(of, at)| *of == host && time.saturating_sub(*at).saturating_abs() <= SAME_STOP_NS)
    };
    for mark in marks.iter().filter(|mark| mark.kind == MarkKind::UncleanStop) {
        let host = host_of(mark);
        if !near(&stops, host, mark.time) {
            stops.push((host, mark.time));
            count(mark.time, DayMark::UncleanStop);
        }
    }
    for mark in marks {
        match mark.kind {
            MarkKind::Start if !near(&stops, host_of(mark), mark.time) => count(mark.time, DayMark::Start),
            MarkKind::Install => count(mark.time, DayMark::Install),
            _ => {}
        }
    }
    days.into_iter().map(|(day, counts)| StabilityDay { day, counts }).collect()
}

/// Days that a drawing has room for: the last ones.
const MOST_DAYS: usize = 60;

/// Draws the days as columns, with the counts in them.
pub fn draw(days: &[StabilityDay], zone: &Zone) -> Canvas {
    const LEFT: f32 = 130.0;
    const COLUMN: f32 = 46.0;
    const ROW: f32 = 26.0;
    const TOP: f32 = 84.0;
    let shown = days.get(days.len().saturating_sub(MOST_DAYS)..).unwrap_or_default();
    let bottom = TOP + DayMark::ALL.len() as f32 * ROW;
    let mut canvas = Canvas::new((LEFT + shown.len() as f32 * COLUMN + 40.0).max(480.0), bottom + 50.0);
    canvas.title((20.0, 28.0), 18.0, "Stability by day");
    let left_out = days.len() - shown.len();
    let note = if left_out > 0 {
        format!("; {} before are not shown", crate::many(left_out as u64, "day"))
    } else {
        String::new()
    };
    canvas.text(
        (20.0, 50.0),
        12.0,
        Anchor::Start,
        &format!("days on which something happened; times are {zone}{note}"),
    );
    let most = shown.iter().flat_map(|day| day.counts).max().unwrap_or(1).max(1) as f32;
    for (at, mark) in DayMark::ALL.into_iter().enumerate() {
        let y = TOP + at as f32 * ROW;
        canvas.text((20.0, y + 17.0), 12.0, Anchor::Start, mark.name());
        canvas.line((LEFT, y + ROW - 2.0), (LEFT + shown.len() as f32 * COLUMN, y + ROW - 2.0), FAINT);
    }
    for (at, day) in shown.iter().enumerate() {
        let x = LEFT + at as f32 * COLUMN;
        canvas.text((x + COLUMN / 2.0, TOP - 8.0), 10.0, Anchor::Middle, &day.day[5..]);
        for (row, (mark, count)) in
            DayMark::ALL.into_iter().zip(day.counts).enumerate().filter(|(_, (_, count))| *count > 0)
        {
            let colour = match mark {
                DayMark::Crash | DayMark::UncleanStop => BAD,
                DayMark::Killed => WARN,
                DayMark::Start | DayMark::Install => CALM,
            };
            // The height tells at a glance what the number says.
            let height = 5.0 + 15.0 * count as f32 / most;
            let y = TOP + row as f32 * ROW + ROW - 2.0 - height;
            canvas.rect((x + 4.0, y), (14.0, height), colour);
            canvas.text((x + 24.0, TOP + row as f32 * ROW + 17.0), 12.0, Anchor::Start, &count.to_string());
        }
    }
    canvas.line((LEFT, TOP), (LEFT, bottom), INK);
    canvas
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::crash::CrashAnalysis;
    use crate::testing::case;
    use crate::timeline::marks::MarkAnalysis;
    use crate::work::Work;

    const LOG: &str = "\
Apr 10 08:00:00 gw kernel: Linux version 6.1.0 (made up)\n\
Apr 10 21:30:00 gw systemd[1]: dosing.service: Main process exited, code=killed, status=9/KILL\n\
Apr 11 23:30:00 gw kernel: dosingd[412]: segfault at 18 ip 00005581 sp 00007ffc error 4 in dosingd[5581+1000]\n\
Apr 12 09:00:00 gw kernel: Linux version 6.1.0 (made up)\n";

    fn days(zone: &str) -> Vec<StabilityDay> {
        let case = case(&[("gw/syslog", LOG)]);
        let view = case.view();
        let work = Work::default();
        let (crashes, marks) = (view.run(&CrashAnalysis, &work).unwrap(), view.run(&MarkAnalysis, &work).unwrap());
        stability(&view, &crashes, &marks, &Zone::parse(zone).unwrap())
    }

    fn told(days: &[StabilityDay]) -> Vec<String> {
        let of_day = |day: &StabilityDay| {
            let counts = DayMark::ALL.into_iter().zip(day.counts).filter(|(_, count)| *count > 0);
            let signs: String = counts.map(|(mark, count)| format!(" {}{count}", mark.sign())).collect();
            format!("{}{signs}", &day.day[5..])
        };
        days.iter().map(of_day).collect()
    }

    #[test]
    fn each_thing_is_counted_on_its_day() {
        assert_eq!(told(&days("UTC")), ["04-10 ↓1 ▴1", "04-11 ✕1", "04-12 ▴1"]);
    }

    #[test]
    fn days_are_those_of_the_zone() {
        assert_eq!(told(&days("+03:00")), ["04-10 ▴1", "04-11 ↓1", "04-12 ✕1 ▴1"]);
    }

    #[test]
    fn the_drawing_has_days_names_and_counts() {
        let svg = draw(&days("UTC"), &Zone::utc()).to_svg();
        for part in ["Stability by day", "04-10", "04-12", "killed", "unclean stop"] {
            assert!(svg.contains(part), "{part}: {svg}");
        }
        assert!(draw(&[], &Zone::utc()).to_svg().contains("Stability by day"));
        let many: Vec<_> =
            (0..100).map(|day| StabilityDay { day: format!("2026-01-{day:02}"), counts: [day; 5] }).collect();
        assert!(draw(&many, &Zone::utc()).to_svg().contains("40 days before are not shown"));
    }
}
