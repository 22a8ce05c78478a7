//! Crash dumps: what stopped, when, in which process and module. Each dump is one event on the timeline.

#![cfg_attr(
    not(test),
    deny(clippy::indexing_slicing, clippy::arithmetic_side_effects, clippy::cast_possible_truncation)
)]
use crate::code::NO_CATALOGUES;
use std::fs::File;
use std::path::Path;

use serde_json::{Map, Value};

use crate::code::{Code, Platform};
use crate::event::NO_TIME;
use crate::format::Record;
use crate::{Error, Result};

mod elf_core;
mod field;
mod minidump;

/// All dump formats.
pub static DUMP_FORMATS: [&dyn DumpFormat; 2] = [&elf_core::ElfCore, &minidump::Minidump];

/// A format whose file is one event.
pub trait DumpFormat: Sync {
    /// The name of the JSON contract.
    fn name(&self) -> &'static str;

    /// Whether a file that starts with these bytes (64 or fewer) is of this format.
    fn recognises(&self, start: &[u8]) -> bool;

    /// Reads a dump.
    ///
    /// # Errors
    /// When not even its head can be read. Damage further in is listed in [`Crash::trouble`].
    fn read(&self, file: &File, len_bytes: u64) -> std::result::Result<Crash, String>;
}

/// The dump format of a file that starts with these bytes.
pub fn recognise(start: &[u8]) -> Option<&'static dyn DumpFormat> {
    DUMP_FORMATS.into_iter().find(|format| format.recognises(start))
}

/// What a dump says.
#[derive(Clone, Debug)]
pub struct Crash {
    /// When it was written, UTC nanoseconds, or [`NO_TIME`] where the dump does not say.
    pub time: i64,
    /// The program's name.
    pub process: Option<String>,
    /// Process id.
    pub pid: Option<u32>,
    /// The thread that failed.
    pub tid: Option<u32>,
    /// The signal or exception.
    pub code: Option<Code>,
    /// Where the program was, as an address.
    pub address: Option<u64>,
    /// The system that wrote it.
    pub platform: Platform,
    /// The modules in memory.
    pub modules: Vec<Module>,
    /// What else it says, by name.
    pub attributes: Map<String, Value>,
    /// What could not be read, with the place in the file.
    pub trouble: Vec<String>,
}

impl Default for Crash {
    fn default() -> Self {
        Self {
            time: NO_TIME,
            process: None,
            pid: None,
            tid: None,
            code: None,
            address: None,
            platform: Platform::Unknown,
            modules: Vec::new(),
            attributes: Map::new(),
            trouble: Vec::new(),
        }
    }
}

/// A program file or library in memory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Module {
    /// Its path or name.
    pub path: String,
    /// Where it starts in memory.
    pub base: u64,
    /// Where it ends.
    pub end: u64,
    /// Its version, where the dump says.
    pub version: Option<String>,
    /// When it was built, UTC seconds, where the dump says.
    pub built_s: Option<u32>,
}

impl Module {
    /// The last part of its path.
    pub fn name(&self) -> &str {
        self.path.rsplit(['/', '\\']).next().unwrap_or(&self.path)
    }
}

impl Crash {
    /// The module that the failing address is in.
    pub fn module(&self) -> Option<&Module> {
        let address = self.address?;
        self.modules.iter().find(|module| (module.base..module.end).contains(&address))
    }

    /// The dump as a record: one line of what stopped, then the rest as attributes.
    pub fn record(&self) -> Record {
        let mut body = match &self.process {
            Some(process) => process.clone(),
            None => "a process".to_owned(),
        };
        match self.code {
            Some(code) => {
                let reading = code.info(&NO_CATALOGUES);
                let number = code.written(&NO_CATALOGUES);
                let kind = if code.family == crate::code::Family::Signal { "signal" } else { "exception" };
                body.push_str(&format!(" stopped: {kind} {number}"));
                if let Some(name) = reading.name {
                    body.push_str(&format!(" {name} ({})", reading.gloss));
                }
            }
            None => body.push_str(" was dumped; the dump names no signal or exception"),
        }
        let mut attributes = self.attributes.clone();
        if let Some(address) = self.address {
            attributes.insert("crash.address".into(), format!("0x{address:x}").into());
        }
        if let Some(module) = self.module() {
            body.push_str(&format!(" in {}", module.name()));
            attributes.insert("crash.module".into(), module.path.clone().into());
            if let Some(version) = &module.version {
                attributes.insert("crash.module.version".into(), version.clone().into());
            }
            if let Some(built) = module.built_s {
                let text = crate::clock::to_rfc3339(i64::from(built).saturating_mul(crate::clock::SECOND));
                attributes.insert("crash.module.built".into(), text.get(..10).unwrap_or_default().into());
            }
        }
        attributes.insert("crash.modules".into(), self.modules.len().into());
        Record { body, attributes, ..Record::default() }
    }
}

/// Reads the dump at `path`.
///
/// # Errors
/// When the file cannot be opened, or not even its head can be read.
pub fn read(format: &dyn DumpFormat, path: &Path) -> Result<Crash> {
    let file = File::open(path).map_err(|error| Error::at(path, "cannot open", error))?;
    let length = file.metadata().map_err(|error| Error::at(path, "cannot read", error))?.len();
    format.read(&file, length).map_err(|what| Error::new(format!("{}: {what}", path.display())))
}

#[cfg(test)]
mod tests;
