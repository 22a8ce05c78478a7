//! `journal-export` as people ask for it: the output of `journalctl -o verbose`, a head for each entry and its fields below.
//!
//! ```text
//! Sun 2026-04-12 02:31:07.442123 UTC [s=…;i=…;b=…;m=…;t=…;x=…]
//!     PRIORITY=3
//!     MESSAGE=valve 3 does not answer
//!     _PID=99
//! ```
//!
//! Source: the manual page journalctl(1) and what the program wrote here. `t` in the cursor is the entry's time in microseconds
//! since the epoch, hexadecimal (`systemd.journal-fields(7)` calls the cursor opaque, so it only counts where it agrees with the
//! head to the second). Further lines of a value are indented deeper.

use std::io;

use serde_json::{Map, Value};

use super::{Decoder, Entry, Input, Output, Place};
use crate::clock::{SECOND, Stamp, scan};
use crate::code::Platform;
use crate::format::journal_attributes;
use crate::limits;
use crate::severity::Severity;

/// The decoder.
pub(super) struct JournalVerbose;

/// The head of an entry: its time.
fn head(line: &str) -> Option<Stamp> {
    let (weekday, rest) = line.split_once(' ')?;
    let is_weekday =
        !weekday.is_empty() && weekday.len() <= 12 && weekday.chars().all(|c| c.is_alphabetic() || c == '.');
    let bytes = rest.as_bytes();
    let (mut civil, end) = scan::iso(bytes).filter(|_| is_weekday)?;
    let mut end = end;
    if civil.offset.is_none()
        && let Some((offset, zone_end, ambiguous)) = scan::certain_zone(bytes, end)
    {
        civil.offset = Some(offset).filter(|_| !ambiguous);
        end = zone_end;
    }
    let cursor = rest.get(end..)?.trim_start();
    // A zone that nothing knows stands in front of the cursor.
    let cursor = if cursor.starts_with('[') { cursor } else { cursor.split_once(' ')?.1 };
    let cursor = cursor.strip_prefix('[')?.strip_suffix(']')?;
    let written = cursor.split(';').find_map(|part| part.strip_prefix("t="))?;
    let micros = i64::from_str_radix(written, 16).ok()?;
    let exact = micros.checked_mul(1000)?;
    match civil.stamp() {
        Stamp::Local(_) => Some(Stamp::Utc(exact, 0)),
        Stamp::Utc(ns, offset) if ns.saturating_sub(exact).abs() < SECOND => Some(Stamp::Utc(exact, offset)),
        other => Some(other),
    }
}

impl Decoder for JournalVerbose {
    fn name(&self) -> &'static str {
        "journal-export"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn recognise(&self, start: &[u8]) -> bool {
        let text = String::from_utf8_lossy(start.get(..start.len().min(8192)).unwrap_or_default());
        let mut lines = text.lines().filter(|line| !line.starts_with("-- "));
        lines.next().is_some_and(|line| head(line).is_some()) && lines.next().is_some_and(|line| field(line).is_some())
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let mut lines = input.lines()?;
        lines.encoding.name().clone_into(&mut out.account.encoding);
        let mut open: Option<Open> = None;
        while let Some(line) = lines.next_line()? {
            out.account.lines = out.account.lines.saturating_add(1);
            if let Some(stamp) = head(&line.text) {
                write(open.take(), out)?;
                open = Some(Open { stamp, place: line.place, fields: Vec::new(), bytes: 0 });
                continue;
            }
            let Some(entry) = &mut open else { continue };
            if line.text.starts_with("-- ") {
                write(open.take(), out)?;
                continue;
            }
            out.account.attached_lines = out.account.attached_lines.saturating_add(1);
            entry.place.length = entry.place.length.saturating_add(line.place.length);
            entry.bytes = entry.bytes.saturating_add(line.text.len());
            if entry.bytes > limits::RECORD_BYTES {
                continue;
            }
            match field(&line.text) {
                Some((name, value)) => entry.fields.push((name.to_owned(), value.to_owned())),
                None => {
                    if let Some((_, value)) = entry.fields.last_mut() {
                        value.push('\n');
                        value.push_str(line.text.trim_start());
                    }
                }
            }
        }
        write(open, out)
    }
}

/// `    NAME=value`, indented by four blanks.
fn field(line: &str) -> Option<(&str, &str)> {
    let (name, value) = line.strip_prefix("    ")?.split_once('=')?;
    let good = |byte: u8| byte.is_ascii_uppercase() || byte.is_ascii_digit() || byte == b'_';
    (!name.is_empty() && name.bytes().all(good)).then_some((name, value))
}

struct Open {
    stamp: Stamp,
    place: Place,
    fields: Vec<(String, String)>,
    bytes: usize,
}

fn write(open: Option<Open>, out: &mut Output) -> io::Result<()> {
    let Some(Open { stamp, place, fields, .. }) = open else { return Ok(()) };
    let value = |name: &str| fields.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str());
    let level = value("PRIORITY").unwrap_or_default();
    let severity = level.parse::<u32>().ok().filter(|level| *level < 8).map_or(Severity::NONE, Severity::from_syslog);
    let component = ["SYSLOG_IDENTIFIER", "_COMM", "_SYSTEMD_UNIT"].into_iter().find_map(value);
    let pairs = fields.iter().map(|(name, value)| (name.as_str(), Value::from(value.as_str())));
    let attributes: Map<String, Value> = journal_attributes(pairs);
    out.entry(&Entry {
        stamp,
        severity,
        severity_text: level,
        host: value("_HOSTNAME").unwrap_or_default(),
        component: component.unwrap_or_default(),
        pid: value("_PID").or(value("SYSLOG_PID")).and_then(|pid| pid.parse().ok()),
        tid: value("TID").or(value("_TID")).and_then(|tid| tid.parse().ok()),
        place,
        body: value("MESSAGE").unwrap_or_default(),
        fields: &Value::Object(attributes).to_string(),
    })
}
