//! `journal-json`: the journal of the system service manager, one JSON object a line.
//!
//! Source: the project's published documents "Journal JSON Format" and `systemd.journal-fields(7)`: field values are
//! strings, arrays of bytes where they are no text, arrays where a field occurs several times, null where too large;
//! `__REALTIME_TIMESTAMP` counts microseconds, `PRIORITY` is a syslog level. The forms with `data: ` or a record
//! separator in front of each object are read too.

use serde_json::{Map, Value};

use super::json_lines::text;
use super::json_scan::{Raw, members};
use super::word::number;
use super::{Fit, Head, Hint, LineFormat, Record, body_text};
use crate::clock::Stamp;
use crate::limits;
use crate::severity::Severity;

/// The format.
pub(super) struct JournalJson;

/// The object of a line, without what the streaming forms put in front.
fn object(line: &[u8]) -> &[u8] {
    let line = line.strip_prefix(b"\x1E").unwrap_or(line);
    line.strip_prefix(b"data: ").unwrap_or(line)
}

/// What fields of the journal are called as attributes: OpenTelemetry's name where there is one.
pub(crate) fn attribute(name: &str) -> Option<&'static str> {
    Some(match name {
        "_HOSTNAME" => "host.name",
        "_MACHINE_ID" => "host.id",
        "_BOOT_ID" => "journal.boot_id",
        "_SYSTEMD_UNIT" => "systemd.unit",
        "_SYSTEMD_USER_UNIT" => "systemd.user_unit",
        "UNIT" => "systemd.object_unit",
        "_COMM" => "process.name",
        "_EXE" => "process.executable.path",
        "_CMDLINE" => "process.command_line",
        "_UID" => "user.id",
        "_GID" => "process.group_id",
        "_TRANSPORT" => "journal.transport",
        "MESSAGE_ID" => "journal.message_id",
        "CODE_FILE" => "code.file.path",
        "CODE_LINE" => "code.line.number",
        "CODE_FUNC" => "code.function.name",
        "ERRNO" => "error.errno",
        "SYSLOG_FACILITY" => "syslog.facility.code",
        "__CURSOR" => "journal.cursor",
        "__MONOTONIC_TIMESTAMP" => "journal.monotonic_us",
        "__SEQNUM" => "journal.seqnum",
        _ => return None,
    })
}

/// A field's value as the attribute's.
pub(crate) fn attributes<'a>(fields: impl Iterator<Item = (&'a str, Value)>) -> Map<String, Value> {
    let mut attributes = Map::new();
    for (name, value) in fields {
        if matches!(name, "MESSAGE" | "PRIORITY" | "__REALTIME_TIMESTAMP") || value.is_null() {
            continue;
        }
        let key = attribute(name)
            .map_or_else(|| format!("journal.{}", name.trim_start_matches('_').to_lowercase()), str::to_owned);
        attributes.insert(key, value);
    }
    attributes
}

/// A JSON value as text: arrays of bytes are text that is not clean, other arrays several values.
fn plain(value: Value) -> Value {
    match value {
        Value::Array(items)
            if !items.is_empty() && items.iter().all(|item| item.as_u64().is_some_and(|byte| byte < 256)) =>
        {
            let bytes: Vec<u8> =
                items.iter().filter_map(Value::as_u64).filter_map(|byte| u8::try_from(byte).ok()).collect();
            Value::from(String::from_utf8_lossy(&bytes))
        }
        other => other,
    }
}

impl LineFormat for JournalJson {
    fn name(&self) -> &'static str {
        "journal-json"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let object = object(line);
        if object.first() != Some(&b'{') {
            return None;
        }
        let mut head = Head::default();
        let (mut source_time, mut rank, mut tid_known) = (None, u8::MAX, false);
        let micros = |value: Raw<'a>| std::str::from_utf8(&text(value)).ok()?.parse::<i64>().ok()?.checked_mul(1000);
        let whole = members(object, |key, value| {
            let mut component = |new: u8, value: Raw<'a>| {
                if new < rank {
                    rank = new;
                    head.component = text(value);
                }
            };
            match key {
                b"__REALTIME_TIMESTAMP" => source_time = micros(value),
                b"PRIORITY" => {
                    head.severity_text = text(value);
                    let level = number(&head.severity_text).filter(|level| *level < 8);
                    head.severity = level.map_or(Severity::NONE, Severity::from_syslog);
                }
                b"SYSLOG_IDENTIFIER" => component(0, value),
                b"_COMM" => component(1, value),
                b"_SYSTEMD_UNIT" => component(2, value),
                b"_HOSTNAME" => head.host = text(value),
                b"_PID" => head.pid = number(&text(value)),
                b"SYSLOG_PID" if head.pid.is_none() => head.pid = number(&text(value)),
                b"TID" | b"_TID" if !tid_known => {
                    tid_known = true;
                    head.tid = number(&text(value));
                }
                _ => {}
            }
        });
        // Of a line beyond the limit the reader sees its start: what was found there counts.
        let time = source_time.filter(|_| whole || line.len() >= limits::LONGEST_JSON_BYTES)?;
        head.stamp = Stamp::Utc(time, 0);
        Some(head)
    }

    fn record(&self, record_text: &str, _: Hint) -> Record {
        let line = record_text.lines().next().unwrap_or_default();
        let line = line.strip_prefix('\u{1E}').unwrap_or(line);
        let line = line.strip_prefix("data: ").unwrap_or(line);
        let Ok(Value::Object(object)) = serde_json::from_str(line.trim()) else {
            return Record { body: body_text(record_text), ..Record::default() };
        };
        let string = |name: &str| match object.get(name).cloned().map(plain) {
            Some(Value::String(text)) => Some(text),
            _ => None,
        };
        let mut record = Record {
            body: string("MESSAGE").unwrap_or_default(),
            severity_text: string("PRIORITY"),
            ..Record::default()
        };
        record.attributes = attributes(object.iter().map(|(name, value)| (name.as_str(), plain(value.clone()))));
        record
    }

    fn structured(&self, text: &str) -> Option<String> {
        super::pretty_json(std::str::from_utf8(object(text.as_bytes())).ok()?)
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        Fit { heads: lines.iter().filter(|line| self.head(line, 0).is_some()).count(), ..Fit::default() }
    }
}
