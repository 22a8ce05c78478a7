//! The open case: which sources there are, how each is read, and the event table over all of them.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

use crate::Result;
use crate::analysis::PieceStore;
use crate::clock::{ClockCorrection, Zone};
use crate::code::Catalogues;
use crate::crash::ProgramFile;
use crate::event::Table;
use crate::format::LineFormat;
use crate::gather::DiskUse;
use crate::gather::Seal;
use crate::logbook::{Logbook, Story};
use crate::new_file::Protected;
use crate::source::Class;
use crate::work::Work;

mod boot;
mod chunk;
mod direction;
mod finish;
mod follow;
mod forget;
mod generations;
mod host_folders;
pub(crate) mod index;
mod inventory;
mod load;
mod look;
mod schedule;

pub use follow::{Behind, Follower, KeptFile};
pub use forget::forget;
pub use host_folders::host_folders;
pub use load::Loader;
pub use schedule::Focus;

pub use crate::choice::{Choice, CodeChoice};
pub use crate::files::{FileFound, find_files, find_files_where};
pub use crate::source::{Reader, Source, SourceReport, ZoneFrom};
pub use crate::trouble::{LeftOut, Trouble};

/// What the user said about how to read.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The zone of sources that carry none.
    pub zone: Option<Zone>,
    /// The zone of a host's sources that carry none.
    pub host_zones: HashMap<String, Zone>,
    /// How clocks are corrected: by label of the host, or by name of the source, which counts more.
    pub drift: HashMap<String, ClockCorrection>,
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
    /// Files that were deleted while they are followed.
    pub kept: Vec<KeptFile>,
    /// How much of the disk the unpacked boxes may take.
    pub disk: DiskUse,
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
    /// Program files, for looking into dumps.
    pub programs: Arc<Vec<ProgramFile>>,
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
    /// The code catalogues of the user and of the box.
    pub catalogues: Arc<Catalogues>,
    /// Folders of fault cards that travel with it.
    pub card_folders: Vec<PathBuf>,
    /// Folders of words of installers that travel with it.
    pub installer_folders: Vec<PathBuf>,
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

    /// What of it nothing may be written over: what is read, its sources, documents and program files, its logbook.
    pub fn protected(&self) -> Protected {
        let inputs = self.paths.iter().map(|path| (path.clone(), format!("what is read ({})", path.display())));
        let of_source = |source: &Source| {
            let what = format!("a source of the case ({})", source.name);
            [(source.path.clone(), what.clone()), (PathBuf::from(&source.name), what)]
        };
        let of_document = |document: &Document| {
            let what = "a file of the case".to_owned();
            [(document.path.clone(), what.clone()), (PathBuf::from(&document.name), what)]
        };
        let sources = self.sources.iter().flat_map(of_source);
        let documents = self.documents.iter().flat_map(of_document);
        let of_program = |program: &ProgramFile| {
            let what = "a program file of the case".to_owned();
            [(program.path.clone(), what.clone()), (PathBuf::from(&program.name), what)]
        };
        let programs = self.programs.iter().flat_map(of_program);
        let logbook = self.logbook_path.clone().map(|path| (path, "the logbook of the case".to_owned()));
        Protected(inputs.chain(sources).chain(documents).chain(programs).chain(logbook).collect())
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

#[cfg(test)]
mod tests;

#[cfg(test)]
mod corpus_tests;

#[cfg(test)]
mod engine_tests;

#[cfg(test)]
mod order_tests;
