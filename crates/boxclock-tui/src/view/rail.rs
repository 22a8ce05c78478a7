//! The rail: the time span from top to bottom, one lane per host. Brightness is how much, hue is how bad.

use std::collections::HashMap;

use boxclock_core::clock::human::{date_time, time_of_day};
use boxclock_core::clock::{DAY, MINUTE, SECOND};
use boxclock_core::logbook::PinKind;
use boxclock_core::severity::Severity;
use boxclock_core::timeline::density::{Cell, Density};
use boxclock_core::timeline::marks::MarkKind;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;

use super::layout::RAIL_TIME;
use crate::app::App;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    let Some(density) = &app.density else {
        let text = if app.loaded.complete { " no times" } else { " reading" };
        frame.render_widget(Paragraph::new(text).style(app.theme.faint()), area);
        return;
    };
    let rows = usize::from(area.height.saturating_sub(1));
    let lanes = density.lanes().min(app.layout.lanes);
    let mut lines = vec![head(app, density, lanes)];
    let shown = shown_slices(app, density);
    let pins = pin_slices(app, density);
    let marks = mark_slices(app, density);
    let overlay = app.workspace.overlay.as_ref().filter(|of| (of.from, of.to) == (density.from, density.to));
    let hits = overlay.and_then(|overlay| overlay.filter.as_deref());
    let most = hits.and_then(|hits| hits.iter().max().copied()).unwrap_or(0);
    let usual: Vec<u32> = (0..lanes).map(|lane| usual_count(density.lane(lane))).collect();
    let chosen = app.chosen().and_then(|event| event.time()).map(|time| density.slice_of(time));
    for slice in 0..rows.min(density.slices) {
        let mut spans = vec![Span::styled(time_label(app, density, slice), app.theme.faint())];
        let inside = shown.is_some_and(|(first, last)| (first..=last).contains(&slice));
        let mark = if chosen == Some(slice) {
            "▸"
        } else if inside {
            "▏"
        } else {
            " "
        };
        spans.push(Span::styled(mark, app.theme.strong()));
        for (lane, usual) in usual.iter().enumerate() {
            let cell = density.lane(lane).get(slice).copied().unwrap_or_default();
            let (glyph, style) = glyph(app, cell, *usual);
            spans.push(Span::styled(glyph, style));
            // How bad it is, as a shape too.
            let shape = match Severity(cell.worst) {
                _ if cell.dumps > 0 => " ",
                Severity(0..=16) => " ",
                Severity(17..=20) => "▲",
                _ => "◆",
            };
            spans.push(Span::styled(shape, style));
        }
        let count = hits.and_then(|hits| hits.get(slice)).copied().unwrap_or(0);
        spans.push(Span::raw(hit_glyph(count, most)));
        let ink = overlay.and_then(|overlay| overlay.inks.get(slice).copied().flatten());
        spans.push(match ink {
            Some(ink) => {
                let style = app.theme.ink(ink).remove_modifier(ratatui::style::Modifier::UNDERLINED);
                Span::styled(super::stream::ink_mark(ink), style)
            }
            None => Span::raw(" "),
        });
        spans.push(match (pins.get(&slice), marks.get(&slice)) {
            (Some(pin), _) => Span::styled("◂", app.theme.pin(*pin)),
            (None, Some(mark)) => mark_glyph(app, *mark),
            (None, None) => Span::raw(" "),
        });
        lines.push(Line::from(spans));
    }
    frame.render_widget(Paragraph::new(lines), area);
}

/// What tells the hosts apart, above their lanes and in their hues.
fn head(app: &App, density: &Density, lanes: usize) -> Line<'static> {
    let host = app.workspace.rail_host.and_then(|host| app.loaded.table.hosts.get(host as usize));
    let head: String = host.map_or("", |host| host).chars().take(usize::from(RAIL_TIME)).collect();
    let width = usize::from(RAIL_TIME) + 1;
    let mut spans = vec![Span::styled(format!("{head:width$}"), app.theme.faint())];
    // After a change of the terminal's width there are other lanes a moment later.
    for (label, number) in app.rail_labels.iter().zip(&density.hosts).take(lanes) {
        let host = if density.of_sources { app.workspace.rail_host.unwrap_or(0) } else { *number };
        spans.push(Span::styled(format!("{label:2}"), app.theme.host(host)));
    }
    // Those that share the last lane.
    if density.others > 0 && lanes == density.lanes() {
        spans.push(Span::styled(format!("+{}", density.others), app.theme.faint()));
    }
    Line::from(spans)
}

/// One or two characters that tell a host from all others, as far as so few can: its first letter; what it does not have in
/// common with those that begin alike; its end; its first letter and its last.
pub(crate) fn label(name: &str, all: &[String]) -> String {
    let first = |name: &str| name.chars().next().map(|letter| letter.to_uppercase().to_string()).unwrap_or_default();
    if name.is_empty() {
        return "·".into();
    }
    let alike = all.iter().filter(|other| first(other) == first(name));
    let same = |other: &String| name.chars().zip(other.chars()).take_while(|(one, other)| one == other).count();
    let common = alike.map(same).min().unwrap_or(0);
    let behind = |name: &str| name.chars().skip(common).take(2).collect::<String>();
    let end = |name: &str| name.chars().skip(name.chars().count().saturating_sub(2)).collect::<String>();
    let both = |name: &str| first(name) + &name.chars().next_back().map(String::from).unwrap_or_default();
    let is_own = |of: &dyn Fn(&str) -> String| {
        let own = of(name);
        !own.is_empty() && all.iter().filter(|other| of(other) == own).count() < 2
    };
    let forms: [&dyn Fn(&str) -> String; 3] = [&first, &behind, &end];
    forms.into_iter().find(|of| is_own(*of)).map_or_else(|| both(name), |of| of(name))
}

/// The slices between the first and the last visible event of the stream.
fn shown_slices(app: &App, density: &Density) -> Option<(usize, usize)> {
    let time = |place| app.row_at(place).and_then(|row| app.loaded.table.event(row).time());
    let last = (app.top + usize::from(app.layout.middle.height)).min(app.view_len()).saturating_sub(1);
    let (first, last) = (time(app.top)?, time(last).or_else(|| time(app.top))?);
    (last >= density.from && first <= density.to).then(|| (density.slice_of(first), density.slice_of(last)))
}

/// How many of the filter's hits are in a slice, against the fullest.
fn hit_glyph(count: u32, most: u32) -> &'static str {
    const GLYPHS: [&str; 5] = ["▁", "▂", "▄", "▆", "█"];
    if count == 0 || most == 0 {
        return " ";
    }
    let share = u64::from(count) * (GLYPHS.len() as u64 - 1) / u64::from(most);
    GLYPHS[share as usize % GLYPHS.len()]
}

/// What a slice is marked with.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Marked {
    Silence,
    Start,
    ClockSet,
    Install,
    /// A moment that was marked while gathering.
    Noted,
    UncleanStop,
}

fn mark_glyph(app: &App, mark: Marked) -> Span<'static> {
    match mark {
        Marked::Silence => Span::styled("┊", app.theme.faint()),
        Marked::Start => Span::styled("▴", app.theme.faint()),
        Marked::ClockSet => Span::styled("◷", app.theme.faint()),
        Marked::Install => Span::styled("▪", app.theme.faint()),
        Marked::Noted => Span::styled("◆", app.theme.hue(crate::theme::Hue::Yellow)),
        Marked::UncleanStop => Span::styled("▾", app.theme.hue(crate::theme::Hue::Orange)),
    }
}

/// The slices with marks; where several fall together the one that counts most.
fn mark_slices(app: &App, density: &Density) -> HashMap<usize, Marked> {
    let marks = app.case.seal.iter().flat_map(|seal| &seal.marks);
    let times = marks.filter_map(|mark| boxclock_core::gather::time_of(&mark.time));
    let noted = times.map(|time| (time, Marked::Noted));
    let found = app.workspace.marks.iter().map(|mark| {
        let kind = match mark.kind {
            MarkKind::Start => Marked::Start,
            MarkKind::UncleanStop => Marked::UncleanStop,
            MarkKind::Install => Marked::Install,
            MarkKind::ClockSet => Marked::ClockSet,
            MarkKind::Silence => Marked::Silence,
        };
        (mark.time, kind)
    });
    let mut slices: HashMap<usize, Marked> = HashMap::new();
    for (time, mark) in noted.chain(found).filter(|(time, _)| (density.from..=density.to).contains(time)) {
        let slot = slices.entry(density.slice_of(time)).or_insert(mark);
        *slot = (*slot).max(mark);
    }
    slices
}

fn pin_slices(app: &App, density: &Density) -> HashMap<usize, (PinKind, Option<u8>)> {
    let pins = app.pinned.iter();
    let timed =
        pins.filter_map(|(row, pin)| Some((app.loaded.table.event(boxclock_core::event::Row(*row)).time()?, *pin)));
    let inside = timed.filter(|(time, _)| (density.from..=density.to).contains(time));
    inside.map(|(time, pin)| (density.slice_of(time), pin)).collect()
}

/// A time at every fourth slice; with the seconds, or as a date, where the slices ask for it.
fn time_label(app: &App, density: &Density, slice: usize) -> String {
    if !slice.is_multiple_of(4) {
        return " ".repeat(usize::from(RAIL_TIME));
    }
    let time = density.start_of(slice);
    let span = density.to.saturating_sub(density.from);
    let text = if span > 3 * DAY {
        date_time(time, &app.zone)[5..10].to_owned()
    } else if span < 20 * SECOND {
        time_of_day(time, &app.zone)[6..12].to_owned()
    } else if span < 10 * MINUTE {
        time_of_day(time, &app.zone)[3..8].to_owned()
    } else {
        time_of_day(time, &app.zone)[..5].to_owned()
    };
    format!("{text} ")
}

/// The middle of the counts of a lane's slices that have events: what is usual there.
fn usual_count(lane: &[Cell]) -> u32 {
    let mut counts: Vec<u32> = lane.iter().map(|cell| cell.count).filter(|count| *count > 0).collect();
    counts.sort_unstable();
    counts.get(counts.len() / 2).copied().unwrap_or(1)
}

/// Brightness against what is usual in the lane, so that silence and bursts show; a crash has a glyph of its own.
fn glyph(app: &App, cell: Cell, usual: u32) -> (&'static str, Style) {
    let severity = Severity(cell.worst);
    let style = match severity {
        Severity(0..=12) => app.theme.faint(),
        _ => app.theme.severity(severity),
    };
    if cell.dumps > 0 {
        return ("✕", app.theme.severity(Severity::FATAL));
    }
    let glyph = match f64::from(cell.count) / f64::from(usual.max(1)) {
        _ if cell.count == 0 => " ",
        ..0.5 => "░",
        ..1.5 => "▒",
        ..3.0 => "▓",
        _ => "█",
    };
    (glyph, style)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_tell_hosts_apart() {
        let labels = |names: &[&str]| {
            let all: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
            names.iter().map(|name| label(name, &all)).collect::<Vec<_>>()
        };
        assert_eq!(labels(&["pump-ctl", "keeper-desk", "dose-gw"]), ["P", "K", "D"]);
        assert_eq!(labels(&["tank-01", "tank-02", "tank-11", "dose-gw"]), ["01", "02", "11", "D"]);
        assert_eq!(labels(&["Dose", "dose-2", "", "élan"]), ["Do", "do", "·", "É"]);
        assert_eq!(labels(&["tank", "tank-2"]), ["nk", "-2"]);
        assert_eq!(labels(&["tank-01", "tank-02", "title"]), ["01", "02", "it"]);
        assert_eq!(labels(&["pump-01", "tank-01", "tank-02"]), ["P", "T1", "2"]);
    }
}
