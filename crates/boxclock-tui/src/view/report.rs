//! The Report view: what goes out, as it will be written.

use std::sync::{Arc, Mutex, PoisonError};

use boxclock_core::report::markdown;
use ratatui::style::Style;
use ratatui::text::Span;

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Question, ReportParts, Then};
use crate::jobs::{Apply, Kind};
use crate::pane::Pane;
use crate::text::{fit, skip};

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
    lines: Vec<String>,
    /// The state of the case that the preview was asked for.
    asked: Option<u64>,
    /// Where the job leaves a new preview.
    fresh: Arc<Mutex<Option<String>>>,
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
        if let Some(text) = self.fresh.lock().unwrap_or_else(PoisonError::into_inner).take() {
            self.lines = text.lines().map(str::to_owned).collect();
        }
        if self.asked.replace(cx.state) == Some(cx.state) {
            return;
        }
        match ReportParts::of(&cx.view, &cx.logbook) {
            Ok(parts) => {
                let fresh = Arc::clone(&self.fresh);
                cx.start(PREVIEW, move |view, _| {
                    let text = markdown(&parts.report(view), None)?;
                    *fresh.lock().unwrap_or_else(PoisonError::into_inner) = Some(text);
                    Ok(Box::new(|_: &mut Context| {}) as Apply<Context>)
                });
            }
            Err(error) => self.lines = vec![error.to_string()],
        }
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        let line = &self.lines[index];
        let style = if line.starts_with('#') { cx.theme.strong() } else { Style::new() };
        let text = fit(&skip(line, cx.stream.shifted), width.saturating_sub(1));
        Item::one(vec![Span::raw(" "), Span::styled(text, style)])
    }

    fn empty(&self, _: &Context) -> Vec<String> {
        vec!["Writing the report …".into()]
    }

    fn pane(&self, _: &Context, _: &mut Pane<'_>) {}
}
