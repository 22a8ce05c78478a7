//! The registry of formats, and the one detector over it.
//!
//! A text format says where a record starts and what its head means ([`LineFormat::head`]); everything else about
//! records (attaching lines, times, columns) is the same for all and lives in [`crate::case`]. A dump format reads a
//! whole file as one event. To add a format: one file in `format/`, one line in [`LINE_FORMATS`] or in
//! [`crate::crash::DUMP_FORMATS`].

use std::borrow::Cow;

use serde_json::{Map, Value};

use crate::clock::Stamp;
use crate::severity::Severity;

mod dpkg;
mod iso_text;
mod json_lines;
mod json_scan;
mod plain;
mod rfc3164;
mod rfc5424;
mod word;

#[cfg(test)]
mod tests;

/// All text formats, the most particular first: of equally good ones the detector takes the first.
pub static LINE_FORMATS: [&dyn LineFormat; 6] =
    [&rfc5424::Rfc5424, &dpkg::Dpkg, &json_lines::JsonLines, &rfc3164::Rfc3164, &iso_text::IsoText, &plain::Plain];

/// What a format learned about one file when it was detected, for example where in the line the time stands. Its
/// meaning belongs to the format; 0 is the usual case.
pub type Hint = u8;

/// The head of a record: what its first line says.
#[derive(Debug)]
pub struct Head<'a> {
    /// Its time.
    pub stamp: Stamp,
    /// Its severity.
    pub severity: Severity,
    /// The severity's word or number as written.
    pub severity_text: Cow<'a, [u8]>,
    /// The host named in the line, or nothing.
    pub host: Cow<'a, [u8]>,
    /// The program, logger or module, or nothing.
    pub component: Cow<'a, [u8]>,
    /// Process id.
    pub pid: Option<u32>,
    /// Thread id, where it is a number.
    pub tid: Option<u32>,
    /// Where in the line the message starts, in bytes.
    pub body: usize,
}

impl Default for Head<'_> {
    fn default() -> Self {
        Self {
            stamp: Stamp::None,
            severity: Severity::NONE,
            severity_text: Cow::Borrowed(b""),
            host: Cow::Borrowed(b""),
            component: Cow::Borrowed(b""),
            pid: None,
            tid: None,
            body: 0,
        }
    }
}

/// One record in full, made on demand from its text.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Record {
    /// The message, with all its lines.
    pub body: String,
    /// The severity's word or number as written.
    pub severity_text: Option<String>,
    /// What else the record carries.
    pub attributes: Map<String, Value>,
}

/// A format whose records start at a line.
pub trait LineFormat: Sync {
    /// The name of the JSON contract.
    fn name(&self) -> &'static str;

    /// The head of the record that starts at `line` (without line end), or `None` if none starts here: the line then
    /// belongs to the record before. Called for every line of a file, so it allocates nothing in the usual case.
    fn head<'a>(&self, line: &'a [u8], hint: Hint) -> Option<Head<'a>>;

    /// The whole record whose text (all lines) is `text`.
    fn record(&self, text: &str, hint: Hint) -> Record {
        record_from_head(self.head(text.as_bytes(), hint), text)
    }

    /// How well the format fits sample lines, and the hint to read the file with.
    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        Fit { heads, hint: 0 }
    }
}

/// How well a format fits a sample.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Fit {
    /// Sample lines that start a record.
    pub heads: usize,
    /// The hint to read the file with.
    pub hint: Hint,
}

/// The usual record of a text format: the body is what follows the head.
fn record_from_head(head: Option<Head<'_>>, text: &str) -> Record {
    let Some(head) = head else { return Record { body: body_text(text), ..Record::default() } };
    let severity_text = String::from_utf8_lossy(&head.severity_text).into_owned();
    Record {
        body: body_text(text.get(head.body..).unwrap_or(text)),
        severity_text: (!severity_text.is_empty()).then_some(severity_text),
        attributes: Map::new(),
    }
}

/// A record's text without the line end at its end, its other line ends all alike.
fn body_text(text: &str) -> String {
    text.trim_end_matches(['\n', '\r']).replace("\r\n", "\n")
}

/// What the detector found.
#[derive(Clone, Copy)]
pub struct Detected {
    /// The format.
    pub format: &'static dyn LineFormat,
    /// What it learned about the file.
    pub hint: Hint,
}

/// Decides the text format of a file from sample lines of its head, middle and end: the one under which most lines
/// start a record, the more particular one where several do equally well.
pub fn detect(lines: &[&[u8]]) -> Detected {
    let mut best: Option<(usize, Detected)> = None;
    for format in LINE_FORMATS {
        let fit = format.fit(lines);
        if fit.heads > best.map_or(0, |(heads, _)| heads) {
            best = Some((fit.heads, Detected { format, hint: fit.hint }));
        }
    }
    best.map_or(Detected { format: &plain::Plain, hint: 0 }, |(_, detected)| detected)
}
