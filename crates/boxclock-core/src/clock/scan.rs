//! The byte-level timestamp scanner of the hot path.
//!
//! Forms and their sources: ISO 8601 and RFC 3339 (date, `T` or blank, time, fraction, offset) with the separators that
//! programs really use; the `Mmm dd hh:mm:ss` of RFC 3164 section 4.1.2, also with a year; Unix epoch numbers in s, ms,
//! µs and ns told apart by their size. Nothing here allocates, and nothing can panic on any bytes.

use super::{DAY, HOUR, MINUTE, SECOND};

/// A calendar reading as it stands in a line.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Civil {
    /// Year, or 0 where none is written.
    pub year: i32,
    /// Month, 1-12, or 0 where only a time of day is written.
    pub month: u8,
    /// Day of the month, 1-31.
    pub day: u8,
    /// Hour, 0-23.
    pub hour: u8,
    /// Minute, 0-59.
    pub minute: u8,
    /// Second, 0-60; 60 is a leap second and counts as the next minute's first.
    pub second: u8,
    /// Nanoseconds of the second.
    pub nanos: u32,
    /// Seconds east of UTC, where the line says so.
    pub offset: Option<i32>,
}

/// What a line says about its time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stamp {
    /// Nothing.
    None,
    /// An instant, and the offset in seconds that was written.
    Utc(i64, i32),
    /// Civil nanoseconds (as if UTC) without zone.
    Local(i64),
    /// Civil nanoseconds in the leap year 2000, without zone and year.
    NoYear(i64),
    /// Nanoseconds since midnight, without zone and date.
    TimeOfDay(i64),
    /// Nanoseconds since the start of the system.
    Uptime(i64),
    /// A valid date that nanoseconds in 64 bits cannot hold.
    OutOfRange,
}

/// The year that stands in for a missing one; it is a leap year so that 29 February is valid.
pub const STAND_IN_YEAR: i32 = 2000;

/// Days since 1970-01-01 of a date of the proleptic Gregorian calendar.
///
/// The usual era arithmetic: the year starts in March so that the leap day is its last.
pub fn days_from_civil(year: i32, month: u8, day: u8) -> i64 {
    let month = i64::from(month);
    let year = i64::from(year) - i64::from(month <= 2);
    let era = year.div_euclid(400);
    let year_of_era = year.rem_euclid(400);
    let day_of_year = (153 * (month + if month > 2 { -3 } else { 9 }) + 2) / 5 + i64::from(day) - 1;
    era * 146_097 + year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year - 719_468
}

/// The inverse of [`days_from_civil`].
pub fn civil_from_days(days: i64) -> (i32, u8, u8) {
    let shifted = days + 719_468;
    let era = shifted.div_euclid(146_097);
    let day_of_era = shifted.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted_month = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * shifted_month + 2) / 5 + 1;
    let month = if shifted_month < 10 { shifted_month + 3 } else { shifted_month - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    (year as i32, month as u8, day as u8)
}

fn days_in_month(year: i32, month: u8) -> u8 {
    match month {
        4 | 6 | 9 | 11 => 30,
        2 if year % 4 == 0 && (year % 100 != 0 || year % 400 == 0) => 29,
        2 => 28,
        _ => 31,
    }
}

impl Civil {
    /// The calendar reading of nanoseconds since the epoch.
    pub fn from_ns(ns: i64) -> Self {
        let (year, month, day) = civil_from_days(ns.div_euclid(DAY));
        let of_day = ns.rem_euclid(DAY);
        Self {
            year,
            month,
            day,
            hour: (of_day / HOUR) as u8,
            minute: (of_day / MINUTE % 60) as u8,
            second: (of_day / SECOND % 60) as u8,
            nanos: (of_day % SECOND) as u32,
            offset: None,
        }
    }

    /// Whether there is such a day and time. A reading without year may be 29 February.
    pub fn is_valid(&self) -> bool {
        let year = if self.year == 0 { STAND_IN_YEAR } else { self.year };
        (1..=12).contains(&self.month)
            && self.day >= 1
            && self.day <= days_in_month(year, self.month)
            && self.hour < 24
            && self.minute < 60
            && self.second <= 60
    }

    /// Nanoseconds as if the reading were UTC; `None` beyond what 64 bits hold.
    pub fn to_ns(&self) -> Option<i64> {
        let year = if self.year == 0 { STAND_IN_YEAR } else { self.year };
        let days = days_from_civil(year, self.month, self.day);
        let seconds = i64::from(self.hour) * 3600 + i64::from(self.minute) * 60 + i64::from(self.second);
        (days * 86_400 + seconds).checked_mul(SECOND)?.checked_add(i64::from(self.nanos))
    }

    /// What the reading says.
    pub fn stamp(&self) -> Stamp {
        if self.month == 0 {
            return Stamp::TimeOfDay(
                i64::from(self.hour) * HOUR
                    + i64::from(self.minute) * MINUTE
                    + i64::from(self.second) * SECOND
                    + i64::from(self.nanos),
            );
        }
        let Some(ns) = self.to_ns() else { return Stamp::OutOfRange };
        match self.offset {
            Some(offset) => match ns.checked_sub(i64::from(offset) * SECOND) {
                Some(utc) => Stamp::Utc(utc, offset),
                None => Stamp::OutOfRange,
            },
            None if self.year == 0 => Stamp::NoYear(ns),
            None => Stamp::Local(ns),
        }
    }
}

/// `count` (at most 9) decimal digits at `at`.
#[inline]
pub(super) fn digits(bytes: &[u8], at: usize, count: usize) -> Option<u32> {
    let mut value = 0_u32;
    for byte in bytes.get(at..at.checked_add(count)?)? {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        value = value.wrapping_mul(10).wrapping_add(u32::from(digit));
    }
    Some(value)
}

#[inline]
pub(super) fn is_digit(bytes: &[u8], at: usize) -> bool {
    bytes.get(at).is_some_and(u8::is_ascii_digit)
}

/// Scans an ISO-like date and time at the start of `bytes` and gives it with its length in bytes.
///
/// Accepted: `2026-04-12` or `2026/04/12` or `2026.04.12` or `20260412`; then `T`, `t`, a blank, `_` or `, `; then
/// `hh:mm:ss` or `hhmmss`; then a fraction after `.`, `,` or (after seconds) `:`; then `Z`, `+hh`, `+hhmm`, `+hh:mm`,
/// the same behind one blank, or a zone word such as `UTC` or `CEST`.
pub fn iso(bytes: &[u8]) -> Option<(Civil, usize)> {
    let year = digits(bytes, 0, 4)? as i32;
    if year == 0 {
        return None;
    }
    let mark = *bytes.get(4)?;
    let (month, day, mut at) = if matches!(mark, b'-' | b'/' | b'.') {
        if *bytes.get(7)? != mark {
            return None;
        }
        (digits(bytes, 5, 2)?, digits(bytes, 8, 2)?, 10)
    } else {
        (digits(bytes, 4, 2)?, digits(bytes, 6, 2)?, 8)
    };
    match *bytes.get(at)? {
        b'T' | b't' | b' ' | b'_' => at += 1,
        b',' if bytes.get(at + 1) == Some(&b' ') => at += 2,
        _ => return None,
    }
    let mut civil = Civil { year, month: month as u8, day: day as u8, ..Civil::default() };
    at = time_of_day(bytes, at, &mut civil)?;
    at = zone_of(bytes, at, &mut civil);
    civil.is_valid().then_some((civil, at))
}

/// Scans `hh:mm:ss` or `hhmmss` with an optional fraction into `civil`; gives where it ends.
fn time_of_day(bytes: &[u8], at: usize, civil: &mut Civil) -> Option<usize> {
    let hour = digits(bytes, at, 2)?;
    let (minute, second, mut at) = if bytes.get(at + 2) == Some(&b':') {
        let minute = digits(bytes, at + 3, 2)?;
        if bytes.get(at + 5) != Some(&b':') {
            return None;
        }
        (minute, digits(bytes, at + 6, 2)?, at + 8)
    } else {
        (digits(bytes, at + 2, 2)?, digits(bytes, at + 4, 2)?, at + 6)
    };
    (civil.hour, civil.minute, civil.second) = (hour as u8, minute as u8, second as u8);
    if matches!(bytes.get(at), Some(b'.' | b',' | b':')) && is_digit(bytes, at + 1) {
        at = fraction(bytes, at + 1, civil);
    }
    if is_digit(bytes, at) { None } else { Some(at) }
}

/// Takes the digits at `at` as a fraction of the second; gives where they end. Digits beyond nanoseconds are cut.
#[inline]
pub(super) fn fraction(bytes: &[u8], at: usize, civil: &mut Civil) -> usize {
    let mut at = at;
    let mut nanos = 0_u32;
    let mut scale = 100_000_000_u32;
    while is_digit(bytes, at) {
        nanos += u32::from(bytes[at] - b'0') * scale;
        scale /= 10;
        at += 1;
    }
    civil.nanos = nanos;
    at
}

/// Scans a zone at `at`, if one stands there, into `civil`; gives where it ends.
pub(super) fn zone_of(bytes: &[u8], at: usize, civil: &mut Civil) -> usize {
    if matches!(bytes.get(at), Some(b'Z' | b'z')) && !bytes.get(at + 1).is_some_and(u8::is_ascii_alphanumeric) {
        civil.offset = Some(0);
        return at + 1;
    }
    let blank = usize::from(bytes.get(at) == Some(&b' '));
    let start = at + blank;
    match bytes.get(start) {
        Some(b'+' | b'-') => {
            if let Some((offset, end)) = numeric_offset(bytes, start, blank == 0) {
                civil.offset = Some(offset);
                return end;
            }
        }
        Some(b'A'..=b'Z') => {
            let rest = bytes.get(start..).unwrap_or_default();
            let length = rest.iter().take_while(|byte| byte.is_ascii_alphanumeric()).count();
            if let Some(offset) = rest.get(..length).and_then(zone_word) {
                civil.offset = Some(offset);
                return start + length;
            }
        }
        _ => {}
    }
    at
}

fn numeric_offset(bytes: &[u8], at: usize, hours_alone: bool) -> Option<(i32, usize)> {
    let sign = if bytes.get(at) == Some(&b'-') { -1 } else { 1 };
    let hours = digits(bytes, at + 1, 2)? as i32;
    let minutes_follow = bytes.get(at + 3) == Some(&b':') && (is_digit(bytes, at + 4) || !hours_alone);
    let (minutes, end) = if minutes_follow {
        (digits(bytes, at + 4, 2)? as i32, at + 6)
    } else if is_digit(bytes, at + 3) {
        (digits(bytes, at + 3, 2)? as i32, at + 5)
    } else if hours_alone {
        (0, at + 3)
    } else {
        return None;
    };
    // Real offsets end on a quarter of an hour; this keeps `-1234` behind a blank from being one.
    if is_digit(bytes, end) || hours > 18 || minutes > 59 || minutes % 15 != 0 {
        return None;
    }
    Some((sign * (hours * 3600 + minutes * 60), end))
}

/// Zone words that mean one offset wherever logs use them. Ambiguous ones (`CST`, `IST`, `AST`) are left out.
fn zone_word(word: &[u8]) -> Option<i32> {
    let quarters = match word {
        b"UTC" | b"GMT" | b"WET" => 0,
        b"BST" | b"CET" | b"WEST" => 4,
        b"CEST" | b"EET" => 8,
        b"EEST" | b"MSK" => 12,
        b"JST" | b"KST" => 36,
        b"EDT" => -16,
        b"EST" | b"CDT" => -20,
        b"MDT" => -24,
        b"MST" | b"PDT" => -28,
        b"PST" => -32,
        _ => return None,
    };
    Some(quarters * 900)
}

/// The zone at `at`, where a zone is known to stand: also hours alone behind a blank (`-03`), and the words of zones all over
/// the world. Gives the offset in seconds, where the zone ends, and whether its word has other meanings too: the offset is
/// then the meaning that the tz database has today for most people.
pub fn certain_zone(bytes: &[u8], at: usize) -> Option<(i32, usize, bool)> {
    let start = at + usize::from(bytes.get(at) == Some(&b' '));
    if matches!(bytes.get(start), Some(b'+' | b'-')) {
        return numeric_offset(bytes, start, true).map(|(offset, end)| (offset, end, false));
    }
    let rest = bytes.get(start..)?;
    let length = rest.iter().take_while(|byte| byte.is_ascii_uppercase()).count();
    let word = rest.get(..length)?;
    let known = zone_word(word).map(|offset| (offset, false));
    let (offset, ambiguous) = known.or_else(|| distant_zone_word(word))?;
    Some((offset, start + length, ambiguous))
}

/// Zone words of the tz database that could be other words in a log, and those with more than one meaning (`true`).
fn distant_zone_word(word: &[u8]) -> Option<(i32, bool)> {
    let (quarters, ambiguous) = match word {
        b"HST" => (-40, false),
        b"AKST" => (-36, false),
        b"AKDT" => (-32, false),
        b"NST" => (-14, false),
        b"ADT" => (-12, false),
        b"NDT" => (-10, false),
        b"WAT" => (4, false),
        b"CAT" | b"SAST" => (8, false),
        b"EAT" | b"IDT" => (12, false),
        b"PKT" => (20, false),
        b"WIB" => (28, false),
        b"WITA" | b"HKT" | b"AWST" => (32, false),
        b"WIT" => (36, false),
        b"ACST" => (38, false),
        b"AEST" => (40, false),
        b"ACDT" => (42, false),
        b"AEDT" => (44, false),
        b"NZST" => (48, false),
        b"NZDT" => (52, false),
        // North America's central time; also China's and Cuba's.
        b"CST" => (-24, true),
        // The Atlantic's; formerly also Arabia's.
        b"AST" => (-16, true),
        // India's; also Israel's and Ireland's.
        b"IST" => (22, true),
        _ => return None,
    };
    Some((quarters * 900, ambiguous))
}

/// The month of a three-letter English name, in any case.
pub(super) fn month_of(bytes: &[u8]) -> Option<u8> {
    let name = bytes.get(..3)?;
    const NAMES: &[u8; 36] = b"janfebmaraprmayjunjulaugsepoctnovdec";
    let lower = [name[0] | 32, name[1] | 32, name[2] | 32];
    NAMES.chunks_exact(3).position(|month| *month == lower).map(|index| index as u8 + 1)
}

/// Scans the date and time of RFC 3164 (`Apr 12 02:31:07`, day padded with a blank or a zero), and its common
/// variations with a year before or behind the day, a fraction, and a zone.
pub fn bsd(bytes: &[u8]) -> Option<(Civil, usize)> {
    let mut civil = Civil::default();
    let mut at = 0;
    if let Some(year) = digits(bytes, 0, 4).filter(|_| bytes.get(4) == Some(&b' ')) {
        civil.year = year as i32;
        at = 5;
    }
    civil.month = month_of(bytes.get(at..)?)?;
    if *bytes.get(at + 3)? != b' ' {
        return None;
    }
    at += 4;
    if bytes.get(at) == Some(&b' ') {
        at += 1;
    }
    let width = if is_digit(bytes, at + 1) { 2 } else { 1 };
    civil.day = digits(bytes, at, width)? as u8;
    at += width;
    if *bytes.get(at)? != b' ' {
        return None;
    }
    at += 1;
    if civil.year == 0
        && let Some(year) = digits(bytes, at, 4).filter(|_| bytes.get(at + 4) == Some(&b' '))
    {
        civil.year = year as i32;
        at += 5;
    }
    at = time_of_day(bytes, at, &mut civil)?;
    at = zone_of(bytes, at, &mut civil);
    civil.is_valid().then_some((civil, at))
}

/// Reads an epoch number, whole or with a fraction, in s, ms, µs or ns by its size.
///
/// Seconds cover 2001 to 2286 in ten digits; three, six or nine more digits are the finer units. Eighteen digits are the
/// 100-ns ticks since 1601 that Windows counts in (FILETIME of its Win32 headers), which nanoseconds are never as few of
/// since 2001; sixteen hexadecimal digits that start with `01D` are the same.
pub fn epoch(text: &[u8]) -> Option<i64> {
    let hex = text.strip_prefix(b"0x").unwrap_or(text);
    if hex.len() >= 15 && hex.iter().any(u8::is_ascii_alphabetic) {
        let digits = std::str::from_utf8(hex).ok()?;
        return filetime(i64::from_str_radix(digits, 16).ok()?);
    }
    if text.len() == 18 && text.starts_with(b"1") {
        return filetime(std::str::from_utf8(text).ok()?.parse().ok()?);
    }
    let (whole, fraction) = match text.iter().position(|byte| *byte == b'.') {
        Some(dot) => (text.get(..dot)?, text.get(dot + 1..)?),
        None => (text, &[][..]),
    };
    let scale = match whole.len() {
        9 | 10 => SECOND,
        12 | 13 => 1_000_000,
        15 | 16 => 1000,
        18 | 19 => 1,
        _ => return None,
    };
    let mut ns = std::str::from_utf8(whole).ok()?.parse::<i64>().ok().filter(|v| *v >= 0)?.checked_mul(scale)?;
    let mut unit = scale;
    for byte in fraction {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        unit /= 10;
        ns = ns.checked_add(i64::from(digit) * unit)?;
    }
    Some(ns)
}

/// UTC nanoseconds of a count of 100-ns ticks since 1601-01-01 (FILETIME); `None` outside what 64 bits hold, and for
/// times before 1980, which stand for "never".
pub fn filetime(ticks: i64) -> Option<i64> {
    const EPOCH_TICKS: i64 = 116_444_736_000_000_000;
    let ns = ticks.checked_sub(EPOCH_TICKS)?.checked_mul(100)?;
    (ns > 10 * 365 * DAY).then_some(ns)
}

#[cfg(test)]
mod tests;
