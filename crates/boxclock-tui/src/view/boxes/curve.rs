//! The course of a resource, drawn in the reading pane: time runs downwards as on the rail.

use boxclock_core::clock::DAY;
use boxclock_core::clock::human::date_time;
use boxclock_core::resource::Resource;
use ratatui::text::{Line, Span};

use crate::context::Context;
use crate::theme::Hue;

/// Rows of a resource's course.
const CURVE_ROWS: usize = 24;

/// The course of a resource, time downwards as on the rail: the highest value of each span.
pub(super) fn curve_lines(cx: &Context, one: &Resource, width: usize) -> Vec<Line<'static>> {
    let (Some((first, _)), Some((last, _))) = (one.curve.first(), one.curve.last()) else { return Vec::new() };
    let rows = one.curve.len().min(CURVE_ROWS);
    let span = last.saturating_sub(*first).max(1) as f64 / rows as f64;
    let mut highest: Vec<Option<f64>> = vec![None; rows];
    for (time, percent) in &one.curve {
        let row = ((time.saturating_sub(*first) as f64 / span) as usize).min(rows - 1);
        highest[row] = Some(highest[row].map_or(*percent, |known: f64| known.max(*percent)));
    }
    let of_days = last.saturating_sub(*first) > 2 * DAY;
    let room = width.saturating_sub(20).max(4);
    let full_from = one.full.as_ref().map(|full| full.first.percent);
    let line = |(row, percent): (usize, Option<f64>)| {
        let text = date_time(first.saturating_add((row as f64 * span) as i64), &cx.zone);
        let time = if of_days { &text[5..16] } else { &text[11..16] };
        let Some(percent) = percent else { return Line::styled(format!(" {time}  ·"), cx.theme.faint()) };
        let cells = ((percent.clamp(0.0, 100.0) / 100.0) * room as f64).round() as usize;
        let is_full = full_from.is_some_and(|full| percent >= full);
        let style = if is_full { cx.theme.hue(Hue::Vermilion) } else { cx.theme.hue(Hue::Sky) };
        Line::from(vec![
            Span::styled(format!(" {time}  "), cx.theme.faint()),
            Span::styled("▄".repeat(cells), style),
            Span::raw(format!(" {percent:.0} %")),
        ])
    };
    highest.into_iter().enumerate().map(line).collect()
}
