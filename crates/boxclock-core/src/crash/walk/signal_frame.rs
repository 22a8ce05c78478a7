//! Undoing the frame that the kernel of Linux makes for the handler of a signal: behind it stands what the signal interrupted.
//!
//! Sources: the kernel's `arch/x86/include/asm/sigframe.h`, `arch/arm64/kernel/signal.c` and the user-space headers
//! `asm/sigcontext.h`, `asm/ucontext.h` of each processor. Where a handler ends is known by its bytes: the call that asks the
//! kernel to take the frame away.

use super::{Step, Walker};
use crate::crash::Access;
use crate::crash::memory::{Machine, Registers};
use crate::crash::signal::SignalInfo;

/// What a processor notes of a trap, beside the registers.
#[derive(Clone, Copy)]
struct Trap {
    error: u64,
    number: u64,
    address: u64,
}

/// A kind of frame: the code at the handler's end, and where the registers stand, in words.
struct Layout {
    machine: Machine,
    end: &'static [u8],
    /// Bytes from the stack pointer at the handler's end to the first of the registers; behind a pointer where `by_pointer`.
    registers_at: u64,
    /// Where the stack holds a pointer to the registers' structure, in bytes.
    by_pointer: Option<u64>,
    /// The numbers of the registers in DWARF, in their order; [`NONE`] for those without one.
    order: &'static [usize],
    /// The place of the program counter among them.
    instruction: u64,
    /// The places of error, trap and address among them.
    trap: Option<[u64; 3]>,
}

const NONE: usize = usize::MAX;

/// gs, fs, es, ds, edi, esi, ebp, esp, ebx, edx, ecx, eax, trap, error, eip
const X86: [usize; 15] = [NONE, NONE, NONE, NONE, 7, 6, 5, 4, 3, 2, 1, 0, NONE, NONE, 8];

/// x0 to x30, sp; the program counter follows.
const ARM64: [usize; 32] = [
    0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30,
    31,
];

static LAYOUTS: [Layout; 4] = [
    // mov rax, 15; syscall (rt_sigreturn). r8 to r15, rdi, rsi, rbp, rbx, rdx, rax, rcx, rsp, rip
    Layout {
        machine: Machine::X86_64,
        end: &[0x48, 0xC7, 0xC0, 0x0F, 0, 0, 0, 0x0F, 0x05],
        registers_at: 40,
        by_pointer: None,
        order: &[8, 9, 10, 11, 12, 13, 14, 15, 5, 4, 6, 3, 1, 0, 2, 7, 16],
        instruction: 16,
        trap: Some([19, 20, 22]),
    },
    // pop eax; mov eax, 119; int 0x80 (sigreturn)
    Layout {
        machine: Machine::X86,
        end: &[0x58, 0xB8, 0x77, 0, 0, 0, 0xCD, 0x80],
        registers_at: 4,
        by_pointer: None,
        order: &X86,
        instruction: 14,
        trap: Some([13, 12, 21]),
    },
    // mov eax, 173; int 0x80 (rt_sigreturn): behind number and a pointer to the signal a pointer to the context
    Layout {
        machine: Machine::X86,
        end: &[0xB8, 0xAD, 0, 0, 0, 0xCD, 0x80],
        registers_at: 20,
        by_pointer: Some(8),
        order: &X86,
        instruction: 14,
        trap: Some([13, 12, 21]),
    },
    // mov x8, 139; svc 0 (rt_sigreturn): behind 128 bytes of the signal, the context's head and the address of the fault
    Layout {
        machine: Machine::Arm64,
        end: &[0x68, 0x11, 0x80, 0xD2, 0x01, 0, 0, 0xD4],
        registers_at: 128 + 176 + 8,
        by_pointer: None,
        order: &ARM64,
        instruction: 32,
        trap: None,
    },
];

impl Walker<'_, '_> {
    fn layout_at(&mut self, address: u64, machine: Machine) -> Option<&'static Layout> {
        let mut of_machine = LAYOUTS.iter().filter(|layout| layout.machine == machine);
        of_machine.find(|layout| self.code(address, layout.end.len()) == layout.end)
    }

    /// Whether the handler of a signal ends at an address.
    pub(super) fn is_end_of_handler(&mut self, address: u64, machine: Machine) -> bool {
        self.layout_at(address, machine).is_some()
    }

    /// Undoes the frame of a signal, where its handler ends here; notes in `handled` what the signal was.
    pub(super) fn by_signal_frame(&mut self, now: &Registers) -> Option<Step> {
        let layout = self.layout_at(now.instruction, now.machine)?;
        let word = now.machine.word_bytes();
        let mut first = now.stack()?;
        if let Some(pointer) = layout.by_pointer {
            first = self.word(first.checked_add(pointer)?, now.machine)?;
        }
        first = first.checked_add(layout.registers_at)?;
        let at = |place: u64| first.checked_add(place.checked_mul(word)?);
        let mut next = Registers::new(now.machine, 0);
        for (place, number) in layout.order.iter().enumerate().filter(|(_, number)| **number != NONE) {
            next.set(*number, Some(self.word(at(place as u64)?, now.machine)?));
        }
        next.instruction = self.word(at(layout.instruction)?, now.machine)?;
        self.handled = None;
        if let Some([error, number, address]) = layout.trap {
            let read = |place: u64| self.word(at(place)?, now.machine);
            let trap = Trap { error: read(error)?, number: read(number)?, address: read(address)? };
            // Behind a system call the trap is one that is long over.
            let before = self.code(next.instruction.saturating_sub(2), 2);
            let in_call = matches!(before.as_slice(), [0x0F, 0x05 | 0x34] | [0xCD, 0x80]);
            self.handled = (!in_call).then(|| handled(trap)).flatten();
        }
        Some(Step::To { registers: next, is_signal: true })
    }
}

/// Which signal the kernel makes of a trap of x86 processors.
fn handled(trap: Trap) -> Option<(SignalInfo, Option<Access>)> {
    let (number, code, address, access) = match trap.number {
        0 => (8, 1, None, None),
        6 => (4, 1, None, None),
        13 => (11, 0x80, None, None),
        14 => {
            let access = match (trap.error & 16 != 0, trap.error & 2 != 0) {
                (true, _) => Access::Execute,
                (_, true) => Access::Write,
                _ => Access::Read,
            };
            (11, 1, Some(trap.address), Some(access))
        }
        _ => return None,
    };
    Some((SignalInfo { number, code: Some(code), address, sender: None }, access))
}
