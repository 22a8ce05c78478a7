//! The lines of the Box view.

use boxclock_core::clock::human::drift_text;
use boxclock_core::coverage::{Cover, Row};
use boxclock_core::facts::{Finding, Level};
use boxclock_core::report::sources::SourceOut;
use boxclock_core::source::Class;
use boxclock_core::visible;
use ratatui::text::Span;
use unicode_width::UnicodeWidthStr;

use super::HostSums;
use crate::context::Context;
use crate::text::{bytes, fit, grouped, many};
use crate::theme::Hue;

/// Columns of the bar that shows a source's span.
pub(super) const BAR: usize = 16;
/// Columns of the number of problems.
const PROBLEMS: usize = 9;

/// Columns from which on zone, clock and span have room.
pub(super) const WIDE: usize = 80;

/// As wide as the longest name of a format in the case, where there is room.
pub(super) fn format_width(cx: &Context, width: usize) -> usize {
    let longest = cx.sources.iter().map(|source| source.format.width()).max().unwrap_or(0);
    longest.clamp(11, if width >= WIDE { 17 } else { 11 })
}

/// What a source is for.
pub(super) fn class_of(cx: &Context, source: &SourceOut) -> Class {
    let last = cx.view.case.sources.get(source.members.end.saturating_sub(1));
    last.and_then(|source| source.class).unwrap_or(Class::Application)
}

/// The head of the list.
pub(super) fn head_line(cx: &Context, width: usize, order: &str, search: &str) -> String {
    let format = format_width(cx, width);
    let mut head = if width >= WIDE {
        let bar = fit("span of the case", BAR);
        format!(
            "     {:<format$} {:<8} {:>8} {:>10} {:>PROBLEMS$}  {bar}  source",
            "format", "zone", "clock", "events", "problems"
        )
    } else {
        format!("     {:<format$} {:>10} {:>PROBLEMS$} source", "format", "events", "problems")
    };
    head.push_str(&format!(" · {order}"));
    if !search.is_empty() {
        head.push_str(&format!(" · with {search}"));
    }
    head
}

pub(super) fn finding_line(cx: &Context, finding: &Finding, width: usize) -> Vec<Span<'static>> {
    let (shape, hue) = match finding.level {
        Level::Critical => ("■", Hue::Vermilion),
        Level::Warning => ("△", Hue::Orange),
        Level::Note => ("·", Hue::Sky),
    };
    let text = format!("   {shape} {}: {}", finding.title, visible(&finding.evidence, false));
    vec![Span::styled(fit(&text, width), cx.theme.hue(hue))]
}

pub(super) fn host_line(cx: &Context, sums: &HostSums, width: usize) -> Vec<Span<'static>> {
    let HostSums { host, sources, bytes: size, events, others, problems, is_open } = sums;
    let number = cx.view.loaded.table.hosts.iter().position(|name| name == host).unwrap_or(0) as u32;
    let name = if host.is_empty() { "no host" } else { host };
    let mut text = format!("  {}, {}, {}", many(*sources as u64, "source"), bytes(*size), many(*events, "event"));
    if *problems > 0 {
        text.push_str(&format!(", {}", many(*problems, "problem")));
    }
    if *others > 0 {
        text.push_str(&format!(", {}", many(*others as u64, "other file")));
    }
    let name = format!(" {} {name}", if *is_open { "▾" } else { "▸" });
    let rest = width.saturating_sub(name.width());
    vec![
        Span::styled(name, cx.theme.host(number).patch(cx.theme.strong())),
        Span::styled(fit(&text, rest), cx.theme.faint()),
    ]
}

pub(super) fn class_line(cx: &Context, cover: Option<&Row>, class: Class, width: usize) -> Vec<Span<'static>> {
    let mut spans = vec![Span::raw(format!("   {:<14}", class.name()))];
    if let Some(cover) = cover {
        let (shape, style) = match cover.state {
            Cover::Covered => ("●", cx.theme.hue(Hue::Green)),
            Cover::SilentGap | Cover::ClockUnknown => ("◐", cx.theme.hue(Hue::Orange)),
            _ => ("○", cx.theme.hue(Hue::Vermilion)),
        };
        spans.push(Span::styled(format!("{shape} {:<16}", cover.state.words()), style));
        let rest = width.saturating_sub(36);
        spans.push(Span::styled(fit(&visible(&cover.detail, false), rest), cx.theme.faint()));
    }
    spans
}

pub(super) fn source_line(
    cx: &Context,
    (source, problems): (&SourceOut, u64),
    (width, format, wide): (usize, usize, bool),
) -> Vec<Span<'static>> {
    let host = source.host.as_deref().unwrap_or("-");
    let drift = cx.drift().get(&source.source).or_else(|| cx.drift().get(host));
    let drift = drift.map_or(String::new(), |drift| drift_text(*drift));
    let off = cx.is_off(source);
    let mark = match () {
        () if off => "×",
        () if source.trouble.is_empty() => " ",
        () => "△",
    };
    let mut spans = vec![
        Span::raw("   "),
        Span::styled(mark, cx.theme.hue(Hue::Orange)),
        Span::raw(format!(" {} ", fit(source.format, format))),
    ];
    let mut used = 5 + format + 1 + 11;
    if wide {
        spans.push(Span::styled(format!("{} {} ", fit(&source.zone, 8), right(&drift, 8)), cx.theme.faint()));
        used += 18;
    }
    spans.push(Span::raw(format!("{} ", right(&grouped(source.events), 10))));
    let problems = if problems > 0 { grouped(problems) } else { String::new() };
    spans.push(Span::styled(format!("{} ", right(&problems, PROBLEMS)), cx.theme.hue(Hue::Vermilion)));
    used += PROBLEMS + 1;
    if wide {
        spans.push(Span::styled(format!(" {}  ", bar(cx, source)), cx.theme.hue(Hue::Blue)));
        used += BAR + 3;
    }
    // The host stands above; the end of a path says more than its start.
    let below = format!("hosts/{host}/");
    let name = visible(source.source.strip_prefix(&below).unwrap_or(&source.source), false);
    let room = width.saturating_sub(used);
    let name = if name.width() > room { tail(&name, room) } else { name };
    spans.push(Span::styled(fit(&name, room), if off { cx.theme.faint() } else { ratatui::style::Style::new() }));
    spans
}

/// Where a source's times lie in the span of the whole case.
fn bar(cx: &Context, source: &SourceOut) -> String {
    let (Some((from, to)), Some(first), Some(last)) = (cx.span(), source.first, source.last) else {
        return " ".repeat(BAR);
    };
    let span = to.saturating_sub(from).max(1);
    let place = |time: i64| {
        let part = time.saturating_sub(from) as f64 / span as f64;
        ((part * BAR as f64) as usize).min(BAR - 1)
    };
    let (first, last) = (place(first), place(last));
    (0..BAR).map(|at| if (first..=last).contains(&at) { '▬' } else { '·' }).collect()
}

fn right(text: &str, width: usize) -> String {
    format!("{}{text}", " ".repeat(width.saturating_sub(text.width())))
}

fn tail(path: &str, width: usize) -> String {
    let mut kept: Vec<char> = path.chars().rev().take(width.saturating_sub(1)).collect();
    kept.reverse();
    format!("…{}", kept.into_iter().collect::<String>())
}
