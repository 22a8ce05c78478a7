//! The Report view: what goes out, as it will be written.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};

use super::text::{fit, skip};
use super::{list, row};
use crate::app::App;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    let width = usize::from(area.width).saturating_sub(1);
    list(app, frame, area, Vec::new(), |index, chosen| {
        let line = &app.report_text[index];
        let style = if line.starts_with('#') { app.theme.strong() } else { ratatui::style::Style::new() };
        vec![row(
            app,
            chosen,
            width + 1,
            vec![Span::raw(" "), Span::styled(fit(&skip(line, app.shifted), width), style)],
        )]
    });
    if app.report_text.is_empty() {
        frame.render_widget(Line::raw(" reading …"), area);
    }
}
