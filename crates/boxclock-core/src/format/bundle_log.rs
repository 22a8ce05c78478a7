//! `bundle-log`: what a bundle of chained installers writes, `[0A4C:0B10][2026-04-12T02:31:07]e000: text`.
//!
//! The shape is process and thread in hexadecimal, the local time, and a letter (`i` information, `w` warning, `e` error, `v` and `d` detail) with the
//! number of the message. Source: logs of such bundles as their makers' documentation prints them.

use std::borrow::Cow;

use serde_json::Value;

use super::{Fit, Head, Hint, InstallerLog, LineFormat, Record, record_from_head};
use crate::clock::scan::{self, Civil};
use crate::code::{Family, Platform};
use crate::severity::Severity;

/// The format.
pub(super) struct BundleLog;

struct Line<'a> {
    civil: Civil,
    pid: u32,
    tid: u32,
    severity: Severity,
    /// Letter and number.
    label: &'a [u8],
    body: usize,
}

fn parse(line: &[u8]) -> Option<Line<'_>> {
    let inner = line.strip_prefix(b"[")?;
    let close = inner.iter().take(20).position(|byte| *byte == b']')?;
    let ids = std::str::from_utf8(inner.get(..close)?).ok()?;
    let (pid, tid) = ids.split_once(':')?;
    let hex = |text: &str| u32::from_str_radix(text, 16).ok().filter(|_| text.len() >= 4);
    let rest = inner.get(close + 1..)?.strip_prefix(b"[")?;
    let time_end = rest.iter().take(40).position(|byte| *byte == b']')?;
    let (civil, used) = scan::iso(rest)?;
    let label_at = line.len() - rest.len() + time_end + 1;
    let rest = line.get(label_at..)?;
    let colon = rest.iter().take(12).position(|byte| *byte == b':')?;
    let label = rest.get(..colon)?;
    let (letter, number) = label.split_first()?;
    let severity = match letter {
        b'e' => Severity::ERROR,
        b'w' => Severity::WARN,
        b'i' => Severity::INFO,
        b'v' | b'd' => Severity::DEBUG,
        _ => return None,
    };
    let good = used == time_end && !number.is_empty() && number.iter().all(u8::is_ascii_digit);
    let body = label_at + colon + 1 + usize::from(rest.get(colon + 1) == Some(&b' '));
    good.then_some(Line { civil, pid: hex(pid)?, tid: hex(tid)?, severity, label, body })
}

impl LineFormat for BundleLog {
    fn name(&self) -> &'static str {
        "bundle-log"
    }

    fn installer(&self) -> Option<InstallerLog> {
        Some(InstallerLog::Words)
    }

    fn platform(&self) -> Platform {
        Platform::Windows
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Hresult, Family::Msi]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let line = parse(line)?;
        Some(Head {
            stamp: line.civil.stamp(),
            severity: line.severity,
            severity_text: Cow::Borrowed(line.label.get(..1).unwrap_or_default()),
            pid: Some(line.pid),
            tid: Some(line.tid),
            body: line.body,
            ..Head::default()
        })
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        if let Some(line) = parse(text.as_bytes()) {
            let label = String::from_utf8_lossy(line.label).into_owned();
            record.attributes.insert("installer.message".into(), Value::from(label));
        }
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| parse(line).is_some()).count();
        Fit { heads, sure: heads > 1, ..Fit::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_letter_is_the_level_and_the_ids_are_hexadecimal() {
        let line = b"[0A4C:1B10][2026-04-12T02:31:07]e000: Error 0x80070643: Failed to install package.";
        let head = BundleLog.head(line, 0).unwrap();
        assert_eq!((head.severity, head.pid, head.tid), (Severity::ERROR, Some(0x0A4C), Some(0x1B10)));
        assert_eq!(line.get(head.body..).unwrap(), b"Error 0x80070643: Failed to install package.");
        assert!(BundleLog.head(b"[main:x][2026-04-12T02:31:07]e000: no", 0).is_none());
    }
}
