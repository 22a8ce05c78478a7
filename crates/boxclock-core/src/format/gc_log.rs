//! `gc-log`: the Java virtual machine's unified log, `[decoration]… message`, and the older form of its collector's log.
//!
//! Source: JEP 158 (unified logging: decorations in brackets, in the order time, utctime, uptime, timemillis,
//! uptimemillis, timenanos, uptimenanos, hostname, pid, tid, level, tags) and JEP 271 (the collector's log in it); the
//! older form `DATE: UPTIME: [GC …` is that of `-XX:+PrintGCDateStamps`.

use std::borrow::Cow;

use serde_json::Value;

use super::word::number;
use super::{Fit, Head, Hint, LineFormat, Record, record_from_head};
use crate::clock::{SECOND, Stamp, scan};
use crate::severity::Severity;

/// The format.
pub(super) struct GcLog;

/// The decorations of a line.
#[derive(Default)]
struct Decorations<'a> {
    stamp: Option<Stamp>,
    uptime: Option<i64>,
    level: Option<(Severity, &'a [u8])>,
    tags: Option<&'a [u8]>,
    numbers: [Option<u32>; 2],
    body: usize,
}

fn decorations(line: &[u8]) -> Option<Decorations<'_>> {
    let mut found = Decorations::default();
    let mut at = 0;
    while let Some(inner) = line.get(at..).and_then(|rest| rest.strip_prefix(b"[")) {
        let length = inner.iter().take(80).position(|byte| *byte == b']')?;
        let content = inner.get(..length)?.trim_ascii();
        if !found.take(content) {
            break;
        }
        at += length + 2;
    }
    found.body = at + usize::from(line.get(at) == Some(&b' '));
    Some(found)
}

impl<'a> Decorations<'a> {
    /// Takes what a bracket says; `false` if it is no decoration.
    fn take(&mut self, content: &'a [u8]) -> bool {
        if content.first().is_some_and(u8::is_ascii_digit) {
            if content.last() == Some(&b's') {
                if let Some(ns) = epoch_millis(content) {
                    self.stamp.get_or_insert(Stamp::Utc(ns, 0));
                } else {
                    let Some(ns) = uptime(content) else { return false };
                    self.uptime.get_or_insert(ns);
                }
            } else if let Some(id) = number(content) {
                let [first, second] = &mut self.numbers;
                *(if first.is_none() { first } else { second }) = Some(id);
            } else {
                let Some((civil, _)) = scan::iso(content).filter(|(_, end)| *end == content.len()) else {
                    return false;
                };
                self.stamp = Some(civil.stamp());
            }
        } else if self.level.is_none() {
            let known = matches!(content, b"trace" | b"debug" | b"info" | b"warning" | b"error");
            let Some(severity) = Severity::from_word(content).filter(|_| known) else { return false };
            self.level = Some((severity, content));
        } else if self.tags.is_none()
            && content.iter().all(|byte| byte.is_ascii_lowercase() || matches!(byte, b',' | b'_' | b'0'..=b'9'))
        {
            self.tags = Some(content);
        } else {
            return false;
        }
        true
    }
}

/// `1775961067442ms`: milliseconds since the epoch, told from those since the start of the machine by their size.
fn epoch_millis(text: &[u8]) -> Option<i64> {
    let digits = text.strip_suffix(b"ms")?;
    (digits.len() == 13 && digits.iter().all(u8::is_ascii_digit)).then(|| scan::epoch(digits))?
}

/// `0.005s`, `5ms` or `5012345ns`: time since the machine started.
fn uptime(text: &[u8]) -> Option<i64> {
    let (digits, scale) = match text.strip_suffix(b"ms") {
        Some(digits) => (digits, 1_000_000),
        None => match text.strip_suffix(b"ns") {
            Some(digits) => (digits, 1),
            None => (text.strip_suffix(b"s")?, SECOND),
        },
    };
    let point = digits.iter().position(|byte| matches!(byte, b'.' | b','));
    let (whole, fraction) = match point {
        Some(point) => (digits.get(..point)?, digits.get(point + 1..)?),
        None => (digits, &[][..]),
    };
    let value = |digits: &[u8]| {
        let plain = !digits.is_empty() && digits.len() <= 15 && digits.iter().all(u8::is_ascii_digit);
        plain.then(|| std::str::from_utf8(digits).ok()?.parse::<i64>().ok()).flatten()
    };
    if scale != SECOND {
        // Larger numbers are milliseconds or nanoseconds since the epoch, or of no fixed start.
        return value(whole).filter(|_| point.is_none())?.checked_mul(scale);
    }
    let power = u32::try_from(fraction.len()).ok().filter(|length| *length <= 9)?;
    let scale = SECOND.checked_div(10_i64.checked_pow(power)?)?;
    value(whole)
        .filter(|whole| *whole < 1 << 32)?
        .checked_mul(SECOND)?
        .checked_add(value(fraction)?.checked_mul(scale)?)
}

/// The older form: `2026-04-12T02:31:07.442+0200: 1.234: [GC`.
fn older(line: &[u8]) -> Option<(Stamp, usize)> {
    let (stamp, at) = match scan::iso(line) {
        Some((civil, end)) => (Some(civil.stamp()), end + line.get(end..)?.strip_prefix(b": ").map(|_| 2)?),
        None => (None, 0),
    };
    let rest = line.get(at..)?;
    let length = rest.iter().take(20).take_while(|byte| byte.is_ascii_digit() || matches!(byte, b'.' | b',')).count();
    let seconds = uptime(&[rest.get(..length)?, b"s"].concat())?;
    let body = rest.get(length..)?.strip_prefix(b": ")?;
    let known = [&b"[GC"[..], b"[Full GC", b"[CMS", b"[ParNew", b"Total time for", b"Application time", b"[Unloading"];
    known
        .iter()
        .any(|start| body.starts_with(start))
        .then_some((stamp.unwrap_or(Stamp::Uptime(seconds)), at + length + 2))
}

impl LineFormat for GcLog {
    fn name(&self) -> &'static str {
        "gc-log"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        if let Some((stamp, body)) = older(line) {
            return Some(Head { stamp, component: Cow::Borrowed(b"gc"), body, ..Head::default() });
        }
        let found = decorations(line)?;
        let stamp = found.stamp.or(found.uptime.map(Stamp::Uptime))?;
        // A time alone in brackets is no virtual machine's line.
        if found.tags.is_none() && (found.level.is_none() || found.uptime.is_none()) {
            return None;
        }
        let (severity, severity_text) = found.level.unwrap_or((Severity::NONE, b""));
        Some(Head {
            stamp,
            severity,
            severity_text: Cow::Borrowed(severity_text),
            component: Cow::Borrowed(found.tags.unwrap_or_default()),
            pid: found.numbers[0],
            tid: found.numbers[1],
            body: found.body,
            ..Head::default()
        })
    }

    fn judges_words(&self) -> bool {
        false
    }

    /// The machine tells of every class that it loads and every exception that it throws inside, also those that are caught.
    fn is_fields(&self, line: &[u8]) -> bool {
        decorations(line).is_some_and(|found| found.level.is_some_and(|(severity, _)| severity < Severity::WARN))
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        let line = text.lines().next().unwrap_or_default();
        if let Some(ns) = decorations(line.as_bytes()).and_then(|found| found.uptime) {
            record.attributes.insert("boxclock.uptime_s".into(), (ns as f64 / SECOND as f64).into());
        }
        if let Some(id) =
            record.body.strip_prefix("GC(").and_then(|rest| rest.split_once(')')).map(|(id, _)| id.to_owned())
        {
            record.attributes.insert("jvm.gc.id".into(), id.parse::<u64>().map_or(Value::from(id), Value::from));
        }
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        Fit { heads: lines.iter().filter(|line| self.head(line, 0).is_some()).count(), ..Fit::default() }
    }
}
