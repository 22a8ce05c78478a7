//! A trail as a drawing: hosts and programs as lanes, hops as arrows with their times.

use crate::clock::Zone;
use crate::clock::human::{date_time, duration_text};
use crate::report::canvas::{Anchor, BAD, CALM, Canvas, FAINT, INK};

use super::{HopOutcome, Trail};

const LEFT: f32 = 210.0;
const RIGHT: f32 = 30.0;
const TOP: f32 = 110.0;
/// Width of a lane, and height of a hop.
const LANE: f32 = 190.0;
const STEP: f32 = 46.0;
/// Lanes that a page has room for.
const LANES: usize = 12;

/// Draws a trail: time goes down, each program of each host has a lane.
pub fn draw(identifier: &str, trail: &Trail, zone: &Zone) -> Canvas {
    let mut lanes: Vec<(String, String)> = Vec::new();
    for hop in &trail.hops {
        let lane = (hop.host.clone(), hop.component.clone());
        if !lanes.contains(&lane) && lanes.len() < LANES {
            lanes.push(lane);
        }
    }
    let bottom = TOP + trail.hops.len() as f32 * STEP + 20.0;
    let width = LEFT + lanes.len().max(2) as f32 * LANE + RIGHT;
    let mut canvas = Canvas::new(width, bottom + 60.0);
    canvas.title((20.0, 28.0), 18.0, &format!("The way of {identifier}"));
    canvas.text((20.0, 50.0), 12.0, Anchor::Start, &format!("{}; times are {zone}", trail.state.name()));
    let x_of = |at: usize| LEFT + at as f32 * LANE + LANE / 2.0;
    for (at, (host, program)) in lanes.iter().enumerate() {
        let x = x_of(at);
        canvas.text((x, 78.0), 12.0, Anchor::Middle, program);
        canvas.text((x, 94.0), 11.0, Anchor::Middle, if host.is_empty() { "no host" } else { host });
        canvas.line((x, TOP - 8.0), (x, bottom), FAINT);
    }
    let mut before: Option<f32> = None;
    for (number, hop) in trail.hops.iter().enumerate() {
        let y = TOP + number as f32 * STEP + STEP / 2.0;
        let Some(at) = lanes.iter().position(|(host, program)| *host == hop.host && *program == hop.component) else {
            continue;
        };
        let x = x_of(at);
        let time = hop.first.0.map_or("no time".to_owned(), |time| date_time(time, zone));
        canvas.text((20.0, y + 4.0), 11.0, Anchor::Start, &time);
        let colour = if matches!(hop.outcome, HopOutcome::Failed | HopOutcome::Stopped) { BAD } else { CALM };
        if let Some(from) = before.filter(|from| (from - x).abs() > 1.0) {
            canvas.line((from, y), (x, y), INK);
            // The head of the arrow.
            let back = if from < x { -7.0 } else { 7.0 };
            canvas.line((x + back, y - 4.0), (x, y), INK);
            canvas.line((x + back, y + 4.0), (x, y), INK);
            if let Some(gap) = hop.gap_before_ms {
                let text = duration_text(gap.saturating_mul(1_000_000));
                canvas.text((f32::midpoint(from, x), y - 5.0), 10.0, Anchor::Middle, &text);
            }
        }
        canvas.rect((x - 5.0, y - 5.0), (10.0, 10.0), colour);
        let code = hop.code.map_or(String::new(), |code| format!(" {code}"));
        let events = crate::many(hop.events, "event");
        let text = format!("{} · {}{code} · {events}", hop.identifier, hop.outcome.name());
        canvas.text((x, y + 18.0), 10.0, Anchor::Middle, &text);
        before = Some(x);
    }
    canvas.text((20.0, bottom + 36.0), 12.0, Anchor::Start, &trail.summary);
    canvas
}
