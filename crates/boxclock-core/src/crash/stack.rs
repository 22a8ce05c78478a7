//! Frames of a stack, and giving them module, function and line.

use serde_json::{Map, Value, json};

use super::program::Programs;
use super::{Crash, Module};

/// How a frame was found.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Found {
    /// The registers of the thread say it.
    #[default]
    Context,
    /// The table that undoes a function's frame.
    UnwindTable,
    /// The chain of frame pointers.
    FramePointer,
    /// A word of the stack that points behind code.
    Scan,
    /// The text of a report.
    Text,
}

impl Found {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Context => "context",
            Self::UnwindTable => "unwind-table",
            Self::FramePointer => "frame-pointer",
            Self::Scan => "scan",
            Self::Text => "text",
        }
    }
}

/// How sure a frame is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Sure {
    /// As sure as the dump.
    #[default]
    Certain,
    /// It fits, and nothing proves it.
    Likely,
    /// It may be left over from an earlier call.
    Guess,
}

impl Sure {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Certain => "certain",
            Self::Likely => "likely",
            Self::Guess => "guess",
        }
    }
}

/// One call on a stack.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Frame {
    /// Where it was, or will go on.
    pub address: Option<u64>,
    /// The name of its module, without folders.
    pub module: Option<String>,
    /// How far the address is into the module.
    pub offset: Option<u64>,
    /// The function.
    pub function: Option<String>,
    /// How far the address is into the function.
    pub function_offset: Option<u64>,
    /// The file of its source.
    pub file: Option<String>,
    /// The line there.
    pub line: Option<u32>,
    /// How it was found.
    pub found: Found,
    /// How sure it is.
    pub sure: Sure,
    /// Whether its module had been unloaded by then.
    pub is_unloaded: bool,
    /// Whether the system called it to handle a signal: what is behind it was interrupted.
    pub is_signal_handler_return: bool,
}

impl Frame {
    /// As the JSON contract has it.
    pub fn json(&self) -> Value {
        let mut members = Map::new();
        let hex = |number: u64| Value::from(format!("0x{number:x}"));
        let mut add = |name: &str, value: Option<Value>| {
            if let Some(value) = value {
                members.insert(name.to_owned(), value);
            }
        };
        add("address", self.address.map(hex));
        add("module", self.module.clone().map(Value::from));
        add("offset", self.offset.map(hex));
        add("function", self.function.clone().map(Value::from));
        add("function_offset", self.function_offset.map(hex));
        add("file", self.file.clone().map(Value::from));
        add("line", self.line.map(Value::from));
        add("found", Some(json!(self.found.name())));
        add("sure", Some(json!(self.sure.name())));
        Value::Object(members)
    }

    /// For people: `tank::feed +0x12 (feeder, tank.c:41)`.
    pub fn text(&self) -> String {
        let mut text = match (&self.function, self.address) {
            (Some(function), _) => function.clone(),
            (None, Some(address)) if self.module.is_none() => format!("0x{address:x}"),
            _ => "?".to_owned(),
        };
        if let (Some(offset), Some(_)) = (self.function_offset, &self.function) {
            text.push_str(&format!(" +0x{offset:x}"));
        }
        let place = self.file.as_ref().map(|file| match self.line {
            Some(line) => format!("{}:{line}", file.rsplit(['/', '\\']).next().unwrap_or(file)),
            None => file.clone(),
        });
        let module = self.module.as_ref().map(|module| match (self.offset, &self.function) {
            (Some(offset), None) => format!("{module} +0x{offset:x}"),
            _ => module.clone(),
        });
        let gone = self.is_unloaded.then(|| "unloaded by then".to_owned());
        let behind: Vec<String> = module.into_iter().chain(place).chain(gone).collect();
        if !behind.is_empty() {
            text.push_str(&format!(" ({})", behind.join(", ")));
        }
        text
    }

    /// What it is a part of, for blame: its module, else the file of its source.
    pub fn unit(&self) -> Option<&str> {
        let file = || self.file.as_deref().map(|file| file.rsplit(['/', '\\']).next().unwrap_or(file));
        self.module.as_deref().or_else(file)
    }

    /// Whether the file of its source is of a runtime's or compiler's own library.
    pub fn is_in_library_source(&self) -> bool {
        let Some(file) = self.file.as_deref() else { return false };
        let file = file.replace('\\', "/");
        let python = file.contains("/lib/python") && !file.contains("-packages/") && !file.contains("/lib/python/");
        file.starts_with("node:")
            || file.starts_with("/rustc/")
            || file.contains("/go/src/runtime/")
            || file.starts_with("internal/")
            || file.starts_with("<frozen")
            || python
    }

    /// The function's name without parameters, template arguments and hashes, for comparing.
    pub fn bare_function(&self) -> Option<&str> {
        let name = self.function.as_deref()?;
        // Compilers split functions, and put copies of them elsewhere.
        let parts = [".constprop", ".cold", ".isra", ".part", ".llvm", ".lto_priv"];
        let name = parts.iter().filter_map(|part| name.find(part)).min().and_then(|at| name.get(..at)).unwrap_or(name);
        // A method of Go has its type in parentheses.
        let ends = |at: &usize| !name.get(*at..).is_some_and(|rest| rest.starts_with("(*"));
        let end = name.match_indices(['(', '<']).map(|(at, _)| at).find(ends);
        Some(end.and_then(|at| name.get(..at)).filter(|bare| !bare.is_empty()).unwrap_or(name))
    }
}

/// The address of an address of memory in the numbering of the module's file.
pub(super) fn address_in_file(module: &Module, address: u64, program: &super::program::Program) -> Option<u64> {
    if module.mappings.is_empty() {
        return address.checked_sub(module.base)?.checked_add(program.relative_base());
    }
    let (start, _, offset) = module.mappings.iter().find(|(start, end, _)| (*start..*end).contains(&address))?;
    program.address_of_offset(address.checked_sub(*start)?.checked_add(*offset)?)
}

/// A frame at an address; `lookup` is an address inside the calling instruction.
pub(super) fn frame_at(crash: &Crash, programs: &mut Programs<'_>, address: u64, lookup: u64) -> Frame {
    let mut frame = Frame { address: Some(address), ..Frame::default() };
    let Some(module) = crash.module_at(lookup) else {
        // Code that is gone: where it was is known, its program is another matter.
        if let Some(module) = crash.unloaded_at(lookup) {
            frame.module = Some(module.name().to_owned());
            frame.offset = address.checked_sub(module.base);
            frame.is_unloaded = true;
        }
        return frame;
    };
    frame.module = Some(module.name().to_owned());
    frame.offset = address.checked_sub(module.base);
    let Some(program) = programs.of(module) else { return frame };
    let Some(at) = address_in_file(module, lookup, &program) else { return frame };
    if let Some((function, inside)) = program.function(at) {
        frame.function = Some(function);
        frame.function_offset = inside.checked_add(address.saturating_sub(lookup));
    }
    let line = program.line(at);
    frame.file = line.file;
    frame.line = line.line;
    frame.function = frame.function.or(line.function);
    frame
}
