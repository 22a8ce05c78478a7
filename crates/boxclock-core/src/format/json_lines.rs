//! `json-lines`: one JSON object a line.
//!
//! Source of the syntax: RFC 8259. The names of time, level, message, logger, host and ids are those that the usual
//! logging libraries and the OpenTelemetry data model use; the lists below are all that is looked at.

use std::borrow::Cow;
use std::sync::LazyLock;

use memchr::memmem::Finder;
use serde_json::{Map, Value};

use super::json_scan::{Raw, members};
use super::word::number;
use super::{Fit, Head, Hint, LineFormat, Record};
use crate::clock::{Stamp, scan};
use crate::limits;
use crate::severity::Severity;

/// The format.
pub(super) struct JsonLines;

/// What a member means to an event.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Role {
    Time,
    Level,
    PythonLevel,
    /// A severity number of the OpenTelemetry data model.
    OtelLevel,
    Message,
    Component,
    Host,
    Pid,
    Tid,
}

/// The role of a member, and its rank among members of the same role (0 is best). Names in other capitals are the same.
pub(super) fn role(key: &[u8]) -> Option<(Role, u8)> {
    exact_role(key).or_else(|| {
        let capital = key.len() <= 24 && key.iter().any(u8::is_ascii_uppercase);
        capital.then(|| exact_role(&key.to_ascii_lowercase()))?
    })
}

fn exact_role(key: &[u8]) -> Option<(Role, u8)> {
    Some(match key {
        b"time" | b"timestamp" | b"@timestamp" => (Role::Time, 0),
        b"ts" | b"@t" | b"datetime" | b"date" | b"eventTime" | b"event_time" | b"asctime" | b"timeUnixNano"
        | b"logged_at" | b"timemillis" | b"epochmillis" | b"stagetimestamp" => (Role::Time, 1),
        b"t" | b"created" | b"observedTimeUnixNano" => (Role::Time, 2),
        b"level" | b"severity" | b"log.level" | b"severityText" | b"severity_text" | b"levelname" | b"loglevel"
        | b"log_level" | b"@l" => (Role::Level, 0),
        b"lvl" | b"error_severity" | b"priority" | b"PRIORITY" => (Role::Level, 1),
        b"severityNumber" | b"severity_number" | b"severitynumber" => (Role::OtelLevel, 0),
        b"levelno" => (Role::PythonLevel, 0),
        b"message" | b"msg" | b"@m" | b"body" => (Role::Message, 0),
        b"MESSAGE" | b"event" | b"text" | b"log" | b"short_message" | b"renderedmessage" | b"textpayload" => {
            (Role::Message, 1)
        }
        b"@mt" | b"messagetemplate" | b"full_message" | b"error" => (Role::Message, 2),
        b"logger" | b"component" | b"logger_name" | b"log.logger" | b"loggerName" => (Role::Component, 0),
        b"backend_type" | b"module" | b"target" | b"name" | b"service" | b"service.name" | b"app" | b"program"
        | b"sourcecontext" | b"category" => (Role::Component, 1),
        b"host" | b"hostname" | b"host.name" | b"host_name" => (Role::Host, 0),
        b"pid" | b"process_id" | b"processid" | b"process.pid" | b"processId" => (Role::Pid, 0),
        b"tid" | b"thread" | b"thread_id" | b"threadid" | b"thread.id" | b"process.thread.id" | b"threadId" => {
            (Role::Tid, 0)
        }
        _ => return None,
    })
}

/// The name that a member of the nested object `outer` is looked up by.
fn nested_role(outer: &[u8], key: &[u8]) -> Option<(Role, u8)> {
    Some(match (outer, key) {
        (b"log", b"level") => (Role::Level, 0),
        (b"log", b"logger") => (Role::Component, 0),
        (b"host", b"name" | b"hostname") => (Role::Host, 0),
        (b"process", b"pid" | b"id") => (Role::Pid, 0),
        (b"service", b"name") => (Role::Component, 1),
        (b"body", b"stringValue") => (Role::Message, 0),
        // Structured loggers nest the message and what belongs to it under `fields`.
        (b"fields", b"message") => (Role::Message, 1),
        (b"jsonPayload", b"message") => (Role::Message, 1),
        (b"Properties" | b"properties", b"SourceContext") => (Role::Component, 0),
        // Some databases write the time as an object, and short names for the rest.
        (b"t", b"$date") => (Role::Time, 1),
        (b"event", b"created") => (Role::Time, 2),
        _ => return None,
    })
}

/// The best value found for each role so far.
#[derive(Default)]
struct Found<'a> {
    slots: [Option<(u8, Raw<'a>)>; 9],
    /// Whether the time stands in an object `t`: `s` and `c` are then level and component.
    short_names: bool,
    /// Seconds and nanoseconds of a time that is written as an object of both.
    instant: Option<i64>,
}

impl<'a> Found<'a> {
    fn take(&mut self, (role, rank): (Role, u8), value: Raw<'a>) {
        let Some(slot) = self.slots.get_mut(role as usize) else { return };
        if slot.is_none_or(|(best, _)| rank < best)
            && !matches!(value, Raw::Object(_) | Raw::Array | Raw::Word(b"null"))
        {
            *slot = Some((rank, value));
        }
    }

    /// `{"epochSecond":1775961067,"nanoOfSecond":442000000}`
    fn take_instant(&mut self, key: &[u8], value: Raw<'_>) {
        let Raw::Word(word) = value else { return };
        let number = std::str::from_utf8(word).ok().and_then(|word| word.parse::<i64>().ok());
        let scale = match key {
            b"epochSecond" => crate::clock::SECOND,
            b"nanoOfSecond" => 1,
            _ => return,
        };
        let ns = number
            .and_then(|number| number.checked_mul(scale))
            .and_then(|ns| ns.checked_add(self.instant.unwrap_or(0)));
        self.instant = ns.or(self.instant);
    }

    fn get(&self, role: Role) -> Option<Raw<'a>> {
        self.slots.get(role as usize).copied().flatten().map(|(_, value)| value)
    }
}

fn find(line: &[u8]) -> Option<Found<'_>> {
    if line.trim_ascii_start().first() != Some(&b'{') {
        return None;
    }
    let mut found = Found::default();
    let whole = members(line, |key, value| {
        if let Some(role) = role(key) {
            found.take(role, value);
        } else if found.short_names && matches!(key, b"s" | b"c") {
            found.take((if key == b"s" { Role::Level } else { Role::Component }, 2), value);
        }
        if let Raw::Object(inner) = value
            && matches!(
                key,
                b"log"
                    | b"host"
                    | b"process"
                    | b"service"
                    | b"body"
                    | b"fields"
                    | b"jsonPayload"
                    | b"Properties"
                    | b"t"
                    | b"event"
                    | b"instant"
            )
        {
            members(inner, |inner_key, value| {
                found.short_names |= key == b"t" && inner_key == b"$date";
                if key == b"instant" {
                    found.take_instant(inner_key, value);
                } else if let Some(role) = nested_role(key, inner_key) {
                    found.take(role, value);
                }
            });
        }
    });
    if found.get(Role::Message).is_none() || found.get(Role::Level).is_none() {
        look_deeper(line, &mut found);
    }
    // Of a line beyond the limit the reader sees its start: what was found there counts.
    (whole || line.len() >= limits::LONGEST_JSON_BYTES).then_some(found)
}

/// Takes level and message from one object deeper, whatever that is called, where the record itself has none.
fn look_deeper<'a>(line: &'a [u8], found: &mut Found<'a>) {
    members(line, |_, value| {
        let Raw::Object(inner) = value else { return };
        members(inner, |key, value| {
            if let Some((role @ (Role::Message | Role::Level), rank)) = role(key) {
                found.take((role, rank.saturating_add(10)), value);
            }
        });
    });
}

/// A value as text, its escapes undone.
pub(super) fn text(value: Raw<'_>) -> Cow<'_, [u8]> {
    match value {
        Raw::Text(bytes, false) => Cow::Borrowed(bytes),
        Raw::Text(bytes, true) => {
            let quoted = [b"\"", bytes, b"\""].concat();
            match serde_json::from_slice::<String>(&quoted) {
                Ok(text) => Cow::Owned(text.into_bytes()),
                Err(_) => Cow::Borrowed(bytes),
            }
        }
        Raw::Word(word) => Cow::Borrowed(word),
        Raw::Object(_) | Raw::Array => Cow::Borrowed(b""),
    }
}

fn stamp(value: Raw<'_>) -> Stamp {
    let text = text(value);
    if let Some((civil, _)) = scan::iso(&text) {
        return civil.stamp();
    }
    scan::epoch(&text).map_or(Stamp::None, |ns| Stamp::Utc(ns, 0))
}

fn severity(found: &Found<'_>) -> (Severity, Cow<'static, [u8]>) {
    if let (None, Some(value)) = (found.get(Role::Level), found.get(Role::OtelLevel)) {
        let written = text(value);
        let level = std::str::from_utf8(&written).ok().and_then(|text| text.parse::<u8>().ok());
        let severity = level.filter(|level| (1..=24).contains(level)).map(Severity);
        return (severity.unwrap_or_default(), Cow::Owned(written.into_owned()));
    }
    let (value, python) = match (found.get(Role::Level), found.get(Role::PythonLevel)) {
        (Some(value), _) => (value, false),
        (None, Some(value)) => (value, true),
        (None, None) => return (Severity::NONE, Cow::Borrowed(b"")),
    };
    let written = text(value);
    let severity = match std::str::from_utf8(&written).ok().and_then(|text| text.parse::<i64>().ok()) {
        Some(level) => Severity::from_number(level, python),
        None => Severity::from_word(&written),
    };
    (severity.unwrap_or_default(), Cow::Owned(written.into_owned()))
}

impl LineFormat for JsonLines {
    fn name(&self) -> &'static str {
        "json-lines"
    }

    fn is_torn(&self, line: &[u8]) -> bool {
        line.starts_with(b"{\"") && find(line).is_none()
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let found = find(line)?;
        let (severity, severity_text) = severity(&found);
        let id = |role| found.get(role).and_then(|value| number(&text(value)));
        let name = |role| found.get(role).map(text).unwrap_or_default();
        Some(Head {
            stamp: match (found.get(Role::Time), found.instant) {
                (Some(time), _) => stamp(time),
                (None, Some(ns)) => Stamp::Utc(ns, 0),
                (None, None) => Stamp::None,
            },
            severity,
            severity_text,
            host: name(Role::Host),
            component: name(Role::Component),
            pid: id(Role::Pid),
            tid: id(Role::Tid),
            body: 0,
        })
    }

    fn record(&self, record_text: &str, _: Hint) -> Record {
        let (first, rest) = record_text.split_once('\n').unwrap_or((record_text, ""));
        let Ok(Value::Object(object)) = serde_json::from_str(first.trim()) else {
            return Record { body: record_text.trim_end().to_owned(), ..Record::default() };
        };
        let found = find(first.as_bytes()).unwrap_or_default();
        let message = found
            .get(Role::Message)
            .map(|value| String::from_utf8_lossy(&text(value)).trim_end_matches(['\n', '\r']).to_owned());
        // An object without any message is shown as it is.
        let mut body = message.unwrap_or_else(|| first.trim().to_owned());
        let rest = rest.trim_end();
        if !rest.is_empty() {
            body.push('\n');
            body.push_str(rest);
        }
        let (_, severity_text) = severity(&found);
        let written = String::from_utf8_lossy(&severity_text).into_owned();
        let attributes = attributes(object, &found);
        Record { body, severity_text: (!written.is_empty()).then_some(written), attributes, place: None }
    }

    fn structured(&self, text: &str) -> Option<String> {
        super::pretty_json(text)
    }

    fn column_codes(&self, line: &[u8], found: &mut dyn FnMut(crate::code::Found)) {
        http_status(line, found);
    }

    fn version(&self) -> u32 {
        2
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        Fit { heads: lines.iter().filter(|line| find(line).is_some()).count(), ..Fit::default() }
    }
}

/// Whether a line has a member that is named like the target of a request.
fn has_path(line: &[u8]) -> bool {
    ["\"path\"", "\"uri\"", "\"url\"", "\"request", "\"http.re", "\"url.path", "\"Request", "\"verb\""]
        .iter()
        .any(|name| memchr::memmem::find(line, name.as_bytes()).is_some())
}

/// The status of a request that is logged as an object: a member of that name beside a method or a path.
fn http_status(line: &[u8], found: &mut dyn FnMut(crate::code::Found)) {
    static STATUS: LazyLock<Finder<'static>> = LazyLock::new(|| Finder::new("tatus"));
    static OF_REQUEST: LazyLock<Finder<'static>> = LazyLock::new(|| Finder::new("\"meth"));
    // Nearly no line has both: looking for bytes costs a tenth of looking at the members.
    if STATUS.find(line).is_none() || (OF_REQUEST.find(line).is_none() && !has_path(line)) {
        return;
    }
    let (mut is_request, mut status) = (false, None);
    let mut take = |key: &'_ [u8], value: Raw<'_>| {
        let (Raw::Word(word) | Raw::Text(word, _)) = value else { return };
        match key {
            b"method"
            | b"request_method"
            | b"http.request.method"
            | b"verb"
            | b"path"
            | b"uri"
            | b"url"
            | b"request"
            | b"request_uri"
            | b"url.path"
            | b"RequestMethod"
            | b"RequestPath"
            | b"cs-method" => is_request = true,
            b"status"
            | b"status_code"
            | b"statusCode"
            | b"http.response.status_code"
            | b"response_status"
            | b"code"
            | b"DownstreamStatus"
            | b"StatusCode" => {
                if let Some(number) = number(word).filter(|number| (100..600).contains(number) && word.len() == 3) {
                    status.get_or_insert((word.as_ptr().addr(), number));
                }
            }
            _ => {}
        }
    };
    members(line, |key, value| {
        take(key, value);
        if let Raw::Object(inner) = value {
            members(inner, &mut take);
        }
    });
    if let Some((place, number)) = status.filter(|_| is_request) {
        let start = place.saturating_sub(line.as_ptr().addr());
        let code = crate::code::Code { family: crate::code::Family::Http, number };
        found(crate::code::Found { start, end: start.saturating_add(3), code, general: false });
    }
}

/// All members but those that became a column of the event.
fn attributes(object: Map<String, Value>, found: &Found<'_>) -> Map<String, Value> {
    object
        .into_iter()
        .filter(|(key, value)| {
            let Some((role, _)) = role(key.as_bytes()) else { return true };
            let Some(used) = found.get(role) else { return true };
            let same = match value {
                Value::String(value) => text(used) == value.as_bytes(),
                Value::Object(_) | Value::Array(_) => false,
                other => text(used) == other.to_string().as_bytes(),
            };
            // The host stays an attribute: the case's label for it may differ.
            let no_number = matches!(role, Role::Pid | Role::Tid) && number(&text(used)).is_none();
            !same || role == Role::Host || no_number
        })
        .collect()
}
