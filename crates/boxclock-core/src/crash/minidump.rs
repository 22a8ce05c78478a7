//! `minidump`: dumps of a user program, as Windows and several crash handlers write them.
//!
//! Source of the layouts: the documentation of `MINIDUMP_HEADER`, `MINIDUMP_DIRECTORY`, `MINIDUMP_SYSTEM_INFO`,
//! `MINIDUMP_EXCEPTION_STREAM`, `MINIDUMP_MODULE`, `MINIDUMP_MISC_INFO` and `MINIDUMP_STRING` in the public header
//! `minidumpapiset.h` (all little-endian, packed to four bytes), and of `CONTEXT` in `winnt.h`. Handlers on other systems state a platform id of
//! 0x8000 or above and put the signal's number where the exception code stands.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::fs::File;

use rustc_hash::{FxHashMap, FxHashSet};

use super::field::Fields;
use super::memory::{Machine, Memory, Range, Registers};
use super::signal::{self, SignalInfo};
use super::{Crash, DumpFormat, Module, Thread, exception};
use crate::clock::SECOND;
use crate::code::{Code, Family, Platform};
use crate::limits;

/// The format.
pub(super) struct Minidump;

const STREAM_THREADS: u32 = 3;
const STREAM_MODULES: u32 = 4;
const STREAM_MEMORY: u32 = 5;
const STREAM_EXCEPTION: u32 = 6;
const STREAM_SYSTEM: u32 = 7;
const STREAM_MEMORY_64: u32 = 9;
const STREAM_COMMENT: u32 = 10;
const STREAM_COMMENT_WIDE: u32 = 11;
const STREAM_HANDLES: u32 = 12;
const STREAM_UNLOADED: u32 = 14;
const STREAM_MISC: u32 = 15;
const STREAM_THREAD_NAMES: u32 = 24;
/// What handlers of crashes outside of the process add: names and values that the program set.
const STREAM_ANNOTATIONS: u32 = 0x4350_0001;
/// Those that are read; others may be there as often as their writers like.
const STREAMS_READ: [u32; 13] = [
    STREAM_THREADS,
    STREAM_MODULES,
    STREAM_MEMORY,
    STREAM_EXCEPTION,
    STREAM_SYSTEM,
    STREAM_MEMORY_64,
    STREAM_COMMENT,
    STREAM_COMMENT_WIDE,
    STREAM_HANDLES,
    STREAM_UNLOADED,
    STREAM_MISC,
    STREAM_THREAD_NAMES,
    STREAM_ANNOTATIONS,
];
/// A thread in the list of threads.
const THREAD_BYTES: usize = 48;
const MODULE_BYTES: usize = 108;
/// Bytes of one stream that are looked at (the module list of 65 536 modules is 7 MB).
const STREAM_BYTES: u64 = 16 << 20;
/// Bytes of one string.
const STRING_BYTES: u64 = 64 << 10;
/// Mistakes that are named one by one.
const TROUBLE: usize = 40;
/// Bytes of all names together: lists may name one long text many times over.
const NAMES_BYTES: u64 = 16 << 20;

impl DumpFormat for Minidump {
    fn name(&self) -> &'static str {
        "minidump"
    }

    fn recognises(&self, start: &[u8]) -> bool {
        start.starts_with(b"MDMP") && start.get(4..6) == Some(&[0x93, 0xA7])
    }

    fn read(&self, file: &File, len_bytes: u64) -> Result<Crash, String> {
        let header = Fields::read(file, 0, 32, 32, false)?;
        let (Some(count), Some(table), Some(time)) = (header.u32(8), header.u32(12), header.u32(20)) else {
            return Err(format!("the header is cut off: {len_bytes} bytes of 32"));
        };
        let mut crash = Crash::default();
        if time != 0 {
            crash.time = Some(i64::from(time).saturating_mul(SECOND));
        }
        let mut dump = Dump {
            file,
            machine: None,
            failed: Failed::default(),
            ranges: Vec::new(),
            stacks: Vec::new(),
            names_left: Cell::new(NAMES_BYTES),
        };
        let wanted = (count as usize).min(limits::MINIDUMP_ENTRIES);
        let directory = Fields::read(file, u64::from(table), (wanted as u64).saturating_mul(12), 12 << 16, false)?;
        if directory.len() < wanted * 12 {
            let there = directory.len() / 12;
            crash
                .trouble
                .push(format!("cut off: {there} of {count} streams of the directory at byte {table} are there"));
        }
        let mut platform = 2;
        let mut streams = Vec::new();
        for index in 0..wanted {
            let at = index * 12;
            let (Some(kind), Some(size), Some(offset)) =
                (directory.u32(at), directory.u32(at + 4), directory.u32(at + 8))
            else {
                break;
            };
            if u64::from(offset).saturating_add(u64::from(size)) > len_bytes {
                crash.trouble.push(format!(
                    "cut off at byte {len_bytes}: stream {index} (type {kind}) promises {size} bytes at byte {offset}"
                ));
            }
            streams.push((kind, u64::from(offset), u64::from(size)));
        }
        // What the processor is decides how the rest is read.
        streams.sort_by_key(|(kind, ..)| (*kind != STREAM_SYSTEM, *kind != STREAM_THREADS));
        // Each kind that is read is there once. A directory that repeats one would have the same lists read thousands of times.
        let mut seen = FxHashSet::default();
        streams.retain(|(kind, ..)| STREAMS_READ.contains(kind));
        let all = streams.len();
        streams.retain(|(kind, ..)| seen.insert(*kind));
        if streams.len() < all {
            let repeated = all.saturating_sub(streams.len());
            crash.trouble.push(format!("{repeated} streams of the directory repeat a kind: the first of each is read"));
        }
        for (kind, offset, size) in streams {
            let done = match kind {
                STREAM_SYSTEM => dump.system(offset, size, &mut crash).map(|id| platform = id.unwrap_or(platform)),
                STREAM_EXCEPTION => dump.exception(offset, size, &mut crash),
                STREAM_MODULES => dump.modules(offset, size, &mut crash),
                STREAM_MISC => dump.misc(offset, size, &mut crash),
                STREAM_THREADS => dump.threads(offset, size, &mut crash),
                STREAM_MEMORY => dump.memory(offset, size, &mut crash),
                STREAM_MEMORY_64 => dump.memory_64(offset, size, len_bytes, &mut crash),
                STREAM_UNLOADED => dump.unloaded(offset, size, &mut crash),
                STREAM_THREAD_NAMES => dump.thread_names(offset, size, &mut crash),
                STREAM_HANDLES => dump.handles(offset, size, &mut crash),
                STREAM_ANNOTATIONS => dump.annotations(offset, size, &mut crash),
                STREAM_COMMENT => dump.comment(offset, size, false, &mut crash),
                STREAM_COMMENT_WIDE => dump.comment(offset, size, true, &mut crash),
                _ => Ok(()),
            };
            if let Err(trouble) = done {
                crash.trouble.push(trouble);
            }
        }
        crash.platform = if platform >= 0x8000 { Platform::Linux } else { Platform::Windows };
        let program = crash.modules.iter().find(|module| module.name().to_ascii_lowercase().ends_with(".exe"));
        crash.executable = program.or(crash.modules.first()).map(|module| module.path.clone());
        crash.process = program.or(crash.modules.first()).map(|module| module.name().to_owned());
        // The list of memory repeats the stacks, but not every writer makes one.
        let mut ranges = std::mem::take(&mut dump.ranges);
        let listed = Memory::new(ranges.clone());
        ranges.extend(dump.stacks.iter().filter(|stack| listed.range(stack.start).is_none()));
        crash.memory = Memory::new(ranges);
        dump.conclude(&mut crash);
        if let Some(more) = crash.trouble.len().checked_sub(TROUBLE).filter(|more| *more > 0) {
            crash.trouble.truncate(TROUBLE);
            crash.trouble.push(format!("and {} of that kind", crate::many(more as u64, "more mistake")));
        }
        Ok(crash)
    }
}

/// What the exception stream says.
#[derive(Default)]
struct Failed {
    code: Option<u32>,
    parameters: Vec<u64>,
    address: Option<u64>,
    registers: Option<Registers>,
}

fn exception_code(number: u32, platform: Platform) -> Code {
    match platform {
        Platform::Linux if number <= 64 => Code { family: Family::Signal, number },
        _ => exception::code_of(number),
    }
}

struct Dump<'a> {
    file: &'a File,
    machine: Option<Machine>,
    failed: Failed,
    ranges: Vec<Range>,
    /// The stacks that the list of threads names.
    stacks: Vec<Range>,
    /// Bytes of names that may still be read.
    names_left: Cell<u64>,
}

impl Dump<'_> {
    /// The bytes of a stream that the file really holds, at most [`STREAM_BYTES`].
    fn stream(&self, offset: u64, size: u64) -> Result<Fields, String> {
        Fields::read(self.file, offset, size.min(STREAM_BYTES), STREAM_BYTES, false)
    }

    fn system(&mut self, offset: u64, size: u64, crash: &mut Crash) -> Result<Option<u32>, String> {
        let stream = self.stream(offset, size)?;
        if let (Some(major), Some(minor), Some(build)) = (stream.u32(8), stream.u32(12), stream.u32(16)) {
            crash.attributes.insert("os.version".into(), format!("{major}.{minor}.{build}").into());
        }
        self.machine = match stream.u16(0) {
            Some(0) => Some(Machine::X86),
            Some(9) => Some(Machine::X86_64),
            Some(12) => Some(Machine::Arm64),
            _ => None,
        };
        let machine = stream.u16(0).map(|machine| match machine {
            0 => "x86".to_owned(),
            5 => "arm".to_owned(),
            9 => "x86-64".to_owned(),
            12 => "arm64".to_owned(),
            other => format!("machine {other}"),
        });
        if let Some(machine) = machine {
            crash.attributes.insert("host.arch".into(), machine.into());
        }
        Ok(stream.u32(20))
    }

    fn exception(&mut self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        crash.tid = stream.u32(0);
        self.failed.code = stream.u32(8);
        self.failed.address = stream.u64(24);
        crash.address = self.failed.address;
        let count = stream.u32(32).unwrap_or(0).min(15) as usize;
        self.failed.parameters = (0..count).filter_map(|index| stream.u64(40 + index * 8)).collect();
        if count > 0 {
            let texts: Vec<String> = self.failed.parameters.iter().map(|value| format!("0x{value:x}")).collect();
            crash.attributes.insert("exception.parameters".into(), texts.into());
        }
        if let (Some(bytes), Some(at)) = (stream.u32(160), stream.u32(164)) {
            self.failed.registers = self.context(u64::from(at), u64::from(bytes));
        }
        Ok(())
    }

    /// The registers in a `CONTEXT`.
    fn context(&self, offset: u64, size: u64) -> Option<Registers> {
        let machine = self.machine?;
        let context = self.stream(offset, size).ok()?;
        registers(&context, machine)
    }

    /// What all streams together say.
    fn conclude(&self, crash: &mut Crash) {
        let thread = crash.tid;
        let of_exception = self.failed.registers.clone();
        if let Some(failed) = crash.threads.iter_mut().find(|one| Some(one.id) == thread) {
            failed.registers = of_exception.or(failed.registers.take());
        } else if let (Some(id), Some(_)) = (thread, &of_exception) {
            crash.threads.push(Thread { id, registers: of_exception, ..Thread::default() });
        }
        let registers = crash.thread().and_then(|thread| thread.registers.clone());
        let Some(number) = self.failed.code else {
            crash.what.kind = super::Kind::Hang;
            crash.what.words = Some(
                "the dump names no exception: it was taken of a program that still ran, as of one that hangs".into(),
            );
            if crash.tid.is_none() {
                crash.tid = crash.threads.first().map(|thread| thread.id);
            }
            return;
        };
        let code = exception_code(number, crash.platform);
        crash.code = Some(code);
        crash.what = if code.family == Family::Signal {
            let fault = matches!(number, 4 | 5 | 7 | 8 | 11);
            let info = SignalInfo {
                number,
                code: fault.then_some(1),
                address: self.failed.address.filter(|_| fault),
                sender: None,
            };
            let mut what = signal::what(info, crash.pid, None, registers.as_ref(), &crash.memory);
            // The sub-code is not in the dump.
            what.detail = None;
            what
        } else {
            exception::what(code, &self.failed.parameters, registers.as_ref(), &crash.memory)
        };
        if code.family == Family::Signal {
            crash.address = registers.map(|registers| registers.instruction).or(crash.address);
        }
    }

    fn modules(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        let count = stream.u32(0).ok_or_else(|| format!("the module list at byte {offset} is cut off"))? as usize;
        let fits = stream.len().saturating_sub(4) / MODULE_BYTES;
        if count > fits {
            crash.trouble.push(format!("the module list at byte {offset} promises {count} modules and holds {fits}"));
        }
        for index in 0..count.min(fits).min(limits::MINIDUMP_ENTRIES) {
            let Some(entry) = stream.part(4 + index * MODULE_BYTES, MODULE_BYTES) else { break };
            let (Some(base), Some(bytes), Some(name)) = (entry.u64(0), entry.u32(8), entry.u32(20)) else { break };
            let version = entry
                .u32(32)
                .zip(entry.u32(36))
                .filter(|_| entry.u32(24) == Some(0xFEEF_04BD))
                .map(|(high, low)| format!("{}.{}.{}.{}", high >> 16, high & 0xFFFF, low >> 16, low & 0xFFFF));
            let path = self.string(u64::from(name)).unwrap_or_else(|trouble| {
                crash.trouble.push(trouble);
                format!("module {index}")
            });
            let built_s = entry.u32(16).filter(|stamp| *stamp != 0);
            let build_id =
                entry.u32(76).zip(entry.u32(80)).and_then(|(size, at)| self.build_id(u64::from(at), u64::from(size)));
            let end = base.saturating_add(u64::from(bytes));
            crash.modules.push(Module { path, base, end, version, built_s, build_id, ..Module::default() });
        }
        Ok(())
    }

    fn misc(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        let flags = stream.u32(4).unwrap_or(0);
        if flags & 1 != 0 {
            crash.pid = stream.u32(8);
        }
        if flags & 2 != 0
            && let Some(started) = stream.u32(12).filter(|started| *started != 0)
        {
            let text = crate::clock::to_rfc3339(i64::from(started).saturating_mul(SECOND));
            crash.attributes.insert("process.started".into(), text.into());
        }
        Ok(())
    }

    /// What tells one build of a module from another: the GUID and age of its debugging data, or the build id of ELF.
    fn build_id(&self, offset: u64, size: u64) -> Option<String> {
        let record = Fields::read(self.file, offset, size.min(64), 64, false).ok()?;
        match record.slice(0, 4)? {
            b"RSDS" => {
                let (a, b, c) = (record.u32(4)?, record.u16(8)?, record.u16(10)?);
                let rest = crate::text::hex(record.slice(12, 8)?);
                Some(format!("{a:08x}{b:04x}{c:04x}{rest}{:x}", record.u32(20)?))
            }
            b"BpEL" => record.slice(4, record.len().saturating_sub(4)).map(crate::text::hex),
            _ => None,
        }
    }

    fn threads(&mut self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        let count = stream.u32(0).ok_or_else(|| format!("the list of threads at byte {offset} is cut off"))? as usize;
        crash.thread_count = Some(count);
        // Some writers put four bytes between the count and the list.
        let start = if stream.len() == 8 + count.saturating_mul(THREAD_BYTES) { 8 } else { 4 };
        for index in 0..count.min(limits::MINIDUMP_ENTRIES) {
            let Some(entry) = stream.part(start + index * THREAD_BYTES, THREAD_BYTES) else {
                crash.trouble.push(format!("the list of threads at byte {offset} promises {count} and holds {index}"));
                break;
            };
            let (Some(id), Some(bytes), Some(at)) = (entry.u32(0), entry.u32(40), entry.u32(44)) else { break };
            let registers = self.context(u64::from(at), u64::from(bytes));
            if let (Some(stack), Some(bytes), Some(place @ 1..)) = (entry.u64(24), entry.u32(32), entry.u32(36)) {
                self.stacks.push(range(stack, u64::from(bytes), u64::from(place)));
            }
            crash.threads.push(Thread { id, registers, ..Thread::default() });
        }
        Ok(())
    }

    fn memory(&mut self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        let count = stream.u32(0).ok_or_else(|| format!("the list of memory at byte {offset} is cut off"))? as usize;
        let start = if stream.len() == 8 + count.saturating_mul(16) { 8 } else { 4 };
        for index in 0..count.min(limits::ELF_ENTRIES) {
            let at = start + index * 16;
            let (Some(address), Some(bytes), Some(place)) = (stream.u64(at), stream.u32(at + 8), stream.u32(at + 12))
            else {
                crash
                    .trouble
                    .push(format!("the list of memory at byte {offset} promises {count} parts and holds {index}"));
                break;
            };
            self.ranges.push(range(address, u64::from(bytes), u64::from(place)));
        }
        Ok(())
    }

    fn memory_64(&mut self, offset: u64, size: u64, len_bytes: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        let (Some(count), Some(mut place)) = (stream.u64(0), stream.u64(8)) else {
            return Err(format!("the list of memory at byte {offset} is cut off"));
        };
        let count = usize::try_from(count).unwrap_or(usize::MAX);
        for index in 0..count.min(limits::ELF_ENTRIES) {
            let at = 16 + index * 16;
            let (Some(address), Some(bytes)) = (stream.u64(at), stream.u64(at + 8)) else {
                crash
                    .trouble
                    .push(format!("the list of memory at byte {offset} promises {count} parts and holds {index}"));
                break;
            };
            let held = bytes.min(len_bytes.saturating_sub(place));
            self.ranges.push(Range { held, ..range(address, bytes, place) });
            place = place.saturating_add(bytes);
        }
        if place > len_bytes {
            crash.trouble.push(format!("cut off at byte {len_bytes}: the memory in it goes on to byte {place}"));
        }
        Ok(())
    }

    fn unloaded(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        let (Some(head), Some(entry), Some(count)) = (stream.u32(0), stream.u32(4), stream.u32(8)) else {
            return Err(format!("the list of unloaded modules at byte {offset} is cut off"));
        };
        if entry < 24 {
            return Err(format!("the list of unloaded modules at byte {offset} has entries of {entry} bytes"));
        }
        for index in 0..(count as usize).min(limits::MINIDUMP_ENTRIES) {
            let at = (head as usize).saturating_add(index.saturating_mul(entry as usize));
            let (Some(base), Some(bytes), Some(name)) = (stream.u64(at), stream.u32(at + 8), stream.u32(at + 20))
            else {
                break;
            };
            let path = self.string(u64::from(name)).unwrap_or_default();
            let built_s = stream.u32(at + 16).filter(|stamp| *stamp != 0);
            crash.unloaded.push(Module {
                path,
                base,
                end: base.saturating_add(u64::from(bytes)),
                built_s,
                ..Module::default()
            });
        }
        Ok(())
    }

    /// How many handles of each type were open, and the names of some objects: `MINIDUMP_HANDLE_DATA_STREAM`.
    fn handles(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        const NAMED: usize = 40;
        let stream = self.stream(offset, size)?;
        let (Some(head), Some(entry), Some(count)) = (stream.u32(0), stream.u32(4), stream.u32(8)) else {
            return Err(format!("the list of handles at byte {offset} is cut off"));
        };
        if entry < 32 {
            return Err(format!("the list of handles at byte {offset} has entries of {entry} bytes"));
        }
        let (mut types, mut names) = (BTreeMap::<String, u32>::new(), Vec::new());
        // Thousands of handles have one of a few types.
        let mut known: FxHashMap<u32, String> = FxHashMap::default();
        for index in 0..(count as usize).min(limits::MINIDUMP_ENTRIES) {
            let at = (head as usize).saturating_add(index.saturating_mul(entry as usize));
            let (Some(kind), Some(name)) = (stream.u32(at.saturating_add(8)), stream.u32(at.saturating_add(12))) else {
                break;
            };
            let kind = known.entry(kind).or_insert_with(|| {
                let named = self.string(u64::from(kind)).ok().filter(|name| kind != 0 && !name.is_empty());
                named.unwrap_or_else(|| "unknown".to_owned())
            });
            if name != 0 && names.len() < NAMED {
                names.extend(self.string(u64::from(name)).ok().map(|name| format!("{kind} {name}")));
            }
            let count = types.entry(kind.clone()).or_default();
            *count = count.saturating_add(1);
        }
        if !types.is_empty() {
            let told: Vec<String> = types.into_iter().map(|(kind, count)| format!("{kind} {count}")).collect();
            crash.attributes.insert("dump.handles".into(), told.join(", ").into());
        }
        if !names.is_empty() {
            crash.attributes.insert("dump.handle_names".into(), names.join("; ").into());
        }
        Ok(())
    }

    /// The names and values that a program set: version, two identities of 16 bytes, then where the list is; the list is a count and
    /// pairs of places of texts in UTF-8, each behind its length.
    fn annotations(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        const MOST: u32 = 200;
        let stream = self.stream(offset, size)?;
        let (Some(bytes), Some(place)) = (stream.u32(36), stream.u32(40)) else {
            return Err(format!("the annotations at byte {offset} are cut off"));
        };
        if bytes == 0 {
            return Ok(());
        }
        let list = self.stream(u64::from(place), u64::from(bytes))?;
        for index in 0..list.u32(0).unwrap_or(0).min(MOST) as usize {
            let at = index.saturating_mul(8).saturating_add(4);
            let (Some(name), Some(value)) = (list.u32(at), list.u32(at.saturating_add(4))) else { break };
            let (Ok(name), Ok(value)) = (self.utf8(u64::from(name)), self.utf8(u64::from(value))) else { continue };
            if !name.is_empty() {
                crash.attributes.insert(format!("annotation.{name}"), value.into());
            }
        }
        Ok(())
    }

    /// A text in UTF-8 behind its length.
    fn utf8(&self, offset: u64) -> Result<String, String> {
        let length = Fields::read(self.file, offset, 4, 4, false)?
            .u32(0)
            .ok_or_else(|| format!("the text at byte {offset} is beyond the end"))?;
        let bytes = u64::from(length).min(STRING_BYTES);
        let text = Fields::read(self.file, offset.saturating_add(4), bytes, STRING_BYTES, false)?;
        let left = self.names_left.get().checked_sub(text.len() as u64);
        self.names_left.set(left.ok_or("all names together are too long")?);
        Ok(text.text(0, text.len()).unwrap_or_default())
    }

    fn thread_names(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        let count = stream.u32(0).unwrap_or(0) as usize;
        let mut by_id: FxHashMap<u32, &mut Thread> =
            crash.threads.iter_mut().rev().map(|thread| (thread.id, thread)).collect();
        for index in 0..count.min(limits::MINIDUMP_ENTRIES) {
            let at = 4 + index * 12;
            let (Some(id), Some(place)) = (stream.u32(at), stream.u64(at + 4)) else { break };
            if let Some(thread) = by_id.get_mut(&id) {
                thread.name = self.string(place).ok().filter(|name| !name.is_empty());
            }
        }
        Ok(())
    }

    fn comment(&self, offset: u64, size: u64, wide: bool, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size.min(STRING_BYTES))?;
        let text = if wide {
            let units: Vec<u16> = (0..stream.len() / 2).filter_map(|index| stream.u16(index * 2)).collect();
            String::from_utf16_lossy(&units)
        } else {
            stream.text(0, stream.len()).unwrap_or_default()
        };
        let text = text.trim_end_matches('\0').trim();
        if !text.is_empty() {
            crash.attributes.insert("dump.comment".into(), text.into());
        }
        Ok(())
    }

    fn string(&self, offset: u64) -> Result<String, String> {
        let length = Fields::read(self.file, offset, 4, 4, false)?
            .u32(0)
            .ok_or_else(|| format!("the string at byte {offset} is beyond the end"))?;
        let text = Fields::read(
            self.file,
            offset.saturating_add(4),
            u64::from(length).min(STRING_BYTES),
            STRING_BYTES,
            false,
        )?;
        let Some(left) = self.names_left.get().checked_sub(text.len() as u64) else {
            return Err(format!(
                "the string at byte {offset} is not read: all names together are more than {NAMES_BYTES} bytes"
            ));
        };
        self.names_left.set(left);
        let units: Vec<u16> = (0..text.len() / 2).filter_map(|index| text.u16(index * 2)).collect();
        Ok(String::from_utf16_lossy(&units))
    }
}

fn range(start: u64, size: u64, offset: u64) -> Range {
    Range { start, size, offset, held: size, executable: None, writable: None }
}

/// The registers in a `CONTEXT` of a processor, by their numbers in DWARF.
pub(super) fn registers(context: &Fields, machine: Machine) -> Option<Registers> {
    match machine {
        Machine::X86_64 => {
            // rax, rcx, rdx, rbx, rsp, rbp, rsi, rdi, r8 to r15
            const ORDER: [usize; 16] = [0, 2, 1, 3, 7, 6, 4, 5, 8, 9, 10, 11, 12, 13, 14, 15];
            let mut found = Registers::new(machine, context.u64(0xF8)?);
            for (place, number) in ORDER.into_iter().enumerate() {
                found.set(number, context.u64(0x78 + place * 8));
            }
            Some(found)
        }
        Machine::X86 => {
            // edi, esi, ebx, edx, ecx, eax, ebp, then eip, cs, flags, esp
            const ORDER: [usize; 7] = [7, 6, 3, 2, 1, 0, 5];
            let mut found = Registers::new(machine, u64::from(context.u32(0xB8)?));
            for (place, number) in ORDER.into_iter().enumerate() {
                found.set(number, context.u32(0x9C + place * 4).map(u64::from));
            }
            found.set(4, context.u32(0xC4).map(u64::from));
            Some(found)
        }
        Machine::Arm64 => {
            let mut found = Registers::new(machine, context.u64(0x108)?);
            for number in 0..32 {
                found.set(number, context.u64(8 + number * 8));
            }
            Some(found)
        }
    }
}
