//! Work beside the screen: reading, filtering, finding, counting. One job of a kind at a time; a newer one cancels the
//! older, and results of cancelled ones are dropped.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use boxclock_core::case::{Case, Focus, Loaded, Loader, Options, Source, find_files};
use boxclock_core::clock::Drift;
use boxclock_core::code::Code;
use boxclock_core::coverage;
use boxclock_core::event::{Row, flag};
use boxclock_core::facts::checks::findings;
use boxclock_core::facts::restart::restart_findings;
use boxclock_core::facts::{Checks, Finding};
use boxclock_core::gather::Window;
use boxclock_core::logbook::Logbook;
use boxclock_core::pattern::{Patterns, patterns};
use boxclock_core::query::values::Values;
use boxclock_core::query::{Filter, RowSet, problem_rows};
use boxclock_core::report::codes::{self, CodeCount, Relative};
use boxclock_core::timeline::density::{Density, Lanes, counts_of, density_by};
use boxclock_core::timeline::drift::{Suggestion, suggestions};
use boxclock_core::timeline::marks::{RailMark, marks};
use boxclock_core::work::Work;
use crossbeam_channel::Sender;
use ratatui::crossterm::event::Event as Input;

use crate::desk::DeskDone;
use crate::view::rail;
use crate::workspace::{Follow, Overlay};

mod write;
pub use write::{Added, Chosen, Target};

/// What the main loop waits for.
pub enum Event {
    /// Something typed, clicked or resized.
    Input(Input),
    /// More events have been read, by the reading of this number.
    Loaded(u64, Loaded),
    /// A job is done.
    Done(u64, Outcome),
    /// Files have grown: the case as it is now, and how it looks where runs are folded.
    Grown(Box<Case>, Loaded, Option<Folded>),
    /// So many bytes have come that are held back.
    Behind(u64),
    /// What the desk's work of this number says.
    Desk(u64, DeskDone),
    /// What the desk made was opened.
    Next(Box<boxclock_core::Result<Case>>),
    /// The case was opened again.
    Opened(Box<boxclock_core::Result<Case>>),
}

/// What a job found.
pub enum Outcome {
    /// The rows of the stream, and which of its places are problems.
    View(ViewRows),
    /// The hits of a find among the rows of the stream, as places.
    Hits(Arc<Vec<u32>>),
    /// The density for the rail, and a label for each of its hosts or sources.
    Rail(Arc<Density>, Vec<String>),
    /// Whether the sources cover the moment, and what the checks found.
    Box(Arc<BoxState>),
    /// The table with other clocks.
    Clocks(Loaded),
    /// Which values the fields have.
    Values(Arc<Values>),
    /// The patterns of all events.
    Patterns(Arc<Patterns>),
    /// Moments worth a mark.
    Marks(Arc<Vec<RailMark>>),
    /// The rows of an ink.
    Ink(u8, Arc<RowSet>),
    /// The places of a walk in the view.
    Walk(Arc<Vec<u32>>),
    /// Where hits and inks are on the rail.
    Overlay(Arc<Overlay>),
    /// The codes of the case.
    Codes(Vec<CodeCount>),
    /// What was written, in words.
    Written(String),
    /// The report.
    Report(String),
    /// What stands near a code.
    Relatives(Code, Vec<Relative>),
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
    /// Rows as they are shown: in merged order, unless the worst come first; of folded runs the first. `None` for all.
    pub rows: Option<Arc<Vec<u32>>>,
    /// All rows that pass the filter, in merged order, whatever is folded; `None` for all of the case.
    pub passed: Option<Arc<Vec<u32>>>,
    /// Places (in the view) of problems.
    pub problems: Arc<Vec<u32>>,
    /// For each place how many events in a row have its pattern, and how long they take: where runs are folded into one.
    pub runs: Option<Arc<Vec<Run>>>,
    /// Whether the worst come first; otherwise the order is that of time.
    pub worst_first: bool,
}

/// Events in a row with the same pattern.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Run {
    /// How many.
    pub count: u32,
    /// From the first to the last, in nanoseconds.
    pub lasts: i64,
}

/// How the rows of the stream are arranged.
#[derive(Clone, Default)]
pub struct Arrangement {
    /// The patterns, where runs of one are folded.
    pub collapse: Option<Arc<Patterns>>,
    /// Whether the worst come first.
    pub worst_first: bool,
}

/// A kind of job.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Kind {
    View,
    Hits,
    Rail,
    Box,
    Clocks,
    Values,
    Patterns,
    Marks,
    Ink(u8),
    Walk,
    Overlay,
    Codes,
    Relatives,
    Write,
    Report,
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

    /// Opens what the desk made; the answer is an event.
    pub fn open_next(&self, path: PathBuf) {
        let sender = self.sender.clone();
        std::thread::spawn(move || {
            let opened = Case::open(&[path], Options::default(), &Work::default()).and_then(|mut case| {
                if let Some(logbook) = &case.logbook_path {
                    case.options.remembered(&Logbook::open(logbook)?)?;
                }
                Ok(case)
            });
            // The receiver is gone when the program ends.
            let _ = sender.send(Event::Next(Box::new(opened)));
        });
    }

    /// Bytes read and to be read, and for how long reading has gone on.
    pub fn progress(&self) -> (u64, u64, Duration) {
        let (done, total) = self.loading.progress();
        (done, total, self.started.elapsed())
    }

    /// The number of the reading that is under way, or was last.
    #[cfg(test)]
    pub fn reading(&self) -> u64 {
        self.reading
    }

    /// Whether this is the reading that goes on: a case that was opened again is read anew.
    pub fn is_reading(&self, number: u64) -> bool {
        self.reading == number
    }

    /// Drops everything that runs for a case that is not shown any more.
    pub fn cancel_all(&mut self) {
        self.running.drain().for_each(|(_, (_, work))| work.cancel());
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

    /// Whether any job runs.
    #[cfg(test)]
    pub fn any_runs(&self) -> bool {
        !self.running.is_empty()
    }

    /// Whether a result is of the newest job of its kind; it is then no longer running.
    pub fn accept(&mut self, number: u64) -> bool {
        let kind = self.running.iter().find(|(_, (running, _))| *running == number).map(|(kind, _)| *kind);
        kind.is_some_and(|kind| self.running.remove(&kind).is_some())
    }

    /// Works out which rows the stream shows.
    pub fn view(
        &mut self,
        loaded: Loaded,
        sources: Arc<Vec<Source>>,
        filter: Option<Filter>,
        arrangement: Arrangement,
    ) {
        self.start(Kind::View, move |work| {
            let table = &loaded.table;
            let rows = match filter {
                None => None,
                Some(filter) => match filter.rows_in_order(table, &sources, work) {
                    Ok(found) => Some(Arc::new(found)),
                    Err(error) => return Some(Outcome::Failed(error.to_string())),
                },
            };
            Some(Outcome::View(arranged(&loaded, rows, &arrangement)))
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

    /// Counts for the rail, in at most so many lanes.
    pub fn rail(&mut self, loaded: Loaded, span: (i64, i64), slices: usize, (lanes, most): (Lanes, usize)) {
        self.start(Kind::Rail, move |work| {
            let all = density_by(&loaded.table, &lanes, span, slices, work)?;
            let density = all.clone().folded(most);
            let label = |lane: &u32| match all.hosts.iter().position(|other| other == lane) {
                // Sources have numbers among those of their host: their names begin alike.
                Some(place) if all.of_sources => (place + 1).to_string(),
                _ => rail::label(&loaded.table.hosts[*lane as usize], &loaded.table.hosts),
            };
            let labels = density.hosts.iter().map(label).collect();
            Some(Outcome::Rail(Arc::new(density), labels))
        });
    }

    /// Counts the values of fields.
    pub fn values(&mut self, loaded: Loaded, sources: Arc<Vec<Source>>) {
        self.start(Kind::Values, move |work| {
            Values::of(&loaded.table, &sources, work).map(|values| Outcome::Values(Arc::new(values)))
        });
    }

    /// Works out the patterns of all events.
    pub fn patterns(&mut self, loaded: Loaded, sources: Arc<Vec<Source>>) {
        self.start(Kind::Patterns, move |work| {
            patterns(&loaded, &sources, work).ok().map(|patterns| Outcome::Patterns(Arc::new(patterns)))
        });
    }

    /// Looks for moments worth a mark.
    pub fn marks(&mut self, loaded: Loaded, sources: Arc<Vec<Source>>) {
        self.start(Kind::Marks, move |work| {
            marks(&loaded, &sources, work).ok().map(|marks| Outcome::Marks(Arc::new(marks)))
        });
    }

    /// Looks for the rows of an ink.
    pub fn ink(&mut self, place: u8, loaded: Loaded, sources: Arc<Vec<Source>>, filter: Filter) {
        self.start(Kind::Ink(place), move |work| {
            filter.rows(&loaded.table, &sources, work).ok().map(|rows| Outcome::Ink(place, Arc::new(rows)))
        });
    }

    /// Looks for the places of a walk in the view.
    pub fn walk(&mut self, loaded: Loaded, sources: Arc<Vec<Source>>, view: ViewRows, along: Along) {
        self.start(Kind::Walk, move |work| {
            let rows = view.rows.as_ref().map_or(&*loaded.table.order, |rows| rows.as_slice());
            let by = |test: &dyn Fn(u32) -> bool| {
                rows.iter().zip(0_u32..).filter(|(row, _)| test(**row)).map(|(_, place)| place).collect::<Vec<u32>>()
            };
            let found = match along {
                Along::Filter(filter) => places(rows, &filter.rows(&loaded.table, &sources, work).ok()?),
                Along::Rows(set) => places(rows, &set),
                Along::Pins(pins) => by(&|row| pins.contains(&row)),
                Along::Pattern(patterns, number) => {
                    let wanted = patterns.list.iter().position(|pattern| pattern.number == number)? as u32;
                    by(&|row| patterns.of_row.get(row as usize) == Some(&wanted))
                }
            };
            Some(Outcome::Walk(Arc::new(found)))
        });
    }

    /// Counts the codes of the case, also in slices of a span of time.
    pub fn codes(&mut self, loaded: Loaded, axis: Option<(i64, i64)>) {
        self.start(Kind::Codes, move |work| codes::codes_over(&loaded, axis, work).map(Outcome::Codes));
    }

    /// Looks for the codes that stand near one.
    pub fn relatives(&mut self, loaded: Loaded, code: Code) {
        self.start(Kind::Relatives, move |work| {
            codes::relatives(&loaded, code, work).map(|near| Outcome::Relatives(code, near))
        });
    }

    /// Counts hits and inks for the rail.
    pub fn overlay(
        &mut self,
        loaded: Loaded,
        filtered: Option<Arc<Vec<u32>>>,
        density: Arc<Density>,
        inks: Vec<(u8, Arc<RowSet>)>,
    ) {
        self.start(Kind::Overlay, move |work| {
            let table = &loaded.table;
            let filter = filtered.as_ref().map(|rows| counts_of(table, &density, rows.iter().copied()));
            let mut overlay = Overlay { from: density.from, to: density.to, filter, inks: vec![None; density.slices] };
            for (place, rows) in inks {
                if work.is_cancelled() {
                    return None;
                }
                let counts = counts_of(table, &density, table.order.iter().copied().filter(|row| rows.contains(*row)));
                for (slot, count) in overlay.inks.iter_mut().zip(counts) {
                    if count > 0 {
                        slot.get_or_insert(place);
                    }
                }
            }
            Some(Outcome::Overlay(Arc::new(overlay)))
        });
    }

    /// Follows files that grow: looks now and then, and reads the case again when something has changed. What is there stays
    /// on the screen until the new table is whole.
    ///
    /// It ends when what it gives is dropped.
    pub fn follow(&self, case: &Case, held: bool, fold: bool) -> Follow {
        /// Events up to which the patterns are worked out at each growth.
        const FOLDED: usize = 2_000_000;
        const EVERY: Duration = Duration::from_millis(250);
        let sender = self.sender.clone();
        let (paths, options) = (case.paths.clone(), case.options.clone());
        let mut known = fingerprint(&paths, &options);
        let (held, ended) = (Arc::new(AtomicBool::new(held)), Arc::new(AtomicBool::new(false)));
        let fold = Arc::new(AtomicBool::new(fold));
        let follow = Follow { held: Arc::clone(&held), behind: 0, fold: Arc::clone(&fold), ended: Arc::clone(&ended) };
        let len = |source: &Source| std::fs::metadata(&source.path).map_or(0, |data| data.len());
        if case.sources.iter().any(|source| len(source) != source.len_bytes) {
            // It has grown since the case was opened.
            known.1 = !known.1;
        }
        std::thread::spawn(move || {
            let mut told = 0;
            loop {
                std::thread::sleep(EVERY);
                if ended.load(Ordering::Relaxed) {
                    return;
                }
                let now = fingerprint(&paths, &options);
                let behind = now.0.saturating_sub(known.0);
                if now == known {
                    continue;
                }
                if held.load(Ordering::Relaxed) {
                    if behind != told && sender.send(Event::Behind(behind)).is_err() {
                        return;
                    }
                    told = behind;
                    continue;
                }
                let work = Work::default();
                let opened = Case::open(&paths, options.clone(), &work);
                let read = opened.and_then(|case| case.load(&work).map(|loaded| (case, loaded)));
                // What vanished in the middle of a rotation is there at the next look.
                if let Ok((case, loaded)) = read {
                    (known, told) = (now, 0);
                    let behind = fingerprint(&paths, &options).0.saturating_sub(now.0);
                    let folded = fold.load(Ordering::Relaxed) && loaded.table.len() <= FOLDED;
                    let found = folded.then(|| patterns(&loaded, &case.sources, &work).ok()).flatten();
                    let folded = found.map(|patterns| Folded::of(&loaded, Arc::new(patterns)));
                    if sender.send(Event::Grown(Box::new(case), loaded, folded)).is_err()
                        || sender.send(Event::Behind(behind)).is_err()
                    {
                        return;
                    }
                }
            }
        });
        follow
    }

    /// Looks whether the sources cover the moment of the case, and runs the checks over its facts.
    pub fn box_state(&mut self, case: Arc<Case>, loaded: Loaded) {
        self.start(Kind::Box, move |work| {
            let window = coverage::moment(&case, &loaded);
            let cover = window.map_or(Vec::new(), |window| coverage::coverage(&case, &loaded, window));
            let (mut findings, _) = findings(&case, &Checks::load());
            // Cancelled: a newer look is on its way.
            findings.extend(restart_findings(&case, &loaded, work).ok()?);
            findings.sort_by_key(|finding| finding.level);
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

/// What a walk goes along.
pub enum Along {
    Filter(Filter),
    Rows(Arc<RowSet>),
    Pins(HashSet<u32>),
    Pattern(Arc<Patterns>, u64),
}

/// Bytes of all files, and a hash of what they are: names, sizes, times.
fn fingerprint(paths: &[PathBuf], options: &Options) -> (u64, u64) {
    use std::hash::{Hash, Hasher};
    let mut hash = std::hash::DefaultHasher::new();
    let mut bytes = 0;
    for path in paths.iter().chain(options.hosts.iter().map(|(_, path)| path)) {
        // A path that is gone for the moment counts as empty.
        for file in find_files(path, &mut Vec::new()).unwrap_or_default() {
            (&file.name, file.len_bytes, file.modified).hash(&mut hash);
            bytes += file.len_bytes;
        }
    }
    (bytes, hash.finish())
}

/// Arranges the rows of the stream: runs folded, the worst first.
fn arranged(loaded: &Loaded, rows: Option<Arc<Vec<u32>>>, how: &Arrangement) -> ViewRows {
    let table = &loaded.table;
    let passed = rows.clone();
    let (mut rows, mut runs) = (rows, None);
    if let Some(patterns) = &how.collapse {
        let all = rows.as_ref().map_or(&*table.order, |rows| rows.as_slice());
        let (firsts, folded) = fold_runs(loaded, all, patterns);
        (rows, runs) = (Some(Arc::new(firsts)), Some(folded));
    }
    if how.worst_first {
        let all = rows.as_ref().map_or(&*table.order, |rows| rows.as_slice());
        let mut places: Vec<u32> = (0..all.len() as u32).collect();
        let worst = |place: &u32| {
            let event = table.event(Row(all[*place as usize]));
            // A dump is the worst; text that looks bad counts as a warning.
            let number = if event.flags() & flag::DUMP != 0 { 25 } else { event.severity().0 };
            std::cmp::Reverse(if number == 0 && event.is_problem() { 13 } else { number })
        };
        places.sort_by_cached_key(worst);
        runs = runs.map(|runs: Vec<Run>| places.iter().map(|place| runs[*place as usize]).collect());
        rows = Some(Arc::new(places.iter().map(|place| all[*place as usize]).collect()));
    }
    let shown = rows.as_ref().map_or(&*table.order, |rows| rows.as_slice());
    let problems = Arc::new(places(shown, &problem_rows(table)));
    ViewRows { problems, rows, passed, runs: runs.map(Arc::new), worst_first: how.worst_first }
}

/// All events with their runs folded, in the order of time.
pub struct Folded {
    /// Their patterns.
    pub patterns: Arc<Patterns>,
    /// The rows.
    pub view: ViewRows,
}

impl Folded {
    fn of(loaded: &Loaded, patterns: Arc<Patterns>) -> Self {
        let how = Arrangement { collapse: Some(Arc::clone(&patterns)), worst_first: false };
        Self { view: arranged(loaded, None, &how), patterns }
    }
}

/// The first of each run of events with the same pattern, and the runs. A run is of one source, and what other sources write
/// meanwhile does not end it; a pause does.
fn fold_runs(loaded: &Loaded, rows: &[u32], patterns: &Patterns) -> (Vec<u32>, Vec<Run>) {
    const PAUSE: i64 = boxclock_core::clock::MINUTE;
    /// The run that a source is in: its pattern, its place among the runs, its first and last time.
    struct Open {
        pattern: Option<u32>,
        run: usize,
        first: Option<i64>,
        last: Option<i64>,
    }
    let mut firsts: Vec<u32> = Vec::new();
    let mut runs: Vec<Run> = Vec::new();
    let mut open: HashMap<usize, Open> = HashMap::new();
    for row in rows {
        let event = loaded.table.event(Row(*row));
        let (pattern, time) = (patterns.of_row.get(*row as usize).copied(), event.time());
        if let Some(of) = open.get_mut(&event.source())
            && of.pattern == pattern
            && time.zip(of.last).is_none_or(|(time, last)| time.saturating_sub(last) <= PAUSE)
        {
            runs[of.run].count += 1;
            runs[of.run].lasts = time.zip(of.first).map_or(0, |(time, first)| time.saturating_sub(first));
            of.last = time;
            continue;
        }
        open.insert(event.source(), Open { pattern, run: runs.len(), first: time, last: time });
        firsts.push(*row);
        runs.push(Run { count: 1, lasts: 0 });
    }
    (firsts, runs)
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
