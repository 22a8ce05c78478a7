//! `elf-core`: core dumps of Linux.
//!
//! Source of the layouts: the System V ABI (ELF header, program headers, notes), the manual pages elf(5) and core(5),
//! and the kernel's user-space headers: `linux/elfcore.h` (`elf_prstatus`, `elf_prpsinfo`), `linux/elf.h` (note types),
//! `asm-generic/siginfo.h`. The note `NT_FILE` is laid out as the comment above `fill_files_note` in the kernel says:
//! count, page size, then start, end and page offset of each mapping, then the names.
//!
//! A core carries no time of its own; the file's time stands in for it.

use std::fs::File;

use super::field::Fields;
use super::{Crash, DumpFormat, Module};
use crate::code::{Code, Family, Platform};
use crate::limits;

/// The format.
pub(super) struct ElfCore;

const ET_CORE: u16 = 4;
const PT_NOTE: u32 = 4;
const EM_X86_64: u16 = 62;
const EM_AARCH64: u16 = 183;
const NT_PRSTATUS: u32 = 1;
const NT_PRPSINFO: u32 = 3;
const NT_SIGINFO: u32 = 0x5349_4749;
const NT_FILE: u32 = 0x4649_4c45;

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
        let machine = header.u16(18).ok_or("the ELF header is cut off")?;
        let table = header.word(if wide { 32 } else { 28 }, wide).ok_or("the ELF header is cut off")?;
        let entry_size = header.u16(if wide { 54 } else { 42 }).ok_or("the ELF header is cut off")?;
        let count = header.u16(if wide { 56 } else { 44 }).ok_or("the ELF header is cut off")?;
        let minimum = if wide { 56 } else { 32 };
        if entry_size < minimum {
            return Err(format!("program headers of {entry_size} bytes at byte {table} are too small"));
        }
        let mut crash = Crash { platform: Platform::Linux, ..Crash::default() };
        let table_bytes = u64::from(entry_size).saturating_mul(u64::from(count));
        let entries = Fields::read(file, table, table_bytes, table_bytes, big_endian)?;
        if (entries.len() as u64) < table_bytes {
            crash.trouble.push(format!(
                "cut off at byte {len_bytes}: {count} program headers at byte {table} are not all there"
            ));
        }
        let core = Core { file, wide, big_endian, machine };
        let mut last_byte = 0;
        for index in 0..usize::from(count) {
            let at = index * usize::from(entry_size);
            let Some(kind) = entries.u32(at) else { break };
            let offset = entries.word(at + if wide { 8 } else { 4 }, wide).unwrap_or(0);
            let size = entries.word(at + if wide { 32 } else { 16 }, wide).unwrap_or(0);
            last_byte = last_byte.max(offset.saturating_add(size));
            if kind == PT_NOTE {
                core.notes(offset, size, &mut crash);
            }
        }
        if last_byte > len_bytes {
            crash.trouble.push(format!("cut off at byte {len_bytes}: its headers promise {last_byte} bytes"));
        }
        Ok(crash)
    }
}

struct Core<'a> {
    file: &'a File,
    wide: bool,
    big_endian: bool,
    machine: u16,
}

impl Core<'_> {
    fn notes(&self, offset: u64, size: u64, crash: &mut Crash) {
        let wanted = size.min(limits::ELF_NOTE_BYTES);
        if wanted < size {
            crash.trouble.push(format!("notes at byte {offset}: only the first {wanted} of {size} bytes are read"));
        }
        let notes = match Fields::read(self.file, offset, wanted, limits::ELF_NOTE_BYTES, self.big_endian) {
            Ok(notes) => notes,
            Err(trouble) => return crash.trouble.push(trouble),
        };
        let mut at = 0_usize;
        let mut threads = 0_usize;
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
                NT_PRSTATUS => {
                    threads += 1;
                    if threads == 1 {
                        self.thread(&data, crash);
                    }
                }
                NT_PRPSINFO => self.process(&data, crash),
                NT_SIGINFO => Self::signal(&data, crash),
                NT_FILE => self.files(&data, crash),
                _ => {}
            }
            at = data_at.saturating_add(padded(data_size));
        }
        crash.attributes.insert("crash.threads".into(), threads.into());
    }

    fn thread(&self, data: &Fields, crash: &mut Crash) {
        let signal = data.u16(12).map(u32::from).filter(|signal| *signal != 0);
        crash.code = signal.map(|number| Code { family: Family::Signal, number });
        crash.tid = data.u32(if self.wide { 32 } else { 24 });
        crash.address = match self.machine {
            EM_X86_64 => data.u64(112 + 16 * 8),
            EM_AARCH64 => data.u64(112 + 32 * 8),
            _ => None,
        };
    }

    fn process(&self, data: &Fields, crash: &mut Crash) {
        let (pid, name, arguments) = if self.wide { (24, 40, 56) } else { (12, 28, 44) };
        crash.pid = data.u32(pid);
        crash.process = data.text(name, 16).filter(|name| !name.is_empty());
        if let Some(text) = data.text(arguments, 80) {
            crash.attributes.insert("process.command_line".into(), text.trim_end().into());
        }
    }

    fn signal(data: &Fields, crash: &mut Crash) {
        let (Some(signal), Some(code)) = (data.u32(0), data.u32(8)) else { return };
        if crash.code.is_none() && (1..=64).contains(&signal) {
            crash.code = Some(Code { family: Family::Signal, number: signal });
        }
        crash.attributes.insert("signal.code".into(), code.cast_signed().into());
        // SIGILL, SIGTRAP, SIGBUS, SIGFPE and SIGSEGV raised by the kernel say which address.
        if matches!(signal, 4 | 5 | 7 | 8 | 11)
            && code.cast_signed() > 0
            && let Some(address) = data.u64(16)
        {
            crash.attributes.insert("signal.address".into(), format!("0x{address:x}").into());
        }
    }

    fn files(&self, data: &Fields, crash: &mut Crash) {
        let size = if self.wide { 8 } else { 4 };
        let Some(count) = data.word(0, self.wide) else { return };
        // The three words of each mapping must fit before the names.
        let fits = data.len() / (3 * size);
        let count = usize::try_from(count).unwrap_or(usize::MAX).min(fits).min(limits::ELF_ENTRIES);
        let mut name_at = 2 * size + count * 3 * size;
        for index in 0..count {
            let at = 2 * size + index * 3 * size;
            let (Some(base), Some(end)) = (data.word(at, self.wide), data.word(at + size, self.wide)) else { return };
            let Some(path) = data.text(name_at, 4096) else { return };
            name_at += path.len() + 1;
            match crash.modules.last_mut() {
                // The mappings of one file stand next to each other.
                Some(last) if last.path == path => last.end = last.end.max(end),
                _ => crash.modules.push(Module { path, base, end, version: None, built_s: None }),
            }
        }
    }
}
