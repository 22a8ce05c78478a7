//! The mouse: whatever can be chosen by keys can be clicked, and what scrolls follows the wheel.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Position;

use super::{App, Mode};
use crate::context::{Live, STREAM};
use crate::{overlay, top};

/// Lines that one step of the wheel moves.
const WHEEL: isize = 3;

/// The item at a place of the screen, of the list that lies over it.
pub fn item_at(app: &App, position: Position) -> Option<usize> {
    match &app.mode {
        Mode::Menu(menu) => overlay::menu_items(&app.cx, menu).at(position),
        Mode::Typing(typing) => match typing.question.live {
            Live::Finder => {
                let offered = app.cx.keymap.offered(typing.input.value()).len();
                overlay::finder_items(&app.cx, typing.chosen, offered).at(position)
            }
            Live::Filter => overlay::completion_items(&app.cx, typing).at(position),
            _ => None,
        },
        _ => None,
    }
}

impl App {
    /// Takes what the mouse did.
    pub(super) fn mouse(&mut self, mouse: MouseEvent) {
        let position = Position::new(mouse.column, mouse.row);
        if !matches!(self.mode, Mode::Normal) {
            return self.mouse_over(mouse.kind, position);
        }
        let over_pane = self.cx.layout.reading.contains(position);
        match mouse.kind {
            MouseEventKind::ScrollDown if over_pane => {
                self.cx.scroll_pane(WHEEL);
            }
            MouseEventKind::ScrollUp if over_pane => {
                self.cx.scroll_pane(-WHEEL);
            }
            MouseEventKind::ScrollDown => self.with_view(|view, cx| view.move_by(cx, WHEEL)),
            MouseEventKind::ScrollUp => self.with_view(|view, cx| view.move_by(cx, -WHEEL)),
            MouseEventKind::Up(MouseButton::Left) => {
                if let Some(from) = self.cx.rail.drag.take().filter(|from| from.abs_diff(mouse.row) > 1) {
                    self.rail_window(from, mouse.row);
                }
            }
            MouseEventKind::Down(MouseButton::Left) => {
                if self.cx.layout.rail.contains(position) {
                    self.cx.rail.drag = Some(mouse.row);
                }
                self.click(position);
            }
            MouseEventKind::Drag(MouseButton::Left) if self.cx.rail.drag.is_some() => self.rail_click(mouse.row),
            MouseEventKind::Drag(MouseButton::Left) if self.cx.layout.middle.contains(position) => self.click(position),
            _ => {}
        }
    }

    /// A menu, the finder, completions and the help: the wheel goes along, a click chooses, and beside them closes.
    fn mouse_over(&mut self, kind: MouseEventKind, position: Position) {
        let press = |app: &mut Self, code| app.key(KeyEvent::new(code, KeyModifiers::NONE));
        let is_list =
            !matches!(&self.mode, Mode::Typing(typing) if matches!(typing.question.live, Live::Nothing | Live::Find));
        match kind {
            MouseEventKind::ScrollDown if is_list => press(self, KeyCode::Down),
            MouseEventKind::ScrollUp if is_list => press(self, KeyCode::Up),
            MouseEventKind::Down(MouseButton::Left) => {
                let item = item_at(self, position);
                match (&mut self.mode, item) {
                    (Mode::Menu(menu), Some(item)) => {
                        menu.chosen = item;
                        press(self, KeyCode::Enter);
                    }
                    (Mode::Typing(typing), Some(item)) if typing.question.live == Live::Finder => {
                        typing.chosen = item;
                        press(self, KeyCode::Enter);
                    }
                    (Mode::Typing(typing), Some(item)) => {
                        typing.completion = Some(item);
                        press(self, KeyCode::Tab);
                    }
                    (Mode::Menu(_) | Mode::Help(_), None) => self.mode = Mode::Normal,
                    _ => {}
                }
            }
            _ => {}
        }
    }

    fn click(&mut self, position: Position) {
        let layout = self.cx.layout;
        if layout.rail.contains(position) {
            self.rail_click(position.y);
        } else if layout.tabs.contains(position) {
            if let Some(id) = top::tab_at(&self.cx, &self.specs(), position.x) {
                self.show(id);
            }
        } else if layout.reading.contains(position) {
            let link = self.pane().link_at(layout.reading.height, usize::from(position.y - layout.reading.y));
            if self.cx.at == STREAM && link.is_some() {
                self.cx.pane.link = link;
                let then = self.with_view(super::super::view::View::enter);
                self.then(then);
            }
        } else if layout.middle.contains(position) {
            let row = usize::from(position.y - layout.middle.y);
            self.with_view(|view, cx| view.click(cx, row));
        }
    }

    fn rail_click(&mut self, row: u16) {
        let line = row.saturating_sub(self.cx.layout.rail.y + self.cx.layout.rail_head());
        if let Some(density) = self.cx.rail.density.clone() {
            if usize::from(line) >= density.slices() && !self.cx.rail.undated.is_empty() {
                let cx = &self.cx;
                let has_time = |place: usize| cx.row_at(place).and_then(|row| cx.event(row).time()).is_some();
                let first = (0..cx.row_count()).rev().take_while(|place| !has_time(*place)).last();
                self.show(STREAM);
                return self.cx.go(first.unwrap_or(usize::MAX));
            }
            let time = density.start_of(usize::from(line).min(density.slices().saturating_sub(1)));
            if self.cx.at != STREAM {
                self.show(STREAM);
            }
            self.cx.go(self.cx.place_of_time(time));
        }
    }

    /// The rail's window from one line of the screen to another.
    fn rail_window(&mut self, from: u16, to: u16) {
        let Some(density) = self.cx.rail.density.clone() else { return };
        let line = |row: u16| {
            usize::from(row.saturating_sub(self.cx.layout.rail.y + self.cx.layout.rail_head())).min(density.slices())
        };
        let (first, last) = (line(from.min(to)), line(from.max(to)) + 1);
        let end = if last >= density.slices() { density.to } else { density.start_of(last) };
        self.cx.rail.window = Some((density.start_of(first), end));
    }
}
