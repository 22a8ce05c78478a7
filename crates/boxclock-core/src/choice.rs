//! What people choose by hand about one source: what is not chosen is found out.

use crate::clock::{DateOrder, Zone};
use crate::code::{Code, Family};
use crate::text::Encoding;
use crate::{Error, Result};

/// How one source is to be read, chosen by hand; what is not chosen is found out.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Choice {
    /// The name of a text format.
    pub format: Option<String>,
    /// How its characters are written.
    pub encoding: Option<Encoding>,
    /// The zone of its times that carry none.
    pub zone: Option<Zone>,
    /// The order of day and month in its dates.
    pub dates: Option<DateOrder>,
    /// The label of the host that it belongs to.
    pub host: Option<String>,
    /// What its codes are, where recognition was wrong.
    pub codes: Vec<CodeChoice>,
    /// Of the case as a whole, which has the empty name: that codes of failures make no line a problem.
    pub no_escalation: bool,
}

/// The family that a code of a source is, chosen by hand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CodeChoice {
    /// The code as it was recognised.
    pub code: Code,
    /// The record that it stands in, by its offset in bytes; `None` for everywhere in the source.
    pub offset: Option<u64>,
    /// What it is.
    pub family: Family,
}

impl CodeChoice {
    /// What it is called in the logbook: `code win32 1722`, or `code win32 1722 at 4096` for one place.
    pub fn what(code: Code, offset: Option<u64>) -> String {
        let place = offset.map(|offset| format!(" at {offset}")).unwrap_or_default();
        format!("code {} {}{place}", code.family.name(), code.number)
    }

    fn parse(what: &str, family: &str) -> Option<Self> {
        let mut words = what.split(' ').skip(1);
        let code = Code { family: Family::parse(words.next()?)?, number: words.next()?.parse().ok()? };
        let offset = match words.next() {
            Some(_) => Some(words.next()?.parse().ok()?),
            None => None,
        };
        Some(Self { code, offset, family: Family::parse(family)? })
    }
}

impl Choice {
    /// Sets one part from text: `format`, `encoding`, `zone`, `host`, `dates`, `lift` (`off`), or what a code is
    /// ([`CodeChoice::what`]).
    ///
    /// # Errors
    /// When the value is none, with what would be.
    pub fn set(&mut self, what: &str, value: &str) -> Result<()> {
        match what {
            "format" => self.format = Some(value.to_owned()),
            "zone" => self.zone = Some(Zone::parse(value)?),
            "host" => self.host = Some(value.to_owned()),
            "lift" => self.no_escalation = value == "off",
            what if what.starts_with("code ") => {
                let choice = CodeChoice::parse(what, value);
                self.codes.push(choice.ok_or_else(|| Error::new(format!("no family of codes \"{value}\"")))?);
            }
            "encoding" => {
                let known = "utf-8, utf-16le, utf-16be, windows-1252 or iso-8859-1";
                let encoding = Encoding::parse(value);
                self.encoding =
                    Some(encoding.ok_or_else(|| Error::new(format!("no encoding \"{value}\": write {known}")))?);
            }
            _ => {
                let known = "day-first, month-first or year-first";
                let order = DateOrder::parse(value);
                self.dates =
                    Some(order.ok_or_else(|| Error::new(format!("no order of dates \"{value}\": write {known}")))?);
            }
        }
        Ok(())
    }
}
