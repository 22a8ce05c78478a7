//! The Stream: all events in order of corrected time.

use boxclock_core::Result;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::Line;
use ratatui::widgets::{Clear, Paragraph};

use super::{Item, ListState, Spec, View, first_visible};
use crate::context::{Context, STREAM, Then};
use crate::jobs::ROWS;
use crate::pane::Pane;
use crate::pane_state::LinkTarget;
use crate::text::{grouped, wrap};

mod commands;
mod draw;
mod menus;
mod prepare;

use commands::COMMANDS;

static SPEC: Spec = Spec {
    id: STREAM,
    key: "3",
    name: "Stream",
    about: "Stream: all events on one clock",
    head_rows: 0,
    item_rows: 1,
    has_pane: true,
    tab_of: None,
};

/// The view. Its state is shared: rail, pane and the other views lead to its events.
#[derive(Default)]
struct StreamView {
    /// Not used: the chosen place is shared.
    list: ListState,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<StreamView>::default()
}

impl View for StreamView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, cx: &Context) -> usize {
        cx.row_count()
    }

    fn prepare(&mut self, cx: &mut Context) {
        let height = usize::from(cx.layout.middle.height).max(1);
        let height = height.saturating_sub(draw::said_once(cx).len()).max(1);
        let len = cx.row_count();
        cx.stream.cursor = cx.stream.cursor.min(len.saturating_sub(1));
        cx.stream.top = first_visible(cx.stream.top, cx.stream.cursor, len, height);
        cx.prepare_lines();
    }

    /// Follows the chosen link of the pane, or opens and closes the pane.
    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        let Some(link) = cx.pane.link.take().and_then(|at| cx.pane.links.get(at)).cloned() else {
            cx.toggle_pane();
            return Ok(Then::Stay);
        };
        match link.target {
            LinkTarget::Row(row) => Ok(Then::Go(row)),
            LinkTarget::Only(piece) => cx.add_to_filter(&piece).map(|()| Then::Stay),
        }
    }

    fn move_by(&mut self, cx: &mut Context, by: isize) {
        if cx.row_count() > 0 {
            cx.go(cx.stream.cursor.saturating_add_signed(by));
        }
    }

    fn move_to(&mut self, cx: &mut Context, number: usize) {
        cx.note_jump();
        cx.go(number.saturating_sub(1));
    }

    fn click(&mut self, cx: &mut Context, row: usize) {
        if let Some(place) = cx.place_at_line(row) {
            cx.go(place);
        }
    }

    fn escape(&mut self, cx: &mut Context) -> bool {
        if cx.pane.link.take().is_some() || cx.stream.selected_from.take().is_some() {
            return true;
        }
        let was_looking = cx.stream.find.is_some();
        cx.stop_looking();
        was_looking
    }

    fn item(&self, _: &Context, _: usize, _: usize) -> Item {
        Item::one(Vec::new())
    }

    fn empty(&self, cx: &Context) -> Vec<String> {
        if cx.jobs.is_running(ROWS) {
            vec!["searching …".into()]
        } else if !cx.view.loaded.table.is_empty() {
            let count = cx.view.loaded.table.len();
            let hidden =
                if count == 1 { "1 event is".to_owned() } else { format!("{} events are", grouped(count as u64)) };
            vec![
                format!("No event passes the filter: {}", cx.stream.filter_text),
                format!("{hidden} hidden. F removes the filter, f changes it, < goes back to the one before."),
            ]
        } else if cx.view.loaded.complete {
            vec![
                "There are no events in this case.".into(),
                "2 shows what was read, and what was left out and why; b collects logs.".into(),
            ]
        } else {
            vec!["reading …".into()]
        }
    }

    fn pane(&self, _: &Context, pane: &mut Pane<'_>) {
        pane.chosen_event();
    }

    fn counts(&self, cx: &Context) -> String {
        if cx.jobs.is_running(ROWS) {
            return "searching …".into();
        }
        let problems = &cx.stream.rows.problems;
        let cursor = cx.stream.cursor;
        let above = problems.partition_point(|place| (*place as usize) < cursor);
        let below = problems.len() - problems.partition_point(|place| (*place as usize) <= cursor);
        // One place, one meaning, folded or filtered or not: the row of rows, then how many of all events pass.
        let (rows, total) = (cx.row_count(), cx.view.loaded.table.len());
        let word = if cx.layout.whole.width < 40 { "" } else { "row " };
        let mut events = format!("{word}{} of {}", grouped((cursor + 1).min(rows) as u64), grouped(rows as u64));
        let passed = cx.stream.rows.passed.as_ref().map_or(total, |rows| rows.len());
        if passed != total || rows != total {
            events.push_str(&format!("   {} of {} events", grouped(passed as u64), grouped(total as u64)));
        }
        format!("{events}   problems {} ↑ {} ↓", grouped(above as u64), grouped(below as u64))
    }

    fn draw(&self, cx: &Context, frame: &mut Frame<'_>, area: Rect) {
        frame.render_widget(Clear, area);
        let width = usize::from(area.width);
        if cx.row_count() == 0 {
            let lines = self.empty(cx).into_iter().flat_map(|line| wrap(&line, width.saturating_sub(2)));
            let lines: Vec<Line<'_>> = lines.map(|line| Line::raw(format!(" {line}"))).collect();
            frame.render_widget(Paragraph::new(lines).style(cx.theme.faint()), area);
            return;
        }
        let columns = draw::Columns::of(area.width, cx);
        let mut lines: Vec<Line<'_>> = draw::said_once(cx);
        let mut before = None;
        for line in &cx.stream.lines {
            lines.extend(draw::draw_line(cx, line, &columns, before));
            before = Some(line.row);
        }
        lines.truncate(usize::from(area.height));
        frame.render_widget(Paragraph::new(lines), area);
    }
}
