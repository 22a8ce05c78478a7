//! Small scanning steps that several text formats share.

use std::sync::LazyLock;

use memchr::memmem::Finder;

use crate::severity::Severity;

/// The number that `text` is, if it is only digits and fits.
pub(super) fn number(text: &[u8]) -> Option<u32> {
    if text.is_empty() || text.len() > 10 {
        return None;
    }
    let mut value = 0_u32;
    for byte in text {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        value = value.checked_mul(10)?.checked_add(u32::from(digit))?;
    }
    Some(value)
}

/// The bytes from `at` up to the next blank or tab (or the end), and where they end.
pub(super) fn token(line: &[u8], at: usize) -> (&[u8], usize) {
    let rest = line.get(at..).unwrap_or_default();
    let length = rest.iter().position(|byte| matches!(byte, b' ' | b'\t')).unwrap_or(rest.len());
    (rest.get(..length).unwrap_or_default(), at + length)
}

/// Where the blanks and tabs from `at` on end.
pub(super) fn skip_blanks(line: &[u8], at: usize) -> usize {
    let rest = line.get(at..).unwrap_or_default();
    at + rest.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count()
}

/// A level that a message has among its own pairs, `level=error`, `lvl="warn"`: the severity and the word. A pair that stands alone
/// among words ("log level=debug now") is none: another must stand beside it.
pub(super) fn level_pair(body: &[u8]) -> Option<(Severity, &[u8])> {
    static NAMES: LazyLock<[Finder<'static>; 3]> =
        LazyLock::new(|| [Finder::new("level="), Finder::new("lvl="), Finder::new("severity=")]);
    // Pairs that a logger puts in stand in front.
    const LOOKED_AT: usize = 400;
    let body = body.get(..LOOKED_AT).unwrap_or(body);
    // Most messages have no pair at all.
    memchr::memchr(b'=', body)?;
    let is_pair = |token: &[u8]| {
        let name = token.iter().position(|byte| *byte == b'=').and_then(|at| token.get(..at)).unwrap_or_default();
        !name.is_empty() && name.iter().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'.' | b'-'))
    };
    NAMES.iter().find_map(|name| {
        let at = name.find(body)?;
        let before = body.get(..at)?;
        if !before.is_empty() && !before.ends_with(b" ") {
            return None;
        }
        let value = body.get(at + name.needle().len()..)?;
        let value = value.strip_prefix(b"\"").unwrap_or(value);
        let length = value.iter().position(|byte| !byte.is_ascii_alphabetic()).unwrap_or(value.len());
        let word = value.get(..length)?;
        let behind = value.get(length..)?;
        let behind = behind.strip_prefix(b"\"").unwrap_or(behind).strip_prefix(b" ").unwrap_or_default();
        let pair_before = before.trim_ascii_end().rsplit(|byte| *byte == b' ').next().is_some_and(is_pair);
        let beside = is_pair(token(behind, 0).0) || pair_before;
        Severity::from_word(word).filter(|_| beside).map(|severity| (severity, word))
    })
}

/// A syslog priority `<0>` to `<191>` at the start of a line, its text, and where it ends (RFC 3164, 4.1.1).
pub(super) fn priority(line: &[u8]) -> Option<(u32, &[u8], usize)> {
    let rest = line.strip_prefix(b"<")?;
    let length = rest.iter().take(4).position(|byte| *byte == b'>')?;
    let text = rest.get(..length)?;
    let value = number(text).filter(|value| *value <= 191)?;
    Some((value, text, length + 2))
}

/// The name of a syslog facility (RFC 5424, table 1, in the words of the usual configuration files).
pub(super) fn facility_name(priority: u32) -> &'static str {
    FACILITIES.get((priority >> 3) as usize).copied().unwrap_or("unknown")
}

const FACILITIES: [&str; 24] = [
    "kern", "user", "mail", "daemon", "auth", "syslog", "lpr", "news", "uucp", "cron", "authpriv", "ftp", "ntp",
    "audit", "alert", "clock", "local0", "local1", "local2", "local3", "local4", "local5", "local6", "local7",
];

/// Whether a word is the name of a syslog facility.
pub(super) fn is_facility(word: &str) -> bool {
    FACILITIES.contains(&word)
}

/// A syslog tag at `at`: `name:`, `name[123]:`, `name[123]`. Gives name, process id, and where the message starts.
///
/// RFC 3164 section 4.1.3 ends the tag at the first character that is not alphanumeric; programs really use dots,
/// dashes, slashes, underscores, parentheses and letters beyond ASCII in it too.
pub(super) fn syslog_tag(line: &[u8], at: usize) -> Option<(&[u8], Option<u32>, usize)> {
    let rest = line.get(at..)?;
    let length = rest
        .iter()
        .take(128)
        .take_while(|byte| {
            byte.is_ascii_alphanumeric()
                || **byte >= 0x80
                || matches!(byte, b'_' | b'-' | b'.' | b'/' | b'(' | b')' | b'@' | b'#' | b'%')
        })
        .count();
    let name = rest.get(..length).filter(|name| !name.is_empty())?;
    let mut end = length;
    let mut pid = None;
    if rest.get(end) == Some(&b'[') {
        let inner = rest.get(end + 1..)?;
        let close = inner.iter().take(64).position(|byte| *byte == b']')?;
        pid = inner.get(..close).and_then(number);
        end += close + 2;
        if rest.get(end) == Some(&b':') {
            end += 1;
        }
    } else if rest.get(end) == Some(&b':') && matches!(rest.get(end + 1), None | Some(b' ' | b'\t')) {
        end += 1;
    } else {
        return None;
    }
    if rest.get(end) == Some(&b' ') {
        end += 1;
    }
    Some((name, pid, at + end))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_among_pairs() {
        for (body, word) in [
            (r#"time="2026-04-12T02:31:07Z" level=error msg="refused""#, "error"),
            ("tank 4 lvl=warn msg=low", "warn"),
            (r#"level="info" module=feed"#, "info"),
            ("seq=4 severity=CRITICAL", "CRITICAL"),
        ] {
            let found = level_pair(body.as_bytes()).map(|(_, word)| String::from_utf8_lossy(word).into_owned());
            assert_eq!(found.as_deref(), Some(word), "{body}");
        }
        for body in
            ["log level=debug now", "set level=5 gain=2", "log_level=debug a=b", "level=", "", "sealevel=error a=b"]
        {
            assert_eq!(level_pair(body.as_bytes()), None, "{body}");
        }
    }
}
