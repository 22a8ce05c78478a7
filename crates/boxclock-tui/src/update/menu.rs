//! Menus of the Stream: what can be done with an ink, a value, a piece of the filter, a lens; what `{` and `}` go along.

use boxclock_core::Result;
use boxclock_core::clock::Zone;
use boxclock_core::clock::human::date_time;
use boxclock_core::pattern;
use boxclock_core::query::values::{pieces, quoted};
use boxclock_core::query::{Filter, Lens};
use tui_input::Input;

use super::typing;
use super::workspace::{set_ink, set_lens, walk_to};
use crate::app::{App, Mode, Prompt};
use crate::workspace::{Choice, Menu, Walk};

/// The menu of the inks: take away, change, walk along.
pub(super) fn ink_menu(app: &mut App) {
    let mut items = Vec::new();
    for (place, ink) in app.workspace.inks.iter().enumerate() {
        let Some(ink) = ink else { continue };
        let (number, text) = (place + 1, &ink.text);
        items.push((format!("{number}  walk along {text}"), Choice::Walk(Walk::Ink(place), format!("ink {number}"))));
        items.push((format!("{number}  change {text}"), Choice::EditInk(place)));
        items.push((format!("{number}  take away {text}"), Choice::DropInk(place)));
    }
    show(app, "Inks", items, "no ink yet: m colours a text or filter");
}

fn show(app: &mut App, title: &str, items: Vec<(String, Choice)>, empty: &str) {
    if items.is_empty() {
        app.message = Some(empty.to_owned());
    } else {
        app.mode = Mode::Menu(Menu { title: title.to_owned(), items, chosen: 0 });
    }
}

/// The values of the chosen event, as pieces of a filter.
fn values(app: &mut App) -> Vec<String> {
    let Some(event) = app.chosen() else { return Vec::new() };
    let actor = event.actor();
    let source = app.case.sources[event.source()].name.clone();
    let mut pieces = Vec::new();
    let mut add = |field: &str, value: &str| {
        if !value.is_empty() {
            pieces.push(format!("{field}={}", quoted(value)));
        }
    };
    add("component", event.component());
    add("host", event.host());
    add("source", &source);
    add("level", event.severity().name().unwrap_or("none"));
    add("pid", &actor.pid.map_or(String::new(), |id| id.to_string()));
    add("tid", &actor.tid.map_or(String::new(), |id| id.to_string()));
    let mut codes: Vec<String> = event.codes().map(boxclock_core::code::Code::filter_value).collect();
    codes.dedup();
    for code in &codes {
        add("code", code);
    }
    if let Some(reading) = &app.reading {
        pieces.push(format!("pattern={}", pattern::name(reading.number)));
        let attributes = reading.record.attributes.iter();
        for (name, value) in attributes.filter(|(_, value)| !value.is_object() && !value.is_array()).take(20) {
            let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            if text.is_empty() || text.len() > 60 || text.contains(['"', '\n']) {
                continue;
            }
            let name = if name.contains('.') { name.clone() } else { format!("attributes.{name}") };
            pieces.push(format!("{name}={}", quoted(&text)));
        }
    }
    pieces
}

/// The menu of what can be done with the values of the chosen event.
pub(super) fn value_menu(app: &mut App) {
    let pieces = values(app);
    let now = app.filter_text.clone();
    let with = |piece: &str| format!("{now} {piece}").trim().to_owned();
    let mut items: Vec<(String, Choice)> = Vec::new();
    if let Some(time) = app.chosen().and_then(|event| event.time()) {
        let time = date_time(time, &Zone::utc())[..23].replace(' ', "T");
        let piece = format!("time within 5m of {time}Z");
        items.push(("around this, 5 minutes".into(), Choice::Filter(with(&piece))));
    }
    for piece in &pieces {
        items.push((format!("only     {piece}"), Choice::Filter(with(piece))));
    }
    for piece in &pieces {
        items.push((format!("without  {piece}"), Choice::Filter(with(&format!("not {piece}")))));
    }
    show(app, "Filter by this event", items, "no event is chosen");
}

/// The menu of the pieces of the filter: each can be taken away.
pub(super) fn piece_menu(app: &mut App) {
    let text = app.filter_text.clone();
    let without = |range: &std::ops::Range<usize>| {
        // Blanks inside of what stays are left alone.
        format!("{} {}", text[..range.start].trim_end(), text[range.end..].trim_start()).trim().to_owned()
    };
    let items: Vec<(String, Choice)> = pieces(&text)
        .into_iter()
        .map(|range| (format!("take away  {}", &text[range.clone()]), Choice::Filter(without(&range))))
        .collect();
    show(app, "Pieces of the filter", items, "no filter is in force");
}

/// The menu of what `{` and `}` can go along.
pub(super) fn walk_menu(app: &mut App) {
    let mut items: Vec<(String, Choice)> = Vec::new();
    let zone = app.zone.clone();
    let mut add = |label: String, filter: &str| {
        if let Ok(filter) = Filter::parse(filter, &zone) {
            items.push((label.clone(), Choice::Walk(Walk::Filter(filter), label)));
        }
    };
    if let Some(event) = app.chosen() {
        let actor = event.actor();
        let (host, component) = (quoted(event.host()), quoted(event.component()));
        let source = quoted(&app.case.sources[event.source()].name);
        if !event.component().is_empty() {
            add(format!("component {}", event.component()), &format!("component={component}"));
        }
        if let Some(pid) = actor.pid {
            add(format!("process {pid}"), &format!("host={host} pid={pid}"));
        }
        if let Some(tid) = actor.tid {
            add(format!("thread {tid}"), &format!("host={host} tid={tid}"));
        }
        if !event.host().is_empty() {
            add(format!("host {}", event.host()), &format!("host={host}"));
        }
        add("this source".into(), &format!("source={source}"));
        let mut codes: Vec<_> = event.codes().collect();
        codes.dedup();
        for code in &codes {
            add(format!("code {}", code.written()), &format!("code={}", quoted(&code.filter_value())));
        }
    }
    for level in ["warn", "error", "fatal"] {
        add(format!("{level} or worse"), &format!("level>={level}"));
    }
    if let Some(reading) = &app.reading {
        let shape: String = reading.shape.chars().take(50).collect();
        items.insert(
            0,
            (format!("pattern {shape}"), Choice::Walk(Walk::Pattern(reading.number), "this pattern".into())),
        );
    }
    for (place, ink) in app.workspace.inks.iter().enumerate() {
        if let Some(ink) = ink {
            let number = place + 1;
            items
                .push((format!("ink {number}: {}", ink.text), Choice::Walk(Walk::Ink(place), format!("ink {number}"))));
        }
    }
    items.push(("pins".into(), Choice::Walk(Walk::Pins, "pins".into())));
    show(app, "{ and } go along", items, "");
}

/// The menu of lenses.
pub(super) fn lens_menu(app: &mut App) {
    let of_case = app.logbook.lenses().unwrap_or_default();
    let mut items: Vec<(String, Choice)> = Vec::new();
    for lens in &app.workspace.lenses {
        let about = if lens.about.is_empty() { &lens.filter } else { &lens.about };
        items.push((format!("{:<17} {about}", lens.name), Choice::Filter(lens.filter.clone())));
    }
    for lens in of_case {
        items.push((format!("write {} as a file, for all cases", lens.name), Choice::ExportLens(lens.clone())));
        items.push((format!("forget {}", lens.name), Choice::DropLens(lens.name)));
    }
    show(app, "Lenses", items, "");
}

/// Does what was chosen in a menu.
pub(super) fn choose(app: &mut App, choice: Choice) {
    let done = match choice {
        Choice::Filter(text) => {
            typing::set_filter(app, &text);
            Ok(())
        }
        Choice::Walk(walk, label) => {
            app.workspace.walk = Some((walk, label));
            app.workspace.walk_places = None;
            app.message = None;
            walk_to(app, false, 1);
            Ok(())
        }
        Choice::DropInk(place) => set_ink(app, place, ""),
        Choice::EditInk(place) => {
            let text = app.workspace.inks[place].as_ref().map_or(String::new(), |ink| ink.text.clone());
            app.mode = Mode::Typing(Prompt::Ink(place), Input::new(text));
            Ok(())
        }
        Choice::DropLens(name) => set_lens(app, &name, ""),
        Choice::ExportLens(lens) => export_lens(app, &lens),
        Choice::Family(sources, code, offset, family) => super::codes::choose(app, &sources, code, offset, family),
    };
    if let Err(error) = done {
        app.message = Some(error.to_string());
    }
}

fn export_lens(app: &mut App, lens: &Lens) -> Result<()> {
    let path = lens.keep()?;
    app.message = Some(format!("written: {}", path.display()));
    Ok(())
}
