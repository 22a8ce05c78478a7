//! `java-util-logging` as XML: what the Java platform's `java.util.logging.XMLFormatter` writes, the default of its `FileHandler`.
//!
//! Source: the platform's documentation of that class and its `logger.dtd`: a `<record>` for each event with `date`, `millis`,
//! `nanos`, `sequence`, `logger`, `level`, `class`, `method`, `thread`, `message`, `key`, `param`, and `exception` with its
//! `frame`s. Each record is read on its own: the document's type need not be there, its end tag is missing while the program
//! runs, and control characters that XML forbids stand in messages.

use std::fmt::Write;
use std::io;

use serde_json::{Map, Value};

use super::windows_event::Element;
use super::{Decoder, Entry, Input, Output, Place};
use crate::clock::{Stamp, scan};
use crate::code::Platform;
use crate::limits;
use crate::severity::Severity;
use crate::text;
use crate::trouble::Trouble;

/// The decoder.
pub(super) struct JavaLogXml;

impl Decoder for JavaLogXml {
    fn name(&self) -> &'static str {
        "java-util-logging"
    }

    fn recognise(&self, start: &[u8]) -> bool {
        let Some((encoding, _)) = text::guess(&[start.to_vec()]) else { return false };
        let text = encoding.text(start.get(..start.len().min(8192)).unwrap_or_default());
        let lead = text.trim_start_matches('\u{FEFF}').trim_start();
        (lead.starts_with("<?xml") || lead.starts_with("<log>") || lead.starts_with("<record>"))
            && text.contains("<record>")
            && (text.contains("<millis>") || text.contains("<date>"))
    }

    fn platform(&self) -> Platform {
        Platform::Unknown
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let mut lines = input.lines()?;
        lines.encoding.name().clone_into(&mut out.account.encoding);
        let mut open: Option<(Place, String)> = None;
        while let Some(line) = lines.next_line()? {
            out.account.lines = out.account.lines.saturating_add(1);
            if line.text.trim_start().starts_with("<record>") {
                close(&mut open, "has no end", out)?;
                open = Some((Place { length: 0, ..line.place }, String::new()));
            } else if open.is_some() {
                out.account.attached_lines = out.account.attached_lines.saturating_add(1);
            }
            let Some((place, text)) = &mut open else { continue };
            text.push_str(&line.text);
            text.push('\n');
            place.length = place.length.saturating_add(line.place.length);
            let length = text.len();
            if line.text.trim_end().ends_with("</record>") {
                close(&mut open, "", out)?;
            } else if length > limits::RECORD_BYTES {
                close(&mut open, "is too long, or has no end", out)?;
            }
        }
        close(&mut open, "is cut off", out)
    }
}

/// Writes the open record, if there is one; `wrong` says what is wrong with it.
fn close(open: &mut Option<(Place, String)>, wrong: &str, out: &mut Output) -> io::Result<()> {
    let Some((place, mut text)) = open.take() else { return Ok(()) };
    if !wrong.is_empty() {
        out.trouble(Trouble::note(format!("the record at byte {} {wrong}", place.offset)));
        complete(&mut text);
    }
    // Characters that XML forbids stand in messages all the same: they are read as blanks.
    let clean: String = text.chars().map(|c| if c.is_control() && !"\t\n\r".contains(c) { ' ' } else { c }).collect();
    let Some(record) = Element::parse(clean.trim()) else {
        out.trouble(Trouble::lost(format!("the record at byte {} is not XML", place.offset)));
        return out.entry(&Entry { body: &text, ..Entry::at(place) });
    };
    write(&record, place, out)
}

/// Ends what is open in a record that was cut off: its last line goes if it is half a tag.
fn complete(text: &mut String) {
    if let Some(tag) = text.rfind('<').filter(|tag| !text.get(*tag..).unwrap_or_default().contains('>')) {
        text.truncate(tag);
    }
    let mut open: Vec<String> = Vec::new();
    for part in text.split('<').skip(1) {
        let Some((tag, _)) = part.split_once('>') else { continue };
        match tag.strip_prefix('/') {
            Some(name) if open.last().is_some_and(|last| last == name) => _ = open.pop(),
            None if !tag.ends_with('/') => open.push(tag.to_owned()),
            _ => {}
        }
    }
    for name in open.iter().rev() {
        let _ = write!(text, "</{name}>");
    }
}

fn write(record: &Element, place: Place, out: &mut Output) -> io::Result<()> {
    let value = |name: &str| record.text_of(name).unwrap_or_default();
    let millis = value("millis").parse::<i64>().ok().and_then(|millis| millis.checked_mul(1_000_000));
    let nanos = value("nanos").parse::<i64>().ok().filter(|nanos| (0..1_000_000).contains(nanos)).unwrap_or(0);
    let stamp = match millis {
        Some(ns) => Stamp::Utc(ns.saturating_add(nanos), 0),
        None => scan::iso(value("date").as_bytes()).map_or(Stamp::None, |(civil, _)| civil.stamp()),
    };
    let level = value("level");
    let severity = match level.parse::<i64>() {
        Ok(number) => of_number(number),
        Err(_) => Severity::from_word(level.as_bytes()).unwrap_or_default(),
    };
    let mut fields = Map::new();
    let pairs = [
        ("class", "code.namespace"),
        ("method", "code.function.name"),
        ("key", "log.message.key"),
        ("sequence", "log.record.sequence"),
    ];
    for (element, attribute) in pairs {
        if let Some(text) = record.text_of(element) {
            fields.insert(attribute.into(), text.into());
        }
    }
    let params: Vec<Value> = record
        .children
        .iter()
        .filter(|child| &*child.name == "param")
        .map(|child| child.text.as_str().into())
        .collect();
    if !params.is_empty() {
        fields.insert("log.message.parameters".into(), params.into());
    }
    let mut body = record.text_of("message").unwrap_or_default().to_owned();
    if let Some(exception) = record.child("exception") {
        let _ = write!(body, "\n{}", exception.text_of("message").unwrap_or("exception"));
        for frame in exception.children.iter().filter(|child| &*child.name == "frame") {
            let part = |name: &str| frame.text_of(name).unwrap_or("?");
            let _ = write!(body, "\n\tat {}.{}", part("class"), part("method"));
            let _ = match frame.text_of("line") {
                Some(line) => write!(body, "(line {line})"),
                None => write!(body, "(unknown line)"),
            };
        }
    }
    let component = record.text_of("logger").or(record.text_of("class")).unwrap_or_default();
    out.entry(&Entry {
        stamp,
        severity,
        severity_text: level,
        component,
        tid: value("thread").parse().ok(),
        place,
        body: &body,
        fields: &Value::Object(fields).to_string(),
        ..Entry::at(place)
    })
}

/// The platform's numbers of levels: 1000 is severe, 900 a warning, 800 information, 700 configuration, 500 fine, 300 finest.
fn of_number(level: i64) -> Severity {
    match level {
        1000.. => Severity::ERROR,
        900.. => Severity::WARN,
        800.. => Severity::INFO,
        700.. => Severity(7),
        500.. => Severity(6),
        400.. => Severity::DEBUG,
        _ => Severity::TRACE,
    }
}
