//! The desk: what brings logs in and hands them on. Gathering from many hosts, capturing while somebody reproduces the failure,
//! receiving from devices that can only send, and handing on a redacted box. Each is a form, a list of what goes on, and
//! what came of it; the work itself is the core's.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use boxclock_core::case::{Case, Options};
use boxclock_core::clock::{self, Zone};
use boxclock_core::gather::redact::{HandedOn, hand_on};
use boxclock_core::gather::watch::{Host, Watch};
use boxclock_core::gather::{self, Mark, PackOptions, Packed, Request, Snapshot, Wish};
use boxclock_core::logbook::Story;
use boxclock_core::receive::{ReceiveOptions, Receiver, listen_on};
use boxclock_core::work::Work;
use boxclock_core::{Error, Result, coverage};
use crossbeam_channel::Sender;

use crate::jobs::Event;

/// What the desk is set to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Task {
    Gather,
    Capture,
    Receive,
    HandOn,
}

impl Task {
    /// All, in the order of the screen.
    pub const ALL: [Self; 4] = [Self::Gather, Self::Capture, Self::Receive, Self::HandOn];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gather => "gather",
            Self::Capture => "capture",
            Self::Receive => "receive",
            Self::HandOn => "hand on",
        }
    }

    /// What it is for.
    pub fn about(self) -> &'static str {
        match self {
            Self::Gather => "One box from many machines: what their recipes ask for, near the moment.",
            Self::Capture => {
                "Note what stands in the logs, let somebody reproduce the failure, and take only what was written meanwhile."
            }
            Self::Receive => {
                "Syslog from devices that can only send, over UDP, TCP or TLS, into a folder that opens as a case."
            }
            Self::HandOn => {
                "A copy of this box in which secrets are replaced, the same value by the same mark; the box itself stays as it is."
            }
        }
    }

    /// Its fields: key, label, and what to write there.
    pub fn fields(self) -> &'static [(&'static str, &'static str, &'static str)] {
        const HOSTS: (&str, &str, &str) = (
            "hosts",
            "Hosts",
            "LABEL=PATH of a folder or archive, LABEL=ssh://[USER@]HOST[:PORT], or a path of this machine; blanks between",
        );
        const RECIPES: (&str, &str, &str) =
            ("recipes", "Recipes", "names (see boxclock recipes), auto for those that fit, all for all files");
        const LIMIT: (&str, &str, &str) =
            ("limit", "Limit", "how long one host may take: 10m; empty: as long as it needs");
        const INTO: (&str, &str, &str) = ("into", "Into", "the box to write: night.box.zip");
        match self {
            Self::Gather => &[
                HOSTS,
                RECIPES,
                ("moment", "Moment", "of the failure: yesterday 7:20, Wed 07:22, 2 h ago; empty: all times"),
                ("within", "Within", "how much before and after the moment: 10m"),
                LIMIT,
                INTO,
            ],
            Self::Capture => &[HOSTS, RECIPES, LIMIT, INTO],
            Self::Receive => &[
                ("folder", "Into", "the folder to write into"),
                ("udp", "UDP", "PORT, or ADDRESS:PORT; a port alone listens on this machine only"),
                ("tcp", "TCP", "PORT, or ADDRESS:PORT"),
                ("tls", "TLS", "PORT, or ADDRESS:PORT; needs certificate and key"),
                ("cert", "Certificate", "PEM file with the certificate chain for TLS"),
                ("key", "Key", "PEM file with its private key"),
            ],
            Self::HandOn => &[
                ("copy", "Into", "the new box: hand-on.box.zip"),
                ("around", "Around", "only what was written near this moment; empty: all"),
                ("span", "Within", "how much before and after it: 10m"),
                ("pinned", "Pins", "yes: pinned records go along wherever they lie"),
                ("hide", "Host names", "yes: replace the labels of the hosts too"),
                ("words", "Words", "more words to replace, with blanks between"),
                ("except", "Except", "names of rules that are not applied (v shows them)"),
                ("binary", "Binaries", "yes: dumps and event logs, which cannot be redacted, go along as they are"),
            ],
        }
    }
}

/// A line of the desk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DeskRow {
    /// A field of the form.
    Field(usize),
    /// A host that is being gathered, by its label.
    Host(String),
    /// A line of what came of it.
    Said(usize),
    /// Nothing, between them.
    Gap,
}

/// How a line of the result is meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    Plain,
    Good,
    Bad,
}

/// What goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Doing {
    Planning,
    Packing,
    Noting,
    /// Waiting until the failure has been reproduced.
    Capturing,
    Receiving,
    Looking,
    HandingOn,
}

impl Doing {
    fn words(self) -> &'static str {
        match self {
            Self::Planning => "listing what would be gathered",
            Self::Packing => "gathering",
            Self::Noting => "noting what stands in the logs",
            Self::Capturing => "capturing: reproduce the failure now, then r; x gives up",
            Self::Receiving => "receiving; x ends it",
            Self::Looking => "looking what would be replaced",
            Self::HandingOn => "writing the copy",
        }
    }
}

/// Work of the desk that goes on.
pub struct Running {
    pub doing: Doing,
    work: Work,
    started: Instant,
    number: u64,
    receiver: Option<Arc<Receiver>>,
}

/// What the work of the desk came to.
pub enum DeskDone {
    /// It goes on: time to draw.
    Tick,
    /// Lines that tell what came of it, and what can be opened now.
    Said(Vec<(Tone, String)>, Option<PathBuf>),
    /// What stood in the files when capturing began.
    Noted(Box<PackOptions>, Result<Snapshot>),
}

/// The state of the desk.
#[derive(Default)]
pub struct Desk {
    /// What it is set to; gathering first.
    pub task: Option<Task>,
    texts: HashMap<&'static str, String>,
    pub running: Option<Running>,
    /// What the last work said.
    pub said: Vec<(Tone, String)>,
    /// What it made, to be opened.
    pub made: Option<PathBuf>,
    watch: Watch,
    /// What capturing goes on with.
    captured: Option<PackOptions>,
}

impl Desk {
    /// What it is set to.
    pub fn task(&self) -> Task {
        self.task.unwrap_or(Task::Gather)
    }

    /// Fills the fields that nobody has filled from the story and the case.
    pub fn suggest(&mut self, story: &Story, case: &Case) {
        let request = Request::from_story(story);
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

    /// Changes a field.
    pub fn set(&mut self, key: &'static str, text: String) {
        self.texts.insert(key, text);
    }

    /// Whether a field is a choice between yes and no.
    pub fn is_switch(&self, key: &str) -> bool {
        matches!(self.text(key), "yes" | "no")
    }

    /// The hosts that are being gathered.
    pub fn hosts(&self) -> Vec<Host> {
        self.watch.hosts()
    }

    /// The lines of the desk.
    pub fn rows(&self) -> Vec<DeskRow> {
        let mut rows: Vec<DeskRow> = (0..self.task().fields().len()).map(DeskRow::Field).collect();
        let hosts: Vec<_> = self.hosts().into_iter().map(|host| DeskRow::Host(host.label)).collect();
        let said: Vec<_> = (0..self.said.len()).map(DeskRow::Said).collect();
        let is_about_hosts = matches!(self.task(), Task::Gather | Task::Capture);
        for part in [hosts, said].into_iter().skip(usize::from(!is_about_hosts)).filter(|part| !part.is_empty()) {
            rows.push(DeskRow::Gap);
            rows.extend(part);
        }
        rows
    }

    /// What goes on, for people.
    pub fn status(&self) -> String {
        let Some(running) = &self.running else {
            return match (&self.made, self.task()) {
                (Some(_), _) => "done; o opens it".into(),
                (None, Task::Gather) => "v shows what would be gathered; r gathers".into(),
                (None, Task::Capture) => "r begins to capture".into(),
                (None, Task::Receive) => "r begins to receive".into(),
                (None, Task::HandOn) => "v shows what would be replaced; r writes the copy".into(),
            };
        };
        let (done, total) = running.work.progress();
        let mut text = running.doing.words().to_owned();
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
            (None, _) => "nothing goes on here",
            (Some(running), Some(host)) if running.doing == Doing::Packing => {
                self.watch.stop(host);
                "this host is stopped; the others go on"
            }
            (Some(Running { doing: Doing::Capturing, .. }), _) => {
                (self.running, self.captured) = (None, None);
                "given up; nothing was written"
            }
            (Some(running), _) => {
                running.work.cancel();
                "stopping …"
            }
        }
    }

    /// Starts work on a thread of its own; while it goes on, the screen is drawn now and then.
    fn start(
        &mut self,
        (doing, sender): (Doing, &Sender<Event>),
        job: impl FnOnce(&Work) -> DeskDone + Send + 'static,
    ) {
        // What the desk of another case still says has another number.
        static WORKS: AtomicU64 = AtomicU64::new(0);
        self.said.clear();
        self.made = None;
        let (number, work) = (WORKS.fetch_add(1, Ordering::Relaxed), Work::default());
        let ended = Work::default();
        self.running = Some(Running { doing, work: work.clone(), started: Instant::now(), number, receiver: None });
        let (ticks, over, sender) = (sender.clone(), ended.clone(), sender.clone());
        std::thread::spawn(move || {
            while !over.is_cancelled() && ticks.send(Event::Desk(number, DeskDone::Tick)).is_ok() {
                std::thread::park_timeout(Duration::from_millis(200));
            }
        });
        std::thread::spawn(move || {
            let done = job(&work);
            ended.cancel();
            // The receiver is gone when the program ends.
            let _ = sender.send(Event::Desk(number, done));
        });
    }

    /// Takes what the work says; gives whether it is what goes on now.
    pub fn take(&mut self, number: u64, done: DeskDone) {
        if self.running.as_ref().is_none_or(|running| running.number != number) {
            return;
        }
        match done {
            DeskDone::Tick => {}
            DeskDone::Said(said, made) => (self.running, self.said, self.made) = (None, said, made),
            DeskDone::Noted(options, Ok(snapshot)) => {
                let mut options = *options;
                options.marks.push(Mark { time: clock::to_rfc3339(clock::now()), text: "capture began".into() });
                self.said = vec![(Tone::Plain, format!("{} files were noted", snapshot.files))];
                options.since = Some(Arc::new(snapshot));
                self.captured = Some(options);
                if let Some(running) = &mut self.running {
                    (running.doing, running.started) = (Doing::Capturing, Instant::now());
                    running.work.set_total(0);
                }
            }
            DeskDone::Noted(_, Err(error)) => (self.running, self.said) = (None, vec![(Tone::Bad, error.to_string())]),
        }
    }

    fn request(&self) -> Request {
        let text = |key: &str| self.text(key).to_owned();
        let is_capture = self.task() == Task::Capture;
        Request {
            hosts: text("hosts"),
            recipes: text("recipes"),
            moment: if is_capture { String::new() } else { text("moment") },
            within: text("within"),
            limit: text("limit"),
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
    pub fn preview(&mut self, story: &Story, case: &Case, sender: &Sender<Event>) -> Result<()> {
        self.free()?;
        match self.task() {
            Task::Gather | Task::Capture => {
                let options = self.options(story, &case.zone)?;
                self.start((Doing::Planning, sender), move |work| match gather::plan(&options, work) {
                    Ok(plan) => {
                        let lines = plan.lines(options.window).into_iter().map(|line| (Tone::Plain, line));
                        let left = plan.left_out.iter().map(|left| {
                            (Tone::Bad, format!("left out: {} ({}): {}", left.origin, left.host, left.reason))
                        });
                        DeskDone::Said(left.chain(lines).collect(), None)
                    }
                    Err(error) => failed(&error),
                });
            }
            Task::HandOn => self.start_handing_on(case, false, sender)?,
            Task::Receive => return Err(Error::new("nothing to show before: r begins to receive")),
        }
        Ok(())
    }

    fn free(&self) -> Result<()> {
        if self.running.is_some() { Err(Error::new("something goes on already: x stops it")) } else { Ok(()) }
    }

    /// Does it.
    ///
    /// # Errors
    /// When a field cannot be understood, or something else goes on already.
    pub fn run(&mut self, story: &Story, case: &Case, sender: &Sender<Event>) -> Result<()> {
        if let Some(options) = self.captured.take() {
            self.pack_captured(options, sender);
            return Ok(());
        }
        self.free()?;
        match self.task() {
            Task::Gather => {
                let options = self.options(story, &case.zone)?;
                self.start((Doing::Packing, sender), move |work| packed(&options, work));
            }
            Task::Capture => {
                let options = self.options(story, &case.zone)?;
                self.start((Doing::Noting, sender), move |work| {
                    let snapshot = gather::snapshot(&options, work);
                    DeskDone::Noted(Box::new(options), snapshot)
                });
            }
            Task::Receive => self.start_receiving(sender)?,
            Task::HandOn => self.start_handing_on(case, true, sender)?,
        }
        Ok(())
    }

    fn pack_captured(&mut self, mut options: PackOptions, sender: &Sender<Event>) {
        options.now = clock::now();
        options.marks.push(Mark { time: clock::to_rfc3339(options.now), text: "capture ended".into() });
        self.start((Doing::Packing, sender), move |work| packed(&options, work));
    }

    fn start_receiving(&mut self, sender: &Sender<Event>) -> Result<()> {
        let address = |key: &str| {
            let text = self.text(key).trim();
            if text.is_empty() { Ok(None) } else { listen_on(text).map(Some) }
        };
        let path = |key: &str| Some(self.text(key).trim()).filter(|text| !text.is_empty()).map(PathBuf::from);
        let into = path("folder").ok_or_else(|| Error::new("into: say the folder to write into"))?;
        let receiver = Arc::new(Receiver::bind(ReceiveOptions {
            into: into.clone(),
            udp: address("udp")?,
            tcp: address("tcp")?,
            tls: address("tls")?,
            identity: path("cert").zip(path("key")),
            ..ReceiveOptions::default()
        })?);
        let running = Arc::clone(&receiver);
        self.start((Doing::Receiving, sender), move |work| {
            let ended = running.run(work);
            let mut said = vec![(Tone::Good, format!("{}: {}", into.display(), running.counts()))];
            said.extend(ended.err().map(|error| (Tone::Bad, error.to_string())));
            DeskDone::Said(said, Some(into))
        });
        let listening = ["UDP", "TCP", "TLS"].into_iter().zip(receiver.addresses());
        self.said = listening
            .filter_map(|(way, address)| address.map(|address| (Tone::Plain, format!("listening on {way} {address}"))))
            .collect();
        if let Some(running) = &mut self.running {
            running.receiver = Some(receiver);
        }
        Ok(())
    }

    fn start_handing_on(&mut self, case: &Case, write: bool, sender: &Sender<Event>) -> Result<()> {
        let from = case.seal.as_ref().and_then(|_| case.paths.first()).cloned();
        let from =
            from.ok_or_else(|| Error::new("only a box can be handed on: gather one first (h chooses gather)"))?;
        let words = |key: &str| self.text(key).split_whitespace().map(str::to_owned).collect();
        let is = |key: &str| self.text(key) == "yes";
        let around = Some(self.text("around").trim().to_owned()).filter(|text| !text.is_empty());
        let wish = Wish {
            from,
            into: write.then(|| PathBuf::from(self.text("copy").trim())),
            words: words("words"),
            except: words("except"),
            hide_hosts: is("hide"),
            pinned: is("pinned") && around.is_some(),
            within: self.text("span").to_owned(),
            around,
            keep_binary: is("binary"),
            ..Wish::default()
        };
        if write && self.text("copy").trim().is_empty() {
            return Err(Error::new("into: say the name of the new box"));
        }
        let doing = if write { Doing::HandingOn } else { Doing::Looking };
        self.start((doing, sender), move |work| {
            let prepared = match wish.prepare(clock::now(), work) {
                Ok(prepared) => prepared,
                Err(error) => return failed(&error),
            };
            match hand_on(&prepared.hand_on, &prepared.rules.good, prepared.key, work) {
                Ok(handed) => DeskDone::Said(replaced(&handed, &prepared, wish.into.is_none()), wish.into),
                Err(error) => failed(&error),
            }
        });
        Ok(())
    }
}

fn failed(error: &Error) -> DeskDone {
    DeskDone::Said(vec![(Tone::Bad, error.to_string())], None)
}

/// Gathers, and says at once whether what came covers the moment.
fn packed(options: &PackOptions, work: &Work) -> DeskDone {
    let packed: Packed = match gather::pack(options, work) {
        Ok(packed) => packed,
        Err(error) => return failed(&error),
    };
    let mut said = vec![(Tone::Good, packed.summary(&options.into))];
    let left = packed.seal.unreadable.iter();
    said.extend(left.map(|left| (Tone::Bad, format!("left out: {} ({}): {}", left.origin, left.host, left.reason))));
    if let Some(window) = options.window {
        let case = Case::open(std::slice::from_ref(&options.into), Options::default(), work);
        match case.and_then(|case| case.load(work).map(|loaded| (case, loaded))) {
            Ok((case, loaded)) => {
                let rows = coverage::coverage(&case, &loaded, window);
                said.extend(coverage::lines(&rows, window, &case.zone).into_iter().map(|line| (Tone::Plain, line)));
            }
            Err(error) => said.push((Tone::Bad, format!("the box was written; looking at its coverage: {error}"))),
        }
    }
    DeskDone::Said(said, Some(options.into.clone()))
}

fn replaced(handed: &HandedOn, prepared: &gather::Prepared, preview: bool) -> Vec<(Tone, String)> {
    let mut said = Vec::new();
    for applied in &handed.applied {
        let rule = prepared.rules.good.iter().find(|rule| rule.name == applied.rule);
        let title = rule.map_or("", |rule| rule.title.as_str());
        let text = format!("{:<10} {:>7} places, {:>5} values  {title}", applied.rule, applied.places, applied.values);
        said.push((Tone::Plain, text));
        let samples = handed.samples.iter().filter(|(name, _)| preview && *name == applied.rule);
        for sample in samples.flat_map(|(_, samples)| samples) {
            said.push((Tone::Plain, format!("{:11}{:>7} × {} → {}", "", sample.count, sample.value, sample.instead)));
        }
    }
    if handed.applied.is_empty() {
        said.push((Tone::Plain, "nothing that the rules would replace".into()));
    }
    let left = handed.left_out.iter();
    said.extend(left.map(|left| (Tone::Bad, format!("left out: {} ({}): {}", left.origin, left.host, left.reason))));
    if !preview {
        said.push((Tone::Good, format!("{} files; read it once before you hand it on", handed.files)));
    }
    said
}

impl Drop for Desk {
    fn drop(&mut self) {
        if let Some(running) = &self.running {
            running.work.cancel();
        }
    }
}
