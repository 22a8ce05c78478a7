//! The commands for everywhere.

use boxclock_core::Result;

use super::{App, Mode};
use crate::commands::Command;
use crate::context::{Live, Question, Then};
use crate::view::list_height;

/// The table; the views' own keys stand behind it.
pub(super) const COMMANDS: &[Command<App, (), Then>] = &[
    row("up", &["Up", "k"], "up", "move one up", |app, (), times| Ok(app.move_by(-by(times)))),
    row("down", &["Down", "j"], "down", "move one down", |app, (), times| Ok(app.move_by(by(times)))),
    row("page-up", &["PageUp", "Ctrl-B"], "page up", "move one page up", |app, (), times| {
        Ok(app.move_by(app.page().saturating_mul(-by(times))))
    }),
    row("page-down", &["PageDown", "Space", "Ctrl-F"], "page down", "move one page down", |app, (), times| {
        Ok(app.move_by(app.page().saturating_mul(by(times))))
    }),
    row("half-page-up", &["Ctrl-U"], "half up", "move half a page up", |app, (), times| {
        Ok(app.move_by((app.page() / 2).max(1).saturating_mul(-by(times))))
    }),
    row("half-page-down", &["Ctrl-D"], "half down", "move half a page down", |app, (), times| {
        Ok(app.move_by((app.page() / 2).max(1).saturating_mul(by(times))))
    }),
    row("first", &["Home", "g"], "first", "go to the first; ;25g goes to number 25", |app, (), times| {
        if times > 1 {
            app.with_view(|view, cx| view.move_to(cx, times));
            return Ok(Then::Stay);
        }
        app.cx.note_jump();
        Ok(app.move_by(isize::MIN))
    }),
    row("last", &["End", "G"], "last", "go to the last", |app, (), times| {
        if times > 1 {
            app.with_view(|view, cx| view.move_to(cx, times));
            return Ok(Then::Stay);
        }
        app.cx.note_jump();
        Ok(app.move_by(isize::MAX))
    }),
    row("count", &[";"], "count", "a number for the next movement: ;25] goes 25 problems forward", |app, (), _| {
        app.times = "0".into();
        Ok(Then::Stay)
    }),
    row("enter", &["Enter"], "open", "open: edit the field, or go to its place in the Stream", |app, (), _| {
        app.with_view(super::super::view::View::enter)
    }),
    row("jump-back", &["Backspace"], "back", "go back to where you came from", |app, (), _| {
        Ok(app.cx.jump_back(false))
    }),
    row("jump-forward", &["'"], "forward", "go forward again after going back", |app, (), _| {
        Ok(app.cx.jump_back(true))
    }),
    row("pane", &["i"], "pane", "show or hide the reading pane", |app, (), _| {
        app.cx.toggle_pane();
        Ok(Then::Stay)
    }),
    row("pane-place", &["I"], "pane ⇄", "put the reading pane under the view, or beside it", |app, (), _| {
        app.cx.toggle_pane_place();
        Ok(Then::Stay)
    }),
    row("lookup", &["#"], "look up", "look up a code in any writing, or by words of its meaning", |_, (), _| {
        let help = "arrows select, Enter shows its events in this case, Esc closes";
        let question = Question::new("code or words", help, "", |_, _| Ok(Then::Stay));
        Ok(Then::Ask(Question { live: Live::Lookup, ..question }))
    }),
    row("escalate", &["!"], "escalate", "count lines that carry failure codes as problems, or not", |app, (), _| {
        app.cx.toggle_escalation()
    }),
    row("undo", &["u"], "undo", "undo the last change of the logbook", |app, (), _| app.cx.undo_last()),
    row(
        "open-as-hosts",
        &["Ctrl-O"],
        "as hosts",
        "open each folder of this case as a host of its own",
        |app, (), _| Ok(app.cx.open_as_hosts()),
    ),
    row("finder", &["Ctrl-K"], "commands", "find any command by name", |_, (), _| {
        let help = "words of what you want to do; arrows select, Enter does it";
        let question = Question::new("command", help, "", |_, _| Ok(Then::Stay));
        Ok(Then::Ask(Question { live: Live::Finder, ..question }))
    }),
    row("help", &["?"], "help", "show this help", |app, (), _| {
        app.mode = Mode::Help(0);
        Ok(Then::Stay)
    }),
    row("suspend", &["Ctrl-Z"], "suspend", "go to the shell for a while; fg comes back", |app, (), _| {
        app.cx.suspend = true;
        Ok(Then::Stay)
    }),
    row("quit", &["q", "Ctrl-C"], "quit", "quit; everything is saved", |app, (), _| {
        app.cx.quit = true;
        Ok(Then::Stay)
    }),
];

const fn row(
    name: &'static str,
    keys: &'static [&'static str],
    short: &'static str,
    long: &'static str,
    run: fn(&mut App, &mut (), usize) -> Result<Then>,
) -> Command<App, (), Then> {
    Command { name, keys, short, long, run }
}

fn by(times: usize) -> isize {
    isize::try_from(times).unwrap_or(isize::MAX)
}

/// Gives the command at a place of the table, or shows the view whose key stands behind it.
pub(super) fn run(app: &mut App, at: usize, times: usize) -> Result<Then> {
    if let Some(command) = COMMANDS.get(at) {
        (command.run)(app, &mut (), times)
    } else {
        if let Some(spec) = app.specs().get(at - COMMANDS.len()) {
            app.show(spec.id);
        }
        Ok(Then::Stay)
    }
}

impl App {
    fn move_by(&mut self, by: isize) -> Then {
        self.with_view(|view, cx| view.move_by(cx, by));
        Then::Stay
    }

    fn page(&self) -> isize {
        let height = list_height(self.view().spec(), self.cx.layout.middle.height);
        height.saturating_sub(2).max(1).cast_signed()
    }
}
