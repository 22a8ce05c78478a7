//! The open case: which sources there are, how each is read, and the event table over all of them.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::analysis::PieceStore;
use crate::clock::{DateOrder, Drift, TimeKnown, Zone};
use crate::code::{Code, Family, Platform};
use crate::crash::DumpFormat;
use crate::decode::Account;
use crate::event::Table;
use crate::format::{Contest, Detected, Header, LineFormat};
use crate::gather::Seal;
use crate::gather::recipe::Class;
use crate::logbook::{Logbook, Story};
use crate::text::{Encoding, LineEnd};
use crate::work::Work;
use crate::{Error, Result};

mod boot;
mod chunk;
mod finish;
mod follow;
mod generations;
pub(crate) mod index;
mod inventory;
mod load;
mod look;
mod schedule;

pub use follow::Follower;
pub use inventory::{FileFound, find_files, find_files_where};
pub use load::Loader;
pub use schedule::Focus;

/// How a source's bytes become events.
#[derive(Clone, Copy)]
pub enum Reader {
    /// Lines of text.
    Lines(Detected),
    /// One dump, one event.
    Dump(&'static dyn DumpFormat),
}

impl Reader {
    /// The format's name.
    pub fn name(&self) -> &'static str {
        match self {
            // Formats live as long as the program.
            Self::Lines(Detected { format, .. }) => format.name(),
            Self::Dump(format) => format.name(),
        }
    }
}

/// Where a source's zone is known from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum ZoneFrom {
    /// Each line says it.
    Line,
    /// The head of the file says it.
    Header,
    /// The user said it.
    User,
    /// The host's zone, as gathered.
    Host,
    /// Nobody knows: the case's zone.
    Case,
}

impl ZoneFrom {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Line => "line",
            Self::Header => "header",
            Self::User => "user",
            Self::Host => "host",
            Self::Case => "case",
        }
    }
}

/// One file with events.
#[derive(Clone)]
pub struct Source {
    /// Where its bytes are now.
    pub path: PathBuf,
    /// Its name in the case: the path inside the box, or as the user gave it.
    pub name: String,
    /// The label of its host, if it has one.
    pub host: Option<String>,
    /// Its size in bytes when the case was opened.
    pub len_bytes: u64,
    /// When the original was last modified, UTC nanoseconds.
    pub modified: i64,
    /// How its characters are written.
    pub encoding: Encoding,
    /// Bytes of its byte-order mark.
    pub mark_bytes: u64,
    /// What ends its lines.
    pub line_end: LineEnd,
    /// How it is read.
    pub reader: Reader,
    /// How the formats did in the contest for it; `None` for dumps.
    pub contest: Option<Contest>,
    /// The kind of system that wrote it.
    pub platform: Platform,
    /// The zone of its times that carry none.
    pub zone: Zone,
    /// Where that zone is known from.
    pub zone_from: ZoneFrom,
    /// How many younger generations of the same log follow it in the list of sources: 0 for the youngest, or the only one.
    pub generations: u32,
    /// Where reading stops, in bytes: its size, or where lines begin that stand again in the next generation.
    pub stop: u64,
    /// Lines from `stop` on: they are read in the next generation.
    pub repeated_lines: u64,
    /// What its head says about its times.
    pub header: Header,
    /// What was met before its events were read, for example damage to the container that it comes from.
    pub trouble: Vec<Trouble>,
    /// What it is for, as the seal or a recipe says.
    pub class: Option<Class>,
    /// What decoding it came to, where its records are no lines: `path` is then the text that its decoder wrote.
    pub decoded: Option<Account>,
}

impl Source {
    /// How sure a time is that is written without zone here.
    pub fn local_known(&self) -> TimeKnown {
        if self.zone_from == ZoneFrom::Case { TimeKnown::AssumedZone } else { TimeKnown::ZoneKnown }
    }

    /// Its size in bytes, as it is in the case.
    pub fn own_bytes(&self) -> u64 {
        self.decoded.as_ref().map_or(self.len_bytes, |account| account.bytes)
    }

    /// The name of its encoding.
    pub fn encoding_name(&self) -> &str {
        self.decoded.as_ref().map_or_else(|| self.encoding.name(), |account| &account.encoding)
    }
}

/// Something about a source that could not be read or understood, with the place in the file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trouble {
    /// What, for people.
    pub text: String,
    /// Whether bytes are missing from what is shown. Otherwise all is there, only not understood.
    pub lost: bool,
}

impl Trouble {
    /// Trouble that cost nothing: everything is shown.
    pub fn note(text: impl Into<String>) -> Self {
        Self { text: text.into(), lost: false }
    }

    /// Trouble that cost bytes.
    pub fn lost(text: impl Into<String>) -> Self {
        Self { text: text.into(), lost: true }
    }
}

/// What reading a source came to.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SourceReport {
    /// Lines.
    pub lines: u64,
    /// Events.
    pub events: u64,
    /// Lines that belong to the event before them.
    pub attached_lines: u64,
    /// Events without a time of their own.
    pub undated_events: u64,
    /// Bytes of all records.
    pub event_bytes: u64,
    /// Bytes that belong to no record: the byte-order mark, and blank lines before the first record.
    pub other_bytes: u64,
    /// Lines at its end that stand again in the next generation, and are read there.
    pub repeated_lines: u64,
    /// First time, by its own clock.
    pub first: Option<i64>,
    /// Last time, by its own clock.
    pub last: Option<i64>,
    /// Offset from UTC in seconds that its lines state, if they do.
    pub line_offset_s: Option<i32>,
    /// What could not be read or understood, with the place.
    pub trouble: Vec<Trouble>,
}

/// How one source is to be read, chosen by hand; what is not chosen is found out.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Choice {
    /// The name of a text format.
    pub format: Option<String>,
    /// How its characters are written.
    pub encoding: Option<Encoding>,
    /// The zone of its times that carry none.
    pub zone: Option<Zone>,
    /// The order of day and month in its dates.
    pub dates: Option<DateOrder>,
    /// The label of the host that it belongs to.
    pub host: Option<String>,
    /// What its codes are, where recognition was wrong.
    pub codes: Vec<CodeChoice>,
    /// Of the case as a whole, which has the empty name: that codes of failures make no line a problem.
    pub no_escalation: bool,
}

/// The family that a code of a source is, chosen by hand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CodeChoice {
    /// The code as it was recognised.
    pub code: Code,
    /// The record that it stands in, by its offset in bytes; `None` for everywhere in the source.
    pub offset: Option<u64>,
    /// What it is.
    pub family: Family,
}

impl CodeChoice {
    /// What it is called in the logbook: `code win32 1722`, or `code win32 1722 at 4096` for one place.
    pub fn what(code: Code, offset: Option<u64>) -> String {
        let place = offset.map(|offset| format!(" at {offset}")).unwrap_or_default();
        format!("code {} {}{place}", code.family.name(), code.number)
    }

    fn parse(what: &str, family: &str) -> Option<Self> {
        let mut words = what.split(' ').skip(1);
        let code = Code { family: Family::parse(words.next()?)?, number: words.next()?.parse().ok()? };
        let offset = match words.next() {
            Some(_) => Some(words.next()?.parse().ok()?),
            None => None,
        };
        Some(Self { code, offset, family: Family::parse(family)? })
    }
}

impl Choice {
    /// Sets one part from text: `format`, `encoding`, `zone`, `host`, `dates`, `lift` (`off`), or what a code is
    /// ([`CodeChoice::what`]).
    ///
    /// # Errors
    /// When the value is none, with what would be.
    pub fn set(&mut self, what: &str, value: &str) -> Result<()> {
        match what {
            "format" => self.format = Some(value.to_owned()),
            "zone" => self.zone = Some(Zone::parse(value)?),
            "host" => self.host = Some(value.to_owned()),
            "lift" => self.no_escalation = value == "off",
            what if what.starts_with("code ") => {
                let choice = CodeChoice::parse(what, value);
                self.codes.push(choice.ok_or_else(|| Error::new(format!("no family of codes \"{value}\"")))?);
            }
            "encoding" => {
                let known = "utf-8, utf-16le, utf-16be, windows-1252 or iso-8859-1";
                let encoding = Encoding::parse(value);
                self.encoding =
                    Some(encoding.ok_or_else(|| Error::new(format!("no encoding \"{value}\": write {known}")))?);
            }
            _ => {
                let known = "day-first, month-first or year-first";
                let order = DateOrder::parse(value);
                self.dates =
                    Some(order.ok_or_else(|| Error::new(format!("no order of dates \"{value}\": write {known}")))?);
            }
        }
        Ok(())
    }
}

/// What the user said about how to read.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The zone of sources that carry none.
    pub zone: Option<Zone>,
    /// The zone of a host's sources that carry none.
    pub host_zones: HashMap<String, Zone>,
    /// How clocks are corrected: by label of the host, or by name of the source, which counts more.
    pub drift: HashMap<String, Drift>,
    /// What was chosen by hand, by name of the source.
    pub choices: HashMap<String, Choice>,
    /// Folders or files with the label of their host.
    pub hosts: Vec<(String, PathBuf)>,
    /// When a host's system started, UTC nanoseconds, by label; "" for hosts that are not named.
    pub boot: HashMap<String, i64>,
    /// Passwords to try on encrypted members of archives.
    pub passwords: Vec<String>,
    /// Whether lines stay what they were logged as, even if they carry the code of a failure.
    pub no_escalation: bool,
}

impl Options {
    /// Brings in what a logbook remembers; what was said already counts more.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn remembered(&mut self, logbook: &Logbook) -> Result<()> {
        for (name, drift) in logbook.drift()? {
            self.drift.entry(name).or_insert(drift);
        }
        for (source, known) in logbook.choices()? {
            if source.is_empty() {
                self.no_escalation |= known.no_escalation;
                continue;
            }
            let choice = self.choices.entry(source).or_default();
            choice.format = choice.format.take().or(known.format);
            choice.encoding = choice.encoding.or(known.encoding);
            choice.zone = choice.zone.take().or(known.zone);
            choice.dates = choice.dates.or(known.dates);
            choice.host = choice.host.take().or(known.host);
            choice.codes.extend(known.codes);
        }
        Ok(())
    }
}

/// A file of a case that is no log.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Document {
    /// Where its bytes are now.
    pub path: PathBuf,
    /// Its name in the case.
    pub name: String,
    /// The label of its host.
    pub host: String,
    /// What it is for.
    pub class: Class,
    /// Its size in bytes.
    pub len_bytes: u64,
}

/// Something that was not read, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOut {
    /// Its path, as shown.
    pub path: String,
    /// The reason.
    pub reason: String,
}

/// An open case.
#[derive(Clone)]
pub struct Case {
    /// What it was opened from.
    pub paths: Vec<PathBuf>,
    /// What it is called: the box's or folder's name until the story has a title.
    pub name: String,
    /// Its sources, in order of name.
    pub sources: Arc<Vec<Source>>,
    /// What was gathered and is no log: settings, facts.
    pub documents: Arc<Vec<Document>>,
    /// What is not read.
    pub left_out: Vec<LeftOut>,
    /// The seal, if it is a box.
    pub seal: Option<Seal>,
    /// The story in the box, if any.
    pub story: Story,
    /// The case's zone: for times that carry none, and for showing times.
    pub zone: Zone,
    /// Where its logbook is.
    pub logbook_path: Option<PathBuf>,
    /// What the user said.
    pub options: Options,
    /// The formats of the user and of the box.
    pub formats: Vec<&'static dyn LineFormat>,
    /// How many codes the catalogues of the user and of the box have.
    pub own_codes: usize,
}

impl Case {
    /// Opens boxes, folders and loose files: finds and recognises the sources, but reads no events yet.
    ///
    /// # Errors
    /// When a path does not exist or cannot be read at all, or a box is damaged.
    pub fn open(paths: &[PathBuf], options: Options, work: &Work) -> Result<Self> {
        inventory::open(paths, options, work)
    }

    /// A case of single files with the label and the zone of their host: for looking into what is being gathered.
    ///
    /// # Errors
    /// When cancelled.
    pub fn of_files(
        files: Vec<(FileFound, Option<String>, Option<Zone>)>,
        options: Options,
        work: &Work,
    ) -> Result<Self> {
        inventory::of_files(files, options, work)
    }

    /// Where the logbook of a case of these paths is.
    pub fn logbook_path(paths: &[PathBuf], options: &Options) -> Option<PathBuf> {
        inventory::logbook_path(paths, options)
    }

    /// Reads all events. See [`Loader`] for doing so in the background.
    ///
    /// # Errors
    /// When cancelled.
    pub fn load(&self, work: &Work) -> Result<Loaded> {
        Loader::new(self).run(work)
    }
}

/// A case whose events are read.
#[derive(Clone, Default)]
pub struct Loaded {
    /// The events.
    pub table: Arc<Table>,
    /// For each source: what reading it came to.
    pub reports: Arc<Vec<SourceReport>>,
    /// Whether everything has been read.
    pub complete: bool,
    /// What analyses know of each part: other clocks, zones and hosts leave that as it is.
    pub pieces: Arc<PieceStore>,
    /// For each source: the state that was read, where something of it is kept on disk.
    pub(crate) keys: Arc<Vec<Option<index::Key>>>,
}

/// Says why a path given by the user cannot be used.
fn cannot_read(path: &Path, error: std::io::Error) -> Error {
    if error.kind() == std::io::ErrorKind::NotFound {
        return Error::new(format!("no such file or folder: {}", path.display()));
    }
    Error::at(path, "cannot read", error)
}

#[cfg(test)]
mod tests;

#[cfg(test)]
mod corpus_tests;

#[cfg(test)]
mod engine_tests;
