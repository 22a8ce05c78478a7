//! What an exception of Windows says in words.
//!
//! Source: the public documentation of `EXCEPTION_RECORD` and of the status codes in `ntstatus.h`.

use super::memory::{Memory, Registers};
use super::{Access, Kind, What, signal};
use crate::code::{Code, NO_CATALOGUES};

/// What stopped a program of Windows by an exception.
pub(super) fn what(code: Code, parameters: &[u64], registers: Option<&Registers>, memory: &Memory) -> What {
    let reading = code.info(&NO_CATALOGUES);
    let number = code.number;
    let mut what = What {
        kind: Kind::Exception,
        number: Some(number),
        name: reading.name.map(str::to_owned),
        parameters: parameters.iter().map(|value| (*value, "")).collect(),
        ..What::default()
    };
    if matches!(number, 0xC000_0005 | 0xC000_0006)
        && let [kind, address, ..] = parameters
    {
        what.access = match kind {
            0 => Some(Access::Read),
            1 => Some(Access::Write),
            8 => Some(Access::Execute),
            _ => None,
        };
        what.address = Some(*address);
        for (parameter, means) in what.parameters.iter_mut().zip([
            "0: read, 1: write, 8: execute",
            "address that was touched",
            "status of reading it in",
        ]) {
            parameter.1 = means;
        }
    }
    what.words = match number {
        // The processor reports this address where it can have none.
        0xC000_0005 if what.address == Some(u64::MAX) => Some(
            "touched an address that no memory can have: the pointer was overwritten with data".into(),
        ),
        0xC000_0005 => what.address.map(|address| signal::access_words(address, what.access, registers, memory)),
        0xC000_0006 => Some("a part of a mapped file could not be read in: disk, network or medium".into()),
        0xC000_00FD => Some("ran out of stack: too deep a recursion or too large a local variable".into()),
        0xC000_0374 => Some("the allocator found its heap damaged: something wrote there earlier".into()),
        0xC000_0409 => Some(
            match parameters.first() {
                Some(2) | None => "a check of the stack or of itself failed: the function wrote beyond its local variables, or ended itself at once",
                Some(3) => "a list was found damaged: something wrote over it, or took it out twice",
                Some(7) => "ended itself at once: a fatal error that the program found itself",
                Some(5) => "an invalid argument was handed to a library function",
                _ => "ended itself at once after a check of its own",
            }
            .into(),
        ),
        0xC000_0094 => Some("divided by zero".into()),
        0xC000_001D => Some("met an instruction that the processor does not have".into()),
        0xC000_0096 => Some("used an instruction that only the system may use".into()),
        0x8000_0003 => Some("ran into a breakpoint that is built in: a check of the program or its runtime failed".into()),
        0xE06D_7363 => Some("an exception of the program's language was thrown that nothing catches".into()),
        0xE043_4352 | 0xE043_4F4D => Some("an exception of the managed runtime was thrown that nothing catches".into()),
        0x4000_0015 => Some("ended itself by abort".into()),
        0xC000_0420 => Some("a condition that the program checks did not hold".into()),
        0xC000_0135 | 0xC000_0139 => Some("a library or a function of one was missing at the start".into()),
        0xC000_0017 => Some("there was no more memory".into()),
        _ => None,
    };
    match number {
        0xC000_0420 => what.kind = Kind::Assertion,
        0xC000_0017 => what.kind = Kind::OutOfMemory,
        _ => {}
    }
    what
}
