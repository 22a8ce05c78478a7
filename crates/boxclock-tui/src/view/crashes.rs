//! The Crashes view: what stopped, where, who is to blame and how sure.

use std::sync::Arc;

use boxclock_core::Result;
use boxclock_core::clock::human::{date_time, time_of_day};
use boxclock_core::crash::stability::{self, DayMark, StabilityDay, stability};
use boxclock_core::crash::{CrashAnalysis, CrashReport, Kind as CrashKind, ListedModule, ModuleOrder, NearLine};
use boxclock_core::timeline::marks::MarkAnalysis;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, DRAWING, Question, Then};
use crate::jobs::Kind;
use crate::pane::Pane;
use crate::text::{column, cut, fit, many};
use crate::theme::Hue;

static SPEC: Spec = Spec {
    id: "crashes",
    key: "6",
    name: "Crashes",
    about: "Crashes: what stopped, where, and who is to blame",
    head_rows: 5,
    item_rows: 1,
    has_pane: true,
    tab_of: None,
};

const FOUND: Kind = ("crashes", 0);
/// Frames of a stack that the pane shows.
const FRAMES: usize = 14;
/// Modules and names of threads that are listed.
const MODULES: usize = 14;

/// The view.
#[derive(Default)]
struct CrashesView {
    list: ListState,
    found: Option<Arc<Vec<CrashReport>>>,
    /// How modules are listed.
    order: ModuleOrder,
    /// The modules of the chosen crash in that order; there may be thousands, so they are listed once.
    modules: Vec<ListedModule>,
    /// Libraries that are loaded from several places: names and paths.
    doubled: Vec<(String, Vec<String>)>,
    /// Of which state of the case, of which crash and in which order these are.
    modules_of: Option<(u64, bool, usize, ModuleOrder)>,
    /// What happened day by day.
    days: Vec<StabilityDay>,
    /// What these days are of: whether crashes and marks were known, the state of the case, the zone.
    days_of: Option<(bool, bool, u64, String)>,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<CrashesView>::default()
}

const COMMANDS: &[ViewCommand<CrashesView>] = &[
    ViewCommand {
        name: "crash-before",
        keys: &["e"],
        short: "before it",
        long: "go to the last line of the same host before it",
        run: |view, _, _| {
            let line = view.chosen().and_then(|report| report.around.before.last());
            Ok(line.map_or(Then::say("This host has no line in the day before it."), |line| Then::Go(line.row)))
        },
    },
    ViewCommand {
        name: "module-order",
        keys: &["o"],
        short: "order",
        long: "list the modules by suspicion, age or name",
        run: |view, _, _| {
            view.order = view.order.next();
            Ok(Then::say(format!("Modules are listed by {}.", view.order.name())))
        },
    },
    ViewCommand {
        name: "stability-drawing",
        keys: &["W"],
        short: "draw",
        long: "draw stability by day, with counts: SVG, PDF",
        run: |view, _, _| {
            if view.days.is_empty() {
                return Ok(Then::say("There is nothing to draw."));
            }
            Ok(Question::drawing("stability.svg"))
        },
    },
    ViewCommand::PANE_DOWN,
    ViewCommand::PANE_UP,
];

/// A shape for each kind of end: readable without colour.
fn shape(report: &CrashReport) -> &'static str {
    match report.crash.what.kind {
        CrashKind::Stop => "■",
        CrashKind::Killed => "↓",
        CrashKind::OutOfMemory => "▲",
        CrashKind::Hang => "◌",
        CrashKind::Assertion | CrashKind::Panic => "◆",
        CrashKind::Signal | CrashKind::Exception => "✕",
    }
}

impl CrashesView {
    fn all(&self) -> &[CrashReport] {
        self.found.as_ref().map_or(&[], |found| found.as_slice())
    }

    fn chosen(&self) -> Option<&CrashReport> {
        self.all().get(self.list.cursor)
    }

    /// The days on which something happened, the last ones that fit, with a sign and a count for each thing; and what the signs mean.
    fn strip(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        const CELL: usize = 11;
        let days = &self.days[self.days.len().saturating_sub(width.saturating_sub(2) / CELL)..];
        let more = if days.len() < self.days.len() { "…" } else { " " };
        let names: String = days.iter().map(|day| fit(day.day.get(5..).unwrap_or_default(), CELL)).collect();
        let mut cells = vec![Span::raw(" ")];
        for day in days {
            let mut used = 0;
            for (mark, count) in DayMark::ALL.into_iter().zip(day.counts).filter(|(_, count)| *count > 0) {
                let text = if count > 1 { format!("{}{count} ", mark.sign()) } else { format!("{} ", mark.sign()) };
                // What does not fit is the least of it: the worst comes first.
                if used + text.width() > CELL {
                    break;
                }
                used += text.width();
                cells.push(Span::styled(text, hue_of(cx, mark)));
            }
            cells.push(Span::raw(" ".repeat(CELL - used)));
        }
        let legend: Vec<String> = DayMark::ALL.iter().map(|mark| format!("{} {}", mark.sign(), mark.name())).collect();
        let legend = if days.is_empty() { String::new() } else { format!(" {}", legend.join("  ")) };
        vec![
            Line::styled(format!("{more}{names}"), cx.theme.faint()),
            Line::from(cells),
            Line::styled(cut(&legend, width), cx.theme.faint()),
        ]
    }
}

fn hue_of(cx: &Context, mark: DayMark) -> Style {
    match mark {
        DayMark::Crash => cx.theme.hue(Hue::Vermilion),
        DayMark::Killed | DayMark::UncleanStop => cx.theme.hue(Hue::Orange),
        DayMark::Start | DayMark::Install => cx.theme.hue(Hue::Sky),
    }
}

impl View for CrashesView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.all().len()
    }

    fn prepare(&mut self, cx: &mut Context) {
        // Its rows are those of the case as it is now, read to its end: of another they would be other lines, or none.
        self.found = if cx.view.loaded.complete { cx.ask(&CrashAnalysis, FOUND) } else { None };
        let marks = cx.view.known(&MarkAnalysis);
        let state = (self.found.is_some(), marks.is_some(), cx.state, cx.zone.name().to_owned());
        if self.days_of.as_ref() != Some(&state) {
            self.days = match (&self.found, marks) {
                (Some(found), Some(marks)) => stability(&cx.view, found, &marks, &cx.zone),
                _ => Vec::new(),
            };
            self.days_of = Some(state);
        }
        let of = Some((cx.state, self.found.is_some(), self.list.cursor, self.order));
        if self.modules_of != of {
            self.modules = self.chosen().map_or(Vec::new(), |report| report.listed_modules(self.order));
            self.doubled = self.chosen().map_or(Vec::new(), CrashReport::doubled_libraries);
            self.modules_of = of;
        }
    }

    fn enter(&mut self, _: &mut Context) -> Result<Then> {
        Ok(match self.chosen().map(|report| report.row) {
            Some(Some(row)) => Then::Go(row),
            Some(None) => Then::say("This crash has no event in the stream."),
            None => Then::Stay,
        })
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let columns = Columns::of(width);
        let head = format!(
            "   {}{}{}{}{}",
            column("when", columns.time),
            column("host", columns.host),
            column("what stopped", columns.process),
            column("how", columns.what),
            fit("first suspect", columns.suspect)
        );
        let mut lines = self.strip(cx, width);
        lines.push(Line::raw(""));
        lines.push(Line::styled(fit(&head, width), cx.theme.faint()));
        lines
    }

    fn answer(&mut self, cx: &mut Context, question: &str, text: &str) -> Result<Then> {
        if question == DRAWING {
            cx.write_drawing(stability::draw(&self.days, &cx.zone), text);
        }
        Ok(Then::Stay)
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        let report = &self.all()[index];
        let columns = Columns::of(width);
        let time = report.time.map_or("no time".to_owned(), |time| {
            let text = date_time(time, &cx.zone);
            if columns.time > 12 { text[5..19].to_owned() } else { time_of_day(time, &cx.zone)[..8].to_owned() }
        });
        let what = &report.crash.what;
        let name = what.name.clone().unwrap_or_else(|| what.kind.name().to_owned());
        let process = match (&report.crash.process, what.kind) {
            (_, CrashKind::Stop) => "the system".to_owned(),
            (Some(process), _) => process.clone(),
            (None, _) => "a process".to_owned(),
        };
        let first = report.verdict.suspects.first().filter(|first| first.score >= 0.3);
        let suspect = match first {
            Some(first) if report.verdict.provable => first.module.clone(),
            Some(first) => format!("{}?", first.module),
            None => "not provable".to_owned(),
        };
        let again = if report.same_as.is_empty() { String::new() } else { format!(" ×{}", report.same_as.len() + 1) };
        let number = report.row.map_or(0, |row| cx.event(row).actor().host);
        let hue = if report.is_mark { cx.theme.hue(Hue::Orange) } else { cx.theme.hue(Hue::Vermilion) };
        Item::one(vec![
            Span::styled(format!(" {} ", shape(report)), hue),
            Span::raw(column(&time, columns.time)),
            Span::styled(column(report.host.as_deref().unwrap_or("-"), columns.host), cx.theme.host(number)),
            Span::raw(column(&process, columns.process)),
            Span::raw(column(&name, columns.what)),
            Span::raw(fit(&format!("{suspect}{again}"), columns.suspect)),
        ])
    }

    fn empty(&self, cx: &Context) -> Vec<String> {
        if self.found.is_none() || !cx.view.loaded.complete {
            return vec!["Looking for crashes …".into()];
        }
        vec![
            "No crash: no dump, no report and no line that tells of one.".into(),
            "Dumps are read when they are in the box; pack takes them along with a recipe (7).".into(),
        ]
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        let Some(report) = self.chosen() else { return };
        pane.strong(&report.summary);
        for (value, means) in report.crash.what.parameters.iter().filter(|(_, means)| !means.is_empty()) {
            pane.line(&format!("0x{value:x}  {means}"));
        }
        if !report.frames.is_empty() {
            pane.heading("stack, innermost first");
            for frame in report.frames.iter().take(FRAMES) {
                let sure = frame.sure.name();
                let sure = if sure == "certain" { String::new() } else { format!("  ({sure})") };
                pane.line(&format!("{}{sure}", frame.text()));
            }
            if report.frames.len() > FRAMES {
                pane.faint(&format!("and {}", many((report.frames.len() - FRAMES) as u64, "more frame")));
            }
        }
        if !report.verdict.suspects.is_empty() {
            pane.heading("suspects");
            for suspect in &report.verdict.suspects {
                pane.text(&format!("{} {:.2}: {}", suspect.module, suspect.score, suspect.why.join("; ")));
            }
        }
        if !report.verdict.witnesses.is_empty() {
            let names: Vec<&str> = report.verdict.witnesses.iter().map(|witness| witness.module.as_str()).collect();
            pane.heading("only saw it");
            pane.faint(&names.join(", "));
        }
        for doubt in &report.verdict.doubts {
            pane.text(&format!("Not provable: {doubt}."));
        }
        near(cx, pane, "the last lines before it", &report.around.before);
        if !report.remedies.is_empty() {
            pane.heading("what to do");
            for (what, proves) in &report.remedies {
                pane.text(what);
                pane.faint(proves);
            }
        }
        if !report.around.no_dump.is_empty() {
            pane.heading("why there is no dump");
            for (text, place) in &report.around.no_dump {
                let place = place.as_ref().map_or(String::new(), |place| format!(" ({}:{})", place.source, place.line));
                pane.text(&format!("{text}{place}"));
            }
        }
        if !report.around.history.is_empty() {
            pane.heading("with others");
            for told in &report.around.history {
                pane.text(told);
            }
        }
        near(cx, pane, "changes before the first one", &report.around.changes);
        if let Some(missing) = report.missing_words() {
            pane.faint(&missing);
        }
        for (name, paths) in &self.doubled {
            pane.text(&format!("{name} is loaded from {} places: {}", paths.len(), paths.join(", ")));
        }
        let modules = &self.modules;
        if !modules.is_empty() {
            pane.heading(&format!("modules by {}", self.order.name()));
            for module in modules.iter().take(MODULES) {
                let age = module.age_days.map(|days| match days {
                    0..730 => many(days as u64, "day"),
                    _ => many(days as u64 / 365, "year"),
                });
                let told = [
                    module.version.clone(),
                    module.built.as_ref().map(|day| format!("of {day}")),
                    age.map(|age| format!("{age} old")),
                    Some(module.own.to_owned()).filter(|own| own != "unknown"),
                    module.in_stack.then(|| "in the stack".to_owned()),
                    (module.score > 0.0).then(|| format!("suspect {:.2}", module.score)),
                ];
                let told: Vec<String> = told.into_iter().flatten().collect();
                pane.line(&format!("{}  {}", module.name, told.join(", ")));
            }
            if modules.len() > MODULES {
                pane.faint(&format!("and {}", many((modules.len() - MODULES) as u64, "more module")));
            }
        }
        if let Some(count) = report.thread_count().filter(|count| *count > 1) {
            pane.heading("threads");
            let names = report.crash.threads.iter().filter_map(|thread| thread.name.as_deref());
            let names: Vec<&str> = names.take(MODULES).collect();
            pane.line(&format!(
                "{}{}",
                many(count as u64, "thread"),
                if names.is_empty() { String::new() } else { format!(": {}", names.join(", ")) }
            ));
        }
        for damage in &report.crash.trouble {
            pane.text(&format!("damage: {damage}"));
        }
        pane.gap();
        pane.facts("source", &report.place.source);
        pane.facts("fingerprint", &report.fingerprint);
        pane.facts("time from", report.time_from.name());
        for place in report.told_by.iter().take(6) {
            pane.facts("told by", &format!("{}:{}", place.source, place.line));
        }
        for place in report.same_as.iter().take(6) {
            pane.facts("same as", &place.source);
        }
    }
}

/// Lines of the case that are told with a crash; those that the process wrote itself stand out.
fn near(cx: &Context, pane: &mut Pane<'_>, heading: &str, lines: &[NearLine]) {
    if lines.is_empty() {
        return;
    }
    pane.heading(heading);
    for line in lines {
        let time = line
            .time
            .map_or("no time".to_owned(), |time| date_time(time, &cx.zone).get(5..19).unwrap_or_default().to_owned());
        let text = format!("{time}  {}", line.text);
        if line.own {
            pane.text(&text);
        } else {
            pane.faint(&text);
        }
    }
}

/// The columns that fit.
struct Columns {
    time: usize,
    host: usize,
    process: usize,
    what: usize,
    suspect: usize,
}

impl Columns {
    fn of(width: usize) -> Self {
        let wide = width >= 76;
        let (time, host) = if wide { (16, 14) } else { (10, 12) };
        let left = width.saturating_sub(3 + time + host);
        let process = left * 3 / 10;
        let suspect = left * 3 / 10;
        Self { time, host, process, what: left.saturating_sub(process + suspect), suspect }
    }
}
