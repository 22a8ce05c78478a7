//! `proxy-access`: a caching proxy's own access log, `EPOCH.mmm ELAPSED CLIENT RESULT/STATUS BYTES METHOD URL USER HIERARCHY/PEER TYPE`.
//!
//! Source: what the proxy of Debian wrote here, and its manual on the default form of its access log. Time is the end of the request;
//! the elapsed milliseconds are the second column.

use serde_json::Value;

use super::word::{number, skip_blanks, token};
use super::{Head, Hint, LineFormat, Record, body_text};
use crate::clock::{Stamp, scan};
use crate::code::{Code, Family, Found};

/// The format.
pub(super) struct ProxyAccess;

/// The columns of a line, each with where it starts.
fn columns(line: &[u8]) -> Option<[(usize, &[u8]); 10]> {
    if !line.first()?.is_ascii_digit() {
        return None;
    }
    let mut found = [(0, &b""[..]); 10];
    let mut at = 0;
    for column in &mut found {
        at = skip_blanks(line, at);
        let (word, end) = token(line, at);
        if word.is_empty() {
            return None;
        }
        *column = (at, word);
        at = end;
    }
    let (time, result) = (found[0].1, found[3].1);
    let is_result = result.iter().take_while(|byte| byte.is_ascii_uppercase() || **byte == b'_').count();
    let known =
        time.get(10) == Some(&b'.') && time.len() == 14 && is_result > 2 && result.get(is_result) == Some(&b'/');
    (known && number(found[1].1).is_some()).then_some(found)
}

impl LineFormat for ProxyAccess {
    fn name(&self) -> &'static str {
        "proxy-access"
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Http]
    }

    fn judges_words(&self) -> bool {
        false
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let columns = columns(line)?;
        Some(Head { stamp: Stamp::Utc(scan::epoch(columns[0].1)?, 0), ..Head::default() })
    }

    fn column_codes(&self, line: &[u8], found: &mut dyn FnMut(Found)) {
        let Some([_, _, _, (start, result), ..]) = columns(line) else { return };
        let Some(slash) = result.iter().position(|byte| *byte == b'/') else { return };
        let status = result.get(slash + 1..).unwrap_or_default();
        if let Some(number) = number(status).filter(|number| (100..600).contains(number)) {
            let start = start + slash + 1;
            found(Found { start, end: start + 3, code: Code { family: Family::Http, number }, general: false });
        }
    }

    fn record(&self, text: &str, _: Hint) -> Record {
        let line = text.lines().next().unwrap_or_default();
        let mut record = Record { body: body_text(line), ..Record::default() };
        let Some(columns) = columns(line.as_bytes()) else { return record };
        let word =
            |at: usize| String::from_utf8_lossy(columns.get(at).map_or(&b""[..], |column| column.1)).into_owned();
        let (result, status) = word(3).split_once('/').map(|(a, b)| (a.to_owned(), b.to_owned())).unwrap_or_default();
        let pairs = [
            ("proxy.elapsed_ms", word(1)),
            ("client.address", word(2)),
            ("proxy.result", result),
            ("http.response.status_code", status),
            ("http.response.size", word(4)),
            ("http.request.method", word(5)),
            ("url.full", word(6)),
            ("user.name", word(7)),
            ("proxy.peer", word(8)),
            ("http.response.header.content-type", word(9)),
        ];
        for (name, value) in pairs.into_iter().filter(|(_, value)| value != "-") {
            record.attributes.insert(name.into(), value.parse::<u64>().map_or(Value::from(value), Value::from));
        }
        record
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_status_is_a_code() {
        let line = b"1795952596.948      0 127.0.0.1 TCP_MISS/503 3425 GET http://tank.example/ - HIER_DIRECT/127.0.0.1 text/html";
        assert!(ProxyAccess.head(line, 0).is_some());
        let mut codes = Vec::new();
        ProxyAccess.column_codes(line, &mut |found| codes.push((&line[found.start..found.end], found.code.number)));
        assert_eq!(codes, [(&b"503"[..], 503)]);
        assert!(ProxyAccess.head(b"1795952596.948 text of another kind", 0).is_none());
    }
}
