//! Times and durations as people type them, and as they read them.

use super::scan::{self, Civil};
use super::{ClockCorrection, DAY, HOUR, MINUTE, MOST_PPB, SECOND, Zone};
use crate::{Error, Result};

/// A time that somebody typed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Typed {
    /// An instant, in nanoseconds since the epoch.
    Instant(i64),
    /// A time of day without date: nanoseconds since midnight in the reader's zone.
    OfDay(i64),
    /// A day without year, `11-28 20:37`, as the rail writes it: month and day from 1, nanoseconds since midnight.
    OfYear(u8, u8, i64),
}

impl Typed {
    /// The instant meant when `near` is being looked at: a time of day is that of `near`'s day in `zone`, a day without year the
    /// nearest one.
    pub fn near(self, near: i64, zone: &Zone) -> i64 {
        match self {
            Self::Instant(ns) => ns,
            Self::OfDay(ns) => {
                let civil = near.saturating_add(i64::from(zone.offset_at(near)) * SECOND);
                zone.to_utc(civil.div_euclid(DAY).saturating_mul(DAY).saturating_add(ns))
            }
            Self::OfYear(month, day, ns) => {
                let this = zone.civil(near).year;
                let days = [this, this - 1, this + 1].into_iter().filter_map(|year| {
                    // The 29th of February is not in every year.
                    Some(zone.to_utc(midnight(year, month, day)?.saturating_add(ns)))
                });
                days.min_by_key(|time| time.abs_diff(near)).unwrap_or(near)
            }
        }
    }
}

/// Reads a time: `2026-04-12T02:31:07Z`, `2026-04-12 02:31[:07[.442]]`, `2026-04-12`, `04-12 02:31`, `02:31[:07[.442]]`.
///
/// Readings without zone are in `zone`.
///
/// # Errors
/// When the text is none of these; the message says which forms are.
pub fn time(text: &str, zone: &Zone) -> Result<Typed> {
    let trimmed = text.trim();
    parse_time(trimmed, zone).ok_or_else(|| {
        Error::new(format!(
            "\"{trimmed}\" is not a time: write 02:31, 02:31:07, 04-12 02:31, 2026-04-12, 2026-04-12 02:31 or 2026-04-12T02:31:07Z"
        ))
    })
}

fn parse_time(text: &str, zone: &Zone) -> Option<Typed> {
    if let Some(ns) = of_day(text) {
        return Some(Typed::OfDay(ns));
    }
    if let Some(typed) = of_year(text) {
        return Some(typed);
    }
    // A date alone is its midnight; a time without seconds has none.
    let mut full = text.to_owned();
    let colons = full.bytes().skip(10).filter(|byte| *byte == b':').count();
    match (full.len(), colons) {
        (10, 0) => full.push_str(" 00:00:00"),
        (16, 1) => full.push_str(":00"),
        (17, 1) if full.ends_with(['Z', 'z']) => full.insert_str(16, ":00"),
        _ => {}
    }
    let (civil, end) = scan::iso(full.as_bytes())?;
    if end != full.len() {
        return None;
    }
    let ns = civil.to_ns()?;
    Some(Typed::Instant(match civil.offset {
        Some(offset) => ns.checked_sub(i64::from(offset) * SECOND)?,
        None => zone.to_utc(ns),
    }))
}

/// Reads a moment as people say it when they report a failure: everything that [`time`] reads, `now`, `2 h ago`,
/// `yesterday 7:20`, `Wed 07:22`, `12 Apr 02:31`. What leaves the day or year open is the last such moment before `now`
/// (UTC nanoseconds).
///
/// # Errors
/// When the text is none of these; the message says which forms are.
pub fn moment(text: &str, zone: &Zone, now: i64) -> Result<i64> {
    parse_moment(&text.trim().to_ascii_lowercase(), zone, now).ok_or_else(|| {
        Error::new(format!(
            "\"{}\" is not a time: write 2026-04-12 02:31, 02:31, yesterday 7:20, Wed 07:22, 12 Apr 02:31 or 2 h ago",
            text.trim()
        ))
    })
}

fn parse_moment(text: &str, zone: &Zone, now: i64) -> Option<i64> {
    // As this program writes moments: with the name of the zone behind.
    if let Some((time, name)) = text.rsplit_once(' ')
        && text.len() > 19
        && let Ok(named) = Zone::parse(name).or_else(|_| Zone::parse(&name.to_ascii_uppercase()))
        && let Some(Typed::Instant(ns)) = parse_time(&time.to_ascii_uppercase(), &named)
    {
        return Some(ns);
    }
    if text == "now" {
        return Some(now);
    }
    if let Some(amount) = text.strip_suffix("ago") {
        let short = [("hours", "h"), ("hour", "h"), ("minutes", "m"), ("minute", "m"), ("mins", "m"), ("min", "m")];
        let more = [("seconds", "s"), ("second", "s"), ("secs", "s"), ("sec", "s"), ("days", "d"), ("day", "d")];
        let words =
            short.into_iter().chain(more).fold(amount.to_owned(), |text, (word, unit)| text.replace(word, unit));
        return now.checked_sub(parse_duration(&words)?);
    }
    let today = now.checked_add(i64::from(zone.offset_at(now)).checked_mul(SECOND)?)?.div_euclid(DAY);
    let at = |day: i64, of_day: i64| Some(zone.to_utc(day.checked_mul(DAY)?.checked_add(of_day)?));
    match parse_time(&text.to_ascii_uppercase(), zone) {
        Some(Typed::Instant(ns)) => return Some(ns),
        Some(Typed::OfDay(ns)) => {
            return [today, today - 1].into_iter().filter_map(|day| at(day, ns)).find(|ns| *ns <= now);
        }
        Some(typed @ Typed::OfYear(..)) => {
            let ns = typed.near(now, zone);
            let ns = if ns <= now { ns } else { typed.near(ns.checked_sub(366 * DAY)?, zone) };
            // A 29th of February may have none before it that is near.
            return Some(ns).filter(|ns| *ns <= now);
        }
        None => {}
    }
    let mut words: Vec<&str> = text.split([' ', ',']).filter(|word| !word.is_empty() && *word != "at").collect();
    let last = *words.last()?;
    let clock = of_day(last);
    if clock.is_some() {
        words.pop();
    }
    let ns = clock.unwrap_or(0);
    match words.as_slice() {
        ["today"] => at(today, ns),
        ["yesterday"] => at(today - 1, ns),
        [day] if clock.is_some() => {
            let names = ["thu", "fri", "sat", "sun", "mon", "tue", "wed"];
            // The epoch was a Thursday.
            let wanted = names.iter().position(|name| day.starts_with(name))? as i64;
            (0..=7)
                .map(|back| today - back)
                .filter(|day| day.rem_euclid(7) == wanted)
                .find_map(|day| at(day, ns).filter(|ns| *ns <= now))
        }
        [a, b, more @ ..] if more.len() < 2 => {
            const MONTHS: [&str; 12] =
                ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
            let month = |word: &str| MONTHS.iter().position(|name| word.starts_with(name));
            let (month, day) = match (month(a), month(b)) {
                (Some(month), None) => (month, b),
                (None, Some(month)) => (month, a),
                _ => return None,
            };
            let day: u8 = day.trim_end_matches(['.', 't', 'h', 's', 'n', 'd', 'r']).parse().ok()?;
            let said = match more {
                [year] => Some(year.parse::<i32>().ok().filter(|year| (1970..2200).contains(year))?),
                _ => None,
            };
            let this = zone.civil(now).year;
            [said.unwrap_or(this), said.unwrap_or(this - 1)].into_iter().find_map(|year| {
                let midnight = midnight(year, month as u8 + 1, day)?;
                Some(zone.to_utc(midnight.checked_add(ns)?)).filter(|ns| said.is_some() || *ns <= now)
            })
        }
        _ => None,
    }
}

/// Length of the year that days without a year are counted in: one that has all days.
pub const LEAP_YEAR: i64 = 366 * DAY;

/// Nanoseconds from the start of a leap year to a time of a day without year; `None` where there is no such day.
pub fn of_leap_year(month: u8, day: u8, ns: i64) -> Option<i64> {
    Some(midnight(YEAR_OF_ALL_DAYS, month, day)? - midnight(YEAR_OF_ALL_DAYS, 1, 1)? + ns)
}

/// Any leap year: it has every day that there is.
const YEAR_OF_ALL_DAYS: i32 = 2024;

/// The start of a day, by its own clock; `None` where the year has no such day.
fn midnight(year: i32, month: u8, day: u8) -> Option<i64> {
    let civil = Civil { year, month, day, hour: 0, minute: 0, second: 0, nanos: 0, offset: None };
    civil.is_valid().then(|| civil.to_ns()).flatten()
}

/// `04-12 02:31`: month and day are in the order of the rail and of whole dates.
fn of_year(text: &str) -> Option<Typed> {
    let (date, clock) = text.split_once([' ', 'T'])?;
    let (month, day) = date.split_once('-')?;
    let (month, day) = (short_number(month)? as u8, short_number(day)? as u8);
    midnight(YEAR_OF_ALL_DAYS, month, day)?;
    Some(Typed::OfYear(month, day, of_day(clock.trim_start())?))
}

/// `7:20`, `02:31:07.442` as nanoseconds since midnight.
fn of_day(text: &str) -> Option<i64> {
    let mut parts = text.split(':');
    let hour = short_number(parts.next()?)?;
    let minute = short_number(parts.next()?)?;
    let (second, fraction) = match parts.next() {
        None => (0, 0),
        Some(part) => {
            let (whole, fraction) = part.split_once(['.', ',']).unwrap_or((part, "0"));
            if fraction.is_empty() || fraction.len() > 9 {
                return None;
            }
            let digits = fraction.bytes().all(|byte| byte.is_ascii_digit());
            let padded = format!("{fraction:0<9}");
            (short_number(whole)?, digits.then(|| padded.parse::<i64>().ok()).flatten()?)
        }
    };
    let good = parts.next().is_none() && hour < 24 && minute < 60 && second < 60;
    good.then_some(hour * HOUR + minute * MINUTE + second * SECOND + fraction)
}

fn short_number(text: &str) -> Option<i64> {
    let good = (1..=2).contains(&text.len()) && text.bytes().all(|byte| byte.is_ascii_digit());
    good.then(|| text.parse().ok()).flatten()
}

/// Reads a duration: `5m`, `1h30m`, `-6m41s`, `+250ms`, `2d`, `1.5h`, in nanoseconds.
///
/// # Errors
/// When the text is none, or is beyond 292 years.
pub fn duration(text: &str) -> Result<i64> {
    parse_duration(text).ok_or_else(|| {
        Error::new(format!("\"{text}\" is not a duration: write for example 10m, 90s, 1h30m, 250ms or -6m41s"))
    })
}

/// Reads how long something may take or reach: a [`duration`] that is not negative.
///
/// # Errors
/// When the text is no duration, or a negative one.
pub fn length(text: &str) -> Result<std::time::Duration> {
    let ns = u64::try_from(duration(text)?);
    let ns = ns.map_err(|_| Error::new(format!("\"{text}\" is negative: write how long, for example 10m")))?;
    Ok(std::time::Duration::from_nanos(ns))
}

/// Reads a clock correction: a duration, perhaps with a rate and the moment from which it counts,
/// `-6m41s` or `+2s,20ppm@2026-04-12T02:00:00Z`.
///
/// # Errors
/// When the text is neither.
pub fn drift(text: &str) -> Result<ClockCorrection> {
    let Some((amount, rest)) = text.split_once(',') else { return Ok(duration(text)?.into()) };
    let wrong = || Error::new(format!("\"{rest}\" is not a rate: write for example 20ppm@2026-04-12T02:00:00Z"));
    let (rate, since) = rest.split_once('@').ok_or_else(wrong)?;
    let ppm: f64 = rate.trim().strip_suffix("ppm").and_then(|rate| rate.trim().parse().ok()).ok_or_else(wrong)?;
    let rate_ppb = (ppm * 1000.0).round();
    if rate_ppb.is_nan() || rate_ppb.abs() > MOST_PPB as f64 {
        return Err(wrong());
    }
    let Typed::Instant(since) = time(since, &Zone::utc())? else { return Err(wrong()) };
    Ok(ClockCorrection { add_ns: duration(amount)?, rate_ppb: rate_ppb as i64, since })
}

/// A clock correction for people, as [`drift`] reads it.
pub fn drift_text(drift: ClockCorrection) -> String {
    let amount = duration_text(drift.add_ns);
    if drift.rate_ppb == 0 {
        return amount;
    }
    format!("{amount},{}ppm@{}", drift.rate_ppb as f64 / 1000.0, super::to_rfc3339(drift.since))
}

fn parse_duration(text: &str) -> Option<i64> {
    let plain = text.trim().replace('\u{2212}', "-").replace(' ', "");
    let (sign, mut rest) = match plain.strip_prefix('-') {
        Some(rest) => (-1.0, rest),
        None => (1.0, plain.strip_prefix('+').unwrap_or(&plain)),
    };
    if rest.is_empty() {
        return None;
    }
    let mut total = 0.0_f64;
    while !rest.is_empty() {
        let number_end = rest.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(rest.len());
        let (number, tail) = rest.split_at(number_end);
        let unit_end = tail.find(|c: char| c.is_ascii_digit()).unwrap_or(tail.len());
        let (unit, tail) = tail.split_at(unit_end);
        let scale = match unit {
            "ns" => 1,
            "us" | "µs" => 1000,
            "ms" => 1_000_000,
            "s" | "sec" => SECOND,
            "m" | "min" => MINUTE,
            "h" => HOUR,
            "d" => DAY,
            _ => return None,
        };
        total += number.parse::<f64>().ok()? * scale as f64;
        rest = tail;
    }
    (total < 9.2e18).then_some((sign * total.round()) as i64)
}

/// A duration for people: `6m41s`, `1h02m`, `3d4h`, `250ms`; a minus sign in front where it is negative.
pub fn duration_text(ns: i64) -> String {
    let sign = if ns < 0 { "\u{2212}" } else { "" };
    let abs = ns.unsigned_abs() as i64;
    let text = match abs {
        0 => "0s".to_owned(),
        _ if abs < 1_000_000 => format!("{}\u{b5}s", abs / 1000),
        _ if abs < SECOND => format!("{}ms", abs / 1_000_000),
        _ if abs < MINUTE && abs % SECOND != 0 => format!("{}.{:03}s", abs / SECOND, abs % SECOND / 1_000_000),
        _ if abs < MINUTE => format!("{}s", abs / SECOND),
        _ if abs < HOUR && abs % MINUTE / SECOND == 0 => format!("{}m", abs / MINUTE),
        _ if abs < HOUR => format!("{}m{:02}s", abs / MINUTE, abs % MINUTE / SECOND),
        _ if abs < DAY => format!("{}h{:02}m", abs / HOUR, abs % HOUR / MINUTE),
        _ => format!("{}d{}h", abs / DAY, abs % DAY / HOUR),
    };
    format!("{sign}{text}")
}

/// `2026-04-12 04:31:07.442` in `zone`, to the millisecond.
pub fn date_time(utc_ns: i64, zone: &Zone) -> String {
    let Civil { year, month, day, hour, minute, second, nanos, .. } = zone.civil(utc_ns);
    format!("{year:04}-{month:02}-{day:02} {hour:02}:{minute:02}:{second:02}.{:03}", nanos / 1_000_000)
}

/// `04:31:07.442` in `zone`, to the millisecond.
pub fn time_of_day(utc_ns: i64, zone: &Zone) -> String {
    date_time(utc_ns, zone).split_off(11)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn zone() -> Zone {
        Zone::parse("+02:00").unwrap()
    }

    #[test]
    fn times_as_people_type_them() {
        let instant = Typed::Instant(1_775_961_060 * SECOND);
        for text in ["2026-04-12 04:31", "2026-04-12T02:31Z", "2026-04-12 04:31:00", "2026-04-12T02:31:00Z"] {
            assert_eq!(time(text, &zone()).unwrap(), instant, "{text}");
        }
        assert_eq!(time("7:20", &zone()).unwrap(), Typed::OfDay(7 * HOUR + 20 * MINUTE));
        assert_eq!(
            time("02:31:07.442", &zone()).unwrap(),
            Typed::OfDay(2 * HOUR + 31 * MINUTE + 7 * SECOND + 442_000_000)
        );
        let of_year = time("04-12 02:31", &zone()).unwrap();
        assert_eq!(of_year, Typed::OfYear(4, 12, 2 * HOUR + 31 * MINUTE));
        assert_eq!(date_time(of_year.near(1_775_961_067 * SECOND, &zone()), &zone()), "2026-04-12 02:31:00.000");
        let leap = time("02-29 00:00", &zone()).unwrap();
        assert_eq!(date_time(leap.near(1_740_787_200 * SECOND, &zone()), &zone()), "2024-02-29 00:00:00.000");
        for text in
            ["", "25:00", "2:", "02:31x", "2026-04-31", "soon", "1:2:3:4", "2:3:4.", "13-01 02:31", "02-30 02:31"]
        {
            assert!(time(text, &zone()).is_err(), "{text}");
        }
    }

    #[test]
    fn moments_as_people_say_them() {
        // Sunday, 2026-04-12 06:05 in this zone.
        let now = 1_775_966_700 * SECOND;
        for (text, shown) in [
            ("now", "2026-04-12 06:05:00.000"),
            ("2 h ago", "2026-04-12 04:05:00.000"),
            ("90 minutes ago", "2026-04-12 04:35:00.000"),
            ("yesterday 7:20", "2026-04-11 07:20:00.000"),
            ("today at 02:31", "2026-04-12 02:31:00.000"),
            ("Wed 07:22", "2026-04-08 07:22:00.000"),
            ("wednesday at 07:22", "2026-04-08 07:22:00.000"),
            ("Sun 05:00", "2026-04-12 05:00:00.000"),
            ("Sun 07:00", "2026-04-05 07:00:00.000"),
            ("04:31:07.442", "2026-04-12 04:31:07.442"),
            ("04-12 02:31", "2026-04-12 02:31:00.000"),
            ("11-28 20:37", "2025-11-28 20:37:00.000"),
            ("23:10", "2026-04-11 23:10:00.000"),
            ("12 Apr 02:31", "2026-04-12 02:31:00.000"),
            ("April 13th, 02:31", "2025-04-13 02:31:00.000"),
            ("13 Apr 2026 02:31", "2026-04-13 02:31:00.000"),
            ("2026-04-12T02:31:07Z", "2026-04-12 04:31:07.000"),
            ("2026-04-12 02:31:07 +00:00", "2026-04-12 04:31:07.000"),
        ] {
            let ns = moment(text, &zone(), now).unwrap_or_else(|error| panic!("{text}: {error}"));
            assert_eq!(date_time(ns, &zone()), shown, "{text}");
        }
        for text in ["", "soon", "ago", "x ago", "31 Feb 02:00", "yesterday morning", "Wed", "1 2 3 4"] {
            assert!(moment(text, &zone(), now).is_err(), "{text}");
        }
    }

    #[test]
    fn a_time_of_day_is_on_the_day_in_view() {
        let near = 1_775_961_067 * SECOND;
        assert_eq!(date_time(Typed::OfDay(HOUR).near(near, &zone()), &zone()), "2026-04-12 01:00:00.000");
    }

    #[test]
    fn durations() {
        for (text, ns) in [
            ("5m", 5 * MINUTE),
            ("-6m41s", -(6 * MINUTE + 41 * SECOND)),
            ("\u{2212}6m 41s", -(6 * MINUTE + 41 * SECOND)),
            ("1h30m", 90 * MINUTE),
            ("1.5h", 90 * MINUTE),
            ("+250ms", SECOND / 4),
            ("2d", 2 * DAY),
        ] {
            assert_eq!(duration(text).unwrap(), ns, "{text}");
        }
        for text in ["", "-", "5", "m", "5 parsecs", "9999999999d", "1..5h"] {
            assert!(duration(text).is_err(), "{text}");
        }
    }

    #[test]
    fn durations_for_people() {
        let texts = [0, 1_500_000, -401 * SECOND, 3_720 * SECOND, 100 * HOUR, 3_120_000_000].map(duration_text);
        assert_eq!(texts, ["0s", "1ms", "\u{2212}6m41s", "1h02m", "4d4h", "3.120s"]);
    }
}
