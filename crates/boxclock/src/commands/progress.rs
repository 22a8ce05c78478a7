//! Progress of long work on standard error.

use std::io::{self, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use boxclock_core::gather::{self, watch::Host};
use boxclock_core::work::Work;

/// Shows progress until it is dropped.
pub struct Shown {
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Shown {
    /// Starts to show the progress of `work`.
    pub fn start(work: &Work, what: &'static str) -> Self {
        Self::start_after(work, what, Duration::ZERO)
    }

    /// Shows the progress of gathering, and each change of what is done with a host.
    pub fn of_hosts(work: &Work, watch: gather::watch::Watch) -> Self {
        Self::start_with(work, "packing", Duration::ZERO, Some(watch))
    }

    /// Shows the progress of `work` once it has taken a second: for work that is usually done at once.
    pub fn start_late(work: &Work, what: &'static str) -> Self {
        Self::start_after(work, what, Duration::from_secs(1))
    }

    fn start_after(work: &Work, what: &'static str, quiet: Duration) -> Self {
        Self::start_with(work, what, quiet, None)
    }

    fn start_with(work: &Work, what: &'static str, quiet: Duration, watch: Option<gather::watch::Watch>) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let (work, stopped) = (work.clone(), Arc::clone(&stop));
        let thread = std::thread::spawn(move || {
            let started = Instant::now();
            let mut told = Vec::new();
            while !stopped.load(Ordering::Relaxed) {
                std::thread::park_timeout(Duration::from_millis(500));
                for host in watch.iter().flat_map(gather::watch::Watch::hosts) {
                    tell_host(&host, &mut told);
                }
                if started.elapsed() >= quiet {
                    line(&work, what, started);
                }
            }
        });
        Self { stop, thread: Some(thread) }
    }
}

/// Says what is done with a host, once.
#[allow(clippy::print_stderr, reason = "progress goes to standard error, like diagnostics")]
fn tell_host(host: &Host, told: &mut Vec<String>) {
    let stage = format!("boxclock: {}: {}", host.label, host.stage.words());
    if !told.contains(&stage) {
        let (done, total) = host.files;
        let _ = writeln!(io::stderr(), "{stage} ({done} of {total} files)");
        told.push(stage);
    }
}

fn line(work: &Work, what: &str, started: Instant) {
    let (done, total) = work.progress();
    let rate = done as f64 / started.elapsed().as_secs_f64().max(0.001);
    let left = if rate > 0.0 { total.saturating_sub(done) as f64 / rate } else { 0.0 };
    let mib = |bytes: u64| bytes >> 20;
    let _ = writeln!(
        io::stderr(),
        "boxclock: {what}: {} of {} MiB, {:.0} MiB/s, {left:.0} s left",
        mib(done),
        mib(total),
        rate / 1_048_576.0
    );
}

impl Drop for Shown {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            thread.thread().unpark();
            // The thread only prints; if it panicked there is nothing to mend.
            let _ = thread.join();
        }
    }
}
