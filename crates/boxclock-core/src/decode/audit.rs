//! `audit`: records of the kernel's audit system; those of one event share its time and serial number.
//!
//! Source: the manual pages auditd.conf(5) and ausearch(8), and the audit project's document on the format of its records:
//! `[node=HOST ]type=TYPE msg=audit(SECONDS.MILLIS:SERIAL): key=value …`. Records of one event stand near each other, but
//! those of another may stand between; `type=EOE` ends an event of several. Values in hexadecimal are text that held blanks.

use std::collections::VecDeque;
use std::io;

use serde_json::{Map, Value};

use super::{Decoder, Entry, Input, Line, Output, Place};
use crate::clock::{SECOND, Stamp};
use crate::code::Platform;

/// The decoder.
pub(super) struct Audit;

/// Events that may be open at once.
const OPEN: usize = 64;
/// Records of one event.
const RECORDS: usize = 1000;

struct Record<'a> {
    node: &'a str,
    kind: &'a str,
    /// Time and serial number as written: what the records of an event share.
    stamp: &'a str,
    rest: &'a str,
}

fn parse(line: &str) -> Option<Record<'_>> {
    let (node, rest) = match line.strip_prefix("node=") {
        Some(rest) => rest.split_once(' ')?,
        None => ("", line),
    };
    let (kind, rest) = rest.strip_prefix("type=")?.split_once(" msg=audit(")?;
    let (stamp, rest) = rest.split_once("):")?;
    let (seconds, serial) = stamp.split_once(':')?;
    let digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    let good = digits(serial) && seconds.split('.').all(digits);
    good.then_some(Record { node, kind, stamp, rest: rest.trim_start() })
}

fn time(stamp: &str) -> Stamp {
    let Some((seconds, _)) = stamp.split_once(':') else { return Stamp::None };
    let (whole, fraction) = seconds.split_once('.').unwrap_or((seconds, "0"));
    let nanos = format!("{fraction:0<9}");
    let parsed = (whole.parse::<i64>(), nanos.get(..9).and_then(|nanos| nanos.parse::<i64>().ok()));
    let (Ok(whole), Some(nanos)) = parsed else { return Stamp::OutOfRange };
    let ns = whole.checked_mul(SECOND).and_then(|ns| ns.checked_add(nanos));
    ns.map_or(Stamp::OutOfRange, |ns| Stamp::Utc(ns, 0))
}

/// The pairs of a record; values in quotes keep their blanks, those of `msg='…'` are pairs of their own.
fn pairs(text: &str) -> Vec<(String, String)> {
    let mut pairs = Vec::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('=') {
        let key = before.rsplit([' ', '\'', '\u{1D}']).next().unwrap_or(before).to_owned();
        let (value, next) = match after.strip_prefix('"') {
            Some(inner) => inner.split_once('"').unwrap_or((inner, "")),
            None if after.starts_with('\'') => ("", &after[1..]),
            None => after.split_once([' ', '\u{1D}']).unwrap_or((after, "")),
        };
        if !key.is_empty() && !value.is_empty() && pairs.len() < 512 {
            pairs.push((key, value.trim_end_matches('\'').to_owned()));
        }
        rest = next;
    }
    pairs
}

/// What a field in hexadecimal says, where the kernel writes it so.
fn readable(key: &str, value: String) -> String {
    let encoded = matches!(key, "proctitle" | "name" | "cmd" | "comm" | "exe" | "cwd" | "data" | "acct")
        && value.len() >= 2
        && value.len().is_multiple_of(2)
        && value.bytes().all(|byte| byte.is_ascii_hexdigit() && !byte.is_ascii_lowercase());
    if !encoded {
        return value;
    }
    let bytes: Option<Vec<u8>> =
        (0..value.len()).step_by(2).map(|at| u8::from_str_radix(&value[at..at + 2], 16).ok()).collect();
    bytes.map_or(value, |bytes| String::from_utf8_lossy(&bytes).replace('\0', " "))
}

/// An event whose records are being gathered.
struct Open {
    stamp: String,
    node: String,
    place: Place,
    end: u64,
    lines: Vec<String>,
    bytes: u64,
    done: bool,
}

impl Open {
    fn write(&self, out: &mut Output) -> io::Result<()> {
        let body = self.lines.join("\n");
        let value = |name: &str| {
            let at = body.find(name)? + name.len();
            let rest = body.get(at..)?.trim_start_matches('"');
            rest.split(['"', ' ', '\n']).next()
        };
        let component = value(" comm=").map(|name| readable("comm", name.to_owned()));
        out.entry(&Entry {
            stamp: time(&self.stamp),
            host: &self.node,
            component: component.as_deref().unwrap_or("audit"),
            pid: value(" pid=").and_then(|pid| pid.parse().ok()),
            body: &body,
            fields: self.stamp.rsplit(':').next().unwrap_or_default(),
            ..Entry::at(self.place)
        })?;
        // Records of other events may stand between: only what is its own counts.
        out.account.event_bytes = out.account.event_bytes.saturating_sub(self.place.length).saturating_add(self.bytes);
        Ok(())
    }
}

/// The fields of all records of an event.
fn attributes(body: &str, serial: &str) -> Map<String, Value> {
    let mut attributes = Map::new();
    let mut kinds = Vec::new();
    for line in body.lines() {
        let (kind, rest) = line.split_once(' ').unwrap_or((line, ""));
        kinds.push(Value::from(kind));
        for (key, value) in pairs(rest) {
            let value = Value::from(readable(&key, value));
            let key = name_of(&key);
            match attributes.get_mut(&key) {
                None => {
                    attributes.insert(key, value);
                }
                Some(known) if *known == value => {}
                Some(Value::Array(items)) => items.push(value),
                Some(first) => *first = Value::Array(vec![first.take(), value]),
            }
        }
    }
    attributes.remove("process.pid");
    attributes.insert("audit.types".into(), Value::Array(kinds));
    attributes.extend(serial.parse::<u64>().ok().map(|serial| ("audit.serial".to_owned(), Value::from(serial))));
    attributes
}

/// A record as the body of its event has it: its type and its fields.
fn shown(line: &Line, record: Option<&Record<'_>>) -> String {
    record.map_or_else(|| line.text.clone(), |record| format!("{} {}", record.kind, record.rest))
}

/// What a field is called as an attribute; OpenTelemetry's name where there is one.
fn name_of(key: &str) -> String {
    match key {
        "pid" => "process.pid".into(),
        "ppid" => "process.parent_pid".into(),
        "comm" => "process.name".into(),
        "exe" => "process.executable.path".into(),
        "proctitle" => "process.command_line".into(),
        "uid" => "user.id".into(),
        "acct" => "user.name".into(),
        "addr" => "client.address".into(),
        other => format!("audit.{other}"),
    }
}

impl Decoder for Audit {
    fn name(&self) -> &'static str {
        "audit"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn recognise(&self, start: &[u8]) -> bool {
        let text = String::from_utf8_lossy(start);
        let lines = || text.lines().filter(|line| !line.trim().is_empty()).take(50);
        let good = lines().filter(|line| parse(line).is_some()).count();
        good > 0 && good * 10 >= lines().count() * 8
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn attributes(&self, body: &str, fields: &str) -> Map<String, Value> {
        attributes(body, fields)
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let mut lines = input.lines()?;
        lines.encoding.name().clone_into(&mut out.account.encoding);
        let mut open: VecDeque<Open> = VecDeque::new();
        while let Some(line) = lines.next_line()? {
            out.account.lines = out.account.lines.saturating_add(1);
            take(&mut open, &line, out);
            // Events leave in the order of their first records.
            while open.front().is_some_and(|event| event.done || open.len() > OPEN) {
                if let Some(event) = open.pop_front() {
                    event.write(out)?;
                }
            }
        }
        for event in open {
            event.write(out)?;
        }
        Ok(())
    }
}

fn take(open: &mut VecDeque<Open>, line: &Line, out: &mut Output) {
    let parsed = parse(&line.text);
    let known = match &parsed {
        Some(record) => {
            open.iter_mut().rev().find(|event| !event.done && event.stamp == record.stamp && event.node == record.node)
        }
        // A line that is no record belongs to the one before it.
        None => open.back_mut(),
    };
    if let Some(event) = known.filter(|event| event.lines.len() < RECORDS) {
        out.account.attached_lines = out.account.attached_lines.saturating_add(1);
        event.bytes = event.bytes.saturating_add(line.place.length);
        if event.end == line.place.offset {
            event.end = event.end.saturating_add(line.place.length);
            event.place.length = event.place.length.saturating_add(line.place.length);
        }
        let ends = parsed.as_ref().is_some_and(|record| matches!(record.kind, "EOE"));
        event.done |= ends;
        if !ends {
            event.lines.push(shown(line, parsed.as_ref()));
        }
        return;
    }
    // A record of user space stands alone.
    let alone = parsed.as_ref().is_some_and(|record| record.rest.contains("msg='"));
    open.push_back(Open {
        stamp: parsed.as_ref().map_or_else(String::new, |record| record.stamp.to_owned()),
        node: parsed.as_ref().map_or_else(String::new, |record| record.node.to_owned()),
        place: line.place,
        end: line.place.offset.saturating_add(line.place.length),
        lines: vec![shown(line, parsed.as_ref())],
        bytes: line.place.length,
        done: alone,
    });
}
