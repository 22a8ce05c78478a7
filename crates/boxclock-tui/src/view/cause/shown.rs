//! How the items of the Cause view look in the list and in the reading pane.

use boxclock_core::card::CardMatch;
use boxclock_core::cause::{CauseLink, Suggestion};
use boxclock_core::clock::human::date_time;
use boxclock_core::event::Row;
use boxclock_core::knot::Knot;
use boxclock_core::logbook::{ChainLink, Link, Pin, RemedyStep};
use ratatui::text::{Line, Span};

use super::axis::{self, Station};
use super::beside;
use crate::context::{Context, seen_in};
use crate::pane::Pane;
use crate::text::{cut, fit, many};
use crate::theme::Hue;
use crate::view::Item;

/// The fault cards that fit, once they are known.
pub(super) fn cards(cx: &Context) -> &[(CardMatch, usize)] {
    cx.known.as_ref().map_or(&[], |known| known.as_slice())
}

/// The fault card that says most.
pub(super) fn known_line(cx: &Context, first_suggestion: Option<&Suggestion>, width: usize) -> Line<'static> {
    // That of the likeliest cause, else one of one's own, else the worst.
    let of_cause = first_suggestion
        .and_then(|one| cards(cx).iter().find(|(found, _)| Some(&found.card.name) == one.card.as_ref()));
    let own = || cards(cx).iter().find(|(found, _)| found.card.is_own());
    let Some((first, met)) = of_cause.or_else(own).or_else(|| cards(cx).first()) else { return Line::raw("") };
    let others = match cards(cx).len() - 1 {
        0 => String::new(),
        others => format!(
            "; {} too",
            if others == 1 { "1 other card fits".into() } else { format!("{others} other cards fit") }
        ),
    };
    let text = format!(" This is known: {} ({}{}){others}", first.card.title, first.card.name, seen_in(*met));
    Line::styled(cut(&text, width), cx.theme.hue(Hue::Orange))
}

/// A fault card as an item of the list.
pub(super) fn known(cx: &Context, found: &CardMatch, met: usize, width: usize) -> Item {
    let row = vec![
        Span::styled("≡", cx.theme.hue(Hue::Orange)),
        Span::styled(fit(&format!("known {:.2}", found.score), 10), cx.theme.hue(Hue::Orange)),
        Span::raw(format!(" {}", fit(&found.card.title, width.saturating_sub(13)))),
    ];
    let says = format!("           card {}{}: {}", found.card.name, seen_in(met), found.card.cause);
    Item { row, below: vec![Line::styled(cut(&says, width.saturating_sub(2)), cx.theme.faint())] }
}

/// A knot as an item of the list.
pub(super) fn knot(cx: &Context, knot: &Knot, width: usize) -> Item {
    let Some(first) = knot.strands.first() else { return Item::one(Vec::new()) };
    let (time, host, lane) = time_and_host(cx, first.row);
    let row = vec![
        Span::styled("⁘", cx.theme.hue(Hue::Purple)),
        Span::styled(fit(&format!("knot {:.2}", knot.score), 10), cx.theme.hue(Hue::Purple)),
        Span::raw(format!("{time}  ")),
        Span::styled(fit(&host, 12), cx.theme.host(lane)),
        Span::raw(format!(" {}", fit(&first.text, width.saturating_sub(41)))),
    ];
    let below = format!("           unusual and bad together: {}", knot.reasons.join("; "));
    Item { row, below: vec![Line::styled(cut(&below, width.saturating_sub(2)), cx.theme.faint())] }
}

/// A knot in the reading pane: its summary, its lines in order, its words.
pub(super) fn explain_knot(cx: &Context, knot: &Knot, pane: &mut Pane<'_>) {
    pane.strong(&knot.summary);
    pane.heading("its lines");
    for strand in &knot.strands {
        let (time, host, _) = time_and_host(cx, strand.row);
        pane.line(&format!("{time}  {host}"));
        pane.text(&strand.text);
        pane.faint(&format!("{}:{}, {}", strand.source, strand.line, strand.oddity.words()));
    }
    if knot.others > 0 {
        pane.faint(&format!("and {} more", many(knot.others as u64, "unusual line")));
    }
    if !knot.words.is_empty() {
        pane.heading("words found here and almost nowhere else");
        pane.line(&knot.words.join(", "));
    }
    pane.gap();
    pane.faint("Enter goes to its first line. w groups events that are further apart, W only those closer together.");
}

/// A step of the checklist as an item of the list.
pub(super) fn remedy(cx: &Context, step: &RemedyStep, width: usize) -> Item {
    let (mark, hue) = if step.done.is_some() { ("■ done", Hue::Green) } else { ("□ to do", Hue::Sky) };
    let row = vec![
        Span::raw(" "),
        Span::styled(fit(mark, 10), cx.theme.hue(hue)),
        Span::raw(format!(" {}", fit(&step.what, width.saturating_sub(13)))),
    ];
    let below = match &step.done {
        Some((by, at)) => format!("           by {by}, {}", moment(cx, at)),
        None => format!("           {}", step.proves),
    };
    Item { row, below: vec![Line::styled(cut(&below, width.saturating_sub(2)), cx.theme.faint())] }
}

/// A moment of the logbook in the zone of the screen.
fn moment(cx: &Context, at: &str) -> String {
    boxclock_core::gather::time_of(at).map_or_else(|| at.to_owned(), |time| date_time(time, &cx.zone)[..19].to_owned())
}

/// A fault card in the reading pane: its cause, the lines that match, what to do.
pub(super) fn explain_card(cx: &Context, found: &CardMatch, met: usize, pane: &mut Pane<'_>) {
    const PLACES: usize = 5;
    let card = &found.card;
    pane.strong(&card.title);
    pane.text(&card.cause);
    pane.faint(&format!("{} of {} met{}", found.signs.len(), many(card.signs.len() as u64, "sign"), seen_in(met)));
    pane.heading("lines that match");
    for sign in &found.signs {
        for place in sign.places.iter().take(PLACES) {
            let event = cx.event(place.row);
            pane.line(&format!("{}  {}", short_time(cx, event.time()), event.host()));
            pane.faint(&format!("{}:{}", place.source, place.line));
        }
        if sign.count > PLACES {
            pane.faint(&format!("{} in all", many(sign.count as u64, "line")));
        }
    }
    pane.heading("what to do");
    for remedy in &card.remedies {
        pane.line(&format!("- {}", remedy.what));
        pane.faint(&format!("  {}", remedy.proves));
    }
    if !card.gone.is_empty() {
        pane.heading("how to see that it is gone");
        pane.text(&card.gone);
    }
    for reference in &card.references {
        pane.faint(reference);
    }
    pane.gap();
    pane.faint(&format!("From {}. Enter goes to the first line, r adds the steps to the checklist.", card.file));
}

pub(super) fn explain_step(cx: &Context, step: &RemedyStep, pane: &mut Pane<'_>) {
    pane.strong(&step.what);
    pane.text(&step.proves);
    pane.gap();
    match &step.done {
        Some((by, at)) => pane.facts("done by", &format!("{by}, {}", moment(cx, at))),
        None => pane.faint("Not done yet."),
    }
    pane.gap();
    pane.faint(
        "Enter notes that it is done, or not. x removes it, + adds another. v compares this case with a later box.",
    );
}

/// Day and time to the second: a chain goes over days, and nobody should have to guess which.
fn short_time(cx: &Context, time: Option<i64>) -> String {
    time.map_or_else(|| fit("no time", 14), |time| date_time(time, &cx.zone)[5..19].to_owned())
}

pub(super) fn time_and_host(cx: &Context, row: Row) -> (String, String, u32) {
    let event = cx.event(row);
    let time = short_time(cx, event.time());
    (time, event.host().to_owned(), event.actor().host)
}

/// A suggestion as an item of the list.
pub(super) fn suggested(cx: &Context, number: usize, one: &Suggestion, width: usize) -> Item {
    let Some(first) = one.chain.first() else { return Item::one(Vec::new()) };
    let (time, host, lane) = time_and_host(cx, first.place.row);
    let mark = if one.provable { format!("◇ {:.2}", one.score) } else { "◇ ends".to_owned() };
    let row = vec![
        Span::styled("?", cx.theme.hue(Hue::Sky)),
        Span::styled(fit(&mark, 10), cx.theme.hue(Hue::Sky)),
        Span::raw(format!("{time}  ")),
        Span::styled(fit(&host, 12), cx.theme.host(lane)),
        Span::raw(format!(" {}", fit(&first.text, width.saturating_sub(41)))),
    ];
    let says = if one.provable {
        format!("suggestion {}: {}", number + 1, one.reasons.join("; "))
    } else {
        "not provable from this case: the evidence ends here".to_owned()
    };
    let below = Line::styled(cut(&format!("           {says}"), width.saturating_sub(2)), cx.theme.faint());
    Item { row, below: vec![below] }
}

/// A suggestion in the reading pane: what it says, its chain, and what is missing.
pub(super) fn explain(cx: &Context, one: &Suggestion, pane: &mut Pane<'_>) {
    pane.strong(&one.summary);
    pane.gap();
    let stations: Vec<_> =
        one.chain.iter().enumerate().map(|(at, link)| (link.place.row, beside::station(one, at))).collect();
    pane.drawing(axis::axis(cx, &stations));
    pane.heading("from the root to the symptom");
    for CauseLink { place, text, why } in &one.chain {
        if !why.is_empty() {
            pane.faint(&format!("  because {why}"));
        }
        let event = cx.event(place.row);
        let time = event.time().map_or("no time".to_owned(), |time| date_time(time, &cx.zone));
        pane.line(&format!("{time}  {}", event.host()));
        pane.text(text);
        pane.faint(&format!("{}:{}", place.source, place.line));
    }
    if !one.missing.is_empty() {
        pane.heading("what would prove it");
        for missing in &one.missing {
            pane.line(&format!("- {missing}"));
        }
    }
    if !one.questions.is_empty() {
        pane.heading("open questions");
        for open in &one.questions {
            pane.text(&format!("- {}", open.what));
            pane.faint(&format!("  {}", open.proves));
        }
    }
    if let Some(name) = &one.card {
        pane.heading("a known fault");
        let of = cards(cx).iter().find(|(card, _)| card.card.name == *name);
        pane.line(of.map_or(name.as_str(), |(card, _)| &card.card.title));
        pane.faint(&format!(
            "card {name}{}; r adds its remedies to the checklist",
            of.map_or(String::new(), |(_, met)| seen_in(*met))
        ));
    }
    pane.gap();
    pane.faint("Enter goes to its first line, a makes this chain yours, o adds the open questions to the checklist, d shows all suggestions side by side.");
}

/// A pin as an item of the list, by its place in the order of the view.
pub(super) fn pin(cx: &Context, at: usize, width: usize) -> Item {
    let order = cx.cause_order();
    let (link, pin) = order[at];
    let event = cx.row_of_pin(pin).map(|row| cx.event(row));
    let time = event.map_or_else(|| short_time(cx, None), |event| short_time(cx, event.time()));
    let host = event.map_or("", |event| event.host());
    let number = event.map_or(0, |event| event.actor().host);
    let note = if pin.note.is_empty() { "(no note)" } else { &pin.note };
    let link = link.and_then(|link| cx.chain.get(link));
    let (mark, hue) = match link.map(|link| link.kind) {
        Some(Link::Root) => ("● root", cx.theme.hue(Hue::Vermilion)),
        Some(Link::Step) => ("│ step", cx.theme.hue(Hue::Orange)),
        Some(Link::Symptom) => ("○ symptom", cx.theme.hue(Hue::Sky)),
        None => (pin.kind.name(), cx.theme.pin((pin.kind, pin.colour))),
    };
    let row = vec![
        Span::styled("◂", cx.theme.pin((pin.kind, pin.colour))),
        Span::styled(fit(mark, 10), hue),
        Span::raw(format!("{time}  ")),
        Span::styled(fit(host, 12), cx.theme.host(number)),
        Span::raw(format!(" {}", fit(note, width.saturating_sub(41)))),
    ];
    let before = at.checked_sub(1).and_then(|before| cx.row_of_pin(order[before].1));
    let row_of_link = cx.row_of_pin(pin).filter(|_| link.is_some());
    let wrong = match row_of_link {
        Some(row) if axis::is_out_of_order(cx, before, row) => Some("out of order: it was before the link above"),
        None if link.is_some() && cx.view.loaded.complete => Some("its line is not in this case"),
        _ => None,
    };
    let reason = match link {
        Some(link) if link.reason.is_empty() => "no reason given yet (e)".to_owned(),
        Some(link) => format!("because {}", link.reason),
        None => "not in the chain (c)".to_owned(),
    };
    if let Some(wrong) = wrong {
        let below =
            Line::styled(cut(&format!("           {wrong}"), width.saturating_sub(2)), cx.theme.hue(Hue::Vermilion));
        return Item { row, below: vec![below] };
    }
    let stem = if link.is_some() && at + 1 < cx.chain.len() { " │" } else { "  " };
    let below = Line::from(vec![
        Span::styled(stem, cx.theme.faint()),
        Span::styled(cut(&format!("         {reason}"), width.saturating_sub(2)), cx.theme.faint()),
    ]);
    Item { row, below: vec![below] }
}

/// A pin in the reading pane; without one what pins are for.
pub(super) fn explain_pin(cx: &Context, chosen: Option<&Pin>, pane: &mut Pane<'_>) {
    let kind = |link: &ChainLink| match link.kind {
        Link::Root => Station::Root,
        Link::Step => Station::Step,
        Link::Symptom => Station::Symptom,
    };
    let of_chain =
        cx.cause_order().into_iter().filter_map(|(link, pin)| Some((cx.row_of_pin(pin)?, kind(cx.chain.get(link?)?))));
    let stations: Vec<_> = of_chain.collect();
    if !stations.is_empty() {
        pane.drawing(axis::axis(cx, &stations));
        pane.gap();
    }
    pane.faint("Put pins into the chain from the root to the symptom, and say why each link follows.");
    let Some(row) = chosen.and_then(|pin| cx.row_of_pin(pin)) else { return };
    pane.gap();
    let event = cx.event(row);
    pane.facts("host", event.host());
    let source = &cx.view.case.sources[event.source()];
    pane.facts("source", &source.name);
    // The place of a decoded record is read with the record, which the Stream shows.
    if source.decoded.is_none() {
        pane.facts("", &format!("line {}, byte {}", event.line(), event.offset()));
    }
    pane.codes_of(event);
}
