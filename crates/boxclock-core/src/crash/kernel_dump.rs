//! `kernel-dump-64`, `kernel-dump-32`: dumps of a whole system of Windows.
//!
//! The layouts of the header are those of the public structure `DUMP_HEADER` and of what emulators' dump writers state; those of
//! the block of small dumps are less sure, so they are confirmed by the file itself: the stride of the list of drivers by the
//! place of what follows, a driver's name by its pool, the end by its mark. What is not confirmed is said.

use std::fs::File;

use super::field::Fields;
use super::judge::has_extension;
use super::memory::{Machine, Memory, Range};
use super::{Crash, DumpFormat, Kind, Module, Thread, exception, minidump};
use crate::clock::scan::filetime;
use crate::code::Platform;

/// The format of 64-bit systems, or that of 32-bit ones.
pub(super) struct KernelDump {
    pub wide: bool,
}

/// Where the fields of the header are.
struct Layout {
    machine: usize,
    processors: usize,
    stop: usize,
    parameters: usize,
    context: usize,
    exception: usize,
    kind: usize,
    time: usize,
    comment: usize,
    uptime: usize,
    block: u64,
    word: usize,
}

const WIDE: Layout = Layout {
    machine: 0x30,
    processors: 0x34,
    stop: 0x38,
    parameters: 0x40,
    context: 0x348,
    exception: 0xF00,
    kind: 0xF98,
    time: 0xFA8,
    comment: 0xFB0,
    uptime: 0x1030,
    block: 0x2000,
    word: 8,
};

const NARROW: Layout = Layout {
    machine: 0x20,
    processors: 0x24,
    stop: 0x28,
    parameters: 0x2C,
    context: 0x320,
    exception: 0x7D0,
    kind: 0xF88,
    time: 0xFC0,
    comment: 0x820,
    uptime: 0xFB8,
    block: 0x1000,
    word: 4,
};

/// Drivers that are read from one dump.
const MOST_DRIVERS: usize = 4096;
/// Bytes of a small dump's block that are looked at.
const BLOCK_BYTES: u64 = 8 << 20;

impl DumpFormat for KernelDump {
    fn name(&self) -> &'static str {
        if self.wide { "kernel-dump-64" } else { "kernel-dump-32" }
    }

    fn recognises(&self, start: &[u8]) -> bool {
        start.starts_with(if self.wide { b"PAGEDU64" } else { b"PAGEDUMP" })
    }

    fn read(&self, file: &File, len_bytes: u64) -> Result<Crash, String> {
        let layout = if self.wide { &WIDE } else { &NARROW };
        let header = Fields::read(file, 0, layout.block, layout.block, false)?;
        let mut crash = Crash { platform: Platform::Windows, ..Crash::default() };
        crash.what.kind = Kind::Stop;
        if (header.len() as u64) < layout.block {
            crash.trouble.push(format!("cut off at byte {len_bytes}: the header has {} bytes", layout.block));
        }
        let stop = header.u32(layout.stop).ok_or_else(|| format!("the header is cut off at byte {len_bytes}"))?;
        let machine = match header.u32(layout.machine) {
            Some(0x8664) => Some(Machine::X86_64),
            Some(0x14C) => Some(Machine::X86),
            Some(0xAA64) => Some(Machine::Arm64),
            _ => None,
        };
        let arch = match machine {
            Some(Machine::X86_64) => "x86-64",
            Some(Machine::X86) => "x86",
            Some(Machine::Arm64) => "arm64",
            None => "unknown",
        };
        crash.attributes.insert("host.arch".into(), arch.into());
        if let (Some(major), Some(build)) = (header.u32(8), header.u32(12)) {
            crash.attributes.insert("os.build".into(), format!("{major}.{build}").into());
        }
        if let Some(count) = header.u32(layout.processors).filter(|count| (1..=4096).contains(count)) {
            crash.attributes.insert("host.processors".into(), count.into());
        }
        let kind = header.u32(layout.kind);
        let kind_name = match kind {
            Some(1) => "full",
            Some(2) => "kernel",
            Some(4) => "small",
            Some(5) => "full, as a bitmap",
            Some(6) => "kernel, as a bitmap",
            _ => "of a kind that is not known",
        };
        crash.attributes.insert("dump.kind".into(), kind_name.into());
        crash.time = header.u64(layout.time).and_then(|ticks| filetime(i64::try_from(ticks).ok()?));
        if let Some(uptime) = header.u64(layout.uptime).filter(|uptime| (1..1_u64 << 55).contains(uptime)) {
            let seconds = uptime / 10_000_000;
            crash.attributes.insert("system.uptime_s".into(), seconds.into());
        }
        if let Some(comment) = header.text(layout.comment, 128).map(|text| text.trim().to_owned())
            && !comment.is_empty()
            && comment.bytes().all(|byte| (0x20..0x7F).contains(&byte))
            && !comment.starts_with("PAGE")
        {
            crash.attributes.insert("dump.comment".into(), comment.into());
        }
        self.stop(&header, layout, stop, &mut crash);
        self.exception(&header, layout, &mut crash);
        if let Some(machine) = machine {
            let context = header.part(layout.context, if self.wide { 1232 } else { 716 });
            let registers = context.as_ref().and_then(|context| minidump::registers(context, machine));
            let registers =
                registers.filter(|registers| registers.instruction != 0 && registers.instruction != filler(self.wide));
            crash.address = crash.address.or(registers.as_ref().map(|registers| registers.instruction));
            crash.tid = Some(0);
            crash.threads.push(Thread { id: 0, registers, ..Thread::default() });
        }
        match kind {
            Some(4) => self.small(file, layout, len_bytes, &mut crash),
            Some(5 | 6) => bitmap(file, layout, len_bytes, &mut crash),
            Some(1 | 2) => {}
            other => crash.trouble.push(format!(
                "the dump's kind at byte {} is {}: not known, and nothing after the header is read",
                layout.kind,
                other.map_or("missing".to_owned(), |kind| kind.to_string())
            )),
        }
        Ok(crash)
    }
}

/// What the header is filled with where nothing was written.
fn filler(wide: bool) -> u64 {
    if wide { u64::from_le_bytes(*b"PAGEPAGE") } else { u64::from(u32::from_le_bytes(*b"PAGE")) }
}

impl KernelDump {
    fn stop(&self, header: &Fields, layout: &Layout, stop: u32, crash: &mut Crash) {
        let values: Vec<u64> =
            (0..4).filter_map(|index| header.word(layout.parameters + index * layout.word, self.wide)).collect();
        let (code, what) = exception::stop(stop, values.iter().copied());
        crash.code = Some(code);
        crash.what = what;
        // Stops for touching memory: the first parameter is the address, the second or third how.
        let access = |value: Option<&u64>| match value {
            Some(0) => Some(super::Access::Read),
            Some(1 | 2) => Some(super::Access::Write),
            Some(8 | 16) => Some(super::Access::Execute),
            _ => None,
        };
        match stop & 0x0FFF_FFFF {
            0x0A | 0xD1 => {
                crash.what.address = values.first().copied();
                crash.what.access = access(values.get(2));
            }
            0x50 | 0xBE | 0xFC => {
                crash.what.address = values.first().copied();
                crash.what.access = if stop == 0xFC { Some(super::Access::Execute) } else { access(values.get(1)) };
            }
            _ => {}
        }
    }

    fn exception(&self, header: &Fields, layout: &Layout, crash: &mut Crash) {
        let at = layout.exception;
        let Some(code) = header.u32(at).filter(|code| *code != 0 && u64::from(*code) != filler(false)) else { return };
        let address = header.word(at + if self.wide { 16 } else { 12 }, self.wide).filter(|address| *address != 0);
        crash.attributes.insert("exception.code".into(), format!("0x{code:08X}").into());
        // 0x80000003 stands there for stops without an exception.
        if code != 0x8000_0003 {
            crash.address = address;
        }
    }

    /// The block of a small dump.
    fn small(&self, file: &File, layout: &Layout, len_bytes: u64, crash: &mut Crash) {
        let block = match Fields::read(file, layout.block, 0x200, 0x200, false) {
            Ok(block) if block.len() >= 0x80 => block,
            _ => {
                crash.trouble.push(format!(
                    "cut off at byte {len_bytes}: the block of the small dump at byte {} is missing",
                    layout.block
                ));
                return;
            }
        };
        let field = |place: usize| block.u32(place * 4).map_or(0, u64::from);
        let (size, valid, unloaded) = (field(1), field(2), field(6));
        let (process, stack, stack_size) = (field(8), field(10), field(11));
        let (drivers, count, pool, pool_size) = (field(12), field(13), field(14), field(15));
        if size > len_bytes {
            crash.trouble.push(format!("cut off at byte {len_bytes}: the dump states {size} bytes"));
        } else if Fields::read(file, valid, 4, 4, false)
            .ok()
            .and_then(|mark| mark.slice(0, 4).map(<[u8]>::to_vec))
            .as_deref()
            != Some(b"TRGD")
        {
            crash
                .trouble
                .push(format!("the mark of a whole dump is not at byte {valid}: it may be cut off or damaged"));
        }
        self.drivers(file, (drivers, count, pool, pool_size), crash);
        self.unloaded(file, unloaded, crash);
        let top = block.word(0x48, self.wide).filter(|top| *top != 0);
        let pointer = crash.threads.first().and_then(|thread| thread.registers.as_ref()?.stack());
        if stack != 0
            && stack_size != 0
            && let Some(top) = top.or(pointer)
        {
            let held = stack_size.min(len_bytes.saturating_sub(stack));
            if held < stack_size {
                crash.trouble.push(format!(
                    "cut off at byte {len_bytes}: the call stack goes on to byte {}",
                    stack.saturating_add(stack_size)
                ));
            }
            let range = Range { start: top, size: stack_size, offset: stack, held, executable: None, writable: None };
            crash.memory = Memory::new(vec![range]);
            // Where the registers do not lead into the stack, its beginning does.
            if let Some(registers) = crash.threads.first_mut().and_then(|thread| thread.registers.as_mut())
                && registers.stack().is_none_or(|pointer| pointer < top || pointer >= top.saturating_add(stack_size))
            {
                registers.set(registers.machine.stack_pointer(), Some(top));
            }
        }
        if process != 0 {
            crash.process = process_name(file, process);
            if crash.process.is_some() {
                crash.attributes.insert("process.name.sure".into(), "likely".into());
            }
        }
    }

    fn drivers(&self, file: &File, (list, count, pool, pool_size): (u64, u64, u64, u64), crash: &mut Crash) {
        let wanted = usize::try_from(count).unwrap_or(usize::MAX).min(MOST_DRIVERS);
        if wanted == 0 || list == 0 {
            return;
        }
        let usual: u64 = if self.wide { 0x90 } else { 0x4C };
        // The string pool follows the list: that gives the stride.
        let room = pool.checked_sub(list).filter(|room| *room > 0);
        let stride = room
            .and_then(|room| room.checked_div(count))
            .filter(|stride| (0x30..=0x200).contains(stride) && stride.is_multiple_of(4))
            .unwrap_or(usual);
        if stride != usual {
            crash.trouble.push(format!("entries of drivers at byte {list} have {stride} bytes where {usual} are usual: stamps in them are not sure"));
        }
        let bytes = stride.saturating_mul(wanted as u64);
        let Ok(entries) = Fields::read(file, list, bytes, BLOCK_BYTES, false) else {
            crash.trouble.push(format!("the list of {count} drivers at byte {list} is longer than what is read"));
            return;
        };
        let strings = Fields::read(file, pool, pool_size.min(BLOCK_BYTES), BLOCK_BYTES, false).ok();
        let (base_at, size_at, stamp_at) =
            if self.wide { (8 + 0x30, 8 + 0x40, 8 + 0x80) } else { (4 + 0x18, 4 + 0x20, 4 + 0x44) };
        // The entry of the loader may stand right behind the name's place or behind padding: the one whose bases look like some.
        let shift = self.shift(&entries, stride, wanted, base_at);
        let mut unnamed = 0_usize;
        for index in 0..wanted {
            let at = index * usize::try_from(stride).unwrap_or(0);
            let (Some(name), Some(base), Some(size)) = (
                entries.u32(at),
                entries.word((at + base_at).saturating_sub(shift), self.wide),
                entries.u32((at + size_at).saturating_sub(shift)),
            ) else {
                crash.trouble.push(format!("the list of drivers at byte {list} promises {count} and holds {index}"));
                break;
            };
            let path = pool_string(file, strings.as_ref(), pool, u64::from(name)).unwrap_or_else(|| {
                unnamed += 1;
                format!("driver {}", index + 1)
            });
            let built_s = entries.u32((at + stamp_at).saturating_sub(shift)).filter(|stamp| *stamp != 0);
            crash.modules.push(Module {
                path,
                base,
                end: base.saturating_add(u64::from(size)),
                built_s,
                ..Module::default()
            });
        }
        if unnamed > 0 {
            crash.trouble.push(format!(
                "{unnamed} of {} drivers have a name that is not in the string pool at byte {pool}",
                crash.modules.len()
            ));
        }
    }

    /// By how much the entries of the loader stand in front of their usual place: 0, or the padding.
    fn shift(&self, entries: &Fields, stride: u64, count: usize, base_at: usize) -> usize {
        let stride = usize::try_from(stride).unwrap_or(0);
        let good = |shift: usize| {
            (0..count.min(32))
                .filter(|index| {
                    let base = entries.word((index * stride + base_at).saturating_sub(shift), self.wide).unwrap_or(0);
                    base.is_multiple_of(0x1000) && if self.wide { base >> 44 == 0xF_FFFF } else { base >= 0x8000_0000 }
                })
                .count()
        };
        let padding = if self.wide { 4 } else { 0 };
        if padding > 0 && good(padding) > good(0) { padding } else { 0 }
    }

    fn unloaded(&self, file: &File, at: u64, crash: &mut Crash) {
        if at == 0 {
            return;
        }
        const MOST: u64 = 64;
        let entry: usize = if self.wide { 56 } else { 40 };
        let Ok(list) = Fields::read(file, at, 8 + MOST * 56, 8 + MOST * 56, false) else { return };
        let head = if self.wide { 8 } else { 4 };
        let Some(count) = list.word(0, self.wide).filter(|count| *count <= MOST) else {
            crash
                .trouble
                .push(format!("the list of unloaded drivers at byte {at} has no count that can be: it is not read"));
            return;
        };
        let (name_at, start_at) = if self.wide { (16, 40) } else { (8, 32) };
        for index in 0..usize::try_from(count).unwrap_or(0) {
            let from = head + index * entry;
            let units: Vec<u16> =
                (0..12).filter_map(|unit| list.u16(from + name_at + unit * 2)).take_while(|unit| *unit != 0).collect();
            let path = String::from_utf16_lossy(&units);
            let word = |at: usize| list.word(from + at, self.wide);
            let (Some(base), Some(end)) = (word(start_at), word(start_at + if self.wide { 8 } else { 4 })) else {
                break;
            };
            let readable = !path.is_empty() && path.chars().all(|letter| !letter.is_control());
            if readable && end > base {
                crash.unloaded.push(Module { path, base, end, ..Module::default() });
            }
        }
    }
}

/// A string of the pool: its length, then UTF-16. Whether the length counts characters or bytes differs: the one after which a NUL
/// follows is taken.
fn pool_string(file: &File, pool: Option<&Fields>, pool_at: u64, at: u64) -> Option<String> {
    let inside = usize::try_from(at.checked_sub(pool_at)?).ok();
    let own;
    let (strings, place) = match (pool, inside) {
        (Some(strings), Some(inside)) if inside + 4 <= strings.len() => (strings, inside),
        _ => {
            own = Fields::read(file, at, 1024, 1024, false).ok()?;
            (&own, 0)
        }
    };
    let length = strings.u32(place)? as usize;
    let text = |units: usize| -> Option<String> {
        (1..=260).contains(&units).then_some(())?;
        let units: Vec<u16> = (0..units).map_while(|unit| strings.u16(place + 4 + unit * 2)).collect();
        let text = String::from_utf16(&units).ok()?;
        (!text.is_empty() && text.chars().all(|letter| !letter.is_control())).then_some(text)
    };
    let ends = |units: usize| strings.u16(place + 4 + units * 2).is_none_or(|unit| unit == 0);
    let found = if ends(length) { text(length).or_else(|| text(length / 2)) } else { text(length / 2) };
    found.map(|name| name.rsplit('\\').next().map(str::to_owned).unwrap_or(name))
}

/// The name of the running process in its block: 15 bytes somewhere in it, so it is searched for by its look.
fn process_name(file: &File, at: u64) -> Option<String> {
    const BYTES: u64 = 0xC00;
    let block = Fields::read(file, at, BYTES, BYTES, false).ok()?;
    let bytes = block.slice(0, block.len())?;
    let is_letter = |byte: &u8| byte.is_ascii_alphanumeric() || b"._- ".contains(byte);
    let mut names = bytes.split(|byte| !is_letter(byte)).filter_map(|run| std::str::from_utf8(run).ok());
    let program = names.find(|name| {
        name.len() >= 5
            && name.len() <= 15
            && (["exe", "ex", "com"].iter().any(|extension| has_extension(name, extension)))
    });
    let name = program.or_else(|| {
        let of_system = bytes.split(|byte| !is_letter(byte)).filter_map(|run| std::str::from_utf8(run).ok());
        of_system.into_iter().find(|name| *name == "System")
    });
    name.map(|name| name.trim().to_owned())
}

/// The second header of a dump that holds its pages by a bitmap.
fn bitmap(file: &File, layout: &Layout, len_bytes: u64, crash: &mut Crash) {
    let head = Fields::read(file, layout.block, 0x40, 0x40, false).ok();
    let marks = head.as_ref().and_then(|head| Some((head.slice(0, 4)?.to_vec(), head.slice(4, 4)?.to_vec())));
    let good = marks.is_some_and(|(first, second)| (first == b"FDMP" || first == b"SDMP") && second == b"DUMP");
    if !good {
        crash
            .trouble
            .push(format!("the second header at byte {} does not have its marks: cut off or damaged", layout.block));
        return;
    }
    if let Some(first) = head.and_then(|head| head.u64(0x20)).filter(|first| *first > len_bytes) {
        crash.trouble.push(format!("cut off at byte {len_bytes}: its pages begin at byte {first}"));
    }
}
