//! The filter language: what it finds, and where it says a mistake is.

use proptest::prelude::*;

use super::*;
use crate::analysis::CaseView;
use crate::work::Work;

mod plainly;

const LOG: &str = "\
2026-04-12 02:10:00 INFO  [main] dosing - heartbeat sent
2026-04-12 02:20:00 WARN  [main] dosing - lease of tank 3 was lost
2026-04-12 02:30:00 ERROR [main] valves - access refused 0x80070005
  at Valve.Open(heartbeat)
2026-04-12 02:31:07 FATAL [main] valves - gave up (Heartbeat)
2026-04-12 23:59:00 DEBUG [main] night - late
2026-04-13 00:05:00 INFO  [main] night - early
";
const SYSLOG: &str = "\
<27>1 2026-04-12T02:31:06Z gw bridge 88 - - refused by rule
<30>1 2026-04-12T02:31:08Z gw bridge 89 - - fine
";

struct Fixture {
    _folder: crate::testing::TestCase,
    view: CaseView,
}

fn fixture() -> Fixture {
    let folder = crate::testing::case(&[("pump-ctl/app.log", LOG), ("dose-gw/syslog", SYSLOG)]);
    let view = folder.view();
    Fixture { _folder: folder, view }
}

/// The times of day of the events that pass.
fn passing(fixture: &Fixture, text: &str) -> String {
    let filter = Filter::parse(text, &Zone::utc()).unwrap_or_else(|error| panic!("{text}: {error:?}"));
    let rows = filter.rows(&fixture.view, &Work::default()).unwrap();
    let order = rows_in_order(&fixture.view.loaded.table.order, &rows);
    assert_eq!(order.len(), rows.count());
    let at_once = filter.rows_in_order(&fixture.view, &Work::default()).unwrap();
    assert_eq!(at_once, order, "{text}: looking only where the span is must find the same");
    let time = |row: &u32| fixture.view.loaded.table.event(crate::event::Row(*row)).time().unwrap();
    order
        .iter()
        .map(|row| crate::clock::human::time_of_day(time(row), &Zone::utc())[..5].to_owned())
        .collect::<Vec<_>>()
        .join(" ")
}

#[test]
fn what_passes() {
    let fixture = fixture();
    for (text, expected) in [
        ("", "02:10 02:20 02:30 02:31 02:31 02:31 23:59 00:05"),
        ("thread.name=main level>=error", "02:30 02:31"),
        ("syslog.facility~daem", "02:31 02:31"),
        ("thread.name!=main host=pump-ctl", ""),
        ("level>=warn", "02:20 02:30 02:31 02:31"),
        ("level>warn", "02:30 02:31 02:31"),
        ("level=error", "02:30 02:31"),
        ("level=debug,fatal", "02:31 23:59"),
        ("level<=debug", "23:59"),
        ("level!=info", "02:20 02:30 02:31 02:31 23:59"),
        ("host=dose-gw", "02:31 02:31"),
        ("host=DOSE-GW,pump-ctl level=fatal", "02:31"),
        ("host~pump component=valves", "02:30 02:31"),
        ("source~syslog pid=88", "02:31"),
        ("format=rfc5424", "02:31 02:31"),
        ("code=0x80070005", "02:30"),
        ("code=-2147024891", "02:30"),
        ("code=E_ACCESSDENIED", "02:30"),
        ("heartbeat", "02:10 02:30 02:31"),
        ("not heartbeat", "02:20 02:31 02:31 23:59 00:05"),
        ("level>=warn not \"heartbeat\"", "02:20 02:31"),
        ("\"lease of\"", "02:20"),
        ("/lease .* lost/", "02:20"),
        ("/Heartbeat/", "02:31"),
        ("/^2026-04-13/", "00:05"),
        ("(code=0x80070005 or /lease .* lost/) source~app", "02:20 02:30"),
        ("level=fatal or level=debug", "02:31 23:59"),
        ("not (level>=warn or heartbeat)", "02:31 23:59 00:05"),
        ("time in 02:15..02:30", "02:20 02:30"),
        ("time in 23:00..01:00", "23:59 00:05"),
        ("time in 2026-04-12T02:31..2026-04-12T23:59", "02:31 02:31 02:31 23:59"),
        ("time in \"2026-04-12 23:00\"..00:30", "23:59 00:05"),
        ("time within 2s of 02:31:07", "02:31 02:31 02:31"),
        ("time within 10m of 00:00", "23:59 00:05"),
        ("time in 04-12T02:15..02:30", "02:20 02:30"),
        ("time in 04-12T23:00..00:30", "23:59 00:05"),
        ("time in \"04-12 02:31\"..\"04-13 00:00\"", "02:31 02:31 02:31 23:59"),
        ("time in 04-14T02:15..02:30", ""),
        ("time in 04-13T00:00..04-12T02:15", "02:10 00:05"),
        ("time within 10m of \"04-13 00:00\"", "23:59 00:05"),
        ("time>=2026-04-13", "00:05"),
        ("nowhere-to-be-found", ""),
        // Both of the gateway's are of a pattern of their own, the heartbeats too.
        ("count>=2", ""),
        ("count=1 level>=error", "02:30 02:31 02:31"),
        ("count<2 host=dose-gw", "02:31 02:31"),
        ("firstseen>=2026-04-12T02:31:07Z", "02:31 02:31 23:59 00:05"),
        ("firstseen<2026-04-12T02:20Z", "02:10"),
    ] {
        assert_eq!(passing(&fixture, text), expected, "{text}");
    }
}

#[test]
fn attributes_are_compared_as_numbers() {
    let lines = "{\"time\":\"2026-04-12T02:10:00Z\",\"msg\":\"fed\",\"retry\":4,\"took\":\"12.5\"}\n\
                 {\"time\":\"2026-04-12T02:20:00Z\",\"msg\":\"fed\",\"retry\":11,\"took\":\"9\"}\n\
                 {\"time\":\"2026-04-12T02:30:00Z\",\"msg\":\"fed\",\"took\":\"long\"}\n";
    let folder = crate::testing::case(&[("pump-ctl/app.jsonl", lines)]);
    let view = folder.view();
    let fixture = Fixture { _folder: folder, view };
    for (text, expected) in [
        ("attributes.retry>=4", "02:10 02:20"),
        ("attributes.retry>4", "02:20"),
        ("attributes.retry<11", "02:10"),
        ("attributes.took<=12.5", "02:10 02:20"),
        ("not attributes.took>10", "02:20 02:30"),
        ("count>=3", "02:10 02:20 02:30"),
    ] {
        assert_eq!(passing(&fixture, text), expected, "{text}");
    }
}

#[test]
fn a_correction_of_the_clock_counts_in_filters() {
    let mut fixture = fixture();
    let drift = [("dose-gw".to_owned(), crate::clock::ClockCorrection::from(-401 * crate::clock::SECOND))].into();
    fixture.view.loaded = fixture.view.loaded.with_drift(&fixture.view.case.sources, &drift);
    assert_eq!(passing(&fixture, "host=dose-gw time in 02:24..02:25"), "02:24 02:24");
}

#[test]
fn mistakes_are_shown_where_they_are() {
    for (text, at, part) in [
        ("level>=wran", 7, "\"wran\" is not a level"),
        ("hots=gw", 0, "no field \"hots\""),
        ("level>=", 7, "a value must follow"),
        ("(level=warn", 0, "has no ) after it"),
        ("level=warn)", 10, "has no ( before it"),
        ("a or", 4, "something must follow"),
        ("or a", 0, "something must come before"),
        ("not", 3, "something must follow"),
        ("/unclosed", 0, "no closing /"),
        ("/(/", 0, "not a regular expression"),
        ("\"unclosed", 0, "no closing \""),
        ("time in 02:10", 8, "FROM..TO"),
        ("time in 25:10..26:00", 8, "is not a time"),
        ("time within 5 of 02:31", 12, "is not a duration"),
        ("time within 5m 02:31", 15, "within 5m of TIME"),
        ("pid=abc", 4, "is not a number"),
        ("pid>5", 4, "takes = or != or ~"),
        ("code=hello", 5, "is not a code"),
        ("attributes.retry>=many", 18, "is not a number: attributes.retry is compared with >= as a number"),
        ("count~3", 6, "count takes"),
        ("time>=04-12T02:10", 6, "write the year too"),
        ("firstseen>02:31", 10, "write the date too"),
        ("time in 2026-04-13..2026-04-12", 8, "the end is before the start"),
    ] {
        let error = Filter::parse(text, &Zone::utc()).expect_err(text);
        assert_eq!(error.at, at, "{text}: {error:?}");
        assert!(error.message.contains(part), "{text}: {error:?}");
    }
    let error = Filter::parse("é level>=wran", &Zone::utc()).unwrap_err();
    assert_eq!(error.marked("é level>=wran").lines().nth(1).unwrap().find('^'), Some(11));
    let deep = "(".repeat(5000);
    assert!(Filter::parse(&deep, &Zone::utc()).is_err());
}

#[test]
fn what_find_takes() {
    assert!(Filter::find("C:\\Tankwarden (x").is_ok());
    assert!(Filter::find("/a|b/").is_ok());
    assert!(Filter::find("/(/").is_err());
}

proptest! {
    #[test]
    fn any_text(text in "(level|host|time|in|within|of|or|not|and|=|>=|~|\\(|\\)|\"|/|5m|02:10|\\.\\.| |é|warn){0,14}") {
        if let Err(error) = Filter::parse(&text, &Zone::utc()) {
            prop_assert!(error.at <= text.len());
            error.marked(&text);
        }
    }
}
