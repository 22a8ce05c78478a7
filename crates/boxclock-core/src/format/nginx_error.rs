//! `nginx-error`: `YYYY/MM/DD hh:mm:ss [level] PID#TID: *CONNECTION message, client: …, server: …`.
//!
//! Source: the web server's documentation of its directive `error_log` (levels `debug` to `emerg`) and lines that the
//! server wrote itself when its upstream was dead (`tests/data/formats/nginx-error.log`).

use std::borrow::Cow;

use serde_json::Value;

use super::word::{number, skip_blanks};
use super::{Head, Hint, LineFormat, Record, record_from_head};
use crate::clock::scan;
use crate::code::Family;
use crate::severity::Severity;

/// The format.
pub(super) struct NginxError;

/// The words that the server puts behind its message, and what they are called as attributes.
const DETAILS: [(&str, &str); 7] = [
    (", client: ", "client.address"),
    (", server: ", "server.address"),
    (", request: ", "http.request"),
    (", subrequest: ", "http.subrequest"),
    (", upstream: ", "http.upstream"),
    (", host: ", "http.request.header.host"),
    (", referrer: ", "http.request.header.referer"),
];

impl LineFormat for NginxError {
    fn name(&self) -> &'static str {
        "nginx-error"
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Errno]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        if line.get(4) != Some(&b'/') {
            return None;
        }
        let (civil, end) = scan::iso(line)?;
        let rest = line.get(end..)?.strip_prefix(b" [")?;
        let length = rest.iter().take(8).position(|byte| *byte == b']')?;
        let level = rest.get(..length)?;
        let severity = Severity::from_long_word(level)?;
        let at = skip_blanks(line, end + 2 + length + 1);
        let ids = line.get(at..)?;
        let hash = ids.iter().take(11).position(|byte| *byte == b'#')?;
        let colon = ids.iter().take(24).position(|byte| *byte == b':')?;
        let (pid, tid) = (number(ids.get(..hash)?)?, number(ids.get(hash + 1..colon)?)?);
        Some(Head {
            stamp: civil.stamp(),
            severity,
            severity_text: Cow::Borrowed(level),
            component: Cow::Borrowed(b"nginx"),
            pid: Some(pid),
            tid: Some(tid),
            body: skip_blanks(line, at + colon + 1),
            ..Head::default()
        })
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        if let Some((number, _)) = record.body.strip_prefix('*').and_then(|rest| rest.split_once(' ')) {
            record.attributes.insert("network.connection.id".into(), Value::from(number));
        }
        let places = DETAILS.map(|(word, _)| record.body.find(word));
        for ((word, name), place) in DETAILS.iter().zip(places) {
            let Some(start) = place.map(|at| at + word.len()) else { continue };
            let end = places.iter().flatten().copied().filter(|end| *end >= start).min().unwrap_or(record.body.len());
            let value = record.body[start..end].trim_matches('"');
            record.attributes.insert((*name).to_owned(), Value::from(value));
        }
        record
    }
}
