//! The full-screen application.
//!
//! [`app::App`] takes events and draws frames. What all views share is in [`context`]; each view is one file below [`view`] and
//! is registered there by one line. Long work runs in [`jobs`] and comes back as what is to be done with its result. Each view
//! has a table of its commands ([`commands`]), which feeds keys, help, finder, bottom line and guide. Nothing here parses or
//! computes: that is the core's work.

mod app;
mod bottom;
mod collecting;
mod commands;
mod context;
mod inbox;
mod jobs;
mod layout;
mod lookup;
mod overlay;
mod pane;
mod pane_state;
mod rail;
mod rail_view;
mod settings;
mod stream;
mod text;
mod theme;
mod top;
mod typing;
mod view;

#[cfg(test)]
mod tests;

use std::io::{self, Write};
use std::path::Path;
use std::time::Instant;

use boxclock_core::case::Case;
use boxclock_core::gather::DiskUse;
use boxclock_core::shelf::Shelf;
use boxclock_core::{Error, Result, platform};
use crossterm::clipboard::CopyToClipboard;
use ratatui::crossterm::event::{
    self, DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture,
};
use ratatui::crossterm::execute;

use app::App;
use context::Context;
use jobs::Event;
use settings::Settings;

/// Opens the case full-screen and stays until the user quits. `log` is the program's own log, to be named after a failure.
///
/// # Errors
/// When the terminal cannot be used, the settings are wrong, or the logbook cannot be opened.
pub fn run(case: Case, follow: bool, log: Option<&Path>) -> Result<()> {
    let (sender, receiver) = crossbeam_channel::unbounded();
    let settings = Settings::load()?;
    let mut app = App::open(case, sender.clone(), settings)?;
    app.cx.shelf = Shelf::usual_path();
    if app.cx.is_new() {
        // Nothing to look at yet: it begins with what was opened before, or with what happened.
        app.show(if app.cx.shelf.as_ref().is_some_and(|path| path.exists()) { "shelf" } else { "story" });
    }
    let cannot = |error: io::Error| Error::caused("cannot use the terminal", error);
    let mut terminal = ratatui::try_init().map_err(cannot)?;
    take_over_panics(&app.cx.logbook.path().display().to_string(), log);
    let with_mouse = !app.cx.settings.no_mouse;
    take_input(with_mouse).map_err(cannot)?;
    std::thread::spawn(move || {
        while let Ok(event) = event::read() {
            if sender.send(Event::Input(event)).is_err() {
                break;
            }
        }
    });
    app.cx.load();
    if follow {
        app.cx.follow(false);
    }
    let mut frames = FrameTrace::from_environment();
    let ended = main_loop(&mut terminal, &mut app, &receiver, &mut frames).map_err(cannot);
    let ended = ended.and_then(|()| frames.write());
    let restored =
        execute!(io::stdout(), DisableMouseCapture, DisableBracketedPaste).and_then(|()| ratatui::try_restore());
    ended.and(restored.map_err(cannot))
}

/// A panic of the main thread restores the terminal and says where everything is kept. One of another thread is an error of its
/// job, which the screen shows: the terminal is left alone.
fn take_over_panics(logbook: &str, log: Option<&Path>) {
    let previous = std::panic::take_hook();
    let kept = match log {
        Some(log) => format!("what you added is kept in {logbook}; the program's log is {}", log.display()),
        None => format!("what you added is kept in {logbook}"),
    };
    std::panic::set_hook(Box::new(move |info| {
        tracing::error!("panic: {info}");
        if std::thread::current().name() != Some("main") {
            return;
        }
        // The terminal first, or the words below would not be seen. If it is gone, there is nothing to restore.
        let _ = execute!(io::stdout(), DisableMouseCapture, DisableBracketedPaste);
        previous(info);
        boxclock_says(&format!("the program failed; {kept}"));
    }));
}

fn boxclock_says(text: &str) {
    // Where nobody reads it, there is nobody to tell.
    let _ = writeln!(std::io::stderr(), "boxclock: {text}");
}

/// How long each key took until its frame was drawn, for measuring: kept where the environment names a file for it.
struct FrameTrace {
    file: Option<std::path::PathBuf>,
    began: Option<Instant>,
    micros: Vec<u128>,
}

impl FrameTrace {
    fn from_environment() -> Self {
        Self { file: std::env::var_os("BOXCLOCK_FRAMES").map(Into::into), began: None, micros: Vec::new() }
    }

    /// An event has come in; keys start the clock.
    fn met(&mut self, event: &Event<Context>) {
        if self.file.is_some() && matches!(event, Event::Input(event::Event::Key(_))) {
            self.began.get_or_insert_with(Instant::now);
        }
    }

    /// A frame is on the screen.
    fn drawn(&mut self) {
        self.micros.extend(self.began.take().map(|began| began.elapsed().as_micros()));
    }

    /// Writes microseconds, one key a line.
    fn write(&self) -> Result<()> {
        let Some(file) = &self.file else { return Ok(()) };
        let lines: Vec<String> = self.micros.iter().map(u128::to_string).collect();
        std::fs::write(file, lines.join("\n") + "\n").map_err(|error| Error::at(file, "cannot write", error))
    }
}

/// Gives a text to the clipboard of the terminal: the control sequence OSC 52, which also works over ssh. A terminal that does
/// not allow it ignores it.
fn copy_to_terminal(text: &str) -> io::Result<()> {
    execute!(io::stdout(), CopyToClipboard::to_clipboard_from(text))
}

/// Has the terminal send what is pasted in one piece, and what the mouse does, where that is wanted.
fn take_input(with_mouse: bool) -> io::Result<()> {
    if with_mouse {
        execute!(io::stdout(), EnableMouseCapture)?;
    }
    execute!(io::stdout(), EnableBracketedPaste)
}

/// Gives the terminal back to the shell until the program is continued.
fn suspend(terminal: &mut ratatui::DefaultTerminal, with_mouse: bool) -> io::Result<()> {
    execute!(io::stdout(), DisableMouseCapture, DisableBracketedPaste)?;
    ratatui::try_restore()?;
    platform::suspend();
    *terminal = ratatui::try_init()?;
    take_input(with_mouse)
}

/// Waits for events, takes all that wait, changes the state, draws once.
fn main_loop(
    terminal: &mut ratatui::DefaultTerminal,
    app: &mut App,
    events: &crossbeam_channel::Receiver<Event<Context>>,
    frames: &mut FrameTrace,
) -> io::Result<()> {
    while !app.cx.quit {
        if let Some(path) = app.cx.next.take() {
            app.cx.open_next(path, DiskUse::Share);
        }
        let size = terminal.size()?;
        app.prepare(size.width, size.height);
        terminal.draw(|frame| app.draw(frame))?;
        frames.drawn();
        if let Some(text) = app.cx.clipboard.take() {
            copy_to_terminal(&text)?;
        }
        if std::mem::take(&mut app.cx.suspend) {
            suspend(terminal, !app.cx.settings.no_mouse)?;
            continue;
        }
        let Ok(first) = events.recv() else { break };
        frames.met(&first);
        app.event(first);
        for event in events.try_iter().take(256) {
            frames.met(&event);
            app.event(event);
        }
    }
    Ok(())
}
