//! The timeline as a drawing: a lane per host, density by time, pins and the chain. Legible when printed.

use svg::Document;
use svg::node::element::path::Data;
use svg::node::element::{Circle, Group, Line, Path, Rectangle, Text, Title};

use super::{HOSTS_DRAWN, Report};
use crate::clock::human::date_time;
use crate::clock::{DAY, MINUTE, SECOND, Zone};
use crate::timeline::density::{Cell, density};
use crate::work::Work;

const WIDTH: usize = 1120;
const LEFT: usize = 130;
const RIGHT: usize = 20;
const TOP: usize = 90;
const LANE: usize = 56;
const SLICES: usize = 240;

/// Hues that differ for people with any colour vision (the Okabe-Ito set), dark enough for white paper.
const CALM: &str = "#56B4E9";
const WARN: &str = "#E69F00";
const BAD: &str = "#D55E00";
const INK: &str = "#222222";
const FAINT: &str = "#BBBBBB";

/// Draws the case: the span around its pins if there are any, else all of it.
pub fn drawing(report: &Report<'_>) -> String {
    let table = &report.view.loaded.table;
    let Some((first, last)) = span(report) else { return Document::new().to_string() };
    let Ok(density) = density(table, first, last, SLICES, &Work::default()) else {
        return Document::new().to_string();
    };
    let links = report.links();
    let pinned: Vec<u32> =
        report.pins.iter().filter_map(|pin| Some(report.event_of(pin)?.actor().host)).take(HOSTS_DRAWN / 2).collect();
    // All others share the last lane.
    let density = density.folded_but(HOSTS_DRAWN, &pinned);
    let lanes = density.lanes();
    let bottom = TOP + lanes * LANE;
    let height = bottom + 60 + links.len() * 20 + 40;
    let x_of = |time: i64| {
        let share =
            (i128::from(time) - i128::from(first)) as f64 / ((i128::from(last) - i128::from(first)).max(1) as f64);
        LEFT as f64 + share * (WIDTH - LEFT - RIGHT) as f64
    };
    let mut document = Document::new()
        .set("viewBox", (0, 0, WIDTH, height))
        .set("width", WIDTH)
        .set("height", height)
        .set("font-family", "DejaVu Sans, sans-serif")
        .set("font-size", 13)
        .add(Rectangle::new().set("width", "100%").set("height", "100%").set("fill", "white"))
        .add(label(report.title(), 20.0, 30.0).set("font-size", 18).set("font-weight", "bold"))
        .add(label(
            &format!("{} to {}, {}", date_time(first, &report.zone), date_time(last, &report.zone), report.zone),
            20.0,
            52.0,
        ))
        .add(legend());
    document = document.add(axis(report, first, last, bottom, &x_of));
    let peak = f64::from(density.peak().max(1));
    for (lane, host) in density.hosts.iter().enumerate() {
        let y = (TOP + lane * LANE) as f64;
        let name = &table.hosts[*host as usize];
        let drift = table.drift[*host as usize];
        document = document
            .add(label(if name.is_empty() { "no host" } else { name }, 20.0, y + 24.0).set("font-weight", "bold"));
        if !drift.is_none() {
            let text = format!("clock {}", crate::clock::human::drift_text(drift));
            document = document.add(label(&text, 20.0, y + 41.0).set("font-size", 11));
        }
        document = document.add(bars(density.lane(lane), y, peak));
    }
    if density.others > 0 {
        let y = (TOP + density.hosts.len() * LANE) as f64;
        let text = format!("{} other hosts", density.others);
        document = document.add(label(&text, 20.0, y + 24.0).set("font-weight", "bold"));
        document = document.add(bars(density.lane(density.hosts.len()), y, peak));
    }
    let lane_y = |host: u32| {
        density.hosts.iter().position(|other| *other == host).map(|lane| (TOP + lane * LANE + LANE / 2) as f64)
    };
    let mut points = Vec::new();
    for (number, (kind, reason, pin, event)) in links.iter().enumerate() {
        let y = (bottom + 70 + number * 20) as f64;
        let when = event.and_then(|event| event.time());
        let time = when.map_or("no time".to_owned(), |time| date_time(time, &report.zone));
        let why = if reason.is_empty() { String::new() } else { format!(" ({reason})") };
        document = document.add(label(&format!("{}  {time}  {}: {}{why}", number + 1, kind.name(), pin.note), 40.0, y));
        if let (Some(time), Some(y)) = (when, event.and_then(|event| lane_y(event.actor().host))) {
            points.push(ChainPoint { number: number + 1, x: x_of(time), y, note: pin.note.clone() });
        }
    }
    document.add(chain(&points)).add(loose_pins(report, &x_of, &lane_y)).to_string()
}

/// The time span to draw: the pins' with a tenth more on each side and at least a minute, else the whole.
fn span(report: &Report<'_>) -> Option<(i64, i64)> {
    let whole = report.view.loaded.table.span?;
    let times: Vec<i64> = report.pins.iter().filter_map(|pin| report.event_of(pin)?.time()).collect();
    let (Some(first), Some(last)) = (times.iter().min(), times.iter().max()) else { return Some(whole) };
    let margin = (last.saturating_sub(*first) / 10).max(MINUTE);
    // The axis ends where the data ends.
    Some((first.saturating_sub(margin).max(whole.0), last.saturating_add(margin).min(whole.1)))
}

fn label(text: &str, x: f64, y: f64) -> Text {
    Text::new(crate::visible(text, false)).set("x", x).set("y", y).set("fill", INK)
}

fn legend() -> Group {
    let mut group = Group::new();
    for (index, (colour, text)) in
        [(BAD, "problems"), (WARN, "warnings"), (CALM, "other events")].into_iter().enumerate()
    {
        let x = 700 + index * 120;
        group = group
            .add(Rectangle::new().set("x", x).set("y", 42).set("width", 12).set("height", 12).set("fill", colour))
            .add(label(text, x as f64 + 18.0, 53.0));
    }
    group
}

/// Bars of a lane: the height is how much, on a scale that keeps single events visible; the hues are shares of it: problems below,
/// then warnings, then all else.
fn bars(cells: &[Cell], y: f64, peak: f64) -> Group {
    /// What there is stays visible, however small its share.
    const LEAST: f64 = 1.5;
    let step = (WIDTH - LEFT - RIGHT) as f64 / SLICES as f64;
    let floor = y + LANE as f64 - 10.0;
    let mut group = Group::new().add(line(LEFT as f64, floor, (WIDTH - RIGHT) as f64, floor, FAINT));
    for (index, cell) in cells.iter().enumerate().filter(|(_, cell)| cell.count > 0) {
        let height = ((f64::from(cell.count)).ln_1p() / peak.ln_1p()).mul_add(34.0, 4.0);
        let share = |count: u32| {
            let part = height * f64::from(count) / f64::from(cell.count);
            if count == 0 { 0.0 } else { part.max(LEAST) }
        };
        let (bad, warned) = (share(cell.problems), share(cell.warnings));
        let calm = if cell.problems + cell.warnings < cell.count { (height - bad - warned).max(LEAST) } else { 0.0 };
        let mut from = floor;
        for (part, colour) in [(bad, BAD), (warned, WARN), (calm, CALM)].into_iter().filter(|(part, _)| *part > 0.0) {
            from -= part;
            let bar = Rectangle::new()
                .set("x", round(LEFT as f64 + index as f64 * step))
                .set("y", round(from))
                .set("width", round(step - 0.5))
                .set("height", round(part))
                .set("fill", colour);
            group = group.add(bar);
        }
    }
    group
}

fn line(x1: f64, y1: f64, x2: f64, y2: f64, colour: &str) -> Line {
    Line::new()
        .set("x1", round(x1))
        .set("y1", round(y1))
        .set("x2", round(x2))
        .set("y2", round(y2))
        .set("stroke", colour)
}

fn round(value: f64) -> f64 {
    (value * 10.0).round() / 10.0
}

/// Ticks at round times of the reader's zone.
fn axis(report: &Report<'_>, first: i64, last: i64, bottom: usize, x_of: &impl Fn(i64) -> f64) -> Group {
    let mut group = Group::new();
    for (tick, text) in ticks(first, last, &report.zone) {
        let x = x_of(tick);
        group = group
            .add(line(x, TOP as f64, x, bottom as f64, "#EEEEEE"))
            .add(label(&text, x, bottom as f64 + 18.0).set("text-anchor", "middle").set("font-size", 11));
    }
    group
}

/// Round times between two instants, as a zone shows them, with their texts: at most about ten.
pub(super) fn ticks(first: i64, last: i64, zone: &Zone) -> Vec<(i64, String)> {
    const STEPS: [i64; 14] = [1, 5, 10, 30, 60, 300, 600, 1800, 3600, 10_800, 21_600, 43_200, 86_400, 604_800];
    let wide_enough = |step: &&i64| last.saturating_sub(first) / (**step * SECOND) <= 10;
    let widest = last.saturating_sub(first) / 8;
    let step = STEPS.iter().find(wide_enough).map_or(widest, |step| step * SECOND).max(SECOND);
    let offset = i64::from(zone.offset_at(first)) * SECOND;
    let mut tick = first.saturating_add(offset).div_euclid(step).saturating_mul(step).saturating_sub(offset);
    let mut ticks = Vec::new();
    let mut day = String::new();
    while tick <= last && ticks.len() < 20 {
        if tick >= first {
            // The date stands at the first tick and where it changes; midnight needs no time beside it where all are midnights.
            let full = date_time(tick, zone);
            let (date, time) = (full.get(5..10).unwrap_or_default(), full.get(11..19).unwrap_or_default());
            let text = match () {
                () if step >= DAY && time == "00:00:00" => full.get(..10).unwrap_or_default().to_owned(),
                () if step >= DAY || date != day => format!("{date} {time}"),
                () => time.to_owned(),
            };
            date.clone_into(&mut day);
            ticks.push((tick, text));
        }
        tick = tick.saturating_add(step);
    }
    ticks
}

/// Where each mark stands so that none lies over another: those of a lane that are too near each other are spread, in their
/// order, and stay within the drawing.
fn spread(points: &[ChainPoint]) -> Vec<f64> {
    const APART: f64 = 24.0;
    let right = (WIDTH - RIGHT) as f64;
    let mut places: Vec<f64> = points.iter().map(|point| point.x).collect();
    let mut order: Vec<usize> = (0..points.len()).collect();
    order.sort_by(|one, other| {
        (points[*one].y, points[*one].x)
            .partial_cmp(&(points[*other].y, points[*other].x))
            .unwrap_or(std::cmp::Ordering::Equal)
    });
    for lane in order.chunk_by(|one, other| points[*one].y.to_bits() == points[*other].y.to_bits()) {
        for pair in lane.windows(2) {
            places[pair[1]] = places[pair[1]].max(places[pair[0]] + APART);
        }
        // What was pushed over the edge pushes back.
        let mut most = right;
        for at in lane.iter().rev() {
            places[*at] = places[*at].min(most);
            most = places[*at] - APART;
        }
    }
    places
}

/// A link of the chain in the drawing.
struct ChainPoint {
    /// Its number, from 1.
    number: usize,
    x: f64,
    y: f64,
    note: String,
}

fn chain(points: &[ChainPoint]) -> Group {
    let mut group = Group::new();
    let places = spread(points);
    let drawn: Vec<(&ChainPoint, f64)> = points.iter().zip(places).collect();
    for pair in drawn.windows(2) {
        let ((one, x1), (other, x2)) = (&pair[0], &pair[1]);
        let data = Data::new().move_to((round(*x1), round(one.y))).line_to((round(*x2), round(other.y)));
        group = group.add(Path::new().set("d", data).set("stroke", INK).set("stroke-width", 1.5).set("fill", "none"));
    }
    for (point, x) in drawn {
        if (x - point.x).abs() > 1.0 {
            // The foot of the line is the moment itself.
            group = group.add(line(x, point.y, point.x, point.y + LANE as f64 / 2.0 - 10.0, INK));
        }
        group = group
            .add(
                Circle::new()
                    .set("cx", round(x))
                    .set("cy", round(point.y))
                    .set("r", 10)
                    .set("fill", "white")
                    .set("stroke", INK)
                    .add(Title::new(point.note.clone())),
            )
            .add(label(&point.number.to_string(), x, point.y + 4.5).set("text-anchor", "middle"));
    }
    group
}

fn loose_pins(report: &Report<'_>, x_of: &impl Fn(i64) -> f64, lane_y: &impl Fn(u32) -> Option<f64>) -> Group {
    let mut group = Group::new();
    for pin in report.pins.iter().filter(|pin| !report.chain.iter().any(|link| link.pin == pin.id)) {
        let Some(event) = report.event_of(pin) else { continue };
        if let (Some(time), Some(y)) = (event.time(), lane_y(event.actor().host)) {
            let mark = Circle::new().set("cx", round(x_of(time))).set("cy", y).set("r", 5).set("fill", INK);
            group = group.add(mark.add(Title::new(pin.note.clone())));
        }
    }
    group
}
