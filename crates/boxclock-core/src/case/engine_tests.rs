//! The engine under all formats: generations, encodings, forms of time, zones and clocks of single sources, accounts.

use std::fs::{self, File};
use std::path::Path;
use std::time::{Duration, UNIX_EPOCH};

use proptest::prelude::*;

use super::*;
use crate::clock::to_rfc3339;
use crate::event::{RecordReader, Row};
use crate::report::sources::sources;

struct Opened {
    case: Case,
    loaded: Loaded,
    folder: Option<tempfile::TempDir>,
}

/// A case of files with these names, contents and modification times (all the same where none is given).
fn open(files: &[(&str, &[u8])], modified: &str, options: Options) -> Opened {
    let folder = tempfile::tempdir().unwrap();
    let time = modified.parse::<jiff::Timestamp>().unwrap().as_second() as u64;
    for (name, content) in files {
        let path = folder.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, content).unwrap();
        File::options().append(true).open(&path).unwrap().set_modified(UNIX_EPOCH + Duration::from_secs(time)).unwrap();
    }
    let mut opened = open_path(folder.path(), options);
    opened.folder = Some(folder);
    opened
}

fn open_path(path: &Path, options: Options) -> Opened {
    let case = Case::open(&[path.to_path_buf()], options, &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    Opened { case, loaded, folder: None }
}

impl Opened {
    /// Each event in merged order as `time known body`.
    fn list(&self) -> Vec<String> {
        let mut reader = RecordReader::new(Arc::clone(&self.case.sources));
        let table = &self.loaded.table;
        let event = |row: &u32| {
            let event = table.event(Row(*row));
            let time = event.time().map_or("-".into(), |time| to_rfc3339(time)[..19].to_owned());
            format!("{time} {} {}", event.time_known().name(), reader.record(event).body)
        };
        table.order.iter().map(event).collect()
    }

    fn source(&self, end: &str) -> String {
        self.case.sources.iter().find(|source| source.name.ends_with(end)).unwrap().name.clone()
    }
}

const NOW: &str = "2026-04-12T06:00:00Z";

#[test]
fn generations_are_one_source_in_order() {
    let gzip = |text: &str| {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        std::io::Write::write_all(&mut encoder, text.as_bytes()).unwrap();
        encoder.finish().unwrap()
    };
    // The clock went back at the rotation, and the copy was taken two lines before the truncation.
    let oldest = gzip("Apr 11 23:59:58 gw a[1]: one\nApr 11 23:59:59 gw a[1]: two\n");
    let older = b"Apr 12 02:00:00 gw a[1]: three\nApr 12 02:00:01 gw a[1]: four\nApr 12 02:00:02 gw a[1]: five\n";
    let newest = b"Apr 12 02:00:01 gw a[1]: four\nApr 12 02:00:02 gw a[1]: five\nApr 12 01:59:00 gw a[1]: six\n";
    let opened = open(&[("log", newest), ("log.1", older), ("log.2.gz", &oldest)], NOW, Options::default());
    let bodies: Vec<String> = opened.list().iter().map(|line| line.rsplit(' ').next().unwrap().to_owned()).collect();
    assert_eq!(bodies, ["one", "two", "three", "four", "five", "six"]);
    let rows = sources(&opened.case, &opened.loaded);
    assert_eq!(rows.len(), 1);
    let row = &rows[0];
    assert!(row.source.ends_with("/log"));
    assert_eq!((row.events, row.repeated_lines, row.lines), (6, 2, 8));
    assert_eq!(row.bytes, row.event_bytes + row.other_bytes + row.repeated_bytes);
    let files: Vec<_> = row.files.iter().map(|file| (file.events, file.repeated_lines)).collect();
    assert_eq!(files, [(2, 0), (1, 2), (3, 0)]);
    assert!(opened.loaded.table.event(Row(5)).is_disordered(), "a time that goes back is flagged");
}

#[test]
fn years_go_back_through_generations() {
    let opened = open(
        &[
            ("log", b"Jan  2 10:00:00 gw a: new\n"),
            ("log.1", b"Dec 30 10:00:00 gw a: old\nJan  1 10:00:00 gw a: mid\n"),
        ],
        "2026-01-02T10:00:00Z",
        Options::default(),
    );
    let times: Vec<String> = opened.list().iter().map(|line| line[..10].to_owned()).collect();
    assert_eq!(times, ["2025-12-30", "2026-01-01", "2026-01-02"]);
}

#[test]
fn encodings_without_marks() {
    let text = "2026-04-12 02:31:07 ERROR Prüfung: Gerät fehlt\r\n  Folgezeile ä\r\n2026-04-12 02:31:08 INFO Prüfung: läuft\r\n";
    let latin: Vec<u8> = text.chars().map(|c| c as u8).collect();
    let le: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
    let be: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
    for (name, bytes) in
        [("windows-1252", latin), ("utf-16le", le), ("utf-16be", be), ("utf-8", text.as_bytes().to_vec())]
    {
        let opened = open(&[("x.log", &bytes)], NOW, Options::default());
        assert_eq!(sources(&opened.case, &opened.loaded)[0].encoding, name);
        assert_eq!(
            opened.list(),
            ["2026-04-12T02:31:07 assumed-zone Gerät fehlt\n  Folgezeile ä", "2026-04-12T02:31:08 assumed-zone läuft"],
            "{name}"
        );
        let unit = if name.starts_with("utf-16") { 2 } else { 1 };
        let second = opened.loaded.table.event(Row(1)).offset();
        let chars = text.find("2026-04-12 02:31:08").unwrap() as u64;
        let umlauts = if name == "utf-8" { 0 } else { 3 };
        assert_eq!(second, (chars - umlauts) * unit, "{name}: offsets are those of the file");
    }
}

#[test]
fn records_that_were_torn_are_named() {
    let whole = br#"{"time":"2026-04-12T02:31:07Z","level":"info","message":"fed"}"#;
    let text = [&whole[..], b"\n{\"time\":\"2026-04-12T02:31:08Z\",\"mess\n", whole, b"\n", &whole[..30]].concat();
    let opened = open(&[("dosing.json", &text)], NOW, Options::default());
    assert_eq!(opened.list().len(), 2);
    let trouble: Vec<&str> = opened.loaded.reports[0].trouble.iter().map(|trouble| trouble.text.as_str()).collect();
    let first = whole.len() + 1;
    assert_eq!(trouble, [format!("2 records are not whole, the first at byte {first}: kept with the event before")]);
    let good = [&whole[..], b"\n  at Tank.feed(Tank.java:7)\n", whole, b"\n"].concat();
    let opened = open(&[("dosing.json", &good)], NOW, Options::default());
    assert!(opened.loaded.reports[0].trouble.is_empty(), "{:?}", opened.loaded.reports[0].trouble);
}

#[test]
fn lone_carriage_returns_and_mixed_text() {
    let opened = open(&[("mac.log", b"2026-04-12 02:31:07 one\r2026-04-12 02:31:08 two\r")], NOW, Options::default());
    assert_eq!(opened.list().len(), 2);
    let mixed = "2026-04-12 02:31:07 ä in UTF-8\n"
        .bytes()
        .chain(*b"2026-04-12 02:31:08 f\xFCr alle\n")
        .chain(*b"2026-04-12 02:31:09 \xC3\xA4 ok\n")
        .collect::<Vec<u8>>();
    let opened = open(&[("mixed.log", &mixed)], NOW, Options::default());
    let bodies: Vec<String> = opened.list().iter().map(|line| line[33..].to_owned()).collect();
    assert_eq!(bodies, ["ä in UTF-8", "für alle", "ä ok"]);
    let trouble = &opened.loaded.reports[0].trouble[0];
    assert!(!trouble.lost && trouble.text.contains("byte 53 are not UTF-8"), "{trouble:?}");
}

#[test]
fn dates_in_every_order() {
    let lines = |dates: &[&str]| -> Vec<u8> {
        dates.iter().flat_map(|date| format!("{date} WARN x: y\n").into_bytes()).collect()
    };
    for (dates, first) in [
        (&["03/04/2026 02:31:07", "13/04/2026 02:31:07"][..], "2026-04-03T02:31:07"),
        (&["03/04/2026 02:31:07 PM", "03/14/2026 02:31:07 PM"][..], "2026-03-04T14:31:07"),
        (&["[12.04.2026 02:31:07.250]"][..], "2026-04-12T02:31:07"),
        (&["12 avr. 2026 02:31:07"][..], "2026-04-12T02:31:07"),
        (&["26/04/11 02:31:07", "26/04/12 02:31:07"][..], "2026-04-11T02:31:07"),
        (&["1775961067.442"][..], "2026-04-12T02:31:07"),
        (&["Sun Apr 12 02:31:07 2026"][..], "2026-04-12T02:31:07"),
    ] {
        let opened = open(&[("x.log", &lines(dates))], NOW, Options::default());
        let list = opened.list();
        assert_eq!((&list[0][..19], list[0].rsplit(' ').next()), (first, Some("y")), "{dates:?}");
        assert!(opened.loaded.reports[0].trouble.is_empty(), "{dates:?}: {:?}", opened.loaded.reports[0].trouble);
    }
    // The proof may stand far behind what samples see.
    let mut far = lines(&vec!["03/04/2026 02:31:07"; 20_000]);
    far.extend(lines(&["03/14/2026 02:31:07"; 1]));
    far.extend(lines(&vec!["03/04/2026 02:31:08"; 20_000]));
    let opened = open(&[("x.log", &far)], NOW, Options::default());
    assert_eq!(&opened.list()[0][..10], "2026-03-04");
    // Where nothing decides, that is said, and a choice settles it.
    let unsure = lines(&["03/04/2026 02:31:07"]);
    let opened = open(&[("x.log", &unsure)], NOW, Options::default());
    assert!(opened.loaded.reports[0].trouble[0].text.contains("day-first"), "{:?}", opened.loaded.reports[0].trouble);
    let mut options = Options::default();
    let name = opened.source("x.log");
    options.choices.entry(name).or_default().set("dates", "month-first").unwrap();
    let chosen = open_path(opened.folder.as_ref().unwrap().path(), options);
    assert_eq!(&chosen.list()[0][..10], "2026-03-04");
}

#[test]
fn times_of_day_get_their_date_backwards() {
    let text = b"22:00:00.100 [main] INFO a.B - one\n23:59:59.999 [main] INFO a.B - two\n00:00:01.000 [main] WARN a.B - three\n";
    let opened = open(&[("x.log", text)], "2026-04-12T00:00:02Z", Options::default());
    assert_eq!(
        opened.list(),
        [
            "2026-04-11T22:00:00 assumed-year one",
            "2026-04-11T23:59:59 assumed-year two",
            "2026-04-12T00:00:01 assumed-year three"
        ]
    );
    // Several days, over many pieces of the file.
    let minutes = 0..400_000;
    let long: Vec<String> = minutes
        .map(|minute| format!("{:02}:{:02}:00.000 [main] INFO a.B - {minute}\n", minute / 60 % 24, minute % 60))
        .collect();
    let opened = open(&[("x.log", long.concat().as_bytes())], "2026-04-12T00:00:02Z", Options::default());
    let table = &opened.loaded.table;
    let (first, last) = table.span.unwrap();
    assert_eq!((last - first) / crate::clock::MINUTE, 399_999);
    assert!(table.disordered.is_empty());
}

#[test]
fn a_header_says_on_which_day_times_of_day_start() {
    let text = b"22:00:00.100 [main] INFO a.B - one\n00:00:01.000 [main] WARN a.B - two\n";
    let opened = open(&[("x.log", text)], "2026-11-23T00:00:02Z", Options::default());
    let mut case = opened.case.clone();
    let mut sources = (*case.sources).clone();
    sources[0].header.date = Some(i64::try_from(1_775_865_600_000_000_000_u64).unwrap());
    case.sources = Arc::new(sources);
    let loaded = case.load(&Work::default()).unwrap();
    let times: Vec<String> =
        (0..2).map(|row| to_rfc3339(loaded.table.event(Row(row)).time().unwrap())[..13].to_owned()).collect();
    assert_eq!(times, ["2026-04-11T22", "2026-04-12T00"]);
}

#[test]
fn uptimes_count_from_the_start_of_the_system() {
    let ring = b"[    0.000000] Linux version 6.1\n[   12.500000] usb 1-1: device not accepting address 5, error -71\n";
    let syslog = b"Apr 12 02:00:20 pump kernel: [   10.000000] something\nApr 12 02:31:07 pump x: y\n";
    let opened = open(&[("dmesg", ring), ("kern.log", syslog)], NOW, Options::default());
    let list = opened.list();
    assert_eq!(&list[0], "2026-04-12T02:00:10 exact Linux version 6.1");
    assert!(list[2].starts_with("2026-04-12T02:00:22 exact usb"), "{list:?}");
    let alone = open(&[("dmesg", ring)], NOW, Options::default());
    assert!(alone.list()[0].starts_with("- none Linux"), "{:?}", alone.list());
    let boot = [(String::new(), 1_775_959_200_000_000_000)].into();
    let said = open(&[("dmesg", ring)], NOW, Options { boot, ..Options::default() });
    assert!(said.list()[0].starts_with("2026-04-12T02:00:00 exact"), "{:?}", said.list());
}

#[test]
fn zones_and_clocks_of_single_sources() {
    let line = |text: &str| format!("2026-04-12 02:31:07 ERROR {text}: y\n").into_bytes();
    let opened = open(&[("a.log", &line("a")), ("b.log", &line("b"))], NOW, Options::default());
    let (a, b) = (opened.source("a.log"), opened.source("b.log"));
    let mut sources = (*opened.case.sources).clone();
    let index = sources.iter().position(|source| source.name == a).unwrap();
    (sources[index].zone, sources[index].zone_from) = (Zone::parse("Europe/Berlin").unwrap(), ZoneFrom::User);
    let moved = opened.loaded.with_zones(&opened.case.sources, &sources, &[index], &HashMap::new());
    let times = |loaded: &Loaded| -> Vec<String> {
        (0..2)
            .map(|row| loaded.table.event(Row(row)))
            .map(|event| format!("{} {}", &to_rfc3339(event.time().unwrap())[11..16], event.time_known().name()))
            .collect()
    };
    assert_eq!(times(&moved), ["00:31 exact", "02:31 assumed-zone"]);
    // What is chosen from the start comes to the same.
    let mut options = Options::default();
    options.choices.entry(a).or_default().set("zone", "Europe/Berlin").unwrap();
    options.drift.insert(b, ClockCorrection { add_ns: crate::clock::MINUTE, rate_ppb: 0, since: 0 });
    let chosen = open_path(opened.folder.as_ref().unwrap().path(), options);
    assert_eq!(times(&chosen.loaded), ["00:31 exact", "02:32 assumed-zone"]);
}

#[test]
fn a_rezoned_source_is_as_if_read_so() {
    // Over both changes of daylight saving, with lines that carry no time.
    let text: Vec<String> = (0..20_000_i64)
        .map(|step| {
            let time = to_rfc3339(1_767_225_600_000_000_000 + step * 1_577_000_000_000);
            format!("{} INFO x: {step}\n{}", time[..19].replace('T', " "), if step % 7 == 0 { "  more\n" } else { "" })
        })
        .collect();
    let opened = open(&[("x.log", text.concat().as_bytes())], "2027-01-02T00:00:00Z", Options::default());
    let mut sources = (*opened.case.sources).clone();
    (sources[0].zone, sources[0].zone_from) = (Zone::parse("America/New_York").unwrap(), ZoneFrom::User);
    let moved = opened.loaded.with_zones(&opened.case.sources, &sources, &[0], &HashMap::new());
    let options = Options { zone: Some(Zone::parse("America/New_York").unwrap()), ..Options::default() };
    let read = open_path(opened.folder.as_ref().unwrap().path(), options);
    let column = |loaded: &Loaded| -> Vec<(Option<i64>, u8)> {
        (0..loaded.table.len() as u32)
            .map(|row| loaded.table.event(Row(row)))
            .map(|event| (event.time(), event.flags()))
            .collect()
    };
    assert_eq!(column(&moved), column(&read.loaded));
}

/// Every byte and every line is in exactly one account, and records tile the file.
fn accounts_add_up(opened: &Opened) -> std::result::Result<(), TestCaseError> {
    for row in sources(&opened.case, &opened.loaded) {
        prop_assert_eq!(row.bytes, row.event_bytes + row.other_bytes + row.repeated_bytes, "bytes of {}", row.source);
        let source = &opened.case.sources[row.members.start];
        if source.decoded.is_some() {
            continue;
        }
        if let Reader::Lines(detected) = source.reader {
            let known = row.events + row.attached_lines + row.repeated_lines;
            // Names of columns in front of the first record belong to none.
            let names = if detected.format.keeps_leading_lines() { 0 } else { row.lines.saturating_sub(known) };
            prop_assert_eq!(row.lines, known + names, "lines of {}", row.source);
            prop_assert!(names == 0 || row.other_bytes > 0, "names of {}", row.source);
        }
        let table = &opened.loaded.table;
        let of_source = |row_number: &u32| row.members.contains(&table.event(Row(*row_number)).source());
        let lengths: u64 = (0..table.len() as u32).filter(of_source).map(|row| table.event(Row(row)).length()).sum();
        prop_assert_eq!(lengths, row.event_bytes, "records of {}", row.source);
    }
    Ok(())
}

#[test]
fn accounts_of_all_samples() {
    let data = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data");
    accounts_add_up(&open_path(&data, Options::default())).unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(128))]

    #[test]
    fn accounts_of_any_bytes(
        one in proptest::collection::vec(any::<u8>(), 0..600),
        lines in proptest::collection::vec("(2026-04-12 02:31:07 |Apr 12 02:31:07 |12/04/2026 02:31:07 |02:31:07 |\\{\"time\":1775961067|[a-z ]{0,9}|\u{feff}|\r|\0){0,4}", 0..20),
        seam in 0_usize..400,
    ) {
        let text = lines.join("\n").into_bytes();
        // A second generation that starts inside the first.
        let tail = text.get(seam.min(text.len())..).unwrap_or_default().to_vec();
        let opened = open(&[("any", &one), ("x.log.1", &text), ("x.log", &tail)], NOW, Options::default());
        accounts_add_up(&opened)?;
    }
}
