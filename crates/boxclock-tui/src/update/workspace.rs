//! Working in the Stream: inks, walks, pointing, lenses, the history of filters, folding, what is selected and written.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use boxclock_core::clock::Zone;
use boxclock_core::event::Row;
use boxclock_core::query::Lenses;
use boxclock_core::query::values::quoted;
use boxclock_core::report::chart::ChartKind;
use boxclock_core::report::events::{EventWriter, Form};
use boxclock_core::work::Work;
use boxclock_core::{Error, Result};
use tui_input::Input;

use super::{act, go, jump_to_row, note_jump, remember, typing};
use crate::app::{App, Mode, Prompt, Undo};
use crate::jobs::{Along, Chosen, Folded, Target};
use crate::workspace::{Go, INKS, Ink, Shown, Walk, parse_ink};

/// Events from which on patterns are worked out only when somebody asks for them.
const MANY: usize = 20_000_000;

/// What is worked out once the table is whole.
pub(super) fn when_complete(app: &mut App) {
    let (loaded, sources) = (app.loaded.clone(), Arc::clone(&app.case.sources));
    app.jobs.values(loaded.clone(), Arc::clone(&sources));
    if app.loaded.table.len() <= MANY {
        app.jobs.marks(loaded.clone(), Arc::clone(&sources));
        if app.workspace.patterns.is_none() {
            app.jobs.patterns(loaded, sources);
        }
    }
    for place in 0..INKS {
        look_for_ink(app, place);
    }
}

/// Reads inks and lenses from the logbook.
pub(crate) fn open(app: &mut App) {
    let (inks, own) = (app.logbook.inks(), app.logbook.lenses());
    match inks {
        Ok(inks) => {
            for (place, text) in inks {
                if let (Some(slot), Ok(filter)) =
                    (app.workspace.inks.get_mut(usize::from(place)), parse_ink(&text, &app.zone))
                {
                    *slot = Some(Ink { text, filter, rows: None });
                }
            }
        }
        Err(error) => app.message = Some(error.to_string()),
    }
    let mut lenses = Lenses::load();
    match own {
        Ok(own) => own.into_iter().for_each(|lens| lenses.add(lens)),
        Err(error) => app.message = Some(error.to_string()),
    }
    if let Some((file, mistake)) = lenses.wrong.first() {
        app.message = Some(format!("{file}: {mistake}"));
    }
    app.workspace.lenses = lenses.good;
}

fn look_for_ink(app: &mut App, place: usize) {
    app.workspace.overlay_of += 1;
    if let Some(ink) = app.workspace.inks.get(place).and_then(Option::as_ref) {
        let filter = ink.filter.clone();
        app.jobs.ink(place as u8, app.loaded.clone(), Arc::clone(&app.case.sources), filter);
    }
}

/// Asks for the next ink, with the word that is being looked for, if any.
pub(super) fn ask_ink(app: &mut App) {
    let Some(free) = app.workspace.inks.iter().position(Option::is_none) else {
        app.message = Some("all eight inks are in use: M takes one away".into());
        return;
    };
    let text = if app.find.is_some() { app.find_text.clone() } else { String::new() };
    app.mode = Mode::Typing(Prompt::Ink(free), Input::new(text));
}

/// Sets an ink, or with an empty text takes it away.
///
/// # Errors
/// When its text is wrong, or the logbook cannot be written.
pub(super) fn set_ink(app: &mut App, place: usize, text: &str) -> Result<()> {
    let text = text.trim();
    let ink = match text {
        "" => None,
        _ => Some(Ink { text: text.to_owned(), filter: parse_ink(text, &app.zone)?, rows: None }),
    };
    app.logbook.set_ink(place as u8, text)?;
    let before = std::mem::replace(&mut app.workspace.inks[place], ink);
    app.undo.push(Undo::Ink(place, before.map_or(String::new(), |ink| ink.text)));
    look_for_ink(app, place);
    Ok(())
}

/// Keeps the filter in force as a lens of this case, or with no filter forgets the one of that name.
///
/// # Errors
/// When the name is empty, or the logbook cannot be written.
pub(super) fn keep_lens(app: &mut App, name: &str) -> Result<()> {
    let name = name.trim();
    if name.is_empty() {
        return Err(Error::new("a lens needs a name"));
    }
    set_lens(app, name, &app.filter_text.clone())?;
    app.message = Some(format!("kept as the lens {name}; e offers it"));
    Ok(())
}

/// Sets a lens of the case, and notes how to take that back.
///
/// # Errors
/// When the logbook cannot be written.
pub(super) fn set_lens(app: &mut App, name: &str, filter: &str) -> Result<()> {
    let before = app.logbook.lenses()?.into_iter().find(|lens| lens.name == name);
    app.logbook.set_lens(name, filter)?;
    app.undo.push(Undo::Lens(name.to_owned(), before.map_or(String::new(), |lens| lens.filter)));
    let mut lenses = Lenses::load();
    app.logbook.lenses()?.into_iter().for_each(|lens| lenses.add(lens));
    app.workspace.lenses = lenses.good;
    Ok(())
}

/// Goes along the walk.
pub(super) fn walk_to(app: &mut App, back: bool, times: usize) {
    let Some((walk, label)) = app.workspace.walk.clone() else { return super::menu::walk_menu(app) };
    let Some(places) = app.workspace.walk_places.clone() else {
        app.workspace.walk_goes = Some((back, times));
        let along = match walk {
            Walk::Filter(filter) => Along::Filter(filter),
            Walk::Pins => Along::Pins(app.pinned.keys().copied().collect::<HashSet<u32>>()),
            Walk::Ink(place) => match app.workspace.inks[place].as_ref().and_then(|ink| ink.rows.clone()) {
                Some(rows) => Along::Rows(rows),
                None => return app.message = Some("this ink is still being looked for".into()),
            },
            Walk::Pattern(number) => match &app.workspace.patterns {
                Some(patterns) => Along::Pattern(Arc::clone(patterns), number),
                None => return wait_for_patterns(app),
            },
        };
        app.jobs.walk(app.loaded.clone(), Arc::clone(&app.case.sources), app.view.clone(), along);
        return;
    };
    let here = app.cursor as u32;
    let times = times.max(1);
    let found = if back {
        let before = places.partition_point(|place| *place < here);
        before.checked_sub(times).or(before.checked_sub(1).map(|_| 0)).and_then(|at| places.get(at))
    } else {
        let after = places.partition_point(|place| *place <= here);
        places.get(after + times - 1).or(places.get(after..).and_then(<[u32]>::last))
    };
    match found.copied() {
        Some(place) => {
            note_jump(app);
            go(app, place as usize);
            let at = places.partition_point(|other| *other < place) + 1;
            app.message = Some(format!("{label}: {at} of {}", places.len()));
        }
        None => app.message = Some(format!("{label}: none {}", if back { "above" } else { "below" })),
    }
}

fn wait_for_patterns(app: &mut App) {
    if !app.loaded.complete {
        return app.message = Some("patterns are known when all has been read".into());
    }
    if !app.jobs.is_running(crate::jobs::Kind::Patterns) {
        app.jobs.patterns(app.loaded.clone(), Arc::clone(&app.case.sources));
    }
    app.message = Some("working out the patterns …".into());
}

/// The places of the walk are known.
pub(super) fn walked(app: &mut App, places: Arc<Vec<u32>>) {
    app.workspace.walk_places = Some(places);
    if let Some((back, times)) = app.workspace.walk_goes.take() {
        walk_to(app, back, times);
    }
}

/// Folds runs of the same pattern into one line, or opens them.
pub(super) fn toggle_collapse(app: &mut App) {
    app.workspace.collapse = !app.workspace.collapse;
    if let Some(follow) = &app.workspace.follow {
        follow.fold.store(app.workspace.collapse, Ordering::Relaxed);
    }
    if app.workspace.collapse && app.workspace.patterns.is_none() {
        // They are folded as soon as the patterns are known.
        return wait_for_patterns(app);
    }
    remember(app);
    super::ask_for_view(app);
}

/// Shows the worst first, or the order of time.
pub(super) fn toggle_order(app: &mut App) {
    app.workspace.worst_first = !app.workspace.worst_first;
    if app.workspace.worst_first {
        app.anchor = None;
        app.workspace.to_first = true;
        app.message = Some("the worst first; o goes back to the order of time".into());
    } else {
        remember(app);
    }
    super::ask_for_view(app);
}

/// Shows all lines of the chosen record, or only the first.
pub(super) fn toggle_unfold(app: &mut App) {
    if let Some(row) = app.chosen().map(|event| event.row)
        && !app.workspace.unfolded.remove(&row)
    {
        app.workspace.unfolded.insert(row);
    }
}

/// Shows only the source of the chosen event, or all again.
pub(super) fn toggle_this_source(app: &mut App) {
    let Some(event) = app.chosen() else { return };
    let piece = format!("source={}", quoted(&app.case.sources[event.source()].name));
    remember(app);
    note_jump(app);
    if app.filter_text == piece {
        let before = app.workspace.other_filter(true).unwrap_or_default();
        typing::set_filter(app, &before);
    } else {
        typing::set_filter(app, &piece);
        app.message = Some("this source only; , again goes back".into());
    }
}

/// Puts the filter before the one in force, or the one after it, into force.
pub(super) fn filter_step(app: &mut App, back: bool) {
    match app.workspace.other_filter(back) {
        Some(text) => typing::set_filter(app, &text),
        None => app.message = Some(if back { "no filter before this one" } else { "no filter after this one" }.into()),
    }
}

/// Goes forward again where one has jumped back.
pub(super) fn jump_forward(app: &mut App) {
    let Some((step, place)) = app.workspace.forward.pop() else {
        app.message = Some("nothing to go forward to".into());
        return;
    };
    let here = app.chosen().map(|event| (event.source(), event.offset()));
    app.back.push((app.step, here));
    act::return_to(app, step, place);
}

/// Begins a selection at the chosen event, or ends it.
pub(super) fn toggle_selection(app: &mut App) {
    app.workspace.selected_from = match app.workspace.selected_from {
        Some(_) => None,
        None => app.chosen().map(|event| (event.source(), event.offset())),
    };
    if app.workspace.selected_from.is_some() {
        app.message = Some("selected from here; y copies, W writes, s ends it".into());
    }
}

/// The rows of the selection; `None` without one.
fn selected_rows(app: &App) -> Option<Vec<u32>> {
    let places = app.selection()?;
    Some(places.filter_map(|place| app.row_at(place)).map(|row| row.0).collect())
}

/// Copies the selection, or the chosen record, to the terminal's clipboard: text as it was read.
pub(super) fn copy(app: &mut App) {
    const MOST: usize = 1000;
    let rows = selected_rows(app).or_else(|| app.chosen().map(|event| vec![event.row.0])).unwrap_or_default();
    if rows.len() > MOST {
        app.message = Some(format!("{} events are too many for a clipboard: W writes them into a file", rows.len()));
        return;
    }
    let mut text = Vec::new();
    let mut writer = EventWriter::new(&app.case, app.zone.clone());
    match writer.write_all(&app.loaded, &rows, Form::Raw, &mut text, &Work::default()) {
        Ok(()) => {
            app.workspace.clipboard = Some(String::from_utf8_lossy(&text).into_owned());
            app.message = Some(format!("{} event(s) given to the terminal's clipboard, if it takes them", rows.len()));
        }
        Err(error) => app.message = Some(error.to_string()),
    }
}

/// What is written or drawn: the selection with what its folded runs hold, or all that the filter lets pass.
fn chosen_rows(app: &App) -> Chosen {
    let passed = app.view.passed.clone();
    let Some(places) = app.selection() else { return Chosen::All(passed) };
    let runs = app.view.runs.as_ref();
    let count = |place: usize| runs.and_then(|runs| runs.get(place)).map_or(1, |run| run.count);
    let rows = places.filter_map(|place| Some((app.row_at(place)?.0, count(place)))).collect();
    Chosen::Rows(rows, passed, app.workspace.patterns.clone())
}

/// Writes the selection, or all that the filter lets pass, into a file; its name says the form.
///
/// # Errors
/// When the name says no form, or the file exists.
pub(super) fn export(app: &mut App, name: &str) -> Result<()> {
    let name = name.trim();
    let form = Form::of_file(name).ok_or_else(|| {
        Error::new("the end of the name says the form: .log (as read) .txt .csv .jsonl .xml .otlp.json")
    })?;
    let path = PathBuf::from(name);
    if path.exists() {
        return Err(Error::new(format!("{name} exists: choose another name")));
    }
    nothing_is_written(app)?;
    let (loaded, case, zone) = (app.loaded.clone(), Arc::clone(&app.case), app.zone.clone());
    app.jobs.write(loaded, case, chosen_rows(app), zone, Target::Events(path, form));
    Ok(())
}

/// A second file would take the first one's place in the middle of it.
///
/// # Errors
/// When something is being written.
pub(super) fn nothing_is_written(app: &App) -> Result<()> {
    match app.jobs.writing() {
        Some(_) => Err(Error::new("something is still being written: Esc stops it")),
        None => Ok(()),
    }
}

/// Draws the selection in swim lanes, or without one the density of what the filter lets pass.
///
/// # Errors
/// When something else is being written.
pub(super) fn draw_chart(app: &mut App, name: &str) -> Result<()> {
    nothing_is_written(app)?;
    let kind = if app.selection().is_some() { ChartKind::Lanes } else { ChartKind::Density };
    let (loaded, case, zone) = (app.loaded.clone(), Arc::clone(&app.case), app.zone.clone());
    app.jobs.write(loaded, case, chosen_rows(app), zone, Target::Chart(PathBuf::from(name.trim()), kind));
    Ok(())
}

/// Counts times from the chosen event on, or shows them as they are.
pub(super) fn toggle_zero(app: &mut App) {
    app.workspace.zero = match app.workspace.zero {
        Some(_) => None,
        None => app.chosen().and_then(|event| event.time()),
    };
}

/// Shows times in another zone; an empty text means that of the case.
///
/// # Errors
/// When it is no zone.
pub(super) fn show_zone(app: &mut App, text: &str) -> Result<()> {
    app.zone = if text.trim().is_empty() { app.case.zone.clone() } else { Zone::parse(text.trim())? };
    app.reading = None;
    Ok(())
}

/// The next way to show the chosen event in the reading pane: words, its own form, its bytes.
pub(super) fn next_shown(app: &mut App) {
    let has_form = app.reading.as_ref().is_some_and(|reading| reading.structured.is_some());
    app.workspace.shown = match app.workspace.shown {
        Shown::Words if has_form => Shown::Structured,
        Shown::Words | Shown::Structured => Shown::Raw,
        Shown::Raw => Shown::Words,
    };
    app.workspace.reading_top = 0;
}

/// Chooses the next link of the reading pane, and after the last none.
pub(super) fn next_link(app: &mut App) {
    let count = app.workspace.links.len();
    app.workspace.link = match app.workspace.link {
        None if count > 0 => Some(0),
        Some(at) if at + 1 < count => Some(at + 1),
        _ => None,
    };
    if count == 0 {
        app.message = Some("nothing here leads on".into());
    }
}

/// Follows the chosen link of the reading pane; gives whether there was one.
pub(super) fn follow_link(app: &mut App) -> bool {
    let Some(link) = app.workspace.link.take().and_then(|at| app.workspace.links.get(at)).cloned() else {
        return false;
    };
    match link.go {
        Go::Row(row) => jump_to_row(app, row),
        Go::Only(piece) => {
            remember(app);
            let text = format!("{} {piece}", app.filter_text);
            typing::set_filter(app, text.trim());
        }
    }
    true
}

/// Gives each source of the chosen host a lane of the rail, or each host one again.
pub(super) fn toggle_lanes(app: &mut App) {
    app.workspace.rail_host = match app.workspace.rail_host {
        Some(_) => None,
        None => app.chosen().map(|event| event.actor().host).filter(|host| *host > 0),
    };
    app.density_asked = None;
}

/// Moves the rail's window by half its width.
pub(super) fn shift_window(app: &mut App, later: bool) {
    let Some((from, to)) = app.window else {
        app.message = Some("the rail shows the whole span: + narrows it".into());
        return;
    };
    let half = to.saturating_sub(from) / 2;
    let by = if later { half } else { -half };
    app.window = Some((from.saturating_add(by), to.saturating_add(by)));
    let place = app.place_of_time(from.saturating_add(by).saturating_add(half));
    app.cursor = place.min(app.view_len().saturating_sub(1));
    remember(app);
}

/// Holds back what comes, or lets it through.
pub(super) fn toggle_hold(app: &mut App) {
    match &mut app.workspace.follow {
        Some(follow) => {
            let held = !follow.held.load(Ordering::Relaxed);
            follow.held.store(held, Ordering::Relaxed);
            follow.behind = 0;
        }
        None => app.message = Some("this case is not followed: boxclock open --follow does".into()),
    }
}

/// Follows with what has been chosen meanwhile: zones, formats, clocks.
pub(super) fn follow_again(app: &mut App) {
    let Some(follow) = &app.workspace.follow else { return };
    let held = follow.held.load(Ordering::Relaxed);
    let mut case = (*app.case).clone();
    case.options.drift.clone_from(&app.drift);
    match app.logbook.choices() {
        Ok(choices) => case.options.choices = choices,
        Err(error) => app.message = Some(error.to_string()),
    }
    app.workspace.follow = Some(app.jobs.follow(&case, held, app.workspace.collapse));
}

/// Takes the case as it has grown. Who stands at its end stays there; all others stay where they are.
pub(super) fn grown(
    app: &mut App,
    case: boxclock_core::case::Case,
    loaded: boxclock_core::case::Loaded,
    folded: Option<Folded>,
) {
    // A clock may have been corrected while this was being read.
    let loaded = if case.options.drift == app.drift { loaded } else { loaded.with_drift(&case.sources, &app.drift) };
    let at_end = app.cursor + 1 >= app.view_len();
    if at_end {
        app.anchor = None;
    } else {
        // Sources may be numbered anew: the place is kept by name.
        let here = app.chosen().map(|event| (app.case.sources[event.source()].name.clone(), event.offset()));
        app.anchor = here.and_then(|(name, offset)| {
            let source = case.sources.iter().position(|source| source.name == name)?;
            Some((source, offset))
        });
    }
    let same = app.case.sources.iter().map(|source| &source.name).eq(case.sources.iter().map(|source| &source.name));
    if !same {
        // Places are kept by the numbers of their sources, which mean others now.
        app.back.clear();
        app.workspace.forward.clear();
        app.workspace.selected_from = None;
    }
    app.reader = boxclock_core::event::RecordReader::new(Arc::clone(&case.sources));
    app.case = Arc::new(case);
    app.workspace.unfolded.clear();
    super::take_table(app, loaded, folded);
}

/// One of the events of a place is shown: a run that hides it is opened.
pub(super) fn open_runs_for(app: &mut App, row: Row) -> bool {
    if !app.workspace.collapse {
        return false;
    }
    app.workspace.collapse = false;
    let event = app.loaded.table.event(row);
    app.anchor = Some((event.source(), event.offset()));
    super::ask_for_view(app);
    true
}
