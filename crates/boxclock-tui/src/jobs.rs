//! Work beside the screen: reading, filtering, finding, counting. One job of a kind at a time; a newer one cancels the
//! older, and results of cancelled ones are dropped.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use boxclock_core::case::{Case, Focus, Loaded, Loader, Options, Source};
use boxclock_core::clock::Drift;
use boxclock_core::coverage;
use boxclock_core::facts::checks::findings;
use boxclock_core::facts::{Checks, Finding};
use boxclock_core::gather::Window;
use boxclock_core::query::{Filter, RowSet, problem_rows, rows_in_order};
use boxclock_core::timeline::density::{Density, density};
use boxclock_core::timeline::drift::{Suggestion, suggestions};
use boxclock_core::work::Work;
use crossbeam_channel::Sender;
use ratatui::crossterm::event::Event as Input;

use crate::desk::DeskDone;

/// What the main loop waits for.
pub enum Event {
    /// Something typed, clicked or resized.
    Input(Input),
    /// More events have been read, by the reading of this number.
    Loaded(u64, Loaded),
    /// A job is done.
    Done(u64, Outcome),
    /// What the desk's work of this number says.
    Desk(u64, DeskDone),
    /// The case was opened again.
    Opened(Box<boxclock_core::Result<Case>>),
}

/// What a job found.
pub enum Outcome {
    /// The rows of the stream, and which of its places are problems.
    View(ViewRows),
    /// The hits of a find among the rows of the stream, as places.
    Hits(Arc<Vec<u32>>),
    /// The density for the rail.
    Rail(Arc<Density>),
    /// Whether the sources cover the moment, and what the checks found.
    Box(Arc<BoxState>),
    /// The table with other clocks.
    Clocks(Loaded),
    /// It failed; the reason.
    Failed(String),
}

/// What the Box view says about the whole box.
#[derive(Default)]
pub struct BoxState {
    /// The moment that should be covered.
    pub window: Option<Window>,
    /// For each host and class: whether it is.
    pub cover: Vec<coverage::Row>,
    /// What the checks found.
    pub findings: Vec<Finding>,
    /// Clocks that seem to be wrong.
    pub drift: Vec<Suggestion>,
}

/// The rows that the stream shows.
#[derive(Clone, Default)]
pub struct ViewRows {
    /// Rows in merged order; `None` for all.
    pub rows: Option<Arc<Vec<u32>>>,
    /// Places (in the view) of problems.
    pub problems: Arc<Vec<u32>>,
}

/// A kind of job.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Kind {
    View,
    Hits,
    Rail,
    Box,
    Clocks,
}

/// Runs jobs.
pub struct Jobs {
    sender: Sender<Event>,
    running: HashMap<Kind, (u64, Work)>,
    next: u64,
    loading: Work,
    reading: u64,
    started: Instant,
    focus: Focus,
}

impl Jobs {
    /// Sends results to `sender`.
    pub fn new(sender: Sender<Event>) -> Self {
        // What was asked for another case, and still comes, has other numbers.
        static CASES: AtomicU64 = AtomicU64::new(0);
        let first = CASES.fetch_add(1 << 32, Ordering::Relaxed);
        Self {
            sender,
            running: HashMap::new(),
            next: first,
            loading: Work::default(),
            reading: first,
            started: Instant::now(),
            focus: Focus::default(),
        }
    }

    /// Where results go.
    pub fn sender(&self) -> Sender<Event> {
        self.sender.clone()
    }

    /// Starts to read a case.
    pub fn load(&mut self, case: &Case) {
        let loader = Loader::new(case);
        // What is still being read for an older state of the case is of no use any more.
        self.loading.cancel();
        (self.loading, self.started, self.focus) = (Work::default(), Instant::now(), loader.focus());
        self.reading += 1;
        let (work, sender, number) = (self.loading.clone(), self.sender.clone(), self.reading);
        std::thread::spawn(move || {
            // Cancelled reading has nobody to tell; all else is published.
            let _ = loader.run_showing(&work, |loaded| {
                // The receiver is gone when the program ends.
                let _ = sender.send(Event::Loaded(number, loaded));
            });
        });
    }

    /// Opens a case again.
    pub fn open(&mut self, paths: Vec<PathBuf>, options: Options) {
        let sender = self.sender.clone();
        let work = Work::default();
        std::thread::spawn(move || {
            let opened = Case::open(&paths, options, &work);
            // The receiver is gone when the program ends.
            let _ = sender.send(Event::Opened(Box::new(opened)));
        });
    }

    /// Bytes read and to be read, and for how long reading has gone on.
    pub fn progress(&self) -> (u64, u64, Duration) {
        let (done, total) = self.loading.progress();
        (done, total, self.started.elapsed())
    }

    /// Whether this is the reading that goes on: a case that was opened again is read anew.
    pub fn is_reading(&self, number: u64) -> bool {
        self.reading == number
    }

    /// Drops everything that runs for a case that is not shown any more.
    pub fn cancel_all(&mut self) {
        for kind in [Kind::View, Kind::Hits, Kind::Rail, Kind::Box, Kind::Clocks] {
            self.cancel(kind);
        }
    }

    /// Says which moment is looked at, while reading goes on.
    pub fn look_at(&self, time: i64) {
        self.focus.set(time);
    }

    fn start(&mut self, kind: Kind, job: impl FnOnce(&Work) -> Option<Outcome> + Send + 'static) {
        self.cancel(kind);
        self.next += 1;
        let (number, work, sender) = (self.next, Work::default(), self.sender.clone());
        self.running.insert(kind, (number, work.clone()));
        std::thread::spawn(move || {
            let outcome = job(&work).unwrap_or(Outcome::Failed(String::new()));
            // The receiver is gone when the program ends.
            let _ = sender.send(Event::Done(number, outcome));
        });
    }

    /// Cancels the job of a kind.
    pub fn cancel(&mut self, kind: Kind) {
        if let Some((_, work)) = self.running.remove(&kind) {
            work.cancel();
        }
    }

    /// Whether a job of a kind runs.
    pub fn is_running(&self, kind: Kind) -> bool {
        self.running.contains_key(&kind)
    }

    /// Whether a result is of the newest job of its kind; it is then no longer running.
    pub fn accept(&mut self, number: u64) -> bool {
        let kind = self.running.iter().find(|(_, (running, _))| *running == number).map(|(kind, _)| *kind);
        kind.is_some_and(|kind| self.running.remove(&kind).is_some())
    }

    /// Works out which rows the stream shows.
    pub fn view(&mut self, loaded: Loaded, sources: Arc<Vec<Source>>, filter: Option<Filter>) {
        self.start(Kind::View, move |work| {
            let table = &loaded.table;
            let rows = match filter {
                None => None,
                Some(filter) => match filter.rows(table, &sources, work) {
                    Ok(found) => Some(Arc::new(rows_in_order(&table.order, &found))),
                    Err(error) => return Some(Outcome::Failed(error.to_string())),
                },
            };
            let problems = places(
                rows.as_ref().map_or(&*table.order, |rows: &Arc<Vec<u32>>| rows.as_slice()),
                &problem_rows(table),
            );
            Some(Outcome::View(ViewRows { rows, problems: Arc::new(problems) }))
        });
    }

    /// Finds the hits of a text among the rows of the stream.
    pub fn hits(&mut self, loaded: Loaded, sources: Arc<Vec<Source>>, view: ViewRows, find: Filter) {
        self.start(Kind::Hits, move |work| match find.rows(&loaded.table, &sources, work) {
            Ok(found) => {
                let rows = view.rows.as_ref().map_or(&*loaded.table.order, |rows| rows.as_slice());
                Some(Outcome::Hits(Arc::new(places(rows, &found))))
            }
            Err(error) => Some(Outcome::Failed(error.to_string())),
        });
    }

    /// Counts for the rail.
    pub fn rail(&mut self, loaded: Loaded, from: i64, to: i64, slices: usize) {
        self.start(Kind::Rail, move |work| {
            density(&loaded.table, from, to, slices, work).map(|density| Outcome::Rail(Arc::new(density)))
        });
    }

    /// Looks whether the sources cover the moment of the case, and runs the checks over its facts.
    pub fn box_state(&mut self, case: Arc<Case>, loaded: Loaded) {
        self.start(Kind::Box, move |work| {
            let window = coverage::moment(&case, &loaded);
            let cover = window.map_or(Vec::new(), |window| coverage::coverage(&case, &loaded, window));
            let (findings, _) = findings(&case, &Checks::load());
            // Cancelled: a newer look is on its way.
            let drift = suggestions(&case, &loaded, work).ok()?;
            Some(Outcome::Box(Arc::new(BoxState { window, cover, findings, drift })))
        });
    }

    /// Merges again with other clock corrections.
    pub fn zones(
        &mut self,
        loaded: Loaded,
        old: Arc<Vec<Source>>,
        new: Arc<Vec<Source>>,
        changed: Vec<usize>,
        drift: HashMap<String, Drift>,
    ) {
        self.start(Kind::Clocks, move |_| Some(Outcome::Clocks(loaded.with_zones(&old, &new, &changed, &drift))));
    }

    /// Applies other clocks.
    pub fn clocks(&mut self, loaded: Loaded, sources: Arc<Vec<Source>>, drift: HashMap<String, Drift>) {
        self.start(Kind::Clocks, move |_| Some(Outcome::Clocks(loaded.with_drift(&sources, &drift))));
    }
}

/// The places of the rows that are in a set.
fn places(rows: &[u32], set: &RowSet) -> Vec<u32> {
    rows.iter().zip(0_u32..).filter(|(row, _)| set.contains(**row)).map(|(_, place)| place).collect()
}

impl Drop for Jobs {
    fn drop(&mut self) {
        self.loading.cancel();
        self.running.values().for_each(|(_, work)| work.cancel());
    }
}
