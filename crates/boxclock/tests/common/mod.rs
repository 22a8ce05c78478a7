//! What the tests of the program share: a folder of their own for everything, and the real binary.
#![allow(dead_code, reason = "each test file uses a part")]

pub mod terminal;

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// A fresh home for the program.
pub struct Home {
    folder: tempfile::TempDir,
}

impl Home {
    pub fn new() -> Self {
        Self { folder: tempfile::tempdir().expect("a temporary folder") }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn write(&self, name: &str, content: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path(name);
        std::fs::create_dir_all(path.parent().expect("a parent")).expect("a folder");
        std::fs::write(&path, content).expect("a file");
        path
    }

    pub fn command(&self) -> Command {
        self.program(binary())
    }

    /// Another program, in the environment in which ours runs.
    pub fn program(&self, name: impl AsRef<std::ffi::OsStr>) -> Command {
        let mut command = Command::new(name);
        command
            .current_dir(self.folder.path())
            .env("XDG_DATA_HOME", self.path(".data"))
            .env("XDG_CACHE_HOME", self.path(".cache"))
            .env("XDG_CONFIG_HOME", self.path(".config"))
            .env("XDG_STATE_HOME", self.path(".state"))
            .env_remove("NO_COLOR");
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Ran {
        Ran::of(&self.command().args(arguments).output().expect("the program runs"))
    }
}

pub fn binary() -> &'static Path {
    Path::new(env!("CARGO_BIN_EXE_boxclock"))
}

/// What a run gave.
pub struct Ran {
    pub status: Option<i32>,
    pub out: String,
    pub err: String,
}

impl Ran {
    pub fn of(output: &Output) -> Self {
        Self {
            status: output.status.code(),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }

    /// The output as JSON lines.
    pub fn json(&self) -> Vec<serde_json::Value> {
        self.out
            .lines()
            .map(|line| serde_json::from_str(line).unwrap_or_else(|error| panic!("{error}: {line}")))
            .collect()
    }
}
