//! `script-log`: what an interpreter or a setup script did: time, line number in the script, statement.
//!
//! ```text
//! 2026-04-12 02:14:55.120  0012: CopyFile "bridge.sys"      [02:14:55] line 12: CopyFile …
//! + 2026-04-12 02:14:55 update.sh:12: cp bridge.sys …        02:14:55.120 [12] CopyFile …
//! ```
//!
//! There is no specification. The shapes are those of shells that trace with a time in `PS4` (bash(1), "PS4", `$LINENO`)
//! and of setup scripts that log each statement. The line number is what tells it from other logs: it must stand on
//! nearly all lines, and vary.

use std::borrow::Cow;
use std::collections::HashSet;

use serde_json::Value;

use super::word::{number, skip_blanks};
use super::{Fit, Head, Header, Hint, LineFormat, Record, record_from_head};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{Civil, scan};

/// The format.
pub(super) struct ScriptLog;

/// Hint: a bare number in front of the statement counts, since the numbers of this file go up line by line.
const BARE: Hint = 1;

/// What may stand in front of the number.
const LINE_WORDS: [&[u8]; 7] = [b"line ", b"Line ", b"line: ", b"Line: ", b"LINE ", b"line=", b"ln "];

struct Statement<'a> {
    /// Whether the number can be nothing else: behind a script's name or a word for it, or padded.
    sure: bool,
    civil: Civil,
    script: &'a [u8],
    number: u32,
    body: usize,
}

fn parse(line: &[u8], hint: Hint) -> Option<Statement<'_>> {
    let plus = line.iter().take(16).take_while(|byte| **byte == b'+').count();
    let mut at = skip_blanks(line, plus);
    let bracket = matches!(line.get(at), Some(b'[' | b'('));
    at += usize::from(bracket);
    let rest = line.get(at..)?;
    let (civil, end) = scan::iso(rest)
        .or_else(|| forms::dated(rest, DateOrder::DayFirst))
        .or_else(|| forms::time_of_day(rest))
        .or_else(|| forms::epoch(rest))?;
    at += end;
    if bracket {
        at += usize::from(matches!(line.get(at), Some(b']' | b')')));
    }
    while matches!(line.get(at), Some(b' ' | b'\t' | b'|' | b',' | b';' | b':' | b'-')) {
        at += 1;
    }
    // `script.sh:12:`, `line 12:`, `[12]`, `(12)`, `L12`, `#12`, `0012:`
    let word = line.get(at..)?;
    let (script, digits_at, marked) = if let Some(rest) = LINE_WORDS.iter().find_map(|label| word.strip_prefix(*label))
    {
        (&b""[..], at + word.len() - rest.len(), true)
    } else if matches!(word.first(), Some(b'[' | b'(' | b'#' | b'L')) && word.get(1).is_some_and(u8::is_ascii_digit) {
        (&b""[..], at + 1, true)
    } else if word.first()?.is_ascii_digit() {
        (&b""[..], at, false)
    } else {
        let colon = word.iter().take(128).position(|byte| matches!(byte, b':' | b' ' | b'('))?;
        if word.get(colon) != Some(&b':') && word.get(colon) != Some(&b'(') {
            return None;
        }
        (word.get(..colon)?, at + colon + 1, false)
    };
    let digits = line.get(digits_at..)?;
    let length = digits.iter().take(7).take_while(|byte| byte.is_ascii_digit()).count();
    let line_number = number(digits.get(..length)?).filter(|_| length <= 6)?;
    let after = digits_at + length;
    let close = *line.get(after)?;
    let closed = matches!(close, b':' | b']' | b')' | b'|' | b'\t' | b'>' | b';' | b',') || (marked && close == b' ');
    // `0012  statement`: padded, then a gap.
    let next = line.get(after + 1);
    let padded =
        close == b' ' && (matches!(next, Some(b' ' | b':' | b'|' | b'-' | b'>')) || digits.first() == Some(&b'0'));
    let bare = hint == BARE && close == b' ' && script.is_empty();
    if !(closed || padded || bare) || digits.get(length + 1).is_some_and(u8::is_ascii_digit) && close == b':' {
        return None;
    }
    let mut body = after + usize::from(closed);
    while matches!(line.get(body), Some(b' ' | b'\t' | b':' | b'|' | b'-')) {
        body += 1;
    }
    let sure = marked && !matches!(word.first(), Some(b'[' | b'(' | b'#'))
        || script.contains(&b'.')
        || digits.first() == Some(&b'0');
    Some(Statement { sure, civil, script, number: line_number, body })
}

impl LineFormat for ScriptLog {
    fn name(&self) -> &'static str {
        "script-log"
    }

    fn head<'a>(&self, line: &'a [u8], hint: Hint) -> Option<Head<'a>> {
        let found = parse(line, hint)?;
        Some(Head {
            stamp: found.civil.stamp(),
            component: Cow::Borrowed(found.script),
            body: found.body,
            ..Head::default()
        })
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        if let Some(found) = parse(text.as_bytes(), hint) {
            record.attributes.insert("code.line.number".into(), Value::from(found.number));
        }
        record
    }

    fn header(&self, samples: &[&[u8]], hint: Hint, _: i64) -> Header {
        // A date in the lines before the first statement is that of the first time of day.
        let lead = samples.iter().take_while(|line| parse(line, hint).is_none()).take(20);
        let dated = lead.filter_map(|line| {
            let start = line.iter().position(u8::is_ascii_digit)?;
            let text = line.get(start..)?;
            let midnight = || [text.get(..10)?, b" 00:00:00"].concat().into();
            forms::dated(text, DateOrder::DayFirst).or_else(|| {
                let text: Option<Vec<u8>> = midnight();
                forms::dated(&text?, DateOrder::DayFirst)
            })
        });
        let civil = dated.map(|(civil, _)| civil).find(|civil| civil.year > 0);
        let date = civil.and_then(|civil| Civil { hour: 0, minute: 0, second: 0, nanos: 0, ..civil }.to_ns());
        Header { date, ..Header::default() }
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let found: Vec<(u32, bool)> =
            lines.iter().filter_map(|line| parse(line, 0)).map(|found| (found.number, found.sure)).collect();
        let distinct = found.iter().map(|(number, _)| number).collect::<HashSet<_>>().len();
        let sure = found.iter().filter(|(_, sure)| *sure).count() * 10 >= found.len() * 9;
        let varied = sure || distinct * 3 >= found.len() || distinct >= 12;
        let numbered = found.len() * 10 >= lines.len() * 7 && varied;
        if numbered && distinct > 1 {
            return Fit { heads: found.len(), ..Fit::default() };
        }
        let bare: Vec<u32> = lines.iter().filter_map(|line| parse(line, BARE)).map(|found| found.number).collect();
        let steps = bare
            .iter()
            .zip(bare.iter().skip(1))
            .filter(|(one, next)| (1..=50).contains(&next.saturating_sub(**one)))
            .count();
        let climbs = bare.len() >= 3 && bare.len() * 10 >= lines.len() * 7 && steps * 10 >= (bare.len() - 1) * 8;
        if climbs { Fit { heads: bare.len(), hint: BARE, ..Fit::default() } } else { Fit::default() }
    }
}
