//! The Box view: each host with its classes of logs and their sources, whether they cover the moment, and what the checks found.

use boxclock_core::clock::human::drift_text;
use boxclock_core::coverage::Cover;
use boxclock_core::facts::Level;
use boxclock_core::gather::recipe::Class;
use boxclock_core::gather::time_of;
use boxclock_core::report::sources::SourceOut;
use boxclock_core::visible;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use super::text::{bytes, fit, grouped, many};
use super::{list, row};
use crate::app::{App, BoxRow, HostSums};
use crate::theme::Hue;
use crate::update::is_off;

/// Columns of the bar that shows a source's span.
const BAR: usize = 16;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    let width = usize::from(area.width);
    let wide = width >= 80;
    // As wide as the longest name in the case, where there is room.
    let longest = app.sources.iter().map(|source| source.format.width()).max().unwrap_or(0);
    let format = longest.clamp(11, if wide { 17 } else { 11 });
    let head = if wide {
        let bar = fit("span of the case", BAR);
        format!("     {:<format$} {:<8} {:>8} {:>10}  {bar}  source", "format", "zone", "clock", "events")
    } else {
        format!("     {:<format$} {:>10} source", "format", "events")
    };
    let header = vec![Line::styled(head, app.theme.faint())];
    list(app, frame, area, header, |index, chosen| {
        let spans = match &app.box_rows[index] {
            BoxRow::Host(sums) => host_line(app, sums, width),
            BoxRow::Class(host, class) => class_line(app, host, *class, width),
            BoxRow::Source(index) => source_line(app, &app.sources[*index], (width, format, wide)),
            BoxRow::Finding(index) => {
                let finding = &app.box_state.findings[*index];
                let (shape, hue) = match finding.level {
                    Level::Critical => ("■", Hue::Vermilion),
                    Level::Warning => ("△", Hue::Orange),
                    Level::Note => ("·", Hue::Sky),
                };
                let text = format!("   {shape} {}: {}", finding.title, visible(&finding.evidence, false));
                vec![Span::styled(fit(&text, width), app.theme.hue(hue))]
            }
            BoxRow::Drift(index) => {
                let one = &app.box_state.drift[*index];
                let (confidence, ground) = (one.confidence.name(), one.ground.words());
                let text = format!("   ◷ clock seems wrong: add {} (confidence {confidence}: {ground})", one.drift);
                vec![Span::styled(fit(&text, width), app.theme.hue(Hue::Orange))]
            }
            BoxRow::LeftOut(index) => {
                let left = &app.case.left_out[*index];
                let text = format!(" left out  {}: {}", left.path, left.reason);
                vec![Span::styled(fit(&visible(&text, false), width), app.theme.hue(Hue::Orange))]
            }
        };
        vec![row(app, chosen, width, spans)]
    });
}

fn host_line(app: &App, sums: &HostSums, width: usize) -> Vec<Span<'static>> {
    let HostSums { host, sources, bytes: size, events, others } = sums;
    let number = app.loaded.table.hosts.iter().position(|name| name == host).unwrap_or(0) as u32;
    let name = if host.is_empty() { "no host" } else { host };
    let mut text = format!("  {}, {}, {}", many(*sources as u64, "source"), bytes(*size), many(*events, "event"));
    if *others > 0 {
        text.push_str(&format!(", {}", many(*others as u64, "other file")));
    }
    let name = format!(" {name}");
    let rest = width.saturating_sub(name.width());
    vec![
        Span::styled(name, app.theme.host(number).patch(app.theme.strong())),
        Span::styled(fit(&text, rest), app.theme.faint()),
    ]
}

fn class_line(app: &App, host: &str, class: Class, width: usize) -> Vec<Span<'static>> {
    let cover = app.box_state.cover.iter().find(|row| row.host == host && row.class == class);
    let mut spans = vec![Span::raw(format!("   {:<14}", class.name()))];
    if let Some(cover) = cover {
        let (shape, style) = match cover.state {
            Cover::Covered => ("●", app.theme.hue(Hue::Green)),
            Cover::SilentGap | Cover::ClockUnknown => ("◐", app.theme.hue(Hue::Orange)),
            _ => ("○", app.theme.hue(Hue::Vermilion)),
        };
        spans.push(Span::styled(format!("{shape} {:<16}", cover.state.words()), style));
        let rest = width.saturating_sub(36);
        spans.push(Span::styled(fit(&visible(&cover.detail, false), rest), app.theme.faint()));
    }
    spans
}

fn source_line(app: &App, source: &SourceOut, (width, format, wide): (usize, usize, bool)) -> Vec<Span<'static>> {
    let host = source.host.as_deref().unwrap_or("-");
    let drift = app.drift.get(&source.source).or_else(|| app.drift.get(host));
    let drift = drift.map_or(String::new(), |drift| drift_text(*drift));
    let off = is_off(app, &source.source);
    let mark = match () {
        () if off => "×",
        () if source.trouble.is_empty() => " ",
        () => "△",
    };
    let mut spans = vec![
        Span::raw("   "),
        Span::styled(mark, app.theme.hue(Hue::Orange)),
        Span::raw(format!(" {} ", fit(source.format, format))),
    ];
    let mut used = 5 + format + 1 + 11;
    if wide {
        spans.push(Span::styled(format!("{} {} ", fit(&source.zone, 8), right(&drift, 8)), app.theme.faint()));
        used += 18;
    }
    spans.push(Span::raw(format!("{} ", right(&grouped(source.events), 10))));
    if wide {
        spans.push(Span::styled(format!(" {}  ", bar(app, source)), app.theme.hue(Hue::Blue)));
        used += BAR + 3;
    }
    // The host stands above; the end of a path says more than its start.
    let below = format!("hosts/{host}/");
    let name = visible(source.source.strip_prefix(&below).unwrap_or(&source.source), false);
    let room = width.saturating_sub(used);
    let name = if name.width() > room { tail(&name, room) } else { name };
    spans.push(Span::styled(fit(&name, room), if off { app.theme.faint() } else { ratatui::style::Style::new() }));
    spans
}

/// Where a source's times lie in the span of the whole case.
fn bar(app: &App, source: &SourceOut) -> String {
    let time = |text: &Option<String>| text.as_deref().and_then(time_of);
    let (Some((from, to)), Some(first), Some(last)) = (app.span, time(&source.first), time(&source.last)) else {
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
