//! Zones, and from civil readings to instants through them.

use std::fmt;

use jiff::tz::{AmbiguousOffset, TimeZone};

use super::scan::Civil;
use super::{MINUTE, SECOND};
use crate::{Error, Result};

/// A time zone: a fixed offset from UTC, or a named zone of the tz database with its daylight saving rules.
#[derive(Clone, Debug, PartialEq)]
pub struct Zone {
    name: String,
    zone: TimeZone,
}

impl Zone {
    /// UTC.
    pub fn utc() -> Self {
        Self { name: "+00:00".into(), zone: TimeZone::UTC }
    }

    /// The zone of this machine, as the system names it; UTC where it does not.
    pub fn local() -> Self {
        let zone = TimeZone::system();
        let name = zone.iana_name().map(str::to_owned);
        match name {
            Some(name) if name != "UTC" && name != "Etc/UTC" => Self { name, zone },
            _ => Self::utc(),
        }
    }

    /// A zone `seconds` east of UTC, within a day of it.
    pub fn fixed(seconds: i32) -> Self {
        match jiff::tz::Offset::from_seconds(seconds) {
            Ok(offset) => Self { name: offset_text(seconds), zone: TimeZone::fixed(offset) },
            Err(_) => Self::utc(),
        }
    }

    /// Reads `UTC`, `Z`, `+02:00`, `UTC+2`, `+0200` or a name of the tz database such as `Europe/Lisbon`.
    ///
    /// # Errors
    /// When the text is none of these.
    pub fn parse(text: &str) -> Result<Self> {
        let trimmed = text.trim();
        if ["utc", "z", "gmt"].iter().any(|word| trimmed.eq_ignore_ascii_case(word)) {
            return Ok(Self::utc());
        }
        let number = trimmed.strip_prefix("UTC").unwrap_or(trimmed).replace('\u{2212}', "-");
        if let Some(seconds) = parse_offset(&number) {
            return Ok(Self::fixed(seconds));
        }
        match TimeZone::get(trimmed) {
            Ok(zone) => Ok(Self { name: trimmed.to_owned(), zone }),
            Err(_) => Err(Error::new(format!(
                "no time zone \"{text}\": write an offset such as +02:00 or a name such as Europe/Lisbon"
            ))),
        }
    }

    /// Its name: `+02:00` or `Europe/Lisbon`.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Seconds east of UTC at an instant.
    pub fn offset_at(&self, utc_ns: i64) -> i32 {
        jiff::Timestamp::from_nanosecond(i128::from(utc_ns)).map_or(0, |stamp| self.zone.to_offset(stamp).seconds())
    }

    /// The calendar reading of an instant in this zone.
    pub fn civil(&self, utc_ns: i64) -> Civil {
        let offset = self.offset_at(utc_ns);
        let mut civil = Civil::from_ns(utc_ns.saturating_add(i64::from(offset) * SECOND));
        civil.offset = Some(offset);
        civil
    }

    /// The instant of a civil reading (nanoseconds as if UTC): the first one where it occurs twice.
    pub fn to_utc(&self, civil_ns: i64) -> i64 {
        Resolver::new(self.clone()).resolve(civil_ns, i64::MIN).0
    }
}

impl fmt::Display for Zone {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name)
    }
}

/// `+02:00`.
pub(super) fn offset_text(seconds: i32) -> String {
    let sign = if seconds < 0 { '-' } else { '+' };
    let minutes = seconds.unsigned_abs() / 60;
    format!("{sign}{:02}:{:02}", minutes / 60, minutes % 60)
}

/// Reads `+2`, `+02`, `+0200`, `+02:00`, `-3:30`.
fn parse_offset(text: &str) -> Option<i32> {
    let (sign, rest) = match text.split_at_checked(1)? {
        ("+", rest) => (1, rest),
        ("-", rest) => (-1, rest),
        _ => return None,
    };
    let (hours, minutes) = match rest.split_once(':') {
        Some(parts) => parts,
        None if rest.len() == 4 && rest.is_ascii() => rest.split_at(2),
        None => (rest, "0"),
    };
    let number = |part: &str| part.parse::<i32>().ok().filter(|_| part.bytes().all(|byte| byte.is_ascii_digit()));
    let (hours, minutes) = (number(hours)?, number(minutes)?);
    (hours <= 18 && minutes < 60).then(|| sign * (hours * 3600 + minutes * 60))
}

/// Civil readings to instants, fast for many readings in a row.
///
/// Remembers the answer for the quarter of an hour it last met: daylight saving changes fall on quarters, so within one
/// the offset is constant (this is true of all zone rules since 1972).
pub struct Resolver {
    zone: Zone,
    quarter: i64,
    answer: AmbiguousOffset,
}

impl Resolver {
    /// A resolver for `zone`.
    pub fn new(zone: Zone) -> Self {
        let offset = jiff::tz::Offset::UTC;
        Self { zone, quarter: i64::MIN, answer: AmbiguousOffset::Unambiguous { offset } }
    }

    /// The instant of the civil reading `civil_ns` (nanoseconds as if UTC), and whether it was ambiguous.
    ///
    /// Where the reading occurs twice (the hour that daylight saving repeats), the first occurrence that is not before
    /// `previous_utc` is taken; where it never occurs, it is read with the offset before the gap.
    pub fn resolve(&mut self, civil_ns: i64, previous_utc: i64) -> (i64, bool) {
        let quarter = civil_ns.div_euclid(15 * MINUTE);
        if quarter != self.quarter {
            self.quarter = quarter;
            self.answer = self.ask(civil_ns);
        }
        let at = |offset: jiff::tz::Offset| civil_ns.saturating_sub(i64::from(offset.seconds()) * SECOND);
        match self.answer {
            AmbiguousOffset::Unambiguous { offset } => (at(offset), false),
            AmbiguousOffset::Gap { before, .. } => (at(before), true),
            AmbiguousOffset::Fold { before, after } => {
                let first = at(before);
                (if first < previous_utc { at(after) } else { first }, true)
            }
        }
    }

    /// As [`Resolver::resolve`], for readings that go by from the newest to the oldest: where the reading occurs twice, the last
    /// occurrence that is not after `next_utc` is taken.
    pub fn resolve_before(&mut self, civil_ns: i64, next_utc: i64) -> (i64, bool) {
        let (first, ambiguous) = self.resolve(civil_ns, i64::MIN);
        let AmbiguousOffset::Fold { after, .. } = self.answer else { return (first, ambiguous) };
        let second = civil_ns.saturating_sub(i64::from(after.seconds()) * SECOND);
        (if second > next_utc { first } else { second }, true)
    }

    fn ask(&self, civil_ns: i64) -> AmbiguousOffset {
        let civil = Civil::from_ns(civil_ns);
        let made = jiff::civil::DateTime::new(
            civil.year as i16,
            civil.month as i8,
            civil.day as i8,
            civil.hour as i8,
            civil.minute as i8,
            civil.second as i8,
            civil.nanos as i32,
        );
        match made {
            Ok(datetime) => self.zone.zone.to_ambiguous_timestamp(datetime).offset(),
            Err(_) => AmbiguousOffset::Unambiguous { offset: jiff::tz::Offset::UTC },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clock::scan::iso;

    fn civil(text: &str) -> i64 {
        iso(text.as_bytes()).and_then(|(civil, _)| civil.to_ns()).unwrap()
    }

    #[test]
    fn reads_the_usual_writings() {
        for text in ["+02:00", "UTC+2", "+0200", "UTC+02:00", "+2"] {
            assert_eq!(Zone::parse(text).unwrap().name(), "+02:00", "{text}");
        }
        assert_eq!(Zone::parse("\u{2212}03:30").unwrap().name(), "-03:30");
        assert_eq!(Zone::parse("Europe/Lisbon").unwrap().offset_at(civil("2026-07-01 00:00:00")), 3600);
        // Found by the fuzzer: the product of hours beyond any zone.
        assert!(Zone::parse("-2202602").is_err());
        let message = Zone::parse("Europe/Atlantis").unwrap_err().to_string();
        assert!(message.contains("Europe/Atlantis") && message.contains("+02:00"), "{message}");
    }

    #[test]
    fn the_repeated_hour_is_read_by_order() {
        let mut resolver = Resolver::new(Zone::parse("Europe/Berlin").unwrap());
        let mut previous = i64::MIN;
        let mut offsets = Vec::new();
        // 25 October 2026: 03:00 summer time becomes 02:00 winter time.
        for text in ["2026-10-25 01:59:00", "2026-10-25 02:10:00", "2026-10-25 02:50:00", "2026-10-25 02:05:00"] {
            let (utc, _) = resolver.resolve(civil(text), previous);
            offsets.push((civil(text) - utc) / SECOND);
            previous = utc;
        }
        assert_eq!(offsets, [7200, 7200, 7200, 3600]);
    }

    #[test]
    fn the_repeated_hour_is_read_backwards_too() {
        let mut resolver = Resolver::new(Zone::parse("Europe/Berlin").unwrap());
        let mut next = i64::MAX;
        let mut offsets = Vec::new();
        for text in ["2026-10-25 03:01:00", "2026-10-25 02:10:00", "2026-10-25 02:50:00", "2026-10-25 01:59:00"] {
            let (utc, _) = resolver.resolve_before(civil(text), next);
            offsets.push((civil(text) - utc) / SECOND);
            next = utc;
        }
        assert_eq!(offsets, [3600, 3600, 7200, 7200]);
    }

    #[test]
    fn the_missing_hour_is_flagged() {
        let mut resolver = Resolver::new(Zone::parse("Europe/Berlin").unwrap());
        let (utc, ambiguous) = resolver.resolve(civil("2026-03-29 02:30:00"), i64::MIN);
        assert!(ambiguous);
        assert_eq!(utc, civil("2026-03-29 01:30:00"));
    }
}
