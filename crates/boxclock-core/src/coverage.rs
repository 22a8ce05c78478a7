//! Does the box cover the moment? For each host and class of logs: whether what was gathered reaches over the window, and
//! what to do where it does not.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use crate::case::{Case, Loaded, ZoneFrom};
use crate::clock::{MINUTE, TimeKnown, human, to_rfc3339};
use crate::event::{NO_TIME, flag};
use crate::gather::{Window, time_of};
use crate::report::sources::{hosts_of, rfc3339};
use crate::severity::Severity;
use crate::source::Class;
use crate::work::{Work, parallel};

/// How well a class of logs of one host covers the window.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cover {
    /// Its logs reach over the window.
    Covered,
    /// Nothing was written for much longer than usual.
    SilentGap,
    /// Its times carry no zone, and none is known.
    ClockUnknown,
    /// Its logs end before the window does.
    EndsTooEarly,
    /// Its logs begin after the window does: older ones were rotated away.
    StartsTooLate,
    /// There are logs, and they could not be read.
    NotReadable,
    /// There are none.
    NothingFound,
}

impl Cover {
    /// Its name in the JSON form.
    pub fn name(self) -> &'static str {
        match self {
            Self::Covered => "covered",
            Self::SilentGap => "silent-gap",
            Self::ClockUnknown => "clock-unknown",
            Self::EndsTooEarly => "ends-too-early",
            Self::StartsTooLate => "starts-too-late",
            Self::NotReadable => "not-readable",
            Self::NothingFound => "nothing-found",
        }
    }

    /// The same for people.
    pub fn words(self) -> &'static str {
        match self {
            Self::Covered => "covered",
            Self::SilentGap => "silent gap",
            Self::ClockUnknown => "clock unknown",
            Self::EndsTooEarly => "ends too early",
            Self::StartsTooLate => "starts too late",
            Self::NotReadable => "not readable",
            Self::NothingFound => "nothing found",
        }
    }

    /// What to do about it.
    pub fn advice(self) -> &'static str {
        match self {
            Self::Covered => "",
            Self::SilentGap => {
                "find out whether the writer was stopped or the machine hung: the silence is evidence itself"
            }
            Self::ClockUnknown => "state the zone of this host or source (--zone, or in the Box view)",
            Self::EndsTooEarly => "gather again now: what was written since is missing, or the writer stopped here",
            Self::StartsTooLate => "look for rotated or archived logs, backups, or a log server that received them",
            Self::NotReadable => "gather again with more rights, or ask the owner of these files",
            Self::NothingFound => "check the recipe and the paths, and whether this host logs elsewhere",
        }
    }
}

/// One row: a host, a class, and how it is covered.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Row {
    /// The label of the host.
    pub host: String,
    /// The class.
    pub class: Class,
    /// How well it is covered.
    pub state: Cover,
    /// First corrected time in its logs, UTC nanoseconds.
    #[serde(serialize_with = "rfc3339")]
    pub first: Option<i64>,
    /// Last corrected time in its logs, UTC nanoseconds.
    #[serde(serialize_with = "rfc3339")]
    pub last: Option<i64>,
    /// What exactly.
    pub detail: String,
    /// What to do about it.
    pub advice: &'static str,
    /// The sources that were looked at.
    pub sources: Vec<String>,
}

/// The moment that a case is about, and who says so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Moment {
    /// The span that should be covered.
    pub window: Window,
    /// Where nobody stated a moment: all groups of problems that it could be, the worst first. The window is then around the last
    /// group.
    pub unstated: Option<Vec<ProblemGroup>>,
}

/// Problems that lie less than ten minutes apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ProblemGroup {
    /// First and last corrected time, UTC nanoseconds.
    pub span: (i64, i64),
    /// The time of the first one of the worst severity.
    pub worst: i64,
    /// That severity.
    pub severity: Severity,
    /// How many problems.
    pub count: u64,
}

impl Moment {
    /// Says that no moment was stated, and which ones it could be; nothing where one was.
    pub fn note(&self, zone: &crate::clock::Zone) -> Option<String> {
        /// Groups that are named.
        const MOST: usize = 3;
        let groups = self.unstated.as_ref()?;
        let time = |ns: i64| human::date_time(ns, zone)[..16].to_owned();
        let named: Vec<String> = (groups.iter().take(MOST))
            .map(|group| format!("{} ({})", time(group.worst), crate::many(group.count, "problem")))
            .collect();
        Some(format!("No moment was stated; the last problems are taken. It could be {}.", named.join(", ")))
    }
}

/// The moment that a case is about: what was gathered for, what the story says, or else the last problems.
pub fn moment(case: &Case, loaded: &Loaded) -> Option<Moment> {
    let sealed = case.seal.as_ref().and_then(|seal| seal.window.as_ref()?.window());
    let since = || {
        // What the story says is about the failure itself.
        // "Yesterday" in a file says nothing about when that was: only what means the same at any time counts.
        let at = |now| human::moment(&case.story.since, &case.zone, now).ok();
        let moment = at(0).filter(|moment| at(i64::MAX / 2) == Some(*moment))?;
        Some(Window::around(moment, 10 * MINUTE))
    };
    let stated = sealed.or_else(since).map(|window| Moment { window, unstated: None });
    stated.or_else(|| {
        let mut groups = problem_groups(loaded);
        let last = *groups.first()?;
        groups.sort_by_key(|group| std::cmp::Reverse((group.severity, group.count)));
        Some(Moment { window: Window::around(last.worst, 10 * MINUTE), unstated: Some(groups) })
    })
}

/// Groups of problems, the last one first. Only the last million events are looked at.
fn problem_groups(loaded: &Loaded) -> Vec<ProblemGroup> {
    const MOST: usize = 1_000_000;
    let rows = loaded.table.order.iter().rev().take(MOST).map(|row| loaded.table.event(crate::event::Row(*row)));
    let mut groups: Vec<ProblemGroup> = Vec::new();
    for event in rows.filter(crate::event::EventRef::is_problem) {
        let Some(time) = event.time() else { continue };
        let severity = event.severity();
        match groups.last_mut().filter(|group| group.span.0.saturating_sub(time) < 10 * MINUTE) {
            Some(group) => {
                group.span.0 = group.span.0.min(time);
                group.count += 1;
                if severity >= group.severity {
                    (group.severity, group.worst) = (severity, time);
                }
            }
            None => groups.push(ProblemGroup { span: (time, time), worst: time, severity, count: 1 }),
        }
    }
    groups
}

/// The rows for people, with what is asked above them.
pub fn lines(rows: &[Row], window: Window, zone: &crate::clock::Zone) -> Vec<String> {
    let time = |ns: i64| human::date_time(ns, zone)[..19].to_owned();
    let mut lines = vec![format!("does it cover {} to {} ({})?", time(window.from), time(window.to), zone.name())];
    for row in rows {
        let (class, state) = (row.class.name(), row.state.words());
        lines.push(format!("{:<14} {class:<12} {state:<16} {}", row.host, crate::visible(&row.detail, false)));
        if !row.advice.is_empty() {
            lines.push(format!("{:28}{}", "", row.advice));
        }
    }
    lines
}

/// One log: a source with its generations.
struct Log {
    name: String,
    /// The name below its host.
    short: String,
    first: Option<i64>,
    last: Option<i64>,
    zone_unknown: bool,
    /// The longest time without an event that shares a moment with the window, and how long such times usually are.
    gap: Option<(i64, i64, i64)>,
}

/// Says for each host and class whether it covers the window.
pub fn coverage(case: &Case, loaded: &Loaded, window: Window) -> Vec<Row> {
    let mut logs: BTreeMap<(String, Class), Vec<Log>> = BTreeMap::new();
    let mut last_log = None;
    let looked = parallel(case.sources.len(), &Work::default(), |index| look(case, loaded, index, window));
    for ((index, source), log) in case.sources.iter().enumerate().zip(looked) {
        let class = source.class.unwrap_or(Class::Application);
        // A log of several hosts is none of theirs alone.
        let mut hosts = hosts_of(case, loaded, index);
        let host = if hosts.len() == 1 { hosts.pop() } else { None }.unwrap_or_default();
        let number = loaded.table.logs.get(index).copied();
        let logs = logs.entry((host, class)).or_default();
        // Generations follow each other: they are one log.
        match logs.last_mut() {
            Some(before) if number.is_some() && last_log == number => before.join(log),
            _ => logs.push(log),
        }
        last_log = number;
    }
    let mut hosts: BTreeSet<String> = logs.keys().map(|(host, _)| host.clone()).collect();
    let mut unreadable: BTreeMap<(String, Class), Vec<String>> = BTreeMap::new();
    let mut outside: BTreeMap<(String, Class), usize> = BTreeMap::new();
    if let Some(seal) = &case.seal {
        hosts.extend(seal.hosts.iter().map(|host| host.label.clone()));
        for left in &seal.unreadable {
            // A host that did not answer at all has no class: both usual ones are missing then.
            for class in left.class.map_or(vec![Class::System, Class::Application], |class| vec![class]) {
                let reason = format!("{}: {}", left.origin, left.reason);
                unreadable.entry((left.host.clone(), class)).or_default().push(reason);
            }
        }
        for left in &seal.outside {
            if let Some(class) = left.class {
                *outside.entry((left.host.clone(), class)).or_default() += 1;
            }
        }
    }
    let mut rows = Vec::new();
    for host in hosts {
        for class in Class::ALL.into_iter().filter(|class| class.is_over_time()) {
            let key = (host.clone(), class);
            let failed = unreadable.get(&key).map_or(&[][..], Vec::as_slice);
            let outside = outside.get(&key).copied().unwrap_or(0);
            match logs.get(&key) {
                Some(logs) => rows.push(row(&key, logs, failed, window, case)),
                None if !failed.is_empty() => rows.push(missing(&key, Cover::NotReadable, failed.join("; "))),
                // Every host has these two; the others need not be there.
                None if matches!(class, Class::System | Class::Application) => {
                    let detail = match outside {
                        0 => "no log of this kind was gathered".to_owned(),
                        1 => "1 log of this kind lies outside the window".to_owned(),
                        count => format!("{count} logs of this kind lie outside the window"),
                    };
                    rows.push(missing(&key, Cover::NothingFound, detail));
                }
                None => {}
            }
        }
    }
    rows
}

impl Log {
    fn join(&mut self, next: Self) {
        (self.name, self.short) = (next.name, next.short);
        self.first = [self.first, next.first].into_iter().flatten().min();
        self.last = [self.last, next.last].into_iter().flatten().max();
        self.zone_unknown |= next.zone_unknown;
        self.gap = [self.gap, next.gap].into_iter().flatten().max_by_key(|(from, to, _)| to.saturating_sub(*from));
    }
}

fn look(case: &Case, loaded: &Loaded, index: usize, window: Window) -> Log {
    let source = &case.sources[index];
    let below = source.host.as_ref().and_then(|host| source.name.strip_prefix(&format!("hosts/{host}/")));
    let short = below.unwrap_or(&source.name).to_owned();
    let mut log = Log { name: source.name.clone(), short, first: None, last: None, zone_unknown: false, gap: None };
    let mut before: Option<i64> = None;
    // How long it usually is until the next event: a mean that forgets slowly is enough to tell silence from rarity.
    let (mut sum, mut count) = (0_i64, 0_i64);
    let is_assumed = source.zone_from == ZoneFrom::Case;
    for part in loaded.table.parts_of(index) {
        let segment = &part.segment;
        let of_actor = |actor: &u32| loaded.table.drift_of(segment.source, *actor);
        let drift: Vec<_> = part.actor_ids.iter().map(of_actor).collect();
        let columns = segment.times.iter().zip(segment.actor_ids.iter().zip(segment.flags.iter()));
        for (time, (actor, flags)) in columns.filter(|(time, _)| **time != NO_TIME) {
            let time = drift[usize::from(*actor)].correct(*time);
            log.zone_unknown |= is_assumed && TimeKnown::from_bits(*flags & flag::TIME_KNOWN).is_local();
            log.first = Some(log.first.map_or(time, |first| first.min(time)));
            log.last = Some(log.last.map_or(time, |last| last.max(time)));
            if let Some(before) = before.filter(|before| *before < time) {
                let gap = time.saturating_sub(before);
                if window.touches(before, time) && log.gap.is_none_or(|(from, to, _)| to.saturating_sub(from) < gap) {
                    log.gap = Some((before, time, 0));
                }
                sum = sum.saturating_add(gap);
                count += 1;
            }
            before = Some(time);
        }
    }
    if let Some((from, to, usual)) = &mut log.gap {
        *usual = sum.saturating_sub(to.saturating_sub(*from)) / (count - 1).max(1);
    }
    log
}

/// Shorter silence says nothing.
const MIN_SILENCE_NS: i64 = 10 * MINUTE;

fn state(log: &Log, window: Window, gathered_at: Option<i64>) -> (Cover, String) {
    let time = |ns: i64| to_rfc3339(ns)[..19].replace('T', " ");
    let (Some(first), Some(last)) = (log.first, log.last) else {
        return (Cover::ClockUnknown, format!("{} carries no times", log.short));
    };
    if first > window.from {
        return (Cover::StartsTooLate, format!("{} begins {} UTC", log.short, time(first)));
    }
    if last < window.to {
        // It was complete when it was gathered: then it only had nothing to say.
        let complete = gathered_at.is_some_and(|at| at >= window.to);
        if !complete || window.from.saturating_sub(last) > MIN_SILENCE_NS {
            return (Cover::EndsTooEarly, format!("{} ends {} UTC", log.short, time(last)));
        }
    }
    if log.zone_unknown {
        return (Cover::ClockUnknown, format!("{} has no time zone; UTC is assumed", log.short));
    }
    if let Some((from, to, usual)) = log.gap
        && to.saturating_sub(from) > usual.saturating_mul(20).max(MIN_SILENCE_NS)
    {
        let (length, usual) = (human::duration_text(to.saturating_sub(from)), human::duration_text(usual));
        let detail = format!("{}: nothing from {} UTC for {length}; usually {usual} apart", log.short, time(from));
        return (Cover::SilentGap, detail);
    }
    (Cover::Covered, String::new())
}

fn row((host, class): &(String, Class), logs: &[Log], failed: &[String], window: Window, case: &Case) -> Row {
    let gathered_at = case.seal.as_ref().and_then(|seal| time_of(&seal.sealed_at));
    // A box that was cut to a window ends with it: its logs reach as far as they were cut.
    let was_cut = case.seal.as_ref().is_some_and(|seal| seal.window.is_some());
    let wanted = if was_cut { within_cut(logs, window) } else { window };
    let complete = gathered_at.is_some_and(|at| at >= window.to);
    let judged = logs.iter().map(|log| match state(log, wanted, gathered_at) {
        // Installers write when something is installed: one that was silent then says that nothing was.
        (Cover::EndsTooEarly, detail) if *class == Class::Installer && complete => {
            (Cover::Covered, format!("{detail}: nothing was installed then"))
        }
        other => other,
    });
    let states: Vec<(Cover, String)> = judged.collect();
    let best = states.iter().map(|(state, _)| *state).min().unwrap_or(Cover::NothingFound);
    let mut detail: Vec<String> =
        states.iter().map(|(_, detail)| detail.clone()).filter(|detail| !detail.is_empty()).take(3).collect();
    let covered = states.iter().filter(|(state, _)| *state == Cover::Covered).count();
    if covered > 0 && logs.len() > 1 {
        detail.insert(0, format!("{covered} of {} logs reach over it", logs.len()));
    }
    detail.extend(failed.iter().take(3).cloned());
    Row {
        host: host.clone(),
        class: *class,
        state: best,
        first: logs.iter().filter_map(|log| log.first).min(),
        last: logs.iter().filter_map(|log| log.last).max(),
        detail: detail.join("; "),
        advice: best.advice(),
        sources: logs.iter().map(|log| log.name.clone()).collect(),
    }
}

/// The middle of a window that logs were cut to: the first and last event in it stand inside, not at its borders.
fn within_cut(logs: &[Log], window: Window) -> Window {
    let middle = window.from / 2 + window.to / 2;
    let reaches = logs.iter().any(|log| log.first.is_some_and(|first| first <= middle));
    if reaches { Window { from: middle, to: middle } } else { window }
}

fn missing((host, class): &(String, Class), state: Cover, detail: String) -> Row {
    let (host, class) = (host.clone(), *class);
    Row { host, class, state, first: None, last: None, detail, advice: state.advice(), sources: Vec::new() }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;
    use crate::case::Options;
    use crate::clock::Zone;
    use crate::work::Work;

    fn rows(files: &[(&str, &str)], from: &str, to: &str, zone: Option<&str>) -> Vec<(String, String, Cover, String)> {
        let folder = tempfile::tempdir().unwrap();
        for (name, text) in files {
            let path = folder.path().join("hosts").join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        let zone = zone.map(|zone| Zone::parse(zone).unwrap());
        let host_zones = zone.map(|zone| ("gw".to_owned(), zone)).into_iter().collect();
        let options = Options { host_zones, ..Options::default() };
        let case = Case::open(&[folder.path().to_path_buf()], options, &Work::default()).unwrap();
        let loaded = case.load(&Work::default()).unwrap();
        let window = Window { from: time_of(from).unwrap(), to: time_of(to).unwrap() };
        let rows = coverage(&case, &loaded, window).into_iter();
        rows.map(|row| (row.host, row.class.name().to_owned(), row.state, row.detail)).collect()
    }

    /// A line a minute, for these minutes of 02:xx.
    fn log(minutes: impl Iterator<Item = u32>, zone: &str) -> String {
        minutes
            .map(|minute| format!("2026-04-12T02:{minute:02}:00{zone} info pump {minute}\n"))
            .collect::<Vec<_>>()
            .concat()
    }

    #[test]
    fn each_state() {
        let (from, to) = ("2026-04-12T02:20:00Z", "2026-04-12T02:40:00Z");
        let state = |name: &str, text: &str| {
            let rows = rows(&[(name, text)], from, to, None);
            rows.into_iter().find(|row| row.1 == "system").map(|row| (row.2, row.3)).unwrap()
        };
        let name = "gw/var/log/syslog";
        assert_eq!(state(name, &log(0..60, "Z")).0, Cover::Covered);
        let (cover, detail) = state(name, &log(30..60, "Z"));
        assert_eq!((cover, detail.as_str()), (Cover::StartsTooLate, "var/log/syslog begins 2026-04-12 02:30:00 UTC"));
        assert_eq!(state(name, &log(0..30, "Z")).0, Cover::EndsTooEarly);
        let (cover, detail) = state(name, &log((0..24).chain(50..60), "Z"));
        assert_eq!(cover, Cover::SilentGap);
        assert!(detail.ends_with("nothing from 2026-04-12 02:23:00 UTC for 27m; usually 1m apart"), "{detail}");
        assert_eq!(state(name, &log(0..60, "")).0, Cover::ClockUnknown);
        let rows = rows(&[("gw/var/log/pump/a.log", &log(0..60, "Z"))], from, to, None);
        let system = rows.iter().find(|row| row.1 == "system").unwrap();
        assert_eq!((system.2, system.3.as_str()), (Cover::NothingFound, "no log of this kind was gathered"));
        assert_eq!(rows.iter().find(|row| row.1 == "application").unwrap().2, Cover::Covered);
    }

    #[test]
    fn a_moment_that_nobody_stated_is_that_of_the_last_problems() {
        let text = crate::testing::log()
            .error("pump", "lease lost")
            .error("pump", "lease lost again")
            .at("03:00:00")
            .info("pump", "fed")
            .at("05:00:00")
            .error("pump", "refused")
            .text();
        let folder = crate::testing::case(&[("gw/app.log", &text)]);
        let view = folder.view();
        let found = moment(&view.case, &view.loaded).unwrap();
        let time = |ns: i64| human::date_time(ns, &Zone::utc())[11..16].to_owned();
        assert_eq!((time(found.window.from), time(found.window.to)), ("04:50".into(), "05:10".into()));
        let note = found.note(&Zone::utc()).unwrap();
        assert!(note.starts_with("No moment was stated; the last problems are taken. It could be "), "{note}");
        assert!(note.contains(" 00:00 (2 problems), ") && note.ends_with(" 05:00 (1 problem)."), "{note}");
    }

    #[test]
    fn a_zone_that_is_said_makes_the_clock_known() {
        let text = log(0..60, "");
        let files = [("gw/var/log/syslog", text.as_str())];
        let rows = rows(&files, "2026-04-12T00:20:00Z", "2026-04-12T00:40:00Z", Some("+02:00"));
        assert_eq!(rows.iter().find(|row| row.1 == "system").unwrap().2, Cover::Covered);
    }

    #[test]
    fn generations_are_one_log() {
        let (old, new) = (log(0..30, "Z"), log(30..60, "Z"));
        let files = [("gw/var/log/syslog.1", old.as_str()), ("gw/var/log/syslog", new.as_str())];
        let rows = rows(&files, "2026-04-12T02:20:00Z", "2026-04-12T02:40:00Z", None);
        let system = rows.iter().find(|row| row.1 == "system").unwrap();
        assert_eq!((system.2, system.3.as_str()), (Cover::Covered, ""));
    }
}
