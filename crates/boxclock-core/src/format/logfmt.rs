//! `logfmt`: lines of `key=value` pairs, values in quotes where they hold blanks.
//!
//! There is no standard; several logging libraries write it so. Keys are letters, digits, `_ - . @ /`; inside quotes the
//! escapes of JSON hold. A key without `=` is true.

use std::borrow::Cow;

use serde_json::Value;

use super::json_lines::{Role, role};
use super::word::number;
use super::{Fit, Head, Hint, LineFormat, Record, body_text};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{Stamp, scan};
use crate::severity::Severity;

/// The format.
pub(super) struct Logfmt;

/// One pair: the key, the value as written, and whether it stood in quotes.
struct Pair<'a> {
    key: &'a [u8],
    value: &'a [u8],
    quoted: bool,
    /// Whether the key stands alone.
    bare: bool,
}

/// The pairs of a line. Stops at what is none.
struct Pairs<'a> {
    line: &'a [u8],
    at: usize,
}

fn is_key(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-' | b'.' | b'@' | b'/')
}

impl<'a> Iterator for Pairs<'a> {
    type Item = Pair<'a>;

    fn next(&mut self) -> Option<Pair<'a>> {
        let rest = self.line.get(self.at..)?;
        let blanks = rest.iter().take_while(|byte| **byte == b' ').count();
        let rest = rest.get(blanks..)?;
        let length = rest.iter().take_while(|byte| is_key(**byte)).count();
        let key = rest.get(..length).filter(|key| !key.is_empty())?;
        let start = self.at + blanks + length;
        if rest.get(length) != Some(&b'=') {
            if !matches!(rest.get(length), None | Some(b' ')) {
                return None;
            }
            self.at = start;
            return Some(Pair { key, value: b"true", quoted: false, bare: true });
        }
        let value = rest.get(length + 1..)?;
        if let Some(inner) = value.strip_prefix(b"\"") {
            let mut end = 0;
            loop {
                match inner.get(end) {
                    None => break,
                    Some(b'\\') => end += 2,
                    Some(b'"') => break,
                    Some(_) => end += 1,
                }
            }
            let end = end.min(inner.len());
            self.at = start + 2 + end + 1;
            return Some(Pair { key, value: inner.get(..end)?, quoted: true, bare: false });
        }
        let end = value.iter().position(|byte| *byte == b' ').unwrap_or(value.len());
        self.at = start + 1 + end;
        Some(Pair { key, value: value.get(..end)?, quoted: false, bare: false })
    }
}

fn unquoted<'a>(pair: &Pair<'a>) -> Cow<'a, [u8]> {
    if !pair.quoted || !pair.value.contains(&b'\\') {
        return Cow::Borrowed(pair.value);
    }
    let text = [b"\"", pair.value, b"\""].concat();
    serde_json::from_slice::<String>(&text).map_or(Cow::Borrowed(pair.value), |text| Cow::Owned(text.into_bytes()))
}

fn stamp(text: &[u8]) -> Stamp {
    let found = scan::iso(text).or_else(|| forms::dated(text, DateOrder::DayFirst)).map(|(civil, _)| civil.stamp());
    found.or_else(|| scan::epoch(text).map(|ns| Stamp::Utc(ns, 0))).unwrap_or(Stamp::None)
}

/// The role of a key, with the short names that only this format uses.
fn role_of(key: &[u8]) -> Option<(Role, u8)> {
    role(key).or(match key {
        b"subsystem" | b"pkg" => Some((Role::Component, 2)),
        _ => None,
    })
}

impl LineFormat for Logfmt {
    fn name(&self) -> &'static str {
        "logfmt"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let first = *line.first()?;
        if !is_key(first) || !line.iter().take(64).any(|byte| *byte == b'=') {
            return None;
        }
        let mut head = Head::default();
        let mut ranks = [u8::MAX; 9];
        let (mut pairs, mut bare) = (0_usize, 0_usize);
        let mut walk = Pairs { line, at: 0 };
        for pair in walk.by_ref() {
            // A word without `=` is a pair only now and then: prose is not.
            if pair.bare {
                bare += 1;
            } else {
                pairs += 1;
            }
            if pairs == 0 {
                return None;
            }
            let Some((role, rank)) = role_of(pair.key) else { continue };
            let Some(slot) = ranks.get_mut(role as usize) else { continue };
            if rank >= *slot {
                continue;
            }
            let value = unquoted(&pair);
            *slot = rank;
            match role {
                Role::Time => head.stamp = stamp(&value),
                Role::Level | Role::PythonLevel | Role::OtelLevel => {
                    head.severity = Severity::from_word(&value).unwrap_or_default();
                    head.severity_text = value;
                }
                Role::Component => head.component = value,
                Role::Host => head.host = value,
                Role::Pid => head.pid = number(&value),
                Role::Tid => head.tid = number(&value),
                Role::Message => {}
            }
        }
        let known = head.stamp != Stamp::None
            || !head.severity_text.is_empty()
            || ranks.get(Role::Message as usize) != Some(&u8::MAX);
        (pairs >= 2 && bare <= pairs && known && walk.at >= line.len()).then_some(head)
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let line = text.lines().next().unwrap_or_default();
        let rest = text.get(line.len()..).unwrap_or_default().trim_start_matches(['\r', '\n']);
        let mut record = Record::default();
        let head = self.head(line.as_bytes(), hint).unwrap_or_default();
        let mut message = None;
        for pair in (Pairs { line: line.as_bytes(), at: 0 }) {
            let value = String::from_utf8_lossy(&unquoted(&pair)).into_owned();
            match role_of(pair.key) {
                Some((Role::Message, _)) if message.is_none() => message = Some(value),
                Some((Role::Level, _)) if value.as_bytes() == &*head.severity_text => {
                    record.severity_text = Some(value);
                }
                Some((Role::Time | Role::Pid | Role::Tid, _)) => {}
                Some((Role::Component, _)) if value.as_bytes() == &*head.component => {}
                _ => {
                    let key = String::from_utf8_lossy(pair.key).into_owned();
                    record.attributes.insert(key, Value::from(value));
                }
            }
        }
        record.body = message.unwrap_or_else(|| line.to_owned());
        if !rest.is_empty() {
            record.body.push('\n');
            record.body.push_str(rest);
        }
        record.body = body_text(&record.body);
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        Fit { heads: lines.iter().filter(|line| self.head(line, 0).is_some()).count(), ..Fit::default() }
    }
}
