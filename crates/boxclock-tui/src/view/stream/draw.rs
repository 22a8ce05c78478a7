//! Drawing the Stream: columns in front, then the text with its glosses and marks.

use boxclock_core::clock::human::{date_time, duration_text, time_of_day};
use boxclock_core::event::{EventRef, Row, flag};
use boxclock_core::severity::Severity;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use unicode_segmentation::UnicodeSegmentation;
use unicode_width::UnicodeWidthStr;

use crate::context::Context;
use crate::settings::TimeForm;
use crate::stream::{Column, StreamLine, TextMark};
use crate::text::{cut, fit, grouped, host_mark, last_part, many};
use crate::theme::{Hue, ink_mark, shape};
use crate::view::row;

/// The columns in front of the text, with their widths in columns of the screen; and the width of the text.
#[derive(Clone, Debug, Default)]
pub struct Columns {
    /// Those that are shown.
    pub list: Vec<(Column, usize)>,
    /// What is left for the text.
    pub text: usize,
    width: usize,
}

/// Columns of text that automatic columns leave, where a terminal has them.
const MIN_TEXT: usize = 80;
/// The widest that a component is shown.
const MAX_COMPONENT: usize = 16;

impl Columns {
    /// Those that were chosen; else time, level, and what differs between the rows of the window: host and component.
    pub fn of(width: u16, cx: &Context) -> Self {
        let width = usize::from(width);
        let chosen = cx.stream.chosen_columns.clone().or_else(|| cx.settings.columns.clone());
        let list = match chosen {
            Some(list) => list
                .into_iter()
                .map(|(column, wanted)| (column, if wanted > 0 { wanted } else { own_width(column, cx) }))
                .filter(|(_, width)| *width > 0)
                .collect(),
            None => automatic(width, cx),
        };
        // The margin, and a blank behind each column.
        let used = 1 + list.iter().map(|(_, width)| width + 1).sum::<usize>();
        Self { list, text: width.saturating_sub(used), width }
    }
}

/// Time, level, the mark of the host and the component; not what is the same on all rows, which is said once above.
fn automatic(width: usize, cx: &Context) -> Vec<(Column, usize)> {
    let mut list = vec![(Column::Time, time_width(cx)), (Column::Level, 1)];
    let shown = Shown::of(cx);
    if shown.hosts.len() > 1 {
        list.push((Column::Mark, if shown.hosts.iter().any(|host| mark_of(cx, *host).width() > 1) { 2 } else { 1 }));
    }
    let used = 1 + list.iter().map(|(_, width)| width + 1).sum::<usize>();
    let left = width.saturating_sub(used);
    if shown.components.len() > 1 && left >= 40 {
        // The text has the most room, whatever the names are.
        let least = if left > MIN_TEXT { left - MIN_TEXT } else { left / 5 };
        let component = shown.widest_component.min(MAX_COMPONENT).min(least.saturating_sub(1).max(6));
        list.push((Column::Component, component));
    }
    list
}

/// What stands in the rows of the window.
struct Shown {
    hosts: Vec<u32>,
    components: Vec<u32>,
    widest_component: usize,
}

impl Shown {
    fn of(cx: &Context) -> Self {
        let mut shown = Self { hosts: Vec::new(), components: Vec::new(), widest_component: 0 };
        let height = usize::from(cx.layout.middle.height);
        for place in cx.stream.top..(cx.stream.top + height).min(cx.row_count()) {
            let Some(event) = cx.row_at(place).map(|row| cx.event(row)) else { break };
            let actor = event.actor();
            if !shown.hosts.contains(&actor.host) {
                shown.hosts.push(actor.host);
            }
            if !shown.components.contains(&actor.component) {
                shown.components.push(actor.component);
                shown.widest_component = shown.widest_component.max(event.component().width());
            }
        }
        shown
    }
}

/// The letters that stand for a host: those above its lane of the rail.
fn mark_of(cx: &Context, host: u32) -> String {
    let names = &cx.view.loaded.table.hosts;
    names.get(host as usize).map_or(String::new(), |name| host_mark(name, names))
}

/// What is the same on all rows of the window, and what the marks of the hosts mean: one line above the rows, where there is
/// room for it.
pub fn said_once(cx: &Context) -> Vec<Line<'static>> {
    let area = cx.layout.middle;
    let has_own_columns = cx.stream.chosen_columns.is_some() || cx.settings.columns.is_some();
    if area.height < 10 || area.width < 40 || cx.row_count() == 0 {
        return Vec::new();
    }
    let shown = Shown::of(cx);
    let table = &cx.view.loaded.table;
    let mut spans = vec![Span::raw(" ")];
    let first = cx.row_at(cx.stream.top).and_then(|row| cx.event(row).time());
    if let Some(time) = first.filter(|_| cx.stream.zero.is_none() && cx.settings.time == TimeForm::Time) {
        spans.push(Span::styled(format!("{}  ", &date_time(time, &cx.zone)[..10]), cx.theme.strong()));
    }
    let chosen = cx.chosen().map(|event| event.actor());
    let named = |host: &u32| !table.hosts[*host as usize].is_empty();
    for host in shown.hosts.iter().filter(|host| named(host) && !has_own_columns) {
        let name = boxclock_core::visible(&table.hosts[*host as usize], false);
        let hue = cx.theme.host(*host);
        let is_chosen = chosen.is_some_and(|actor| actor.host == *host);
        let hue = if is_chosen { hue.add_modifier(Modifier::BOLD) } else { hue };
        let mark = if shown.hosts.len() > 1 { format!("{} ", mark_of(cx, *host)) } else { String::new() };
        spans.push(Span::styled(format!("{mark}{name}  "), hue));
    }
    if let [component] = shown.components.as_slice()
        && !has_own_columns
        && !table.components[*component as usize].is_empty()
    {
        let name = boxclock_core::visible(&table.components[*component as usize], false);
        spans.push(Span::styled(name, cx.theme.faint()));
    }
    let width = usize::from(area.width);
    let used: usize = spans.iter().map(|span| span.content.width()).sum();
    if used > width {
        // Many hosts: what fits, and that there are more.
        let text: String = spans.iter().map(|span| span.content.as_ref()).collect();
        return vec![Line::styled(cut(&text, width), cx.theme.faint())];
    }
    vec![Line::from(spans)]
}

/// As wide as the longest that it can show, within reason.
fn own_width(column: Column, cx: &Context) -> usize {
    let [host, component, source] = cx.stream.longest;
    match column {
        Column::Time => time_width(cx),
        Column::Level => 1,
        Column::Mark => 2,
        Column::Host => host.min(12),
        Column::Component => component.min(MAX_COMPONENT),
        Column::Source => source.min(18),
        Column::Pid | Column::Tid => 7,
        Column::Line => 8,
    }
}

fn time_width(cx: &Context) -> usize {
    match (cx.stream.zero, cx.settings.time) {
        (Some(_), _) => 14,
        (None, TimeForm::Time) => 12,
        (None, TimeForm::DateTime) => 23,
    }
}

/// The time of an event as the Stream shows it: of the day, with the date, or from a chosen moment on.
fn time_text(cx: &Context, event: EventRef<'_>, before: Option<Row>) -> String {
    let Some(time) = event.time() else { return "no time".into() };
    match (cx.stream.zero, cx.settings.time) {
        (Some(zero), _) => relative(time.saturating_sub(zero)),
        (None, TimeForm::Time) => {
            let date = |time: i64| date_time(time, &cx.zone)[..16].to_owned();
            let (now, last) = (date(time), before.and_then(|row| cx.event(row).time()).map(date));
            // The date stands where it changes.
            match last {
                Some(last) if last[..10] != now[..10] => now[5..16].to_owned(),
                _ => time_of_day(time, &cx.zone),
            }
        }
        (None, TimeForm::DateTime) => date_time(time, &cx.zone)[..23].to_owned(),
    }
}

/// A span as `−00:03.120` or `+1:02:03.000`.
pub fn relative(ns: i64) -> String {
    let sign = if ns < 0 { '−' } else { '+' };
    let millis = ns.unsigned_abs() / 1_000_000;
    let (hours, minutes, seconds) = (millis / 3_600_000, millis / 60_000 % 60, millis / 1000 % 60);
    let rest = format!("{minutes:02}:{seconds:02}.{:03}", millis % 1000);
    if hours > 0 { format!("{sign}{hours}:{rest}") } else { format!("{sign}{rest}") }
}

pub fn draw_line(cx: &Context, line: &StreamLine, columns: &Columns, before: Option<Row>) -> Vec<Line<'static>> {
    let event = cx.event(line.row);
    let theme = &cx.theme;
    let severity = event.severity();
    let flags = event.flags();
    let dump = flags & flag::DUMP != 0;
    let suspect = looks_bad(event);
    let level = if suspect { theme.severity(Severity::WARN) } else { theme.severity(severity) };
    let mut front = vec![margin(cx, line)];
    for (column, width) in &columns.list {
        let (text, style) = match column {
            Column::Time => {
                // A time that is not the line's own, or does not fit the order of its file, stands back.
                let guessed = cx.view.case.sources[event.source()].guessed_dates().is_some();
                let doubtful = event.is_disordered() || !event.time_known().is_own() || guessed;
                (time_text(cx, event, before), if doubtful { theme.faint() } else { Style::new() })
            }
            Column::Level => (shape(severity, suspect, dump).to_owned(), level),
            Column::Host => (event.host().to_owned(), theme.host(event.actor().host)),
            Column::Mark => (mark_of(cx, event.actor().host), theme.host(event.actor().host)),
            // A steady hue for each source too, so that the eye can follow one.
            Column::Source => {
                let name = last_part(&cx.view.case.sources[event.source()].name).to_owned();
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
    let mut rows = text_rows(cx, line, columns.text, most).into_iter();
    front.extend(rows.next().unwrap_or_default());
    let chosen = line.place == cx.stream.cursor;
    let mut lines = vec![row(cx, chosen, columns.width, front)];
    for rest in rows.take(most - 1) {
        let mut spans = vec![Span::raw(" ".repeat(indent))];
        spans.extend(rest);
        lines.push(row(cx, chosen, columns.width, spans));
    }
    for extra in &line.extra {
        let text = boxclock_core::visible(&extra.replace('\t', "    "), false);
        let shown = cut(&crate::text::skip(&text, cx.stream.shifted), columns.text);
        let spans = vec![Span::raw(" ".repeat(indent)), Span::styled(shown, level)];
        lines.push(row(cx, chosen, columns.width, spans));
    }
    lines
}

/// Whether it counts as a problem by its text or by its code, though its level does not say so.
fn looks_bad(event: EventRef<'_>) -> bool {
    event.is_problem() && event.severity() < Severity::WARN && event.flags() & flag::DUMP == 0
}

/// One column: a pin, the selection, or an ink.
fn margin(cx: &Context, line: &StreamLine) -> Span<'static> {
    if let Some(pin) = cx.pinned.get(&line.row.0) {
        return Span::styled("◂", cx.theme.pin(*pin));
    }
    if cx.stream.selected.as_ref().is_some_and(|selected| selected.contains(&line.place)) {
        return Span::styled("┃", cx.theme.strong());
    }
    match line.ink {
        Some(ink) => Span::styled(ink_mark(ink), cx.theme.ink(ink).remove_modifier(Modifier::UNDERLINED)),
        None => Span::raw(" "),
    }
}

/// The text with its codes glossed and its marks, as rows of at most `width` columns: one row that is scrolled to the left, or as
/// many as it takes where lines are wrapped.
pub fn text_rows(cx: &Context, line: &StreamLine, width: usize, most: usize) -> Vec<Vec<Span<'static>>> {
    let event = cx.event(line.row);
    let suspect = looks_bad(event);
    let level = cx.theme.severity(if suspect { Severity::WARN } else { event.severity() });
    let pieces = pieces(cx, line, level);
    let clusters: Vec<(&str, usize, Style)> = pieces
        .iter()
        .flat_map(|(text, style)| text.graphemes(true).map(|cluster| (cluster, cluster.width(), *style)))
        .collect();
    if cx.stream.wrap {
        return wrapped(&clusters, width, most);
    }
    let mut to_skip = cx.stream.shifted;
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
        spans.push(Span::styled("…", cx.theme.faint()));
    }
    vec![spans]
}

/// Rows of at most `width` columns, broken behind a blank where there is one not far back.
fn wrapped(clusters: &[(&str, usize, Style)], width: usize, most: usize) -> Vec<Vec<Span<'static>>> {
    const MAX_BACK: usize = 24;
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
            let blank = clusters[at..end].iter().rev().take(MAX_BACK).position(|(cluster, ..)| *cluster == " ");
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
fn pieces(cx: &Context, line: &StreamLine, level: Style) -> Vec<(String, Style)> {
    let theme = &cx.theme;
    let mut pieces: Vec<(String, Style)> = Vec::new();
    if let Some(run) = line.run {
        let text = format!("× {} in {}  ", grouped(u64::from(run.count)), duration_text(run.lasts_ns));
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
