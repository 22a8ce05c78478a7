//! The Crashes and Installs views.

use super::*;

const CRASH: &str = "\
2026-04-12T02:30:58Z pump-ctl dosingd[2114]: frame refused, retry 4\n\
2026-04-12T02:31:07Z pump-ctl kernel: dosingd[2114]: segfault at 18 ip 00005590b0001a2c sp 00007ffd0 error 4 in dosingd[5590b0000000+42000]\n\
2026-04-12T02:31:07Z pump-ctl systemd[1]: dosingd.service: Main process exited, code=dumped, status=11/SEGV\n\
2026-04-12T02:40:00Z pump-ctl lamp[7]: on\n";

const SETUP: &str = "\
2026-04-12T02:10:00Z INFO Starting installation of Tankwarden Console 5.0.2\n\
2026-04-12T02:10:01Z INFO step 1 of 2: copy files\n\
2026-04-12T02:10:02Z INFO running the bridge's setup, log file: bridge-setup.log\n\
2026-04-12T02:10:09Z ERROR bridge setup returned 1603\n\
2026-04-12T02:10:10Z ERROR Installation failed with exit code 1603\n";

const CHILD: &str = "\
2026-04-12T02:10:03Z INFO Setup started\n\
2026-04-12T02:10:05Z INFO step 1 of 1: register driver\n\
2026-04-12T02:10:08Z ERROR service TankwardenBridge did not answer\n\
2026-04-12T02:10:09Z ERROR Setup failed with exit code 1603\n";

fn screen() -> Screen {
    let mut screen = Screen::of(&[
        ("pump-ctl/syslog", CRASH),
        ("keeper-desk/console-setup.log", SETUP),
        ("keeper-desk/bridge-setup.log", CHILD),
    ]);
    screen.keys("6");
    screen
}

#[test]
fn a_crash_is_one_row_with_its_page_and_leads_to_what_was_before_it() {
    let mut screen = screen();
    let drawn = screen.draw(160, 110);
    let parts = ["what stopped", "dosingd", "SIGSEGV", "0x18, near null", "suspects", "There is no dump", "told by"];
    for part in parts.into_iter().chain(["the last lines before it", "what to do"]) {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    assert_eq!(drawn.matches("SIGSEGV").count(), 2, "one crash, in the list and on its page:\n{drawn}");
    screen.keys("e");
    assert_eq!(screen.app.cx.at, "stream");
    assert!(screen.draw(160, 46).contains("frame refused, retry 4"));
    screen.key(KeyCode::Backspace);
    assert_eq!(screen.app.cx.at, "crashes");
    screen.keys("\n");
    assert_eq!(screen.app.cx.at, "stream");
    let small = {
        screen.keys("6");
        screen.draw(60, 20)
    };
    assert!(small.contains("dosingd") && small.contains("SIGSEGV"), "{small}");
}

#[test]
fn a_run_leads_to_the_line_that_failed_first_in_the_other_log() {
    let mut screen = screen();
    screen.keys("5");
    let drawn = screen.draw(160, 46);
    for part in [
        "how it ended",
        "Tankwarden Console",
        "failed 1603",
        "failed first",
        "TankwardenBridge did",
        "phases",
        "copy files",
        "other log",
    ] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    screen.keys("F");
    let drawn = screen.draw(160, 46);
    assert_eq!(screen.app.cx.at, "stream");
    assert!(drawn.contains("bridge-setup.log") && drawn.contains("TankwardenBridge did"), "{drawn}");
    screen.key(KeyCode::Backspace);
    screen.keys("o");
    assert_eq!(screen.app.cx.at, "stream");
}

#[test]
fn a_case_without_either_says_so() {
    let mut screen = Screen::of(&[("pump-ctl/app.log", "2026-04-12T02:00:00Z INFO app: fed\n")]);
    screen.keys("6");
    assert!(screen.draw(120, 30).contains("No crash"));
    screen.keys("5");
    assert!(screen.draw(120, 30).contains("No installation"));
    screen.keys("Fo\n");
    assert_eq!(screen.app.cx.at, "installs");
}

#[test]
fn a_run_is_walked_shown_alone_and_drawn() {
    let log = "2026-04-12T02:00:00Z INFO Starting installation of Tankwarden Console 5.0.2\n\
               2026-04-12T02:00:10Z INFO step 1 of 2: check\n\
               2026-04-12T02:00:40Z INFO step 2 of 2: register\n\
               2026-04-12T02:00:50Z ERROR the bridge did not answer, returned 1053\n\
               2026-04-12T02:01:00Z ERROR Installation failed with exit code 1603\n";
    let other = "2026-04-12T02:00:45Z INFO app: doing well\n";
    let mut screen = Screen::of(&[("desk/console-setup.log", log), ("desk/app.log", other)]);
    screen.keys("5");
    screen.shows((160, 46), &["├ check", "├ register", "failed 1603"]);
    screen.keys("n");
    assert_eq!(screen.app.cx.at, "stream");
    assert!(screen.app.cx.chosen().is_some_and(|event| event.line() == 4));
    screen.keys("5N");
    screen.shows((160, 46), &["This is the first failure of the run."]);
    screen.keys("f");
    assert!(screen.app.cx.stream.filter_text.starts_with("source="), "{}", screen.app.cx.stream.filter_text);
    screen.settle();
    assert_eq!(screen.app.cx.row_count(), 5, "{}", screen.app.cx.stream.filter_text);
    let path = screen.folder.path().join("run.svg");
    screen.keys("5W");
    for _ in 0..10 {
        screen.key(KeyCode::Backspace);
    }
    screen.keys(&format!("{}\n", path.display()));
    screen.settle();
    assert!(std::fs::read_to_string(&path).unwrap().contains("register"));
}

#[test]
fn crashes_have_a_strip_by_day() {
    let log = "2026-04-10T08:00:00Z INFO systemd[1]: dosing.service: Main process exited, code=killed, status=9/KILL\n\
               2026-04-12T09:00:00Z INFO kernel: dosingd[412]: segfault at 18 ip 00005581 sp 00007ffc error 4 in dosingd[5581+1000]\n";
    let mut screen = Screen::of(&[("gw/app.log", log)]);
    screen.keys("6");
    screen.shows((160, 46), &["04-10      04-12", "↓          ✕", "✕ crash  ↓ killed  ▾ unclean stop"]);
    screen.shows((60, 20), &["04-10      04-12"]);
}

#[test]
fn a_resource_that_was_full_has_its_course_drawn() {
    let mut log = String::new();
    for minute in 0..50 {
        log.push_str(&format!("2026-04-12T02:{minute:02}:00Z WARN fill: disk /srv {} % full\n", 50 + minute));
    }
    log.push_str("2026-04-12T02:55:00Z ERROR dosingd: write failed: No space left on device\n");
    let mut screen = Screen::of(&[("gw/app.log", &log)]);
    screen.keys("2");
    screen.settle();
    screen.keys("g");
    for _ in 0..12 {
        if screen.draw(160, 60).contains("how full it was") {
            break;
        }
        screen.keys("j");
    }
    let drawn = screen.shows((160, 60), &["how full it was", "▄▄▄▄", "99 %"]);
    let rows = drawn.lines().filter(|line| line.contains("▄▄")).count();
    assert!((20..=24).contains(&rows), "{rows}:\n{drawn}");
}
