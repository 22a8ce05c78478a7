//! The filter in force, and the ways to it.

use boxclock_core::query::Filter;
use boxclock_core::query::values::quoted;
use boxclock_core::report::sources::SourceOut;
use boxclock_core::{Error, Result};

use super::{Context, Then};

impl Context {
    /// Takes a filter that is known to be good into force.
    pub fn use_filter(&mut self, text: &str, filter: Filter) {
        text.clone_into(&mut self.stream.filter_text);
        self.stream.filter = Some(filter);
        self.stream.filter_error = None;
        self.ask_for_rows();
    }

    /// Puts a filter into force, and notes it in the history.
    ///
    /// # Errors
    /// When it is wrong: the one before stays in force.
    pub fn set_filter(&mut self, text: &str) -> Result<()> {
        let filter =
            Filter::parse_with(text, &self.zone, &self.catalogues()).map_err(|error| Error::new(error.message))?;
        self.use_filter(text, filter);
        self.stream.note_filter(text);
        Ok(())
    }

    /// Adds a piece to the filter.
    ///
    /// # Errors
    /// When the filter is wrong with it.
    pub fn add_to_filter(&mut self, piece: &str) -> Result<()> {
        self.remember();
        let text = format!("{} {piece}", self.stream.filter_text);
        self.set_filter(text.trim())
    }

    /// Puts the filter before the one in force, or the one after it, into force.
    ///
    /// # Errors
    /// When that is wrong by now.
    pub fn step_filter(&mut self, back: bool) -> Result<Then> {
        let Some(text) = self.stream.other_filter(back) else {
            return Ok(Then::say(if back { "No earlier filter." } else { "No later filter." }));
        };
        self.set_filter(&text)?;
        Ok(Then::Stay)
    }

    /// Shows only the source of the chosen event, or all again.
    ///
    /// # Errors
    /// When the filter before is wrong by now.
    pub fn toggle_this_source(&mut self) -> Result<Then> {
        let Some(event) = self.chosen() else { return Ok(Then::Stay) };
        let piece = format!("source={}", quoted(&self.view.case.sources[event.source()].name));
        self.remember();
        self.note_jump_with_filter();
        if self.stream.filter_text == piece {
            let before = self.stream.other_filter(true).unwrap_or_default();
            self.set_filter(&before)?;
            return Ok(Then::Stay);
        }
        self.set_filter(&piece)?;
        Ok(Then::say("Only this source is shown; , shows all again."))
    }

    /// Whether a source is switched off in the Stream: itself, or with others that are alike.
    pub fn is_off(&self, source: &SourceOut) -> bool {
        let host = source.host.as_deref().unwrap_or_default();
        let name = crate::text::last_part(&source.source);
        let pieces = [off_source(&source.source), off_host(host), off_format(source.format), off_name(name)];
        pieces.iter().any(|piece| self.stream.filter_text.contains(piece))
    }

    /// Switches a source off in the Stream, or on again.
    ///
    /// # Errors
    /// When the filter is wrong with it.
    pub fn toggle_source(&mut self, source: &str) -> Result<()> {
        self.toggle_piece(&off_source(source))
    }

    /// Adds a piece to the filter, or takes it out: what is switched off is said where everybody sees it.
    ///
    /// # Errors
    /// When the filter is wrong with it.
    pub fn toggle_piece(&mut self, piece: &str) -> Result<()> {
        let now = &self.stream.filter_text;
        let text = match now.find(piece) {
            Some(at) => format!("{} {}", now[..at].trim_end(), now[at + piece.len()..].trim_start()),
            None => format!("{now} {piece}"),
        };
        self.set_filter(text.trim()).map_err(|_| Error::new("Correct the filter first (f)."))
    }
}

/// The piece of a filter that switches a source off.
fn off_source(source: &str) -> String {
    format!("not source=\"{source}\"")
}

/// The piece that switches a host off.
pub fn off_host(host: &str) -> String {
    format!("not host=\"{host}\"")
}

/// The piece that switches a format off.
pub fn off_format(format: &str) -> String {
    format!("not format=\"{format}\"")
}

/// The piece that switches the logs of a name off, wherever they lie.
pub fn off_name(name: &str) -> String {
    format!("not source~\"/{name}\"")
}
