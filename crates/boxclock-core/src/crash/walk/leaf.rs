//! Frames that tables and frame pointers do not tell: functions that have not yet made a frame, or never make one, and stacks that a
//! runtime has switched.
//!
//! Sources: the processors' public instruction encodings (push, subtraction from the stack pointer, call); the runtime of Go keeps
//! frame pointers on its 64-bit processors and runs its own work on a stack of the system (`runtime/asm_*.s`).

use super::{Walker, cut};
use crate::crash::memory::{Machine, Registers};
use crate::crash::stack::Frame;

/// How far a function's start may lie before an address in it, where no symbol says it.
const MOST_FUNCTION_BYTES: u64 = 1 << 12;
/// Bytes of a function's start that are looked at.
const PROLOGUE_BYTES: u64 = 48;

impl Walker<'_, '_> {
    /// Undoes a frame that has no frame pointer of its own yet: what its function's start has put on the stack so far is taken off,
    /// and there a return address must stand whose call leads to this function.
    pub(super) fn by_leaf(&mut self, now: &Registers, frame: &Frame) -> Option<Registers> {
        let (machine, word) = (now.machine, now.machine.word_bytes());
        let start = frame.function_offset.and_then(|inside| now.instruction.checked_sub(inside));
        if machine == Machine::Arm64 {
            return None;
        }
        let used = match start {
            Some(start) => {
                let length = now.instruction.checked_sub(start)?.min(PROLOGUE_BYTES);
                pushed_bytes(&self.code(start, usize::try_from(length).ok()?), machine)?
            }
            None => 0,
        };
        let at = now.stack()?.checked_add(used)?;
        let back = self.word(at, machine)?;
        if !self.is_code(back) || !self.is_behind_call(back, machine) {
            return None;
        }
        // Without a symbol the call has to say that it led there: directly, or out of its module.
        if start.is_none() && !self.is_call_out(now.instruction, back, machine) {
            let target = self.called_before(back, machine)?;
            now.instruction.checked_sub(target).filter(|inside| *inside < MOST_FUNCTION_BYTES)?;
        }
        let mut next = now.clone();
        next.instruction = back;
        next.set(machine.stack_pointer(), at.checked_add(word));
        Some(next)
    }

    /// Whether the call in front of an address leads to another module's function: through a pointer, or by way of a jump through
    /// one (as linkers make them for imported functions).
    fn is_call_out(&mut self, to: u64, back: u64, machine: Machine) -> bool {
        let module = |address: u64| self.crash.module_at(address).map(|module| module.base);
        if module(to) == module(back) {
            return false;
        }
        let Some(target) = self.called_before(back, machine) else { return true };
        let jump = self.code(target, 12);
        let jump = jump.strip_prefix(&[0xF3, 0x0F, 0x1E, 0xFA]).unwrap_or(&jump);
        let jump = jump.strip_prefix(&[0xF2]).unwrap_or(jump);
        jump.starts_with(&[0xFF, 0x25]) || jump.starts_with(&[0x48, 0xFF, 0x25]) || jump.starts_with(&[0xFF, 0xA3])
    }

    /// Where the direct call in front of an address leads.
    fn called_before(&mut self, back: u64, machine: Machine) -> Option<u64> {
        let bytes = self.code(back.checked_sub(5)?, 5);
        let (0xE8, distance) = (*bytes.first()?, bytes.get(1..5)?.try_into().ok()?) else { return None };
        Some(cut(back.wrapping_add_signed(i64::from(i32::from_le_bytes(distance))), machine))
    }

    /// Leads from the stack that the runtime of Go runs its own work on back to the stack of the goroutine: the frame pointer is
    /// still that of the function which asked for the work.
    pub(super) fn by_switched_stack(&mut self, now: &Registers, frame: &Frame) -> Option<Registers> {
        let function = frame.function.as_deref()?.trim_end_matches(".abi0");
        if !matches!(function, "runtime.systemstack" | "runtime.morestack") {
            return None;
        }
        let machine = now.machine;
        let (frame, word) = (now.frame()?, machine.word_bytes());
        let back = self.word(frame.checked_add(word)?, machine)?;
        if !self.is_code(back) || !self.is_behind_call(back, machine) {
            return None;
        }
        let mut next = Registers::new(machine, back);
        next.set(machine.frame_pointer(), self.word(frame, machine));
        next.set(machine.stack_pointer(), frame.checked_add(word.checked_mul(2)?));
        Some(next)
    }
}

/// How many bytes the start of a function has put on the stack; `None` where it has made a frame pointer.
fn pushed_bytes(code: &[u8], machine: Machine) -> Option<u64> {
    let (mut at, mut bytes) = (0, 0_u64);
    loop {
        let rest = code.get(at..)?;
        let (length, pushed) = match (rest, machine) {
            // endbr64, endbr32
            ([0xF3, 0x0F, 0x1E, 0xFA | 0xFB, ..], _) => (4, 0),
            ([0x50..=0x57, ..], _) => (1, machine.word_bytes()),
            ([0x41, 0x50..=0x57, ..], Machine::X86_64) => (2, 8),
            // The frame pointer is the stack pointer from here on.
            ([0x48, 0x89, 0xE5, ..] | [0x48, 0x8B, 0xEC, ..], Machine::X86_64)
            | ([0x89, 0xE5, ..] | [0x8B, 0xEC, ..], Machine::X86) => return None,
            ([0x48, 0x83, 0xEC, size, ..], Machine::X86_64) => (4, u64::from(*size)),
            ([0x48, 0x81, 0xEC, a, b, c, d, ..], Machine::X86_64) => {
                (7, u64::from(u32::from_le_bytes([*a, *b, *c, *d])))
            }
            ([0x83, 0xEC, size, ..], Machine::X86) => (3, u64::from(*size)),
            ([0x81, 0xEC, a, b, c, d, ..], Machine::X86) => (6, u64::from(u32::from_le_bytes([*a, *b, *c, *d]))),
            // A move from register to register.
            ([0x48 | 0x49 | 0x4C | 0x4D, 0x89 | 0x8B, 0xC0..=0xFF, ..], Machine::X86_64) => (3, 0),
            ([0x89 | 0x8B, 0xC0..=0xFF, ..], _) => (2, 0),
            _ => return Some(bytes),
        };
        at += length;
        bytes = bytes.checked_add(pushed)?;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_function_has_pushed_so_far() {
        let wide = |code: &[u8]| pushed_bytes(code, Machine::X86_64);
        assert_eq!(wide(&[]), Some(0), "nothing has run");
        assert_eq!(wide(&[0x89, 0xF8]), Some(0), "mov eax, edi");
        assert_eq!(wide(&[0xF3, 0x0F, 0x1E, 0xFA, 0x41, 0x54, 0x53, 0x48, 0x83, 0xEC, 0x28]), Some(8 + 8 + 40));
        assert_eq!(wide(&[0x55, 0x48, 0x89, 0xE5, 0x53]), None, "it has a frame pointer");
        assert_eq!(wide(&[0x55]), Some(8), "the frame pointer is not yet set");
        let narrow = |code: &[u8]| pushed_bytes(code, Machine::X86);
        assert_eq!(narrow(&[0x56, 0x83, 0xEC, 0x14, 0x8B, 0x44, 0x24, 0x20]), Some(4 + 20));
        assert_eq!(narrow(&[0x55, 0x89, 0xE5]), None);
    }
}
