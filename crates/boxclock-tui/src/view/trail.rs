//! The Trail view: the way of one thing through programs and hosts, under all names that it goes by.

use boxclock_core::clock::human::{date_time, duration_text};
use boxclock_core::query::values::quoted;
use boxclock_core::trail::{self, Candidate, EndState, Hop, HopOutcome, Peers, Trail};
use boxclock_core::{Error, Result};
use ratatui::text::{Line, Span};

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, DRAWING, Menu, Question, Then, item};
use crate::inbox::Inbox;
use crate::jobs::{Apply, Kind};
use crate::pane::Pane;
use crate::text::{cut, fit, host_mark, last_part, many};
use crate::theme::Hue;

static SPEC: Spec = Spec {
    id: "trail",
    key: "7",
    name: "Trail",
    about: "Trail: where one request, job or frame went, and where it stopped",
    head_rows: 2,
    item_rows: 2,
    has_pane: true,
    tab_of: None,
};

const FOLLOW: Kind = ("trail", 0);
const OFFER: Kind = ("trail", 1);
/// Names that a filter of the Stream is made of.
const MOST_NAMES: usize = 24;

/// What was followed.
struct Followed {
    identifier: String,
    trail: Trail,
    peers: Option<Peers>,
}

/// The view.
#[derive(Default)]
struct TrailView {
    list: ListState,
    /// What is followed, or `None` while names are offered.
    followed: Option<Followed>,
    /// Names that were switched off.
    without: Vec<String>,
    /// The names that are offered; and the table and the event that these, or the trail, are of.
    offered: Vec<Candidate>,
    asked: Option<(usize, Option<boxclock_core::event::Row>)>,
    answer: Inbox<Result<Followed>>,
    offers: Inbox<Vec<Candidate>>,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<TrailView>::default()
}

const COMMANDS: &[ViewCommand<TrailView>] = &[
    ViewCommand {
        name: "follow-identifier",
        keys: &["t"],
        short: "follow",
        long: "follow a number or name that you type",
        run: |_, _, _| {
            let help = "a request, job, session, frame or mail, as a log writes it";
            let question = Question::new("follow", help, "", |_, _| Ok(Then::Stay));
            Ok(Then::Ask(Question { taker: crate::context::Taker::View(FOLLOWED), ..question }))
        },
    },
    ViewCommand {
        name: "offer-identifiers",
        keys: &["n"],
        short: "new trail",
        long: "leave this trail, and offer the names in the selected event and in the story",
        run: |view, _, _| {
            view.leave();
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "trail-last",
        keys: &["e"],
        short: "its last",
        long: "go to the last event of this hop",
        run: |view, _, _| Ok(view.chosen().map_or(Then::Stay, |hop| Then::Go(hop.last.2))),
    },
    ViewCommand {
        name: "trail-end",
        keys: &["E"],
        short: "the end",
        long: "go to the event where the trail ends",
        run: |view, _, _| Ok(view.followed.as_ref().map_or(Then::Stay, |followed| Then::Go(followed.trail.end.2))),
    },
    ViewCommand {
        name: "trail-only",
        keys: &["f"],
        short: "only it",
        long: "show only the events of this trail in the Stream, under all its names",
        run: |view, cx, _| view.only_it(cx),
    },
    ViewCommand {
        name: "trail-alias-off",
        keys: &["x"],
        short: "names",
        long: "switch one of its other names off, or on again",
        run: |view, _, _| Ok(view.names_menu()),
    },
    ViewCommand {
        name: "trail-drawing",
        keys: &["W"],
        short: "draw",
        long: "draw the trail with a lane for each program: SVG, PDF",
        run: |view, _, _| {
            if view.followed.is_none() {
                return Ok(Then::say("Follow something first: Enter on a name, or t."));
            }
            Ok(Question::drawing("trail.svg"))
        },
    },
    ViewCommand::PANE_DOWN,
    ViewCommand::PANE_UP,
];

const FOLLOWED: &str = "follow";
/// The question that a choice in the menu of names answers.
const SWITCHED: &str = "switch";

impl TrailView {
    fn chosen(&self) -> Option<&Hop> {
        self.followed.as_ref()?.trail.hops.get(self.list.cursor)
    }

    fn leave(&mut self) {
        (self.followed, self.asked, self.list) = (None, None, ListState::default());
        self.without.clear();
    }

    /// Follows a name beside the screen.
    fn follow(&mut self, cx: &mut Context, identifier: &str) -> Result<Then> {
        let (identifier, without, answer) = (identifier.trim().to_owned(), self.without.clone(), self.answer.clone());
        if identifier.is_empty() {
            return Err(Error::new("Type the number or name to follow."));
        }
        if !cx.view.loaded.complete {
            return Ok(Then::say("The case is still being read. Try again in a moment."));
        }
        cx.start(FOLLOW, move |view, work| {
            let found = trail::follow_without(view, &identifier, &without, work).and_then(|trail| {
                let peers = trail::peers(view, &identifier, &trail, work)?;
                Ok(Followed { identifier, trail, peers })
            });
            // A cancelled one was asked again with another name.
            if !found.as_ref().is_err_and(Error::is_cancelled) {
                answer.put(found);
            }
            Ok(Box::new(|_: &mut Context| {}) as Apply<Context>)
        });
        Ok(Then::Stay)
    }

    /// The filter of all its names.
    fn only_it(&self, cx: &mut Context) -> Result<Then> {
        let Some(followed) = &self.followed else {
            return Ok(Then::say("Follow something first: Enter on a name, or t."));
        };
        let aliases = followed.trail.aliases.iter().map(|alias| &alias.identifier);
        let names: Vec<String> =
            std::iter::once(&followed.identifier).chain(aliases).take(MOST_NAMES).map(|name| quoted(name)).collect();
        cx.note_jump_with_filter();
        cx.set_filter(&names.join(" or "))?;
        cx.stream.anchor = followed.trail.rows.first().map(|row| cx.view.key(cx.event(*row)));
        Ok(Then::Show(crate::context::STREAM))
    }

    fn names_menu(&self) -> Then {
        let aliases = self.followed.as_ref().map_or(&[][..], |followed| &followed.trail.aliases);
        let on =
            aliases.iter().map(|alias| (format!("leave out  {}: {}", alias.identifier, alias.why), &alias.identifier));
        let off = self.without.iter().map(|name| (format!("take again {name}"), name));
        let items = on.chain(off).map(|(label, name)| {
            let name = name.clone();
            item(label, move |_| Ok(Then::Answer(SWITCHED, name.clone())))
        });
        Menu::offer("Other names of the same thing", items.collect(), "It goes by one name only.")
    }

    /// The lanes of the hosts in front of a hop: where it is, and from where it came.
    fn lanes(&self, at: usize) -> String {
        let Some(followed) = &self.followed else { return String::new() };
        let hops = &followed.trail.hops;
        let hosts = hosts_of(hops);
        let place = |hop: &Hop| hosts.iter().position(|host| *host == hop.host);
        let here = hops.get(at).and_then(place);
        let from = at.checked_sub(1).and_then(|before| hops.get(before)).and_then(place).or(here);
        let (Some(here), Some(from)) = (here, from) else { return String::new() };
        let (low, high) = (here.min(from), here.max(from));
        (0..hosts.len())
            .map(|lane| match lane {
                lane if lane == here && here < from => "●─",
                lane if lane == here => "● ",
                lane if lane == from && from < here => "╰─",
                lane if lane == from => "╯ ",
                lane if lane > low && lane < high => "──",
                _ => "│ ",
            })
            .collect()
    }
}

fn hosts_of(hops: &[Hop]) -> Vec<String> {
    let mut hosts: Vec<String> = Vec::new();
    for hop in hops {
        if !hosts.contains(&hop.host) {
            hosts.push(hop.host.clone());
        }
    }
    hosts
}

/// A shape for what came of a hop: readable without colour.
fn shape(outcome: HopOutcome) -> (&'static str, Option<Hue>) {
    match outcome {
        HopOutcome::Passed => ("→", None),
        HopOutcome::Answered => ("✓", Some(Hue::Green)),
        HopOutcome::Failed => ("✕", Some(Hue::Vermilion)),
        HopOutcome::Stopped => ("⊣", Some(Hue::Orange)),
        HopOutcome::Unknown => ("·", None),
    }
}

impl View for TrailView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.followed.as_ref().map_or(self.offered.len(), |followed| followed.trail.hops.len())
    }

    fn prepare(&mut self, cx: &mut Context) {
        if let Some(answer) = self.answer.take() {
            match answer {
                Ok(followed) => {
                    let before = self.followed.replace(followed).map(|followed| followed.identifier);
                    // Followed again, one stays where one was.
                    if before != self.followed.as_ref().map(|followed| followed.identifier.clone()) {
                        self.list = ListState::default();
                    }
                    self.asked = Some((cx.table_id(), None));
                }
                Err(error) => cx.message = Some(error.to_string()),
            }
        }
        if let Some(offered) = self.offers.take() {
            (self.offered, self.list) = (offered, ListState::default());
        }
        if !cx.view.loaded.complete {
            return;
        }
        if let Some(followed) = &self.followed {
            // The rows of another table are other lines: it is followed again.
            if self.asked.is_some_and(|(table, _)| table != cx.table_id()) {
                let identifier = followed.identifier.clone();
                self.asked = Some((cx.table_id(), None));
                let again = self.follow(cx, &identifier);
                again.err().into_iter().for_each(|error| cx.fail(&error));
            }
            return;
        }
        let row = cx.chosen().map(|event| event.row);
        let now = (cx.table_id(), row);
        if self.asked.replace(now) == Some(now) {
            return;
        }
        let story = cx.story.clone();
        let offers = self.offers.clone();
        cx.start(OFFER, move |view, work| {
            offers.put(trail::suggested(view, row, &[&story.affected, &story.happened, &story.title], work)?);
            Ok(Box::new(|_: &mut Context| {}) as Apply<Context>)
        });
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        if let Some(hop) = self.chosen() {
            return Ok(Then::Go(hop.first.2));
        }
        match self.offered.get(self.list.cursor).map(|one| one.identifier.clone()) {
            Some(identifier) => self.follow(cx, &identifier),
            None => Ok(Then::say("t follows a number or name that you type.")),
        }
    }

    fn answer(&mut self, cx: &mut Context, question: &str, text: &str) -> Result<Then> {
        match question {
            FOLLOWED => {
                self.without.clear();
                self.follow(cx, text)
            }
            SWITCHED => {
                match self.without.iter().position(|name| name == text) {
                    Some(at) => drop(self.without.remove(at)),
                    None => self.without.push(text.to_owned()),
                }
                let Some(identifier) = self.followed.as_ref().map(|followed| followed.identifier.clone()) else {
                    return Ok(Then::Stay);
                };
                self.follow(cx, &identifier)
            }
            DRAWING => {
                let Some(followed) = &self.followed else { return Ok(Then::Stay) };
                let drawing = trail::draw(&followed.identifier, &followed.trail, &cx.zone);
                cx.write_drawing(drawing, text);
                Ok(Then::Stay)
            }
            _ => Ok(Then::Stay),
        }
    }

    fn escape(&mut self, cx: &mut Context) -> bool {
        if cx.jobs.is_running(FOLLOW) {
            cx.jobs.cancel(FOLLOW);
            return true;
        }
        let was = self.followed.is_some();
        if was {
            self.leave();
        }
        was
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let Some(followed) = &self.followed else {
            return vec![
                Line::from(vec![Span::styled(" What should be followed?", cx.theme.strong())]),
                Line::styled(" Names in the selected event and in the story; t takes any other.", cx.theme.faint()),
            ];
        };
        let trail = &followed.trail;
        let (words, hue) = match trail.state {
            EndState::Answered => ("it was answered", Hue::Green),
            EndState::Failed => ("it failed", Hue::Vermilion),
            EndState::Lost => ("it did not arrive", Hue::Orange),
            EndState::Running => ("it is still going on", Hue::Sky),
        };
        let table = &cx.view.loaded.table;
        let hosts = hosts_of(&trail.hops);
        let mut marks = vec![Span::raw(" ")];
        for host in &hosts {
            let number = table.hosts.iter().position(|name| name == host).unwrap_or(0) as u32;
            marks.push(Span::styled(fit(&host_mark(host, &table.hosts), 2), cx.theme.host(number)));
        }
        marks.push(Span::styled(
            cut(&format!(" {}", hosts.join(", ")), width.saturating_sub(hosts.len() * 2 + 2)),
            cx.theme.faint(),
        ));
        vec![
            Line::from(vec![
                Span::styled(format!(" {}", followed.identifier), cx.theme.strong()),
                Span::styled(format!("  {words}"), cx.theme.hue(hue)),
                Span::styled(
                    format!(
                        "   {}, {}, {}",
                        many(trail.hops.len() as u64, "hop"),
                        many(trail.rows.len() as u64, "event"),
                        many(trail.aliases.len() as u64, "other name")
                    ),
                    cx.theme.faint(),
                ),
            ]),
            Line::from(marks),
        ]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        let Some(followed) = &self.followed else {
            let Some(one) = self.offered.get(index) else { return Item::one(Vec::new()) };
            let time = |time: i64| date_time(time, &cx.zone)[5..19].to_owned();
            let span = one.span.map_or(String::new(), |(first, last)| format!(", {} to {}", time(first), time(last)));
            let row = vec![Span::raw(format!(" {}", fit(&one.identifier, width.saturating_sub(2))))];
            let events = many(one.events as u64, "event");
            let text = format!("   {events} in {}{span}", many(one.sources as u64, "source"));
            return Item { row, below: vec![Line::styled(cut(&text, width), cx.theme.faint())] };
        };
        let hop = &followed.trail.hops[index];
        let (mark, hue) = shape(hop.outcome);
        let style = hue.map_or_else(Default::default, |hue| cx.theme.hue(hue));
        let time = hop.first.0.map_or_else(|| fit("no time", 18), |time| date_time(time, &cx.zone)[5..23].to_owned());
        let number = cx.event(hop.first.2).actor().host;
        let lanes = self.lanes(index);
        let gap = match hop.gap_before_ms {
            Some(gap) if index > 0 => {
                format!("+{}", duration_text(gap.saturating_mul(1_000_000))).replace("+\u{2212}", "\u{2212}")
            }
            _ => String::new(),
        };
        let below = "│ ".repeat(hosts_of(&followed.trail.hops).len());
        let code = hop.code.map_or(String::new(), |code| format!(" {code}"));
        let room = width.saturating_sub(2 + lanes.chars().count() + 20);
        let what = format!("{} {}", fit(&hop.component, 16), hop.identifier);
        Item {
            row: vec![
                Span::raw(" "),
                Span::styled(lanes, cx.theme.host(number)),
                Span::raw(format!(" {time} ")),
                Span::raw(fit(&what, room)),
            ],
            below: vec![Line::from(vec![
                Span::styled(format!(" {below} "), cx.theme.faint()),
                Span::styled(format!("{gap:>18} "), cx.theme.faint()),
                Span::styled(format!("{mark} {}{code}", hop.outcome.name()), style),
                Span::styled(
                    cut(
                        &format!("  {} in {}", many(hop.events as u64, "event"), last_part(&hop.source)),
                        room.saturating_sub(14),
                    ),
                    cx.theme.faint(),
                ),
            ])],
        }
    }

    fn empty(&self, cx: &Context) -> Vec<String> {
        if cx.jobs.is_running(OFFER) || !cx.view.loaded.complete {
            return vec!["Looking for names …".into()];
        }
        vec![
            "No name in the selected event or in the story occurs in other lines.".into(),
            "t follows a number or name that you type; 3 selects another event.".into(),
        ]
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        if cx.jobs.is_running(FOLLOW) {
            pane.faint("Following … Esc stops.");
        }
        let Some(followed) = &self.followed else {
            return pane.faint(
                "Enter follows a name: its hops by host, program and source, what came of each, the names it has on the way, and \
                 where it stops.",
            );
        };
        pane.strong(&followed.trail.summary);
        if let Some(peers) = &followed.peers {
            pane.heading("others of its kind");
            pane.text(&peers.words(&cx.zone));
        }
        if let Some(hop) = self.chosen() {
            pane.heading("this hop");
            pane.facts("host", &hop.host);
            pane.facts("program", &hop.component);
            pane.facts("process", &hop.pid.map_or(String::new(), |pid| pid.to_string()));
            pane.facts("name", &hop.identifier);
            pane.facts("source", &format!("{}:{}-{}", hop.source, hop.first.1, hop.last.1));
            for (label, time) in [("first", hop.first.0), ("last", hop.last.0)] {
                pane.facts(label, &time.map_or("no time".to_owned(), |time| date_time(time, &cx.zone)));
            }
        }
        if !followed.trail.aliases.is_empty() {
            pane.heading("also goes by");
            for alias in &followed.trail.aliases {
                pane.text(&alias.identifier);
                pane.faint(&format!("  {} ({}:{})", alias.why, alias.source, alias.line));
            }
        }
        pane.gap();
        pane.faint(
            "Enter goes to its first event, e to its last, f shows only it in the Stream, x switches names off.",
        );
    }
}
