//! `iso-text`: lines with an ISO-like date and time, and around it level words, brackets, threads, loggers.
//!
//! There is no specification; the shapes are those that logging libraries write by default:
//!
//! ```text
//! 2026-04-12 02:31:07,442 - dosing - ERROR - message          [2026-04-12T02:31:07Z ERROR dosing] message
//! 2026-04-12 02:31:07.442 [main] ERROR a.b.Dosing - message   ERROR 2026-04-12 02:31:07 message
//! 2026-04-12T02:31:07.442+02:00 ERROR 99 --- [main] a.b.Dosing : message
//! 2026/04/12 02:31:07 dosing.go:14: message                   dosing 2026-04-12 02:31:07: message
//! E, [2026-04-12T02:31:07.442 #99] ERROR -- dosing: message   2026-04-12T02:31:07Z|ERROR|dosing|message
//! ```
//!
//! Files whose times are written otherwise (see [`crate::clock::forms`]) are read with the same heads: dates in another
//! order or with month names, a time of day alone, epoch numbers. A file uses one kind throughout.

use std::borrow::Cow;

use serde_json::Value;

use super::server_text::server_word;
use super::word::{level_pair, number, skip_blanks};
use super::{Fit, Head, Hint, LineFormat, Record, Settled, record_from_head};
use crate::clock::forms::{self, DateOrder, Evidence};
use crate::clock::scan::{self, Civil};
use crate::severity::Severity;

/// The format.
pub(super) struct IsoText;

/// Where in a line its time stands; the hint of a file is the place that most of its lines use, plus one.
const AT_START: Hint = 1;
/// Behind an opening bracket.
const IN_BRACKET: Hint = 2;
/// Behind a level word.
const AFTER_LEVEL: Hint = 3;
/// Behind the name of a program.
const AFTER_NAME: Hint = 4;

/// The bits of a hint that hold the place.
const PLACE: Hint = 0b1111;

/// How the times of a file are written: the hint's bits above the place.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// As in ISO 8601.
    Iso = 0,
    /// As [`forms::dated`] reads.
    Dated = 1,
    /// A time of day alone.
    OfDay = 2,
    /// An epoch number.
    Epoch = 3,
}

impl Kind {
    const ALL: [Self; 4] = [Self::Iso, Self::Dated, Self::OfDay, Self::Epoch];

    fn of(hint: Hint) -> Self {
        match hint >> 4 & 3 {
            0 => Self::Iso,
            1 => Self::Dated,
            2 => Self::OfDay,
            _ => Self::Epoch,
        }
    }

    fn hint(self) -> Hint {
        (self as Hint) << 4
    }
}

/// The order of the numbers of a date, in a hint.
fn order_of(hint: Hint) -> DateOrder {
    DateOrder::from_bits(hint >> 6)
}

fn with_order(hint: Hint, order: DateOrder) -> Hint {
    hint & 0b11_1111 | (order as Hint) << 6
}

/// What stands before the message.
#[derive(Default)]
struct Parts<'a> {
    level: Option<(Severity, &'a [u8])>,
    /// A bracketed word that may be a thread or a logger.
    bracketed: Option<&'a [u8]>,
    logger: Option<&'a [u8]>,
    pid: Option<u32>,
    tid: Option<u32>,
    body: usize,
}

impl LineFormat for IsoText {
    fn name(&self) -> &'static str {
        "iso-text"
    }

    fn takes_named_trouble(&self) -> bool {
        true
    }

    fn may_hold_kernel_lines(&self) -> bool {
        true
    }

    fn head<'a>(&self, line: &'a [u8], hint: Hint) -> Option<Head<'a>> {
        let (civil, parts) = parse(line, hint)?;
        let component = parts.logger.or(parts.bracketed).unwrap_or_default();
        let level = parts.level.or_else(|| level_pair(line.get(parts.body..)?));
        let (severity, severity_text) = level.unwrap_or((Severity::NONE, b""));
        Some(Head {
            stamp: civil.stamp(),
            severity,
            severity_text: Cow::Borrowed(severity_text),
            host: Cow::Borrowed(b""),
            component: Cow::Borrowed(component),
            pid: parts.pid,
            tid: parts.tid,
            body: parts.body,
        })
    }

    fn version(&self) -> u32 {
        6
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        if let Some((_, Parts { bracketed: Some(thread), logger: Some(_), .. })) = parse(text.as_bytes(), hint) {
            let name = String::from_utf8_lossy(thread).into_owned();
            record.attributes.insert("thread.name".into(), Value::from(name));
        }
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let order = samples_evidence(lines).order().0;
        let fit_of = |kind: Kind| {
            let base = with_order(kind.hint(), order);
            let mut counts = [0_usize; 5];
            for place in lines.iter().filter_map(|line| find_time(line, base)).map(|found| found.2) {
                counts.get_mut(usize::from(place)).into_iter().for_each(|count| *count += 1);
            }
            let best = (AT_START..=AFTER_NAME).rev().max_by_key(|place| counts.get(usize::from(*place)).copied());
            let hint = base | best.unwrap_or(AT_START);
            let heads = lines.iter().filter(|line| self.head(line, hint).is_some()).count();
            // What is indented belongs to a record: traces are long.
            let flush = lines.iter().filter(|line| !matches!(line.first(), Some(b' ' | b'\t'))).count();
            // A number or a time of day at the start of a few lines is no proof of anything.
            let weak = match kind {
                Kind::Iso => false,
                Kind::Dated => heads * 3 <= flush,
                Kind::OfDay | Kind::Epoch => heads * 2 < lines.len(),
            };
            Fit { heads: if weak { 0 } else { heads }, hint, ..Fit::default() }
        };
        // Of equals the first: the most usual.
        Kind::ALL.map(fit_of).into_iter().rev().max_by_key(|fit| fit.heads).unwrap_or_default()
    }

    fn settle(
        &self,
        samples: &[&[u8]],
        whole: &mut dyn Iterator<Item = Vec<u8>>,
        hint: Hint,
        dates: Option<DateOrder>,
        _: i64,
    ) -> Option<Settled> {
        let mut evidence = samples_evidence(samples);
        if Kind::of(hint) != Kind::Dated || !evidence.any() {
            return None;
        }
        if let Some(order) = dates {
            return Some(Settled { hint: with_order(hint, order), dates: Some((order, false)), ..Settled::default() });
        }
        if evidence.certain().is_none() {
            evidence = Evidence::default();
            for line in whole {
                evidence.take(date_part(&line));
                if evidence.certain().is_some() {
                    break;
                }
            }
        }
        let (order, guessed) = evidence.order();
        let trouble = guessed
            .then(|| format!("nothing in the file tells day from month in its dates: they are read {}", order.name()));
        Some(Settled { hint: with_order(hint, order), trouble, made: None, dates: Some((order, guessed)) })
    }
}

fn samples_evidence(lines: &[&[u8]]) -> Evidence {
    let mut evidence = Evidence::default();
    for line in lines {
        evidence.take(date_part(line));
    }
    evidence
}

/// A line from its first digit on, if that is near its start.
fn date_part(line: &[u8]) -> &[u8] {
    let start = line.iter().take(48).position(u8::is_ascii_digit).unwrap_or(0);
    line.get(start..).unwrap_or_default()
}

/// The time at the start of `bytes`, of the kind that the file uses.
fn time_at(bytes: &[u8], hint: Hint) -> Option<(Civil, usize)> {
    match Kind::of(hint) {
        Kind::Iso => scan::iso(bytes),
        // A date without a year is only looked for behind a level: at the start of a line it is syslog's.
        Kind::Dated => forms::dated(bytes, order_of(hint))
            .or_else(|| scan::bsd(bytes).filter(|_| hint & PLACE == AFTER_LEVEL || hint & PLACE == 0)),
        Kind::OfDay => forms::time_of_day(bytes),
        Kind::Epoch => forms::epoch(bytes),
    }
}

/// Finds the time of a line: its reading, where it ends, and its place. With a hint, only that place counts (a time
/// behind a level word may also stand at the start).
fn find_time(line: &[u8], hint: Hint) -> Option<(Civil, usize, Hint)> {
    let first = *line.first()?;
    let wanted = hint & PLACE;
    if first.is_ascii_digit() {
        if wanted != 0 && wanted != AT_START && wanted != AFTER_LEVEL {
            return None;
        }
        return time_at(line, hint).map(|(civil, end)| (civil, end, AT_START));
    }
    if Kind::of(hint) == Kind::Dated
        && matches!(wanted, 0 | AT_START)
        && let Some((civil, end)) = time_at(line, hint)
    {
        return Some((civil, end, AT_START));
    }
    if matches!(first, b'[' | b'(' | b'<' | b'"')
        && let Some((civil, end)) = time_at(line.get(1..)?, hint)
    {
        return (wanted == 0 || wanted == IN_BRACKET).then_some((civil, end + 1, IN_BRACKET));
    }
    if wanted == AT_START || !(first.is_ascii_alphabetic() || matches!(first, b'[' | b'<')) {
        return None;
    }
    // A word or a bracket, then perhaps a separator, then the time.
    let word_end = line.iter().take(48).position(|byte| matches!(byte, b' ' | b'\t' | b'|' | b',' | b']' | b'>'))?;
    let word = line.get(..word_end)?;
    let bare = word.strip_prefix(b"[").or(word.strip_prefix(b"<")).unwrap_or(word);
    let bare = bare.strip_suffix(b":").unwrap_or(bare);
    let place = if Severity::from_word(bare).is_some() { AFTER_LEVEL } else { AFTER_NAME };
    // Where levels stand in front of the time, so may a program's own ones.
    let own_level = wanted == AFTER_LEVEL && bare.len() > 2 && bare.iter().all(u8::is_ascii_uppercase);
    if wanted != 0 && wanted != place && !own_level {
        return None;
    }
    let rest = line.get(word_end..)?;
    let gap = rest
        .iter()
        .take(8)
        .take_while(|byte| matches!(byte, b' ' | b'\t' | b'|' | b',' | b']' | b'>' | b'[' | b'('))
        .count();
    let start = word_end + gap;
    let (civil, end) = time_at(line.get(start..)?, hint)?;
    Some((civil, start + end, place))
}

fn parse(line: &[u8], hint: Hint) -> Option<(Civil, Parts<'_>)> {
    let (civil, end, place) = find_time(line, hint)?;
    let mut parts = Parts { body: end, ..Parts::default() };
    if place == AFTER_LEVEL || place == AFTER_NAME {
        let word_end = line.iter().position(|byte| matches!(byte, b' ' | b'\t' | b'|' | b',' | b']' | b'>' | b':'))?;
        let word = line.get(..word_end)?;
        let word = word.strip_prefix(b"[").or(word.strip_prefix(b"<")).unwrap_or(word);
        if place == AFTER_LEVEL {
            parts.level = Severity::from_word(word).map(|severity| (severity, word));
        } else {
            parts.logger = Some(word);
        }
    }
    while step(line, &mut parts) {}
    Some((civil, parts))
}

/// Takes one more piece of the head, or says that the message starts here.
fn step<'a>(line: &'a [u8], parts: &mut Parts<'a>) -> bool {
    let at = skip_separators(line, parts.body);
    let Some(first) = line.get(at) else {
        parts.body = at;
        return false;
    };
    let taken = match first {
        b'[' | b'(' | b'<' => bracket(line, at, parts),
        b'#' => hash_pid(line, at, parts),
        _ => word(line, at, parts),
    };
    if let Some(end) = taken {
        parts.body = end;
        true
    } else {
        parts.body = at;
        false
    }
}

/// Steps over blanks, closing brackets, and lone dashes, bars and colons between the pieces of a head.
fn skip_separators(line: &[u8], at: usize) -> usize {
    let mut at = at;
    loop {
        at = skip_blanks(line, at);
        match line.get(at) {
            Some(b']' | b')' | b'>' | b'|' | b'"') => at += 1,
            Some(b':' | b',') if matches!(line.get(at + 1), None | Some(b' ' | b'\t')) => at += 1,
            Some(b'-') => {
                let dashes =
                    line.get(at..).unwrap_or_default().iter().take(4).take_while(|byte| **byte == b'-').count();
                match line.get(at + dashes) {
                    None | Some(b' ' | b'\t') if dashes <= 3 => at += dashes,
                    _ => return at,
                }
            }
            _ => return at,
        }
    }
}

/// `#99]`: the process id inside the bracket of the time.
fn hash_pid(line: &[u8], at: usize, parts: &mut Parts<'_>) -> Option<usize> {
    let rest = line.get(at + 1..)?;
    let length = rest.iter().take_while(|byte| byte.is_ascii_digit()).count();
    if rest.get(length) != Some(&b']') || parts.pid.is_some() {
        return None;
    }
    parts.pid = rest.get(..length).and_then(number);
    Some(at + length + 2)
}

fn bracket<'a>(line: &'a [u8], at: usize, parts: &mut Parts<'a>) -> Option<usize> {
    let close = match line.get(at)? {
        b'[' => b']',
        b'(' => b')',
        _ => b'>',
    };
    let inner = line.get(at + 1..)?;
    let length = inner.iter().take(80).position(|byte| *byte == close)?;
    let content = inner.get(..length)?.trim_ascii();
    let end = at + length + 2;
    if content.is_empty() {
        return None;
    }
    // `[core:error]`, `[dosing#error]`: a module and its level.
    let module = content.iter().rposition(|byte| matches!(byte, b':' | b'#')).filter(|_| parts.level.is_none());
    let with_module = module.and_then(|mark| {
        let severity = Severity::from_long_word(content.get(mark + 1..)?)?;
        let name = content.get(..mark).filter(|name| is_name(name))?;
        Some((severity, content.get(mark + 1..)?, name))
    });
    if let Some((severity, word, name)) = with_module {
        parts.level = Some((severity, word));
        parts.logger = parts.logger.or(Some(name));
    } else if parts.level.is_none()
        && (content.len() > 1
            || (close == b']' || close == b'>' && parts.pid.is_some())
                && content.first().is_some_and(u8::is_ascii_uppercase))
        && let Some(severity) = Severity::from_word(content)
    {
        parts.level = Some((severity, content));
    } else if let Some((pid, tid)) = ids(content) {
        if parts.pid.is_none() {
            parts.pid = pid;
            parts.tid = parts.tid.or(tid);
        } else if parts.tid.is_none() {
            parts.tid = pid;
        } else {
            return None;
        }
    } else if close != b')' && parts.bracketed.is_none() && parts.logger.is_none() && is_name(content) {
        parts.bracketed = Some(content);
    } else {
        return None;
    }
    Some(end)
}

/// `99`, `99:7`, `pid 99`, `pid=99`, `pid:99 tid:7` as process and thread id.
fn ids(content: &[u8]) -> Option<(Option<u32>, Option<u32>)> {
    let mut pid = None;
    let mut tid = None;
    let mut expect_tid = false;
    let pieces = content.split(|byte| matches!(byte, b' ' | b'=' | b':' | b',' | b'/'));
    for piece in pieces.filter(|piece| !piece.is_empty()) {
        let is = |word: &[u8]| piece.eq_ignore_ascii_case(word);
        if piece.first().is_some_and(u8::is_ascii_digit) {
            let value = number(piece)?;
            if expect_tid || pid.is_some() {
                tid = tid.or(Some(value));
            } else {
                pid = Some(value);
            }
        } else if is(b"pid") || is(b"process") {
            expect_tid = false;
        } else if is(b"tid") || is(b"thread") {
            expect_tid = true;
        } else {
            return None;
        }
    }
    (pid.is_some() || tid.is_some()).then_some((pid, tid))
}

/// What a thread, a logger or a module may be called.
fn is_name(text: &[u8]) -> bool {
    text.len() <= 64
        && text.iter().any(u8::is_ascii_alphabetic)
        && text.iter().all(|byte| {
            byte.is_ascii_alphanumeric()
                || *byte >= 0x80
                || matches!(byte, b'.' | b'_' | b'-' | b'$' | b':' | b'/' | b'#' | b'@' | b' ' | b'*' | b'\\')
        })
}

/// Whether a word is the name of one thing among many (a request, a job), which no program is called.
fn is_one_of_many(text: &[u8]) -> bool {
    let digits = text.iter().filter(|byte| byte.is_ascii_digit()).count();
    let hexadecimal = text.iter().all(|byte| byte.is_ascii_hexdigit() || *byte == b'-');
    digits >= 5 || (digits > 0 && text.len() >= 8 && hexadecimal)
}

fn word<'a>(line: &'a [u8], at: usize, parts: &mut Parts<'a>) -> Option<usize> {
    let rest = line.get(at..)?;
    let length = rest.iter().position(|byte| matches!(byte, b' ' | b'\t' | b'|' | b']' | b'[')).unwrap_or(rest.len());
    let raw = rest.get(..length)?;
    let end = at + length;
    let colon = raw.last() == Some(&b':');
    let bare = raw.strip_suffix(b":").unwrap_or(raw);
    let bare = bare.strip_suffix(b",").unwrap_or(bare);
    if bare.is_empty() || bare.len() > 80 {
        return None;
    }
    // `E, [2026-…] ERROR`: the word says it in full.
    if parts.level.is_none_or(|(_, text)| text.len() == 1) {
        let strong = matches!(bare, [letter] if letter.is_ascii_uppercase());
        let severity = if strong { Severity::from_word(bare) } else { Severity::from_long_word(bare) };
        // A lone capital is a level only straight behind the time: `A file was …` is a message.
        if let Some(severity) = severity
            && (bare.len() > 1 || matches!(bare, b"T" | b"D" | b"I" | b"W" | b"E" | b"F"))
        {
            parts.level = Some((severity, bare));
            return Some(end);
        }
    }
    if parts.level.is_none()
        && let Some(found) = server_word(line, raw, end)
    {
        parts.level = found.level;
        (parts.pid, parts.tid) = (parts.pid.or(found.pid), parts.tid.or(found.tid));
        parts.logger = parts.logger.or(found.logger);
        return Some(found.end);
    }
    if let Some((name, pid)) = name_and_pid(bare).filter(|_| bracketed_letter(line.get(end..).unwrap_or_default())) {
        parts.logger = parts.logger.or(Some(name));
        parts.pid = parts.pid.or(Some(pid));
        return Some(end);
    }
    if let Some(value) = number(bare) {
        // A bare number is a process id only where a head goes on behind it.
        let next = line.get(skip_blanks(line, end)..).unwrap_or_default();
        let goes_on = parts.pid.is_none()
            && !colon
            && (next.starts_with(b"--- ")
                || next.starts_with(b"[")
                || (parts.level.is_none() && starts_with_level(next)));
        parts.pid = goes_on.then_some(value).or(parts.pid);
        return goes_on.then_some(end);
    }
    if parts.logger.is_some() || !is_name(bare) || is_one_of_many(bare) {
        return None;
    }
    let next = line.get(end..).unwrap_or_default();
    // `Info: Starting - reading …`: behind a level with a colon the message begins.
    let level_closed = parts.level.is_some_and(|(_, word)| {
        let start = word.as_ptr().addr().checked_sub(line.as_ptr().addr());
        start.is_some_and(|start| line.get(start + word.len()) == Some(&b':'))
    });
    let bar = next.first() == Some(&b'|') || (next.first() == Some(&b'\t') && parts.level.is_some());
    let dash = !level_closed && (next.starts_with(b" - ") || next.starts_with(b" : ") || next.starts_with(b" -- "));
    // `name[99]:` as syslog writes it, `name   [99]:` in columns, `name[99:7] notice:` with a thread.
    let gap = next.iter().take(40).take_while(|byte| **byte == b' ').count();
    if let Some((pid, tid, close)) = next.get(gap..).and_then(bracketed_ids)
        && (next.get(gap + close) == Some(&b':')
            || gap == 0 && next.get(gap + close..).is_some_and(|rest| starts_with_level(rest.trim_ascii_start())))
    {
        parts.logger = Some(bare);
        (parts.pid, parts.tid) = (Some(pid), tid.or(parts.tid));
        return Some(end + gap + close + usize::from(next.get(gap + close) == Some(&b':')));
    }
    let in_bracket = next.first() == Some(&b']') && parts.level.is_some();
    // `a.b.Dosing ERROR message`: a name is one only where a level in capitals follows.
    let rest = next.trim_ascii_start();
    let before_level = parts.level.is_none()
        && next.first() == Some(&b' ')
        && starts_with_level(rest)
        && rest.iter().take(3).all(u8::is_ascii_uppercase);
    // `ERROR [main] org.tank.Server text`, `[12] ERROR Tank.Dosing [(null)] - text`: a dotted name behind level and thread.
    let dots = memchr::memchr_iter(b'.', bare).count();
    let dotted = parts.level.is_some()
        && (parts.bracketed.is_some() || parts.pid.is_some())
        && !bare.ends_with(b".")
        && bare.iter().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'_' | b'$'))
        && (dots >= 2 || (dots == 1 && next.starts_with(b" [")));
    if colon || bar || dash || in_bracket || before_level || dotted {
        parts.logger = Some(bare);
        return Some(end);
    }
    None
}

/// Whether a level word of at least three letters starts a text.
pub(super) fn starts_with_level(text: &[u8]) -> bool {
    let length = text.iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
    text.get(..length).is_some_and(|word| Severity::from_long_word(word).is_some())
}

/// `dosing/99`: a program and its process id.
fn name_and_pid(text: &[u8]) -> Option<(&[u8], u32)> {
    let slash = text.iter().position(|byte| *byte == b'/')?;
    let name = text.get(..slash).filter(|name| is_name(name))?;
    Some((name, number(text.get(slash + 1..)?)?))
}

/// Whether a level of one letter in angle brackets comes next: `dosing/99 <E> message`.
fn bracketed_letter(text: &[u8]) -> bool {
    matches!(text.get(..4), Some([b' ', b'<', letter, b'>']) if letter.is_ascii_uppercase())
}

/// `[99]` or `[99:7]`: process and thread, and where it ends.
fn bracketed_ids(text: &[u8]) -> Option<(u32, Option<u32>, usize)> {
    let inner = text.strip_prefix(b"[")?;
    let length = inner.iter().take(22).position(|byte| *byte == b']')?;
    let content = inner.get(..length)?;
    let (pid, tid) = match content.iter().position(|byte| *byte == b':') {
        Some(colon) => (content.get(..colon)?, Some(number(content.get(colon + 1..)?)?)),
        None => (content, None),
    };
    Some((number(pid)?, tid, length + 2))
}
