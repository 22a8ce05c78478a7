//! `kernel-ring`: the kernel's messages as dmesg prints them, `[   12.345678] message`, with the time since boot.
//!
//! Source: the manual page dmesg(1) (default, `-r` with the priority in front, `-x` with facility and level words, `-T`
//! with a date in the bracket) and the kernel's `Documentation/core-api/printk-basics.rst` for the levels. With
//! `CONFIG_PRINTK_CALLER` a second bracket names the thread (`T99`) or processor (`C3`).

use std::borrow::Cow;

use super::word::{number, priority, skip_blanks};
use super::{Head, Hint, LineFormat, Record, record_from_head};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{SECOND, Stamp};
use crate::code::{Family, Platform};
use crate::severity::Severity;

/// The format.
pub(super) struct KernelRing;

impl LineFormat for KernelRing {
    fn name(&self) -> &'static str {
        "kernel-ring"
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
        let (mut severity, mut severity_text, mut at) = match priority(line) {
            Some((value, text, end)) => (Severity::from_syslog(value), text, end),
            None => (Severity::NONE, &b""[..], 0),
        };
        if let Some((level, text, end)) = words(line) {
            (severity, severity_text, at) = (level, text, end);
        }
        let (stamp, end) = bracket(line, at)?;
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

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        if let Some(Stamp::Uptime(ns)) = self.head(text.as_bytes(), hint).map(|head| head.stamp) {
            record.attributes.insert("boxclock.uptime_s".into(), (ns as f64 / SECOND as f64).into());
        }
        record
    }
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
