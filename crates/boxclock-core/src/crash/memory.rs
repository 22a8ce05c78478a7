//! Registers and the memory that a dump holds.

use std::fs::File;

use super::field::Fields;

/// A kind of processor.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Machine {
    /// 64-bit x86.
    #[default]
    X86_64,
    /// 32-bit x86.
    X86,
    /// 64-bit ARM.
    Arm64,
}

impl Machine {
    /// Bytes of an address.
    pub fn word_bytes(self) -> u64 {
        if self == Self::X86 { 4 } else { 8 }
    }

    /// The number of the stack pointer in DWARF (System V ABI of each processor).
    pub fn stack_pointer(self) -> usize {
        match self {
            Self::X86_64 => 7,
            Self::X86 => 4,
            Self::Arm64 => 31,
        }
    }

    /// The number of the frame pointer in DWARF.
    pub fn frame_pointer(self) -> usize {
        match self {
            Self::X86_64 => 6,
            Self::X86 => 5,
            Self::Arm64 => 29,
        }
    }
}

/// How many registers are kept: the most that DWARF numbers for the three processors.
const REGISTERS: usize = 33;

/// The registers of a thread, by their numbers in DWARF.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Registers {
    /// The processor.
    pub machine: Machine,
    /// Where it was.
    pub instruction: u64,
    values: Vec<Option<u64>>,
}

impl Registers {
    /// Registers of which none is known.
    pub fn new(machine: Machine, instruction: u64) -> Self {
        Self { machine, instruction, values: vec![None; REGISTERS] }
    }

    /// The value of a register; `None` where it is not known.
    pub fn get(&self, number: usize) -> Option<u64> {
        self.values.get(number).copied().flatten()
    }

    /// Sets a register; numbers that are none of the processor are passed over.
    pub fn set(&mut self, number: usize, value: Option<u64>) {
        if let Some(place) = self.values.get_mut(number) {
            *place = value;
        }
    }

    /// The stack pointer.
    pub fn stack(&self) -> Option<u64> {
        self.get(self.machine.stack_pointer())
    }

    /// The frame pointer.
    pub fn frame(&self) -> Option<u64> {
        self.get(self.machine.frame_pointer())
    }
}

/// A part of memory in a dump.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Range {
    /// Its first address.
    pub start: u64,
    /// How much memory it is.
    pub size: u64,
    /// Where its bytes are in the dump.
    pub offset: u64,
    /// How many of them the dump holds.
    pub held: u64,
    /// Whether it may be run; `None` where the dump does not say.
    pub executable: Option<bool>,
    /// Whether it may be written; `None` where the dump does not say.
    pub writable: Option<bool>,
}

/// Which parts of memory a dump holds.
#[derive(Clone, Debug, Default)]
pub struct Memory {
    ranges: Vec<Range>,
}

impl Memory {
    /// These parts; later ones of the same start are dropped.
    pub fn new(mut ranges: Vec<Range>) -> Self {
        ranges.sort_by_key(|range| range.start);
        ranges.dedup_by_key(|range| range.start);
        Self { ranges }
    }

    /// The part that an address lies in.
    pub fn range(&self, address: u64) -> Option<&Range> {
        let at = self.ranges.partition_point(|range| range.start <= address).checked_sub(1)?;
        self.ranges.get(at).filter(|range| address.wrapping_sub(range.start) < range.size)
    }

    /// The first addresses of the parts that the dump holds something of.
    pub fn starts(&self) -> impl Iterator<Item = u64> {
        self.ranges.iter().filter(|range| range.held > 0).map(|range| range.start)
    }

    /// Whether the dump says which parts of memory there were.
    pub fn is_known(&self) -> bool {
        !self.ranges.is_empty()
    }

    /// Up to `length` bytes of memory at an address; fewer where the dump holds no more there.
    pub fn read(&self, file: &File, address: u64, length: usize) -> Vec<u8> {
        let Some(range) = self.range(address) else { return Vec::new() };
        let skip = address.saturating_sub(range.start);
        let wanted = range.held.saturating_sub(skip).min(length as u64);
        let fields = Fields::read(file, range.offset.saturating_add(skip), wanted, wanted, false);
        fields.ok().and_then(|fields| fields.slice(0, fields.len()).map(<[u8]>::to_vec)).unwrap_or_default()
    }
}
