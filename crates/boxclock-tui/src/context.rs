//! What all views share: the case with its events, the logbook, the state of the Stream, rail and pane, the look, and running jobs.
//! What can be done with it stands in the files of this folder, by topic.

mod clocks;
mod codes;
pub(crate) mod events;
mod filters;
mod following;
mod known;
mod output;
mod pins;
mod rows;
mod walks;

use std::collections::HashMap;
use std::path::PathBuf;
use std::rc::Rc;
use std::sync::Arc;
use std::time::Instant;

use boxclock_core::analysis::{Analysis, CaseView, EventKey};
use boxclock_core::card::CardMatch;
use boxclock_core::case::{Case, Loaded, host_folders};
use boxclock_core::clock::{ClockCorrection, Zone};
use boxclock_core::code::Catalogues;
use boxclock_core::event::{EventRef, RecordReader, Row};
use boxclock_core::logbook::{ChainLink, Logbook, Pin, PinKind, RemedyStep, Story};
use boxclock_core::report::sources::{SourceOut, sources};
use boxclock_core::shelf::ShelfEntry;
use boxclock_core::work::Work;
use boxclock_core::{Error, Result};
use crossbeam_channel::Sender;
use unicode_width::UnicodeWidthStr;

use crate::commands::Keymap;
use crate::jobs::{Apply, Event, HOST_FOLDERS, Jobs, Kind};
use crate::layout::Layout;
use crate::pane_state::PaneState;
use crate::rail::Rail;
use crate::settings::Settings;
use crate::stream::Stream;
use crate::theme::Theme;

pub use filters::{off_format, off_host, off_name};
pub use following::Follow;
pub use known::seen_in;
pub use output::ReportParts;

/// A view, by its name.
pub type ViewId = &'static str;

/// The view of all events: places lead to it from everywhere.
pub const STREAM: ViewId = "stream";

/// What a command asks of the application: views call neither each other nor the typing.
pub enum Then {
    /// Nothing more.
    Stay,
    /// Says what has happened.
    Say(String),
    /// Goes to an event in the Stream.
    Go(Row),
    /// Shows another view.
    Show(ViewId),
    /// Asks for a line of text.
    Ask(Question),
    /// Offers a menu.
    Choose(Menu),
    /// Gives the view that is shown an answer, as if it had asked under that name.
    Answer(&'static str, String),
}

impl Then {
    /// Says a text.
    pub fn say(text: impl Into<String>) -> Self {
        Self::Say(text.into())
    }
}

/// What an answer does.
pub type Accept = Rc<dyn Fn(&mut Context, &str) -> Result<Then>>;

/// Who takes the answer to a question.
#[derive(Clone)]
pub enum Taker {
    /// This.
    Call(Accept),
    /// The view that asks, by a name of its own for the question.
    View(&'static str),
}

/// What typing shows at once.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Live {
    /// Nothing.
    #[default]
    Nothing,
    /// The rows that pass the filter.
    Filter,
    /// The hits of what is looked for.
    Find,
    /// The commands that fit.
    Finder,
    /// The codes that fit.
    Lookup,
}

/// A line of text that is asked for.
#[derive(Clone)]
pub struct Question {
    /// What is asked, in front of the line.
    pub label: String,
    /// What can be written, below the line.
    pub help: String,
    /// What the line begins with.
    pub text: String,
    /// Whether the text is hidden.
    pub is_secret: bool,
    /// What typing shows at once.
    pub live: Live,
    /// Who takes the answer.
    pub taker: Taker,
}

/// The question that the name of a drawing answers; the view that asked draws.
pub const DRAWING: &str = "draw";

impl Question {
    /// Asks where a drawing is to be written; the answer comes to the view as that of [`DRAWING`].
    pub fn drawing(suggested: &str) -> Then {
        let question = Self::new("write to", "NAME.svg or NAME.pdf", suggested, |_, _| Ok(Then::Stay));
        Then::Ask(Self { taker: Taker::View(DRAWING), ..question })
    }

    /// A question whose answer is taken by `accept`; an error keeps the line, with what is wrong.
    pub fn new(
        label: impl Into<String>,
        help: impl Into<String>,
        text: impl Into<String>,
        accept: impl Fn(&mut Context, &str) -> Result<Then> + 'static,
    ) -> Self {
        Self {
            label: label.into(),
            help: help.into(),
            text: text.into(),
            is_secret: false,
            live: Live::Nothing,
            taker: Taker::Call(Rc::new(accept)),
        }
    }
}

/// What a choice in a menu does.
pub type Choice = Rc<dyn Fn(&mut Context) -> Result<Then>>;

/// A menu: what can be chosen.
#[derive(Clone)]
pub struct Menu {
    /// What it is about.
    pub title: String,
    /// Its items with what they do.
    pub items: Vec<(String, Choice)>,
    /// The chosen item, among those that are shown.
    pub chosen: usize,
    /// What was typed to narrow it: each word must stand in an item.
    pub typed: String,
}

impl Menu {
    /// The items that are shown: those that have all words that were typed, by their place in `items`.
    pub fn shown(&self) -> Vec<usize> {
        let words: Vec<String> = self.typed.to_lowercase().split_whitespace().map(str::to_owned).collect();
        let fits = |text: &str| {
            let text = text.to_lowercase();
            words.iter().all(|word| text.contains(word))
        };
        (0..self.items.len()).filter(|at| fits(&self.items[*at].0)).collect()
    }

    /// A menu, or where it has no items what is said instead.
    pub fn offer(title: &str, items: Vec<(String, Choice)>, empty: &str) -> Then {
        if items.is_empty() {
            return Then::say(empty);
        }
        Then::Choose(Self { title: title.into(), items, chosen: 0, typed: String::new() })
    }
}

/// An item of a menu.
pub fn item(text: impl Into<String>, run: impl Fn(&mut Context) -> Result<Then> + 'static) -> (String, Choice) {
    (text.into(), Rc::new(run))
}

/// Takes a change back.
pub type TakeBack = Box<dyn FnOnce(&mut Context) -> Result<()>>;

/// A change that can be taken back.
pub struct Change {
    /// What was changed, for people: "pin removed".
    pub what: String,
    /// Takes it back.
    pub back: TakeBack,
}

/// A place that somebody jumped from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The view.
    pub view: ViewId,
    /// The chosen event.
    pub event: Option<EventKey>,
    /// The filter that was in force, where the jump puts another in its place.
    pub filter: Option<String>,
}

/// The shared state.
pub struct Context {
    /// The case with its events as they are now.
    pub view: CaseView,
    pub logbook: Logbook,
    /// The file that was asked for last: written to again, it is replaced.
    pub replacing: Option<PathBuf>,
    /// The folders of the case that look like one host each, which can be opened as those hosts.
    pub host_folders: Vec<(String, PathBuf)>,
    /// A notice that stays: why the logbook is not where it should be.
    pub logbook_notice: Option<String>,
    pub story: Story,
    pub pins: Vec<Pin>,
    pub chain: Vec<ChainLink>,
    /// The checklist of remedies.
    pub remedies: Vec<RemedyStep>,
    /// The fault cards that fit, each with the number of other cases on the shelf that it fits; `None` while they are looked for.
    pub known: Option<Arc<Vec<(CardMatch, usize)>>>,
    /// When that was looked for last.
    pub known_at: Option<Instant>,
    /// Where the user's shelf is; `None` where nothing is kept.
    pub shelf: Option<PathBuf>,
    /// What was read from the shelf, for the view that asked for it.
    pub on_shelf: Option<Vec<ShelfEntry>>,
    /// The rows that are pinned, with kind and colour.
    pub pinned: HashMap<u32, (PinKind, Option<u8>)>,
    /// The zone in which times are shown.
    pub zone: Zone,
    pub theme: Theme,
    pub settings: Settings,
    pub keymap: Keymap,
    pub jobs: Jobs<Context>,
    pub layout: Layout,
    /// The view that is shown.
    pub at: ViewId,
    /// One line that says what just happened.
    pub message: Option<String>,
    pub stream: Stream,
    pub rail: Rail,
    pub pane: PaneState,
    /// The sources with their sums.
    pub sources: Vec<SourceOut>,
    pub reader: RecordReader,
    /// Following files that grow.
    pub follow: Option<Follow>,
    /// Changes that can be taken back, the last one last.
    pub undo: Vec<Change>,
    /// Places jumped from, and jumped back from.
    pub back: Vec<Place>,
    pub forward: Vec<Place>,
    /// What was typed before, by the label of the line; the last one last.
    pub typed_before: HashMap<String, Vec<String>>,
    /// Counts up whenever the table, its clocks or the logbook have changed: what views derive from them is then old.
    pub state: u64,
    /// Text for the terminal's clipboard, sent with the next frame.
    pub clipboard: Option<String>,
    /// What to open instead of this case.
    pub next: Option<PathBuf>,
    /// A case that was opened and takes the place of this one.
    pub replacement: Option<Case>,
    /// What a job asks the user.
    pub question: Option<Then>,
    pub quit: bool,
    /// Whether the program is to stop for a while, as the shell's users can ask.
    pub suspend: bool,
}

impl Context {
    /// The state for a case that is about to be read; results of jobs come through `sender`.
    ///
    /// # Errors
    /// When no logbook can be used.
    pub fn open(mut case: Case, sender: Sender<Event<Self>>, settings: Settings, keymap: Keymap) -> Result<Self> {
        let (logbook, logbook_notice) = open_logbook(&case)?;
        for (name, drift) in logbook.drift()? {
            case.options.drift.entry(name).or_insert(drift);
        }
        let mut context = Self {
            story: logbook.story(&case.story)?,
            pins: logbook.pins()?,
            chain: logbook.chain()?,
            remedies: logbook.remedies()?,
            known: None,
            known_at: None,
            shelf: None,
            on_shelf: None,
            pinned: HashMap::new(),
            zone: settings.zone.clone().unwrap_or_else(|| case.zone.clone()),
            reader: RecordReader::new(Arc::clone(&case.sources)),
            host_folders: Vec::new(),
            view: CaseView::new(case, Loaded::default()),
            theme: Theme::of(&settings),
            settings,
            keymap,
            jobs: Jobs::new(sender),
            logbook,
            logbook_notice,
            replacing: None,
            layout: Layout::default(),
            at: STREAM,
            message: None,
            stream: Stream::default(),
            rail: Rail::default(),
            pane: PaneState { is_shown: true, ..PaneState::default() },
            sources: Vec::new(),
            follow: None,
            undo: Vec::new(),
            typed_before: HashMap::new(),
            back: Vec::new(),
            forward: Vec::new(),
            state: 0,
            clipboard: None,
            next: None,
            replacement: None,
            question: None,
            quit: false,
            suspend: false,
        };
        context.load_inks_and_lenses();
        Ok(context)
    }

    /// Starts to read the events, and to look whether the case's folders are hosts.
    pub fn load(&mut self) {
        let case = Arc::clone(&self.view.case);
        self.jobs.load(&case, Self::take_loaded, |cx, error| cx.message = Some(error.to_string()));
        // Beside the screen: a folder may be large, or on a slow disk.
        self.jobs.start(HOST_FOLDERS, move |_| {
            let found = host_folders(&case.paths, &case.options);
            Ok(Box::new(|cx: &mut Self| cx.host_folders = found) as Apply<Self>)
        });
    }

    /// First and last corrected time of the case.
    pub fn span(&self) -> Option<(i64, i64)> {
        self.view.loaded.table.span
    }

    /// The rail's span: the window, else the whole case.
    pub fn rail_span(&self) -> Option<(i64, i64)> {
        self.rail.window.or_else(|| self.span())
    }

    /// The code catalogues of the case.
    pub fn catalogues(&self) -> Arc<Catalogues> {
        Arc::clone(&self.view.case.catalogues)
    }

    /// How clocks are corrected, by host or source.
    pub fn drift(&self) -> &HashMap<String, ClockCorrection> {
        &self.view.case.options.drift
    }

    /// Changes what was said about the case; events stay as they are.
    pub fn change_case(&mut self, change: impl FnOnce(&mut Case)) {
        let mut case = (*self.view.case).clone();
        change(&mut case);
        self.view = CaseView::new(case, self.view.loaded.clone());
    }

    /// The case's title.
    pub fn title(&self) -> &str {
        if self.story.title.is_empty() { &self.view.case.name } else { &self.story.title }
    }

    /// Which table is shown: another one has other rows. Clocks and files change it, pins and notes do not.
    pub fn table_id(&self) -> usize {
        Arc::as_ptr(&self.view.loaded.table) as usize
    }

    /// Whether there is no case yet: nothing was opened or gathered.
    pub fn is_new(&self) -> bool {
        self.view.case.paths.is_empty() && self.view.case.options.hosts.is_empty()
    }

    /// An event of the table.
    pub fn event(&self, row: Row) -> EventRef<'_> {
        self.view.loaded.table.event(row)
    }

    /// The row of a pin, if its source is in the case and has been read.
    pub fn row_of_pin(&self, pin: &Pin) -> Option<Row> {
        self.view.row_in(&pin.source, pin.offset)
    }

    /// Works out an answer beside the screen, if it is not known yet; gives it when it is.
    pub fn ask<A: Analysis + Clone + Send + 'static>(&mut self, analysis: &A, kind: Kind) -> Option<Arc<A::Found>> {
        let known = self.view.known(analysis);
        if known.is_none() && !self.jobs.is_running(kind) {
            self.start_analysis(analysis.clone(), kind);
        }
        known
    }

    /// Works out an answer beside the screen.
    pub fn start_analysis<A: Analysis + Send + 'static>(&mut self, analysis: A, kind: Kind) {
        let view = self.view.clone();
        // The answer is kept with the view.
        self.jobs.start(kind, move |work| {
            view.run(&analysis, work)?;
            Ok(Box::new(|_: &mut Self| {}) as Apply<Self>)
        });
    }

    /// Does something long beside the screen; its result is applied to the state.
    pub fn start(&mut self, kind: Kind, job: impl FnOnce(&CaseView, &Work) -> Result<Apply<Self>> + Send + 'static) {
        let view = self.view.clone();
        self.jobs.start(kind, move |work| job(&view, work));
    }

    /// Brings what is derived from the table and the logbook up to date.
    pub fn refresh(&mut self) {
        self.state += 1;
        // While thousands of sources are read, their sums are of interest where they are shown only.
        if self.view.loaded.complete || self.sources.is_empty() {
            self.sources = sources(&self.view.case, &self.view.loaded);
        }
        let widest = |names: &[String]| names.iter().map(|name| name.width()).max().unwrap_or(0);
        let of_sources = self.view.case.sources.iter().map(|source| crate::text::last_part(&source.name).width());
        let table = &self.view.loaded.table;
        self.stream.longest = [widest(&table.hosts), widest(&table.components), of_sources.max().unwrap_or(0)];
        self.refresh_pins();
    }

    /// Which rows are pinned.
    pub fn refresh_pins(&mut self) {
        self.state += 1;
        let pinned = self.pins.iter().filter_map(|pin| Some((self.row_of_pin(pin)?.0, (pin.kind, pin.colour))));
        self.pinned = pinned.collect();
        self.pane.detail = None;
    }

    /// Notes how a change is taken back.
    pub fn note_undo(&mut self, what: impl Into<String>, back: impl FnOnce(&mut Self) -> Result<()> + 'static) {
        self.undo.push(Change { what: what.into(), back: Box::new(back) });
    }

    /// Takes the last change back, and says which.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn undo_last(&mut self) -> Result<Then> {
        let Some(Change { what, back }) = self.undo.pop() else { return Ok(Then::say("Nothing to undo.")) };
        // Undoing is not itself to be undone.
        let kept = self.undo.len();
        let done = back(self);
        self.undo.truncate(kept);
        done?;
        self.reload_logbook()?;
        Ok(Then::say(match self.undo.last() {
            Some(next) => format!("Undone: {what}. Next: {}.", next.what),
            None => format!("Undone: {what}."),
        }))
    }

    /// Reads pins and chain again after the logbook changed.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn reload_logbook(&mut self) -> Result<()> {
        (self.pins, self.chain) = (self.logbook.pins()?, self.logbook.chain()?);
        self.remedies = self.logbook.remedies()?;
        self.refresh_pins();
        Ok(())
    }

    /// Something was not possible: nothing is done, and that is said.
    pub fn fail(&mut self, error: &Error) {
        if !error.is_cancelled() {
            self.message = Some(error.to_string());
        }
    }
}

/// Opens the case's logbook. A place that cannot be written gets one that lasts until the end, and says so.
fn open_logbook(case: &Case) -> Result<(Logbook, Option<String>)> {
    let Some(path) = &case.logbook_path else {
        let notice = "There is no folder for the logbook (set HOME). Changes last until you quit.";
        return Ok((Logbook::in_memory()?, Some(notice.into())));
    };
    match Logbook::open(path) {
        Ok(logbook) => Ok((logbook, None)),
        Err(error) if path.exists() => Err(error),
        Err(error) => Ok((Logbook::in_memory()?, Some(format!("{error}. Changes last until you quit.")))),
    }
}
