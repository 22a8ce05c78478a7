//! The application: the views, the shared state, and what goes on over them.

use boxclock_core::Result;
use boxclock_core::case::Case;
use boxclock_core::logbook::Story;
use crossbeam_channel::Sender;
use ratatui::Frame;
use ratatui::crossterm::event::{Event as Input, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};

use crate::commands::{Binding, Keymap, Scope, bindings};
use crate::context::{Context, Live, Menu, STREAM, Taker, Then, ViewId};
use crate::jobs::{Event, WRITE};
use crate::layout::{Layout, PanePlace};
use crate::pane::Pane;
use crate::settings::Settings;
use crate::typing::{Typed, Typing};
use crate::view::{Spec, VIEWS, View, list_height};
use crate::{bottom, lookup, overlay, rail_view, top};

mod commands;
mod mouse;

#[cfg(test)]
pub use mouse::item_at;

/// What keys go to.
pub enum Mode {
    /// The view.
    Normal,
    /// A line that is being typed.
    Typing(Box<Typing>),
    /// The help, scrolled by so many lines.
    Help(usize),
    /// A menu.
    Menu(Menu),
}

/// The whole state.
pub struct App {
    pub cx: Context,
    views: Vec<Box<dyn View>>,
    /// What made them: another case gets new ones.
    makers: Vec<fn() -> Box<dyn View>>,
    pub mode: Mode,
    /// The number that is being typed in front of a movement.
    times: String,
}

impl App {
    /// The application with a case that is about to be read.
    ///
    /// # Errors
    /// When no logbook can be used, or the settings name no command.
    pub fn open(case: Case, sender: Sender<Event<Context>>, settings: Settings) -> Result<Self> {
        Self::with_views(case, sender, settings, VIEWS)
    }

    /// The same with these views.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub fn with_views(
        case: Case,
        sender: Sender<Event<Context>>,
        settings: Settings,
        makers: &[fn() -> Box<dyn View>],
    ) -> Result<Self> {
        let views: Vec<Box<dyn View>> = makers.iter().map(|new| new()).collect();
        let makers = makers.to_vec();
        let keymap = Keymap::new(table(&views), &settings.keys)?;
        Ok(Self {
            cx: Context::open(case, sender, settings, keymap)?,
            views,
            makers,
            mode: Mode::Normal,
            times: String::new(),
        })
    }

    fn view(&self) -> &dyn View {
        let here = self.views.iter().find(|view| view.spec().id == self.cx.at);
        // There is always the Stream.
        &**here.unwrap_or(&self.views[0])
    }

    fn with_view<T>(&mut self, run: impl FnOnce(&mut dyn View, &mut Context) -> T) -> T {
        let at = self.cx.at;
        let here = self.views.iter().position(|view| view.spec().id == at).unwrap_or(0);
        run(&mut *self.views[here], &mut self.cx)
    }

    /// The chosen item of the view that is shown.
    #[cfg(test)]
    pub fn chosen_item(&self) -> usize {
        self.view().list_state().cursor
    }

    /// How many items the view that is shown has.
    #[cfg(test)]
    pub fn items_shown(&self) -> usize {
        self.view().len(&self.cx)
    }

    /// The view of that kind, for looking into it.
    #[cfg(test)]
    pub fn view_of<V: View>(&mut self) -> &mut V {
        let mut views = self.views.iter_mut().map(|view| &mut **view as &mut dyn std::any::Any);
        views.find_map(|view| view.downcast_mut()).expect("a view of that kind")
    }

    /// What is fixed about each view.
    pub fn specs(&self) -> Vec<&'static Spec> {
        self.views.iter().map(|view| view.spec()).collect()
    }

    /// Makes ready what the next frame shows.
    pub fn prepare(&mut self, width: u16, height: u16) {
        let (has_pane, cx) = (self.view().spec().has_pane, &mut self.cx);
        let hosts = match &cx.rail.density {
            Some(density) => density.lanes(),
            None => cx.view.loaded.table.hosts.len().saturating_sub(1),
        };
        let pane = (has_pane && cx.pane.is_shown).then_some(cx.settings.pane);
        cx.layout = Layout::of(width, height, hosts, pane);
        if cx.pane.is_over && has_pane && cx.layout.is_narrow() {
            cx.layout = cx.layout.with_reading_over();
        }
        self.with_view(|view, cx| {
            view.prepare(cx);
            let (len, spec) = (view.len(cx), view.spec());
            view.list().keep_in_sight(len, list_height(spec, cx.layout.middle.height));
        });
        if matches!(&self.mode, Mode::Typing(typing) if typing.question.live == Live::Lookup) {
            self.cx.ask(&boxclock_core::report::codes::CodeAnalysis::default(), ("codes", 1));
        }
        self.cx.prepare_detail();
        self.cx.prepare_rail();
    }

    /// Draws a frame: nothing is changed.
    pub fn draw(&self, frame: &mut Frame<'_>) {
        let (cx, layout, specs) = (&self.cx, &self.cx.layout, self.specs());
        top::draw(cx, &specs, frame);
        if layout.rail.width > 0 {
            rail_view::draw(cx, frame, layout.rail);
        }
        let view = self.view();
        view.draw(cx, frame, layout.middle);
        if layout.reading.width > 0 {
            self.pane().draw(frame, layout.reading);
        }
        let counts = view.counts(cx);
        match &self.mode {
            Mode::Typing(typing) => bottom::draw_typing(cx, typing, &counts, frame),
            _ => bottom::draw(cx, &counts, &self.times, frame),
        }
        match &self.mode {
            Mode::Menu(menu) => overlay::menu(cx, menu, frame),
            Mode::Help(scrolled) => overlay::help(cx, &specs, *scrolled, frame),
            Mode::Typing(typing) => match typing.question.live {
                Live::Filter => overlay::completions(cx, typing, frame),
                Live::Lookup => lookup::draw(cx, typing.chosen, typing.input.value(), &typing.found, frame),
                Live::Finder => overlay::finder(cx, typing.chosen, typing.input.value(), frame),
                Live::Nothing | Live::Find => {}
            },
            Mode::Normal => {}
        }
    }

    fn pane(&self) -> Pane<'_> {
        let mut pane = Pane::new(&self.cx, self.cx.layout.reading.width);
        self.view().pane(&self.cx, &mut pane);
        pane
    }

    /// Takes one event.
    pub fn event(&mut self, event: Event<Context>) {
        match event {
            Event::Done(number, done) => {
                if self.cx.jobs.accept(number) {
                    match done {
                        Ok(apply) => apply(&mut self.cx),
                        Err(error) => self.cx.fail(&error),
                    }
                }
            }
            Event::Came(apply) => apply(&mut self.cx),
            Event::Tick => {}
            Event::Input(Input::Key(key)) if key.kind != KeyEventKind::Release => self.key(key),
            Event::Input(Input::Mouse(mouse)) => self.mouse(mouse),
            Event::Input(Input::Paste(text)) => {
                if let Mode::Typing(typing) = &mut self.mode {
                    typing.paste(&mut self.cx, &text);
                }
            }
            Event::Input(_) => {}
        }
        if let Some(case) = self.cx.replacement.take() {
            self.take_over(case);
        }
        if let Some(question) = self.cx.question.take() {
            self.then(Ok(question));
        }
    }

    /// Takes a case that was opened in the place of the one that is shown.
    fn take_over(&mut self, case: Case) {
        let was_empty = self.cx.view.case.paths.is_empty();
        let views: Vec<Box<dyn View>> = self.makers.iter().map(|new| new()).collect();
        let (sender, settings, keymap) = (self.cx.jobs.sender(), self.cx.settings.clone(), self.cx.keymap.clone());
        // The intake is done where its story is in the box: what was typed for another case stays.
        let has_story = case.seal.is_some() && case.story == self.cx.story;
        match Context::open(case, sender, settings, keymap) {
            Ok(mut next) => {
                next.theme = self.cx.theme;
                next.shelf.clone_from(&self.cx.shelf);
                if was_empty && has_story {
                    let emptied = Story::FIELDS.iter().try_for_each(|(key, ..)| self.cx.logbook.set_story(key, ""));
                    next.logbook_notice = emptied.err().map(|error| error.to_string());
                }
                (self.cx, self.views, self.mode) = (next, views, Mode::Normal);
                self.show("box");
                self.cx.back.clear();
                self.cx.load();
            }
            Err(error) => self.cx.fail(&error),
        }
    }

    /// Shows a view.
    pub fn show(&mut self, id: ViewId) {
        if self.cx.at != id {
            self.cx.note_jump();
            self.cx.at = id;
        }
        self.with_view(super::view::View::open);
    }

    /// Does what a command asks for.
    fn then(&mut self, then: Result<Then>) {
        match then {
            Ok(Then::Stay) => {}
            Ok(Then::Say(text)) => self.cx.message = Some(text),
            Ok(Then::Go(row)) => self.cx.jump_to_row(row),
            Ok(Then::Show(id)) => {
                self.cx.at = id;
                self.with_view(super::view::View::open);
            }
            Ok(Then::Ask(question)) => self.mode = Mode::Typing(Box::new(Typing::new(question))),
            Ok(Then::Choose(menu)) => self.mode = Mode::Menu(menu),
            Ok(Then::Answer(question, text)) => {
                let then = self.with_view(|view, cx| view.answer(cx, question, &text));
                self.then(then);
            }
            Err(error) => self.cx.fail(&error),
        }
    }

    /// Gives a command, so many times.
    fn give(&mut self, (scope, at): (Scope, usize), times: usize) {
        let then = match scope {
            Scope::Everywhere => commands::run(self, at, times),
            Scope::View(id) => {
                if self.cx.at != id {
                    self.show(id);
                }
                self.with_view(|view, cx| view.run(cx, at, times))
            }
        };
        self.then(then);
        self.cx.look_at_chosen();
    }

    fn key(&mut self, key: KeyEvent) {
        self.cx.message = None;
        match &mut self.mode {
            Mode::Typing(typing) => match typing.key(&mut self.cx, key) {
                Typed::On => {}
                Typed::Accept => self.accept(),
                Typed::GiveUp => self.give_up(),
            },
            Mode::Help(top) => match key.code {
                KeyCode::Down | KeyCode::Char('j') => *top += 1,
                KeyCode::Up | KeyCode::Char('k') => *top = top.saturating_sub(1),
                KeyCode::PageDown | KeyCode::Char(' ') => *top += 10,
                KeyCode::PageUp => *top = top.saturating_sub(10),
                KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => self.cx.quit = true,
                _ => self.mode = Mode::Normal,
            },
            Mode::Menu(menu) => match key.code {
                KeyCode::Down | KeyCode::Tab => {
                    menu.chosen = (menu.chosen + 1).min(menu.shown().len().saturating_sub(1));
                }
                KeyCode::Up | KeyCode::BackTab => menu.chosen = menu.chosen.saturating_sub(1),
                KeyCode::PageDown | KeyCode::End => menu.chosen = menu.shown().len().saturating_sub(1),
                KeyCode::PageUp | KeyCode::Home => menu.chosen = 0,
                KeyCode::Enter => {
                    let Some(at) = menu.shown().get(menu.chosen).copied() else { return };
                    let choice = menu.items[at].1.clone();
                    self.mode = Mode::Normal;
                    let then = choice(&mut self.cx);
                    self.then(then);
                }
                KeyCode::Backspace => {
                    menu.typed.pop();
                    menu.chosen = 0;
                }
                // Letters narrow it: what is typed on is not taken for commands.
                KeyCode::Char(c) if !key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT) => {
                    menu.typed.push(c);
                    menu.chosen = 0;
                }
                _ => self.mode = Mode::Normal,
            },
            Mode::Normal if !self.times.is_empty() => self.counted(key),
            Mode::Normal if key.code == KeyCode::Esc => self.escape(),
            Mode::Normal => {
                if let Some(command) = self.cx.keymap.find(key, self.cx.at) {
                    self.give(command, 1);
                }
            }
        }
    }

    /// Takes a digit of a count, or the movement that it is for.
    fn counted(&mut self, key: KeyEvent) {
        // Further than anybody goes by hand.
        const MAX_TIMES: usize = 1_000_000;
        if let KeyCode::Char(digit @ '0'..='9') = key.code {
            self.times.push(digit);
            return;
        }
        let times = std::mem::take(&mut self.times).parse::<usize>().unwrap_or(1).clamp(1, MAX_TIMES);
        if let Some(command) = self.cx.keymap.find(key, self.cx.at) {
            self.give(command, times);
        }
    }

    /// Esc leaves what is narrowest: what is written, the pane, what the view has, then the view.
    fn escape(&mut self) {
        if self.cx.jobs.is_running(WRITE) {
            self.cx.jobs.cancel(WRITE);
            self.cx.message = Some("Stopped. The unfinished file was removed.".into());
        } else if self.cx.pane.is_over {
            self.cx.pane.is_over = false;
        } else if self.with_view(super::view::View::escape) {
            // That was it.
        } else if self.cx.stream.find.is_some() {
            self.cx.stop_looking();
        } else if self.cx.at != STREAM {
            self.cx.at = STREAM;
        }
    }

    /// Enter on the line that is typed: what is wrong stays on the line, with what is wrong.
    fn accept(&mut self) {
        let Mode::Typing(typing) = std::mem::replace(&mut self.mode, Mode::Normal) else { return };
        let text = typing.input.value().to_owned();
        typing.note(&mut self.cx);
        match typing.question.live {
            Live::Filter if self.cx.stream.filter_error.is_some() => {
                self.mode = Mode::Typing(typing);
                return;
            }
            Live::Finder => {
                let offered = self.cx.keymap.offered(&text);
                let chosen = offered.get(typing.chosen.min(offered.len().saturating_sub(1)));
                if let Some(command) = chosen.map(|row| (row.scope, row.at)) {
                    self.give(command, 1);
                }
                return;
            }
            Live::Lookup => {
                let found = &typing.found;
                let Some(code) = found.get(typing.chosen.min(found.len().saturating_sub(1))).map(|info| info.code)
                else {
                    return;
                };
                let then = self.cx.show_code(code);
                if matches!(&then, Ok(Then::Say(_))) && self.cx.at != STREAM
                    || self.cx.known_codes().is_none_or(|codes| !codes.iter().any(|row| row.code == code))
                {
                    // The case has none: the meaning stays on the screen.
                    self.mode = Mode::Typing(typing);
                }
                self.then(then);
                return;
            }
            Live::Filter | Live::Find | Live::Nothing => {}
        }
        let then = match &typing.question.taker {
            Taker::Call(accept) => accept.clone()(&mut self.cx, &text),
            Taker::View(question) => self.with_view(|view, cx| view.answer(cx, question, &text)),
        };
        if then.is_err() {
            self.mode = Mode::Typing(typing);
        }
        self.then(then);
    }

    fn give_up(&mut self) {
        let Mode::Typing(typing) = std::mem::replace(&mut self.mode, Mode::Normal) else { return };
        match typing.question.live {
            Live::Filter => {
                let before = std::mem::take(&mut self.cx.stream.filter_before);
                let set = self.cx.set_filter(&before).map(|()| Then::Stay);
                self.then(set);
            }
            // The hits stay marked, and n and N go on to them.
            Live::Find => self.cx.go(self.cx.stream.find_from),
            _ => {}
        }
    }
}

impl Context {
    /// Shows or hides the reading pane: in its place, or over the view where it has none.
    pub fn toggle_pane(&mut self) {
        if self.layout.is_narrow() {
            self.pane.is_over = !self.pane.is_over;
        } else {
            self.pane.is_shown = !self.pane.is_shown;
        }
    }

    /// Puts the reading pane under the view, or beside it.
    pub fn toggle_pane_place(&mut self) {
        let is_below = self.layout.reading.y > self.layout.middle.y;
        self.settings.pane = if is_below { PanePlace::Beside } else { PanePlace::Below };
        self.pane.is_shown = true;
    }
}

/// All commands: those for everywhere, with the views' own keys, then view by view.
pub fn table(views: &[Box<dyn View>]) -> Vec<Binding> {
    let mut rows = bindings(Scope::Everywhere, commands::COMMANDS);
    let count = rows.len();
    rows.extend(views.iter().enumerate().map(|(at, view)| {
        let spec = view.spec();
        Binding {
            scope: Scope::Everywhere,
            at: count + at,
            name: spec.id,
            keys: vec![spec.key.to_owned()],
            short: spec.id,
            long: spec.about,
        }
    }));
    rows.extend(views.iter().flat_map(|view| view.bindings()));
    rows
}
