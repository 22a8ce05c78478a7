//! The real interface in a real terminal: tmux runs the program, sends keys, and reads the screen.

mod common;

use std::process::Command;

use common::terminal::Terminal;
use common::{Home, binary};

/// The whole path of the job, on the demo case.
#[test]
fn from_the_demo_to_the_report() {
    let home = Home::new();
    let terminal = Terminal::start(&home, "path", (240, 60), "demo");
    terminal.see(&["Saltmere dosing alarms stopped", "3 hosts · 17 sources", "no filter", "q quit"]);

    // Filter.
    terminal.keys(&["f"]);
    terminal.line("level>=error time in 02:10..02:35");
    terminal.see(&["filter  level>=error time in 02:10..02:35", "of 41\u{a0}408"]);
    terminal.keys(&["Home"]);
    terminal.see(&["02:25:05.310 ▲ P dosingd", "frame refused by gateway, retry 8"]);
    terminal.keys(&["F"]);
    terminal.see(&["no filter"]);

    // An attribute, and the event as the XML that it is.
    terminal.keys(&["f"]);
    terminal.line("event.id=41");
    terminal.see(&["1 of 41\u{a0}408", "event 41: BugcheckCode=209", "event.channel  System"]);
    terminal.keys(&["x"]);
    terminal.see(&["as written", "<Provider Name=\"Kernel-Power\"/>"]);
    terminal.keys(&["x"]);
    terminal.see(&["raw bytes"]);
    terminal.keys(&["x", "F"]);
    terminal.see(&["no filter"]);

    // Jump to the problem, read its code.
    terminal.keys(&["t"]);
    terminal.line("02:33:18");
    terminal.keys(&["]"]);
    terminal.see(&["0x8007001F ERROR_GEN_FAILURE", "A device attached to the system", "where to look next"]);

    // The gateway refuses after the service has failed: its clock is wrong.
    terminal.keys(&["/"]);
    terminal.line("frame fr-0412-4096 refused");
    terminal.see(&["1 of 1 hit", "2026-04-12 02:31:11.000", "written without a year"]);
    terminal.keys(&["d"]);
    terminal.see(&["add to the clock of dose-gw"]);
    terminal.line("-6m41s");
    terminal.see(&["dose-gw −6m41s", "2026-04-12 02:24:30.000", "corrected by −6m41s"]);

    // Pin it, and two more.
    terminal.keys(&["p"]);
    terminal.line("the gateway refuses format 2");
    terminal.see(&["02:24:30.000 ▲ D bridge"]);
    terminal.keys(&["/"]);
    terminal.line("restart needed; exit code 3010");
    terminal.see(&["1 of 1 hit", "console-setup.log", "ERROR_SUCCESS_REBOOT_REQUIRED"]);
    terminal.keys(&["p"]);
    terminal.line("restart needed and not done");
    terminal.keys(&["Escape", "t"]);
    terminal.line("02:31:07.442");
    terminal.see(&["assertion failed: seq < window"]);
    terminal.keys(&["p"]);
    terminal.line("dosing stops");

    // Chain.
    terminal.keys(&["9"]);
    terminal.see(&["0 links, 3 other pins", "restart needed and not done"]);
    terminal.keys(&["c"]);
    terminal.see(&["● root", "1 link,"]);
    terminal.keys(&["Down", "c", "e"]);
    terminal.line("the old driver passes format 2 on");
    terminal.see(&["because the old driver passes format 2 on"]);
    terminal.keys(&["Down", "c", "s"]);
    terminal.see(&["○ symptom", "3 links, 0 other pins"]);

    // Story.
    terminal.keys(&["1", "Down", "Down", "Down", "Down", "Down", "Down", "Enter"]);
    terminal.line(" and one seal is hungry");
    terminal.see(&["nobody was warned and one seal is hungry"]);

    // Report.
    terminal.keys(&["0"]);
    terminal.see(&[
        "Saltmere dosing alarms stopped",
        "1. root 2026-04-12 02:14:31.077, keeper-desk: restart needed and not done",
    ]);
    terminal.keys(&["w", "C-u"]);
    terminal.line("night.md");
    terminal.see(&["Written: night.md and night.svg"]);
    let report = std::fs::read_to_string(home.path("night.md")).unwrap();
    assert!(report.contains("3. **symptom** 2026-04-12 02:31:07.442, pump-ctl: dosing stops"), "{report}");
    assert!(std::fs::read_to_string(home.path("night.svg")).unwrap().contains("dose-gw"));

    // Killed at any moment, everything that was shown as kept is there at the next start.
    terminal.kill();
    let terminal = Terminal::start(&home, "again", (240, 60), "demo");
    terminal.see(&["dose-gw −6m41s", "41\u{a0}408 events"]);
    terminal.keys(&["9"]);
    terminal.see(&["3 links, 0 other pins", "because the old driver passes format 2 on"]);
    terminal.keys(&["q"]);
    let screen = terminal.see(&["ended with 0"]);
    assert!(!screen.contains("Saltmere"), "the screen of before is back:\n{screen}");
}

#[test]
fn small_terminals() {
    let home = Home::new();
    for (name, size, texts) in [
        ("wide", (100, 30), &["Saltmere", "│", "dose-gw", "no filter"][..]),
        ("small", (60, 20), &["Saltmere", "keeper-desk", "no filter"][..]),
        ("tiny", (20, 5), &["of 41\u{a0}408"][..]),
    ] {
        let terminal = Terminal::start(&home, name, size, "demo");
        terminal.see(texts);
        terminal.keys(&["t"]);
        terminal.line("02:31:07");
        terminal.see(&["02:31:07.223"]);
        terminal.keys(&["?", "Escape", "2", "3", "q"]);
        terminal.see(&["ended with 0"]);
    }
}

#[test]
fn resized_while_it_runs() {
    let home = Home::new();
    let terminal = Terminal::start(&home, "resize", (160, 50), "demo");
    terminal.see(&["no filter", "message"]);
    for (columns, rows) in [("60", "20"), ("10", "3"), ("150", "40")] {
        terminal.tmux(&["resize-window", "-x", columns, "-y", rows]);
    }
    terminal.see(&["no filter", "message"]);
}

#[test]
fn without_colour() {
    let home = Home::new();
    home.write("a.log", "2026-04-12 02:31:07 ERROR x\n2026-04-12 02:31:08 WARN y\n");
    let terminal = Terminal::start(&home, "plain", (100, 20), "open a.log");
    terminal.see(&["▲", "△"]);
}

/// A button of the mouse at a place, from 1, as the terminal says it (SGR form): 0 is left, 32 dragged, 64 and 65 the wheel.
fn mouse(terminal: &Terminal, button: u8, (column, row): (u16, u16), released: bool) {
    let end = if released { 'm' } else { 'M' };
    terminal.tmux(&["send-keys", "-l", "--", &format!("\u{1b}[<{button};{column};{row}{end}")]);
}

#[test]
fn the_mouse_chooses_scrolls_and_narrows() {
    let home = Home::new();
    let terminal = Terminal::start(&home, "mouse", (160, 50), "demo");
    terminal.see(&["41\u{a0}401 of 41\u{a0}408"]);
    mouse(&terminal, 64, (60, 20), false);
    terminal.see(&["41\u{a0}398 of 41\u{a0}408"]);
    // A step, by its name; then a line of the Stream.
    mouse(&terminal, 0, (12, 2), false);
    terminal.see(&["17 sources", "span of the case"]);
    mouse(&terminal, 0, (20, 2), false);
    terminal.see(&["of 41\u{a0}408   problems"]);
    // Dragged over the rail: its window is what was dragged over.
    mouse(&terminal, 0, (8, 20), false);
    mouse(&terminal, 32, (8, 24), false);
    mouse(&terminal, 0, (8, 24), true);
    let screen = terminal.see(&["23:31 "]);
    assert!(!screen.contains("19:30 "), "the whole span is still there:\n{screen}");
}

#[test]
fn a_log_is_followed_through_a_real_rotation() {
    let home = Home::new();
    let line = |at: u32| format!("2026-04-12T02:31:{at:02}Z pump-ctl dosingd[7]: dose {at} given\n");
    home.write("logs/dosing.log", (0..5).map(line).collect::<String>());
    let terminal = Terminal::start(&home, "follow", (160, 50), "open logs --follow");
    terminal.see(&["following", "dose 4 given", "5 of 5"]);
    let path = home.path("logs/dosing.log");
    let append = |text: &str| {
        let mut file = std::fs::File::options().append(true).create(true).open(&path).unwrap();
        std::io::Write::write_all(&mut file, text.as_bytes()).unwrap();
    };
    append(&line(5));
    terminal.see(&["dose 5 given", "6 of 6"]);
    for (rule, at) in [("create", 6), ("copytruncate", 7)] {
        let rules = format!("{} {{\n  rotate 5\n  {rule}\n  missingok\n}}\n", path.display());
        home.write("rotate.conf", &rules);
        let mode =
            Command::new("chmod").args(["644", &home.path("rotate.conf").display().to_string()]).status().unwrap();
        assert!(mode.success());
        let rotated = Command::new("logrotate")
            .args(["-f", "-s", &home.path("state").display().to_string()])
            .arg(home.path("rotate.conf"))
            .output()
            .expect("logrotate is installed");
        assert!(rotated.status.success(), "{}", String::from_utf8_lossy(&rotated.stderr));
        append(&line(at));
        let (dose, count) = (format!("dose {at} given"), format!("{0} of {0}", at + 1));
        terminal.see(&[&dose, "dose 0 given", &count]);
    }
    // Held: nothing comes, and it is said how much waits; let through, nothing is lost.
    terminal.keys(&["H"]);
    terminal.see(&["held"]);
    append(&line(8));
    terminal.see(&["held, 1 line, 55 B behind", "8 of 8"]);
    terminal.keys(&["H"]);
    terminal.see(&["following", "dose 8 given", "9 of 9"]);
    // The rotation deletes its oldest file: what was on the screen stays there.
    std::fs::remove_file(home.path("logs/dosing.log.2")).unwrap();
    append(&line(9));
    terminal.see(&["dose 9 given", "dose 0 given", "10 of 10"]);
}

#[test]
fn resized_while_it_reads() {
    let home = Home::new();
    let line =
        |at: u32| format!("2026-04-12T02:{:02}:{:02}Z pump-ctl dosingd[7]: dose {at} given\n", at / 60 % 60, at % 60);
    home.write("big.log", (0..600_000).map(line).collect::<String>());
    let terminal = Terminal::start(&home, "reading", (160, 50), "open big.log");
    for (columns, rows) in [("60", "20"), ("1", "1"), ("100", "30"), ("160", "50")] {
        terminal.tmux(&["resize-window", "-x", columns, "-y", rows]);
    }
    terminal.see(&["600\u{a0}000 of 600\u{a0}000", "pattern"]);
}

#[test]
fn suspended_and_continued() {
    let home = Home::new();
    home.write("a.log", "2026-04-12 02:31:07 ERROR x\n");
    // A shell with job control, as people have it.
    let socket = format!("boxclock-test-suspend-{}", std::process::id());
    let terminal = Terminal { socket };
    terminal.tmux(&["-f", "/dev/null", "new-session", "-d", "-x", "100", "-y", "30", "bash --norc"]);
    terminal.line(&format!(
        "cd '{}'; PS1='ready: '; XDG_DATA_HOME=$PWD/.d XDG_CACHE_HOME=$PWD/.c '{}' open a.log",
        home.path("").display(),
        binary().display()
    ));
    terminal.see(&["1 of 1", "no filter"]);
    terminal.keys(&["C-z"]);
    terminal.see(&["Stopped", "ready:"]);
    terminal.line("fg");
    terminal.see(&["1 of 1", "no filter"]);
    terminal.keys(&["q"]);
    terminal.see(&["ready:"]);
}

#[test]
fn a_new_case_begins_with_its_story_and_gathers() {
    let home = Home::new();
    home.write(
        "gw/bridge.log",
        "2026-04-12T02:31:07Z ERROR bridge: NAK 0x15\n2026-04-12T05:31:07Z INFO bridge: fine\n",
    );
    let terminal = Terminal::start(&home, "new", (160, 50), "");
    terminal.see(&["new case", "What is known before looking at any log"]);
    terminal.keys(&["Enter"]);
    terminal.line("Dosing alarms stopped");
    terminal.keys(&["Down", "Down", "Down", "Enter"]);
    terminal.line("2026-04-12 02:31:07 UTC");
    terminal.see(&["2026-04-12 02:31:07 +00:00"]);
    terminal.keys(&["b"]);
    terminal.see(&["v previews what would be gathered", "dosing-alarms-stopped.box.zip", "2026-04-12 02:31:07 +00:00"]);
    terminal.keys(&["Enter"]);
    terminal.line("dose-gw=gw");
    terminal.keys(&["Down", "Enter", "C-u"]);
    terminal.line("all");
    terminal.keys(&["r"]);
    terminal.see(&["1 file", "1 cut to the window", "● dose-gw", "done; o opens the result"]);
    terminal.keys(&["o"]);
    terminal.see(&["Dosing alarms stopped", "1 host · 1 source · 1 event "]);
    terminal.keys(&["3"]);
    terminal.see(&["NAK 0x15"]);
}

#[test]
fn codes_are_explained_wherever_one_is() {
    let home = Home::new();
    let terminal = Terminal::start(&home, "codes", (240, 60), "demo");
    terminal.see(&["41\u{a0}408 events", "problems"]);
    // A code of the application's own, from the catalogue in the box, in the stream and in the list.
    terminal.keys(&["/"]);
    terminal.line("fr-0412-4096 refused");
    terminal.see(&["TW-00417 TW_FORMAT_REFUSED", "tankwarden.toml:9"]);
    // A key right behind Escape would be taken for one with Alt.
    terminal.keys(&["Escape"]);
    terminal.see(&["no filter"]);
    terminal.keys(&["4"]);
    terminal.see(&["worst first", "TW_FORMAT_REFUSED", "↻ 3010", "up to a minute before it"]);
    terminal.keys(&["o"]);
    terminal.see(&["by time"]);
    // From anywhere any code, in any writing.
    terminal.keys(&["#"]);
    terminal.see(&["What does it mean?"]);
    terminal.tmux(&["send-keys", "-l", "--", "-2147024864"]);
    terminal.see(&["ERROR_SHARING_VIOLATION", "In this case: 1 event,"]);
    terminal.keys(&["Enter"]);
    terminal.see(&["Only events with 0x80070020", "Another process holds the file open"]);
    // What the restart that never came amounts to.
    terminal.keys(&["2"]);
    terminal.see(&["restart needed, and none seen"]);
    // A small terminal has all of it.
    terminal.tmux(&["resize-window", "-x", "60", "-y", "20"]);
    terminal.keys(&["4"]);
    terminal.see(&["3010", "success, restart needed"]);
    terminal.keys(&["#"]);
    terminal.line("disk full");
    terminal.see(&["ENOSPC"]);
    terminal.keys(&["Escape"]);
    terminal.see(&["filter  code=0x80070020"]);
    terminal.keys(&["q"]);
    terminal.see(&["ended with 0"]);
}

#[test]
fn crashes_and_installs_lead_to_their_lines() {
    let home = Home::new();
    let terminal = Terminal::start(&home, "crashes", (160, 46), "demo");
    terminal.see(&["41\u{a0}408 events"]);
    // From the list to the line before the crash, and back.
    terminal.keys(&["6"]);
    terminal.see(&["first suspect", "twbridge.sys", "serbridge.dll", "the last lines before it"]);
    terminal.keys(&["j", "j"]);
    terminal.see(&["The system on keeper-desk", "DRIVER_IRQL_NOT_LESS_OR_EQUAL", "3 of 3"]);
    terminal.keys(&["e"]);
    terminal.see(&["reset of the bridge failed", "02:33:18.164"]);
    terminal.keys(&["BSpace"]);
    terminal.see(&["first suspect"]);
    // From the runs to the log of the one whose restart nobody did.
    terminal.keys(&["5"]);
    terminal.see(&["how it ended", "Serial Bridge", "restart-needed 3010"]);
    terminal.keys(&["End"]);
    terminal.see(&["No start of the host"]);
    terminal.keys(&["Enter"]);
    terminal.see(&["Verbose logging started"]);
    terminal.keys(&["q"]);
    terminal.see(&["ended with 0"]);
}

#[test]
fn a_frame_is_followed_and_the_night_compared() {
    let home = Home::new();
    let terminal = Terminal::start(&home, "trail", (170, 46), "demo");
    terminal.see(&["41\u{a0}408 events"]);
    // From a line of the gateway to the way of its frame: console, bridge, dosing, gateway.
    terminal.keys(&["/"]);
    terminal.line("frame fr-0412-4096 refused, NAK");
    terminal.keys(&["7"]);
    terminal.see(&["What should be followed?", "fr-0412-4096"]);
    terminal.keys(&["Enter"]);
    terminal.see(&["fr-0412-4096  it failed", "Console5.Plan", "dosingd", "others of its kind"]);
    // The last hop, and its line.
    terminal.keys(&["End", "Enter"]);
    terminal.see(&["NAK 0x15 protocol version"]);
    terminal.keys(&["BSpace", "f"]);
    terminal.see(&["row 1 of 4   4 of 41\u{a0}408 events"]);
    // Since it is wrong against before.
    terminal.keys(&["F", "8", "c"]);
    terminal.see(&["since 04-12 02:31 against before 04-12 01:50"]);
    terminal.keys(&["Down", "Enter"]);
    terminal.see(&["What is different", "only in the bad", "dosing channel closed by pump-ctl"]);
    terminal.keys(&["x"]);
    terminal.see(&["1 that do not matter are hidden"]);
    terminal.keys(&["u"]);
    terminal.see(&["Undone: difference that does not matter."]);
    // This night against the one before.
    assert_eq!(home.run(&["demo", "--into", "before.box.zip", "--night-before"]).status, Some(0));
    terminal.keys(&["c", "Enter"]);
    terminal.see(&["a box, a folder or a file from when or where it works"]);
    terminal.line("before.box.zip");
    terminal.see(&["asks for frame format 2", "accepted, valve opened"]);
    terminal.keys(&["q"]);
    terminal.see(&["ended with 0"]);
}

#[test]
fn from_opening_to_the_accepted_chain() {
    let home = Home::new();
    let terminal = Terminal::start(&home, "cause", (160, 46), "demo");
    terminal.see(&["41\u{a0}408 events"]);
    terminal.keys(&["9"]);
    // The swallowed restart comes first, with its chain beside it.
    terminal.see(&["5 suggestions", "version in use stays 1.4.0", "from the root to the symptom", "1 of 15"]);
    terminal.keys(&["Enter"]);
    terminal.see(&["console-setup.log", "02:14:18"]);
    terminal.keys(&["9", "a"]);
    terminal.see(&["4 links, 0 other pins", "● root", "○ symptom", "because both name"]);
    // It is one's own now: one undo takes all of it back.
    terminal.keys(&["u"]);
    terminal.see(&["0 links, 0 other pins"]);
    terminal.keys(&["q"]);
    terminal.see(&["ended with 0"]);
}
