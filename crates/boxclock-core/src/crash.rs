//! Crash dumps: what stopped, when, in which process and module. Each dump is one event on the timeline.

#![cfg_attr(
    not(test),
    deny(clippy::indexing_slicing, clippy::arithmetic_side_effects, clippy::cast_possible_truncation)
)]
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use serde_json::{Map, Value};

use crate::code::{Code, NO_CATALOGUES, Platform};
use crate::format::Record;
use crate::{Error, Result};

mod around;
mod elf_core;
mod elf_image;
mod examine;
mod exception;
mod field;
mod go_table;
mod instruction;
mod judge;
mod kernel_dump;
mod memory;
mod minidump;
mod modules;
mod program;
mod report;
mod signal;
mod signs;
pub mod stability;
mod stack;
mod symbols_only;
pub mod text;
mod text_file;
mod told;
mod undumped;
mod walk;
mod whose;
mod words;

pub use around::{Around, NearLine};
pub use examine::examine;
pub use judge::{Class, Suspect, Verdict, Witness};
pub use memory::{Machine, Memory, Registers};
pub use modules::{ListedModule, ModuleOrder};
pub use program::{ProgramFile, Programs};
pub use report::{CrashAnalysis, CrashPlace, CrashReport};
pub use stack::{Found, Frame, Sure};
pub(crate) use symbols_only::symbols_only;

/// All dump formats.
pub static DUMP_FORMATS: [&dyn DumpFormat; 5] = [
    &elf_core::ElfCore,
    &minidump::Minidump,
    &kernel_dump::KernelDump { wide: true },
    &kernel_dump::KernelDump { wide: false },
    &text_file::CrashTextFile,
];

/// A format whose file is one event.
pub trait DumpFormat: Sync {
    /// The name of the JSON contract.
    fn name(&self) -> &'static str;

    /// Whether a file that starts with these bytes (some thousand, or all of it) is of this format.
    fn recognises(&self, start: &[u8]) -> bool;

    /// Whether its files are text, which can be redacted.
    fn is_text(&self) -> bool {
        false
    }

    /// Reads a dump, but for the stacks.
    ///
    /// # Errors
    /// When not even its head can be read. Damage further in is listed in [`Crash::trouble`].
    fn read(&self, file: &File, len_bytes: u64) -> std::result::Result<Crash, String>;
}

/// The dump format of a file that starts with these bytes.
pub fn recognise(start: &[u8]) -> Option<&'static dyn DumpFormat> {
    DUMP_FORMATS.into_iter().find(|format| format.recognises(start))
}

/// Where the time of a crash is from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum TimeFrom {
    /// The dump says it.
    Dump,
    /// A line of a log.
    Log,
    /// The time of the dump's file.
    File,
    /// Nobody knows.
    #[default]
    Nowhere,
}

impl TimeFrom {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Dump => "dump",
            Self::Log => "log",
            Self::File => "file",
            Self::Nowhere => "none",
        }
    }
}

/// What kind of end it was.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Kind {
    /// A signal of a Unix system that nobody handled.
    Signal,
    /// An exception of Windows, or of a runtime that nobody caught.
    #[default]
    Exception,
    /// The whole system stopped with a stop code.
    Stop,
    /// A panic, of a kernel or of a program's runtime.
    Panic,
    /// A condition that the program itself checked did not hold.
    Assertion,
    /// There was no more memory.
    OutOfMemory,
    /// It did not go on.
    Hang,
    /// Somebody else ended it.
    Killed,
}

impl Kind {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Signal => "signal",
            Self::Exception => "exception",
            Self::Stop => "stop",
            Self::Panic => "panic",
            Self::Assertion => "assertion",
            Self::OutOfMemory => "out-of-memory",
            Self::Hang => "hang",
            Self::Killed => "killed",
        }
    }
}

/// What a failing instruction did with the address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Access {
    /// It read from it.
    Read,
    /// It wrote to it.
    Write,
    /// It ran what is there.
    Execute,
}

impl Access {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Read => "read",
            Self::Write => "write",
            Self::Execute => "execute",
        }
    }
}

/// What of a touch that may not be counts for who is to blame.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Nature {
    /// Nothing.
    #[default]
    Plain,
    /// The stack was used up.
    StackOverflow,
    /// A return address was overwritten.
    DamagedFrame,
    /// The program's own handler ended it over a signal that it handled.
    Handled,
}

/// What stopped it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct What {
    /// The kind of end.
    pub kind: Kind,
    /// Number of the signal, exception or stop, where there is one.
    pub number: Option<u32>,
    /// Its name: `SIGSEGV`, `java.lang.OutOfMemoryError`.
    pub name: Option<String>,
    /// The sub-code's name, or the message: `SEGV_MAPERR`, `index out of range`.
    pub detail: Option<String>,
    /// The address that was touched.
    pub address: Option<u64>,
    /// What was done with it.
    pub access: Option<Access>,
    /// Its parameters, each with what it means where that is known.
    pub parameters: Vec<(u64, &'static str)>,
    /// What kind of touch it was.
    pub nature: Nature,
    /// What that comes to, as a clause: "it wrote to a null pointer".
    pub words: Option<String>,
}

/// A thread of a dump.
#[derive(Clone, Debug, Default)]
pub struct Thread {
    /// Its number.
    pub id: u32,
    /// Its name, where the dump has it.
    pub name: Option<String>,
    /// Its registers.
    pub registers: Option<Registers>,
    /// Its frames, as the text of a crash has them.
    pub frames: Vec<Frame>,
}

/// What a dump says.
#[derive(Clone, Debug, Default)]
pub struct Crash {
    /// When it happened or was written, UTC nanoseconds, where the dump says.
    pub time: Option<i64>,
    /// The program's name.
    pub process: Option<String>,
    /// Process id.
    pub pid: Option<u32>,
    /// The thread that failed.
    pub tid: Option<u32>,
    /// The program's file.
    pub executable: Option<String>,
    /// The signal, exception or stop.
    pub code: Option<Code>,
    /// What stopped it.
    pub what: What,
    /// Where the program was, as an address.
    pub address: Option<u64>,
    /// The system that wrote it.
    pub platform: Platform,
    /// The threads; the one that failed has the id [`Crash::tid`].
    pub threads: Vec<Thread>,
    /// How many threads there were, where not all are read.
    pub thread_count: Option<usize>,
    /// The modules in memory, in order of address.
    pub modules: Vec<Module>,
    /// Modules that had been unloaded.
    pub unloaded: Vec<Module>,
    /// The parts of memory that the dump holds.
    pub memory: Memory,
    /// Frames that the dump states itself, innermost first.
    pub frames: Vec<Frame>,
    /// What else it says, by name.
    pub attributes: Map<String, Value>,
    /// What could not be read, with the place in the file.
    pub trouble: Vec<String>,
}

/// A program file, library or driver in memory.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
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
    /// What tells one build from another, in hexadecimal digits.
    pub build_id: Option<String>,
    /// Which parts of memory hold which part of the file: start, end, offset in the file.
    pub mappings: Vec<(u64, u64, u64)>,
    /// Whether its file had been deleted or replaced by then.
    pub deleted: bool,
    /// The whole file, where only the dump has it: the kernel's own library in a process.
    pub image: Option<Arc<[u8]>>,
}

impl Module {
    /// The last part of its path.
    pub fn name(&self) -> &str {
        self.path.rsplit(['/', '\\']).next().unwrap_or(&self.path)
    }

    /// Whether an address lies in it.
    pub fn holds(&self, address: u64) -> bool {
        if self.mappings.is_empty() {
            (self.base..self.end).contains(&address)
        } else {
            self.mappings.iter().any(|(start, end, _)| (*start..*end).contains(&address))
        }
    }
}

impl Crash {
    /// The unloaded module that an address lay in, where none lies there now.
    pub fn unloaded_at(&self, address: u64) -> Option<&Module> {
        self.unloaded.iter().rev().find(|module| module.holds(address)).filter(|_| self.module_at(address).is_none())
    }

    /// The module that an address is in.
    pub fn module_at(&self, address: u64) -> Option<&Module> {
        self.modules.iter().find(|module| module.holds(address))
    }

    /// The module that the failing address is in.
    pub fn module(&self) -> Option<&Module> {
        self.module_at(self.address?)
    }

    /// The thread that failed.
    pub fn thread(&self) -> Option<&Thread> {
        self.threads.iter().find(|thread| Some(thread.id) == self.tid)
    }

    /// The dump as a record: one line of what stopped, then the rest as attributes.
    pub fn record(&self) -> Record {
        let mut body = match &self.process {
            Some(process) => process.clone(),
            None if self.what.kind == Kind::Stop => "the system".to_owned(),
            None => "a process".to_owned(),
        };
        let kind = self.what.kind.name();
        match (self.code, &self.what.name) {
            (Some(code), _) => {
                let reading = code.info(&NO_CATALOGUES);
                let number = code.written(&NO_CATALOGUES);
                if self.what.kind == Kind::Stop && self.process.is_some() {
                    body = format!("the system, while {body} ran,");
                }
                body.push_str(&format!(" stopped: {kind} {number}"));
                if let Some(name) = reading.name {
                    body.push_str(&format!(" {name} ({})", reading.gloss));
                }
            }
            (None, Some(name)) => {
                body.push_str(&format!(" stopped: {kind} {name}"));
                if let Some(detail) = self.what.detail.as_deref().filter(|detail| !detail.is_empty()) {
                    body.push_str(&format!(": {detail}"));
                }
            }
            (None, None) => body.push_str(" was dumped; the dump names no signal or exception"),
        }
        let mut attributes = self.attributes.clone();
        if let Some(address) = self.address {
            attributes.insert("crash.address".into(), format!("0x{address:x}").into());
        }
        if let Some(words) = &self.what.words {
            attributes.insert("crash.words".into(), words.clone().into());
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
        if !self.modules.is_empty() {
            attributes.insert("crash.modules".into(), self.modules.len().into());
        }
        if let Some(threads) = self.thread_count.or(Some(self.threads.len())).filter(|count| *count > 0) {
            attributes.insert("crash.threads".into(), threads.into());
        }
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
