//! Walking a stack from a thread's registers: by unwind tables, else by frame pointers, else by looking for words that point
//! behind calls.
//!
//! Sources: DWARF 5, section 6.4 (call frame information; read by a general crate), the System V ABI of each processor (frame
//! pointers, return addresses), and the platform's public description of x64 exception data for programs of Windows.

use std::fs::File;

use gimli::{CfaRule, EvaluationResult, RegisterRule, UnwindContext, UnwindSection, Value};

use super::memory::{Machine, Registers};
use super::program::{Program, Programs, Slice};
use super::signal::SignalInfo;
use super::stack::{Found, Frame, Sure, address_in_file, frame_at};
use super::{Access, Crash, Module};

/// Frames of one stack that are walked.
const MOST_FRAMES: usize = 256;
/// Words of the stack that are looked through for the next return address.
const SCANNED_WORDS: u64 = 512;
/// Guessed frames in a row: what follows is more likely left over than real.
const MOST_GUESSES: usize = 24;

/// Walks stacks of one dump.
pub(super) struct Walker<'a, 'p> {
    pub crash: &'a Crash,
    pub file: &'a File,
    pub programs: &'a mut Programs<'p>,
    /// Whether the first return address of the last stack led to no code.
    pub is_damaged: bool,
    /// What the signal was that a handler on the last stack handled.
    pub handled: Option<(SignalInfo, Option<Access>)>,
}

/// What undoing a frame came to.
enum Step {
    To { registers: Registers, is_signal: bool },
    End,
    Unknown,
}

impl Walker<'_, '_> {
    /// The frames of a thread, innermost first.
    pub fn stack(&mut self, registers: &Registers) -> Vec<Frame> {
        self.is_damaged = false;
        self.handled = None;
        let mut frames: Vec<Frame> = Vec::new();
        let mut now = registers.clone();
        let (mut found, mut sure, mut interrupted, mut guesses) = (Found::Context, Sure::Certain, true, 0_usize);
        while frames.len() < MOST_FRAMES {
            let lookup = if interrupted { now.instruction } else { now.instruction.saturating_sub(1) };
            let mut frame = frame_at(self.crash, self.programs, now.instruction, lookup);
            (frame.found, frame.sure) = (found, sure);
            let is_first = frames.is_empty();
            frames.push(frame);
            let undone = self.by_trampoline(&now).unwrap_or_else(|| self.by_table(&now, lookup));
            let step = match undone {
                Step::Unknown if is_first && self.crash.module_at(now.instruction).is_none() => self.by_call(&now),
                step => step,
            };
            let (next, is_signal) = match step {
                Step::End => break,
                Step::To { registers, is_signal } => {
                    found = Found::UnwindTable;
                    if let Some(last) = frames.last_mut() {
                        last.is_signal_handler_return = is_signal;
                    }
                    (registers, is_signal)
                }
                Step::Unknown => {
                    if let Some(next) = self.by_frame_pointer(&now) {
                        found = Found::FramePointer;
                        sure = sure.max(Sure::Likely);
                        (next, false)
                    } else {
                        guesses += 1;
                        let Some(next) = self.by_scan(&now).filter(|_| guesses <= MOST_GUESSES) else { break };
                        found = Found::Scan;
                        sure = Sure::Guess;
                        (next, false)
                    }
                }
            };
            // What no code is at cannot be returned to: the stack is damaged there.
            let (next, is_signal) = if !is_signal
                && next.instruction != 0
                && !self.is_code(next.instruction)
                && found == Found::UnwindTable
            {
                self.is_damaged |= frames.len() == 1;
                let mut behind = next.clone();
                behind.instruction = now.instruction;
                let Some(guessed) = self.by_scan(&behind) else { break };
                (found, sure) = (Found::Scan, Sure::Guess);
                (guessed, false)
            } else {
                (next, is_signal)
            };
            // A stack only unwinds towards its beginning; a signal may have been handled on another one.
            let goes_on = is_signal || next.stack() > now.stack() || (is_first && next.instruction != now.instruction);
            if next.instruction == 0 || !goes_on {
                break;
            }
            interrupted = is_signal;
            now = next;
        }
        frames
    }

    fn word(&self, address: u64, machine: Machine) -> Option<u64> {
        let bytes = self.memory(address, usize::try_from(machine.word_bytes()).ok()?);
        match machine {
            Machine::X86 => bytes.try_into().ok().map(|bytes| u64::from(u32::from_le_bytes(bytes))),
            _ => bytes.try_into().ok().map(u64::from_le_bytes),
        }
    }

    /// Bytes of memory: from the dump, else what the module's file has there.
    fn memory(&self, address: u64, length: usize) -> Vec<u8> {
        self.crash.memory.read(self.file, address, length)
    }

    /// Code at an address: dumps leave out what stands in the program's file.
    fn code(&mut self, address: u64, length: usize) -> Vec<u8> {
        let bytes = self.memory(address, length);
        if bytes.len() == length {
            return bytes;
        }
        let from_file = self.program(address).and_then(|(module, program)| {
            let at = address_in_file(&module, address, &program)?;
            program.bytes_at(at, length).map(<[u8]>::to_vec)
        });
        from_file.unwrap_or_default()
    }

    /// Undoes the frame that the kernel of Linux makes for the handler of a signal, where its end is known by its bytes: `rt_sigframe`
    /// (`arch/x86/include/asm/sigframe.h`), whose registers and trap stand in `sigcontext`.
    fn by_trampoline(&mut self, now: &Registers) -> Option<Step> {
        // mov rax, 15; syscall (rt_sigreturn)
        const RETURN: [u8; 9] = [0x48, 0xC7, 0xC0, 0x0F, 0, 0, 0, 0x0F, 0x05];
        // r8 to r15, rdi, rsi, rbp, rbx, rdx, rax, rcx, rsp, rip
        const ORDER: [usize; 17] = [8, 9, 10, 11, 12, 13, 14, 15, 5, 4, 6, 3, 1, 0, 2, 7, 16];
        const CONTEXT: u64 = 40;
        if now.machine != Machine::X86_64 || self.code(now.instruction, RETURN.len()) != RETURN {
            return None;
        }
        let frame = now.stack()?;
        let mut next = Registers::new(now.machine, 0);
        for (place, number) in ORDER.into_iter().enumerate() {
            let at = frame.checked_add(CONTEXT)?.checked_add((place * 8) as u64)?;
            next.set(number, Some(self.word(at, now.machine)?));
        }
        next.instruction = next.get(16)?;
        // What trap it was stands behind the registers; behind a system call it is one that is long over.
        let trap = |place: u64| self.word(frame.checked_add(CONTEXT)?.checked_add(place.checked_mul(8)?)?, now.machine);
        let (error, number, address) = (trap(19)?, trap(20)?, trap(22)?);
        self.handled = None;
        if self.code(next.instruction.saturating_sub(2), 2) != [0x0F, 0x05] {
            let signal = match number {
                0 => Some((8, 1, None, None)),
                6 => Some((4, 1, None, None)),
                13 => Some((11, 0x80, None, None)),
                14 => {
                    let access = match (error & 16 != 0, error & 2 != 0) {
                        (true, _) => Access::Execute,
                        (_, true) => Access::Write,
                        _ => Access::Read,
                    };
                    Some((11, 1, Some(address), Some(access)))
                }
                _ => None,
            };
            self.handled = signal.map(|(number, code, address, access)| {
                (SignalInfo { number, code: Some(code), address, sender: None }, access)
            });
        }
        Some(Step::To { registers: next, is_signal: true })
    }

    /// The module and the file of a module that code at an address is of.
    fn program(&mut self, address: u64) -> Option<(Module, std::rc::Rc<Program>)> {
        let module = self.crash.module_at(address)?.clone();
        let program = self.programs.of(&module)?;
        Some((module, program))
    }

    fn by_table(&mut self, now: &Registers, lookup: u64) -> Step {
        let Some((module, program)) = self.program(lookup) else { return Step::Unknown };
        if program.machine() != Some(now.machine) {
            return Step::Unknown;
        }
        let Some(at) = address_in_file(&module, lookup, &program) else { return Step::Unknown };
        if program.exception_table().is_some() {
            let relative = lookup.saturating_sub(module.base);
            return self.by_exception_table(now, relative, &program);
        }
        let Some(tables) = program.tables() else { return Step::Unknown };
        let by_eh_frame = self.by_section(now, at, &tables.eh_frame, &tables.bases, |section, bases, at| {
            section.fde_for_address(bases, at, gimli::EhFrame::cie_from_offset)
        });
        match by_eh_frame {
            Step::Unknown => self.by_section(now, at, &tables.debug_frame, &tables.bases, |section, bases, at| {
                section.fde_for_address(bases, at, gimli::DebugFrame::cie_from_offset)
            }),
            step => step,
        }
    }

    fn by_section<S: UnwindSection<Slice>>(
        &self,
        now: &Registers,
        at: u64,
        section: &S,
        bases: &gimli::BaseAddresses,
        find: impl Fn(&S, &gimli::BaseAddresses, u64) -> gimli::Result<gimli::FrameDescriptionEntry<Slice>>,
    ) -> Step {
        let Ok(entry) = find(section, bases, at) else { return Step::Unknown };
        let mut context = UnwindContext::new();
        let Ok(row) = entry.unwind_info_for_address(section, bases, &mut context, at) else { return Step::Unknown };
        let machine = now.machine;
        let encoding = entry.cie().encoding();
        let cfa = match row.cfa() {
            CfaRule::RegisterAndOffset { register, offset } => {
                now.get(usize::from(register.0)).map(|value| value.wrapping_add_signed(*offset))
            }
            CfaRule::Expression(expression) => self.evaluate(expression, section, encoding, now, None),
        };
        let Some(cfa) = cfa.map(|cfa| cut(cfa, machine)) else { return Step::Unknown };
        let mut next = Registers::new(machine, 0);
        let return_register = usize::from(entry.cie().return_address_register().0);
        for number in 0..33_u16 {
            let rule = row.register(gimli::Register(number));
            let index = usize::from(number);
            let old = now.get(index);
            let value = match rule {
                None if index == machine.stack_pointer() => Some(cfa),
                None => old.filter(|_| index != return_register || machine == Machine::Arm64),
                Some(RegisterRule::Undefined) => {
                    if index == return_register {
                        return Step::End;
                    }
                    None
                }
                Some(RegisterRule::SameValue) => old,
                Some(RegisterRule::Offset(offset)) => self.word(cut(cfa.wrapping_add_signed(offset), machine), machine),
                Some(RegisterRule::ValOffset(offset)) => Some(cut(cfa.wrapping_add_signed(offset), machine)),
                Some(RegisterRule::Register(other)) => now.get(usize::from(other.0)),
                Some(RegisterRule::Expression(expression)) => self
                    .evaluate(&expression, section, encoding, now, Some(cfa))
                    .and_then(|address| self.word(cut(address, machine), machine)),
                Some(RegisterRule::ValExpression(expression)) => {
                    self.evaluate(&expression, section, encoding, now, Some(cfa))
                }
                Some(RegisterRule::Constant(value)) => Some(value),
                Some(RegisterRule::Architectural) => None,
            };
            next.set(index, value);
        }
        let Some(instruction) = next.get(return_register) else { return Step::Unknown };
        next.instruction = without_signature(instruction, machine);
        Step::To { registers: next, is_signal: entry.is_signal_trampoline() }
    }

    fn evaluate<S: UnwindSection<Slice>>(
        &self,
        expression: &gimli::UnwindExpression<usize>,
        section: &S,
        encoding: gimli::Encoding,
        now: &Registers,
        initial: Option<u64>,
    ) -> Option<u64> {
        const MOST_STEPS: u32 = 1000;
        let expression = expression.get(section).ok()?;
        let mut evaluation = expression.evaluation(encoding);
        evaluation.set_max_iterations(MOST_STEPS);
        if let Some(value) = initial {
            evaluation.set_initial_value(value);
        }
        let mut result = evaluation.evaluate().ok()?;
        for _ in 0..MOST_STEPS {
            result = match result {
                EvaluationResult::Complete => {
                    return match evaluation.as_result().first()?.location {
                        gimli::Location::Address { address } => Some(address),
                        gimli::Location::Value { value: Value::Generic(value) } => Some(value),
                        gimli::Location::Register { register } => now.get(usize::from(register.0)),
                        _ => None,
                    };
                }
                EvaluationResult::RequiresMemory { address, .. } => {
                    evaluation.resume_with_memory(Value::Generic(self.word(address, now.machine)?)).ok()?
                }
                EvaluationResult::RequiresRegister { register, .. } => {
                    evaluation.resume_with_register(Value::Generic(now.get(usize::from(register.0))?)).ok()?
                }
                _ => return None,
            };
        }
        None
    }

    /// Behind a call to where no code is: the return address is where the call put it.
    fn by_call(&self, now: &Registers) -> Step {
        let mut next = now.clone();
        match now.machine {
            Machine::Arm64 => {
                let Some(back) = now.get(30).filter(|back| self.is_code(*back)) else { return Step::Unknown };
                next.instruction = without_signature(back, now.machine);
            }
            machine => {
                let Some(stack) = now.stack() else { return Step::Unknown };
                let Some(back) = self.word(stack, machine).filter(|back| self.is_code(*back)) else {
                    return Step::Unknown;
                };
                next.instruction = back;
                next.set(machine.stack_pointer(), stack.checked_add(machine.word_bytes()));
            }
        }
        Step::To { registers: next, is_signal: false }
    }

    /// Whether an address can be one that a call returns to.
    fn is_code(&self, address: u64) -> bool {
        let Some(module) = self.crash.module_at(address) else { return false };
        match self.crash.memory.range(address).and_then(|range| range.executable) {
            Some(executable) => executable,
            // Dumps of Windows do not say what is code: everything in a module may be, but for its head.
            None => address.saturating_sub(module.base) >= 0x1000,
        }
    }

    fn by_frame_pointer(&mut self, now: &Registers) -> Option<Registers> {
        let machine = now.machine;
        let word = machine.word_bytes();
        let (frame, stack) = (now.frame()?, now.stack()?);
        // The frame pointer points to the caller's, with the return address behind it.
        const MOST_FRAME_BYTES: u64 = 16 << 20;
        if frame < stack || frame.checked_sub(stack)? > MOST_FRAME_BYTES || frame.checked_rem(word)? != 0 {
            return None;
        }
        let outer = self.word(frame, machine)?;
        let back = without_signature(self.word(frame.checked_add(word)?, machine)?, machine);
        if !self.is_code(back) || !(outer == 0 || outer > frame) || !self.is_behind_call(back, machine) {
            return None;
        }
        let mut next = Registers::new(machine, back);
        next.set(machine.frame_pointer(), Some(outer));
        next.set(machine.stack_pointer(), frame.checked_add(word.checked_mul(2)?));
        Some(next)
    }

    fn by_scan(&mut self, now: &Registers) -> Option<Registers> {
        let machine = now.machine;
        let word = machine.word_bytes();
        let stack = now.stack()?;
        let range = self.crash.memory.range(stack)?;
        let left = range.start.saturating_add(range.held).saturating_sub(stack);
        let words = left.checked_div(word)?.min(SCANNED_WORDS);
        for place in 0..words {
            let at = stack.checked_add(place.checked_mul(word)?)?;
            let back = self.word(at, machine)?;
            if self.is_code(back) && self.is_behind_call(back, machine) {
                let mut next = Registers::new(machine, back);
                next.set(machine.stack_pointer(), at.checked_add(word));
                // The frame pointer may still be the caller's.
                next.set(machine.frame_pointer(), now.frame().filter(|frame| *frame > at));
                return Some(next);
            }
        }
        None
    }

    /// Whether a call stands in front of an address; where its bytes are not known, it may.
    fn is_behind_call(&mut self, back: u64, machine: Machine) -> bool {
        const LONGEST: u64 = 7;
        if machine == Machine::Arm64 {
            return true;
        }
        let start = back.saturating_sub(LONGEST);
        let bytes = self.code(start, 7);
        if bytes.len() < 7 || bytes.iter().all(|byte| *byte == 0) {
            return true;
        }
        // `E8` with four bytes, or `FF /2` with a ModRM of any length.
        let at = |behind: usize| bytes.get(7 - behind).copied().unwrap_or(0);
        let indirect = |behind: usize| at(behind) == 0xFF && (at(behind - 1) >> 3) & 7 == 2;
        at(5) == 0xE8 || [2, 3, 4, 6, 7].into_iter().any(indirect)
    }

    /// Undoes a frame of a program of 64-bit Windows: its exception table names for each function what its prologue did.
    fn by_exception_table(&self, now: &Registers, relative: u64, program: &Program) -> Step {
        if now.machine != Machine::X86_64 {
            return Step::Unknown;
        }
        self.undo_prologue(now, relative, program).unwrap_or(Step::Unknown)
    }

    fn undo_prologue(&self, now: &Registers, relative: u64, program: &Program) -> Option<Step> {
        let table = program.exception_table()?;
        let relative = u32::try_from(relative).ok()?;
        let number = |entry: &[u8], at: usize| Some(u32::from_le_bytes(entry.get(at..at + 4)?.try_into().ok()?));
        let entry = table.chunks_exact(12).find(|entry| {
            let (start, end) = (number(entry, 0).unwrap_or(u32::MAX), number(entry, 4).unwrap_or(0));
            (start..end).contains(&relative)
        });
        let mut next = now.clone();
        let stack = now.stack()?;
        if let Some(entry) = entry {
            let (start, mut info) = (number(entry, 0)?, number(entry, 8)?);
            let mut into = relative.checked_sub(start)?;
            // Chained parts of one function.
            for _ in 0..32 {
                let head = program.bytes_at(program.relative_base().checked_add(u64::from(info))?, 4 + 2 * 256 + 12)?;
                let (flags, count) = (head.first()? >> 3, usize::from(*head.get(2)?));
                let frame_register = head.get(3)? & 15;
                let frame_offset = u64::from(head.get(3)? >> 4).checked_mul(16)?;
                let codes = head.get(4..4 + 2 * count)?;
                self.undo_codes(&mut next, codes, into, frame_register, frame_offset)?;
                if flags & 4 == 0 {
                    break;
                }
                let chained = 4 + 2 * count.next_multiple_of(2);
                info = number(head, chained + 8)?;
                into = u32::MAX;
            }
        }
        let stack = if entry.is_some() { next.stack()? } else { stack };
        let back = self.word(stack, Machine::X86_64)?;
        next.set(7, stack.checked_add(8));
        next.instruction = back;
        if back == 0 {
            return Some(Step::End);
        }
        Some(Step::To { registers: next, is_signal: false })
    }

    /// Undoes what the codes of a function's prologue say, as far as it had come.
    fn undo_codes(
        &self,
        next: &mut Registers,
        codes: &[u8],
        into: u32,
        frame_register: u8,
        frame_offset: u64,
    ) -> Option<()> {
        // Numbers of the registers in that table, as DWARF numbers them.
        const DWARF: [usize; 16] = [0, 2, 1, 3, 7, 6, 4, 5, 8, 9, 10, 11, 12, 13, 14, 15];
        let pair = |at: usize| Some(u64::from(u16::from_le_bytes(codes.get(at..at + 2)?.try_into().ok()?)));
        let mut at = 0;
        while at < codes.len() {
            let (place, operation) = (*codes.get(at)?, *codes.get(at + 1)?);
            let (kind, extra) = (operation & 15, operation >> 4);
            let slots = match kind {
                1 if extra == 0 => 2,
                1 => 3,
                4 | 8 => 2,
                5 | 9 => 3,
                _ => 1,
            };
            if u32::from(place) <= into {
                let register = *DWARF.get(usize::from(extra))?;
                let stack = next.stack()?;
                match kind {
                    // push
                    0 => {
                        next.set(register, self.word(stack, Machine::X86_64));
                        next.set(7, stack.checked_add(8));
                    }
                    // room for locals
                    1 => {
                        let bytes = match extra {
                            0 => pair(at + 2)?.checked_mul(8)?,
                            _ => pair(at + 2)? | pair(at + 4)? << 16,
                        };
                        next.set(7, stack.checked_add(bytes));
                    }
                    2 => next.set(7, stack.checked_add(u64::from(extra).saturating_add(1).saturating_mul(8))),
                    // frame register
                    3 => {
                        let frame = next.get(*DWARF.get(usize::from(frame_register))?)?;
                        next.set(7, frame.checked_sub(frame_offset));
                    }
                    // saved with a move
                    4 => {
                        let from = stack.checked_add(pair(at + 2)?.checked_mul(8)?)?;
                        next.set(register, self.word(from, Machine::X86_64));
                    }
                    5 => {
                        let from = stack.checked_add(pair(at + 2)? | pair(at + 4)? << 16)?;
                        next.set(register, self.word(from, Machine::X86_64));
                    }
                    // a frame of the processor's: return address, segment, flags, stack
                    10 => {
                        let skip = if extra == 0 { 24 } else { 32 };
                        next.set(7, self.word(stack.checked_add(skip)?, Machine::X86_64));
                    }
                    _ => {}
                }
            }
            at += slots * 2;
        }
        Some(())
    }
}

/// An address of a processor with shorter ones.
fn cut(address: u64, machine: Machine) -> u64 {
    if machine == Machine::X86 { address & 0xFFFF_FFFF } else { address }
}

/// A return address without the signature that ARM processors may keep in its upper bits.
fn without_signature(address: u64, machine: Machine) -> u64 {
    if machine == Machine::Arm64 { address & 0x0000_FFFF_FFFF_FFFF } else { address }
}
