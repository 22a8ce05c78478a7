//! The line that is being typed: filter, find, time, notes, and the action finder.

use std::sync::Arc;

use boxclock_core::Result;
use boxclock_core::clock::{Drift, human};
use boxclock_core::logbook::Story;
use boxclock_core::query::values::completions;
use boxclock_core::query::{FIELDS, Filter};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use tui_input::{Input, InputRequest};

use super::{act, ask_for_hits, codes, go, note_jump, sources, typed_time, use_filter, workspace, write_report};
use crate::app::{App, Mode, Prompt, Undo};
use crate::jobs::Kind;
use crate::keys::{Binding, bindings};
use crate::workspace::parse_columns;

/// Takes a key while a line is being typed.
pub(super) fn key(app: &mut App, key: KeyEvent) {
    let Mode::Typing(prompt, input) = &mut app.mode else { return };
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    let request = match key.code {
        KeyCode::Enter => {
            let (prompt, text) = (prompt.clone(), input.value().to_owned());
            return accept(app, &prompt, &text);
        }
        KeyCode::Esc => return give_up(app),
        KeyCode::Char('c') if control => return give_up(app),
        KeyCode::Up | KeyCode::Down => {
            if let Prompt::Finder(chosen) | Prompt::Lookup(chosen) = prompt {
                *chosen = if key.code == KeyCode::Up { chosen.saturating_sub(1) } else { *chosen + 1 };
            } else {
                choose_completion(app, key.code == KeyCode::Up);
            }
            return;
        }
        KeyCode::Tab => return complete(app),
        KeyCode::Char('u') if control => InputRequest::DeleteLine,
        KeyCode::Char('w') if control => InputRequest::DeletePrevWord,
        KeyCode::Char('a') if control => InputRequest::GoToStart,
        KeyCode::Char('e') if control => InputRequest::GoToEnd,
        KeyCode::Char(c) if !control => InputRequest::InsertChar(c),
        KeyCode::Backspace => InputRequest::DeletePrevChar,
        KeyCode::Delete => InputRequest::DeleteNextChar,
        KeyCode::Left => InputRequest::GoToPrevChar,
        KeyCode::Right => InputRequest::GoToNextChar,
        KeyCode::Home => InputRequest::GoToStart,
        KeyCode::End => InputRequest::GoToEnd,
        _ => return,
    };
    input.handle(request);
    changed(app);
}

/// Chooses among what can complete the filter.
fn choose_completion(app: &mut App, up: bool) {
    let count = app.workspace.completions.len();
    if count > 0 {
        let at = app.workspace.completion;
        let next =
            if up { at.and_then(|at| at.checked_sub(1)) } else { Some(at.map_or(0, |at| (at + 1).min(count - 1))) };
        app.workspace.completion = next;
    }
}

/// Puts the chosen completion, or the first one, in the place of the word that is being typed.
fn complete(app: &mut App) {
    let Mode::Typing(Prompt::Filter, input) = &mut app.mode else { return };
    let Some(one) = app.workspace.completions.get(app.workspace.completion.unwrap_or(0)).cloned() else { return };
    let at = byte_of(input);
    let (before, after) =
        (input.value().get(..one.from).unwrap_or_default(), input.value().get(at..).unwrap_or_default());
    let completed = format!("{before}{}", one.text);
    let cursor = completed.chars().count();
    *input = Input::new(format!("{completed}{after}")).with_cursor(cursor);
    changed(app);
}

/// Where the cursor stands, in bytes of the text.
fn byte_of(input: &Input) -> usize {
    input.value().char_indices().nth(input.cursor()).map_or(input.value().len(), |(at, _)| at)
}

/// Takes pasted text, as if typed in one go.
pub(super) fn paste(app: &mut App, text: &str) {
    if let Mode::Typing(_, input) = &mut app.mode {
        for c in text.chars().filter(|c| !c.is_control()) {
            input.handle(InputRequest::InsertChar(c));
        }
        changed(app);
    }
}

/// What typing shows at once.
fn changed(app: &mut App) {
    let Mode::Typing(prompt, input) = &mut app.mode else { return };
    let text = input.value().to_owned();
    if matches!(prompt, Prompt::Filter) {
        app.workspace.completions = completions(&text, byte_of(input), &app.workspace.values);
        app.workspace.completion = None;
    }
    match prompt {
        // The name of a field is being typed: as a text it would hide nearly everything for that moment.
        Prompt::Filter if names_a_field(&text) => app.filter_error = None,
        Prompt::Filter => match Filter::parse(&text, &app.zone) {
            Ok(filter) => use_filter(app, &text, filter),
            // The last good filter stays in force.
            Err(error) => app.filter_error = Some(error),
        },
        Prompt::Find => look_for(app, &text),
        Prompt::Finder(chosen) => *chosen = 0,
        Prompt::Lookup(chosen) => {
            *chosen = 0;
            codes::find(app, &text);
        }
        _ => {}
    }
}

/// Whether the last word is the beginning of a field's name.
fn names_a_field(text: &str) -> bool {
    let word = text.rsplit([' ', '(']).next().unwrap_or_default();
    !word.is_empty() && FIELDS.iter().any(|(name, _)| name.starts_with(&word.to_lowercase()))
}

fn look_for(app: &mut App, text: &str) {
    text.clone_into(&mut app.find_text);
    app.find = None;
    app.hits = None;
    app.jobs.cancel(Kind::Hits);
    if text.is_empty() || text == "/" {
        return;
    }
    match Filter::find(text) {
        Ok(find) => {
            app.find = Some(find);
            app.find_moves = true;
            ask_for_hits(app);
        }
        Err(error) => app.message = Some(error.message),
    }
}

fn give_up(app: &mut App) {
    let Mode::Typing(prompt, _) = std::mem::replace(&mut app.mode, Mode::Normal) else { return };
    match prompt {
        Prompt::Filter => {
            app.workspace.completions.clear();
            let before = std::mem::take(&mut app.filter_before);
            set_filter(app, &before);
        }
        Prompt::Find => {
            app.find = None;
            app.hits = None;
            app.jobs.cancel(Kind::Hits);
            let from = app.find_from;
            go(app, from);
        }
        _ => {}
    }
}

/// Puts a filter into force that was good before.
pub(super) fn set_filter(app: &mut App, text: &str) {
    match Filter::parse(text, &app.zone) {
        Ok(filter) => {
            use_filter(app, text, filter);
            app.workspace.note_filter(text);
        }
        Err(error) => app.message = Some(error.message),
    }
}

/// The rows of the key table that the finder offers for a text: each word must occur.
pub fn offered(text: &str) -> Vec<&'static Binding> {
    let words: Vec<String> = text.to_lowercase().split_whitespace().map(str::to_owned).collect();
    let fits = |binding: &&Binding| {
        let all = format!("{} {}", binding.short, binding.long).to_lowercase();
        words.iter().all(|word| all.contains(word))
    };
    bindings().iter().filter(fits).collect()
}

fn accept(app: &mut App, prompt: &Prompt, text: &str) {
    // A wrong filter, time or duration stays on the line, with what is wrong.
    let result = match prompt {
        Prompt::Filter => {
            // An arrow has chosen one: Enter takes it, and typing goes on.
            if app.workspace.completion.is_some() {
                return complete(app);
            }
            if app.filter_error.is_some() {
                return;
            }
            app.workspace.completions.clear();
            set_filter(app, text);
            Ok(())
        }
        Prompt::Find => {
            note_jump(app);
            Ok(())
        }
        Prompt::Time => typed_time(app, text).map(|time| {
            note_jump(app);
            app.jobs.look_at(time);
            let place = app.place_of_time(time);
            go(app, place);
        }),
        Prompt::Note => set_note(app, text),
        Prompt::Ink(place) => workspace::set_ink(app, *place, text),
        Prompt::LensName => workspace::keep_lens(app, text),
        Prompt::ShownZone => workspace::show_zone(app, text),
        Prompt::ExportPath => workspace::export(app, text),
        Prompt::ChartPath => workspace::draw_chart(app, text),
        Prompt::Columns => {
            let none = text.trim().is_empty();
            parse_columns(text).map(|columns| app.workspace.columns = (!none).then_some(columns))
        }
        Prompt::Clock(host) => {
            let none = text.trim().is_empty() || text.trim() == "0";
            let parsed = if none { Ok(Drift::default()) } else { human::drift(text) };
            parsed.and_then(|drift| correct_clock(app, host, drift))
        }
        Prompt::Zone(source) => sources::set_zone(app, source, text),
        Prompt::ReadAs(source) => sources::read_as(app, source, text),
        Prompt::Label(source) => sources::set(app, source, "host", text.trim()),
        Prompt::Desk(key) => {
            app.desk.set(key, text.to_owned());
            Ok(())
        }
        Prompt::Password => {
            sources::add_password(app, text);
            Ok(())
        }
        Prompt::Field(key) => {
            // Moments are shown back in full, so that nobody takes one for another.
            let text = Story::in_full(key, text, &app.zone, boxclock_core::clock::now());
            app.logbook.set_story(key, &text).map(|()| {
                app.undo.push(Undo::Field(key, app.story.get(key).to_owned()));
                app.story.set(key, text);
            })
        }
        Prompt::Reason(link) => {
            let mut chain = app.chain.clone();
            if let Some(link) = chain.get_mut(*link) {
                text.clone_into(&mut link.reason);
                act::set_chain(app, chain);
            }
            Ok(())
        }
        Prompt::ReportPath => write_report(app, text),
        Prompt::Lookup(chosen) => return codes::accept(app, *chosen),
        Prompt::Finder(chosen) => {
            let offered = offered(text);
            app.mode = Mode::Normal;
            if let Some(binding) = offered.get((*chosen).min(offered.len().saturating_sub(1))) {
                match crate::app::Step::ALL.into_iter().find(|(step, ..)| step.scope() == Some(binding.scope)) {
                    Some((step, ..)) if app.step.scope() != Some(binding.scope) => act::to_step(app, step),
                    _ => {}
                }
                act::run(app, binding.action);
            }
            return;
        }
    };
    match result {
        Ok(()) => app.mode = Mode::Normal,
        Err(error) => app.message = Some(error.to_string()),
    }
}

fn set_note(app: &mut App, note: &str) -> Result<()> {
    let Some(event) = app.chosen() else { return Ok(()) };
    let (source, offset) = (app.case.sources[event.source()].name.clone(), event.offset());
    let before = app.pins.iter().find(|pin| pin.source == source && pin.offset == offset).map(|pin| pin.note.clone());
    app.logbook.set_pin(&source, offset, note)?;
    app.undo.push(Undo::Unpin(source, offset, before));
    act::reload_logbook(app);
    app.message = Some("pinned; 9 shows all pins".into());
    Ok(())
}

/// Corrects the clock of a host, and notes how to take that back.
pub(super) fn correct_clock(app: &mut App, host: &str, drift: Drift) -> Result<()> {
    let before = app.drift.get(host).copied().unwrap_or_default();
    set_clock(app, host, drift)?;
    app.undo.push(Undo::Clock(host.to_owned(), before));
    Ok(())
}

/// Corrects the clock of a host, everywhere at once.
pub(super) fn set_clock(app: &mut App, host: &str, drift: Drift) -> Result<()> {
    app.logbook.set_drift(host, drift)?;
    if drift.is_none() {
        app.drift.remove(host);
    } else {
        app.drift.insert(host.to_owned(), drift);
    }
    app.jobs.clocks(app.loaded.clone(), Arc::clone(&app.case.sources), app.drift.clone());
    workspace::follow_again(app);
    let text = human::drift_text(drift);
    let none = drift.is_none();
    app.message =
        Some(if none { format!("{host}: clock as written") } else { format!("{host}: {text} added to every time") });
    Ok(())
}

/// The text that is being typed.
pub fn typed(input: &Input) -> (&str, usize) {
    (input.value(), input.visual_cursor())
}
