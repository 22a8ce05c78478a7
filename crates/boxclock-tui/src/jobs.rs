//! Work beside the screen: reading, filtering, finding, counting. One job of a kind at a time; a newer one cancels the
//! older, and results of cancelled ones are dropped. A job gives back what is to be done with its result.

use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use boxclock_core::case::{Case, Focus, Loaded, Loader};
use boxclock_core::work::Work;
use boxclock_core::{Error, Result};
use crossbeam_channel::Sender;
use ratatui::crossterm::event::Event as Input;

/// What is to be done with a result, on the state `S`.
pub type Apply<S> = Box<dyn FnOnce(&mut S) + Send>;

/// What the main loop waits for.
pub enum Event<S> {
    /// Something typed, clicked or resized.
    Input(Input),
    /// A job is done.
    Done(u64, Result<Apply<S>>),
    /// Something has come by itself.
    Came(Apply<S>),
    /// Time to draw: something that is shown goes on.
    Tick,
}

/// What a job is for; and which of several, where there can be.
pub type Kind = (&'static str, usize);

/// The rows of the Stream.
pub const ROWS: Kind = ("rows", 0);
/// The hits of what is looked for.
pub const HITS: Kind = ("hits", 0);
/// Another state of the clocks.
pub const CLOCKS: Kind = ("clocks", 0);
/// Something that is written into a file.
pub const WRITE: Kind = ("write", 0);
/// Whether the folders of the case are hosts.
pub const HOST_FOLDERS: Kind = ("host-folders", 0);
/// What is known of the case.
pub const KNOWN: Kind = ("known", 0);
/// Whether the failure is gone in a later box.
pub const VERIFY: Kind = ("verify", 0);
/// What is worked out once a case is read.
pub const ANALYSES: Kind = ("analyses", 0);

/// What the values of the chosen event's pattern usually are.
pub const USUAL: Kind = ("usual", 0);

/// Runs jobs.
pub struct Jobs<S> {
    sender: Sender<Event<S>>,
    running: HashMap<Kind, (u64, Work)>,
    next: u64,
    loading: Work,
    load_id: u64,
    started: Instant,
    focus: Focus,
}

impl<S: 'static> Jobs<S> {
    /// Sends results to `sender`.
    pub fn new(sender: Sender<Event<S>>) -> Self {
        // What was asked for another case, and still comes, has other numbers.
        static CASES: AtomicU64 = AtomicU64::new(0);
        let first = CASES.fetch_add(1 << 32, Ordering::Relaxed);
        Self {
            sender,
            running: HashMap::new(),
            next: first,
            loading: Work::default(),
            load_id: first,
            started: Instant::now(),
            focus: Focus::default(),
        }
    }

    /// Where results go.
    pub fn sender(&self) -> Sender<Event<S>> {
        self.sender.clone()
    }

    /// Starts to read a case. What has been read is given to `take`, again and again, unless a newer reading has begun.
    pub fn load(&mut self, case: &Case, take: fn(&mut S, u64, Loaded), failed: fn(&mut S, Error)) {
        let loader = Loader::new(case);
        // What is still being read for an older state of the case is of no use any more.
        self.loading.cancel();
        (self.loading, self.started, self.focus) = (Work::default(), Instant::now(), loader.focus());
        self.load_id += 1;
        let (work, sender, number) = (self.loading.clone(), self.sender.clone(), self.load_id);
        spawn("reading", move || {
            // The receiver is gone when the program ends.
            let publish = |loaded: Loaded| {
                let _ = sender.send(Event::Came(Box::new(move |state| take(state, number, loaded))));
            };
            let ended = catch_unwind(AssertUnwindSafe(|| loader.run_showing(&work, publish)));
            let ended = ended.unwrap_or_else(|panic| Err(Error::fault(&*panic)));
            if let Some(error) = ended.err().filter(|error| !error.is_cancelled()) {
                let _ = sender.send(Event::Came(Box::new(move |state| failed(state, error))));
            }
        });
    }

    /// Bytes read and to be read, and for how long reading has gone on.
    pub fn progress(&self) -> (u64, u64, Duration) {
        let (done, total) = self.loading.progress();
        (done, total, self.started.elapsed())
    }

    /// The number of the reading that is under way, or was last.
    #[cfg(test)]
    pub fn load_id(&self) -> u64 {
        self.load_id
    }

    /// Whether this is the reading that goes on: a case that was opened again is read anew.
    pub fn is_loading(&self, number: u64) -> bool {
        self.load_id == number
    }

    /// Drops everything that runs for a case that is not shown any more.
    pub fn cancel_all(&mut self) {
        self.running.drain().for_each(|(_, (_, work))| work.cancel());
    }

    /// Says which moment is looked at, while reading goes on.
    pub fn look_at(&self, time: i64) {
        self.focus.set(time);
    }

    /// Starts a job in the place of the one of its kind that runs.
    pub fn start(&mut self, kind: Kind, job: impl FnOnce(&Work) -> Result<Apply<S>> + Send + 'static) {
        self.cancel(kind);
        self.next += 1;
        let (number, work, sender) = (self.next, Work::default(), self.sender.clone());
        self.running.insert(kind, (number, work.clone()));
        spawn("job", move || {
            let done = catch_unwind(AssertUnwindSafe(|| job(&work)));
            let done = done.unwrap_or_else(|panic| Err(Error::fault(&*panic)));
            // The receiver is gone when the program ends.
            let _ = sender.send(Event::Done(number, done));
        });
    }

    /// Does something on a thread of its own that nothing cancels.
    pub fn run(&self, job: impl FnOnce() -> Apply<S> + Send + 'static) {
        let sender = self.sender.clone();
        spawn("run", move || {
            // The receiver is gone when the program ends.
            let _ = sender.send(Event::Came(job()));
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

    /// How much of the job of a kind is done, in percent; `None` when none runs.
    pub fn percent(&self, kind: Kind) -> Option<u64> {
        let (done, total) = self.running.get(&kind)?.1.progress();
        Some(done * 100 / total.max(1))
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
}

/// A thread with a name: a panic of any but the main one must not touch the terminal.
fn spawn(name: &str, run: impl FnOnce() + Send + 'static) {
    // Without threads nothing works here; the system says so in the panic that follows.
    let spawned = std::thread::Builder::new().name(name.into()).spawn(run);
    if let Err(error) = spawned {
        tracing::error!("cannot start a thread: {error}");
    }
}

impl<S> Drop for Jobs<S> {
    fn drop(&mut self) {
        self.loading.cancel();
        self.running.values().for_each(|(_, work)| work.cancel());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Takes the next result of the jobs of a counter.
    fn next(jobs: &mut Jobs<u32>, events: &crossbeam_channel::Receiver<Event<u32>>) -> Result<u32> {
        let Ok(Event::Done(number, done)) = events.recv_timeout(Duration::from_secs(20)) else { panic!("no answer") };
        assert!(jobs.accept(number));
        let mut state = 0;
        done.map(|apply| apply(&mut state)).map(|()| state)
    }

    #[test]
    fn jobs_answer_fail_and_panic() {
        let (sender, events) = crossbeam_channel::unbounded();
        let mut jobs: Jobs<u32> = Jobs::new(sender);
        jobs.start(ROWS, |_| Ok(Box::new(|state| *state = 7)));
        assert_eq!(next(&mut jobs, &events).unwrap(), 7);
        jobs.start(ROWS, |_| Err(Error::new("no such row")));
        assert_eq!(next(&mut jobs, &events).unwrap_err().to_string(), "no such row");
        jobs.start(ROWS, |_| panic!("row {}", 9));
        assert_eq!(next(&mut jobs, &events).unwrap_err().to_string(), "a fault in boxclock: row 9");
        assert!(!jobs.any_runs(), "nothing is looked for any more");
    }

    #[test]
    fn a_newer_job_takes_the_place_of_the_older() {
        let (sender, events) = crossbeam_channel::unbounded();
        let mut jobs: Jobs<u32> = Jobs::new(sender);
        jobs.start(ROWS, |work| {
            while !work.is_cancelled() {
                std::thread::yield_now();
            }
            work.check()?;
            Ok(Box::new(|state| *state = 1))
        });
        jobs.start(ROWS, |_| Ok(Box::new(|state| *state = 2)));
        let mut state = 0;
        for _ in 0..2 {
            if let Event::Done(number, Ok(apply)) = events.recv_timeout(Duration::from_secs(20)).unwrap()
                && jobs.accept(number)
            {
                apply(&mut state);
            }
        }
        assert_eq!(state, 2);
    }
}
