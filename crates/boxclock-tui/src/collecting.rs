//! The tasks of the Collect view: gathering from many hosts, capturing while somebody reproduces the failure, receiving from
//! devices that can only send, and redacting a box that is handed over. Each has a form, a state, and a log of what came of it;
//! the work itself is the core's.

use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use boxclock_core::case::{Case, Options};
use boxclock_core::clock::{self, Zone, human};
use boxclock_core::gather::redact::{RedactSummary, redact};
use boxclock_core::gather::watch::{Host, Watch};
use boxclock_core::gather::{self, Mark, PackOptions, PackRequest, Packed, RedactReady, RedactRequest, Snapshot};
use boxclock_core::logbook::Story;
use boxclock_core::receive::{ReceiveOptions, Receiver, listen_on};
use boxclock_core::work::Work;
use boxclock_core::{Error, Result, coverage};

use crate::text::many;

mod task;

pub use task::Task;

/// A line of the Collect view.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CollectRow {
    /// A field of the form.
    Field(usize),
    /// A host that is being gathered, by its label.
    Host(String),
    /// A line of what came of it.
    Log(usize),
    /// Nothing, between them.
    Gap,
}

/// How a line of the result is meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LogLevel {
    Plain,
    Good,
    Bad,
}

/// What goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TaskState {
    Planning,
    Packing,
    Noting,
    /// Waiting until the failure has been reproduced.
    Capturing,
    Receiving,
    Looking,
    Redacting,
}

impl TaskState {
    fn words(self) -> &'static str {
        match self {
            Self::Planning => "listing what would be gathered",
            Self::Packing => "gathering",
            Self::Noting => "noting the state of the logs",
            Self::Capturing => "capturing: reproduce the failure, then press r; x cancels",
            Self::Receiving => "receiving; x stops it",
            Self::Looking => "searching for what would be replaced",
            Self::Redacting => "writing the copy",
        }
    }
}

/// Work of the Collect view that goes on.
pub struct Running {
    pub state: TaskState,
    work: Work,
    started: Instant,
    receiver: Option<Arc<Receiver>>,
}

/// What the work of the Collect view came to.
pub enum TaskDone {
    /// Lines that tell what came of it, and what can be opened now.
    Log(Vec<(LogLevel, String)>, Option<PathBuf>),
    /// What stood in the files when capturing began.
    Noted(Box<PackOptions>, Result<Snapshot>),
}

/// Has the screen drawn; gives whether there is still one.
pub type Redraw = Arc<dyn Fn() -> bool + Send + Sync>;

/// The state.
#[derive(Default)]
pub struct Collecting {
    /// What it is set to; gathering first.
    pub task: Option<Task>,
    texts: HashMap<&'static str, String>,
    pub running: Option<Running>,
    /// What the last work logged.
    pub log: Vec<(LogLevel, String)>,
    /// What it output, to be opened.
    pub output: Option<PathBuf>,
    watch: Watch,
    /// Where the work leaves what it came to.
    done: Arc<Mutex<Option<TaskDone>>>,
    /// What capturing goes on with.
    captured: Option<PackOptions>,
}

impl Collecting {
    /// What it is set to.
    pub fn task(&self) -> Task {
        self.task.unwrap_or(Task::Gather)
    }

    /// Fills the fields that nobody has filled from the story and the case.
    pub fn suggest(&mut self, story: &Story, case: &Case) {
        let request = PackRequest::from_story(story);
        let beside = case.seal.as_ref().and_then(|_| case.paths.first());
        let copy = beside.map(|path| path.display().to_string().replace(".box.zip", "-redacted.box.zip"));
        let suggested = [
            ("recipes", request.recipes),
            ("moment", request.moment),
            ("within", request.within),
            ("into", request.into),
            ("folder", "received".into()),
            ("udp", "5514".into()),
            ("tcp", "5514".into()),
            ("span", "10m".into()),
            ("copy", copy.unwrap_or_default()),
            ("pinned", "yes".into()),
            ("hide", "no".into()),
            ("binary", "no".into()),
            ("confirm", "no".into()),
        ];
        for (key, text) in suggested {
            let field = self.texts.entry(key).or_default();
            if field.is_empty() {
                *field = text;
            }
        }
    }

    /// The text of a field.
    pub fn text(&self, key: &str) -> &str {
        self.texts.get(key).map_or("", String::as_str)
    }

    /// Changes a field. What was previewed is of the fields of before, and goes.
    ///
    /// # Errors
    /// When the text is no moment, or no length of time, where the field is one.
    pub fn set(&mut self, key: &'static str, text: String, zone: &Zone) -> Result<()> {
        match key {
            "moment" | "around" if !text.trim().is_empty() => {
                human::moment(&text, zone, clock::now())?;
            }
            "within" | "span" | "limit" if !text.trim().is_empty() => {
                human::length(text.trim())?;
            }
            _ => {}
        }
        if self.texts.get(key) != Some(&text) && self.running.is_none() {
            self.log.clear();
            (self.output, self.watch) = (None, Watch::default());
        }
        self.texts.insert(key, text);
        Ok(())
    }

    /// Whether a field is a choice between yes and no.
    pub fn is_switch(&self, key: &str) -> bool {
        matches!(self.text(key), "yes" | "no")
    }

    /// The hosts that are being gathered.
    pub fn hosts(&self) -> Vec<Host> {
        self.watch.hosts()
    }

    /// The lines of the Collect view.
    pub fn rows(&self) -> Vec<CollectRow> {
        let mut rows: Vec<CollectRow> = (0..self.task().fields().len()).map(CollectRow::Field).collect();
        let hosts: Vec<_> = self.hosts().into_iter().map(|host| CollectRow::Host(host.label)).collect();
        let log: Vec<_> = (0..self.log.len()).map(CollectRow::Log).collect();
        let is_about_hosts = matches!(self.task(), Task::Gather | Task::Capture);
        for part in [hosts, log].into_iter().skip(usize::from(!is_about_hosts)).filter(|part| !part.is_empty()) {
            rows.push(CollectRow::Gap);
            rows.extend(part);
        }
        rows
    }

    /// What goes on, for people.
    pub fn status(&self) -> String {
        let Some(running) = &self.running else {
            return match (&self.output, self.task()) {
                (Some(_), _) => "done; o opens the result".into(),
                (None, Task::Gather) => "v previews what would be gathered; r gathers it".into(),
                (None, Task::Capture) => "r starts capturing".into(),
                (None, Task::Receive) => "r starts receiving".into(),
                (None, Task::Redact) => "v previews what would be replaced; r writes the copy".into(),
            };
        };
        let (done, total) = running.work.progress();
        let mut text = running.state.words().to_owned();
        if let Some(receiver) = &running.receiver {
            text = format!("{text}: {}", receiver.counts());
        } else if total > 0 {
            text = format!("{text}: {} of {} MB", done / 1_000_000, total / 1_000_000);
        }
        format!("{text}   {} s", running.started.elapsed().as_secs())
    }

    /// Stops one host, or everything.
    pub fn stop(&mut self, host: Option<&str>) -> &'static str {
        match (&self.running, host) {
            (None, _) => "No task is running.",
            (Some(running), Some(host)) if running.state == TaskState::Packing => {
                self.watch.stop(host);
                "This host is stopped; the others continue."
            }
            (Some(Running { state: TaskState::Capturing, .. }), _) => {
                (self.running, self.captured) = (None, None);
                "Capture cancelled; nothing was written."
            }
            (Some(running), _) => {
                running.work.cancel();
                "Stopping …"
            }
        }
    }

    /// Starts work on a thread of its own; while it goes on, the screen is drawn now and then.
    fn start(&mut self, (state, redraw): (TaskState, &Redraw), job: impl FnOnce(&Work) -> TaskDone + Send + 'static) {
        self.log.clear();
        self.output = None;
        let (work, over) = (Work::default(), Work::default());
        self.done = Arc::default();
        self.running = Some(Running { state, work: work.clone(), started: Instant::now(), receiver: None });
        let (ticks, is_over, redraw, done) = (redraw.clone(), over.clone(), redraw.clone(), Arc::clone(&self.done));
        std::thread::spawn(move || {
            while !is_over.is_cancelled() && ticks() {
                std::thread::park_timeout(Duration::from_millis(200));
            }
        });
        std::thread::spawn(move || {
            let ended = catch_unwind(AssertUnwindSafe(|| job(&work)));
            let ended = ended.unwrap_or_else(|panic| failed(&Error::fault(&*panic)));
            over.cancel();
            *done.lock().unwrap_or_else(PoisonError::into_inner) = Some(ended);
            redraw();
        });
    }

    /// Takes what the work came to, if it has ended.
    pub fn poll(&mut self) {
        let done = self.done.lock().unwrap_or_else(PoisonError::into_inner).take();
        if let Some(done) = done {
            self.take(done);
        }
    }

    fn take(&mut self, done: TaskDone) {
        match done {
            TaskDone::Log(log, output) => {
                (self.running, self.log, self.output) = (None, log, output);
                if self.output.is_none() {
                    // A preview, or nothing was written: no host is being gathered any more.
                    self.watch = Watch::default();
                }
            }
            TaskDone::Noted(options, Ok(snapshot)) => {
                let mut options = *options;
                options.marks.push(Mark { time: clock::to_rfc3339(clock::now()), text: "capture began".into() });
                self.log =
                    vec![(LogLevel::Plain, format!("The state of {} was noted.", many(snapshot.files as u64, "file")))];
                options.since = Some(Arc::new(snapshot));
                self.captured = Some(options);
                if let Some(running) = &mut self.running {
                    (running.state, running.started) = (TaskState::Capturing, Instant::now());
                    running.work.set_total(0);
                }
            }
            TaskDone::Noted(_, Err(error)) => {
                (self.running, self.log) = (None, vec![(LogLevel::Bad, error.to_string())]);
            }
        }
    }

    fn request(&self) -> PackRequest {
        let text = |key: &str| self.text(key).to_owned();
        let is_capture = self.task() == Task::Capture;
        PackRequest {
            hosts: text("hosts"),
            recipes: text("recipes"),
            moment: if is_capture { String::new() } else { text("moment") },
            within: text("within"),
            limit: text("limit"),
            programs: text("programs"),
            into: text("into"),
        }
    }

    fn options(&self, story: &Story, zone: &Zone) -> Result<PackOptions> {
        let mut options = self.request().options(story.clone(), zone, clock::now())?;
        options.watch = self.watch.clone();
        Ok(options)
    }

    /// Shows what would be done, without doing it.
    ///
    /// # Errors
    /// When a field cannot be understood, or something goes on already.
    pub fn preview(&mut self, story: &Story, case: &Case, redraw: &Redraw) -> Result<()> {
        self.free()?;
        match self.task() {
            Task::Gather | Task::Capture => {
                let options = self.options(story, &case.zone)?;
                self.start((TaskState::Planning, redraw), move |work| match gather::plan(&options, work) {
                    Ok(plan) => {
                        let lines = plan.lines(options.window).into_iter().map(|line| (LogLevel::Plain, line));
                        let left = plan.left_out.iter().map(|left| {
                            (LogLevel::Bad, format!("left out: {} ({}): {}", left.origin, left.host, left.reason))
                        });
                        TaskDone::Log(left.chain(lines).collect(), None)
                    }
                    Err(error) => failed(&error),
                });
            }
            Task::Redact => self.start_redacting(case, false, redraw)?,
            Task::Receive => return Err(Error::new("Nothing to preview. r starts receiving.")),
        }
        Ok(())
    }

    fn free(&self) -> Result<()> {
        if self.running.is_some() { Err(Error::new("A task is already running. x stops it.")) } else { Ok(()) }
    }

    /// Does it.
    ///
    /// # Errors
    /// When a field cannot be understood, or something else goes on already.
    pub fn run(&mut self, story: &Story, case: &Case, redraw: &Redraw) -> Result<()> {
        if let Some(options) = self.captured.take() {
            self.pack_captured(options, redraw);
            return Ok(());
        }
        self.free()?;
        match self.task() {
            Task::Gather => {
                let options = self.options(story, &case.zone)?;
                self.start((TaskState::Packing, redraw), move |work| packed(&options, work));
            }
            Task::Capture => {
                let options = self.options(story, &case.zone)?;
                self.start((TaskState::Noting, redraw), move |work| {
                    let snapshot = gather::snapshot(&options, work);
                    TaskDone::Noted(Box::new(options), snapshot)
                });
            }
            Task::Receive => self.start_receiving(redraw)?,
            Task::Redact => self.start_redacting(case, true, redraw)?,
        }
        Ok(())
    }

    fn pack_captured(&mut self, mut options: PackOptions, redraw: &Redraw) {
        options.now = clock::now();
        options.marks.push(Mark { time: clock::to_rfc3339(options.now), text: "capture ended".into() });
        self.start((TaskState::Packing, redraw), move |work| packed(&options, work));
    }

    fn start_receiving(&mut self, redraw: &Redraw) -> Result<()> {
        let address = |key: &str| {
            let text = self.text(key).trim();
            if text.is_empty() { Ok(None) } else { listen_on(text).map(Some) }
        };
        let path = |key: &str| Some(self.text(key).trim()).filter(|text| !text.is_empty()).map(PathBuf::from);
        let into = path("folder").ok_or_else(|| Error::new("into: name the folder to write to"))?;
        let receiver = Arc::new(Receiver::bind(ReceiveOptions {
            into: into.clone(),
            udp: address("udp")?,
            tcp: address("tcp")?,
            tls: address("tls")?,
            identity: path("cert").zip(path("key")),
            ..ReceiveOptions::default()
        })?);
        let running = Arc::clone(&receiver);
        self.start((TaskState::Receiving, redraw), move |work| {
            let ended = running.run(work);
            let mut log = vec![(LogLevel::Good, format!("{}: {}", into.display(), running.counts()))];
            log.extend(ended.err().map(|error| (LogLevel::Bad, error.to_string())));
            TaskDone::Log(log, Some(into))
        });
        let listening = ["UDP", "TCP", "TLS"].into_iter().zip(receiver.addresses());
        self.log = listening
            .filter_map(|(way, address)| {
                address.map(|address| (LogLevel::Plain, format!("listening on {way} {address}")))
            })
            .collect();
        if let Some(running) = &mut self.running {
            running.receiver = Some(receiver);
        }
        Ok(())
    }

    fn start_redacting(&mut self, case: &Case, write: bool, redraw: &Redraw) -> Result<()> {
        let from = case.seal.as_ref().and_then(|_| case.paths.first()).cloned();
        let from =
            from.ok_or_else(|| Error::new("Only a box can be redacted. Gather one first (h selects gather)."))?;
        let words = |key: &str| self.text(key).split_whitespace().map(str::to_owned).collect();
        let is = |key: &str| self.text(key) == "yes";
        let around = Some(self.text("around").trim().to_owned()).filter(|text| !text.is_empty());
        let request = RedactRequest {
            from,
            into: write.then(|| PathBuf::from(self.text("copy").trim())),
            words: words("words"),
            except: words("except"),
            keep: self
                .text("keep")
                .split(',')
                .map(str::trim)
                .filter(|value| !value.is_empty())
                .map(str::to_owned)
                .collect(),
            hide_hosts: is("hide"),
            pinned: is("pinned") && around.is_some(),
            within: self.text("span").to_owned(),
            around,
            keep_binary: is("binary"),
            confirmed: is("confirm"),
            ..RedactRequest::default()
        };
        if write && self.text("copy").trim().is_empty() {
            return Err(Error::new("into: name the new box"));
        }
        let state = if write { TaskState::Redacting } else { TaskState::Looking };
        self.start((state, redraw), move |work| {
            let prepared = match request.prepare(clock::now(), work) {
                Ok(prepared) => prepared,
                Err(error) => return failed(&error),
            };
            match redact(&prepared.plan, &prepared.rules.good, prepared.key, work) {
                Ok(summary) => TaskDone::Log(replaced(&summary, &prepared, request.into.is_none()), request.into),
                Err(error) => failed(&error),
            }
        });
        Ok(())
    }
}

/// Values that still look like secrets and are listed.
const MAX_LEFTOVERS: usize = 20;

fn failed(error: &Error) -> TaskDone {
    TaskDone::Log(error.to_string().lines().map(|line| (LogLevel::Bad, line.to_owned())).collect(), None)
}

/// Gathers, and says at once whether what came covers the moment.
fn packed(options: &PackOptions, work: &Work) -> TaskDone {
    let packed: Packed = match gather::pack(options, work) {
        Ok(packed) => packed,
        Err(error) => return failed(&error),
    };
    let mut log = vec![(LogLevel::Good, packed.summary(&options.into))];
    let left = packed.seal.unreadable.iter();
    log.extend(left.map(|left| (LogLevel::Bad, format!("left out: {} ({}): {}", left.origin, left.host, left.reason))));
    if let Some(window) = options.window {
        let case = Case::open(std::slice::from_ref(&options.into), Options::default(), work);
        match case.and_then(|case| case.load(work).map(|loaded| (case, loaded))) {
            Ok((case, loaded)) => {
                let rows = coverage::coverage(&case, &loaded, window);
                log.extend(coverage::lines(&rows, window, &case.zone).into_iter().map(|line| (LogLevel::Plain, line)));
            }
            Err(error) => log.push((LogLevel::Bad, format!("the box was written; looking at its coverage: {error}"))),
        }
    }
    TaskDone::Log(log, Some(options.into.clone()))
}

fn replaced(summary: &RedactSummary, prepared: &RedactReady, preview: bool) -> Vec<(LogLevel, String)> {
    let mut log = Vec::new();
    for applied in &summary.applied {
        let rule = prepared.rules.good.iter().find(|rule| rule.name == applied.rule);
        let title = rule.map_or("", |rule| rule.title.as_str());
        let text = format!(
            "{:<10} {:>15}, {:>13}  {title}",
            applied.rule,
            many(applied.places, "place"),
            many(applied.values, "value")
        );
        log.push((LogLevel::Plain, text));
        let samples = summary.samples.iter().filter(|(name, _)| preview && *name == applied.rule);
        for sample in samples.flat_map(|(_, samples)| samples) {
            log.push((
                LogLevel::Plain,
                format!("{:11}{:>7} × {} → {}", "", sample.count, sample.value, sample.instead),
            ));
        }
    }
    if summary.applied.is_empty() {
        log.push((LogLevel::Plain, "The rules would replace nothing.".into()));
    }
    let left = summary.left_out.iter();
    log.extend(left.map(|left| (LogLevel::Bad, format!("left out: {} ({}): {}", left.origin, left.host, left.reason))));
    let leftovers = summary.leftovers.iter().filter(|_| preview).take(MAX_LEFTOVERS);
    log.extend(leftovers.map(|left| {
        let text =
            format!("still looks like a secret: {} ({}, {} × in {})", left.value, left.rule, left.count, left.file);
        (LogLevel::Bad, text)
    }));
    if !preview {
        log.push((
            LogLevel::Good,
            format!("{}; read it through before you hand it over", many(summary.files as u64, "file")),
        ));
    }
    log
}

impl Drop for Collecting {
    fn drop(&mut self) {
        if let Some(running) = &self.running {
            running.work.cancel();
        }
    }
}
