//! How sources are read, chosen by hand in the Box view: zone, format, encoding, order of dates, passwords of archives.

use std::sync::Arc;

use boxclock_core::case::{Case, Choice, ZoneFrom};
use boxclock_core::clock::{DateOrder, Zone};
use boxclock_core::text::Encoding;
use boxclock_core::{Error, Result, format};

use crate::app::{App, Undo};

/// The name of the chosen source in the Box view.
pub(super) fn chosen(app: &App) -> Option<String> {
    app.chosen_source().map(|source| source.source.clone())
}

/// The names of the files of a source: a choice holds for all of its generations.
fn files(app: &App, source: &str) -> Vec<usize> {
    let row = app.sources.iter().find(|row| row.source == source);
    row.map_or(Vec::new(), |row| row.members.clone().collect())
}

/// Says (or, with an empty text, takes back) the zone of a source, and puts its events in their new places.
///
/// # Errors
/// When the text is no zone, or the logbook cannot be written.
pub(super) fn set_zone(app: &mut App, source: &str, text: &str) -> Result<()> {
    let text = text.trim();
    if text.is_empty() {
        return set(app, source, "zone", "");
    }
    let zone = Zone::parse(text)?;
    let before = remember(app, source, "zone", zone.name())?;
    let members = files(app, source);
    let mut sources = (*app.case.sources).clone();
    for index in &members {
        (sources[*index].zone, sources[*index].zone_from) = (zone.clone(), ZoneFrom::User);
    }
    let mut case = (*app.case).clone();
    let old = std::mem::replace(&mut case.sources, Arc::new(sources));
    case.options.choices.clone_from(&app.logbook.choices()?);
    app.case = Arc::new(case);
    app.jobs.zones(app.loaded.clone(), old, Arc::clone(&app.case.sources), members, app.drift.clone());
    super::workspace::follow_again(app);
    app.undo.push(Undo::Choice(source.to_owned(), "zone", before));
    app.message = Some(format!("{source}: times without zone are read in {}", zone.name()));
    Ok(())
}

/// Reads a source in the format, encoding or order of dates that the text names; an empty text leaves all to be found out.
///
/// # Errors
/// When the text is none of these, or the logbook cannot be written.
pub(super) fn read_as(app: &mut App, source: &str, text: &str) -> Result<()> {
    let text = text.trim();
    if text.is_empty() {
        for what in ["format", "encoding", "dates"] {
            remember(app, source, what, "")?;
        }
        reopen(app);
        return Ok(());
    }
    let what = if format::by_name(text, &app.case.formats).is_some() {
        "format"
    } else if Encoding::parse(text).is_some() {
        "encoding"
    } else if DateOrder::parse(text).is_some() {
        "dates"
    } else {
        return Err(Error::new(format!("\"{text}\" is no format, encoding or order of dates that is known")));
    };
    set(app, source, what, text)
}

/// Remembers a choice and reads the case again.
///
/// # Errors
/// When the logbook cannot be written.
pub(super) fn set(app: &mut App, source: &str, what: &'static str, value: &str) -> Result<()> {
    let before = remember(app, source, what, value)?;
    app.undo.push(Undo::Choice(source.to_owned(), what, before));
    reopen(app);
    Ok(())
}

/// Writes a choice into the logbook for all files of a source; gives what it was before.
fn remember(app: &App, source: &str, what: &str, value: &str) -> Result<String> {
    let choices = app.logbook.choices()?;
    let before = choices.get(source).map_or(String::new(), |choice| written(choice, what));
    for index in files(app, source) {
        app.logbook.set_choice(&app.case.sources[index].name, what, value)?;
    }
    Ok(before)
}

fn written(choice: &Choice, what: &str) -> String {
    let text = match what {
        "format" => choice.format.clone(),
        "zone" => choice.zone.as_ref().map(|zone| zone.name().to_owned()),
        "encoding" => choice.encoding.map(|encoding| encoding.name().to_owned()),
        "host" => choice.host.clone(),
        _ => choice.dates.map(|dates| dates.name().to_owned()),
    };
    text.unwrap_or_default()
}

/// Switches a source off in the stream, or on again: a piece of the filter that everybody sees.
///
/// # Errors
/// When the filter cannot be read with it.
pub(super) fn toggle(app: &mut App, source: &str) -> Result<()> {
    let piece = format!("not source=\"{source}\"");
    let text = if app.filter_text.contains(&piece) {
        app.filter_text.replace(&piece, "").split_whitespace().collect::<Vec<_>>().join(" ")
    } else {
        format!("{} {piece}", app.filter_text).trim().to_owned()
    };
    if boxclock_core::query::Filter::parse(&text, &app.zone).is_err() {
        return Err(Error::new("the filter is wrong: mend it first (f)"));
    }
    super::typing::set_filter(app, &text);
    Ok(())
}

/// Whether a source is switched off in the stream.
pub(crate) fn is_off(app: &App, source: &str) -> bool {
    app.filter_text.contains(&format!("not source=\"{source}\""))
}

/// Takes one more password for archives and reads the case again. It is kept in memory only.
pub(super) fn add_password(app: &mut App, password: &str) {
    let mut case = (*app.case).clone();
    case.options.passwords.push(password.to_owned());
    app.case = Arc::new(case);
    reopen(app);
}

/// Opens the case again, with what has been chosen.
pub(super) fn reopen(app: &mut App) {
    let mut options = app.case.options.clone();
    match app.logbook.choices() {
        Ok(choices) => options.choices = choices,
        Err(error) => return app.message = Some(error.to_string()),
    }
    app.message = Some("reading the case again …".into());
    app.jobs.open(app.case.paths.clone(), options);
}

/// Takes the case as it was opened again.
pub(super) fn reopened(app: &mut App, case: Result<Case>) {
    match case {
        Ok(case) => {
            app.replace(case);
            super::workspace::follow_again(app);
            app.message = Some("the case was read again".into());
        }
        Err(error) => app.message = Some(error.to_string()),
    }
}
