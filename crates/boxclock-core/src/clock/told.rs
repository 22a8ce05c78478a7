//! Moments as people tell them: "half past seven", "about 7", "this morning", "last evening".
//!
//! What [`human::moment`] reads is one moment; the rest is a stretch of time, and what fits nothing is not guessed at. English: the
//! fields of a story ask for a moment, and offer its forms.

use super::human;
use super::zone::Zone;
use super::{DAY, HOUR, MINUTE, SECOND};

/// A stretch of time, UTC nanoseconds; of one moment both are the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// Its first moment.
    pub from: i64,
    /// Its last.
    pub to: i64,
}

impl Stretch {
    /// How far a moment lies outside, in nanoseconds; 0 inside.
    pub fn apart(&self, moment: i64) -> u64 {
        if moment < self.from {
            self.from.abs_diff(moment)
        } else {
            moment.saturating_sub(self.to).max(0).unsigned_abs()
        }
    }
}

/// Parts of the day, with their hours; those of the night belong to the day before.
const PARTS: [(&str, i64, i64); 7] = [
    ("morning", 4, 12),
    ("forenoon", 8, 12),
    ("afternoon", 12, 18),
    ("evening", 17, 24),
    ("night", 21, 30),
    ("noon", 12, 12),
    ("midnight", 24, 24),
];

const NUMBERS: [&str; 13] =
    ["zero", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve"];

/// The stretch of time that a text tells, before `now` (UTC nanoseconds); `None` where it tells none.
pub fn stretch(text: &str, zone: &Zone, now: i64) -> Option<Stretch> {
    if let Ok(moment) = human::moment(text, zone, now) {
        return Some(Stretch { from: moment, to: moment });
    }
    let text = text.to_lowercase();
    let words: Vec<&str> = text
        .split(|letter: char| !(letter.is_alphanumeric() || letter == ':'))
        .filter(|word| !word.is_empty())
        .collect();
    let today = now.checked_add(i64::from(zone.offset_at(now)).checked_mul(SECOND)?)?.div_euclid(DAY);
    let at = |day: i64, of_day: i64| Some(zone.to_utc(day.checked_mul(DAY)?.checked_add(of_day)?));
    let has = |word: &str| words.contains(&word);
    let part = PARTS.iter().find(|(word, ..)| has(word));
    let is_day_before =
        has("yesterday") || has("last") && part.is_some() || words.windows(2).any(|two| two == ["day", "before"]);
    let day = if is_day_before { today.checked_sub(1)? } else { today };
    if let Some(of_day) = clock(&words) {
        // On a 12-hour clock it is the later of two, up to now; what is said of the day decides.
        let afternoon = part.is_some_and(|(_, from, _)| *from >= 12);
        let is_first_half = has("am") || has("morning");
        let halves: &[i64] = if is_first_half && (12 * HOUR..13 * HOUR).contains(&of_day) {
            &[-12]
        } else if of_day >= 12 * HOUR || is_first_half {
            &[0]
        } else if has("pm") || afternoon {
            &[12]
        } else {
            &[12, 0]
        };
        let of = |day: i64| halves.iter().filter_map(move |hours| at(day, of_day.checked_add(hours * HOUR)?));
        let moment = of(day).chain(of(day.checked_sub(1)?)).find(|moment| *moment <= now)?;
        return Some(Stretch { from: moment, to: moment });
    }
    if let Some((word, from, to)) = part {
        // The night that ends today, midnight at its end, and an evening or noon that is still to come, are of the day before.
        let has_begun = at(day, from * HOUR).is_some_and(|start| start <= now);
        let day = if (matches!(*word, "night" | "midnight") && !is_day_before) || !has_begun {
            today.checked_sub(1)?
        } else {
            day
        };
        let stretch = Stretch { from: at(day, from * HOUR)?, to: at(day, to * HOUR)?.min(now) };
        return (stretch.from <= stretch.to).then_some(stretch);
    }
    is_day_before.then(|| Some(Stretch { from: at(day, 0)?, to: at(day, DAY)?.min(now) })).flatten()
}

/// The time of day that is told in words or numbers, nanoseconds; hours of a 12-hour clock as they are said.
fn clock(words: &[&str]) -> Option<i64> {
    let number = |word: &str| -> Option<i64> {
        let said = match word {
            "quarter" => Some(15),
            "half" => Some(30),
            "twenty" => Some(20),
            _ => NUMBERS.iter().position(|known| *known == word).map(|at| at as i64),
        };
        said.or_else(|| word.parse().ok().filter(|number| (0..60).contains(number)))
    };
    let hour = |word: &str| number(word).filter(|hour| *hour <= 24 && !matches!(word, "quarter" | "half" | "twenty"));
    for (at, word) in words.iter().enumerate() {
        let before = || at.checked_sub(1).and_then(|before| number(words.get(before)?));
        let next = words.get(at.saturating_add(1)).copied();
        match *word {
            "past" => return Some(hour(next?)? * HOUR + before()? * MINUTE),
            "to" | "before" if before().is_some() && next.and_then(hour).is_some() => {
                return Some(hour(next?)? * HOUR - before()? * MINUTE);
            }
            _ => {}
        }
    }
    // A number alone is an hour, where nothing else is a number: no date, no version, no count.
    let numbers: Vec<&&str> =
        words.iter().filter(|word| word.contains(|letter: char| letter.is_ascii_digit())).collect();
    let known = |word: &str| {
        [
            "am",
            "pm",
            "o",
            "clock",
            "at",
            "about",
            "around",
            "ca",
            "circa",
            "roughly",
            "from",
            "since",
            "today",
            "yesterday",
            "this",
            "the",
        ]
        .contains(&word)
            || PARTS.iter().any(|(part, ..)| *part == word)
    };
    let mut hours = words.iter().filter_map(|word| hour(word).map(|hour| (*word, hour)));
    let (said, of_day) = hours.next()?;
    let is_alone =
        hours.next().is_none() && words.iter().all(|word| *word == said || known(word)) && numbers.len() <= 1;
    is_alone.then_some(of_day * HOUR)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_as_people_tell_them() {
        let zone = Zone::parse("+02:00").unwrap();
        let of = |text: &str| human::moment(text, &zone, i64::MAX / 2).unwrap();
        let now = of("2026-04-13 08:20");
        let told = |text: &str| stretch(text, &zone, now);
        for (text, wanted) in [
            ("2026-04-12 02:31", "2026-04-12 02:31"),
            ("half past seven", "2026-04-13 07:30"),
            ("when we opened, half past seven", "2026-04-13 07:30"),
            ("quarter to eight", "2026-04-13 07:45"),
            ("ten past 9", "2026-04-12 21:10"),
            ("about 7", "2026-04-13 07:00"),
            ("8", "2026-04-13 08:00"),
            ("7 am", "2026-04-13 07:00"),
            ("12 am", "2026-04-13 00:00"),
            ("12 pm", "2026-04-12 12:00"),
            ("11 o'clock", "2026-04-12 23:00"),
            ("this morning 7", "2026-04-13 07:00"),
            ("yesterday evening at six", "2026-04-12 18:00"),
            ("14", "2026-04-12 14:00"),
            ("midnight", "2026-04-13 00:00"),
        ] {
            let moment = of(wanted);
            assert_eq!(told(text), Some(Stretch { from: moment, to: moment }), "{text}");
        }
        for (text, from, to) in [
            ("this morning", "2026-04-13 04:00", "2026-04-13 08:20"),
            ("last evening", "2026-04-12 17:00", "2026-04-13 00:00"),
            ("yesterday evening", "2026-04-12 17:00", "2026-04-13 00:00"),
            ("last night before closing", "2026-04-12 21:00", "2026-04-13 06:00"),
            ("during the night", "2026-04-12 21:00", "2026-04-13 06:00"),
            ("in the afternoon", "2026-04-12 12:00", "2026-04-12 18:00"),
            ("the day before", "2026-04-12 00:00", "2026-04-13 00:00"),
        ] {
            assert_eq!(told(text), Some(Stretch { from: of(from), to: of(to) }), "{text}");
        }
        for text in
            ["", "before the upgrade", "always", "since 4.2", "14 days", "last month", "before 9.9?", "30 tanks"]
        {
            assert_eq!(told(text), None, "{text}");
        }
    }

    #[test]
    fn how_far_outside() {
        let stretch = Stretch { from: 10, to: 20 };
        assert_eq!([5, 10, 15, 20, 26].map(|moment| stretch.apart(moment)), [5, 0, 0, 0, 6]);
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_told_or_not(text in ".{0,40}", now in proptest::prelude::any::<i64>()) {
            if let Some(stretch) = stretch(&text, &Zone::parse("+02:00").unwrap(), now) {
                proptest::prop_assert!(stretch.from <= stretch.to);
            }
        }
    }
}
