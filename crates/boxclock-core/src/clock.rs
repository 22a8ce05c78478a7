//! Time: from what a log writes to nanoseconds since the Unix epoch in UTC, and back for people.
//!
//! Internally an instant is always an `i64` of nanoseconds since 1970-01-01T00:00:00Z (years 1678 to 2261). What a line
//! writes is first a [`Stamp`]; stamps without zone become instants through a [`Zone`], stamps without year through
//! the year of the file's modification time (see [`year`]).

pub mod day;
mod drift;
pub mod forms;
pub mod human;
pub mod scan;
pub mod told;
pub mod year;
mod zone;

pub use drift::{ClockCorrection, MOST_PPB};
pub use forms::DateOrder;
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

/// How an event's time was derived. The first three bits of an event's flags.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum TimeKnown {
    /// Written in the line with its zone, or as an instant.
    Exact = 0,
    /// Written in the line without zone; the zone is the case's default.
    AssumedZone = 1,
    /// Written without a year; the year comes from the file's modification time.
    AssumedYear = 2,
    /// Taken from the event before (or after, at a file's start), or from the file's own time.
    Inherited = 3,
    /// The source has no time at all.
    None = 4,
    /// Written in the line without zone; the zone is known from the user or the host.
    ZoneKnown = 5,
    /// Only the time of day is written; the date comes from the file's modification time.
    AssumedDate = 6,
    /// Written as the time since the start of the system, whose moment is known.
    Uptime = 7,
}

impl TimeKnown {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Exact | Self::ZoneKnown | Self::Uptime => "exact",
            Self::AssumedZone => "assumed-zone",
            Self::AssumedYear | Self::AssumedDate => "assumed-year",
            Self::Inherited => "inherited",
            Self::None => "none",
        }
    }

    /// The inverse of `self as u8`, of the lowest three bits.
    pub fn from_bits(bits: u8) -> Self {
        match bits & 7 {
            0 => Self::Exact,
            1 => Self::AssumedZone,
            2 => Self::AssumedYear,
            3 => Self::Inherited,
            4 => Self::None,
            5 => Self::ZoneKnown,
            6 => Self::AssumedDate,
            _ => Self::Uptime,
        }
    }

    /// Whether the event has a time of its own.
    pub fn is_own(self) -> bool {
        !matches!(self, Self::Inherited | Self::None)
    }

    /// Whether the time was read in its source's zone.
    pub fn is_local(self) -> bool {
        matches!(self, Self::AssumedZone | Self::AssumedYear | Self::ZoneKnown | Self::AssumedDate)
    }

    /// One plain sentence for people.
    pub fn explain(self) -> &'static str {
        match self {
            Self::Exact => "written in the line, with its zone",
            Self::AssumedZone => "written in the line, zone assumed (the case's)",
            Self::AssumedYear => "written without a year; year from the file's time",
            Self::Inherited => "not written; taken from its neighbour or its file",
            Self::None => "not written anywhere in this source",
            Self::ZoneKnown => "written in the line, zone known for its source",
            Self::AssumedDate => "only the time of day is written; date from the file's time",
            Self::Uptime => "written as time since the system's start, which is known",
        }
    }
}

/// The clock of this machine, UTC nanoseconds.
pub fn now() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_nanos()).unwrap_or(i64::MAX)
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
        for bits in 0..8 {
            assert_eq!(TimeKnown::from_bits(bits) as u8, bits);
        }
    }
}
