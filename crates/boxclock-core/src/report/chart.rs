//! Charts of events: how many and how bad over time by host, and single events in swim lanes; with axes, units, zone and legend.

use std::sync::Arc;

use super::canvas::{Anchor, BAD, CALM, Canvas, Colour, FAINT, INK, WARN};
use super::{HOSTS_DRAWN, ticks};
use crate::case::{Case, Loaded};
use crate::clock::Zone;
use crate::clock::human::{date_time, duration_text};
use crate::event::{EventRef, RecordReader, Row};
use crate::plural::many;
use crate::severity::Severity;
use crate::{Error, Result};

/// What is drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChartKind {
    /// Events by severity over time, by host.
    Density,
    /// Single events in lanes of their host and component, with a list of them.
    Lanes,
}

const WIDTH: f32 = 1120.0;
const LEFT: f32 = 190.0;
const RIGHT: f32 = 20.0;
const TOP: f32 = 80.0;
const SLICES: usize = 180;
/// Height of a host's part of the density chart.
const BAND: f32 = 90.0;
/// Height of a swim lane, and of a line of the list.
const LANE: f32 = 26.0;
const LIST_LINE: f32 = 16.0;
/// Most lanes, and most events that are listed below them.
const LANES: usize = 24;
const LISTED: usize = 60;
/// Most events that swim lanes are of any use for.
const SINGLE: usize = 2000;

/// Draws the rows of a case, in merged order.
///
/// # Errors
/// When no row has a time, or there are too many for swim lanes.
pub fn chart(case: &Case, loaded: &Loaded, rows: &[u32], kind: ChartKind, zone: &Zone) -> Result<Canvas> {
    let events = || rows.iter().map(|row| loaded.table.event(Row(*row))).filter(|event| event.time().is_some());
    let times = || events().filter_map(|event| event.time());
    let (Some(first), Some(last)) = (times().min(), times().max()) else {
        return Err(Error::new("nothing to draw: no event has a time"));
    };
    let axis = Axis { first, last: last.max(first + 1_000_000), zone };
    match kind {
        ChartKind::Density => Ok(density(case, loaded, events(), &axis)),
        ChartKind::Lanes if rows.len() > SINGLE => Err(Error::new(format!(
            "{} events are too many for swim lanes: select or filter at most {SINGLE}",
            rows.len()
        ))),
        ChartKind::Lanes => Ok(lanes(case, events(), &axis)),
    }
}

/// The axis of time.
struct Axis<'z> {
    first: i64,
    last: i64,
    zone: &'z Zone,
}

impl Axis<'_> {
    fn x_of(&self, time: i64) -> f32 {
        let share = (i128::from(time) - i128::from(self.first)) as f64
            / (i128::from(self.last) - i128::from(self.first)).max(1) as f64;
        LEFT + share as f32 * (WIDTH - LEFT - RIGHT)
    }

    fn slice_of(&self, time: i64) -> usize {
        let span = i128::from(self.last) - i128::from(self.first) + 1;
        let at = (i128::from(time) - i128::from(self.first)).clamp(0, span - 1);
        (at * SLICES as i128 / span) as usize
    }

    fn draw(&self, canvas: &mut Canvas, bottom: f32) {
        for (time, text) in ticks(self.first, self.last, self.zone) {
            let x = self.x_of(time);
            canvas.line((x, TOP), (x, bottom), (0xEE, 0xEE, 0xEE));
            canvas.text((x, bottom + 16.0), 11.0, Anchor::Middle, &text);
        }
        canvas.line((LEFT, bottom), (WIDTH - RIGHT, bottom), INK);
        canvas.text((WIDTH - RIGHT, bottom + 32.0), 11.0, Anchor::End, &format!("time, zone {}", self.zone.name()));
    }

    fn head(&self, canvas: &mut Canvas, title: &str, what: &str) {
        canvas.title((20.0, 28.0), 18.0, title);
        let (first, last) = (date_time(self.first, self.zone), date_time(self.last, self.zone));
        let text = format!("{what}, {} to {} ({})", &first[..23], &last[..23], self.zone.name());
        canvas.text((20.0, 48.0), 12.0, Anchor::Start, &text);
        let legend = [(CALM, "other events"), (WARN, "warnings"), (BAD, "errors and crashes")];
        for (index, (colour, text)) in legend.into_iter().enumerate() {
            let x = 700.0 + index as f32 * 130.0;
            canvas.rect((x, 20.0), (11.0, 11.0), colour);
            canvas.text((x + 16.0, 30.0), 12.0, Anchor::Start, text);
        }
    }
}

/// 0 for quiet events, 1 for warnings, 2 for problems.
fn badness(event: EventRef<'_>) -> usize {
    match event.severity() {
        _ if event.is_problem() => 2,
        severity if severity >= Severity::WARN => 1,
        _ => 0,
    }
}

const COLOURS: [Colour; 3] = [CALM, WARN, BAD];

fn title(case: &Case) -> &str {
    if case.story.title.is_empty() { &case.name } else { &case.story.title }
}

fn density<'a>(case: &Case, loaded: &'a Loaded, events: impl Iterator<Item = EventRef<'a>>, axis: &Axis<'_>) -> Canvas {
    let mut of_hosts: Vec<Option<Vec<[u32; 3]>>> = vec![None; loaded.table.hosts.len()];
    let mut count = 0_u64;
    for event in events {
        let cells = of_hosts[event.actor().host as usize].get_or_insert_with(|| vec![[0; 3]; SLICES]);
        cells[axis.slice_of(event.time().unwrap_or(axis.first))][badness(event)] += 1;
        count += 1;
    }
    let mut shown: Vec<(usize, Vec<[u32; 3]>)> =
        of_hosts.into_iter().enumerate().filter_map(|(host, cells)| Some((host, cells?))).collect();
    let hosts = shown.len();
    if hosts > HOSTS_DRAWN {
        let sum = |cells: &[[u32; 3]], part: usize| cells.iter().map(|cell| u64::from(cell[part])).sum::<u64>();
        shown.sort_by_cached_key(|(_, cells)| std::cmp::Reverse((sum(cells, 2), sum(cells, 1), sum(cells, 0))));
        shown.truncate(HOSTS_DRAWN);
        shown.sort_by_key(|(host, _)| *host);
    }
    let bottom = TOP + shown.len() as f32 * BAND;
    let mut canvas = Canvas::new(WIDTH, bottom + 50.0);
    let of = if hosts > shown.len() { format!(", the worst {} of {hosts} hosts", shown.len()) } else { String::new() };
    axis.head(&mut canvas, title(case), &format!("{} by severity{of}", many(count, "event")));
    axis.draw(&mut canvas, bottom);
    let per_slice = duration_text((axis.last - axis.first) / SLICES as i64);
    let step = (WIDTH - LEFT - RIGHT) / SLICES as f32;
    for (band, (host, cells)) in shown.iter().enumerate() {
        let floor = TOP + (band + 1) as f32 * BAND - 12.0;
        let name = &loaded.table.hosts[*host];
        canvas.title((20.0, floor - 40.0), 13.0, if name.is_empty() { "no host" } else { name });
        let peak = cells.iter().map(|cell| cell.iter().sum::<u32>()).max().unwrap_or(1).max(1);
        let room = BAND - 26.0;
        canvas.text((LEFT - 8.0, floor - room + 4.0), 10.0, Anchor::End, &peak.to_string());
        canvas.text((LEFT - 8.0, floor), 10.0, Anchor::End, "0");
        canvas.text((20.0, floor - 24.0), 10.0, Anchor::Start, &format!("events per {per_slice}"));
        canvas.line((LEFT, floor), (WIDTH - RIGHT, floor), FAINT);
        for (index, cell) in cells.iter().enumerate() {
            let mut top = floor;
            // The worst at the bottom, where small bars are seen best.
            for (part, colour) in cell.iter().zip(COLOURS).rev().filter(|(part, _)| **part > 0) {
                let height = (*part as f32 / peak as f32 * room).max(1.0);
                top -= height;
                canvas.rect((LEFT + index as f32 * step, top), (step - 0.4, height), colour);
            }
        }
    }
    canvas
}

fn lanes<'a>(case: &Case, events: impl Iterator<Item = EventRef<'a>>, axis: &Axis<'_>) -> Canvas {
    let events: Vec<EventRef<'a>> = events.collect();
    let mut names: Vec<(String, String)> = Vec::new();
    let lane_of = |event: &EventRef<'_>, names: &mut Vec<(String, String)>| {
        let name = (event.host().to_owned(), event.component().to_owned());
        if let Some(at) = names.iter().position(|other| *other == name) {
            return at;
        }
        if names.len() < LANES {
            names.push(name);
        }
        names.len() - 1
    };
    let placed: Vec<usize> = events.iter().map(|event| lane_of(event, &mut names)).collect();
    let bottom = TOP + names.len() as f32 * LANE;
    let listed = events.len().min(LISTED);
    let mut canvas = Canvas::new(WIDTH, bottom + 60.0 + (listed + 1) as f32 * LIST_LINE);
    axis.head(&mut canvas, title(case), &many(events.len() as u64, "event"));
    axis.draw(&mut canvas, bottom);
    for (lane, (host, component)) in names.iter().enumerate() {
        let y = TOP + (lane + 1) as f32 * LANE;
        let name: String = format!("{host} {component}").chars().take(25).collect();
        canvas.text((20.0, y - 8.0), 12.0, Anchor::Start, &name);
        canvas.line((LEFT, y), (WIDTH - RIGHT, y), FAINT);
    }
    let mut reader = RecordReader::new(Arc::clone(&case.sources));
    // Where the last number of a lane ends: numbers over each other cannot be read.
    let mut numbered_to = vec![0.0_f32; names.len()];
    for (number, (event, lane)) in events.iter().zip(&placed).enumerate() {
        let x = axis.x_of(event.time().unwrap_or(axis.first));
        let y = TOP + *lane as f32 * LANE + 7.0;
        canvas.rect((x - 1.5, y), (3.0, LANE - 9.0), COLOURS[badness(*event)]);
        if number >= LISTED {
            continue;
        }
        if x >= numbered_to[*lane] {
            canvas.text((x + 3.0, y + 7.0), 8.0, Anchor::Start, &(number + 1).to_string());
            numbered_to[*lane] = x + 16.0;
        }
        let text: String = reader.record(*event).body.lines().next().unwrap_or_default().chars().take(120).collect();
        let time = date_time(event.time().unwrap_or(axis.first), axis.zone);
        let line = format!("{:>3}  {}  {} {}  {text}", number + 1, &time[..23], event.host(), event.component());
        canvas.text((20.0, bottom + 56.0 + number as f32 * LIST_LINE), 11.0, Anchor::Start, &line);
    }
    if events.len() > listed {
        let more = format!("and {} more", events.len() - listed);
        canvas.text((20.0, bottom + 56.0 + listed as f32 * LIST_LINE), 11.0, Anchor::Start, &more);
    }
    canvas
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::Options;
    use crate::work::Work;

    fn case() -> (tempfile::TempDir, Case, Loaded) {
        let root = tempfile::tempdir().unwrap();
        let path = root.path().join("hosts/gw/a.log");
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        let text = "2026-04-12T02:00:00Z INFO  bridge: fed\n2026-04-12T02:10:00Z ERROR bridge: NAK <1>\n\
            2026-04-12T02:20:00Z WARN  bridge: slow\n";
        std::fs::write(path, text).unwrap();
        let case = Case::open(&[root.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
        let loaded = case.load(&Work::default()).unwrap();
        (root, case, loaded)
    }

    #[test]
    fn charts_say_what_and_when() {
        let (_root, case, loaded) = case();
        let zone = Zone::parse("+02:00").unwrap();
        let drawn = chart(&case, &loaded, &loaded.table.order, ChartKind::Density, &zone).unwrap().to_svg();
        for part in ["3 events by severity", "time, zone +02:00", "04:10:00", "events per ", "#D55E00", "#E69F00"] {
            assert!(drawn.contains(part), "lacks {part}: {drawn}");
        }
        let drawn = chart(&case, &loaded, &loaded.table.order, ChartKind::Lanes, &zone).unwrap();
        assert!(drawn.to_svg().contains("NAK &lt;1&gt;"));
        assert!(String::from_utf8_lossy(&drawn.to_pdf()).contains("NAK <1>"));
    }

    #[test]
    fn nothing_and_too_much_are_said() {
        let (_root, case, loaded) = case();
        let error = chart(&case, &loaded, &[], ChartKind::Density, &Zone::utc()).map(|_| ()).unwrap_err();
        assert!(error.to_string().contains("nothing to draw"));
        let many = vec![0; SINGLE + 1];
        let error = chart(&case, &loaded, &many, ChartKind::Lanes, &Zone::utc()).map(|_| ()).unwrap_err();
        assert!(error.to_string().contains("too many for swim lanes"));
    }
}
