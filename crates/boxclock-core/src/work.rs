//! Long work: one way to report progress, and one way to cancel.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::error::Stopped;
use crate::{Error, Result};

/// A shared view on one piece of long work: how far it is, and whether it should stop. Cheap to clone.
#[derive(Clone, Debug, Default)]
pub struct Work(Arc<Inner>);

#[derive(Debug, Default)]
struct Inner {
    cancelled: AtomicBool,
    done_bytes: AtomicU64,
    total_bytes: AtomicU64,
    /// The work that this is a part of.
    whole: Option<Work>,
    /// When it has taken too long, and after how many seconds that is.
    limit: Option<(Instant, u64)>,
}

impl Work {
    /// A part of this work with progress of its own: it can be stopped alone, by hand or because it takes longer than `limit`,
    /// and stops with the whole.
    #[must_use]
    pub fn part(&self, limit: Option<Duration>) -> Self {
        let limit = limit.and_then(|limit| Some((Instant::now().checked_add(limit)?, limit.as_secs())));
        Self(Arc::new(Inner { whole: Some(self.clone()), limit, ..Inner::default() }))
    }

    /// Why this part stops while the whole goes on; `None` where it does not.
    pub fn stopped_alone(&self) -> Option<Stopped> {
        let whole = self.0.whole.as_ref()?;
        if whole.is_cancelled() {
            return None;
        }
        if self.0.cancelled.load(Ordering::Relaxed) {
            return Some(Stopped::ByHand);
        }
        let (_, seconds) = self.0.limit.filter(|(until, _)| Instant::now() >= *until)?;
        Some(Stopped::TooLong { seconds })
    }

    /// Asks the work to stop. It does so at its next chunk, well within 0.1 s.
    pub fn cancel(&self) {
        self.0.cancelled.store(true, Ordering::Relaxed);
    }

    /// Whether somebody asked the work to stop.
    pub fn is_cancelled(&self) -> bool {
        self.0.cancelled.load(Ordering::Relaxed)
            || self.0.limit.is_some_and(|(until, _)| Instant::now() >= until)
            || self.0.whole.as_ref().is_some_and(Self::is_cancelled)
    }

    /// Fails if somebody asked the work to stop.
    pub fn check(&self) -> Result<()> {
        if !self.is_cancelled() {
            return Ok(());
        }
        Err(self.stopped_alone().map_or(Error::Cancelled, Error::Stopped))
    }

    /// Starts a new part of the work: says how many bytes there are to do.
    pub fn set_total(&self, bytes: u64) {
        self.0.done_bytes.store(0, Ordering::Relaxed);
        self.0.total_bytes.store(bytes, Ordering::Relaxed);
    }

    /// Says that `bytes` more are done.
    pub fn advance(&self, bytes: u64) {
        self.0.done_bytes.fetch_add(bytes, Ordering::Relaxed);
        if let Some(whole) = &self.0.whole {
            whole.advance(bytes);
        }
    }

    /// Bytes done and bytes to do.
    pub fn progress(&self) -> (u64, u64) {
        (self.0.done_bytes.load(Ordering::Relaxed), self.0.total_bytes.load(Ordering::Relaxed))
    }
}

/// How many worker threads to use: one a core.
pub fn workers() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Runs `job` for every index below `count` on all cores and gives the results in order.
///
/// Stops early, with the first results only, when `work` is cancelled.
///
/// # Panics
/// When a job does: results belong to indexes, and none may be missing between others.
pub fn parallel<T: Send>(count: usize, work: &Work, job: impl Fn(usize) -> T + Sync) -> Vec<T> {
    let threads = workers().min(count);
    if threads <= 1 {
        return (0..count).take_while(|_| !work.is_cancelled()).map(job).collect();
    }
    let next = AtomicUsize::new(0);
    let mut results: Vec<(usize, T)> = std::thread::scope(|scope| {
        let run = || {
            let mut mine = Vec::new();
            while !work.is_cancelled() {
                let index = next.fetch_add(1, Ordering::Relaxed);
                if index >= count {
                    break;
                }
                mine.push((index, job(index)));
            }
            mine
        };
        let handles: Vec<_> = (0..threads).map(|_| scope.spawn(run)).collect();
        let joined = handles.into_iter().map(std::thread::ScopedJoinHandle::join);
        joined.flat_map(|joined| joined.unwrap_or_else(|panic| std::panic::resume_unwind(panic))).collect()
    });
    results.sort_unstable_by_key(|(index, _)| *index);
    results.into_iter().map(|(_, result)| result).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parallel_keeps_the_order() {
        let squares = parallel(1000, &Work::default(), |i| i * i);
        assert_eq!(squares.len(), 1000);
        assert!(squares.iter().enumerate().all(|(i, square)| *square == i * i));
    }

    #[test]
    fn a_part_stops_alone_and_with_the_whole() {
        let whole = Work::default();
        let (one, other) = (whole.part(None), whole.part(Some(Duration::ZERO)));
        one.advance(7);
        assert_eq!((one.progress().0, whole.progress().0), (7, 7));
        assert!(!one.is_cancelled() && one.stopped_alone().is_none());
        assert_eq!(other.stopped_alone(), Some(Stopped::TooLong { seconds: 0 }));
        one.cancel();
        assert_eq!(one.check().unwrap_err().to_string(), "stopped by hand");
        assert!(!whole.is_cancelled());
        whole.cancel();
        assert!(one.is_cancelled() && one.stopped_alone().is_none());
    }

    #[test]
    fn a_job_that_panics_is_not_swallowed() {
        // Were its results dropped, those of other indexes would stand in their place.
        let run = || parallel(64, &Work::default(), |i| if i == 7 { panic!("job {i}") } else { i });
        let panic = std::panic::catch_unwind(run).unwrap_err();
        assert_eq!(Error::fault(&*panic).to_string(), "a fault in boxclock: job 7");
    }

    #[test]
    fn cancelled_work_stops_early() {
        let work = Work::default();
        let done = parallel(1_000_000, &work, |i| {
            if i == 10 {
                work.cancel();
            }
            i
        });
        assert!(done.len() < 1_000_000);
    }
}
