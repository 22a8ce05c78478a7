//! Sources whose files do not stand in the order of what happened, lines beyond the usual length, and zones that are known from elsewhere.

use crate::clock::to_rfc3339;
use crate::event::Row;
use crate::testing::case;

/// Minutes of the events in merged order, with the source's name, and how many are out of order.
fn merged(case: &crate::testing::TestCase) -> (Vec<String>, usize) {
    let view = case.view();
    let table = &view.loaded.table;
    let name = |row: &u32| {
        let event = table.event(Row(*row));
        let time = event.time().map(to_rfc3339).unwrap_or_default();
        let source = view.case.sources[event.source()].name.rsplit('/').next().unwrap_or_default().to_owned();
        format!("{} {source}", &time[11..16])
    };
    (table.order.iter().map(name).collect(), table.disordered.len())
}

fn lines(minutes: &[u32]) -> String {
    minutes.iter().map(|minute| format!("2026-04-12T02:{minute:02}:00Z INFO feeder: step {minute}\n")).collect()
}

#[test]
fn newest_first_is_merged_by_time() {
    let backwards = lines(&[9, 7, 5, 3, 1]);
    let case = case(&[("down.log", &*backwards), ("up.log", &*lines(&[2, 4, 6, 8]))]);
    let (order, disordered) = merged(&case);
    let expected: Vec<String> =
        (1..10).map(|minute| format!("02:0{minute} {}", if minute % 2 == 1 { "down.log" } else { "up.log" })).collect();
    assert_eq!((order, disordered), (expected, 0));
}

#[test]
fn a_late_line_of_a_backward_source_is_still_named() {
    let case = case(&[(
        "down.log",
        lines(&[
            50, 49, 48, 47, 46, 45, 44, 43, 42, 41, 40, 39, 38, 37, 36, 35, 34, 33, 32, 31, 30, 29, 28, 27, 39, 26,
        ]),
    )]);
    assert!(case.open().sources[0].newest_first);
    assert_eq!(merged(&case).1, 1);
}

#[test]
fn years_and_repeated_hours_of_a_backward_source() {
    let text = "Jan  2 00:10:00 gw feeder: d\nJan  1 00:10:00 gw feeder: c\nDec 31 23:50:00 gw feeder: b\nDec 30 23:50:00 gw feeder: a\n";
    let case_of_years = case(&[("syslog", text)]);
    let view = case_of_years.view();
    let years: Vec<String> = view
        .loaded
        .table
        .order
        .iter()
        .filter_map(|row| view.loaded.table.event(Row(*row)).time())
        .map(|time| to_rfc3339(time)[..10].to_owned())
        .collect();
    let year: i32 = years[3][..4].parse().unwrap();
    assert_eq!(
        years,
        [
            format!("{}-12-30", year - 1),
            format!("{}-12-31", year - 1),
            format!("{year}-01-01"),
            format!("{year}-01-02")
        ]
    );

    // The hour that is repeated on 25 October 2026: the newer of the two readings comes first.
    let before: String = (0..30).rev().map(|minute| format!("2026-10-25 03:{minute:02}:00 INFO feeder: x\n")).collect();
    let text = before
        + "2026-10-25 02:10:00 INFO feeder: c\n2026-10-25 02:50:00 INFO feeder: b\n2026-10-25 01:59:00 INFO feeder: a\n";
    let (order, disordered) = merged(&case(&[("app.log", &*text)]).zone("Europe/Berlin"));
    let first: Vec<&str> = order.iter().take(4).map(|text| &text[..5]).collect();
    assert_eq!((first, disordered), (vec!["23:59", "00:50", "01:10", "02:00"], 0));
}

#[test]
fn a_line_beyond_the_sampled_bytes_keeps_its_event() {
    let long = "x".repeat(100_000);
    let one = |minute: u32, text: &str| {
        format!("{{\"time\":\"2026-04-12T02:{minute:02}:00Z\",\"msg\":\"{text}\",\"level\":\"error\"}}\n")
    };
    let text = [one(1, &long), one(2, "short"), one(3, &long), one(4, &"y".repeat(1_500_000)), one(5, "last")].concat();
    let case = case(&[("app.json", &*text)]);
    let view = case.view();
    let events: Vec<_> = view.loaded.table.order.iter().map(|row| view.loaded.table.event(Row(*row))).collect();
    assert_eq!(view.case.sources[0].reader.name(), "json-lines");
    assert_eq!(events.len(), 5);
    let levels: Vec<u8> = events.iter().map(|event| event.severity().0).collect();
    // What stands behind the first mebibyte of a line is not looked at.
    assert_eq!(levels, [17, 17, 17, 0, 17]);
}

#[test]
fn untagged_syslog_lines_are_events_wherever_they_stand() {
    let tagged = "2026-04-12T02:31:07.442000+00:00 pump-ctl feeder[99]: tank 4 was fed as it should be\n".repeat(1000);
    let text = format!(
        "{tagged}2026-04-12T02:31:08+00:00 pump-ctl gerät[7]: offen\n2026-04-12T02:31:09+00:00 pump-ctl no tag here\n"
    );
    let view = case(&[("syslog", &*text)]).view();
    let table = &view.loaded.table;
    assert_eq!(table.len(), 1002);
    assert_eq!((table.event(Row(1000)).component(), table.event(Row(1000)).actor().pid), ("gerät", Some(7)));
}

#[test]
fn a_host_is_in_the_zone_that_its_other_lines_state() {
    let stated = "2026-04-12T04:31:07+02:00 INFO bridge: up\n2026-04-12T04:32:07+02:00 INFO bridge: on\n";
    let bare = "2026-04-12 04:31:08 INFO console: up\n2026-04-12 04:32:08 INFO console: on\n";
    let case = case(&[("gw/a.log", stated), ("gw/b.log", bare), ("desk/c.log", bare)]);
    let sources = case.open().sources;
    let zones: Vec<(&str, &str)> = sources.iter().map(|source| (source.zone.name(), source.zone_from.name())).collect();
    assert_eq!(zones, [("+00:00", "case"), ("+02:00", "host"), ("+02:00", "host")]);
}

#[test]
fn the_story_of_a_folder_is_no_source_and_says_the_zone() {
    let story = r#"{"title":"No alarms","affected":["tank 4","7"],"since":"when we opened","zone":"+05:30","reported":"2026-04-12"}"#;
    let folder = case(&[("gw/a.log", "2026-04-12 04:31:08 INFO console: up\n")]);
    std::fs::write(folder.path().join("story.json"), story).unwrap();
    let opened = folder.open();
    assert_eq!(opened.sources.len(), 1);
    assert_eq!((opened.story.affected.as_str(), opened.zone.name()), ("tank 4, 7", "+05:30"));
    // A file of that name that tells nothing is a file like any other.
    let plain =
        case(&[("story.json", "{\"chapters\":[1]}\n"), ("a.log", "2026-04-12 04:31:08 INFO console: up\n")]).open();
    assert!(plain.sources.iter().any(|source| source.name.ends_with("story.json")), "{:?}", plain.left_out);
    std::fs::write(folder.path().join("story.json"), "{\"title\":{}}").unwrap();
    let opened = folder.open();
    assert!(opened.left_out.iter().any(|left| left.reason.contains("story cannot be read")), "{:?}", opened.left_out);
}

#[test]
fn program_files_are_kept_for_dumps_also_in_archives_and_nothing_writes_over_them() {
    let program =
        std::fs::read(std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/crashes/feed")).unwrap();
    let mut archive = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_size(program.len() as u64);
    header.set_mode(0o755);
    archive.append_data(&mut header, "usr/bin/drain", program.as_slice()).unwrap();
    let archive = archive.into_inner().unwrap();
    let case = case(&[("pump-ctl/usr/bin/feed", program), ("pump-ctl/tools.tar", archive)]);
    let opened = case.open();
    let names: Vec<&str> = opened.programs.iter().map(|one| one.name.rsplit('/').next().unwrap()).collect();
    assert_eq!(names, ["drain", "feed"], "{:?}", opened.left_out);
    assert!(opened.sources.is_empty() && opened.left_out.is_empty(), "{:?}", opened.left_out);
    let error = crate::new_file::NewFile::create(&opened.programs[0].path, &opened.protected(), true).err().unwrap();
    assert!(error.to_string().contains("program file"), "{error}");
}

#[test]
fn binary_files_are_named_and_give_no_events() {
    let dump = [&b"KDUMP   "[..], &[0; 4000], &b"driver.sys\0tank\0"[..]].concat();
    let rich: Vec<u8> = b"name\0\0\x01value\0\0".repeat(500);
    let case = case(&[("memory.dmp", dump), ("state.bin", rich)]);
    let opened = case.open();
    assert!(opened.sources.is_empty(), "{:?}", opened.sources.iter().map(|source| &source.name).collect::<Vec<_>>());
    assert!(
        opened.left_out.iter().any(|left| left.reason.contains("a dump of a whole system")),
        "{:?}",
        opened.left_out
    );
}

#[test]
fn day_and_month_are_decided_once_for_like_files_of_a_host() {
    let line = |date: &str, at: u32| format!("{date} 02:{at:02}:00 INFO feeder: step {at}\n");
    // Only the third file of the gateway tells day from month; what another host does says nothing here.
    let case = case(&[
        ("gw/a.log", line("04/03/2026", 1) + &line("04/03/2026", 2)),
        ("gw/b.log", line("04/05/2026", 1) + &line("04/05/2026", 2)),
        ("gw/c.log", line("04/13/2026", 1) + &line("04/13/2026", 2)),
        ("desk/d.log", line("04/03/2026", 1) + &line("04/03/2026", 2)),
    ]);
    let view = case.view();
    let read = |name: &str| {
        let source = view.case.sources.iter().position(|source| source.name.ends_with(name)).unwrap();
        let rows = view.loaded.table.order.iter().map(|row| view.loaded.table.event(Row(*row)));
        let first = rows.filter(|event| event.source() == source).find_map(|event| event.time()).unwrap();
        let notes: Vec<String> = view.case.sources[source].trouble.iter().map(|trouble| trouble.text.clone()).collect();
        (to_rfc3339(first)[..10].to_owned(), view.case.sources[source].guessed_dates().is_some(), notes.concat())
    };
    let (date, guessed, note) = read("a.log");
    assert_eq!((date.as_str(), guessed), ("2026-04-03", false), "{note}");
    assert!(note.ends_with("they are read month-first, as in hosts/gw/c.log"), "{note}");
    assert_eq!(read("b.log").0, "2026-04-05");
    assert_eq!(read("c.log"), ("2026-04-13".to_owned(), false, String::new()));
    let (date, guessed, note) = read("d.log");
    assert_eq!((date.as_str(), guessed), ("2026-03-04", true));
    assert!(note.contains("read day-first"), "{note}");
}
