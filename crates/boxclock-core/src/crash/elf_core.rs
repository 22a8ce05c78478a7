//! `elf-core`: core dumps of Linux.
//!
//! Source of the layouts: the System V ABI (ELF header, program headers, notes), the manual pages elf(5), core(5) and getauxval(3),
//! and the kernel's user-space headers: `linux/elfcore.h` (`elf_prstatus`, `elf_prpsinfo`), `linux/elf.h` (note types),
//! `sys/user.h` (order of the registers), `asm-generic/siginfo.h`, `linux/auxvec.h`. The note `NT_FILE` is laid out as the comment
//! above `fill_files_note` in the kernel says: count, page size, then start, end and page offset of each mapping, then the names.
//!
//! A core carries no time of its own; the file's time stands in for it.

use std::fs::File;

use super::elf_image::{Auxiliary, Images};
use super::field::Fields;
use super::memory::{Machine, Memory, Range, Registers};
use super::signal::{self, SignalInfo};
use super::{Access, Crash, DumpFormat, Module, Thread, instruction};
use crate::code::{Code, Family, Platform};
use crate::limits;

/// The format.
pub(super) struct ElfCore;

const ET_CORE: u16 = 4;
const PT_LOAD: u32 = 1;
const PT_NOTE: u32 = 4;
const EM_386: u16 = 3;
const EM_X86_64: u16 = 62;
const EM_AARCH64: u16 = 183;
const NT_PRSTATUS: u32 = 1;
const NT_PRPSINFO: u32 = 3;
const NT_AUXV: u32 = 6;
const NT_SIGINFO: u32 = 0x5349_4749;
const NT_FILE: u32 = 0x4649_4c45;
/// The number of program headers stands in the first section header.
const PN_XNUM: u16 = 0xFFFF;

impl DumpFormat for ElfCore {
    fn name(&self) -> &'static str {
        "elf-core"
    }

    fn recognises(&self, start: &[u8]) -> bool {
        let kind = start.get(16..18).and_then(|bytes| bytes.try_into().ok());
        let kind = kind
            .map(|bytes| if start.get(5) == Some(&2) { u16::from_be_bytes(bytes) } else { u16::from_le_bytes(bytes) });
        start.starts_with(b"\x7FELF") && kind == Some(ET_CORE)
    }

    fn read(&self, file: &File, len_bytes: u64) -> Result<Crash, String> {
        let start = Fields::read(file, 0, 64, 64, false)?;
        let ident = start.slice(0, 16).ok_or("the ELF header ends after less than 16 bytes")?;
        let wide = ident.get(4) == Some(&2);
        let big_endian = ident.get(5) == Some(&2);
        let header = Fields::read(file, 0, 64, 64, big_endian)?;
        let machine = match header.u16(18).ok_or("the ELF header is cut off")? {
            EM_X86_64 => Some(Machine::X86_64),
            EM_386 => Some(Machine::X86),
            EM_AARCH64 => Some(Machine::Arm64),
            _ => None,
        };
        let table = header.word(if wide { 32 } else { 28 }, wide).ok_or("the ELF header is cut off")?;
        let sections = header.word(if wide { 40 } else { 32 }, wide).unwrap_or(0);
        let entry_size = header.u16(if wide { 54 } else { 42 }).ok_or("the ELF header is cut off")?;
        let count = header.u16(if wide { 56 } else { 44 }).ok_or("the ELF header is cut off")?;
        let minimum = if wide { 56 } else { 32 };
        if entry_size < minimum {
            return Err(format!("program headers of {entry_size} bytes at byte {table} are too small"));
        }
        let mut count = u64::from(count);
        if count == u64::from(PN_XNUM)
            && sections != 0
            && let Ok(section) = Fields::read(file, sections, 64, 64, big_endian)
            && let Some(real) = section.u32(if wide { 44 } else { 28 })
        {
            count = u64::from(real);
        }
        let mut crash = Crash { platform: Platform::Linux, ..Crash::default() };
        let table_bytes = u64::from(entry_size).saturating_mul(count);
        let limit = u64::from(entry_size).saturating_mul(limits::ELF_ENTRIES as u64);
        let entries = Fields::read(file, table, table_bytes.min(limit), limit, big_endian)?;
        if (entries.len() as u64) < table_bytes {
            let why = if table_bytes > limit { "only the first are read" } else { "not all there" };
            crash
                .trouble
                .push(format!("cut off at byte {len_bytes}: {count} program headers at byte {table} are {why}"));
        }
        let core = Core { file, wide, big_endian, machine };
        let (mut last_byte, mut ranges, mut notes) = (0, Vec::new(), Vec::new());
        for index in 0..usize::try_from(count).unwrap_or(usize::MAX).min(limits::ELF_ENTRIES) {
            let at = index * usize::from(entry_size);
            let Some(kind) = entries.u32(at) else { break };
            let field =
                |wide_at: usize, at_32: usize| entries.word(at + if wide { wide_at } else { at_32 }, wide).unwrap_or(0);
            let (offset, size) = (field(8, 4), field(32, 16));
            last_byte = last_byte.max(offset.saturating_add(size));
            match kind {
                PT_NOTE => notes.push((offset, size)),
                PT_LOAD => {
                    let flags = entries.u32(at + if wide { 4 } else { 24 }).unwrap_or(0);
                    ranges.push(Range {
                        start: field(16, 8),
                        size: field(40, 20),
                        offset,
                        held: size.min(len_bytes.saturating_sub(offset)),
                        executable: Some(flags & 1 != 0),
                        writable: Some(flags & 2 != 0),
                    });
                }
                _ => {}
            }
        }
        crash.memory = Memory::new(ranges);
        let mut told = Told::default();
        for (offset, size) in notes {
            core.notes(offset, size, &mut crash, &mut told);
        }
        if last_byte > len_bytes {
            crash.trouble.push(format!("cut off at byte {len_bytes}: its headers promise {last_byte} bytes"));
        }
        core.conclude(&mut crash, told);
        Ok(crash)
    }
}

/// What the notes say that is put together when all are read.
#[derive(Default)]
struct Told {
    signal: SignalInfo,
    auxiliary: Auxiliary,
}

struct Core<'a> {
    file: &'a File,
    wide: bool,
    big_endian: bool,
    machine: Option<Machine>,
}

impl Core<'_> {
    fn notes(&self, offset: u64, size: u64, crash: &mut Crash, told: &mut Told) {
        let wanted = size.min(limits::ELF_NOTE_BYTES);
        if wanted < size {
            crash.trouble.push(format!("notes at byte {offset}: only the first {wanted} of {size} bytes are read"));
        }
        let notes = match Fields::read(self.file, offset, wanted, limits::ELF_NOTE_BYTES, self.big_endian) {
            Ok(notes) => notes,
            Err(trouble) => return crash.trouble.push(trouble),
        };
        let mut at = 0_usize;
        for _ in 0..limits::ELF_ENTRIES {
            let (Some(name_size), Some(data_size), Some(kind)) = (notes.u32(at), notes.u32(at + 4), notes.u32(at + 8))
            else {
                break;
            };
            let padded = |size: u32| (size as usize).saturating_add(3) & !3;
            let data_at = (at + 12).saturating_add(padded(name_size));
            let Some(data) = notes.part(data_at, data_size as usize) else {
                crash.trouble.push(format!(
                    "note at byte {}: its {data_size} bytes are cut off",
                    offset.saturating_add(at as u64)
                ));
                break;
            };
            match kind {
                // The thread that failed comes first.
                NT_PRSTATUS => self.thread(&data, crash, &mut told.signal),
                NT_PRPSINFO => self.process(&data, crash),
                NT_SIGINFO => self.signal(&data, &mut told.signal),
                NT_FILE => self.files(&data, crash),
                NT_AUXV => self.auxiliary(&data, &mut told.auxiliary),
                _ => {}
            }
            at = data_at.saturating_add(padded(data_size));
        }
    }

    fn thread(&self, data: &Fields, crash: &mut Crash, signal: &mut SignalInfo) {
        let id = data.u32(if self.wide { 32 } else { 24 }).unwrap_or(0);
        let registers = self.machine.and_then(|machine| registers(data, machine));
        if crash.threads.is_empty() {
            let number = data.u16(12).map(u32::from).filter(|signal| *signal != 0);
            signal.number = number.unwrap_or(signal.number);
            crash.tid = Some(id);
            crash.address = registers.as_ref().map(|registers| registers.instruction);
        }
        crash.threads.push(Thread { id, registers, ..Thread::default() });
    }

    fn process(&self, data: &Fields, crash: &mut Crash) {
        let (pid, name, arguments) = if self.wide { (24, 40, 56) } else { (12, 28, 44) };
        crash.pid = data.u32(pid);
        crash.process = data.text(name, 16).filter(|name| !name.is_empty());
        if let Some(text) = data.text(arguments, 80) {
            crash.attributes.insert("process.command_line".into(), text.trim_end().into());
        }
    }

    fn signal(&self, data: &Fields, signal: &mut SignalInfo) {
        let (Some(number), Some(code)) = (data.u32(0), data.u32(8)) else { return };
        if signal.number == 0 && (1..=64).contains(&number) {
            signal.number = number;
        }
        let code = code.cast_signed();
        let union = if self.wide { 16 } else { 12 };
        signal.code = Some(code);
        // SIGILL, SIGTRAP, SIGBUS, SIGFPE and SIGSEGV raised by the kernel say which address.
        if matches!(number, 4 | 5 | 7 | 8 | 11) && code > 0 {
            signal.address = data.word(union, self.wide);
        }
        if matches!(code, 0 | -1 | -6) {
            signal.sender = data.u32(union);
        }
    }

    fn files(&self, data: &Fields, crash: &mut Crash) {
        let size = if self.wide { 8 } else { 4 };
        let (Some(count), Some(page)) = (data.word(0, self.wide), data.word(size, self.wide)) else { return };
        // The three words of each mapping must fit before the names.
        let fits = data.len() / (3 * size);
        let count = usize::try_from(count).unwrap_or(usize::MAX).min(fits).min(limits::ELF_ENTRIES);
        let mut name_at = 2 * size + count * 3 * size;
        for index in 0..count {
            let at = 2 * size + index * 3 * size;
            let word = |which: usize| data.word(at + which * size, self.wide);
            let (Some(base), Some(end), Some(pages)) = (word(0), word(1), word(2)) else { return };
            let Some(path) = data.text(name_at, 4096) else { return };
            name_at += path.len() + 1;
            let mapping = (base, end, pages.saturating_mul(page));
            match crash.modules.last_mut() {
                // The mappings of one file stand next to each other.
                Some(last) if last.path == path => {
                    last.end = last.end.max(end);
                    last.mappings.push(mapping);
                }
                _ => crash.modules.push(Module { path, base, end, mappings: vec![mapping], ..Module::default() }),
            }
        }
    }

    /// The vector that the kernel hands to a program.
    fn auxiliary(&self, data: &Fields, auxiliary: &mut Auxiliary) {
        let size = if self.wide { 8 } else { 4 };
        for index in 0..data.len() / (2 * size) {
            let at = index * 2 * size;
            if let (Some(kind), Some(value)) = (data.word(at, self.wide), data.word(at + size, self.wide)) {
                auxiliary.take(kind, value);
            }
        }
    }

    /// What all notes together say.
    fn conclude(&self, crash: &mut Crash, Told { signal, auxiliary }: Told) {
        let images = Images { file: self.file, memory: &crash.memory, wide: self.wide, big_endian: self.big_endian };
        if crash.modules.is_empty() {
            crash.modules = images.modules(&auxiliary, crash.process.as_deref());
        }
        crash.modules.extend(auxiliary.own_library.and_then(|base| images.own_library(base)));
        for module in &mut crash.modules {
            if let Some(path) = module.path.strip_suffix(" (deleted)") {
                module.path = path.to_owned();
                module.deleted = true;
            }
            module.build_id = images.build_id(module.base);
        }
        let program = auxiliary.entry.and_then(|entry| crash.module_at(entry));
        crash.executable = program.or(crash.modules.first()).map(|module| module.path.clone());
        // The modules with code are the program's; data files that it had mapped are none.
        let has_code = |module: &Module| {
            let executable = |(start, ..): &(u64, u64, u64)| {
                crash.memory.range(*start).and_then(|range| range.executable) == Some(true)
            };
            !crash.memory.is_known() || module.mappings.iter().any(executable)
        };
        let keep: Vec<bool> = crash.modules.iter().map(has_code).collect();
        if keep.contains(&true) {
            let mut keep = keep.into_iter();
            crash.modules.retain(|_| keep.next().unwrap_or(true));
        }
        if signal.number == 0 {
            return;
        }
        crash.code = Some(Code { family: Family::Signal, number: signal.number });
        let registers = crash.thread().and_then(|thread| thread.registers.as_ref());
        let access = registers.and_then(|registers| self.access(registers, signal, &crash.memory));
        crash.what = signal::what(signal, crash.pid, access, registers, &crash.memory);
        if let Some(code) = signal.code {
            crash.attributes.insert("signal.code".into(), code.into());
        }
        if let Some(address) = crash.what.address {
            crash.attributes.insert("signal.address".into(), format!("0x{address:x}").into());
        }
    }

    fn access(&self, registers: &Registers, signal: SignalInfo, memory: &Memory) -> Option<Access> {
        if signal.number == 11 && signal.address == Some(registers.instruction) {
            return Some(Access::Execute);
        }
        if registers.machine == Machine::Arm64 {
            return None;
        }
        instruction::access(&memory.read(self.file, registers.instruction, 16))
    }
}

/// The registers in `elf_prstatus`, by their numbers in DWARF.
fn registers(data: &Fields, machine: Machine) -> Option<Registers> {
    // For each place in the note's list of registers the register's number in DWARF; 99 for those that have none.
    const X86_64: [usize; 20] = [15, 14, 13, 12, 6, 3, 11, 10, 9, 8, 0, 2, 1, 4, 5, 99, 16, 99, 99, 7];
    const X86: [usize; 16] = [3, 1, 2, 6, 7, 5, 0, 99, 99, 99, 99, 99, 8, 99, 99, 4];
    match machine {
        Machine::X86_64 => {
            let mut found = Registers::new(machine, data.u64(112 + 16 * 8)?);
            for (place, number) in X86_64.into_iter().enumerate() {
                found.set(number, data.u64(112 + place * 8));
            }
            Some(found)
        }
        Machine::X86 => {
            let mut found = Registers::new(machine, u64::from(data.u32(72 + 12 * 4)?));
            for (place, number) in X86.into_iter().enumerate() {
                found.set(number, data.u32(72 + place * 4).map(u64::from));
            }
            Some(found)
        }
        Machine::Arm64 => {
            let mut found = Registers::new(machine, data.u64(112 + 32 * 8)?);
            for number in 0..32 {
                found.set(number, data.u64(112 + number * 8));
            }
            Some(found)
        }
    }
}
