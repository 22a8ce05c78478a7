//! `java-util-logging`: records of two lines, as the Java platform's own logger prints them.
//!
//! ```text
//! Apr 12, 2026 2:31:07 AM aquarium.Dosing open
//! SEVERE: valve 3 does not answer
//! ```
//!
//! Source: the platform's documentation of `java.util.logging.SimpleFormatter` (its default form is
//! `%1$tb %1$td, %1$tY %1$tl:%1$tM:%1$tS %1$Tp %2$s%n%4$s: %5$s%6$s%n`) and what a JVM of Debian wrote. Dates and level
//! words follow the locale. The level stands on the second line and is read there.

use std::borrow::Cow;

use super::{Fit, Head, Hint, LineFormat, Record, body_text};
use crate::clock::Civil;
use crate::clock::forms::{self, DateOrder};
use crate::severity::Severity;

/// The format.
pub(super) struct JavaUtilLogging;

/// The level at the start of a line, in the languages that the platform ships.
fn level(line: &[u8]) -> Option<(Severity, &[u8])> {
    let colon = line.iter().take(24).position(|byte| *byte == b':')?;
    let word = line.get(..colon)?;
    if !matches!(line.get(colon + 1), None | Some(b' ')) {
        return None;
    }
    let severity = match std::str::from_utf8(word).ok()? {
        "SEVERE" | "SCHWERWIEGEND" | "GRAVE" | "严重" | "致命的" => Severity::ERROR,
        "WARNING" | "WARNUNG" | "AVERTISSEMENT" | "ADVERTENCIA" | "AVVERTENZA" | "警告" => Severity::WARN,
        "INFO" | "INFORMATION" | "INFORMATIONEN" | "INFOS" | "INFORMACIÓN" | "信息" | "情報" => Severity::INFO,
        "CONFIG" | "KONFIGURATION" => Severity(7),
        "FINE" | "FEIN" => Severity(6),
        "FINER" | "FEINER" => Severity::DEBUG,
        "FINEST" | "AM FEINSTEN" => Severity::TRACE,
        _ => return None,
    };
    Some((severity, word))
}

/// The date at the start of a line, and what stands behind it.
fn dated(line: &[u8]) -> Option<(Civil, &[u8])> {
    let (civil, end) = forms::dated(line, DateOrder::DayFirst).filter(|(civil, _)| civil.year > 0)?;
    Some((civil, line.get(end..)?.strip_prefix(b" ")?))
}

impl LineFormat for JavaUtilLogging {
    fn name(&self) -> &'static str {
        "java-util-logging"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let first = *line.first()?;
        if !(first.is_ascii_alphanumeric() || first >= 0x80) {
            return None;
        }
        let (civil, rest) = dated(line)?;
        // `CLASS METHOD`, or the logger's name alone.
        let mut words = rest.split(|byte| *byte == b' ').filter(|word| !word.is_empty());
        let class = words.next()?;
        let name = |word: &[u8]| {
            word.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte >= 0x80 || b"._$<>/-()".contains(byte))
        };
        let method = words.next();
        if !name(class) || !method.is_none_or(name) || words.next().is_some() {
            return None;
        }
        // The message stands on the next line: none of it on this one.
        Some(Head { stamp: civil.stamp(), component: Cow::Borrowed(class), body: line.len(), ..Head::default() })
    }

    fn has_tails(&self) -> bool {
        true
    }

    fn only_first_tail(&self) -> bool {
        true
    }

    fn version(&self) -> u32 {
        3
    }

    fn tail<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let (severity, word) = level(line)?;
        Some(Head { severity, severity_text: Cow::Borrowed(word), ..Head::default() })
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = Record::default();
        let (first, rest) = text.split_once('\n').unwrap_or((text, ""));
        let first = first.trim_end();
        let place =
            self.head(first.as_bytes(), hint).and_then(|_| first.get(first.len() - dated(first.as_bytes())?.1.len()..));
        let mut words = place.unwrap_or_default().split_ascii_whitespace();
        record.attributes.extend(words.next().map(|class| ("code.namespace".into(), class.into())));
        record.attributes.extend(words.next().map(|method| ("code.function.name".into(), method.into())));
        match level(rest.as_bytes()) {
            Some((_, word)) => {
                record.severity_text = Some(String::from_utf8_lossy(word).into_owned());
                record.body = body_text(rest.get(word.len() + 1..).unwrap_or_default().trim_start_matches(' '));
            }
            None => record.body = body_text(if rest.is_empty() { text } else { rest }),
        }
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let pairs = lines
            .iter()
            .zip(lines.iter().skip(1))
            .filter(|(head, text)| self.head(head, 0).is_some() && level(text).is_some())
            .count();
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        Fit {
            heads: if pairs * 10 >= heads * 8 { heads } else { 0 },
            sure: pairs > 0 && pairs * 10 >= heads * 8,
            ..Fit::default()
        }
    }
}
