//! What an attacker, a clumsy colleague and a dying disk try: the real program, on a real terminal and file system.

mod common;

use std::process::{Command, Stdio};

use common::{Home, Ran};

const LOG: &str = "2026-04-12 02:31:07 ERROR [main] dosing - access refused 0x80070005\n2026-04-12 02:31:08 INFO [main] dosing - fine\n";

/// A log whose every part tries to drive the terminal: host, component, message, level, attributes, and its own name.
const HOSTILE: &str = "{\"time\":\"2026-04-12T02:31:07Z\",\"level\":\"er\\u001b[31mror\",\"host\":\"h\\u001b]0;owned\\u0007\",\
\"logger\":\"c\\u009b31m\\u007f\",\"message\":\"m\\u001b]52;c;b3duZWQ=\\u0007 \\u202eabc\\u2028x \\u0000\",\"k\\u001b[2J\":\"v\\u001bc\",\"code\":\"0x80070005\"}\n";

/// Runs a command on a terminal of its own and gives all bytes that the terminal got.
fn on_a_terminal(home: &Home, arguments: &[&str]) -> Vec<u8> {
    let quoted: Vec<String> = arguments.iter().map(|word| format!("'{}'", word.replace('\'', "'\\''"))).collect();
    let line = format!("{} {}", env!("CARGO_BIN_EXE_boxclock"), quoted.join(" "));
    let out = home.program("script").args(["-qefc", &line, "/dev/null"]).output().expect("script of util-linux");
    out.stdout
}

#[test]
fn no_command_gives_a_terminal_what_a_log_says() {
    let home = Home::new();
    let name = "logs/na\u{1b}[31mme.log";
    home.write(name, HOSTILE);
    home.write(
        "logs/plain\u{9b}2J.log",
        "2026-04-12T02:31:08Z ERROR x\u{1b}[2J: failed \u{1b}P+q\u{1b}\\ with error 5\n",
    );
    home.run(&["pack", "logs", "--into", "n.box.zip"]);
    let commands: &[&[&str]] = &[
        &["events", "logs"],
        &["events", "logs", "--as", "text"],
        &["events", "logs", "--as", "csv"],
        &["events", "logs", "--as", "xml"],
        &["events", "logs", "--as", "raw"],
        &["events", "logs", "--as", "otlp"],
        &["events", "logs", "--as", "text", "--fold"],
        &["events", "logs", "--where", "host=\u{1b}[2J"],
        &["sources", "logs"],
        &["sources", "logs", "--as", "jsonl"],
        &["sources", "logs", "--explain"],
        &["codes", "logs"],
        &["codes", "logs", "--as", "jsonl"],
        &["coverage", "n.box.zip"],
        &["coverage", "n.box.zip", "--as", "jsonl"],
        &["checks", "n.box.zip"],
        &["check", "n.box.zip"],
        &["drift", "logs"],
        &["drift", "logs", "--drift", "h\u{1b}]0;x\u{7}=+1s"],
        &["redact", "n.box.zip"],
        &["pack", "logs", "--plan", "--into", "x.box.zip"],
        &["pack", "logs", "--host", "a\u{1b}[2J=logs", "--into", "y.box.zip"],
        &["code", "\u{1b}[2J"],
        &["lenses", "no\u{1b}[2J.toml"],
        &["formats", "no\u{1b}[2J.toml"],
        &["recipes", "no\u{1b}[2J.toml"],
        &["report", "n.box.zip", "--into", "r\u{1b}[2J.xyz"],
        &["chart", "n.box.zip", "--into", "r\u{1b}[2J.xyz"],
        &["events", "no\u{1b}[2Jthing"],
    ];
    for arguments in commands {
        let got = on_a_terminal(&home, arguments);
        let text = String::from_utf8(got.clone()).unwrap_or_else(|error| panic!("{arguments:?}: {error}"));
        let bad = |letter: char| {
            letter.is_control() && !matches!(letter, '\r' | '\n' | '\t')
                || matches!(letter, '\u{2028}' | '\u{2029}' | '\u{202A}'..='\u{202E}' | '\u{2066}'..='\u{2069}')
        };
        let found: Vec<char> = text.chars().filter(|letter| bad(*letter)).collect();
        assert!(found.is_empty(), "{arguments:?} sends {found:?}: {text:?}");
        let quiet = arguments[0] == "drift" || arguments.contains(&"--where");
        assert!(!text.is_empty() || quiet, "{arguments:?} says nothing");
    }
    // For other programs nothing is lost: JSON that is read again has what the log had.
    let events = home.run(&["events", "logs"]).json();
    assert!(events.iter().any(|event| event["host"] == "h\u{1b}]0;owned\u{7}"), "{events:?}");
    let raw = home.run(&["events", "logs", "--as", "raw"]).out;
    assert!(raw.contains("\\u001b]52"), "{raw}");
}

#[test]
fn evidence_is_not_written_over() {
    let home = Home::new();
    home.write("logs/app.log", "2026-04-12T02:31:07Z ERROR x: y\n");
    home.run(&["pack", "logs", "--into", "n.box.zip"]);
    std::os::unix::fs::symlink(home.path("n.box.zip"), home.path("link")).unwrap();
    let before = (std::fs::read(home.path("n.box.zip")).unwrap(), std::fs::read(home.path("logs/app.log")).unwrap());
    for arguments in [
        &["events", "n.box.zip", "--out", "n.box.zip", "--force"][..],
        &["events", "n.box.zip", "--out", "link", "--force"],
        &["events", "logs", "--out", "logs/app.log", "--force"],
        &["events", "logs", "--out", "logs/../logs/./app.log", "--force"],
        &["events", "logs", "--out", "n.box.zip", "--force"],
        &["redact", "n.box.zip", "--into", "n.box.zip"],
        &["pack", "logs", "--into", "n.box.zip"],
    ] {
        let ran = home.run(arguments);
        assert_eq!(ran.status, Some(1), "{arguments:?}: {}", ran.err);
        let now = (std::fs::read(home.path("n.box.zip")).unwrap(), std::fs::read(home.path("logs/app.log")).unwrap());
        assert!(now == before, "{arguments:?}");
    }
    home.write("r.svg", "old");
    let ran = home.run(&["report", "n.box.zip", "--into", "r.svg"]);
    assert!(ran.status == Some(1) && ran.err.contains("--force"), "{}", ran.err);
    assert_eq!(std::fs::read_to_string(home.path("r.svg")).unwrap(), "old");
    assert_eq!(home.run(&["report", "n.box.zip", "--into", "r.svg", "--force"]).status, Some(0));
    assert!(std::fs::read_to_string(home.path("r.svg")).unwrap().starts_with("<svg"));
}

#[test]
fn everything_is_private_whatever_the_shell_says() {
    let home = Home::new();
    home.write("logs/app.log", "2026-04-12T02:31:07Z ERROR x: y\n");
    let shell = |line: &str| home.program("sh").args(["-c", &format!("umask 000; {line}")]).status().unwrap();
    let program = env!("CARGO_BIN_EXE_boxclock");
    shell(&format!("{program} pack logs --into n.box.zip && {program} redact n.box.zip --into r.box.zip"));
    shell(&format!("{program} events n.box.zip --out e.jsonl; {program} report n.box.zip --into r.md"));
    let find = |more: &[&str]| {
        let out =
            home.program("find").args([".", "-mindepth", "1", "-not", "-path", "./logs*"]).args(more).output().unwrap();
        String::from_utf8(out.stdout).unwrap()
    };
    assert_eq!(find(&["-perm", "/077"]), "");
    assert!(find(&[]).lines().count() > 6, "{}", find(&[]));
}

#[test]
fn a_closed_standard_error_ends_nothing() {
    let home = Home::new();
    home.write("logs/app.log", "2026-04-12T02:31:07Z ERROR x: y\n");
    home.write("logs/unreadable.bin", "\u{0}\u{1}\u{2}");
    let program = env!("CARGO_BIN_EXE_boxclock");
    for line in ["2>&-", "2>/dev/full", "--progress 2>&-", ">/dev/full 2>/dev/full"] {
        let line = format!("{program} sources logs {line}");
        let status = home.program("sh").args(["-c", &line]).stdout(std::process::Stdio::null()).status().unwrap();
        assert!(matches!(status.code(), Some(0 | 1 | 3)), "{line}: {status}");
    }
}

#[test]
fn a_full_standard_output_is_said() {
    let home = Home::new();
    home.write("logs/app.log", "2026-04-12T02:31:07Z ERROR x: failed with error 5\n");
    home.run(&["pack", "logs", "--into", "n.box.zip"]);
    for command in [
        "recipes",
        "lenses",
        "sources logs --as jsonl",
        "codes logs",
        "check n.box.zip",
        "coverage n.box.zip --as jsonl",
        "events logs",
    ] {
        let line = format!("{} {command} >/dev/full", env!("CARGO_BIN_EXE_boxclock"));
        let status = home.program("sh").args(["-c", &line]).output().unwrap().status;
        assert_eq!(status.code(), Some(1), "{command}");
    }
}

#[test]
fn a_kill_leaves_the_old_file() {
    let home = Home::new();
    let line = "2026-04-12T02:31:07Z ERROR x: a line that is long enough to take some time to write\n";
    home.write("logs/app.log", line.repeat(200_000));
    home.write("e.jsonl", "old");
    let mut killed = 0;
    for wait in [40, 80, 120, 200, 300] {
        let mut child = home.command().args(["events", "logs", "--out", "e.jsonl", "--force"]).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(wait));
        child.kill().unwrap();
        if child.wait().unwrap().code().is_none() {
            killed += 1;
            assert_eq!(std::fs::read_to_string(home.path("e.jsonl")).unwrap(), "old");
        } else {
            home.write("e.jsonl", "old");
        }
    }
    assert!(killed > 0, "it was never killed in the middle");
}

#[test]
fn a_seal_is_proof() {
    let home = Home::new();
    home.write("gw/app.log", "2026-04-12T02:31:07Z ERROR x: y\n");
    let sh = |line: &str| assert!(home.program("sh").args(["-c", line]).status().unwrap().success(), "{line}");
    sh("openssl genpkey -algorithm ed25519 -out k.pem && openssl pkey -in k.pem -pubout -out k.pub");
    sh("openssl genpkey -algorithm ed25519 -out o.pem && openssl pkey -in o.pem -pubout -out o.pub");
    let pack = ["pack", "--host", "gw=gw", "--into", "n.box.zip", "--sign", "k.pem", "--signer", "night shift"];
    assert_eq!(home.run(&pack).status, Some(0));
    let ran = home.run(&["check", "n.box.zip", "--key", "k.pub"]);
    assert!(ran.status == Some(0) && ran.out.contains("night shift"), "{} {}", ran.out, ran.err);
    assert_eq!(home.run(&["check", "n.box.zip", "--key", "o.pub"]).status, Some(1));
    // A second member of a sealed name, one that differs by a separator, and one by capitals, each before the sealed ones.
    for (name, forged) in [("same", "hosts/gw/app.log"), ("slash", "hosts\\gw\\app.log"), ("case", "hosts/GW/app.log")]
    {
        let bytes = std::fs::read(home.path("n.box.zip")).unwrap();
        let mut add = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
        add.start_file(forged, zip::write::SimpleFileOptions::default()).unwrap();
        std::io::Write::write_all(&mut add, b"forged\n").unwrap();
        let other = add.finish().unwrap().into_inner();
        let path = home.write(&format!("{name}.box.zip"), joined(&bytes, &other));
        let ran = home.run(&["check", &path.to_string_lossy()]);
        assert_eq!(ran.status, Some(1), "{name}: {}", ran.out);
        assert!(ran.out.contains("hidden") || ran.out.contains("extra"), "{name}: {}", ran.out);
    }
    // A story that was changed.
    sh("mkdir t && cd t && unzip -q ../n.box.zip && sed -i 's/happened/hapened/' story.json && zip -qr ../s.box.zip .");
    let ran = home.run(&["check", "s.box.zip"]);
    assert!(ran.status == Some(1) && ran.out.contains("changed: story.json"), "{} {}", ran.out, ran.err);
    // A copy says what it was made from.
    home.run(&["redact", "n.box.zip", "--into", "r.box.zip", "--sign", "o.pem"]);
    let sum = home.program("sha256sum").arg("n.box.zip").output().unwrap().stdout;
    let sum = String::from_utf8(sum).unwrap();
    let ran = home.run(&["check", "r.box.zip", "--key", "o.pub"]);
    assert!(ran.status == Some(0) && ran.out.contains(sum.split(' ').next().unwrap()), "{} {}", ran.out, ran.err);
}

/// A box with the members of another archive behind its own, in one directory.
fn joined(one: &[u8], other: &[u8]) -> Vec<u8> {
    let end_of = |bytes: &[u8]| bytes.windows(4).rposition(|four| four == b"PK\x05\x06").unwrap();
    let number = |bytes: &[u8], at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
    let parts = |bytes: &[u8]| {
        let end = end_of(bytes);
        let (size, offset) = (number(bytes, end + 12), number(bytes, end + 16));
        let count = u16::from_le_bytes([bytes[end + 10], bytes[end + 11]]);
        (bytes[..offset].to_vec(), bytes[offset..offset + size].to_vec(), count)
    };
    let (first, first_directory, first_count) = parts(one);
    let (second, mut second_directory, second_count) = parts(other);
    let moved = (number(&second_directory, 42) + first.len()) as u32;
    second_directory[42..46].copy_from_slice(&moved.to_le_bytes());
    let mut whole = [first, second].concat();
    let offset = whole.len() as u32;
    let directory = [second_directory, first_directory].concat();
    whole.extend(&directory);
    whole.extend(b"PK\x05\x06\0\0\0\0");
    whole.extend((first_count + second_count).to_le_bytes());
    whole.extend((first_count + second_count).to_le_bytes());
    whole.extend((directory.len() as u32).to_le_bytes());
    whole.extend(offset.to_le_bytes());
    whole.extend([0, 0]);
    whole
}

#[test]
fn labels_that_cannot_be_folders_are_refused() {
    let home = Home::new();
    home.write("gw/app.log", "2026-04-12T02:31:07Z ERROR x: y\n");
    let long = "x".repeat(300);
    for label in [".", "..", "a/b", "a\\b", long.as_str()] {
        let ran = home.run(&["pack", "--host", &format!("{label}=gw"), "--into", "n.box.zip"]);
        assert!(matches!(ran.status, Some(1 | 2)) && ran.err.contains("label"), "{label}: {}", ran.err);
        assert!(!home.path("n.box.zip").exists());
    }
}

#[test]
fn what_was_unpacked_can_be_wiped_and_the_key_lies_apart() {
    let home = Home::new();
    home.write("gw/app.log", "2026-04-12T02:31:07Z ERROR x: password=eel99x\n");
    home.run(&["pack", "--host", "gw=gw", "--into", "n.box.zip"]);
    home.run(&["redact", "n.box.zip", "--into", "r.box.zip"]);
    let holds = |folder: &str, text: &str| {
        let status = home.program("grep").args(["-rqF", text, folder]).status().unwrap();
        status.success()
    };
    assert!(holds(".cache", "eel99x"), "it was unpacked");
    assert_eq!(home.run(&["forget", "n.box.zip"]).status, Some(0));
    assert!(!holds(".cache", "eel99x"), "it was wiped");
    let keys = home.program("find").args([".data", "-name", "*.key", "-size", "32c"]).output().unwrap().stdout;
    assert_eq!(String::from_utf8(keys).unwrap().lines().count(), 1);
    let first = home.run(&["redact", "n.box.zip"]).out;
    assert_eq!(first, home.run(&["redact", "n.box.zip"]).out, "the same marks as before");
}

#[test]
fn other_things_than_files_are_named_and_never_waited_for() {
    let home = Home::new();
    home.write("gw/app.log", "2026-04-12T02:31:07Z ERROR x: y\n");
    assert!(home.program("mkfifo").arg("fifo").status().unwrap().success());
    for arguments in [
        &["pack", "gw", "--into", "a.box.zip", "--story", "fifo"][..],
        &["events", "gw", "--password-file", "fifo"],
        &["events", "fifo"],
        &["check", "fifo"],
        &["lenses", "fifo"],
        &["formats", "fifo"],
        &["recipes", "/dev/zero"],
        &["catalogues", "/dev/zero"],
        &["pack", "gw", "--into", "b.box.zip", "--sign", "/dev/zero"],
        &["events", "gw", "--out", "fifo"],
        &["events", "gw", "--out", "fifo", "--force"],
    ] {
        let line = format!("timeout 20 {} {}", env!("CARGO_BIN_EXE_boxclock"), arguments.join(" "));
        let status = home.program("sh").args(["-c", &line]).output().unwrap().status;
        assert!(matches!(status.code(), Some(1..=3)), "{arguments:?}: {status}");
    }
}

/// Noise that does not compress.
fn noise(bytes: usize) -> Vec<u8> {
    let mut state = 0x1234_5678_9ABC_DEF0_u64;
    let step = |_| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state as u8
    };
    (0..bytes).map(step).collect()
}

#[test]
fn a_full_disk_leaves_no_half_box() {
    let home = Home::new();
    home.write("logs/noise.log", noise(2 << 20));
    std::fs::create_dir(home.path("small")).unwrap();
    let script = format!(
        "mount -t tmpfs -o size=256k none small && {} pack logs --into small/x.box.zip; echo status $?; ls -A small",
        common::binary().display()
    );
    let output =
        Command::new("unshare").args(["-rm", "sh", "-c", &script]).current_dir(home.path("")).output().unwrap();
    let ran = Ran::of(&output);
    assert!(
        ran.err.contains("cannot write small/x.box.zip") && ran.err.contains("No space left"),
        "{} {}",
        ran.out,
        ran.err
    );
    assert_eq!(ran.out, "status 1\n", "nothing is left on the full disk");
}

#[test]
fn killed_while_packing() {
    let home = Home::new();
    home.write("logs/noise.log", noise(48 << 20));
    let mut child = home.command().args(["pack", "logs", "--into", "x.box.zip"]).stdout(Stdio::null()).spawn().unwrap();
    // Kill it when it has written something under its temporary name.
    let written = || {
        let parts = std::fs::read_dir(home.path("")).unwrap().filter_map(Result::ok);
        parts
            .filter(|entry| entry.file_name().to_string_lossy().ends_with(".part"))
            .any(|entry| entry.metadata().is_ok_and(|data| data.len() > 0))
    };
    while !written() {
        assert!(child.try_wait().unwrap().is_none(), "it was faster than the test");
        std::thread::yield_now();
    }
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(!home.path("x.box.zip").exists());
    assert_eq!(home.run(&["pack", "logs", "--into", "x.box.zip"]).status, Some(0), "it works the next time");
}

#[test]
fn devices_and_sockets_are_not_read() {
    let home = Home::new();
    let ran = home.run(&["events", "/dev/zero"]);
    assert_eq!((ran.status, ran.out.as_str()), (Some(3), ""));
    assert!(ran.err.contains("/dev/zero: a device, not a file"), "{}", ran.err);
    home.write("logs/app.log", LOG);
    let _socket = std::os::unix::net::UnixListener::bind(home.path("logs/socket")).unwrap();
    let ran = home.run(&["sources", "logs"]);
    assert_eq!(ran.status, Some(3));
    assert!(ran.err.contains("logs/socket: a socket, not a file"), "{}", ran.err);
}

/// A box that somebody made to write outside of the cache.
#[test]
fn names_that_lead_out_of_the_box() {
    use sha2::Digest;
    use std::io::Write;
    let home = Home::new();
    let text = LOG.as_bytes();
    let hash = boxclock_core::text::hex(&sha2::Sha256::digest(text));
    let names = ["hosts/../../../escaped.log", "/tmp/boxclock-escaped.log", "hosts/gw/good.log"];
    let files: Vec<_> = names
        .iter()
        .map(|name| {
            serde_json::json!({"path": name, "size": text.len(), "sha256": hash, "origin": name, "host": "gw",
                "modified": "2026-04-12T00:00:00.000000000Z"})
        })
        .collect();
    let seal = serde_json::json!({"version": 1, "sealed_at": "", "sealed_by": "", "hosts": [], "files": files, "unreadable": []});
    let mut zip = zip::ZipWriter::new(std::fs::File::create(home.path("evil.box.zip")).unwrap());
    let options = zip::write::SimpleFileOptions::default();
    for name in names {
        zip.start_file(name, options).unwrap();
        zip.write_all(text).unwrap();
    }
    zip.start_file("box.json", options).unwrap();
    zip.write_all(seal.to_string().as_bytes()).unwrap();
    zip.finish().unwrap();
    let ran = home.run(&["events", "evil.box.zip"]);
    assert_eq!((ran.status, ran.json().len()), (Some(3), 2), "{}", ran.err);
    assert_eq!(ran.err.matches("its name leads out of the box").count(), 2, "{}", ran.err);
    assert!(!std::path::Path::new("/tmp/boxclock-escaped.log").exists());
    let found = Command::new("find").args([home.path("").to_str().unwrap(), "-name", "escaped.log"]).output().unwrap();
    assert!(found.stdout.is_empty());
    // What was said the first time is said again from the cache.
    assert_eq!(home.run(&["events", "evil.box.zip"]).err, ran.err);
}

#[test]
fn a_member_that_is_missing_from_the_box() {
    let home = Home::new();
    home.write("gw/a.log", LOG);
    assert_eq!(home.run(&["pack", "--host", "gw=gw", "--into", "x.box.zip"]).status, Some(0));
    // Copy all members but the log.
    let mut from = zip::ZipArchive::new(std::fs::File::open(home.path("x.box.zip")).unwrap()).unwrap();
    let mut to = zip::ZipWriter::new(std::fs::File::create(home.path("y.box.zip")).unwrap());
    for index in 0..from.len() {
        let member = from.by_index_raw(index).unwrap();
        if !member.name().unwrap().ends_with("a.log") {
            to.raw_copy_file(member).unwrap();
        }
    }
    to.finish().unwrap();
    let ran = home.run(&["check", "y.box.zip"]);
    let expected = format!("missing: hosts/gw/a.log: the seal lists it with {} bytes\n", LOG.len());
    assert_eq!((ran.status, ran.out), (Some(1), expected));
    let ran = home.run(&["events", "y.box.zip"]);
    assert_eq!((ran.status, ran.out.as_str()), (Some(3), ""));
    assert!(ran.err.contains("hosts/gw/a.log: missing"), "{}", ran.err);
}
