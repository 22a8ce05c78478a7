//! What a signal of a Unix system says in words.
//!
//! Source of the sub-codes: `asm-generic/siginfo.h` of the kernel's user-space headers, sigaction(2).

use super::memory::{Memory, Registers};
use super::{Access, Kind, Nature, What};
use crate::code::{Code, Family, NO_CATALOGUES};

/// What the kernel says of a signal.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct SignalInfo {
    pub number: u32,
    /// Why it was sent (`si_code`).
    pub code: Option<i32>,
    /// The address it is about.
    pub address: Option<u64>,
    /// Who sent it.
    pub sender: Option<u32>,
}

/// The name of a sub-code.
pub(super) fn detail(signal: u32, code: i32) -> Option<&'static str> {
    let of_all = match code {
        0 => Some("SI_USER"),
        0x80 => Some("SI_KERNEL"),
        -1 => Some("SI_QUEUE"),
        -2 => Some("SI_TIMER"),
        -6 => Some("SI_TKILL"),
        _ => None,
    };
    const ILL: [&str; 8] = [
        "ILL_ILLOPC",
        "ILL_ILLOPN",
        "ILL_ILLADR",
        "ILL_ILLTRP",
        "ILL_PRVOPC",
        "ILL_PRVREG",
        "ILL_COPROC",
        "ILL_BADSTK",
    ];
    const FPE: [&str; 8] = [
        "FPE_INTDIV",
        "FPE_INTOVF",
        "FPE_FLTDIV",
        "FPE_FLTOVF",
        "FPE_FLTUND",
        "FPE_FLTRES",
        "FPE_FLTINV",
        "FPE_FLTSUB",
    ];
    const SEGV: [&str; 5] = ["SEGV_MAPERR", "SEGV_ACCERR", "SEGV_BNDERR", "SEGV_PKUERR", "SEGV_ACCADI"];
    const BUS: [&str; 5] = ["BUS_ADRALN", "BUS_ADRERR", "BUS_OBJERR", "BUS_MCEERR_AR", "BUS_MCEERR_AO"];
    const TRAP: [&str; 4] = ["TRAP_BRKPT", "TRAP_TRACE", "TRAP_BRANCH", "TRAP_HWBKPT"];
    let list: &[&'static str] = match signal {
        4 => &ILL,
        5 => &TRAP,
        7 => &BUS,
        8 => &FPE,
        11 => &SEGV,
        31 => &["SYS_SECCOMP", "SYS_USER_DISPATCH"],
        _ => &[],
    };
    let place = usize::try_from(code).ok().and_then(|code| code.checked_sub(1));
    of_all.or_else(|| place.and_then(|place| list.get(place).copied()))
}

/// Addresses below this are a null pointer with the offset of a field: no system maps anything there.
pub(super) const NEAR_NULL: u64 = 0x1_0000;

/// How far from the stack pointer an address may lie that touched the stack's end.
const STACK_REACH: u64 = 0x2_0000;

/// Addresses of x86-64 that no memory can have: neither the lower nor the upper half (with 57 bits of addresses even).
pub(super) fn is_non_canonical(address: u64) -> bool {
    let top = address >> 56;
    top != 0 && top != 0xFF
}

impl What {
    /// Notes the address that was touched, and what that comes to.
    pub(super) fn touch(
        &mut self,
        address: u64,
        access: Option<Access>,
        registers: Option<&Registers>,
        memory: &Memory,
    ) {
        self.address = Some(address);
        self.access = access;
        let (nature, words) = touched(address, access, registers, memory);
        (self.nature, self.words) = (nature, Some(words));
    }
}

/// What an access to an address comes to, in words.
fn touched(address: u64, access: Option<Access>, registers: Option<&Registers>, memory: &Memory) -> (Nature, String) {
    let plain = |words: String| (Nature::Plain, words);
    let did = match access {
        Some(Access::Read) => "it read from",
        Some(Access::Write) => "it wrote to",
        Some(Access::Execute) => "it jumped to",
        None => "it touched",
    };
    let stack = registers.and_then(Registers::stack);
    if address == 0 {
        return plain(format!("{did} a null pointer"));
    }
    if address < NEAR_NULL {
        return plain(format!("{did} address 0x{address:x}, near null: a field or element of a null pointer"));
    }
    if access != Some(Access::Execute)
        && let Some(stack) = stack
        && address.abs_diff(stack) < STACK_REACH
        && memory.is_known()
        && memory.range(address).is_none_or(|range| range.writable != Some(true))
    {
        let words = format!(
            "it ran out of stack: 0x{address:x} is beyond its end; too deep a recursion or too large a local variable"
        );
        return (Nature::StackOverflow, words);
    }
    if is_non_canonical(address) {
        return plain(format!(
            "{did} 0x{address:x}, an address that no memory can have: the pointer was overwritten with data"
        ));
    }
    if access == Some(Access::Execute) {
        return plain(match memory.range(address) {
            Some(_) => format!(
                "it jumped to 0x{address:x}, which is data and not code: a function pointer or return address was damaged"
            ),
            None => {
                format!(
                    "it jumped to 0x{address:x}, where nothing is: a function pointer or return address was damaged"
                )
            }
        });
    }
    plain(match memory.range(address) {
        Some(range) if range.writable == Some(false) && access != Some(Access::Read) => {
            format!("{did} 0x{address:x}, which may only be read")
        }
        Some(_) => format!("{did} 0x{address:x}, which it may not"),
        None => format!("{did} 0x{address:x}, where nothing is: a stale or damaged pointer"),
    })
}

/// What stopped a process by a signal.
pub(super) fn what(
    info: SignalInfo,
    pid: Option<u32>,
    access: Option<Access>,
    registers: Option<&Registers>,
    memory: &Memory,
) -> What {
    let code = Code { family: Family::Signal, number: info.number };
    let reading = code.info(&NO_CATALOGUES);
    let from_outside = matches!(info.code, Some(0 | -1)) && info.sender.is_some_and(|sender| Some(sender) != pid);
    let fault = matches!(info.number, 4 | 5 | 7 | 8 | 11);
    let address = info.address.filter(|_| fault && info.code.is_some_and(|code| code > 0 && code != 0x80));
    let mut what = What {
        kind: if from_outside { Kind::Killed } else { Kind::Signal },
        number: Some(info.number),
        name: reading.name.map(str::to_owned),
        detail: info.code.and_then(|code| detail(info.number, code)).map(str::to_owned),
        address,
        ..What::default()
    };
    let sender = info.sender.map_or_else(|| "another process".to_owned(), |sender| format!("process {sender}"));
    what.words = match (info.number, info.code) {
        _ if from_outside => Some(format!("it was sent by {sender}: the program did not fail by itself")),
        (11 | 7, Some(0x80)) => Some(
            "it touched an address that no memory can have (the processor reports 0 for it, which is not a null pointer): the pointer \
             was overwritten with data"
                .into(),
        ),
        (7, Some(2)) => Some("it touched a part of a mapped file that is no longer there: the file was cut, or its disk is full or failed".into()),
        (7, Some(4 | 5)) => Some("it touched memory that the hardware reports as faulty: test the memory; the program is not to blame".into()),
        (7, Some(1)) => Some("it touched an address that is not aligned".into()),
        (8, Some(1)) => Some("it divided by zero".into()),
        (8, Some(2)) => Some("an integer operation overflowed".into()),
        (8, Some(_)) => Some("a floating-point operation has no result".into()),
        (4, Some(code)) if code > 0 => Some(
            "it met an instruction that the processor does not have: data was run as code, a trap of the compiler (unreachable code), \
             or a program built for another processor"
                .into(),
        ),
        (5, _) => Some("it ran into a trap that is built into the program: a check of its own that failed".into()),
        (6, _) => Some("it ended itself by abort".into()),
        (31, _) => Some("it made a system call that its filter forbids".into()),
        (24, _) => Some("it used up the processor time that its limit allows".into()),
        (25, _) => Some("it wrote a file beyond the size that its limit allows".into()),
        _ => None,
    };
    if info.number == 11
        && !from_outside
        && let Some(address) = address
    {
        what.touch(address, access, registers, memory);
    }
    what
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::crash::memory::{Machine, Range};

    fn segv(address: u64, code: i32) -> SignalInfo {
        SignalInfo { number: 11, code: Some(code), address: Some(address), sender: None }
    }

    #[test]
    fn addresses_in_words() {
        let range = |start, writable| Range {
            start,
            size: 0x1000,
            offset: 0,
            held: 0,
            executable: Some(false),
            writable: Some(writable),
        };
        let memory = Memory::new(vec![range(0x7000_0000, true), range(0x5000_0000, false)]);
        let mut registers = Registers::new(Machine::X86_64, 0x40_0000);
        registers.set(7, Some(0x6FFF_FF00));
        let words = |info, access| what(info, Some(7), access, Some(&registers), &memory).words.unwrap();
        for (address, access, wanted) in [
            (0, Some(Access::Write), "wrote to a null pointer"),
            (0x18, Some(Access::Read), "near null"),
            (0x6FFF_FE00, Some(Access::Write), "ran out of stack"),
            (0x4141_4141_4141_4141, Some(Access::Read), "no memory can have"),
            (0x7000_0010, Some(Access::Execute), "data and not code"),
            (0x9000_0010, Some(Access::Execute), "where nothing is"),
            (0x5000_0010, Some(Access::Write), "may only be read"),
            (0x9000_0010, None, "stale or damaged pointer"),
        ] {
            let text = words(segv(address, 1), access);
            assert!(text.contains(wanted), "0x{address:x}: {text}");
        }
        let general = what(segv(0, 0x80), Some(7), None, Some(&registers), &memory);
        assert!(general.words.unwrap().contains("not a null pointer"));
        assert_eq!((general.address, general.detail.as_deref()), (None, Some("SI_KERNEL")));
    }

    #[test]
    fn a_signal_from_another_process_is_no_fault_of_the_program() {
        let info = SignalInfo { number: 11, code: Some(0), address: None, sender: Some(4711) };
        let outside = what(info, Some(7), None, None, &Memory::default());
        assert_eq!(outside.kind, Kind::Killed);
        assert!(outside.words.unwrap().contains("process 4711"));
        let own = what(
            SignalInfo { number: 6, code: Some(-6), sender: Some(7), ..info },
            Some(7),
            None,
            None,
            &Memory::default(),
        );
        assert_eq!((own.kind, own.detail.as_deref()), (Kind::Signal, Some("SI_TKILL")));
    }
}
