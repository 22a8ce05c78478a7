//! The Compare view: what is different between a bad run and a good one, and matters.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::Arc;

use boxclock_core::analysis::CaseView;
use boxclock_core::case::{Case, Options};
use boxclock_core::clock::human::{date_time, moment};
use boxclock_core::clock::{self, DAY, Zone};
use boxclock_core::compare::{Difference, Place, Side, compare, compare_windows};
use boxclock_core::event::RecordReader;
use boxclock_core::query::Filter;
use boxclock_core::query::values::quoted;
use boxclock_core::work::Work;
use boxclock_core::{Error, Result};
use ratatui::text::{Line, Span};

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Menu, Question, Taker, Then, item};
use crate::inbox::Inbox;
use crate::jobs::{Apply, Kind};
use crate::pane::Pane;
use crate::text::{cut, fit, last_part, many};
use crate::theme::Hue;

static SPEC: Spec = Spec {
    id: "compare",
    key: "8",
    name: "Compare",
    about: "Compare: what is different from a good run, a good host or another span",
    head_rows: 2,
    item_rows: 2,
    has_pane: true,
    tab_of: None,
};

const COMPARE: Kind = ("compare", 0);
/// Lines around a place that the pane shows, of each side.
const AROUND: u32 = 2;
/// Pairs of hosts that are offered.
const MOST_PAIRS: usize = 40;

/// What is compared with what.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Sides {
    /// Two parts of this case: filters of the bad and the good one.
    Parts(String, String),
    /// This case against another one.
    Other(PathBuf),
}

/// What came of it.
struct Compared {
    sides: Sides,
    found: Vec<Difference>,
    /// The good side, where it is another case.
    good: Option<CaseView>,
}

/// A difference by its place in the answer, and the table whose rows are meant.
type NearKey = (usize, usize);

/// Lines around a place of each side, the bad one first, and whether a line is the place itself.
type Near = [Vec<(bool, String)>; 2];

/// The view.
#[derive(Default)]
struct CompareView {
    list: ListState,
    compared: Option<Compared>,
    /// The lines around the chosen difference, and what they are of.
    near: Option<(NearKey, Near)>,
    /// The table that the answer is of, and the state of the logbook that `harmless` is of.
    table: usize,
    state: u64,
    /// Differences that do not matter, by their keys; and whether they are shown all the same.
    harmless: HashSet<String>,
    shows_harmless: bool,
    /// The places in the answer that are shown.
    shown: Vec<usize>,
    /// The bad part, while the good one is being asked for.
    bad: String,
    answer: Inbox<Result<Compared>>,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<CompareView>::default()
}

const COMMANDS: &[ViewCommand<CompareView>] = &[
    ViewCommand {
        name: "choose-sides",
        keys: &["c"],
        short: "compare",
        long: "select what to compare: another box, two hosts, two spans, two filters",
        run: |_, cx, _| Ok(sides_menu(cx)),
    },
    ViewCommand {
        name: "good-place",
        keys: &["e"],
        short: "good side",
        long: "go to the line of the good side, where it is in this case",
        run: |view, cx, _| {
            let place = view.chosen().and_then(|one| one.good.clone());
            Ok(go_to(cx, place.filter(|_| view.is_of_one_case())))
        },
    },
    ViewCommand {
        name: "does-not-matter",
        keys: &["x"],
        short: "no matter",
        long: "this difference does not matter, here and in the next compare of this case; again: it does",
        run: |view, cx, _| view.toggle_harmless(cx),
    },
    ViewCommand {
        name: "show-harmless",
        keys: &["o"],
        short: "all",
        long: "show the differences that do not matter too, or hide them",
        run: |view, _, _| {
            view.shows_harmless = !view.shows_harmless;
            view.arrange();
            Ok(Then::Stay)
        },
    },
    ViewCommand {
        name: "next-side-difference",
        keys: &["n"],
        short: "next log",
        long: "go to the next difference that is in another log",
        run: |view, _, _| Ok(view.next_log(false)),
    },
    ViewCommand {
        name: "previous-side-difference",
        keys: &["N"],
        short: "log before",
        long: "go to the difference before that is in another log",
        run: |view, _, _| Ok(view.next_log(true)),
    },
    ViewCommand::PANE_DOWN,
    ViewCommand::PANE_UP,
];

const OTHER: &str = "other";
const BAD: &str = "bad";
const GOOD: &str = "good";
const PARTS: &str = "parts";

/// The two filters of a pair in one text, as a menu hands them on.
fn pair(bad: &str, good: &str) -> String {
    format!("{bad}\u{1F}{good}")
}

/// What can be compared.
fn sides_menu(cx: &Context) -> Then {
    let mut items = vec![item("this case against a good box, folder or file …", |_| {
        let question =
            Question::new("good side", "a box, a folder or a file from when or where it works", "", |_, _| {
                Ok(Then::Stay)
            });
        Ok(Then::Ask(Question { taker: Taker::View(OTHER), ..question }))
    })];
    let spans = spans(cx)
        .into_iter()
        .map(|(label, bad, good)| item(label, move |_| Ok(Then::Answer(PARTS, pair(&bad, &good)))));
    items.extend(spans);
    let hosts: Vec<&String> = cx.view.loaded.table.hosts.iter().filter(|host| !host.is_empty()).collect();
    let pairs =
        hosts.iter().flat_map(|bad| hosts.iter().filter(move |good| *good != bad).map(move |good| (*bad, *good)));
    for (bad, good) in pairs.take(MOST_PAIRS) {
        let parts = pair(&format!("host={}", quoted(bad)), &format!("host={}", quoted(good)));
        items.push(item(format!("the host {bad} against {good}"), move |_| Ok(Then::Answer(PARTS, parts.clone()))));
    }
    items.push(item("two filters of this case …", |_| {
        let question =
            Question::new("bad part", "a filter: host=NAME, time in 02:10..02:35 …", "", |_, _| Ok(Then::Stay));
        Ok(Then::Ask(Question { taker: Taker::View(BAD), ..question }))
    }));
    Menu::offer("Compare", items, "")
}

/// Spans of this case that are worth a comparison: since it is wrong against before, and against the day before.
fn spans(cx: &Context) -> Vec<(String, String, String)> {
    let Some((first, last)) = cx.span() else { return Vec::new() };
    let told = |text: &str| moment(text, &cx.view.case.zone, clock::now()).ok();
    let chosen = || cx.chosen().and_then(|event| event.time());
    let Some(since) = told(&cx.story.since).or_else(chosen).filter(|since| (first..=last).contains(since)) else {
        return Vec::new();
    };
    let good_until = told(&cx.story.last_good).filter(|until| (first..since).contains(until)).unwrap_or(since);
    let time = |ns: i64| format!("{}Z", date_time(ns, &Zone::utc())[..19].replace(' ', "T"));
    let span = |from: i64, to: i64| format!("time in {}..{}", time(from), time(to));
    let shown = |ns: i64| date_time(ns, &cx.zone)[5..16].to_owned();
    let mut found = vec![(
        format!("since {} against before {}", shown(since), shown(good_until)),
        span(since, last),
        span(first, good_until),
    )];
    let (before, end) = (since.saturating_sub(DAY), last.saturating_sub(DAY));
    if before >= first {
        let label = format!("since {} against the same hours of the day before", shown(since));
        found.push((label, span(since, last), span(before, end.min(since))));
    }
    found
}

fn go_to(cx: &Context, place: Option<Place>) -> Then {
    match place.and_then(|place| cx.view.row_of_line(&place.source, place.line)) {
        Some(row) => Then::Go(row),
        None => Then::say("That side has no line in this case."),
    }
}

/// The lines around a place, of its source.
fn lines_around(view: &CaseView, place: &Place) -> Vec<(bool, String)> {
    let Some(row) = view.row_of_line(&place.source, place.line) else { return Vec::new() };
    let table = &view.loaded.table;
    let mut reader = RecordReader::new(Arc::clone(&view.case.sources));
    let near = table.rows_near(row, AROUND);
    near.map(|other| {
        (other == row, reader.record(table.event(other)).body.lines().next().unwrap_or_default().to_owned())
    })
    .collect()
}

impl CompareView {
    fn chosen(&self) -> Option<&Difference> {
        self.compared.as_ref()?.found.get(*self.shown.get(self.list.cursor)?)
    }

    /// Reads the lines around the chosen difference, once for each.
    fn read_near(&mut self, cx: &Context) {
        let Some(key) = self.shown.get(self.list.cursor).map(|at| (*at, cx.table_id())) else { return };
        if self.near.as_ref().is_some_and(|(of, _)| *of == key) {
            return;
        }
        let Some(one) = self.chosen() else { return };
        let good = self.compared.as_ref().and_then(|compared| compared.good.as_ref()).unwrap_or(&cx.view);
        let sides = [(&one.bad, &cx.view), (&one.good, good)];
        let near = sides.map(|(place, view)| place.as_ref().map_or(Vec::new(), |place| lines_around(view, place)));
        self.near = Some((key, near));
    }

    fn is_of_one_case(&self) -> bool {
        self.compared.as_ref().is_some_and(|compared| matches!(compared.sides, Sides::Parts(..)))
    }

    /// Which differences are shown.
    fn arrange(&mut self) {
        let found = self.compared.as_ref().map_or(&[][..], |compared| &compared.found);
        let is_shown = |one: &Difference| self.shows_harmless || !self.harmless.contains(&one.key());
        self.shown = found.iter().enumerate().filter(|(_, one)| is_shown(one)).map(|(at, _)| at).collect();
    }

    fn start(&self, cx: &mut Context, sides: Sides) -> Result<Then> {
        if !cx.view.loaded.complete {
            return Ok(Then::say("The case is still being read. Try again in a moment."));
        }
        let (answer, zone, catalogues) = (self.answer.clone(), cx.zone.clone(), cx.catalogues());
        if let Sides::Parts(bad, good) = &sides {
            for text in [bad, good] {
                Filter::parse_with(text, &zone, &catalogues).map_err(|error| Error::new(error.message))?;
            }
        }
        cx.start(COMPARE, move |view, work| {
            let found = run(view, &sides, &zone, work);
            if !found.as_ref().is_err_and(Error::is_cancelled) {
                answer.put(found);
            }
            Ok(Box::new(|_: &mut Context| {}) as Apply<Context>)
        });
        Ok(Then::Stay)
    }

    fn toggle_harmless(&mut self, cx: &mut Context) -> Result<Then> {
        let Some(key) = self.chosen().map(Difference::key) else { return Ok(Then::Stay) };
        let now = !self.harmless.contains(&key);
        cx.logbook.set_harmless(&key, now)?;
        let of = key.clone();
        cx.note_undo("difference that does not matter", move |cx| {
            cx.state += 1;
            cx.logbook.set_harmless(&of, !now)
        });
        self.harmless = cx.logbook.harmless()?;
        self.arrange();
        Ok(Then::say(if now { "Does not matter; o shows it again, u undoes this." } else { "It matters again." }))
    }

    /// Goes to the next difference whose bad side is in another log.
    fn next_log(&mut self, back: bool) -> Then {
        let Some(compared) = &self.compared else { return Then::Stay };
        let log = |at: usize| {
            let one = self.shown.get(at).and_then(|at| compared.found.get(*at));
            one.and_then(|one| one.bad.as_ref().or(one.good.as_ref())).map(|place| place.source.clone())
        };
        let here = log(self.list.cursor);
        let found = if back {
            (0..self.list.cursor).rev().find(|at| log(*at) != here)
        } else {
            (self.list.cursor..self.shown.len()).find(|at| log(*at) != here)
        };
        match found {
            Some(at) => {
                self.list.cursor = at;
                Then::Stay
            }
            None => Then::say("No further difference in another log."),
        }
    }
}

/// Compares, beside the screen.
fn run(view: &CaseView, sides: &Sides, zone: &Zone, work: &Work) -> Result<Compared> {
    match sides {
        Sides::Parts(bad, good) => {
            let rows = |text: &str| {
                let filter = Filter::parse_with(text, zone, &view.case.catalogues);
                filter.map_err(|error| Error::new(error.message))?.rows_in_order(view, work)
            };
            let (bad, good) = (rows(bad)?, rows(good)?);
            for (side, rows) in [("bad", &bad), ("good", &good)] {
                if rows.is_empty() {
                    return Err(Error::new(format!("no event passes the filter of the {side} side")));
                }
            }
            let found = compare_windows(view, &bad, &good, work)?;
            Ok(Compared { sides: sides.clone(), found, good: None })
        }
        Sides::Other(path) => {
            if !path.exists() {
                return Err(Error::new(format!("no such file or folder: {}", path.display())));
            }
            let case = Case::open(std::slice::from_ref(path), Options::default(), work)?;
            let loaded = case.load(work)?;
            let other = CaseView::new(case, loaded);
            let bad = Side::new(view.clone(), &view.case.paths)?;
            let good = Side::new(other.clone(), std::slice::from_ref(path))?;
            let found = compare(&bad, &good, work)?;
            Ok(Compared { sides: sides.clone(), found, good: Some(other) })
        }
    }
}

impl View for CompareView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.shown.len()
    }

    fn open(&mut self, cx: &mut Context) {
        match cx.logbook.harmless() {
            Ok(harmless) => self.harmless = harmless,
            Err(error) => cx.fail(&error),
        }
        self.arrange();
    }

    fn prepare(&mut self, cx: &mut Context) {
        match self.answer.take() {
            Some(Ok(compared)) => {
                (self.compared, self.list, self.near) = (Some(compared), ListState::default(), None);
                (self.table, self.state) = (cx.table_id(), cx.state);
                self.arrange();
            }
            Some(Err(error)) => cx.message = Some(error.to_string()),
            None => {}
        }
        if self.state != cx.state {
            // Something may have been undone.
            self.state = cx.state;
            match cx.logbook.harmless() {
                Ok(harmless) => self.harmless = harmless,
                Err(error) => cx.fail(&error),
            }
            self.arrange();
        }
        if self.table != cx.table_id() && self.compared.is_some() && cx.view.loaded.complete {
            // Another table has other rows: it is compared again.
            self.table = cx.table_id();
            if let Some(sides) = self.compared.as_ref().map(|compared| compared.sides.clone()) {
                let again = self.start(cx, sides);
                again.err().into_iter().for_each(|error| cx.fail(&error));
            }
        }
        self.read_near(cx);
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        let Some(one) = self.chosen() else { return Ok(sides_menu(cx)) };
        let of_one_case = self.is_of_one_case();
        Ok(go_to(cx, one.bad.clone().or_else(|| one.good.clone().filter(|_| of_one_case))))
    }

    fn answer(&mut self, cx: &mut Context, question: &str, text: &str) -> Result<Then> {
        match question {
            OTHER => self.start(cx, Sides::Other(PathBuf::from(text.trim()))),
            BAD => {
                Filter::parse_with(text, &cx.zone, &cx.catalogues()).map_err(|error| Error::new(error.message))?;
                text.clone_into(&mut self.bad);
                let question =
                    Question::new("good part", "a filter: host=OTHER, time in 01:10..01:35 …", "", |_, _| {
                        Ok(Then::Stay)
                    });
                Ok(Then::Ask(Question { taker: Taker::View(GOOD), ..question }))
            }
            GOOD => self.start(cx, Sides::Parts(self.bad.clone(), text.to_owned())),
            PARTS => match text.split_once('\u{1F}') {
                Some((bad, good)) => self.start(cx, Sides::Parts(bad.to_owned(), good.to_owned())),
                None => Ok(Then::Stay),
            },
            _ => Ok(Then::Stay),
        }
    }

    fn escape(&mut self, cx: &mut Context) -> bool {
        let runs = cx.jobs.is_running(COMPARE);
        if runs {
            cx.jobs.cancel(COMPARE);
            cx.message = Some("Stopped comparing.".into());
        }
        runs
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let Some(compared) = &self.compared else { return vec![Line::raw(""), Line::raw("")] };
        let (bad, good) = match &compared.sides {
            Sides::Parts(bad, good) => (bad.clone(), good.clone()),
            Sides::Other(path) => ("this case".to_owned(), path.display().to_string()),
        };
        let hidden = compared.found.len() - self.shown.len();
        let hidden = if hidden > 0 { format!(", {hidden} that do not matter are hidden (o)") } else { String::new() };
        let counts = format!("   {}{hidden}", many(self.shown.len() as u64, "difference"));
        vec![
            Line::from(vec![
                Span::styled(" What is different, what matters most first", cx.theme.strong()),
                Span::styled(cut(&counts, width.saturating_sub(44)), cx.theme.faint()),
            ]),
            Line::styled(cut(&format!(" bad: {bad}   good: {good}"), width), cx.theme.faint()),
        ]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        let Some((compared, at)) = self.compared.as_ref().zip(self.shown.get(index)) else {
            return Item::one(Vec::new());
        };
        let Some(one) = compared.found.get(*at) else { return Item::one(Vec::new()) };
        let is_harmless = self.harmless.contains(&one.key());
        let hue = match () {
            () if is_harmless => cx.theme.faint(),
            () if one.score >= 0.6 => cx.theme.hue(Hue::Vermilion),
            () if one.score >= 0.3 => cx.theme.hue(Hue::Orange),
            () => cx.theme.hue(Hue::Sky),
        };
        let place = |place: &Option<Place>| {
            place.as_ref().map_or("-".to_owned(), |place| format!("{}:{}", last_part(&place.source), place.line))
        };
        let text = boxclock_core::visible(&one.what, false);
        let row = vec![
            Span::styled(format!(" {:>3} ", at + 1), cx.theme.faint()),
            Span::styled(fit(words(one.kind.name()), 17), hue),
            Span::raw(fit(&text, width.saturating_sub(23))),
        ];
        let below = format!("     bad {}   good {}   {}", place(&one.bad), place(&one.good), one.why);
        Item { row, below: vec![Line::styled(cut(&below, width), cx.theme.faint())] }
    }

    fn empty(&self, cx: &Context) -> Vec<String> {
        if let Some(percent) = cx.jobs.percent(COMPARE) {
            return vec![format!("Comparing … {percent} %   Esc stops")];
        }
        match &self.compared {
            None => vec![
                "Nothing is compared yet.".into(),
                "c selects what: this case and a good box, two hosts, or the time since it went wrong and the time before.".into(),
            ],
            Some(compared) if compared.found.is_empty() => vec![
                "No difference that matters.".into(),
                "What differs from run to run anyway (times, numbers of processes, random names) is left out.".into(),
            ],
            Some(_) => vec!["All differences are marked as not mattering; o shows them.".into()],
        }
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        if let Some(percent) = cx.jobs.percent(COMPARE) {
            pane.faint(&format!("Comparing … {percent} %   Esc stops"));
        }
        let Some(one) = self.chosen() else { return };
        pane.strong(&boxclock_core::visible(&one.what, false));
        pane.facts("kind", words(one.kind.name()));
        pane.facts("why", &one.why);
        pane.facts("weight", &format!("{:.2} of 1", one.score));
        let [bad, good] =
            self.near.as_ref().map(|(_, near)| near.each_ref()).map_or([&[][..]; 2], |near| near.map(Vec::as_slice));
        for (side, place, lines) in [("bad", &one.bad, bad), ("good", &one.good, good)] {
            let Some(place) = place else {
                pane.heading(&format!("{side} side"));
                pane.faint("nothing like it");
                continue;
            };
            pane.heading(&format!("{side} side"));
            pane.faint(&format!("{}:{}", place.source, place.line));
            for (is_it, line) in lines {
                let line = boxclock_core::visible(line, false);
                if *is_it {
                    pane.text(&line);
                } else {
                    pane.faint(&line);
                }
            }
        }
    }
}

/// A kind of difference in words.
fn words(kind: &str) -> &'static str {
    match kind {
        "only-bad" => "only in the bad",
        "only-good" => "missing",
        "count" => "how often",
        "order" => "other order",
        "outcome" => "other outcome",
        "value" => "other value",
        "duration" => "duration",
        _ => "silence",
    }
}
