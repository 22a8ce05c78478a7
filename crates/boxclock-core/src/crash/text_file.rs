//! `crash-text`: reports of a crash that are a file of their own: one event.

use std::fs::File;

use super::field::Fields;
use super::text::{self, TextLine};
use super::{Crash, DumpFormat};

/// The format.
pub(super) struct CrashTextFile;

/// Bytes of one report that are read.
const MOST_BYTES: u64 = 16 << 20;
/// How far into a file its first words may stand.
const HEAD_BYTES: usize = 4096;

impl DumpFormat for CrashTextFile {
    fn name(&self) -> &'static str {
        "crash-text"
    }

    fn is_text(&self) -> bool {
        true
    }

    fn recognises(&self, start: &[u8]) -> bool {
        let start = start.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(start);
        let head = start.get(..start.len().min(HEAD_BYTES)).unwrap_or_default();
        let begins = |words: &[u8]| head.trim_ascii_start().starts_with(words);
        let holds = |words: &[u8]| memchr::memmem::find(head, words).is_some();
        // What no log begins with: each of these is the beginning of a whole report.
        (begins(b"#") && holds(b"A fatal error has been detected by the Java Runtime Environment"))
            || (begins(b"#") && holds(b"There is insufficient memory for the Java Runtime"))
            || begins(b"Fatal Python error: ")
            || begins(b"Exception in thread \"")
            || begins(b"<--- Last few GCs --->")
            || (holds(b"\n\nNode.js v") && holds(b"\n    at ") && !begins(b"{") && is_place(head))
            || ((begins(b"panic: ") || begins(b"fatal error: ") || begins(b"SIG") || begins(b"unexpected fault"))
                && holds(b"\ngoroutine "))
            || (begins(b"thread '") && holds(b"panicked at"))
            || (begins(b"=====") && holds(b"Sanitizer"))
            || (begins(b"==") && holds(b"==ERROR: ") && holds(b"Sanitizer"))
            || (begins(b"Process: ") && holds(b"Identifier:"))
            || (begins(b"-----") && holds(b"\nProcess: ") && holds(b"Identifier:"))
            || (begins(b"{") && (holds(b"\"bug_type\"") && (holds(b"\"app_name\"") || holds(b"\"incident_id\""))))
            || (begins(b"{") && holds(b"\"reportVersion\"") && holds(b"\"header\""))
    }

    fn read(&self, file: &File, len_bytes: u64) -> Result<Crash, String> {
        let held = len_bytes.min(MOST_BYTES);
        let fields = Fields::read(file, 0, held, MOST_BYTES, false)?;
        let bytes = fields.slice(0, fields.len()).unwrap_or_default();
        let bytes = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
        let text = String::from_utf8_lossy(bytes);
        let lines: Vec<TextLine> = text
            .lines()
            .zip(1..)
            .map(|(text, line)| TextLine { line, text: text.trim_end_matches('\r').to_owned() })
            .collect();
        let document = text.starts_with('{').then(|| text::read_document(&lines)).flatten();
        let told = document.or_else(|| (0..lines.len().min(64)).find_map(|from| text::read(lines.get(from..)?)));
        let mut crash = told
            .map(|told| told.crash)
            .ok_or("the report begins like one of a crash, but does not continue like one")?;
        if len_bytes > MOST_BYTES {
            crash.trouble.push(format!("only the first {MOST_BYTES} of {len_bytes} bytes are read"));
        }
        let stated = crash.attributes.get("crash.time_text").and_then(|text| text.as_str()).and_then(time_of);
        crash.time = crash.time.or(stated);
        Ok(crash)
    }
}

/// A time with its offset, as reports write it: `2026-04-12 02:31:07.4420 +0200`.
fn time_of(text: &str) -> Option<i64> {
    let text = text.trim();
    let formats =
        ["%Y-%m-%d %H:%M:%S%.f %z", "%Y-%m-%dT%H:%M:%S%.f%z", "%Y-%m-%d %H:%M:%S %z", "%a %b %e %H:%M:%S %Y %z"];
    let parsed = formats.iter().find_map(|format| jiff::fmt::strtime::parse(format, text).ok()?.to_timestamp().ok());
    parsed.and_then(|time| i64::try_from(time.as_nanosecond()).ok())
}

/// Whether the first line is nothing but a file and a line of it, as Node begins the report of an error.
fn is_place(head: &[u8]) -> bool {
    let line = head.trim_ascii_start().split(|byte| *byte == b'\n').next().unwrap_or_default().trim_ascii_end();
    let number = line.rsplit(|byte| *byte == b':').next().unwrap_or_default();
    !number.is_empty() && number.len() < line.len() && number.iter().all(u8::is_ascii_digit) && !line.contains(&b' ')
}
