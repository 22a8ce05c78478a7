//! Walking a stack from a thread's registers: by unwind tables, else by frame pointers, else by looking for words that point
//! behind calls.
//!
//! Sources: DWARF 5, section 6.4 (call frame information; read by a general crate), the System V ABI of each processor (frame
//! pointers, return addresses); the parts name theirs.

use std::fs::File;

use gimli::{CfaRule, EvaluationResult, RegisterRule, UnwindContext, UnwindSection, Value};

use super::memory::{Machine, Registers};
use super::program::{Program, Programs, Slice};
use super::signal::SignalInfo;
use super::stack::{Found, Frame, Sure, address_in_file, frame_at};
use super::{Access, Crash, Module};

mod exception_table;
mod leaf;
mod signal_frame;

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
    To {
        registers: Registers,
        is_signal: bool,
    },
    /// The table says that nobody called it; the registers of who would have, where they can be told all the same: the kernel
    /// calls handlers of signals that their runtimes call the first of all.
    End(Option<Registers>),
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
            // Nobody calls where a program begins: what lies above are its arguments.
            let is_begin = frame.bare_function() == Some("_start");
            frames.push(frame);
            if is_begin {
                break;
            }
            let switched = frames.last().and_then(|frame| self.by_switched_stack(&now, frame));
            let undone = self.by_signal_frame(&now).unwrap_or_else(|| self.by_table(&now, lookup));
            let step = match undone {
                Step::Unknown if is_first && self.crash.module_at(now.instruction).is_none() => self.by_call(&now),
                step => step,
            };
            let step = match step {
                Step::End(Some(registers)) if self.is_end_of_handler(registers.instruction, registers.machine) => {
                    Step::To { registers, is_signal: false }
                }
                step => step,
            };
            let mut is_switch = false;
            let (next, is_signal) = match (switched, step) {
                (Some(next), _) => {
                    (found, is_switch) = (Found::FramePointer, true);
                    sure = sure.max(Sure::Likely);
                    (next, false)
                }
                (None, Step::End(_)) => break,
                (None, Step::To { registers, is_signal }) => {
                    found = Found::UnwindTable;
                    if let Some(last) = frames.last_mut() {
                        last.is_signal_handler_return = is_signal;
                    }
                    (registers, is_signal)
                }
                (None, Step::Unknown) => {
                    let leaf = frames.last().filter(|_| interrupted).and_then(|frame| self.by_leaf(&now, frame));
                    if let Some(next) = leaf.or_else(|| self.by_frame_pointer(&now)) {
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
                && !self.is_end_of_handler(next.instruction, next.machine)
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
            let goes_on = is_signal
                || is_switch
                || next.stack() > now.stack()
                || (interrupted && next.instruction != now.instruction);
            if next.instruction == 0 || !goes_on {
                break;
            }
            interrupted = is_signal;
            now = next;
        }
        trust_confirmed_guess(&mut frames);
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
        let mut is_end = false;
        let return_register = usize::from(entry.cie().return_address_register().0);
        for number in 0..33_u16 {
            let rule = row.register(gimli::Register(number));
            let index = usize::from(number);
            let old = now.get(index);
            let value = match rule {
                None if index == machine.stack_pointer() => Some(cfa),
                None => old.filter(|_| index != return_register || machine == Machine::Arm64),
                Some(RegisterRule::Undefined) => {
                    is_end |= index == return_register;
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
        // Compilers that always make frame pointers do not say in their tables that they saved the caller's.
        let own_frame = match machine {
            Machine::X86_64 => cfa.checked_sub(16),
            Machine::X86 => None,
            Machine::Arm64 => now.stack().and_then(|stack| stack.checked_sub(8)),
        };
        if own_frame.is_some()
            && own_frame == now.frame()
            && row.register(gimli::Register(u16::try_from(machine.frame_pointer()).unwrap_or_default())).is_none()
        {
            next.set(machine.frame_pointer(), own_frame.and_then(|at| self.word(at, machine)));
        }
        if is_end {
            let back = own_frame.and_then(|at| self.word(at.checked_add(machine.word_bytes())?, machine));
            next.instruction = back.unwrap_or(0);
            return Step::End(back.map(|_| next));
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
        let Some(module) = self.crash.module_at(address) else { return self.crash.unloaded_at(address).is_some() };
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
        if !self.is_code(back) || !(outer == 0 || outer > frame) || !self.is_returned_to(back, machine) {
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
            if self.is_scanned_for(back, machine) {
                let mut next = Registers::new(machine, back);
                next.set(machine.stack_pointer(), at.checked_add(word));
                // The frame pointer may still be the caller's.
                next.set(machine.frame_pointer(), now.frame().filter(|frame| *frame > at));
                return Some(next);
            }
        }
        None
    }

    /// Whether a word of the stack is likely to be a return address. The kernel's own library calls nobody; its address stands among
    /// what the kernel hands to a program.
    fn is_scanned_for(&mut self, back: u64, machine: Machine) -> bool {
        let in_own_library = self.crash.module_at(back).is_some_and(|module| module.image.is_some());
        // A word that points to where something was is too little.
        self.crash.module_at(back).is_some()
            && self.is_code(back)
            && ((!in_own_library && self.is_behind_call(back, machine)) || self.is_end_of_handler(back, machine))
    }

    /// Whether a function may return to an address: behind a call, or to where the handler of a signal ends.
    fn is_returned_to(&mut self, back: u64, machine: Machine) -> bool {
        self.is_behind_call(back, machine) || self.is_end_of_handler(back, machine)
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
}

/// A guess from which tables lead on through several functions is likely: from a word that is merely left over they lead nowhere.
fn trust_confirmed_guess(frames: &mut [Frame]) {
    const CONFIRMING: usize = 3;
    let Some(guess) = frames.iter().position(|frame| frame.found == Found::Scan) else { return };
    let Some(behind) = frames.get_mut(guess..) else { return };
    let led = behind.iter().skip(1).take_while(|frame| frame.found == Found::UnwindTable && frame.function.is_some());
    let led = led.count();
    if led < CONFIRMING {
        return;
    }
    for frame in behind.iter_mut().take(led.saturating_add(1)) {
        frame.sure = Sure::Likely;
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
