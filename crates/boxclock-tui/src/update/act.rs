//! What each action of the key table does.

use boxclock_core::event::Row;
use boxclock_core::logbook::ChainLink;
use tui_input::Input;

use super::{go, jump_to_row, note_jump, remember, scaled_window, typing};
use super::{menu, workspace};
use crate::app::{App, BoxRow, Mode, Prompt, Step, Undo};
use crate::keys::Action;

/// Does it.
pub(super) fn run(app: &mut App, action: Action) {
    match action {
        Action::Story => to_step(app, Step::Story),
        Action::Box => to_step(app, Step::Box),
        Action::Stream => to_step(app, Step::Stream),
        Action::Codes => to_step(app, Step::Codes),
        Action::Cause => to_step(app, Step::Cause),
        Action::Report => to_step(app, Step::Report),
        Action::PreviousOnWalk => workspace::walk_to(app, true, 1),
        Action::NextOnWalk => workspace::walk_to(app, false, 1),
        Action::ChooseWalk => menu::walk_menu(app),
        Action::Count => app.workspace.count = "0".into(),
        Action::Ink => workspace::ask_ink(app),
        Action::Inks => menu::ink_menu(app),
        Action::Values => menu::value_menu(app),
        Action::Pieces => menu::piece_menu(app),
        Action::FilterBefore => workspace::filter_step(app, true),
        Action::FilterAfter => workspace::filter_step(app, false),
        Action::ThisSource => workspace::toggle_this_source(app),
        Action::Lenses => menu::lens_menu(app),
        Action::KeepLens => ask(app, Prompt::LensName, String::new()),
        Action::Select => workspace::toggle_selection(app),
        Action::Copy => workspace::copy(app),
        Action::Export => ask(app, Prompt::ExportPath, "events.log".into()),
        Action::Chart => {
            let name = if app.selection().is_some() { "lanes.svg" } else { "density.svg" };
            ask(app, Prompt::ChartPath, name.into());
        }
        Action::Unfold => workspace::toggle_unfold(app),
        Action::UnfoldAll => app.workspace.unfold_all = !app.workspace.unfold_all,
        Action::Wrap => app.workspace.wrap = !app.workspace.wrap,
        Action::Collapse => workspace::toggle_collapse(app),
        Action::WorstFirst => workspace::toggle_order(app),
        Action::Zero => workspace::toggle_zero(app),
        Action::ShownZone => ask(app, Prompt::ShownZone, app.zone.name().to_owned()),
        Action::Columns => {
            let now = app.columns.list.iter().map(|(column, width)| format!("{}:{width}", column.name()));
            let now = now.collect::<Vec<_>>().join(" ");
            ask(app, Prompt::Columns, now);
        }
        Action::JumpForward => workspace::jump_forward(app),
        Action::NextLink => workspace::next_link(app),
        Action::ReadingDown => app.workspace.reading_top += 3,
        Action::ReadingUp => app.workspace.reading_top = app.workspace.reading_top.saturating_sub(3),
        Action::Lanes => workspace::toggle_lanes(app),
        Action::Earlier => workspace::shift_window(app, false),
        Action::Later => workspace::shift_window(app, true),
        Action::Hold => workspace::toggle_hold(app),
        Action::PinKind => change_pin(app, false),
        Action::PinColour => change_pin(app, true),
        Action::Suspend => app.suspend = true,
        Action::Desk => super::desk::show(app),
        Action::TaskBefore => super::desk::turn(app, true),
        Action::TaskNext => super::desk::turn(app, false),
        Action::Preview => super::desk::begin(app, true),
        Action::Run => super::desk::begin(app, false),
        Action::Stop => super::desk::stop(app),
        Action::OpenMade => super::desk::open(app),
        Action::Label => ask_source(app, |app, source| ask(app, Prompt::Label(source), String::new())),
        Action::Accept => accept_drift(app),
        Action::Up => move_by(app, -1),
        Action::Down => move_by(app, 1),
        Action::PageUp => move_by(app, -page(app)),
        Action::PageDown => move_by(app, page(app)),
        Action::First => move_by(app, isize::MIN),
        Action::Last => move_by(app, isize::MAX),
        Action::Left => app.shifted = app.shifted.saturating_sub(16),
        Action::Right => app.shifted += 16,
        Action::Enter => enter(app),
        Action::JumpBack => jump_back(app),
        Action::Find => {
            app.find_from = app.cursor;
            ask(app, Prompt::Find, String::new());
        }
        Action::NextHit => to_hit(app, app.cursor, false, false),
        Action::PreviousHit => to_hit(app, app.cursor, true, false),
        Action::Filter => {
            app.filter_before.clone_from(&app.filter_text);
            ask(app, Prompt::Filter, app.filter_text.clone());
        }
        Action::ClearFilter => typing::set_filter(app, ""),
        Action::GoToTime => ask(app, Prompt::Time, String::new()),
        Action::PreviousProblem => to_problem(app, true),
        Action::NextProblem => to_problem(app, false),
        Action::Pin => pin(app),
        Action::Narrower => app.window = scaled_window(app, true),
        Action::Wider => app.window = scaled_window(app, false),
        Action::WholeSpan => app.window = None,
        Action::Clock => match app.chosen_host() {
            Some(host) => {
                let now =
                    app.drift.get(&host).map_or(String::new(), |drift| boxclock_core::clock::human::drift_text(*drift));
                ask(app, Prompt::Clock(host), now);
            }
            None => app.message = Some("no host is known here whose clock could be corrected".into()),
        },
        Action::SourceClock => ask_source(app, |app, source| {
            let now =
                app.drift.get(&source).map_or(String::new(), |drift| boxclock_core::clock::human::drift_text(*drift));
            ask(app, Prompt::Clock(source), now);
        }),
        Action::SourceZone => ask_source(app, |app, source| ask(app, Prompt::Zone(source), String::new())),
        Action::ReadAs => ask_source(app, |app, source| ask(app, Prompt::ReadAs(source), String::new())),
        Action::SwitchSource => ask_source(app, |app, source| {
            if let Err(error) = super::sources::toggle(app, &source) {
                app.message = Some(error.to_string());
            }
        }),
        Action::Password => ask(app, Prompt::Password, String::new()),
        Action::Chain => toggle_link(app),
        Action::LinkUp => move_link(app, true),
        Action::LinkDown => move_link(app, false),
        Action::LinkKind => change_link(app, |link| link.kind = link.kind.next()),
        Action::LinkReason => {
            if let Some(link) = chosen_link(app) {
                ask(app, Prompt::Reason(link), app.chain[link].reason.clone());
            } else {
                app.message = Some("this pin is not in the chain: c puts it in".into());
            }
        }
        Action::Unpin => unpin(app),
        Action::WriteReport => ask(app, Prompt::ReportPath, app.report_path().display().to_string()),
        Action::Reading => toggle_reading(app),
        Action::Structured => workspace::next_shown(app),
        Action::CodeOrder => super::codes::turn_order(app),
        Action::CodeFamily => super::codes::family_menu(app),
        Action::Lookup => super::codes::ask(app),
        Action::Lift => {
            if let Err(error) = super::codes::toggle_lift(app) {
                app.message = Some(error.to_string());
            }
        }
        Action::Undo => undo(app),
        Action::Finder => ask(app, Prompt::Finder(0), String::new()),
        Action::Help => app.mode = Mode::Help(0),
        Action::Quit => app.quit = true,
    }
}

/// Does a movement so many times; for others once is enough.
pub(super) fn run_times(app: &mut App, action: Action, times: usize) {
    let by = isize::try_from(times).unwrap_or(isize::MAX);
    match action {
        Action::Up => move_by(app, -by),
        Action::Down => move_by(app, by),
        Action::PageUp => move_by(app, page(app).saturating_mul(-by)),
        Action::PageDown => move_by(app, page(app).saturating_mul(by)),
        Action::First | Action::Last => move_to(app, times),
        Action::PreviousOnWalk => workspace::walk_to(app, true, times),
        Action::NextOnWalk => workspace::walk_to(app, false, times),
        Action::NextProblem | Action::PreviousProblem | Action::NextHit | Action::PreviousHit => {
            for _ in 0..times {
                let before = app.cursor;
                run(app, action);
                if app.cursor == before {
                    break;
                }
            }
        }
        _ => run(app, action),
    }
}

/// Goes to the place of that number, from 1.
fn move_to(app: &mut App, number: usize) {
    if app.step == Step::Stream {
        note_jump(app);
        go(app, number.saturating_sub(1));
    } else {
        move_by(app, isize::MIN);
        move_by(app, isize::try_from(number.saturating_sub(1)).unwrap_or(isize::MAX));
    }
}

/// Beside the middle, or over it where there is no room.
fn toggle_reading(app: &mut App) {
    if app.layout.is_narrow() { app.reading_over = !app.reading_over } else { app.reading_shown = !app.reading_shown }
}

fn ask(app: &mut App, prompt: Prompt, text: String) {
    app.mode = Mode::Typing(prompt, Input::new(text));
}

/// Shows another step.
pub(super) fn to_step(app: &mut App, step: Step) {
    if app.step != step {
        note_jump(app);
        app.step = step;
    }
    match step {
        Step::Report => app.refresh_report(),
        Step::Box if !app.loaded.complete => app.refresh(),
        _ => {}
    }
}

fn page(app: &App) -> isize {
    let height =
        if app.step == Step::Stream { usize::from(app.layout.middle.height) } else { app.layout.list_height(app.step) };
    height.saturating_sub(2).max(1).cast_signed()
}

fn move_by(app: &mut App, by: isize) {
    if app.step == Step::Stream {
        if app.view_len() > 0 {
            go(app, app.cursor.saturating_add_signed(by));
        }
        return;
    }
    let len = app.list_len(app.step);
    let (cursor, top) = app.lists.get(&app.step).copied().unwrap_or_default();
    let cursor = cursor.saturating_add_signed(by).min(len.saturating_sub(1));
    app.lists.insert(app.step, (cursor, top));
}

/// Chooses the line of a list view that stands at this line of the screen.
pub(super) fn choose_line(app: &mut App, line: usize) {
    let (_, top) = app.lists.get(&app.step).copied().unwrap_or_default();
    let header = app.layout.list_header(app.step);
    let Some(line) = line.checked_sub(header) else { return };
    let chosen = top + line / app.layout.list_item(app.step);
    if chosen < app.list_len(app.step) {
        app.lists.insert(app.step, (chosen, top));
    }
}

/// Asks something about the chosen source of the Box view.
fn ask_source(app: &mut App, ask: impl FnOnce(&mut App, String)) {
    match super::sources::chosen(app) {
        Some(source) => ask(app, source),
        None => app.message = Some("choose a source first: this line is none".into()),
    }
}

fn enter(app: &mut App) {
    let chosen = app.list_cursor(app.step);
    match app.step {
        Step::Story => {
            if let Some((key, ..)) = boxclock_core::logbook::Story::FIELDS.get(chosen) {
                ask(app, Prompt::Field(key), app.story.get(key).to_owned());
            }
        }
        Step::Box => {
            if let Some(BoxRow::Drift(index)) = app.chosen_box_row()
                && let Some(pair) = app.box_state.drift.get(*index).and_then(|one| one.evidence.first())
            {
                let row = pair.rows.0;
                return jump_to_row(app, row);
            }
            if app.chosen_source().is_none() {
                app.message =
                    Some("Enter goes to the events of a source; the reading pane (i) says what this line is".into());
            }
            if let Some(source) = app.chosen_source() {
                let quoted = format!("source=\"{}\"", source.source);
                let members = source.members.clone();
                let mut parts = app.loaded.table.parts.iter();
                let first = parts.find(|part| members.contains(&(part.segment.source as usize)));
                let row = first.map(|part| Row(part.first_row));
                match row {
                    Some(row) => {
                        jump_to_row(app, row);
                        app.message = Some(format!("first event of this source; f and {quoted} shows only it"));
                    }
                    None => app.message = Some("this source has no events".into()),
                }
            }
        }
        Step::Codes => {
            if let Some(code) = app.codes.list.get(chosen).map(|row| row.code) {
                super::codes::show_events(app, code);
            }
        }
        Step::Cause => {
            let row = app.cause_order().get(chosen).and_then(|(_, pin)| app.row_of_pin(pin));
            match row {
                Some(row) => jump_to_row(app, row),
                None => {
                    app.message = Some("the source of this pin is not in the case, or has not been read yet".into());
                }
            }
        }
        Step::Stream => {
            if !workspace::follow_link(app) {
                toggle_reading(app);
            }
        }
        Step::Report => {}
        Step::Desk => super::desk::enter(app),
    }
}

/// Corrects the clock that the chosen suggestion is about.
fn accept_drift(app: &mut App) {
    let Some(BoxRow::Drift(index)) = app.chosen_box_row() else {
        app.message = Some("choose a line with a suggested clock first".into());
        return;
    };
    let Some(one) = app.box_state.drift.get(*index).cloned() else { return };
    if let Err(error) = typing::correct_clock(app, &one.host, one.add_ns.into()) {
        app.message = Some(error.to_string());
    }
}

fn jump_back(app: &mut App) {
    let Some((step, place)) = app.back.pop() else {
        app.message = Some("this is where you started".into());
        return;
    };
    let here = app.chosen().map(|event| (event.source(), event.offset()));
    app.workspace.forward.push((app.step, here));
    return_to(app, step, place);
}

/// Shows a step again, at a place by source and offset.
pub(super) fn return_to(app: &mut App, step: Step, place: Option<(usize, u64)>) {
    app.step = step;
    if let Some((source, offset)) = place {
        app.anchor = place;
        let name = app.case.sources[source].name.clone();
        if let Some(row) = app.loaded.event_at(&app.case, &name, offset).map(|event| event.row) {
            let place = app.place_of_row(row);
            go(app, place);
        }
    }
}

/// Goes to the next hit after (or before) a place; `inclusive` lets the place itself count.
pub(super) fn to_hit(app: &mut App, from: usize, back: bool, inclusive: bool) {
    if app.find.is_none() {
        app.message = Some("nothing is being looked for: / finds".into());
        return;
    }
    let Some(hits) = app.hits.clone() else {
        app.message = Some("still looking".into());
        return;
    };
    let from = from as u32;
    let found = if back {
        hits[..hits.partition_point(|hit| *hit < from)].last()
    } else {
        hits.get(hits.partition_point(|hit| if inclusive { *hit < from } else { *hit <= from }))
    };
    // Past the end the search goes on at the other end, and says so.
    let (found, wrapped) = match found {
        Some(found) => (Some(*found), false),
        None => (if back { hits.last() } else { hits.first() }.copied(), true),
    };
    match found {
        Some(place) => {
            if !inclusive {
                note_jump(app);
            }
            go(app, place as usize);
            if wrapped {
                app.message = Some(format!("went on from the {}", if back { "end" } else { "start" }));
            }
        }
        None => app.message = Some(format!("not found: {}", app.find_text)),
    }
}

fn to_problem(app: &mut App, back: bool) {
    let problems = &app.view.problems;
    let here = app.cursor as u32;
    let found = if back {
        problems[..problems.partition_point(|place| *place < here)].last()
    } else {
        problems.get(problems.partition_point(|place| *place <= here))
    };
    match found.copied() {
        Some(place) => {
            note_jump(app);
            go(app, place as usize);
        }
        None => app.message = Some(format!("no problem {} here", if back { "above" } else { "below" })),
    }
}

fn pin(app: &mut App) {
    let Some(event) = app.chosen() else { return };
    let place = (app.case.sources[event.source()].name.clone(), event.offset());
    let note = app.pins.iter().find(|pin| (pin.source.as_str(), pin.offset) == (place.0.as_str(), place.1));
    let note = note.map_or(String::new(), |pin| pin.note.clone());
    remember(app);
    ask(app, Prompt::Note, note);
}

/// The link of the chain that is chosen in the Cause view.
fn chosen_link(app: &App) -> Option<usize> {
    app.cause_order().get(app.list_cursor(Step::Cause))?.0
}

/// Stores a changed chain, so that it can be undone.
pub(super) fn set_chain(app: &mut App, chain: Vec<ChainLink>) {
    match app.logbook.set_chain(&chain) {
        Ok(()) => {
            let before = std::mem::replace(&mut app.chain, chain);
            app.undo.push(Undo::Chain(before));
        }
        Err(error) => app.message = Some(error.to_string()),
    }
}

fn toggle_link(app: &mut App) {
    use boxclock_core::logbook::Link;
    let chosen = app.list_cursor(Step::Cause);
    let Some((link, pin)) = app.cause_order().get(chosen).map(|(link, pin)| (*link, pin.id)) else {
        app.message = Some("there is no pin yet: p in the Stream makes one".into());
        return;
    };
    let mut chain = app.chain.clone();
    if let Some(link) = link {
        chain.remove(link);
    } else {
        let kind = if chain.is_empty() { Link::Root } else { Link::Step };
        chain.push(ChainLink { pin, kind, reason: String::new() });
    }
    set_chain(app, chain);
    follow_pin(app, pin);
}

/// Keeps the same pin chosen when the order of the Cause view has changed.
fn follow_pin(app: &mut App, pin: i64) {
    if let Some(place) = app.cause_order().iter().position(|(_, other)| other.id == pin) {
        let top = app.lists.get(&Step::Cause).map_or(0, |(_, top)| *top);
        app.lists.insert(Step::Cause, (place, top));
    }
}

fn move_link(app: &mut App, up: bool) {
    let Some(link) = chosen_link(app) else {
        app.message = Some("this pin is not in the chain: c puts it in".into());
        return;
    };
    let other = if up { link.checked_sub(1) } else { Some(link + 1).filter(|other| *other < app.chain.len()) };
    if let Some(other) = other {
        let mut chain = app.chain.clone();
        let pin = chain[link].pin;
        chain.swap(link, other);
        set_chain(app, chain);
        follow_pin(app, pin);
    }
}

fn change_link(app: &mut App, change: impl FnOnce(&mut ChainLink)) {
    let Some(link) = chosen_link(app) else {
        app.message = Some("this pin is not in the chain: c puts it in".into());
        return;
    };
    let mut chain = app.chain.clone();
    change(&mut chain[link]);
    set_chain(app, chain);
}

fn unpin(app: &mut App) {
    let chosen = app.list_cursor(Step::Cause);
    let Some(pin) = app.cause_order().get(chosen).map(|(_, pin)| (*pin).clone()) else { return };
    let before = app.chain.clone();
    if let Err(error) = app.logbook.remove_pin(pin.id) {
        app.message = Some(error.to_string());
        return;
    }
    app.undo.push(Undo::Pin(pin.source, pin.offset, pin.note, before));
    app.message = Some("unpinned; u brings it back".into());
    reload_logbook(app);
}

/// Reads pins and chain again after the logbook changed.
pub(super) fn reload_logbook(app: &mut App) {
    match (app.logbook.pins(), app.logbook.chain()) {
        (Ok(pins), Ok(chain)) => (app.pins, app.chain) = (pins, chain),
        (Err(error), _) | (_, Err(error)) => app.message = Some(error.to_string()),
    }
    app.refresh();
}

/// Undoes by doing: what that notes for undoing is dropped.
fn redone(app: &mut App, change: impl FnOnce(&mut App) -> boxclock_core::Result<()>) -> boxclock_core::Result<()> {
    change(app)?;
    app.undo.pop();
    Ok(())
}

/// Gives the chosen pin the next kind, or the next colour.
fn change_pin(app: &mut App, colour: bool) {
    const COLOURS: u8 = 8;
    let chosen = app.list_cursor(Step::Cause);
    let Some(pin) = app.cause_order().get(chosen).map(|(_, pin)| (*pin).clone()) else { return };
    let next = match pin.colour {
        None => Some(0),
        Some(at) if at + 1 < COLOURS => Some(at + 1),
        Some(_) => None,
    };
    let (kind, tint) = if colour { (pin.kind, next) } else { (pin.kind.next(), pin.colour) };
    match app.logbook.set_pin_kind(pin.id, kind, tint) {
        Ok(()) => {
            app.undo.push(Undo::PinKind(pin.id, pin.kind, pin.colour));
            reload_logbook(app);
        }
        Err(error) => app.message = Some(error.to_string()),
    }
}

fn undo(app: &mut App) {
    let Some(undo) = app.undo.pop() else {
        app.message = Some("nothing to undo".into());
        return;
    };
    let done = match undo {
        Undo::Pin(source, offset, note, mut chain) => app.logbook.set_pin(&source, offset, &note).and_then(|()| {
            // The pin has a new number; its link is moved to it.
            let pins = app.logbook.pins()?;
            let known = |id: i64| pins.iter().any(|pin| pin.id == id);
            let new = pins.iter().find(|pin| pin.source == source && pin.offset == offset).map_or(0, |pin| pin.id);
            chain.iter_mut().filter(|link| !known(link.pin)).for_each(|link| link.pin = new);
            app.logbook.set_chain(&chain)
        }),
        Undo::Unpin(source, offset, note) => {
            if let Some(note) = note {
                app.logbook.set_pin(&source, offset, &note)
            } else {
                let pin = app.pins.iter().find(|pin| pin.source == source && pin.offset == offset);
                pin.map_or(Ok(()), |pin| app.logbook.remove_pin(pin.id))
            }
        }
        Undo::Clock(host, ns) => typing::set_clock(app, &host, ns),
        Undo::Choice(source, what, before) => {
            let done = match what {
                "zone" if !before.is_empty() => super::sources::set_zone(app, &source, &before),
                _ => super::sources::set(app, &source, what, &before),
            };
            // Undoing is not itself to be undone; what failed has left nothing behind.
            if done.is_ok() {
                app.undo.pop();
            }
            done
        }
        Undo::Codes(rows) => super::codes::set(app, &rows),
        Undo::Field(key, value) => {
            app.story.set(key, value.clone());
            app.logbook.set_story(key, &value)
        }
        Undo::Chain(chain) => app.logbook.set_chain(&chain),
        Undo::PinKind(id, kind, colour) => app.logbook.set_pin_kind(id, kind, colour),
        Undo::Ink(place, text) => redone(app, |app| workspace::set_ink(app, place, &text)),
        Undo::Lens(name, filter) => redone(app, |app| workspace::set_lens(app, &name, &filter)),
    };
    app.message = Some(done.map_or_else(|error| error.to_string(), |()| "undone".into()));
    reload_logbook(app);
}
