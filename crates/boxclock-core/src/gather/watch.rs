//! What becomes of each host while it is gathered, and how to stop one of them: the others complete.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use crate::work::Work;

/// How far a host is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stage {
    /// It is being connected to, or its folder is entered.
    Connecting,
    /// Its files are being listed.
    Listing,
    /// Its commands run and its files come over the line.
    Fetching,
    /// What came is being put into the box.
    Packing,
    /// It is all there.
    Done,
    /// It was stopped or failed, for this reason.
    Stopped(String),
}

impl Stage {
    /// What is being done, for people.
    pub fn words(&self) -> &str {
        match self {
            Self::Connecting => "connecting",
            Self::Listing => "listing files",
            Self::Fetching => "fetching",
            Self::Packing => "packing",
            Self::Done => "done",
            Self::Stopped(reason) => reason,
        }
    }
}

/// A host that is being gathered.
#[derive(Clone, Debug)]
pub struct Host {
    /// Its label.
    pub label: String,
    /// How far it is.
    pub stage: Stage,
    /// Files that are done, and files that are planned.
    pub files: (usize, usize),
    work: Work,
}

impl Host {
    /// Bytes that are done, and bytes that are planned.
    pub fn bytes(&self) -> (u64, u64) {
        self.work.progress()
    }
}

/// A view on all hosts of one gathering. Cheap to clone.
#[derive(Clone, Debug, Default)]
pub struct Watch(Arc<Mutex<Vec<Host>>>);

impl Watch {
    /// How far the hosts are.
    pub fn hosts(&self) -> Vec<Host> {
        self.with(|hosts| hosts.clone())
    }

    /// Stops one host. What came of it by then is kept, the rest is named as left out.
    pub fn stop(&self, label: &str) {
        self.with(|hosts| hosts.iter().filter(|host| host.label == label).for_each(|host| host.work.cancel()));
    }

    fn with<T>(&self, what: impl FnOnce(&mut Vec<Host>) -> T) -> T {
        what(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The work of a host: a part of the whole, which begins when it is first asked for.
    pub(super) fn work(&self, label: &str, whole: &Work, limit: Option<Duration>) -> Work {
        self.with(|hosts| {
            if let Some(host) = hosts.iter().find(|host| host.label == label) {
                return host.work.clone();
            }
            let work = whole.part(limit);
            let (label, stage, files) = (label.to_owned(), Stage::Connecting, (0, 0));
            hosts.push(Host { label, stage, files, work: work.clone() });
            work
        })
    }

    /// Forgets all hosts: what was noted at the beginning of a capture is not what is gathered at its end.
    pub(super) fn clear(&self) {
        self.with(Vec::clear);
    }

    pub(super) fn stage(&self, label: &str, stage: &Stage) {
        self.with(|hosts| {
            for host in hosts.iter_mut().filter(|host| host.label == label) {
                // Why it stopped is not covered by what goes on with the rest of it.
                if !matches!(host.stage, Stage::Stopped(_)) {
                    host.stage = stage.clone();
                }
            }
        });
    }

    /// Says what is planned of a host.
    pub(super) fn planned(&self, label: &str, files: usize, bytes: u64) {
        self.with(|hosts| {
            for host in hosts.iter_mut().filter(|host| host.label == label) {
                host.files = (0, files);
                host.work.set_total(bytes);
            }
        });
    }

    /// One more file of a host is done.
    pub(super) fn file_done(&self, label: &str) {
        self.with(|hosts| hosts.iter_mut().filter(|host| host.label == label).for_each(|host| host.files.0 += 1));
    }
}
