//! The stream: all events in order of corrected time.

use boxclock_core::clock::human::time_of_day;
use boxclock_core::event::flag;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use super::row;
use super::text::{cut, fit, grouped, skip};
use crate::app::{App, StreamLine};
use crate::jobs::Kind;
use crate::theme::shape;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    if app.view_len() == 0 {
        frame.render_widget(Paragraph::new(empty(app)).style(app.theme.faint()), area);
        return;
    }
    let columns = Columns::of(area.width, app);
    let lines: Vec<Line<'_>> = app.lines.iter().map(|line| draw_line(app, line, &columns)).collect();
    frame.render_widget(Paragraph::new(lines), area);
}

/// What an empty stream says: why it is empty, and which key mends it.
fn empty(app: &App) -> Vec<Line<'static>> {
    let lines: Vec<String> = if app.jobs.is_running(Kind::View) {
        vec!["looking …".into()]
    } else if !app.loaded.table.is_empty() {
        vec![
            format!("No event passes the filter: {}", app.filter_text),
            format!(
                "{} events are hidden. F takes the filter away, f changes it.",
                grouped(app.loaded.table.len() as u64)
            ),
        ]
    } else if app.loaded.complete {
        vec!["There are no events in this case.".into(), "2 shows what was read, and what was left out and why.".into()]
    } else {
        vec!["reading …".into()]
    };
    lines.into_iter().map(|line| Line::raw(format!(" {line}"))).collect()
}

/// Widths of the columns in front of the text; 0 for those that do not fit.
struct Columns {
    host: usize,
    component: usize,
    text: usize,
    width: usize,
}

impl Columns {
    const TIME: usize = 12;

    fn of(width: u16, app: &App) -> Self {
        let longest =
            |names: &[String], most: usize| names.iter().map(|name| name.width()).max().unwrap_or(0).min(most);
        let host = if width >= 56 { longest(&app.loaded.table.hosts, 12) } else { 0 };
        let component = if width >= 76 { longest(&app.loaded.table.components, 16) } else { 0 };
        let gaps = usize::from(host > 0) + usize::from(component > 0);
        let used = 1 + Self::TIME + 3 + host + component + gaps;
        let width = usize::from(width);
        Self { host, component, text: width.saturating_sub(used), width }
    }
}

fn draw_line(app: &App, line: &StreamLine, columns: &Columns) -> Line<'static> {
    let event = app.loaded.table.event(line.row);
    let theme = &app.theme;
    let pin = if app.pinned.contains(&line.row.0) { "◂" } else { " " };
    let time = match event.time() {
        Some(time) => time_of_day(time, &app.zone),
        None => "no time".into(),
    };
    // A time that is not the line's own, or does not fit the order of its file, stands back.
    let doubtful = event.is_disordered() || event.time_known() as u8 >= 3;
    let severity = event.severity();
    let flags = event.flags();
    let (suspect, dump) = (flags & flag::SUSPECT != 0, flags & flag::DUMP != 0);
    let level =
        if suspect { theme.severity(boxclock_core::severity::Severity::WARN) } else { theme.severity(severity) };
    let mut spans = vec![
        Span::styled(pin, theme.hue(crate::theme::Hue::Yellow)),
        Span::styled(fit(&time, Columns::TIME), if doubtful { theme.faint() } else { Style::new() }),
        Span::styled(format!(" {} ", shape(severity, suspect, dump)), level),
    ];
    if columns.host > 0 {
        spans.push(Span::styled(fit(event.host(), columns.host), theme.host(event.actor().host)));
        spans.push(Span::raw(" "));
    }
    if columns.component > 0 {
        spans.push(Span::styled(fit(event.component(), columns.component), theme.faint()));
        spans.push(Span::raw(" "));
    }
    spans.extend(text(app, line, columns.text, level));
    row(app, line.place == app.cursor, columns.width, spans)
}

/// The text with its codes glossed, the hits of a find marked, scrolled to the left and cut.
fn text(app: &App, line: &StreamLine, width: usize, level: Style) -> Vec<Span<'static>> {
    let mut pieces: Vec<(String, Style)> = Vec::new();
    let mut at = 0;
    for (end, gloss) in &line.glosses {
        pieces.push((line.text.get(at..*end).unwrap_or_default().to_owned(), level));
        pieces.push((format!(" ‹{gloss}›"), app.theme.hue(crate::theme::Hue::Sky)));
        at = *end;
    }
    pieces.push((line.text.get(at..).unwrap_or_default().to_owned(), level));
    if line.more_lines > 0 {
        pieces.push((format!("  ⏎ {} more lines", line.more_lines), app.theme.faint()));
    }
    let needle = app.find.is_some().then(|| app.find_text.to_lowercase()).filter(|text| !text.starts_with('/'));
    let mut spans = Vec::new();
    let (mut to_skip, mut room) = (app.shifted, width);
    for (piece, style) in pieces {
        let shown = boxclock_core::visible(&piece, false);
        let whole = shown.width();
        if to_skip >= whole {
            to_skip -= whole;
            continue;
        }
        let shown = cut(&skip(&shown, to_skip), room);
        to_skip = 0;
        room = room.saturating_sub(shown.width());
        spans.extend(marked(&shown, needle.as_deref(), style));
        if room == 0 {
            break;
        }
    }
    spans
}

/// The text with each occurrence of the needle marked.
fn marked(text: &str, needle: Option<&str>, style: Style) -> Vec<Span<'static>> {
    let lower = text.to_lowercase();
    let Some(needle) = needle.filter(|needle| !needle.is_empty() && lower.len() == text.len()) else {
        return vec![Span::styled(text.to_owned(), style)];
    };
    let mut spans = Vec::new();
    let mut at = 0;
    for (start, hit) in lower.match_indices(needle) {
        spans.push(Span::styled(text[at..start].to_owned(), style));
        spans.push(Span::styled(
            text[start..start + hit.len()].to_owned(),
            style.add_modifier(Modifier::UNDERLINED | Modifier::BOLD),
        ));
        at = start + hit.len();
    }
    spans.push(Span::styled(text[at..].to_owned(), style));
    spans
}
