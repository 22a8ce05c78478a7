//! Message patterns: what stays the same in a message when its numbers and identifiers change.
//!
//! `frame fr-0412-4096 refused, retry 4` and `frame fr-0412-4101 refused, retry 9` are both `frame # refused, retry #`. A word with a
//! digit in it is taken for a value; values that are joined by points, colons, slashes or hyphens are one. A pattern
//! has a number that is the same in every case and on every machine, so that a filter can name it.

use std::fmt;
use std::str::FromStr;

use rustc_hash::FxHashMap;
use serde::{Deserialize, Serialize};

use crate::analysis::{Analysis, CaseView, Pieces, Seen};
use crate::event::{NO_TIME, Row};
use crate::work::{Work, parallel};
use crate::{Error, Result};

mod kinds;
mod rhythm;
mod typed;
mod usual;

pub use kinds::{KindAnalysis, MessageKind};
pub use rhythm::{Rhythm, RhythmAnalysis};
pub use typed::{Value, ValueKind, values};
pub use usual::{UnusualValue, UsualAnalysis, UsualPlace, UsualValues};

/// Bytes of a message that are looked at.
const MAX_MESSAGE_BYTES: usize = 400;

/// The number of a pattern: FNV-1a of its template, 40 bits of it. As text ten hexadecimal digits, which people keep in filters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct PatternId(u64);

impl PatternId {
    /// The number of a message's pattern.
    pub fn of(message: &[u8]) -> Self {
        let mut hash = 0xcbf2_9ce4_8422_2325_u64;
        walk(message, |bytes| {
            for byte in bytes {
                hash = (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3);
            }
        });
        Self(hash >> 24)
    }
}

impl fmt::Display for PatternId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:010x}", self.0)
    }
}

impl FromStr for PatternId {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let number = (text.len() == 10).then(|| u64::from_str_radix(text, 16).ok()).flatten();
        number.map(Self).ok_or_else(|| Error::new(format!("\"{text}\" is not a pattern: ten hexadecimal digits are")))
    }
}

/// The template of a message's pattern: its first line with `#` in the place of values.
pub fn template(message: &str) -> String {
    let mut out = Vec::new();
    walk(message.as_bytes(), |bytes| out.extend_from_slice(bytes));
    String::from_utf8_lossy(&out).into_owned()
}

/// Goes through the first line and gives the pieces of its template.
fn walk(text: &[u8], mut piece: impl FnMut(&[u8])) {
    let line = text.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let line = line.get(..MAX_MESSAGE_BYTES).unwrap_or(line).trim_ascii();
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
    pub id: PatternId,
    /// Events that have it.
    pub count: u32,
    /// First and last corrected time of these, UTC nanoseconds.
    pub span: Option<(i64, i64)>,
    /// The first of them in order of time; of those without time the first of the table.
    pub first: Row,
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

    /// Adds what a part has.
    fn add(&mut self, first_row: u32, found: PartPatterns, index_of: &mut FxHashMap<PatternId, u32>) {
        let mut here = Vec::with_capacity(found.patterns.len());
        for pattern in found.patterns {
            let index = *index_of.entry(pattern.id).or_insert_with(|| {
                self.list.push(Pattern { count: 0, span: None, ..pattern });
                (self.list.len() - 1) as u32
            });
            here.push(index);
            let sum = &mut self.list[index as usize];
            sum.count += pattern.count;
            if let Some((first, last)) = pattern.span {
                if sum.span.is_none_or(|(known, _)| first < known) {
                    sum.first = pattern.first;
                }
                sum.span = Some(sum.span.map_or((first, last), |known| (known.0.min(first), known.1.max(last))));
            }
        }
        for (slot, id) in self.of_row[first_row as usize..].iter_mut().zip(found.of_event) {
            *slot = here.get(usize::from(id)).copied().unwrap_or(u32::MAX);
        }
    }

    /// The labels of the hosts that each pattern stands on.
    pub fn hosts_of(&self, table: &crate::event::Table) -> FxHashMap<PatternId, Vec<String>> {
        let mut hosts: Vec<Vec<u32>> = vec![Vec::new(); self.list.len()];
        for (row, pattern) in self.of_row.iter().enumerate() {
            let Some(of) = hosts.get_mut(*pattern as usize) else { continue };
            let host = table.event(Row(row as u32)).actor().host;
            if !of.contains(&host) {
                of.push(host);
            }
        }
        let label = |host: &u32| table.hosts.get(*host as usize).cloned().filter(|label| !label.is_empty());
        self.list.iter().zip(hosts).map(|(pattern, of)| (pattern.id, of.iter().filter_map(label).collect())).collect()
    }

    /// Bytes of memory that it takes.
    pub fn memory_bytes(&self) -> usize {
        self.of_row.len() * 4 + self.list.len() * size_of::<Pattern>()
    }
}

/// What one part has: for each of its events one of its patterns.
#[derive(Default)]
struct PartPatterns {
    of_event: Vec<u16>,
    patterns: Vec<Pattern>,
}

/// Finds the pattern of every event.
#[derive(Clone, Copy, Debug)]
pub struct PatternAnalysis;

/// The patterns of one segment.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct PatternPiece {
    /// Those that it has.
    pub ids: Vec<PatternId>,
    /// For each event the place of its pattern in `ids`.
    pub of_event: Vec<u16>,
    #[serde(skip)]
    known: FxHashMap<PatternId, u16>,
}

impl Analysis for PatternAnalysis {
    const NAME: &'static str = "patterns";
    const VERSION: u32 = 3;
    type Piece = PatternPiece;
    type Found = Patterns;

    fn see(&self, piece: &mut PatternPiece, seen: &Seen<'_>) {
        let id = PatternId::of(&seen.body());
        let place = *piece.known.entry(id).or_insert_with(|| {
            piece.ids.push(id);
            (piece.ids.len() - 1) as u16
        });
        // A record that could not be read has none.
        piece.of_event.resize(seen.index, u16::MAX);
        piece.of_event.push(place);
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, PatternPiece>, work: &Work) -> Result<Patterns> {
        /// So many parts at a time: what each finds on its own is not kept for all of them at once.
        const PARTS_PER_BATCH: usize = 64;
        let table = &view.loaded.table;
        let mut all = Patterns { of_row: vec![u32::MAX; table.len()], list: Vec::new() };
        let mut index_of: FxHashMap<PatternId, u32> = FxHashMap::default();
        for (batch, parts) in table.parts.chunks(PARTS_PER_BATCH).enumerate() {
            let found = parallel(parts.len(), work, |at| {
                let (part, piece) = (&parts[at], pieces.of_part(batch * PARTS_PER_BATCH + at)?);
                let first = |id: &PatternId| Pattern { id: *id, count: 0, span: None, first: Row(part.first_row) };
                let mut patterns: Vec<Pattern> = piece.ids.iter().map(first).collect();
                let drift: Vec<_> =
                    part.actor_ids.iter().map(|actor| table.drift_of(part.segment.source, *actor)).collect();
                let columns = part.segment.times.iter().zip(part.segment.actor_ids.iter());
                for (index, (place, (time, actor))) in piece.of_event.iter().zip(columns).enumerate() {
                    let Some(pattern) = patterns.get_mut(usize::from(*place)) else { continue };
                    pattern.count += 1;
                    let row = Row(part.first_row + index as u32);
                    if *time == NO_TIME {
                        if pattern.count == 1 {
                            pattern.first = row;
                        }
                        continue;
                    }
                    let time = drift[usize::from(*actor)].correct(*time);
                    match &mut pattern.span {
                        Some((first, last)) => {
                            if time < *first {
                                (*first, pattern.first) = (time, row);
                            }
                            *last = (*last).max(time);
                        }
                        span => (*span, pattern.first) = (Some((time, time)), row),
                    }
                }
                Ok(PartPatterns { of_event: piece.of_event, patterns })
            });
            work.check()?;
            for (part, found) in parts.iter().zip(found) {
                all.add(part.first_row, found?, &mut index_of);
            }
        }
        all.list.shrink_to_fit();
        Ok(all)
    }
}

/// Clears the bits of those events of a part that have none of these patterns. Its piece has to be there.
pub(crate) fn narrow(view: &CaseView, part: usize, ids: &[PatternId], bits: &mut [bool]) {
    let Some(piece) = view.loaded.pieces.get::<PatternPiece>(PatternAnalysis::NAME, part) else {
        return bits.fill(false);
    };
    let wanted: Vec<bool> = piece.ids.iter().map(|id| ids.contains(id)).collect();
    let has = |event: usize| piece.of_event.get(event).and_then(|place| wanted.get(usize::from(*place)));
    bits.iter_mut().enumerate().for_each(|(event, bit)| *bit &= has(event) == Some(&true));
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::testing::case;

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
            assert_eq!(template(text), wanted, "{text}");
        }
    }

    #[test]
    fn numbers_stay_what_they_are() {
        // They stand in filters that people keep.
        for (message, number) in [
            ("heartbeat sent", "195093e323"),
            ("frame fr-0412-4096 refused, retry 4", "73f88f9ef2"),
            ("état 7 atteint", "41d60f94b0"),
        ] {
            assert_eq!(PatternId::of(message.as_bytes()).to_string(), number, "{message}");
        }
    }

    #[test]
    fn the_same_template_has_the_same_number() {
        let one = PatternId::of(b"frame fr-0412-4096 refused, retry 4");
        assert_eq!(one, PatternId::of(b"frame fr-0412-4101 refused, retry 19\nwith more lines"));
        assert_ne!(one, PatternId::of(b"frame fr-0412-4101 passed, retry 19"));
        assert_eq!(one.to_string().parse::<PatternId>().unwrap(), one);
        assert!("12".parse::<PatternId>().is_err());
    }

    #[test]
    fn patterns_know_count_span_and_first() {
        let text = "2026-04-12T02:00:02Z app: fed tank 2\n2026-04-12T02:00:00Z app: fed tank 1\n\
                    2026-04-12T02:00:03Z app: stopped\n";
        let case = case(&[("pump-ctl/app.log", text), ("dose-gw/b.log", "2026-04-12T02:00:09Z app: fed tank 9\n")]);
        let view = case.view();
        let found = view.run(&PatternAnalysis, &Work::default()).unwrap();
        let row = view.row_in("hosts/dose-gw/b.log", 0).unwrap();
        let fed = found.of(row).unwrap();
        assert_eq!(fed.count, 3);
        let (first, last) = fed.span.unwrap();
        assert_eq!(last - first, 9_000_000_000);
        assert_eq!(view.loaded.table.event(fed.first).line(), 2, "the first in time, not in the file");
        assert_eq!(found.list.len(), 2);
    }

    #[test]
    fn a_message_behind_its_head_s_line_has_its_own_pattern() {
        // One class and method says both, each on the line behind.
        let text: String = ["INFO: fed tank 2", "SEVERE: valve 3 does not answer", "INFO: fed tank 9"]
            .iter()
            .enumerate()
            .map(|(at, message)| format!("Apr 12, 2026 2:31:0{at} AM aquarium.Error open\n{message}\n"))
            .collect();
        let of_case = case(&[("pump-ctl/app.log", text)]);
        let found = of_case.view().run(&PatternAnalysis, &Work::default()).unwrap();
        let mut counts: Vec<u32> = found.list.iter().map(|one| one.count).collect();
        counts.sort_unstable();
        assert_eq!(counts, [1, 2]);
    }

    proptest! {
        #[test]
        fn any_text_has_a_pattern(text in "\\PC{0,600}", bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
            PatternId::of(&bytes);
            // A template has no values left: it is its own template, and has the same number.
            let once = template(&text);
            if text.len() <= MAX_MESSAGE_BYTES {
                prop_assert!(!once.bytes().any(|byte| byte.is_ascii_digit()), "{once}");
                prop_assert_eq!(PatternId::of(once.as_bytes()), PatternId::of(text.as_bytes()), "{}", once);
            }
        }
    }
}
