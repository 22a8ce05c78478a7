//! A chain on one time axis: time runs down, each host has a lane, and the way from the root to the symptom is drawn through them.

use boxclock_core::clock::human::{date_time, duration_text};
use boxclock_core::clock::{HOUR, MINUTE};
use boxclock_core::event::Row;
use ratatui::text::{Line, Span};

use crate::context::Context;
use crate::text::{fit, host_mark};
use crate::theme::Hue;

/// Columns of a lane.
const LANE: usize = 4;
/// Columns of the time.
const TIME: usize = 9;
/// Hosts that have a lane; the others share the last.
const MOST_LANES: usize = 6;

/// What a station of the chain is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Station {
    Root,
    Step,
    Symptom,
}

impl Station {
    /// Its sign on a lane.
    pub(super) fn sign(self) -> &'static str {
        match self {
            Self::Root => "◆",
            Self::Step => "●",
            Self::Symptom => "✕",
        }
    }

    pub(super) fn hue(self) -> Hue {
        match self {
            Self::Root => Hue::Vermilion,
            Self::Step => Hue::Orange,
            Self::Symptom => Hue::Sky,
        }
    }

    fn word(self, number: usize) -> String {
        match self {
            Self::Root => "root".into(),
            Self::Step => format!("step {number}"),
            Self::Symptom => "symptom".into(),
        }
    }
}

/// Whether the corrected time of a link is before that of the one that it is said to follow from.
pub(super) fn is_out_of_order(cx: &Context, before: Option<Row>, row: Row) -> bool {
    let time = |row: Row| cx.event(row).time();
    before.and_then(time).zip(time(row)).is_some_and(|(before, time)| time < before)
}

/// The lines of the drawing, for stations in the order of the chain.
pub(super) fn axis(cx: &Context, stations: &[(Row, Station)]) -> Vec<Line<'static>> {
    let mut lanes: Vec<u32> = Vec::new();
    for (row, _) in stations {
        let host = cx.event(*row).actor().host;
        if !lanes.contains(&host) && lanes.len() < MOST_LANES {
            lanes.push(host);
        }
    }
    let lane_of = |row: Row| {
        let host = cx.event(row).actor().host;
        lanes.iter().position(|lane| *lane == host).unwrap_or(lanes.len().saturating_sub(1))
    };
    let names = &cx.view.loaded.table.hosts;
    let mut lines = Vec::new();
    let mut head = vec![Span::raw(" ".repeat(TIME + 1))];
    for lane in &lanes {
        let mark = names.get(*lane as usize).map_or_else(String::new, |name| host_mark(name, names));
        head.push(Span::styled(fit(&format!(" {mark}"), LANE), cx.theme.host(*lane)));
    }
    lines.push(Line::from(head));
    let mut before: Option<Row> = None;
    for (at, (row, station)) in stations.iter().enumerate() {
        let lane = lane_of(*row);
        if let Some(before) = before {
            between(cx, &lanes, (before, lane_of(before)), (*row, lane), &mut lines);
        }
        let time =
            cx.event(*row).time().map_or_else(|| "no time".to_owned(), |time| date_time(time, &cx.zone)[11..19].into());
        let mut spans = vec![Span::raw(format!(" {}", fit(&time, TIME)))];
        for (place, host) in lanes.iter().enumerate() {
            if place == lane {
                spans.push(Span::styled(fit(&format!(" {}", station.sign()), LANE), cx.theme.hue(station.hue())));
            } else {
                spans.push(Span::styled(fit(" ·", LANE), cx.theme.host(*host)));
            }
        }
        spans.push(Span::styled(station.word(at), cx.theme.faint()));
        lines.push(Line::from(spans));
        before = Some(*row);
    }
    lines
}

/// What lies between two stations: the time that passed, more rows for more of it, and the way to another lane.
fn between(
    cx: &Context,
    lanes: &[u32],
    (before, from): (Row, usize),
    (row, to): (Row, usize),
    lines: &mut Vec<Line<'static>>,
) {
    let times = cx.event(before).time().zip(cx.event(row).time());
    let passed = times.map(|(before, time)| time.saturating_sub(before));
    let (text, style) = match passed {
        Some(passed) if passed < 0 => {
            (format!("−{}", duration_text(passed.saturating_neg())), cx.theme.hue(Hue::Vermilion))
        }
        Some(passed) => (format!("+{}", duration_text(passed)), cx.theme.faint()),
        None => ("?".to_owned(), cx.theme.faint()),
    };
    let rows = match passed {
        Some(passed) if passed >= HOUR => 3,
        Some(passed) if passed >= MINUTE => 2,
        _ => 1,
    };
    for at in 0..rows {
        let label = if at == 0 { text.as_str() } else { "" };
        let mut spans = vec![Span::styled(format!(" {}", fit(label, TIME)), style)];
        let is_last = at + 1 == rows;
        for (place, host) in lanes.iter().enumerate() {
            let sign = match place {
                // The way turns off in the last row.
                _ if is_last && from != to => turn(place, from, to),
                place if place == from => " │  ",
                _ => " ·  ",
            };
            let is_way = sign.trim_start() != "·  ";
            spans.push(Span::styled(sign, if is_way { cx.theme.faint() } else { cx.theme.host(*host) }));
        }
        if at == 0 && passed.is_some_and(|passed| passed < 0) {
            spans.push(Span::styled("out of order", cx.theme.hue(Hue::Vermilion)));
        }
        lines.push(Line::from(spans));
    }
}

/// A lane of the row in which the way goes from one lane to another.
fn turn(place: usize, from: usize, to: usize) -> &'static str {
    let (first, last) = (from.min(to), from.max(to));
    match place {
        place if place == from && from < to => " └──",
        place if place == from => "─┘  ",
        place if place == to && from < to => "─┐  ",
        place if place == to => " ┌──",
        place if (first..last).contains(&place) => "────",
        _ => " ·  ",
    }
}
