//! `ncsa-access`: `HOST IDENT USER [DD/Mon/YYYY:hh:mm:ss ±hhmm] "METHOD PATH PROTOCOL" STATUS BYTES "REFERER" "AGENT"`.
//!
//! Source: the common and combined log formats as the documentation of several web servers states them; some write the
//! name of the virtual host in front. An access log carries no severities.

use serde_json::Value;

use super::word::{number, token};
use super::{Head, Hint, LineFormat, Record, record_from_head};
use crate::clock::Civil;
use crate::clock::forms::{self, DateOrder};
use crate::code::{Code, Family, Found};

/// The format.
pub(super) struct NcsaAccess;

/// Where the time is: its reading and the place behind its bracket.
fn time(line: &[u8]) -> Option<(Civil, usize)> {
    let mut from = 0;
    // The user's name may hold brackets: the time is the first bracket that reads as one.
    for _ in 0..8 {
        let at = from + line.get(from..)?.iter().take(512).position(|byte| *byte == b'[')?;
        let inner = line.get(at + 1..)?;
        if inner.first().is_some_and(u8::is_ascii_digit)
            && let Some((civil, length)) = forms::dated(inner, DateOrder::DayFirst)
            && inner.get(length) == Some(&b']')
        {
            return (at > 4).then_some((civil, at + length + 2));
        }
        from = at + 1;
    }
    None
}

/// A text in quotes at `at`: its bytes and where it ends. A quote inside is written `\"`.
fn quoted(line: &[u8], at: usize) -> Option<(&[u8], usize)> {
    let inner = line.get(at..)?.strip_prefix(b"\"")?;
    let mut end = 0;
    loop {
        match inner.get(end)? {
            b'\\' => end += 2,
            b'"' => return Some((inner.get(..end)?, at + end + 2)),
            _ => end += 1,
        }
    }
}

fn text(bytes: &[u8]) -> Option<Value> {
    (!matches!(bytes, b"" | b"-")).then(|| Value::from(String::from_utf8_lossy(bytes)))
}

impl LineFormat for NcsaAccess {
    fn name(&self) -> &'static str {
        "ncsa-access"
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Http]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let (civil, end) = time(line)?;
        let (_, end) = quoted(line, end + 1).filter(|_| line.get(end) == Some(&b' '))?;
        let (status, _) = token(line, end + 1);
        (status.len() == 3 && status.iter().all(u8::is_ascii_digit) || status == b"-")
            .then(|| Head { stamp: civil.stamp(), ..Head::default() })
    }

    fn column_codes(&self, line: &[u8], found: &mut dyn FnMut(Found)) {
        let Some((_, time_end)) = time(line) else { return };
        let Some((_, end)) = quoted(line, time_end + 1) else { return };
        let (status, status_end) = token(line, end + 1);
        if let Some(number) = number(status).filter(|number| (100..600).contains(number)) {
            let code = Code { family: Family::Http, number };
            found(Found { start: end + 1, end: status_end, code, general: false });
        }
    }

    fn version(&self) -> u32 {
        2
    }

    fn judges_words(&self) -> bool {
        false
    }

    fn record(&self, record_text: &str, hint: Hint) -> Record {
        let line = record_text.lines().next().unwrap_or_default().as_bytes();
        let mut record = record_from_head(self.head(line, hint), record_text);
        let Some((_, time_end)) = time(line) else { return record };
        let before: Vec<&[u8]> = line.split(|byte| *byte == b' ').take_while(|word| !word.starts_with(b"[")).collect();
        let mut add = |name: &str, value: Option<Value>| {
            record.attributes.extend(value.map(|value| (name.to_owned(), value)));
        };
        // `HOST IDENT USER`, with the virtual host in front where there are four words.
        let first = before.len().saturating_sub(3).min(1);
        add("server.address", before.first().filter(|_| first == 1).and_then(|word| text(word)));
        add("client.address", before.get(first).and_then(|word| text(word)));
        add("user.name", before.last().filter(|_| before.len() > 2).and_then(|word| text(word)));
        let Some((request, mut at)) = quoted(line, time_end + 1) else { return record };
        let mut words = request.split(|byte| *byte == b' ');
        let (method, target, protocol) = (words.next(), words.next(), words.next());
        if let (Some(method), Some(target)) = (method, target) {
            add("http.request.method", text(method));
            let (path, query) =
                match target.iter().position(|byte| *byte == b'?').and_then(|mark| target.split_at_checked(mark)) {
                    Some((path, query)) => (path, query.get(1..).unwrap_or_default()),
                    None => (target, &b""[..]),
                };
            add("url.path", text(path));
            add("url.query", text(query));
            let version = protocol.and_then(|protocol| protocol.strip_prefix(b"HTTP/"));
            add("network.protocol.version", version.and_then(text));
        }
        let as_number = |word: &[u8]| std::str::from_utf8(word).ok().and_then(|word| word.parse::<u64>().ok());
        for name in ["http.response.status_code", "http.response.body.size"] {
            let (word, end) = token(line, at + 1);
            add(name, as_number(word).map(Value::from));
            at = end;
        }
        for name in ["http.request.header.referer", "user_agent.original"] {
            let Some((value, end)) = quoted(line, at + 1) else { break };
            add(name, text(value));
            at = end;
        }
        record
    }
}
