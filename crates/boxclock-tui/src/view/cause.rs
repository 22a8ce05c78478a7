//! The Cause view: the chain from the root to the symptom, the pins that are not in it, the chains that the program suggests, the fault
//! cards that fit, the knots, and the checklist of remedies.

use std::sync::Arc;

use boxclock_core::card::CardMatch;
use boxclock_core::cause::{CauseAnalysis, CauseLink, Suggestion};
use boxclock_core::clock::human::date_time;
use boxclock_core::event::Row;
use boxclock_core::knot::{Knot, KnotAnalysis, other_scale};
use boxclock_core::logbook::{ChainLink, Link, Pin, RemedyStep};
use boxclock_core::{Error, Result};
use ratatui::text::{Line, Span};

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Question, Then, seen_in};
use crate::jobs::Kind;
use crate::pane::Pane;
use crate::pane_state::PANE_STEP;
use crate::text::{cut, fit, many};
use crate::theme::Hue;

static SPEC: Spec = Spec {
    id: "cause",
    key: "9",
    name: "Cause",
    about: "Cause: roots, the chain to the symptom, known faults, remedies",
    head_rows: 2,
    item_rows: 2,
    has_pane: true,
    tab_of: None,
};

const FOUND: Kind = ("cause", 0);
const KNOTS: Kind = ("knots", 0);
/// Characters of a line that become the note of its pin.
const NOTE_CHARS: usize = 120;

/// The view.
#[derive(Default)]
struct CauseView {
    list: ListState,
    found: Option<Arc<Vec<Suggestion>>>,
    knots: Option<Arc<Vec<Knot>>>,
    /// What counts as close: 1 is usual; 0 until it is set.
    scale: f64,
    /// The table that the knots are of.
    table: usize,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<CauseView>::default()
}

const COMMANDS: &[ViewCommand<CauseView>] = &[
    ViewCommand {
        name: "accept-chain",
        keys: &["a"],
        short: "accept",
        long: "make the selected suggestion your own chain, with a pin at each of its lines",
        run: |view, cx, _| view.accept(cx),
    },
    ViewCommand {
        name: "take-remedies",
        keys: &["r"],
        short: "remedies",
        long: "add the remedies of this fault card, or of the one that fits this suggestion or the chain, to the checklist",
        run: |view, cx, _| view.take_remedies(cx),
    },
    ViewCommand {
        name: "add-remedy",
        keys: &["+"],
        short: "add step",
        long: "add a step of your own to the checklist of remedies",
        run: |_, _, _| {
            Ok(Then::Ask(Question::new("step", "what to do; Enter adds it to the checklist", "", |cx, text| {
                let what = text.trim().to_owned();
                if !what.is_empty() {
                    let mut steps = cx.remedies.clone();
                    steps.push(RemedyStep { what, ..RemedyStep::default() });
                    cx.set_remedies(steps)?;
                }
                Ok(Then::Stay)
            })))
        },
    },
    ViewCommand {
        name: "make-card",
        keys: &["m"],
        short: "make card",
        long: "make a fault card of the chain, by which the same fault is known elsewhere",
        run: |_, cx, _| {
            let help = "the name of the card: letters, digits and hyphens";
            let text = cx.title().to_lowercase().replace(|letter: char| !letter.is_ascii_alphanumeric(), "-");
            Ok(Then::Ask(Question::new("card", help, text, Context::make_card)))
        },
    },
    ViewCommand {
        name: "verify",
        keys: &["v"],
        short: "verify",
        long: "hold this case against a box gathered after the mending: is the failure gone?",
        run: |_, _, _| {
            let help = "a box, folder or file that was gathered after the mending";
            Ok(Then::Ask(Question::new("later box", help, "", Context::verify)))
        },
    },
    ViewCommand {
        name: "knots-wider",
        keys: &["w"],
        short: "wider",
        long: "take together as a knot what lies further apart",
        run: |view, _, _| Ok(view.rescale(true)),
    },
    ViewCommand {
        name: "knots-narrower",
        keys: &["W"],
        short: "narrower",
        long: "take together as a knot only what lies closer",
        run: |view, _, _| Ok(view.rescale(false)),
    },
    ViewCommand {
        name: "chain",
        keys: &["c"],
        short: "chain",
        long: "add this pin to the chain, or take it out",
        run: |view, cx, _| view.toggle_link(cx),
    },
    ViewCommand {
        name: "link-up",
        keys: &["K"],
        short: "earlier",
        long: "move this link towards the root; of a suggestion: scroll the reading pane up",
        run: |view, cx, _| view.move_link(cx, true),
    },
    ViewCommand {
        name: "link-down",
        keys: &["J"],
        short: "later",
        long: "move this link towards the symptom; of a suggestion: scroll the reading pane down",
        run: |view, cx, _| view.move_link(cx, false),
    },
    ViewCommand {
        name: "link-kind",
        keys: &["s"],
        short: "kind",
        long: "change the kind of this link: root, step or symptom",
        run: |view, cx, _| view.change_link(cx, |link| link.kind = link.kind.next()),
    },
    ViewCommand {
        name: "link-reason",
        keys: &["e"],
        short: "reason",
        long: "say why this link follows from the one before",
        run: |view, cx, _| {
            let link = view.chosen_link(cx)?;
            let text = cx.chain[link].reason.clone();
            Ok(Then::Ask(Question::new("it follows because", "Enter saves, Esc cancels", text, move |cx, text| {
                let mut chain = cx.chain.clone();
                if let Some(link) = chain.get_mut(link) {
                    text.clone_into(&mut link.reason);
                    cx.set_chain(chain)?;
                }
                Ok(Then::Stay)
            })))
        },
    },
    ViewCommand {
        name: "pin-kind",
        keys: &["t"],
        short: "pin kind",
        long: "change the kind of this pin: evidence, symptom, change, root, ruled out",
        run: |view, cx, _| view.change_pin(cx, false),
    },
    ViewCommand {
        name: "pin-colour",
        keys: &["C"],
        short: "colour",
        long: "give this pin another colour",
        run: |view, cx, _| view.change_pin(cx, true),
    },
    ViewCommand {
        name: "unpin",
        keys: &["x"],
        short: "remove",
        long: "remove this pin, or this step of the checklist",
        run: |view, cx, _| {
            if let Some((at, _)) = view.step(cx) {
                let mut steps = cx.remedies.clone();
                steps.remove(at);
                cx.set_remedies(steps)?;
                return Ok(Then::Stay);
            }
            match view.chosen(cx).cloned() {
                Some(pin) => cx.remove_pin(&pin),
                None => Ok(Then::Stay),
            }
        },
    },
];

impl CauseView {
    fn all(&self) -> &[Suggestion] {
        self.found.as_ref().map_or(&[], |found| found.as_slice())
    }

    /// The chosen suggestion, with its number from 0.
    fn suggestion(&self, cx: &Context) -> Option<(usize, &Suggestion)> {
        let at = self.list.cursor.checked_sub(own(cx))?;
        self.all().get(at).map(|one| (at, one))
    }

    fn scale(&self) -> f64 {
        if self.scale > 0.0 { self.scale } else { 1.0 }
    }

    fn rescale(&mut self, wider: bool) -> Then {
        self.scale = other_scale(self.scale(), wider);
        Then::say(format!("Knots: what lies {:.0} s apart is close.", 20.0 * self.scale))
    }

    fn knots(&self) -> &[Knot] {
        self.knots.as_ref().map_or(&[], |knots| knots.as_slice())
    }

    /// The chosen knot.
    fn knot(&self, cx: &Context) -> Option<&Knot> {
        self.knots().get(self.list.cursor.checked_sub(own(cx) + self.all().len() + cards(cx).len())?)
    }

    /// The chosen fault card, with the number of other cases that it fits.
    fn card<'a>(&self, cx: &'a Context) -> Option<&'a (CardMatch, usize)> {
        let at = self.list.cursor.checked_sub(own(cx) + self.all().len())?;
        cx.known.as_ref()?.get(at)
    }

    /// The chosen step of the checklist, with its place.
    fn step<'a>(&self, cx: &'a Context) -> Option<(usize, &'a RemedyStep)> {
        let at = self.list.cursor.checked_sub(cx.pins.len())?;
        cx.remedies.get(at).map(|step| (at, step))
    }

    fn take_remedies(&mut self, cx: &mut Context) -> Result<Then> {
        let found = match (self.card(cx), self.suggestion(cx)) {
            (Some((found, _)), _) => Some(found),
            (None, Some((_, one))) => one
                .card
                .as_ref()
                .and_then(|name| cards(cx).iter().map(|(card, _)| card).find(|of| of.card.name == *name)),
            // The chain that was accepted is most often the first suggestion.
            (None, None) => {
                let names = self.all().iter().filter_map(|one| one.card.as_ref());
                names
                    .flat_map(|name| cards(cx).iter().map(|(card, _)| card).filter(move |of| of.card.name == *name))
                    .next()
            }
        };
        let Some(card) = found.map(|found| std::sync::Arc::clone(&found.card)) else {
            return Ok(Then::say("No fault card fits here. Add steps of your own with +."));
        };
        cx.add_remedies(&card)
    }

    fn accept(&mut self, cx: &mut Context) -> Result<Then> {
        let Some((_, one)) = self.suggestion(cx) else {
            return Ok(Then::say("Select a suggestion first: they stand below the pins."));
        };
        let last = one.chain.len().saturating_sub(1);
        let links: Vec<_> = one
            .chain
            .iter()
            .enumerate()
            .map(|(at, link)| {
                let kind = match at {
                    0 if one.provable => Link::Root,
                    at if at == last => Link::Symptom,
                    _ => Link::Step,
                };
                (cx.view.key(cx.event(link.place.row)), cut(&link.text, NOTE_CHARS), kind, link.why.clone())
            })
            .collect();
        cx.accept_chain(&links)?;
        self.list.cursor = 0;
        Ok(Then::say(format!("The chain has {} now; u undoes this.", many(links.len() as u64, "link"))))
    }

    fn chosen<'a>(&self, cx: &'a Context) -> Option<&'a Pin> {
        cx.cause_order().get(self.list.cursor).map(|(_, pin)| *pin)
    }

    /// The place in the chain of the chosen pin.
    fn chosen_link(&self, cx: &Context) -> Result<usize> {
        let link = cx.cause_order().get(self.list.cursor).and_then(|(link, _)| *link);
        link.ok_or_else(|| Error::new("This pin is not in the chain; c adds it."))
    }

    fn toggle_link(&mut self, cx: &mut Context) -> Result<Then> {
        let Some((link, pin)) = cx.cause_order().get(self.list.cursor).map(|(link, pin)| (*link, pin.id)) else {
            return Ok(Then::say("There is no pin yet; p in the Stream makes one."));
        };
        let mut chain = cx.chain.clone();
        if let Some(link) = link {
            chain.remove(link);
        } else {
            let kind = if chain.is_empty() { Link::Root } else { Link::Step };
            chain.push(ChainLink { pin, kind, reason: String::new() });
        }
        cx.set_chain(chain)?;
        self.follow(cx, pin);
        Ok(Then::Stay)
    }

    /// Keeps the same pin chosen when the order has changed.
    fn follow(&mut self, cx: &Context, pin: i64) {
        if let Some(place) = cx.cause_order().iter().position(|(_, other)| other.id == pin) {
            self.list.cursor = place;
        }
    }

    fn move_link(&mut self, cx: &mut Context, up: bool) -> Result<Then> {
        if self.suggestion(cx).is_some() {
            return Ok(cx.scroll_pane(if up { -PANE_STEP } else { PANE_STEP }));
        }
        let link = self.chosen_link(cx)?;
        let other = if up { link.checked_sub(1) } else { Some(link + 1).filter(|other| *other < cx.chain.len()) };
        if let Some(other) = other {
            let mut chain = cx.chain.clone();
            let pin = chain[link].pin;
            chain.swap(link, other);
            cx.set_chain(chain)?;
            self.follow(cx, pin);
        }
        Ok(Then::Stay)
    }

    fn change_link(&mut self, cx: &mut Context, change: impl FnOnce(&mut ChainLink)) -> Result<Then> {
        let link = self.chosen_link(cx)?;
        let mut chain = cx.chain.clone();
        change(&mut chain[link]);
        cx.set_chain(chain)?;
        Ok(Then::Stay)
    }

    fn change_pin(&mut self, cx: &mut Context, colour: bool) -> Result<Then> {
        match self.chosen(cx).cloned() {
            Some(pin) => cx.change_pin(&pin, colour),
            None => Ok(Then::Stay),
        }
    }
}

impl View for CauseView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, cx: &Context) -> usize {
        own(cx) + self.all().len() + cards(cx).len() + self.knots().len()
    }

    fn prepare(&mut self, cx: &mut Context) {
        // Its rows are those of the case as it is now, read to its end: of another they would be other lines, or none.
        self.found = if cx.view.loaded.complete { cx.ask(&CauseAnalysis, FOUND) } else { None };
        // The last ones stay until those of another scale are there; of another case they are other lines.
        if cx.view.loaded.complete {
            let asked = cx.ask(&KnotAnalysis { scale: self.scale() }, KNOTS);
            self.knots = asked.or_else(|| self.knots.take().filter(|_| self.table == cx.table_id()));
            self.table = cx.table_id();
        } else {
            self.knots = None;
        }
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        if let Some(link) = self.suggestion(cx).and_then(|(_, one)| one.chain.first()) {
            return Ok(Then::Go(link.place.row));
        }
        if let Some((card, _)) = self.card(cx) {
            let row = card.places().next().map(|place| place.row);
            return Ok(row.map_or(Then::Stay, Then::Go));
        }
        if let Some(strand) = self.knot(cx).and_then(|knot| knot.strands.first()) {
            return Ok(Then::Go(strand.row));
        }
        if let Some((at, _)) = self.step(cx) {
            return cx.toggle_remedy(at);
        }
        let Some(pin) = self.chosen(cx) else { return Ok(Then::Stay) };
        Ok(match cx.row_of_pin(pin) {
            Some(row) => Then::Go(row),
            None => Then::say("The source of this pin is not in the case, or has not been read yet."),
        })
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let links = cx.chain.len();
        let others = cx.pins.len().saturating_sub(links);
        let suggested = match &self.found {
            Some(found) => many(found.len() as u64, "suggestion"),
            None => "looking for causes …".to_owned(),
        };
        let counts = format!("   {}, {}, {suggested}", many(links as u64, "link"), many(others as u64, "other pin"));
        vec![
            Line::from(vec![
                Span::styled(" From the root to the symptom", cx.theme.strong()),
                Span::styled(counts, cx.theme.faint()),
            ]),
            known_line(cx, self.all().first(), width),
        ]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        if let Some(step) = index.checked_sub(cx.pins.len()).and_then(|at| cx.remedies.get(at)) {
            return remedy(cx, step, width);
        }
        if let Some(at) = index.checked_sub(own(cx)) {
            let (of_cards, of_knots) = (self.all().len(), self.all().len() + cards(cx).len());
            return match (self.all().get(at), at.checked_sub(of_cards), at.checked_sub(of_knots)) {
                (Some(one), ..) => suggested(cx, at, one, width),
                (None, _, Some(at)) => {
                    self.knots().get(at).map_or_else(|| Item::one(Vec::new()), |knot| of_knot(cx, knot, width))
                }
                (None, at, None) => match at.and_then(|at| cards(cx).get(at)) {
                    Some((card, met)) => known(cx, card, *met, width),
                    None => Item::one(Vec::new()),
                },
            };
        }
        let (link, pin) = cx.cause_order()[index];
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
        let reason = match link {
            Some(link) if link.reason.is_empty() => "no reason given yet (e)".to_owned(),
            Some(link) => format!("because {}", link.reason),
            None => "not in the chain (c)".to_owned(),
        };
        let stem = if link.is_some() && index + 1 < cx.chain.len() { " │" } else { "  " };
        let below = Line::from(vec![
            Span::styled(stem, cx.theme.faint()),
            Span::styled(cut(&format!("         {reason}"), width.saturating_sub(2)), cx.theme.faint()),
        ]);
        Item { row, below: vec![below] }
    }

    fn empty(&self, cx: &Context) -> Vec<String> {
        if self.found.is_none() || !cx.view.loaded.complete {
            return vec!["Looking for causes …".into()];
        }
        vec![
            "Nothing is pinned yet.".into(),
            "No trouble was found that a cause could be suggested for.".into(),
            "In the Stream (3), p pins the selected event with a note. Pins are the evidence of a cause.".into(),
        ]
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        if let Some((_, one)) = self.suggestion(cx) {
            return explain(cx, one, pane);
        }
        if let Some((card, met)) = self.card(cx) {
            return explain_card(cx, card, *met, pane);
        }
        if let Some(knot) = self.knot(cx) {
            return explain_knot(cx, knot, pane);
        }
        if let Some((_, step)) = self.step(cx) {
            return explain_step(cx, step, pane);
        }
        pane.faint("Put pins into the chain from the root to the symptom, and say why each link follows.");
        let Some(row) = self.chosen(cx).and_then(|pin| cx.row_of_pin(pin)) else { return };
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
}

/// How many items are of the user: pins, and steps of the checklist below them.
fn own(cx: &Context) -> usize {
    cx.pins.len() + cx.remedies.len()
}

/// The fault cards that fit, once they are known.
fn cards(cx: &Context) -> &[(CardMatch, usize)] {
    cx.known.as_ref().map_or(&[], |known| known.as_slice())
}

/// The fault card that says most.
fn known_line(cx: &Context, first_suggestion: Option<&Suggestion>, width: usize) -> Line<'static> {
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
fn known(cx: &Context, found: &CardMatch, met: usize, width: usize) -> Item {
    let row = vec![
        Span::styled("≡", cx.theme.hue(Hue::Orange)),
        Span::styled(fit(&format!("known {:.2}", found.score), 10), cx.theme.hue(Hue::Orange)),
        Span::raw(format!(" {}", fit(&found.card.title, width.saturating_sub(13)))),
    ];
    let says = format!("           card {}{}: {}", found.card.name, seen_in(met), found.card.cause);
    Item { row, below: vec![Line::styled(cut(&says, width.saturating_sub(2)), cx.theme.faint())] }
}

/// A knot as an item of the list.
fn of_knot(cx: &Context, knot: &Knot, width: usize) -> Item {
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
fn explain_knot(cx: &Context, knot: &Knot, pane: &mut Pane<'_>) {
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
        pane.heading("words that stand here and hardly elsewhere");
        pane.line(&knot.words.join(", "));
    }
    pane.gap();
    pane.faint("Enter goes to its first line. w takes in what lies further apart, W only what lies closer.");
}

/// A step of the checklist as an item of the list.
fn remedy(cx: &Context, step: &RemedyStep, width: usize) -> Item {
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
fn explain_card(cx: &Context, found: &CardMatch, met: usize, pane: &mut Pane<'_>) {
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

fn explain_step(cx: &Context, step: &RemedyStep, pane: &mut Pane<'_>) {
    pane.strong(&step.what);
    pane.text(&step.proves);
    pane.gap();
    match &step.done {
        Some((by, at)) => pane.facts("done by", &format!("{by}, {}", moment(cx, at))),
        None => pane.faint("Not done yet."),
    }
    pane.gap();
    pane.faint(
        "Enter notes that it is done, or not. x removes it, + adds another. v holds this case against a later box.",
    );
}

/// Day and time to the second: a chain goes over days, and nobody should have to guess which.
fn short_time(cx: &Context, time: Option<i64>) -> String {
    time.map_or_else(|| fit("no time", 14), |time| date_time(time, &cx.zone)[5..19].to_owned())
}

fn time_and_host(cx: &Context, row: Row) -> (String, String, u32) {
    let event = cx.event(row);
    let time = short_time(cx, event.time());
    (time, event.host().to_owned(), event.actor().host)
}

/// A suggestion as an item of the list.
fn suggested(cx: &Context, number: usize, one: &Suggestion, width: usize) -> Item {
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
fn explain(cx: &Context, one: &Suggestion, pane: &mut Pane<'_>) {
    pane.strong(&one.summary);
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
    pane.faint("Enter goes to its first line, a makes this chain yours.");
}
