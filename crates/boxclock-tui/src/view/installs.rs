//! The Installs view: runs of installers, their phases, and the step that failed first.

use std::sync::Arc;

use boxclock_core::Result;
use boxclock_core::clock::Zone;
use boxclock_core::clock::human::{date_time, duration_text, time_of_day};
use boxclock_core::install::{self, InstallAnalysis, Outcome, Run};
use boxclock_core::query::values::quoted;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, DRAWING, Question, Then};
use crate::jobs::Kind;
use crate::pane::Pane;
use crate::text::{column, cut, fit, many};
use crate::theme::Hue;

static SPEC: Spec = Spec {
    id: "installs",
    key: "5",
    name: "Installs",
    about: "Installs: runs of installers, and what failed first",
    head_rows: 1,
    item_rows: 2,
    has_pane: true,
    tab_of: None,
};

const FOUND: Kind = ("installs", 0);
/// Rows of each kind that the pane shows.
const MOST: usize = 12;

/// The view.
#[derive(Default)]
struct InstallsView {
    list: ListState,
    found: Option<Arc<Vec<Run>>>,
    /// The failure that was gone to last: of the run at that place of the list, by its number from 0.
    failure: Option<(usize, usize)>,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<InstallsView>::default()
}

const COMMANDS: &[ViewCommand<InstallsView>] = &[
    ViewCommand {
        name: "first-failure",
        keys: &["F"],
        short: "first failure",
        long: "go to the line that failed first, in whichever log it is",
        run: |view, cx, _| {
            let Some(run) = view.chosen() else { return Ok(Then::Stay) };
            let Some(first) = &run.first_failure else {
                return Ok(Then::say("Nothing failed in this run."));
            };
            Ok(match cx.view.row_of_line(&first.place.source, first.place.line) {
                Some(row) => Then::Go(row),
                None => Then::say("The log with that line has not been read yet."),
            })
        },
    },
    ViewCommand {
        name: "child-log",
        keys: &["o"],
        short: "other log",
        long: "go to the first other log that this run names",
        run: |view, cx, _| {
            let Some(run) = view.chosen() else { return Ok(Then::Stay) };
            let source = run.child_logs.iter().find_map(|(_, source, _)| source.clone());
            let Some(source) = source else {
                return Ok(Then::say("This run names no other log that is in the case."));
            };
            Ok(match cx.view.row_of_line(&source, 1) {
                Some(row) => Then::Go(row),
                None => Then::say("That log has not been read yet."),
            })
        },
    },
    ViewCommand {
        name: "next-failure",
        keys: &["n"],
        short: "next failure",
        long: "go to the failures of this run one after the other: the first, then what followed from it",
        run: |view, cx, _| Ok(view.walk_failures(cx, true)),
    },
    ViewCommand {
        name: "previous-failure",
        keys: &["N"],
        short: "failure before",
        long: "go back to the failure before that",
        run: |view, cx, _| Ok(view.walk_failures(cx, false)),
    },
    ViewCommand {
        name: "only-run",
        keys: &["f"],
        short: "only it",
        long: "show only this run in the Stream",
        run: |view, cx, _| view.only_this_run(cx),
    },
    ViewCommand {
        name: "run-drawing",
        keys: &["W"],
        short: "draw",
        long: "draw this run: phases over time, workers as lanes; SVG, PDF",
        run: |view, _, _| {
            if view.chosen().is_none() {
                return Ok(Then::Stay);
            }
            Ok(Question::drawing("run.svg"))
        },
    },
    ViewCommand::PANE_DOWN,
    ViewCommand::PANE_UP,
];

/// A shape for each way to end: readable without colour.
fn shape(outcome: Outcome) -> (&'static str, Option<Hue>) {
    match outcome {
        Outcome::Succeeded => ("✓", None),
        Outcome::RestartNeeded => ("↻", Some(Hue::Orange)),
        Outcome::Failed => ("✕", Some(Hue::Vermilion)),
        Outcome::RolledBack => ("↶", Some(Hue::Vermilion)),
        Outcome::Cancelled => ("○", None),
        Outcome::Refused => ("⊘", Some(Hue::Orange)),
        Outcome::CutOff => ("┄", Some(Hue::Orange)),
        Outcome::Running => ("…", Some(Hue::Sky)),
    }
}

impl InstallsView {
    fn all(&self) -> &[Run] {
        self.found.as_ref().map_or(&[], |found| found.as_slice())
    }

    fn chosen(&self) -> Option<&Run> {
        self.all().get(self.list.cursor)
    }

    /// The failures of the selected run in turn: the first one, then what followed from it.
    fn walk_failures(&mut self, cx: &Context, forward: bool) -> Then {
        let Some(run) = self.chosen() else { return Then::Stay };
        let first = run.first_failure.as_ref().map(|first| &first.place);
        let places: Vec<_> = first.into_iter().chain(&run.consequences).collect();
        let Some(last) = places.len().checked_sub(1) else { return Then::say("Nothing failed in this run.") };
        let next = match self.failure.filter(|(of, _)| *of == self.list.cursor).map(|(_, at)| at) {
            None if forward => 0,
            None => last,
            Some(at) if forward => at + 1,
            Some(0) => return Then::say("This is the first failure of the run."),
            Some(at) => at - 1,
        };
        if next > last {
            return Then::say("This was the last failure of the run.");
        }
        let row = cx.view.row_of_line(&places[next].source, places[next].line);
        self.failure = Some((self.list.cursor, next));
        row.map_or_else(|| Then::say("The log with that line has not been read yet."), Then::Go)
    }

    fn only_this_run(&self, cx: &mut Context) -> Result<Then> {
        let Some(run) = self.chosen() else { return Ok(Then::Stay) };
        let mut filter = format!("source={}", quoted(&run.source));
        if let Some((start, end)) = run.start.zip(run.end) {
            let moment = |ns: i64| date_time(ns, &Zone::utc())[..23].replace(' ', "T") + "Z";
            // The last line of a run belongs to it.
            filter = format!("{filter} time in {}..{}", moment(start), moment(end.saturating_add(1_000_000)));
        }
        let row = run.row;
        cx.set_filter(&filter)?;
        Ok(row.map_or(Then::Stay, Then::Go))
    }

    /// The phases of a run on an axis of their own: each as long as it took, the one that failed marked.
    fn bar(&self, cx: &Context, run: &Run, width: usize) -> Line<'static> {
        let Some((start, end)) = run.start.zip(run.end).filter(|(start, end)| end > start) else {
            return Line::raw("");
        };
        let room = width.saturating_sub(BAR_LEFT + 2);
        let column = |time: i64| {
            let part = time.saturating_sub(start).max(0) as f64 / end.saturating_sub(start) as f64;
            ((part * room as f64) as usize).min(room)
        };
        let at_depth =
            |depth: usize| run.phases.iter().filter(move |phase| phase.depth == depth && phase.start.is_some());
        // A phase that holds all the others says nothing: the first depth at which there are several.
        let depth = (0..3).find(|depth| at_depth(*depth).count() > 1).unwrap_or(0);
        let top: Vec<_> = at_depth(depth).collect();
        let mut spans = vec![Span::raw(" ".repeat(BAR_LEFT))];
        let mut at = 0;
        for (number, phase) in top.iter().enumerate() {
            let from = column(phase.start.unwrap_or(start)).max(at);
            let until = top.get(number + 1).and_then(|next| next.start).or(phase.end).unwrap_or(end);
            let wide = column(until).saturating_sub(from);
            if wide == 0 {
                continue;
            }
            spans.push(Span::raw(" ".repeat(from - at)));
            let style = match phase.outcome {
                Some("failed") => cx.theme.hue(Hue::Vermilion),
                _ => cx.theme.faint(),
            };
            let mark = if phase.outcome == Some("failed") { "✕" } else { "├" };
            let name = cut(&phase.name, wide.saturating_sub(3));
            let text = if wide < 5 { mark.to_owned() } else { format!("{mark} {name} ") };
            let line = "─".repeat(wide.saturating_sub(text.width()));
            spans.push(Span::styled(format!("{}{line}", cut(&text, wide)), style));
            at = from + wide;
        }
        if spans.len() == 1 { Line::raw("") } else { Line::from(spans) }
    }
}

/// Columns before the bar of a run.
const BAR_LEFT: usize = 3;

impl View for InstallsView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.all().len()
    }

    fn prepare(&mut self, cx: &mut Context) {
        // Its rows are those of the case as it is now, read to its end: of another they would be other lines, or none.
        self.found = if cx.view.loaded.complete { cx.ask(&InstallAnalysis, FOUND) } else { None };
    }

    fn enter(&mut self, _: &mut Context) -> Result<Then> {
        Ok(match self.chosen().map(|run| run.row) {
            Some(Some(row)) => Then::Go(row),
            Some(None) => Then::say("This run has no event in the stream."),
            None => Then::Stay,
        })
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let columns = Columns::of(width);
        let head = format!(
            "   {}{}{}{}{}",
            fit("began", columns.time),
            fit("host", columns.host),
            fit("what", columns.product),
            fit("lasted", columns.lasted),
            fit("how it ended", columns.outcome)
        );
        vec![Line::styled(fit(&head, width), cx.theme.faint())]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        let run = &self.all()[index];
        let columns = Columns::of(width);
        let time = run.start.map_or("no time".to_owned(), |time| {
            let text = date_time(time, &cx.zone);
            if columns.time > 12 { text[5..19].to_owned() } else { time_of_day(time, &cx.zone)[..8].to_owned() }
        });
        let product = match (&run.product, &run.version) {
            (Some(product), Some(version)) => format!("{product} {version}"),
            (Some(product), None) => product.clone(),
            _ => run.source.rsplit('/').next().unwrap_or_default().to_owned(),
        };
        let lasted = run.start.zip(run.end).map_or(String::new(), |(start, end)| duration_text((end - start).max(0)));
        let code =
            run.code.as_ref().filter(|code| code.number != 0).map_or(String::new(), |code| format!(" {}", code.number));
        let (mark, hue) = shape(run.outcome);
        let style = hue.map_or_else(Default::default, |hue| cx.theme.hue(hue));
        let number = run.row.map_or(0, |row| cx.event(row).actor().host);
        let restart = if run.restart_needed && run.outcome != Outcome::RestartNeeded { ", restart needed" } else { "" };
        let row = vec![
            Span::styled(format!(" {mark} "), style),
            Span::raw(column(&time, columns.time)),
            Span::styled(column(run.host.as_deref().unwrap_or("-"), columns.host), cx.theme.host(number)),
            Span::raw(column(&product, columns.product)),
            Span::raw(column(&lasted, columns.lasted)),
            Span::styled(fit(&format!("{}{code}{restart}", run.outcome.name()), columns.outcome), style),
        ];
        Item { row, below: vec![self.bar(cx, run, width)] }
    }

    fn answer(&mut self, cx: &mut Context, question: &str, text: &str) -> Result<Then> {
        if let Some(run) = self.chosen().filter(|_| question == DRAWING) {
            let drawing = install::draw(run, &cx.zone);
            cx.write_drawing(drawing, text);
        }
        Ok(Then::Stay)
    }

    fn empty(&self, cx: &Context) -> Vec<String> {
        if self.found.is_none() || !cx.view.loaded.complete {
            return vec!["Looking for installations …".into()];
        }
        vec![
            "No installation: no log of an installer or package manager with a run in it.".into(),
            "You can add the words of other installers in a file; see the guide, \"Follow an installation\".".into(),
        ]
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        let Some(run) = self.chosen() else { return };
        pane.strong(&run.summary);
        if let Some(first) = &run.first_failure {
            pane.heading("failed first");
            pane.text(&first.text);
            pane.facts("line", &format!("{}:{}", first.place.source, first.place.line));
            if let Some(code) = &first.code {
                pane.facts("code", &format!("{} {}", code.number, code.name.as_deref().unwrap_or_default()));
            }
        }
        if !run.phases.is_empty() {
            pane.heading("phases");
            for phase in run.phases.iter().take(MOST * 2) {
                let time = phase.start.map_or(String::new(), |time| time_of_day(time, &cx.zone)[..8].to_owned());
                let percent = phase.percent.map_or(String::new(), |percent| format!(" {percent} %"));
                let indent = "  ".repeat(phase.depth.min(8));
                pane.line(&format!("{time} {indent}{}{percent}  {}", phase.name, phase.outcome.unwrap_or("open")));
            }
            if run.phases.len() > MOST * 2 {
                pane.faint(&format!("and {}", many((run.phases.len() - MOST * 2) as u64, "more phase")));
            }
        }
        let changed: Vec<_> = run.items.iter().filter(|item| item.before != item.after).collect();
        if !changed.is_empty() {
            pane.heading("what differs");
            for item in changed.iter().take(MOST) {
                let state = |state: &Option<String>| state.clone().unwrap_or_else(|| "-".into());
                pane.line(&format!("{} {}: {} → {}", item.kind, item.name, state(&item.before), state(&item.after)));
            }
            if changed.len() > MOST {
                pane.faint(&format!("and {}", many((changed.len() - MOST) as u64, "more item")));
            }
        }
        if !run.workers.is_empty() {
            pane.heading("workers");
            for one in run.workers.iter().take(MOST) {
                pane.line(&format!("{}  {}  {}", one.worker, one.job, one.outcome));
            }
        }
        if !run.trust.is_empty() {
            pane.heading("not trusted");
            for (at, refusal) in run.trust.iter().take(MOST).enumerate() {
                if at > 0 {
                    pane.gap();
                }
                let fact = |pane: &mut Pane, name, value: &Option<String>| {
                    if let Some(value) = value {
                        pane.facts(name, value);
                    }
                };
                fact(pane, "signer", &refusal.signer);
                fact(pane, "print", &refusal.thumbprint);
                fact(pane, "valid to", &refusal.valid_until);
                fact(pane, "store", &refusal.store);
                pane.facts("line", &format!("{}:{}", refusal.place.source, refusal.place.line));
                if let Some(other) = &refusal.accepted {
                    pane.faint("another certificate of this signer was accepted:");
                    fact(pane, "print", &other.thumbprint);
                    fact(pane, "valid to", &other.valid_until);
                    pane.facts("line", &format!("{}:{}", other.place.source, other.place.line));
                }
                for (code, place) in &refusal.codes {
                    pane.facts("code", &format!("{code}  {}:{}", place.source, place.line));
                }
            }
        }
        if !run.not_failures.is_empty() {
            pane.heading("sounds bad and is not");
            for (place, why) in run.not_failures.iter().take(MOST) {
                pane.faint(&format!("line {}: {why}", place.line));
            }
        }
        pane.gap();
        for (path, source, line) in run.child_logs.iter().take(MOST) {
            pane.facts(
                "other log",
                &format!("{path} (line {line}){}", if source.is_some() { "" } else { ", not in the case" }),
            );
        }
        if !run.remaining.is_empty() {
            pane.facts("still to do", &run.remaining.join(", "));
        }
        pane.facts("source", &format!("{}:{}-{}", run.source, run.line, run.last_line));
    }
}

/// The columns that fit.
struct Columns {
    time: usize,
    host: usize,
    product: usize,
    lasted: usize,
    outcome: usize,
}

impl Columns {
    fn of(width: usize) -> Self {
        let wide = width >= 76;
        let (time, host) = if wide { (16, 14) } else { (10, 12) };
        let lasted = if wide { 10 } else { 0 };
        let left = width.saturating_sub(3 + time + host + lasted);
        let outcome = (left * 4 / 10).clamp(14, 26).min(left);
        Self { time, host, product: left - outcome, lasted, outcome }
    }
}
