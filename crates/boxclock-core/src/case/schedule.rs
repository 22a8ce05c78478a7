//! Which piece is read next: what people look at first.

use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// A piece of a source that is to be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Job {
    pub source: usize,
    pub slot: usize,
    pub from: u64,
    pub to: u64,
}

/// The moment that somebody is looking at while a case is read: its pieces are read next. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Focus(Arc<AtomicI64>);

impl Default for Focus {
    fn default() -> Self {
        Self(Arc::new(AtomicI64::new(i64::MIN)))
    }
}

impl Focus {
    /// Says which moment is looked at, in UTC nanoseconds.
    pub fn set(&self, time: i64) {
        self.0.store(time, Ordering::Relaxed);
    }

    fn get(&self) -> Option<i64> {
        Some(self.0.load(Ordering::Relaxed)).filter(|time| *time != i64::MIN)
    }
}

/// The pieces that are still to be read.
pub(super) struct Queue {
    inner: Mutex<Inner>,
    focus: Focus,
}

struct Inner {
    /// In the order in which they are read without a focus, the first at the end.
    jobs: Vec<Job>,
    /// Those at the end of `jobs` that come first in any case: starts and ends of sources.
    early: usize,
    /// For each source: times met, by place in the file.
    anchors: Vec<Vec<(u64, i64)>>,
}

impl Queue {
    /// `jobs` in the order in which they are read, the first `early` of them in any case.
    pub(super) fn new(mut jobs: Vec<Job>, early: usize, sources: usize, focus: Focus) -> Self {
        jobs.reverse();
        Self { inner: Mutex::new(Inner { jobs, early, anchors: vec![Vec::new(); sources] }), focus }
    }

    /// The next piece.
    pub(super) fn next(&self) -> Option<Job> {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        if inner.early > 0 {
            inner.early -= 1;
            return inner.jobs.pop();
        }
        let Some(focus) = self.focus.get() else { return inner.jobs.pop() };
        let distance = |job: &Job| inner.estimate(job).map_or(u64::MAX, |time| time.abs_diff(focus));
        let nearest = (0..inner.jobs.len()).rev().min_by_key(|at| distance(&inner.jobs[*at]))?;
        Some(inner.jobs.remove(nearest))
    }

    /// Says at which time the piece from `offset` on starts.
    pub(super) fn met(&self, source: usize, offset: u64, time: i64) {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let anchors = &mut inner.anchors[source];
        let at = anchors.partition_point(|(other, _)| *other < offset);
        anchors.insert(at, (offset, time));
    }
}

impl Inner {
    /// About when the lines of a piece were written: as if logs were written at an even pace between the times met.
    fn estimate(&self, job: &Job) -> Option<i64> {
        let anchors = &self.anchors[job.source];
        let after = anchors.partition_point(|(offset, _)| *offset <= job.from);
        match (after.checked_sub(1).map(|at| anchors[at]), anchors.get(after)) {
            (Some((low, start)), Some((high, end))) => {
                let share = (job.from - low) as f64 / (high - low).max(1) as f64;
                Some(start.saturating_add((end.saturating_sub(start) as f64 * share) as i64))
            }
            (Some((_, time)), None) => Some(time),
            (None, time) => time.map(|(_, time)| *time),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn job(slot: usize) -> Job {
        Job { source: 0, slot, from: slot as u64 * 100, to: slot as u64 * 100 + 100 }
    }

    #[test]
    fn in_order_without_a_focus() {
        let queue = Queue::new(vec![job(9), job(0), job(1), job(2)], 2, 1, Focus::default());
        let order: Vec<usize> = std::iter::from_fn(|| queue.next()).map(|job| job.slot).collect();
        assert_eq!(order, [9, 0, 1, 2]);
    }

    #[test]
    fn what_is_looked_at_is_read_next() {
        let focus = Focus::default();
        let jobs = [vec![job(9), job(0)], (1..9).map(job).collect()].concat();
        let queue = Queue::new(jobs, 2, 1, focus.clone());
        focus.set(650);
        assert_eq!((queue.next().unwrap().slot, queue.next().unwrap().slot), (9, 0), "starts and ends come first");
        queue.met(0, 900, 900);
        queue.met(0, 0, 0);
        let order: Vec<usize> = (0..4).filter_map(|_| queue.next()).map(|job| job.slot).collect();
        assert_eq!(order[0] * 10 + order[1], if order[0] == 7 { 76 } else { 67 }, "{order:?}");
        focus.set(100);
        assert_eq!(queue.next().unwrap().slot, 1);
    }
}
