//! The Cause view: the chain from the root to the symptom, the pins that are not in it, the chains that the program suggests, the fault
//! cards that fit, the knots, and the checklist of remedies.

use std::sync::Arc;

use boxclock_core::analysis::EventKey;
use boxclock_core::card::CardMatch;
use boxclock_core::cause::{CauseAnalysis, Suggestion};
use boxclock_core::clock::human::duration_text;
use boxclock_core::knot::{Knot, KnotAnalysis};
use boxclock_core::logbook::{ChainLink, Link, Pin, RemedyStep};
use boxclock_core::{Error, Result};
use ratatui::text::{Line, Span};

use self::beside::SharedLine;
use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Question, Then};
use crate::jobs::Kind;
use crate::pane::Pane;
use crate::pane_state::PANE_STEP;
use crate::text::{cut, many};

mod axis;
mod beside;
mod shown;

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
    /// How close the lines of a knot have to be.
    asked: KnotAnalysis,
    /// The table that the knots are of.
    table: usize,
    /// The lines of all suggestions, where these are shown side by side.
    beside: Option<Vec<SharedLine>>,
}

/// An item of the list.
enum CauseItem<'a> {
    /// A pin, by its place in the order of the view.
    Pin(usize),
    /// A step of the checklist, by its place in it.
    Step(usize, &'a RemedyStep),
    /// A suggestion, with its number from 0.
    Suggestion(usize, &'a Suggestion),
    /// A fault card that fits, with the number of other cases that it fits.
    Card(&'a CardMatch, usize),
    Knot(&'a Knot),
    /// A line of the suggestions side by side.
    Shared(&'a SharedLine),
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
        long: "make the selected suggestion your own chain, with a pin at each of its lines; side by side: add the selected line to it",
        run: |view, cx, _| view.accept(cx),
    },
    ViewCommand {
        name: "side-by-side",
        keys: &["d"],
        short: "side by side",
        long: "show all suggestions side by side on one time axis, or the list again",
        run: |view, cx, _| Ok(view.toggle_beside(cx)),
    },
    ViewCommand {
        name: "open-questions",
        keys: &["o"],
        short: "questions",
        long: "add what is still to be found out about this suggestion to the checklist",
        run: |view, cx, _| view.take_questions(cx),
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
        long: "compare this case with a box gathered after the fix: is the failure gone?",
        run: |_, _, _| {
            let help = "a box, folder or file gathered after the fix";
            Ok(Then::Ask(Question::new("later box", help, "", Context::verify)))
        },
    },
    ViewCommand {
        name: "knots-wider",
        keys: &["w"],
        short: "wider",
        long: "group events into knots that are further apart",
        run: |view, _, _| Ok(view.rescale(true)),
    },
    ViewCommand {
        name: "knots-narrower",
        keys: &["W"],
        short: "narrower",
        long: "group only events into knots that are closer together",
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
        long: "move this link towards the root; on a row that is not a pin: scroll the reading pane up",
        run: |view, cx, _| view.move_link(cx, true),
    },
    ViewCommand {
        name: "link-down",
        keys: &["J"],
        short: "later",
        long: "move this link towards the symptom; on a row that is not a pin: scroll the reading pane down",
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
            if let Some(CauseItem::Step(at, _)) = view.chosen_item(cx) {
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

    fn knots(&self) -> &[Knot] {
        self.knots.as_ref().map_or(&[], |knots| knots.as_slice())
    }

    /// The item at a place of the list.
    fn at<'a>(&'a self, cx: &'a Context, index: usize) -> Option<CauseItem<'a>> {
        if let Some(lines) = &self.beside {
            return lines.get(index).map(CauseItem::Shared);
        }
        let mut at = index;
        // What is one's own first, then what the program found; each section behind the one before.
        let mut within = |len: usize| {
            if at < len {
                return Some(at);
            }
            at -= len;
            None
        };
        if let Some(pin) = within(cx.pins.len()) {
            return Some(CauseItem::Pin(pin));
        }
        if let Some(step) = within(cx.remedies.len()) {
            return Some(CauseItem::Step(step, &cx.remedies[step]));
        }
        if let Some(one) = within(self.all().len()) {
            return Some(CauseItem::Suggestion(one, &self.all()[one]));
        }
        if let Some(card) = within(shown::cards(cx).len()) {
            let (found, met) = &shown::cards(cx)[card];
            return Some(CauseItem::Card(found, *met));
        }
        within(self.knots().len()).map(|knot| CauseItem::Knot(&self.knots()[knot]))
    }

    fn chosen_item<'a>(&'a self, cx: &'a Context) -> Option<CauseItem<'a>> {
        self.at(cx, self.list.cursor)
    }

    fn rescale(&mut self, wider: bool) -> Then {
        self.asked = self.asked.rescaled(wider);
        Then::say(format!("Knots: events up to {} apart are grouped.", duration_text(self.asked.gap_ns())))
    }

    fn take_remedies(&mut self, cx: &mut Context) -> Result<Then> {
        let named = |one: &Suggestion| {
            let name = one.card.as_ref()?;
            shown::cards(cx).iter().map(|(found, _)| found).find(|found| found.card.name == *name)
        };
        let found = match self.chosen_item(cx) {
            Some(CauseItem::Card(found, _)) => Some(found),
            Some(CauseItem::Suggestion(_, one)) => named(one),
            // The chain that was accepted is most often the first suggestion.
            _ => self.all().iter().find_map(named),
        };
        let Some(card) = found.map(|found| Arc::clone(&found.card)) else {
            return Ok(Then::say("No fault card fits here. Add steps of your own with +."));
        };
        cx.add_remedies(&card)
    }

    fn toggle_beside(&mut self, cx: &Context) -> Then {
        if self.beside.take().is_none() {
            if self.all().is_empty() {
                let looking = self.found.is_none();
                return Then::say(if looking {
                    "Still looking for causes."
                } else {
                    "There is no suggestion to show."
                });
            }
            self.beside = Some(beside::lines(cx, self.all()));
        }
        self.list = ListState::default();
        Then::Stay
    }

    fn take_questions(&mut self, cx: &mut Context) -> Result<Then> {
        let one = match self.chosen_item(cx) {
            Some(CauseItem::Suggestion(_, one)) => Some(one),
            _ => self.all().first(),
        };
        let asked = one.map_or(&[][..], |one| &one.questions);
        let steps: Vec<(String, String)> = asked.iter().map(|open| (open.what.clone(), open.proves.clone())).collect();
        if steps.is_empty() {
            return Ok(Then::say("There are no open questions."));
        }
        cx.add_steps(steps, "All of these questions are already in the checklist.")
    }

    /// Adds the selected line of the suggestions side by side to the chain, where its time puts it.
    fn accept_line(&mut self, cx: &mut Context, line: &SharedLine) -> Result<Then> {
        let row = line.row;
        let key = cx.view.key(cx.event(row));
        let link = self.all().iter().flat_map(|one| &one.chain).find(|link| link.place.row == row);
        let why = link.map_or(String::new(), |link| link.why.clone());
        let mut links: Vec<(EventKey, String, Link, String)> = Vec::new();
        for link in &cx.chain {
            let Some(pin) = cx.pins.iter().find(|pin| pin.id == link.pin) else { continue };
            let own = EventKey { source: pin.source.as_str().into(), offset: pin.offset };
            links.push((own, pin.note.clone(), link.kind, link.reason.clone()));
        }
        if links.iter().any(|(own, ..)| *own == key) {
            return Ok(Then::say("This line is in the chain already."));
        }
        let time = cx.event(row).order_time();
        let is_later = |own: &EventKey| cx.view.row(own).is_some_and(|own| cx.event(own).order_time() > time);
        let at = links.iter().position(|(own, ..)| is_later(own)).unwrap_or(links.len());
        let is_there = |kind: Link| links.iter().any(|(.., known, _)| *known == kind);
        let kind = Some(line.kind()).filter(|kind| !is_there(*kind)).unwrap_or(Link::Step);
        links.insert(at, (key, cut(&line.text, NOTE_CHARS), kind, why));
        cx.accept_chain(&links)?;
        Ok(Then::say(format!("The chain has {} now; u undoes this.", many(links.len() as u64, "link"))))
    }

    fn accept(&mut self, cx: &mut Context) -> Result<Then> {
        if let Some(CauseItem::Shared(line)) = self.chosen_item(cx) {
            let line = line.clone();
            return self.accept_line(cx, &line);
        }
        let Some(CauseItem::Suggestion(_, one)) = self.chosen_item(cx) else {
            return Ok(Then::say("Select a suggestion first; they are listed below the pins."));
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
        self.chosen_own(cx).map(|(_, pin)| pin)
    }

    /// The chosen pin, with its place in the chain.
    fn chosen_own<'a>(&self, cx: &'a Context) -> Option<(Option<usize>, &'a Pin)> {
        if self.beside.is_some() { None } else { cx.cause_order().get(self.list.cursor).copied() }
    }

    /// The place in the chain of the chosen pin.
    fn chosen_link(&self, cx: &Context) -> Result<usize> {
        let link = self.chosen_own(cx).and_then(|(link, _)| link);
        link.ok_or_else(|| Error::new("This pin is not in the chain; c adds it."))
    }

    fn toggle_link(&mut self, cx: &mut Context) -> Result<Then> {
        let Some((link, pin)) = self.chosen_own(cx).map(|(link, pin)| (link, pin.id)) else {
            return Ok(Then::say("There are no pins yet; p in the Stream adds one."));
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
        if !matches!(self.chosen_item(cx), Some(CauseItem::Pin(_)) | None) {
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
        if let Some(lines) = &self.beside {
            return lines.len();
        }
        cx.pins.len() + cx.remedies.len() + self.all().len() + shown::cards(cx).len() + self.knots().len()
    }

    fn prepare(&mut self, cx: &mut Context) {
        // Its rows are those of the case as it is now, read to its end: of another they would be other lines, or none.
        self.found = if cx.view.loaded.complete { cx.ask(&CauseAnalysis, FOUND) } else { None };
        // The last ones stay until those of another scale are there; of another case they are other lines.
        if cx.view.loaded.complete {
            let asked = cx.ask(&self.asked, KNOTS);
            self.knots = asked.or_else(|| self.knots.take().filter(|_| self.table == cx.table_id()));
            self.table = cx.table_id();
        } else {
            self.knots = None;
        }
        // A corrected clock puts them in another order.
        if self.beside.is_some() {
            self.beside = Some(beside::lines(cx, self.all())).filter(|lines| !lines.is_empty());
        }
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        let row = match self.chosen_item(cx) {
            Some(CauseItem::Step(at, _)) => return cx.toggle_remedy(at),
            Some(CauseItem::Suggestion(_, one)) => one.chain.first().map(|link| link.place.row),
            Some(CauseItem::Card(found, _)) => found.places().next().map(|place| place.row),
            Some(CauseItem::Knot(knot)) => knot.strands.first().map(|strand| strand.row),
            Some(CauseItem::Shared(line)) => Some(line.row),
            Some(CauseItem::Pin(_)) => match self.chosen(cx).and_then(|pin| cx.row_of_pin(pin)) {
                Some(row) => Some(row),
                None => {
                    return Ok(Then::say("The source of this pin is not in the case, or has not been read yet."));
                }
            },
            None => None,
        };
        Ok(row.map_or(Then::Stay, Then::Go))
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        if self.beside.is_some() {
            return beside::heading(cx, self.all(), width);
        }
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
            shown::known_line(cx, self.all().first(), width),
        ]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        match self.at(cx, index) {
            Some(CauseItem::Pin(at)) => shown::pin(cx, at, width),
            Some(CauseItem::Step(_, step)) => shown::remedy(cx, step, width),
            Some(CauseItem::Suggestion(number, one)) => shown::suggested(cx, number, one, width),
            Some(CauseItem::Card(card, met)) => shown::known(cx, card, met, width),
            Some(CauseItem::Knot(knot)) => shown::knot(cx, knot, width),
            Some(CauseItem::Shared(line)) => beside::item(cx, self.all(), line, width),
            None => Item::one(Vec::new()),
        }
    }

    fn empty(&self, cx: &Context) -> Vec<String> {
        if self.found.is_none() || !cx.view.loaded.complete {
            return vec!["Looking for causes …".into()];
        }
        vec![
            "Nothing is pinned yet.".into(),
            "No trouble was found to suggest a cause for.".into(),
            "In the Stream (3), p pins the selected event with a note. Pins are the evidence of a cause.".into(),
        ]
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        match self.chosen_item(cx) {
            Some(CauseItem::Suggestion(_, one)) => shown::explain(cx, one, pane),
            Some(CauseItem::Card(card, met)) => shown::explain_card(cx, card, met, pane),
            Some(CauseItem::Knot(knot)) => shown::explain_knot(cx, knot, pane),
            Some(CauseItem::Step(_, step)) => shown::explain_step(cx, step, pane),
            Some(CauseItem::Shared(line)) => beside::explain(cx, self.all(), line, pane),
            Some(CauseItem::Pin(_)) | None => shown::explain_pin(cx, self.chosen(cx), pane),
        }
    }
}
