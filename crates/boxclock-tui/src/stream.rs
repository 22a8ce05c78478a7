//! The state of the Stream: its rows and the chosen one, filter, find, inks, walks, columns.

use std::collections::HashSet;
use std::ops::{Range, RangeInclusive};
use std::sync::Arc;

use boxclock_core::analysis::EventKey;
use boxclock_core::code::Catalogues;
use boxclock_core::event::Row;
use boxclock_core::pattern::PatternId;
use boxclock_core::query::{Filter, FilterError, Lens, RowSet};
use boxclock_core::timeline::arrange::{ArrangedRows, Arrangement, Run};
use boxclock_core::{Error, Result};

/// Inks that there can be.
pub const INKS: usize = 8;

/// Something that is coloured wherever it stands.
pub struct Ink {
    /// As it was typed: a text, `/a regular expression/`, or a filter behind `=`.
    pub text: String,
    /// What it looks for.
    pub filter: Filter,
    /// The rows that have it; `None` while they are looked for.
    pub rows: Option<Arc<RowSet>>,
}

/// What the previous and the next one of a walk are among.
#[derive(Clone, Debug)]
pub enum WalkTarget {
    /// The rows of a filter.
    Filter(Filter),
    /// The rows of a pattern.
    Pattern(PatternId),
    /// The rows of an ink, by its place.
    Ink(usize),
    /// Pins.
    Pins,
}

/// A column in front of the text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Column {
    Time,
    Level,
    /// The letters that stand for the host.
    Mark,
    Host,
    Source,
    Component,
    Pid,
    Tid,
    Line,
}

impl Column {
    /// All of them, with their names.
    pub const ALL: [(Self, &'static str); 9] = [
        (Self::Time, "time"),
        (Self::Level, "level"),
        (Self::Mark, "mark"),
        (Self::Host, "host"),
        (Self::Source, "source"),
        (Self::Component, "component"),
        (Self::Pid, "pid"),
        (Self::Tid, "tid"),
        (Self::Line, "line"),
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(column, _)| *column == self).map_or("", |(_, name)| name)
    }
}

/// Columns as they are typed: `time level host:10 component`; a width of 0 means: as it fits.
///
/// # Errors
/// When a word is no column.
pub fn parse_columns(text: &str) -> Result<Vec<(Column, usize)>> {
    let mut columns = Vec::new();
    for word in text.split_whitespace() {
        let (name, width) = word.split_once(':').unwrap_or((word, "0"));
        let column = Column::ALL.iter().find(|(_, known)| known.eq_ignore_ascii_case(name)).map(|(column, _)| *column);
        let known = || Column::ALL.map(|(_, name)| name).join(" ");
        let column = column.ok_or_else(|| Error::new(format!("no column \"{name}\": there are {}", known())))?;
        let width = width.parse::<usize>().ok().filter(|width| *width <= 200);
        columns.push((column, width.ok_or_else(|| Error::new(format!("\"{word}\": write a width up to 200")))?));
    }
    Ok(columns)
}

/// Why a part of a text is coloured.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TextMark {
    /// What is being looked for.
    Hit,
    /// An ink, by its place.
    Ink(u8),
}

/// One visible line, ready to be drawn.
pub struct StreamLine {
    pub row: Row,
    /// Its place among the rows.
    pub place: usize,
    pub text: String,
    /// Codes in `text` with their gloss: where the code ends, and words.
    pub glosses: Vec<(usize, String)>,
    /// What is coloured in `text`, as byte ranges.
    pub marks: Vec<(Range<usize>, TextMark)>,
    /// Lines of the record that are not shown.
    pub more_lines: usize,
    /// Further lines of the record that are shown.
    pub extra: Vec<String>,
    /// The run that it stands for, where runs are folded.
    pub run: Option<Run>,
    /// The first ink that the event has.
    pub ink: Option<u8>,
    /// Rows of the screen that it takes.
    pub height: usize,
}

/// The state.
#[derive(Default)]
pub struct Stream {
    pub rows: ArrangedRows,
    pub arrangement: Arrangement,
    /// The chosen place among the rows, and the first visible one.
    pub cursor: usize,
    pub top: usize,
    /// Columns of text that are scrolled away.
    pub shifted: usize,
    /// The chosen event, so that it stays chosen when the rows change.
    pub anchor: Option<EventKey>,
    /// Whether the next rows are looked at from their start.
    pub to_first: bool,
    /// Where the selection begins; and the places that are selected, for the frame that is being drawn.
    pub selected_from: Option<EventKey>,
    pub selected: Option<RangeInclusive<usize>>,
    /// The longest name of a host, a component and a source, in columns of the screen.
    pub longest: [usize; 3],
    /// The columns that were chosen.
    pub chosen_columns: Option<Vec<(Column, usize)>>,
    /// The visible lines.
    pub lines: Vec<StreamLine>,
    pub wrap: bool,
    pub unfold_all: bool,
    pub unfolded: HashSet<Row>,
    /// The moment from which times count.
    pub zero: Option<i64>,
    pub filter_text: String,
    pub filter: Option<Filter>,
    /// What is wrong with the filter that is being typed.
    pub filter_error: Option<FilterError>,
    /// The filter to return to when typing is given up.
    pub filter_before: String,
    /// Filters that were in force, and which one is.
    pub filters: Vec<String>,
    pub filter_at: usize,
    pub find_text: String,
    pub find: Option<Filter>,
    pub hits: Option<Arc<Vec<u32>>>,
    /// Where the search started; and how the next hits move the cursor: back, and whether the place itself counts.
    pub find_from: usize,
    pub find_moves: Option<(bool, bool)>,
    pub inks: [Option<Ink>; INKS],
    pub walk: Option<(WalkTarget, String)>,
    /// The places of the walk; `None` while they are looked for.
    pub walk_places: Option<Arc<Vec<u32>>>,
    /// Where to go when they are found: back, and how often.
    pub walk_goes: Option<(bool, usize)>,
    pub lenses: Vec<Lens>,
}

impl Stream {
    /// Notes a filter that has come into force, so that one can go back to the one before.
    pub fn note_filter(&mut self, text: &str) {
        if self.filters.is_empty() {
            self.filters.push(String::new());
        }
        if self.filters.get(self.filter_at).is_some_and(|now| now == text) {
            return;
        }
        self.filters.truncate(self.filter_at + 1);
        self.filters.push(text.to_owned());
        // What lies long back is forgotten.
        if self.filters.len() > 200 {
            self.filters.remove(0);
        }
        self.filter_at = self.filters.len() - 1;
    }

    /// The filter before the one in force, or the one after it.
    pub fn other_filter(&mut self, back: bool) -> Option<String> {
        let at = if back { self.filter_at.checked_sub(1)? } else { self.filter_at + 1 };
        let text = self.filters.get(at)?.clone();
        self.filter_at = at;
        Some(text)
    }
}

/// What an ink looks for: a filter behind `=`, else a text as in find.
///
/// # Errors
/// When the filter or regular expression is wrong.
pub fn parse_ink(text: &str, zone: &boxclock_core::clock::Zone, own: &Catalogues) -> Result<Filter> {
    let parsed = match text.strip_prefix('=') {
        Some(filter) => Filter::parse_with(filter, zone, own),
        None => Filter::find(text),
    };
    parsed.map_err(|error| Error::new(error.message))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_read() {
        let columns = parse_columns("time level host:10").unwrap();
        assert_eq!(columns, [(Column::Time, 0), (Column::Level, 0), (Column::Host, 10)]);
        assert!(parse_columns("colour").unwrap_err().to_string().contains("there are time level"));
        assert!(parse_columns("host:x").unwrap_err().to_string().contains("width"));
    }

    #[test]
    fn filters_are_gone_back_to() {
        let mut stream = Stream::default();
        for text in ["a", "a b", "a b", "c"] {
            stream.note_filter(text);
        }
        assert_eq!(stream.other_filter(true).as_deref(), Some("a b"));
        assert_eq!(stream.other_filter(true).as_deref(), Some("a"));
        assert_eq!(stream.other_filter(false).as_deref(), Some("a b"));
        stream.note_filter("new");
        assert_eq!(stream.other_filter(false), None, "a new one takes the place of those ahead");
        for expected in ["a b", "a", ""] {
            assert_eq!(stream.other_filter(true).as_deref(), Some(expected));
        }
        assert_eq!(stream.other_filter(true), None);
    }
}
