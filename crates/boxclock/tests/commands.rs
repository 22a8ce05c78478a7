//! The headless commands, run as a user runs them: output, exit status, and what bad input gets.

mod common;

use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};

use common::{Home, Ran};

const LOG: &str = "2026-04-12 02:31:07 ERROR [main] dosing - access refused 0x80070005\n2026-04-12 02:31:08 INFO [main] dosing - fine\n";

#[test]
fn events_sources_codes() {
    let home = Home::new();
    home.write("logs/app.log", LOG);
    let events = home.run(&["events", "logs"]).json();
    assert_eq!(events.len(), 2);
    assert_eq!((&events[0]["body"], &events[0]["severity"]), (&"access refused 0x80070005".into(), &"error".into()));
    let ran = home.run(&["events", "logs", "--where", "level=info", "--zone", "+02:00"]);
    assert_eq!((ran.status, ran.json()[0]["time"].as_str()), (Some(0), Some("2026-04-12T00:31:08.000000000Z")));
    let sources = home.run(&["sources", "logs", "--as", "jsonl"]).json();
    assert_eq!((&sources[0]["format"], &sources[0]["events"]), (&"iso-text".into(), &2.into()));
    let codes = home.run(&["codes", "logs", "--as", "jsonl"]).json();
    assert_eq!((&codes[0]["name"], &codes[0]["count"]), (&"E_ACCESSDENIED".into(), &1.into()));
    let ran = home.run(&["events", "logs", "--as", "csv", "--out", "x.csv"]);
    assert_eq!((ran.status, ran.out.as_str()), (Some(0), ""));
    assert_eq!(std::fs::read_to_string(home.path("x.csv")).unwrap().lines().count(), 3);
}

#[test]
fn code_in_any_writing() {
    let home = Home::new();
    for writing in ["0x80070005", "-2147024891", "2147942405"] {
        let ran = home.run(&["code", writing, "--as", "jsonl"]);
        assert_eq!(ran.json()[0]["name"], "E_ACCESSDENIED", "{writing}");
    }
    assert_eq!(home.run(&["code", "5", "--os", "linux", "--as", "jsonl"]).json()[0]["name"], "EIO");
    assert_eq!(home.run(&["code", "5", "--os", "windows", "--as", "jsonl"]).json()[0]["name"], "ERROR_ACCESS_DENIED");
    let ran = home.run(&["code", "hello", "5"]);
    assert_eq!(ran.status, Some(3));
    assert!(ran.err.contains("\"hello\" is not a code"), "{}", ran.err);
    assert_eq!(home.run(&["code", "hello"]).status, Some(1));
}

#[test]
fn wrong_usage_is_2_and_says_where() {
    let home = Home::new();
    home.write("app.log", LOG);
    let ran = home.run(&["events", "app.log", "--where", "level>=wran"]);
    assert_eq!((ran.status, ran.out.as_str()), (Some(2), ""));
    assert!(ran.err.contains("  level>=wran\n         ^^^^ \"wran\" is not a level"), "{}", ran.err);
    for arguments in [
        &["events"][..],
        &["events", "app.log", "--zone", "Nowhere"],
        &["events", "app.log", "--drift", "gw"],
        &["dance"],
    ] {
        assert_eq!(home.run(arguments).status, Some(2), "{arguments:?}");
    }
}

#[test]
fn not_done_is_1_and_names_the_thing() {
    let home = Home::new();
    for command in ["events", "sources", "codes", "check"] {
        let ran = home.run(&[command, "nowhere"]);
        assert_eq!((ran.status, ran.out.as_str()), (Some(1), ""), "{command}");
        assert!(ran.err.contains("no such file or folder: nowhere"), "{}", ran.err);
    }
    home.write("cut.box.zip", b"PK\x03\x04 and then nothing more");
    let ran = home.run(&["events", "cut.box.zip"]);
    assert_eq!(ran.status, Some(1));
    assert!(ran.err.contains("cut.box.zip is not a complete ZIP archive"), "{}", ran.err);
}

#[test]
fn done_in_part_is_3_and_names_what_was_left_out() {
    let home = Home::new();
    home.write("logs/app.log", LOG);
    home.write("logs/blob", [0x1F, 0x8B, 8, 0, 1, 2, 3, 4, 5, 6, 7, 0xFF, 0xFE, 0x81]);
    let ran = home.run(&["events", "logs"]);
    assert_eq!((ran.status, ran.json().len()), (Some(3), 2));
    assert!(ran.err.contains("left out: logs/blob: cannot be unpacked: corrupt"), "{}", ran.err);
    // A dump that is cut off in the middle is still an event.
    let mut dump =
        std::fs::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../boxclock-core/tests/data/feeder.dmp")).unwrap();
    dump.truncate(4000);
    home.write("cut.dmp", dump);
    let ran = home.run(&["events", "cut.dmp"]);
    assert_eq!(ran.status, Some(3));
    assert!(ran.err.contains("cut off at byte 4000"), "{}", ran.err);
    assert_eq!(ran.json()[0]["format"], "minidump");
}

#[test]
fn a_folder_that_may_not_be_read() {
    let home = Home::new();
    home.write("logs/app.log", LOG);
    home.write("logs/secret/x.log", LOG);
    let mode =
        |mode: &str| Command::new("chmod").args([mode, home.path("logs/secret").to_str().unwrap()]).status().unwrap();
    mode("000");
    // As root nothing is unreadable: another user runs it then.
    let root = Ran::of(&Command::new("id").arg("-u").output().unwrap()).out.trim() == "0";
    let ran = if root {
        Command::new("chmod").args(["-R", "a+rX", home.path("logs/app.log").to_str().unwrap()]).status().unwrap();
        let mut open = Command::new("chmod");
        open.args(["a+rwx", home.path("").to_str().unwrap(), home.path("logs").to_str().unwrap()]).status().unwrap();
        let copy = home.path("boxclock");
        std::fs::copy(common::binary(), &copy).unwrap();
        let command = format!("cd {} && HOME=/nonexistent {} events logs", home.path("").display(), copy.display());
        Ran::of(
            &Command::new("setpriv").args(["--reuid=65534", "--clear-groups", "sh", "-c", &command]).output().unwrap(),
        )
    } else {
        home.run(&["events", "logs"])
    };
    mode("755");
    assert_eq!((ran.status, ran.json().len()), (Some(3), 2), "{}", ran.err);
    assert!(ran.err.contains("logs/secret") && ran.err.contains("Permission denied"), "{}", ran.err);
}

#[test]
fn a_broken_pipe_ends_quietly() {
    let home = Home::new();
    home.write("app.log", LOG.repeat(50_000));
    let mut child =
        home.command().args(["events", "app.log"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    // The reader is gone now.
    let output = child.wait_with_output().unwrap();
    assert_eq!((output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned()), (Some(0), String::new()));
    assert!(line.starts_with("{\"time\""));
}

#[test]
fn pack_check_and_damage() {
    let home = Home::new();
    home.write("gw/var/log/messages", "Apr 12 02:31:07 gw a[1]: x\n");
    let ran = home.run(&["pack", "--host", "dose-gw=gw", "--into", "x.box.zip", "--title", "Alarms stopped"]);
    assert_eq!(ran.status, Some(0), "{}", ran.err);
    let ran = home.run(&["check", "x.box.zip"]);
    assert_eq!(ran.status, Some(0), "{}", ran.err);
    let events = home.run(&["events", "x.box.zip"]).json();
    assert_eq!(
        (&events[0]["host"], &events[0]["source"]),
        (&"dose-gw".into(), &"hosts/dose-gw/var/log/messages".into())
    );
    assert_eq!(home.run(&["pack", "gw", "--into", "x.box.zip"]).status, Some(1), "never overwritten");
    // One flipped bit in the packed bytes, behind the name and its extra field.
    let mut bytes = std::fs::read(home.path("x.box.zip")).unwrap();
    let at = bytes.windows(8).position(|window| window == b"messages").unwrap() + 32;
    bytes[at] ^= 0x10;
    std::fs::write(home.path("y.box.zip"), &bytes).unwrap();
    let ran = home.run(&["check", "y.box.zip"]);
    assert_eq!(ran.status, Some(1));
    assert!(ran.out.contains("changed: hosts/dose-gw/var/log/messages"), "{}", ran.out);
    let ran = home.run(&["events", "y.box.zip"]);
    assert_eq!(ran.status, Some(3), "{}", ran.err);
    assert!(ran.err.contains("hosts/dose-gw/var/log/messages"), "{}", ran.err);
}

#[test]
fn pack_lists_what_it_cannot_read() {
    let home = Home::new();
    home.write("logs/app.log", LOG);
    Command::new("mkfifo").arg(home.path("logs/pipe")).status().unwrap();
    let ran = home.run(&["pack", "logs", "--into", "x.box.zip"]);
    assert_eq!(ran.status, Some(3));
    assert!(ran.err.contains("logs/pipe") && ran.err.contains("a FIFO"), "{}", ran.err);
    let ran = home.run(&["events", "x.box.zip"]);
    assert_eq!((ran.status, ran.json().len()), (Some(3), 2));
    assert!(ran.err.contains("could not be gathered: a FIFO"), "{}", ran.err);
}

#[test]
fn report_and_drift_from_the_logbook() {
    let home = Home::new();
    assert_eq!(home.run(&["demo", "--into", "night.box.zip"]).status, Some(0));
    for into in ["night.md", "night.svg"] {
        let ran = home.run(&["report", "night.box.zip", "--into", into]);
        assert_eq!(ran.status, Some(0), "{}", ran.err);
    }
    let text = std::fs::read_to_string(home.path("night.md")).unwrap();
    assert!(text.starts_with("# Saltmere dosing alarms stopped\n"), "{text}");
    assert!(std::fs::read_to_string(home.path("night.svg")).unwrap().contains("<svg"));
    assert_eq!(home.run(&["report", "night.box.zip", "--into", "night.doc"]).status, Some(2));
    let first = |arguments: &[&str]| {
        let mut all = vec!["events", "night.box.zip", "--where", "host=dose-gw refused"];
        all.extend(arguments);
        home.run(&all).json()[0]["time"].as_str().unwrap().to_owned()
    };
    assert_eq!(first(&[]), "2026-04-12T00:31:11.000000000Z");
    assert_eq!(first(&["--drift", "dose-gw=-6m41s"]), "2026-04-12T00:24:30.000000000Z");
    let ran = home.run(&["events", "night.box.zip", "--drift", "dose-gv=1s", "--where", "format=minidump"]);
    assert!(ran.err.contains("no host or source is called dose-gv"), "{}", ran.err);
}

#[test]
fn help_completions_and_manual() {
    let home = Home::new();
    assert!(home.run(&["--help"]).out.contains("boxclock events night.box.zip --where"));
    assert!(home.run(&["completions", "bash"]).out.contains("_boxclock"));
    assert!(home.run(&["manual"]).out.contains(".TH boxclock"));
}

#[test]
fn labels_and_zones_at_packing() {
    let home = Home::new();
    home.write("a/app.log", LOG);
    home.write("b/app.log", LOG);
    home.write("b/etc/timezone", "Asia/Tokyo\n");
    let arguments = ["pack", "--host", "left=a", "--host", "right=b", "--zone", "left=+02:00", "--into", "x.box.zip"];
    assert_eq!(home.run(&arguments).status, Some(0));
    let zones: Vec<String> = home
        .run(&["sources", "x.box.zip", "--as", "jsonl"])
        .json()
        .iter()
        .filter(|source| source["format"] == "iso-text")
        .map(|source| format!("{} {} {}", source["host"], source["zone"], source["zone_from"]))
        .collect();
    assert_eq!(zones, [r#""left" "+02:00" "host""#, r#""right" "Asia/Tokyo" "host""#]);
    let times: Vec<String> = home
        .run(&["events", "x.box.zip", "--where", "fine"])
        .json()
        .iter()
        .map(|event| event["time"].as_str().unwrap()[..19].to_owned())
        .collect();
    assert_eq!(times, ["2026-04-11T17:31:08", "2026-04-12T00:31:08"]);
}

#[test]
fn progress_goes_to_standard_error() {
    let home = Home::new();
    home.write("app.log", LOG);
    let ran = home.run(&["events", "app.log", "--progress"]);
    assert_eq!((ran.status, ran.json().len()), (Some(0), 2));
    assert!(ran.err.contains("reading: "), "{}", ran.err);
}

fn data(name: &str) -> Vec<u8> {
    let path = format!("{}/../boxclock-core/tests/data/containers/{name}", env!("CARGO_MANIFEST_DIR"));
    std::fs::read(path).unwrap()
}

#[test]
fn archives_are_read_through() {
    let home = Home::new();
    home.write("logs/deep.tar.xz", data("deep.tar.xz"));
    home.write("logs/secret.zip", data("secret.zip"));
    home.write("pass", "tide\n");
    let ran = home.run(&["sources", "logs", "--as", "jsonl"]);
    assert_eq!(ran.status, Some(3));
    assert!(ran.err.contains("left out: logs/secret.zip!b.log: encrypted: needs a password"), "{}", ran.err);
    let names: Vec<String> = ran.json().iter().map(|row| row["source"].as_str().unwrap().to_owned()).collect();
    assert_eq!(
        names,
        ["logs/deep.tar.xz!bundle.zip!inner.tar.gz!logs/app.log", "logs/deep.tar.xz!bundle.zip!logs/app.log"]
    );
    assert_eq!(ran.json()[0]["files"][0]["source"], "logs/deep.tar.xz!bundle.zip!inner.tar.gz!logs/app.log.2.gz");
    let ran = home.run(&["events", "logs", "--password-file", "pass", "--where", "source~secret"]);
    assert_eq!((ran.status, ran.json().len()), (Some(0), 1), "{}", ran.err);
    // What is in the cache is used: the archive is not needed for it, only its size and time.
    let again = home.run(&["events", "logs", "--password-file", "pass"]);
    assert_eq!(again.json().len(), 5);
}

/// A file is read in pieces of 4 MiB; of one that has grown, the whole ones are taken from the index, and the last is read again.
#[test]
fn a_file_of_several_pieces_that_grows_is_read_once() {
    let home = Home::new();
    let pad = "z".repeat(180);
    let line = |at: usize| {
        format!("2026-04-12 02:{:02}:{:02} INFO feeder: step {at} rc={} {pad}\n", at / 600 % 60, at / 10 % 60, at % 9)
    };
    let text: String = (0..48_000).map(line).collect();
    assert!(text.len() > 9 << 20);
    let read = |home: &Home| {
        let sources = home.run(&["sources", "big.log", "--as", "jsonl"]).json();
        let patterns = home.run(&["patterns", "big.log", "--as", "jsonl"]).json();
        let counted: u64 = patterns.iter().map(|one| one["count"].as_u64().unwrap()).sum();
        let events = home.run(&["events", "big.log", "--where", "code=5"]).json();
        let places: Vec<_> = events.iter().map(|event| (event["line"].clone(), event["offset"].clone())).collect();
        (sources[0]["events"].as_u64().unwrap(), counted, places)
    };
    // Cut inside a line of the second piece, then in the third, then whole.
    for bytes in [(5 << 20) + 77, (8 << 20) + 1, text.len()] {
        home.write("big.log", &text[..bytes]);
        let lines = text[..bytes].lines().count() as u64;
        let (events, counted, places) = read(&home);
        assert_eq!((events, counted), (lines, lines), "{bytes} bytes");
        std::fs::rename(home.path(".cache"), home.path(".kept")).unwrap();
        assert_eq!(places, read(&home).2, "{bytes} bytes");
        std::fs::remove_dir_all(home.path(".cache")).unwrap();
        std::fs::rename(home.path(".kept"), home.path(".cache")).unwrap();
    }
}

#[test]
fn the_index_is_right_or_is_not_used() {
    let home = Home::new();
    let line =
        |at: usize| format!("2026-04-12 02:{:02}:{:02} ERROR feeder: rc={} at {at}\n", at / 60 % 60, at % 60, at % 9);
    let mut text: String = (0..60_000).map(line).collect();
    home.write("big.log", &text);
    let fresh = |home: &Home| {
        let _ = std::fs::remove_dir_all(home.path(".cache"));
        home.run(&["sources", "big.log", "--as", "jsonl"]).out
    };
    let index = |home: &Home| {
        let folder = std::fs::read_dir(home.path(".cache/boxclock/index")).unwrap().next().unwrap().unwrap().path();
        folder.join("events.arrow")
    };
    let same = |home: &Home, what: &str| {
        let ran = home.run(&["sources", "big.log", "--as", "jsonl"]);
        let events = home.run(&["events", "big.log", "--where", "code=5"]).out;
        let plain = fresh(home);
        assert_eq!(ran.out, plain, "{what}");
        let _ = std::fs::remove_dir_all(home.path(".cache"));
        assert_eq!(events, home.run(&["events", "big.log", "--where", "code=5"]).out, "{what}");
    };
    fresh(&home);
    assert!(index(&home).is_file());
    same(&home, "unchanged");
    text.push_str(&line(60_001));
    text.push_str("  and a line that belongs to it\n");
    home.write("big.log", &text);
    same(&home, "grown");
    // A byte of the index turns, and its end goes missing.
    for damage in ["turned", "cut"] {
        let mut bytes = std::fs::read(index(&home)).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 0x40;
        if damage == "cut" {
            bytes.truncate(middle);
        }
        std::fs::write(index(&home), bytes).unwrap();
        same(&home, damage);
    }
    home.write("big.log", text.replace("02:10:", "02:11:"));
    same(&home, "rewritten");
    home.write("big.log", &text[..text.len() / 2]);
    same(&home, "truncated");
}

#[test]
fn own_formats_and_choices_by_hand() {
    let home = Home::new();
    home.write("odd.log", "1#WARNUNG#12/04/2026 02:31:07#valve 3\n2#FEHLER#12/04/2026 02:31:08#valve 4\n");
    assert_eq!(home.run(&["sources", "odd.log", "--as", "jsonl"]).json()[0]["format"], "plain");
    let good = "name = \"valves\"\ndelimiter = \"#\"\ncolumns = [\"-\", \"level\", \"time\", \"body\"]\n\
        time = \"%d/%m/%Y %H:%M:%S\"\nsamples = [\"1#WARNUNG#12/04/2026 02:31:07#valve 3\"]\n\
        [levels]\nWARNUNG = \"warn\"\nFEHLER = \"error\"\n";
    home.write(".config/boxclock/formats/valves.toml", good);
    let events = home.run(&["events", "odd.log"]).json();
    assert_eq!(
        (&events[1]["format"], &events[1]["severity"], &events[1]["body"]),
        (&"valves".into(), &"error".into(), &"valve 4".into())
    );
    assert_eq!(events[1]["time"], "2026-04-12T02:31:08.000000000Z");
    assert!(home.run(&["formats"]).out.contains("valves"));
    // The format travels with the box.
    assert_eq!(home.run(&["pack", "odd.log", "--into", "odd.box.zip"]).status, Some(0));
    assert_eq!(home.run(&["check", "odd.box.zip"]).status, Some(0));
    let elsewhere = Home::new();
    elsewhere.write("odd.box.zip", std::fs::read(home.path("odd.box.zip")).unwrap());
    assert_eq!(elsewhere.run(&["sources", "odd.box.zip", "--as", "jsonl"]).json()[0]["format"], "valves");
    home.write("bad.toml", good.replace("\"error\"", "\"terrible\""));
    let ran = home.run(&["formats", "bad.toml"]);
    assert_eq!(ran.status, Some(1));
    assert!(ran.err.contains("bad.toml: line 8, column 10: a level is"), "{}", ran.err);
    let ran = home.run(&["sources", "--explain", "odd.log"]);
    assert!(ran.out.contains("format valves") && ran.out.contains("2 of 2 lines start a record"), "{}", ran.out);
    // A choice holds for this run, or, remembered, from now on.
    let chosen = |arguments: &[&str]| {
        let mut all = vec!["sources", "odd.log", "--as", "jsonl"];
        all.extend(arguments);
        home.run(&all).json()[0]["format"].as_str().unwrap().to_owned()
    };
    assert_eq!(chosen(&["--format", "odd.log=plain"]), "plain");
    assert_eq!(chosen(&[]), "valves");
    assert_eq!(chosen(&["--format", "odd.log=plain", "--remember"]), "plain");
    assert_eq!(chosen(&[]), "plain");
    assert_eq!(home.run(&["sources", "odd.log", "--encoding", "odd.log=ebcdic"]).status, Some(2));
}

#[test]
fn lenses_charts_and_other_forms() {
    let home = Home::new();
    home.write("logs/app.log", LOG);
    let listed = home.run(&["lenses"]);
    assert!(listed.out.contains("storage") && listed.out.contains("own lenses in"), "{}", listed.out);
    home.write("mine.toml", "name = \"mine\"\nfilter = \"level>=error\"\n");
    assert!(home.run(&["lenses", "mine.toml"]).out.contains("good: mine"));
    home.write("bad.toml", "name = \"mine\"\nfilter = \"level>=loud\"\n");
    let bad = home.run(&["lenses", "bad.toml"]);
    assert_eq!(bad.status, Some(1));
    assert!(bad.err.contains("at 8: \"loud\" is not a level"), "{}", bad.err);
    // One in the user's folder can be named; one that is not there is named with those that are.
    std::fs::create_dir_all(home.path(".config/boxclock/lenses")).unwrap();
    std::fs::rename(home.path("mine.toml"), home.path(".config/boxclock/lenses/mine.toml")).unwrap();
    assert_eq!(home.run(&["events", "logs", "--lens", "mine"]).json().len(), 1);
    let ran = home.run(&["events", "logs", "--lens", "nothing"]);
    assert!(ran.status == Some(1) && ran.err.contains("there are unclean-stop"), "{}", ran.err);
    // As it was read, and as OpenTelemetry's logs.
    assert_eq!(home.run(&["events", "logs", "--as", "raw"]).out, format!("# logs/app.log:1\n{LOG}"));
    let otlp = home.run(&["events", "logs", "--as", "otlp"]).json();
    assert_eq!(otlp[0]["resourceLogs"][0]["scopeLogs"][0]["logRecords"][0]["severityNumber"], 17);
    // Charts.
    for (arguments, file) in [(&["--into", "a.svg"][..], "a.svg"), (&["--lanes", "--into", "b.pdf"], "b.pdf")] {
        let ran = home.run(&[&["chart", "logs"][..], arguments].concat());
        assert_eq!(ran.status, Some(0), "{}", ran.err);
        assert!(std::fs::metadata(home.path(file)).unwrap().len() > 500);
    }
    assert_eq!(home.run(&["chart", "logs", "--into", "c.png"]).status, Some(1));
    assert_eq!(home.run(&["chart", "logs", "--where", "nowhere", "--into", "c.svg"]).status, Some(1));
}

#[test]
fn a_wrong_clock_is_found_by_what_two_hosts_wrote() {
    let home = Home::new();
    let lines = |minute: u32, text: &str| -> String {
        let line = |at: u32| format!("2026-04-12T02:{minute:02}:{at:02}Z app[7]: fr-0412-{at:04} {text}\n");
        (0..12).map(line).collect::<Vec<_>>().concat()
    };
    home.write("c/hosts/dose-gw/a.log", lines(8, "refused"));
    home.write("c/hosts/pump-ctl/b.log", lines(2, "sent"));
    home.write("c/hosts/pump-ctl/c.log", "2026-04-12T02:00:00Z app[7]: started\n");
    let found = home.run(&["drift", "c", "--as", "jsonl"]).json();
    assert_eq!((&found[0]["host"], &found[0]["against"]), (&"dose-gw".into(), &"pump-ctl".into()));
    assert_eq!((&found[0]["add_ns"], &found[0]["confidence"]), (&(-360_000_000_000_i64).into(), &"medium".into()));
    assert_eq!(found[0]["evidence"][0]["shared"], "fr-0412-0000");
    let text = home.run(&["drift", "c"]).out;
    assert!(text.contains("dose-gw  add −6m  confidence medium") && text.contains("a.log:1"), "{text}");
    assert!(text.contains("it may as well be pump-ctl"), "{text}");
    // What is corrected needs no suggestion.
    assert!(home.run(&["drift", "c", "--drift", "dose-gw=-6m", "--as", "jsonl"]).json().is_empty());
}

#[test]
fn the_story_says_what_to_gather_around() {
    let home = Home::new();
    home.write("gw/a.log", "2026-04-12T02:31:07Z x: near\n2026-04-12T09:00:00Z x: far\n");
    home.write("story.json", r#"{"title": "night", "since": "2026-04-12 02:31 +00:00"}"#);
    let ran = home.run(&["pack", "--host", "gw=gw", "--story", "story.json", "--into", "n.box.zip"]);
    assert!(ran.out.contains("1 cut to the window"), "{} {}", ran.out, ran.err);
    assert_eq!(home.run(&["events", "n.box.zip"]).json().len(), 1);
    // What is said counts more than what is told; a time that is none is said, and all is taken.
    let whole = home.run(&["pack", "--host", "gw=gw", "--story", "story.json", "--whole", "--into", "w.box.zip"]);
    assert_eq!(whole.status, Some(0));
    assert_eq!(home.run(&["events", "w.box.zip"]).json().len(), 2);
    home.write("vague.json", r#"{"since": "in the night"}"#);
    let vague = home.run(&["pack", "--host", "gw=gw", "--story", "vague.json", "--into", "v.box.zip"]);
    assert!(vague.err.contains("\"in the night\" is not a time"), "{}", vague.err);
}

#[test]
fn codes_of_ones_own_are_read_from_the_configuration_and_travel_with_the_box() {
    let home = Home::new();
    home.write(
        "logs/app.log",
        "2026-04-12T02:31:07Z INFO feeder: frame refused TW-00417\n2026-04-12T02:31:08Z INFO feeder: fed\n",
    );
    let find = |ran: &common::Ran| ran.json().into_iter().find(|code| code["family"] == "user");
    assert!(find(&home.run(&["codes", "logs", "--as", "jsonl"])).is_none());
    home.write(
        ".config/boxclock/codes/own.toml",
        "[[code]]\npattern = \"TW-00417\"\nname = \"TW_REFUSED\"\nmeaning = \"It was refused.\"\nlevel = \"failure\"\n\n[[code]]\npattern = \"tw\"\n",
    );
    let ran = home.run(&["codes", "logs", "--as", "jsonl"]);
    let code = find(&ran).expect("the code is known now, though the log was indexed before");
    assert_eq!(
        (&code["text"], &code["name"], &code["failure"]),
        (&"TW-00417".into(), &"TW_REFUSED".into(), &true.into())
    );
    // What is wrong is named with its place, and the rest holds.
    assert_eq!(ran.status, Some(3));
    assert!(ran.err.contains("own.toml: line 8, column 11"), "{}", ran.err);
    let ran = home.run(&["catalogues"]);
    assert!(ran.out.contains("1 code of your own in 1 file") && ran.out.contains("hresult"), "{}", ran.out);
    // A line that carries a failure is a problem; that can be switched off.
    let escalated = |more: &[&str]| {
        let ran = home.run(&[&["code", "TW-00417"], more].concat());
        ran.out.contains("own.toml:1")
    };
    assert!(escalated(&[]), "the reading says from which catalogue it is");
    // The box takes the catalogue along: it is explained where nobody has it.
    home.write(".config/boxclock/codes/own.toml", "[[code]]\npattern = \"TW-00417\"\nmeaning = \"It was refused.\"\n");
    assert_eq!(home.run(&["pack", "logs", "--into", "x.box.zip"]).status, Some(0));
    std::fs::remove_file(home.path(".config/boxclock/codes/own.toml")).unwrap();
    let ran = home.run(&["codes", "x.box.zip", "--as", "jsonl"]);
    assert_eq!(find(&ran).unwrap()["meaning"], "It was refused.");
    assert_eq!(home.run(&["check", "x.box.zip"]).status, Some(0));
}

#[test]
fn codes_are_found_by_words_and_said_to_be_too_large() {
    let home = Home::new();
    let found = home.run(&["code", "disk", "full", "--as", "jsonl"]).json();
    let names: Vec<&str> = found.iter().filter_map(|code| code["name"].as_str()).collect();
    assert!(names.contains(&"ENOSPC") && names.contains(&"ERROR_DISK_FULL"), "{names:?}");
    let ran = home.run(&["code", "0x123456789abcdef01", "0x", "5"]);
    assert_eq!(ran.status, Some(3));
    assert!(ran.err.contains("larger than any code") && ran.err.contains("\"0x\" is not a code"), "{}", ran.err);
    let stop = home.run(&["code", "stop 0xD1"]).out;
    assert!(stop.contains("DRIVER_IRQL_NOT_LESS_OR_EQUAL") && stop.contains("parameter 4"), "{stop}");
    let unknown = home.run(&["code", "0x8007FFF3", "--as", "jsonl"]).json();
    assert_eq!(unknown[0]["known"], false);
    assert!(unknown[0]["meaning"].as_str().unwrap().starts_with("Not in any catalogue"), "{unknown:?}");
}

#[test]
fn a_restart_that_was_asked_for_in_vain_is_a_finding() {
    let home = Home::new();
    home.write(
        "logs/setup.log",
        "2026-04-12T02:14:31Z INFO setup: finished, exit code 3010\n2026-04-12T02:31:07Z ERROR feeder: x\n",
    );
    let findings = home.run(&["checks", "logs", "--as", "jsonl"]).json();
    let asked = findings.iter().find(|one| one["check"] == "restart-asked-for").unwrap();
    assert_eq!(asked["line"], 1);
    // The card of that fault needs the restart not to have come, and not only to have been asked for.
    let cards = |name: &str| home.run(&["cards", name, "--as", "jsonl"]).json();
    assert_eq!(cards("logs")[0]["card"], "restart-swallowed");
    home.write(
        "restarted/setup.log",
        "2026-04-12T02:14:31Z INFO setup: finished, exit code 3010\n2026-04-12T02:16:00Z INFO kernel: Linux version 6.1.0\n",
    );
    assert_eq!(cards("restarted"), Vec::<serde_json::Value>::new());
}

#[test]
fn analyses_of_the_demo() {
    let home = Home::new();
    assert_eq!(home.run(&["demo", "--into", "night.box.zip"]).status, Some(0));
    let crashes = home.run(&["crashes", "night.box.zip", "--as", "jsonl"]).json();
    let suspects: Vec<&str> = crashes.iter().map(|one| one["suspects"][0]["module"].as_str().unwrap()).collect();
    assert_eq!(suspects, ["dosingd", "serbridge.dll", "twbridge.sys"], "the demo's story");
    assert!(crashes.iter().all(|one| one["provable"] == true && one["fingerprint"].as_str().unwrap().len() == 16));
    let stop = &crashes[2];
    assert_eq!((&stop["format"], &stop["what"]["kind"]), (&"kernel-dump-64".into(), &"stop".into()));
    let driver = stop["modules"].as_array().unwrap().iter().find(|module| module["name"] == "twbridge.sys").unwrap();
    assert_eq!((&driver["date"], &driver["in_stack"]), (&"2016-03-15".into(), &true.into()));
    let runs = home.run(&["installs", "night.box.zip", "--as", "jsonl"]).json();
    let bridge = runs.iter().find(|run| run["product"] == "Serial Bridge").unwrap();
    assert_eq!(
        (&bridge["outcome"], &bridge["code"]["number"], &bridge["restart_needed"]),
        (&"restart-needed".into(), &3010.into(), &true.into())
    );
    assert!(bridge["summary"].as_str().unwrap().contains("No start of the host"));
    let findings = home.run(&["findings", "night.box.zip", "--as", "jsonl"]).json();
    assert_eq!(findings[0]["level"], "critical");
    assert!(findings.iter().any(|one| one["from"] == "code" && one["evidence"][0]["line"] == 13), "{findings:#?}");
    let trail = home.run(&["trail", "night.box.zip", "--of", "fr-0412-4096", "--as", "jsonl"]).json();
    assert!(trail.last().unwrap()["end"]["state"].is_string() && trail.len() > 2, "{trail:#?}");
    let patterns = home.run(&["patterns", "night.box.zip", "--most", "3", "--as", "jsonl"]).json();
    assert_eq!((patterns.len(), &patterns[0]["count"]), (3, &1.into()));
    // The swallowed restart comes first, whether the gateway's clock is corrected or not.
    for clock in [&[][..], &["--drift", "dose-gw=-4m"]] {
        let cause = home.run(&[&["cause", "night.box.zip", "--as", "jsonl"], clock].concat()).json();
        let root = &cause[0]["root"];
        assert!(root["source"].as_str().unwrap().ends_with("console-setup.log") && root["line"] == 12, "{cause:#?}");
        let chain = cause[0]["chain"].as_array().unwrap();
        assert!(
            chain.len() >= 4 && chain[1..].iter().all(|link| !link["why"].as_str().unwrap().is_empty()),
            "{chain:#?}"
        );
        assert!(
            chain.iter().any(|link| link["what"].as_str().unwrap().contains("client asks for frame format 2")),
            "{chain:#?}"
        );
    }
    let ran = home.run(&["trail", "night.box.zip", "--of", "x"]);
    assert_eq!(ran.status, Some(1));
    assert!(ran.err.contains("too short"), "{}", ran.err);
}

#[test]
fn the_night_before_says_what_is_different_in_this_one() {
    let home = Home::new();
    assert_eq!(home.run(&["demo", "--into", "night.box.zip"]).status, Some(0));
    assert_eq!(home.run(&["demo", "--into", "before.box.zip", "--night-before"]).status, Some(0));
    let found = home.run(&["compare", "night.box.zip", "before.box.zip", "--as", "jsonl"]).json();
    let what = |one: &serde_json::Value| one["what"].as_str().unwrap_or_default().to_owned();
    // The first is what the console asks the old bridge for; then what is refused now, and was taken before.
    assert!(what(&found[0]).contains("asks for frame format 2"), "{found:#?}");
    assert_eq!(found[0]["kind"], "outcome");
    let place = |text: &str| found.iter().position(|one| what(one).contains(text));
    let (refused, accepted) = (place("refused, NAK").unwrap(), place("accepted, valve opened").unwrap());
    assert!(refused < 8 && accepted < 8, "{found:#?}");
    assert_eq!(found[accepted]["kind"], "only-good");
    let format = place("plan nightly sent").unwrap();
    assert!(what(&found[format]).ends_with(": 2, and 1 on the good side"), "{}", what(&found[format]));
    // The sensor that is slow on all evenings is no difference.
    assert!(place("level sensor").is_none(), "{found:#?}");
    let both = home.run(&["demo", "--into", "x.box.zip", "--night-before", "--elsewhere"]);
    assert_eq!(both.status, Some(2), "{}", both.err);
}

#[test]
fn two_sides_are_compared_and_one_is_wrong_usage() {
    let home = Home::new();
    home.write("bad/hosts/pump-ctl/etc/tw.ini", "[feed]\nspool=/srv/old\nlimit=3\n");
    home.write("good/hosts/pump-ctl/etc/tw.ini", "[feed]\nlimit = 3\nspool = /srv/plan\n");
    let found = home.run(&["compare", "bad", "good", "--as", "jsonl"]).json();
    assert_eq!((found.len(), &found[0]["kind"], &found[0]["rank"]), (1, &"value".into(), &1.into()), "{found:#?}");
    assert_eq!((&found[0]["bad"]["line"], &found[0]["good"]["line"]), (&2.into(), &3.into()));
    let same = home.run(&["compare", "good", "good"]);
    assert_eq!((same.status, same.out.trim()), (Some(0), "no difference that matters"));
    assert_eq!(home.run(&["compare", "bad"]).status, Some(2));
}

#[test]
fn charts_of_stability_and_of_a_run() {
    let home = Home::new();
    assert_eq!(home.run(&["demo", "--into", "night.box.zip"]).status, Some(0));
    let ran = home.run(&["chart", "night.box.zip", "--stability", "--into", "stability.svg"]);
    assert_eq!(ran.status, Some(0), "{}", ran.err);
    assert!(std::fs::read_to_string(home.path("stability.svg")).unwrap().contains("Stability by day"));
    let ran = home.run(&["chart", "night.box.zip", "--run", "3", "--into", "run.pdf"]);
    assert_eq!(ran.status, Some(0), "{}", ran.err);
    let ran = home.run(&["chart", "night.box.zip", "--run", "99", "--into", "none.svg"]);
    assert_eq!(ran.status, Some(2), "{}", ran.err);
    assert!(ran.err.contains("--run 99: there are 4 runs"), "{}", ran.err);
}

#[test]
fn kinds_take_patterns_together() {
    let home = Home::new();
    let words = ["open", "close", "drain"];
    let line = |at: usize| {
        format!("2026-04-12T02:00:0{at}Z INFO bridge: calling the handler of event {} for valve {at}\n", words[at % 3])
    };
    home.write("case/app.log", (0..6).map(line).collect::<String>());
    let patterns = home.run(&["patterns", "case", "--as", "jsonl"]).json();
    assert_eq!(patterns.len(), 3);
    assert!(patterns.iter().all(|pattern| pattern["kind"] == patterns[0]["kind"] && pattern["kind"].is_string()));
    let kinds = home.run(&["patterns", "case", "--kinds", "--as", "jsonl"]).json();
    assert_eq!(kinds.len(), 1);
    assert_eq!((&kinds[0]["count"], &kinds[0]["kind"]), (&serde_json::json!(6), &patterns[0]["kind"]));
    assert_eq!(kinds[0]["template"], "calling the handler of event # for valve #");
    let text = home.run(&["patterns", "case", "--kinds"]);
    assert!(text.out.contains("6 × ") && text.out.contains("bridge"), "{}", text.out);
}

#[test]
fn values_of_a_pattern_say_what_is_usual_and_what_is_not() {
    let home = Home::new();
    let line = |at: usize| {
        let (status, took) = if at == 70 { (500, 9_000) } else { (200, 10 + at % 9) };
        format!(
            "2026-04-12T02:{:02}:{:02}Z INFO gateway: frame {at} answered with {status} in {took} ms\n",
            at / 60,
            at % 60
        )
    };
    home.write("case/app.log", (0..200).map(line).collect::<String>());
    let patterns = home.run(&["patterns", "case", "--as", "jsonl"]).json();
    let pattern = patterns[0]["pattern"].as_str().unwrap();
    let found = home.run(&["patterns", "case", "--values", pattern, "--as", "jsonl"]).json();
    let unusual = found[0]["unusual"].as_array().unwrap();
    let told: Vec<_> =
        unusual.iter().map(|one| (one["text"].as_str().unwrap(), one["line"].as_u64().unwrap())).collect();
    assert_eq!(told, [("9000 ms", 71), ("500", 71)]);
    assert_eq!(found[0]["places"][1]["common"][0], serde_json::json!({"text": "200", "count": 199}));
    let text = home.run(&["patterns", "case", "--values", pattern]);
    assert!(
        text.out.contains("usually answered with 200") && text.out.contains("unusual 9000 ms, 500 times what"),
        "{}",
        text.out
    );
    assert_eq!(home.run(&["patterns", "case", "--values", "no"]).status, Some(2));
    let none = home.run(&["patterns", "case", "--values", "0000000000"]);
    assert!(none.status == Some(1) && none.err.contains("no event has this pattern"), "{}", none.err);
}

#[test]
fn lists_of_what_went_wrong_lead_back_to_the_events() {
    let home = Home::new();
    let text = "2026-04-12T02:00:05Z ERROR batch: frame fr-7 refused by gateway\n\
        2026-04-12T02:01:00Z ERROR batch: 2 frames failed:\n  - frame fr-7 refused by gateway\n  - frame fr-8 never came\n";
    home.write("case/batch.log", text);
    let found = home.run(&["patterns", "case", "--summaries", "--as", "jsonl"]).json();
    let items = found[0]["items"].as_array().unwrap();
    assert_eq!((found.len(), items.len(), &found[0]["heading"]), (1, 2, &serde_json::json!("2 frames failed")));
    let origin = &items[0]["origin"];
    assert_eq!((origin["line"].as_u64(), origin["by"].as_str()), (Some(1), Some("text")));
    assert_eq!(origin["time"], "2026-04-12T02:00:05.000000000Z");
    assert!(items[1]["origin"].is_null());
    let text = home.run(&["patterns", "case", "--summaries"]).out;
    assert!(text.contains("2 frames failed") && text.contains("not found in the logs"), "{text}");
}
