//! What the values in messages of one pattern usually are, and which are unusual: the one slow answer among ten thousand quick ones, the
//! one user who never did that before.

use std::collections::HashMap;

use super::{PatternAnalysis, PatternId, ValueKind, values};
use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Reads};
use crate::clock::human::duration_text;
use crate::event::{RecordReader, Row};
use crate::work::Work;

/// Events of a pattern that are looked at; of more, so many are taken evenly.
const MOST_EVENTS: usize = 100_000;
/// Different texts at one place that are told apart.
const MOST_TEXTS: usize = 4_096;
/// Usual texts that are named, and unusual values.
const MOST_COMMON: usize = 5;
const MOST_UNUSUAL: usize = 50;

/// What the values of one pattern usually are.
#[derive(Clone, Copy, Debug)]
pub struct UsualAnalysis {
    /// Of which pattern.
    pub pattern: PatternId,
}

impl UsualAnalysis {
    /// With fewer events nothing is usual.
    pub const LEAST_EVENTS: u32 = 20;
}

/// The answer.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct UsualValues {
    /// Events that were looked at.
    pub events: u32,
    /// Each place of a value, in the order of the message.
    pub places: Vec<UsualPlace>,
    /// Values unlike the others, the most unlike first.
    pub unusual: Vec<UnusualValue>,
}

/// What usually stands at one place.
#[derive(Clone, Debug, PartialEq)]
pub struct UsualPlace {
    /// What it is.
    pub kind: ValueKind,
    /// The words in front of it, if there are some.
    pub before: String,
    /// Different values.
    pub different: usize,
    /// The most frequent values with their counts, where a few make up nearly all.
    pub common: Vec<(String, u32)>,
    /// For numbers, durations (in seconds) and sizes (in bytes): the value that a twentieth is below, the middle one, and the one that a
    /// twentieth is above.
    pub range: Option<(f64, f64, f64)>,
    /// Whether the numbers grow from event to event, as counters do: then none is unusual.
    pub grows: bool,
}

/// A value unlike the others of its place.
#[derive(Clone, Debug, PartialEq)]
pub struct UnusualValue {
    /// Its event.
    pub row: Row,
    /// The place of it in `places`.
    pub place: usize,
    /// The value, as it is written.
    pub text: String,
    /// In which way it is unusual, as a sentence goes on: "3 times what 19 of 20 have".
    pub why: String,
    /// How unusual: larger is more so.
    pub score: f64,
}

impl UsualValues {
    /// How the values of one of the messages are unlike the others: each with its text and in which way.
    pub fn unlike(&self, row: Row, message: &str) -> Vec<(String, String)> {
        let known = self.unusual.iter().filter(|one| one.row == row);
        let mut found: Vec<(String, String)> = known.map(|one| (one.text.clone(), one.why.clone())).collect();
        // Of very many events not all were looked at.
        for (place, value) in self.places.iter().zip(values(message)) {
            let text = message.get(value.at).unwrap_or_default();
            let Some(range) = place.range.filter(|_| place.kind == value.kind) else {
                continue;
            };
            let far = amount(value.kind, text).filter(|amount| is_far(*amount, range));
            if let Some(amount) = far.filter(|_| !place.grows && !found.iter().any(|(known, _)| known == text)) {
                found.push((text.to_owned(), how_far(amount, range)));
            }
        }
        found
    }
}

impl UsualPlace {
    /// "in 10ms to 26ms", "user 'keeper'": nothing where all values are different, or grow.
    pub fn sentence(&self) -> Option<String> {
        // "number 60" tells nobody anything.
        if self.before.is_empty() && self.kind == ValueKind::Number {
            return None;
        }
        let lead = if self.before.is_empty() { self.kind.name() } else { &self.before };
        // Of two equal halves none is usual.
        let all: u32 = self.common.iter().map(|(_, count)| count).sum();
        if let Some((text, _)) = self.common.first().filter(|(_, count)| count * 2 > all) {
            return Some(format!("{lead} {text}"));
        }
        let (low, _, high) = self.range.filter(|_| !self.grows)?;
        let told = |amount: f64| match self.kind {
            ValueKind::Duration => duration_text((amount * 1e9) as i64),
            ValueKind::Size => told_size(amount),
            _ => told_number(amount),
        };
        Some(format!("{lead} {} to {}", told(low), told(high)))
    }
}

fn told_number(amount: f64) -> String {
    if amount.fract() == 0.0 || amount.abs() >= 100.0 { format!("{amount:.0}") } else { format!("{amount:.2}") }
}

fn told_size(bytes: f64) -> String {
    let (amount, unit) = match bytes {
        _ if bytes >= 1e9 => (bytes / 1e9, "GB"),
        _ if bytes >= 1e6 => (bytes / 1e6, "MB"),
        _ if bytes >= 1e3 => (bytes / 1e3, "kB"),
        _ => (bytes, "bytes"),
    };
    format!("{} {unit}", told_number((amount * 100.0).round() / 100.0))
}

/// Whether an amount lies far beyond what nineteen of twenty have.
fn is_far(amount: f64, (low, _, high): (f64, f64, f64)) -> bool {
    /// So many times as much is unusual.
    const TIMES: f64 = 3.0;
    high > 0.0 && amount > high * TIMES && amount - high > TIMES * (high - low)
}

fn how_far(amount: f64, (_, _, high): (f64, f64, f64)) -> String {
    let times = amount / high;
    let times = if times < 10.0 { format!("{times:.1}") } else { format!("{times:.0}") };
    format!("{times} times what 19 of 20 have")
}

impl Analysis for UsualAnalysis {
    const NAME: &'static str = "usual";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = UsualValues;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<UsualValues> {
        let patterns = view.run(&PatternAnalysis, work)?;
        let Some(index) = patterns.list.iter().position(|pattern| pattern.id == self.pattern) else {
            return Ok(UsualValues::default());
        };
        let of_it = patterns.of_row.iter().enumerate().filter(|(_, pattern)| **pattern == index as u32);
        let rows: Vec<Row> = of_it.map(|(row, _)| Row(row as u32)).collect();
        let step = rows.len().div_ceil(MOST_EVENTS).max(1);
        let mut reader = RecordReader::new(view.case.sources.clone());
        let mut seen = Vec::new();
        for (count, row) in rows.into_iter().step_by(step).enumerate() {
            if count % 1_024 == 0 {
                work.check()?;
            }
            seen.push((row, reader.line(view.loaded.table.event(row), 400, 0).text));
        }
        Ok(usual(&seen))
    }

    fn parameters(&self) -> String {
        self.pattern.to_string()
    }
}

/// What one place has so far.
struct Place {
    kind: ValueKind,
    before: String,
    /// By text: its count and first row.
    texts: HashMap<String, (u32, Row)>,
    amounts: Vec<(f64, Row)>,
    count: u32,
}

/// What the values of some messages of one pattern usually are.
fn usual(messages: &[(Row, String)]) -> UsualValues {
    let mut places: Vec<Place> = Vec::new();
    for (row, message) in messages {
        for (index, value) in values(message).into_iter().enumerate() {
            let Some(text) = message.get(value.at.clone()) else { continue };
            if index == places.len() {
                let before = words_before(message.get(..value.at.start).unwrap_or_default());
                places.push(Place { kind: value.kind, before, texts: HashMap::new(), amounts: Vec::new(), count: 0 });
            }
            // What is a number once and a time then has no usual value.
            let Some(place) = places.get_mut(index).filter(|place| place.kind == value.kind) else { continue };
            place.count += 1;
            if place.texts.len() < MOST_TEXTS || place.texts.contains_key(text) {
                place.texts.entry(text.to_owned()).or_insert((0, *row)).0 += 1;
            }
            place.amounts.extend(amount(value.kind, text).map(|amount| (amount, *row)));
        }
    }
    let mut found = UsualValues { events: messages.len() as u32, ..UsualValues::default() };
    for (index, mut place) in places.into_iter().enumerate() {
        place.amounts.sort_by(|a, b| a.0.total_cmp(&b.0));
        let range = range(&place);
        let grows = is_counter(&place.amounts);
        let mut texts: Vec<(String, (u32, Row))> = place.texts.into_iter().collect();
        texts.sort_by(|a, b| b.1.0.cmp(&a.1.0).then_with(|| a.0.cmp(&b.0)));
        let most: u32 = texts.iter().take(MOST_COMMON).map(|(_, (count, _))| count).sum();
        // A few values make up nearly all.
        let is_choice =
            place.count >= UsualAnalysis::LEAST_EVENTS && u64::from(most) * 100 >= u64::from(place.count) * 95;
        let far =
            range.filter(|_| !grows).map_or_else(Vec::new, |range| far_off(index, &place.amounts, range, messages));
        let is_name = matches!(place.kind, ValueKind::Time | ValueKind::Identifier | ValueKind::Hash | ValueKind::Guid);
        if is_choice && !is_name {
            let rare = texts.iter().filter(|(text, (count, _))| {
                *count <= 3
                    && u64::from(*count) * 100 <= u64::from(place.count)
                    && !far.iter().any(|far| far.text == *text)
            });
            found.unusual.extend(rare.map(|(text, (count, row))| UnusualValue {
                row: *row,
                place: index,
                text: text.clone(),
                why: format!(
                    "{} in {}",
                    if *count == 1 { "once".to_owned() } else { format!("{count} times") },
                    place.count
                ),
                score: f64::from(place.count) / f64::from(*count) / 100.0,
            }));
        }
        found.unusual.extend(far);
        found.places.push(UsualPlace {
            kind: place.kind,
            before: place.before,
            different: texts.len(),
            common: if is_choice {
                texts.into_iter().take(MOST_COMMON).map(|(text, (count, _))| (text, count)).collect()
            } else {
                Vec::new()
            },
            range,
            grows,
        });
    }
    found.unusual.sort_by(|a, b| b.score.total_cmp(&a.score).then(a.row.cmp(&b.row)));
    found.unusual.truncate(MOST_UNUSUAL);
    found
}

/// The last words in front of a value, at most three.
fn words_before(lead: &str) -> String {
    let bare = lead.trim_end_matches([' ', '=', ':', '"', '\'', '(', '[', '#', '@', '<']);
    let from = bare
        .rfind(|letter: char| !(letter.is_alphabetic() || matches!(letter, ' ' | '_' | '-' | '.')))
        .map_or(0, |at| at + 1);
    let words: Vec<&str> = bare.get(from..).unwrap_or_default().split_whitespace().collect();
    words[words.len().saturating_sub(3)..].join(" ")
}

/// A number, a duration in seconds, a size in bytes.
fn amount(kind: ValueKind, text: &str) -> Option<f64> {
    let end = text.find(|letter: char| !(letter.is_ascii_digit() || matches!(letter, '.' | '-'))).unwrap_or(text.len());
    let number: f64 = text.get(..end)?.parse().ok()?;
    let unit = text.get(end..)?.trim().to_ascii_lowercase();
    let scale = match kind {
        ValueKind::Number => return (unit.is_empty() || unit == "%").then_some(number),
        ValueKind::Duration => match unit.as_str() {
            "ns" => 1e-9,
            "us" | "µs" | "usec" => 1e-6,
            "ms" | "msec" | "msecs" | "millis" | "milliseconds" => 1e-3,
            "s" | "sec" | "secs" | "second" | "seconds" => 1.0,
            "m" | "min" | "mins" | "minute" | "minutes" => 60.0,
            "h" | "hour" | "hours" => 3_600.0,
            "d" | "day" | "days" => 86_400.0,
            _ => return None,
        },
        ValueKind::Size => match unit.trim_end_matches("ytes").trim_end_matches("yte") {
            "b" => 1.0,
            "k" | "kb" => 1e3,
            "kib" => 1024.0,
            "m" | "mb" => 1e6,
            "mib" => 1024.0 * 1024.0,
            "g" | "gb" => 1e9,
            "gib" => 1024.0 * 1024.0 * 1024.0,
            "t" | "tb" => 1e12,
            _ => return None,
        },
        _ => return None,
    };
    Some(number * scale)
}

/// Where nineteen of twenty lie; none of too few, or of texts that are no amounts.
fn range(place: &Place) -> Option<(f64, f64, f64)> {
    let amounts = &place.amounts;
    let good = place.count >= UsualAnalysis::LEAST_EVENTS && amounts.len() as u32 * 10 >= place.count * 9;
    let at = |part: usize| amounts.get((amounts.len() - 1) * part / 20).map(|(amount, _)| *amount);
    good.then(|| Some((at(1)?, at(10)?, at(19)?))).flatten()
}

/// Amounts that lie far beyond what nineteen of twenty have, the largest first; none where that is no exception.
fn far_off(
    place: usize,
    amounts: &[(f64, Row)],
    range: (f64, f64, f64),
    messages: &[(Row, String)],
) -> Vec<UnusualValue> {
    let beyond = amounts.iter().rev().take_while(|(amount, _)| is_far(*amount, range)).count();
    if beyond * 50 > amounts.len() {
        return Vec::new();
    }
    let told = amounts.iter().rev().take(beyond.min(MOST_UNUSUAL)).filter_map(|(amount, row)| {
        let at = messages.binary_search_by_key(row, |(row, _)| *row).ok()?;
        let message = &messages[at].1;
        let value = values(message).into_iter().nth(place)?;
        let (text, why) = (message.get(value.at)?.to_owned(), how_far(*amount, range));
        Some(UnusualValue { row: *row, place, text, why, score: amount / range.2 })
    });
    told.collect()
}

/// Whether the numbers grow with their events: those of the second half are larger than those of the first, one by one.
fn is_counter(amounts: &[(f64, Row)]) -> bool {
    let mut by_row: Vec<(Row, f64)> = amounts.iter().map(|(amount, row)| (*row, *amount)).collect();
    by_row.sort_by_key(|(row, _)| *row);
    let (first, second) = by_row.split_at(by_row.len() / 2);
    let grows = first.iter().zip(second).filter(|(before, after)| after.1 > before.1).count();
    grows * 20 > first.len() * 19
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{case, log};

    fn of(messages: impl Iterator<Item = String>) -> UsualValues {
        let messages: Vec<(Row, String)> = messages.enumerate().map(|(row, text)| (Row(row as u32), text)).collect();
        usual(&messages)
    }

    #[test]
    fn a_slow_answer_and_a_rare_user_stand_out() {
        let found = of((0..500).map(|at| {
            let (user, took) = if at == 77 { ("mona", 4_000) } else { ("keeper", 10 + at % 17) };
            format!("user '{user}' fed tank {} in {took} ms", 1 + at % 4)
        }));
        let told: Vec<(&str, &str)> = found.unusual.iter().map(|one| (one.text.as_str(), one.why.as_str())).collect();
        assert_eq!(told, [("4000 ms", "154 times what 19 of 20 have"), ("'mona'", "once in 500")]);
        assert!(found.unusual.iter().all(|one| one.row == Row(77)));
        assert_eq!(found.places[0].common, [("'keeper'".to_owned(), 499), ("'mona'".to_owned(), 1)]);
        let told: Vec<Option<String>> = found.places.iter().map(UsualPlace::sentence).collect();
        let wanted = ["user 'keeper'", "fed tank 1 to 4", "in 10ms to 26ms"];
        assert_eq!(told, wanted.map(|told| Some(told.to_owned())));
        assert_eq!(found.unlike(Row(900), "user 'keeper' fed tank 2 in 9 s")[0].1, "346 times what 19 of 20 have");
        assert_eq!((found.places[1].before.as_str(), found.places[1].different), ("fed tank", 4));
    }

    #[test]
    fn what_is_unusual_often_or_grows_is_not() {
        // One in ten takes long.
        let found = of((0..300).map(|at| format!("fed in {} ms", if at % 10 == 0 { 900 } else { 20 + at % 7 })));
        assert_eq!(found.unusual, []);
        // A counter, and identifiers.
        let found = of((0..300).map(|at| format!("frame fr-04-{at} is number {}", at * at * at)));
        assert_eq!(found.unusual, []);
        // Too few.
        let found = of((0..10).map(|at| format!("fed in {} ms", if at == 5 { 90_000 } else { 20 })));
        assert_eq!(found.unusual, []);
        assert_eq!(of(std::iter::empty()), UsualValues::default());
    }

    #[test]
    fn amounts_with_their_units() {
        for (kind, text, wanted) in [
            (ValueKind::Duration, "250 ms", Some(0.25)),
            (ValueKind::Duration, "2min", Some(120.0)),
            (ValueKind::Size, "4 KiB", Some(4096.0)),
            (ValueKind::Size, "12 bytes", Some(12.0)),
            (ValueKind::Number, "-3.5", Some(-3.5)),
            (ValueKind::Number, "12%", Some(12.0)),
            (ValueKind::Number, "0x12", None),
            (ValueKind::Path, "/a/1", None),
            (ValueKind::Duration, "5 fortnights", None),
        ] {
            assert_eq!(amount(kind, text), wanted, "{text}");
        }
    }

    #[test]
    fn of_a_pattern_of_a_case() {
        let mut text = log();
        for at in 0..60 {
            text = text.info("app", &format!("fed in {} ms", if at == 30 { 5_000 } else { 20 + at % 5 }));
        }
        let case = case(&[("gw/a.log", text.error("app", "refused").text())]);
        let view = case.view();
        let patterns = view.run(&PatternAnalysis, &Work::default()).unwrap();
        let fed = patterns.list.iter().find(|pattern| pattern.count == 60).unwrap();
        let found = view.run(&UsualAnalysis { pattern: fed.id }, &Work::default()).unwrap();
        assert_eq!((found.events, found.unusual.len(), found.unusual[0].text.as_str()), (60, 1, "5000 ms"));
        let none = UsualAnalysis { pattern: PatternId::of(b"nothing like it") };
        assert_eq!(*view.run(&none, &Work::default()).unwrap(), UsualValues::default());
    }

    proptest::proptest! {
        #[test]
        fn any_messages(messages in proptest::collection::vec("\\PC{0,60}|took [0-9]{1,20} ?[a-z%]{0,3}", 0..60)) {
            let found = of(messages.into_iter());
            for one in found.unusual {
                proptest::prop_assert!(one.place < found.places.len() && one.score.is_finite());
            }
        }
    }
}
