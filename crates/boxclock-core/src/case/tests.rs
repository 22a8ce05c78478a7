//! Reading whole cases: attaching, years, zones, encodings, long lines, odd files, and that nothing gets lost.

use std::fs::{self, File};
use std::io::Write;
use std::path::Path;
use std::time::{Duration, UNIX_EPOCH};

use proptest::prelude::*;

use super::*;
use crate::clock::{TimeKnown, to_rfc3339};
use crate::event::{RecordReader, Row};
use crate::limits;

struct Opened {
    case: Case,
    loaded: Loaded,
}

impl Opened {
    fn of(paths: &[&Path], options: Options) -> Self {
        let paths: Vec<_> = paths.iter().map(|path| path.to_path_buf()).collect();
        let case = Case::open(&paths, options, &Work::default()).unwrap();
        let loaded = case.load(&Work::default()).unwrap();
        Self { case, loaded }
    }

    /// Each event as `time known line body`.
    fn list(&self) -> Vec<String> {
        let mut reader = RecordReader::new(Arc::clone(&self.case.sources));
        let event = |row: &u32| self.loaded.table.event(Row(*row));
        self.loaded
            .table
            .order
            .iter()
            .map(event)
            .map(|event| {
                let time = event.time().map_or("-".into(), |time| to_rfc3339(time)[..19].to_owned());
                format!("{time} {} {} {}", event.time_known().name(), event.line(), reader.record(event).body)
            })
            .collect()
    }
}

/// One file with this content, modified at this moment (seconds).
fn one(content: &[u8], modified_s: u64, options: Options) -> Opened {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("x.log");
    let mut file = File::create(&path).unwrap();
    file.write_all(content).unwrap();
    file.set_modified(UNIX_EPOCH + Duration::from_secs(modified_s)).unwrap();
    let opened = Opened::of(&[&path], options);
    // The text is read again from the file: keep it until the end of the process.
    std::mem::forget(folder);
    opened
}

fn utc(text: &str) -> u64 {
    text.parse::<jiff::Timestamp>().unwrap().as_second() as u64
}

#[test]
fn traces_stay_with_their_event() {
    let opened = one(
        b"prologue\n\n2026-04-12 02:31:07 ERROR x\n  at a\n\n  at b\n2026-04-12 02:31:08 INFO y\n",
        0,
        Options::default(),
    );
    assert_eq!(
        opened.list(),
        [
            "2026-04-12T02:31:07 inherited 1 prologue",
            "2026-04-12T02:31:07 assumed-zone 3 x\n  at a\n\n  at b",
            "2026-04-12T02:31:08 assumed-zone 7 y",
        ]
    );
    let report = &opened.loaded.reports[0];
    assert_eq!((report.lines, report.events, report.attached_lines, report.undated_events), (7, 3, 4, 1));
}

#[test]
fn encodings_give_the_same_events() {
    let text = "2026-04-12 02:31:07 ERROR Füße naß ਊ\r\n  at a\r\n2026-04-12 02:31:08 INFO y\r\n";
    let plain = one(text.as_bytes(), 0, Options::default());
    let marked = one(&[b"\xEF\xBB\xBF", text.as_bytes()].concat(), 0, Options::default());
    let little: Vec<u8> = [0xFEFF].into_iter().chain(text.encode_utf16()).flat_map(u16::to_le_bytes).collect();
    let big: Vec<u8> = [0xFEFF].into_iter().chain(text.encode_utf16()).flat_map(u16::to_be_bytes).collect();
    assert_eq!(plain.list()[0], "2026-04-12T02:31:07 assumed-zone 1 Füße naß ਊ\n  at a");
    for (other, encoding) in [
        (marked, "utf-8"),
        (one(&little, 0, Options::default()), "utf-16le"),
        (one(&big, 0, Options::default()), "utf-16be"),
    ] {
        assert_eq!(other.list(), plain.list(), "{encoding}");
        assert_eq!(other.case.sources[0].encoding.name(), encoding);
        let table = &other.loaded.table;
        let covered: u64 = (0..table.len() as u32).map(|row| table.event(Row(row)).length()).sum();
        assert_eq!(covered + other.case.sources[0].mark_bytes, other.case.sources[0].len_bytes);
    }
}

#[test]
fn years_go_back_from_the_files_time() {
    let log = b"Dec 31 23:59:59 gw a: x\nJan  1 00:00:01 gw a: y\nFeb 28 00:00:00 gw a: z\n";
    let opened = one(log, utc("2026-03-01T00:00:00Z"), Options::default());
    assert_eq!(
        opened.list(),
        [
            "2025-12-31T23:59:59 assumed-year 1 x",
            "2026-01-01T00:00:01 assumed-year 2 y",
            "2026-02-28T00:00:00 assumed-year 3 z",
        ]
    );
}

#[test]
fn years_across_many_pieces() {
    // Two New Years in a file of several pieces, of which some hold no New Year.
    let filler = "x".repeat(1000);
    let mut log = String::new();
    for (month, day) in [("Nov", 3), ("Dec", 9), ("Jan", 4), ("Jun", 5), ("Dec", 6), ("Jan", 7)] {
        for second in 0..3000 {
            log.push_str(&format!(
                "{month} {day:>2} {:02}:{:02}:{:02} gw a: {filler}\n",
                1 + second / 3600,
                second / 60 % 60,
                second % 60
            ));
        }
    }
    assert!(log.len() as u64 > 4 * limits::CHUNK_BYTES);
    let opened = one(log.as_bytes(), utc("2026-01-08T00:00:00Z"), Options::default());
    let years: Vec<String> = opened.list().iter().step_by(3000).map(|line| line[..7].to_owned()).collect();
    assert_eq!(
        years,
        ["2023-11", "2023-12", "2024-01", "2024-06", "2024-12", "2025-01"].map(|text| {
            // The file's time is January 2026: its last line is of 7 January 2026.
            let year: i32 = text[..4].parse().unwrap();
            format!("{}{}", year + 1, &text[4..])
        })
    );
    assert!(opened.loaded.table.disordered.is_empty());
}

#[test]
fn zones_by_rank() {
    let log = b"2026-04-12 02:31:07 x\n";
    let zone = |text: &str| Some(Zone::parse(text).unwrap());
    assert_eq!(one(log, 0, Options::default()).list()[0], "2026-04-12T02:31:07 assumed-zone 1 x");
    let opened = one(log, 0, Options { zone: zone("+02:00"), ..Options::default() });
    assert_eq!(opened.list()[0], "2026-04-12T00:31:07 exact 1 x");
    assert_eq!(opened.case.sources[0].zone_shown(&opened.loaded.reports[0]), ("+02:00".into(), ZoneFrom::User));
    let opened = one(b"2026-04-12 02:31:07+05:00 x\n", 0, Options { zone: zone("+02:00"), ..Options::default() });
    assert_eq!(opened.list()[0], "2026-04-11T21:31:07 exact 1 x");
    assert_eq!(opened.case.sources[0].zone_shown(&opened.loaded.reports[0]), ("+05:00".into(), ZoneFrom::Line));
}

#[test]
fn hosts_zones_and_clocks() {
    let folder = tempfile::tempdir().unwrap();
    for (host, zone) in [("a", "Europe/Lisbon"), ("b", "Asia/Tokyo")] {
        let root = folder.path().join("hosts").join(host);
        fs::create_dir_all(root.join("etc")).unwrap();
        fs::write(root.join("etc/timezone"), format!("{zone}\n")).unwrap();
        fs::write(root.join("app.log"), "2026-07-01 12:00:00 INFO noon\n").unwrap();
    }
    let drift = [("b".to_owned(), ClockCorrection::from(5_000_000_000))].into();
    let opened = Opened::of(&[folder.path()], Options { drift, ..Options::default() });
    let noon: Vec<String> = opened.list().into_iter().filter(|line| line.ends_with("noon")).collect();
    assert_eq!(noon, ["2026-07-01T03:00:05 exact 1 noon", "2026-07-01T11:00:00 exact 1 noon"]);
    assert!(opened.case.sources.iter().all(|source| source.name.starts_with("hosts/")));
    let plain = opened.loaded.with_drift(&opened.case.sources, &HashMap::new());
    assert_eq!(to_rfc3339(plain.table.span.unwrap().0)[..19], *"2026-07-01T03:00:00");
}

#[test]
fn times_beyond_64_bits_are_named() {
    let opened = one(b"2026-04-12 02:31:07 a\n9999-12-31 00:00:00 b\n1601-01-01 00:00:00 c\n", 0, Options::default());
    assert_eq!(opened.list()[1], "2026-04-12T02:31:07 inherited 2 b");
    assert!(
        opened.loaded.reports[0].trouble[0]
            .text
            .contains("2 times outside the years 1678 to 2261, the first at byte 22")
    );
}

#[test]
fn a_line_of_200_megabytes() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("long.log");
    let mut file = File::create(&path).unwrap();
    file.write_all(b"2026-04-12 02:31:07 INFO start ").unwrap();
    let piece = vec![b'x'; 1 << 20];
    for _ in 0..200 {
        file.write_all(&piece).unwrap();
    }
    file.write_all(b"\n2026-04-12 02:31:08 ERROR end\n").unwrap();
    let opened = Opened::of(&[&path], Options::default());
    let table = &opened.loaded.table;
    assert_eq!(table.len(), 2);
    assert_eq!(table.event(Row(0)).length(), 31 + (200 << 20) + 1);
    assert_eq!(opened.loaded.reports[0].lines, 2);
    assert!(opened.loaded.reports[0].trouble[0].text.contains("longer than"), "{:?}", opened.loaded.reports[0].trouble);
    let mut reader = RecordReader::new(Arc::clone(&opened.case.sources));
    assert!(reader.record(table.event(Row(0))).body.len() <= limits::RECORD_BYTES);
    assert_eq!(reader.record(table.event(Row(1))).body, "end");
}

#[test]
fn damaged_text_is_all_there() {
    let opened = one(b"2026-04-12 02:31:07 bad \xFF\xFE bytes\n\0\0\0\x002026-04-12 02:31:08 behind NULs\n2026-04-12 02:31:09 \x1b[31mred\n", 0, Options::default());
    let list = opened.list();
    assert_eq!(list[0], "2026-04-12T02:31:07 assumed-zone 1 bad \u{FFFD}\u{FFFD} bytes");
    assert_eq!(list[1], "2026-04-12T02:31:08 assumed-zone 2 behind NULs");
    assert_eq!(
        list[2], "2026-04-12T02:31:09 assumed-zone 3 \u{1b}[31mred",
        "the data is as it was; showing it is another matter"
    );
    let trouble =
        opened.loaded.reports[0].trouble.iter().map(|trouble| trouble.text.as_str()).collect::<Vec<_>>().join("\n");
    assert!(trouble.contains("byte 24 are not UTF-8") && trouble.contains("NUL bytes at byte 33"), "{trouble}");
}

#[test]
fn odd_things_in_a_folder() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path();
    fs::create_dir(root.join("sub")).unwrap();
    fs::write(root.join("sub/a.log"), "2026-04-12 02:31:07 x\n").unwrap();
    fs::write(root.join("empty.log"), "").unwrap();
    fs::write(root.join("picture"), [0x89, 0x50, 1, 2, 3, 4, 5, 6, 7, 0x1A, 0xFF, 0xD8, 2, 2].repeat(20)).unwrap();
    std::os::unix::fs::symlink(root, root.join("sub/loop")).unwrap();
    std::os::unix::fs::symlink("a.log", root.join("sub/again.log")).unwrap();
    let made = std::process::Command::new("mkfifo").arg(root.join("pipe")).status().unwrap();
    assert!(made.success());
    let opened = Opened::of(&[root], Options::default());
    let names: Vec<_> = opened.case.sources.iter().map(|source| source.name.rsplit('/').next().unwrap()).collect();
    assert_eq!(names, ["empty.log", "a.log"], "each file once");
    let reason = |name: &str| {
        opened
            .case
            .left_out
            .iter()
            .find(|left| left.path.ends_with(name))
            .map_or("not named", |left| left.reason.as_str())
    };
    assert_eq!(reason("pipe"), "a FIFO, not a file");
    assert_eq!(reason("loop"), "a link that leads back to a folder above it");
    assert!(reason("picture").contains("no format that is known"), "{}", reason("picture"));
    assert_eq!(opened.loaded.table.len(), 1);
}

#[test]
fn what_is_not_there_is_named() {
    let error = Case::open(&["/no/such/place".into()], Options::default(), &Work::default()).err().unwrap();
    assert_eq!(error.to_string(), "no such file or folder: /no/such/place");
}

#[test]
fn a_file_that_shrinks_while_it_is_open() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("x.log");
    fs::write(&path, "2026-04-12 02:31:07 x\n".repeat(1000)).unwrap();
    let case = Case::open(std::slice::from_ref(&path), Options::default(), &Work::default()).unwrap();
    fs::write(&path, "2026-04-12 02:31:07 x\n".repeat(10)).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    assert_eq!(loaded.table.len(), 10);
    assert!(loaded.reports[0].trouble[0].text.contains("has become shorter"), "{:?}", loaded.reports[0].trouble);
    fs::remove_file(&path).unwrap();
    let mut reader = RecordReader::new(Arc::clone(&case.sources));
    assert!(reader.record(loaded.table.event(Row(3))).body.contains("cannot read"));
}

#[test]
fn undated_files_are_events_without_time() {
    let opened = one(b"one\n\ntwo\n  three\n", 0, Options::default());
    assert_eq!(opened.list(), ["- none 1 one", "- none 3 two", "- none 4   three"]);
    assert_eq!(opened.loaded.table.event(Row(0)).time_known(), TimeKnown::None);
}

#[test]
fn cancelled_reading_stops() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("x.log"), "2026-04-12 02:31:07 x\n").unwrap();
    let case = Case::open(&[folder.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
    let work = Work::default();
    work.cancel();
    assert!(case.load(&work).is_err());
}

#[test]
fn pieces_are_read_like_one() {
    // Lines of changing length over several pieces, some with attached lines that cross the seams.
    let mut log = String::new();
    let mut expected = Vec::new();
    let mut second = 0;
    while (log.len() as u64) < 3 * limits::CHUNK_BYTES {
        expected.push(log.len() as u64);
        log.push_str(&format!(
            "2026-04-12 {:02}:{:02}:{:02} ERROR n{second} {}\n",
            second / 3600 % 24,
            second / 60 % 60,
            second % 60,
            "y".repeat(second % 1500)
        ));
        for line in 0..second % 5 {
            log.push_str(&format!("  at frame {line} 0x80070005\n"));
        }
        second += 1;
    }
    let opened = one(log.as_bytes(), 0, Options::default());
    let table = &opened.loaded.table;
    let offsets: Vec<u64> = (0..table.len() as u32).map(|row| table.event(Row(row)).offset()).collect();
    assert_eq!(offsets, expected);
    let lengths: u64 = (0..table.len() as u32).map(|row| table.event(Row(row)).length()).sum();
    assert_eq!(lengths, log.len() as u64);
    let lines = log.lines().count() as u64;
    assert_eq!(opened.loaded.reports[0].lines, lines);
    let last = table.event(Row(table.len() as u32 - 1));
    assert_eq!(last.line(), log[..last.offset() as usize].lines().count() as u64 + 1);
    // Codes in attached lines belong to their event, also across a seam.
    for row in 0..table.len() as u32 {
        let event = table.event(Row(row));
        assert_eq!(event.codes().next().is_some(), row % 5 > 0, "event {row} at {}", event.offset());
    }
}

#[test]
fn views_on_the_way_grow_to_the_whole() {
    let line = format!("2026-04-12 02:31:07 INFO {}\n", "z".repeat(200));
    let log = line.repeat((5 * limits::CHUNK_BYTES) as usize / line.len());
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("a.log"), &log).unwrap();
    fs::write(folder.path().join("b.log"), "2026-04-12 02:31:08 INFO end\n").unwrap();
    let case = Case::open(&[folder.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
    let mut views = Vec::new();
    let loaded = Loader::new(&case)
        .run_showing(&Work::default(), |view| {
            // Any view can be read from: its events are where they say.
            let table = &view.table;
            assert_eq!(table.order.len(), table.len());
            let last = table.event(Row(table.len() as u32 - 1));
            assert!(last.offset() + last.length() <= case.sources[last.source()].len_bytes);
            views.push((table.len(), view.complete));
        })
        .unwrap();
    assert!(views.len() >= 2 && views.is_sorted(), "{views:?}");
    assert_eq!(views.last(), Some(&(loaded.table.len(), true)));
    assert!(views[0].0 < loaded.table.len() && !views[0].1, "the first view does not wait for the last byte");
}

#[test]
fn searching_reads_every_encoding() {
    let text = "2026-04-12 02:31:07 ERROR Füße gone\r\n2026-04-12 02:31:08 INFO fine\r\n";
    let utf16: Vec<u8> = [0xFEFF].into_iter().chain(text.encode_utf16()).flat_map(u16::to_le_bytes).collect();
    for content in [text.as_bytes().to_vec(), utf16] {
        let opened = one(&content, 0, Options::default());
        for (filter, expected) in [("gone", 1), ("füSSe", 0), ("FÜSSE", 0), ("füße", 1), ("/^2026.*fine/", 1), ("0", 2)]
        {
            let filter = crate::query::Filter::parse(filter, &Zone::utc()).unwrap();
            let rows = filter
                .rows(&crate::analysis::CaseView::new(opened.case.clone(), opened.loaded.clone()), &Work::default())
                .unwrap();
            assert_eq!(rows.count(), expected, "{filter:?}");
        }
    }
}

#[test]
fn many_sources_share_few_windows() {
    let folder = tempfile::tempdir().unwrap();
    for number in 0..200 {
        let line = format!("2026-04-12 02:{:02}:{:02} INFO source {number}\n", number / 60, number % 60);
        fs::write(folder.path().join(format!("{number:03}.log")), line.repeat(3)).unwrap();
    }
    let opened = Opened::of(&[folder.path()], Options::default());
    let list = opened.list();
    assert_eq!(list.len(), 600);
    assert!(list.iter().enumerate().all(|(index, line)| line.ends_with(&format!("source {}", index / 3))));
}

#[test]
fn backward_times_are_flagged_in_the_output() {
    let opened = one(
        b"2026-04-12 02:31:07 a\n2026-04-12 02:31:09 b\n2026-04-12 02:31:08 late\n2026-04-12 02:31:10 c\n",
        0,
        Options::default(),
    );
    let mut reader = RecordReader::new(Arc::clone(&opened.case.sources));
    let flagged: Vec<String> = (0..4)
        .map(|row| reader.record(opened.loaded.table.event(Row(row))))
        .filter(|record| record.attributes.get("boxclock.out_of_order") == Some(&true.into()))
        .map(|record| record.body)
        .collect();
    assert_eq!(flagged, ["late"]);
    let bodies: Vec<String> = opened.list().iter().map(|line| line.rsplit(' ').next().unwrap().to_owned()).collect();
    assert_eq!(bodies, ["a", "b", "late", "c"], "the order of the file stays");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Whatever the bytes: every line is an event's first or attached, and events cover the file from the first one on.
    #[test]
    fn nothing_gets_lost(lines in proptest::collection::vec(
        prop_oneof![
            Just(b"2026-04-12 02:31:07 ERROR x".to_vec()),
            Just(b"Apr 12 02:31:07 gw a[1]: y".to_vec()),
            Just(br#"{"time":"2026-04-12T02:31:07Z","msg":"z"}"#.to_vec()),
            Just(b"\tat frame".to_vec()),
            Just(Vec::new()),
            proptest::collection::vec(any::<u8>(), 0..40),
        ], 0..30), ending in prop_oneof![Just(&b"\n"[..]), Just(&b"\r\n"[..])])
    {
        let content = lines.join(ending);
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("x");
        fs::write(&path, &content).unwrap();
        let opened = Opened::of(&[&path], Options::default());
        if let Some(report) = opened.loaded.reports.first() {
            prop_assert_eq!(report.lines, report.events + report.attached_lines);
            let table = &opened.loaded.table;
            prop_assert_eq!(table.len() as u64, report.events);
            prop_assert_eq!(table.order.len(), table.len());
            let covered: u64 = (0..table.len() as u32).map(|row| table.event(Row(row)).length()).sum();
            if report.events > 0 {
                prop_assert_eq!(table.event(Row(0)).offset() + covered, content.len() as u64);
            }
            opened.list();
        }
    }
}
