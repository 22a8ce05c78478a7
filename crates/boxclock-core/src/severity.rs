//! Severity numbers and names of the OpenTelemetry log data model, and how the words of the trade map onto them.

/// A severity number of the OpenTelemetry log data model: 1 (trace) to 24 (worst), 0 where the source carries none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Severity(pub u8);

impl Severity {
    /// The highest number that there is.
    pub const MAX: u8 = 24;
    /// The source carries no severity.
    pub const NONE: Self = Self(0);
    /// The finest detail.
    pub const TRACE: Self = Self(1);
    /// Detail for the makers.
    pub const DEBUG: Self = Self(5);
    /// Normal business.
    pub const INFO: Self = Self(9);
    /// Normal but worth a look (syslog's notice).
    pub const NOTICE: Self = Self(10);
    /// Something is off.
    pub const WARN: Self = Self(13);
    /// Something failed.
    pub const ERROR: Self = Self(17);
    /// Something that matters failed (syslog's critical).
    pub const CRITICAL: Self = Self(18);
    /// Somebody must act now (syslog's alert).
    pub const ALERT: Self = Self(19);
    /// The program or system cannot go on.
    pub const FATAL: Self = Self(21);

    /// The range's name: `trace debug info warn error fatal`, or `None` without severity.
    pub fn name(self) -> Option<&'static str> {
        Some(match self.0 {
            0 => return None,
            1..=4 => "trace",
            5..=8 => "debug",
            9..=12 => "info",
            13..=16 => "warn",
            17..=20 => "error",
            _ => "fatal",
        })
    }

    /// Reads a level word in any case, as programs write it: `WARN`, `err`, `Information`, `E`…
    ///
    /// Single letters are accepted; callers use them only where a level must stand.
    pub fn from_word(word: &[u8]) -> Option<Self> {
        if word.is_empty() || word.len() > 13 {
            return None;
        }
        let mut lower = [0_u8; 13];
        let lower = lower.get_mut(..word.len())?;
        lower.copy_from_slice(word);
        lower.make_ascii_lowercase();
        Some(match &*lower {
            b"trace" | b"trc" | b"t" | b"verbose" | b"finest" | b"silly" | b"vrb" => Self::TRACE,
            b"debug" | b"dbg" | b"d" | b"finer" | b"ddebug" | b"subdebug" => Self::DEBUG,
            b"fine" => Self(6),
            b"config" => Self(7),
            b"info" | b"inf" | b"i" | b"information" | b"informational" | b"log" => Self::INFO,
            b"notice" | b"note" | b"n" => Self::NOTICE,
            b"warn" | b"warning" | b"wrn" | b"w" => Self::WARN,
            b"error" | b"err" | b"e" | b"severe" | b"failure" | b"eror" => Self::ERROR,
            b"critical" | b"crit" | b"c" => Self::CRITICAL,
            b"alert" | b"a" => Self::ALERT,
            b"fatal" | b"ftl" | b"f" | b"panic" | b"emerg" | b"emergency" => Self::FATAL,
            _ => return None,
        })
    }

    /// A level word of at least three letters: what may stand anywhere in a line's head.
    pub fn from_long_word(word: &[u8]) -> Option<Self> {
        if word.len() < 3 || word.eq_ignore_ascii_case(b"log") || word.eq_ignore_ascii_case(b"config") {
            return None;
        }
        Self::from_word(word)
    }

    /// The severity of a syslog priority value's lowest three bits (RFC 5424, table 2).
    pub fn from_syslog(level: u32) -> Self {
        match level & 7 {
            0 => Self::FATAL,
            1 => Self::ALERT,
            2 => Self::CRITICAL,
            3 => Self::ERROR,
            4 => Self::WARN,
            5 => Self::NOTICE,
            6 => Self::INFO,
            _ => Self::DEBUG,
        }
    }

    /// A numeric level as logging libraries write it: tens from 10 (the finest) to 60, or a syslog number 0-7.
    ///
    /// The tens are ambiguous: most JSON loggers use 30 for info and 60 for fatal, Python's standard library 20 for
    /// info and 50 for critical. `python` chooses the latter.
    pub fn from_number(level: i64, python: bool) -> Option<Self> {
        let level = if python && level >= 10 { level + 10 } else { level };
        Some(match level {
            0..=7 => Self::from_syslog(level as u32),
            10..=19 => Self::TRACE,
            20..=29 => Self::DEBUG,
            30..=39 => Self::INFO,
            40..=49 => Self::WARN,
            50..=59 => Self::ERROR,
            60..=69 => Self::FATAL,
            _ => return None,
        })
    }

    /// Whether this is a problem: error or worse.
    pub fn is_problem(self) -> bool {
        self >= Self::ERROR
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn syslog_levels_follow_the_data_model() {
        let numbers: Vec<u8> = (0..8).map(|level| Severity::from_syslog(level).0).collect();
        assert_eq!(numbers, [21, 19, 18, 17, 13, 10, 9, 5]);
        let names: Vec<_> = (0..8).filter_map(|level| Severity::from_syslog(level).name()).collect();
        assert_eq!(names, ["fatal", "error", "error", "error", "warn", "info", "info", "debug"]);
    }

    #[test]
    fn words_in_any_case() {
        assert_eq!(Severity::from_word(b"Warning"), Some(Severity::WARN));
        assert_eq!(Severity::from_word(b"ERR"), Some(Severity::ERROR));
        assert_eq!(Severity::from_word(b"errand"), None);
        assert_eq!(Severity::from_word(b""), None);
        assert_eq!(Severity::from_long_word(b"E"), None);
    }

    #[test]
    fn numbers_of_libraries() {
        assert_eq!(Severity::from_number(30, false), Some(Severity::INFO));
        assert_eq!(Severity::from_number(30, true), Some(Severity::WARN));
        assert_eq!(Severity::from_number(3, false), Some(Severity::ERROR));
        assert_eq!(Severity::from_number(1000, false), None);
    }
}
