//! `apt-history` and `apt-term`: what the package manager did, and what was on its terminal meanwhile.
//!
//! Source: lines that apt of Debian wrote (`/var/log/apt`), and its manual page apt.conf(5) (`Dir::Log`). Both are in
//! local time with two blanks between date and time. A history record is a stanza from `Start-Date:` to the next one. In
//! the terminal's log `Log started:` carries a time; what follows has none of its own: the steps that dpkg announces,
//! and what says error or warning, become events of their own, other lines belong to the step before them.

use std::borrow::Cow;

use serde_json::Value;

use super::word::token;
use super::{Fit, Head, Hint, InstallerLog, LineFormat, Record, body_text, record_from_head};
use crate::clock::forms::{self, DateOrder};
use crate::code::Family;
use crate::severity::Severity;

/// `apt-history`.
pub(super) struct AptHistory;
/// `apt-term`.
pub(super) struct AptTerm;

fn stamped<'a>(line: &'a [u8], label: &[u8]) -> Option<Head<'a>> {
    let rest = line.strip_prefix(label)?;
    let start = line.len() - rest.trim_ascii_start().len();
    let (civil, _) = forms::dated(line.get(start..)?, DateOrder::DayFirst)?;
    Some(Head { stamp: civil.stamp(), component: Cow::Borrowed(b"apt"), ..Head::default() })
}

impl LineFormat for AptHistory {
    fn name(&self) -> &'static str {
        "apt-history"
    }

    fn installer(&self) -> Option<InstallerLog> {
        Some(InstallerLog::AptHistory)
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Exit, Family::Package]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        stamped(line, b"Start-Date:")
    }

    fn has_tails(&self) -> bool {
        true
    }

    fn tail<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        line.starts_with(b"Error:").then(|| Head {
            severity: Severity::ERROR,
            severity_text: Cow::Borrowed(b"Error"),
            ..Head::default()
        })
    }

    fn record(&self, text: &str, _: Hint) -> Record {
        let mut record = Record { body: body_text(text), ..Record::default() };
        for (name, value) in text.lines().filter_map(|line| line.split_once(": ")) {
            let attribute = match name {
                "Commandline" => "process.command_line",
                "Requested-By" => "user.name",
                "Error" => {
                    record.severity_text = Some("Error".into());
                    "error.message"
                }
                "End-Date" => "package.end",
                "Install" | "Upgrade" | "Remove" | "Purge" | "Downgrade" | "Reinstall" => {
                    record.attributes.insert(format!("package.{}", name.to_lowercase()), packages(value));
                    continue;
                }
                _ => continue,
            };
            record.attributes.insert(attribute.into(), Value::from(value.trim()));
        }
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        let ends =
            lines.iter().filter(|line| line.starts_with(b"End-Date:") || line.starts_with(b"Commandline:")).count();
        Fit { heads, sure: heads > 0 && (ends > 0 || heads == lines.len()), ..Fit::default() }
    }
}

/// `name:arch (version[, automatic]), …` as a list; commas inside parentheses do not part packages.
fn packages(value: &str) -> Value {
    let parts = value.split("), ").map(|part| part.trim().trim_end_matches(')')).filter(|part| !part.is_empty());
    Value::Array(parts.map(|part| Value::from(format!("{part})").replacen("()", "", 1))).collect())
}

/// What dpkg and its helpers announce when a step begins.
const STEPS: [&[u8]; 12] = [
    b"Setting up ",
    b"Unpacking ",
    b"Preparing to unpack ",
    b"Processing triggers for ",
    b"Removing ",
    b"Purging configuration files for ",
    b"Selecting previously unselected package ",
    b"Replacing ",
    b"Errors were encountered while processing",
    b"Preconfiguring packages",
    b"Installing new version of config file",
    b"Extracting templates from packages",
];

/// What a line of the terminal is by its first words.
fn term_severity(line: &[u8]) -> Option<Severity> {
    let starts = |words: &[&[u8]]| words.iter().any(|word| line.starts_with(word));
    if starts(&[b"dpkg: error", b"dpkg-deb: error", b"E: ", b"Errors were encountered", b"dpkg: unrecoverable"]) {
        Some(Severity::ERROR)
    } else if starts(&[b"dpkg: warning", b"dpkg: considering", b"W: ", b"dpkg: dependency problems"]) {
        Some(Severity::WARN)
    } else if starts(&STEPS) {
        Some(Severity::NONE)
    } else {
        None
    }
}

/// `PROGRAM: error 13: reason`, as a maintainer's script or what it calls prints it: severity, word, and the program.
fn script_trouble(line: &[u8]) -> Option<(Severity, &[u8], &[u8])> {
    let colon = line.iter().take(64).position(|byte| *byte == b':')?;
    let program = line.get(..colon)?;
    let is_name = |byte: &u8| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'_' | b'-' | b'/' | b'+');
    if program.is_empty() || !program.iter().all(is_name) {
        return None;
    }
    let (word, _) = token(line.get(colon + 1..)?.strip_prefix(b" ")?, 0);
    let severity = match word.strip_suffix(b":").unwrap_or(word).to_ascii_lowercase().as_slice() {
        b"error" | b"failed" | b"failure" => Severity::ERROR,
        b"fatal" => Severity::FATAL,
        b"warning" => Severity::WARN,
        _ => return None,
    };
    Some((severity, word, program))
}

impl LineFormat for AptTerm {
    fn name(&self) -> &'static str {
        "apt-term"
    }

    fn installer(&self) -> Option<InstallerLog> {
        Some(InstallerLog::AptTerminal)
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Exit, Family::Package]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        if let Some(head) = stamped(line, b"Log started:").or_else(|| stamped(line, b"Log ended:")) {
            return Some(head);
        }
        let (severity, word, component) = match term_severity(line) {
            Some(severity) => {
                // `dpkg: error processing …` and `E: …`: the level is the word behind the program, or the letter.
                let (first, rest) = line.split_at(memchr::memchr(b':', line).unwrap_or(0));
                let word =
                    if first.len() == 1 { first } else { rest.get(2..).map_or(&[][..], |rest| token(rest, 0).0) };
                let word = if severity == Severity::NONE { &[][..] } else { word };
                (severity, word, if line.starts_with(b"dpkg") { &b"dpkg"[..] } else { b"apt" })
            }
            None => script_trouble(line)?,
        };
        Some(Head {
            severity,
            severity_text: Cow::Borrowed(word.strip_suffix(b":").unwrap_or(word)),
            component: Cow::Borrowed(component),
            ..Head::default()
        })
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.lines().next().unwrap_or_default().as_bytes(), hint), text);
        // Progress that was painted over itself: only the last state of a line is of use.
        record.body =
            record.body.lines().map(|line| line.rsplit('\r').next().unwrap_or(line)).collect::<Vec<_>>().join("\n");
        record
    }

    fn version(&self) -> u32 {
        2
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        let starts = lines.iter().filter(|line| line.starts_with(b"Log started: ")).count();
        Fit { heads: if starts > 0 { heads } else { 0 }, sure: starts > 0, ..Fit::default() }
    }
}
