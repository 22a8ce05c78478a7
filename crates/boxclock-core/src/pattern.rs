//! Message patterns: what stays the same in a message when its numbers and identifiers change.
//!
//! `frame fr-0412-4096 refused, retry 4` and `frame fr-0412-4101 refused, retry 9` are both `frame # refused, retry #`. A word with a
//! digit in it is taken for a value; values that are joined by points, colons, slashes or hyphens are one. A pattern
//! has a number that is the same in every case and on every machine, so that a filter can name it.

use std::collections::HashMap;
use std::sync::Arc;

use crate::Result;
use crate::case::{Loaded, Reader, Source};
use crate::event::{EventRef, Part, RecordReader, Row, Table};
use crate::work::{Work, parallel};

/// Bytes of a message that are looked at.
const MOST_BYTES: usize = 400;

/// The pattern of a message: its first line with `#` in the place of values.
pub fn shape(text: &str) -> String {
    let mut out = Vec::new();
    walk(text.as_bytes(), |bytes| out.extend_from_slice(bytes));
    String::from_utf8_lossy(&out).into_owned()
}

/// The number of a message's pattern: FNV-1a of its shape, 40 bits of it.
pub fn number(text: &[u8]) -> u64 {
    let mut hash = 0xcbf2_9ce4_8422_2325_u64;
    walk(text, |bytes| {
        for byte in bytes {
            hash = (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3);
        }
    });
    hash >> 24
}

/// The number as filters write it: ten hexadecimal digits.
pub fn name(number: u64) -> String {
    format!("{number:010x}")
}

/// The number of a name.
pub fn parse_name(name: &str) -> Option<u64> {
    if name.len() == 10 { u64::from_str_radix(name, 16).ok() } else { None }
}

/// Goes through the first line and gives the pieces of its shape.
fn walk(text: &[u8], mut piece: impl FnMut(&[u8])) {
    let line = text.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let line = line.get(..MOST_BYTES).unwrap_or(line).trim_ascii();
    let is_word = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80;
    let mut at = 0;
    // A joining sign behind a value is held back: it belongs to the value if another value follows.
    let (mut behind_value, mut held) = (false, 0..0);
    while at < line.len() {
        let start = at;
        if !is_word(line[at]) {
            let is_joint = behind_value && matches!(line[at], b'.' | b':' | b'/' | b'-' | b',' | b'+');
            at += 1;
            if is_joint && held.is_empty() {
                held = start..at;
            } else {
                piece(&line[held.clone()]);
                (behind_value, held) = (false, 0..0);
                piece(&line[start..at]);
            }
            continue;
        }
        while at < line.len() && is_word(line[at]) {
            at += 1;
        }
        let word = &line[start..at];
        // `fr-0412` is one value: a short word that a hyphen joins to a value.
        let joins = line.get(at) == Some(&b'-')
            && line.get(at + 1).is_some_and(u8::is_ascii_digit)
            && word.iter().all(u8::is_ascii_alphabetic);
        if word.iter().any(u8::is_ascii_digit) || joins {
            if !behind_value || held.is_empty() {
                piece(b"#");
            }
            (behind_value, held) = (true, 0..0);
        } else {
            piece(&line[held.clone()]);
            (behind_value, held) = (false, 0..0);
            piece(word);
        }
    }
    piece(&line[held]);
}

/// One pattern of a case.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pattern {
    /// Its number.
    pub number: u64,
    /// Events that have it.
    pub count: u32,
    /// First and last corrected time of these, UTC nanoseconds.
    pub span: Option<(i64, i64)>,
    /// One of them.
    pub example: Row,
}

/// The patterns of all events.
#[derive(Clone, Debug, Default)]
pub struct Patterns {
    /// For each row the index of its pattern.
    pub of_row: Vec<u32>,
    /// The patterns.
    pub list: Vec<Pattern>,
}

impl Patterns {
    /// The pattern of a row.
    pub fn of(&self, row: Row) -> Option<&Pattern> {
        self.list.get(*self.of_row.get(row.0 as usize)? as usize)
    }

    /// Adds what a part found.
    fn add(
        &mut self,
        first_row: u32,
        ids: &[u32],
        numbers: HashMap<u64, (u32, Pattern)>,
        index_of: &mut HashMap<u64, u32>,
    ) {
        let mut here = vec![0; numbers.len()];
        for (id, pattern) in numbers.into_values() {
            let index = *index_of.entry(pattern.number).or_insert_with(|| {
                self.list.push(Pattern { count: 0, span: None, ..pattern });
                (self.list.len() - 1) as u32
            });
            here[id as usize] = index;
            let sum = &mut self.list[index as usize];
            sum.count += pattern.count;
            sum.span = match (sum.span, pattern.span) {
                (Some(a), Some(b)) => Some((a.0.min(b.0), a.1.max(b.1))),
                (a, b) => a.or(b),
            };
        }
        for (slot, id) in self.of_row[first_row as usize..].iter_mut().zip(ids) {
            *slot = here[*id as usize];
        }
    }

    /// Bytes of memory that it takes.
    pub fn memory_bytes(&self) -> usize {
        self.of_row.len() * 4 + self.list.len() * size_of::<Pattern>()
    }
}

/// The patterns of one part: for each of its rows one of the numbers that the patterns have here.
fn of_part(
    table: &Table,
    part: &Part,
    sources: &Arc<Vec<Source>>,
    work: &Work,
) -> (Vec<u32>, HashMap<u64, (u32, Pattern)>) {
    let mut reader = RecordReader::new(Arc::clone(sources));
    let mut numbers: HashMap<u64, (u32, Pattern)> = HashMap::new();
    let mut ids = Vec::with_capacity(part.segment.len());
    for at in 0..part.segment.len() {
        if at % 1024 == 0 && work.is_cancelled() {
            break;
        }
        let row = Row(part.first_row + at as u32);
        let event = table.event(row);
        let number = of_event(&mut reader, event);
        let next = numbers.len() as u32;
        let new = || (next, Pattern { number, count: 0, span: None, example: row });
        let (id, pattern) = numbers.entry(number).or_insert_with(new);
        pattern.count += 1;
        if let Some(time) = event.time() {
            let (first, last) = pattern.span.unwrap_or((time, time));
            pattern.span = Some((first.min(time), last.max(time)));
        }
        ids.push(*id);
    }
    (ids, numbers)
}

/// The number of an event's pattern.
pub fn of_event(reader: &mut RecordReader, event: EventRef<'_>) -> u64 {
    let source = reader.source(event);
    if let Reader::Lines(detected) = source.reader
        && source.encoding == crate::text::Encoding::Utf8
        && let Ok(bytes) = reader.bytes(event)
    {
        let line = bytes.split(|byte| *byte == b'\n').next().unwrap_or_default();
        // The message behind the head, without making a record of it; formats of fields have theirs anywhere.
        if !detected.format.is_fields(line)
            && let Some(head) = detected.format.head(line, detected.hint)
            && head.body < line.len()
        {
            return number(&line[head.body..]);
        }
    }
    number(reader.record(event).body.as_bytes())
}

/// Works out the patterns of all events, on all cores. Cost: one reading of all text.
///
/// # Errors
/// When cancelled.
pub fn patterns(loaded: &Loaded, sources: &Arc<Vec<Source>>, work: &Work) -> Result<Patterns> {
    // So many parts at a time: what each finds on its own is not kept for all of them at once.
    const AT_ONCE: usize = 64;
    let table = &loaded.table;
    let mut all = Patterns { of_row: vec![0; table.len()], list: Vec::new() };
    let mut index_of: HashMap<u64, u32> = HashMap::new();
    for parts in table.parts.chunks(AT_ONCE) {
        let of_parts = parallel(parts.len(), work, |index| of_part(table, &parts[index], sources, work));
        work.check()?;
        for (part, (ids, numbers)) in parts.iter().zip(of_parts) {
            all.add(part.first_row, &ids, numbers, &mut index_of);
        }
    }
    all.list.shrink_to_fit();
    Ok(all)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn values_are_left_out() {
        for (text, wanted) in [
            ("frame fr-0412-4096 refused, retry 4", "frame # refused, retry #"),
            ("lease of 10.1.2.3:5514 lost after 3.5 s", "lease of # lost after # s"),
            ("at 2026-04-12T02:31:07.442Z: error 0x80070005", "at #: error #"),
            ("user anna logged in", "user anna logged in"),
            ("queue=12, wait_ms=950.", "queue=#, wait_ms=#."),
            ("path /srv/tank7/log rotated", "path /srv/#/log rotated"),
            ("état 7 atteint\nmore", "état # atteint"),
            ("", ""),
        ] {
            assert_eq!(shape(text), wanted, "{text}");
        }
    }

    #[test]
    fn the_same_shape_has_the_same_number() {
        let one = number(b"frame fr-0412-4096 refused, retry 4");
        assert_eq!(one, number(b"frame fr-0412-4101 refused, retry 19\nwith more lines"));
        assert_ne!(one, number(b"frame fr-0412-4101 passed, retry 19"));
        assert_eq!(parse_name(&name(one)), Some(one));
        assert_eq!(parse_name("12"), None);
        // It stands in filters that people keep: it must not change.
        assert_eq!(name(number(b"heartbeat sent")), name(number(b"heartbeat sent ")));
    }

    proptest! {
        #[test]
        fn any_text_has_a_pattern(text in "\\PC{0,600}", bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
            // A shape has no values any more: it is its own shape.
            let once = shape(&text);
            prop_assert!(once.len() <= text.len() + 3 * text.len());
            number(&bytes);
            prop_assert_eq!(number(text.as_bytes()), number(text.as_bytes()));
        }
    }
}
