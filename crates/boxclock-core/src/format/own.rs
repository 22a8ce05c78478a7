//! Formats of the user's own: a TOML file that says in a regular expression, or in columns, what a record looks like.
//!
//! ```toml
//! name = "pump-audit"
//! pattern = '^(?<time>\S+ \S+) (?<level>\w+) (?<component>\w+)\[(?<pid>\d+)\]: (?<body>.*)$'
//! time = "%d.%m.%Y %H:%M:%S"
//! samples = ["12.04.2026 02:31:07 ALARM doser[99]: valve 3 does not answer"]
//!
//! [levels]
//! ALARM = "error"
//! ```
//!
//! Instead of `pattern`: `delimiter = "|"` and `columns = ["time", "level", "body", "-"]`. Groups and columns with the
//! names `time level host component pid tid body` become those of the event, others become attributes, `-` is skipped.
//! `time` is a form of strftime(3); without it every form that Box Clock knows is tried.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use regex::bytes::{Regex, RegexBuilder};
use serde::Deserialize;
use serde_json::Value;
use toml::Spanned;

use super::word::number;
use super::{Fit, Head, Hint, LineFormat, Record, body_text};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{Civil, Stamp};
use crate::severity::Severity;
use crate::{Error, Result, limits, platform};

/// A format read from a file of the user.
#[derive(Debug)]
pub struct OwnFormat {
    name: String,
    shape: Shape,
    time: Option<String>,
    levels: BTreeMap<String, Severity>,
    version: u32,
}

#[derive(Debug)]
enum Shape {
    Pattern(Regex),
    Columns(Vec<u8>, Vec<String>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    name: Spanned<String>,
    pattern: Option<Spanned<String>>,
    delimiter: Option<Spanned<String>>,
    columns: Option<Spanned<Vec<String>>>,
    time: Option<Spanned<String>>,
    #[serde(default)]
    levels: BTreeMap<String, Spanned<String>>,
    samples: Spanned<Vec<Spanned<String>>>,
}

/// The names that become columns of the event.
const ROLES: [&str; 7] = ["time", "level", "host", "component", "pid", "tid", "body"];

impl OwnFormat {
    /// Reads a format from the text of a TOML file.
    ///
    /// # Errors
    /// Names the line and column of the first mistake: in the TOML, in the regular expression, a level that is none, a
    /// sample that does not match.
    pub fn parse(text: &str) -> Result<Self> {
        let written: Written = toml::from_str(text).map_err(|error| match error.span() {
            Some(span) => at(text, span.start, error.message()),
            None => Error::new(error.message().to_owned()),
        })?;
        let name = written.name.get_ref();
        let good_name = !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
        if !good_name || super::by_name(name, &[]).is_some() {
            let what = "a name is letters, digits and dashes, and none of the names that boxclock formats lists";
            return Err(at(text, written.name.span().start, what));
        }
        let shape = shape(text, &written)?;
        let mut levels = BTreeMap::new();
        for (word, level) in &written.levels {
            let severity = Severity::from_word(level.get_ref().as_bytes()).ok_or_else(|| {
                at(text, level.span().start, "a level is trace, debug, info, notice, warn, error, critical or fatal")
            })?;
            levels.insert(word.to_lowercase(), severity);
        }
        let time = written.time.as_ref().map(|time| time.get_ref().clone());
        let format = Self { name: name.clone(), shape, time, levels, version: checksum(text) };
        if written.samples.get_ref().is_empty() {
            return Err(at(text, written.samples.span().start, "at least one sample line is needed"));
        }
        for sample in written.samples.get_ref() {
            if format.head(sample.get_ref().as_bytes(), 0).is_none() {
                let what = "this sample does not match: its shape or its time is not as the format says";
                return Err(at(text, sample.span().start, what));
            }
        }
        Ok(format)
    }

    /// The parts of a line by name, or `None` if no record starts here.
    fn parts<'a>(&self, line: &'a [u8]) -> Option<Vec<(&str, &'a [u8])>> {
        match &self.shape {
            Shape::Pattern(regex) => {
                let found = regex.captures(line)?;
                let names = regex.capture_names().flatten();
                Some(names.filter_map(|name| Some((name, found.name(name)?.as_bytes()))).collect())
            }
            Shape::Columns(delimiter, columns) => {
                let mut parts = Vec::with_capacity(columns.len());
                let mut rest = line;
                for (index, column) in columns.iter().enumerate() {
                    // The last column takes what is left, delimiters and all.
                    let end = memchr::memmem::find(rest, delimiter).filter(|_| index + 1 < columns.len());
                    let part = end.and_then(|end| rest.get(..end)).unwrap_or(rest);
                    if end.is_none() && index + 1 < columns.len() {
                        return None;
                    }
                    if column != "-" {
                        parts.push((column.as_str(), part.trim_ascii()));
                    }
                    rest = rest.get(part.len() + delimiter.len()..).unwrap_or_default();
                }
                Some(parts)
            }
        }
    }

    fn stamp(&self, text: &[u8]) -> Option<Stamp> {
        let Some(form) = &self.time else {
            let found = forms::epoch(text).or_else(|| forms::dated(text, DateOrder::DayFirst));
            return found.or_else(|| forms::time_of_day(text)).map(|(civil, _)| civil.stamp());
        };
        let read = jiff::fmt::strtime::parse(form, text).ok()?;
        if let Ok(instant) = read.to_timestamp() {
            let offset = read.offset().map_or(0, jiff::tz::Offset::seconds);
            return Some(i64::try_from(instant.as_nanosecond()).map_or(Stamp::OutOfRange, |ns| Stamp::Utc(ns, offset)));
        }
        let time = read.to_time().ok()?;
        let mut civil = Civil {
            hour: time.hour() as u8,
            minute: time.minute() as u8,
            second: time.second() as u8,
            nanos: time.subsec_nanosecond() as u32,
            ..Civil::default()
        };
        if let (Some(month), Some(day)) = (read.month(), read.day()) {
            civil.year = i32::from(read.year().unwrap_or(0));
            (civil.month, civil.day) = (month as u8, day as u8);
        }
        Some(civil.stamp())
    }

    fn severity(&self, word: &[u8]) -> Severity {
        let own = std::str::from_utf8(word).ok().and_then(|word| self.levels.get(&word.to_lowercase()));
        own.copied().or_else(|| Severity::from_word(word)).unwrap_or_default()
    }
}

/// What the file says a record looks like.
fn shape(text: &str, written: &Written) -> Result<Shape> {
    match (&written.pattern, &written.delimiter, &written.columns) {
        (Some(pattern), None, None) => {
            let built = RegexBuilder::new(pattern.get_ref()).size_limit(limits::REGEX_BYTES).build();
            let regex = built.map_err(|error| at(text, pattern.span().start, &error.to_string()))?;
            if !regex.capture_names().flatten().any(|name| name == "body") {
                return Err(at(text, pattern.span().start, "the pattern needs a group (?<body>…)"));
            }
            Ok(Shape::Pattern(regex))
        }
        (None, Some(delimiter), Some(columns)) => {
            if delimiter.get_ref().is_empty() {
                return Err(at(text, delimiter.span().start, "the delimiter is empty"));
            }
            if !columns.get_ref().iter().any(|column| column == "body") {
                return Err(at(text, columns.span().start, "one of the columns must be called body"));
            }
            Ok(Shape::Columns(delimiter.get_ref().clone().into_bytes(), columns.get_ref().clone()))
        }
        _ => Err(at(text, written.name.span().start, "write either pattern, or delimiter and columns")),
    }
}

/// A mistake with its line and column.
fn at(text: &str, offset: usize, what: &str) -> Error {
    let before = text.get(..offset).unwrap_or(text);
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
    Error::new(format!("line {line}, column {column}: {}", what.trim_end()))
}

fn checksum(text: &str) -> u32 {
    crc32fast::hash(text.as_bytes())
}

impl LineFormat for OwnFormat {
    fn name(&self) -> &str {
        &self.name
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let parts = self.parts(line)?;
        let mut head = Head::default();
        for (name, part) in parts {
            match name {
                "time" => head.stamp = self.stamp(part)?,
                "level" => (head.severity, head.severity_text) = (self.severity(part), Cow::Borrowed(part)),
                "host" => head.host = Cow::Borrowed(part),
                "component" => head.component = Cow::Borrowed(part),
                "pid" => head.pid = number(part),
                "tid" => head.tid = number(part),
                // Parts are slices of the line.
                "body" => head.body = part.as_ptr() as usize - line.as_ptr() as usize,
                _ => {}
            }
        }
        Some(head)
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let first = text.split('\n').next().unwrap_or(text).trim_end_matches('\r').as_bytes();
        let Some(head) = self.head(first, hint) else {
            return Record { body: body_text(text), ..Record::default() };
        };
        let parts = self.parts(first).unwrap_or_default();
        let attributes = parts
            .iter()
            .filter(|(name, _)| !ROLES.contains(name))
            .map(|(name, part)| ((*name).to_owned(), Value::from(String::from_utf8_lossy(part).into_owned())));
        let severity_text = String::from_utf8_lossy(&head.severity_text).into_owned();
        Record {
            body: body_text(text.get(head.body..).unwrap_or(text)),
            severity_text: (!severity_text.is_empty()).then_some(severity_text),
            attributes: attributes.collect(),
            place: None,
        }
    }

    fn version(&self) -> u32 {
        self.version
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        Fit { heads: lines.iter().filter(|line| self.head(line, 0).is_some()).count(), ..Fit::default() }
    }
}

/// A format that lives as long as the program: the same text gives the same one, however often a case is opened again.
fn lasting(text: String) -> Result<&'static OwnFormat> {
    static MADE: Mutex<BTreeMap<String, &'static OwnFormat>> = Mutex::new(BTreeMap::new());
    let mut made = MADE.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = made.get(&text) {
        return Ok(*known);
    }
    let format: &'static OwnFormat = Box::leak(Box::new(OwnFormat::parse(&text)?));
    made.insert(text, format);
    Ok(format)
}

/// Reads all formats of a folder; mistakes are given with the path of their file.
pub fn load_own(folder: &Path) -> (Vec<&'static dyn LineFormat>, Vec<(String, String)>) {
    let mut formats: Vec<&'static dyn LineFormat> = Vec::new();
    let mut wrong = Vec::new();
    for (file, text) in platform::toml_texts(folder) {
        match text.map_err(|error| Error::new(error.to_string())).and_then(lasting) {
            Ok(format) => formats.push(format),
            Err(error) => wrong.push((file, error.to_string())),
        }
    }
    (formats, wrong)
}

#[cfg(test)]
mod tests {
    use super::*;

    const GOOD: &str = r#"
name = "pump-audit"
pattern = '^(?<time>\S+ \S+) (?<level>\w+) (?<component>\w+)\[(?<pid>\d+)\] (?<valve>\d+): (?<body>.*)$'
time = "%d.%m.%Y %H:%M:%S"
samples = ["12.04.2026 02:31:07 ALARM doser[99] 3: no answer"]

[levels]
ALARM = "error"
"#;

    #[test]
    fn the_same_text_is_made_once() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("pump.toml"), GOOD).unwrap();
        let made = || load_own(folder.path()).0[0];
        assert!(std::ptr::addr_eq(made(), made()), "following opens a case four times a second");
    }

    #[test]
    fn a_pattern_gives_all_parts() {
        let format = OwnFormat::parse(GOOD).unwrap();
        let line = b"12.04.2026 02:31:07 alarm doser[99] 3: no answer";
        let head = format.head(line, 0).unwrap();
        assert_eq!(head.stamp, Stamp::Local(1_775_961_067_000_000_000));
        assert_eq!((head.severity, &*head.component, head.pid), (Severity::ERROR, &b"doser"[..], Some(99)));
        let record = format.record("12.04.2026 02:31:07 alarm doser[99] 3: no answer\n  more\n", 0);
        assert_eq!(record.body, "no answer\n  more");
        assert_eq!(record.attributes["valve"], "3");
        assert!(format.head(b"12.13.2026 02:31:07 alarm doser[99] 3: x", 0).is_none());
    }

    #[test]
    fn columns() {
        let format = OwnFormat::parse(
            "name = \"c\"\ndelimiter = \"|\"\ncolumns = [\"level\", \"time\", \"-\", \"body\"]\nsamples = [\"W|2026-04-12T02:31:07Z|x|a|b\"]\n",
        )
        .unwrap();
        let head = format.head(b"E|2026-04-12T02:31:07Z|x|a|b", 0).unwrap();
        assert_eq!((head.stamp, head.body), (Stamp::Utc(1_775_961_067_000_000_000, 0), 25));
        assert!(format.head(b"E|2026-04-12T02:31:07Z", 0).is_none());
    }

    #[test]
    fn mistakes_are_placed() {
        for (from, to, place) in [
            (r"(?<level>\w+)", r"(?<level>\w+", "line 3, column 11"),
            ("\"error\"", "\"bad\"", "line 8, column 9"),
            ("no answer\"]", "no answer\", \"x\"]", "line 5, column 64"),
            ("pump-audit", "plain", "line 2, column 8"),
            ("samples", "simples", "line 5, column 1"),
            ("(?<body>.*)", ".*", "line 3, column 11"),
        ] {
            let text = GOOD.replace(from, to);
            let message = OwnFormat::parse(&text).unwrap_err().to_string();
            assert!(message.starts_with(place), "{from}: {message}");
        }
    }
}
