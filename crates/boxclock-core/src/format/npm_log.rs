//! `npm-log`: the debug log of a package manager, `NUMBER LEVEL [PREFIX] message`.
//!
//! Source: logs that npm of Debian wrote (`~/.npm/_logs`), and its manual page npm-logging(7). Lines with the same number are one
//! record. They carry no time: that of the start is in the file's name, see `case/look.rs`. What it prints on a console has the
//! level without a number, `npm error code E404`.

use std::borrow::Cow;

use super::word::{number, token};
use super::{Fit, Head, Hint, LineFormat, LineState, Record, record_from_head};
use crate::severity::Severity;

/// The format.
pub(super) struct NpmLog;

fn parse(line: &[u8]) -> Option<(u32, Severity, &[u8], usize)> {
    let (count, end) = token(line, 0);
    let count = number(count)?;
    let (level, end) = token(line, end + 1);
    let severity = match level {
        b"silly" | b"verbose" | b"http" | b"timing" => Severity::DEBUG,
        b"info" | b"notice" => Severity::INFO,
        b"warn" | b"WARN" => Severity::WARN,
        b"error" | b"ERR!" => Severity::ERROR,
        _ => return None,
    };
    Some((count, severity, level, end + 1))
}

impl LineFormat for NpmLog {
    fn name(&self) -> &'static str {
        "npm-log"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let (_, severity, level, body) = parse(line)?;
        Some(Head {
            severity,
            severity_text: Cow::Borrowed(level),
            component: Cow::Borrowed(b"npm"),
            body: body.min(line.len()),
            ..Head::default()
        })
    }

    fn remembers(&self) -> bool {
        true
    }

    fn goes_on(&self, line: &[u8], state: &mut LineState) -> bool {
        let Some((count, ..)) = parse(line) else { return false };
        // One more than the number, so that 0 stands for none.
        let this = u64::from(count).saturating_add(1);
        std::mem::replace(state, this) == this
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        // The number, the level and the prefix stand again on each line.
        let lines = text.lines().map(|line| match parse(line.as_bytes()) {
            Some((.., body)) => line.get(body..).unwrap_or_default(),
            None => line,
        });
        record.body = lines.collect::<Vec<_>>().join("\n");
        record
    }

    fn version(&self) -> u32 {
        2
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        // The numbers count up from 0.
        let starts = lines.iter().filter_map(|line| parse(line)).take(2).map(|found| found.0).collect::<Vec<_>>();
        let heads = lines.iter().filter(|line| parse(line).is_some()).count();
        Fit { heads: if starts.first() == Some(&0) { heads } else { 0 }, ..Fit::default() }
    }
}
