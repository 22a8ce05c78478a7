//! Menus of the Stream: what can be done with an ink, a value, a piece of the filter, a lens; what a walk goes along.

use boxclock_core::clock::human::{date_time, moment};
use boxclock_core::clock::{self, Zone};
use boxclock_core::query::Filter;
use boxclock_core::query::Lens;
use boxclock_core::query::values::{pieces, quoted};

use crate::context::{Choice, Context, Menu, Question, Then, item};
use crate::stream::WalkTarget;

/// How far around an event is offered: in words, and as the filter writes it.
const AROUND: [(&str, &str); 4] = [("a minute", "1m"), ("5 minutes", "5m"), ("10 seconds", "10s"), ("an hour", "1h")];
/// Attributes of an event that are offered.
const MAX_ATTRIBUTES: usize = 20;
/// Characters of a template that are shown.
const MAX_TEMPLATE: usize = 50;

/// An item that puts a filter into force.
fn filter_item(label: impl Into<String>, text: String) -> (String, Choice) {
    item(label, move |cx| cx.set_filter(&text).map(|()| Then::Stay))
}

/// An item that goes along something.
fn walk_item(label: impl Into<String>, target: WalkTarget, name: String) -> (String, Choice) {
    item(label, move |cx| {
        cx.stream.walk = Some((target.clone(), name.clone()));
        cx.stream.walk_places = None;
        Ok(cx.walk_to(false, 1))
    })
}

/// The question for what an ink looks for.
pub fn ink_question(place: usize, text: String) -> Question {
    let help = "a text, /a regular expression/, or =level>=error host=NAME; leave empty to remove";
    Question::new(format!("ink {}", place + 1), help, text, move |cx, text| {
        cx.set_ink(place, text)?;
        Ok(Then::Stay)
    })
}

impl Context {
    /// The menu of the inks: remove, change, walk along.
    pub fn ink_menu(&self) -> Then {
        let mut items = Vec::new();
        for (place, ink) in self.stream.inks.iter().enumerate() {
            let Some(ink) = ink else { continue };
            let (number, text) = (place + 1, ink.text.clone());
            let name = format!("ink {number}");
            items.push(walk_item(format!("{number}  walk along {text}"), WalkTarget::Ink(place), name));
            let now = text.clone();
            items.push(item(format!("{number}  change {text}"), move |_| {
                Ok(Then::Ask(ink_question(place, now.clone())))
            }));
            items.push(item(format!("{number}  remove {text}"), move |cx| cx.set_ink(place, "").map(|()| Then::Stay)));
        }
        Menu::offer("Inks", items, "There are no inks yet; m colours a text or filter.")
    }

    /// The values of the chosen event, as pieces of a filter.
    fn value_pieces(&self) -> Vec<String> {
        let Some(event) = self.chosen() else { return Vec::new() };
        let actor = event.actor();
        let mut pieces = Vec::new();
        let mut add = |field: &str, value: &str| {
            if !value.is_empty() {
                pieces.push(format!("{field}={}", quoted(value)));
            }
        };
        add("component", event.component());
        add("host", event.host());
        add("source", &self.view.case.sources[event.source()].name);
        add("level", event.severity().name().unwrap_or("none"));
        add("pid", &actor.pid.map_or(String::new(), |id| id.to_string()));
        add("tid", &actor.tid.map_or(String::new(), |id| id.to_string()));
        let mut codes: Vec<String> = event.codes().map(|code| code.filter_value(event.catalogues())).collect();
        codes.dedup();
        for code in &codes {
            add("code", code);
        }
        if let Some(detail) = &self.pane.detail {
            pieces.push(format!("pattern={}", detail.pattern));
            let attributes = detail.record.attributes.iter();
            let plain = attributes.filter(|(_, value)| !value.is_object() && !value.is_array());
            for (name, value) in plain.take(MAX_ATTRIBUTES) {
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
    pub fn value_menu(&self) -> Then {
        let pieces = self.value_pieces();
        let with = |piece: &str| format!("{} {piece}", self.stream.filter_text).trim().to_owned();
        let mut items = Vec::new();
        if let Some(time) = self.chosen().and_then(|event| event.time()) {
            let time = date_time(time, &Zone::utc())[..23].replace(' ', "T");
            // Without the other conditions: what the filter hides is what is looked for around a hit.
            for (words, span) in AROUND {
                items.push(filter_item(
                    format!("everything within {words} of this; < goes back"),
                    format!("time within {span} of {time}Z"),
                ));
            }
            if !self.stream.filter_text.is_empty() {
                items.push(filter_item(
                    "what passes the filter within 5 minutes of this",
                    with(&format!("time within 5m of {time}Z")),
                ));
            }
        }
        items.extend(pieces.iter().map(|piece| filter_item(format!("only     {piece}"), with(piece))));
        items
            .extend(pieces.iter().map(|piece| filter_item(format!("without  {piece}"), with(&format!("not {piece}")))));
        Menu::offer("Filter by this event", items, "No event is selected.")
    }

    /// The menu of the pieces of the filter: each can be removed.
    pub fn piece_menu(&self) -> Then {
        let text = &self.stream.filter_text;
        let without = |range: &std::ops::Range<usize>| {
            // Blanks inside of what stays are left alone.
            format!("{} {}", text[..range.start].trim_end(), text[range.end..].trim_start()).trim().to_owned()
        };
        let items = pieces(text)
            .into_iter()
            .map(|range| filter_item(format!("remove  {}", &text[range.clone()]), without(&range)));
        Menu::offer("Pieces of the filter", items.collect(), "There is no filter.")
    }

    /// The menu of what a walk can go along.
    pub fn walk_menu(&self) -> Then {
        let mut items = Vec::new();
        if let Some(detail) = &self.pane.detail {
            let shown: String = detail.template.chars().take(MAX_TEMPLATE).collect();
            let target = WalkTarget::Pattern(detail.pattern);
            items.push(walk_item(format!("pattern {shown}"), target, "this pattern".into()));
        }
        let mut add = |label: String, text: &str| {
            if let Ok(filter) = Filter::parse_with(text, &self.zone, &self.catalogues()) {
                items.push(walk_item(label.clone(), WalkTarget::Filter(filter), label));
            }
        };
        if let Some(event) = self.chosen() {
            let actor = event.actor();
            let (host, component) = (quoted(event.host()), quoted(event.component()));
            let source = quoted(&self.view.case.sources[event.source()].name);
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
                add(
                    format!("code {}", code.written(&self.catalogues())),
                    &format!("code={}", quoted(&code.filter_value(&self.catalogues()))),
                );
            }
        }
        for level in ["warn", "error", "fatal"] {
            add(format!("{level} or worse"), &format!("level>={level}"));
        }
        for (place, ink) in self.stream.inks.iter().enumerate() {
            if let Some(ink) = ink {
                let number = place + 1;
                let target = WalkTarget::Ink(place);
                items.push(walk_item(format!("ink {number}: {}", ink.text), target, format!("ink {number}")));
            }
        }
        items.push(walk_item("pins", WalkTarget::Pins, "pins".into()));
        Menu::offer("{ and } go along", items, "")
    }

    /// The menu of lenses.
    pub fn lens_menu(&self) -> Then {
        let of_case = self.logbook.lenses().unwrap_or_default();
        let mut items = Vec::new();
        for lens in &self.stream.lenses {
            let about = if lens.about.is_empty() { &lens.filter } else { &lens.about };
            items.push(filter_item(format!("{:<17} {about}", lens.name), lens.filter.clone()));
        }
        let last_good = moment(&self.story.last_good, &self.view.case.zone, clock::now());
        items.push(match last_good {
            Ok(time) => {
                let time = date_time(time, &Zone::utc())[..19].replace(' ', "T");
                let label = format!("{:<17} Which kinds of messages came first after it last worked?", "new");
                filter_item(label, format!("firstseen>={time}Z"))
            }
            Err(_) => item(format!("{:<17} needs the time when it last worked", "new"), |_| {
                Ok(Then::say("1 opens the Story: write there when it last worked, then this lens shows what is new."))
            }),
        });
        for lens in of_case.into_iter().map(Lens::from) {
            let name = lens.name.clone();
            items.push(item(format!("save {} as a file, for all cases", lens.name), move |_| {
                Ok(Then::Say(format!("Written: {}", lens.keep()?.display())))
            }));
            items.push(item(format!("forget {name}"), move |cx| cx.set_lens(&name, "").map(|()| Then::Stay)));
        }
        Menu::offer("Lenses", items, "")
    }
}
