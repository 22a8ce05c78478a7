//! Taking events as they come, and going from one to another.

use std::path::PathBuf;
use std::sync::Arc;

use boxclock_core::analysis::{CaseView, EventKey, Pass, pass};
use boxclock_core::case::{Case, Loaded, Options};
use boxclock_core::clock::human;
use boxclock_core::clock::{DAY, SECOND};
use boxclock_core::event::{EventRef, RecordReader, Row};
use boxclock_core::gather::DiskUse;
use boxclock_core::logbook::Logbook;
use boxclock_core::pattern::PatternAnalysis;
use boxclock_core::query::values::ValueAnalysis;
use boxclock_core::summaries::SummaryAnalysis;
use boxclock_core::timeline::arrange::ArrangedRows;
use boxclock_core::timeline::drift::ClockAnalysis;
use boxclock_core::timeline::marks::MarkAnalysis;
use boxclock_core::work::Work;
use boxclock_core::{Error, Result};

use super::{Context, Menu, Place, STREAM, Then, item};
use crate::jobs::{ANALYSES, Apply, HITS};

impl Context {
    /// Takes what has been read of the case.
    pub fn take_loaded(&mut self, number: u64, loaded: Loaded) {
        if self.jobs.is_loading(number) {
            let view = CaseView::new(Arc::clone(&self.view.case), loaded);
            self.take_view(view, None);
        }
    }

    /// Takes new events: what is derived from the old ones is worked out anew, the chosen event stays chosen. `rows` are the
    /// arranged rows of the new ones, where they are known already.
    pub fn take_view(&mut self, view: CaseView, rows: Option<ArrangedRows>) {
        // What was worked out for the old table does not fit the new one, whose rows have other numbers.
        self.jobs.cancel(HITS);
        self.stream.hits = None;
        self.stream.walk_places = None;
        self.stream.inks.iter_mut().flatten().for_each(|ink| ink.rows = None);
        self.rail.asked = None;
        self.known = None;
        self.view = view;
        let is_all = self.stream.filter_text.is_empty() && !self.stream.arrangement.worst_first;
        self.stream.rows = rows.filter(|_| self.stream.arrangement.fold && is_all).unwrap_or_default();
        if self.stream.anchor.is_none() {
            // People start at the end and read upwards; events without time are behind it.
            self.stream.cursor = self.place_of_time(i64::MAX).saturating_sub(1);
        } else {
            self.follow_anchor();
        }
        self.refresh();
        if self.view.loaded.complete {
            self.start_analyses();
            self.look_for_known();
            self.look_for_inks();
        }
        self.ask_for_rows();
    }

    /// Works out what is shown of every whole case: what has to be read is read once for all.
    fn start_analyses(&mut self) {
        self.start(ANALYSES, |view, work| {
            view.run(&ValueAnalysis, work)?;
            let passes: [&dyn Pass; 4] =
                [&pass(&PatternAnalysis), &pass(&MarkAnalysis), &pass(&ClockAnalysis), &pass(&SummaryAnalysis)];
            view.run_together(&passes, work)?;
            view.run(&PatternAnalysis, work)?;
            view.run(&SummaryAnalysis, work)?;
            view.run(&MarkAnalysis, work)?;
            view.run(&ClockAnalysis, work)?;
            Ok(Box::new(|cx: &mut Self| {
                // The pane says how often the chosen pattern is, the Box view which clocks seem wrong.
                cx.pane.detail = None;
                cx.state += 1;
            }) as Apply<Self>)
        });
    }

    /// Puts the case, opened again, in the place of the old one, and reads it.
    pub fn replace(&mut self, mut case: Case) {
        case.options.drift.clone_from(self.drift());
        self.reader = RecordReader::new(Arc::clone(&case.sources));
        // Rows and sources of the old table mean nothing in the new one.
        self.jobs.cancel_all();
        self.known = None;
        self.view = CaseView::new(case, Loaded::default());
        self.stream.unfolded.clear();
        self.stream.lines.clear();
        self.stream.rows = ArrangedRows::default();
        (self.stream.anchor, self.stream.hits, self.stream.cursor, self.stream.top) = (None, None, 0, 0);
        (self.rail.density, self.rail.asked, self.rail.overlay) = (None, None, None);
        self.sources.clear();
        self.back.clear();
        self.refresh();
        self.load();
    }

    /// Opens the case again, with what has been chosen; it takes the place of this one when it is there.
    pub fn reopen(&mut self) -> Result<()> {
        let mut options = self.view.case.options.clone();
        options.choices = self.logbook.choices()?;
        let paths = self.view.case.paths.clone();
        self.message = Some("Reading the case again …".into());
        self.jobs.run(move || {
            let opened = Case::open(&paths, options, &Work::default());
            Box::new(move |cx: &mut Self| match opened {
                Ok(case) => {
                    cx.replace(case);
                    cx.follow_again();
                    cx.message = Some("The case was read again.".into());
                }
                Err(error) => cx.fail(&error),
            }) as Apply<Self>
        });
        Ok(())
    }

    /// Opens the folders of the case as one host each; they take its place when they are read.
    pub fn open_as_hosts(&mut self) -> Then {
        if self.host_folders.is_empty() {
            return Then::say("This case is not a folder with one folder for each host.");
        }
        let mut options = Options { hosts: self.host_folders.clone(), ..self.view.case.options.clone() };
        options.choices.clear();
        self.jobs.run(move || {
            let opened = Case::open(&[], options, &Work::default());
            Box::new(|cx: &mut Self| match opened {
                Ok(case) => cx.replacement = Some(case),
                Err(error) => cx.fail(&error),
            }) as Apply<Self>
        });
        Then::say("Opening each folder as a host …")
    }

    /// Opens another case; it takes the place of this one when it is there.
    pub fn open_next(&self, path: PathBuf, disk: DiskUse) {
        self.jobs.run(move || {
            let options = Options { disk, ..Options::default() };
            let opened = Case::open(std::slice::from_ref(&path), options, &Work::default()).and_then(|mut case| {
                if let Some(logbook) = &case.logbook_path {
                    case.options.remembered(&Logbook::open(logbook)?)?;
                }
                Ok(case)
            });
            Box::new(move |cx: &mut Self| match opened {
                Ok(case) => cx.replacement = Some(case),
                Err(error) if error.room_is_a_question() => cx.question = Some(room_menu(&error, path)),
                Err(error) => cx.fail(&error),
            }) as Apply<Self>
        });
    }

    /// How many rows the Stream has.
    pub fn row_count(&self) -> usize {
        self.stream.rows.rows.as_ref().map_or(self.view.loaded.table.order.len(), |rows| rows.len())
    }

    /// The row at a place of the Stream.
    pub fn row_at(&self, place: usize) -> Option<Row> {
        let rows = self.stream.rows.rows.as_ref().map_or(&*self.view.loaded.table.order, |rows| rows.as_slice());
        rows.get(place).map(|row| Row(*row))
    }

    /// The chosen event.
    pub fn chosen(&self) -> Option<EventRef<'_>> {
        self.row_at(self.stream.cursor).map(|row| self.event(row))
    }

    /// The key of the chosen event.
    pub fn chosen_key(&self) -> Option<EventKey> {
        self.chosen().map(|event| self.view.key(event))
    }

    /// The first place of the Stream whose time is not before `utc_ns`.
    pub fn place_of_time(&self, utc_ns: i64) -> usize {
        let table = &self.view.loaded.table;
        let time = |row: &u32| table.event(Row(*row)).order_time();
        match &self.stream.rows.rows {
            None => table.place_of_time(utc_ns),
            // The worst first: no order of time to search in.
            Some(rows) if self.stream.rows.worst_first => {
                rows.iter().position(|row| time(row) >= utc_ns).unwrap_or(rows.len())
            }
            Some(rows) => rows.partition_point(|row| time(row) < utc_ns),
        }
    }

    /// The place of a row in the Stream, or the nearest one after it.
    pub fn place_of_row(&self, row: Row) -> usize {
        let event = self.event(row);
        let near = self.place_of_time(event.order_time());
        let ahead = (near..self.row_count()).take(10_000).find(|place| self.row_at(*place) == Some(row));
        let anywhere = || {
            let rows = self.stream.rows.rows.as_ref().map_or(&*self.view.loaded.table.order, |rows| rows.as_slice());
            rows.iter().position(|other| *other == row.0)
        };
        let disordered = event.is_disordered() || self.stream.rows.worst_first;
        ahead.or_else(|| if disordered { anywhere() } else { None }).unwrap_or(near)
    }

    /// Puts the cursor on the remembered event, or where it would stand.
    pub fn follow_anchor(&mut self) {
        if let Some(row) = self.stream.anchor.as_ref().and_then(|key| self.view.row(key)) {
            self.stream.cursor = self.place_of_row(row).min(self.row_count().saturating_sub(1));
        }
    }

    /// Remembers the chosen event by its place in its file, which stays when rows are numbered anew.
    pub fn remember(&mut self) {
        self.stream.anchor = self.chosen_key();
    }

    /// Moves the cursor of the Stream.
    pub fn go(&mut self, place: usize) {
        self.stream.cursor = place.min(self.row_count().saturating_sub(1));
        self.remember();
        self.follow_window();
        self.look_at_chosen();
    }

    /// While a case is read, what is looked at is read first.
    pub fn look_at_chosen(&self) {
        if !self.view.loaded.complete
            && let Some(time) = self.chosen().and_then(|event| event.time())
        {
            self.jobs.look_at(time);
        }
    }

    /// Moves the rail's window along when the cursor leaves it.
    fn follow_window(&mut self) {
        let time = self.chosen().and_then(|event| event.time());
        let (Some((from, to)), Some(time)) = (self.rail.window, time) else { return };
        if time < from || time > to {
            let half = to.saturating_sub(from) / 2;
            self.rail.window = Some((time.saturating_sub(half), time.saturating_add(half)));
        }
    }

    /// The window that is a quarter of the one now, or four times as wide, around the chosen event. `None` is the whole span.
    pub fn scaled_window(&self, narrower: bool) -> Option<(i64, i64)> {
        let (whole, (from, to)) = (self.span()?, self.rail_span()?);
        let centre = self.chosen().and_then(|event| event.time()).unwrap_or(from / 2 + to / 2);
        let width = to.saturating_sub(from);
        let width = if narrower { (width / 4).max(SECOND / 100) } else { width.saturating_mul(4) };
        if width >= whole.1.saturating_sub(whole.0) {
            return None;
        }
        let half = width / 2;
        Some((centre.saturating_sub(half), centre.saturating_add(half)))
    }

    /// Moves the rail's window by half its width.
    pub fn shift_window(&mut self, later: bool) -> Then {
        let Some((from, to)) = self.rail.window else {
            return Then::say("The rail shows the whole span; + narrows it.");
        };
        let half = to.saturating_sub(from) / 2;
        let by = if later { half } else { -half };
        let centre = from.saturating_add(by).saturating_add(half);
        self.rail.window = Some((from.saturating_add(by), to.saturating_add(by)));
        self.stream.cursor = self.place_of_time(centre).min(self.row_count().saturating_sub(1));
        self.remember();
        Then::Stay
    }

    /// Where we are.
    fn place(&self) -> Place {
        Place { view: self.at, event: self.chosen_key(), filter: None }
    }

    /// Remembers where we are before a jump.
    pub fn note_jump(&mut self) {
        let here = self.place();
        // The same place once, with the filter if either had one.
        if self.back.last().is_none_or(|last| (last.view, &last.event) != (here.view, &here.event)) {
            self.back.push(here);
        }
    }

    /// Remembers where we are before a jump that puts another filter into force: the way back brings this one back.
    pub fn note_jump_with_filter(&mut self) {
        self.note_jump();
        if let Some(last) = self.back.last_mut() {
            last.filter = Some(self.stream.filter_text.clone());
        }
    }

    /// Goes to an event in the Stream, from anywhere. A filter that hides it is taken away, and that is said.
    pub fn jump_to_row(&mut self, row: Row) {
        self.note_jump();
        self.at = STREAM;
        let place = self.place_of_row(row);
        if self.row_at(place) == Some(row) {
            self.go(place);
            return;
        }
        self.stream.anchor = Some(self.view.key(self.event(row)));
        if self.stream.arrangement.fold {
            self.stream.arrangement.fold = false;
            self.ask_for_rows();
            self.message = Some("Runs are unfolded: this event was inside one.".into());
            return;
        }
        self.message = Some(format!(
            "The filter hid this event and was removed: {}   Backspace brings it back.",
            self.stream.filter_text
        ));
        if let Some(last) = self.back.last_mut() {
            last.filter = Some(self.stream.filter_text.clone());
        }
        // An empty filter is good.
        let _ = self.set_filter("");
        self.stream.rows = ArrangedRows::default();
        self.stream.cursor = self.place_of_row(row);
    }

    /// Goes to where a time leads.
    ///
    /// # Errors
    /// When the text is no time.
    pub fn go_to_time(&mut self, text: &str) -> Result<Then> {
        let time = self.typed_time(text)?;
        self.note_jump();
        self.jobs.look_at(time);
        self.go(self.place_of_time(time));
        Ok(Then::Stay)
    }

    /// Where a typed time leads: a time of day is meant on the day nearest to the chosen event on which it is in the case; words
    /// such as `yesterday 7:20` are meant as of the end of the case.
    fn typed_time(&self, text: &str) -> Result<i64> {
        let (first, last) = self.span().unwrap_or_default();
        let here = self.chosen().and_then(|event| event.time()).unwrap_or(first);
        let Ok(typed) = human::time(text, &self.zone) else { return human::moment(text, &self.zone, last) };
        let days = [0, -DAY, DAY].map(|shift| typed.near(here.saturating_add(shift), &self.zone));
        let inside = days.into_iter().filter(|time| (first..=last).contains(time));
        Ok(inside.min_by_key(|time| time.abs_diff(here)).unwrap_or(days[0]))
    }

    /// Back to where one jumped from, or forward again.
    pub fn jump_back(&mut self, forward: bool) -> Then {
        let from = if forward { &mut self.forward } else { &mut self.back };
        let Some(to) = from.pop() else {
            return Then::say(if forward { "There is no jump to repeat." } else { "This is where you started." });
        };
        let now = &self.stream.filter_text;
        let other = to.filter.filter(|filter| filter != now);
        let here = Place { filter: other.as_ref().map(|_| now.clone()), ..self.place() };
        if forward {
            self.back.push(here);
        } else {
            self.forward.push(here);
        }
        if let Some(filter) = other {
            // The rows come later: the event is where they are then.
            self.stream.anchor.clone_from(&to.event);
            if let Err(error) = self.set_filter(&filter) {
                self.fail(&error);
            }
        } else if let Some(row) = to.event.as_ref().and_then(|key| self.view.row(key)) {
            self.go(self.place_of_row(row));
        }
        Then::Show(to.view)
    }
}

/// Asks whether a box may take more of the disk than its share.
pub fn room_menu(error: &Error, path: PathBuf) -> Then {
    let unpack = item("unpack it anyway", move |cx: &mut Context| {
        cx.open_next(path.clone(), DiskUse::All);
        Ok(Then::say(format!("Opening {} …", path.display())))
    });
    Menu::offer(&error.to_string(), vec![item("do not open it", |_| Ok(Then::Stay)), unpack], "")
}
