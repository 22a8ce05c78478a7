//! The rail: the time span from top to bottom, one lane per host. Brightness is how much, hue is how bad.

use std::collections::HashMap;
use std::sync::Arc;

use boxclock_core::Result;
use boxclock_core::analysis::CaseView;
use boxclock_core::clock::human::{date_time, duration_text, time_of_day};
use boxclock_core::clock::{DAY, MINUTE, SECOND};
use boxclock_core::event::Row;
use boxclock_core::logbook::PinKind;
use boxclock_core::severity::Severity;
use boxclock_core::timeline::axis::Axis;
use boxclock_core::timeline::density::{Cell, Density, Lanes, counts_of, density_by};
use boxclock_core::timeline::marks::{MarkAnalysis, MarkKind};
use boxclock_core::work::Work;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;

use crate::context::Context;
use crate::jobs::Apply;
use crate::layout::RAIL_TIME;
use crate::rail::Overlay;
use crate::text::{fit, host_mark};
use crate::theme::{Hue, ink_mark};

/// Draws the rail.
pub fn draw(cx: &Context, frame: &mut Frame<'_>, area: Rect) {
    let Some(density) = &cx.rail.density else {
        let text = if cx.view.loaded.complete { " no times" } else { " reading" };
        frame.render_widget(Paragraph::new(text).style(cx.theme.faint()), area);
        return;
    };
    let rows = usize::from(cx.layout.rail_rows());
    let lanes = density.lanes().min(cx.layout.lanes);
    let mut lines = head(cx, density, lanes);
    let shown = shown_slices(cx, density);
    let pins = pin_slices(cx, density);
    let marks = mark_slices(cx, density);
    let overlay = cx.rail.overlay.as_ref().filter(|(of, _)| Arc::ptr_eq(of, density)).map(|(_, overlay)| overlay);
    let hits = overlay.and_then(|overlay| overlay.filter.as_deref());
    let most = hits.and_then(|hits| hits.iter().max().copied()).unwrap_or(0);
    let peak = density.peak();
    let chosen = cx.chosen().and_then(|event| event.time()).map(|time| density.slice_of(time));
    for slice in 0..rows.min(density.slices()) {
        if let Some(silence) = density.silence(slice) {
            lines.push(silence_line(cx, silence, usize::from(area.width)));
            continue;
        }
        let mut spans = vec![Span::styled(time_label(cx, density, slice), cx.theme.faint())];
        let inside = shown.is_some_and(|(first, last)| (first..=last).contains(&slice));
        let mark = if chosen == Some(slice) {
            "▸"
        } else if inside {
            "▏"
        } else {
            " "
        };
        spans.push(Span::styled(mark, cx.theme.strong()));
        for lane in 0..lanes {
            let cell = density.lane(lane).get(slice).copied().unwrap_or_default();
            spans.extend(cell_spans(cx, cell, peak));
        }
        let count = hits.and_then(|hits| hits.get(slice)).copied().unwrap_or(0);
        spans.push(Span::raw(hit_glyph(count, most)));
        let ink = overlay.and_then(|overlay| overlay.inks.get(slice).copied().flatten());
        spans.push(match ink {
            Some(ink) => {
                let style = cx.theme.ink(ink).remove_modifier(Modifier::UNDERLINED);
                Span::styled(ink_mark(ink), style)
            }
            None => Span::raw(" "),
        });
        spans.push(match (pins.get(&slice), marks.get(&slice)) {
            (Some(pin), _) => Span::styled("◂", cx.theme.pin(*pin)),
            (None, Some(mark)) => mark_glyph(cx, *mark),
            (None, None) => Span::raw(" "),
        });
        lines.push(Line::from(spans));
    }
    if !cx.rail.undated.is_empty() && lines.len() < usize::from(area.height) {
        lines.push(undated_line(cx, lanes));
    }
    frame.render_widget(Paragraph::new(lines), area);
}

/// Below all times: the events that have none, in the lanes of their hosts.
fn undated_line(cx: &Context, lanes: usize) -> Line<'static> {
    let inside = cx.chosen().is_some_and(|event| event.time().is_none());
    let style = if inside { cx.theme.strong() } else { cx.theme.faint() };
    let width = usize::from(RAIL_TIME) + 1;
    let mut spans = vec![Span::styled(fit("no time", width), style)];
    let peak = cx.rail.undated.iter().max().copied().unwrap_or(0);
    for count in cx.rail.undated.iter().take(lanes) {
        spans.extend(cell_spans(cx, Cell { count: *count, ..Cell::default() }, peak));
    }
    Line::from(spans)
}

/// Silence that is folded into one line: how long it lasts.
fn silence_line(cx: &Context, silence_ns: i64, width: usize) -> Line<'static> {
    let text = format!("┊ {}", duration_text(silence_ns));
    Line::styled(fit(&format!("{text:>8}"), width), cx.theme.faint())
}

/// How much and how bad, in the columns of a lane.
fn cell_spans(cx: &Context, cell: Cell, peak: u32) -> Vec<Span<'static>> {
    let (glyph, style) = glyph(cx, cell, peak);
    // How bad it is, as a shape too.
    let shape = match Severity(cell.worst) {
        _ if cell.dumps > 0 => "✕",
        Severity(0..=16) => " ",
        Severity(17..=20) => "▲",
        _ => "◆",
    };
    match cx.layout.lane_width {
        // One column: the shape counts more than how much.
        1 if shape != " " => vec![Span::styled(shape, style)],
        1 => vec![Span::styled(glyph, style)],
        _ if cell.dumps > 0 => vec![Span::styled("✕ ", style)],
        _ => vec![Span::styled(glyph, style), Span::styled(shape, style)],
    }
}

/// What tells the hosts apart, above their lanes and in their hues: in one column the characters of a mark stand below each other.
fn head(cx: &Context, density: &Density, lanes: usize) -> Vec<Line<'static>> {
    let host = cx.rail.host.and_then(|host| cx.view.loaded.table.hosts.get(host as usize));
    let head: String = host.map_or("", |host| host).chars().take(usize::from(RAIL_TIME)).collect();
    let width = usize::from(RAIL_TIME) + 1;
    let lane = usize::from(cx.layout.lane_width);
    let rows = usize::from(cx.layout.rail_head());
    // After a change of the terminal's width there are other lanes a moment later.
    let labels = || cx.rail.labels.iter().zip(&density.hosts).take(lanes);
    let line = |row: usize| {
        let head = if row == 0 { head.as_str() } else { "" };
        let mut spans = vec![Span::styled(format!("{head:width$}"), cx.theme.faint())];
        for (label, number) in labels() {
            let host = if density.of_sources { cx.rail.host.unwrap_or(0) } else { *number };
            let part: String = if rows == 1 { label.clone() } else { label.chars().skip(row).take(1).collect() };
            spans.push(Span::styled(fit(&part, lane), cx.theme.host(host)));
        }
        // Those that share the last lane.
        if row == 0 && density.others > 0 && lanes == density.lanes() {
            spans.push(Span::styled(format!("+{}", density.others), cx.theme.faint()));
        }
        Line::from(spans)
    };
    (0..rows).map(line).collect()
}

/// The slices between the first and the last visible event of the stream.
fn shown_slices(cx: &Context, density: &Density) -> Option<(usize, usize)> {
    let time = |place| cx.row_at(place).and_then(|row| cx.event(row).time());
    let last = (cx.stream.top + usize::from(cx.layout.middle.height)).min(cx.row_count()).saturating_sub(1);
    let (first, last) = (time(cx.stream.top)?, time(last).or_else(|| time(cx.stream.top))?);
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

fn mark_glyph(cx: &Context, mark: Marked) -> Span<'static> {
    match mark {
        Marked::Silence => Span::styled("┊", cx.theme.faint()),
        Marked::Start => Span::styled("▴", cx.theme.faint()),
        Marked::ClockSet => Span::styled("◷", cx.theme.faint()),
        Marked::Install => Span::styled("▪", cx.theme.faint()),
        Marked::Noted => Span::styled("◆", cx.theme.hue(Hue::Yellow)),
        Marked::UncleanStop => Span::styled("▾", cx.theme.hue(Hue::Orange)),
    }
}

/// The slices with marks; where several fall together the one that counts most.
fn mark_slices(cx: &Context, density: &Density) -> HashMap<usize, Marked> {
    let marks = cx.view.case.seal.iter().flat_map(|seal| &seal.marks);
    let times = marks.filter_map(|mark| boxclock_core::gather::time_of(&mark.time));
    let noted = times.map(|time| (time, Marked::Noted));
    let marks_found = cx.view.known(&MarkAnalysis).unwrap_or_default();
    let found = marks_found.iter().map(|mark| {
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

fn pin_slices(cx: &Context, density: &Density) -> HashMap<usize, (PinKind, Option<u8>)> {
    let pins = cx.pinned.iter();
    let timed = pins.filter_map(|(row, pin)| Some((cx.event(Row(*row)).time()?, *pin)));
    let inside = timed.filter(|(time, _)| (density.from..=density.to).contains(time));
    inside.map(|(time, pin)| (density.slice_of(time), pin)).collect()
}

/// A time at every fourth slice; with the seconds, or as a date, where the slices ask for it.
fn time_label(cx: &Context, density: &Density, slice: usize) -> String {
    if !slice.is_multiple_of(4) {
        return " ".repeat(usize::from(RAIL_TIME));
    }
    let time = density.start_of(slice);
    let span = density.to.saturating_sub(density.from);
    let text = if span > 3 * DAY {
        date_time(time, &cx.zone)[5..10].to_owned()
    } else if span < 20 * SECOND {
        // Minute and second where the second changes, between them only the part of the second.
        let (text, before) = (time_of_day(time, &cx.zone), slice.checked_sub(4).map(|before| density.start_of(before)));
        match before.map(|before| time_of_day(before, &cx.zone)) {
            Some(before) if before[..8] == text[..8] => format!(" {}", &text[8..12]),
            _ => text[3..8].to_owned(),
        }
    } else if span < 10 * MINUTE {
        time_of_day(time, &cx.zone)[3..8].to_owned()
    } else {
        time_of_day(time, &cx.zone)[..5].to_owned()
    };
    format!("{text} ")
}

/// Brightness is how much, against the fullest slice of all lanes, in steps of about a power of ten.
fn glyph(cx: &Context, cell: Cell, peak: u32) -> (&'static str, Style) {
    let severity = Severity(cell.worst);
    let style = match severity {
        _ if cell.dumps > 0 => cx.theme.severity(Severity::FATAL),
        Severity(0..=12) => cx.theme.faint(),
        _ => cx.theme.severity(severity),
    };
    let share = f64::from(cell.count).ln_1p() / f64::from(peak.max(1)).ln_1p();
    let glyph = match share {
        _ if cell.count == 0 => " ",
        ..0.3 => "░",
        ..0.6 => "▒",
        ..0.85 => "▓",
        _ => "█",
    };
    (glyph, style)
}

impl Context {
    /// Asks for what the rail shows, when it has changed.
    pub fn prepare_rail(&mut self) {
        let slices = usize::from(self.layout.rail_rows());
        let Some((from, to)) = self.rail_span() else { return };
        let (host, most) = (self.rail.host, self.layout.max_lanes);
        let asked = (from, to, slices, most, host);
        if slices > 0 && self.rail.asked != Some(asked) {
            self.rail.asked = Some(asked);
            self.start(("rail", 0), move |view, work| {
                let (density, labels, undated) = lanes_of(view, (from, to), slices, (host, most), work)?;
                Ok(Box::new(move |cx: &mut Self| {
                    (cx.rail.density, cx.rail.labels) = (Some(Arc::new(density)), labels);
                    cx.rail.undated = undated;
                    cx.rail.overlay_is_old = true;
                }) as Apply<Self>)
            });
        }
        self.ask_for_overlay();
    }

    /// Asks where hits and inks are, when the rail, the filter or an ink has changed.
    fn ask_for_overlay(&mut self) {
        let Some(density) = self.rail.density.clone() else { return };
        if !std::mem::take(&mut self.rail.overlay_is_old) {
            return;
        }
        let inks = self.stream.inks.iter().zip(0_u8..);
        let inks: Vec<_> =
            inks.filter_map(|(ink, place)| Some((place, Arc::clone(ink.as_ref()?.rows.as_ref()?)))).collect();
        // Folded runs or another order hide nothing: only a filter has hits.
        let passed = self.stream.rows.passed.clone().filter(|_| !self.stream.filter_text.is_empty());
        if inks.is_empty() && passed.is_none() {
            self.rail.overlay = None;
            return;
        }
        self.start(("overlay", 0), move |view, work| {
            let table = &view.loaded.table;
            let filter = passed.as_ref().map(|rows| counts_of(table, &density, rows.iter().copied()));
            let mut overlay = Overlay { filter, inks: vec![None; density.slices()] };
            for (place, rows) in inks {
                work.check()?;
                let counts = counts_of(table, &density, table.order.iter().copied().filter(|row| rows.contains(*row)));
                for (slot, count) in overlay.inks.iter_mut().zip(counts) {
                    if count > 0 {
                        slot.get_or_insert(place);
                    }
                }
            }
            Ok(Box::new(move |cx: &mut Self| cx.rail.overlay = Some((density, overlay))) as Apply<Self>)
        });
    }
}

/// How much happened in at most so many lanes, one for each host, or for each source of a host; what stands above them; and how
/// many events have no time, for which a row is left free.
fn lanes_of(
    view: &CaseView,
    span: (i64, i64),
    slices: usize,
    (host, most): (Option<u32>, usize),
    work: &Work,
) -> Result<(Density, Vec<String>, Vec<u32>)> {
    let table = &view.loaded.table;
    let lanes = match host.and_then(|host| table.hosts.get(host as usize)) {
        None => Lanes::Hosts,
        Some(name) => {
            let sources = view.case.sources.iter().zip(0_u32..);
            let of_host = sources.filter(|(source, _)| source.host.as_deref() == Some(name.as_str()));
            Lanes::Sources(of_host.map(|(_, number)| number).collect())
        }
    };
    let undated: Vec<Row> = table.undated_at_end().collect();
    let slices = if undated.is_empty() { slices } else { slices.saturating_sub(1).max(1) };
    let axis = Axis::of(table, span, slices, work)?;
    let all = density_by(table, &lanes, axis, work)?;
    let density = all.clone().folded(most);
    let label = |lane: &u32| match all.hosts.iter().position(|other| other == lane) {
        // Sources have numbers among those of their host: their names begin alike.
        Some(place) if all.of_sources => (place + 1).to_string(),
        _ => host_mark(&table.hosts[*lane as usize], &table.hosts),
    };
    let labels = density.hosts.iter().map(label).collect();
    let mut by_lane = vec![0_u32; if undated.is_empty() { 0 } else { density.lanes() }];
    for row in undated {
        let event = table.event(row);
        let number = if density.of_sources { event.source() as u32 } else { event.actor().host };
        let lane = density.hosts.iter().position(|other| *other == number).unwrap_or(density.lanes().saturating_sub(1));
        by_lane.get_mut(lane).into_iter().for_each(|count| *count += 1);
    }
    Ok((density, labels, by_lane))
}
