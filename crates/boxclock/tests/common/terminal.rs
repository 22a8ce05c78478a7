//! The program in a terminal of its own: keys are sent, and the screen is read back.

use std::process::Command;
use std::time::{Duration, Instant};

use super::{Home, binary};

/// A terminal with the program in it.
pub struct Terminal {
    pub socket: String,
}

impl Terminal {
    pub fn start(home: &Home, name: &str, size: (u16, u16), arguments: &str) -> Self {
        let socket = format!("boxclock-test-{name}-{}", std::process::id());
        let terminal = Self { socket };
        // The shell stays after the program, so that what it left on the terminal can be seen.
        let command = format!(
            "cd '{}'; XDG_DATA_HOME='{}' XDG_CACHE_HOME='{}' XDG_CONFIG_HOME='{}' XDG_STATE_HOME='{}' TERM=tmux-256color '{}' {arguments}; echo ended with $?; exec cat",
            home.path("").display(),
            home.path(".data").display(),
            home.path(".cache").display(),
            home.path(".config").display(),
            home.path(".state").display(),
            binary().display()
        );
        let (columns, rows) = (size.0.to_string(), size.1.to_string());
        terminal.tmux(&["-f", "/dev/null", "new-session", "-d", "-x", &columns, "-y", &rows, &command]);
        terminal.tmux(&["set", "-g", "status", "off"]);
        terminal.tmux(&["resize-window", "-x", &columns, "-y", &rows]);
        terminal
    }

    pub fn tmux(&self, arguments: &[&str]) -> String {
        let output =
            Command::new("tmux").args(["-L", &self.socket]).args(arguments).output().expect("tmux is installed");
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    pub fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p"])
    }

    /// Waits until the screen holds all of these texts.
    pub fn see(&self, texts: &[&str]) -> String {
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

    /// Kills the program as `kill -9` does, in the middle of whatever it does.
    pub fn kill(&self) {
        let shell = self.tmux(&["display-message", "-p", "#{pane_pid}"]);
        let shell = shell.trim();
        let children = std::fs::read_to_string(format!("/proc/{shell}/task/{shell}/children")).unwrap();
        let killed = Command::new("kill").arg("-9").args(children.split_whitespace()).status().unwrap();
        assert!(killed.success(), "{children}");
        self.see(&["ended with 137"]);
    }

    /// Sends keys by tmux's names.
    pub fn keys(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", key]);
        }
    }

    /// Types text, then Enter.
    pub fn line(&self, text: &str) {
        self.tmux(&["send-keys", "-l", "--", text]);
        self.tmux(&["send-keys", "Enter"]);
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}
