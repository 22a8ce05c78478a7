//! `kernel-ring`: the kernel's messages as dmesg prints them, `[   12.345678] message`, with the time since boot.
//!
//! Source: the manual page dmesg(1) (default, `-r` with the priority in front, `-x` with facility and level words, `-T`
//! with a date in the bracket, `-d` with the time since the message before, `-e` with minutes and steps), its manual page on
//! `/dev/kmsg` (the kernel's `Documentation/ABI/testing/dev-kmsg`: `PRIORITY,NUMBER,MICROSECONDS,FLAGS;message`, then lines
//! with a blank and `KEY=value`) and the kernel's `Documentation/core-api/printk-basics.rst` for the levels. With
//! `CONFIG_PRINTK_CALLER` a second bracket names the thread (`T99`) or processor (`C3`).

use std::borrow::Cow;

use super::word::{number, priority, skip_blanks};
use super::{Head, Hint, LineFormat, Record, record_from_head};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{SECOND, Stamp, scan};
use crate::code::{Family, Platform};
use crate::severity::Severity;

/// The format.
pub(super) struct KernelRing;

impl LineFormat for KernelRing {
    fn name(&self) -> &'static str {
        "kernel-ring"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn counts_from_boot(&self) -> bool {
        true
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Errno, Family::Signal]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        if let Some((value, text, uptime, body)) = record_of_device(line) {
            return Some(Head {
                stamp: Stamp::Uptime(uptime),
                severity: Severity::from_syslog(value),
                severity_text: Cow::Borrowed(text),
                component: Cow::Borrowed(b"kernel"),
                body,
                ..Head::default()
            });
        }
        let (mut severity, mut severity_text, mut at) = match priority(line) {
            Some((value, text, end)) => (Severity::from_syslog(value), text, end),
            None => (Severity::NONE, &b""[..], 0),
        };
        if let Some((level, text, end)) = words(line) {
            (severity, severity_text, at) = (level, text, end);
        }
        let (stamp, end) = bracket(line, at)?;
        // `[Sun Apr 12 02:31:07.442 2026] [core:error] [pid 99]`: a web server's log.
        if !matches!(stamp, Stamp::Uptime(_)) && is_server(line.get(end..)?) {
            return None;
        }
        at = end + usize::from(line.get(end) == Some(&b' '));
        let (tid, body) = caller(line, at).unwrap_or((None, at));
        Some(Head {
            stamp,
            severity,
            severity_text: Cow::Borrowed(severity_text),
            component: Cow::Borrowed(b"kernel"),
            tid,
            body,
            ..Head::default()
        })
    }

    fn is_fields(&self, line: &[u8]) -> bool {
        device_field(line).is_some()
    }

    fn version(&self) -> u32 {
        2
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        if record_of_device(text.as_bytes()).is_some() {
            let (fields, lines): (Vec<&str>, Vec<&str>) =
                record.body.lines().partition(|line| device_field(line.as_bytes()).is_some());
            let pairs = fields.iter().filter_map(|line| line.trim_start().split_once('='));
            let pairs: Vec<_> =
                pairs.map(|(key, value)| (format!("kernel.{}", key.to_lowercase()), value.into())).collect();
            record.body = lines.join("\n");
            record.attributes.extend(pairs);
        }
        if let Some(Stamp::Uptime(ns)) = self.head(text.as_bytes(), hint).map(|head| head.stamp) {
            record.attributes.insert("boxclock.uptime_s".into(), (ns as f64 / SECOND as f64).into());
        }
        record
    }
}

/// Whether a level or a process id in brackets follows.
fn is_server(rest: &[u8]) -> bool {
    let Some(inner) = rest.strip_prefix(b" [") else { return false };
    let Some(length) = inner.iter().take(40).position(|byte| *byte == b']') else { return false };
    let content = inner.get(..length).unwrap_or_default();
    let last = content.rsplit(|byte| *byte == b':').next().unwrap_or_default();
    content.starts_with(b"pid ") || Severity::from_long_word(last).is_some()
}

/// `4,2,1234567,-;message`: priority, its text, nanoseconds since the start of the system, and where the message starts.
fn record_of_device(line: &[u8]) -> Option<(u32, &[u8], i64, usize)> {
    if !line.first()?.is_ascii_digit() {
        return None;
    }
    let end = memchr::memchr(b';', line.get(..line.len().min(200))?)?;
    let mut parts = line.get(..end)?.split(|byte| *byte == b',');
    let (level, sequence, micros, flags) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
    let value = number(level).filter(|value| *value < 1 << 11)?;
    let plain = |digits: &[u8]| !digits.is_empty() && digits.len() <= 19 && digits.iter().all(u8::is_ascii_digit);
    let known = plain(sequence) && plain(micros) && matches!(flags, [b'-' | b'c' | b'+'] | []);
    let micros = std::str::from_utf8(micros).ok()?.parse::<i64>().ok().filter(|_| known)?;
    Some((value, level, micros.checked_mul(1000)?, end + 1))
}

/// ` SUBSYSTEM=acpi`: the name of a field behind a record of the device.
fn device_field(line: &[u8]) -> Option<&[u8]> {
    let rest = line.strip_prefix(b" ")?;
    let equal = rest.iter().take(64).position(|byte| *byte == b'=')?;
    let name = rest.get(..equal)?;
    let good = |byte: &u8| byte.is_ascii_uppercase() || byte.is_ascii_digit() || *byte == b'_';
    (!name.is_empty() && name.iter().all(good)).then_some(name)
}

/// `kern  :info  : ` as `dmesg -x` writes it: the level, its word, and where it ends.
fn words(line: &[u8]) -> Option<(Severity, &[u8], usize)> {
    let first = line.iter().take(10).position(|byte| *byte == b':')?;
    let facility = line.get(..first)?.trim_ascii();
    let rest = line.get(first + 1..)?;
    let second = rest.iter().take(10).position(|byte| *byte == b':')?;
    let level = rest.get(..second)?.trim_ascii();
    let known = facility.len() >= 3 && facility.iter().all(u8::is_ascii_lowercase);
    let severity = Severity::from_word(level).filter(|_| known)?;
    Some((severity, level, skip_blanks(line, first + second + 2)))
}

/// The time in its bracket: seconds since boot with six digits behind the point, or a date.
fn bracket(line: &[u8], at: usize) -> Option<(Stamp, usize)> {
    let inner = line.get(at..)?.strip_prefix(b"[")?;
    let length = inner.iter().take(48).position(|byte| *byte == b']')?;
    let text = inner.get(..length)?.trim_ascii();
    let end = at + length + 2;
    // `12.345678 <    0.000123>`: with the time since the message before.
    let text = match text.iter().position(|byte| *byte == b'<') {
        Some(step) if text.ends_with(b">") && step > 0 => text.get(..step)?.trim_ascii_end(),
        _ => text,
    };
    // `<    0.000123>` alone, and `+0.000123`: a step, which says no time.
    let step = text.strip_prefix(b"<").and_then(|text| text.strip_suffix(b">")).or(text.strip_prefix(b"+"));
    if let Some(step) = step.map(<[u8]>::trim_ascii) {
        let is_number = step.len() > 6 && step.iter().all(|byte| byte.is_ascii_digit() || *byte == b'.');
        return is_number.then_some((Stamp::None, end));
    }
    if let Some(minute) = minute(text) {
        return Some((minute, end));
    }
    if let Some(dot) = text.iter().position(|byte| *byte == b'.')
        && text.len() == dot + 7
        && let (Some(seconds), Some(micros)) = (number(text.get(..dot)?), number(text.get(dot + 1..)?))
    {
        return Some((
            Stamp::Uptime(
                i64::from(seconds).saturating_mul(SECOND).saturating_add(i64::from(micros).saturating_mul(1000)),
            ),
            end,
        ));
    }
    // `dmesg -T`: `Sun Apr 12 02:31:07 2026`
    let (civil, used) =
        forms::dated(text, DateOrder::DayFirst).filter(|_| text.first().is_some_and(u8::is_ascii_alphabetic))?;
    (used == text.len()).then(|| (civil.stamp(), end))
}

/// `Mar 4 05:06` or `Mar04 05:06`, as `dmesg -e` writes the first message of a minute.
fn minute(text: &[u8]) -> Option<Stamp> {
    let month = text.get(..3)?;
    let rest = text.get(3..)?.trim_ascii_start();
    let clock = rest.get(rest.len().checked_sub(5)?..)?;
    let day = rest.get(..rest.len().checked_sub(6)?)?;
    if rest.get(day.len()) != Some(&b' ') || clock.get(2) != Some(&b':') || number(day).is_none() {
        return None;
    }
    let full = [month, b" ", day, b" ", clock, b":00"].concat();
    let (civil, end) = scan::bsd(&full)?;
    (end == full.len()).then(|| civil.stamp())
}

/// `[   T99] ` or `[    C3] `: the thread, if it is one, and where the message starts.
fn caller(line: &[u8], at: usize) -> Option<(Option<u32>, usize)> {
    let inner = line.get(at..)?.strip_prefix(b"[")?;
    let length = inner.iter().take(16).position(|byte| *byte == b']')?;
    let text = inner.get(..length)?.trim_ascii();
    let tid = match text.split_first()? {
        (b'T', digits) => Some(number(digits)?),
        (b'C', digits) => {
            number(digits)?;
            None
        }
        _ => return None,
    };
    Some((tid, skip_blanks(line, at + length + 2)))
}
