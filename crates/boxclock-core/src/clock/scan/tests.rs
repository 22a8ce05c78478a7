//! The scanner against `jiff`, against the published examples, and against any bytes.

use proptest::prelude::*;

use super::*;

fn utc(text: &str) -> Stamp {
    iso(text.as_bytes()).map_or(Stamp::None, |(civil, _)| civil.stamp())
}

fn truth(text: &str) -> i64 {
    text.parse::<jiff::Timestamp>().map_or(0, |stamp| stamp.as_nanosecond() as i64)
}

#[test]
fn every_iso_shape_is_the_same_instant() {
    let expected = truth("2026-04-12T02:31:07.442Z");
    for text in [
        "2026-04-12T02:31:07.442Z",
        "2026-04-12t02:31:07,442z",
        "2026-04-12 04:31:07.442+02:00",
        "2026-04-12 04:31:07.442 +0200",
        "2026-04-12 04:31:07.442+02",
        "2026/04/12 04:31:07.442 CEST",
        "2026.04.12_02:31:07.442 UTC",
        "20260412T023107.442Z",
        "2026-04-12, 02:31:07.442 GMT",
        "2026-04-11 22:31:07:442 EDT",
    ] {
        assert!(matches!(utc(text), Stamp::Utc(ns, _) if ns == expected), "{text}: {:?}", utc(text));
    }
}

#[test]
fn what_follows_is_not_swallowed() {
    let end = |text: &str| iso(text.as_bytes()).map(|(civil, end)| (civil.offset, text[end..].to_owned()));
    assert_eq!(end("2026-04-12 02:31:07,442 - name"), Some((None, " - name".into())));
    assert_eq!(end("2026-04-12 02:31:07 -1234 x"), Some((None, " -1234 x".into())));
    assert_eq!(end("2026-04-12 02:31:07 ERROR x"), Some((None, " ERROR x".into())));
    assert_eq!(end("2026-04-12T02:31:07Z INFO"), Some((Some(0), " INFO".into())));
    assert_eq!(end("2026-04-12 02:31:07 +0200 x"), Some((Some(7200), " x".into())));
}

#[test]
fn impossible_readings_are_refused() {
    for text in [
        "2026-02-29 00:00:00",
        "2026-13-01 00:00:00",
        "2026-04-31 00:00:00",
        "2026-04-12 24:00:00",
        "2026-04-12 02:60:00",
        "2026-04-12 02:31:61",
        "2026-04/12 02:31:07",
        "2026-04-12 02:31",
        "0000-04-12 02:31:07",
        "",
    ] {
        assert_eq!(utc(text), Stamp::None, "{text}");
    }
}

#[test]
fn ends_of_the_calendar() {
    assert_eq!(utc("9999-12-31T23:59:59Z"), Stamp::OutOfRange);
    assert_eq!(utc("1601-01-01T00:00:00Z"), Stamp::OutOfRange);
    assert!(matches!(utc("2261-12-31T23:59:59Z"), Stamp::Utc(..)));
    // A leap second counts as the next second, as Unix clocks do.
    assert!(matches!(utc("2016-12-31T23:59:60Z"), Stamp::Utc(ns, _) if ns == truth("2017-01-01T00:00:00Z")));
}

#[test]
fn bsd_forms() {
    let scan = |text: &str| bsd(text.as_bytes()).map(|(civil, end)| (civil.stamp(), text[end..].to_owned()));
    let civil = truth("2000-04-02T02:31:07Z");
    assert_eq!(scan("Apr  2 02:31:07 gw x"), Some((Stamp::NoYear(civil), " gw x".into())));
    assert_eq!(scan("Apr 02 02:31:07 gw x"), Some((Stamp::NoYear(civil), " gw x".into())));
    assert_eq!(scan("Apr 2 02:31:07 gw x"), Some((Stamp::NoYear(civil), " gw x".into())));
    let with_year = truth("2026-04-02T02:31:07.5Z");
    assert_eq!(scan("Apr  2 2026 02:31:07.5: x"), Some((Stamp::Local(with_year), ": x".into())));
    assert_eq!(scan("2026 Apr  2 02:31:07.5 x"), Some((Stamp::Local(with_year), " x".into())));
    assert!(scan("Feb 29 00:00:00 x").is_some(), "the stand-in year is a leap year");
    assert_eq!(scan("Apx 12 02:31:07 x"), None);
    assert_eq!(scan("Apr 12 02:31 x"), None);
}

#[test]
fn epoch_units_by_size() {
    let expected = Some(1_775_961_067_442_000_000);
    for text in ["1775961067.442", "1775961067442", "1775961067442000", "1775961067442000000", "1775961067442.0"] {
        assert_eq!(epoch(text.as_bytes()), expected, "{text}");
    }
    for text in ["", "17", "-775961067", "1775961067.4x", "99999999999999999999"] {
        assert_eq!(epoch(text.as_bytes()), None, "{text}");
    }
}

proptest! {
    #[test]
    fn agrees_with_jiff(ns in -9_223_372_036_854_775_000_i64..9_223_372_036_854_775_000, quarter in -56_i32..=56) {
        let offset = jiff::tz::Offset::from_seconds(quarter * 900).unwrap();
        let stamp = jiff::Timestamp::from_nanosecond(i128::from(ns)).unwrap();
        let text = stamp.display_with_offset(offset).to_string();
        let (civil, end) = iso(text.as_bytes()).unwrap();
        prop_assert_eq!(end, text.len());
        match civil.stamp() {
            Stamp::Utc(got, east) => prop_assert_eq!((got, east), (ns, quarter * 900)),
            // The civil reading of the very ends may lie outside although the instant is inside.
            other => prop_assert!(matches!(other, Stamp::OutOfRange) && ns.unsigned_abs() > 9_223_000_000_000_000_000),
        }
    }

    #[test]
    fn days_round_trip(days in -200_000_i64..200_000) {
        let (year, month, day) = civil_from_days(days);
        prop_assert_eq!(days_from_civil(year, month, day), days);
    }

    #[test]
    fn any_bytes(bytes in proptest::collection::vec(any::<u8>(), 0..64)) {
        for scanned in [iso(&bytes), bsd(&bytes)].into_iter().flatten() {
            prop_assert!(scanned.1 <= bytes.len());
        }
        epoch(&bytes);
    }

    #[test]
    fn any_near_miss(text in "[0-9A-Za-z:., +/-]{0,40}") {
        iso(text.as_bytes());
        bsd(text.as_bytes());
        iso(format!("2026-04-12 02:31:07{text}").as_bytes());
    }
}
