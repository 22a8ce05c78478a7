//! What an exception of Windows says in words.
//!
//! Source: the public documentation of `EXCEPTION_RECORD` and of the status codes in `ntstatus.h`.

use super::memory::{Memory, Registers};
use super::{Access, Kind, Nature, What};
use crate::code::catalogue::{self, stop_parameters};
use crate::code::{Code, Family, NO_CATALOGUES};

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
        let access = match kind {
            0 => Some(Access::Read),
            1 => Some(Access::Write),
            8 => Some(Access::Execute),
            _ => None,
        };
        what.touch(*address, access, registers, memory);
        for (parameter, means) in what.parameters.iter_mut().zip([
            "0: read, 1: write, 8: execute",
            "address that was touched",
            "status of reading it in",
        ]) {
            parameter.1 = means;
        }
    }
    let words = match number {
        // The processor reports this address where it can have none.
        0xC000_0005 if what.address == Some(u64::MAX) => {
            Some("it touched an address that no memory can have: the pointer was overwritten with data")
        }
        0xC000_0006 => Some("a part of a mapped file could not be read: disk, network or medium"),
        0xC000_00FD => Some("it ran out of stack: a recursion too deep or a local variable too large"),
        0xC000_0374 => Some("the allocator found its heap damaged: something wrote there earlier"),
        0xC000_0409 => Some(match parameters.first() {
            Some(2) | None => {
                "a check of the stack or of itself failed: the function wrote beyond its local variables, or ended itself at once"
            }
            Some(3) => "a list was found damaged: something wrote over it, or took it out twice",
            Some(7) => "it ended itself at once: a fatal error that the program found itself",
            Some(5) => "an invalid argument was handed to a library function",
            _ => "it ended itself at once after a check of its own",
        }),
        0xC000_0094 => Some("it divided by zero"),
        0xC000_001D => Some("it met an instruction that the processor does not have"),
        0xC000_0096 => Some("it used an instruction that only the system may use"),
        0x8000_0003 => Some("it ran into a breakpoint that is built in: a check of the program or its runtime failed"),
        0xE06D_7363 => Some("an exception of the program's language was thrown that nothing catches"),
        0xE043_4352 | 0xE043_4F4D => Some("an exception of the managed runtime was thrown that nothing catches"),
        0x4000_0015 => Some("it ended itself by abort"),
        0xC000_0420 => Some("a condition that the program checks did not hold"),
        0xC000_0135 | 0xC000_0139 => Some("a library, or a function in one, was missing at the start"),
        0xC000_0017 => Some("there was no more memory"),
        _ => None,
    };
    what.words = words.map(str::to_owned).or(what.words);
    if number == 0xC000_00FD {
        what.nature = Nature::StackOverflow;
    }
    match number {
        0xC000_0420 => what.kind = Kind::Assertion,
        0xC000_0017 => what.kind = Kind::OutOfMemory,
        _ => {}
    }
    what
}

/// The list that the code of an exception is from: those of component results are few and known.
pub(super) fn code_of(number: u32) -> Code {
    let result = Code { family: Family::Hresult, number };
    if catalogue::entry(result).is_some() { result } else { Code { family: Family::NtStatus, number } }
}

/// What stopped a whole system, with the values of this stop beside what each parameter means.
pub(super) fn stop(number: u32, values: impl Iterator<Item = u64>) -> (Code, What) {
    let code = Code { family: Family::Stop, number };
    let reading = code.info(&NO_CATALOGUES);
    // A bit of the number says that it was raised by a handler.
    let meanings = stop_parameters(number).or_else(|| stop_parameters(number & 0x0FFF_FFFF)).unwrap_or_default();
    let what = What {
        kind: Kind::Stop,
        number: Some(number),
        name: reading.name.map(str::to_owned),
        detail: Some(reading.gloss).filter(|gloss| !gloss.is_empty()),
        parameters: values.zip(meanings).collect(),
        words: Some(reading.meaning).filter(|meaning| !meaning.is_empty()),
        ..What::default()
    };
    (code, what)
}
