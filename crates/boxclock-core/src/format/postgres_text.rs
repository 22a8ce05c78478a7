//! `postgres-text`: the text log of the PostgreSQL server: a prefix of the administrator's making, then `SEVERITY:  text`.
//!
//! Source: the server's documentation, chapter "Error Reporting and Logging": the escapes of `log_line_prefix`, the
//! severities, and that `DETAIL`, `HINT`, `QUERY`, `CONTEXT`, `LOCATION` and `STATEMENT` lines, which carry the prefix
//! too, belong to the message before them. Continued lines start with a tab. The prefix is guessed: a time at its start
//! (or behind one word), a number in brackets or alone as process id, `NAME=VALUE` and `USER@DATABASE`.

use std::borrow::Cow;

use serde_json::Value;

use super::word::number;
use super::{Fit, Head, Hint, LineFormat, Record, body_text};
use crate::clock::{Civil, scan};
use crate::code::Family;
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
    civil: Civil,
    prefix: &'a [u8],
    label: &'a [u8],
    body: usize,
}

fn parse(line: &[u8]) -> Option<Line<'_>> {
    let (start, (civil, length)) = if let Some(found) = scan::iso(line) {
        (0, found)
    } else {
        let gap = line.iter().take(80).position(|byte| *byte == b' ')? + 1;
        (gap, scan::iso(line.get(gap..)?)?)
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
            return Some(Line { civil, prefix: line.get(time_end..word_start)?, label, body: colon + 3 });
        }
        from = colon + 3;
    }
}

/// The process id: the first number in brackets, else the first that stands alone.
fn pid(prefix: &[u8]) -> Option<u32> {
    let bracketed = prefix.split(|byte| *byte == b'[').skip(1).find_map(|rest| {
        let length = rest.iter().take_while(|byte| byte.is_ascii_digit()).count();
        number(rest.get(..length)?).filter(|_| matches!(rest.get(length), Some(b']' | b'-')))
    });
    bracketed.or_else(|| prefix.split(|byte| matches!(byte, b' ' | b':')).find_map(number))
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
            stamp: line.civil.stamp(),
            severity: severity(line.label)?,
            severity_text: Cow::Borrowed(line.label),
            component: Cow::Borrowed(b"postgres"),
            pid: pid(line.prefix),
            body: line.body,
            ..Head::default()
        })
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
    for word in prefix.split([' ', ',', '[', ']']).filter(|word| !word.is_empty()) {
        let pair = word.split_once('=');
        let name = match pair {
            Some(("user", _)) => "user.name",
            Some(("db", _)) => "db.namespace",
            Some(("app", _)) => "db.client.application",
            Some(("client" | "host", _)) => "client.address",
            Some(_) => continue,
            None => {
                if let Some((user, base)) =
                    word.split_once('@').filter(|(user, base)| !user.is_empty() && !base.is_empty())
                {
                    record.attributes.insert("user.name".into(), Value::from(user));
                    record.attributes.insert("db.namespace".into(), Value::from(base));
                }
                continue;
            }
        };
        if let Some((_, value)) = pair.filter(|(_, value)| !value.is_empty()) {
            record.attributes.insert(name.into(), Value::from(value.trim_end_matches(':')));
        }
    }
}
