//! The desk: gathering, capturing, receiving, handing on.

use boxclock_core::gather::watch::{Host, Stage};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Modifier;
use ratatui::text::{Line, Span};

use super::text::{bytes, cut, fit};
use super::{list, row};
use crate::app::{App, Mode, Prompt};
use crate::desk::{DeskRow, Task, Tone};
use crate::theme::Hue;

/// Columns of the labels.
const LABEL: usize = 13;

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    let width = usize::from(area.width);
    let mut tasks = vec![Span::raw(" ")];
    for task in Task::ALL {
        let here = task == app.desk.task();
        let style = if here { app.theme.strong().add_modifier(Modifier::UNDERLINED) } else { app.theme.faint() };
        tasks.extend([Span::styled(task.name(), style), Span::raw("   ")]);
    }
    let status = format!(" {}", app.desk.status());
    let going = if app.desk.running.is_some() { app.theme.hue(Hue::Sky) } else { app.theme.faint() };
    let header = vec![Line::from(tasks), Line::styled(cut(&status, width), going), Line::raw("")];
    let rows = app.desk.rows();
    let hosts = app.desk.hosts();
    list(app, frame, area, header, |index, chosen| {
        let spans = match &rows[index] {
            DeskRow::Field(field) => field_line(app, *field, width),
            DeskRow::Host(label) => {
                let host = hosts.iter().find(|host| host.label == *label);
                host.map_or(Vec::new(), |host| host_line(app, host, width))
            }
            DeskRow::Gap => Vec::new(),
            DeskRow::Said(line) => {
                let (tone, text) = &app.desk.said[*line];
                let style = match tone {
                    Tone::Plain => ratatui::style::Style::new(),
                    Tone::Good => app.theme.hue(Hue::Green),
                    Tone::Bad => app.theme.hue(Hue::Orange),
                };
                vec![Span::styled(fit(&format!(" {}", boxclock_core::visible(text, false)), width), style)]
            }
        };
        vec![row(app, chosen, width, spans)]
    });
}

fn field_line(app: &App, field: usize, width: usize) -> Vec<Span<'static>> {
    let (key, label, hint) = app.desk.task().fields()[field];
    let typed = match &app.mode {
        Mode::Typing(Prompt::Desk(field), input) if *field == key => Some(input.value()),
        _ => None,
    };
    let text = typed.unwrap_or(app.desk.text(key));
    let room = width.saturating_sub(LABEL + 1);
    let label = Span::styled(fit(&format!(" {label}"), LABEL), app.theme.faint());
    if text.is_empty() {
        return vec![label, Span::styled(fit(hint, room), app.theme.faint())];
    }
    vec![label, Span::raw(fit(text, room))]
}

fn host_line(app: &App, host: &Host, width: usize) -> Vec<Span<'static>> {
    let (done, total) = host.bytes();
    let share = (done.min(total) * 10).checked_div(total).unwrap_or(0) as usize;
    let is_done = host.stage == Stage::Done;
    let bar = if is_done { 10 } else { share };
    let (shape, style) = match host.stage {
        Stage::Stopped(_) => ("△", app.theme.hue(Hue::Orange)),
        Stage::Done => ("●", app.theme.hue(Hue::Green)),
        _ => ("·", ratatui::style::Style::new()),
    };
    let (files, all) = host.files;
    let bar = format!("{}{}", "━".repeat(bar), "┄".repeat(10 - bar));
    let text =
        format!(" {shape} {:<14} {bar} {files} of {all} files, {}  {}", host.label, bytes(done), host.stage.words());
    vec![Span::styled(fit(&text, width), style)]
}
