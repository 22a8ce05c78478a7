//! Events going out: JSON lines (the contract), text for people and as it was read, CSV, XML, and the logs of OTLP as JSON.

use std::io::{self, Write};
use std::sync::Arc;

use quick_xml::events::{BytesDecl, BytesText, Event};
use rustc_hash::FxHashMap;
use serde::Serialize;
use serde_json::{Map, Value};

use crate::case::{Case, Loaded, Reader, Source};
use crate::clock::human;
use crate::clock::{Zone, to_rfc3339};
use crate::code::{self, Catalogues};
use crate::event::{EventRef, RecordReader, Row, codes_in};
use crate::format::Record;
use crate::timeline::arrange::Run;
use crate::visible::table_field;
use crate::work::{Work, parallel, workers};

/// A form of output.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// One JSON object a line: the contract.
    JsonLines,
    /// Lines for people.
    Text,
    /// Comma-separated values with a header.
    Csv,
    /// One XML document.
    Xml,
    /// One XML document of the events of Windows as the system writes them; others are left out, and counted in a comment at its end.
    EventXml,
    /// The text as it was read, each record behind a line `# SOURCE:LINE` where the source changes or lines are left out.
    Raw,
    /// `LogsData` of the OpenTelemetry protocol in its JSON encoding, one a line, as its file exporter writes it.
    Otlp,
}

impl Form {
    /// The form that the name of a file asks for.
    pub fn of_file(name: &str) -> Option<Self> {
        let lower = name.to_ascii_lowercase();
        let ends = [
            (".otlp.json", Self::Otlp),
            (".otlp.jsonl", Self::Otlp),
            (".jsonl", Self::JsonLines),
            (".json", Self::JsonLines),
            (".csv", Self::Csv),
            (".events.xml", Self::EventXml),
            (".xml", Self::Xml),
            (".log", Self::Raw),
            (".raw", Self::Raw),
            (".txt", Self::Text),
        ];
        ends.into_iter().find(|(end, _)| lower.ends_with(end)).map(|(_, form)| form)
    }
}

/// A code of an event, as the contract names its parts.
#[derive(Serialize)]
struct CodeOut {
    text: String,
    number: Option<u32>,
    family: &'static str,
    name: Option<&'static str>,
    failure: bool,
}

/// An event, as the contract names its parts.
#[derive(Serialize)]
struct EventOut<'a> {
    time: Option<String>,
    time_known: &'static str,
    severity: Option<&'static str>,
    severity_number: Option<u8>,
    severity_text: Option<String>,
    host: Option<&'a str>,
    source: &'a str,
    line: u64,
    offset: u64,
    length: u64,
    format: &'static str,
    component: Option<&'a str>,
    pid: Option<u32>,
    tid: Option<u32>,
    codes: Vec<CodeOut>,
    body: String,
    attributes: Map<String, Value>,
    /// The run that it stands for, where runs are folded.
    #[serde(skip_serializing_if = "Option::is_none")]
    run: Option<RunOut>,
}

/// Events in a row with the same pattern, folded into the first.
#[derive(Serialize)]
struct RunOut {
    count: u32,
    lasts_ms: i64,
}

fn code_out(text: String, code: code::Code, own: &Catalogues) -> CodeOut {
    let reading = code.info(own);
    CodeOut {
        text,
        number: code.number_out(),
        family: code.family.name(),
        name: reading.name,
        failure: reading.is_failure(),
    }
}

fn some(text: &str) -> Option<&str> {
    (!text.is_empty()).then_some(text)
}

/// The head of the table.
const CSV_COLUMNS: [&str; 17] = [
    "time",
    "time_known",
    "severity",
    "host",
    "component",
    "pid",
    "tid",
    "source",
    "line",
    "offset",
    "codes",
    "body",
    "event_id",
    "provider",
    "channel",
    "computer",
    "record",
];

/// The attributes of an event log's record that have columns and attributes of their own in tables and XML.
const EVENT_LOG: [(&str, &str); 5] = [
    ("event_id", "event.id"),
    ("provider", "event.provider"),
    ("channel", "event.channel"),
    ("computer", "host.name"),
    ("record", "event.record_id"),
];

/// The value of an attribute as text.
fn attribute_text(attributes: &Map<String, Value>, name: &str) -> Option<String> {
    attributes.get(name).map(|value| value.as_str().map_or_else(|| value.to_string(), str::to_owned))
}

/// Events that are written together: so many at first, and at most.
const FIRST_PIECE: usize = 32;
const LARGEST_PIECE: usize = 4096;

/// Writes events one after the other.
pub struct EventWriter {
    sources: Arc<Vec<Source>>,
    reader: RecordReader,
    zone: Zone,
    /// For each row that stands for several events its run.
    runs: Arc<FxHashMap<u32, Run>>,
}

impl EventWriter {
    /// A writer for the events of a case; the text form shows times in `zone`.
    pub fn new(case: &Case, zone: Zone) -> Self {
        let reader = RecordReader::new(Arc::clone(&case.sources));
        Self { sources: Arc::clone(&case.sources), reader, zone, runs: Arc::default() }
    }

    /// Writes rows that stand for runs of events, each with its count and duration, as JSON lines or text.
    ///
    /// # Errors
    /// As [`Self::write_all`].
    pub fn write_runs(
        &mut self,
        loaded: &Loaded,
        rows: &[u32],
        runs: &[Run],
        form: Form,
        out: &mut dyn Write,
        work: &Work,
    ) -> io::Result<()> {
        let several = rows.iter().copied().zip(runs.iter().copied()).filter(|(_, run)| run.count > 1);
        self.runs = Arc::new(several.collect());
        self.write_all(loaded, rows, form, out, work)
    }

    fn run_of(&self, row: Row) -> Option<Run> {
        self.runs.get(&row.0).copied()
    }

    fn record(&mut self, event: EventRef<'_>) -> (Record, Vec<CodeOut>) {
        let source = &self.sources[event.source()];
        let own = event.catalogues();
        let codes = match source.reader {
            Reader::Lines(detected) if event.flags() & crate::event::flag::HAS_CODE != 0 => {
                let text = self.reader.text(event).unwrap_or_default();
                let found = codes_in(&text, detected, source.platform, own);
                found
                    .iter()
                    .map(|hit| {
                        let code = event.meant(hit.code);
                        // A code of fields stands nowhere in the text.
                        let written = text.get(hit.start..hit.end).filter(|written| !written.is_empty());
                        code_out(written.map_or_else(|| code.written(own), str::to_owned), code, own)
                    })
                    .collect()
            }
            Reader::Lines(_) => Vec::new(),
            Reader::Dump(_) => event.codes().map(|code| code_out(code.written(own), code, own)).collect(),
        };
        (self.reader.record(event), codes)
    }

    fn event_out<'a>(&'a mut self, event: EventRef<'a>) -> EventOut<'a> {
        let (record, codes) = self.record(event);
        let source = &self.sources[event.source()];
        let actor = event.actor();
        let place = record.place.unwrap_or_else(|| event.place());
        EventOut {
            time: event.time().map(to_rfc3339),
            time_known: event.time_known().name(),
            severity: event.severity().name(),
            severity_number: Some(event.severity().0).filter(|number| *number > 0),
            severity_text: record.severity_text,
            host: some(event.host()),
            source: &source.name,
            line: place.line,
            offset: place.offset,
            length: place.length,
            format: source.reader.name(),
            component: some(event.component()),
            pid: actor.pid,
            tid: actor.tid,
            codes,
            body: record.body,
            attributes: record.attributes,
            run: self.run_of(event.row).map(|run| RunOut { count: run.count, lasts_ms: run.lasts_ns / 1_000_000 }),
        }
    }

    /// Writes one event as a line of JSON.
    fn json_line(&mut self, event: EventRef<'_>, out: &mut Vec<u8>) -> io::Result<()> {
        let line = serde_json::to_string(&self.event_out(event))?;
        out.write_all(crate::visible::safe_json(line).as_bytes())?;
        out.write_all(b"\n")
    }

    /// Writes one event as text for people: time, host, level, component, message.
    fn text_line(&mut self, event: EventRef<'_>, out: &mut Vec<u8>) -> io::Result<()> {
        let time = event.time().map_or_else(|| format!("{:23}", "-"), |time| human::date_time(time, &self.zone));
        let record = self.reader.record(event);
        let body = crate::visible(&record.body, true);
        let host = crate::visible(some(event.host()).unwrap_or("-"), false);
        let level = event.severity().name().unwrap_or("-");
        let component = crate::visible(some(event.component()).unwrap_or("-"), false);
        let run = self.run_of(event.row);
        let run =
            run.map_or(String::new(), |run| format!("× {} in {}  ", run.count, human::duration_text(run.lasts_ns)));
        writeln!(out, "{time}  {host:<12} {level:<5} {component:<16} {run}{}", body.replace('\n', "\n    "))
    }

    /// Writes the events at `rows` in a form; `work` counts events.
    ///
    /// # Errors
    /// When `out` cannot be written, or the work is cancelled ([`io::ErrorKind::Interrupted`]).
    pub fn write_all(
        &mut self,
        loaded: &Loaded,
        rows: &[u32],
        form: Form,
        out: &mut dyn Write,
        work: &Work,
    ) -> io::Result<()> {
        work.set_total(rows.len() as u64);
        let events = rows.iter().take_while(|_| !work.is_cancelled()).map(|row| {
            work.advance(1);
            loaded.table.event(Row(*row))
        });
        match form {
            Form::Xml => self.xml(events, out),
            Form::EventXml => self.event_xml(events, out),
            Form::Raw => self.raw(events, out),
            Form::JsonLines => self.in_pieces(loaded, rows, out, work, |writer, events, out| {
                each(events, |event| writer.json_line(event, out))
            }),
            Form::Text => self.in_pieces(loaded, rows, out, work, |writer, events, out| {
                each(events, |event| writer.text_line(event, out))
            }),
            Form::Otlp => self.in_pieces(loaded, rows, out, work, |writer, events, out| {
                each(events, |event| writer.otlp_line(event, out))
            }),
            Form::Csv => {
                let mut head = csv::Writer::from_writer(&mut *out);
                head.write_record(CSV_COLUMNS)?;
                head.flush()?;
                drop(head);
                self.in_pieces(loaded, rows, out, work, |writer, events, out| writer.csv(events, out))
            }
        }?;
        if work.is_cancelled() { Err(io::Error::new(io::ErrorKind::Interrupted, "stopped")) } else { Ok(()) }
    }

    /// Writes events in pieces on all cores, and the pieces in order. The first ones are small: what reads the output need not
    /// wait, and may have seen enough.
    fn in_pieces(
        &self,
        loaded: &Loaded,
        rows: &[u32],
        out: &mut dyn Write,
        work: &Work,
        write: impl Fn(&mut Self, &mut dyn Iterator<Item = EventRef<'_>>, &mut Vec<u8>) -> io::Result<()> + Sync,
    ) -> io::Result<()> {
        let (mut rest, mut piece) = (rows, FIRST_PIECE);
        while !rest.is_empty() && !work.is_cancelled() {
            let (batch, behind) = rest.split_at(rest.len().min(piece * workers() * 2));
            let pieces: Vec<&[u32]> = batch.chunks(piece).collect();
            let written = parallel(pieces.len(), work, |index| {
                let reader = RecordReader::new(Arc::clone(&self.sources));
                let (sources, zone, runs) = (Arc::clone(&self.sources), self.zone.clone(), Arc::clone(&self.runs));
                let mut writer = Self { sources, reader, zone, runs };
                let mut text = Vec::new();
                let mut events = pieces[index].iter().map(|row| loaded.table.event(Row(*row)));
                write(&mut writer, &mut events, &mut text)?;
                work.advance(pieces[index].len() as u64);
                Ok::<_, io::Error>(text)
            });
            for text in written {
                out.write_all(&text?)?;
            }
            (rest, piece) = (behind, (piece * 2).min(LARGEST_PIECE));
        }
        Ok(())
    }

    fn raw<'a>(&mut self, events: impl Iterator<Item = EventRef<'a>>, out: &mut dyn Write) -> io::Result<()> {
        let mut next: Option<(usize, u64)> = None;
        for event in events {
            if next != Some((event.source(), event.offset())) {
                let place = self.reader.record(event).place.unwrap_or_else(|| event.place());
                writeln!(out, "# {}:{}", self.sources[event.source()].name, place.line)?;
            }
            next = Some((event.source(), event.offset() + event.length()));
            let text = self.reader.text(event).unwrap_or_else(|error| format!("cannot be read any more: {error}"));
            out.write_all(text.trim_end_matches(['\n', '\r', '\0']).as_bytes())?;
            out.write_all(b"\n")?;
        }
        Ok(())
    }

    /// Source: the protocol's `logs.proto` and its JSON mapping (64-bit integers as strings).
    fn otlp_line(&mut self, event: EventRef<'_>, out: &mut Vec<u8>) -> io::Result<()> {
        let observed = event.time();
        let event = self.event_out(event);
        let mut attributes = vec![
            otlp_attribute("log.file.path", &event.source.into()),
            otlp_attribute("boxclock.line", &event.line.into()),
            otlp_attribute("boxclock.offset", &event.offset.into()),
        ];
        attributes.extend(event.pid.map(|pid| otlp_attribute("process.pid", &pid.into())));
        attributes.extend(event.tid.map(|tid| otlp_attribute("thread.id", &tid.into())));
        attributes.extend(event.attributes.iter().map(|(name, value)| otlp_attribute(name, value)));
        let mut record = serde_json::json!({ "body": { "stringValue": event.body }, "attributes": attributes });
        if let Some(fields) = record.as_object_mut() {
            fields.extend(observed.map(|time| ("timeUnixNano".to_owned(), time.to_string().into())));
            fields.extend(event.severity_number.map(|number| ("severityNumber".to_owned(), number.into())));
            fields.extend(event.severity_text.map(|text| ("severityText".to_owned(), text.into())));
        }
        let host = event.host.map(|host| otlp_attribute("host.name", &host.into()));
        let resource = serde_json::json!({ "attributes": host.into_iter().collect::<Vec<_>>() });
        let scope = serde_json::json!({ "name": event.component.unwrap_or_default() });
        let scopes = serde_json::json!([{ "scope": scope, "logRecords": [record] }]);
        let line = serde_json::json!({ "resourceLogs": [{ "resource": resource, "scopeLogs": scopes }] });
        out.write_all(crate::visible::safe_json(serde_json::to_string(&line)?).as_bytes())?;
        out.write_all(b"\n")
    }

    fn csv<'a>(&mut self, events: impl Iterator<Item = EventRef<'a>>, out: &mut Vec<u8>) -> io::Result<()> {
        let mut writer = csv::Writer::from_writer(out);
        for event in events {
            let out = self.event_out(event);
            let number = |value: Option<u32>| value.map(|value| value.to_string()).unwrap_or_default();
            let codes: Vec<&str> = out.codes.iter().map(|code| code.text.as_str()).collect();
            let of_log = EVENT_LOG.map(|(_, name)| attribute_text(&out.attributes, name).unwrap_or_default());
            writer.write_record([
                out.time.as_deref().unwrap_or_default(),
                out.time_known,
                out.severity.unwrap_or_default(),
                &table_field(out.host.unwrap_or_default()),
                &table_field(out.component.unwrap_or_default()),
                &number(out.pid),
                &number(out.tid),
                &table_field(out.source),
                &out.line.to_string(),
                &out.offset.to_string(),
                &table_field(&codes.join(" ")),
                &table_field(&out.body),
                &table_field(&of_log[0]),
                &table_field(&of_log[1]),
                &table_field(&of_log[2]),
                &table_field(&of_log[3]),
                &table_field(&of_log[4]),
            ])?;
        }
        writer.flush()
    }

    /// The elements of the event log's own schema, each as the system exports it. What is no such event has none.
    fn event_xml<'a>(&mut self, events: impl Iterator<Item = EventRef<'a>>, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(b"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Events>\n")?;
        let mut others = 0_u64;
        for event in events {
            match self.reader.structured(event).filter(|text| text.trim_start().starts_with("<Event")) {
                Some(text) => writeln!(out, "{}", xml_text(text.trim()))?,
                None => others += 1,
            }
        }
        if others > 0 {
            writeln!(out, "<!-- {} left out: not from an event log -->", crate::many(others, "event"))?;
        }
        out.write_all(b"</Events>\n")
    }

    fn xml<'a>(&mut self, events: impl Iterator<Item = EventRef<'a>>, out: &mut dyn Write) -> io::Result<()> {
        let mut writer = quick_xml::Writer::new_with_indent(&mut *out, b' ', 1);
        writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
        writer.create_element("events").write_inner_content(|writer| {
            for event in events {
                let out = self.event_out(event);
                let numbers = [("line", out.line), ("offset", out.offset), ("length", out.length)];
                let ids = [("pid", out.pid), ("tid", out.tid)];
                let mut element = writer.create_element("event").with_attribute(("time_known", out.time_known));
                let texts = [
                    ("time", out.time.as_deref()),
                    ("severity", out.severity),
                    ("host", out.host),
                    ("component", out.component),
                    ("source", Some(out.source)),
                    ("format", Some(out.format)),
                ];
                for (name, value) in texts.into_iter().filter_map(|(name, value)| value.map(|value| (name, value))) {
                    element = element.with_attribute((name, &*xml_text(value)));
                }
                for (name, value) in numbers {
                    element = element.with_attribute((name, &*value.to_string()));
                }
                for (name, value) in ids.into_iter().filter_map(|(name, value)| value.map(|value| (name, value))) {
                    element = element.with_attribute((name, &*value.to_string()));
                }
                for (name, attribute) in EVENT_LOG {
                    if let Some(value) = attribute_text(&out.attributes, attribute) {
                        element = element.with_attribute((name, &*xml_text(&value)));
                    }
                }
                element.write_text_content(BytesText::new(&xml_text(&out.body)))?;
            }
            Ok(())
        })?;
        out.write_all(b"\n")
    }
}

fn each<'a>(
    events: &mut dyn Iterator<Item = EventRef<'a>>,
    mut write: impl FnMut(EventRef<'a>) -> io::Result<()>,
) -> io::Result<()> {
    for event in events {
        write(event)?;
    }
    Ok(())
}

fn otlp_attribute(name: &str, value: &Value) -> Value {
    serde_json::json!({ "key": name, "value": otlp_value(value) })
}

fn otlp_value(value: &Value) -> Value {
    match value {
        Value::Bool(value) => serde_json::json!({ "boolValue": value }),
        Value::Number(number) if number.is_f64() => serde_json::json!({ "doubleValue": number }),
        Value::Number(number) => serde_json::json!({ "intValue": number.to_string() }),
        Value::Array(list) => {
            serde_json::json!({ "arrayValue": { "values": list.iter().map(otlp_value).collect::<Vec<_>>() } })
        }
        Value::Object(map) => {
            let values: Vec<Value> = map.iter().map(|(name, value)| otlp_attribute(name, value)).collect();
            serde_json::json!({ "kvlistValue": { "values": values } })
        }
        Value::String(text) => serde_json::json!({ "stringValue": text }),
        Value::Null => serde_json::json!({}),
    }
}

/// Characters that XML 1.0 cannot hold become U+FFFD (section 2.2 of its specification).
fn xml_text(text: &str) -> String {
    let allowed = |c: char| {
        matches!(c, '\t' | '\n' | '\r') || (c >= ' ' && !matches!(c, '\u{7F}'..='\u{9F}' | '\u{FFFE}' | '\u{FFFF}'))
    };
    text.chars().map(|c| if allowed(c) { c } else { '\u{FFFD}' }).collect()
}
