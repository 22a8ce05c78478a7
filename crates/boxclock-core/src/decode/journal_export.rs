//! `journal-export`: the journal of the system service manager as a stream of fields.
//!
//! Source: the project's published document "Journal Export Format": an entry is a run of fields up to an empty line; a
//! field is `NAME=value` and a line feed, or, where the value holds line feeds or control characters, `NAME`, a line feed,
//! the length in 8 bytes little-endian, the value, a line feed.

use std::io;
use std::rc::Rc;

use serde_json::{Map, Value};

use super::{Decoder, Entry, Input, Output, Place, Rewriting};
use crate::clock::Stamp;
use crate::code::Platform;
use crate::format::journal_attributes;
use crate::limits;
use crate::severity::Severity;
use crate::trouble::Trouble;

/// The decoder.
pub(super) struct JournalExport;

/// Fields of one entry.
const FIELDS: usize = 1024;

/// A field: its name, its value as text, and both as the entry's fields have them.
#[derive(Debug)]
pub(super) struct Field {
    name: String,
    value: String,
    written: String,
}

impl Field {
    pub(super) fn new(name: &[u8], value: &[u8]) -> Self {
        let (name, value) = (String::from_utf8_lossy(name).into_owned(), String::from_utf8_lossy(value).into_owned());
        let mut written = String::new();
        if !matches!(name.as_str(), "MESSAGE" | "PRIORITY" | "__REALTIME_TIMESTAMP") {
            // Fields are parted by tabs: those and line feeds inside are written with a backslash.
            let plain = !value.bytes().any(|byte| matches!(byte, b'\\' | b'\t' | b'\n'));
            let escaped = || value.replace('\\', "\\\\").replace('\t', "\\t").replace('\n', "\\n");
            written = if plain { [&name, "=", &value, "\t"].concat() } else { [&name, "=", &escaped(), "\t"].concat() };
        }
        Self { name, value, written }
    }
}

/// The fields of one entry.
#[derive(Default)]
pub(super) struct Fields {
    list: Vec<Rc<Field>>,
}

impl Fields {
    /// Adds a field; what is beyond the limits of a record is left out.
    pub(super) fn add(&mut self, field: Rc<Field>) {
        if self.list.len() < FIELDS {
            self.list.push(field);
        }
    }

    pub(super) fn has(&self, name: &str) -> bool {
        self.list.iter().any(|field| field.name == name)
    }

    pub(super) fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    fn get(&self, name: &str) -> Option<&str> {
        self.list.iter().find(|field| field.name == name).map(|field| field.value.as_str())
    }

    /// Writes the entry. A field that occurs several times is a list.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(super) fn write(&self, realtime_us: Option<i64>, place: Place, out: &mut Output) -> io::Result<()> {
        let micros = realtime_us.or_else(|| self.get("__REALTIME_TIMESTAMP")?.parse().ok());
        let stamp = match micros {
            Some(micros) => micros.checked_mul(1000).map_or(Stamp::OutOfRange, |ns| Stamp::Utc(ns, 0)),
            None => Stamp::None,
        };
        let priority = self.get("PRIORITY").unwrap_or_default();
        let level = priority.parse::<u32>().ok().filter(|level| *level < 8);
        let component = ["SYSLOG_IDENTIFIER", "_COMM", "_SYSTEMD_UNIT"].iter().find_map(|name| self.get(name));
        let fields: String = self.list.iter().map(|field| field.written.as_str()).collect();
        out.entry(&Entry {
            stamp,
            severity: level.map_or(Severity::NONE, Severity::from_syslog),
            severity_text: priority,
            host: self.get("_HOSTNAME").unwrap_or_default(),
            component: component.unwrap_or_default(),
            pid: self.get("_PID").or_else(|| self.get("SYSLOG_PID")).and_then(|pid| pid.parse().ok()),
            tid: self.get("TID").and_then(|tid| tid.parse().ok()),
            place,
            body: self.get("MESSAGE").unwrap_or_default(),
            fields: &fields,
        })
    }
}

/// The attributes of fields as [`Fields::write`] writes them. A field that occurs several times is a list.
pub(super) fn attributes(text: &str) -> Map<String, Value> {
    let mut fields: Map<String, Value> = Map::new();
    for (name, value) in text.split('\t').filter_map(|field| field.split_once('=')) {
        let value = Value::from(unescaped(value));
        match fields.get_mut(name) {
            None => {
                fields.insert(name.to_owned(), value);
            }
            Some(Value::Array(items)) => items.push(value),
            Some(first) => *first = Value::Array(vec![first.take(), value]),
        }
    }
    journal_attributes(fields.iter().map(|(name, value)| (name.as_str(), value.clone())))
}

fn unescaped(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '\\' => plain.push(match letters.next() {
                Some('t') => '\t',
                Some('n') => '\n',
                other => other.unwrap_or('\\'),
            }),
            _ => plain.push(letter),
        }
    }
    plain
}

fn is_name(name: &[u8]) -> bool {
    (1..=64).contains(&name.len())
        && name.iter().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit() || *byte == b'_')
}

/// Bytes of the file, read forward.
struct Forward<'a, 'b> {
    input: &'a Input<'b>,
    buffer: Vec<u8>,
    pos: usize,
    /// Where in the file the buffer starts.
    base: u64,
}

impl Forward<'_, '_> {
    fn offset(&self) -> u64 {
        self.base.saturating_add(self.pos as u64)
    }

    /// Makes sure that `count` more bytes are in the buffer, if the file has them.
    fn fill(&mut self, count: usize) -> io::Result<&[u8]> {
        if self.buffer.len() - self.pos < count {
            self.base = self.base.saturating_add(self.pos as u64);
            self.buffer.drain(..self.pos);
            self.pos = 0;
            let next = self.base.saturating_add(self.buffer.len() as u64);
            let more = self.input.read(next, count.max(limits::RECORD_BYTES))?;
            self.buffer.extend_from_slice(&more);
        }
        Ok(self.buffer.get(self.pos..).unwrap_or_default())
    }

    /// The next line without its end, at most [`limits::RECORD_BYTES`] of it; `None` at the end of the file.
    fn line(&mut self) -> io::Result<Option<Vec<u8>>> {
        let mut wanted = 4096;
        loop {
            let rest = self.fill(wanted)?;
            if let Some(end) = memchr::memchr(b'\n', rest) {
                let line = rest.get(..end).unwrap_or_default().to_vec();
                self.pos += end + 1;
                return Ok(Some(line));
            }
            if rest.len() < wanted || wanted >= limits::RECORD_BYTES {
                let line = rest.to_vec();
                self.pos += line.len();
                return Ok(if line.is_empty() { None } else { Some(line) });
            }
            wanted *= 2;
        }
    }
}

impl Decoder for JournalExport {
    fn name(&self) -> &'static str {
        "journal-export"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn rewriting(&self) -> Rewriting {
        Rewriting::ByField
    }

    fn recognise(&self, start: &[u8]) -> bool {
        let mut lines = start.split(|byte| *byte == b'\n').skip_while(|line| line.is_empty());
        let first = lines.next().unwrap_or_default();
        let named = first.iter().position(|byte| *byte == b'=').and_then(|end| first.get(..end)).is_some_and(is_name);
        let has =
            |name: &[u8]| start.starts_with(name) || memchr::memmem::find(start, &[b"\n", name].concat()).is_some();
        named && (has(b"__REALTIME_TIMESTAMP=") || has(b"__CURSOR="))
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn attributes(&self, _: &str, fields: &str) -> Map<String, Value> {
        attributes(fields)
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        "utf-8".clone_into(&mut out.account.encoding);
        let mut forward = Forward { input, buffer: Vec::new(), pos: 0, base: 0 };
        let mut fields = Fields::default();
        let mut place = Place::default();
        let mut line_number = 0_u64;
        loop {
            let at = forward.offset();
            let line = forward.line()?;
            line_number = line_number.saturating_add(u64::from(line.is_some()));
            match line {
                None => break,
                Some(line) if line.is_empty() => {
                    place.length = at.saturating_sub(place.offset);
                    finish(&mut fields, place, out)?;
                }
                Some(line) => {
                    if fields.is_empty() {
                        place = Place { line: line_number, offset: at, length: 0 };
                    } else {
                        out.account.attached_lines = out.account.attached_lines.saturating_add(1);
                    }
                    let parts =
                        memchr::memchr(b'=', &line).and_then(|end| Some((line.get(..end)?, line.get(end + 1..)?)));
                    match parts {
                        Some((name, value)) if is_name(name) => fields.add(Rc::new(Field::new(name, value))),
                        None if is_name(&line) => {
                            if !binary(&mut forward, &line, &mut fields, out)? {
                                break;
                            }
                        }
                        _ => out.trouble(Trouble::lost(format!(
                            "no field at byte {at}: {} bytes were skipped",
                            line.len()
                        ))),
                    }
                }
            }
        }
        place.length = forward.offset().saturating_sub(place.offset);
        finish(&mut fields, place, out)?;
        out.account.lines = line_number;
        Ok(())
    }
}

fn finish(fields: &mut Fields, place: Place, out: &mut Output) -> io::Result<()> {
    if !fields.is_empty() {
        std::mem::take(fields).write(None, place, out)?;
    }
    Ok(())
}

/// A field whose value stands behind its length; `false` where the file ends inside.
fn binary(forward: &mut Forward<'_, '_>, name: &[u8], fields: &mut Fields, out: &mut Output) -> io::Result<bool> {
    let at = forward.offset();
    let Some(length) = forward.fill(8)?.first_chunk::<8>().map(|bytes| u64::from_le_bytes(*bytes)) else {
        out.trouble(Trouble::lost(format!("cut off at byte {at}: in the length of a field")));
        return Ok(false);
    };
    forward.pos += 8;
    let left = forward.input.len_bytes.saturating_sub(forward.offset());
    if length > left {
        let what = format!("the field at byte {at} claims {length} bytes, the file has {left} more");
        out.trouble(Trouble::lost(what));
    }
    let length = length.min(left);
    let kept = usize::try_from(length).unwrap_or(usize::MAX).min(limits::RECORD_BYTES);
    let mut value = forward.fill(kept)?.to_vec();
    value.truncate(kept);
    if length > kept as u64 {
        out.trouble(Trouble::lost(format!(
            "the field at byte {at} is longer than {} bytes: cut there",
            limits::RECORD_BYTES
        )));
    }
    fields.add(Rc::new(Field::new(name, &value)));
    let mut skip = length;
    while skip > 0 {
        let step = forward.fill(1)?.len().min(usize::try_from(skip).unwrap_or(usize::MAX));
        if step == 0 {
            return Ok(false);
        }
        forward.pos += step;
        skip = skip.saturating_sub(step as u64);
    }
    // The line feed behind the value.
    let more = forward.fill(1)?.first() == Some(&b'\n');
    forward.pos += usize::from(more);
    Ok(true)
}
