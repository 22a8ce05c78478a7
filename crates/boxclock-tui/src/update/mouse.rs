//! The mouse: whatever can be chosen by keys can be clicked, and what scrolls follows the wheel.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Position;

use super::{act, go, workspace};
use crate::app::{App, Mode, Prompt, Step};
use crate::keys::Action;
use crate::view;

/// Takes what the mouse did.
pub(super) fn take(app: &mut App, mouse: MouseEvent) {
    let position = Position::new(mouse.column, mouse.row);
    if !matches!(app.mode, Mode::Normal) {
        return over_the_screen(app, mouse.kind, position);
    }
    let over_reading = app.layout.reading.contains(position);
    match mouse.kind {
        MouseEventKind::ScrollDown if over_reading => app.workspace.reading_top += 3,
        MouseEventKind::ScrollUp if over_reading => {
            app.workspace.reading_top = app.workspace.reading_top.saturating_sub(3);
        }
        MouseEventKind::ScrollDown => act::run_times(app, Action::Down, 3),
        MouseEventKind::ScrollUp => act::run_times(app, Action::Up, 3),
        MouseEventKind::Up(MouseButton::Left) => {
            if let Some(from) = app.workspace.drag.take().filter(|from| from.abs_diff(mouse.row) > 1) {
                rail_window(app, from, mouse.row);
            }
        }
        MouseEventKind::Down(MouseButton::Left) => {
            if app.layout.rail.contains(position) {
                app.workspace.drag = Some(mouse.row);
            }
            click(app, position);
        }
        MouseEventKind::Drag(MouseButton::Left) if app.workspace.drag.is_some() => rail_click(app, mouse.row),
        MouseEventKind::Drag(MouseButton::Left) if app.layout.middle.contains(position) => click(app, position),
        _ => {}
    }
}

/// A menu, the finder, completions and the help: the wheel goes along, a click chooses, and beside them leaves.
fn over_the_screen(app: &mut App, kind: MouseEventKind, position: Position) {
    let press = |app: &mut App, code| super::key(app, KeyEvent::new(code, KeyModifiers::NONE));
    let is_list = |app: &App| {
        let listed = |prompt: &Prompt| matches!(prompt, Prompt::Finder(_) | Prompt::Lookup(_) | Prompt::Filter);
        !matches!(&app.mode, Mode::Typing(prompt, _) if !listed(prompt))
    };
    match kind {
        MouseEventKind::ScrollDown if is_list(app) => press(app, KeyCode::Down),
        MouseEventKind::ScrollUp if is_list(app) => press(app, KeyCode::Up),
        MouseEventKind::Down(MouseButton::Left) => {
            let item = view::item_at(app, position);
            match (&mut app.mode, item) {
                (Mode::Menu(menu), Some(item)) => {
                    menu.chosen = item;
                    press(app, KeyCode::Enter);
                }
                (Mode::Typing(Prompt::Finder(chosen), _), Some(item)) => {
                    *chosen = item;
                    press(app, KeyCode::Enter);
                }
                (Mode::Typing(Prompt::Filter, _), Some(item)) => {
                    app.workspace.completion = Some(item);
                    press(app, KeyCode::Tab);
                }
                (Mode::Menu(_) | Mode::Help(_), None) => app.mode = Mode::Normal,
                _ => {}
            }
        }
        _ => {}
    }
}

fn click(app: &mut App, position: Position) {
    let layout = &app.layout;
    if layout.rail.contains(position) {
        rail_click(app, position.y);
    } else if layout.steps.contains(position) {
        if let Some(step) = layout.step_at(position.x) {
            act::to_step(app, step);
        }
    } else if layout.reading.contains(position) {
        if app.step == Step::Stream
            && let Some(link) = view::link_at(app, position)
        {
            app.workspace.link = Some(link);
            workspace::follow_link(app);
        }
    } else if layout.middle.contains(position) {
        let line = usize::from(position.y - layout.middle.y);
        if app.step != Step::Stream {
            act::choose_line(app, line);
        } else if let Some(place) = app.place_at_line(line) {
            go(app, place);
        }
    }
}

fn rail_click(app: &mut App, row: u16) {
    let line = row.saturating_sub(app.layout.rail.y + 1);
    if let Some(density) = app.density.clone() {
        let time = density.start_of(usize::from(line).min(density.slices.saturating_sub(1)));
        if app.step != Step::Stream {
            act::to_step(app, Step::Stream);
        }
        let place = app.place_of_time(time);
        go(app, place);
    }
}

/// The rail's window from one line of the screen to another.
fn rail_window(app: &mut App, from: u16, to: u16) {
    let Some(density) = app.density.clone() else { return };
    let line = |row: u16| usize::from(row.saturating_sub(app.layout.rail.y + 1)).min(density.slices);
    let (first, last) = (line(from.min(to)), line(from.max(to)) + 1);
    let end = if last >= density.slices { density.to } else { density.start_of(last) };
    app.window = Some((density.start_of(first), end));
}
