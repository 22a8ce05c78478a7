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
    let name = line.iter().take(64).take_while(|byte| is_name_byte(**byte)).count();
    let program = line.get(..name).filter(|name| name.first().is_some_and(u8::is_ascii_alphabetic) || name.starts_with(b"/"))?;
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
        for text in ["error: alone", "  indented: error: x", "a b: error: x", "x: errors: 3", "x:error: y", ""] {
            assert_eq!(read(text.as_bytes()), None, "{text}");
        }
    }
}
