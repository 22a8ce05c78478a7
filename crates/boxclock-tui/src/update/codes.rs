//! Codes: what is looked up, which family a person chose for one, and whether failures lift lines.

use boxclock_core::Result;
use boxclock_core::case::CodeChoice;
use boxclock_core::code::lookup::{look_up, search};
use boxclock_core::code::rank::candidates;
use boxclock_core::code::{Code, Family, Platform};
use boxclock_core::query::values::quoted;
use boxclock_core::report::codes::{Order, clues, sort};

use super::{ask_for_view, jump_to_row, note_jump, typing, workspace};
use crate::app::{App, Mode, Prompt, Step, Undo};
use crate::jobs::Kind;
use crate::workspace::{Choice, Menu};

/// Worst first, or first seen first.
pub(super) fn turn_order(app: &mut App) {
    app.codes.order = if app.codes.order == Order::Worst { Order::FirstSeen } else { Order::Worst };
    sort(&mut app.codes.list, app.codes.order);
    app.lists.remove(&Step::Codes);
}

/// Whether the list is that of the table on the screen: rows have other numbers in another one.
fn are_counted(app: &mut App) -> bool {
    let counted = app.codes.is_asked && !app.jobs.is_running(Kind::Codes);
    if !counted {
        app.message = Some("the codes are being counted anew: once more, please".into());
    }
    counted
}

/// Shows the events of a code: a filter, and its first event.
pub(super) fn show_events(app: &mut App, code: Code) {
    if !are_counted(app) {
        return;
    }
    let Some(row) = app.codes.of(code).map(|row| row.first_row) else {
        app.message = Some(format!("this case has no {}", code.written()));
        return;
    };
    note_jump(app);
    let piece = format!("code={}", quoted(&code.filter_value()));
    typing::set_filter(app, &piece);
    jump_to_row(app, row);
    app.message = Some(format!("only events with {}; F shows all, Backspace goes back", code.written()));
}

/// What is known of what is being typed.
pub(super) fn find(app: &mut App, text: &str) {
    app.codes.found = match text.trim() {
        "" => Vec::new(),
        text => look_up(text, Platform::Unknown).unwrap_or_else(|_| search(text, Platform::Unknown)),
    };
}

/// Enter in the lookup: the events of the chosen code, if the case has any.
pub(super) fn accept(app: &mut App, chosen: usize) {
    let found = &app.codes.found;
    match found.get(chosen.min(found.len().saturating_sub(1))).map(|reading| reading.code) {
        Some(code) if app.codes.of(code).is_some() => {
            app.mode = Mode::Normal;
            show_events(app, code);
        }
        Some(code) if app.codes.known => app.message = Some(format!("this case has no {}", code.written())),
        Some(_) => app.message = Some("still counting the codes of this case".into()),
        None => app.mode = Mode::Normal,
    }
}

/// The menu of the families that the codes of the chosen event could be of; in the Codes view of the chosen code.
pub(super) fn family_menu(app: &mut App) {
    if app.step == Step::Codes && !are_counted(app) {
        return;
    }
    let mut items: Vec<(String, Choice)> = Vec::new();
    let wanted = (app.step == Step::Codes).then(|| app.codes.list.get(app.list_cursor(Step::Codes))).flatten();
    let row = wanted.map(|wanted| wanted.first_row).or_else(|| app.chosen().map(|event| event.row));
    let Some(row) = row else {
        app.message = Some("no event is chosen".into());
        return;
    };
    let event = app.loaded.table.event(row);
    for found in event.codes_as_found() {
        let meant = event.meant(found);
        if wanted.is_some_and(|wanted| wanted.code != meant) {
            continue;
        }
        let mut clues = clues(&app.case, &app.loaded, event);
        clues.chosen = Some(meant.family).filter(|family| *family != found.family);
        let of_case: Vec<usize> = wanted
            .map_or(vec![event.source()], |wanted| wanted.sources.iter().map(|source| *source as usize).collect());
        for candidate in candidates(found, &clues) {
            let family = candidate.reading.code.family;
            let name = candidate.reading.name.unwrap_or("-");
            let what = format!("{} {name}, {}", candidate.reading.code.written(), family.title());
            let why = if candidate.reason.is_empty() { String::new() } else { format!("   ({})", candidate.reason) };
            if wanted.is_none() {
                let place = Some(event.offset());
                items.push((
                    format!("here       {what}{why}"),
                    Choice::Family(vec![event.source()], found, place, family),
                ));
            }
            let everywhere = if of_case.len() == 1 { "its source" } else { "everywhere" };
            items.push((format!("{everywhere:<10} {what}{why}"), Choice::Family(of_case.clone(), found, None, family)));
        }
    }
    if items.is_empty() {
        app.message = Some("this event has no code".into());
        return;
    }
    app.mode = Mode::Menu(Menu { title: "What is this code?".into(), items, chosen: 0 });
}

/// Remembers what a code is in some sources, or in one place, and reads it so from now on.
///
/// # Errors
/// When the logbook cannot be written.
pub(super) fn choose(app: &mut App, sources: &[usize], code: Code, offset: Option<u64>, family: Family) -> Result<()> {
    let what = CodeChoice::what(code, offset);
    let choices = app.logbook.choices()?;
    let value = if family == code.family && offset.is_none() { "" } else { family.name() };
    let mut before = Vec::new();
    for source in sources {
        let name = app.case.sources[*source].name.clone();
        let known = choices.get(&name).and_then(|choice| {
            choice
                .codes
                .iter()
                .find(|known| known.code == code && known.offset == offset)
                .map(|known| known.family.name())
        });
        before.push((name, what.clone(), known.unwrap_or_default().to_owned()));
    }
    let now: Vec<_> = before.iter().map(|(name, what, _)| (name.clone(), what.clone(), value.to_owned())).collect();
    set(app, &now)?;
    app.undo.push(Undo::Codes(before));
    app.message = Some(format!("{}: {}; u takes it back", code.written(), family.title()));
    Ok(())
}

/// Whether lines that carry the code of a failure count as problems: switches that.
///
/// # Errors
/// When the logbook cannot be written.
pub(super) fn toggle_lift(app: &mut App) -> Result<()> {
    let off = app.case.options.no_lift;
    let row = |value: &str| vec![(String::new(), "lift".to_owned(), value.to_owned())];
    set(app, &row(if off { "" } else { "off" }))?;
    app.undo.push(Undo::Codes(row(if off { "off" } else { "" })));
    app.message = Some(if off {
        "lines that carry the code of a failure count as problems again".into()
    } else {
        "lines are what they were logged as, whatever codes they carry".into()
    });
    Ok(())
}

/// Writes choices about codes into the logbook and applies them to the table at once. Rows keep their numbers.
///
/// # Errors
/// When the logbook cannot be written.
pub(super) fn set(app: &mut App, rows: &[(String, String, String)]) -> Result<()> {
    for (source, what, value) in rows {
        app.logbook.set_choice(source, what, value)?;
    }
    let mut case = (*app.case).clone();
    case.options.choices = app.logbook.choices()?;
    case.options.no_lift = case.options.choices.remove("").is_some_and(|all| all.no_lift);
    app.case = std::sync::Arc::new(case);
    app.loaded = app.loaded.with_codes(&app.case.sources, &app.case.options);
    (app.reading, app.density_asked, app.codes.is_asked, app.codes.relatives_asked) = (None, None, false, None);
    workspace::follow_again(app);
    ask_for_view(app);
    Ok(())
}

/// Opens the lookup.
pub(super) fn ask(app: &mut App) {
    app.codes.found.clear();
    app.mode = Mode::Typing(Prompt::Lookup(0), tui_input::Input::default());
}
