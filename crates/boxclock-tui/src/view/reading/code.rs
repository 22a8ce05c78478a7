//! What the reading pane says of a code.

use boxclock_core::clock::human::date_time;
use boxclock_core::code::reading::other_forms;
use boxclock_core::code::{Code, Family, Form, Reading, catalogue};
use boxclock_core::event::EventRef;
use boxclock_core::report::codes::{CodeCount, Relative};
use ratatui::text::Line;

use super::super::text::{cut, grouped, many};
use super::Pane;
use crate::app::Step;

/// Relatives that are shown.
const MOST_RELATIVES: usize = 6;

impl Pane<'_> {
    /// A code in short: what it means and what to look at.
    pub(super) fn code(&mut self, reading: &Reading, full: bool) {
        let name = reading.name.filter(|name| *name != reading.code.written());
        let name = name.unwrap_or(if reading.known { "" } else { "no name known" });
        self.heading(&format!("{} {name}", reading.code.written()));
        // The shape of a full 32 bits says it by itself.
        if full || reading.code.family.form() == Form::Decimal {
            self.facts("family", reading.code.family.title());
        }
        self.facts("means", &format!("{} ({})", reading.meaning.trim_end_matches('.'), reading.outcome.words()));
        self.facts("causes", reading.causes);
        self.facts("look at", reading.check);
        if let Some(place) = reading.user {
            // Where it lies is long; which one it is stands at the end.
            let name = place.rsplit(['/', '\\']).next().unwrap_or(place);
            self.facts("from", &format!("catalogue {name}"));
        }
    }

    /// The codes of the chosen event.
    pub(super) fn codes_of(&mut self, event: EventRef<'_>) {
        let codes: std::collections::BTreeSet<Code> = event.codes().collect();
        for code in &codes {
            self.code(&code.reading(), false);
        }
        if codes.iter().any(|code| code.family.form() == Form::Decimal) {
            self.facts("", "r: another family of codes");
        }
    }

    /// Why a line that was not logged as a problem is one.
    pub(super) fn lifted(event: EventRef<'_>) -> Option<String> {
        let code = event.lifted_by()?;
        Some(format!("counts as a problem: it carries the failure {} (! switches that)", code.written()))
    }

    /// The chosen code of the Codes view: all that is known of it, and what the case has of it.
    pub(super) fn code_in_case(&mut self) {
        let app = self.app;
        let Some(row) = app.codes.list.get(app.list_cursor(Step::Codes)) else { return };
        self.code(&row.code.reading(), true);
        self.other_writings(row.code);
        self.stop_parameters(row.code);
        self.heading("in this case");
        self.found(row);
        self.relatives(row.code);
    }

    fn other_writings(&mut self, code: Code) {
        let signed = code.number.cast_signed();
        let text = match code.family.form() {
            Form::Hex if signed < 0 => format!("{signed}, {}", code.number),
            Form::Hex => code.number.to_string(),
            Form::Decimal if code.number > 9 => format!("0x{:X}", code.number),
            _ => String::new(),
        };
        self.facts("also", &text);
        for (other, words) in other_forms(code) {
            let name = other.reading().name.unwrap_or_default();
            let of_case = self.app.codes.of(other);
            let seen = of_case.map_or(String::new(), |row| format!(": {} here", many(row.count, "event")));
            self.facts(words, &format!("{} {name}{seen}", other.written()));
        }
    }

    fn stop_parameters(&mut self, code: Code) {
        if code.family == Family::Stop
            && let Some(parameters) = catalogue::stop_parameters(code.number)
        {
            for (number, text) in (1..).zip(parameters) {
                self.facts(&format!("param {number}"), text);
            }
        }
    }

    fn found(&mut self, row: &CodeCount) {
        let zone = &self.app.zone;
        self.facts("events", &format!("{}; Enter shows them", grouped(row.count)));
        if let Some((first, last)) = row.span {
            self.facts("first", &date_time(first, zone));
            if last > first {
                self.facts("last", &date_time(last, zone));
            }
        }
        let hosts: Vec<String> = row.hosts.iter().map(|(host, count)| format!("{host} {}", grouped(*count))).collect();
        self.facts("on", &hosts.join(", "));
        self.facts("sources", &row.sources.len().to_string());
        if row.code.family.form() != Form::Name {
            self.facts("", "r: another family");
        }
    }

    fn relatives(&mut self, code: Code) {
        let codes = &self.app.codes;
        let Some(near) = codes.relatives.as_ref().filter(|_| codes.relatives_asked == Some(code)) else {
            self.heading("near it");
            return self.paragraph("looking …", self.app.theme.faint());
        };
        self.near("up to a minute before it", near, |relative| relative.before);
        self.near("up to a minute after it", near, |relative| relative.after);
    }

    fn near(&mut self, title: &str, all: &[Relative], count: fn(&Relative) -> u64) {
        let mut list: Vec<&Relative> = all.iter().filter(|relative| count(relative) > 0).collect();
        list.sort_by_key(|relative| (relative.nearness(count(relative)), relative.code));
        if list.is_empty() {
            return;
        }
        self.heading(title);
        for relative in list.iter().take(MOST_RELATIVES) {
            let reading = relative.code.reading();
            let words = if reading.gloss.is_empty() { reading.name.unwrap_or("") } else { &reading.gloss };
            let of = format!("{} of {}", grouped(count(relative)), grouped(relative.total));
            let text = format!("{of:>11}  {} {words}", relative.code.written());
            self.lines.push(Line::raw(format!(" {}", cut(&text, self.width.saturating_sub(1)))));
        }
        if list.len() > MOST_RELATIVES {
            self.paragraph(&format!("and {} more", list.len() - MOST_RELATIVES), self.app.theme.faint());
        }
    }
}
