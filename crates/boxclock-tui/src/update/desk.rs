//! The desk: its form, and starting and stopping what it does.

use boxclock_core::Result;
use tui_input::Input;

use super::act;
use crate::app::{App, Mode, Prompt, Step};
use crate::desk::{DeskRow, Task};

/// Shows the desk, with what the story suggests in its fields.
pub(super) fn show(app: &mut App) {
    app.desk.suggest(&app.story, &app.case);
    act::to_step(app, Step::Desk);
}

fn chosen(app: &App) -> Option<DeskRow> {
    app.desk.rows().into_iter().nth(app.list_cursor(Step::Desk))
}

/// Sets the desk to the next task, or the one before.
pub(super) fn turn(app: &mut App, back: bool) {
    if app.desk.running.is_some() {
        app.message = Some("something goes on: x stops it".into());
        return;
    }
    let all = Task::ALL;
    let here = all.iter().position(|task| *task == app.desk.task()).unwrap_or(0);
    let next = (here + if back { all.len() - 1 } else { 1 }) % all.len();
    app.desk.task = Some(all[next]);
    app.desk.said.clear();
    app.desk.made = None;
    app.lists.insert(Step::Desk, (0, 0));
}

/// Edits the chosen field, or turns its switch.
pub(super) fn enter(app: &mut App) {
    let Some(DeskRow::Field(field)) = chosen(app) else { return };
    let (key, ..) = app.desk.task().fields()[field];
    let text = app.desk.text(key).to_owned();
    if app.desk.is_switch(key) {
        app.desk.set(key, if text == "yes" { "no" } else { "yes" }.into());
        return;
    }
    app.mode = Mode::Typing(Prompt::Desk(key), Input::new(text));
}

/// Shows what would be done, or does it.
pub(super) fn begin(app: &mut App, preview: bool) {
    let (story, case, sender) = (app.story.clone(), std::sync::Arc::clone(&app.case), app.jobs.sender());
    let begun = if preview { app.desk.preview(&story, &case, &sender) } else { app.desk.run(&story, &case, &sender) };
    say(app, begun);
}

fn say(app: &mut App, done: Result<()>) {
    if let Err(error) = done {
        app.message = Some(error.to_string());
    }
}

/// Stops the chosen host, or everything.
pub(super) fn stop(app: &mut App) {
    let host = match chosen(app) {
        Some(DeskRow::Host(label)) => Some(label),
        _ => None,
    };
    app.message = Some(app.desk.stop(host.as_deref()).into());
}

/// Opens what was made, in the place of the case that is open.
pub(super) fn open(app: &mut App) {
    match app.desk.made.clone() {
        Some(path) => app.next = Some(path),
        None => app.message = Some("nothing was made yet".into()),
    }
}
