//! `iso-text` in the shape of several server programs: level and date in one word, `E0412 02:31:08.442123    99 link.go:77] text`.
//!
//! The shape is `LMMDD hh:mm:ss.uuuuuu THREAD FILE:LINE] text`, with `L` one of I, W, E and F; the year comes from the file.

use std::borrow::Cow;

use serde_json::Value;

use super::word::{number, skip_blanks, token};
use super::{Fit, Head, Hint, LineFormat, Record, record_from_head};
use crate::clock::Civil;
use crate::clock::forms;
use crate::severity::Severity;

/// The format.
pub(super) struct LevelDate;

impl LineFormat for LevelDate {
    fn name(&self) -> &'static str {
        "iso-text"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let level = line.get(..1).filter(|level| matches!(level, [b'I' | b'W' | b'E' | b'F']))?;
        let (month, day) = (number(line.get(1..3)?)?, number(line.get(3..5)?)?);
        let (of_day, length) = forms::time_of_day(line.get(5..)?.strip_prefix(b" ")?)?;
        let civil = Civil { month: u8::try_from(month).ok()?, day: u8::try_from(day).ok()?, ..of_day };
        let (thread, end) = token(line, skip_blanks(line, 6 + length));
        let (place, end) = token(line, skip_blanks(line, end));
        let place = place.strip_suffix(b"]").filter(|place| place.contains(&b':'))?;
        civil.is_valid().then(|| Head {
            stamp: civil.stamp(),
            severity: Severity::from_word(level).unwrap_or_default(),
            severity_text: Cow::Borrowed(level),
            component: Cow::Borrowed(place.split(|byte| *byte == b':').next().unwrap_or(place)),
            tid: number(thread),
            body: skip_blanks(line, end),
            ..Head::default()
        })
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        // The other shapes take the time of day of such lines, but not the level and the date in front of it.
        Fit { heads, sure: heads * 2 > lines.len(), ..Fit::default() }
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        let line =
            text.split("] ").next().and_then(|head| head.rsplit(':').next()).and_then(|line| line.parse::<u32>().ok());
        record.attributes.extend(line.map(|line| ("code.line.number".to_owned(), Value::from(line))));
        record
    }
}
