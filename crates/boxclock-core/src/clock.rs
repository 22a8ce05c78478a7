//! Time: from what a log writes to nanoseconds since the Unix epoch in UTC, and back for people.
//!
//! Internally an instant is always an `i64` of nanoseconds since 1970-01-01T00:00:00Z (years 1678 to 2261). What a line
//! writes is first a [`Stamp`]; stamps without zone become instants through a [`Zone`], stamps without year through
//! the year of the file's modification time (see [`year`]).

pub mod human;
pub mod scan;
pub mod year;
mod zone;

pub use scan::{Civil, Stamp};
pub use zone::{Resolver, Zone};

/// Nanoseconds in a second.
pub const SECOND: i64 = 1_000_000_000;
/// Nanoseconds in a minute.
pub const MINUTE: i64 = 60 * SECOND;
/// Nanoseconds in an hour.
pub const HOUR: i64 = 60 * MINUTE;
/// Nanoseconds in a day.
pub const DAY: i64 = 24 * HOUR;

/// How sure an event's time is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum TimeKnown {
    /// Written in the line, with its zone known (from the line, the file, the user or the host).
    Exact = 0,
    /// Written in the line, the zone is the case's default.
    AssumedZone = 1,
    /// Written without a year; the year comes from the file's modification time.
    AssumedYear = 2,
    /// Taken from the event before (or after, at a file's start), or from the file's own time.
    Inherited = 3,
    /// The source has no time at all.
    None = 4,
}

impl TimeKnown {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Exact => "exact",
            Self::AssumedZone => "assumed-zone",
            Self::AssumedYear => "assumed-year",
            Self::Inherited => "inherited",
            Self::None => "none",
        }
    }

    /// The inverse of `self as u8`; unknown values are `None`.
    pub fn from_bits(bits: u8) -> Self {
        match bits {
            0 => Self::Exact,
            1 => Self::AssumedZone,
            2 => Self::AssumedYear,
            3 => Self::Inherited,
            _ => Self::None,
        }
    }

    /// One plain sentence for people.
    pub fn explain(self) -> &'static str {
        match self {
            Self::Exact => "written in the line, zone known",
            Self::AssumedZone => "written in the line, zone assumed (the case's)",
            Self::AssumedYear => "written without a year; year from the file's time",
            Self::Inherited => "not written; taken from its neighbour or its file",
            Self::None => "not written anywhere in this source",
        }
    }
}

/// `2026-04-12T02:31:07.442000000Z`: the form of the JSON contract.
pub fn to_rfc3339(utc_ns: i64) -> String {
    let civil = Civil::from_ns(utc_ns);
    format!(
        "{:04}-{:02}-{:02}T{:02}:{:02}:{:02}.{:09}Z",
        civil.year, civil.month, civil.day, civil.hour, civil.minute, civil.second, civil.nanos
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contract_form() {
        assert_eq!(to_rfc3339(1_775_961_067_442_000_000), "2026-04-12T02:31:07.442000000Z");
        assert_eq!(to_rfc3339(-1), "1969-12-31T23:59:59.999999999Z");
    }

    #[test]
    fn known_words_round_trip() {
        for bits in 0..5 {
            assert_eq!(TimeKnown::from_bits(bits) as u8, bits);
        }
    }
}
