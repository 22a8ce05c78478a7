//! The open case: which sources there are, how each is read, and the event table over all of them.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::clock::Zone;
use crate::code::Platform;
use crate::crash::DumpFormat;
use crate::event::Table;
use crate::format::Detected;
use crate::gather::Seal;
use crate::logbook::Story;
use crate::text::Encoding;
use crate::work::Work;
use crate::{Error, Result};

mod chunk;
mod inventory;
mod load;

pub use inventory::{FileFound, find_files};
pub use load::Loader;

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
            Self::Lines(detected) => detected.format.name(),
            Self::Dump(format) => format.name(),
        }
    }
}

/// Where a source's zone is known from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ZoneFrom {
    /// Each line says it.
    Line,
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
    /// How it is read.
    pub reader: Reader,
    /// The kind of system that wrote it.
    pub platform: Platform,
    /// The zone of its times that carry none.
    pub zone: Zone,
    /// Where that zone is known from.
    pub zone_from: ZoneFrom,
}

/// What reading a source came to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SourceReport {
    /// Lines.
    pub lines: u64,
    /// Events.
    pub events: u64,
    /// Lines that belong to the event before them.
    pub attached_lines: u64,
    /// Events without a time of their own.
    pub undated_events: u64,
    /// First time, by its own clock.
    pub first: Option<i64>,
    /// Last time, by its own clock.
    pub last: Option<i64>,
    /// Offset from UTC in seconds that its lines state, if they do.
    pub line_offset_s: Option<i32>,
    /// What could not be read or understood, with the place.
    pub trouble: Vec<String>,
}

/// What the user said about how to read.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The zone of sources that carry none.
    pub zone: Option<Zone>,
    /// The zone of a host's sources that carry none.
    pub host_zones: HashMap<String, Zone>,
    /// Nanoseconds to add to a host's clock.
    pub drift: HashMap<String, i64>,
    /// Folders or files with the label of their host.
    pub hosts: Vec<(String, PathBuf)>,
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
pub struct Case {
    /// What it is called: the box's or folder's name until the story has a title.
    pub name: String,
    /// Its sources, in order of name.
    pub sources: Arc<Vec<Source>>,
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
}

impl Case {
    /// Opens boxes, folders and loose files: finds and recognises the sources, but reads no events yet.
    ///
    /// # Errors
    /// When a path does not exist or cannot be read at all, or a box is damaged.
    pub fn open(paths: &[PathBuf], options: Options, work: &Work) -> Result<Self> {
        inventory::open(paths, options, work)
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
