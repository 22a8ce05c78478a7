//! `postgres-text`: the text log of the PostgreSQL server: a prefix of the administrator's making, then `SEVERITY:  text`.
//!
//! Source: the server's documentation, chapter "Error Reporting and Logging": the escapes of `log_line_prefix`, the
//! severities, and that `DETAIL`, `HINT`, `QUERY`, `CONTEXT`, `LOCATION` and `STATEMENT` lines, which carry the prefix
//! too, belong to the message before them. Continued lines start with a tab. The prefix is guessed: a time (`%m`, `%t`, or the
//! epoch's seconds of `%n`) at its start or behind one word, with a zone as the tz database abbreviates it (`-03`, `IST`), a number in brackets or
//! alone as process id, an SQLSTATE that stands alone, `NAME=VALUE` and `USER@DATABASE`.

use std::borrow::Cow;

use serde_json::Value;

use super::word::number;
use super::{Fit, Head, Header, Hint, LineFormat, Record, body_text};
use crate::clock::{Stamp, scan};
use crate::code::family::state_number;
use crate::code::{Code, Family, Found, catalogue};
use crate::severity::Severity;

/// The format.
pub(super) struct PostgresText;

/// The severities, as the server writes them, and what they are to an event.
const SEVERITIES: [(&[u8], Severity); 13] = [
    (b"LOG", Severity::INFO),
    (b"ERROR", Severity::ERROR),
    (b"FATAL", Severity::FATAL),
    (b"PANIC", Severity(24)),
    (b"WARNING", Severity::WARN),
    (b"NOTICE", Severity::NOTICE),
    (b"INFO", Severity::INFO),
    (b"DEBUG", Severity::DEBUG),
    (b"DEBUG1", Severity(8)),
    (b"DEBUG2", Severity(7)),
    (b"DEBUG3", Severity(6)),
    (b"DEBUG4", Severity::DEBUG),
    (b"DEBUG5", Severity::DEBUG),
];

/// Lines that belong to the message before them.
const PARTS: [(&str, &str); 6] = [
    ("DETAIL", "db.error.detail"),
    ("HINT", "db.error.hint"),
    ("QUERY", "db.error.internal_query"),
    ("CONTEXT", "db.error.context"),
    ("LOCATION", "db.error.location"),
    ("STATEMENT", "db.query.text"),
];

/// The severity of a word of the server.
pub(super) fn severity(word: &[u8]) -> Option<Severity> {
    SEVERITIES.iter().find(|(name, _)| *name == word).map(|(_, severity)| *severity)
}

struct Line<'a> {
    stamp: Stamp,
    /// What the word of its zone most likely means, where it has several meanings.
    likely_offset_s: Option<i32>,
    /// What stands in front of the time.
    lead: &'a [u8],
    prefix: &'a [u8],
    label: &'a [u8],
    body: usize,
}

/// The time at the start of `text`, and where it and its zone end.
fn time(text: &[u8]) -> Option<(Stamp, usize, Option<i32>)> {
    if let Some((mut civil, end)) = scan::iso(text) {
        if civil.offset.is_some() {
            return Some((civil.stamp(), end, None));
        }
        let Some((offset, end, ambiguous)) = scan::certain_zone(text, end) else {
            return Some((civil.stamp(), end, None));
        };
        civil.offset = Some(offset).filter(|_| !ambiguous);
        return Some((civil.stamp(), end, ambiguous.then_some(offset)));
    }
    // `%n`: seconds and milliseconds since the epoch.
    let length = text.iter().take(16).take_while(|byte| byte.is_ascii_digit() || **byte == b'.').count();
    let number = text.get(..length).filter(|number| number.len() == 14 && number.get(10) == Some(&b'.'))?;
    Some((Stamp::Utc(scan::epoch(number)?, 0), length, None))
}

fn parse(line: &[u8]) -> Option<Line<'_>> {
    let (start, (stamp, length, likely_offset_s)) = if let Some(found) = time(line) {
        (0, found)
    } else {
        let gap = line.iter().take(80).position(|byte| *byte == b' ')? + 1;
        (gap, time(line.get(gap..)?)?)
    };
    let time_end = start + length;
    let mut from = time_end;
    loop {
        let colon = from + memchr::memmem::find(line.get(from..line.len().min(time_end + 400))?, b":  ")?;
        let word_start =
            line.get(..colon)?.iter().rposition(|byte| !byte.is_ascii_alphanumeric()).map_or(0, |at| at + 1);
        let label = line.get(word_start..colon)?;
        let known = severity(label).is_some() || PARTS.iter().any(|(part, _)| part.as_bytes() == label);
        if known && word_start >= time_end {
            let (lead, prefix) = (line.get(..start)?, line.get(time_end..word_start)?);
            return Some(Line { stamp, likely_offset_s, lead, prefix, label, body: colon + 3 });
        }
        from = colon + 3;
    }
}

/// The first number in brackets.
fn pid_in_brackets(prefix: &[u8]) -> Option<u32> {
    prefix.split(|byte| *byte == b'[').skip(1).find_map(|rest| {
        let length = rest.iter().take_while(|byte| byte.is_ascii_digit()).count();
        number(rest.get(..length)?).filter(|_| matches!(rest.get(length), Some(b']' | b'-')))
    })
}

/// The process id: the first number in brackets, else the first that stands alone. `00000` is an SQLSTATE.
fn pid(prefix: &[u8]) -> Option<u32> {
    let alone = || prefix.split(|byte| matches!(byte, b' ' | b':')).filter_map(number).find(|number| *number > 0);
    pid_in_brackets(prefix).or_else(alone)
}

impl LineFormat for PostgresText {
    fn name(&self) -> &'static str {
        "postgres-text"
    }

    fn families(&self) -> &'static [Family] {
        &[Family::SqlState]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let line = parse(line)?;
        Some(Head {
            stamp: line.stamp,
            severity: severity(line.label)?,
            severity_text: Cow::Borrowed(line.label),
            component: Cow::Borrowed(b"postgres"),
            pid: number(line.lead.trim_ascii_end()).or_else(|| pid(line.prefix)),
            body: line.body,
            ..Head::default()
        })
    }

    fn header(&self, samples: &[&[u8]], _: Hint, _: i64) -> Header {
        let likely = samples.iter().find_map(|line| parse(line)?.likely_offset_s);
        Header { likely_offset_s: likely, ..Header::default() }
    }

    fn column_codes(&self, line: &[u8], found: &mut dyn FnMut(Found)) {
        let Some(parsed) = parse(line) else { return };
        let start = parsed.prefix.as_ptr().addr() - line.as_ptr().addr();
        if let Some((at, code)) = state_in(parsed.prefix) {
            found(Found { start: start + at, end: start + at + 5, code, general: false });
        }
    }

    fn version(&self) -> u32 {
        2
    }

    fn record(&self, text: &str, _: Hint) -> Record {
        let mut record = Record::default();
        let mut part = None;
        for line in text.lines() {
            if let Some(parsed) = parse(line.as_bytes()) {
                let label = String::from_utf8_lossy(parsed.label).into_owned();
                let said = line.get(parsed.body..).unwrap_or_default();
                part = PARTS.iter().find(|(name, _)| *name == label).map(|(_, attribute)| (*attribute).to_owned());
                match &part {
                    None => {
                        record.body.push_str(said);
                        record.severity_text = Some(label);
                        prefix_attributes(parsed.prefix, &mut record);
                    }
                    Some(name) => {
                        record.attributes.insert(name.clone(), Value::from(said));
                        record.body.push_str(&format!("\n{label}: {said}"));
                    }
                }
            } else {
                if !record.body.is_empty() {
                    record.body.push('\n');
                }
                record.body.push_str(line);
                if let Some(Value::String(value)) = part.as_ref().and_then(|name| record.attributes.get_mut(name)) {
                    value.push('\n');
                    value.push_str(line.trim_start_matches('\t'));
                }
            }
        }
        record.body = body_text(&record.body);
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        // All lines with a label count: those of a message's parts are no records, but they prove the format.
        let proofs = lines.iter().filter(|line| parse(line).is_some()).count();
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        Fit { heads: if heads > 0 { proofs } else { 0 }, ..Fit::default() }
    }
}

/// `user=…,db=…,app=…,client=…` and `user@db`.
fn prefix_attributes(prefix: &[u8], record: &mut Record) {
    let prefix = String::from_utf8_lossy(prefix).into_owned();
    let mut put = |name: &str, value: &str| {
        if !value.is_empty() {
            record.attributes.insert(name.to_owned(), Value::from(value));
        }
    };
    for word in prefix.split([' ', ',', '[', ']']).map(|word| word.trim_matches(':')).filter(|word| !word.is_empty()) {
        match word.split_once('=') {
            Some(("user", value)) => put("user.name", value),
            Some(("db", value)) => put("db.namespace", value),
            Some(("app", value)) => put("db.client.application", value),
            Some(("client" | "host", value)) => put("client.address", value),
            Some(_) => {}
            None => {
                let Some((user, base)) = word.split_once('@') else { continue };
                // Fields may be joined by colons: what stands in front of the user or behind the database is another one.
                let user = user.rsplit(':').next().unwrap_or(user);
                let (base, application) = base.split_once(['/', ':']).unwrap_or((base, ""));
                if !user.is_empty() && !base.is_empty() {
                    put("user.name", user);
                    put("db.namespace", base);
                    put("db.client.application", application.split(':').next().unwrap_or_default());
                }
            }
        }
    }
}

/// An SQLSTATE that stands alone in the prefix: digits only count beside a process id in brackets, since they may be one.
fn state_in(prefix: &[u8]) -> Option<(usize, Code)> {
    let has_pid = pid_in_brackets(prefix).is_some();
    let mut at = 0;
    for word in prefix.split(|byte| matches!(byte, b' ' | b':' | b',')) {
        let start = at;
        at += word.len() + 1;
        let is_state = word.len() == 5
            && word.iter().all(|byte| byte.is_ascii_digit() || byte.is_ascii_uppercase())
            && word.iter().any(u8::is_ascii_digit)
            && (has_pid || word.iter().any(u8::is_ascii_uppercase));
        let Some(number) = Some(word).filter(|_| is_state).and_then(state_number) else { continue };
        let code = Code { family: Family::SqlState, number };
        if number > 0 && catalogue::entry(code).is_some() {
            return Some((start, code));
        }
    }
    None
}
