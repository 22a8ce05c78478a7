//! Codes: recognising them in text, and saying what they mean.
//!
//! [`scan()`] finds the places in a text that are codes; [`catalogue`] knows families, names and meanings, [`reading`]
//! says what one code means, [`rank`] which of several families a number most likely belongs to, [`lookup`] answers what
//! a person typed, and [`user`] adds the user's own catalogues. A code's identity is its family and number, so the
//! different writings of one code (hexadecimal, signed, a name) are the same. What a code is called and means may depend on the
//! [`Catalogues`] of the case: they are passed to whatever asks.

pub mod catalogue;
pub mod family;
pub mod lookup;
pub mod rank;
pub mod reading;
pub mod scan;
pub mod user;

pub use catalogue::{Entry, Outcome};
pub use family::{Family, Form};
pub use reading::CodeInfo;
pub use scan::{Found, Platform, scan};
pub use user::{Catalogues, NO_CATALOGUES};

/// A code's identity.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Code {
    /// Which list of numbers it belongs to.
    pub family: Family,
    /// Its number; 32-bit codes are unsigned. For named families a fingerprint of the name.
    pub number: u32,
}

impl Code {
    /// The code as its family writes it: `0x80070005`, `1603`, `42P01`, `ORA-00942`, `OOMKilled`.
    pub fn written(self, own: &Catalogues) -> String {
        match self.family.form() {
            Form::Decimal => self.number.to_string(),
            Form::Hex => format!("0x{:08X}", self.number),
            Form::State => family::state_text(self.number),
            Form::Name => {
                catalogue::entry(self).map_or_else(|| format!("{:08x}", self.number), |row| row.name.to_owned())
            }
            Form::Worded => match self.family {
                Family::Oracle => format!("ORA-{:05}", self.number),
                Family::Db2 => format!("SQL{:04}N", self.number),
                _ => own.written(self.number),
            },
        }
    }

    /// As a value of the filter field `code` that means this family only: `win32:5`, `42P01`, `ORA-00942`.
    pub fn filter_value(self, own: &Catalogues) -> String {
        match self.family.form() {
            // A full 32 bits say by themselves what they are.
            Form::Hex if self.number > 0xFFFF => self.written(own),
            Form::Decimal | Form::Hex => format!("{}:{}", self.family.name(), self.written(own)),
            Form::State | Form::Name | Form::Worded => self.written(own),
        }
    }

    /// Its number for other programs; none where the family has only names.
    pub fn number_out(self) -> Option<u32> {
        (self.family.form() != Form::Name).then_some(self.number)
    }

    /// What the catalogues say of it.
    pub fn info(self, own: &Catalogues) -> CodeInfo {
        reading::read(self, own)
    }

    /// Whether it makes the line that carries it a problem, whatever level the line was logged with.
    ///
    /// Failures do, but for those that are part of healthy work: a page that is not there, a call to be repeated.
    pub fn escalates(self, own: &Catalogues) -> bool {
        match self.family {
            Family::Http | Family::Sip => (500..600).contains(&self.number),
            // Name does not exist: mostly a search suffix. No such file, try again, interrupted, not a terminal.
            Family::Dns if self.number == 3 => false,
            family if family.is_errno() && matches!(self.number, 2 | 4 | 11 | 25 | 35) => false,
            _ => reading::outcome(self, own) == Outcome::Failure,
        }
    }
}
