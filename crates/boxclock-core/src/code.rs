//! Codes: recognising them in text, and saying what they mean.
//!
//! [`scan()`] finds the places in a text that are codes; [`catalogue`] knows families, names and meanings. A code's
//! identity is its family and number, so the different writings of one code (hexadecimal, signed, a name) are the
//! same.

pub mod catalogue;
pub mod scan;

pub use catalogue::{Entry, Family, Reading};
pub use scan::{Found, Platform, scan};

/// A code's identity.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Code {
    /// Which list of numbers it belongs to.
    pub family: Family,
    /// Its number; 32-bit codes are unsigned.
    pub number: u32,
}

impl Code {
    /// Its number as its family writes it: `0x80070005`, `1603`.
    pub fn written(self) -> String {
        if self.family.is_hex() { format!("0x{:08X}", self.number) } else { self.number.to_string() }
    }

    /// What the catalogue says of it.
    pub fn reading(self) -> Reading {
        catalogue::read(self)
    }
}
