//! `rfc3164`: `<PRI>Mmm dd hh:mm:ss HOST TAG[PID]: MESSAGE`, and what syslog daemons write in that spirit.
//!
//! Source: RFC 3164 section 4.1. Variations that daemons really write: no priority, a year, a fraction, no host, no tag
//! (section 4.1.3 allows all of these), and an RFC 3339 time in place of the old one (section 5.1 suggests it, and
//! several daemons have it as their default), also behind a weekday, as the journal's own program prints it (journalctl(1),
//! `short-full` and `with-unit`).

use std::borrow::Cow;

use serde_json::Value;

use super::word::{facility_name, is_facility, level_pair, priority, skip_blanks, syslog_tag, token};
use super::{Fit, Head, Hint, LineFormat, Record, record_from_head};
use crate::clock::{Civil, scan};
use crate::code::Platform;
use crate::severity::Severity;

/// The format.
pub(super) struct Rfc3164;

/// Hint: the file's lines have RFC 3339 times and most have a tag, so those without one are records too.
const ISO_TIMES: Hint = 1;
/// Hint: the messages of the file start with their level, `[err] text`, `<err> text` or `err: text`, as templates of syslog daemons
/// write it.
const LEVEL_FIRST: Hint = 2;
/// Hint: facility and level stand between host and tag, `daemon.err`.
const FACILITY_LEVEL: Hint = 4;

impl LineFormat for Rfc3164 {
    fn name(&self) -> &'static str {
        "rfc3164"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn takes_named_trouble(&self) -> bool {
        true
    }

    fn may_hold_kernel_lines(&self) -> bool {
        true
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn head<'a>(&self, line: &'a [u8], hint: Hint) -> Option<Head<'a>> {
        let (severity, severity_text, start) = match priority(line) {
            Some((value, text, end)) => (Severity::from_syslog(value), text, end),
            None => (Severity::NONE, &b""[..], 0),
        };
        let rest = line.get(start..)?;
        let (civil, length, iso) = match scan::bsd(rest) {
            Some((civil, length)) => (civil, length, false),
            None => scan::iso(rest)
                .filter(|(civil, _)| civil.offset.is_some() && rest.get(10) == Some(&b'T'))
                .or_else(|| with_weekday(rest))
                .map(|(civil, length)| (civil, length, true))?,
        };
        let mut at = start + length;
        match line.get(at) {
            Some(b' ') => at += 1,
            // `Apr 12 2026 02:31:07: message`, as network devices write it, has neither host nor tag of this shape.
            Some(b':') if !iso => {
                let body = at + 1 + usize::from(line.get(at + 1) == Some(&b' '));
                return Some(Head {
                    stamp: civil.stamp(),
                    severity,
                    severity_text: Cow::Borrowed(severity_text),
                    body,
                    ..Head::default()
                });
            }
            _ => return None,
        }
        let (mut severity, mut severity_text) = (severity, severity_text);
        let (host, tag, pid, mut body) = if hint & FACILITY_LEVEL != 0
            && let Some((host, level, next)) = facility_and_level(line, at)
        {
            (severity, severity_text) = level;
            let (tag, pid, body) = syslog_tag(line, next).unwrap_or((b"", None, next));
            (host, tag, pid, body)
        } else {
            host_and_tag(line, at)
        };
        if hint & LEVEL_FIRST != 0
            && let Some((level, text, end)) = level_first(line, body)
        {
            (severity, severity_text, body) = (level, text, end);
        }
        if severity == Severity::NONE
            && let Some(level) = line.get(body..).and_then(level_pair)
        {
            (severity, severity_text) = level;
        }
        // An RFC 3339 time also starts many application logs; a host and a tag make it syslog.
        let looks_like_syslog = !host.is_empty() && !tag.is_empty() && Severity::from_long_word(host).is_none();
        if iso && !looks_like_syslog && hint & ISO_TIMES == 0 {
            return None;
        }
        Some(Head {
            stamp: civil.stamp(),
            severity,
            severity_text: Cow::Borrowed(severity_text),
            host: Cow::Borrowed(host),
            component: Cow::Borrowed(tag),
            pid,
            tid: None,
            body,
        })
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        if let Some((value, ..)) = priority(text.as_bytes()) {
            record.attributes.insert("syslog.facility".into(), facility_name(value).into());
        }
        if let Some(head) = self.head(text.as_bytes(), hint)
            && !head.host.is_empty()
        {
            let name = String::from_utf8_lossy(&head.host).into_owned();
            record.attributes.insert("host.name".into(), Value::from(name));
        }
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let strict = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        let lenient = lines.iter().filter(|line| self.head(line, ISO_TIMES).is_some()).count();
        // Most dated lines carry host and tag: the others, here or later in the file, are syslog without a tag.
        let mut hint = if lenient > 0 && strict * 10 >= lenient * 6 { ISO_TIMES } else { 0 };
        let heads = if hint == ISO_TIMES { lenient } else { strict };
        for place in [LEVEL_FIRST, FACILITY_LEVEL] {
            let has_level = |line: &&&[u8]| {
                self.head(line, hint | place).is_some_and(|head| head.severity != Severity::NONE)
                    && self.head(line, hint).is_some_and(|head| head.severity == Severity::NONE)
            };
            let with_level = lines.iter().filter(has_level).count();
            if with_level > 1 && with_level * 10 >= heads * 9 {
                hint |= place;
            }
        }
        Fit { heads, hint, ..Fit::default() }
    }

    fn version(&self) -> u32 {
        3
    }
}

/// `Sun 2026-04-12 02:31:07 CEST`, as `journalctl -o short-full` writes it: with the zone's word, or the hours of one without.
fn with_weekday(text: &[u8]) -> Option<(Civil, usize)> {
    let day = text.iter().take(8).take_while(|byte| byte.is_ascii_alphabetic() || **byte >= 0x80).count();
    let start = (2..8).contains(&day).then_some(day + 1).filter(|start| text.get(start - 1) == Some(&b' '))?;
    let rest = text.get(start..)?;
    let (mut civil, mut end) = scan::iso(rest).filter(|_| rest.get(10) == Some(&b' '))?;
    if civil.offset.is_none() {
        if let Some((offset, zone_end, ambiguous)) = scan::certain_zone(rest, end) {
            civil.offset = Some(offset).filter(|_| !ambiguous);
            end = zone_end;
        } else {
            let (word, word_end) = token(rest, end + 1);
            let is_zone = (2..=5).contains(&word.len()) && word.iter().all(u8::is_ascii_uppercase);
            end = if is_zone { word_end } else { end };
        }
    }
    Some((civil, start + end))
}

/// A level at the start of a message, in brackets or before a colon: severity, word, and where what follows starts.
fn level_first(line: &[u8], at: usize) -> Option<(Severity, &[u8], usize)> {
    let rest = line.get(at..)?;
    let close = match rest.first()? {
        b'[' => b']',
        b'<' => b'>',
        b'(' => b')',
        _ => b':',
    };
    let open = usize::from(close != b':');
    let length = rest.get(open..)?.iter().take(12).position(|byte| *byte == close)?;
    let word = rest.get(open..open + length)?;
    let severity = Severity::from_long_word(word)?;
    let mut end = at + open + length + 1;
    end += usize::from(close != b':' && line.get(end) == Some(&b':'));
    Some((severity, word, skip_blanks(line, end)))
}

/// Host, severity with its word, and where the tag starts.
type HostAndLevel<'a> = (&'a [u8], (Severity, &'a [u8]), usize);

/// `HOST FACILITY.LEVEL`, or with a slash.
fn facility_and_level(line: &[u8], at: usize) -> Option<HostAndLevel<'_>> {
    let (host, end) = token(line, at);
    let (pair, next) = token(line, end + 1);
    let mark = pair.iter().position(|byte| matches!(byte, b'.' | b'/'))?;
    let (facility, level) = (pair.get(..mark)?, pair.get(mark + 1..)?);
    let known = std::str::from_utf8(facility).is_ok_and(is_facility);
    let severity = Severity::from_long_word(level.strip_suffix(b":").unwrap_or(level)).filter(|_| known)?;
    Some((host, (severity, level), skip_blanks(line, next)))
}

/// Host, tag, process id and where the message starts, of what follows the time.
fn host_and_tag(line: &[u8], at: usize) -> Who<'_> {
    // `tag[1]: message` without host: the first word is a tag itself.
    if let Some((tag, pid, body)) = syslog_tag(line, at) {
        return (b"", tag, pid, body);
    }
    let (host, end) = token(line, at);
    let is_host = !host.is_empty()
        && host
            .iter()
            .all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'-' | b'_' | b':' | b'/' | b'@'));
    if !is_host {
        return (b"", b"", None, at);
    }
    let next = end + usize::from(line.get(end) == Some(&b' '));
    match syslog_tag(line, next) {
        Some((tag, pid, body)) => (host, tag, pid, body),
        None => relayed(line, next).unwrap_or((host, b"", None, next)),
    }
}

/// Host, tag, process id, and where the message starts.
type Who<'a> = (&'a [u8], &'a [u8], Option<u32>, usize);

/// What a relay put its own header in front of: perhaps a time, then the host that wrote, and a tag with a process id (a
/// word and a tag without one are more often the start of a message).
fn relayed(line: &[u8], at: usize) -> Option<Who<'_>> {
    let inner = scan::bsd(line.get(at..)?).map_or(at, |(_, length)| at + length + 1);
    let (host, end) = token(line, inner);
    let is_host = host.first().is_some_and(u8::is_ascii_alphanumeric)
        && host.iter().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'-' | b'_' | b':'));
    let (tag, pid, body) = syslog_tag(line, end + 1)?;
    (is_host && pid.is_some()).then_some((host, tag, pid, body))
}
