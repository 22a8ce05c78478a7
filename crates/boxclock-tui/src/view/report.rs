//! The Report view: what goes out, as it will be written.

use boxclock_core::report::markdown;
use ratatui::text::{Line, Span};

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Question, ReportParts, Then};
use crate::inbox::Inbox;
use crate::jobs::{Apply, Kind};
use crate::pane::Pane;

mod render;

static SPEC: Spec = Spec {
    id: "report",
    key: "0",
    name: "Report",
    about: "Report: what goes out",
    head_rows: 0,
    item_rows: 1,
    has_pane: false,
    tab_of: None,
};

const PREVIEW: Kind = ("report", 0);

/// The view.
#[derive(Default)]
struct ReportView {
    list: ListState,
    /// The report as it is written, and its lines as they look at a width.
    text: String,
    lines: Vec<Line<'static>>,
    width: u16,
    /// The state of the case that the preview was asked for.
    asked: Option<u64>,
    /// Where the job leaves a new preview.
    fresh: Inbox<String>,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<ReportView>::default()
}

const COMMANDS: &[ViewCommand<ReportView>] = &[ViewCommand {
    name: "write-report",
    keys: &["w"],
    short: "write",
    long: "write the report (Markdown) and the drawing of the timeline (SVG)",
    run: |_, cx, _| {
        let path = cx.report_path().display().to_string();
        Ok(Then::Ask(Question::new("write to", "Enter saves, Esc cancels", path, Context::write_report)))
    },
}];

impl View for ReportView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.lines.len()
    }

    fn open(&mut self, _: &mut Context) {
        self.asked = None;
    }

    fn prepare(&mut self, cx: &mut Context) {
        if let Some(text) = self.fresh.take() {
            (self.text, self.width) = (text, 0);
        }
        let width = cx.layout.middle.width;
        if self.width != width {
            self.width = width;
            self.lines = render::lines(&self.text, usize::from(width), cx.theme);
        }
        if self.asked.replace(cx.state) == Some(cx.state) {
            return;
        }
        match ReportParts::of(cx) {
            Ok(parts) => {
                let fresh = self.fresh.clone();
                cx.start(PREVIEW, move |view, _| {
                    fresh.put(markdown(&parts.report(view), None)?);
                    Ok(Box::new(|_: &mut Context| {}) as Apply<Context>)
                });
            }
            Err(error) => self.lines = vec![Line::raw(error.to_string())],
        }
    }

    fn item(&self, _: &Context, index: usize, _: usize) -> Item {
        Item::one(self.lines.get(index).map_or(Vec::new(), |line| {
            line.spans.iter().map(|span| Span::styled(span.content.clone(), line.style.patch(span.style))).collect()
        }))
    }

    fn empty(&self, _: &Context) -> Vec<String> {
        vec!["Writing the report …".into()]
    }

    fn pane(&self, _: &Context, _: &mut Pane<'_>) {}
}
