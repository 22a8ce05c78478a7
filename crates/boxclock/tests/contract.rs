//! The JSON contract: which names each command writes, what their values are, and which words they may be. Scripts of others stand on it.

mod common;

use common::Home;
use serde_json::Value;

/// What a value has to be.
enum Is {
    /// A text, with something in it.
    Text,
    /// A text, or nothing.
    AnyText,
    /// A moment in RFC 3339, or null.
    Time,
    /// A whole number from zero.
    Count,
    /// A number from 0 to 1.
    Share,
    /// A number, of any sort.
    Number,
    Bool,
    /// One of these words.
    Word(&'static [&'static str]),
    /// A list, with elements of that kind.
    List(&'static Is),
    /// An object with these names: `!` behind a name says that it must be there. Other names are wrong.
    Object(&'static [(&'static str, Is)]),
    /// An object, whatever is in it.
    AnyObject,
}

const PLACE: Is = Is::Object(&[("source!", Is::Text), ("line!", Is::Count)]);
const PLACES: Is = Is::List(&PLACE);
const PLACE_WITH_WHY: Is =
    Is::Object(&[("source!", Is::Text), ("line!", Is::Count), ("why!", Is::AnyText), ("what", Is::Text)]);
const CODE: Is = Is::Object(&[
    ("text", Is::Text),
    ("number", Is::Number),
    ("family", Is::Text),
    ("name", Is::Text),
    ("failure", Is::Bool),
]);
const LEVELS: Is = Is::Word(&["trace", "debug", "info", "warn", "error", "fatal"]);
const TEXTS: Is = Is::List(&Is::Text);

const EVENTS: Is = Is::Object(&[
    ("time!", Is::Time),
    ("time_known!", Is::Word(&["exact", "header", "named", "assumed-zone", "assumed-year", "inherited", "none"])),
    ("severity!", LEVELS),
    ("severity_number!", Is::Count),
    ("severity_text!", Is::AnyText),
    ("host!", Is::AnyText),
    ("source!", Is::Text),
    ("line!", Is::Count),
    ("offset!", Is::Count),
    ("length!", Is::Count),
    ("format!", Is::Text),
    ("component!", Is::AnyText),
    ("pid!", Is::Count),
    ("tid!", Is::Number),
    ("codes!", Is::List(&CODE)),
    ("body!", Is::AnyText),
    ("attributes!", Is::AnyObject),
]);

const SOURCES: Is = Is::Object(&[
    ("source!", Is::Text),
    ("host!", Is::AnyText),
    ("hosts", TEXTS),
    ("format!", Is::Text),
    ("encoding!", Is::Text),
    ("zone!", Is::AnyText),
    ("zone_from!", Is::AnyText),
    ("bytes!", Is::Count),
    ("lines!", Is::Count),
    ("events!", Is::Count),
    ("attached_lines!", Is::Count),
    ("undated_events!", Is::Count),
    ("first!", Is::Time),
    ("last!", Is::Time),
    ("trouble!", TEXTS),
    // Beside the contract:
    ("event_bytes", Is::Count),
    ("other_bytes", Is::Count),
    ("repeated_bytes", Is::Count),
    ("repeated_lines", Is::Count),
    ("files", TEXTS),
]);

const FRAMES: Is = Is::List(&Is::Object(&[
    ("address", Is::Text),
    ("module", Is::Text),
    ("offset", Is::Text),
    ("function", Is::Text),
    ("function_offset", Is::Text),
    ("file", Is::Text),
    ("line", Is::Count),
    ("found!", Is::Word(&["context", "unwind-table", "frame-pointer", "scan", "text"])),
    ("sure!", Is::Word(&["certain", "likely", "guess"])),
]));

/// Lines that stand around a crash.
const NEAR_LINES: Is = Is::List(&Is::Object(&[
    ("source!", Is::Text),
    ("line!", Is::Count),
    ("time", Is::Time),
    ("text!", Is::AnyText),
    ("own!", Is::Bool),
]));

const CRASHES: Is = Is::Object(&[
    ("source!", Is::Text),
    ("line!", Is::Count),
    ("format!", Is::Text),
    ("host!", Is::AnyText),
    ("time!", Is::Time),
    ("time_from!", Is::Word(&["dump", "log", "file", "none"])),
    ("process", Is::AnyText),
    ("pid", Is::Count),
    ("executable", Is::AnyText),
    (
        "what!",
        Is::Object(&[
            (
                "kind!",
                Is::Word(&["signal", "exception", "stop", "panic", "assertion", "out-of-memory", "hang", "killed"]),
            ),
            ("number", Is::Number),
            ("name", Is::Text),
            ("detail", Is::Text),
            ("address", Is::Text),
            ("access", Is::Word(&["read", "write", "execute"])),
            ("parameters", Is::List(&Is::Object(&[("value!", Is::Text), ("means!", Is::AnyText)]))),
            ("words", Is::Text),
        ]),
    ),
    ("thread", Is::Object(&[("id", Is::Count), ("name", Is::Text)])),
    ("threads", Is::Count),
    ("frames!", FRAMES),
    (
        "modules!",
        Is::List(&Is::Object(&[
            ("name!", Is::Text),
            ("path", Is::Text),
            ("base", Is::Text),
            ("size", Is::Count),
            ("build_id", Is::Text),
            ("version", Is::Text),
            ("date", Is::Text),
            ("age_days", Is::Number),
            ("own!", Is::Word(&["system", "vendor", "application", "unknown"])),
            ("in_stack!", Is::Bool),
        ])),
    ),
    ("unloaded", TEXTS),
    ("suspects!", Is::List(&Is::Object(&[("module!", Is::Text), ("score!", Is::Share), ("why!", TEXTS)]))),
    ("witnesses", Is::List(&Is::Object(&[("module!", Is::Text), ("why!", Is::Text)]))),
    ("provable!", Is::Bool),
    ("before", NEAR_LINES),
    ("changes", NEAR_LINES),
    ("history", TEXTS),
    (
        "no_dump",
        Is::List(&Is::Object(&[
            ("why!", Is::Text),
            ("place", Is::Object(&[("source!", Is::Text), ("line!", Is::Count)])),
        ])),
    ),
    ("fingerprint!", Is::Text),
    ("same_as", TEXTS),
    ("damage", TEXTS),
    ("summary!", Is::Text),
    ("remedies!", Is::List(&Is::Object(&[("do!", Is::Text), ("proves!", Is::Text)]))),
    // Beside the contract:
    ("doubts", TEXTS),
    ("told_by", PLACES),
    ("missing_programs", TEXTS),
    ("attributes", Is::AnyObject),
]);

const INSTALLS: Is = Is::Object(&[
    ("run!", Is::Count),
    ("host!", Is::AnyText),
    ("source!", Is::Text),
    ("line!", Is::Count),
    ("last_line!", Is::Count),
    ("kind!", Is::Word(&["install", "upgrade", "repair", "remove", "patch", "unknown"])),
    ("product", Is::AnyText),
    ("version", Is::AnyText),
    ("start", Is::Time),
    ("end", Is::Time),
    (
        "outcome!",
        Is::Word(&[
            "succeeded",
            "restart-needed",
            "failed",
            "rolled-back",
            "cancelled",
            "refused",
            "cut-off",
            "running",
        ]),
    ),
    ("code", CODE),
    ("restart_needed!", Is::Bool),
    (
        "first_failure",
        Is::Object(&[("source!", Is::Text), ("line!", Is::Count), ("step", Is::AnyText), ("code", CODE)]),
    ),
    ("consequences", PLACES),
    ("not_failures", Is::List(&PLACE_WITH_WHY)),
    ("rollback", PLACE),
    (
        "phases",
        Is::List(&Is::Object(&[
            ("name!", Is::Text),
            ("depth!", Is::Count),
            ("start", Is::Time),
            ("end", Is::Time),
            ("line!", Is::Count),
            ("outcome", Is::AnyText),
            ("percent", Is::Number),
        ])),
    ),
    (
        "items",
        Is::List(&Is::Object(&[
            ("kind!", Is::Word(&["feature", "component", "package", "file"])),
            ("name!", Is::Text),
            ("before", Is::AnyText),
            ("asked", Is::AnyText),
            ("after", Is::AnyText),
            ("why", Is::AnyText),
            ("line!", Is::Count),
        ])),
    ),
    ("skipped", Is::List(&Is::Object(&[("name!", Is::Text), ("line!", Is::Count), ("why!", Is::Text)]))),
    (
        "workers",
        Is::List(&Is::Object(&[
            ("worker!", Is::Text),
            ("job", Is::AnyText),
            ("outcome!", Is::Word(&["failed", "done", "waiting", "running", "fixed", "restarted"])),
            ("line!", Is::Count),
            ("log", Is::Text),
        ])),
    ),
    ("child_logs", Is::List(&Is::Object(&[("path!", Is::Text), ("source", Is::Text), ("line!", Is::Count)]))),
    ("remaining", TEXTS),
    ("last_open", Is::Object(&[("line!", Is::Count), ("name!", Is::Text)])),
    (
        "trust",
        Is::List(&Is::Object(&[
            ("signer", Is::AnyText),
            ("thumbprint", Is::AnyText),
            ("valid_until", Is::AnyText),
            ("store", Is::AnyText),
            ("host", Is::AnyText),
            ("source", Is::Text),
            ("line!", Is::Count),
            (
                "accepted",
                Is::Object(&[
                    ("signer", Is::AnyText),
                    ("thumbprint", Is::AnyText),
                    ("valid_until", Is::AnyText),
                    ("source!", Is::Text),
                    ("line!", Is::Count),
                ]),
            ),
            ("codes!", Is::List(&Is::Object(&[("code!", Is::Text), ("source!", Is::Text), ("line!", Is::Count)]))),
        ])),
    ),
    ("summary!", Is::Text),
]);

/// What is still to be found out, and what it would prove.
const QUESTIONS: Is = Is::List(&Is::Object(&[("do!", Is::Text), ("proves!", Is::Text)]));

const END_OF_HOP: Is = Is::Object(&[("time", Is::Time), ("line!", Is::Count)]);
const HOP: Is = Is::Object(&[
    ("hop!", Is::Count),
    ("host!", Is::AnyText),
    ("source!", Is::Text),
    ("component!", Is::AnyText),
    ("pid", Is::Count),
    ("identifier!", Is::Text),
    ("first!", END_OF_HOP),
    ("last!", END_OF_HOP),
    ("events!", Is::Count),
    ("outcome!", Is::Word(&["passed", "answered", "failed", "stopped", "unknown"])),
    ("code", CODE),
    ("gap_before_ms", Is::Number),
]);
const END_OF_TRAIL: Is = Is::Object(&[
    (
        "end!",
        Is::Object(&[
            ("state!", Is::Word(&["answered", "failed", "lost", "running"])),
            ("source!", Is::Text),
            ("line!", Is::Count),
        ]),
    ),
    (
        "aliases!",
        Is::List(&Is::Object(&[
            ("identifier!", Is::Text),
            ("source!", Is::Text),
            ("line!", Is::Count),
            ("why!", Is::Text),
        ])),
    ),
    ("summary!", Is::Text),
]);

const COMPARE: Is = Is::Object(&[
    ("rank!", Is::Count),
    ("kind!", Is::Word(&["only-bad", "only-good", "count", "order", "outcome", "value", "duration", "gap"])),
    ("bad", PLACE),
    ("good", PLACE),
    ("what!", Is::Text),
    ("why!", Is::Text),
    ("score!", Is::Share),
]);

const CAUSE: Is = Is::Object(&[
    ("root!", PLACE),
    ("score!", Is::Share),
    ("reasons!", TEXTS),
    ("chain!", Is::List(&PLACE_WITH_WHY)),
    ("summary!", Is::Text),
    ("card", Is::Text),
    ("questions", QUESTIONS),
]);
const CAUSE_UNPROVEN: Is = Is::Object(&[
    ("provable!", Is::Bool),
    ("evidence_ends!", PLACE),
    ("chain!", Is::List(&PLACE_WITH_WHY)),
    ("missing!", TEXTS),
    ("summary!", Is::Text),
    ("card", Is::Text),
    ("questions", QUESTIONS),
]);

const FINDINGS: Is = Is::Object(&[
    ("level!", Is::Word(&["critical", "warning", "info"])),
    ("what!", Is::Text),
    ("advice!", TEXTS),
    ("evidence!", PLACES),
    ("host", Is::AnyText),
    ("from!", Is::Word(&["check", "install", "crash", "counter", "clock", "code", "pattern", "card"])),
    // Beside the contract:
    ("check", Is::Text),
    ("seen", Is::AnyText),
    ("reason", Is::AnyText),
]);

fn is_time(text: &str) -> bool {
    let bytes = text.as_bytes();
    let digits = |range: std::ops::Range<usize>| bytes[range].iter().all(u8::is_ascii_digit);
    bytes.len() >= 20 && bytes.ends_with(b"Z") && digits(0..4) && bytes[10] == b'T' && digits(11..13) && digits(14..16)
}

/// What is wrong with a value, each with its path.
fn faults(value: &Value, is: &Is, path: &str, found: &mut Vec<String>) {
    let mut wrong = |what: &str| found.push(format!("{path}: {what}: {value}"));
    // What is unknown is null, or left out.
    if value.is_null() {
        return;
    }
    match is {
        Is::Text if value.as_str().is_none_or(str::is_empty) => wrong("no text"),
        Is::AnyText if !value.is_string() => wrong("no text"),
        Is::Time if !value.as_str().is_some_and(is_time) => wrong("no time"),
        Is::Count if !value.is_u64() => wrong("no count"),
        Is::Number if !value.is_number() => wrong("no number"),
        Is::Share if !value.as_f64().is_some_and(|share| (0.0..=1.0).contains(&share)) => wrong("not from 0 to 1"),
        Is::Bool if !value.is_boolean() => wrong("neither true nor false"),
        Is::Word(words) if !value.as_str().is_some_and(|word| words.contains(&word)) => wrong("no such word"),
        Is::AnyObject if !value.is_object() => wrong("no object"),
        Is::List(of) => match value.as_array() {
            None => wrong("no list"),
            Some(list) => {
                list.iter().enumerate().for_each(|(at, one)| faults(one, of, &format!("{path}[{at}]"), found));
            }
        },
        Is::Object(names) => match value.as_object() {
            None => wrong("no object"),
            Some(object) => {
                for (name, of) in *names {
                    let bare = name.trim_end_matches('!');
                    match object.get(bare) {
                        Some(value) => faults(value, of, &format!("{path}.{bare}"), found),
                        None if name.ends_with('!') => found.push(format!("{path}.{bare} is not there")),
                        None => {}
                    }
                }
                let is_named = |key: &String| names.iter().any(|(name, _)| name.trim_end_matches('!') == key);
                found.extend(object.keys().filter(|key| !is_named(key)).map(|key| format!("{path}.{key} is new")));
            }
        },
        _ => {}
    }
}

/// Panics where a line of the output is not as agreed.
fn holds(what: &str, lines: &[Value], is: impl Fn(&Value) -> Is) {
    assert!(!lines.is_empty(), "{what} says nothing");
    let mut found = Vec::new();
    for (at, line) in lines.iter().enumerate() {
        faults(line, &is(line), &format!("{what} {}", at + 1), &mut found);
    }
    found.truncate(20);
    assert!(found.is_empty(), "{found:#?}");
}

#[test]
fn what_the_commands_say_of_the_demo_is_as_agreed() {
    let home = Home::new();
    assert_eq!(home.run(&["demo", "--into", "night.box.zip"]).status, Some(0));
    assert_eq!(home.run(&["demo", "--into", "before.box.zip", "--night-before"]).status, Some(0));
    let says = |arguments: &[&str]| {
        let ran = home.run(&[arguments, &["--as", "jsonl"]].concat());
        assert!(matches!(ran.status, Some(0 | 3)), "{arguments:?}: {}", ran.err);
        ran.json()
    };
    holds("events", &says(&["events", "night.box.zip"]), |_| EVENTS);
    holds("sources", &says(&["sources", "night.box.zip"]), |_| SOURCES);
    holds("crashes", &says(&["crashes", "night.box.zip"]), |_| CRASHES);
    holds("installs", &says(&["installs", "night.box.zip"]), |_| INSTALLS);
    holds("compare", &says(&["compare", "night.box.zip", "before.box.zip"]), |_| COMPARE);
    holds("findings", &says(&["findings", "night.box.zip"]), |_| FINDINGS);
    let is_proven = |line: &Value| if line.get("provable").is_none() { CAUSE } else { CAUSE_UNPROVEN };
    holds("cause", &says(&["cause", "night.box.zip"]), is_proven);
    let trail = says(&["trail", "night.box.zip", "--of", "fr-0412-4096"]);
    let (end, hops) = trail.split_last().unwrap();
    holds("trail", hops, |_| HOP);
    holds("end of the trail", std::slice::from_ref(end), |_| END_OF_TRAIL);
    assert!(hops.iter().zip(1..).all(|(hop, number)| hop["hop"] == number), "{hops:#?}");
}

#[test]
fn the_words_of_one_command_are_places_of_another() {
    let home = Home::new();
    assert_eq!(home.run(&["demo", "--into", "night.box.zip"]).status, Some(0));
    let says = |command: &str| home.run(&[command, "night.box.zip", "--as", "jsonl"]).json();
    let sources = says("sources");
    let lines_of = |name: &Value| sources.iter().find(|source| source["source"] == *name).map(|one| &one["lines"]);
    let mut places = 0;
    let mut check = |place: &Value| {
        // What is known of a machine is kept beside its logs, and is none.
        let is_facts = place["source"].as_str().unwrap().ends_with("/facts.json");
        let Some(lines) = lines_of(&place["source"]) else { return assert!(is_facts, "no such source: {place}") };
        let line = place["line"].as_u64().unwrap();
        // What is decoded (a dump, an event log) has places of its own.
        assert!(line >= 1 && lines.as_u64().is_none_or(|lines| lines == 0 || line <= lines), "{place}");
        places += 1;
    };
    for found in says("findings") {
        found["evidence"].as_array().unwrap().iter().for_each(&mut check);
    }
    for cause in says("cause") {
        cause["chain"].as_array().unwrap().iter().for_each(&mut check);
    }
    says("crashes").iter().for_each(&mut check);
    says("installs").iter().for_each(&mut check);
    assert!(places > 30, "{places}");
}

#[test]
fn a_case_without_a_cause_says_so_in_the_agreed_way() {
    let home = Home::new();
    let mut log = String::new();
    for minute in 0..50 {
        log.push_str(&format!("2026-04-12 02:{minute:02}:07 INFO [main] dosing - frame {minute} accepted\n"));
    }
    log.push_str("2026-04-12 02:50:07 ERROR [main] dosing - pump 3 does not answer\n");
    log.push_str("2026-04-12 02:51:07 ERROR [main] dosing - pump 3 does not answer\n");
    home.write("case/hosts/pump-ctl/app.log", log);
    let found = home.run(&["cause", "case", "--as", "jsonl"]).json();
    holds("cause", &found[..1], |_| CAUSE_UNPROVEN);
    assert_eq!(found[0]["provable"], false);
    assert_eq!(found[0]["evidence_ends"]["line"], 51);
    // Nothing failed: nothing is said.
    home.write("well/app.log", "2026-04-12 02:50:07 INFO [main] dosing - frame 1 accepted\n");
    let ran = home.run(&["cause", "well", "--as", "jsonl"]);
    assert_eq!((ran.status, ran.out.as_str()), (Some(0), ""), "{}", ran.err);
}
