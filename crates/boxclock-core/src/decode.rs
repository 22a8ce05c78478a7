//! Files whose records are not lines: decoded once into a text of our own in the cache, which the engine then reads like
//! any other.
//!
//! A [`Decoder`] walks its file from start to end and writes one [`Entry`] for each record. The text has for each entry a
//! line that starts with U+001E and holds its columns, parted by U+001F, then the other lines of its body, then a line that
//! starts with U+001D and holds its fields. An entry keeps where its record stands in the file itself, so that whatever
//! is shown or written refers to the original. To add a decoder: one file in `decode/`, one line in [`DECODERS`].

#![cfg_attr(
    not(test),
    deny(clippy::indexing_slicing, clippy::arithmetic_side_effects, clippy::cast_possible_truncation)
)]

use std::borrow::Cow;
use std::io::{self, Write};

use serde_json::{Map, Value};

use crate::clock::Stamp;
use crate::code::{Code, Family, Found, Platform};
use crate::format::{Head, Hint, InstallerLog, LineFormat, Place, Record};
use crate::limits;
use crate::severity::Severity;
use crate::source::ByteTotals;
use crate::text::{self, Encoding, LineEnd, SourceFile};
use crate::trouble::Trouble;
use crate::work::Work;

mod audit;
mod binxml;
mod device_install;
mod event_xml;
mod evtx;
mod java_log_xml;
mod journal_binary;
mod journal_export;
mod journal_verbose;
mod json_array;
mod json_document;
mod kept;
mod key_value_report;
mod login_records;
mod syscall_trace;
mod windows_event;

pub use kept::{Text, decode, decode_bytes};

#[cfg(test)]
mod tests;

/// All decoders. The first that recognises a file decodes it.
pub static DECODERS: [Decoded; 15] = [
    Decoded(&evtx::Evtx),
    Decoded(&journal_binary::JournalBinary),
    Decoded(&login_records::LoginRecords),
    Decoded(&event_xml::EventXml),
    Decoded(&journal_export::JournalExport),
    Decoded(&audit::Audit),
    Decoded(&syscall_trace::SyscallTrace),
    Decoded(&key_value_report::KeyValueReport),
    Decoded(&java_log_xml::JavaLogXml),
    Decoded(&journal_verbose::JournalVerbose),
    Decoded(&device_install::DeviceInstall),
    Decoded(&json_array::KernelJson),
    Decoded(&json_array::CountersJson),
    Decoded(&json_document::JsonDocument { journal: true }),
    Decoded(&json_document::JsonDocument { journal: false }),
];

/// Reads a file whose records are not lines.
pub trait Decoder: Sync {
    /// The name of the JSON contract.
    fn name(&self) -> &'static str;

    /// Whether a file that starts with these bytes ([`limits::SAMPLE_BYTES`] of them, if it has as many) is of this kind.
    fn recognise(&self, start: &[u8]) -> bool;

    /// Writes an entry for each record.
    ///
    /// # Errors
    /// When the file cannot be read, the entries cannot be written, or the work is cancelled. Damage inside the file is no
    /// error: it is noted with [`Output::trouble`], and what follows is read.
    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()>;

    /// The system that writes such files.
    fn platform(&self) -> Platform;

    /// Families of codes that are at home in such files.
    fn families(&self) -> &'static [Family] {
        &[]
    }

    /// The kind of installer that writes it, see [`LineFormat::installer`].
    fn installer(&self) -> Option<InstallerLog> {
        None
    }

    /// Whether its components are programs, see [`LineFormat::names_programs`].
    fn names_programs(&self) -> bool {
        false
    }

    /// Whether calls that fail are part of healthy work in it, see [`LineFormat::is_quiet`].
    fn is_quiet(&self) -> bool {
        false
    }

    /// Whether its times count from the start of the system, see [`LineFormat::counts_from_boot`].
    fn counts_from_boot(&self) -> bool {
        false
    }

    /// Whether a line of a body is a parameter, whose numbers are no codes.
    fn is_parameter(&self, _line: &[u8]) -> bool {
        false
    }

    /// Codes that its fields say, where no word in the body does.
    fn field_codes(&self, _fields: &str) -> Vec<Code> {
        Vec::new()
    }

    /// How its bytes can be rewritten with some values replaced.
    fn rewriting(&self) -> Rewriting {
        Rewriting::AsText
    }

    /// The attributes of an entry, from its body and the fields that it was written with.
    fn attributes(&self, _body: &str, fields: &str) -> Map<String, Value> {
        match serde_json::from_str(fields) {
            Ok(Value::Object(object)) => object,
            _ => Map::new(),
        }
    }

    /// An entry's fields in the form that its format has of itself, indented for people.
    fn structured(&self, body: &str, fields: &str) -> Option<String> {
        let attributes = self.attributes(body, fields);
        (!attributes.is_empty()).then(|| serde_json::to_string_pretty(&attributes).ok())?
    }

    /// Changes when the decoder gives other results for the same bytes.
    fn version(&self) -> u32 {
        1
    }
}

/// How the bytes of a file can be rewritten with some values replaced.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rewriting {
    /// As any text.
    AsText,
    /// Field by field: values carry their length.
    ByField,
    /// Not at all: places and checksums inside hang on every byte.
    Impossible,
}

/// One record, as a decoder gives it.
#[derive(Debug)]
pub struct Entry<'a> {
    /// Its time.
    pub stamp: Stamp,
    /// Its severity.
    pub severity: Severity,
    /// The severity's word or number as written.
    pub severity_text: &'a str,
    /// The host that it names.
    pub host: &'a str,
    /// The program, provider or module.
    pub component: &'a str,
    /// Process id.
    pub pid: Option<u32>,
    /// Thread id.
    pub tid: Option<u32>,
    /// Its place in the file.
    pub place: Place,
    /// Its message.
    pub body: &'a str,
    /// Its fields, in the form that [`Decoder::attributes`] reads.
    pub fields: &'a str,
}

impl Entry<'_> {
    /// An entry with nothing but its place.
    pub fn at(place: Place) -> Self {
        Self {
            stamp: Stamp::None,
            severity: Severity::NONE,
            severity_text: "",
            host: "",
            component: "",
            pid: None,
            tid: None,
            place,
            body: "",
            fields: "",
        }
    }
}

/// A file to decode.
pub struct Input<'a> {
    /// The file.
    pub file: SourceFile,
    /// Its size in bytes.
    pub len_bytes: u64,
    /// When it was last modified, UTC nanoseconds.
    pub modified: i64,
    work: &'a Work,
}

impl Input<'_> {
    /// Bytes of the file; fewer at its end.
    ///
    /// # Errors
    /// When the file cannot be read, or the work is cancelled.
    pub fn read(&self, offset: u64, wanted: usize) -> io::Result<Vec<u8>> {
        if self.work.is_cancelled() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        // A file's own numbers may lead beyond what the system can be asked for.
        if offset > i64::MAX as u64 {
            return Ok(Vec::new());
        }
        self.file.read(offset, wanted)
    }

    /// Its lines as text, in the encoding that its start shows.
    ///
    /// # Errors
    /// When its start cannot be read.
    pub fn lines(&self) -> io::Result<Lines<'_, '_>> {
        let start = self.read(0, limits::SAMPLE_BYTES)?;
        let (encoding, mark) = text::guess(std::slice::from_ref(&start)).unwrap_or((Encoding::Utf8, 0));
        Ok(Lines { input: self, encoding, at: mark, number: 0, buffer: Vec::new(), pos: 0, ended: false })
    }
}

/// The lines of a file, one after the other. A line longer than [`limits::RECORD_BYTES`] is given in pieces.
pub struct Lines<'a, 'b> {
    input: &'a Input<'b>,
    /// How the characters are written.
    pub encoding: Encoding,
    at: u64,
    number: u64,
    buffer: Vec<u8>,
    pos: usize,
    ended: bool,
}

/// A line of a file.
#[derive(Debug)]
pub struct Line {
    /// Its place, with its line end.
    pub place: Place,
    /// Its text without line end.
    pub text: String,
}

impl Lines<'_, '_> {
    /// The next line.
    ///
    /// # Errors
    /// When the file cannot be read, or the work is cancelled.
    pub fn next_line(&mut self) -> io::Result<Option<Line>> {
        loop {
            let rest = self.buffer.get(self.pos..).unwrap_or_default();
            let end = self.encoding.line_end(&self.buffer, self.pos, LineEnd::Feed);
            let length = match end {
                Some(end) => end - self.pos,
                None if rest.len() >= limits::RECORD_BYTES || (self.ended && !rest.is_empty()) => rest.len(),
                None if self.ended => return Ok(None),
                None => {
                    self.buffer.drain(..self.pos);
                    self.pos = 0;
                    let next = self.at.saturating_add(self.buffer.len() as u64);
                    let more = self.input.read(next, limits::RECORD_BYTES)?;
                    self.ended = more.is_empty();
                    self.buffer.extend_from_slice(&more);
                    continue;
                }
            };
            self.number = self.number.saturating_add(1);
            let place = Place { line: self.number, offset: self.at, length: length as u64 };
            let mut text = self.encoding.text(rest.get(..length).unwrap_or_default());
            self.at = self.at.saturating_add(length as u64);
            self.pos += length;
            text.truncate(text.trim_end_matches(['\n', '\r']).len());
            return Ok(Some(Line { place, text }));
        }
    }
}

/// Where a decoder writes.
pub struct Output {
    to: Box<dyn Write>,
    /// What it came to so far.
    pub account: ByteTotals,
    line: Vec<u8>,
}

impl Output {
    fn new(to: impl Write + 'static) -> Self {
        Self {
            to: Box::new(to),
            account: ByteTotals { encoding: "binary".into(), ..ByteTotals::default() },
            line: Vec::new(),
        }
    }

    /// Writes one entry.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn entry(&mut self, entry: &Entry<'_>) -> io::Result<()> {
        let line = &mut self.line;
        line.clear();
        line.push(0x1E);
        let (kind, ns) = match entry.stamp {
            Stamp::None => (None, None),
            Stamp::Utc(ns, _) => (Some(b'U'), Some(ns)),
            Stamp::Local(ns) => (Some(b'L'), Some(ns)),
            Stamp::NoYear(ns) => (Some(b'Y'), Some(ns)),
            Stamp::TimeOfDay(ns) => (Some(b'D'), Some(ns)),
            Stamp::Uptime(ns) => (Some(b'B'), Some(ns)),
            Stamp::OutOfRange => (Some(b'X'), None),
        };
        line.extend(kind);
        if let Some(ns) = ns {
            number_to(line, ns);
        }
        if let Stamp::Utc(_, offset) = entry.stamp {
            line.push(b',');
            number_to(line, i64::from(offset));
        }
        line.push(0x1F);
        number_to(line, i64::from(entry.severity.0));
        for text in [entry.severity_text, entry.host, entry.component] {
            line.push(0x1F);
            clean_to(line, text);
        }
        for id in [entry.pid, entry.tid] {
            line.push(0x1F);
            if let Some(id) = id {
                number_to(line, i64::from(id));
            }
        }
        let Place { line: first, offset, length } = entry.place;
        for value in [first, offset, length] {
            line.push(0x1F);
            number_to(line, i64::try_from(value).unwrap_or(i64::MAX));
        }
        line.push(0x1F);
        for (index, text) in entry.body.trim_end_matches(['\n', '\r']).split('\n').enumerate() {
            if index > 0 {
                line.push(b'\n');
            }
            clean_to(line, text);
        }
        line.push(b'\n');
        if !entry.fields.is_empty() {
            line.push(0x1D);
            clean_to(line, entry.fields);
            line.push(b'\n');
        }
        self.to.write_all(line)?;
        self.account.entries = self.account.entries.saturating_add(1);
        self.account.event_bytes = self.account.event_bytes.saturating_add(length);
        Ok(())
    }

    /// Notes what could not be read.
    pub fn trouble(&mut self, trouble: Trouble) {
        if self.account.trouble.len() < limits::TROUBLES {
            self.account.trouble.push(trouble);
        }
    }
}

/// Adds text without the marks and line ends that the form of the entries uses.
fn clean_to(line: &mut Vec<u8>, text: &str) {
    let is_mark = |byte: &u8| matches!(byte, b'\n' | 0x1D..=0x1F);
    let start = line.len();
    line.extend_from_slice(text.strip_suffix('\r').unwrap_or(text).as_bytes());
    let new = line.get_mut(start..).unwrap_or_default();
    if new.iter().any(&is_mark) {
        new.iter_mut().filter(|byte| is_mark(byte)).for_each(|byte| *byte = b' ');
    }
}

/// Adds a number in decimal.
fn number_to(line: &mut Vec<u8>, number: i64) {
    let mut digits = [0_u8; 20];
    let mut used = 0;
    let mut rest = number.unsigned_abs();
    for digit in digits.iter_mut().rev() {
        *digit = b"0123456789".get((rest % 10) as usize).copied().unwrap_or_default();
        used += 1;
        rest /= 10;
        if rest == 0 {
            break;
        }
    }
    if number < 0 {
        line.push(b'-');
    }
    line.extend_from_slice(digits.get(digits.len() - used..).unwrap_or_default());
}

/// The line format of the text that a decoder wrote.
pub struct Decoded(&'static dyn Decoder);

struct Columns<'a> {
    stamp: Stamp,
    severity: Severity,
    words: [&'a [u8]; 3],
    pid: Option<u32>,
    tid: Option<u32>,
    place: Place,
    body: usize,
}

fn number<T: std::str::FromStr>(text: &[u8]) -> Option<T> {
    std::str::from_utf8(text).ok()?.parse().ok()
}

fn columns(line: &[u8]) -> Option<Columns<'_>> {
    let mut rest = line.strip_prefix(b"\x1E")?;
    let mut parts = [&b""[..]; 10];
    for part in &mut parts {
        let end = memchr::memchr(0x1F, rest)?;
        *part = rest.get(..end)?;
        rest = rest.get(end + 1..)?;
    }
    let [stamp, severity, severity_text, host, component, pid, tid, first_line, offset, length] = parts;
    let value = |text: &[u8]| number::<i64>(text);
    let stamp = match stamp.split_first() {
        Some((b'U', text)) => {
            let comma = memchr::memchr(b',', text)?;
            Stamp::Utc(value(text.get(..comma)?)?, number(text.get(comma + 1..)?)?)
        }
        Some((b'L', text)) => Stamp::Local(value(text)?),
        Some((b'Y', text)) => Stamp::NoYear(value(text)?),
        Some((b'D', text)) => Stamp::TimeOfDay(value(text)?),
        Some((b'B', text)) => Stamp::Uptime(value(text)?),
        Some((b'X', _)) => Stamp::OutOfRange,
        _ => Stamp::None,
    };
    Some(Columns {
        stamp,
        severity: Severity(number(severity)?),
        words: [severity_text, host, component],
        pid: number(pid),
        tid: number(tid),
        place: Place { line: number(first_line)?, offset: number(offset)?, length: number(length)? },
        body: line.len() - rest.len(),
    })
}

impl LineFormat for Decoded {
    fn name(&self) -> &str {
        self.0.name()
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let columns = columns(line)?;
        let [severity_text, host, component] = columns.words;
        Some(Head {
            stamp: columns.stamp,
            severity: columns.severity,
            severity_text: Cow::Borrowed(severity_text),
            host: Cow::Borrowed(host),
            component: Cow::Borrowed(component),
            pid: columns.pid,
            tid: columns.tid,
            body: columns.body,
        })
    }

    fn record(&self, text: &str, _: Hint) -> Record {
        let Some(columns) = columns(text.as_bytes()) else { return Record::default() };
        let rest = text.get(columns.body..).unwrap_or_default();
        let (body, fields) = rest.split_once("\n\u{1D}").unwrap_or((rest, ""));
        let word = String::from_utf8_lossy(columns.words[0]).into_owned();
        Record {
            body: body.trim_end_matches('\n').to_owned(),
            severity_text: (!word.is_empty()).then_some(word),
            attributes: self.0.attributes(body.trim_end_matches('\n'), fields.trim_end_matches('\n')),
            place: Some(columns.place),
        }
    }

    fn structured(&self, text: &str) -> Option<String> {
        let rest = text.get(columns(text.as_bytes())?.body..)?;
        let (body, fields) = rest.split_once("\n\u{1D}").unwrap_or((rest, ""));
        self.0.structured(body.trim_end_matches('\n'), fields.trim_end_matches('\n'))
    }

    fn is_fields(&self, line: &[u8]) -> bool {
        line.first() == Some(&0x1D) || self.0.is_parameter(line)
    }

    fn column_codes(&self, line: &[u8], found: &mut dyn FnMut(Found)) {
        let Some(fields) = line.strip_prefix(b"\x1D").and_then(|line| std::str::from_utf8(line).ok()) else { return };
        for code in self.0.field_codes(fields) {
            found(Found { start: 0, end: 0, code, general: false });
        }
    }

    fn version(&self) -> u32 {
        self.0.version()
    }

    fn platform(&self) -> Platform {
        self.0.platform()
    }

    fn families(&self) -> &'static [Family] {
        self.0.families()
    }

    fn installer(&self) -> Option<InstallerLog> {
        self.0.installer()
    }

    fn names_programs(&self) -> bool {
        self.0.names_programs()
    }

    fn is_quiet(&self) -> bool {
        self.0.is_quiet()
    }

    fn counts_from_boot(&self) -> bool {
        self.0.counts_from_boot()
    }
}

impl Decoded {
    /// How the bytes of such a file can be rewritten.
    pub fn rewriting(&self) -> Rewriting {
        self.0.rewriting()
    }
}

/// The decoder for a file that starts with these bytes, or the one of a name where the user chose one.
pub fn decoder_for(start: &[u8], chosen: Option<&str>) -> Option<&'static Decoded> {
    match chosen {
        Some(name) => DECODERS.iter().find(|decoder| decoder.name() == name),
        None => DECODERS.iter().find(|decoder| decoder.0.recognise(start)),
    }
}
