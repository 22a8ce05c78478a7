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

use super::word::number;
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
