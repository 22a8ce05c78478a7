//! The Cause view: the chain from the root to the symptom, and the pins that are not in it.

use boxclock_core::clock::human::time_of_day;
use boxclock_core::logbook::Link;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;

use super::text::{cut, fit, many};
use super::{list, row};
use crate::app::App;
use crate::theme::Hue;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    if app.pins.is_empty() {
        let lines = vec![
            Line::raw(" Nothing is pinned yet."),
            Line::styled(
                " In the Stream (3) p pins the chosen event with a note. Pins are the evidence of a cause.",
                app.theme.faint(),
            ),
        ];
        frame.render_widget(Paragraph::new(lines), area);
        return;
    }
    let width = usize::from(area.width);
    let order = app.cause_order();
    let header = vec![
        Line::from(vec![
            Span::styled(" From the root to the symptom", app.theme.strong()),
            Span::styled(
                format!(
                    "   {}, {}",
                    many(app.chain.len() as u64, "link"),
                    many((order.len() - app.chain.len()) as u64, "other pin")
                ),
                app.theme.faint(),
            ),
        ]),
        Line::raw(""),
    ];
    list(app, frame, area, header, |index, chosen| {
        let (link, pin) = order[index];
        let event = app.row_of_pin(pin).map(|row| app.loaded.table.event(row));
        let time =
            event.and_then(|event| event.time()).map_or("no time     ".into(), |time| time_of_day(time, &app.zone));
        let host = event.map_or("", |event| event.host());
        let number = event.map_or(0, |event| event.actor().host);
        let note = if pin.note.is_empty() { "(no note)" } else { &pin.note };
        let kind = link.and_then(|link| app.chain.get(link)).map(|link| link.kind);
        let (mark, hue) = match kind {
            Some(Link::Root) => ("● root", app.theme.hue(Hue::Vermilion)),
            Some(Link::Step) => ("│ step", app.theme.hue(Hue::Orange)),
            Some(Link::Symptom) => ("○ symptom", app.theme.hue(Hue::Sky)),
            None => (pin.kind.name(), app.theme.pin((pin.kind, pin.colour))),
        };
        let spans = vec![
            Span::styled("◂", app.theme.pin((pin.kind, pin.colour))),
            Span::styled(fit(mark, 10), hue),
            Span::raw(format!("{time}  ")),
            Span::styled(fit(host, 12), app.theme.host(number)),
            Span::raw(format!(" {}", fit(note, width.saturating_sub(39)))),
        ];
        let reason = match link.and_then(|link| app.chain.get(link)) {
            Some(link) if link.reason.is_empty() => "why it follows: not said yet (e)".to_owned(),
            Some(link) => format!("because {}", link.reason),
            None => "not in the chain (c)".to_owned(),
        };
        let stem = if kind.is_some() && index + 1 < app.chain.len() { " │" } else { "  " };
        vec![
            row(app, chosen, width, spans),
            Line::from(vec![
                Span::styled(stem, app.theme.faint()),
                Span::styled(cut(&format!("         {reason}"), width.saturating_sub(2)), app.theme.faint()),
            ]),
        ]
    });
}
