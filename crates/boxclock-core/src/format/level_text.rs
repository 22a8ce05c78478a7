//! `level-text`: lines without time that start with a level, `ERROR:dosing.valve:valve 3 does not answer`.
//!
//! Source of the first shape: the documentation of Python's `logging` module, whose default format is
//! `%(levelname)s:%(name)s:%(message)s`; what an exception adds stands on lines of its own, which belong to the record. Many programs
//! print `[WARNING]  (99) : text`, `[ERROR] text` or `Debug: text` in the foreground: such lines make the format only where most
//! lines of a file are so, and other lines are records of their own then.

use std::borrow::Cow;

use super::plain::Plain;
use super::word::{number, skip_blanks};
use super::{Fit, Head, Hint, LineFormat};
use crate::severity::Severity;

/// The format.
pub(super) struct LevelText;

fn parse(line: &[u8]) -> Option<(Severity, &[u8], &[u8], usize)> {
    let first = line.iter().take(12).position(|byte| *byte == b':')?;
    let word = line.get(..first)?;
    let severity = match word {
        b"DEBUG" => Severity::DEBUG,
        b"INFO" => Severity::INFO,
        b"WARNING" => Severity::WARN,
        b"ERROR" => Severity::ERROR,
        b"CRITICAL" => Severity::FATAL,
        _ => return None,
    };
    let rest = line.get(first + 1..)?;
    let length = rest.iter().take(100).position(|byte| *byte == b':')?;
    let logger = rest.get(..length)?;
    let is_name = logger.iter().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'_' | b'-'));
    (is_name && !logger.is_empty()).then_some((severity, word, logger, first + length + 2))
}

/// Hint: the second shape, where lines without a level are records too.
const LOOSE: Hint = 1;

/// `[WARNING]  (99) : text`, `[ERROR] text`, `Debug: text`: severity, word, process id, and where the text starts.
fn loose(line: &[u8]) -> Option<(Severity, &[u8], Option<u32>, usize)> {
    let open = usize::from(line.first() == Some(&b'['));
    let close = if open == 1 { b']' } else { b':' };
    let length = line.get(open..)?.iter().take(14).position(|byte| *byte == close)?;
    let word = line.get(open..open + length)?;
    let severity = Severity::from_long_word(word)?;
    let mut at = skip_blanks(line, open + length + 1);
    let mut pid = None;
    if let Some(inner) = line.get(at..).and_then(|rest| rest.strip_prefix(b"("))
        && let Some(end) = inner.iter().take(12).position(|byte| *byte == b')')
        && let Some(value) = inner.get(..end).and_then(number)
    {
        pid = Some(value);
        at = skip_blanks(line, at + end + 2);
        at = skip_blanks(line, at + usize::from(line.get(at) == Some(&b':')));
    }
    Some((severity, word, pid, at))
}

impl LineFormat for LevelText {
    fn name(&self) -> &'static str {
        "level-text"
    }

    fn head<'a>(&self, line: &'a [u8], hint: Hint) -> Option<Head<'a>> {
        if hint == LOOSE {
            let Some((severity, word, pid, body)) = loose(line) else { return Plain.head(line, 0) };
            return Some(Head { severity, severity_text: Cow::Borrowed(word), pid, body, ..Head::default() });
        }
        let (severity, word, logger, body) = parse(line)?;
        Some(Head {
            severity,
            severity_text: Cow::Borrowed(word),
            component: Cow::Borrowed(logger),
            body,
            ..Head::default()
        })
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| parse(line).is_some()).count();
        let loosely = lines.iter().filter(|line| loose(line).is_some()).count();
        if loosely > heads && loosely * 10 >= lines.len() * 6 {
            return Fit { heads: loosely, hint: LOOSE, ..Fit::default() };
        }
        Fit { heads, ..Fit::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn level_and_logger_are_read() {
        let head = LevelText.head(b"ERROR:dosing.valve:valve 3: no answer", 0).unwrap();
        assert_eq!((head.severity, &*head.component, head.body), (Severity::ERROR, &b"dosing.valve"[..], 19));
        assert!(LevelText.head(b"ERROR: no such file", 0).is_none());
        assert!(LevelText.head(b"NOTICE:x:y", 0).is_none());
        let line = b"[WARNING]  (28060) : server b/s1 is down";
        let head = LevelText.head(line, LOOSE).unwrap();
        assert_eq!(
            (head.severity, head.pid, line.get(head.body..)),
            (Severity::WARN, Some(28060), Some(&b"server b/s1 is down"[..]))
        );
        assert_eq!(LevelText.head(b"server is down", LOOSE).unwrap().severity, Severity::NONE);
    }
}
