//! Changing the state: one function per event, no drawing.

use std::path::PathBuf;
use std::sync::Arc;

use boxclock_core::case::{Case, Loaded};
use boxclock_core::clock::{DAY, SECOND, human};
use boxclock_core::event::Row;
use boxclock_core::logbook::Story;
use boxclock_core::query::Filter;
use boxclock_core::report::codes::{CodeCount, sort};
use ratatui::crossterm::event::{Event as Input, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};

use crate::app::{App, Mode, Step};
use crate::jobs::{Added, Arrangement, Event, Folded, Kind, Outcome, ViewRows};
use crate::keys;

pub(crate) use sources::is_off;

mod act;
mod codes;
mod desk;
mod menu;
mod mouse;
mod sources;
mod typing;
mod workspace;
pub use typing::{offered, typed};
pub(crate) use workspace::open as open_workspace;

/// Takes one event.
pub fn event(app: &mut App, event: Event) {
    match event {
        Event::Loaded(number, loaded) if app.jobs.is_reading(number) => take_loaded(app, loaded),
        Event::Loaded(..) => {}
        Event::Done(number, outcome) => {
            if app.jobs.accept(number) {
                done(app, outcome);
            }
        }
        Event::Grown(case, loaded, folded) if app.workspace.follow.is_some() => {
            workspace::grown(app, *case, loaded, folded);
        }
        // What was followed is not open any more.
        Event::Grown(..) => {}
        Event::Behind(bytes) => {
            if let Some(follow) = &mut app.workspace.follow {
                follow.behind = bytes;
            }
        }
        Event::Desk(number, done) => app.desk.take(number, done),
        Event::Next(opened) => take_next(app, *opened),
        Event::Opened(case) => sources::reopened(app, *case),
        Event::Input(Input::Key(key)) if key.kind != KeyEventKind::Release => self::key(app, key),
        Event::Input(Input::Mouse(mouse)) => mouse::take(app, mouse),
        Event::Input(Input::Paste(text)) => typing::paste(app, &text),
        Event::Input(_) => {}
    }
}

/// Takes what the desk made, in the place of the case that is open.
fn take_next(app: &mut App, opened: boxclock_core::Result<Case>) {
    let next = opened.and_then(|case| App::open(case, app.jobs.sender()));
    match next {
        Ok(next) => {
            // The intake is done: its story is in the box.
            if app.case.paths.is_empty() && next.case.seal.is_some() {
                let emptied = Story::FIELDS.iter().try_for_each(|(key, ..)| app.logbook.set_story(key, ""));
                app.logbook_notice = emptied.err().map(|error| error.to_string());
            }
            let (theme, settings) = (app.theme, std::mem::take(&mut app.settings));
            *app = next;
            app.use_settings(theme, settings);
            workspace::open(app);
            app.step = Step::Box;
            app.load();
        }
        Err(error) => app.message = Some(error.to_string()),
    }
}

/// While a case is read, what is looked at is read first.
fn look_at(app: &App) {
    if !app.loaded.complete
        && let Some(time) = app.chosen().and_then(|event| event.time())
    {
        app.jobs.look_at(time);
    }
}

/// Takes a new table: everything derived from the old one is worked out anew, the chosen event stays chosen.
fn take_loaded(app: &mut App, loaded: Loaded) {
    take_table(app, loaded, None);
}

/// As [`take_loaded`], with the folded runs of the new table where they are known already.
fn take_table(app: &mut App, loaded: Loaded, folded: Option<Folded>) {
    // What was worked out for the old table does not fit the new one, whose rows have other numbers.
    app.jobs.cancel(Kind::Hits);
    app.hits = None;
    app.reading = None;
    app.density_asked = None;
    app.workspace.patterns = folded.as_ref().map(|folded| Arc::clone(&folded.patterns));
    app.workspace.walk_places = None;
    app.workspace.inks.iter_mut().flatten().for_each(|ink| ink.rows = None);
    app.span = loaded.table.span;
    app.loaded = loaded;
    // What is folded stays so from the first frame on.
    let is_all = app.workspace.collapse && app.filter_text.is_empty() && !app.workspace.worst_first;
    app.view = folded.filter(|_| is_all).map_or_else(ViewRows::default, |folded| folded.view);
    if app.anchor.is_none() {
        // People start at the end and read upwards; events without time are behind it.
        app.cursor = app.place_of_time(i64::MAX).saturating_sub(1);
    } else {
        follow_anchor(app);
    }
    app.refresh();
    if app.loaded.complete {
        app.jobs.box_state(Arc::clone(&app.case), app.loaded.clone());
        workspace::when_complete(app);
    }
    ask_for_view(app);
}

/// Works out the rows that pass the filter in force.
fn ask_for_view(app: &mut App) {
    let (loaded, sources) = (app.loaded.clone(), Arc::clone(&app.case.sources));
    let filter = app.filter.clone().filter(|filter| !filter.is_empty());
    let filter = filter.map(|filter| filter.with_pins(app.pinned.keys().copied()));
    let patterns = app.workspace.patterns.clone().filter(|_| app.workspace.collapse);
    let arrangement = Arrangement { collapse: patterns, worst_first: app.workspace.worst_first };
    app.workspace.walk_places = None;
    app.jobs.view(loaded, sources, filter, arrangement);
}

fn ask_for_hits(app: &mut App) {
    app.hits = None;
    if let Some(find) = app.find.clone() {
        let (loaded, sources) = (app.loaded.clone(), Arc::clone(&app.case.sources));
        app.jobs.hits(loaded, sources, app.view.clone(), find);
    }
}

fn done(app: &mut App, outcome: Outcome) {
    match outcome {
        Outcome::View(view) => {
            let anchor = app.chosen().map(|event| event.row);
            app.view = view;
            match anchor {
                _ if std::mem::take(&mut app.workspace.to_first) => app.cursor = 0,
                _ if app.anchor.is_some() => follow_anchor(app),
                Some(row) => app.cursor = app.place_of_row(row).min(app.view_len().saturating_sub(1)),
                None => app.cursor = 0,
            }
            app.reading = None;
            app.workspace.overlay_of += 1;
            ask_for_hits(app);
        }
        Outcome::Hits(hits) => {
            app.hits = Some(hits);
            if std::mem::take(&mut app.find_moves) {
                act::to_hit(app, app.find_from, false, true);
            }
        }
        Outcome::Rail(density, labels) => (app.density, app.rail_labels) = (Some(density), labels),
        Outcome::Box(state) => {
            app.box_state = state;
            app.arrange_box();
        }
        Outcome::Values(values) => app.workspace.values = values,
        Outcome::Patterns(patterns) => {
            app.workspace.patterns = Some(patterns);
            // The reading pane says how often the chosen pattern is.
            app.reading = None;
            if app.workspace.collapse {
                ask_for_view(app);
            }
        }
        Outcome::Marks(marks) => app.workspace.marks = marks,
        Outcome::Ink(place, rows) => {
            if let Some(Some(ink)) = app.workspace.inks.get_mut(usize::from(place)) {
                ink.rows = Some(rows);
            }
            app.workspace.overlay_of += 1;
        }
        Outcome::Walk(places) => workspace::walked(app, places),
        Outcome::Overlay(overlay) => app.workspace.overlay = Some(overlay),
        Outcome::Codes(list) => take_codes(app, list),
        Outcome::Written(text) => app.message = Some(text),
        Outcome::Report(text) => app.report_text = text.lines().map(str::to_owned).collect(),
        Outcome::Relatives(code, near) => {
            if app.codes.relatives_asked == Some(code) {
                app.codes.relatives = Some(near);
            }
        }
        Outcome::Clocks(loaded) => {
            remember(app);
            take_loaded(app, loaded);
        }
        Outcome::Failed(reason) => {
            if !reason.is_empty() {
                app.message = Some(reason);
            }
        }
    }
}

/// Takes the codes of the case; the chosen one stays chosen.
fn take_codes(app: &mut App, list: Vec<CodeCount>) {
    let (cursor, top) = app.lists.get(&Step::Codes).copied().unwrap_or_default();
    let chosen = app.codes.list.get(cursor).map(|row| row.code);
    app.codes.list = list;
    app.codes.known = true;
    // The order may have been turned meanwhile.
    sort(&mut app.codes.list, app.codes.order);
    if let Some(place) = chosen.and_then(|code| app.codes.list.iter().position(|row| row.code == code)) {
        app.lists.insert(Step::Codes, (place, top));
    }
}

/// Puts the cursor on the remembered event, or where it would stand.
fn follow_anchor(app: &mut App) {
    let Some((source, offset)) = app.anchor else { return };
    let name = app.case.sources[source].name.clone();
    if let Some(row) = app.loaded.event_at(&app.case, &name, offset).map(|event| event.row) {
        app.cursor = app.place_of_row(row).min(app.view_len().saturating_sub(1));
    }
}

/// Remembers the chosen event by its place in its file, which stays when rows are numbered anew.
fn remember(app: &mut App) {
    app.anchor = app.chosen().map(|event| (event.source(), event.offset()));
}

/// Moves the cursor of the stream.
fn go(app: &mut App, place: usize) {
    app.cursor = place.min(app.view_len().saturating_sub(1));
    remember(app);
    follow_window(app);
}

/// Remembers where we are before a jump.
fn note_jump(app: &mut App) {
    let here = app.chosen().map(|event| (event.source(), event.offset()));
    let entry = (app.step, here);
    if app.back.last() != Some(&entry) {
        app.back.push(entry);
    }
}

/// Goes to an event in the Stream, from anywhere. A filter that hides it is taken away, and that is said.
fn jump_to_row(app: &mut App, row: Row) {
    note_jump(app);
    app.step = Step::Stream;
    let place = app.place_of_row(row);
    if app.row_at(place) == Some(row) {
        go(app, place);
        return;
    }
    if workspace::open_runs_for(app, row) {
        app.message = Some("runs are open again: this event stood inside of one".into());
        return;
    }
    app.message = Some(format!("the filter hid this event, so it was taken away: {}", app.filter_text));
    let event = app.loaded.table.event(row);
    app.anchor = Some((event.source(), event.offset()));
    typing::set_filter(app, "");
    app.view = ViewRows::default();
    app.cursor = app.place_of_row(row);
}

/// As [`jump_to_row`], for the tests.
#[cfg(test)]
pub(crate) fn jump_for_tests(app: &mut App, row: Row) {
    jump_to_row(app, row);
}

/// Moves the rail's window along when the cursor leaves it.
fn follow_window(app: &mut App) {
    let (Some((from, to)), Some(time)) = (app.window, app.chosen().and_then(|event| event.time())) else { return };
    if time < from || time > to {
        let half = (to - from) / 2;
        app.window = Some((time.saturating_sub(half), time.saturating_add(half)));
    }
}

fn key(app: &mut App, key: KeyEvent) {
    app.message = None;
    match &mut app.mode {
        Mode::Typing(..) => typing::key(app, key),
        Mode::Help(top) => match key.code {
            KeyCode::Down | KeyCode::Char('j') => *top += 1,
            KeyCode::Up | KeyCode::Char('k') => *top = top.saturating_sub(1),
            KeyCode::PageDown | KeyCode::Char(' ') => *top += 10,
            KeyCode::PageUp => *top = top.saturating_sub(10),
            KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => app.quit = true,
            _ => app.mode = Mode::Normal,
        },
        Mode::Menu(menu) => match key.code {
            KeyCode::Down | KeyCode::Char('j') => {
                menu.chosen = (menu.chosen + 1).min(menu.items.len().saturating_sub(1));
            }
            KeyCode::Up | KeyCode::Char('k') => menu.chosen = menu.chosen.saturating_sub(1),
            KeyCode::PageDown | KeyCode::End => menu.chosen = menu.items.len().saturating_sub(1),
            KeyCode::PageUp | KeyCode::Home => menu.chosen = 0,
            KeyCode::Enter => {
                let choice = menu.items.get(menu.chosen).map(|(_, choice)| choice.clone());
                app.mode = Mode::Normal;
                if let Some(choice) = choice {
                    menu::choose(app, choice);
                }
            }
            _ => app.mode = Mode::Normal,
        },
        Mode::Normal if !app.workspace.count.is_empty() => counted(app, key),
        Mode::Normal => {
            if key.code == KeyCode::Esc {
                escape(app);
            } else if let Some(action) = keys::action(key, app.step.scope()) {
                act::run(app, action);
            }
            look_at(app);
        }
    }
}

/// Takes a digit of a count, or the movement that it is for.
fn counted(app: &mut App, key: KeyEvent) {
    // Further than anybody goes by hand.
    const MOST: usize = 1_000_000;
    if let KeyCode::Char(digit @ '0'..='9') = key.code {
        app.workspace.count.push(digit);
        return;
    }
    let count = std::mem::take(&mut app.workspace.count).parse::<usize>().unwrap_or(1).clamp(1, MOST);
    let Some(action) = keys::action(key, app.step.scope()) else { return };
    act::run_times(app, action, count);
    look_at(app);
}

/// Esc leaves what is narrowest: the hits, then the view.
fn escape(app: &mut App) {
    if app.jobs.is_running(Kind::Write) {
        app.jobs.cancel(Kind::Write);
        app.message = Some("stopped; the unfinished file is taken away".into());
    } else if app.reading_over {
        app.reading_over = false;
    } else if app.workspace.link.take().is_some() || app.workspace.selected_from.take().is_some() {
        // That was it.
    } else if app.find.take().is_some() {
        app.hits = None;
        app.jobs.cancel(Kind::Hits);
    } else if app.step != Step::Stream {
        app.step = Step::Stream;
    }
}

/// The window that is `factor` times as wide as the one now, around the chosen event. `None` is the whole span.
fn scaled_window(app: &App, narrower: bool) -> Option<(i64, i64)> {
    let whole = app.span?;
    let (from, to) = app.rail_span()?;
    let centre = app.chosen().and_then(|event| event.time()).unwrap_or(from / 2 + to / 2);
    let width = to.saturating_sub(from);
    let width = if narrower { (width / 4).max(SECOND / 100) } else { width.saturating_mul(4) };
    if width >= whole.1.saturating_sub(whole.0) {
        return None;
    }
    let half = width / 2;
    Some((centre.saturating_sub(half), centre.saturating_add(half)))
}

/// Where a typed time leads: a time of day is meant on the day nearest to the chosen event on which it is in the case.
fn typed_time(app: &App, text: &str) -> boxclock_core::Result<i64> {
    let (first, last) = app.span.unwrap_or_default();
    let here = app.chosen().and_then(|event| event.time()).unwrap_or(first);
    let typed = human::time(text, &app.zone)?;
    let days = [0, -DAY, DAY].map(|shift| typed.near(here.saturating_add(shift), &app.zone));
    let inside = days.into_iter().filter(|time| (first..=last).contains(time));
    Ok(inside.min_by_key(|time| time.abs_diff(here)).unwrap_or(days[0]))
}

/// Writes the report as Markdown and its drawing as SVG beside it.
fn write_report(app: &mut App, path: &str) -> boxclock_core::Result<()> {
    workspace::nothing_is_written(app)?;
    let added = Added::of(app.report()?);
    app.jobs.report(Arc::clone(&app.case), app.loaded.clone(), added, Some(PathBuf::from(path.trim())));
    Ok(())
}

/// Takes a filter that is known to be good into force.
fn use_filter(app: &mut App, text: &str, filter: Filter) {
    text.clone_into(&mut app.filter_text);
    app.filter = Some(filter);
    app.filter_error = None;
    ask_for_view(app);
}
