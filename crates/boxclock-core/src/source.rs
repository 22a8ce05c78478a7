//! One file with events: where it is, how it is read, and what reading it came to.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::clock::{DateOrder, TimeKnown, Zone};
use crate::code::Platform;
use crate::crash::DumpFormat;
use crate::format::{Contest, Detected, Header, LineFormat};
use crate::text::{Encoding, LineEnd};
use crate::trouble::Trouble;

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

    /// The format of its lines; `None` for dumps.
    pub fn lines(&self) -> Option<&'static dyn LineFormat> {
        match self {
            Self::Lines(detected) => Some(detected.format),
            Self::Dump(_) => None,
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
    /// The offset from UTC that its lines state, in seconds, where that is none of UTC itself (which programs write wherever they run).
    pub stated_offset_s: Option<i32>,
    /// Whether its newest record stands first, so that it is to be read backwards.
    pub newest_first: bool,
    /// In which order its dates are read, where they are numbers only; and whether that is a guess.
    pub dates: Option<(DateOrder, bool)>,
    /// What its head says about its times.
    pub header: Header,
    /// What was met before its events were read, for example damage to the container that it comes from.
    pub trouble: Vec<Trouble>,
    /// What it is for, as the seal or a recipe says.
    pub class: Option<Class>,
    /// What decoding it came to, where its records are no lines: `path` is then the text that its decoder wrote.
    pub decoded: Option<ByteTotals>,
}

impl Source {
    /// How sure a time is that is written without zone here.
    pub fn local_known(&self) -> TimeKnown {
        if self.zone_from == ZoneFrom::Case { TimeKnown::AssumedZone } else { TimeKnown::ZoneKnown }
    }

    /// The order in which day and month of its dates are read, where nothing tells them apart.
    pub fn guessed_dates(&self) -> Option<DateOrder> {
        self.dates.filter(|(_, guessed)| *guessed).map(|(order, _)| order)
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

/// What a file is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Class {
    /// Logs of an application.
    Application,
    /// Logs of installers and package managers.
    Installer,
    /// Logs of the operating system.
    System,
    /// Dumps and error reports.
    Crash,
    /// Settings.
    Configuration,
    /// What is true of the machine: versions, disks, packages.
    Facts,
    /// Figures over time.
    Counters,
}

impl Class {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Self; 7] = [
        Self::Application,
        Self::Installer,
        Self::System,
        Self::Crash,
        Self::Counters,
        Self::Configuration,
        Self::Facts,
    ];

    /// Its name, as in recipes and seals.
    pub fn name(self) -> &'static str {
        match self {
            Self::Application => "application",
            Self::Installer => "installer",
            Self::System => "system",
            Self::Crash => "crash",
            Self::Configuration => "configuration",
            Self::Facts => "facts",
            Self::Counters => "counters",
        }
    }

    /// Whether a box should cover the moment with it: files that are not written over time need not.
    pub fn is_over_time(self) -> bool {
        !matches!(self, Self::Crash | Self::Configuration | Self::Facts)
    }
}

/// What decoding a file came to.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ByteTotals {
    /// Bytes of the file.
    pub bytes: u64,
    /// Its encoding: one of text, or `binary`.
    pub encoding: String,
    /// Entries that were written.
    pub entries: u64,
    /// Its lines, or records in a file without lines.
    pub lines: u64,
    /// Lines that belong to the record before them.
    pub attached_lines: u64,
    /// Bytes of all records.
    pub event_bytes: u64,
    /// What could not be read.
    pub trouble: Vec<Trouble>,
}
