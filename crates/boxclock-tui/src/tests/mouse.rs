//! The mouse: whatever keys choose can be clicked.

use ratatui::crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Position;

use super::*;
use crate::app::Mode;
use crate::app::item_at;

impl Screen {
    fn mouse(&mut self, kind: MouseEventKind, column: u16, row: u16) {
        let event = MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE };
        self.app.event(Event::Input(Input::Mouse(event)));
        self.settle();
    }

    fn click(&mut self, column: u16, row: u16) {
        self.mouse(MouseEventKind::Down(MouseButton::Left), column, row);
    }

    /// Clicks on a text that is on the screen.
    fn click_on(&mut self, text: &str) {
        let drawn = self.draw(120, 30);
        let found = drawn.lines().zip(0..).find_map(|(line, row)| {
            let before = line.split_once(text)?.0;
            Some((before.chars().count() as u16, row))
        });
        let (column, row) = found.unwrap_or_else(|| panic!("no {text:?} on\n{drawn}"));
        self.click(column, row);
    }
}

#[test]
fn rows_rail_and_steps() {
    let mut screen = usual();
    screen.keys("g");
    screen.draw(120, 30);
    let middle = screen.app.cx.layout.middle;
    screen.click(middle.x + 5, middle.y + 3);
    assert_eq!(screen.app.cx.stream.cursor, 2);
    screen.mouse(MouseEventKind::Drag(MouseButton::Left), middle.x + 5, middle.y + 4);
    assert_eq!(screen.app.cx.stream.cursor, 3);
    screen.mouse(MouseEventKind::ScrollUp, middle.x + 5, middle.y);
    assert_eq!(screen.app.cx.stream.cursor, 0);
    let rail = screen.app.cx.layout.rail;
    screen.click(rail.x + 8, rail.bottom() - 1);
    assert_eq!(screen.app.cx.stream.cursor, 5, "the bottom of the rail is the end");
    screen.click(2, 1);
    assert_eq!(screen.app.cx.at, "story");
    screen.click_on("What was expected");
    assert_eq!(screen.app.chosen_item(), 2);
}

#[test]
fn events_without_time_have_a_row_of_their_own_on_the_rail() {
    let mut screen =
        Screen::of(&[("pump-ctl/app.log", APP), ("dose-gw/notes.txt", "valve seven was stiff\nthe pump hums\n")]);
    screen.keys("g");
    let drawn = screen.shows((120, 30), &["no time"]);
    let rail = screen.app.cx.layout.rail;
    let last = drawn.lines().nth(usize::from(rail.bottom() - 1)).unwrap();
    assert!(last.starts_with("no time█"), "in the lane of its host: {last:?}");
    screen.click(rail.x + 8, rail.bottom() - 1);
    let last = screen.app.cx.row_count() - 2;
    assert_eq!(screen.app.cx.stream.cursor, last, "the first of the two without time");
    screen.shows((120, 30), &["valve seven was stiff"]);
    // Where everything is dated no row is left free.
    assert!(!usual().draw(120, 30).contains("no time"));
}

#[test]
fn a_drag_over_the_rail_narrows_it() {
    let mut screen = usual();
    screen.draw(120, 30);
    let rail = screen.app.cx.layout.rail;
    screen.click(rail.x + 8, rail.y + 5);
    screen.mouse(MouseEventKind::Drag(MouseButton::Left), rail.x + 8, rail.y + 9);
    screen.mouse(MouseEventKind::Up(MouseButton::Left), rail.x + 8, rail.y + 9);
    let ((from, to), (first, last)) = (screen.app.cx.rail.window.unwrap(), screen.app.cx.span().unwrap());
    assert!(from > first && to < last && from < to, "{from} {to} in {first} {last}");
}

#[test]
fn menus_are_clicked_and_left() {
    let mut screen = usual();
    screen.keys("g]v");
    screen.click_on("only     component=valves");
    assert_eq!((screen.app.cx.stream.filter_text.as_str(), screen.app.cx.row_count()), ("component=valves", 1));
    screen.keys("Fv");
    screen.mouse(MouseEventKind::ScrollDown, 60, 15);
    assert!(matches!(&screen.app.mode, Mode::Menu(menu) if menu.chosen == 1));
    // The border is no item, and beside the menu a click leaves.
    let drawn = screen.draw(120, 30);
    let border = drawn.lines().position(|line| line.contains("Filter by this event")).unwrap();
    assert_eq!(item_at(&screen.app, Position::new(60, border as u16)), None);
    screen.click(1, 28);
    assert!(matches!(screen.app.mode, Mode::Normal) && screen.app.cx.stream.filter_text.is_empty());
}

#[test]
fn the_finder_and_completions_are_clicked() {
    let mut screen = usual();
    let finder = KeyEvent::new(KeyCode::Char('k'), KeyModifiers::CONTROL);
    screen.app.event(Event::Input(Input::Key(finder)));
    screen.keys("wrap");
    screen.click_on("wrap long lines");
    assert!(screen.app.cx.stream.wrap && matches!(screen.app.mode, Mode::Normal));
    screen.keys("fcomponent=");
    screen.click_on("component=valves");
    assert_eq!(screen.app.cx.stream.filter_text, "component=valves");
    assert!(matches!(screen.app.mode, Mode::Typing(..)), "a completion is not yet Enter");
}

#[test]
fn links_of_the_reading_pane_are_clicked() {
    let mut screen = usual();
    screen.keys("g]");
    // What does not fit is scrolled to, and what is clicked is what is seen there.
    let reading = screen.app.cx.layout.reading;
    for _ in 0..9 {
        screen.mouse(MouseEventKind::ScrollDown, reading.x + 4, reading.y + 4);
    }
    screen.click_on("only host=pump-ctl");
    assert_eq!(screen.app.cx.stream.filter_text, "host=pump-ctl");
    let before = screen.app.cx.stream.cursor;
    screen.click(reading.x + 4, reading.y);
    assert_eq!((screen.app.cx.stream.cursor, screen.app.cx.stream.filter_text.as_str()), (before, "host=pump-ctl"));
}

#[test]
fn the_wheel_scrolls_the_help() {
    let mut screen = usual();
    screen.keys("?");
    let first = screen.draw(120, 30);
    screen.mouse(MouseEventKind::ScrollDown, 60, 15);
    assert_ne!(screen.draw(120, 30), first);
    screen.mouse(MouseEventKind::ScrollUp, 60, 15);
    assert_eq!(screen.draw(120, 30), first);
    screen.click(60, 15);
    assert!(matches!(screen.app.mode, Mode::Normal));
}
