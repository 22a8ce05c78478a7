//! Following files that grow.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use boxclock_core::analysis::CaseView;
use boxclock_core::case::{Behind, Case, Follower};
use boxclock_core::event::RecordReader;
use boxclock_core::timeline::arrange::{ArrangedRows, Arrangement};
use boxclock_core::work::Work;

use super::{Context, Then};
use crate::jobs::{Apply, Event};

/// How often the files are looked at.
const EVERY: Duration = Duration::from_millis(250);

/// Following files that grow; it ends when it is dropped.
pub struct Follow {
    is_held: Arc<AtomicBool>,
    /// Whether runs are folded: those of what has grown are then worked out before it is shown.
    fold: Arc<AtomicBool>,
    is_over: Arc<AtomicBool>,
    /// What has come meanwhile.
    pub behind: Behind,
}

impl Follow {
    /// Whether what comes is held back.
    pub fn is_held(&self) -> bool {
        self.is_held.load(Ordering::Relaxed)
    }

    /// Says whether runs are folded.
    pub fn set_fold(&self, fold: bool) {
        self.fold.store(fold, Ordering::Relaxed);
    }
}

impl Drop for Follow {
    fn drop(&mut self) {
        self.is_over.store(true, Ordering::Relaxed);
    }
}

impl Context {
    /// Follows the files of the case: looks now and then, and reads the case again when something has changed. What is there
    /// stays on the screen until the new table is whole.
    pub fn follow(&mut self, held: bool) {
        let follow = Follow {
            is_held: Arc::new(AtomicBool::new(held)),
            fold: Arc::new(AtomicBool::new(self.stream.arrangement.fold)),
            is_over: Arc::default(),
            behind: Behind::default(),
        };
        let (is_held, fold, is_over) =
            (Arc::clone(&follow.is_held), Arc::clone(&follow.fold), Arc::clone(&follow.is_over));
        let (mut follower, sender) = (Follower::new(&self.view.case), self.jobs.sender());
        let say = move |apply: Apply<Self>| sender.send(Event::Came(apply)).is_ok();
        self.follow = Some(follow);
        self.jobs.run(move || {
            let mut told = Behind::default();
            loop {
                std::thread::sleep(EVERY);
                if is_over.load(Ordering::Relaxed) {
                    break;
                }
                if is_held.load(Ordering::Relaxed) {
                    let Some(behind) = follower.behind() else { continue };
                    if behind != told && !say(Box::new(move |cx| cx.set_behind(behind))) {
                        break;
                    }
                    told = behind;
                    continue;
                }
                if !follower.has_changed() {
                    continue;
                }
                let work = Work::default();
                // What vanished in the middle of a rotation is there at the next look.
                let Ok(view) = follower.read(&work) else { continue };
                told = Behind::default();
                let how = Arrangement { fold: fold.load(Ordering::Relaxed), worst_first: false };
                let folded = how.fold.then(|| ArrangedRows::of(&view, None, how, &work).ok()).flatten();
                let behind = follower.behind().unwrap_or_default();
                let grown = move |cx: &mut Self| {
                    cx.take_grown(view, folded);
                    cx.set_behind(behind);
                };
                if !say(Box::new(grown)) {
                    break;
                }
            }
            Box::new(|_: &mut Self| {}) as Apply<Self>
        });
    }

    fn set_behind(&mut self, behind: Behind) {
        if let Some(follow) = &mut self.follow {
            follow.behind = behind;
        }
    }

    /// Holds back what comes, or lets it through.
    pub fn toggle_hold(&mut self) -> Then {
        let Some(follow) = &mut self.follow else {
            return Then::say("This case is not being followed. Open it with: boxclock open --follow");
        };
        follow.is_held.fetch_xor(true, Ordering::Relaxed);
        follow.behind = Behind::default();
        Then::Stay
    }

    /// Follows with what has been chosen meanwhile: zones, formats, clocks.
    pub fn follow_again(&mut self) {
        let Some(held) = self.follow.as_ref().map(Follow::is_held) else { return };
        match self.logbook.choices() {
            Ok(choices) => self.change_case(|case: &mut Case| case.options.choices = choices),
            Err(error) => self.fail(&error),
        }
        self.follow(held);
    }

    /// Takes the case as it has grown. At the last event, the view follows new events; elsewhere it stays where it is.
    fn take_grown(&mut self, view: CaseView, folded: Option<ArrangedRows>) {
        if self.follow.is_none() {
            return;
        }
        let at_end = self.stream.cursor + 1 >= self.row_count();
        self.stream.anchor = if at_end { None } else { self.chosen_key() };
        // A clock may have been corrected while this was being read.
        let view = if view.case.options.drift == *self.drift() {
            view
        } else {
            let mut case = (*view.case).clone();
            case.options.drift.clone_from(self.drift());
            let loaded = view.loaded.with_drift(&case.sources, &case.options.drift);
            CaseView::new(case, loaded)
        };
        self.reader = RecordReader::new(Arc::clone(&view.case.sources));
        self.stream.unfolded.clear();
        self.take_view(view, folded);
    }
}
