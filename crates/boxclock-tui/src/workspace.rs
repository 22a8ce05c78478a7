//! What the Stream is set to and what it knows beside its rows: inks, walks, lenses, patterns, columns, the history of filters.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use boxclock_core::code::{Code, Family};
use boxclock_core::event::Row;
use boxclock_core::pattern::Patterns;
use boxclock_core::query::values::{Completion, Values};
use boxclock_core::query::{Filter, Lens, RowSet};
use boxclock_core::timeline::marks::RailMark;
use boxclock_core::{Error, Result};

use crate::app::Step;

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

/// What `{` and `}` go along.
#[derive(Clone, Debug)]
pub enum Walk {
    /// The rows of a filter.
    Filter(Filter),
    /// The rows of a pattern, by its number.
    Pattern(u64),
    /// The rows of an ink.
    Ink(usize),
    /// Pins.
    Pins,
}

/// A column in front of the text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Column {
    Time,
    Level,
    Host,
    Source,
    Component,
    Pid,
    Tid,
    Line,
}

impl Column {
    /// All of them, with their names.
    pub const ALL: [(Self, &'static str); 8] = [
        (Self::Time, "time"),
        (Self::Level, "level"),
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

/// Where hits and inks are on the rail.
#[derive(Default)]
pub struct Overlay {
    /// What it was counted for: span and slices.
    pub from: i64,
    pub to: i64,
    /// Events of the filter by slice; `None` without filter.
    pub filter: Option<Vec<u32>>,
    /// The first ink of each slice.
    pub inks: Vec<Option<u8>>,
}

/// A place that the reading pane leads to.
#[derive(Clone, Debug)]
pub struct ReadingLink {
    /// What it is, in two lines at most.
    pub label: String,
    /// Where it leads.
    pub go: Go,
}

/// Where a link leads.
#[derive(Clone, Debug)]
pub enum Go {
    Row(Row),
    /// A piece that is added to the filter.
    Only(String),
}

/// How the reading pane shows the chosen event.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Shown {
    /// In words.
    #[default]
    Words,
    /// As the XML or JSON that it is.
    Structured,
    /// As its bytes.
    Raw,
}

/// What a choice in a menu does.
#[derive(Clone, Debug)]
pub enum Choice {
    /// Puts a filter into force.
    Filter(String),
    /// Goes along these from here.
    Walk(Walk, String),
    /// Takes an ink away.
    DropInk(usize),
    /// Writes an ink anew.
    EditInk(usize),
    /// Removes a lens of the case.
    DropLens(String),
    /// Writes a lens as a file for all cases.
    ExportLens(Lens),
    /// Says of which family a code is, in these sources, or in one place by its offset.
    Family(Vec<usize>, Code, Option<u64>, Family),
}

/// A menu: what can be chosen.
#[derive(Clone, Debug)]
pub struct Menu {
    pub title: String,
    pub items: Vec<(String, Choice)>,
    pub chosen: usize,
}

/// Following sources that grow.
pub struct Follow {
    /// Whether what comes is held back.
    pub held: Arc<AtomicBool>,
    /// Bytes that have come meanwhile.
    pub behind: u64,
    /// Whether runs are folded: the patterns of what has grown are then worked out before it is shown.
    pub fold: Arc<AtomicBool>,
    /// Tells the thread that looks to end.
    pub ended: Arc<AtomicBool>,
}

impl Drop for Follow {
    fn drop(&mut self) {
        self.ended.store(true, std::sync::atomic::Ordering::Relaxed);
    }
}

/// The state.
#[derive(Default)]
pub struct Workspace {
    pub values: Arc<Values>,
    pub patterns: Option<Arc<Patterns>>,
    pub marks: Arc<Vec<RailMark>>,
    pub lenses: Vec<Lens>,
    pub inks: [Option<Ink>; INKS],
    pub walk: Option<(Walk, String)>,
    /// The places of the walk in the view; `None` while they are looked for.
    pub walk_places: Option<Arc<Vec<u32>>>,
    /// Where to go when they are found: back, and how often.
    pub walk_goes: Option<(bool, usize)>,
    /// Filters that were in force, and which one is.
    pub filters: Vec<String>,
    pub filter_at: usize,
    /// Places jumped back from.
    pub forward: Vec<(Step, Option<(usize, u64)>)>,
    /// Where the selection begins: source and offset.
    pub selected_from: Option<(usize, u64)>,
    pub columns: Option<Vec<(Column, usize)>>,
    pub wrap: bool,
    pub unfold_all: bool,
    pub unfolded: HashSet<Row>,
    pub collapse: bool,
    pub worst_first: bool,
    /// Whether the next rows are looked at from their start.
    pub to_first: bool,
    /// The moment from which times count.
    pub zero: Option<i64>,
    pub overlay: Option<Arc<Overlay>>,
    /// Changes whenever what the overlay shows does.
    pub overlay_of: u64,
    pub overlay_asked: Option<(i64, i64, usize, u64)>,
    /// The host whose sources have the lanes of the rail.
    pub rail_host: Option<u32>,
    pub reading_top: usize,
    pub link: Option<usize>,
    pub links: Vec<ReadingLink>,
    pub shown: Shown,
    /// What can complete the filter that is being typed, and which one is chosen.
    pub completions: Vec<Completion>,
    pub completion: Option<usize>,
    /// The number that is being typed in front of a movement.
    pub count: String,
    pub follow: Option<Follow>,
    /// Where on the rail the mouse button went down: a row of the screen.
    pub drag: Option<u16>,
    /// Text for the terminal's clipboard, sent with the next frame.
    pub clipboard: Option<String>,
}

impl Workspace {
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
pub fn parse_ink(text: &str, zone: &boxclock_core::clock::Zone) -> Result<Filter> {
    let parsed = match text.strip_prefix('=') {
        Some(filter) => Filter::parse(filter, zone),
        None => Filter::find(text),
    };
    parsed.map_err(|error| Error::new(error.message))
}

/// Bytes as text with their values: sixteen a line.
pub fn hex_lines(bytes: &[u8], from: u64, per_line: usize) -> Vec<String> {
    let lines = bytes.chunks(per_line.max(1)).enumerate().map(|(index, chunk)| {
        let hex: String = chunk.iter().map(|byte| format!("{byte:02x} ")).collect::<Vec<_>>().concat();
        let text: String =
            chunk.iter().map(|byte| if (0x20..0x7f).contains(byte) { char::from(*byte) } else { '·' }).collect();
        format!("{:>8}  {hex:<width$} {text}", from + (index * per_line) as u64, width = per_line * 3)
    });
    lines.collect()
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
        let mut workspace = Workspace::default();
        for text in ["a", "a b", "a b", "c"] {
            workspace.note_filter(text);
        }
        assert_eq!(workspace.other_filter(true).as_deref(), Some("a b"));
        assert_eq!(workspace.other_filter(true).as_deref(), Some("a"));
        assert_eq!(workspace.other_filter(false).as_deref(), Some("a b"));
        workspace.note_filter("new");
        assert_eq!(workspace.other_filter(false), None, "a new one takes the place of those ahead");
        for expected in ["a b", "a", ""] {
            assert_eq!(workspace.other_filter(true).as_deref(), Some(expected));
        }
        assert_eq!(workspace.other_filter(true), None);
    }

    #[test]
    fn bytes_have_a_place() {
        assert_eq!(hex_lines(b"ab\x00", 4096, 2), ["    4096  61 62  ab", "    4098  00     ·"]);
    }
}
