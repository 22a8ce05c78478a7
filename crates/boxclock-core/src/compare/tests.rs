//! What differs and matters, and what differs anyway.

use super::*;
use crate::testing::case;

fn side(files: &[(&str, &str)]) -> (crate::testing::TestCase, Side) {
    let folder = case(files);
    let view = folder.view();
    let side = Side::new(view, &[folder.path().to_owned()]).unwrap();
    (folder, side)
}

fn compared(bad: &[(&str, &str)], good: &[(&str, &str)]) -> Vec<Difference> {
    let ((_bad, bad), (_good, good)) = (side(bad), side(good));
    compare(&bad, &good, &Work::default()).unwrap()
}

#[test]
fn settings_of_all_kinds_by_key() {
    for (name, bad, good, key) in [
        (
            "pump-ctl/etc/tw.ini",
            "[feed]\n# night\nlimit=3\npath = /srv/old\n",
            "[feed]\npath=/srv/plan\nlimit = 3\n",
            "feed/path",
        ),
        (
            "pump-ctl/etc/tw.json",
            "{\"feed\":{\"limit\":3,\"tanks\":[1,2]}}",
            "{\n \"feed\": {\n  \"tanks\": [1, 3],\n  \"limit\": 3\n }\n}\n",
            "feed/tanks/[2]",
        ),
        (
            "pump-ctl/etc/tw.yaml",
            "feed:\n  limit: 3\n  tanks:\n    - name: kelp\n      on: yes\n",
            "feed:\n  limit: 4\n  tanks:\n    - name: kelp\n      on: true\n",
            "feed/limit",
        ),
        (
            "pump-ctl/etc/tw.xml",
            "<tw><feed name=\"a\" limit=\"3\"/><path>/srv</path></tw>",
            "<tw>\n<feed name=\"a\" limit=\"4\"/>\n<path>/srv</path></tw>",
            "tw/feed[a]/@limit",
        ),
        ("pump-ctl/etc/tw.properties", "feed.limit=3\nfeed.on=yes\n", "feed.on=true\nfeed.limit=5\n", "feed.limit"),
    ] {
        let found = compared(&[(name, bad)], &[(name, good)]);
        assert_eq!(found.len(), 1, "{name}: {found:#?}");
        assert_eq!(found[0].kind, Kind::Value);
        assert!(found[0].what.starts_with(&format!("{key} is ")), "{name}: {}", found[0].what);
        assert_ne!(found[0].bad.as_ref().map(|place| place.line), None);
    }
}

#[test]
fn what_two_machines_have_anyway_comes_last_and_secrets_are_hidden() {
    let bad = "hostname=pump-2\nrun_id=784fd2a8\npassword=abc\nspool=/srv/old\n";
    let good = "spool=/srv/plan\nhostname=pump-1\nrun_id=e6224824\npassword=def\n";
    let found = compared(&[("a/etc/tw.conf", bad)], &[("a/etc/tw.conf", good)]);
    assert!(found[0].what.starts_with("spool") || found[0].what.starts_with("password"));
    assert!(found.iter().all(|one| !one.what.contains("abc")));
    let harmless: Vec<&str> =
        found.iter().filter(|one| one.score < 0.2).map(|one| one.what.split(' ').next().unwrap()).collect();
    assert_eq!(harmless, ["hostname", "run_id"]);
}

#[test]
fn logs_by_what_they_say() {
    let log = |lines: &[&str]| -> String {
        lines.iter().enumerate().map(|(at, line)| format!("2026-04-12T02:00:{at:02}Z {line}\n")).collect()
    };
    let good = log(&[
        "INFO console: start",
        "INFO console: plan loaded, 12 steps",
        "INFO console: port opened",
        "INFO console: fed tank 1 in 20 ms",
        "INFO console: fed tank 2 in 30 ms",
        "INFO console: fed tank 3 in 25 ms",
        "INFO console: done",
    ]);
    let bad = log(&[
        "INFO console: start",
        "INFO console: plan loaded, 12 steps",
        "ERROR console: port busy",
        "INFO console: fed tank 1 in 900 ms",
        "INFO console: fed tank 2 in 950 ms",
        "INFO console: fed tank 3 in 870 ms",
        "INFO console: done",
    ]);
    let found = compared(&[("keeper-desk/console.log", &bad)], &[("keeper-desk/console.log", &good)]);
    assert!(found[0].what.contains("port busy"), "{found:#?}");
    assert!(found.iter().any(|one| one.kind == Kind::Duration && one.what.contains("0.900 s")), "{found:#?}");
    assert!(
        found.iter().any(|one| matches!(one.kind, Kind::OnlyGood | Kind::Outcome) && one.what.contains("port opened"))
    );
    assert!(
        compared(&[("keeper-desk/console.log", &good)], &[("keeper-desk/console.log", &good)]).is_empty(),
        "the same twice is no difference"
    );
}

#[test]
fn the_first_call_whose_outcome_differs() {
    let trace = |outcome: &str| {
        format!(
            "27638 02:00:01.000001 execve(\"/usr/bin/feeder\", [\"feeder\"], 0x55 /* 3 vars */) = 0\n\
             27638 02:00:01.000002 openat(AT_FDCWD, \"/etc/feeder.conf\", O_RDONLY) = 3\n\
             27638 02:00:01.000003 readlink(\"/srv/plan\", \"/srv/plan-7\", 64) = 11\n\
             27638 02:00:01.000004 openat(AT_FDCWD, \"/srv/plan\", O_RDONLY) = {outcome}\n\
             27638 02:00:01.000005 exit_group(1) = ?\n"
        )
    };
    let (bad, good) = (trace("-1 ENOENT (No such file or directory)"), trace("4"));
    let bad = bad.replace("27638", "31001").replace("02:00:01", "02:09:44");
    let found = compared(&[("pump-ctl/bad.strace", &bad)], &[("pump-ctl/bad.strace", &good)]);
    assert_eq!((found[0].kind, found[0].bad.as_ref().unwrap().line), (Kind::Outcome, 4), "{found:#?}");
    assert!(found[0].what.contains("/srv/plan: ENOENT"), "{}", found[0].what);
    assert_eq!(found.len(), 1);
}

#[test]
fn what_an_object_is_on_both_sides() {
    let trace = |mode: &str| {
        format!(
            "27638 02:00:01.000001 execve(\"/usr/bin/feeder\", [\"feeder\"], 0x55 /* 3 vars */) = 0\n\
             27638 02:00:01.000002 newfstatat(AT_FDCWD, \"/srv/plan\", {{st_mode={mode}, st_size=4096}}, 0) = 0\n\
             27638 02:00:01.000005 exit_group(0) = ?\n"
        )
    };
    let (bad, good) = (trace("S_IFLNK|0777"), trace("S_IFDIR|0755"));
    let found = compared(&[("pump-ctl/a.strace", &bad)], &[("pump-ctl/a.strace", &good)]);
    assert_eq!((found.len(), found[0].kind), (1, Kind::Value), "{found:#?}");
    assert!(found[0].what.contains("/srv/plan finds AT_FDCWD|S_IFLNK|0777, and AT_FDCWD|S_IFDIR|0755"), "{found:#?}");
}

#[test]
fn sides_with_nothing_in_common_and_broken_settings() {
    // What could be read before the break is there, and is on one side only.
    let found = compared(&[("a/etc/tw.json", "{\"feed\": [1, {\"x\"")], &[("a/etc/tw.json", "<a><b>")]);
    assert!(found.iter().any(|one| one.what.starts_with("feed/[1] = 1")), "{found:#?}");
    assert!(found.iter().all(|one| one.bad.is_none() || one.good.is_none()), "{found:#?}");
    let bad = [("a/x.log", "2026-04-12T02:00:00Z ERROR a: port busy\n")];
    let found = compared(&bad, &[("b/y.log", "2026-04-12T02:00:00Z INFO b: fed\n")]);
    assert!(found.iter().all(|one| one.bad.is_none() || one.good.is_none()), "nothing of them is the same: {found:#?}");
}

/// Work grew with the square of each of these: minutes, and now moments.
#[test]
fn many_of_the_same_are_bounded_work() {
    let keys: String = (0..100_000).map(|at| format!("tank {at}\n")).collect();
    assert!(compared(&[("a/etc/tanks.list", &keys)], &[("a/etc/tanks.list", &keys)]).is_empty());
    let elements: String = (0..100_000).map(|at| format!("<tank id=\"t{at}\">{at}</tank>\n")).collect();
    let (bad, good) = (format!("<a>{elements}<last>1</last></a>"), format!("<a>{elements}<last>2</last></a>"));
    let found = compared(&[("a/etc/tanks.xml", &bad)], &[("a/etc/tanks.xml", &good)]);
    assert_eq!((found.len(), found[0].bad.as_ref().unwrap().line), (1, 100_001), "{found:#?}");
    let words = |side: char| -> String {
        let name = |at: usize| format!("{}{}", char::from(b'a' + (at % 26) as u8), "xyz".repeat(at / 26 % 9 + 1));
        (0..3000)
            .map(|at| {
                format!(
                    "2026-04-12T02:{:02}:{:02}Z INFO a: {side} {} of {}\n",
                    at / 60,
                    at % 60,
                    name(at),
                    name(at * 7 + 1)
                )
            })
            .collect()
    };
    assert!(!compared(&[("a/x.log", &words('q'))], &[("a/x.log", &words('w'))]).is_empty());
    let deep = format!("{}1{}", "[".repeat(200_000), "]".repeat(200_000));
    assert!(compared(&[("a/etc/deep.json", &deep)], &[("a/etc/deep.json", "[2]")]).len() <= 1);
}

#[test]
fn empty_elements_do_not_open_others() {
    let bad = "<tw><feed limit=\"3\"/><path>/srv/old</path></tw>";
    let good = "<tw><feed limit=\"3\"/><path>/srv/plan</path></tw>";
    let found = compared(&[("a/etc/tw.xml", bad)], &[("a/etc/tw.xml", good)]);
    assert!(found.len() == 1 && found[0].what.starts_with("tw/path is "), "{found:#?}");
}

/// Lines of one log, a second apart.
fn log_of(lines: &[String]) -> String {
    let at = |at: usize, line: &String| format!("2026-04-12T02:{:02}:{:02}Z {line}\n", at / 60, at % 60);
    lines.iter().enumerate().map(|(number, line)| at(number, line)).collect()
}

fn of_console(bad: &[String], good: &[String]) -> Vec<Difference> {
    let name = "keeper-desk/console.log";
    compared(&[(name, &log_of(bad))], &[(name, &log_of(good))])
}

/// The steps of a start, then a night with lines that name another tank each time.
fn night(steps: &[&str], tanks: &[&str]) -> Vec<String> {
    let mut lines: Vec<String> = steps.iter().map(|step| format!("INFO console: {step}")).collect();
    for (at, tank) in tanks.iter().enumerate() {
        lines.push(format!("INFO console: round {at} done in {} ms", 40 + at % 7));
        lines.push(format!("WARN console: slow answer of {tank} ignored"));
    }
    lines
}

const STEPS: [&str; 6] = [
    "opens the plan",
    "reads the tanks",
    "binds the panel",
    "joins the gateway",
    "warms the pumps",
    "starts the clock",
];

#[test]
fn lines_that_name_something_else_each_time_are_one_kind() {
    let bad = night(&STEPS, &["kelp", "reed", "oak", "slate", "cove", "tarn"]);
    let good = night(&STEPS, &["elm", "reed", "junco", "wren", "vale", "larch"]);
    let found = of_console(&bad, &good);
    assert!(found.is_empty(), "{found:#?}");
}

#[test]
fn a_step_that_is_missing_counts_more_than_an_error_that_follows() {
    let steps: Vec<&str> = STEPS.iter().copied().filter(|step| !step.starts_with("joins")).collect();
    let tanks = ["kelp", "reed", "oak"];
    let mut bad = night(&steps, &tanks);
    bad.push("ERROR console: frame of the kelp tank could not be sent".into());
    let found = of_console(&bad, &night(&STEPS, &tanks));
    assert_eq!(found[0].kind, Kind::OnlyGood, "{found:#?}");
    assert!(found[0].what.contains("joins the gateway"), "{found:#?}");
    assert!(found.iter().any(|one| one.kind == Kind::OnlyBad && one.what.contains("could not be sent")));
}

#[test]
fn what_each_run_has_another_of_is_no_difference() {
    let start = |pid: u32, run: &str| vec![format!("INFO console: starts, pid {pid}, run {run}")];
    let (bad, good) = (start(1106, "67cbbe80"), start(17731, "0aff5331"));
    assert!(of_console(&bad, &good).is_empty(), "{:#?}", of_console(&bad, &good));
    let version = |version: &str| vec![format!("INFO console: library {version} loaded")];
    let found = of_console(&version("5.0.2"), &version("5.1.0"));
    assert_eq!((found.len(), found[0].kind), (1, Kind::Value), "{found:#?}");
}

#[test]
fn what_fails_instead_counts_more_than_what_it_no_longer_says() {
    let lines = |word: &str| -> Vec<String> { (0..9).map(|at| format!("{word} {at}")).collect() };
    let good = lines("INFO console: dose counted for tank");
    let found = of_console(&lines("ERROR console: spool limit exceeded by frame"), &good);
    assert_eq!(found[0].kind, Kind::OnlyBad, "{found:#?}");
}

#[test]
fn a_round_that_came_by_the_clock_and_stays_away() {
    let log = |gap: bool| -> String {
        let rounds = (0..60_u32).filter(|at| !(gap && (20..35).contains(at)));
        rounds.map(|at| format!("2026-04-12T02:{at:02}:00Z INFO console: round {at} done\n")).collect()
    };
    let name = "keeper-desk/console.log";
    let found = compared(&[(name, &log(true))], &[(name, &log(false))]);
    assert_eq!((found[0].kind, found[0].bad.as_ref().unwrap().line), (Kind::Gap, 21), "{found:#?}");
}

#[test]
fn a_setting_in_the_wrong_section_or_misspelt() {
    let name = "pump-ctl/etc/tw.ini";
    let good = "[feed]\nlimit=3\nspool=/srv/plan\n[dose]\nvalve=7\nramp=2\n";
    let found = compared(&[(name, "[feed]\nlimit=3\n[dose]\nvalve=7\nramp=2\nspool=/srv/plan\n")], &[(name, good)]);
    assert_eq!((found.len(), found[0].kind), (1, Kind::Value), "{found:#?}");
    assert!(found[0].what.starts_with("dose/spool is set, and feed/spool on the good side"), "{found:#?}");
    let found = compared(&[(name, &good.replace("valve", "vlave"))], &[(name, good)]);
    assert_eq!(found.len(), 1, "{found:#?}");
    assert!(found[0].what.starts_with("dose/vlave is set, and dose/valve"), "{found:#?}");
    // Set twice: the last one counts.
    let conf = "pump-ctl/etc/tw.conf";
    let found = compared(&[(conf, "limit 3\nramp 2\nlimit 1\n")], &[(conf, "limit 3\nramp 2\n")]);
    assert_eq!((found.len(), found[0].kind, found[0].good.as_ref().unwrap().line), (1, Kind::Value, 1), "{found:#?}");
    assert!(found[0].what.starts_with("limit is set once more, to 1, and was 3"), "{found:#?}");
    // What each machine has another of is not missed where it stands elsewhere.
    let found = compared(&[(name, &good.replace("ramp=2", "ramp=2\nrun_id=784fd2a8"))], &[(name, good)]);
    assert!(found.iter().all(|one| one.score < 0.2), "{found:#?}");
}

#[test]
fn settings_as_attributes_and_joined_names() {
    let name = "pump-ctl/app.config";
    let xml = |depth: u32| format!("<app>\n<add key=\"depth\" value=\"{depth}\"/>\n</app>\n");
    let found = compared(&[(name, &xml(3))], &[(name, &xml(4))]);
    assert_eq!(found.len(), 1, "{found:#?}");
    assert!(found[0].what.starts_with("app/depth is 3, and was 4"), "{found:#?}");
    // The log complains about `cache_size`, which the settings call `store.cache_size`.
    let log = |line: &str| log_of(&vec![format!("INFO console: {line}"); 5]);
    let files = |settings: &str, line: &str| {
        vec![("pump-ctl/tw.properties".to_owned(), settings.to_owned()), ("pump-ctl/tw.log".to_owned(), log(line))]
    };
    let bad = files("store.cache_size=1\nstore.depth=3\n", "cache_size is too small");
    let good = files("store.cache_size=9\nstore.depth=4\n", "fed");
    let found = compared(
        &bad.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect::<Vec<_>>(),
        &good.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect::<Vec<_>>(),
    );
    assert!(found[0].what.starts_with("store.cache_size is 1"), "{found:#?}");
}

#[test]
fn settings_in_blocks_of_braces_are_told_apart_by_their_block() {
    let conf = |panel: &str, more: &str| {
        format!(
            "events {{ worker_connections 768; }}\nhttp {{\n  server {{\n    location /feed {{\n      read_timeout 60s;\n    }}\n{more}    location /panel {{\n      read_timeout {panel};\n    }}\n  }}\n}}\n"
        )
    };
    let bad = conf("5s", "");
    let good = conf("60s", "");
    let found = compared(&[("pump-ctl/etc/web.conf", &bad)], &[("pump-ctl/etc/web.conf", &good)]);
    assert_eq!(found.len(), 1, "{found:#?}");
    assert_eq!(found[0].what, "http/server/location /panel/read_timeout is 5s, and was 60s");
    // A block that is put in between moves none of the others.
    let longer = conf("60s", "    location /help {\n      read_timeout 9s;\n    }\n");
    let found = compared(&[("pump-ctl/etc/web.conf", &good)], &[("pump-ctl/etc/web.conf", &longer)]);
    assert_eq!(found.len(), 1, "{found:#?}");
    assert!(found[0].what.starts_with("http/server/location /help/read_timeout = 9s is missing"), "{found:#?}");
}

#[test]
fn rows_of_tables_are_compared_by_what_they_are_about() {
    let packages = |bridge: &str, more: &str| {
        format!(
            "ii  alpha:amd64  1.0-1  amd64  a\n{more}ii  bridge  {bridge}  amd64  the bridge\nii  dosing  5.0.1-1  amd64  d\n"
        )
    };
    let found = compared(
        &[("pump-ctl/facts/packages.txt", &packages("1.4.0-1", "ii  beta  2.0  all  b\n"))],
        &[("pump-ctl/facts/packages.txt", &packages("2.0.0-1", ""))],
    );
    let what: Vec<&str> = found.iter().map(|one| one.what.as_str()).collect();
    assert_eq!(what, ["bridge is 1.4.0-1, and was 2.0.0-1", "beta = 2.0 is set only on the bad side"], "{found:#?}");
    // When a file was written, and how large a folder is, is no difference.
    let rights = |group: &str, day: u32| {
        format!(
            "-rw-r----- 1 root {group} 1200 Apr {day} 02:00 /etc/tw/key.pem\ndrwxr-xr-x 2 dosing dosing 4096 Apr {day} 02:00 /srv/feed\n"
        )
    };
    let found = compared(
        &[("pump-ctl/facts/rights.txt", &rights("root", 12))],
        &[("pump-ctl/facts/rights.txt", &rights("dosing", 11))],
    );
    assert_eq!(found.len(), 1, "{found:#?}");
    assert!(found[0].what.contains("/etc/tw/key.pem is -rw-r----- root root"), "{found:#?}");
    let mounts = |options: &str| format!("UUID=aa-1 / ext4 defaults 0 1\nUUID=bb-2 /srv ext4 {options} 0 2\n");
    let found =
        compared(&[("pump-ctl/etc/fstab", &mounts("defaults,noexec"))], &[("pump-ctl/etc/fstab", &mounts("defaults"))]);
    assert!(found[0].score > 0.7 && found[0].what.starts_with("/srv is"), "{found:#?}");
}

#[test]
fn what_is_not_shown_comes_behind_what_is() {
    let found = compared(
        &[("pump-ctl/etc/dosing.env", "SECRET_KEY=abc\nTZ=UTC\nPLAN=nightly\n")],
        &[("pump-ctl/etc/dosing.env", "SECRET_KEY=xyz\nTZ=Europe/Lisbon\nPLAN=nightly\n")],
    );
    let what: Vec<&str> = found.iter().map(|one| one.what.as_str()).collect();
    assert_eq!(what, ["TZ is UTC, and was Europe/Lisbon", "SECRET_KEY is (hidden), and was (hidden)"]);
    let counted = compared(
        &[("pump-ctl/facts/sysctl.txt", "fs.file-nr = 2144\t0\t9\nvm.swappiness = 60\nnet.core.somaxconn = 128\n")],
        &[("pump-ctl/facts/sysctl.txt", "fs.file-nr = 3144\t0\t9\nvm.swappiness = 60\nnet.core.somaxconn = 4096\n")],
    );
    assert!(counted[0].what.contains("somaxconn") && counted[1].score < 0.2, "{counted:#?}");
}
