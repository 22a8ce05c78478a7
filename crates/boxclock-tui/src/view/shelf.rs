//! The Shelf: the cases that were opened before, with what was found in them.

use boxclock_core::Result;
use boxclock_core::clock::human::date_time;
use boxclock_core::gather::DiskUse;
use boxclock_core::shelf::{Shelf, ShelfEntry, search};
use ratatui::text::{Line, Span};

use super::{Item, ListState, Spec, View, ViewCommand};
use crate::context::{Context, Question, Taker, Then};
use crate::jobs::{Apply, Kind};
use crate::pane::Pane;
use crate::text::{cut, fit, many};

static SPEC: Spec = Spec {
    id: "shelf",
    key: "B",
    name: "Shelf",
    about: "Shelf: the cases that were opened before, and what was found in them",
    head_rows: 2,
    item_rows: 2,
    has_pane: true,
    tab_of: Some("story"),
};

const READ: Kind = ("shelf", 0);
/// What the view asks for by this name.
const SEARCH: &str = "shelf-search";
/// Names that the pane shows of each list.
const MOST_SHOWN: usize = 12;

/// The view.
#[derive(Default)]
struct ShelfView {
    list: ListState,
    /// All cases; `None` while they are read.
    all: Option<Vec<ShelfEntry>>,
    /// Places in `all` of those that are shown.
    shown: Vec<usize>,
    /// What is searched.
    words: String,
}

/// Makes it.
pub fn new() -> Box<dyn View> {
    Box::<ShelfView>::default()
}

const COMMANDS: &[ViewCommand<ShelfView>] = &[
    ViewCommand {
        name: "shelf-search",
        keys: &["/"],
        short: "search",
        long: "show the cases that contain all these words: title, host, cause, or the name of a card, code, crash or pattern",
        run: |view, _, _| {
            let help = "words of title, host, cause; names of cards, codes, crashes, patterns. Empty shows all";
            let mut question = Question::new("shelf", help, view.words.clone(), |_, _| Ok(Then::Stay));
            question.taker = Taker::View(SEARCH);
            Ok(Then::Ask(question))
        },
    },
    ViewCommand {
        name: "shelf-remove",
        keys: &["x"],
        short: "take off",
        long: "take this case off the shelf; the case itself stays",
        run: |view, cx, _| view.remove(cx),
    },
    ViewCommand::PANE_DOWN,
    ViewCommand::PANE_UP,
];

impl ShelfView {
    fn chosen(&self) -> Option<&ShelfEntry> {
        self.all.as_ref()?.get(*self.shown.get(self.list.cursor)?)
    }

    fn search(&mut self) {
        let all = self.all.as_deref().unwrap_or_default();
        let found = search(all, &self.words);
        self.shown = (0..all.len()).filter(|at| found.iter().any(|entry| entry.path == all[*at].path)).collect();
        self.list.cursor = self.list.cursor.min(self.shown.len().saturating_sub(1));
    }

    fn remove(&mut self, cx: &mut Context) -> Result<Then> {
        let (Some(entry), Some(path)) = (self.chosen().cloned(), cx.shelf.clone()) else { return Ok(Then::Stay) };
        Shelf::open(&path)?.remove(&entry.path)?;
        if let Some(all) = &mut self.all {
            all.retain(|other| other.path != entry.path);
        }
        self.search();
        let said = format!("{} was taken off the shelf; u puts it back.", entry.title);
        // The list is read again when it is shown again.
        cx.note_undo("case taken off the shelf", move |cx| {
            Shelf::open(&path)?.put(&entry)?;
            cx.state += 1;
            Ok(())
        });
        Ok(Then::Say(said))
    }
}

impl View for ShelfView {
    view_parts!(SPEC, COMMANDS);

    fn len(&self, _: &Context) -> usize {
        self.shown.len()
    }

    fn open(&mut self, cx: &mut Context) {
        self.all = None;
        self.shown.clear();
        let Some(path) = cx.shelf.clone() else {
            self.all = Some(Vec::new());
            return;
        };
        cx.jobs.start(READ, move |_| {
            // Nothing was opened yet: there is no file, and none is made by looking.
            let all = if path.exists() { Shelf::open(&path)?.all()? } else { Vec::new() };
            Ok(Box::new(move |cx: &mut Context| cx.on_shelf = Some(all)) as Apply<Context>)
        });
    }

    fn prepare(&mut self, cx: &mut Context) {
        if let Some(all) = cx.on_shelf.take() {
            self.all = Some(all);
            self.search();
        }
    }

    fn answer(&mut self, _: &mut Context, what: &str, text: &str) -> Result<Then> {
        if what == SEARCH {
            text.trim().clone_into(&mut self.words);
            self.list = ListState::default();
            self.search();
        }
        Ok(Then::Stay)
    }

    fn enter(&mut self, cx: &mut Context) -> Result<Then> {
        let Some(entry) = self.chosen() else { return Ok(Then::Stay) };
        if !entry.path.exists() {
            return Ok(Then::say(format!("{} is not there any more. x takes it off the shelf.", entry.path.display())));
        }
        cx.open_next(entry.path.clone(), DiskUse::Share);
        Ok(Then::say(format!("Opening {} …", entry.title)))
    }

    fn head(&self, cx: &Context, width: usize) -> Vec<Line<'static>> {
        let all = self.all.as_ref().map_or(0, Vec::len);
        let counts = if self.words.is_empty() {
            many(all as u64, "case")
        } else {
            format!("{} of {all} with \"{}\"", self.shown.len(), self.words)
        };
        vec![
            Line::from(vec![
                Span::styled(" Opened before", cx.theme.strong()),
                Span::styled(cut(&format!("   {counts}"), width.saturating_sub(15)), cx.theme.faint()),
            ]),
            Line::raw(""),
        ]
    }

    fn item(&self, cx: &Context, index: usize, width: usize) -> Item {
        let Some(entry) = self.shown.get(index).and_then(|at| self.all.as_ref()?.get(*at)) else {
            return Item::one(Vec::new());
        };
        let day = entry.span.map_or_else(|| fit("no time", 10), |(_, last)| date_time(last, &cx.zone)[..10].to_owned());
        let hosts = entry.hosts.join(" ");
        let room = width.saturating_sub(14);
        let for_hosts = if width >= 70 { 24 } else { 0 };
        let row = vec![
            Span::raw(format!(" {day}  ")),
            Span::styled(fit(&entry.title, room.saturating_sub(for_hosts)), cx.theme.strong()),
            Span::styled(fit(&hosts, for_hosts), cx.theme.faint()),
        ];
        let found = match (entry.cause.is_empty(), entry.cards.first()) {
            (false, Some(card)) => format!("{}  ({card})", entry.cause),
            (false, None) => entry.cause.clone(),
            (true, Some(_)) => format!("known: {}", entry.cards.join(", ")),
            (true, None) => "no cause yet, and no card fits".to_owned(),
        };
        let below = Line::styled(cut(&format!("             {found}"), width.saturating_sub(1)), cx.theme.faint());
        Item { row, below: vec![below] }
    }

    fn empty(&self, cx: &Context) -> Vec<String> {
        if self.all.is_none() {
            return vec!["Reading the shelf …".into()];
        }
        if !self.words.is_empty() {
            return vec![format!("No case on the shelf contains \"{}\". / changes the search.", self.words)];
        }
        let mut lines = vec!["No case has been opened yet.".to_owned()];
        lines.push(if cx.is_new() {
            "Cases that you open or gather are listed here. b gathers one.".into()
        } else {
            "This case is listed once it has been read.".into()
        });
        lines
    }

    fn pane(&self, cx: &Context, pane: &mut Pane<'_>) {
        let Some(entry) = self.chosen() else {
            pane.faint("The cases that this user opened on this machine, most recent first.");
            return;
        };
        pane.strong(&entry.title);
        pane.faint(&entry.path.display().to_string());
        pane.gap();
        pane.facts("opened", &date_time(entry.opened, &cx.zone)[..19]);
        if let Some((first, last)) = entry.span {
            pane.facts("from", &date_time(first, &cx.zone)[..19]);
            pane.facts("to", &date_time(last, &cx.zone)[..19]);
        }
        pane.facts("hosts", &entry.hosts.join(", "));
        pane.facts("cause", if entry.cause.is_empty() { "not established" } else { &entry.cause });
        let others = |name: &String| {
            let all = self.all.as_deref().unwrap_or_default();
            boxclock_core::shelf::met_elsewhere(all, &entry.path, name)
        };
        for (title, names) in [
            ("known faults", &entry.cards),
            ("crashes", &entry.fingerprints),
            ("codes of failures", &entry.codes),
            ("patterns of errors", &entry.patterns),
        ] {
            if names.is_empty() {
                continue;
            }
            pane.heading(title);
            let mut names: Vec<(&String, usize)> = names.iter().map(|name| (name, others(name))).collect();
            names.sort_by_key(|(_, met)| std::cmp::Reverse(*met));
            for (name, met) in names.iter().take(MOST_SHOWN) {
                pane.line(&format!("{name}{}", crate::context::seen_in(*met)));
            }
            if names.len() > MOST_SHOWN {
                pane.faint(&format!("and {} more", names.len() - MOST_SHOWN));
            }
        }
        pane.gap();
        pane.faint("Enter opens it.");
    }
}
