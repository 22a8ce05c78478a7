//! The Collect view: gathering, capturing, receiving, redacting.

use std::sync::Arc;

use boxclock_core::Result;
use boxclock_core::gather::watch::{Host, Stage};
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::collecting::{CollectRow, Collecting, LogLevel, Redraw, Task};
use crate::context::{Context, Live, Question, Taker, Then};
use crate::jobs::Event;
use crate::pane::Pane;
use crate::text::{bytes, cut, cut_middle, fit, grouped, many};
use crate::theme::Hue;

static SPEC: Spec = Spec {
    id: "collect",
    key: "b",
    name: "Collect",
    about: "Collect: gather, capture, receive, redact",
    head_rows: 3,
    item_rows: 1,
    has_pane: true,
    tab_of: Some("box"),
};

/// Columns of the labels.
const LABEL: usize = 13;

/// The view.
#[derive(Default)]
pub(crate) struct CollectView {
    list: ListState,
    pub(crate) tasks: Collecting,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<CollectView>::default()
}

const COMMANDS: &[ViewCommand<CollectView>] = &[
    ViewCommand {
        name: "task-before",
        keys: &["Left", "h"],
        short: "task ←",
        long: "the previous task",
        run: |view, _, _| Ok(view.turn(true)),
    },
    ViewCommand {
        name: "task-next",
        keys: &["Right", "l"],
        short: "task →",
        long: "the next task: gather, capture, receive, redact",
        run: |view, _, _| Ok(view.turn(false)),
    },
    ViewCommand {
        name: "preview",
        keys: &["v"],
        short: "preview",
        long: "show exactly what would be done, without doing it",
        run: |view, cx, _| {
            let redraw = redraw(cx);
            view.tasks.preview(&cx.story, &cx.view.case, &redraw)?;
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "run",
        keys: &["r"],
        short: "run",
        long: "run the task; while capturing: the failure has been reproduced",
        run: |view, cx, _| {
            let redraw = redraw(cx);
            view.tasks.run(&cx.story, &cx.view.case, &redraw)?;
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "stop",
        keys: &["x"],
        short: "stop",
        long: "stop the selected host, or the whole task",
        run: |view, _, _| {
            let host = match view.chosen() {
                Some(CollectRow::Host(label)) => Some(label),
                _ => None,
            };
            Ok(Then::say(view.tasks.stop(host.as_deref())))
        },
    },
    ViewCommand {
        name: "open-output",
        keys: &["o"],
        short: "open",
        long: "open the result",
        run: |view, cx, _| {
            cx.next.clone_from(&view.tasks.output);
            Ok(if cx.next.is_some() { Then::Stay } else { Then::say("There is no result yet.") })
        },
    },
];

/// Has the screen drawn while a task goes on.
fn redraw(cx: &Context) -> Redraw {
    let sender = cx.jobs.sender();
    Arc::new(move || sender.send(Event::Tick).is_ok())
}

impl CollectView {
    fn chosen(&self) -> Option<CollectRow> {
        self.tasks.rows().into_iter().nth(self.list.cursor)
    }

    /// Chooses the next task, or the one before.
    fn turn(&mut self, back: bool) -> Then {
        if self.tasks.running.is_some() {
            return Then::say("A task is running. x stops it.");
        }
        let all = Task::ALL;
        let here = all.iter().position(|task| *task == self.tasks.task()).unwrap_or(0);
        let next = (here + if back { all.len() - 1 } else { 1 }) % all.len();
        self.tasks.task = Some(all[next]);
        self.tasks.log.clear();
        self.tasks.output = None;
        self.list = ListState::default();
        Then::Stay
    }
}

impl View for CollectView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.tasks.rows().len()
    }

    fn open(&mut self, cx: &mut Context) {
        self.tasks.suggest(&cx.story, &cx.view.case);
    }

    fn prepare(&mut self, _: &mut Context) {
        self.tasks.poll();
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        let Some(CollectRow::Field(field)) = self.chosen() else { return Ok(Then::Stay) };
        let (key, label, hint) = self.tasks.task().fields()[field];
        let text = self.tasks.text(key).to_owned();
        if self.tasks.is_switch(key) {
            let other = if text == "yes" { "no" } else { "yes" };
            self.tasks.set(key, other.into(), &cx.zone)?;
            return Ok(Then::Stay);
        }
        let (label, help, taker) = (label.to_lowercase(), hint.to_owned(), Taker::View(key));
        Ok(Then::Ask(Question { label, help, text, is_secret: false, live: Live::Nothing, taker }))
    }

    fn answer(&mut self, cx: &mut Context, question: &str, text: &str) -> Result<Then> {
        let fields = self.tasks.task().fields();
        if let Some((key, ..)) = fields.iter().find(|(key, ..)| *key == question) {
            self.tasks.set(key, text.to_owned(), &cx.zone)?;
        }
        Ok(Then::Stay)
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let mut tasks = vec![Span::raw(" ")];
        for task in Task::ALL {
            let here = task == self.tasks.task();
            let style = if here { cx.theme.strong().add_modifier(Modifier::UNDERLINED) } else { cx.theme.faint() };
            tasks.extend([Span::styled(task.name(), style), Span::raw("   ")]);
        }
        let status = cut(&format!(" {}", self.tasks.status()), width);
        let going = if self.tasks.running.is_some() { cx.theme.hue(Hue::Sky) } else { cx.theme.faint() };
        vec![Line::from(tasks), Line::styled(status, going), Line::raw("")]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        let rows = self.tasks.rows();
        Item::one(match rows.get(index) {
            Some(CollectRow::Field(field)) => field_line(cx, &self.tasks, *field, width),
            Some(CollectRow::Host(label)) => {
                let hosts = self.tasks.hosts();
                hosts.iter().find(|host| host.label == *label).map_or(Vec::new(), |host| host_line(cx, host, width))
            }
            Some(CollectRow::Log(line)) => {
                let (level, text) = &self.tasks.log[*line];
                let style = match level {
                    LogLevel::Plain => Style::new(),
                    LogLevel::Good => cx.theme.hue(Hue::Green),
                    LogLevel::Bad => cx.theme.hue(Hue::Orange),
                };
                // The end of a path says more than its middle.
                vec![Span::styled(cut_middle(&format!(" {}", boxclock_core::visible(text, false)), width), style)]
            }
            Some(CollectRow::Gap) | None => Vec::new(),
        })
    }

    fn pane(&self, _: &Context, pane: &mut Pane<'_>) {
        pane.faint(self.tasks.task().about());
        pane.gap();
        match self.chosen() {
            Some(CollectRow::Field(field)) => {
                let (key, label, hint) = self.tasks.task().fields()[field];
                pane.strong(label);
                pane.faint(hint);
                pane.text(self.tasks.text(key));
            }
            Some(CollectRow::Host(label)) => {
                for host in self.tasks.hosts().iter().filter(|host| host.label == label) {
                    let ((files, all), (done, total)) = (host.files, host.bytes());
                    pane.strong(&label);
                    pane.facts("now", host.stage.words());
                    pane.facts("files", &format!("{files} of {all}"));
                    pane.facts("bytes", &format!("{} of {}", grouped(done), grouped(total)));
                    pane.faint("x stops this host. What has arrived is kept, the rest is listed as left out.");
                }
            }
            Some(CollectRow::Log(line)) => pane.text(&self.tasks.log[line].1),
            Some(CollectRow::Gap) | None => {}
        }
    }
}

fn field_line(cx: &Context, tasks: &Collecting, field: usize, width: usize) -> Vec<Span<'static>> {
    let (key, label, hint) = tasks.task().fields()[field];
    let text = tasks.text(key);
    let room = width.saturating_sub(LABEL + 1);
    let label = Span::styled(fit(&format!(" {label}"), LABEL), cx.theme.faint());
    if text.is_empty() {
        return vec![label, Span::styled(fit(hint, room), cx.theme.faint())];
    }
    vec![label, Span::raw(fit(text, room))]
}

fn host_line(cx: &Context, host: &Host, width: usize) -> Vec<Span<'static>> {
    let (done, total) = host.bytes();
    let share = (done.min(total) * 10).checked_div(total).unwrap_or(0) as usize;
    let is_done = host.stage == Stage::Done;
    let bar = if is_done { 10 } else { share };
    let (shape, style) = match host.stage {
        Stage::Stopped(_) => ("△", cx.theme.hue(Hue::Orange)),
        Stage::Done => ("●", cx.theme.hue(Hue::Green)),
        _ => ("·", ratatui::style::Style::new()),
    };
    let (files, all) = host.files;
    let bar = format!("{}{}", "━".repeat(bar), "┄".repeat(10 - bar));
    let text = format!(
        " {shape} {:<14} {bar} {files} of {}, {}  {}",
        host.label,
        many(all as u64, "file"),
        bytes(done),
        if is_done && done == 0 { "nothing was taken" } else { host.stage.words() }
    );
    vec![Span::styled(fit(&text, width), style)]
}
