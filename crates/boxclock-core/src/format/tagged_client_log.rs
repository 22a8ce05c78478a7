//! `tagged-client-log`: the two forms in which a management client writes.
//!
//! ```text
//! <![LOG[text, perhaps of several lines]LOG]!><time="02:31:07.442-120" date="04-12-2026" component="…" context="" type="1" thread="99" file="x.cpp:7">
//! text  $$<component><04-12-2026 02:31:07.442-120><thread=99 (0x63)>
//! ```
//!
//! Source: the issue that asked for it, and the vendor's support articles on reading these logs. The number behind the
//! time is the bias in minutes: UTC is local time plus bias. Types: 1 information, 2 warning, 3 error. The date is
//! month-first. The tags of a record of several lines stand on its last line, and are read there.

use std::borrow::Cow;

use serde_json::Value;

use super::word::number;
use super::{Fit, Head, Hint, InstallerLog, LineFormat, Record, body_text};
use crate::clock::forms::{self, DateOrder};
use crate::clock::scan::Civil;
use crate::code::Family;
use crate::severity::Severity;

/// The format.
pub(super) struct TaggedClientLog;

const START: &[u8] = b"<![LOG[";
const END: &[u8] = b"]LOG]!>";
const SHORT: &[u8] = b"  $$<";

/// The value of `name="…"` behind the text.
fn tag<'a>(tags: &'a [u8], name: &[u8]) -> Option<&'a [u8]> {
    let mut from = 0;
    loop {
        let at = from + memchr::memmem::find(tags.get(from..)?, name)?;
        let rest = tags.get(at + name.len()..)?;
        let own_word = at == 0 || matches!(tags.get(at - 1), Some(b' ' | b'<'));
        if let Some(value) = rest.strip_prefix(b"=\"").filter(|_| own_word) {
            return value.get(..value.iter().position(|byte| *byte == b'"')?);
        }
        from = at + name.len();
    }
}

/// `02:31:07.442-120`: the bias is cut off before the time is read.
fn with_bias(time: &[u8]) -> (&[u8], Option<i32>) {
    let Some(at) = time.iter().rposition(|byte| matches!(byte, b'+' | b'-')) else { return (time, None) };
    let bias =
        time.get(at + 1..).and_then(number).and_then(|bias| i32::try_from(bias).ok()).filter(|bias| *bias <= 24 * 60);
    match bias {
        Some(bias) => {
            let (time, sign) = time.split_at_checked(at).unwrap_or((time, b""));
            (time, Some(if sign.starts_with(b"-") { bias.saturating_neg() } else { bias }))
        }
        None => (time, None),
    }
}

fn civil(date: &[u8], time: &[u8]) -> Option<Civil> {
    let (time, bias) = with_bias(time);
    let text = [date, b" ", time].concat();
    let (mut civil, end) = forms::dated(&text, DateOrder::MonthFirst)?;
    civil.offset = bias.map(|bias| bias.saturating_mul(-60));
    (end == text.len()).then_some(civil)
}

/// What the tags behind a text of the long form say.
fn long_tags(tags: &[u8]) -> Option<Head<'_>> {
    let civil = civil(tag(tags, b"date")?, tag(tags, b"time")?)?;
    let kind = tag(tags, b"type").unwrap_or_default();
    let severity = match kind {
        b"0" | b"1" => Severity::INFO,
        b"2" => Severity::WARN,
        b"3" => Severity::ERROR,
        _ => Severity::NONE,
    };
    Some(Head {
        stamp: civil.stamp(),
        severity,
        severity_text: Cow::Borrowed(kind),
        component: Cow::Borrowed(tag(tags, b"component").unwrap_or_default()),
        tid: tag(tags, b"thread").and_then(number),
        ..Head::default()
    })
}

/// The short form's tags: `component><date time+bias><thread=99 (0x63)>`.
fn short_tags(tags: &[u8]) -> Option<Head<'_>> {
    let component_end = tags.iter().take(256).position(|byte| *byte == b'>')?;
    let rest = tags.get(component_end + 1..)?.strip_prefix(b"<")?;
    let time_end = rest.iter().take(64).position(|byte| *byte == b'>')?;
    let when = rest.get(..time_end)?;
    let blank = when.iter().position(|byte| *byte == b' ')?;
    let civil = civil(when.get(..blank)?, when.get(blank + 1..)?)?;
    let thread = rest.get(time_end + 1..)?.strip_prefix(b"<thread=").unwrap_or_default();
    let digits = thread.iter().take_while(|byte| byte.is_ascii_digit()).count();
    Some(Head {
        stamp: civil.stamp(),
        component: Cow::Borrowed(tags.get(..component_end)?),
        tid: number(thread.get(..digits)?),
        ..Head::default()
    })
}

impl LineFormat for TaggedClientLog {
    fn name(&self) -> &'static str {
        "tagged-client-log"
    }

    fn installer(&self) -> Option<InstallerLog> {
        Some(InstallerLog::Words)
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Hresult]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        if line.starts_with(START) {
            let head = self.tail(line, 0).unwrap_or_default();
            return Some(Head { body: START.len(), ..head });
        }
        let at = memchr::memmem::rfind(line, SHORT)?;
        short_tags(line.get(at + SHORT.len()..)?)
    }

    fn has_tails(&self) -> bool {
        true
    }

    fn tail<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let at = memchr::memmem::find(line, END)?;
        long_tags(line.get(at + END.len()..)?)
    }

    fn record(&self, text: &str, _: Hint) -> Record {
        let mut record = Record::default();
        if let Some(rest) = text.strip_prefix("<![LOG[") {
            let (body, tags) = rest.split_once("]LOG]!>").unwrap_or((rest, ""));
            record.body = body_text(body);
            for (name, attribute) in
                [("file", "code.file.path"), ("context", "client.context"), ("type", ""), ("thread", "thread.id")]
            {
                let Some(value) = tag(tags.as_bytes(), name.as_bytes()).filter(|value| !value.is_empty()) else {
                    continue;
                };
                let value = String::from_utf8_lossy(value).into_owned();
                match name {
                    "type" => record.severity_text = Some(value),
                    "file" => {
                        let (path, line) = match value.rsplit_once(':') {
                            Some((path, line)) if line.parse::<u32>().is_ok() => (path.to_owned(), line.parse().ok()),
                            _ => (value, None),
                        };
                        record.attributes.insert(attribute.into(), Value::from(path));
                        record.attributes.extend(line.map(|line: u32| ("code.line.number".into(), Value::from(line))));
                    }
                    _ => {
                        record.attributes.insert(attribute.into(), Value::from(value));
                    }
                }
            }
        } else {
            let first = text.lines().next().unwrap_or_default();
            let body = first.rfind("  $$<").map_or(first, |at| &first[..at]);
            let rest = text.get(first.len()..).unwrap_or_default();
            record.body = body_text(&format!("{body}{rest}"));
        }
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        // Lines inside records of several lines carry no mark: the first line with one is proof enough.
        Fit {
            heads,
            sure: heads > 0 && lines.first().is_some_and(|line| self.head(line, 0).is_some()),
            ..Fit::default()
        }
    }
}
