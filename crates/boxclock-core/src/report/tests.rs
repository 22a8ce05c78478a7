//! What goes out: the contract's names, and documents that other programs can read.

use std::path::PathBuf;

use serde_json::Value;

use super::events::{EventWriter, Form};
use super::*;
use crate::case::{Case, Loaded, Options};
use crate::clock::Zone;
use crate::event::Row;
use crate::work::Work;

const LOG: &str = "\
<131>Apr 12 02:31:07 dose-gw bridge[88]: open failed: 0x80070005 <b>
<134>Apr 12 02:31:08 dose-gw bridge[88]: =cmd() | `x`
";

fn case() -> (tempfile::TempDir, Case, Loaded) {
    let folder = tempfile::tempdir().unwrap();
    let path: PathBuf = folder.path().join("messages");
    std::fs::write(&path, LOG).unwrap();
    let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_775_961_100);
    std::fs::File::options().write(true).open(&path).unwrap().set_modified(time).unwrap();
    let case = Case::open(&[path], Options::default(), &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    (folder, case, loaded)
}

fn written(case: &Case, loaded: &Loaded, form: Form) -> String {
    let mut out = Vec::new();
    EventWriter::new(case, Zone::utc())
        .write_all(loaded, &loaded.table.order, form, &mut out, &Work::default())
        .unwrap();
    String::from_utf8(out).unwrap()
}

#[test]
fn events_keep_the_contract() {
    let (_folder, case, loaded) = case();
    let text = written(&case, &loaded, Form::JsonLines);
    let event: Value = serde_json::from_str(text.lines().next().unwrap()).unwrap();
    let keys: Vec<&str> = event.as_object().unwrap().keys().map(String::as_str).collect();
    assert_eq!(
        keys,
        [
            "time",
            "time_known",
            "severity",
            "severity_number",
            "severity_text",
            "host",
            "source",
            "line",
            "offset",
            "length",
            "format",
            "component",
            "pid",
            "tid",
            "codes",
            "body",
            "attributes"
        ]
    );
    assert_eq!(event["time"], "2026-04-12T02:31:07.000000000Z");
    assert_eq!(event["time_known"], "assumed-year");
    assert_eq!((&event["severity"], &event["severity_number"]), (&Value::from("error"), &Value::from(17)));
    assert_eq!(
        (&event["host"], &event["component"], &event["pid"]),
        (&Value::from("dose-gw"), &Value::from("bridge"), &Value::from(88))
    );
    assert_eq!(
        (&event["line"], &event["offset"], &event["length"]),
        (&Value::from(1), &Value::from(0), &Value::from(69))
    );
    assert_eq!(
        event["codes"].to_string(),
        r#"[{"text":"0x80070005","number":2147942405,"family":"hresult","name":"E_ACCESSDENIED","failure":true}]"#
    );
    assert_eq!(event["body"], "open failed: 0x80070005 <b>");
}

#[test]
fn sources_keep_the_contract() {
    let (_folder, case, loaded) = case();
    let row = serde_json::to_value(&sources::sources(&case, &loaded)[0]).unwrap();
    let keys: Vec<&str> = row.as_object().unwrap().keys().map(String::as_str).collect();
    assert_eq!(
        keys,
        [
            "source",
            "host",
            "format",
            "encoding",
            "zone",
            "zone_from",
            "bytes",
            "lines",
            "events",
            "attached_lines",
            "undated_events",
            "first",
            "last",
            "trouble",
            "event_bytes",
            "other_bytes",
            "repeated_bytes",
            "repeated_lines",
            "files"
        ]
    );
    assert_eq!(
        (&row["host"], &row["format"], &row["events"]),
        (&Value::from("dose-gw"), &Value::from("rfc3164"), &Value::from(2))
    );
    assert_eq!((&row["zone"], &row["zone_from"]), (&Value::from("+00:00"), &Value::from("case")));
}

#[test]
fn other_forms() {
    let (_folder, case, loaded) = case();
    let csv_text = written(&case, &loaded, Form::Csv);
    let mut reader = csv::Reader::from_reader(csv_text.as_bytes());
    let bodies: Vec<String> = reader.records().map(|record| record.unwrap()[11].to_owned()).collect();
    assert_eq!(bodies, ["open failed: 0x80070005 <b>", "'=cmd() | `x`"], "a spreadsheet runs no formula");
    let xml = written(&case, &loaded, Form::Xml);
    let mut reader = quick_xml::Reader::from_str(&xml);
    let mut events = 0;
    loop {
        match reader.read_event().unwrap() {
            quick_xml::events::Event::Eof => break,
            quick_xml::events::Event::Start(tag) if tag.name().as_ref() == b"event" => events += 1,
            _ => {}
        }
    }
    assert_eq!(events, 2);
    assert!(xml.contains("&lt;b&gt;"));
    let text = written(&case, &loaded, Form::Text);
    assert_eq!(
        text.lines().next(),
        Some("2026-04-12 02:31:07.000  dose-gw      error bridge           open failed: 0x80070005 <b>")
    );
}

/// An event as the system exports it.
const EVENT: &str = "<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider Name='Serial Bridge'/>\
    <EventID>7031</EventID><Level>2</Level><TimeCreated SystemTime='2026-04-12T00:33:18.000Z'/><EventRecordID>298</EventRecordID>\
    <Channel>System</Channel><Computer>keeper-desk</Computer></System><EventData><Data Name='param1'>bridge</Data></EventData></Event>";

#[test]
fn events_of_windows_keep_what_their_log_has_of_them() {
    let folder = tempfile::tempdir().unwrap();
    let files = [("System.xml", format!("<Events>{EVENT}</Events>")), ("app.log", LOG.to_owned())];
    for (name, text) in &files {
        std::fs::write(folder.path().join(name), text).unwrap();
    }
    let case = Case::open(&[folder.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    let csv_text = written(&case, &loaded, Form::Csv);
    let mut reader = csv::Reader::from_reader(csv_text.as_bytes());
    let heads: Vec<String> = reader.headers().unwrap().iter().skip(12).map(str::to_owned).collect();
    assert_eq!(heads, ["event_id", "provider", "channel", "computer", "record"]);
    let rows: Vec<Vec<String>> =
        reader.records().map(|row| row.unwrap().iter().skip(12).map(str::to_owned).collect()).collect();
    assert!(
        rows.contains(&vec![
            "7031".into(),
            "Serial Bridge".into(),
            "System".into(),
            "keeper-desk".into(),
            "298".into()
        ]),
        "{rows:?}"
    );
    assert!(written(&case, &loaded, Form::Xml).contains("event_id=\"7031\""));
    // As the system writes them: what is written is read again as the same.
    let xml = written(&case, &loaded, Form::EventXml);
    assert!(xml.contains("<!-- 2 events left out: not from an event log -->"), "{xml}");
    let again = folder.path().join("again.xml");
    std::fs::write(&again, &xml).unwrap();
    let case = Case::open(&[again], Options::default(), &Work::default()).unwrap();
    let read = case.load(&Work::default()).unwrap();
    assert_eq!((case.sources[0].reader.name(), read.table.len()), ("event-xml", 1));
    assert_eq!(crate::clock::to_rfc3339(read.table.event(Row(0)).time().unwrap()), "2026-04-12T00:33:18.000000000Z");
}

/// A case of three hosts whose events alternate, some of two lines.
fn long_case() -> (tempfile::TempDir, Case, Loaded) {
    let folder = tempfile::tempdir().unwrap();
    for (host, every) in [("pump-ctl", 1), ("dose-gw", 2), ("keeper-desk", 7)] {
        let line = |second: usize| {
            let more = if second.is_multiple_of(5) { "  and more, \"quoted\"\n" } else { "" };
            let (minute, second) = (second / 60, second % 60);
            format!("2026-04-12 02:{minute:02}:{second:02} WARN [main] link - lost, error 5\n{more}")
        };
        let text: String = (0..1200).filter(|second| second % every == 0).map(line).collect();
        let path = folder.path().join("hosts").join(host).join("app.log");
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }
    let case = Case::open(&[folder.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    (folder, case, loaded)
}

/// Many events are written in pieces on all cores: what comes out is what one by one would give.
#[test]
fn pieces_are_put_together_in_order() {
    let (_folder, case, loaded) = long_case();
    let rows = &loaded.table.order;
    assert_eq!(rows.len(), 1200 + 600 + 172);
    for form in [Form::JsonLines, Form::Text, Form::Otlp, Form::Csv] {
        let mut writer = EventWriter::new(&case, Zone::utc());
        let mut one_by_one = Vec::new();
        for (index, row) in rows.iter().enumerate() {
            let mut text = Vec::new();
            writer.write_all(&loaded, &[*row], form, &mut text, &Work::default()).unwrap();
            // The head of a table stands before the first row only.
            let head = if form == Form::Csv && index > 0 {
                text.iter().position(|byte| *byte == b'\n').unwrap() + 1
            } else {
                0
            };
            one_by_one.extend_from_slice(&text[head..]);
        }
        assert_eq!(written(&case, &loaded, form), String::from_utf8(one_by_one).unwrap(), "{form:?}");
    }
}

#[test]
fn writing_counts_events_and_stops() {
    /// Takes some bytes, then wants no more.
    struct Stops<'a>(usize, &'a Work);
    impl std::io::Write for Stops<'_> {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            self.0 += bytes.len();
            if self.0 > 20_000 {
                self.1.cancel();
            }
            Ok(bytes.len())
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    let (_folder, case, loaded) = long_case();
    let mut writer = EventWriter::new(&case, Zone::utc());
    for form in [Form::JsonLines, Form::Text, Form::Otlp, Form::Csv, Form::Raw, Form::Xml] {
        let work = Work::default();
        let mut all = Stops(0, &Work::default());
        writer.write_all(&loaded, &loaded.table.order, form, &mut all, &work).unwrap();
        assert_eq!(work.progress(), (1972, 1972), "{form:?}");
        let work = Work::default();
        let mut some = Stops(0, &work);
        let error = writer.write_all(&loaded, &loaded.table.order, form, &mut some, &work).unwrap_err();
        assert_eq!(error.kind(), std::io::ErrorKind::Interrupted, "{form:?}");
        assert!(some.0 < all.0, "{form:?}: {} of {} bytes", some.0, all.0);
    }
}

#[test]
fn the_report_says_what_was_pinned() {
    let (_folder, case, loaded) = case();
    let logbook = Logbook::in_memory().unwrap();
    logbook.set_story("title", "Alarms *stopped*").unwrap();
    let source = &case.sources[0].name;
    logbook.set_pin(source, 0, "refused").unwrap();
    logbook.set_pin(source, 69, "strange").unwrap();
    logbook.set_pin("gone.log", 5, "of another box").unwrap();
    let pin = logbook.pins().unwrap()[0].id;
    logbook.set_chain(&[ChainLink { pin, kind: Link::Root, reason: "rights".into() }]).unwrap();
    let loaded = loaded.with_drift(
        &case.sources,
        &[("dose-gw".to_owned(), crate::clock::ClockCorrection::from(-401_000_000_000))].into(),
    );
    let view = CaseView::new(case, loaded);
    let mut report = Report::new(&view, &logbook).unwrap();
    report.author = Some("night keeper".into());
    report.written = 1_775_970_000_000_000_000;
    let text = markdown(&report, Some("x.svg")).unwrap();
    for part in [
        "# Alarms \\*stopped\\*\n",
        "![The case on one clock](x.svg)",
        "\n\nWhat happened is not stated. The cause: refused (2026-04-12 02:24:26.000, dose-gw).\n\nWritten 2026-04-12 05:00:00 \
         (+00:00) by night keeper with Box Clock ",
        "Case: `messages`, not a sealed box.",
        "1. **root** 2026-04-12 02:24:26.000, dose-gw: refused",
        // The line as it stands in its file, with what stands in front of the message.
        "     <131>Apr 12 02:31:07 dose-gw bridge[88]: open failed",
        "why: rights",
        "line 1, byte 0",
        "- 2026-04-12 02:24:27.000, dose-gw evidence: strange",
        "this source is not in the case now",
        "dose-gw: \u{2212}6m41s was added",
        "0x80070005 E_ACCESSDENIED",
    ] {
        assert!(text.contains(part), "lacks {part:?}:\n{text}");
    }
    assert!(!text.contains("not stated\n"), "what nobody stated has no row:\n{text}");
    assert!(text.contains(" of 1 source,") && text.matches("| rfc3164 |").count() == 1, "{text}");
    let svg = drawing(&report);
    let mut reader = quick_xml::Reader::from_str(&svg);
    while !matches!(reader.read_event().unwrap(), quick_xml::events::Event::Eof) {}
    assert!(svg.contains("dose-gw") && svg.contains("<circle"), "{svg}");
}

#[test]
fn the_summary_says_what_how_long_and_to_whom() {
    let text = crate::testing::log()
        .error("pump", "lease lost")
        .at("00:30:00")
        .error("pump", "lease lost again")
        .at("00:40:00")
        .info("pump", "fed")
        .text();
    let folder = crate::testing::case(&[("gw/app.log", &text)]);
    let view = folder.view();
    let logbook = Logbook::in_memory().unwrap();
    for (key, value) in [
        ("happened", "No alarms came"),
        ("since", "2026-04-12 00:00:00 +00:00"),
        ("affected", "tanks 4 and 7"),
        ("impact", "tanks were not dosed."),
    ] {
        logbook.set_story(key, value).unwrap();
    }
    let text = markdown(&Report::new(&view, &logbook).unwrap(), None).unwrap();
    let said = "No alarms came. It began 2026-04-12 00:00:00 (+00:00) and lasted at least 30m, to the last problem in this case. \
                Affected: tanks 4 and 7. Impact: tanks were not dosed. The cause is not established.";
    assert!(text.contains(said), "{text}");
}

#[test]
fn marks_of_a_drawing_do_not_lie_over_each_other() {
    let lines: Vec<String> =
        (0..6).map(|second| format!("2026-04-12T02:31:0{second}Z ERROR app: step {second}\n")).collect();
    let calm: String =
        (0..600).map(|at| format!("2026-04-12T0{}:{:02}:00Z INFO app: fed\n", at / 60 % 10, at % 60)).collect();
    let folder = crate::testing::case(&[("gw/bad.log", lines.concat()), ("gw/calm.log", calm)]);
    let view = folder.view();
    let logbook = Logbook::in_memory().unwrap();
    let source = "hosts/gw/bad.log";
    let mut offset = 0;
    for line in &lines {
        logbook.set_pin(source, offset, "step").unwrap();
        offset += line.len() as u64;
    }
    let pins = logbook.pins().unwrap();
    let chain: Vec<ChainLink> =
        pins.iter().map(|pin| ChainLink { pin: pin.id, kind: Link::Step, reason: String::new() }).collect();
    logbook.set_chain(&chain).unwrap();
    let svg = drawing(&Report::new(&view, &logbook).unwrap());
    let at = |name: &str| -> Vec<f64> {
        svg.match_indices("<circle")
            .filter_map(|(at, _)| {
                let rest = &svg[at..];
                let from = rest.find(&format!(" {name}=\""))? + name.len() + 3;
                rest[from..].split('"').next()?.parse().ok()
            })
            .collect()
    };
    let (mut x, r) = (at("cx"), at("r"));
    assert_eq!((x.len(), r.len()), (6, 6));
    x.sort_by(f64::total_cmp);
    assert!(x.windows(2).all(|pair| pair[1] - pair[0] >= 20.0), "{x:?}");
    assert!(svg.contains("04-12 02:3"), "the day is said: {svg}");
    // Around the marks nine of ten minutes are calm.
    assert!(svg.contains("#56B4E9") && svg.contains("#D55E00"));
}

#[test]
fn a_drawing_of_many_hosts_shows_the_pinned_and_the_worst() {
    let lines: String = (0..400)
        .map(|at| {
            let level = if at % 40 == 7 { 3 } else { 6 };
            format!("<{level}>1 2026-04-12T02:{:02}:{:02}Z tank-{at:03} dosingd 1 - - frame {at}\n", at / 60, at % 60)
        })
        .collect();
    let folder = crate::testing::case(&[("all.log", lines.as_str())]);
    let view = folder.view();
    let logbook = Logbook::in_memory().unwrap();
    let source = view.case.sources[0].name.clone();
    let offset = lines.find("<6>1 2026-04-12T02:06:39Z").unwrap() as u64;
    logbook.set_pin(&source, offset, "the last").unwrap();
    let svg = drawing(&Report::new(&view, &logbook).unwrap());
    assert!(svg.contains("341 other hosts"), "{svg}");
    for shown in ["tank-399", "tank-367"] {
        assert!(svg.contains(shown), "{shown}");
    }
    assert!(!svg.contains("tank-398"));
    let rows = &view.loaded.table.order;
    let zone = crate::clock::Zone::utc();
    let drawn = chart::chart(&view.case, &view.loaded, rows, chart::ChartKind::Density, &zone).unwrap().to_svg();
    assert!(drawn.contains("the worst 60 of 400 hosts") && drawn.contains("tank-367") && !drawn.contains("tank-398"));
}

#[test]
fn codes_are_counted_once_an_event() {
    let (_folder, case, loaded) = case();
    let view = CaseView::new(case, loaded);
    let codes = view.run(&codes::CodeAnalysis::default(), &Work::default()).unwrap();
    assert_eq!(codes.len(), 1);
    assert_eq!(
        (codes[0].count, codes[0].first_row, codes[0].hosts.as_slice()),
        (1, Row(0), &[("dose-gw".to_owned(), 1)][..])
    );
    let line: Value = serde_json::from_str(&codes[0].json(&crate::code::NO_CATALOGUES)).unwrap();
    assert_eq!(line["name"], "E_ACCESSDENIED");
}

#[test]
fn otlp_is_what_our_own_reader_and_the_protocol_expect() {
    let (folder, case, loaded) = case();
    let text = written(&case, &loaded, Form::Otlp);
    let first: Value = serde_json::from_str(text.lines().next().unwrap()).unwrap();
    let record = &first["resourceLogs"][0]["scopeLogs"][0]["logRecords"][0];
    assert_eq!(record["timeUnixNano"], "1775961067000000000");
    assert_eq!(record["severityNumber"], 17);
    assert_eq!(record["body"]["stringValue"], "open failed: 0x80070005 <b>");
    let attributes = record["attributes"].as_array().unwrap();
    assert!(attributes.iter().any(|one| one["key"] == "boxclock.line" && one["value"]["intValue"] == "1"));
    // Read again, it is the same.
    let path = folder.path().join("out.otlp.json");
    std::fs::write(&path, &text).unwrap();
    let again = Case::open(&[path], Options::default(), &Work::default()).unwrap();
    let read = again.load(&Work::default()).unwrap();
    let event = |loaded: &Loaded| {
        let event = loaded.table.event(Row(0));
        (event.time(), event.severity(), event.host().to_owned(), event.component().to_owned())
    };
    assert_eq!(event(&loaded), event(&read));
    assert_eq!(read.table.len(), 2);
}

#[test]
fn raw_text_says_where_it_stood() {
    let (_folder, case, loaded) = case();
    let text = written(&case, &loaded, Form::Raw);
    let (head, rest) = text.split_once('\n').unwrap();
    assert!(head.starts_with("# ") && head.ends_with("messages:1"), "{head}");
    assert_eq!(rest, LOG);
    let mut out = Vec::new();
    let last = &loaded.table.order[1..];
    EventWriter::new(&case, Zone::utc()).write_all(&loaded, last, Form::Raw, &mut out, &Work::default()).unwrap();
    assert!(String::from_utf8(out).unwrap().lines().next().unwrap().ends_with("messages:2"));
}

#[test]
fn the_name_of_a_file_says_its_form() {
    for (name, form) in
        [("a.LOG", Some(Form::Raw)), ("x.otlp.json", Some(Form::Otlp)), ("x.json", Some(Form::JsonLines)), ("x", None)]
    {
        assert_eq!(Form::of_file(name), form, "{name}");
    }
}
