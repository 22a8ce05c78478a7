//! Values that change for good: a number that is another from some moment on, a value that is new and then comes again and again.

use std::collections::{HashMap, HashSet};

use serde_json::Value;

use crate::clock::{DAY, HOUR, MINUTE};
use crate::format::Record;

/// Different values up to which a column is a choice among few.
const FEW: usize = 24;

/// A value of a message: where it stands, and what it is.
pub(super) type Slot = (String, String);

/// The values of a message: its words by their place, `key=value` by the key, and its attributes by name.
pub(super) fn slots(record: &Record, is_meant: impl Fn(&str) -> bool) -> Vec<Slot> {
    let mut slots = Vec::new();
    let line = record.body.lines().next().unwrap_or_default();
    for (at, word) in line.split_whitespace().take(24).enumerate() {
        let (key, value) =
            word.split_once('=').map_or_else(|| (format!("@{at}"), word), |(key, value)| (bare(key).to_owned(), value));
        slots.push((key, bare(value).to_owned()));
    }
    for (name, value) in record.attributes.iter().filter(|(name, _)| is_meant(name)).take(20) {
        match value {
            Value::Object(inner) => {
                slots.extend(inner.iter().map(|(part, value)| (format!("{name}.{part}"), text_of(value))));
            }
            Value::String(_) | Value::Number(_) => slots.push((name.clone(), text_of(value))),
            _ => {}
        }
    }
    slots
}

/// A word without what stands around it.
fn bare(word: &str) -> &str {
    word.trim_matches(|letter: char| "()[]{},;:.\"%<>'".contains(letter))
}

fn text_of(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// A number with or without a usual unit.
fn number(text: &str) -> Option<f64> {
    let digits = text.trim_end_matches(|letter: char| letter.is_ascii_alphabetic() || letter == '%');
    let unit = &text[digits.len()..];
    (matches!(unit, "" | "ms" | "s" | "%" | "h" | "MB" | "KiB" | "GiB") && !digits.is_empty())
        .then(|| digits.parse().ok())
        .flatten()
}

/// A change for good.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Shift {
    /// The first message after it, by its place in what was looked at.
    pub at: usize,
    /// What changed, in words.
    pub what: String,
    /// The value's name.
    key: String,
    /// Values that stood there before.
    before: HashSet<String>,
}

impl Shift {
    /// Whether a message is one of those after the change.
    pub(super) fn is_after(&self, slots: &[Slot]) -> bool {
        slots.iter().any(|(key, value)| *key == self.key && !self.before.contains(value))
    }
}

/// The changes for good among messages of one kind from one log, in order of time; at most two.
pub(super) fn shifts(messages: &[Vec<Slot>]) -> Vec<Shift> {
    if messages.len() < 12 {
        return Vec::new();
    }
    let mut columns: HashMap<&str, Vec<(usize, &str)>> = HashMap::new();
    for (at, slots) in messages.iter().enumerate() {
        for (key, value) in slots {
            columns.entry(key).or_default().push((at, value));
        }
    }
    let mut names: Vec<&str> = columns.keys().copied().collect();
    names.sort_unstable();
    let mut found = Vec::new();
    for name in names {
        let column = &columns[name];
        if column.len() * 10 < messages.len() * 9 {
            continue;
        }
        let shift = |(place, words): (usize, String)| Shift {
            at: column[place].0,
            what: words,
            key: name.to_owned(),
            before: column[..place].iter().map(|(_, value)| (*value).to_owned()).collect(),
        };
        let numbers: Option<Vec<f64>> = column.iter().map(|(_, value)| number(value)).collect();
        let label = if name.starts_with('@') { "the value" } else { name };
        let of_numbers = numbers.as_ref().and_then(|numbers| level(numbers));
        let place = of_numbers.map(|place| {
            let mut first: Vec<f64> = numbers.iter().flatten().copied().take(place).collect();
            first.sort_by(f64::total_cmp);
            let usual = first.get(first.len() / 2).copied().unwrap_or_default();
            (place, format!("{label} had been about {usual} and is {} from here on", column[place].1))
        });
        let place = place.or_else(|| {
            // A word by its place alone is seldom a value: loggers and names come and go.
            let (place, value) = novelty(column).filter(|_| !name.starts_with('@'))?;
            Some((place, format!("{label} {value} is new here, and comes again and again")))
        });
        found.extend(place.map(shift));
        if found.len() == 2 {
            break;
        }
    }
    found
}

/// Messages of which a handful tells what is usual.
pub(super) const FEWEST_USUAL: usize = 3;

/// What is different in the last of a few messages of one kind, as of a job that runs once a day: a setting or word behind a name that
/// was always the same, or a number far outside all before. `None` where the ones before differ among themselves, or are fewer than
/// `fewest`.
///
/// Gives with it whether it is a setting: a word, and no number.
pub(super) fn last_differs(messages: &[Vec<Slot>], fewest: usize) -> Option<(String, bool)> {
    let (last, before) = messages.split_last()?;
    if before.len() < fewest {
        return None;
    }
    for (key, value) in last.iter().filter(|(_, value)| !value.is_empty()) {
        let of_key = |slots: &'_ Vec<Slot>| slots.iter().position(|(other, _)| other == key);
        let values: Option<Vec<&str>> = before.iter().map(|slots| Some(slots[of_key(slots)?].1.as_str())).collect();
        let Some(values) = values else { continue };
        let is_named = !key.starts_with('@');
        let label = if is_named { key.as_str() } else { "the value" };
        let says = |usual: &str| format!("{label} is {value}, and was {usual} the {} times before", before.len());
        let numbers: Option<Vec<f64>> = values.iter().map(|value| number(value)).collect();
        if let (Some(numbers), Some(now)) = (numbers, number(value)) {
            let (low, high) = numbers
                .iter()
                .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), number| (low.min(*number), high.max(*number)));
            // Three times what it ever was, or a third, where it hardly moved before; counters only grow.
            let is_steady = low > 0.0 && high <= 2.0 * low;
            let is_far = now > FAR * high || now >= 0.0 && now * FAR < low;
            if is_steady && is_far && now.max(high) >= NOT_SMALL {
                return Some((says(values[values.len() - 1]), false));
            }
            continue;
        }
        let same = values.iter().all(|other| *other == values[0]);
        if is_named && same && value != values[0] && !values[0].is_empty() {
            return Some((says(values[0]), true));
        }
    }
    None
}

/// How often a number is what it was before, or the other way round, to be another one; and how large one of the two is at least.
const FAR: f64 = 3.0;
const NOT_SMALL: f64 = 10.0;

/// What a message says itself of a number that was quite another before: `highest=899 previous_highest=89900`.
pub(super) fn differs_from_its_own_past(slots: &[Slot]) -> Option<String> {
    const MARKS: [&str; 7] = ["previous", "prev", "old", "before", "last", "was", "former"];
    let past = |name: &str| {
        let mut parts: Vec<&str> = name.split(['_', '-', '.']).collect();
        let count = parts.len();
        parts.retain(|part| !MARKS.contains(part));
        (parts.len() + 1 == count && count > 1).then(|| parts.join("_"))
    };
    slots.iter().find_map(|(name, value)| {
        let (of, then) = (past(name)?, number(value)?);
        let (_, value) = slots.iter().find(|(other, _)| other.replace(['-', '.'], "_") == of)?;
        let now = number(value)?;
        let is_far = now >= 0.0 && then >= 0.0 && (now > FAR * then || then > FAR * now) && now.max(then) >= NOT_SMALL;
        is_far.then(|| format!("{of} is {now}, and by its own words was {then} before"))
    })
}

/// How much later (or earlier, below zero) the last of some moments comes than those before it, which all came at one time of the day, a
/// day or more apart. Nanoseconds; `None` where there is no such time.
pub(super) fn moved_in_day(times: &[i64]) -> Option<i64> {
    let (last, before) = times.split_last()?;
    if before.len() < 2 || times.windows(2).any(|pair| pair[1].saturating_sub(pair[0]) < 18 * HOUR) {
        return None;
    }
    // Around the clock: half a day back to half a day ahead of the first.
    let first = before[0].rem_euclid(DAY);
    let around = |time: &i64| (time.rem_euclid(DAY) - first + DAY / 2).rem_euclid(DAY) - DAY / 2;
    let (low, high) = before.iter().map(around).fold((0, 0), |(low, high), at| (low.min(at), high.max(at)));
    let moved = around(last);
    // Two tell little, unless they came at the same minute.
    let is_usual = high - low <= if before.len() < FEWEST_USUAL { MINUTE } else { 15 * MINUTE };
    let far = if moved > high { moved - high } else { low - moved };
    (is_usual && far >= 25 * MINUTE).then_some(moved)
}

/// Where all numbers from some place on are clearly higher, or lower, than all before. Counters are none.
fn level(numbers: &[f64]) -> Option<usize> {
    let count = numbers.len();
    let steps =
        |up: bool| numbers.windows(2).filter(|pair| if up { pair[1] > pair[0] } else { pair[1] < pair[0] }).count();
    if steps(true) * 10 > count * 8 || steps(false) * 10 > count * 8 {
        return None;
    }
    // Lowest and highest of all from each place on.
    let mut after = vec![(f64::INFINITY, f64::NEG_INFINITY); count + 1];
    for at in (0..count).rev() {
        after[at] = (after[at + 1].0.min(numbers[at]), after[at + 1].1.max(numbers[at]));
    }
    let mut before = (f64::INFINITY, f64::NEG_INFINITY);
    for at in 0..count.saturating_sub(3) {
        if at >= 6 {
            let (low, high) = after[at];
            let (falls, rises) = (high < before.0, low > before.1);
            if falls || rises {
                let (from, to) = if falls { (before.0, high) } else { (low, before.1) };
                let ratio = (from + 0.5) / (to + 0.5);
                if ratio.abs() >= 1.5 || (from - to).abs() > 2.0 * (before.1 - before.0 + 1.0) {
                    return Some(at);
                }
            }
        }
        before = (before.0.min(numbers[at]), before.1.max(numbers[at]));
    }
    None
}

/// A value among few that is new and then comes as often as it would have come before.
fn novelty<'a>(column: &[(usize, &'a str)]) -> Option<(usize, &'a str)> {
    let mut seen: HashMap<&str, (usize, usize)> = HashMap::new();
    for (place, (_, value)) in column.iter().enumerate() {
        seen.entry(value).or_insert((place, 0)).1 += 1;
        if seen.len() > FEW {
            return None;
        }
    }
    let is_new = |first: usize, count: usize| {
        let rate = count as f64 / (column.len() - first) as f64;
        first >= 8 && count >= 4 && rate * first as f64 > 6.0
    };
    let mut new: Vec<(usize, &str)> = seen
        .iter()
        .filter(|(_, (first, count))| is_new(*first, *count))
        .map(|(value, (first, _))| (*first, *value))
        .collect();
    new.sort_unstable();
    new.first().map(|(place, _)| (*place, column[*place].1))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn messages(values: impl IntoIterator<Item = String>) -> Vec<Vec<Slot>> {
        values.into_iter().map(|value| vec![("limit".to_owned(), value)]).collect()
    }

    #[test]
    fn a_limit_that_is_lower_from_here_on() {
        let limits = (0..40).map(|at| if at < 25 { 590 + at % 7 } else { 60 }.to_string());
        let found = shifts(&messages(limits));
        assert_eq!((found.len(), found[0].at), (1, 25), "{found:?}");
        assert!(found[0].what.contains("limit had been about 593"), "{found:?}");
        assert!(
            found[0].is_after(&[("limit".into(), "60".into())])
                && !found[0].is_after(&[("limit".into(), "592".into())])
        );
    }

    #[test]
    fn a_value_that_is_new_and_stays() {
        let tags =
            (0..60).map(|at| if at > 30 && at % 2 == 0 { "14".to_owned() } else { ["7", "x"][at % 3 % 2].to_owned() });
        let found = shifts(&messages(tags));
        assert_eq!(found.iter().map(|shift| shift.at).collect::<Vec<_>>(), [32]);
    }

    #[test]
    fn the_last_of_a_few_differs() {
        let of = |values: &[&str]| {
            last_differs(&messages(values.iter().map(|value| (*value).to_owned())), FEWEST_USUAL).map(|(what, _)| what)
        };
        assert_eq!(of(&["C", "C", "C", "fi_FI"]).as_deref(), Some("limit is fi_FI, and was C the 3 times before"));
        assert_eq!(of(&["900", "880", "910", "9"]).as_deref(), Some("limit is 9, and was 910 the 3 times before"));
        assert_eq!(of(&["900", "880", "910", "1200"]), None, "within what happens");
        assert_eq!(of(&["900", "20", "910", "9"]), None, "it moves all the time");
        assert_eq!(of(&["C", "D", "C", "fi_FI"]), None, "it differs all the time");
        assert_eq!(of(&["C", "C", "fi_FI"]), None, "too few");
    }

    #[test]
    fn a_message_that_says_what_was_before() {
        let of = |pairs: &[(&str, &str)]| {
            let slots: Vec<Slot> = pairs.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect();
            differs_from_its_own_past(&slots)
        };
        let said = of(&[("rows", "4211"), ("highest", "899"), ("previous_highest", "89900")]);
        assert_eq!(said.as_deref(), Some("highest is 899, and by its own words was 89900 before"));
        assert!(of(&[("pool.size", "4"), ("pool.size.old", "64")]).is_some());
        assert_eq!(of(&[("highest", "899"), ("previous_highest", "910")]), None, "near");
        assert_eq!(of(&[("free", "1"), ("last_free", "4")]), None, "small");
        assert_eq!(of(&[("last", "1000"), ("now", "1")]), None, "of nothing");
        assert_eq!(of(&[("lowest", "1"), ("previous_highest", "1000")]), None, "of another");
    }

    #[test]
    fn a_job_comes_at_another_time_of_the_day() {
        let day = |days: i64, minutes: i64| days * DAY + 23 * HOUR + minutes * MINUTE;
        assert_eq!(moved_in_day(&[day(1, 50), day(2, 50), day(3, 51), day(4, 170)]), Some(2 * HOUR));
        assert_eq!(moved_in_day(&[day(1, 50), day(2, 50), day(3, 51), day(4, -10)]), Some(-HOUR));
        assert_eq!(moved_in_day(&[day(1, 50), day(2, 90), day(3, 51), day(4, 170)]), None, "at any time");
        assert_eq!(moved_in_day(&[day(1, 50), day(2, 50), day(3, 170)]), Some(2 * HOUR));
        assert_eq!(moved_in_day(&[day(1, 50), day(2, 55), day(3, 170)]), None, "too few for what differs by minutes");
        assert_eq!(moved_in_day(&[day(1, 50), day(1, 51), day(3, 51), day(4, 170)]), None, "not once a day");
    }

    #[test]
    fn counters_and_noise_do_not_shift() {
        assert_eq!(shifts(&messages((0..100).map(|at| (at * 3).to_string()))), []);
        assert_eq!(shifts(&messages((0..100).map(|at| (at * 7919 % 101).to_string()))), []);
        assert_eq!(shifts(&messages((0..8).map(|at| at.to_string()))), [], "too few");
    }
}
