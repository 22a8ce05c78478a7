//! A screen that is driven by keys: what it shows, and waiting for what it does.

use super::*;

pub(super) struct Screen {
    pub(super) app: App,
    pub(super) events: Receiver<Event<Context>>,
    pub(super) folder: boxclock_core::testing::TestCase,
}

impl Screen {
    /// A case of these files in a zone that was given, fully read, at 120 columns and 30 rows.
    pub(super) fn of(files: &[(&str, &str)]) -> Self {
        Self::with(boxclock_core::testing::case(files).zone("+02:00"), VIEWS)
    }

    /// A case, fully read, with these views.
    pub(super) fn with(folder: boxclock_core::testing::TestCase, views: &[fn() -> Box<dyn View>]) -> Self {
        let (sender, events) = crossbeam_channel::unbounded();
        let mut app = App::with_views(folder.open(), sender, Settings::default(), views).unwrap();
        app.cx.theme = Theme::plain();
        app.cx.load();
        let mut screen = Self { app, events, folder };
        while !screen.app.cx.view.loaded.complete {
            screen.take_one();
        }
        screen.settle();
        screen
    }

    /// Fails unless the screen of this size holds all of these texts.
    pub(super) fn shows(&mut self, (width, height): (u16, u16), texts: &[&str]) -> String {
        let drawn = self.draw(width, height);
        for text in texts {
            assert!(drawn.contains(text), "lacks {text:?}:\n{drawn}");
        }
        drawn
    }

    pub(super) fn take_one(&mut self) {
        let event = self.events.recv_timeout(std::time::Duration::from_secs(20)).expect("a job answers");
        self.app.event(event);
    }

    /// Waits until no job runs.
    pub(super) fn settle(&mut self) {
        self.settle_at((120, 30));
    }

    /// Waits until no job runs, in a terminal of this size.
    pub(super) fn settle_at(&mut self, (width, height): (u16, u16)) {
        self.app.prepare(width, height);
        while self.app.cx.jobs.any_runs() {
            self.take_one();
            self.app.prepare(width, height);
        }
    }

    /// Writes a field of the Collect view.
    pub(super) fn fill(&mut self, key: &'static str, text: impl Into<String>) {
        let tasks = &mut self.app.view_of::<CollectView>().tasks;
        tasks.set(key, text.into(), &boxclock_core::clock::Zone::utc()).unwrap();
    }

    /// Chooses a source in the Box view.
    pub(super) fn choose_source(&mut self, name: &str) {
        let sources = self.app.cx.sources.clone();
        let at = |row: &BoxRow| matches!(row, BoxRow::Source(index) if sources[*index].source == name);
        let place = self.app.view_of::<BoxView>().rows.iter().position(at).expect("a source of that name");
        self.keys("g");
        self.keys(&"j".repeat(place));
    }

    pub(super) fn key(&mut self, code: KeyCode) {
        self.app.event(Event::Input(Input::Key(KeyEvent::new(code, KeyModifiers::NONE))));
        self.settle();
    }

    /// Types text, each character a key; `\n` is Enter.
    pub(super) fn keys(&mut self, text: &str) {
        for c in text.chars() {
            self.key(if c == '\n' { KeyCode::Enter } else { KeyCode::Char(c) });
        }
    }

    /// As if only the first source had been read yet.
    pub(super) fn read_in_part(&mut self) {
        let whole = self.app.cx.view.loaded.clone();
        let mut table = (*whole.table).clone();
        table.parts.truncate(1);
        table.put_in_order();
        let mut part = whole;
        (part.table, part.complete, part.pieces) = (table.into(), false, std::sync::Arc::default());
        let reading = self.app.cx.jobs.load_id();
        self.app.cx.take_loaded(reading, part);
        self.settle();
    }

    /// Waits until the case was opened and read again.
    pub(super) fn read_again(&mut self) {
        let before = std::sync::Arc::clone(&self.app.cx.view.case);
        while std::sync::Arc::ptr_eq(&before, &self.app.cx.view.case) || !self.app.cx.view.loaded.complete {
            self.take_one();
        }
        self.settle();
    }

    pub(super) fn buffer(&mut self, width: u16, height: u16) -> Buffer {
        self.app.prepare(width, height);
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| self.app.draw(frame)).unwrap();
        terminal.backend().buffer().clone()
    }

    pub(super) fn draw(&mut self, width: u16, height: u16) -> String {
        let buffer = self.buffer(width, height);
        let row = |y| (0..width).map(|x| buffer[(x, y)].symbol()).collect::<String>().trim_end().to_owned();
        (0..height).map(row).collect::<Vec<_>>().join("\n")
    }

    pub(super) fn chosen(&mut self) -> String {
        self.draw(120, 30);
        let cursor = self.app.cx.stream.cursor;
        self.app
            .cx
            .stream
            .lines
            .iter()
            .find(|line| line.place == cursor)
            .map(|line| line.text.clone())
            .unwrap_or_default()
    }
}
