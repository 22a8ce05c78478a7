//! `samba-log`: `[2026/04/12 02:31:07.442123,  0] ../../source3/smbd/server.c:1741(main)`, the message on the lines behind it.
//!
//! Source: logs that Samba 4.17 wrote, and its manual page smb.conf(5) ("debug pid", "debug uid", "debug class" put more between the
//! brackets). Levels are numbers; what they mean is from Samba's own `debug.h`: 0 an error, 1 a warning, 3 a notice, 5 information, 10
//! and more for debugging. It greets with level 0 from `main`: that is no error.

use std::borrow::Cow;

use serde_json::Value;

use super::word::number;
use super::{Fit, Head, Hint, LineFormat, Record, record_from_head};
use crate::clock::scan::{self, Stamp};
use crate::severity::Severity;

/// The format.
pub(super) struct SambaLog;

/// The parts of a head.
struct Parts<'a> {
    stamp: Stamp,
    level: &'a [u8],
    pid: Option<u32>,
    /// The file of the source, without line and function.
    file: &'a [u8],
    line: &'a [u8],
    function: &'a [u8],
    end: usize,
}

fn parse(line: &[u8]) -> Option<Parts<'_>> {
    let inner = line.strip_prefix(b"[")?;
    let (civil, length) = scan::iso(inner)?;
    let close = memchr::memchr(b']', inner)?;
    let mut fields = inner.get(length..close)?.strip_prefix(b",")?.split(|byte| *byte == b',').map(<[u8]>::trim_ascii);
    let level = fields.next().filter(|level| level.len() <= 3 && number(level).is_some())?;
    let pid = fields.find_map(|field| number(field.strip_prefix(b"pid=")?));
    let rest = inner.get(close + 1..)?.strip_prefix(b" ")?;
    let open = memchr::memchr(b'(', rest)?;
    let behind = rest.get(open + 1..)?;
    let length = memchr::memchr(b')', behind)?;
    let colon = memchr::memrchr(b':', rest.get(..open)?)?;
    let (file, number_of_line) = (rest.get(..colon)?, rest.get(colon + 1..open)?);
    number(number_of_line)?;
    // The bracket at the start, the one that closes and a blank, the parentheses.
    let end = 1 + close + 2 + open + 1 + length + 1;
    let function = behind.get(..length)?;
    Some(Parts { stamp: civil.stamp(), level, pid, file, line: number_of_line, function, end })
}

/// The folder of the source: the daemon or library that speaks.
fn component(file: &[u8]) -> &[u8] {
    let mut parts = file.rsplit(|byte| *byte == b'/');
    let name = parts.next().unwrap_or_default();
    parts.next().filter(|folder| !folder.is_empty() && *folder != b"..").unwrap_or(name)
}

fn severity(level: &[u8], function: &[u8]) -> Severity {
    match number(level) {
        Some(0) if function == b"main" => Severity::NOTICE,
        Some(0) => Severity::ERROR,
        Some(1) => Severity::WARN,
        Some(2..=4) => Severity::NOTICE,
        Some(5..=9) => Severity::INFO,
        _ => Severity::DEBUG,
    }
}

impl LineFormat for SambaLog {
    fn name(&self) -> &'static str {
        "samba-log"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let parts = parse(line)?;
        Some(Head {
            stamp: parts.stamp,
            severity: severity(parts.level, parts.function),
            severity_text: Cow::Borrowed(parts.level),
            component: Cow::Borrowed(component(parts.file)),
            pid: parts.pid,
            body: parts.end.min(line.len()),
            ..Head::default()
        })
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        let lines: Vec<&str> = record.body.trim().lines().map(|line| line.strip_prefix("  ").unwrap_or(line)).collect();
        record.body = lines.join("\n");
        if let Some(parts) = text.lines().next().and_then(|line| parse(line.as_bytes())) {
            let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
            record.attributes.insert("code.filepath".into(), text(parts.file).into());
            record.attributes.insert("code.function".into(), text(parts.function).into());
            record.attributes.insert("code.lineno".into(), number(parts.line).map_or(Value::Null, Value::from));
        }
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| parse(line).is_some()).count();
        Fit { heads, sure: heads > 0, ..Fit::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn heads_with_and_without_more_between_the_brackets() {
        let head = |line: &'static str| SambaLog.head(line.as_bytes(), 0);
        let plain =
            head("[2026/04/12 02:31:07.442123,  0] ../../source3/smbd/smb2_service.c:772(make_connection_snum)")
                .unwrap();
        assert_eq!((plain.severity, &*plain.component, plain.pid), (Severity::ERROR, &b"smbd"[..], None));
        let more = head("[2026/04/12 02:31:08,  1, pid=2114, effective(0, 0), real(0, 0), class=auth] ../source3/auth/auth.c:17(check)").unwrap();
        assert_eq!((more.severity, &*more.component, more.pid), (Severity::WARN, &b"auth"[..], Some(2114)));
        assert_eq!(
            head("[2026/04/12 02:31:07,  0] server.c:1741(main)").unwrap().severity,
            Severity::NOTICE,
            "a greeting"
        );
        for line in ["[2026/04/12 02:31:07] feed.c:1(main)", "[2026/04/12 02:31:07,  0] no place", "[,", ""] {
            assert!(head(line).is_none(), "{line}");
        }
        let record =
            SambaLog.record("[2026/04/12 02:31:07,  3] ../../source3/smbd/vfs.c:141(init)\n  first\n  second\n", 0);
        assert_eq!(record.body, "first\nsecond");
        assert_eq!(record.attributes["code.function"], "init");
        assert_eq!(record.attributes["code.lineno"], 141);
    }
}
