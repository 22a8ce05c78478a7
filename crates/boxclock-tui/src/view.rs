//! What a view is, and which views there are.
//!
//! A view owns its state, commands, rows, its part of the reading pane, its empty, loading and narrow states, and its tests, in one
//! file of this folder. It is registered by its line in [`VIEWS`]: tabs, keys, help, finder, hints and guide are made from what it
//! says of itself.

use boxclock_core::Result;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph};

use crate::commands::{Binding, Command};
use crate::context::{Context, Then, ViewId};
use crate::pane::Pane;
use crate::pane_state::PANE_STEP;
use crate::text::{fit, wrap};

/// What is the same in all views: the parts of [`View`] that its [`Spec`], its table of commands and its field `list` are.
macro_rules! view_parts {
    ($spec:expr, $commands:expr) => {
        fn spec(&self) -> &'static $crate::view::Spec {
            &$spec
        }

        fn bindings(&self) -> Vec<$crate::commands::Binding> {
            $crate::commands::bindings($crate::commands::Scope::View($spec.id), $commands)
        }

        fn run(
            &mut self,
            cx: &mut $crate::context::Context,
            command: usize,
            times: usize,
        ) -> boxclock_core::Result<$crate::context::Then> {
            ($commands[command].run)(self, cx, times)
        }

        fn list(&mut self) -> &mut $crate::view::ListState {
            &mut self.list
        }

        fn list_state(&self) -> $crate::view::ListState {
            self.list
        }
    };
}
#[cfg(test)]
pub(crate) use view_parts;

pub(crate) mod boxes;
mod cause;
pub(crate) mod codes;
pub(crate) mod collect;
mod compare;
mod crashes;
mod installs;
mod report;
mod shelf;
mod story;
mod stream;
mod trail;

/// All views, in the order of the work.
pub static VIEWS: &[fn() -> Box<dyn View>] = &[
    story::new,
    boxes::new,
    stream::new,
    codes::new,
    installs::new,
    crashes::new,
    trail::new,
    compare::new,
    cause::new,
    report::new,
    collect::new,
    shelf::new,
];

/// A command of a view.
pub type ViewCommand<V> = Command<V, Context, Then>;

impl<V> ViewCommand<V> {
    /// Scrolls the reading pane down: the same in all views that do nothing else with its key.
    pub const PANE_DOWN: Self = Self {
        name: "pane-down",
        keys: &["J"],
        short: "read ↓",
        long: "scroll the reading pane down",
        run: |_, cx, _| Ok(cx.scroll_pane(PANE_STEP)),
    };
    /// Scrolls it up.
    pub const PANE_UP: Self = Self {
        name: "pane-up",
        keys: &["K"],
        short: "read ↑",
        long: "scroll the reading pane up",
        run: |_, cx, _| Ok(cx.scroll_pane(-PANE_STEP)),
    };
}

/// What is fixed about a view.
pub struct Spec {
    /// What it is called by other views, and in the settings.
    pub id: ViewId,
    /// The key that shows it.
    pub key: &'static str,
    /// Its name on the screen.
    pub name: &'static str,
    /// What it shows, for help and guide.
    pub about: &'static str,
    /// Rows of the screen above its items.
    pub head_rows: usize,
    /// Rows of the screen of one item.
    pub item_rows: usize,
    /// Whether the reading pane stands beside it.
    pub has_pane: bool,
    /// Whether it has a tab of its own; otherwise the tab of this view is marked for it.
    pub tab_of: Option<ViewId>,
}

/// The chosen item of a list and the first visible one.
#[derive(Clone, Copy, Debug, Default)]
pub struct ListState {
    pub cursor: usize,
    pub top: usize,
}

impl ListState {
    /// Keeps the chosen item among `len` items, and in sight of `height` of them.
    pub fn keep_in_sight(&mut self, len: usize, height: usize) {
        self.cursor = self.cursor.min(len.saturating_sub(1));
        self.top = first_visible(self.top, self.cursor, len, height);
    }
}

/// The first visible line such that the chosen one is visible, with a little room around it.
pub fn first_visible(top: usize, cursor: usize, len: usize, height: usize) -> usize {
    let room = (height / 6).min(3);
    let highest = cursor.saturating_sub(room);
    let lowest = (cursor + room + 1).saturating_sub(height);
    top.clamp(lowest, highest.max(lowest)).min(len.saturating_sub(height))
}

/// An item of a list on the screen.
pub struct Item {
    /// Its first row, which is marked when it is chosen.
    pub row: Vec<Span<'static>>,
    /// Rows below it.
    pub below: Vec<Line<'static>>,
}

impl Item {
    /// An item of one row.
    pub fn one(row: Vec<Span<'static>>) -> Self {
        Self { row, below: Vec::new() }
    }
}

/// One of the screens of the application.
pub trait View: std::any::Any {
    /// What is fixed about it.
    fn spec(&self) -> &'static Spec;

    /// Its commands.
    fn bindings(&self) -> Vec<Binding>;

    /// Gives one of its commands, so many times.
    ///
    /// # Errors
    /// When it cannot be done.
    fn run(&mut self, cx: &mut Context, command: usize, times: usize) -> Result<Then>;

    /// How many items it has.
    fn len(&self, cx: &Context) -> usize;

    /// The chosen item.
    fn list(&mut self) -> &mut ListState;

    /// The same, for drawing.
    fn list_state(&self) -> ListState;

    /// It comes to the screen.
    fn open(&mut self, cx: &mut Context) {
        let _ = cx;
    }

    /// Before each frame that shows it: starts its jobs, and takes what is known.
    fn prepare(&mut self, cx: &mut Context) {
        let _ = cx;
    }

    /// Enter on the chosen item.
    ///
    /// # Errors
    /// When it cannot be done.
    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        let _ = cx;
        Ok(Then::Stay)
    }

    /// Moves the chosen item.
    fn move_by(&mut self, cx: &mut Context, by: isize) {
        let len = self.len(cx);
        let list = self.list();
        list.cursor = list.cursor.saturating_add_signed(by).min(len.saturating_sub(1));
    }

    /// Chooses the item of that number, from 1.
    fn move_to(&mut self, cx: &mut Context, number: usize) {
        self.move_by(cx, isize::MIN);
        self.move_by(cx, isize::try_from(number.saturating_sub(1)).unwrap_or(isize::MAX));
    }

    /// Chooses what stands at a row of its area.
    fn click(&mut self, cx: &mut Context, row: usize) {
        let (spec, len) = (self.spec(), self.len(cx));
        let Some(row) = row.checked_sub(spec.head_rows) else { return };
        let list = self.list();
        let chosen = list.top + row / spec.item_rows;
        if chosen < len {
            list.cursor = chosen;
        }
    }

    /// Takes the answer to a question that it asked under that name, or the text while it is being typed.
    ///
    /// # Errors
    /// When the answer is wrong: the line stays.
    fn answer(&mut self, cx: &mut Context, question: &str, text: &str) -> Result<Then> {
        let _ = (cx, question, text);
        Ok(Then::Stay)
    }

    /// Esc: leaves what is narrowest in it; gives whether there was something.
    fn escape(&mut self, cx: &mut Context) -> bool {
        let _ = cx;
        false
    }

    /// The lines above its items.
    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let _ = (cx, width);
        Vec::new()
    }

    /// An item.
    fn item(&self, cx: &Context, index: usize, width: usize) -> Item;

    /// What stands there when there is no item: why, and which key mends it.
    fn empty(&self, cx: &Context) -> Vec<String> {
        let _ = cx;
        Vec::new()
    }

    /// Its part of the reading pane.
    fn pane(&self, cx: &Context, pane: &mut Pane<'_>);

    /// How many of how many, at the right end of the bottom line.
    fn counts(&self, cx: &Context) -> String {
        let len = self.len(cx);
        format!("{} of {len}", (self.list_state().cursor + 1).min(len))
    }

    /// Draws it.
    fn draw(&self, cx: &Context, frame: &mut Frame<'_>, area: Rect) {
        draw_list(self, cx, frame, area);
    }
}

/// Draws a view as a list: its head, then the visible items.
pub fn draw_list<V: View + ?Sized>(view: &V, cx: &Context, frame: &mut Frame<'_>, area: Rect) {
    frame.render_widget(Clear, area);
    let width = usize::from(area.width);
    if view.len(cx) == 0 {
        let lines = view.empty(cx).into_iter().flat_map(|line| wrap(&line, width.saturating_sub(2)));
        let lines: Vec<Line<'_>> = lines.map(|line| Line::styled(format!(" {line}"), cx.theme.faint())).collect();
        frame.render_widget(Paragraph::new(lines), area);
        return;
    }
    let ListState { cursor, top } = view.list_state();
    let mut lines = view.head(cx, width);
    for index in top..(top + list_height(view.spec(), area.height)).min(view.len(cx)) {
        let item = view.item(cx, index, width);
        lines.push(row(cx, index == cursor, width, item.row));
        lines.extend(item.below);
    }
    frame.render_widget(Paragraph::new(lines), area);
}

/// Items that fit into an area of that height.
pub fn list_height(spec: &Spec, height: u16) -> usize {
    (usize::from(height).saturating_sub(spec.head_rows) / spec.item_rows).max(1)
}

/// A line that is chosen or not. The chosen one is marked over its whole width, in one style: hues turned inside out
/// would only be noise.
pub fn row(cx: &Context, chosen: bool, width: usize, spans: Vec<Span<'static>>) -> Line<'static> {
    if !chosen {
        return Line::from(spans);
    }
    let text: String = spans.iter().map(|span| span.content.as_ref()).collect();
    Line::styled(fit(&text, width), cx.theme.chosen())
}
