//! `level-text`: lines without time that start with a level and a logger, `ERROR:dosing.valve:valve 3 does not answer`.
//!
//! Source: the documentation of Python's `logging` module: its default format is `%(levelname)s:%(name)s:%(message)s`. What an
//! exception adds stands on lines of its own, which belong to the record.

use std::borrow::Cow;

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

impl LineFormat for LevelText {
    fn name(&self) -> &'static str {
        "level-text"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
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
    }
}
