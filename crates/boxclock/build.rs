//! Puts version, commit and the versions of what the program writes into `boxclock --version`.

use std::process::Command;

fn main() {
    let commit = Command::new("git").args(["rev-parse", "--short=12", "HEAD"]).output().ok();
    let commit = commit.filter(|output| output.status.success());
    let commit = commit
        .map_or_else(|| "no commit".to_owned(), |output| String::from_utf8_lossy(&output.stdout).trim().to_owned());
    let version = env!("CARGO_PKG_VERSION");
    let (seal, logbook, index) = (
        number("gather/seal.rs", "SEAL_VERSION: u32"),
        number("logbook.rs", "VERSION: i64"),
        number("case/index.rs", "VERSION: u32"),
    );
    println!("cargo:rustc-env=BOXCLOCK_VERSION={version} ({commit}; seal {seal}, logbook {logbook}, index {index})");
    println!("cargo:rerun-if-changed=../../.git/HEAD");
    println!("cargo:rerun-if-changed=../../.git/refs/heads");
}

/// The number behind `NAME = ` in a file of the core.
fn number(file: &str, name: &str) -> String {
    let path = format!("../boxclock-core/src/{file}");
    println!("cargo:rerun-if-changed={path}");
    let text = std::fs::read_to_string(path).unwrap_or_default();
    let behind = text.split(&format!("const {name} = ")).nth(1).unwrap_or_default();
    behind.chars().take_while(char::is_ascii_digit).collect()
}
