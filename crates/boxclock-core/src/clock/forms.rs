//! The many other ways in which programs write a date and a time, for files that do not use the forms of [`super::scan`].
//!
//! Day, month and year in any order and with any usual separator, two-digit years, month names of the usual languages,
//! 12-hour clocks, time of day alone, epoch numbers. Which of two numbers is the day is decided for a whole file, see
//! [`Evidence`]. Sources: strftime(3) and its `%x %X %c` in the locales of the C library, RFC 5322 section 3.3, the
//! date formats of the Unicode CLDR for the languages in [`MONTHS`]; two-digit years as POSIX `%y` reads them.

use std::cell::RefCell;

use super::scan::{self, Civil, digits, is_digit, zone_of};
use super::{SECOND, Zone};

/// The order of the numbers of a date that is written in numbers only.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[repr(u8)]
pub enum DateOrder {
    /// 12/04/2026 is 12 April.
    #[default]
    DayFirst = 0,
    /// 04/12/2026 is 12 April.
    MonthFirst = 1,
    /// 26/04/12 is 12 April 2026.
    YearFirst = 2,
}

impl DateOrder {
    /// All of them, the most usual first.
    pub const ALL: [Self; 3] = [Self::DayFirst, Self::MonthFirst, Self::YearFirst];

    /// The inverse of `self as u8`.
    pub fn from_bits(bits: u16) -> Self {
        match bits & 3 {
            1 => Self::MonthFirst,
            2 => Self::YearFirst,
            _ => Self::DayFirst,
        }
    }

    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            Self::DayFirst => "day-first",
            Self::MonthFirst => "month-first",
            Self::YearFirst => "year-first",
        }
    }

    /// The order of a name.
    pub fn parse(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|order| order.name() == name)
    }
}

/// A date and time in any form but a time of day alone, at the start of `bytes`, with its length in bytes.
pub fn dated(bytes: &[u8], order: DateOrder) -> Option<(Civil, usize)> {
    if let Some(found) = scan::iso(bytes).filter(|(_, end)| !meridiem_follows(bytes, *end)) {
        return Some(found);
    }
    let mut civil = Civil::default();
    let mut at = weekday(bytes);
    let first = *bytes.get(at)?;
    if first.is_ascii_digit() {
        at = numeric_date(bytes, at, order, &mut civil)
            .or_else(|| day_month_name(bytes, at, &mut civil))
            .or_else(|| year_first_date(bytes, at, &mut civil))?;
        at = separator(bytes, at)?;
        at = clock(bytes, at, &mut civil)?;
    } else {
        at = month_name_day(bytes, at, &mut civil)?;
    }
    at = zone_of(bytes, at, &mut civil);
    if civil.offset.is_none() && civil.year != 0 {
        at = place_of_zone(bytes, at, &mut civil);
    }
    if civil.year == 0 {
        // `Sun Apr 12 02:31:07 CEST 2026`: the year is last, and what stands before it is a zone.
        if civil.offset.is_none() {
            at = zone_before_year(bytes, at, &mut civil);
        }
        let year = at + usize::from(bytes.get(at) == Some(&b' '));
        civil.year = digits(bytes, year, 4)? as i32;
        at = year + 4;
    }
    civil.is_valid().then_some((civil, at))
}

/// Reads a place of the tz database in front of a closing bracket: `[12-Apr-2026 02:31:07 Europe/Lisbon]`.
fn place_of_zone(bytes: &[u8], at: usize, civil: &mut Civil) -> usize {
    const LONGEST: usize = 40;
    let rest = bytes.get(at + 1..).unwrap_or_default();
    if bytes.get(at) != Some(&b' ') || !rest.first().is_some_and(u8::is_ascii_uppercase) {
        return at;
    }
    let is_of_name = |byte: &&u8| byte.is_ascii_alphanumeric() || matches!(byte, b'/' | b'_' | b'-' | b'+');
    let length = rest.iter().take(LONGEST).take_while(is_of_name).count();
    let Some(name) = rest.get(..length).and_then(|name| str::from_utf8(name).ok()) else { return at };
    if !name.contains('/') || rest.get(length) != Some(&b']') {
        return at;
    }
    let Some(local) = civil.to_ns() else { return at };
    // A file has one zone: the last that was asked for is the next.
    thread_local! {
        static LAST: RefCell<Option<(String, Option<Zone>)>> = const { RefCell::new(None) };
    }
    let offset = LAST.with_borrow_mut(|last| {
        if last.as_ref().is_none_or(|(known, _)| known != name) {
            *last = Some((name.to_owned(), Zone::parse(name).ok()));
        }
        let zone = last.as_ref()?.1.as_ref()?;
        i32::try_from(local.saturating_sub(zone.to_utc(local)) / SECOND).ok()
    });
    match offset {
        Some(offset) => {
            civil.offset = Some(offset);
            at + 1 + length
        }
        None => at,
    }
}

/// Steps over the zone that date(1) writes before the year, also one of several meanings (`CST`) or of none that is known: its times
/// are then local ones.
fn zone_before_year(bytes: &[u8], at: usize, civil: &mut Civil) -> usize {
    if let Some((offset, end, ambiguous)) = scan::certain_zone(bytes, at) {
        civil.offset = (!ambiguous).then_some(offset);
        return end;
    }
    let rest = bytes.get(at + 1..).unwrap_or_default();
    let length = rest.iter().take(6).take_while(|byte| byte.is_ascii_uppercase()).count();
    let is_zone = bytes.get(at) == Some(&b' ') && (3..=5).contains(&length) && digits(rest, length + 1, 4).is_some();
    if is_zone { at + 1 + length } else { at }
}

/// A time of day alone: hours, minutes and seconds, perhaps a fraction or AM/PM. The month of the reading is 0.
pub fn time_of_day(bytes: &[u8]) -> Option<(Civil, usize)> {
    let mut civil = Civil { month: 1, day: 1, ..Civil::default() };
    let at = clock(bytes, 0, &mut civil)?;
    // Hours and minutes alone are more often something else.
    let colons = memchr::memchr_iter(b':', bytes.get(..at)?).count();
    if colons < 2
        || !civil.is_valid()
        || bytes.get(at).is_some_and(|byte| byte.is_ascii_alphanumeric() || *byte == b':')
    {
        return None;
    }
    civil.month = 0;
    Some((civil, at))
}

/// An epoch number at the start of `bytes` (see [`scan::epoch`]) of the years 2001 to 2100, behind nothing and before a
/// byte that cannot belong to it.
pub fn epoch(bytes: &[u8]) -> Option<(Civil, usize)> {
    let length = bytes.iter().take(30).take_while(|byte| byte.is_ascii_digit() || **byte == b'.').count();
    let text = bytes.get(..length)?;
    let text = text.strip_suffix(b".").unwrap_or(text);
    if text.iter().position(|byte| *byte == b'.').unwrap_or(text.len()) < 10 {
        return None;
    }
    let ns = scan::epoch(text)?;
    let mut civil = Civil::from_ns(ns);
    civil.offset = Some(0);
    let plausible = (2001..2100).contains(&civil.year) && !bytes.get(text.len()).is_some_and(u8::is_ascii_alphanumeric);
    plausible.then_some((civil, text.len()))
}

/// Two digits (or one) as a number, and how many there were.
fn one_or_two(bytes: &[u8], at: usize) -> Option<(u32, usize)> {
    let width = 1 + usize::from(is_digit(bytes, at + 1));
    Some((digits(bytes, at, width)?, width))
}

/// A year of two or four digits; two digits are 1969 to 2068.
fn year(bytes: &[u8], at: usize) -> Option<(i32, usize)> {
    let width = bytes.get(at..)?.iter().take(5).take_while(|byte| byte.is_ascii_digit()).count();
    match width {
        4 => Some((digits(bytes, at, 4)? as i32, 4)).filter(|(year, _)| *year > 0),
        2 => digits(bytes, at, 2).map(|year| (if year < 69 { 2000 + year as i32 } else { 1900 + year as i32 }, 2)),
        _ => None,
    }
}

/// The three numbers of a date in numbers whose year is not first in four digits, their separator, and where it ends.
fn three_numbers(bytes: &[u8], at: usize) -> Option<([u32; 3], u8, usize, usize)> {
    let (a, width_a) = one_or_two(bytes, at)?;
    let mark = *bytes.get(at + width_a)?;
    if !matches!(mark, b'/' | b'.' | b'-') {
        return None;
    }
    let second = at + width_a + 1;
    let (b, width_b) = one_or_two(bytes, second)?;
    if bytes.get(second + width_b) != Some(&mark) {
        return None;
    }
    let third = second + width_b + 1;
    let (c, width_c) = year(bytes, third)?;
    Some(([a, b, c as u32], mark, third + width_c, width_c))
}

fn numeric_date(bytes: &[u8], at: usize, order: DateOrder, civil: &mut Civil) -> Option<usize> {
    let ([a, b, c], mark, end, width) = three_numbers(bytes, at)?;
    let (day, month, year) = match order {
        // Dots mean day first wherever they are used.
        _ if mark == b'.' && order != DateOrder::YearFirst => (a, b, c),
        DateOrder::DayFirst => (a, b, c),
        DateOrder::MonthFirst => (b, a, c),
        DateOrder::YearFirst if width == 2 => (c % 100, b, if a < 69 { 2000 + a } else { 1900 + a }),
        DateOrder::YearFirst => return None,
    };
    (civil.year, civil.month, civil.day) = (year as i32, u8::try_from(month).ok()?, u8::try_from(day).ok()?);
    Some(end)
}

/// `2026-04-12` with a time that [`scan::iso`] does not take: on a 12-hour clock, or without seconds.
fn year_first_date(bytes: &[u8], at: usize, civil: &mut Civil) -> Option<usize> {
    let year = digits(bytes, at, 4)?;
    let mark = *bytes.get(at + 4)?;
    if !matches!(mark, b'-' | b'/' | b'.') {
        return None;
    }
    let (month, width) = one_or_two(bytes, at + 5)?;
    let next = at + 5 + width;
    if bytes.get(next) != Some(&mark) {
        return None;
    }
    let (day, width) = one_or_two(bytes, next + 1)?;
    (civil.year, civil.month, civil.day) = (year as i32, month as u8, day as u8);
    Some(next + 1 + width)
}

/// `12 Apr 2026`, `12-Apr-26`, `12/Apr/2026`, `12. April 2026`, `12 de abril de 2026`.
fn day_month_name(bytes: &[u8], at: usize, civil: &mut Civil) -> Option<usize> {
    let (day, width) = one_or_two(bytes, at)?;
    let mut at = at + width;
    at += bytes.get(at..)?.iter().take(2).take_while(|byte| matches!(byte, b' ' | b'-' | b'/' | b'.')).count();
    at += 3 * usize::from(bytes.get(at..)?.starts_with(b"de "));
    let (month, end) = month_name(bytes, at)?;
    at = end + bytes.get(end..)?.iter().take(2).take_while(|byte| matches!(byte, b' ' | b'-' | b'/' | b'.')).count();
    at += 3 * usize::from(bytes.get(at..)?.starts_with(b"de "));
    let (year, width) = year(bytes, at)?;
    (civil.year, civil.month, civil.day) = (year, month, day as u8);
    Some(at + width)
}

/// `Apr 12, 2026 2:31:07 AM`, `Apr 12 2026 02:31:07`, `Apr 12 02:31:07 2026`: with the time; the year may be missing
/// yet.
fn month_name_day(bytes: &[u8], at: usize, civil: &mut Civil) -> Option<usize> {
    let (month, end) = month_name(bytes, at)?;
    let mut at = end;
    while matches!(bytes.get(at), Some(b' ' | b'-')) {
        at += 1;
    }
    let (day, width) = one_or_two(bytes, at)?;
    (civil.month, civil.day) = (month, day as u8);
    at += width;
    let after = at + usize::from(bytes.get(at) == Some(&b',')) + 1;
    if let Some((year, width)) = year(bytes, after).filter(|(_, width)| *width == 4) {
        civil.year = year;
        at = after + width;
    }
    let start = separator(bytes, at)?;
    clock(bytes, start, civil)
}

/// Steps over `Sun `, `Sunday, ` and the like.
fn weekday(bytes: &[u8]) -> usize {
    if !bytes.first().is_some_and(|first| b"mtwfs".contains(&(first | 32))) {
        return 0;
    }
    let length = bytes.iter().take(12).take_while(|byte| byte.is_ascii_alphabetic()).count();
    let word = bytes.get(..length).unwrap_or_default().to_ascii_lowercase();
    let days: [&[u8]; 14] = [
        b"mon",
        b"tue",
        b"wed",
        b"thu",
        b"fri",
        b"sat",
        b"sun",
        b"monday",
        b"tuesday",
        b"wednesday",
        b"thursday",
        b"friday",
        b"saturday",
        b"sunday",
    ];
    if !days.contains(&&*word) {
        return 0;
    }
    let rest = bytes.get(length..).unwrap_or_default();
    length + rest.iter().take(2).take_while(|byte| matches!(byte, b' ' | b',')).count()
}

/// What stands between a date and its time.
fn separator(bytes: &[u8], at: usize) -> Option<usize> {
    let rest = bytes.get(at..)?;
    let usual: [&[u8]; 10] = [b" - ", b", ", b" at ", b"  ", b" ", b"T", b":", b"_", b"-", b","];
    usual.into_iter().find(|text| rest.starts_with(text)).map(|text| at + text.len())
}

/// A time of day with or without seconds and fraction, on a 24- or 12-hour clock; gives where it ends.
fn clock(bytes: &[u8], at: usize, civil: &mut Civil) -> Option<usize> {
    let (hour, width) = one_or_two(bytes, at)?;
    let mark = *bytes.get(at + width)?;
    let mut at = at + width + 1;
    if !matches!(mark, b':' | b'.') {
        return None;
    }
    let minute = digits(bytes, at, 2)?;
    at += 2;
    let mut second = 0;
    let has_seconds = bytes.get(at) == Some(&mark) && is_digit(bytes, at + 1);
    if has_seconds {
        second = digits(bytes, at + 1, 2)?;
        at += 3;
        if matches!(bytes.get(at), Some(b'.' | b',' | b':')) && is_digit(bytes, at + 1) {
            at = scan::fraction(bytes, at + 1, civil);
        }
    } else if mark == b'.' {
        return None;
    }
    if is_digit(bytes, at) {
        return None;
    }
    (civil.hour, civil.minute, civil.second) = (hour as u8, minute as u8, second as u8);
    if let Some((afternoon, end)) = meridiem(bytes, at) {
        if !(1..=12).contains(&hour) {
            return None;
        }
        civil.hour = (hour % 12) as u8 + if afternoon { 12 } else { 0 };
        at = end;
        // Python's logging module puts the milliseconds behind whatever form the date has.
        if civil.nanos == 0 && matches!(bytes.get(at), Some(b',' | b'.')) && is_digit(bytes, at + 3) {
            at = scan::fraction(bytes, at + 1, civil);
        }
    }
    Some(at)
}

fn meridiem_follows(bytes: &[u8], at: usize) -> bool {
    meridiem(bytes, at).is_some()
}

/// `AM`, ` pm`, ` a.m.`, also behind a no-break space: whether it is the afternoon, and where it ends.
fn meridiem(bytes: &[u8], at: usize) -> Option<(bool, usize)> {
    let rest = bytes.get(at..)?;
    let gap: [&[u8]; 4] = [b"\xE2\x80\xAF", b"\xC2\xA0", b" ", b""];
    let gap = gap.into_iter().find(|gap| rest.starts_with(gap)).map_or(0, <[u8]>::len);
    let rest = rest.get(gap..)?;
    let afternoon = match rest.first()? {
        b'A' | b'a' => false,
        b'P' | b'p' => true,
        _ => return None,
    };
    let length = match rest.get(1..)? {
        [b'M' | b'm', ..] => 2,
        [b'.', b'm' | b'M', b'.', ..] => 4,
        _ => return None,
    };
    (!rest.get(length).is_some_and(u8::is_ascii_alphanumeric)).then_some((afternoon, at + gap + length))
}

/// Month names and their usual short forms, without accents, in the alphabet's order.
const MONTHS: [(&str, u8); 97] = [
    ("abr", 4),
    ("abril", 4),
    ("ago", 8),
    ("agosto", 8),
    ("aout", 8),
    ("apr", 4),
    ("april", 4),
    ("aprile", 4),
    ("aug", 8),
    ("august", 8),
    ("augusti", 8),
    ("augustus", 8),
    ("avr", 4),
    ("avril", 4),
    ("cze", 6),
    ("dec", 12),
    ("december", 12),
    ("decembre", 12),
    ("des", 12),
    ("desember", 12),
    ("dez", 12),
    ("dezember", 12),
    ("dezembro", 12),
    ("dic", 12),
    ("dicembre", 12),
    ("diciembre", 12),
    ("ene", 1),
    ("enero", 1),
    ("feb", 2),
    ("febbraio", 2),
    ("febrero", 2),
    ("februar", 2),
    ("februari", 2),
    ("february", 2),
    ("fev", 2),
    ("fevereiro", 2),
    ("fevr", 2),
    ("fevrier", 2),
    ("gen", 1),
    ("gennaio", 1),
    ("giu", 6),
    ("giugno", 6),
    ("gru", 12),
    ("jan", 1),
    ("janeiro", 1),
    ("janner", 1),
    ("januar", 1),
    ("januari", 1),
    ("january", 1),
    ("janv", 1),
    ("janvier", 1),
    ("juil", 7),
    ("juillet", 7),
    ("juin", 6),
    ("jul", 7),
    ("julho", 7),
    ("juli", 7),
    ("julio", 7),
    ("july", 7),
    ("jun", 6),
    ("june", 6),
    ("junho", 6),
    ("juni", 6),
    ("junio", 6),
    ("kwi", 4),
    ("lip", 7),
    ("lis", 11),
    ("lug", 7),
    ("luglio", 7),
    ("lut", 2),
    ("maart", 3),
    ("mag", 5),
    ("maggio", 5),
    ("mai", 5),
    ("maio", 5),
    ("maj", 5),
    ("mar", 3),
    ("march", 3),
    ("marco", 3),
    ("mars", 3),
    ("marz", 3),
    ("marzo", 3),
    ("may", 5),
    ("mayo", 5),
    ("mei", 5),
    ("mrt", 3),
    ("mrz", 3),
    ("nov", 11),
    ("oct", 10),
    ("okt", 10),
    ("ott", 10),
    ("out", 10),
    ("paz", 10),
    ("sep", 9),
    ("set", 9),
    ("sie", 8),
    ("sty", 1),
];

/// Longer names whose first letters are their short form.
const LONG_ENDS: [(&str, u8); 19] = [
    ("mayo", 5),
    ("noviembre", 11),
    ("november", 11),
    ("novembre", 11),
    ("novembro", 11),
    ("octobre", 10),
    ("october", 10),
    ("octubre", 10),
    ("oktober", 10),
    ("ottobre", 10),
    ("outubro", 10),
    ("sept", 9),
    ("september", 9),
    ("septembre", 9),
    ("septiembre", 9),
    ("setembro", 9),
    ("setiembre", 9),
    ("settembre", 9),
    ("wrz", 9),
];

/// A month's name at `at`, in any case, with or without accents and a dot; gives the month and where the name ends.
fn month_name(bytes: &[u8], at: usize) -> Option<(u8, usize)> {
    // English short forms mean the same month in every language that has them, and are by far the most frequent.
    if let Some(month) = bytes.get(at..).and_then(scan::month_of)
        && !bytes.get(at + 3).is_some_and(|byte| byte.is_ascii_alphabetic() || *byte >= 0x80 || *byte == b'.')
    {
        return Some((month, at + 3));
    }
    let mut name = [0_u8; 12];
    let mut length = 0;
    let mut end = at;
    while let Some(byte) = bytes.get(end) {
        let (letter, width) = match (byte, bytes.get(end + 1)) {
            (b'a'..=b'z' | b'A'..=b'Z', _) => (byte | 32, 1),
            // UTF-8, then the one-byte encodings of western Europe.
            (0xC3, Some(0xA8..=0xAA | 0x89)) => (b'e', 2),
            (0xC3, Some(0xA4)) => (b'a', 2),
            (0xC3, Some(0xBB)) => (b'u', 2),
            (0xC3, Some(0xA7)) => (b'c', 2),
            (0xC5, Some(0xBA)) => (b'z', 2),
            (0xE8..=0xEA, _) => (b'e', 1),
            (0xE4, _) => (b'a', 1),
            (0xFB, _) => (b'u', 1),
            (0xE7, _) => (b'c', 1),
            _ => break,
        };
        *name.get_mut(length)? = letter;
        length += 1;
        end += width;
    }
    let name = std::str::from_utf8(name.get(..length)?).ok()?;
    let found = MONTHS.binary_search_by_key(&name, |(month, _)| month).ok().map(|index| MONTHS[index].1);
    let month = found.or_else(|| LONG_ENDS.iter().find(|(long, _)| *long == name).map(|(_, month)| *month))?;
    Some((month, end + usize::from(bytes.get(end) == Some(&b'.'))))
}

/// What the dates of a file say about the order of their numbers.
#[derive(Clone, Copy, Debug, Default)]
pub struct Evidence {
    last: Option<[u32; 3]>,
    /// How often each of the three numbers changed while the others stood still.
    changed: [u32; 3],
    /// Whether each of the three numbers was too large for a month.
    no_month: [bool; 3],
    /// Whether the last number is a year of four digits.
    long_year: bool,
    dots: bool,
    afternoon: bool,
}

impl Evidence {
    /// Takes the date in numbers that starts `bytes`, if one does.
    pub fn take(&mut self, bytes: &[u8]) {
        let Some((numbers, mark, end, width)) = three_numbers(bytes, 0) else { return };
        let mut civil = Civil::default();
        let Some(clock_end) = separator(bytes, end).and_then(|at| clock(bytes, at, &mut civil)) else { return };
        self.afternoon |= meridiem(bytes, clock_end.saturating_sub(3)).is_some() || bytes[..clock_end].ends_with(b"M");
        self.long_year |= width == 4;
        self.dots |= mark == b'.';
        let numbers = if width == 2 { [numbers[0], numbers[1], numbers[2] % 100] } else { numbers };
        for (no_month, number) in self.no_month.iter_mut().zip(numbers) {
            *no_month |= number > 12;
        }
        if let Some(last) = self.last {
            let different: Vec<usize> = (0..3).filter(|index| last[*index] != numbers[*index]).collect();
            if let [only] = different.as_slice() {
                self.changed[*only] += 1;
            }
        }
        self.last = Some(numbers);
    }

    /// Whether any date in numbers was met.
    pub fn any(&self) -> bool {
        self.last.is_some()
    }

    /// The order that is certain, because a number is too large to be a month.
    pub fn certain(&self) -> Option<DateOrder> {
        match self.no_month {
            _ if self.dots => Some(DateOrder::DayFirst),
            // 26/04/12: the middle is the month; the year is the end that never changes.
            [true, false, true] if !self.long_year => {
                (self.changed[2] > 0 && self.changed[0] == 0).then_some(DateOrder::YearFirst)
            }
            [true, false, false] if !self.long_year && self.changed[0] == 0 && self.changed[2] > 0 => {
                Some(DateOrder::YearFirst)
            }
            [true, false, _] if self.long_year => Some(DateOrder::DayFirst),
            [true, false, _] if self.changed[0] > 0 => Some(DateOrder::DayFirst),
            [false, true, _] => Some(DateOrder::MonthFirst),
            _ => None,
        }
    }

    /// The order to read by, and whether that is only a guess.
    pub fn order(&self) -> (DateOrder, bool) {
        if let Some(order) = self.certain() {
            return (order, false);
        }
        // Days change more often than months, and years least.
        match self.changed {
            [a, b, _] if a > b => (DateOrder::DayFirst, false),
            [a, b, _] if b > a => (DateOrder::MonthFirst, false),
            [0, 0, c] if c > 0 && !self.long_year => (DateOrder::YearFirst, false),
            // A 12-hour clock goes with month-first dates in the one large locale that has both.
            _ if self.afternoon => (DateOrder::MonthFirst, true),
            _ => (DateOrder::DayFirst, true),
        }
    }
}

#[cfg(test)]
mod tests;
