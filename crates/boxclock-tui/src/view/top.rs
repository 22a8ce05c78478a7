//! Title, clocks, and the steps; with the rules around the middle.

use boxclock_core::clock::human::drift_text;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use super::text::{cut, many};
use crate::app::{App, Step};

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>) {
    let layout = &app.layout;
    if layout.top.width == 0 {
        return;
    }
    let clocks = clocks(app);
    let table = &app.loaded.table;
    let mut facts = format!(" · {}", many(table.len() as u64, "event"));
    if layout.top.width >= 90 {
        facts.insert_str(0, &format!(" · {}", many(app.sources.len() as u64, "source")));
        // Files of no host are usual, and said in the Box view.
        let hosts = table.hosts.len().saturating_sub(1) as u64;
        if hosts > 0 {
            facts.insert_str(0, &format!(" · {}", many(hosts, "host")));
        }
    }
    if !app.loaded.complete {
        facts.push_str(&format!(" · reading {}", progress(app)));
    }
    if let Some(follow) = &app.workspace.follow {
        let held = follow.held.load(std::sync::atomic::Ordering::Relaxed);
        facts.push_str(&match (held, follow.behind) {
            (false, 0) => " · following".to_owned(),
            (false, behind) => format!(" · following, {} behind", super::text::bytes(behind)),
            (true, 0) => " · held".to_owned(),
            (true, behind) => format!(" · held, {} behind", super::text::bytes(behind)),
        });
    }
    let left_out = app.case.left_out.len();
    if left_out > 0 && layout.top.width >= 90 {
        facts.push_str(&format!(" · {left_out} left out"));
    }
    let room = usize::from(layout.top.width).saturating_sub(clocks.width() + 4);
    let title_room = room.saturating_sub(facts.width()).max(12).min(room);
    let title = cut(app.title(), title_room);
    let facts = cut(&facts, room.saturating_sub(title.width()));
    let gap = room.saturating_sub(title.width() + facts.width());
    let line = Line::from(vec![
        Span::raw(" "),
        Span::styled(title, app.theme.strong()),
        Span::styled(facts, app.theme.faint()),
        Span::raw(" ".repeat(gap + 2)),
        Span::styled(clocks, app.theme.faint()),
    ]);
    frame.render_widget(Paragraph::new(line), layout.top);
    frame.render_widget(Paragraph::new(steps(app)), layout.steps);
    rules(app, frame);
}

/// How far reading is: share, bytes, rate, and how long it will take.
fn progress(app: &App) -> String {
    let (done, total, elapsed) = app.jobs.progress();
    let share = format!("{} %", done * 100 / total.max(1));
    let seconds = elapsed.as_secs_f64();
    if app.layout.top.width < 120 || done == 0 || seconds < 0.5 {
        return share;
    }
    let rate = done as f64 / seconds;
    let left = total.saturating_sub(done) as f64 / rate;
    let mib = |bytes: f64| bytes / f64::from(1 << 20);
    format!("{share} of {:.0} MiB, {:.0} MiB/s, {left:.0} s left", mib(total as f64), mib(rate))
}

/// The zone of the times on the screen, and every clock that is corrected.
fn clocks(app: &App) -> String {
    let mut text = format!("clock UTC{}", app.zone.name());
    if app.zone.name().contains('/') {
        text = format!("clock {}", app.zone.name());
    }
    let mut corrected: Vec<_> = app.drift.iter().collect();
    corrected.sort_by_key(|(host, _)| *host);
    for (host, drift) in corrected {
        text.push_str(&format!("  {} {}", cut(host, 12), drift_text(*drift)));
    }
    cut(&text, usize::from(app.layout.top.width) / 2)
}

fn steps(app: &App) -> Line<'static> {
    let mut spans = vec![Span::raw(" ")];
    for (step, key, name) in Step::ALL {
        let here = step == app.step || (app.step, step) == (Step::Desk, Step::Box);
        let style = if here { app.theme.strong() } else { app.theme.faint() };
        let mark = if here { style.add_modifier(ratatui::style::Modifier::UNDERLINED) } else { style };
        spans.push(Span::styled(format!("{key} "), app.theme.faint()));
        spans.push(Span::styled(name, mark));
        spans.push(Span::raw("  "));
    }
    Line::from(spans)
}

fn rules(app: &App, frame: &mut Frame<'_>) {
    let layout = &app.layout;
    let width = layout.top.width;
    let style = app.theme.faint();
    let rail = (layout.rail.width > 0).then(|| layout.rail.right());
    let beside = layout.reading.width > 0 && layout.reading.x > layout.middle.x;
    let uprights: Vec<u16> = rail.into_iter().chain(beside.then(|| layout.reading.x - 1)).collect();
    let rule =
        |joint: char| -> String { (0..width).map(|x| if uprights.contains(&x) { joint } else { '─' }).collect() };
    let above = layout.middle.y.saturating_sub(1);
    let below = layout.middle.bottom();
    frame.render_widget(Paragraph::new(rule('┬')).style(style), Rect::new(0, above, width, 1));
    frame.render_widget(
        Paragraph::new(rule('┴')).style(style),
        Rect::new(0, below, width, 1).intersection(frame.area()),
    );
    for x in uprights {
        let lines: Vec<Line<'_>> = (0..layout.middle.height).map(|_| Line::raw("│")).collect();
        let area = Rect::new(x, layout.middle.y, 1, layout.middle.height);
        frame.render_widget(Paragraph::new(lines).style(style), area);
    }
}
