//! The Box view: every source, how it was read, and what was left out.

use boxclock_core::clock::human::drift_text;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use super::text::{fit, grouped};
use super::{list, row};
use crate::app::App;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    let width = usize::from(area.width);
    let wide = width >= 80;
    // As wide as the longest name in the case, where there is room.
    let longest = app.sources.iter().map(|source| source.format.width()).max().unwrap_or(0);
    let format = longest.clamp(11, if wide { 17 } else { 11 });
    let name_width = width.saturating_sub(format + if wide { 46 } else { 28 });
    let head = if wide {
        format!(" {:<12} {:<format$} {:<8} {:>8} {:>10}  source", "host", "format", "zone", "clock", "events")
    } else {
        format!(" {:<12} {:<format$} {:>10}  source", "host", "format", "events")
    };
    let header = vec![Line::styled(head, app.theme.faint())];
    let sources = app.sources.len();
    list(app, frame, area, header, |index, chosen| {
        let Some(source) = app.sources.get(index) else {
            let left = &app.case.left_out[index - sources];
            let text = format!(" left out  {}: {}", left.path, left.reason);
            return vec![row(
                app,
                chosen,
                width,
                vec![Span::styled(fit(&text, width), app.theme.hue(crate::theme::Hue::Orange))],
            )];
        };
        let host = source.host.as_deref().unwrap_or("-");
        let number = app.loaded.table.hosts.iter().position(|name| name == host).unwrap_or(0) as u32;
        let drift = app
            .drift
            .get(&source.source)
            .or_else(|| app.drift.get(host))
            .map_or(String::new(), |drift| drift_text(*drift));
        let trouble = if source.trouble.is_empty() { " " } else { "△" };
        let mut spans = vec![
            Span::raw(" "),
            Span::styled(fit(host, 12), app.theme.host(number)),
            Span::raw(format!(" {} ", fit(source.format, format))),
        ];
        if wide {
            spans.push(Span::styled(format!("{} {} ", fit(&source.zone, 8), right(&drift, 8)), app.theme.faint()));
        }
        spans.push(Span::raw(format!("{} ", right(&grouped(source.events), 10))));
        spans.push(Span::styled(trouble, app.theme.hue(crate::theme::Hue::Orange)));
        // The end of a path says more than its start.
        let name =
            if source.source.width() > name_width { tail(&source.source, name_width) } else { source.source.clone() };
        spans.push(Span::raw(fit(&name, name_width)));
        vec![row(app, chosen, width, spans)]
    });
}

fn right(text: &str, width: usize) -> String {
    format!("{}{text}", " ".repeat(width.saturating_sub(text.width())))
}

fn tail(path: &str, width: usize) -> String {
    let mut kept: Vec<char> = path.chars().rev().take(width.saturating_sub(1)).collect();
    kept.reverse();
    format!("…{}", kept.into_iter().collect::<String>())
}
