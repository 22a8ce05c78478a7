//! The story: what happened, in the words of those who report it.

use boxclock_core::logbook::Story;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};

use super::text::{cut, fit};
use super::{list, row};
use crate::app::{App, Mode, Prompt};

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    let width = usize::from(area.width);
    let header = vec![Line::styled(" What is known before looking at any log", app.theme.strong()), Line::raw("")];
    list(app, frame, area, header, |index, chosen| {
        let (key, label, hint) = Story::FIELDS[index];
        let typed = match &app.mode {
            Mode::Typing(Prompt::Field(field), input) if *field == key => Some(input.value()),
            _ => None,
        };
        let value = typed.unwrap_or(app.story.get(key));
        let text = if value.is_empty() {
            Span::styled(cut(hint, width.saturating_sub(4)), app.theme.faint())
        } else {
            Span::raw(cut(value, width.saturating_sub(4)))
        };
        vec![
            row(app, chosen, width, vec![Span::styled(fit(&format!(" {label}"), width), app.theme.faint())]),
            Line::from(vec![Span::raw("   "), text]),
            Line::raw(""),
        ]
    });
}
