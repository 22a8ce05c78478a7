//! The state of the application.

mod boxes;
mod prepare;

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

use boxclock_core::Result;
use boxclock_core::case::{Case, Loaded};
use boxclock_core::clock::{Drift, Zone};
use boxclock_core::code::{Code, Reading as CodeReading};
use boxclock_core::event::{EventRef, RecordReader, Row};
use boxclock_core::format::Record;
use boxclock_core::gather::recipe::Class;
use boxclock_core::logbook::{ChainLink, Logbook, Pin, PinKind, Story};
use boxclock_core::query::{Filter, FilterError};
use boxclock_core::report::Report;
use boxclock_core::report::codes::{CodeCount, Order, Relative};
use boxclock_core::report::sources::{SourceOut, sources};
use boxclock_core::timeline::density::Density;
use crossbeam_channel::Sender;
use tui_input::Input;
use unicode_width::UnicodeWidthStr;

use crate::desk::Desk;
use crate::jobs::{Added, BoxState, Event, Jobs, Run, ViewRows};
use crate::keys::Scope;
use crate::settings::Settings;
use crate::theme::Theme;
use crate::view::layout::Layout;
use crate::view::stream::Columns;
use crate::workspace::{Menu, Workspace};

/// A step of the work: what the middle shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Step {
    Story,
    Box,
    Stream,
    Codes,
    Cause,
    Report,
    /// Gathering, capturing, receiving, handing on: reached from anywhere, without a number of its own.
    Desk,
}

impl Step {
    /// All steps, with their keys and names.
    pub const ALL: [(Self, &'static str, &'static str); 6] = [
        (Self::Story, "1", "Story"),
        (Self::Box, "2", "Box"),
        (Self::Stream, "3", "Stream"),
        (Self::Codes, "4", "Codes"),
        (Self::Cause, "9", "Cause"),
        (Self::Report, "0", "Report"),
    ];

    /// Which part of the key table holds here.
    pub fn scope(self) -> Option<Scope> {
        match self {
            Self::Stream => Some(Scope::Stream),
            Self::Box => Some(Scope::Box),
            Self::Cause => Some(Scope::Cause),
            Self::Report => Some(Scope::Report),
            Self::Desk => Some(Scope::Desk),
            Self::Codes => Some(Scope::Codes),
            Self::Story => None,
        }
    }
}

/// What is being typed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Prompt {
    Filter,
    Find,
    Time,
    Note,
    /// The clock of a host.
    Clock(String),
    /// The zone of a source, by its name.
    Zone(String),
    /// Format, encoding or order of dates of a source, by its name.
    ReadAs(String),
    /// A password for archives.
    Password,
    /// A field of the story, by its key.
    Field(&'static str),
    /// The reason of a link of the chain.
    Reason(usize),
    /// Where to write the report.
    ReportPath,
    /// A field of the desk, by its key.
    Desk(&'static str),
    /// The host of a source, by its name.
    Label(String),
    /// What an ink looks for, by its place.
    Ink(usize),
    /// The name of a lens.
    LensName,
    /// The columns of the Stream.
    Columns,
    /// The zone in which times are shown.
    ShownZone,
    /// Where to write events.
    ExportPath,
    /// Where to write a chart.
    ChartPath,
    /// The action finder, with the chosen line.
    Finder(usize),
    /// A code or words of its meaning to look up, with the chosen line.
    Lookup(usize),
}

/// What keys go to.
pub enum Mode {
    /// The view.
    Normal,
    /// A line that is being typed.
    Typing(Prompt, Input),
    /// The help, scrolled by so many lines.
    Help(usize),
    /// A menu.
    Menu(Menu),
}

/// How to take a change of the logbook back.
pub enum Undo {
    /// Pin again: source, offset, note; and the chain as it was.
    Pin(String, u64, String, Vec<ChainLink>),
    /// Take the pin away, or give it its note of before.
    Unpin(String, u64, Option<String>),
    Clock(String, Drift),
    /// What was chosen for a source before: source, what, value.
    Choice(String, &'static str, String),
    /// Choices about codes: source, what, value.
    Codes(Vec<(String, String, String)>),
    Field(&'static str, String),
    /// An ink by its place, and what it was.
    Ink(usize, String),
    /// A lens of the case, and its filter of before.
    Lens(String, String),
    /// A pin's kind and colour of before.
    PinKind(i64, PinKind, Option<u8>),
    Chain(Vec<ChainLink>),
}

/// One visible line of the stream, ready to be drawn.
pub struct StreamLine {
    pub row: Row,
    /// Its place in the view.
    pub place: usize,
    pub text: String,
    /// Codes in `text` with their gloss: where the code ends, and words.
    pub glosses: Vec<(usize, String)>,
    /// What is coloured in `text`, as byte ranges.
    pub marks: Vec<(std::ops::Range<usize>, TextMark)>,
    /// Lines of the record that are not shown.
    pub more_lines: usize,
    /// Further lines of the record that are shown.
    pub extra: Vec<String>,
    /// The run that it stands for, where runs are folded.
    pub run: Option<Run>,
    /// The first ink that the event has.
    pub ink: Option<u8>,
    /// Rows of the screen that it takes.
    pub height: usize,
}

/// Why a part of a text is coloured.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TextMark {
    /// What is being looked for.
    Hit,
    /// An ink, by its place.
    Ink(u8),
}

/// What the reading pane says of the chosen event.
pub struct Reading {
    pub row: Row,
    pub record: Record,
    /// The record as XML or JSON, where its format is that.
    pub structured: Option<String>,
    /// The start of its bytes.
    pub bytes: Vec<u8>,
    /// Its pattern, and the pattern's number.
    pub shape: String,
    pub number: u64,
}

/// The codes of the case, and what is looked up.
#[derive(Default)]
pub struct Codes {
    pub list: Vec<CodeCount>,
    pub order: Order,
    /// Whether the list was asked for, and over which span of time.
    pub is_asked: bool,
    pub axis: Option<(i64, i64)>,
    /// Whether the list of this case has come.
    pub known: bool,
    /// What stands near the code of `relatives_asked`; `None` while it is looked for.
    pub relatives: Option<Vec<Relative>>,
    pub relatives_asked: Option<Code>,
    /// What was found for what is typed.
    pub found: Vec<CodeReading>,
}

impl Codes {
    /// What the case has of a code.
    pub fn of(&self, code: Code) -> Option<&CodeCount> {
        self.list.iter().find(|row| row.code == code)
    }
}

/// A host and what its sources add up to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HostSums {
    /// Its label.
    pub host: String,
    /// Sources.
    pub sources: usize,
    /// Their bytes.
    pub bytes: u64,
    /// Their events.
    pub events: u64,
    /// Files that are no logs.
    pub others: usize,
}

/// A line of the Box view.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum BoxRow {
    /// A host, with its sums.
    Host(HostSums),
    /// A class of logs of a host.
    Class(String, Class),
    /// A source, by its place in [`App::sources`].
    Source(usize),
    /// What a check found, by its place among the findings.
    Finding(usize),
    /// A clock that seems to be wrong, by its place among the suggestions.
    Drift(usize),
    /// What was not read, by its place in the case's list.
    LeftOut(usize),
}

/// The whole state.
pub struct App {
    pub case: Arc<Case>,
    pub loaded: Loaded,
    /// First and last time of the table, kept because every frame asks and out-of-order sources make it a long walk.
    pub span: Option<(i64, i64)>,
    pub logbook: Logbook,
    pub story: Story,
    pub pins: Vec<Pin>,
    pub chain: Vec<ChainLink>,
    pub drift: HashMap<String, Drift>,
    pub zone: Zone,
    pub theme: Theme,
    pub jobs: Jobs,
    pub quit: bool,
    /// Whether the program is to stop for a while, as the shell's users can ask.
    pub suspend: bool,
    pub step: Step,
    pub mode: Mode,
    /// One line that says what just happened.
    pub message: Option<String>,
    pub view: ViewRows,
    /// The chosen place in the view.
    pub cursor: usize,
    /// The first visible place.
    pub top: usize,
    /// Columns of text that are scrolled away.
    pub shifted: usize,
    /// The places that are selected, for the frame that is being drawn.
    pub selected: Option<std::ops::RangeInclusive<usize>>,
    /// The longest name of a host, a component and a source, in columns of the screen.
    pub longest: [usize; 3],
    /// The columns in front of the text, with their widths.
    pub columns: Columns,
    /// What the Stream is set to, and what it knows beside its rows.
    pub workspace: Workspace,
    /// What the user's settings say.
    pub settings: Settings,
    /// The chosen event, so that it stays chosen when the view changes: source and offset.
    pub anchor: Option<(usize, u64)>,
    pub filter_text: String,
    pub filter: Option<Filter>,
    /// What is wrong with the filter that is being typed.
    pub filter_error: Option<FilterError>,
    /// The filter to return to when typing is given up.
    pub filter_before: String,
    pub find_text: String,
    pub find: Option<Filter>,
    pub hits: Option<Arc<Vec<u32>>>,
    /// Where the search started.
    pub find_from: usize,
    /// Whether the next hits move the cursor.
    pub find_moves: bool,
    /// The rail's window; `None` for the whole span.
    pub window: Option<(i64, i64)>,
    pub density: Option<Arc<Density>>,
    /// What stands above its lanes.
    pub rail_labels: Vec<String>,
    /// What the density on screen was asked for: from, to, slices, lanes at most.
    pub density_asked: Option<(i64, i64, usize, usize)>,
    /// Places jumped from.
    pub back: Vec<(Step, Option<(usize, u64)>)>,
    /// The chosen line of each other view, and its first visible one.
    pub lists: HashMap<Step, (usize, usize)>,
    pub reading_shown: bool,
    /// Whether the reading pane lies over the middle, in a terminal too narrow for both.
    pub reading_over: bool,
    pub undo: Vec<Undo>,
    pub layout: Layout,
    pub lines: Vec<StreamLine>,
    pub reading: Option<Reading>,
    pub sources: Vec<SourceOut>,
    /// Whether the sources cover the moment, and what the checks found; of the table before while it is worked out.
    pub box_state: Arc<BoxState>,
    /// The lines of the Box view.
    pub box_rows: Vec<BoxRow>,
    pub codes: Codes,
    pub report_text: Vec<String>,
    /// The rows that are pinned, with kind and colour.
    pub pinned: HashMap<u32, (PinKind, Option<u8>)>,
    pub reader: RecordReader,
    /// Gathering, capturing, receiving, handing on.
    pub desk: Desk,
    /// What to open instead of this case.
    pub next: Option<PathBuf>,
    /// A notice that stays: why the logbook is not where it should be.
    pub logbook_notice: Option<String>,
}

impl App {
    /// The state for a case that is about to be read; results of jobs come through `sender`.
    ///
    /// # Errors
    /// When no logbook can be used.
    pub fn open(case: Case, sender: Sender<Event>) -> Result<Self> {
        let (logbook, logbook_notice) = open_logbook(&case)?;
        let mut drift = logbook.drift()?;
        drift.extend(case.options.drift.clone());
        let reader = RecordReader::new(Arc::clone(&case.sources));
        let mut case = case;
        case.options.drift.clone_from(&drift);
        Ok(Self {
            story: logbook.story(&case.story)?,
            pins: logbook.pins()?,
            chain: logbook.chain()?,
            zone: case.zone.clone(),
            case: Arc::new(case),
            loaded: Loaded::default(),
            span: None,
            drift,
            theme: Theme::of(&Settings::default()),
            jobs: Jobs::new(sender),
            logbook,
            quit: false,
            suspend: false,
            step: Step::Stream,
            mode: Mode::Normal,
            message: None,
            view: ViewRows::default(),
            cursor: 0,
            top: 0,
            shifted: 0,
            selected: None,
            longest: [0; 3],
            columns: Columns::default(),
            workspace: Workspace::default(),
            settings: Settings::default(),
            anchor: None,
            filter_text: String::new(),
            filter: None,
            filter_error: None,
            filter_before: String::new(),
            find_text: String::new(),
            find: None,
            hits: None,
            find_from: 0,
            find_moves: false,
            window: None,
            density: None,
            rail_labels: Vec::new(),
            density_asked: None,
            back: Vec::new(),
            lists: HashMap::new(),
            reading_shown: true,
            reading_over: false,
            undo: Vec::new(),
            layout: Layout::default(),
            lines: Vec::new(),
            reading: None,
            sources: Vec::new(),
            box_state: Arc::default(),
            box_rows: Vec::new(),
            codes: Codes::default(),
            report_text: Vec::new(),
            pinned: HashMap::new(),
            reader,
            desk: Desk::default(),
            next: None,
            logbook_notice,
        })
    }

    /// Takes the look and the user's settings.
    pub fn use_settings(&mut self, theme: Theme, settings: Settings) {
        if let Some(zone) = &settings.zone {
            self.zone = zone.clone();
        }
        (self.theme, self.settings) = (theme, settings);
    }

    /// Starts to read the events.
    pub fn load(&mut self) {
        let case = Arc::clone(&self.case);
        self.jobs.load(&case);
    }

    /// Puts the case, opened again, in the place of the old one, and reads it.
    pub fn replace(&mut self, case: Case) {
        self.reader = RecordReader::new(Arc::clone(&case.sources));
        let drift = self.drift.clone();
        self.workspace.patterns = None;
        self.workspace.unfolded.clear();
        self.case = Arc::new(case);
        if let Some(case) = Arc::get_mut(&mut self.case) {
            case.options.drift = drift;
        }
        // Rows, places and sources of the old table mean nothing in the new one.
        self.jobs.cancel_all();
        self.codes = Codes { order: self.codes.order, ..Codes::default() };
        (self.loaded, self.view, self.span) = (Loaded::default(), ViewRows::default(), None);
        (self.anchor, self.reading, self.hits, self.density) = (None, None, None, None);
        (self.density_asked, self.cursor, self.top) = (None, 0, 0);
        self.lines.clear();
        self.back.clear();
        self.refresh();
        self.load();
    }

    /// How many events the view has.
    pub fn view_len(&self) -> usize {
        self.view.rows.as_ref().map_or(self.loaded.table.order.len(), |rows| rows.len())
    }

    /// The row at a place of the view.
    pub fn row_at(&self, place: usize) -> Option<Row> {
        let rows = self.view.rows.as_ref().map_or(&*self.loaded.table.order, |rows| rows.as_slice());
        rows.get(place).map(|row| Row(*row))
    }

    /// The chosen event.
    pub fn chosen(&self) -> Option<EventRef<'_>> {
        self.row_at(self.cursor).map(|row| self.loaded.table.event(row))
    }

    /// The first place of the view whose time is not before `utc_ns`.
    pub fn place_of_time(&self, utc_ns: i64) -> usize {
        match &self.view.rows {
            None => self.loaded.table.place_of_time(utc_ns),
            // The worst first: no order of time to search in.
            Some(rows) if self.view.worst_first => {
                let time = |row: &u32| self.loaded.table.event(Row(*row)).order_time();
                rows.iter().position(|row| time(row) >= utc_ns).unwrap_or(rows.len())
            }
            Some(rows) => rows.partition_point(|row| self.loaded.table.event(Row(*row)).order_time() < utc_ns),
        }
    }

    /// The place of a row in the view, or the nearest one after it.
    pub fn place_of_row(&self, row: Row) -> usize {
        let near = self.place_of_time(self.loaded.table.event(row).order_time());
        let ahead = (near..self.view_len()).take(10_000).find(|place| self.row_at(*place) == Some(row));
        let anywhere = || {
            let rows = self.view.rows.as_ref().map_or(&*self.loaded.table.order, |rows| rows.as_slice());
            rows.iter().position(|other| *other == row.0)
        };
        let disordered = self.loaded.table.event(row).is_disordered() || self.view.worst_first;
        ahead.or_else(|| if disordered { anywhere() } else { None }).unwrap_or(near)
    }

    /// The places that are selected: from where the selection began to the chosen one.
    pub fn selection(&self) -> Option<std::ops::RangeInclusive<usize>> {
        let (source, offset) = self.workspace.selected_from?;
        let name = &self.case.sources.get(source)?.name;
        let from = self.place_of_row(self.loaded.event_at(&self.case, name, offset)?.row);
        Some(from.min(self.cursor)..=from.max(self.cursor))
    }

    /// Whether a place is selected, in the frame that is being drawn.
    pub fn is_selected(&self, place: usize) -> bool {
        self.selected.as_ref().is_some_and(|selected| selected.contains(&place))
    }

    /// The case's title.
    pub fn title(&self) -> &str {
        if self.story.title.is_empty() { &self.case.name } else { &self.story.title }
    }

    /// The row of a pin, if its source is in the case and has been read.
    pub fn row_of_pin(&self, pin: &Pin) -> Option<Row> {
        self.loaded.event_at(&self.case, &pin.source, pin.offset).map(|event| event.row)
    }

    /// The pins in the order of the Cause view: the chain first, then the others by time.
    pub fn cause_order(&self) -> Vec<(Option<usize>, &Pin)> {
        let in_chain = self.chain.iter().enumerate();
        let mut order: Vec<(Option<usize>, &Pin)> = in_chain
            .filter_map(|(link, of)| self.pins.iter().find(|pin| pin.id == of.pin).map(|pin| (Some(link), pin)))
            .collect();
        let mut loose: Vec<&Pin> =
            self.pins.iter().filter(|pin| !self.chain.iter().any(|link| link.pin == pin.id)).collect();
        loose.sort_by_key(|pin| self.row_of_pin(pin).map_or(i64::MAX, |row| self.loaded.table.event(row).order_time()));
        order.extend(loose.into_iter().map(|pin| (None, pin)));
        order
    }

    /// The chosen line of a list view.
    pub fn list_cursor(&self, step: Step) -> usize {
        self.lists.get(&step).map_or(0, |(cursor, _)| *cursor)
    }

    /// How many lines the list of a view has.
    pub fn list_len(&self, step: Step) -> usize {
        match step {
            Step::Story => Story::FIELDS.len(),
            Step::Box => self.box_rows.len(),
            Step::Stream => self.view_len(),
            Step::Codes => self.codes.list.len(),
            Step::Cause => self.pins.len(),
            Step::Report => self.report_text.len(),
            Step::Desk => self.desk.rows().len(),
        }
    }

    /// The chosen line of the Box view.
    pub fn chosen_box_row(&self) -> Option<&BoxRow> {
        self.box_rows.get(self.list_cursor(Step::Box))
    }

    /// The chosen source of the Box view.
    pub fn chosen_source(&self) -> Option<&SourceOut> {
        match self.chosen_box_row()? {
            BoxRow::Source(index) => self.sources.get(*index),
            _ => None,
        }
    }

    /// The host whose clock `d` corrects here: that of the chosen event or source.
    pub fn chosen_host(&self) -> Option<String> {
        let name = match self.step {
            Step::Box => match self.chosen_box_row()? {
                BoxRow::Host(HostSums { host, .. }) | BoxRow::Class(host, _) => host.clone(),
                BoxRow::Source(index) => self.sources.get(*index)?.host.clone()?,
                BoxRow::Finding(index) => self.box_state.findings.get(*index)?.host.clone(),
                BoxRow::Drift(index) => self.box_state.drift.get(*index)?.host.clone(),
                BoxRow::LeftOut(_) => return None,
            },
            _ => self.chosen()?.host().to_owned(),
        };
        (!name.is_empty()).then_some(name)
    }

    /// What the report is made of.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn report(&self) -> Result<Report<'_>> {
        Report::new(&self.case, &self.loaded, &self.logbook)
    }

    /// Where the report is written unless the user says otherwise: beside the box, else in the working folder.
    pub fn report_path(&self) -> PathBuf {
        let beside_box = self.case.seal.is_some().then(|| self.case.logbook_path.clone()).flatten();
        match beside_box {
            Some(path) => path.with_extension("report.md"),
            None => PathBuf::from("boxclock-report.md"),
        }
    }

    /// Brings the derived lists up to date after the table or the logbook changed.
    pub fn refresh(&mut self) {
        // While thousands of sources are read, their sums are of interest in the Box view only.
        if self.loaded.complete || self.step == Step::Box || self.sources.is_empty() {
            self.sources = sources(&self.case, &self.loaded);
            self.arrange_box();
        }
        let widest = |names: &[String]| names.iter().map(|name| name.width()).max().unwrap_or(0);
        let of_sources = self.case.sources.iter().map(|source| crate::view::stream::short(&source.name).width());
        let table = &self.loaded.table;
        self.longest = [widest(&table.hosts), widest(&table.components), of_sources.max().unwrap_or(0)];
        self.codes.is_asked = false;
        self.codes.relatives_asked = None;
        let pinned = self.pins.iter().filter_map(|pin| Some((self.row_of_pin(pin)?.0, (pin.kind, pin.colour))));
        self.pinned = pinned.collect();
        if self.step == Step::Report {
            self.refresh_report();
        }
        self.reading = None;
    }

    /// Has the report's preview written anew.
    pub fn refresh_report(&mut self) {
        match self.report() {
            Ok(report) => {
                let added = Added::of(report);
                self.jobs.report(Arc::clone(&self.case), self.loaded.clone(), added, None);
            }
            Err(error) => self.report_text = vec![error.to_string()],
        }
    }
}

/// The first visible line such that the chosen one is visible, with a little room around it.
fn scrolled(top: usize, cursor: usize, len: usize, height: usize) -> usize {
    let room = (height / 6).min(3);
    let highest = cursor.saturating_sub(room);
    let lowest = (cursor + room + 1).saturating_sub(height);
    top.clamp(lowest, highest.max(lowest)).min(len.saturating_sub(height))
}

/// Opens the case's logbook. A place that cannot be written gets one that lasts until the end, and says so.
fn open_logbook(case: &Case) -> Result<(Logbook, Option<String>)> {
    let Some(path) = &case.logbook_path else {
        let notice = "no folder for the logbook (set HOME): changes last until you quit";
        return Ok((Logbook::in_memory()?, Some(notice.into())));
    };
    match Logbook::open(path) {
        Ok(logbook) => Ok((logbook, None)),
        Err(error) if path.exists() => Err(error),
        Err(error) => Ok((Logbook::in_memory()?, Some(format!("{error}: changes last until you quit")))),
    }
}
