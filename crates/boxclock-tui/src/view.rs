//! Drawing: the state goes in, a frame comes out, nothing is changed.
//!
//! ```text
//!  title · hosts · sources · events                                   clock: zone   host −6m41s
//!  1 Story  2 Box  3 Stream  4 Codes  9 Cause  0 Report
//!  rail      │ the step's view                                       │ reading
//!  ───────────────────────────────────────────────────────────────────────────────────────────
//!  filter …                                                    n of m events   problems
//!  keys
//! ```

use ratatui::Frame;
use ratatui::layout::Position;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph};

use crate::app::{App, Mode, Prompt, Step};
use crate::update;

mod bottom;
mod boxes;
mod cause;
mod codes;
mod desk;
pub mod layout;
mod overlay;
pub(crate) mod rail;
mod reading;
mod report;
mod story;
pub mod stream;
pub(crate) mod text;
mod top;

/// Draws a frame.
pub fn draw(app: &App, frame: &mut Frame<'_>) {
    let layout = &app.layout;
    top::draw(app, frame);
    if layout.rail.width > 0 {
        rail::draw(app, frame, layout.rail);
    }
    match app.step {
        Step::Story => story::draw(app, frame, layout.middle),
        Step::Box => boxes::draw(app, frame, layout.middle),
        Step::Stream => stream::draw(app, frame, layout.middle),
        Step::Codes => codes::draw(app, frame, layout.middle),
        Step::Cause => cause::draw(app, frame, layout.middle),
        Step::Report => report::draw(app, frame, layout.middle),
        Step::Desk => desk::draw(app, frame, layout.middle),
    }
    if layout.reading.width > 0 {
        reading::draw(app, frame, layout.reading);
    }
    bottom::draw(app, frame);
    match &app.mode {
        Mode::Menu(menu) => overlay::menu(app, menu, frame),
        Mode::Typing(Prompt::Filter, _) => overlay::completions(app, frame),
        Mode::Help(scrolled) => overlay::help(app, *scrolled, frame),
        Mode::Typing(Prompt::Lookup(chosen), input) => codes::lookup(app, *chosen, input.value(), frame),
        Mode::Typing(Prompt::Finder(chosen), input) => overlay::finder(app, *chosen, input.value(), frame),
        _ => {}
    }
}

/// The item at a place of the screen, of the list that lies over it.
pub fn item_at(app: &App, position: Position) -> Option<usize> {
    match &app.mode {
        Mode::Menu(menu) => overlay::menu_items(app, menu).at(position),
        Mode::Typing(Prompt::Finder(chosen), input) => {
            overlay::finder_items(app, *chosen, update::offered(input.value()).len()).at(position)
        }
        Mode::Typing(Prompt::Filter, _) => overlay::completion_items(app).at(position),
        _ => None,
    }
}

/// The link of the reading pane at a place of the screen.
pub fn link_at(app: &App, position: Position) -> Option<usize> {
    let area = app.layout.reading;
    area.contains(position).then(|| reading::link_at(app, area, usize::from(position.y - area.y))).flatten()
}

/// A list: header lines, then items of which some are visible; the chosen one is marked.
fn list(
    app: &App,
    frame: &mut Frame<'_>,
    area: ratatui::layout::Rect,
    header: Vec<Line<'_>>,
    mut item: impl FnMut(usize, bool) -> Vec<Line<'static>>,
) {
    let step = app.step;
    let (cursor, top) = app.lists.get(&step).copied().unwrap_or_default();
    let height = app.layout.list_height(step);
    let mut lines: Vec<Line<'_>> = header;
    for index in top..(top + height).min(app.list_len(step)) {
        lines.extend(item(index, index == cursor));
    }
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(lines), area);
}

/// A line that is chosen or not. The chosen one is marked over its whole width, in one style: hues turned inside out
/// would only be noise.
fn row(app: &App, chosen: bool, width: usize, spans: Vec<Span<'static>>) -> Line<'static> {
    if !chosen {
        return Line::from(spans);
    }
    let text: String = spans.iter().map(|span| span.content.as_ref()).collect();
    Line::styled(text::fit(&text, width), app.theme.chosen())
}
