//! Codes: their events, the family that a person chose for one, and whether failures escalate lines.

use boxclock_core::Result;
use boxclock_core::analysis::{CaseView, EventKey};
use boxclock_core::case::CodeChoice;
use boxclock_core::code::rank::candidates;
use boxclock_core::code::{Code, Family};
use boxclock_core::event::EventRef;
use boxclock_core::query::values::quoted;
use boxclock_core::report::codes::{CodeAnalysis, CodeCount, clues};
use std::sync::Arc;

use super::{Context, Menu, STREAM, Then, item};

impl Context {
    /// The codes of the case, counted over its whole span, if they are known.
    pub fn known_codes(&self) -> Option<Arc<Vec<CodeCount>>> {
        self.view.known(&CodeAnalysis::default())
    }

    /// Shows the events of a code: a filter, and its first event.
    ///
    /// # Errors
    /// When the filter cannot be read.
    pub fn show_code(&mut self, code: Code) -> Result<Then> {
        let Some(codes) = self.known_codes() else {
            return Ok(Then::say("Code counts are being refreshed. Try again in a moment."));
        };
        let Some(first) = codes.iter().find(|row| row.code == code).map(|row| row.first_row) else {
            return Ok(Then::say(format!("{} does not occur in this case.", code.written(&self.catalogues()))));
        };
        self.note_jump_with_filter();
        self.set_filter(&format!("code={}", quoted(&code.filter_value(&self.catalogues()))))?;
        // The rows come later, and are gone to then.
        (self.at, self.stream.anchor) = (STREAM, Some(self.view.key(self.event(first))));
        Ok(Then::say(format!(
            "Only events with {}; F shows all, Backspace goes back to the filter before.",
            code.written(&self.catalogues())
        )))
    }

    /// The menu of the families that the codes of an event could be of: here, or in its source.
    pub fn family_menu(&self, event: EventRef<'_>) -> Then {
        let mut items = Vec::new();
        for found in event.codes_as_found() {
            let sources = vec![event.source()];
            items.extend(self.family_items(event, found, &sources, Some(&self.view.key(event))));
        }
        Menu::offer("What is this code?", items, "This event has no code.")
    }

    /// The menu of the families that a code could be of, wherever it stands.
    pub fn family_menu_of(&self, counted: &CodeCount) -> Then {
        let event = self.event(counted.first_row);
        let sources: Vec<usize> = counted.sources.iter().map(|source| *source as usize).collect();
        let found = event.codes_as_found().into_iter().find(|found| event.meant(*found) == counted.code);
        let items = found.map_or(Vec::new(), |found| self.family_items(event, found, &sources, None));
        Menu::offer("What is this code?", items, "This code has one meaning only.")
    }

    fn family_items(
        &self,
        event: EventRef<'_>,
        found: Code,
        sources: &[usize],
        here: Option<&EventKey>,
    ) -> Vec<(String, super::Choice)> {
        let meant = event.meant(found);
        let mut clues = clues(&self.view.case, &self.view.loaded, event);
        clues.chosen = Some(meant.family).filter(|family| *family != found.family);
        let mut items = Vec::new();
        for candidate in candidates(found, &clues, &self.catalogues()) {
            let family = candidate.reading.code.family;
            let name = candidate.reading.name.unwrap_or("-");
            let what = format!("{} {name}, {}", candidate.reading.code.written(&self.catalogues()), family.title());
            let why = if candidate.reason.is_empty() { String::new() } else { format!("   ({})", candidate.reason) };
            if let Some(key) = here {
                let (key, sources) = (key.clone(), sources.to_vec());
                items.push(item(format!("here       {what}{why}"), move |cx| {
                    cx.choose_family(&sources, found, Some(key.offset), family)
                }));
            }
            let everywhere = if sources.len() == 1 { "its source" } else { "everywhere" };
            let sources = sources.to_vec();
            items.push(item(format!("{everywhere:<10} {what}{why}"), move |cx| {
                cx.choose_family(&sources, found, None, family)
            }));
        }
        items
    }

    /// Remembers what a code is in some sources, or in one place, and reads it so from now on.
    fn choose_family(&mut self, sources: &[usize], code: Code, offset: Option<u64>, family: Family) -> Result<Then> {
        let what = CodeChoice::what(code, offset);
        let choices = self.logbook.choices()?;
        let value = if family == code.family && offset.is_none() { "" } else { family.name() };
        let mut before = Vec::new();
        for source in sources {
            let name = self.view.case.sources[*source].name.clone();
            let known = choices.get(&name).and_then(|choice| {
                let same = |known: &&CodeChoice| known.code == code && known.offset == offset;
                choice.codes.iter().find(same).map(|known| known.family.name())
            });
            before.push((name, what.clone(), known.unwrap_or_default().to_owned()));
        }
        let now: Vec<_> = before.iter().map(|(name, what, _)| (name.clone(), what.clone(), value.to_owned())).collect();
        self.set_code_choices(&now)?;
        self.note_undo(format!("family of {}", code.written(&self.catalogues())), move |cx| {
            cx.set_code_choices(&before)
        });
        Ok(Then::say(format!("{}: {}. u undoes this.", code.written(&self.catalogues()), family.title())))
    }

    /// Whether lines that carry the code of a failure count as problems: switches that.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn toggle_escalation(&mut self) -> Result<Then> {
        let off = self.view.case.options.no_escalation;
        let row = |value: &str| vec![(String::new(), "lift".to_owned(), value.to_owned())];
        self.set_code_choices(&row(if off { "" } else { "off" }))?;
        let before = row(if off { "off" } else { "" });
        self.note_undo("escalation of failure codes", move |cx| cx.set_code_choices(&before));
        Ok(Then::say(if off {
            "Lines that carry the code of a failure count as problems again."
        } else {
            "Lines keep the level that they were logged with, whatever codes they carry."
        }))
    }

    /// Writes choices about codes into the logbook and applies them to the table at once. Rows keep their numbers.
    fn set_code_choices(&mut self, rows: &[(String, String, String)]) -> Result<()> {
        for (source, what, value) in rows {
            self.logbook.set_choice(source, what, value)?;
        }
        let choices = self.logbook.choices()?;
        self.change_case(|case| {
            case.options.choices = choices;
            case.options.no_escalation = case.options.choices.remove("").is_some_and(|all| all.no_escalation);
        });
        let loaded = self.view.loaded.with_codes(&self.view.case.sources, &self.view.case.options);
        self.view = CaseView::new(Arc::clone(&self.view.case), loaded);
        (self.pane.detail, self.rail.asked) = (None, None);
        self.state += 1;
        self.follow_again();
        self.ask_for_rows();
        Ok(())
    }
}
