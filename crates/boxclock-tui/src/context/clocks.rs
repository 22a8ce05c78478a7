//! Clocks, zones, and how sources are read.

use std::sync::Arc;

use boxclock_core::analysis::CaseView;
use boxclock_core::case::{Choice, ZoneFrom};
use boxclock_core::clock::{ClockCorrection, DateOrder, Zone, human};
use boxclock_core::text::Encoding;
use boxclock_core::{Error, Result, format};

use super::{Context, Question, Then};
use crate::jobs::{Apply, CLOCKS};

impl Context {
    /// Asks for the correction of the clock of a host or source.
    pub fn ask_for_clock(&self, name: &str) -> Then {
        let now = self.drift().get(name).map_or(String::new(), |drift| human::drift_text(*drift));
        let of = name.to_owned();
        let label = format!("add to the clock of {name}");
        let help = "-6m41s if it is fast, +90s if it is slow, 0 to show times as written";
        Then::Ask(Question::new(label, help, now, move |cx, text| {
            let none = text.trim().is_empty() || text.trim() == "0";
            let drift = if none { ClockCorrection::default() } else { human::drift(text)? };
            cx.correct_clock(&of, drift)
        }))
    }

    /// Corrects the clock of a host or source, and notes how to take that back.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn correct_clock(&mut self, name: &str, drift: ClockCorrection) -> Result<Then> {
        let before = self.drift().get(name).copied().unwrap_or_default();
        self.set_clock(name, drift)?;
        let of = name.to_owned();
        self.note_undo(format!("clock of {name}"), move |cx| cx.set_clock(&of, before));
        Ok(Then::say(if drift.is_none() {
            format!("{name}: times are shown as written.")
        } else {
            format!("{name}: {} is added to every time.", human::drift_text(drift))
        }))
    }

    fn set_clock(&mut self, name: &str, drift: ClockCorrection) -> Result<()> {
        self.logbook.set_drift(name, drift)?;
        self.change_case(|case| {
            if drift.is_none() {
                case.options.drift.remove(name);
            } else {
                case.options.drift.insert(name.to_owned(), drift);
            }
        });
        self.start(CLOCKS, |view, _| {
            let loaded = view.loaded.with_drift(&view.case.sources, &view.case.options.drift);
            let view = CaseView::new(Arc::clone(&view.case), loaded);
            Ok(Box::new(|cx: &mut Self| cx.take_corrected(view)) as Apply<Self>)
        });
        self.follow_again();
        Ok(())
    }

    /// Takes the same events on other clocks; what text says of them stays known.
    fn take_corrected(&mut self, view: CaseView) {
        self.remember();
        self.take_view(view, None);
    }

    /// The files of a source, by their places in the case: a choice holds for all of its generations.
    fn files_of(&self, source: &str) -> Vec<usize> {
        let row = self.sources.iter().find(|row| row.source == source);
        row.map_or(Vec::new(), |row| row.members.clone().collect())
    }

    /// States (or, with an empty text, takes back) the zone of a source, and puts its events in their new places.
    ///
    /// # Errors
    /// When the text is no zone, or the logbook cannot be written.
    pub fn set_source_zone(&mut self, source: &str, text: &str) -> Result<Then> {
        let text = text.trim();
        if text.is_empty() {
            return self.choose(source, "zone", "");
        }
        let zone = Zone::parse(text)?;
        let before = self.remember_choice(source, "zone", zone.name())?;
        let members = self.files_of(source);
        let mut sources = (*self.view.case.sources).clone();
        for index in &members {
            (sources[*index].zone, sources[*index].zone_from) = (zone.clone(), ZoneFrom::User);
        }
        let choices = self.logbook.choices()?;
        let old = Arc::clone(&self.view.case.sources);
        self.change_case(|case| {
            case.sources = Arc::new(sources);
            case.options.choices = choices;
        });
        self.start(CLOCKS, move |view, _| {
            let (new, drift) = (&view.case.sources, &view.case.options.drift);
            let loaded = view.loaded.with_zones(&old, new, &members, drift);
            let view = CaseView::new(Arc::clone(&view.case), loaded);
            Ok(Box::new(|cx: &mut Self| cx.take_corrected(view)) as Apply<Self>)
        });
        self.follow_again();
        let of = source.to_owned();
        self.note_undo(format!("zone of {source}"), move |cx| cx.set_source_zone(&of, &before).map(|_| ()));
        Ok(Then::say(format!("{source}: times without a zone are read in {}.", zone.name())))
    }

    /// Reads a source in the format, encoding or order of dates that the text names; an empty text leaves all to be detected.
    ///
    /// # Errors
    /// When the text is none of these, or the logbook cannot be written.
    pub fn read_source_as(&mut self, source: &str, text: &str) -> Result<Then> {
        let text = text.trim();
        if text.is_empty() {
            for what in ["format", "encoding", "dates"] {
                self.remember_choice(source, what, "")?;
            }
            self.reopen()?;
            return Ok(Then::Stay);
        }
        let what = if format::by_name(text, &self.view.case.formats).is_some() {
            "format"
        } else if Encoding::parse(text).is_some() {
            "encoding"
        } else if DateOrder::parse(text).is_some() {
            "dates"
        } else {
            return Err(Error::new(format!("\"{text}\" is not a known format, encoding or order of dates.")));
        };
        self.choose(source, what, text)
    }

    /// Remembers a choice and reads the case again.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn choose(&mut self, source: &str, what: &'static str, value: &str) -> Result<Then> {
        let before = self.remember_choice(source, what, value)?;
        let of = source.to_owned();
        self.note_undo(format!("{what} of {source}"), move |cx| cx.choose(&of, what, &before).map(|_| ()));
        self.reopen()?;
        Ok(Then::Stay)
    }

    /// Writes a choice into the logbook for all files of a source; gives what it was before.
    fn remember_choice(&self, source: &str, what: &str, value: &str) -> Result<String> {
        let choices = self.logbook.choices()?;
        let before = choices.get(source).map_or(String::new(), |choice| written(choice, what));
        for index in self.files_of(source) {
            self.logbook.set_choice(&self.view.case.sources[index].name, what, value)?;
        }
        Ok(before)
    }

    /// Takes one more password for archives and reads the case again. It is kept in memory only.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn add_password(&mut self, password: &str) -> Result<Then> {
        self.change_case(|case| case.options.passwords.push(password.to_owned()));
        self.reopen()?;
        Ok(Then::Stay)
    }

    /// Shows times in another zone; an empty text means that of the case.
    ///
    /// # Errors
    /// When it is no zone.
    pub fn show_zone(&mut self, text: &str) -> Result<Then> {
        self.zone = if text.trim().is_empty() { self.view.case.zone.clone() } else { Zone::parse(text.trim())? };
        self.pane.detail = None;
        Ok(Then::Stay)
    }
}

fn written(choice: &Choice, what: &str) -> String {
    let text = match what {
        "format" => choice.format.clone(),
        "zone" => choice.zone.as_ref().map(|zone| zone.name().to_owned()),
        "encoding" => choice.encoding.map(|encoding| encoding.name().to_owned()),
        "host" => choice.host.clone(),
        _ => choice.dates.map(|dates| dates.name().to_owned()),
    };
    text.unwrap_or_default()
}
