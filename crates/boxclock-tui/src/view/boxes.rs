//! The Box view: each host with its classes of logs and their sources, whether they cover the moment, and what the checks found.

use std::collections::HashMap;
use std::sync::Arc;

use boxclock_core::clock::human::date_time;
use boxclock_core::event::Row as EventRow;
use boxclock_core::gather::{Verdict, check};
use boxclock_core::report::sources::SourceOut;
use boxclock_core::resource::Resource;
use boxclock_core::source::Class;
use boxclock_core::timeline::drift::{ClockAnalysis, Suggestion};
use boxclock_core::{Error, Result, visible};
use ratatui::text::{Line, Span};

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Menu, Question, Taker, Then, item, off_format, off_host, off_name};
use crate::inbox::Inbox;
use crate::jobs::{Apply, Kind};
use crate::pane::Pane;
use crate::text::{fit, last_part, many};
use crate::theme::Hue;

mod curve;
mod draw;
mod panes;
mod rows;
mod state;

use curve::curve_lines;
use draw::{WIDE, class_line, finding_line, format_width, head_line, host_line, source_line};
use panes::{clock_pane, host_pane, source_pane};
use rows::Order;
use state::BoxAnalysis;
pub use state::BoxState;

static SPEC: Spec = Spec {
    id: "box",
    key: "2",
    name: "Box",
    about: "Box: the sources, how they were read, clocks, what was left out",
    head_rows: 1,
    item_rows: 1,
    has_pane: true,
    tab_of: None,
};

const STATE: Kind = ("box", 0);

/// A host and what its sources add up to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct HostSums {
    host: String,
    sources: usize,
    bytes: u64,
    events: u64,
    /// Files that are no logs.
    others: usize,
    problems: u64,
    /// Whether its lines are shown.
    is_open: bool,
}

/// A line of the view.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum BoxRow {
    /// The seal of the box.
    Seal,
    /// A host, with its sums.
    Host(HostSums),
    /// A class of logs of a host.
    Class(String, Class),
    /// A source, by its place among the sources.
    Source(usize),
    /// What a check found, by its place among the findings.
    Finding(usize),
    /// A clock that seems to be wrong, by its place among the suggestions.
    Clock(usize),
    /// What was not read, by its place in the case's list.
    LeftOut(usize),
}

/// The view.
#[derive(Default)]
pub(crate) struct BoxView {
    pub(crate) list: ListState,
    pub(crate) rows: Vec<BoxRow>,
    /// The state of the case that the rows were arranged for, and whether all answers were known.
    pub(crate) arranged: Option<(u64, bool, bool)>,
    /// The last answers, which stand until there are new ones.
    state: Arc<BoxState>,
    clocks: Arc<Vec<Suggestion>>,
    /// In which order the sources stand.
    order: Order,
    /// Words that are searched for.
    search: String,
    /// Hosts that somebody opened or folded.
    opened: HashMap<String, bool>,
    /// What checking the seal gave, and where the job leaves it.
    verdict: Option<std::result::Result<Verdict, String>>,
    checked: Inbox<Result<Verdict>>,
    #[cfg(test)]
    pub(crate) given: Option<Arc<BoxState>>,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<BoxView>::default()
}

const COMMANDS: &[ViewCommand<BoxView>] = &[
    ViewCommand {
        name: "clock",
        keys: &["d"],
        short: "clock",
        long: "correct the clock of this host",
        run: |view, cx, _| {
            Ok(match view.chosen_host(cx) {
                Some(host) => cx.ask_for_clock(&host),
                None => Then::say("This line belongs to no host."),
            })
        },
    },
    ViewCommand {
        name: "source-clock",
        keys: &["D"],
        short: "its clock",
        long: "correct the clock of this source only",
        run: |view, cx, _| Ok(cx.ask_for_clock(&view.source(cx)?)),
    },
    ViewCommand {
        name: "source-zone",
        keys: &["z"],
        short: "zone",
        long: "set the zone of this source's times",
        run: |view, cx, _| {
            let source = view.source(cx)?;
            let help = "+02:00  UTC  Europe/Lisbon   leave empty to detect";
            Ok(Then::Ask(Question::new("zone of this source", help, "", move |cx, text| {
                cx.set_source_zone(&source, text)
            })))
        },
    },
    ViewCommand {
        name: "read-as",
        keys: &["e"],
        short: "read as",
        long: "set the format, encoding or order of dates of this source",
        run: |view, cx, _| {
            let source = view.source(cx)?;
            let help = "rfc3164  windows-1252  day-first   leave empty to detect";
            Ok(Then::Ask(Question::new("read this source as", help, "", move |cx, text| {
                cx.read_source_as(&source, text)
            })))
        },
    },
    ViewCommand {
        name: "switch-source",
        keys: &["o"],
        short: "off/on",
        long: "hide this source in the Stream, or show it again",
        run: |view, cx, _| {
            let source = view.source(cx)?;
            cx.toggle_source(&source)?;
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "switch-alike",
        keys: &["O"],
        short: "off/on …",
        long: "hide or show a whole host, a format, or logs of the same name on all hosts",
        run: |view, cx, _| Ok(view.switch_menu(cx)),
    },
    ViewCommand {
        name: "search-sources",
        keys: &["/"],
        short: "search",
        long: "show only the sources, findings and left-out files that have these words",
        run: |view, _, _| {
            let help = "parts of a path, a host, a format; leave empty for all";
            let question = Question::new("search", help, view.search.clone(), |_, _| Ok(Then::Stay));
            Ok(Then::Ask(Question { taker: Taker::View(SEARCH), ..question }))
        },
    },
    ViewCommand {
        name: "sort-sources",
        keys: &["s"],
        short: "sort",
        long: "sort: by class, most problems first, largest first, earliest first, by name",
        run: |view, cx, _| {
            view.order = view.order.next();
            view.arrange_again(cx);
            Ok(Then::say(format!("Sources are sorted: {}.", view.order.words())))
        },
    },
    ViewCommand {
        name: "fold-hosts",
        keys: &["f"],
        short: "fold",
        long: "fold all hosts into a line each, or open them all; Enter folds one",
        run: |view, cx, _| {
            let hosts: Vec<(String, bool)> = view.hosts().map(|sums| (sums.host.clone(), sums.is_open)).collect();
            let open = !hosts.iter().any(|(_, is_open)| *is_open);
            view.opened = hosts.into_iter().map(|(host, _)| (host, open)).collect();
            view.arrange_again(cx);
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "check-seal",
        keys: &["v"],
        short: "seal",
        long: "check the seal: whether every file of the box is as it was sealed",
        run: |view, cx, _| Ok(view.check_seal(cx)),
    },
    ViewCommand {
        name: "label",
        keys: &["L"],
        short: "label",
        long: "set the host that this source belongs to",
        run: |view, cx, _| {
            let source = view.source(cx)?;
            let help = "the label of its host; leave empty to detect";
            Ok(Then::Ask(Question::new("host of this source", help, "", move |cx, text| {
                cx.choose(&source, "host", text.trim())
            })))
        },
    },
    ViewCommand {
        name: "accept",
        keys: &["a"],
        short: "accept",
        long: "accept the suggested correction of this clock",
        run: |view, cx, _| {
            let Some(BoxRow::Clock(index)) = view.chosen() else {
                return Ok(Then::say("Select a line with a suggested clock first."));
            };
            match view.clocks.get(*index) {
                Some(one) => cx.correct_clock(&one.host, one.add_ns.into()),
                None => Ok(Then::Stay),
            }
        },
    },
    ViewCommand {
        name: "password",
        keys: &["P"],
        short: "password",
        long: "give a password for encrypted archives",
        run: |_, _, _| {
            let help = "tried on every encrypted member, and kept in memory only";
            let question = Question::new("password", help, "", Context::add_password);
            Ok(Then::Ask(Question { is_secret: true, ..question }))
        },
    },
];

/// The question for the words that are searched for.
const SEARCH: &str = "search";
/// The check of the seal.
const CHECK: Kind = ("seal", 0);

impl BoxView {
    /// The hosts that have a line.
    fn hosts(&self) -> impl Iterator<Item = &HostSums> {
        self.rows.iter().filter_map(|row| match row {
            BoxRow::Host(sums) => Some(sums),
            _ => None,
        })
    }

    /// Arranges the lines anew; the same one stays chosen.
    fn arrange_again(&mut self, cx: &Context) {
        let chosen = self.chosen().cloned();
        self.arrange(cx);
        self.follow(chosen.as_ref());
    }

    /// What can be switched off or on together with the chosen line.
    fn switch_menu(&self, cx: &Context) -> Then {
        let mut items = Vec::new();
        let mut add = |label: String, piece: String, count: usize| {
            let now = if cx.stream.filter_text.contains(&piece) { "show" } else { "hide" };
            let label = format!("{now}  {label} ({})", many(count as u64, "source"));
            items.push(item(label, move |cx| cx.toggle_piece(&piece).map(|()| Then::Stay)));
        };
        let all = &cx.sources;
        let of_host = |host: &str| all.iter().filter(|source| source.host.as_deref() == Some(host)).count();
        if let Some(BoxRow::Source(index)) = self.chosen()
            && let Some(source) = all.get(*index)
        {
            let name = last_part(&source.source);
            let same_name =
                |other: &&SourceOut| other.source.to_lowercase().contains(&format!("/{}", name.to_lowercase()));
            add(
                format!("everything in the format {}", source.format),
                off_format(source.format),
                all.iter().filter(|other| other.format == source.format).count(),
            );
            add(format!("{name} on all hosts"), off_name(name), all.iter().filter(same_name).count());
        }
        if let Some(host) = self.chosen_host(cx) {
            add(format!("the host {host}"), off_host(&host), of_host(&host));
        }
        Menu::offer("Hide in the Stream, or show again", items, "Select a host or a source first.")
    }

    /// Checks the seal beside the screen.
    fn check_seal(&mut self, cx: &mut Context) -> Then {
        let (Some(_), [path]) = (&cx.view.case.seal, cx.view.case.paths.as_slice()) else {
            return Then::say("This case is not a box: there is no seal to check.");
        };
        let (path, checked) = (path.clone(), self.checked.clone());
        self.verdict = None;
        cx.start(CHECK, move |_, work| {
            let verdict = check(&path, work);
            checked.put(verdict);
            Ok(Box::new(|_: &mut Context| {}) as Apply<Context>)
        });
        Then::Stay
    }

    fn chosen(&self) -> Option<&BoxRow> {
        self.rows.get(self.list.cursor)
    }

    /// Keeps the same line chosen when the rows have changed.
    fn follow(&mut self, chosen: Option<&BoxRow>) {
        let same = |row: &BoxRow| match (row, chosen) {
            (BoxRow::Host(one), Some(BoxRow::Host(other))) => one.host == other.host,
            (row, Some(chosen)) => row == chosen,
            _ => false,
        };
        if let Some(place) = self.rows.iter().position(same) {
            self.list.cursor = place;
        }
    }

    /// The name of the chosen source.
    fn source(&self, cx: &Context) -> Result<String> {
        match self.chosen() {
            Some(BoxRow::Source(index)) => Ok(cx.sources[*index].source.clone()),
            _ => Err(Error::new("Select a source first.")),
        }
    }

    /// The host that the chosen line belongs to.
    fn chosen_host(&self, cx: &Context) -> Option<String> {
        let host = match self.chosen()? {
            BoxRow::Host(HostSums { host, .. }) | BoxRow::Class(host, _) => host.clone(),
            BoxRow::Source(index) => cx.sources.get(*index)?.host.clone()?,
            BoxRow::Finding(index) => self.state.findings.get(*index)?.host.clone(),
            BoxRow::Clock(index) => self.clocks.get(*index)?.host.clone(),
            BoxRow::LeftOut(_) | BoxRow::Seal => return None,
        };
        (!host.is_empty()).then_some(host)
    }

    fn class_pane(&self, cx: &Context, pane: &mut Pane<'_>, host: &str, class: Class) {
        pane.strong(&format!("{} logs of {host}", class.name()));
        let state = &self.state;
        let Some(cover) = state.cover.iter().find(|row| row.host == host && row.class == class) else {
            return pane.faint("These logs are not expected to cover a moment.");
        };
        if let Some(moment) = &state.moment {
            let (from, to) = (date_time(moment.window.from, &cx.zone), date_time(moment.window.to, &cx.zone));
            pane.facts("moment", &format!("{} to {}", &from[..19], &to[11..19]));
            if let Some(note) = moment.note(&cx.zone) {
                pane.facts("", &format!("{note} 1 opens the Story: state there when it happened."));
            }
        }
        pane.facts("covered", cover.state.words());
        pane.facts("why", &cover.detail);
        for (label, time) in [("first", cover.first), ("last", cover.last)] {
            pane.facts(label, &time.map_or(String::new(), |time| date_time(time, &cx.zone)));
        }
        pane.facts("do", cover.advice);
    }
}

impl View for BoxView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.rows.len()
    }

    fn open(&mut self, cx: &mut Context) {
        // Sums are not kept up to date elsewhere while thousands of sources are read.
        if !cx.view.loaded.complete {
            cx.sources.clear();
            cx.refresh();
        }
    }

    fn prepare(&mut self, cx: &mut Context) {
        if !cx.view.loaded.complete && self.arranged.is_some_and(|(state, ..)| state != cx.state) {
            cx.sources = boxclock_core::report::sources::sources(&cx.view.case, &cx.view.loaded);
        }
        let state = if cx.view.loaded.complete { cx.ask(&BoxAnalysis, STATE) } else { None };
        let clocks = cx.view.known(&ClockAnalysis);
        let now = (cx.state, state.is_some(), clocks.is_some());
        self.state = state.unwrap_or_else(|| Arc::clone(&self.state));
        self.clocks = clocks.unwrap_or_else(|| Arc::clone(&self.clocks));
        #[cfg(test)]
        if let Some(given) = &self.given {
            self.state = Arc::clone(given);
        }
        if let Some(verdict) = self.checked.take() {
            self.verdict = match verdict {
                Err(error) if error.is_cancelled() => None,
                verdict => Some(verdict.map_err(|error| error.to_string())),
            };
        }
        if self.arranged.replace(now) != Some(now) {
            self.arrange_again(cx);
        }
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        match self.chosen() {
            Some(BoxRow::Clock(index)) => {
                let pair = self.clocks.get(*index).and_then(|one| one.evidence.first());
                Ok(pair.map_or(Then::Stay, |pair| Then::Go(pair.rows.0)))
            }
            Some(BoxRow::Source(index)) => {
                let members = cx.sources[*index].members.clone();
                let mut parts = cx.view.loaded.table.parts.iter();
                let first = parts.find(|part| members.contains(&(part.segment.source as usize)));
                Ok(match first {
                    Some(part) => Then::Go(EventRow(part.first_row)),
                    None => Then::say("This source has no events."),
                })
            }
            Some(BoxRow::Host(sums)) => {
                let (host, is_open) = (sums.host.clone(), sums.is_open);
                self.opened.insert(host, !is_open);
                self.arrange_again(cx);
                Ok(Then::Stay)
            }
            Some(BoxRow::Seal) => Ok(self.check_seal(cx)),
            _ => Ok(Then::say("Enter goes to the events of a source. The reading pane (i) explains this line.")),
        }
    }

    fn answer(&mut self, cx: &mut Context, question: &str, text: &str) -> Result<Then> {
        if question == SEARCH {
            text.trim().clone_into(&mut self.search);
            self.arrange_again(cx);
        }
        Ok(Then::Stay)
    }

    fn escape(&mut self, cx: &mut Context) -> bool {
        if cx.jobs.is_running(CHECK) {
            cx.jobs.cancel(CHECK);
            return true;
        }
        let had = !std::mem::take(&mut self.search).is_empty();
        if had {
            self.arrange_again(cx);
        }
        had
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        vec![Line::styled(fit(&head_line(cx, width, self.order.words(), &self.search), width), cx.theme.faint())]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        Item::one(match &self.rows[index] {
            BoxRow::Seal => {
                let (shape, text, hue) = self.seal_words(cx);
                vec![Span::styled(fit(&format!(" {shape} {text}"), width), cx.theme.hue(hue))]
            }
            BoxRow::Host(sums) => host_line(cx, sums, width),
            BoxRow::Class(host, class) => {
                let state = &self.state;
                let cover = state.cover.iter().find(|row| row.host == *host && row.class == *class);
                class_line(cx, cover, *class, width)
            }
            BoxRow::Source(index) => source_line(
                cx,
                (&cx.sources[*index], self.problems(cx, *index)),
                (width, format_width(cx, width), width >= WIDE),
            ),
            BoxRow::Finding(index) => match self.state.findings.get(*index) {
                Some(finding) => finding_line(cx, finding, width),
                None => Vec::new(),
            },
            BoxRow::Clock(index) => match self.clocks.get(*index) {
                Some(one) => {
                    let (confidence, ground) = (one.confidence.name(), one.ground.words());
                    let text =
                        format!("   ◷ clock seems wrong: add {} (confidence {confidence}: {ground})", one.drift_text());
                    vec![Span::styled(fit(&text, width), cx.theme.hue(Hue::Orange))]
                }
                None => Vec::new(),
            },
            BoxRow::LeftOut(index) => {
                let left = &cx.view.case.left_out[*index];
                let text = format!(" left out  {}: {}", left.path, left.reason);
                vec![Span::styled(fit(&visible(&text, false), width), cx.theme.hue(Hue::Orange))]
            }
        })
    }

    fn empty(&self, _: &Context) -> Vec<String> {
        if !self.search.is_empty() {
            return vec![format!("Nothing contains the words: {}. Esc shows all again.", self.search)];
        }
        vec!["There are no sources in this case. b collects logs.".into()]
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        match self.chosen() {
            None => {}
            Some(BoxRow::Seal) => self.seal_pane(cx, pane),
            Some(BoxRow::Source(index)) => source_pane(cx, pane, &cx.sources[*index]),
            Some(BoxRow::Host(sums)) => host_pane(cx, pane, &sums.host),
            Some(BoxRow::Class(host, class)) => self.class_pane(cx, pane, host, *class),
            Some(BoxRow::Finding(index)) => {
                let state = &self.state;
                let Some(finding) = state.findings.get(*index) else { return };
                pane.strong(&finding.title);
                pane.facts("level", finding.level.name());
                pane.facts("seen", &finding.evidence);
                pane.facts("in", &format!("{}, line {}", finding.file, finding.line));
                pane.facts("why", &finding.reason);
                pane.facts("do", &finding.advice);
                pane.facts("check", &finding.check);
                let is_about = |one: &&Resource| one.host == finding.host && finding.title.contains(&one.title());
                let of_resource = Some(&finding.check).filter(|check| check.starts_with("resource-"));
                if let Some(one) = of_resource.and_then(|_| state.resources.iter().find(is_about)) {
                    pane.heading("how full it was");
                    pane.drawing(curve_lines(cx, one, pane.width()));
                }
            }
            Some(BoxRow::Clock(index)) => {
                if let Some(one) = self.clocks.get(*index) {
                    clock_pane(cx, pane, one);
                }
            }
            Some(BoxRow::LeftOut(index)) => {
                let left = &cx.view.case.left_out[*index];
                pane.heading("left out");
                pane.text(&left.path);
                pane.facts("why", &left.reason);
            }
        }
    }
}
