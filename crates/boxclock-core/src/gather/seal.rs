//! The seal: the list of everything in a box, where it came from, and what could not be put in.

use serde::{Deserialize, Serialize};

use super::window::Window;
use crate::clock::{Zone, scan};
use crate::source::Class;

/// The version of the seal's shape.
pub const SEAL_VERSION: u32 = 1;

/// The list of everything in a box, and of what could not be put in.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Seal {
    /// Version of this shape.
    pub version: u32,
    /// When the box was sealed, RFC 3339 UTC.
    pub sealed_at: String,
    /// The program and version that sealed it.
    pub sealed_by: String,
    /// The case's zone, if the person gathering said so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// The window that was gathered, if not everything was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window: Option<SealedWindow>,
    /// The recipes that were used, by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub recipes: Vec<String>,
    /// The hosts.
    pub hosts: Vec<SealedHost>,
    /// SHA-256 of the story as it was sealed; boxes of older programs do not say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub story_sha256: Option<String>,
    /// The files.
    pub files: Vec<SealedFile>,
    /// What could not be read.
    pub unreadable: Vec<Unreadable>,
    /// What was left out on purpose: it lies outside the window.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub outside: Vec<Unreadable>,
    /// The commands that were run.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub commands: Vec<SealedCommand>,
    /// Moments that the person gathering marked.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub marks: Vec<Mark>,
    /// The boxes that this one was made from, the first one first: who has a copy can prove where it comes from.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub custody: Vec<Custody>,
    /// What was replaced before the box was passed on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub redaction: Option<Redaction>,
}

/// A span of time in a seal, RFC 3339 UTC.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SealedWindow {
    /// Its start.
    pub from: String,
    /// Its end.
    pub to: String,
}

impl SealedWindow {
    /// The span, if both ends are times.
    pub fn window(&self) -> Option<Window> {
        Some(Window { from: time_of(&self.from)?, to: time_of(&self.to)? })
    }
}

/// A host in a seal.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SealedHost {
    /// Its label: the role it plays.
    pub label: String,
    /// Its zone, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Where it was gathered from: a folder, an archive, `ssh://…`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<String>,
    /// The host's clock at gathering, RFC 3339 UTC, if it could be asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock_there: Option<String>,
    /// The gathering machine's clock at the same moment, RFC 3339 UTC.
    pub clock_here: String,
    /// By how much the two may be wrong against each other, in milliseconds: half of what asking took, and the coarseness
    /// of the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock_within_ms: Option<u64>,
}

/// A file in a seal.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SealedFile {
    /// Its path in the box.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
    /// Its SHA-256 in lower-case hexadecimal.
    pub sha256: String,
    /// Where it was read from.
    pub origin: String,
    /// The label of its host.
    pub host: String,
    /// When the original was last modified, RFC 3339 UTC.
    pub modified: String,
    /// What it is for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub class: Option<Class>,
    /// The recipe that it was gathered by.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recipe: Option<String>,
    /// What it was cut from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cut: Option<Cut>,
    /// What was taken of it, if not all: `symbols` of a program file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only: Option<String>,
}

/// What a file of a box was cut from.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cut {
    /// Size of the original in bytes.
    pub original_size: u64,
    /// SHA-256 of the original.
    pub original_sha256: String,
    /// Bytes of the head that were kept, because what follows cannot be read without.
    #[serde(default)]
    pub head_bytes: u64,
    /// First byte of the part that was kept; of the unpacked text, where the original was compressed.
    pub from_byte: u64,
    /// The byte behind the part.
    pub to_byte: u64,
    /// First time in the part, RFC 3339 UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
    /// Last time in the part, RFC 3339 UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<String>,
}

/// Why a file is not in a box.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Why {
    /// It could not be read, or not in full. Seals of before say nothing else.
    #[default]
    CannotRead,
    /// Its host was stopped before it came.
    Stopped,
    /// Other files were asked for.
    NotChosen,
    /// Nothing of it lies in the window.
    OutsideWindow,
}

impl Why {
    /// Whether somebody wanted it so: then nothing is missing.
    pub fn is_by_choice(self) -> bool {
        matches!(self, Self::NotChosen | Self::OutsideWindow)
    }

    #[expect(clippy::trivially_copy_pass_by_ref, reason = "as serde calls it")]
    fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

/// A file that could not be put into the box, or was left out on purpose.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Unreadable {
    /// Where it is.
    pub origin: String,
    /// The label of its host.
    pub host: String,
    /// Why not, for people.
    pub reason: String,
    /// Why not.
    #[serde(default, skip_serializing_if = "Why::is_usual")]
    pub why: Why,
    /// What it is for, if that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub class: Option<Class>,
}

/// A command that was run.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SealedCommand {
    /// The label of the host it ran on.
    pub host: String,
    /// Program and arguments.
    pub run: Vec<String>,
    /// The file in the box that holds its output, if there was any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Its exit status, if it ended by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit: Option<i32>,
    /// What else is to be known: stopped, cut, not installed, what it said on standard error.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// A moment that somebody marked while gathering.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    /// When, RFC 3339 UTC.
    pub time: String,
    /// What.
    pub text: String,
}

/// One step on the way of a box.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Custody {
    /// When the copy was made, RFC 3339 UTC.
    pub at: String,
    /// SHA-256 of the whole box that it was made from.
    pub box_sha256: String,
    /// What was done: `redacted`.
    pub what: String,
    /// The program that did it.
    pub by: String,
}

/// What was replaced in a box before it was passed on.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Redaction {
    /// When, RFC 3339 UTC.
    pub at: String,
    /// SHA-256 of the seal of the box that this one was made from.
    pub of: String,
    /// The rules and how often each was applied.
    pub rules: Vec<AppliedRule>,
}

/// How often a rule was applied.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AppliedRule {
    /// The rule's name.
    pub rule: String,
    /// Places that were replaced.
    pub places: u64,
    /// Different values that were replaced; no more than 262 144 are told apart.
    pub values: u64,
}

impl Seal {
    /// The zone of a host, if the seal says.
    pub fn host_zone(&self, label: &str) -> Option<Zone> {
        let host = self.hosts.iter().find(|host| host.label == label)?;
        Zone::parse(host.zone.as_deref()?).ok()
    }
}

/// A time as seals write it, as UTC nanoseconds.
pub fn time_of(text: &str) -> Option<i64> {
    scan::iso(text.as_bytes()).and_then(|(civil, _)| civil.to_ns())
}
