//! `iso-text` in shapes of single servers that share nothing with the usual ones.
//!
//! ```text
//! 28249:M 12 Apr 2026 02:31:07.442 # text                      process and role, date, a sign for the level
//! 6b0c100a.285e2c45 0x7f4abcbc5200 text                        seconds and nanoseconds in hexadecimal, thread
//! ```
//!
//! Source: what the servers wrote here. The signs are `.` debug, `-` detail, `*` notice, `#` warning, as the first server's settings
//! list its levels.

use std::borrow::Cow;

use super::iso_text::starts_with_level;
use super::word::{number, skip_blanks};
use super::{Fit, Head, Hint, LineFormat};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{SECOND, Stamp};
use crate::severity::Severity;

/// The format.
pub(super) struct ServerText;

fn with_role(line: &[u8]) -> Option<Head<'_>> {
    let digits = line.iter().take(11).take_while(|byte| byte.is_ascii_digit()).count();
    let pid = number(line.get(..digits)?)?;
    let role = line.get(digits + 1..digits + 2).filter(|role| role.first().is_some_and(u8::is_ascii_uppercase))?;
    let rest =
        line.get(digits + 3..).filter(|_| line.get(digits) == Some(&b':') && line.get(digits + 2) == Some(&b' '))?;
    let (civil, end) = forms::dated(rest, DateOrder::DayFirst)?;
    let severity = match rest.get(end..end + 3)? {
        b" . " => Severity::DEBUG,
        b" - " => Severity::INFO,
        b" * " => Severity::NOTICE,
        b" # " => Severity::WARN,
        _ => return None,
    };
    Some(Head {
        stamp: civil.stamp(),
        severity,
        severity_text: Cow::Borrowed(rest.get(end + 1..end + 2)?),
        component: Cow::Borrowed(role),
        pid: Some(pid),
        body: digits + 3 + end + 3,
        ..Head::default()
    })
}

fn hexadecimal(line: &[u8]) -> Option<Head<'_>> {
    let part = |from: usize| {
        let text = std::str::from_utf8(line.get(from..from + 8)?).ok()?;
        i64::from_str_radix(text, 16).ok().filter(|_| text.bytes().all(|byte| byte.is_ascii_hexdigit()))
    };
    let (seconds, nanos) = (part(0)?, part(9).filter(|nanos| *nanos < SECOND)?);
    let rest = line.get(17..).filter(|_| line.get(8) == Some(&b'.'))?.strip_prefix(b" 0x")?;
    let thread = rest.iter().take(17).take_while(|byte| byte.is_ascii_hexdigit()).count();
    let good = thread > 4 && rest.get(thread) == Some(&b' ') && seconds > 900_000_000;
    good.then(|| Head {
        stamp: Stamp::Utc(seconds.saturating_mul(SECOND).saturating_add(nanos), 0),
        body: 20 + thread + 1,
        ..Head::default()
    })
}

/// What a word behind the time says in the logs of single servers.
#[derive(Default)]
pub(super) struct ServerWord<'a> {
    pub level: Option<(Severity, &'a [u8])>,
    pub pid: Option<u32>,
    pub tid: Option<u32>,
    pub logger: Option<&'a [u8]>,
    /// Where what follows starts.
    pub end: usize,
}

/// How PHP's own messages begin behind its name.
const PHP_LEVELS: [(&[u8], Severity); 6] = [
    (b" Fatal error:", Severity::FATAL),
    (b" Parse error:", Severity::FATAL),
    (b" Recoverable fatal error:", Severity::ERROR),
    (b" Warning:", Severity::WARN),
    (b" Notice:", Severity::NOTICE),
    (b" Deprecated:", Severity::NOTICE),
];

/// Reads the word `raw` of a line, which ends at `end`, where no level has been met before it.
pub(super) fn server_word<'a>(line: &'a [u8], raw: &'a [u8], end: usize) -> Option<ServerWord<'a>> {
    let level_follows = || starts_with_level(line.get(skip_blanks(line, end)..).unwrap_or_default());
    match raw {
        // `LOG3[7]:`: a level of syslog, and a thread.
        [b'L', b'O', b'G', digit @ b'0'..=b'7'] => {
            let rest = line.get(end..)?;
            let close = rest.strip_prefix(b"[").and_then(|rest| rest.iter().take(12).position(|byte| *byte == b']'))?;
            rest.get(close + 2..)?.starts_with(b":").then(|| ServerWord {
                level: Some((Severity::from_syslog(u32::from(*digit)), raw)),
                tid: rest.get(1..=close).and_then(number),
                end: end + close + 3,
                ..ServerWord::default()
            })
        }
        // `p=28474 u=root n=name | text`
        [b'p', b'=', pid @ ..] => {
            let bar = memchr::memmem::find(line.get(end..end.saturating_add(120).min(line.len()))?, b" | ")?;
            let name = line.get(end..end + bar)?.rsplit(|byte| *byte == b' ').next()?.strip_prefix(b"n=")?;
            Some(ServerWord {
                pid: Some(number(pid)?),
                logger: Some(name),
                end: end + bar + 3,
                ..ServerWord::default()
            })
        }
        // `PHP Fatal error:  text`
        b"PHP" => {
            let rest = line.get(end..)?;
            let (phrase, severity) = PHP_LEVELS.iter().find(|(phrase, _)| rest.starts_with(phrase))?;
            let level = Some((*severity, line.get(end + 1..end + phrase.len() - 1)?));
            Some(ServerWord { level, end: end + phrase.len(), ..ServerWord::default() })
        }
        // `29694: error : text`: a process id in front of the level.
        [digits @ .., b':'] if digits.first().is_some_and(u8::is_ascii_digit) => {
            let pid = number(digits).filter(|_| level_follows())?;
            Some(ServerWord { pid: Some(pid), end, ..ServerWord::default() })
        }
        // `7f45b19e6080 Info: text`: a thread by its address.
        _ => {
            let is_address = (8..=16).contains(&raw.len())
                && raw.iter().all(u8::is_ascii_hexdigit)
                && raw.iter().any(u8::is_ascii_digit)
                && number(raw).is_none();
            (is_address && level_follows()).then(|| ServerWord { end, ..ServerWord::default() })
        }
    }
}

impl LineFormat for ServerText {
    fn name(&self) -> &'static str {
        "iso-text"
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        with_role(line).or_else(|| hexadecimal(line))
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        Fit { heads, sure: heads > 0 && heads * 3 > lines.len(), ..Fit::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_shapes() {
        let line = b"28249:M 12 Apr 2026 02:31:07.442 # memory overcommit is off";
        let head = ServerText.head(line, 0).unwrap();
        assert_eq!(
            (head.severity, head.pid, line.get(head.body..)),
            (Severity::WARN, Some(28249), Some(&b"memory overcommit is off"[..]))
        );
        let line = b"6b0c100a.285e2c45 0x7f4abcbc5200 conn=1000 op=0";
        let head = ServerText.head(line, 0).unwrap();
        assert_eq!(head.stamp, Stamp::Utc(0x6b0c_100a * SECOND + 0x285e_2c45, 0));
        assert_eq!(line.get(head.body..), Some(&b"conn=1000 op=0"[..]));
        assert!(ServerText.head(b"6b0c100a-285e2c45 0x7f4abcbc5200 x", 0).is_none());
    }
}
