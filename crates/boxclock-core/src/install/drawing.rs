//! A run of an installer as a drawing: its phases as bars over time, nested, and its workers as lanes.

use super::{Outcome, Run};
use crate::clock::Zone;
use crate::clock::human::{date_time, duration_text, time_of_day};
use crate::report::canvas::{Anchor, BAD, CALM, Canvas, FAINT, INK, WARN};

const LEFT: f32 = 230.0;
const WIDTH: f32 = 640.0;
const ROW: f32 = 22.0;
const TOP: f32 = 96.0;
/// Phases, and jobs of workers, that a page has room for.
const MOST: usize = 60;

/// Draws a run. What has no time has no bar.
pub fn draw(run: &Run, zone: &Zone) -> Canvas {
    let times = run.phases.iter().flat_map(|phase| [phase.start, phase.end]);
    let times = times.chain(run.workers.iter().flat_map(|job| [job.start, job.end])).chain([run.start, run.end]);
    let known: Vec<i64> = times.flatten().collect();
    let first = known.iter().copied().min();
    let last = known.iter().copied().max();
    let x_of = |time: i64| {
        let (Some(first), Some(last)) = (first, last) else { return LEFT };
        let span = last.saturating_sub(first).max(1) as f64;
        LEFT + (time.saturating_sub(first) as f64 / span) as f32 * WIDTH
    };
    let phases = &run.phases[..run.phases.len().min(MOST)];
    let jobs = &run.workers[..run.workers.len().min(MOST)];
    let mut lanes: Vec<&str> = Vec::new();
    for job in jobs {
        if !lanes.contains(&job.worker.as_str()) {
            lanes.push(&job.worker);
        }
    }
    let rows = phases.len() + lanes.len() + usize::from(!lanes.is_empty());
    let bottom = TOP + rows.max(1) as f32 * ROW;
    let mut canvas = Canvas::new(LEFT + WIDTH + 60.0, bottom + 70.0);
    let product = run.product.clone().unwrap_or_else(|| run.source.clone());
    canvas.title((20.0, 28.0), 18.0, &format!("{product}: {}", run.outcome.name()));
    let host = run.host.as_deref().unwrap_or("no host");
    let span = run.start.zip(run.end).map_or(String::new(), |(start, end)| {
        format!(
            ", {} to {}, {}",
            &date_time(start, zone)[..19],
            &date_time(end, zone)[..19],
            duration_text(end.saturating_sub(start))
        )
    });
    canvas.text((20.0, 50.0), 12.0, Anchor::Start, &format!("{host}{span}; times are {zone}"));
    if let Some((first, last)) = first.zip(last) {
        canvas.text((LEFT, TOP - 12.0), 10.0, Anchor::Start, &time_of_day(first, zone)[..8]);
        canvas.text((LEFT + WIDTH, TOP - 12.0), 10.0, Anchor::End, &time_of_day(last, zone)[..8]);
    }
    canvas.line((LEFT, TOP - 6.0), (LEFT + WIDTH, TOP - 6.0), INK);
    for (at, phase) in phases.iter().enumerate() {
        let y = TOP + at as f32 * ROW;
        let percent = phase.percent.map_or(String::new(), |percent| format!(" {percent} %"));
        let indent = 12.0 * phase.depth.min(8) as f32;
        canvas.text((20.0 + indent, y + 14.0), 11.0, Anchor::Start, &short(&format!("{}{percent}", phase.name)));
        let end = phase.end.or(run.end);
        if let Some((start, end)) = phase.start.zip(end) {
            let (from, to) = (x_of(start), x_of(end.max(start)));
            canvas.rect((from, y + 4.0), ((to - from).max(3.0), ROW - 9.0), colour(phase.outcome.unwrap_or("open")));
        }
        canvas.line((LEFT, y + ROW - 2.0), (LEFT + WIDTH, y + ROW - 2.0), FAINT);
    }
    for (lane, worker) in lanes.iter().enumerate() {
        let y = TOP + (phases.len() + 1 + lane) as f32 * ROW;
        canvas.text((20.0, y + 14.0), 11.0, Anchor::Start, &short(worker));
        canvas.line((LEFT, y + ROW - 2.0), (LEFT + WIDTH, y + ROW - 2.0), FAINT);
        for job in jobs.iter().filter(|job| job.worker == *worker) {
            let Some(start) = job.start else { continue };
            let (from, to) = (x_of(start), x_of(job.end.or(run.end).unwrap_or(start).max(start)));
            canvas.rect((from, y + 4.0), ((to - from).max(3.0), ROW - 9.0), colour(job.outcome));
            canvas.text((from + 2.0, y + 14.0), 9.0, Anchor::Start, &short(&job.job));
        }
    }
    if let Some(first) = &run.first_failure {
        let text = format!("failed first: {} ({}:{})", short(&first.text), first.place.source, first.place.line);
        canvas.text((20.0, bottom + 30.0), 12.0, Anchor::Start, &text);
    } else if run.outcome == Outcome::RestartNeeded {
        canvas.text((20.0, bottom + 30.0), 12.0, Anchor::Start, "Not in effect before a restart.");
    }
    let left_out = run.phases.len() - phases.len() + run.workers.len() - jobs.len();
    if left_out > 0 {
        let text = format!("{} not drawn", crate::many(left_out as u64, "phase or job"));
        canvas.text((20.0, bottom + 50.0), 11.0, Anchor::Start, &text);
    }
    canvas
}

fn colour(outcome: &str) -> crate::report::canvas::Colour {
    match outcome {
        "failed" => BAD,
        "open" | "waiting" | "restarted" | "skipped" => WARN,
        _ => CALM,
    }
}

fn short(text: &str) -> String {
    const MOST_CHARS: usize = 60;
    let mut short: String = text.trim().chars().take(MOST_CHARS).collect();
    if text.trim().chars().count() > MOST_CHARS {
        short.push('…');
    }
    short
}

#[cfg(test)]
mod tests {
    use super::super::tests::{runs, stamped};
    use super::*;

    #[test]
    fn phases_are_bars_and_workers_lanes() {
        let log = stamped(&[
            "INFO Starting installation of Tankwarden Console 5.0.2",
            "INFO step 1 of 2: check",
            "INFO step 2 of 2: migrate",
            "INFO worker 1: job levels started",
            "INFO worker 2: job pumps started",
            "ERROR worker 2: job pumps failed: table locked",
            "INFO worker 1: job levels done",
            "ERROR Installation failed with exit code 1",
        ]);
        let found = runs(&[("desk/console-setup.log", &log)]);
        let svg = draw(&found[0], &Zone::utc()).to_svg();
        for part in ["Tankwarden Console", "check", "migrate", "failed first", "levels", "pumps", "02:00:00"] {
            assert!(svg.contains(part), "{part}: {svg}");
        }
        assert!(svg.contains("#D55E00") || svg.to_lowercase().contains("d55e00"), "the job that failed: {svg}");
    }

    #[test]
    fn a_run_without_times_is_drawn_without_bars() {
        let svg = draw(&Run { source: "gw/setup.log".into(), ..Run::default() }, &Zone::utc()).to_svg();
        assert!(svg.contains("gw/setup.log"), "{svg}");
    }
}
