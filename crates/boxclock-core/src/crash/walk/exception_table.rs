//! Undoing frames of programs of 64-bit Windows by their exception tables.
//!
//! Source: the platform's public description of x64 exception data (`RUNTIME_FUNCTION`, `UNWIND_INFO`).

use super::{Step, Walker};
use crate::crash::memory::{Machine, Registers};
use crate::crash::program::Program;

impl Walker<'_, '_> {
    /// Undoes a frame of a program of 64-bit Windows: its exception table names for each function what its prologue did.
    pub(super) fn by_exception_table(&self, now: &Registers, relative: u64, program: &Program) -> Step {
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
            return Some(Step::End(None));
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
