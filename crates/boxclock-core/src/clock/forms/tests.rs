//! Each form read as an independent calendar reads it.

use proptest::prelude::*;

use super::*;

fn read(text: &str, order: DateOrder) -> String {
    match dated(text.as_bytes(), order) {
        Some((civil, end)) => format!(
            "{:04}-{:02}-{:02} {:02}:{:02}:{:02}.{:03} {:?} rest:{}",
            civil.year,
            civil.month,
            civil.day,
            civil.hour,
            civil.minute,
            civil.second,
            civil.nanos / 1_000_000,
            civil.offset,
            &text[end..]
        ),
        None => "none".into(),
    }
}

#[test]
fn the_same_moment_in_many_writings() {
    use DateOrder::{DayFirst, MonthFirst, YearFirst};
    for (text, order) in [
        ("12/04/2026 02:31:07 x", DayFirst),
        ("04/12/2026 02:31:07 x", MonthFirst),
        ("4/12/2026, 2:31:07 AM x", MonthFirst),
        ("4/12/26 2:31:07 AM x", MonthFirst),
        ("26/04/12 02:31:07 x", YearFirst),
        ("12.04.2026 02:31:07 x", DayFirst),
        ("12.04.26 02:31:07 x", MonthFirst),
        ("12-04-2026 02:31:07 x", DayFirst),
        ("12 Apr 2026 02:31:07 x", DayFirst),
        ("12-Apr-2026 02:31:07 x", DayFirst),
        ("12-APR-26 02.31.07 AM x", DayFirst),
        ("12. April 2026 02:31:07 x", DayFirst),
        ("12 avr. 2026 02:31:07 x", DayFirst),
        ("12 de abril de 2026 02:31:07 x", DayFirst),
        ("Apr 12, 2026 2:31:07 AM x", DayFirst),
        ("April 12, 2026 2:31:07\u{202f}AM x", DayFirst),
        ("Apr 12, 2026, 2:31:07 a.m. x", DayFirst),
        ("Sun Apr 12 02:31:07 2026 x", DayFirst),
        ("Sunday, April 12, 2026 2:31:07 AM x", DayFirst),
        ("2026-04-12 2:31:07 AM x", DayFirst),
    ] {
        assert_eq!(read(text, order), "2026-04-12 02:31:07.000 None rest: x", "{text}");
    }
    assert_eq!(read("12/Apr/2026:02:31:07 +0200]", DayFirst), "2026-04-12 02:31:07.000 Some(7200) rest:]");
    assert_eq!(read("Sun, 12 Apr 2026 02:31:07 GMT", DayFirst), "2026-04-12 02:31:07.000 Some(0) rest:");
    assert_eq!(read("Sun Apr 12 02:31:07 CEST 2026", DayFirst), "2026-04-12 02:31:07.000 Some(7200) rest:");
    for (zone, offset) in [
        ("AEST", "Some(36000)"),
        ("+03", "Some(10800)"),
        ("-0330", "Some(-12600)"),
        ("CST", "None"),
        ("IST", "None"),
        ("XYZT", "None"),
    ] {
        let text = format!("Sun Apr 12 02:31:07 {zone} 2026 x");
        assert_eq!(read(&text, DayFirst), format!("2026-04-12 02:31:07.000 {offset} rest: x"), "{text}");
    }
    assert_eq!(read("12/04/2026 12:00:00.250 AM", DayFirst), "2026-04-12 00:00:00.250 None rest:");
    assert_eq!(read("12/04/2026 12:00:00 PM", DayFirst), "2026-04-12 12:00:00.000 None rest:");
    assert_eq!(read("1/2/99 11:59:60 PM", MonthFirst), "1999-01-02 23:59:60.000 None rest:");
}

#[test]
fn what_is_no_time() {
    for text in [
        "1.2.3.4 x",
        "13/13/2026 02:31:07",
        "31/04/2026 02:31:07",
        "12/04/2026 13:31:07 PM",
        "Apr 12",
        "12/04/2026",
        "",
    ] {
        assert_eq!(read(text, DateOrder::DayFirst), "none", "{text}");
    }
    assert!(time_of_day(b"12:31 x").is_none());
    assert!(time_of_day(b"25:31:07 x").is_none());
    assert!(time_of_day(b"02:31:07:11:22:33").is_none(), "a hardware address");
}

#[test]
fn times_of_day() {
    let (civil, end) = time_of_day(b"02:31:07,442 [main]").unwrap();
    assert_eq!((civil.month, civil.hour, civil.nanos, end), (0, 2, 442_000_000, 12));
    assert_eq!(time_of_day(b"2:31:07 PM x").unwrap().0.hour, 14);
}

#[test]
fn epochs() {
    for text in ["1775961067 x", "1775961067442 x", "1775961067442000 x", "1775961067442000000 x", "1775961067.442 x"] {
        let (civil, _) = epoch(text.as_bytes()).unwrap();
        assert_eq!((civil.year, civil.month, civil.day, civil.hour, civil.second), (2026, 4, 12, 2, 7), "{text}");
    }
    assert!(epoch(b"12345 x").is_none() && epoch(b"17759610670 x").is_none());
}

#[test]
fn months_are_sorted_for_the_search() {
    assert!(MONTHS.is_sorted_by_key(|(name, _)| *name));
    for (text, month) in
        [("Mär", 3), ("März", 3), ("août", 8), ("déc.", 12), ("févr.", 2), ("Dez", 12), ("wrz", 9), ("gru", 12)]
    {
        assert_eq!(month_name(text.as_bytes(), 0), Some((month, text.len())), "{text}");
        let latin: Option<Vec<u8>> = text.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect();
        if let Some(latin) = latin {
            assert_eq!(month_name(&latin, 0), Some((month, latin.len())), "{text} in one byte");
        }
    }
}

fn evidence(dates: &[&str]) -> (DateOrder, bool) {
    let mut evidence = Evidence::default();
    for date in dates {
        evidence.take(format!("{date} 02:31:07 x").as_bytes());
    }
    evidence.order()
}

#[test]
fn the_order_is_decided_by_all_dates() {
    assert_eq!(evidence(&["03/04/2026", "13/04/2026"]), (DateOrder::DayFirst, false));
    assert_eq!(evidence(&["03/04/2026", "03/14/2026"]), (DateOrder::MonthFirst, false));
    assert_eq!(evidence(&["03/04/2026", "03/05/2026", "03/06/2026"]), (DateOrder::MonthFirst, false));
    assert_eq!(evidence(&["03/04/2026", "04/04/2026"]), (DateOrder::DayFirst, false));
    assert_eq!(evidence(&["26/04/11", "26/04/12"]), (DateOrder::YearFirst, false));
    assert_eq!(evidence(&["03/04/2026", "03/04/2026"]), (DateOrder::DayFirst, true), "undecidable");
    assert_eq!(evidence(&["03.04.2026"]), (DateOrder::DayFirst, false));
}

proptest! {
    /// Every moment, written by an independent library in each form, is read back.
    #[test]
    fn written_by_jiff(seconds in 0_i64..4_000_000_000, form in 0_usize..9) {
        let forms = [
            ("%d/%m/%Y %H:%M:%S", DateOrder::DayFirst),
            ("%m/%d/%Y %I:%M:%S %p", DateOrder::MonthFirst),
            ("%d.%m.%Y %H:%M:%S", DateOrder::DayFirst),
            ("%d %b %Y %H:%M:%S", DateOrder::DayFirst),
            ("%a %b %e %H:%M:%S %Y", DateOrder::DayFirst),
            ("%B %d, %Y %I:%M:%S %p", DateOrder::DayFirst),
            ("%A, %d %B %Y %H:%M:%S", DateOrder::DayFirst),
            ("%Y-%m-%d %I:%M:%S %P", DateOrder::DayFirst),
            ("%d/%b/%Y:%H:%M:%S +0000", DateOrder::DayFirst),
        ];
        let (form, order) = forms[form];
        let stamp = jiff::Timestamp::from_second(seconds).unwrap();
        let text = stamp.strftime(form).to_string();
        let (civil, end) = dated(text.as_bytes(), order).unwrap();
        prop_assert_eq!(end, text.len());
        prop_assert_eq!(civil.to_ns(), Some(seconds * 1_000_000_000));
    }

    #[test]
    fn any_bytes(bytes in proptest::collection::vec(any::<u8>(), 0..60), order in 0_u8..3) {
        let order = DateOrder::from_bits(u16::from(order));
        if let Some((_, end)) = dated(&bytes, order) { prop_assert!(end <= bytes.len()); }
        if let Some((_, end)) = time_of_day(&bytes) { prop_assert!(end <= bytes.len()); }
        if let Some((_, end)) = epoch(&bytes) { prop_assert!(end <= bytes.len()); }
        let mut evidence = Evidence::default();
        evidence.take(&bytes);
        evidence.order();
    }

    #[test]
    fn bytes_like_dates(text in "[0-9A-Za-z/.:, -]{0,40}") {
        dated(text.as_bytes(), DateOrder::DayFirst);
        Evidence::default().take(text.as_bytes());
    }
}
