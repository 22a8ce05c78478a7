//! `rfc5424`: `<PRI>1 TIME HOST APP PROCID MSGID SD MSG`.
//!
//! Source: RFC 5424 section 6 (ABNF of the header, structured data in 6.3, the message's byte-order mark in 6.4).

use std::borrow::Cow;

use serde_json::Value;

use super::word::{facility_name, number, priority, token};
use super::{Head, Hint, LineFormat, Record, record_from_head};
use crate::clock::{Stamp, scan};
use crate::code::Platform;
use crate::severity::Severity;

/// The format.
pub(super) struct Rfc5424;

const NIL: &[u8] = b"-";

/// The pieces of a header, each as written.
struct Header<'a> {
    priority: u32,
    priority_text: &'a [u8],
    time: &'a [u8],
    host: &'a [u8],
    app: &'a [u8],
    proc_id: &'a [u8],
    msg_id: &'a [u8],
    data: &'a [u8],
    body: usize,
}

fn header(line: &[u8]) -> Option<Header<'_>> {
    let (priority, priority_text, at) = priority(line)?;
    let (version, mut at) = token(line, at);
    if version != b"1" {
        return None;
    }
    let mut field = || {
        if line.get(at) != Some(&b' ') {
            return None;
        }
        let (text, end) = token(line, at + 1);
        at = end;
        (!text.is_empty()).then_some(text)
    };
    let (time, host, app, proc_id, msg_id) = (field()?, field()?, field()?, field()?, field()?);
    if line.get(at) != Some(&b' ') {
        return None;
    }
    let data_end = structured_data_end(line, at + 1)?;
    let data = line.get(at + 1..data_end)?;
    let mut body = data_end;
    // Some relays leave a second blank before the message.
    body += line.get(body..)?.iter().take_while(|byte| **byte == b' ').count();
    if line.get(body..).is_some_and(|rest| rest.starts_with(b"\xEF\xBB\xBF")) {
        body += 3;
    }
    Some(Header { priority, priority_text, time, host, app, proc_id, msg_id, data, body })
}

/// Where the structured data at `at` ends: `-`, or elements in brackets whose values are quoted.
fn structured_data_end(line: &[u8], at: usize) -> Option<usize> {
    if line.get(at) == Some(&b'-') {
        return Some(at + 1);
    }
    let mut at = at;
    while line.get(at) == Some(&b'[') {
        let mut quoted = false;
        loop {
            at += 1;
            match (*line.get(at)?, quoted) {
                (b'\\', true) => at += 1,
                (b'"', _) => quoted = !quoted,
                (b']', false) => break,
                _ => {}
            }
        }
        at += 1;
    }
    matches!(line.get(at), None | Some(b' ')).then_some(at)
}

fn present(text: &[u8]) -> Cow<'_, [u8]> {
    Cow::Borrowed(if text == NIL { b"" } else { text })
}

impl LineFormat for Rfc5424 {
    fn name(&self) -> &'static str {
        "rfc5424"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn may_hold_kernel_lines(&self) -> bool {
        true
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let header = header(line)?;
        let stamp = match scan::iso(header.time) {
            Some((civil, end)) if end == header.time.len() => civil.stamp(),
            _ if header.time == NIL => Stamp::None,
            _ => return None,
        };
        Some(Head {
            stamp,
            severity: Severity::from_syslog(header.priority),
            severity_text: Cow::Borrowed(header.priority_text),
            host: present(header.host),
            component: present(header.app),
            pid: number(header.proc_id),
            tid: None,
            body: header.body,
        })
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let bytes = text.as_bytes();
        let mut record = record_from_head(self.head(bytes, hint), text);
        let Some(header) = header(bytes) else { return record };
        let lossy = |bytes: &[u8]| Value::from(String::from_utf8_lossy(bytes).into_owned());
        let mut attributes = serde_json::Map::new();
        attributes.insert("syslog.facility".into(), facility_name(header.priority).into());
        if header.host != NIL {
            attributes.insert("host.name".into(), lossy(header.host));
        }
        if header.proc_id != NIL && number(header.proc_id).is_none() {
            attributes.insert("syslog.procid".into(), lossy(header.proc_id));
        }
        if header.msg_id != NIL {
            attributes.insert("syslog.msgid".into(), lossy(header.msg_id));
        }
        structured_data(&String::from_utf8_lossy(header.data), &mut attributes);
        record.attributes = attributes;
        record
    }
}

/// Adds each parameter of the structured data as `ID.NAME`, its escapes (6.3.3) undone.
fn structured_data(data: &str, attributes: &mut serde_json::Map<String, Value>) {
    let mut chars = data.chars().peekable();
    while chars.next_if_eq(&'[').is_some() {
        let mut take_until = |ends: &[char]| {
            let mut text = String::new();
            while let Some(c) = chars.next_if(|c| !ends.contains(c)) {
                text.push(c);
            }
            (text, chars.next())
        };
        let (id, mut end) = take_until(&[' ', ']']);
        while end == Some(' ') {
            let (name, _) = take_until(&['=', ']']);
            take_until(&['"']);
            let mut value = String::new();
            loop {
                let (piece, stop) = take_until(&['"', '\\']);
                value.push_str(&piece);
                if stop != Some('\\') {
                    break;
                }
                let (escaped, mark) = take_until(&['"', '\\', ']']);
                if !escaped.is_empty() {
                    value.push('\\');
                }
                value.push_str(&escaped);
                value.extend(mark);
            }
            attributes.insert(format!("{id}.{name}"), value.into());
            end = take_until(&[' ', ']']).1;
        }
    }
}
