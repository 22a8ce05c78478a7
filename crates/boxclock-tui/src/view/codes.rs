//! The Codes view: every code of the case, failures first.

use boxclock_core::clock::human::time_of_day;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;

use super::text::fit;
use super::{list, row};
use crate::app::App;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    if app.codes.is_empty() {
        let text = if app.loaded.complete { " No codes were found in this case." } else { " reading …" };
        frame.render_widget(Paragraph::new(text).style(app.theme.faint()), area);
        return;
    }
    let width = usize::from(area.width);
    let wide = width >= 80;
    let name_width = if wide { 31 } else { 0 };
    let fixed = 1 + 7 + 2 + 11 + name_width + usize::from(wide) + 9 + 1;
    let gloss_width = width.saturating_sub(fixed);
    let head = format!(
        " {:>7}  {:<11}{:<name_width$}{}{:<9}meaning",
        "events",
        "code",
        if wide { "name" } else { "" },
        if wide { " " } else { "" },
        "first"
    );
    let header = vec![Line::styled(head, app.theme.faint())];
    list(app, frame, area, header, |index, chosen| {
        let code = &app.codes[index];
        let reading = code.code.reading();
        let first = code.span.map_or("-".into(), |(first, _)| time_of_day(first, &app.zone)[..8].to_owned());
        let hue = if reading.is_failure() { app.theme.hue(crate::theme::Hue::Vermilion) } else { app.theme.faint() };
        let mut spans =
            vec![Span::raw(format!(" {:>7}  ", code.count)), Span::styled(fit(&code.code.written(), 11), hue)];
        if wide {
            spans.push(Span::raw(fit(reading.name.unwrap_or("-"), name_width)));
            spans.push(Span::raw(" "));
        }
        spans.push(Span::styled(format!("{first} "), app.theme.faint()));
        let words = if reading.gloss.is_empty() { reading.meaning.clone() } else { reading.gloss };
        spans.push(Span::raw(fit(&words, gloss_width)));
        vec![row(app, chosen, width, spans)]
    });
}
