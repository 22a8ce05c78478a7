//! The Box view: each host with its classes of logs and their sources, whether they cover the moment, and what the checks found.

use std::collections::BTreeMap;
use std::sync::Arc;

use boxclock_core::analysis::{Analysis, CaseView, Pieces, Reads};
use boxclock_core::case::ZoneFrom;
use boxclock_core::clock::SECOND;
use boxclock_core::clock::human::{date_time, drift_text, duration_text};
use boxclock_core::coverage::{self, Cover, Moment, Row};
use boxclock_core::event::Row as EventRow;
use boxclock_core::facts::checks::all_findings;
use boxclock_core::facts::{Checks, Finding, Level};
use boxclock_core::gather::time_of;
use boxclock_core::report::sources::SourceOut;
use boxclock_core::source::Class;
use boxclock_core::timeline::drift::{ClockAnalysis, Suggestion};
use boxclock_core::work::Work;
use boxclock_core::{Error, Result, visible};
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Question, Then};
use crate::jobs::Kind;
use crate::pane::Pane;
use crate::text::{bytes, fit, grouped, many};
use crate::theme::Hue;

static SPEC: Spec = Spec {
    id: "box",
    key: "2",
    name: "Box",
    about: "Box: the sources, how they were read, clocks, what was left out",
    head_rows: 1,
    item_rows: 1,
    has_pane: true,
    tab_of: None,
};

const STATE: Kind = ("box", 0);
/// Columns of the bar that shows a source's span.
const BAR: usize = 16;

/// What the view says about the whole box.
#[derive(Clone, Debug, Default)]
pub struct BoxState {
    /// The moment that should be covered.
    pub moment: Option<Moment>,
    /// For each host and class: whether it is.
    pub cover: Vec<Row>,
    /// What the checks found.
    pub findings: Vec<Finding>,
}

/// Works that out.
#[derive(Clone, Copy, Debug)]
struct BoxAnalysis;

impl Analysis for BoxAnalysis {
    const NAME: &'static str = "box";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = BoxState;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<BoxState> {
        let moment = coverage::moment(&view.case, &view.loaded);
        let window = moment.as_ref().map(|moment| moment.window);
        let cover = window.map_or(Vec::new(), |window| coverage::coverage(&view.case, &view.loaded, window));
        let (findings, _) = all_findings(view, &Checks::load(), work)?;
        Ok(BoxState { moment, cover, findings })
    }
}

/// A host and what its sources add up to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct HostSums {
    host: String,
    sources: usize,
    bytes: u64,
    events: u64,
    /// Files that are no logs.
    others: usize,
}

/// A line of the view.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum BoxRow {
    /// A host, with its sums.
    Host(HostSums),
    /// A class of logs of a host.
    Class(String, Class),
    /// A source, by its place among the sources.
    Source(usize),
    /// What a check found, by its place among the findings.
    Finding(usize),
    /// A clock that seems to be wrong, by its place among the suggestions.
    Clock(usize),
    /// What was not read, by its place in the case's list.
    LeftOut(usize),
}

/// The view.
#[derive(Default)]
pub(crate) struct BoxView {
    pub(crate) list: ListState,
    pub(crate) rows: Vec<BoxRow>,
    /// The state of the case that the rows were arranged for, and whether all answers were known.
    pub(crate) arranged: Option<(u64, bool, bool)>,
    /// The last answers, which stand until there are new ones.
    state: Arc<BoxState>,
    clocks: Arc<Vec<Suggestion>>,
    #[cfg(test)]
    pub(crate) given: Option<Arc<BoxState>>,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<BoxView>::default()
}

const COMMANDS: &[ViewCommand<BoxView>] = &[
    ViewCommand {
        name: "clock",
        keys: &["d"],
        short: "clock",
        long: "correct the clock of this host",
        run: |view, cx, _| {
            Ok(match view.chosen_host(cx) {
                Some(host) => cx.ask_for_clock(&host),
                None => Then::say("This line belongs to no host."),
            })
        },
    },
    ViewCommand {
        name: "source-clock",
        keys: &["D"],
        short: "its clock",
        long: "correct the clock of this source only",
        run: |view, cx, _| Ok(cx.ask_for_clock(&view.source(cx)?)),
    },
    ViewCommand {
        name: "source-zone",
        keys: &["z"],
        short: "zone",
        long: "set the zone of this source's times",
        run: |view, cx, _| {
            let source = view.source(cx)?;
            let help = "+02:00  UTC  Europe/Lisbon   leave empty to detect";
            Ok(Then::Ask(Question::new("zone of this source", help, "", move |cx, text| {
                cx.set_source_zone(&source, text)
            })))
        },
    },
    ViewCommand {
        name: "read-as",
        keys: &["e"],
        short: "read as",
        long: "set the format, encoding or order of dates of this source",
        run: |view, cx, _| {
            let source = view.source(cx)?;
            let help = "rfc3164  windows-1252  day-first   leave empty to detect";
            Ok(Then::Ask(Question::new("read this source as", help, "", move |cx, text| {
                cx.read_source_as(&source, text)
            })))
        },
    },
    ViewCommand {
        name: "switch-source",
        keys: &["o"],
        short: "off/on",
        long: "hide this source in the Stream, or show it again",
        run: |view, cx, _| {
            let source = view.source(cx)?;
            cx.toggle_source(&source)?;
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "label",
        keys: &["L"],
        short: "label",
        long: "set the host that this source belongs to",
        run: |view, cx, _| {
            let source = view.source(cx)?;
            let help = "the label of its host; leave empty to detect";
            Ok(Then::Ask(Question::new("host of this source", help, "", move |cx, text| {
                cx.choose(&source, "host", text.trim())
            })))
        },
    },
    ViewCommand {
        name: "accept",
        keys: &["a"],
        short: "accept",
        long: "accept the suggested correction of this clock",
        run: |view, cx, _| {
            let Some(BoxRow::Clock(index)) = view.chosen() else {
                return Ok(Then::say("Select a line with a suggested clock first."));
            };
            match view.clocks.get(*index) {
                Some(one) => cx.correct_clock(&one.host, one.add_ns.into()),
                None => Ok(Then::Stay),
            }
        },
    },
    ViewCommand {
        name: "password",
        keys: &["P"],
        short: "password",
        long: "give a password for encrypted archives",
        run: |_, _, _| {
            let help = "tried on every encrypted member, and kept in memory only";
            let question = Question::new("password", help, "", Context::add_password);
            Ok(Then::Ask(Question { is_secret: true, ..question }))
        },
    },
];

impl BoxView {
    fn chosen(&self) -> Option<&BoxRow> {
        self.rows.get(self.list.cursor)
    }

    /// Keeps the same line chosen when the rows have changed.
    fn follow(&mut self, chosen: Option<&BoxRow>) {
        let same = |row: &BoxRow| match (row, chosen) {
            (BoxRow::Host(one), Some(BoxRow::Host(other))) => one.host == other.host,
            (row, Some(chosen)) => row == chosen,
            _ => false,
        };
        if let Some(place) = self.rows.iter().position(same) {
            self.list.cursor = place;
        }
    }

    /// The name of the chosen source.
    fn source(&self, cx: &Context) -> Result<String> {
        match self.chosen() {
            Some(BoxRow::Source(index)) => Ok(cx.sources[*index].source.clone()),
            _ => Err(Error::new("Select a source first.")),
        }
    }

    /// The host that the chosen line belongs to.
    fn chosen_host(&self, cx: &Context) -> Option<String> {
        let host = match self.chosen()? {
            BoxRow::Host(HostSums { host, .. }) | BoxRow::Class(host, _) => host.clone(),
            BoxRow::Source(index) => cx.sources.get(*index)?.host.clone()?,
            BoxRow::Finding(index) => self.state.findings.get(*index)?.host.clone(),
            BoxRow::Clock(index) => self.clocks.get(*index)?.host.clone(),
            BoxRow::LeftOut(_) => return None,
        };
        (!host.is_empty()).then_some(host)
    }

    /// Puts hosts, classes, sources and findings into the order of the Box view.
    fn arrange(&mut self, cx: &Context) {
        let mut hosts: BTreeMap<&str, (HostSums, BTreeMap<usize, Vec<usize>>)> = BTreeMap::new();
        let place = |class: Class| Class::ALL.iter().position(|other| *other == class).unwrap_or(0);
        for (index, source) in cx.sources.iter().enumerate() {
            let (sums, classes) = hosts.entry(source.host.as_deref().unwrap_or_default()).or_default();
            sums.sources += 1;
            sums.bytes += source.bytes;
            sums.events += source.events;
            classes.entry(place(class_of(cx, source))).or_default().push(index);
        }
        let state = &self.state;
        for row in &state.cover {
            hosts.entry(&row.host).or_default().1.entry(place(row.class)).or_default();
        }
        let mut findings: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        for (index, finding) in state.findings.iter().enumerate() {
            hosts.entry(&finding.host).or_default();
            findings.entry(&finding.host).or_default().push(index);
        }
        for document in cx.view.case.documents.iter() {
            hosts.entry(&document.host).or_default().0.others += 1;
        }
        for program in cx.view.case.programs.iter() {
            hosts.entry(program.host.as_deref().unwrap_or_default()).or_default().0.others += 1;
        }
        let mut rows = Vec::new();
        for (host, (sums, classes)) in hosts {
            rows.push(BoxRow::Host(HostSums { host: host.to_owned(), ..sums }));
            let wrong = self.clocks.iter().enumerate().filter(|(_, one)| one.host == host);
            rows.extend(wrong.filter(|(_, one)| !is_corrected(cx, one)).map(|(index, _)| BoxRow::Clock(index)));
            rows.extend(findings.remove(host).unwrap_or_default().into_iter().map(BoxRow::Finding));
            for (class, sources) in classes {
                rows.push(BoxRow::Class(host.to_owned(), Class::ALL[class]));
                rows.extend(sources.into_iter().map(BoxRow::Source));
            }
        }
        rows.extend((0..cx.view.case.left_out.len()).map(BoxRow::LeftOut));
        self.rows = rows;
    }

    fn class_pane(&self, cx: &Context, pane: &mut Pane<'_>, host: &str, class: Class) {
        pane.strong(&format!("{} logs of {host}", class.name()));
        let state = &self.state;
        let Some(cover) = state.cover.iter().find(|row| row.host == host && row.class == class) else {
            return pane.faint("These logs are not expected to cover a moment.");
        };
        if let Some(moment) = &state.moment {
            let (from, to) = (date_time(moment.window.from, &cx.zone), date_time(moment.window.to, &cx.zone));
            pane.facts("moment", &format!("{} to {}", &from[..19], &to[11..19]));
            if let Some(note) = moment.note(&cx.zone) {
                pane.facts("", &format!("{note} 1 opens the Story: state there when it happened."));
            }
        }
        pane.facts("covered", cover.state.words());
        pane.facts("why", &cover.detail);
        for (label, time) in [("first", cover.first), ("last", cover.last)] {
            pane.facts(label, &time.map_or(String::new(), |time| date_time(time, &cx.zone)));
        }
        pane.facts("do", cover.advice);
    }
}

impl View for BoxView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.rows.len()
    }

    fn open(&mut self, cx: &mut Context) {
        // Sums are not kept up to date elsewhere while thousands of sources are read.
        if !cx.view.loaded.complete {
            cx.sources.clear();
            cx.refresh();
        }
    }

    fn prepare(&mut self, cx: &mut Context) {
        if !cx.view.loaded.complete && self.arranged.is_some_and(|(state, ..)| state != cx.state) {
            cx.sources = boxclock_core::report::sources::sources(&cx.view.case, &cx.view.loaded);
        }
        let state = if cx.view.loaded.complete { cx.ask(&BoxAnalysis, STATE) } else { None };
        let clocks = cx.view.known(&ClockAnalysis);
        let now = (cx.state, state.is_some(), clocks.is_some());
        self.state = state.unwrap_or_else(|| Arc::clone(&self.state));
        self.clocks = clocks.unwrap_or_else(|| Arc::clone(&self.clocks));
        #[cfg(test)]
        if let Some(given) = &self.given {
            self.state = Arc::clone(given);
        }
        if self.arranged.replace(now) != Some(now) {
            let chosen = self.chosen().cloned();
            self.arrange(cx);
            self.follow(chosen.as_ref());
        }
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        match self.chosen() {
            Some(BoxRow::Clock(index)) => {
                let pair = self.clocks.get(*index).and_then(|one| one.evidence.first());
                Ok(pair.map_or(Then::Stay, |pair| Then::Go(pair.rows.0)))
            }
            Some(BoxRow::Source(index)) => {
                let members = cx.sources[*index].members.clone();
                let mut parts = cx.view.loaded.table.parts.iter();
                let first = parts.find(|part| members.contains(&(part.segment.source as usize)));
                Ok(match first {
                    Some(part) => Then::Go(EventRow(part.first_row)),
                    None => Then::say("This source has no events."),
                })
            }
            _ => Ok(Then::say("Enter goes to the events of a source. The reading pane (i) explains this line.")),
        }
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let format = format_width(cx, width);
        let head = if width >= WIDE {
            let bar = fit("span of the case", BAR);
            format!("     {:<format$} {:<8} {:>8} {:>10}  {bar}  source", "format", "zone", "clock", "events")
        } else {
            format!("     {:<format$} {:>10} source", "format", "events")
        };
        vec![Line::styled(head, cx.theme.faint())]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        Item::one(match &self.rows[index] {
            BoxRow::Host(sums) => host_line(cx, sums, width),
            BoxRow::Class(host, class) => {
                let state = &self.state;
                let cover = state.cover.iter().find(|row| row.host == *host && row.class == *class);
                class_line(cx, cover, *class, width)
            }
            BoxRow::Source(index) => {
                source_line(cx, &cx.sources[*index], (width, format_width(cx, width), width >= WIDE))
            }
            BoxRow::Finding(index) => match self.state.findings.get(*index) {
                Some(finding) => finding_line(cx, finding, width),
                None => Vec::new(),
            },
            BoxRow::Clock(index) => match self.clocks.get(*index) {
                Some(one) => {
                    let (confidence, ground) = (one.confidence.name(), one.ground.words());
                    let text =
                        format!("   ◷ clock seems wrong: add {} (confidence {confidence}: {ground})", one.drift_text());
                    vec![Span::styled(fit(&text, width), cx.theme.hue(Hue::Orange))]
                }
                None => Vec::new(),
            },
            BoxRow::LeftOut(index) => {
                let left = &cx.view.case.left_out[*index];
                let text = format!(" left out  {}: {}", left.path, left.reason);
                vec![Span::styled(fit(&visible(&text, false), width), cx.theme.hue(Hue::Orange))]
            }
        })
    }

    fn empty(&self, _: &Context) -> Vec<String> {
        vec!["There are no sources in this case. b collects logs.".into()]
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        match self.chosen() {
            None => {}
            Some(BoxRow::Source(index)) => source_pane(cx, pane, &cx.sources[*index]),
            Some(BoxRow::Host(sums)) => host_pane(cx, pane, &sums.host),
            Some(BoxRow::Class(host, class)) => self.class_pane(cx, pane, host, *class),
            Some(BoxRow::Finding(index)) => {
                let state = &self.state;
                let Some(finding) = state.findings.get(*index) else { return };
                pane.strong(&finding.title);
                pane.facts("level", finding.level.name());
                pane.facts("seen", &finding.evidence);
                pane.facts("in", &format!("{}, line {}", finding.file, finding.line));
                pane.facts("why", &finding.reason);
                pane.facts("do", &finding.advice);
                pane.facts("check", &finding.check);
            }
            Some(BoxRow::Clock(index)) => {
                if let Some(one) = self.clocks.get(*index) {
                    clock_pane(cx, pane, one);
                }
            }
            Some(BoxRow::LeftOut(index)) => {
                let left = &cx.view.case.left_out[*index];
                pane.heading("left out");
                pane.text(&left.path);
                pane.facts("why", &left.reason);
            }
        }
    }
}

/// Columns from which on zone, clock and span have room.
const WIDE: usize = 80;

/// As wide as the longest name of a format in the case, where there is room.
fn format_width(cx: &Context, width: usize) -> usize {
    let longest = cx.sources.iter().map(|source| source.format.width()).max().unwrap_or(0);
    longest.clamp(11, if width >= WIDE { 17 } else { 11 })
}

/// What a source is for.
fn class_of(cx: &Context, source: &SourceOut) -> Class {
    let last = cx.view.case.sources.get(source.members.end.saturating_sub(1));
    last.and_then(|source| source.class).unwrap_or(Class::Application)
}

/// Whether the clock of a suggestion is corrected by about as much already.
fn is_corrected(cx: &Context, one: &Suggestion) -> bool {
    let now = cx.drift().get(&one.host).map_or(0, |drift| drift.add_ns);
    now != 0 && now.abs_diff(one.add_ns) <= 5 * SECOND.unsigned_abs()
}

fn finding_line(cx: &Context, finding: &Finding, width: usize) -> Vec<Span<'static>> {
    let (shape, hue) = match finding.level {
        Level::Critical => ("■", Hue::Vermilion),
        Level::Warning => ("△", Hue::Orange),
        Level::Note => ("·", Hue::Sky),
    };
    let text = format!("   {shape} {}: {}", finding.title, visible(&finding.evidence, false));
    vec![Span::styled(fit(&text, width), cx.theme.hue(hue))]
}

fn host_line(cx: &Context, sums: &HostSums, width: usize) -> Vec<Span<'static>> {
    let HostSums { host, sources, bytes: size, events, others } = sums;
    let number = cx.view.loaded.table.hosts.iter().position(|name| name == host).unwrap_or(0) as u32;
    let name = if host.is_empty() { "no host" } else { host };
    let mut text = format!("  {}, {}, {}", many(*sources as u64, "source"), bytes(*size), many(*events, "event"));
    if *others > 0 {
        text.push_str(&format!(", {}", many(*others as u64, "other file")));
    }
    let name = format!(" {name}");
    let rest = width.saturating_sub(name.width());
    vec![
        Span::styled(name, cx.theme.host(number).patch(cx.theme.strong())),
        Span::styled(fit(&text, rest), cx.theme.faint()),
    ]
}

fn class_line(cx: &Context, cover: Option<&Row>, class: Class, width: usize) -> Vec<Span<'static>> {
    let mut spans = vec![Span::raw(format!("   {:<14}", class.name()))];
    if let Some(cover) = cover {
        let (shape, style) = match cover.state {
            Cover::Covered => ("●", cx.theme.hue(Hue::Green)),
            Cover::SilentGap | Cover::ClockUnknown => ("◐", cx.theme.hue(Hue::Orange)),
            _ => ("○", cx.theme.hue(Hue::Vermilion)),
        };
        spans.push(Span::styled(format!("{shape} {:<16}", cover.state.words()), style));
        let rest = width.saturating_sub(36);
        spans.push(Span::styled(fit(&visible(&cover.detail, false), rest), cx.theme.faint()));
    }
    spans
}

fn source_line(cx: &Context, source: &SourceOut, (width, format, wide): (usize, usize, bool)) -> Vec<Span<'static>> {
    let host = source.host.as_deref().unwrap_or("-");
    let drift = cx.drift().get(&source.source).or_else(|| cx.drift().get(host));
    let drift = drift.map_or(String::new(), |drift| drift_text(*drift));
    let off = cx.is_off(&source.source);
    let mark = match () {
        () if off => "×",
        () if source.trouble.is_empty() => " ",
        () => "△",
    };
    let mut spans = vec![
        Span::raw("   "),
        Span::styled(mark, cx.theme.hue(Hue::Orange)),
        Span::raw(format!(" {} ", fit(source.format, format))),
    ];
    let mut used = 5 + format + 1 + 11;
    if wide {
        spans.push(Span::styled(format!("{} {} ", fit(&source.zone, 8), right(&drift, 8)), cx.theme.faint()));
        used += 18;
    }
    spans.push(Span::raw(format!("{} ", right(&grouped(source.events), 10))));
    if wide {
        spans.push(Span::styled(format!(" {}  ", bar(cx, source)), cx.theme.hue(Hue::Blue)));
        used += BAR + 3;
    }
    // The host stands above; the end of a path says more than its start.
    let below = format!("hosts/{host}/");
    let name = visible(source.source.strip_prefix(&below).unwrap_or(&source.source), false);
    let room = width.saturating_sub(used);
    let name = if name.width() > room { tail(&name, room) } else { name };
    spans.push(Span::styled(fit(&name, room), if off { cx.theme.faint() } else { ratatui::style::Style::new() }));
    spans
}

/// Where a source's times lie in the span of the whole case.
fn bar(cx: &Context, source: &SourceOut) -> String {
    let (Some((from, to)), Some(first), Some(last)) = (cx.span(), source.first, source.last) else {
        return " ".repeat(BAR);
    };
    let span = to.saturating_sub(from).max(1);
    let place = |time: i64| {
        let part = time.saturating_sub(from) as f64 / span as f64;
        ((part * BAR as f64) as usize).min(BAR - 1)
    };
    let (first, last) = (place(first), place(last));
    (0..BAR).map(|at| if (first..=last).contains(&at) { '▬' } else { '·' }).collect()
}

fn right(text: &str, width: usize) -> String {
    format!("{}{text}", " ".repeat(width.saturating_sub(text.width())))
}

fn tail(path: &str, width: usize) -> String {
    let mut kept: Vec<char> = path.chars().rev().take(width.saturating_sub(1)).collect();
    kept.reverse();
    format!("…{}", kept.into_iter().collect::<String>())
}

/// A clock that seems to be wrong, and what shows it.
fn clock_pane(cx: &Context, pane: &mut Pane<'_>, one: &Suggestion) {
    let zone = &cx.zone;
    pane.strong(&format!("the clock of {}", one.host));
    pane.facts("add", &format!("{}; a accepts it, d sets another", one.drift_text()));
    pane.facts("sure", one.confidence.name());
    pane.facts("from", one.ground.words());
    pane.facts("why", &one.reason);
    for pair in &one.evidence {
        pane.heading(&pair.shared);
        for (source, line, time) in [&pair.here, &pair.there] {
            let time = date_time(*time, zone);
            pane.text(&time);
            pane.faint(&format!("  {source}:{line}"));
        }
    }
}

/// Where a host was gathered from, and its clock against ours at that moment.
fn host_pane(cx: &Context, pane: &mut Pane<'_>, label: &str) {
    pane.paragraph(if label.is_empty() { "sources of no host" } else { label }, cx.theme.strong());
    let Some(host) = cx.view.case.seal.as_ref().and_then(|seal| seal.hosts.iter().find(|host| host.label == label))
    else {
        return;
    };
    pane.facts("from", host.origin.as_deref().unwrap_or_default());
    pane.facts("zone", host.zone.as_deref().unwrap_or("not known"));
    let here = time_of(&host.clock_here);
    let there = host.clock_there.as_deref().and_then(time_of);
    match here.zip(there) {
        Some((here, there)) => {
            let add = here.saturating_sub(there);
            let within = host.clock_within_ms.unwrap_or(0);
            pane.facts(
                "clock",
                &format!("at gathering: {} there, {} here", date_time(there, &cx.zone), date_time(here, &cx.zone)),
            );
            // What lies within the error of asking is no drift.
            if add.unsigned_abs() / 1_000_000 > within.max(1000) {
                let text =
                    format!("off by {} (±{within} ms); d and {} corrects it", duration_text(-add), duration_text(add));
                pane.facts("", &text);
            } else {
                pane.facts("", "in step with ours");
            }
        }
        None => pane.facts("clock", "could not be asked when this was gathered"),
    }
    let (settings, facts): (Vec<_>, Vec<_>) = cx
        .view
        .case
        .documents
        .iter()
        .filter(|document| document.host == label)
        .partition(|document| document.class == Class::Configuration);
    for (label, documents) in [("settings", settings), ("facts", facts)] {
        for (index, document) in documents.iter().enumerate().take(20) {
            pane.facts(if index == 0 { label } else { " " }, &document.name);
        }
    }
}

fn source_pane(cx: &Context, pane: &mut Pane<'_>, source: &SourceOut) {
    pane.strong(&source.source);
    match source.hosts.as_slice() {
        [] => pane.facts("host", source.host.as_deref().unwrap_or("not labelled")),
        // Several hosts wrote into one file: each line names its own.
        hosts => pane.facts("hosts", &hosts.join(", ")),
    }
    pane.facts("format", source.format);
    pane.facts("encoding", &source.encoding);
    let from = match source.zone_from {
        ZoneFrom::Line => "stated in each line",
        ZoneFrom::Header => "stated in the file's header",
        ZoneFrom::User => "set by you",
        ZoneFrom::Host => "the host's zone, as gathered",
        ZoneFrom::Case => "assumed: the case's zone",
    };
    pane.facts("zone", &format!("{} ({from})", source.zone));
    let own = cx.drift().get(&source.source).map(|drift| (drift, "D"));
    let of_host = source.host.as_ref().and_then(|host| cx.drift().get(host)).map(|drift| (drift, "d"));
    match own.or(of_host) {
        Some((drift, key)) => {
            pane.facts("clock", &format!("{} added to every time; {key} changes it", drift_text(*drift)));
        }
        None => pane.facts("clock", "as written; d corrects it"),
    }
    if let Some(contest) = cx.view.case.sources.get(source.members.end - 1).and_then(|source| source.contest.as_ref()) {
        let won = contest.winner.format.name() == source.format;
        let why = if won { contest.reason() } else { "chosen by hand".to_owned() };
        pane.facts("why", &why);
    }
    let last = cx.view.case.sources.get(source.members.end - 1);
    if let Some(boxclock_core::case::Reader::Lines(detected)) = last.map(|source| source.reader)
        && let Some(columns) = detected.format.columns()
    {
        pane.facts("columns", &format!("{columns}; e changes them: {}({columns})", source.format));
    }
    pane.heading("totals");
    let numbers = [
        ("bytes", source.bytes),
        ("records", source.event_bytes),
        ("twice", source.repeated_bytes),
        ("outside", source.other_bytes),
        ("lines", source.lines),
        ("events", source.events),
        ("attached", source.attached_lines),
        ("repeated", source.repeated_lines),
        ("undated", source.undated_events),
    ];
    for (label, number) in numbers {
        // Most sources have nothing repeated and nothing outside of records.
        if number > 0 || !matches!(label, "twice" | "outside" | "repeated") {
            pane.facts(label, &grouped(number));
        }
    }
    if !source.files.is_empty() {
        pane.heading("files, oldest first");
        for file in &source.files {
            pane.text(&file.source);
            let events = many(file.events, "event");
            let text = match file.first.map(|first| date_time(first, &cx.zone)[..19].to_owned()) {
                Some(first) => format!("  {events} from {first}"),
                None if file.events == 0 => "  no events of its own".to_owned(),
                None => format!("  {events} without times"),
            };
            pane.faint(&text);
        }
    }
    if !source.trouble.is_empty() {
        pane.heading("problems");
        for trouble in &source.trouble {
            pane.paragraph(trouble, cx.theme.severity(boxclock_core::severity::Severity::WARN));
        }
    }
}
