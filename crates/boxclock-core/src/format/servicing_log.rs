//! `servicing-log`: `YYYY-MM-DD hh:mm:ss, Level    COMPONENT    text`, as the servicing stack and the setup of Windows write.
//!
//! Source: the vendor's support articles on analysing servicing and setup logs: a date and time of the local zone, a
//! comma, the level (`Info`, `Warning`, `Error`, …) padded to 22 columns, the component padded to 7, the text. Lines that
//! go on start without a time.

use std::borrow::Cow;

use serde_json::Value;

use super::word::{number, skip_blanks, token};
use super::{Head, Hint, InstallerLog, LineFormat, Record, record_from_head};
use crate::clock::scan;
use crate::code::Family;
use crate::severity::Severity;

/// The format.
pub(super) struct ServicingLog;

impl LineFormat for ServicingLog {
    fn name(&self) -> &'static str {
        "servicing-log"
    }

    fn installer(&self) -> Option<InstallerLog> {
        Some(InstallerLog::Words)
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Hresult]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let (civil, end) = scan::iso(line)?;
        let level_at = end + line.get(end..)?.strip_prefix(b", ").map(|_| 2)?;
        let (level, level_end) = token(line, level_at);
        // `Perf` and `Fatal Error` are levels too, only rarer.
        let severity = match level {
            b"Perf" => Severity::DEBUG,
            b"FatalErr" => Severity::FATAL,
            _ => Severity::from_long_word(level)?,
        };
        let at = skip_blanks(line, level_end);
        // The level is padded: a message with a comma and a level word is not.
        if at < level_end + 2 && at < line.len() {
            return None;
        }
        let (component, component_end) = component(line, at);
        let (pid, tid) = ids(line.get(component_end..).unwrap_or_default());
        Some(Head {
            stamp: civil.stamp(),
            severity,
            severity_text: Cow::Borrowed(level),
            component: Cow::Borrowed(component),
            pid,
            tid,
            body: skip_blanks(line, component_end),
            ..Head::default()
        })
    }

    fn version(&self) -> u32 {
        2
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        let first = record.body.split_ascii_whitespace().next().unwrap_or_default();
        if first.len() == 8 && first.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            record.attributes.insert("servicing.sequence".into(), Value::from(first));
        } else if let Some(code) = first.strip_prefix("[0x").and_then(|rest| rest.strip_suffix(']')) {
            record.attributes.insert("servicing.message".into(), Value::from(format!("0x{code}")));
        }
        record
    }
}

/// A component of capitals, digits and underscores, and where it ends; none where the text starts at once.
fn component(line: &[u8], at: usize) -> (&[u8], usize) {
    let (word, end) = token(line, at);
    let name = word.len() <= 16
        && word.first().is_some_and(u8::is_ascii_uppercase)
        && word.iter().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit() || *byte == b'_');
    // Setup writes a message number in brackets before the component.
    if word.starts_with(b"[0x") && word.ends_with(b"]") {
        let next = skip_blanks(line, end);
        let (name, _) = component_word(line, next);
        return (name, at);
    }
    if name && skip_blanks(line, end) >= end { (word, end) } else { (b"", at) }
}

fn component_word(line: &[u8], at: usize) -> (&[u8], usize) {
    let (word, end) = token(line, at);
    let capitals = word.iter().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit() || *byte == b'_');
    // Other names are padded.
    let padded =
        word.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'_') && skip_blanks(line, end) > end + 1;
    let name = word.len() <= 16 && word.first().is_some_and(u8::is_ascii_alphabetic) && (capitals || padded);
    if name { (word, end) } else { (b"", at) }
}

/// `PID=99 TID=7` as image servicing writes it.
fn ids(rest: &[u8]) -> (Option<u32>, Option<u32>) {
    let value = |name: &[u8]| {
        let at = memchr::memmem::find(rest.get(..rest.len().min(120))?, name)? + name.len();
        let digits = rest.get(at..)?;
        number(digits.get(..digits.iter().take_while(|byte| byte.is_ascii_digit()).count())?)
    };
    (value(b"PID="), value(b"TID="))
}
