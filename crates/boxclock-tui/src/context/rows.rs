//! The rows of the Stream: asking for those that pass the filter, for hits, problems, inks.

use std::sync::Arc;

use boxclock_core::query::{Filter, Lenses};
use boxclock_core::timeline::arrange::{ArrangedRows, places_in};
use boxclock_core::{Error, Result};

use super::{Context, Then};
use crate::jobs::{Apply, HITS, ROWS};
use crate::stream::{INKS, Ink, parse_ink};

impl Context {
    /// Works out the rows that pass the filter in force, arranged.
    pub fn ask_for_rows(&mut self) {
        let filter = self.stream.filter.clone().filter(|filter| !filter.is_empty());
        let filter = filter.map(|filter| filter.with_pins(self.pinned.keys().copied()));
        let how = self.stream.arrangement;
        self.stream.walk_places = None;
        self.start(ROWS, move |view, work| {
            let passed = match filter {
                Some(filter) => Some(Arc::new(filter.rows_in_order(view, work)?)),
                None => None,
            };
            let rows = ArrangedRows::of(view, passed, how, work)?;
            Ok(Box::new(|cx: &mut Self| cx.take_rows(rows)) as Apply<Self>)
        });
    }

    fn take_rows(&mut self, rows: ArrangedRows) {
        let chosen = self.chosen().map(|event| event.row);
        self.stream.rows = rows;
        match chosen {
            _ if std::mem::take(&mut self.stream.to_first) => self.stream.cursor = 0,
            _ if self.stream.anchor.is_some() => self.follow_anchor(),
            Some(row) => self.stream.cursor = self.place_of_row(row).min(self.row_count().saturating_sub(1)),
            None => self.stream.cursor = 0,
        }
        self.pane.detail = None;
        self.rail.overlay_is_old = true;
        self.ask_for_hits();
    }

    /// Looks for the hits of what is looked for among the rows.
    pub fn ask_for_hits(&mut self) {
        self.stream.hits = None;
        let Some(find) = self.stream.find.clone() else { return };
        let rows = self.stream.rows.rows.clone();
        self.start(HITS, move |view, work| {
            let found = find.rows(view, work)?;
            let rows = rows.as_ref().map_or(&*view.loaded.table.order, |rows| rows.as_slice());
            let hits = Arc::new(places_in(rows, &found));
            Ok(Box::new(|cx: &mut Self| cx.take_hits(hits)) as Apply<Self>)
        });
    }

    fn take_hits(&mut self, hits: Arc<Vec<u32>>) {
        self.stream.hits = Some(hits);
        if let Some((back, inclusive)) = self.stream.find_moves.take() {
            self.message = self.go_to_hit(self.stream.find_from, back, inclusive);
        }
    }

    /// Looks for a text or regular expression from the chosen event on.
    pub fn look_for(&mut self, text: &str) {
        text.clone_into(&mut self.stream.find_text);
        self.stop_looking();
        if text.is_empty() || text == "/" {
            return;
        }
        match Filter::find(text) {
            Ok(find) => {
                self.stream.find = Some(find);
                // People start at the end and read upwards: the nearest hit above is where the eye goes.
                self.stream.find_moves = Some((true, true));
                self.ask_for_hits();
            }
            Err(error) => self.message = Some(error.message),
        }
    }

    /// Nothing is looked for any more.
    pub fn stop_looking(&mut self) {
        (self.stream.find, self.stream.hits) = (None, None);
        self.jobs.cancel(HITS);
    }

    /// Goes to the next hit after (or before) a place; `inclusive` lets the place itself count. Gives what is to be said.
    pub fn go_to_hit(&mut self, from: usize, back: bool, inclusive: bool) -> Option<String> {
        if self.stream.find.is_none() {
            // Esc took the marks away, not the text.
            let text = std::mem::take(&mut self.stream.find_text);
            if text.is_empty() {
                return Some("Nothing to find yet. / finds text.".into());
            }
            self.stream.find_from = self.stream.cursor;
            self.look_for(&text);
            self.stream.find_moves = Some((back, false));
            return None;
        }
        let Some(hits) = self.stream.hits.clone() else { return Some("Still searching …".into()) };
        let from = from as u32;
        let found = if back {
            hits[..hits.partition_point(|hit| if inclusive { *hit <= from } else { *hit < from })].last()
        } else {
            hits.get(hits.partition_point(|hit| if inclusive { *hit < from } else { *hit <= from }))
        };
        // Past the end the search goes on at the other end, and says so.
        let (found, wrapped) = match found {
            Some(found) => (Some(*found), false),
            None => (if back { hits.last() } else { hits.first() }.copied(), true),
        };
        let Some(place) = found else { return Some(format!("Not found: {}", self.stream.find_text)) };
        if !inclusive {
            self.note_jump();
        }
        self.go(place as usize);
        wrapped.then(|| format!("Continued from the {}.", if back { "end" } else { "start" }))
    }

    /// Goes to the next problem, or the one before.
    pub fn go_to_problem(&mut self, back: bool) -> Then {
        let problems = &self.stream.rows.problems;
        let here = self.stream.cursor as u32;
        let found = if back {
            problems[..problems.partition_point(|place| *place < here)].last()
        } else {
            problems.get(problems.partition_point(|place| *place <= here))
        };
        match found.copied() {
            Some(place) => {
                self.note_jump();
                self.go(place as usize);
                Then::Stay
            }
            None => Then::say(format!("No problem {} this event.", if back { "above" } else { "below" })),
        }
    }

    /// Folds runs of the same pattern into one line, or opens them.
    pub fn toggle_fold(&mut self) -> Then {
        self.stream.arrangement.fold = !self.stream.arrangement.fold;
        if let Some(follow) = &self.follow {
            follow.set_fold(self.stream.arrangement.fold);
        }
        self.remember();
        self.ask_for_rows();
        Then::Stay
    }

    /// Shows the worst first, or the order of time.
    pub fn toggle_worst_first(&mut self) -> Then {
        let worst_first = !self.stream.arrangement.worst_first;
        self.stream.arrangement.worst_first = worst_first;
        if worst_first {
            self.stream.anchor = None;
            self.stream.to_first = true;
        } else {
            self.remember();
        }
        self.ask_for_rows();
        if worst_first { Then::say("Sorted worst first; o sorts by time again.") } else { Then::Stay }
    }

    /// Reads inks and lenses from the logbook.
    pub fn load_inks_and_lenses(&mut self) {
        match self.logbook.inks() {
            Ok(inks) => {
                let own = self.catalogues();
                for (place, text) in inks {
                    if let (Some(slot), Ok(filter)) =
                        (self.stream.inks.get_mut(usize::from(place)), parse_ink(&text, &self.zone, &own))
                    {
                        *slot = Some(Ink { text, filter, rows: None });
                    }
                }
            }
            Err(error) => self.fail(&error),
        }
        let mut lenses = Lenses::load(&self.catalogues());
        match self.logbook.lenses() {
            Ok(own) => own.into_iter().for_each(|lens| lenses.add(lens)),
            Err(error) => self.fail(&error),
        }
        if let Some((file, mistake)) = lenses.wrong.first() {
            self.message = Some(format!("{file}: {mistake}"));
        }
        self.stream.lenses = lenses.good;
    }

    /// Looks for the rows of all inks.
    pub fn look_for_inks(&mut self) {
        (0..INKS).for_each(|place| self.look_for_ink(place));
    }

    fn look_for_ink(&mut self, place: usize) {
        self.rail.overlay_is_old = true;
        let Some(filter) = self.stream.inks.get(place).and_then(Option::as_ref).map(|ink| ink.filter.clone()) else {
            return;
        };
        self.start(("ink", place), move |view, work| {
            let rows = Arc::new(filter.rows(view, work)?);
            Ok(Box::new(move |cx: &mut Self| {
                if let Some(Some(ink)) = cx.stream.inks.get_mut(place) {
                    ink.rows = Some(rows);
                }
                cx.rail.overlay_is_old = true;
            }) as Apply<Self>)
        });
    }

    /// Sets an ink, or with an empty text takes it away.
    ///
    /// # Errors
    /// When its text is wrong, or the logbook cannot be written.
    pub fn set_ink(&mut self, place: usize, text: &str) -> Result<()> {
        let text = text.trim();
        let ink = match text {
            "" => None,
            _ => Some(Ink {
                text: text.to_owned(),
                filter: parse_ink(text, &self.zone, &self.catalogues())?,
                rows: None,
            }),
        };
        self.logbook.set_ink(place as u8, text)?;
        let before = std::mem::replace(&mut self.stream.inks[place], ink);
        let before = before.map_or(String::new(), |ink| ink.text);
        self.note_undo(format!("ink {}", place + 1), move |cx| cx.set_ink(place, &before));
        self.look_for_ink(place);
        Ok(())
    }

    /// Sets a lens of the case, or with an empty filter forgets it.
    ///
    /// # Errors
    /// When the name is empty, or the logbook cannot be written.
    pub fn set_lens(&mut self, name: &str, filter: &str) -> Result<()> {
        if name.is_empty() {
            return Err(Error::new("A lens needs a name."));
        }
        let before = self.logbook.lenses()?.into_iter().find(|lens| lens.name == name);
        let before = before.map_or(String::new(), |lens| lens.filter);
        self.logbook.set_lens(name, filter)?;
        let of_name = name.to_owned();
        self.note_undo(format!("lens {name}"), move |cx| cx.set_lens(&of_name, &before));
        let mut lenses = Lenses::load(&self.catalogues());
        self.logbook.lenses()?.into_iter().for_each(|lens| lenses.add(lens));
        self.stream.lenses = lenses.good;
        Ok(())
    }
}
