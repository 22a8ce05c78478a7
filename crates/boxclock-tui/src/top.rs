//! Title, clocks, and the tabs of the views; with the rules around the view.

use boxclock_core::clock::human::drift_text;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use crate::context::{Context, ViewId};
use crate::text::{cut, many};
use crate::theme::Hue;
use crate::view::Spec;

/// Draws title, clocks, tabs, and the rules around the view.
pub fn draw(cx: &Context, specs: &[&'static Spec], frame: &mut Frame<'_>) {
    let layout = &cx.layout;
    if layout.top.width == 0 {
        return;
    }
    let clocks = clocks(cx);
    let table = &cx.view.loaded.table;
    let mut facts = format!(" · {}", many(table.len() as u64, "event"));
    if layout.top.width >= 90 {
        facts.insert_str(0, &format!(" · {}", many(cx.sources.len() as u64, "source")));
        // Files of no host are usual, and said in the Box view.
        let hosts = table.hosts.len().saturating_sub(1) as u64;
        if hosts > 0 {
            facts.insert_str(0, &format!(" · {}", many(hosts, "host")));
        }
    }
    if !cx.view.loaded.complete {
        facts.push_str(&format!(" · reading {}", progress(cx)));
    }
    if let Some(follow) = &cx.follow {
        facts.push_str(if follow.is_held() { " · held" } else { " · following" });
        let behind = follow.behind;
        if behind.bytes > 0 {
            let lines = behind.lines.map_or(String::new(), |lines| format!("{}, ", many(lines, "line")));
            facts.push_str(&format!(", {lines}{} behind", crate::text::bytes(behind.bytes)));
        }
    }
    let left_out = cx.view.case.left_out.len();
    if left_out > 0 && layout.top.width >= 90 {
        facts.push_str(&format!(" · {left_out} left out"));
    }
    let room = usize::from(layout.top.width).saturating_sub(clocks.width() + 4);
    let title_room = room.saturating_sub(facts.width()).max(12).min(room);
    let title = cut(cx.title(), title_room);
    let facts = cut(&facts, room.saturating_sub(title.width()));
    let gap = room.saturating_sub(title.width() + facts.width());
    let line = Line::from(vec![
        Span::raw(" "),
        Span::styled(title, cx.theme.strong()),
        Span::styled(facts, cx.theme.faint()),
        Span::raw(" ".repeat(gap + 2)),
        Span::styled(clocks, cx.theme.faint()),
    ]);
    frame.render_widget(Paragraph::new(line), layout.top);
    frame.render_widget(Paragraph::new(tabs(cx, specs)), layout.tabs);
    rules(cx, frame);
}

/// How far reading is: share, bytes, rate, and how long it will take.
fn progress(cx: &Context) -> String {
    let (done, total, elapsed) = cx.jobs.progress();
    let share = format!("{} %", done * 100 / total.max(1));
    let seconds = elapsed.as_secs_f64();
    if cx.layout.top.width < 120 || done == 0 || seconds < 0.5 {
        return share;
    }
    let rate = done as f64 / seconds;
    let left = total.saturating_sub(done) as f64 / rate;
    let mib = |bytes: f64| bytes / f64::from(1 << 20);
    format!("{share} of {:.0} MiB, {:.0} MiB/s, {left:.0} s left", mib(total as f64), mib(rate))
}

/// The zone of the times on the screen, and every clock that is corrected.
fn clocks(cx: &Context) -> String {
    let mut text = format!("clock UTC{}", cx.zone.name());
    if cx.zone.name().contains('/') {
        text = format!("clock {}", cx.zone.name());
    }
    let mut corrected: Vec<_> = cx.drift().iter().collect();
    corrected.sort_by_key(|(host, _)| *host);
    for (host, drift) in corrected {
        text.push_str(&format!("  {} {}", cut(host, 12), drift_text(*drift)));
    }
    cut(&text, usize::from(cx.layout.top.width) / 2)
}

/// The tabs that fit: with all names where there is room, else with that of the view that is shown, behind the keys of the others.
fn shown_tabs(cx: &Context, specs: &[&'static Spec]) -> Vec<(&'static Spec, bool, &'static str)> {
    let marked = specs.iter().find(|spec| spec.id == cx.at).and_then(|spec| spec.tab_of).unwrap_or(cx.at);
    let of_tabs = || specs.iter().filter(|spec| spec.tab_of.is_none());
    let whole: usize = 1 + of_tabs().map(|spec| spec.key.len() + 3 + spec.name.width()).sum::<usize>();
    let has_room = whole <= usize::from(cx.layout.top.width) + 2;
    let name = |spec: &&'static Spec| if has_room || spec.id == marked { spec.name } else { "" };
    of_tabs().map(|spec| (*spec, spec.id == marked, name(spec))).collect()
}

/// Columns of a tab without the gap behind it.
fn tab_width(spec: &Spec, name: &str) -> usize {
    spec.key.len() + if name.is_empty() { 0 } else { 1 + name.width() }
}

fn tabs(cx: &Context, specs: &[&'static Spec]) -> Line<'static> {
    let mut spans = vec![Span::raw(" ")];
    for (spec, is_here, name) in shown_tabs(cx, specs) {
        let style = if is_here { cx.theme.strong() } else { cx.theme.faint() };
        let style = if is_here { style.add_modifier(ratatui::style::Modifier::UNDERLINED) } else { style };
        spans.push(Span::styled(spec.key, cx.theme.faint()));
        if !name.is_empty() {
            spans.push(Span::raw(" "));
            spans.push(Span::styled(name, style));
        }
        spans.push(Span::raw("  "));
    }
    spans.extend(known(cx, Line::from(spans.clone()).width()));
    Line::from(spans)
}

/// Behind the tabs: the fault that is known, where there is room for enough of its title. The Cause view says it itself.
fn known(cx: &Context, used: usize) -> Vec<Span<'static>> {
    const LEAST: usize = 30;
    let room = usize::from(cx.layout.top.width).saturating_sub(used + 3);
    let first = cx.known.as_ref().and_then(|known| known.first()).filter(|_| cx.at != "cause" && room >= LEAST);
    let Some((found, met)) = first else { return Vec::new() };
    let text = cut(&format!("known: {}{}", found.card.title, crate::context::seen_in(*met)), room);
    let gap = room.saturating_sub(text.width());
    vec![Span::raw(" ".repeat(gap + 2)), Span::styled(text, cx.theme.hue(Hue::Orange))]
}

/// The view whose name stands at this column of the tabs.
pub fn tab_at(cx: &Context, specs: &[&'static Spec], column: u16) -> Option<ViewId> {
    let mut start = 1;
    for (spec, _, name) in shown_tabs(cx, specs) {
        let end = start + tab_width(spec, name);
        if (start..end).contains(&usize::from(column)) {
            return Some(spec.id);
        }
        start = end + 2;
    }
    None
}

fn rules(cx: &Context, frame: &mut Frame<'_>) {
    let layout = &cx.layout;
    let width = layout.top.width;
    let style = cx.theme.faint();
    let rail = (layout.rail.width > 0).then(|| layout.rail.right());
    let beside = layout.reading.width > 0 && layout.reading.x > layout.middle.x;
    let uprights: Vec<u16> = rail.into_iter().chain(beside.then(|| layout.reading.x - 1)).collect();
    let rule =
        |joint: char| -> String { (0..width).map(|x| if uprights.contains(&x) { joint } else { '─' }).collect() };
    let above = layout.middle.y.saturating_sub(1);
    let below = layout.rail.bottom().max(layout.middle.bottom()).max(layout.reading.bottom());
    frame.render_widget(Paragraph::new(rule('┬')).style(style), Rect::new(0, above, width, 1));
    frame.render_widget(
        Paragraph::new(rule('┴')).style(style),
        Rect::new(0, below, width, 1).intersection(frame.area()),
    );
    let height = below.saturating_sub(layout.middle.y);
    for x in uprights {
        let lines: Vec<Line<'_>> = (0..height).map(|_| Line::raw("│")).collect();
        frame.render_widget(Paragraph::new(lines).style(style), Rect::new(x, layout.middle.y, 1, height));
    }
    if layout.reading.y > layout.middle.y {
        // The pane stands under the view.
        let area = Rect::new(layout.reading.x, layout.middle.bottom(), layout.reading.width, 1);
        frame.render_widget(Paragraph::new("─".repeat(usize::from(area.width))).style(style), area);
    }
}
