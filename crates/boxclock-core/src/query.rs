//! Filters: one small language for the filter line, `--where`, and everything that selects events.
//!
//! ```text
//! level>=warn host=pump-ctl,keeper-desk time in 02:10..02:35 not "heartbeat"
//! (code=0x80070005 or /lease .* lost/) source~installer
//! time within 5m of 02:31:07
//! ```
//!
//! Words next to each other are *and*; `or`, `not` and parentheses as usual. A bare word or a "phrase" is searched in
//! the text without regard to case, `/…/` is a regular expression. Fields are [`FIELDS`]; a name with a point in it is an
//! attribute, as in `http.response.status_code=502`, `http.response.status_code>=500` or `attributes.retry=4`.

mod eval;
mod lens;
mod lex;
mod parse;
mod text;
pub mod values;

use crate::code::NO_CATALOGUES;
pub use eval::{RowSet, problem_rows, rows_in_order};
pub use lens::{Lens, Lenses};
use text::TextTest;

use crate::clock::Zone;
use crate::clock::human::{LEAP_YEAR, Typed, of_leap_year};
use crate::code::{Catalogues, Code};
use crate::pattern::PatternId;

/// The fields of a filter, each with what it takes.
pub const FIELDS: [(&str, &str); 13] = [
    ("level", "trace debug info warn error fatal, with = != < <= > >="),
    ("host", "a host's label"),
    ("source", "a source's path"),
    ("component", "a program, logger or module"),
    ("pid", "a process id"),
    ("tid", "a thread id"),
    ("code", "a code in any writing"),
    ("pattern", "the number of a message pattern: ten hexadecimal digits"),
    ("count", "how many events have this event's pattern, with = < <= > >="),
    ("firstseen", "when its pattern came for the first time in this case, with < <= > >="),
    ("format", "a format's name"),
    ("pin", "yes or no"),
    ("time", "in FROM..TO, or within 5m of TIME"),
];

/// What is wrong with a filter, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FilterError {
    /// Where the mistake starts, in bytes of the text.
    pub at: usize,
    /// How long it is, in bytes.
    pub length: usize,
    /// What is wrong, and what would be right.
    pub message: String,
}

impl FilterError {
    /// The text with the mistake marked below it, and the message, for a terminal.
    pub fn marked(&self, text: &str) -> String {
        let before = text.get(..self.at).unwrap_or(text).chars().count();
        let marks = text.get(self.at..self.at + self.length).map_or(1, |part| part.chars().count()).max(1);
        format!("  {text}\n  {}{} {}", " ".repeat(before), "^".repeat(marks), self.message)
    }
}

/// A filter, ready to be evaluated.
#[derive(Clone, Debug)]
pub struct Filter {
    root: Expr,
    /// The rows that are pinned, for the field `pin`.
    pins: std::sync::Arc<std::collections::HashSet<u32>>,
}

impl Filter {
    /// Reads a filter. Times without zone are in `zone`. An empty text lets everything pass.
    ///
    /// # Errors
    /// With the place of the mistake.
    pub fn parse(text: &str, zone: &Zone) -> std::result::Result<Self, FilterError> {
        Self::parse_with(text, zone, &NO_CATALOGUES)
    }

    /// Reads a filter that may name codes of a case's own catalogues, see [`Self::parse`].
    ///
    /// # Errors
    /// When the text is no filter, with the place and what would be right.
    pub fn parse_with(text: &str, zone: &Zone, own: &Catalogues) -> std::result::Result<Self, FilterError> {
        parse::parse(text, zone, own).map(|root| Self { root, pins: std::sync::Arc::default() })
    }

    /// A filter for one text, as `find` uses it: `/…/` is a regular expression, all else is searched literally.
    ///
    /// # Errors
    /// When the regular expression is wrong.
    pub fn find(text: &str) -> std::result::Result<Self, FilterError> {
        let pattern = match text.strip_prefix('/').and_then(|rest| rest.strip_suffix('/')) {
            Some(regex) if !regex.is_empty() => parse::regex(regex, 1, text.len())?,
            _ => parse::phrase(text, 0)?,
        };
        Ok(Self { root: Expr::Leaf(Leaf::Text(pattern.into())), pins: std::sync::Arc::default() })
    }

    /// The same with the rows that the field `pin` means; without them nothing is pinned.
    #[must_use]
    pub fn with_pins(mut self, rows: impl IntoIterator<Item = u32>) -> Self {
        self.pins = std::sync::Arc::new(rows.into_iter().collect());
        self
    }

    /// Where the texts that it looks for stand in a text, as byte ranges in order; what it says of fields marks nothing.
    pub fn marks(&self, text: &str) -> Vec<std::ops::Range<usize>> {
        let mut marks = Vec::new();
        self.root.mark(text, &mut marks);
        marks.sort_by_key(|range| (range.start, range.end));
        marks
    }

    /// Whether everything passes.
    pub fn is_empty(&self) -> bool {
        matches!(&self.root, Expr::And(all) if all.is_empty())
    }
}

#[derive(Clone, Debug)]
enum Expr {
    And(Vec<Expr>),
    Or(Vec<Expr>),
    Not(Box<Expr>),
    Leaf(Leaf),
}

impl Expr {
    /// Whether a pattern decides about any event.
    fn asks_for_patterns(&self) -> bool {
        match self {
            Self::And(all) | Self::Or(all) => all.iter().any(Self::asks_for_patterns),
            Self::Not(inner) => inner.asks_for_patterns(),
            Self::Leaf(leaf) => matches!(leaf, Leaf::Pattern(_)),
        }
    }

    /// Whether what is known of whole patterns decides.
    fn asks_about_patterns(&self) -> bool {
        match self {
            Self::And(all) | Self::Or(all) => all.iter().any(Self::asks_about_patterns),
            Self::Not(inner) => inner.asks_about_patterns(),
            Self::Leaf(leaf) => matches!(leaf, Leaf::FirstSeen(..) | Leaf::Count(..)),
        }
    }

    fn mark(&self, text: &str, marks: &mut Vec<std::ops::Range<usize>>) {
        // More than that on one line helps nobody.
        const MOST: usize = 200;
        match self {
            Self::And(all) | Self::Or(all) => all.iter().for_each(|expr| expr.mark(text, marks)),
            // What must not be there is not there.
            Self::Not(_) => {}
            Self::Leaf(Leaf::Text(test)) => {
                let found = test.regex.find_iter(text.as_bytes()).filter(|hit| !hit.is_empty()).take(MOST);
                let whole = |hit: &regex::bytes::Match<'_>| {
                    text.is_char_boundary(hit.start()) && text.is_char_boundary(hit.end())
                };
                marks.extend(found.filter(whole).map(|hit| hit.range()));
            }
            Self::Leaf(_) => {}
        }
    }
}

#[derive(Clone, Debug)]
enum Leaf {
    /// Severity number between these, inclusive.
    Level(u8, u8),
    Host(Names),
    Source(Names),
    Component(Names),
    Format(Names),
    Pid(Vec<u32>),
    Tid(Vec<u32>),
    Code(Vec<Code>),
    /// Numbers of message patterns.
    Pattern(Vec<PatternId>),
    /// When its pattern came first: from and to, inclusive, UTC nanoseconds.
    FirstSeen(i64, i64),
    /// How many events have its pattern: from and to, inclusive.
    Count(u32, u32),
    /// Whether it is pinned.
    Pin(bool),
    Time(TimeTest),
    Text(Box<TextTest>),
    /// The value of an attribute, by its name.
    Attribute(String, ValueTest),
}

/// What the value of an attribute has to be.
#[derive(Clone, Debug)]
enum ValueTest {
    /// One of these, or with one of these in it.
    Names(Names),
    /// A number that stands so to this one.
    Number(Ordered, f64),
}

/// How a number stands to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Ordered {
    Less,
    AtMost,
    More,
    AtLeast,
}

impl Ordered {
    fn of(operator: &str) -> Option<Self> {
        Some(match operator {
            "<" => Self::Less,
            "<=" => Self::AtMost,
            ">" => Self::More,
            ">=" => Self::AtLeast,
            _ => return None,
        })
    }

    fn holds(self, value: f64, wanted: f64) -> bool {
        match self {
            Self::Less => value < wanted,
            Self::AtMost => value <= wanted,
            Self::More => value > wanted,
            Self::AtLeast => value >= wanted,
        }
    }
}

/// Names to compare with, without regard to case.
#[derive(Clone, Debug)]
struct Names {
    /// In lower case.
    list: Vec<String>,
    /// Whether a part is enough.
    part: bool,
}

impl Names {
    fn matches(&self, name: &str) -> bool {
        let lower = name.to_lowercase();
        self.list.iter().any(|wanted| if self.part { lower.contains(wanted) } else { lower == *wanted })
    }
}

#[derive(Clone, Debug)]
enum TimeTest {
    /// From and to, inclusive, UTC nanoseconds.
    Between(i64, i64),
    /// From and to, inclusive, nanoseconds since midnight in the zone; from may be after to (across midnight).
    Daily(i64, i64, Zone),
    /// From and to, inclusive, nanoseconds since the start of a year that has all days, in the zone, in any year; from may be after
    /// to (across the turn of the year).
    Yearly(i64, i64, Zone),
}

impl TimeTest {
    fn between(from: Typed, to: Typed, zone: &Zone) -> Option<Self> {
        match (from, to) {
            (Typed::Instant(from), Typed::Instant(to)) => Some(Self::Between(from, to)),
            (Typed::OfDay(from), Typed::OfDay(to)) => Some(Self::Daily(from, to, zone.clone())),
            // `2026-04-12T02:10..02:35`: the same day, or the next one across midnight.
            (Typed::Instant(from), to) => {
                let near = to.near(from, zone);
                Some(Self::Between(from, if near < from { near + crate::clock::DAY } else { near }))
            }
            (Typed::OfYear(month, day, ns), Typed::OfYear(to_month, to_day, to)) => {
                let (from, to) = (of_leap_year(month, day, ns)?, of_leap_year(to_month, to_day, to)?);
                Some(Self::Yearly(from, to, zone.clone()))
            }
            // `04-12T02:10..02:35`: the same day, or the next one across midnight.
            (Typed::OfYear(month, day, from), Typed::OfDay(to)) => {
                let end = of_leap_year(month, day, if to < from { to + crate::clock::DAY } else { to })?;
                Some(Self::Yearly(of_leap_year(month, day, from)?, end.rem_euclid(LEAP_YEAR), zone.clone()))
            }
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests;
