//! The stream: all events in order of corrected time.

use boxclock_core::clock::human::{date_time, duration_text, time_of_day};
use boxclock_core::event::{EventRef, flag};
use boxclock_core::severity::Severity;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph};
use unicode_segmentation::UnicodeSegmentation;
use unicode_width::UnicodeWidthStr;

use super::row;
use super::text::{cut, fit, grouped, many};
use crate::app::{App, StreamLine, TextMark};
use crate::jobs::Kind;
use crate::settings::TimeForm;
use crate::theme::{Hue, shape};
use crate::workspace::Column;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    frame.render_widget(Clear, area);
    if app.view_len() == 0 {
        let lines = Paragraph::new(empty(app, usize::from(area.width))).style(app.theme.faint());
        frame.render_widget(lines, area);
        return;
    }
    let mut lines: Vec<Line<'_>> = Vec::with_capacity(usize::from(area.height));
    for line in &app.lines {
        lines.extend(draw_line(app, line, &app.columns));
    }
    lines.truncate(usize::from(area.height));
    frame.render_widget(Paragraph::new(lines), area);
}

/// What an empty stream says: why it is empty, and which key mends it.
fn empty(app: &App, width: usize) -> Vec<Line<'static>> {
    let lines: Vec<String> = if app.jobs.is_running(Kind::View) {
        vec!["looking …".into()]
    } else if !app.loaded.table.is_empty() {
        vec![
            format!("No event passes the filter: {}", app.filter_text),
            format!(
                "{} events are hidden. F takes the filter away, f changes it, < goes back to the one before.",
                grouped(app.loaded.table.len() as u64)
            ),
        ]
    } else if app.loaded.complete {
        vec![
            "There are no events in this case.".into(),
            "2 shows what was read, and what was left out and why; b gathers.".into(),
        ]
    } else {
        vec!["reading …".into()]
    };
    let wrapped = lines.iter().flat_map(|line| super::text::wrap(line, width.saturating_sub(2)));
    wrapped.map(|line| Line::raw(format!(" {line}"))).collect()
}

/// The columns in front of the text, with their widths in columns of the screen; and the width of the text.
#[derive(Clone, Debug, Default)]
pub struct Columns {
    /// Those that are shown.
    pub list: Vec<(Column, usize)>,
    /// What is left for the text.
    pub text: usize,
    width: usize,
}

impl Columns {
    /// What fits into a middle of this width: those that were chosen, or time, level, host and component.
    pub fn of(width: u16, app: &App) -> Self {
        let chosen = app.workspace.columns.clone().or_else(|| app.settings.columns.clone());
        let usual = || {
            let mut list = vec![(Column::Time, 0), (Column::Level, 0)];
            list.extend((width >= 56).then_some((Column::Host, 0)));
            list.extend((width >= 76).then_some((Column::Component, 0)));
            list
        };
        let list: Vec<(Column, usize)> = chosen.unwrap_or_else(usual);
        let sized = list.into_iter().map(|(column, wanted)| {
            let own = if wanted > 0 { wanted } else { own_width(column, app) };
            (column, own)
        });
        let list: Vec<(Column, usize)> = sized.filter(|(_, width)| *width > 0).collect();
        let width = usize::from(width);
        // The margin, and a blank behind each column.
        let used = 1 + list.iter().map(|(_, width)| width + 1).sum::<usize>();
        Self { list, text: width.saturating_sub(used), width }
    }
}

/// As wide as the longest that it can show, within reason.
fn own_width(column: Column, app: &App) -> usize {
    let [host, component, source] = app.longest;
    match column {
        Column::Time => time_width(app),
        Column::Level => 1,
        Column::Host => host.min(12),
        Column::Component => component.min(16),
        Column::Source => source.min(18),
        Column::Pid | Column::Tid => 7,
        Column::Line => 8,
    }
}

fn time_width(app: &App) -> usize {
    match (app.workspace.zero, app.settings.time) {
        (Some(_), _) => 14,
        (None, TimeForm::Time) => 12,
        (None, TimeForm::DateTime) => 23,
    }
}

/// The last part of a source's name.
pub fn short(name: &str) -> &str {
    name.rsplit(['/', '!']).next().unwrap_or(name)
}

/// The time of an event as the Stream shows it: of the day, with the date, or from a chosen moment on.
fn time_text(app: &App, event: EventRef<'_>) -> String {
    let Some(time) = event.time() else { return "no time".into() };
    match (app.workspace.zero, app.settings.time) {
        (Some(zero), _) => relative(time.saturating_sub(zero)),
        (None, TimeForm::Time) => time_of_day(time, &app.zone),
        (None, TimeForm::DateTime) => date_time(time, &app.zone)[..23].to_owned(),
    }
}

/// A span as `−00:03.120` or `+1:02:03.000`.
pub(super) fn relative(ns: i64) -> String {
    let sign = if ns < 0 { '−' } else { '+' };
    let millis = ns.unsigned_abs() / 1_000_000;
    let (hours, minutes, seconds) = (millis / 3_600_000, millis / 60_000 % 60, millis / 1000 % 60);
    let rest = format!("{minutes:02}:{seconds:02}.{:03}", millis % 1000);
    if hours > 0 { format!("{sign}{hours}:{rest}") } else { format!("{sign}{rest}") }
}

fn draw_line(app: &App, line: &StreamLine, columns: &Columns) -> Vec<Line<'static>> {
    let event = app.loaded.table.event(line.row);
    let theme = &app.theme;
    let severity = event.severity();
    let flags = event.flags();
    let (suspect, dump) = (flags & flag::SUSPECT != 0, flags & flag::DUMP != 0);
    let level = if suspect { theme.severity(Severity::WARN) } else { theme.severity(severity) };
    let mut front = vec![margin(app, line)];
    for (column, width) in &columns.list {
        let (text, style) = match column {
            Column::Time => {
                // A time that is not the line's own, or does not fit the order of its file, stands back.
                let doubtful = event.is_disordered() || event.time_known() as u8 >= 3;
                (time_text(app, event), if doubtful { theme.faint() } else { Style::new() })
            }
            Column::Level => (shape(severity, suspect, dump).to_owned(), level),
            Column::Host => (event.host().to_owned(), theme.host(event.actor().host)),
            // A steady hue for each source too, so that the eye can follow one.
            Column::Source => {
                let name = short(&app.case.sources[event.source()].name).to_owned();
                (name, theme.host(event.source() as u32 + 1))
            }
            Column::Component => (event.component().to_owned(), theme.faint()),
            Column::Pid => (event.actor().pid.map_or(String::new(), |id| id.to_string()), theme.faint()),
            Column::Tid => (event.actor().tid.map_or(String::new(), |id| id.to_string()), theme.faint()),
            Column::Line => (event.line().to_string(), theme.faint()),
        };
        front.push(Span::styled(fit(&text, *width), style));
        front.push(Span::raw(" "));
    }
    let indent = front.iter().map(|span| span.content.width()).sum::<usize>();
    let most = line.height.saturating_sub(line.extra.len()).max(1);
    let mut rows = text_rows(app, line, columns.text, most).into_iter();
    front.extend(rows.next().unwrap_or_default());
    let chosen = line.place == app.cursor;
    let mut lines = vec![row(app, chosen, columns.width, front)];
    for rest in rows.take(most - 1) {
        let mut spans = vec![Span::raw(" ".repeat(indent))];
        spans.extend(rest);
        lines.push(row(app, chosen, columns.width, spans));
    }
    for extra in &line.extra {
        let text = boxclock_core::visible(&extra.replace('\t', "    "), false);
        let shown = cut(&super::text::skip(&text, app.shifted), columns.text);
        let spans = vec![Span::raw(" ".repeat(indent)), Span::styled(shown, level)];
        lines.push(row(app, chosen, columns.width, spans));
    }
    lines
}

/// The number of an ink, small, so that it does not run into the time behind it.
pub(super) fn ink_mark(place: u8) -> &'static str {
    const MARKS: [&str; 8] = ["¹", "²", "³", "⁴", "⁵", "⁶", "⁷", "⁸"];
    MARKS.get(usize::from(place)).copied().unwrap_or(" ")
}

/// One column: a pin, the selection, or an ink.
fn margin(app: &App, line: &StreamLine) -> Span<'static> {
    if let Some(pin) = app.pinned.get(&line.row.0) {
        return Span::styled("◂", app.theme.pin(*pin));
    }
    if app.is_selected(line.place) {
        return Span::styled("┃", app.theme.strong());
    }
    match line.ink {
        Some(ink) => Span::styled(ink_mark(ink), app.theme.ink(ink).remove_modifier(Modifier::UNDERLINED)),
        None => Span::raw(" "),
    }
}

/// The text with its codes glossed and its marks, as rows of at most `width` columns: one row that is scrolled to the left, or as
/// many as it takes where lines are wrapped.
pub fn text_rows(app: &App, line: &StreamLine, width: usize, most: usize) -> Vec<Vec<Span<'static>>> {
    let event = app.loaded.table.event(line.row);
    let suspect = event.flags() & flag::SUSPECT != 0;
    let level = app.theme.severity(if suspect { Severity::WARN } else { event.severity() });
    let pieces = pieces(app, line, level);
    let clusters: Vec<(&str, usize, Style)> = pieces
        .iter()
        .flat_map(|(text, style)| text.graphemes(true).map(|cluster| (cluster, cluster.width(), *style)))
        .collect();
    if app.workspace.wrap {
        return wrapped(&clusters, width, most);
    }
    let mut to_skip = app.shifted;
    let first = clusters.iter().take_while(|(_, wide, _)| {
        let skipped = to_skip > 0;
        to_skip = to_skip.saturating_sub(*wide);
        skipped
    });
    let rest = &clusters[first.count()..];
    let is_cut = rest.iter().map(|(_, wide, _)| wide).sum::<usize>() > width;
    let room = if is_cut { width.saturating_sub(1) } else { width };
    let mut used = 0;
    let fits = rest.iter().take_while(|(_, wide, _)| {
        used += wide;
        used <= room
    });
    let mut spans = joined(&rest[..fits.count()]);
    if is_cut && width > 0 {
        spans.push(Span::styled("…", app.theme.faint()));
    }
    vec![spans]
}

/// Rows of at most `width` columns, broken behind a blank where there is one not far back.
fn wrapped(clusters: &[(&str, usize, Style)], width: usize, most: usize) -> Vec<Vec<Span<'static>>> {
    const BACK: usize = 24;
    let mut rows: Vec<Vec<Span<'static>>> = Vec::new();
    let mut at = 0;
    while at < clusters.len() && rows.len() < most {
        let (mut end, mut used) = (at, 0);
        while end < clusters.len() && used + clusters[end].1 <= width {
            used += clusters[end].1;
            end += 1;
        }
        // A cluster that is wider than the row is taken all the same: each row takes at least one.
        end = end.max(at + 1);
        if end < clusters.len() && clusters[end].0 != " " {
            let blank = clusters[at..end].iter().rev().take(BACK).position(|(cluster, ..)| *cluster == " ");
            end = blank.map(|back| end - back).filter(|end| *end > at).unwrap_or(end);
        }
        rows.push(joined(&clusters[at..end]));
        at = end;
        // The blank at which the row was broken begins no row.
        if clusters.get(at).is_some_and(|(cluster, ..)| *cluster == " ") {
            at += 1;
        }
    }
    if rows.is_empty() { vec![Vec::new()] } else { rows }
}

/// Clusters of one style next to each other as one span.
fn joined(clusters: &[(&str, usize, Style)]) -> Vec<Span<'static>> {
    let of_one_style = clusters.chunk_by(|one, other| one.2 == other.2);
    of_one_style
        .map(|chunk| Span::styled(chunk.iter().map(|(cluster, ..)| *cluster).collect::<String>(), chunk[0].2))
        .collect()
}

/// The text in pieces of one style each, as it can be shown.
fn pieces(app: &App, line: &StreamLine, level: Style) -> Vec<(String, Style)> {
    let theme = &app.theme;
    let mut pieces: Vec<(String, Style)> = Vec::new();
    if let Some(run) = line.run {
        let text = format!("× {} in {}  ", grouped(u64::from(run.count)), duration_text(run.lasts));
        pieces.push((text, theme.strong()));
    }
    let mut borders: Vec<usize> = line.glosses.iter().map(|(end, _)| *end).collect();
    borders.extend(line.marks.iter().flat_map(|(range, _)| [range.start, range.end]));
    borders.push(line.text.len());
    borders.sort_unstable();
    borders.dedup();
    let mut at = 0;
    for border in borders {
        let Some(text) = line.text.get(at..border) else { continue };
        let inside = |range: &std::ops::Range<usize>| range.start <= at && range.end >= border && border > at;
        // What is being looked for counts more than an ink.
        let mark = line.marks.iter().filter(|(range, _)| inside(range)).map(|(_, mark)| *mark);
        let mark = mark.reduce(|a, b| if a == TextMark::Hit { a } else { b });
        let style = match mark {
            Some(TextMark::Hit) => level.add_modifier(Modifier::UNDERLINED | Modifier::BOLD),
            Some(TextMark::Ink(ink)) => theme.ink(ink),
            None => level,
        };
        pieces.push((boxclock_core::visible(text, false), style));
        for (_, gloss) in line.glosses.iter().filter(|(end, _)| *end == border) {
            pieces.push((format!(" ‹{gloss}›"), theme.hue(Hue::Sky)));
        }
        at = border;
    }
    if line.more_lines > 0 {
        pieces.push((format!("  ⏎ {}", many(line.more_lines as u64, "more line")), theme.faint()));
    }
    pieces
}
