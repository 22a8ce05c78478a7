//! `PROGRAM: error: message`: what programs print on their standard error without any time.
//!
//! Source: the GNU coding standards ("Formatting Error Messages") ask for `PROGRAM: message`, and compilers, package managers
//! and many tools put the level word behind it. Where other lines of a file have times, such a line is an event of its own
//! beside them.

use super::word::number;
use crate::severity::Severity;

/// What such a line says of itself.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct NamedTrouble<'a> {
    pub program: &'a [u8],
    pub pid: Option<u32>,
    pub severity: Severity,
    pub word: &'a [u8],
}

/// Reads a line of that shape: the name of a program at its start, perhaps its process id, and a level word, each with a colon.
pub(super) fn read(line: &[u8]) -> Option<NamedTrouble<'_>> {
    if let Some(found) = package_manager(line) {
        return Some(found);
    }
    let name = line.iter().take(64).take_while(|byte| is_name_byte(**byte)).count();
    let program =
        line.get(..name).filter(|name| name.first().is_some_and(u8::is_ascii_alphabetic) || name.starts_with(b"/"))?;
    let mut at = name;
    let mut pid = None;
    if line.get(at) == Some(&b'[') {
        let close = line.get(at..)?.iter().take(12).position(|byte| *byte == b']')?;
        pid = Some(number(line.get(at + 1..at + close)?)?);
        at += close + 1;
    }
    let rest = line.get(at..)?.strip_prefix(b": ")?;
    at += 2;
    let length = rest.iter().take(16).position(|byte| *byte == b':')?;
    let word = rest.get(..length)?;
    let severity = match word.to_ascii_lowercase().as_slice() {
        b"error" => Severity::ERROR,
        b"warning" => Severity::WARN,
        b"fatal" | b"fatal error" | b"panic" => Severity::FATAL,
        b"critical" => Severity::CRITICAL,
        _ => return None,
    };
    let colon = at + length + 1;
    matches!(line.get(colon), None | Some(b' ')).then_some(NamedTrouble { program, pid, severity, word })
}

/// `npm warn text`, `npm ERR! text`: what a package manager prints on a console.
fn package_manager(line: &[u8]) -> Option<NamedTrouble<'_>> {
    let rest = line.strip_prefix(b"npm ")?;
    let length = rest.iter().position(|byte| *byte == b' ').unwrap_or(rest.len());
    let word = rest.get(..length)?;
    let severity = match word {
        b"error" | b"ERR!" => Severity::ERROR,
        b"warn" | b"WARN" => Severity::WARN,
        b"notice" => Severity::NOTICE,
        _ => return None,
    };
    Some(NamedTrouble { program: b"npm", pid: None, severity, word })
}

/// `error: text`, `fatal: text`, `[WARNING] text`, `tank.c:12:3: error: text`: a level at the start of a line, or behind a place in
/// a file, as compilers and many tools print it. Gives severity and word.
pub(super) fn level_first(line: &[u8]) -> Option<(Severity, &[u8])> {
    if let Some(inner) = line.strip_prefix(b"[") {
        let word = inner.get(..inner.iter().take(12).position(|byte| *byte == b']')?)?;
        return Severity::from_long_word(word).map(|severity| (severity, word));
    }
    let mut rest = line;
    // Up to a path, a line and a column in front.
    for _ in 0..4 {
        let length = rest.iter().take(200).position(|byte| *byte == b':')?;
        let word = rest.get(..length)?;
        let severity = match word.to_ascii_lowercase().as_slice() {
            b"error" => Some(Severity::ERROR),
            b"warning" => Some(Severity::WARN),
            b"fatal" | b"fatal error" => Some(Severity::FATAL),
            _ => None,
        };
        let behind = rest.get(length + 1..)?;
        if let Some(severity) = severity.filter(|_| matches!(behind.first(), None | Some(b' '))) {
            return Some((severity, word));
        }
        let is_place =
            !word.is_empty() && !word.contains(&b' ') && (word.contains(&b'.') || word.iter().all(u8::is_ascii_digit));
        if !is_place {
            return None;
        }
        rest = behind.trim_ascii_start();
    }
    None
}

fn is_name_byte(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'_' | b'-' | b'/' | b'+')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_levels_are_read() {
        let found = read(b"feederctl[99]: error: no valve 3").unwrap();
        assert_eq!((found.program, found.pid, found.severity), (&b"feederctl"[..], Some(99), Severity::ERROR));
        assert_eq!(read(b"dpkg: warning: files list missing").unwrap().severity, Severity::WARN);
        assert_eq!(read(b"npm ERR! code 1").unwrap().severity, Severity::ERROR);
        assert_eq!(level_first(b"tank.c:12:3: fatal error: no header").unwrap().0, Severity::FATAL);
        assert_eq!(level_first(b"[WARNING] slow").unwrap().0, Severity::WARN);
        assert_eq!(level_first(b"the error: text"), None);
        for text in ["error: alone", "  indented: error: x", "a b: error: x", "x: errors: 3", "x:error: y", ""] {
            assert_eq!(read(text.as_bytes()), None, "{text}");
        }
    }
}
