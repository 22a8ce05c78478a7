//! The real interface in a real terminal: tmux runs the program, sends keys, and reads the screen.

mod common;

use std::process::Command;
use std::time::{Duration, Instant};

use common::{Home, binary};

/// A terminal with the program in it.
struct Terminal {
    socket: String,
}

impl Terminal {
    fn start(home: &Home, name: &str, size: (u16, u16), arguments: &str) -> Self {
        let socket = format!("boxclock-test-{name}-{}", std::process::id());
        let terminal = Self { socket };
        // The shell stays after the program, so that what it left on the terminal can be seen.
        let command = format!(
            "cd '{}'; XDG_DATA_HOME='{}' XDG_CACHE_HOME='{}' TERM=tmux-256color '{}' {arguments}; echo ended with $?; exec cat",
            home.path("").display(),
            home.path(".data").display(),
            home.path(".cache").display(),
            binary().display()
        );
        let (columns, rows) = (size.0.to_string(), size.1.to_string());
        terminal.tmux(&["-f", "/dev/null", "new-session", "-d", "-x", &columns, "-y", &rows, &command]);
        terminal.tmux(&["set", "-g", "status", "off"]);
        terminal.tmux(&["resize-window", "-x", &columns, "-y", &rows]);
        terminal
    }

    fn tmux(&self, arguments: &[&str]) -> String {
        let output =
            Command::new("tmux").args(["-L", &self.socket]).args(arguments).output().expect("tmux is installed");
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p"])
    }

    /// Waits until the screen holds all of these texts.
    fn see(&self, texts: &[&str]) -> String {
        let until = Instant::now() + Duration::from_secs(20);
        loop {
            let screen = self.screen();
            if texts.iter().all(|text| screen.contains(text)) {
                return screen;
            }
            assert!(Instant::now() < until, "never saw all of {texts:?}; the screen is\n{screen}");
            std::thread::park_timeout(Duration::from_millis(15));
        }
    }

    /// Sends keys by tmux's names.
    fn keys(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", key]);
        }
    }

    /// Types text, then Enter.
    fn line(&self, text: &str) {
        self.tmux(&["send-keys", "-l", "--", text]);
        self.tmux(&["send-keys", "Enter"]);
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}

/// The whole path of the job, on the demo case.
#[test]
fn from_the_demo_to_the_report() {
    let home = Home::new();
    let terminal = Terminal::start(&home, "path", (160, 50), "demo");
    terminal.see(&["Saltmere dosing alarms stopped", "3 hosts · 16 sources", "no filter", "q quit"]);

    // Filter.
    terminal.keys(&["f"]);
    terminal.line("level>=error time in 02:10..02:35");
    terminal.see(&["filter  level>=error time in 02:10..02:35", "of 41\u{a0}407"]);
    terminal.keys(&["Home"]);
    terminal.see(&["02:25:05.310 ▲ pump-ctl", "frame refused by gateway, retry 8"]);
    terminal.keys(&["F"]);
    terminal.see(&["no filter"]);

    // An attribute, and the event as the XML that it is.
    terminal.keys(&["f"]);
    terminal.line("event.id=41");
    terminal.see(&["1 of 41\u{a0}407", "event 41: BugcheckCode=209", "event.channel  System"]);
    terminal.keys(&["x"]);
    terminal.see(&["as it is written", "<Provider Name=\"Kernel-Power\"/>"]);
    terminal.keys(&["x", "F"]);
    terminal.see(&["no filter"]);

    // Jump to the problem, read its code.
    terminal.keys(&["t"]);
    terminal.line("02:33:18");
    terminal.keys(&["]"]);
    terminal.see(&[
        "0x8007001F ERROR_GEN_FAILURE",
        "A device attached to the system",
        "last problems before, elsewhere",
    ]);

    // The gateway refuses after the service has failed: its clock is wrong.
    terminal.keys(&["/"]);
    terminal.line("frame fr-0412-4096 refused");
    terminal.see(&["1 of 1 hits", "2026-04-12 02:31:11.000", "written without a year"]);
    terminal.keys(&["d"]);
    terminal.see(&["add to the clock of dose-gw"]);
    terminal.line("-6m41s");
    terminal.see(&["dose-gw −6m41s", "2026-04-12 02:24:30.000", "corrected by −6m41s"]);

    // Pin it, and two more.
    terminal.keys(&["p"]);
    terminal.line("the gateway refuses format 2");
    terminal.see(&["◂02:24:30.000 ▲ dose-gw"]);
    terminal.keys(&["/"]);
    terminal.line("restart needed; exit code 3010");
    terminal.see(&["hits", "console-setup.log", "ERROR_SUCCESS_REBOOT_REQUIRED"]);
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
    terminal.see(&["● root", "1 links"]);
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
    terminal
        .see(&["# Saltmere dosing alarms stopped", "1. **root** 2026-04-12 02:14:31.077: restart needed and not done"]);
    terminal.keys(&["w", "C-u"]);
    terminal.line("night.md");
    terminal.see(&["written: night.md and night.svg"]);
    let report = std::fs::read_to_string(home.path("night.md")).unwrap();
    assert!(report.contains("3. **symptom** 2026-04-12 02:31:07.442: dosing stops"), "{report}");
    assert!(std::fs::read_to_string(home.path("night.svg")).unwrap().contains("dose-gw"));

    // Killed at any moment, everything that was shown as kept is there at the next start.
    terminal.tmux(&["kill-server"]);
    let terminal = Terminal::start(&home, "again", (160, 50), "demo");
    terminal.see(&["dose-gw −6m41s", "41\u{a0}407 events"]);
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
        ("tiny", (20, 5), &["of 41\u{a0}407"][..]),
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
    terminal.see(&["no filter", "what it says"]);
    for (columns, rows) in [("60", "20"), ("10", "3"), ("150", "40")] {
        terminal.tmux(&["resize-window", "-x", columns, "-y", rows]);
    }
    terminal.see(&["no filter", "what it says"]);
}

#[test]
fn without_colour() {
    let home = Home::new();
    home.write("a.log", "2026-04-12 02:31:07 ERROR x\n2026-04-12 02:31:08 WARN y\n");
    let terminal = Terminal::start(&home, "plain", (100, 20), "open a.log");
    terminal.see(&["▲", "△"]);
}
