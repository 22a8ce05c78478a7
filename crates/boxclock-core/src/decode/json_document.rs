//! JSON that is not one event a line: objects over several lines, a list of objects, and OpenTelemetry's exported logs.
//!
//! Source: RFC 8259; the protocol buffers of the OpenTelemetry protocol in their JSON mapping ("OTLP/JSON":
//! `resourceLogs` → `scopeLogs` → `logRecords`, 64-bit numbers as strings, values as `{"stringValue": …}`). Each object is
//! read on its own, so that damage to one leaves the others whole.

use std::io;

use serde_json::{Map, Value};

use super::{Decoder, Entry, Input, Output, Place};
use crate::clock::Stamp;
use crate::code::Platform;
use crate::format::{self, LineFormat};
use crate::limits;
use crate::severity::Severity;
use crate::trouble::Trouble;

/// The decoder: for the journal's objects, or for others.
pub(super) struct JsonDocument {
    /// Whether the objects are entries of the journal.
    pub(super) journal: bool,
}

/// Bytes of one object.
const OBJECT_BYTES: usize = 64 << 20;

/// Finds the ends of objects, byte by byte.
#[derive(Default)]
pub(super) struct Splitter {
    /// How deep the byte last taken is in objects.
    pub(super) depth: usize,
    in_string: bool,
    escaped: bool,
}

impl Splitter {
    /// Takes a byte; `true` where an object that started at depth 0 ends.
    pub(super) fn take(&mut self, byte: u8) -> bool {
        if self.in_string {
            match byte {
                _ if self.escaped => self.escaped = false,
                b'\\' => self.escaped = true,
                b'"' => self.in_string = false,
                _ => {}
            }
            return false;
        }
        match byte {
            b'"' => self.in_string = self.depth > 0,
            b'{' => self.depth += 1,
            b'}' if self.depth > 0 => {
                self.depth -= 1;
                return self.depth == 0;
            }
            _ => {}
        }
        false
    }
}

impl Decoder for JsonDocument {
    fn name(&self) -> &'static str {
        if self.journal { "journal-json" } else { "json-lines" }
    }

    fn recognise(&self, start: &[u8]) -> bool {
        let text = start.strip_prefix("\u{FEFF}".as_bytes()).unwrap_or(start).trim_ascii_start();
        let lead: Vec<u8> = text.iter().copied().filter(|byte| !byte.is_ascii_whitespace()).take(3).collect();
        let journal = memchr::memmem::find(start, b"\"__REALTIME_TIMESTAMP\"").is_some();
        let first_line = text.split(|byte| *byte == b'\n').next().unwrap_or_default().trim_ascii();
        // An object that goes over lines, a list of objects, or a line of many log records.
        let spread = lead.starts_with(b"{\"") && first_line == b"{";
        let list = lead.starts_with(b"[{\"");
        let exported =
            lead.starts_with(b"{\"") && memchr::memmem::find(text, b"\"resourceLogs\"").is_some_and(|at| at < 200);
        (spread || list || exported) && journal == self.journal && text.len() > 2
    }

    fn platform(&self) -> Platform {
        if self.journal { Platform::Linux } else { Platform::Unknown }
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        "utf-8".clone_into(&mut out.account.encoding);
        let mut splitter = Splitter::default();
        let mut object: Vec<u8> = Vec::new();
        let mut place = Place::default();
        let (mut offset, mut line) = (0_u64, 1_u64);
        loop {
            let bytes = input.read(offset, 1 << 20)?;
            if bytes.is_empty() {
                break;
            }
            for byte in bytes {
                let was_outside = splitter.depth == 0;
                let ended = splitter.take(byte);
                if was_outside && splitter.depth == 1 {
                    place = Place { line, offset, length: 0 };
                    object.clear();
                }
                if splitter.depth > 0 || ended {
                    object.push(byte);
                }
                offset = offset.saturating_add(1);
                line = line.saturating_add(u64::from(byte == b'\n'));
                if ended {
                    place.length = offset.saturating_sub(place.offset);
                    out.account.attached_lines =
                        out.account.attached_lines.saturating_add(line.saturating_sub(place.line));
                    self.write(&object, place, out)?;
                } else if object.len() > OBJECT_BYTES {
                    let what = format!(
                        "the object at byte {} is longer than {OBJECT_BYTES} bytes, or has no end",
                        place.offset
                    );
                    out.trouble(Trouble::lost(what));
                    splitter = Splitter::default();
                    object.clear();
                }
            }
        }
        if splitter.depth > 0 {
            out.trouble(Trouble::lost(format!("cut off: the object at byte {} has no end", place.offset)));
        }
        out.account.lines = line.saturating_sub(1);
        Ok(())
    }
}

impl JsonDocument {
    fn write(&self, object: &[u8], place: Place, out: &mut Output) -> io::Result<()> {
        let Ok(value) = serde_json::from_slice::<Value>(object) else {
            out.trouble(Trouble::lost(format!("the object at byte {} is not JSON", place.offset)));
            let body =
                String::from_utf8_lossy(object.get(..object.len().min(limits::RECORD_BYTES)).unwrap_or_default());
            return out.entry(&Entry { body: &body, ..Entry::at(place) });
        };
        if let Some(resources) = value.get("resourceLogs").and_then(Value::as_array) {
            return exported(resources, place, out);
        }
        let line = value.to_string();
        let reader: &dyn LineFormat = format::json_format(self.journal);
        let head = reader.head(line.as_bytes(), 0).unwrap_or_default();
        let record = reader.record(&line, 0);
        out.entry(&Entry {
            stamp: head.stamp,
            severity: head.severity,
            severity_text: record.severity_text.as_deref().unwrap_or_default(),
            host: &String::from_utf8_lossy(&head.host),
            component: &String::from_utf8_lossy(&head.component),
            pid: head.pid,
            tid: head.tid,
            place,
            body: &record.body,
            fields: &Value::Object(record.attributes).to_string(),
        })
    }
}

/// The log records of an export.
fn exported(resources: &[Value], place: Place, out: &mut Output) -> io::Result<()> {
    let list = |value: &Value, name: &str| value.get(name).and_then(Value::as_array).cloned().unwrap_or_default();
    // All records share the object that they stand in; its bytes count once.
    let before = out.account.event_bytes;
    for resource in resources {
        let shared = pairs(resource.get("resource").map(|resource| list(resource, "attributes")).unwrap_or_default());
        for scope in list(resource, "scopeLogs") {
            let name = scope.pointer("/scope/name").and_then(Value::as_str).unwrap_or_default().to_owned();
            for record in list(&scope, "logRecords") {
                log_record(&record, &shared, &name, place, out)?;
            }
        }
    }
    out.account.event_bytes = before.saturating_add(place.length);
    Ok(())
}

/// Attributes as OTLP lists them.
fn pairs(list: Vec<Value>) -> Map<String, Value> {
    let pair = |item: Value| Some((item.get("key")?.as_str()?.to_owned(), any_value(item.get("value")?, 0)));
    list.into_iter().filter_map(pair).collect()
}

fn any_value(value: &Value, depth: usize) -> Value {
    let Some((kind, inner)) = value.as_object().and_then(|object| object.iter().next()) else { return Value::Null };
    if depth > 16 {
        return Value::Null;
    }
    let items = || inner.get("values").and_then(Value::as_array).cloned().unwrap_or_default();
    match kind.as_str() {
        "intValue" => match inner.as_str().map(str::parse::<i64>) {
            Some(Ok(number)) => Value::from(number),
            _ => inner.clone(),
        },
        "arrayValue" => items().iter().map(|item| any_value(item, depth + 1)).collect(),
        "kvlistValue" => Value::Object(pairs(items())),
        _ => inner.clone(),
    }
}

fn log_record(
    record: &Value,
    shared: &Map<String, Value>,
    scope: &str,
    place: Place,
    out: &mut Output,
) -> io::Result<()> {
    let nanos = |name: &str| {
        let value = record.get(name)?;
        value.as_i64().or_else(|| value.as_str()?.parse().ok()).filter(|ns| *ns > 0)
    };
    let mut attributes = shared.clone();
    attributes.extend(pairs(record.get("attributes").and_then(Value::as_array).cloned().unwrap_or_default()));
    for (name, key) in [("traceId", "trace_id"), ("spanId", "span_id"), ("eventName", "event.name")] {
        if let Some(id) = record.get(name).and_then(Value::as_str).filter(|id| !id.is_empty()) {
            attributes.insert(key.into(), Value::from(id));
        }
    }
    let text = |name: &str| attributes.get(name).and_then(Value::as_str).unwrap_or_default().to_owned();
    let number =
        |name: &str| attributes.get(name).and_then(Value::as_u64).and_then(|number| u32::try_from(number).ok());
    let service = text("service.name");
    let body = record.get("body").map(|body| any_value(body, 0)).unwrap_or_default();
    let level = record.get("severityNumber").and_then(Value::as_u64).and_then(|level| u8::try_from(level).ok());
    let word = record.get("severityText").and_then(Value::as_str).unwrap_or_default();
    let severity = level.filter(|level| (1..=24).contains(level)).map(Severity);
    out.entry(&Entry {
        stamp: nanos("timeUnixNano")
            .or_else(|| nanos("observedTimeUnixNano"))
            .map_or(Stamp::None, |ns| Stamp::Utc(ns, 0)),
        severity: severity.or_else(|| Severity::from_word(word.as_bytes())).unwrap_or_default(),
        severity_text: word,
        host: &text("host.name"),
        component: if scope.is_empty() { &service } else { scope },
        pid: number("process.pid"),
        tid: number("thread.id"),
        place,
        body: body.as_str().map_or_else(|| body.to_string(), str::to_owned).as_str(),
        fields: &Value::Object(attributes).to_string(),
    })
}
