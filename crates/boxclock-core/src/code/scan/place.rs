//! Numbers that are codes because of the place where they stand: between the brackets of a driver, behind the times of a
//! proxy, in front of a mail server's words.

use super::number::{NEAR, digits_value, explained, known};
use super::words::near_before;
use crate::code::family::state_number;
use crate::code::{Code, Family, catalogue};

/// Numbers that are codes because of the place where they stand, without a word in front. A new place must pass
/// `sieve::may_be_number` as well.
pub(super) fn in_its_place(text: &[u8], start: usize, end: usize) -> Option<Code> {
    // The start of a text is as good as a blank.
    let before = start.checked_sub(1).and_then(|at| text.get(at)).copied().unwrap_or(b' ');
    let word = &text[start..end];
    match (before, word.len()) {
        // `[42S02][208][driver]…`: what drivers of databases write: the state, then the server's own number.
        (b'[', 5) if text[end..].starts_with(b"][") => known(Family::SqlState, state_number(word)?),
        (b'[', 1..=6) if text[end..].starts_with(b"][") && behind_state(&text[..start]) => {
            native(&text[end + 2..], u32::try_from(digits_value(word)?).ok()?)
        }
        // `WSAETIMEDOUT(10060)`, `ERROR_SHARING_VIOLATION (32)` where the name says no more than whose number it is.
        (b'(', 1..=5) if text.get(end) == Some(&b')') && behind_symbol(&text[..start.saturating_sub(1)]) => {
            known(Family::Win32, u32::try_from(digits_value(word)?).ok()?)
        }
        // `did not start: %%1053`: a reference to a message of the system.
        (b'%', 3..=5) if text[..start].ends_with(b"%%") && behind_colon(&text[..start.saturating_sub(2)]) => {
            known(Family::Win32, u32::try_from(digits_value(word)?).ok()?)
        }
        // `port 50022:11: disconnected by user`
        (b':', 1 | 2) if text[end..].starts_with(b": ") && near_before(text, start, NEAR, b"disconnect") => {
            let number = digits_value(word)? as u32;
            known(Family::Ssh, number)
        }
        // `Note: 1: 1402 2: HKEY…`: many numbers of these are of no account, so only what is explained.
        (b' ', 4) if text[..start].ends_with(b"Note: 1: ") => explained(Family::Msi, digits_value(word)? as u32),
        // `554 SMTP synchronization error`
        (b' ', 3) if start == 0 && text[end..].starts_with(b" SMTP") => known(Family::Smtp, digits_value(word)? as u32),
        // `550 5.1.1 no such user`: a reply and its long form, of one class.
        (b' ' | b':' | b'"', 3) if text.get(end) == Some(&b' ') && enhanced(text.get(end + 1..)?, word[0]) => {
            known(Family::Smtp, digits_value(word)? as u32)
        }
        // `ERROR:  42P01: relation …`
        (b' ', 5) if text.get(end) == Some(&b':') && text[..start].ends_with(b":  ") => {
            known(Family::SqlState, state_number(word)?)
        }
        // `keeper@tanks 42P01 STATEMENT:  select …`: the prefix of a database's log.
        (b' ', 5) if capitals_and_colon(text.get(end..)?) => known(Family::SqlState, state_number(word)?),
        // `,ERROR,23505,"duplicate key …`: the same log as values.
        (b',', 5) if text.get(end) == Some(&b',') && ends_with_level(&text[..start.saturating_sub(1)]) => {
            known(Family::SqlState, state_number(word)?)
        }
        // `event 7000: param1=Print Spooler, param2=%%1053`: the service manager's reference to a message of the system. Other
        // providers refer to lists of their own in this way.
        (b'%', 1..=5) if text[..start].ends_with(b"=%%") && text.starts_with(b"event 70") => {
            known(Family::Win32, digits_value(word)? as u32)
        }
        (b'(', 1..=3) if text.get(end) == Some(&b')') && errno_says(&text[end + 1..], digits_value(word)? as u32) => {
            known(Family::Errno, digits_value(word)? as u32)
        }
        (b'(', 1..=3) if text.get(end) == Some(&b')') => in_parentheses(text, start, digits_value(word)? as u32),
        // `f b/<NOSRV> 0/-1/-1/-1/0 503 217 - - SC--`: behind the times of a proxy's log.
        (b' ', 3) if text.get(end) == Some(&b' ') && behind_times(&text[..start.saturating_sub(1)]) => {
            known(Family::Http, digits_value(word)? as u32)
        }
        _ => None,
    }
}

/// Whether a text ends with `[42S02][`.
fn behind_state(text: &[u8]) -> bool {
    let Some(state) = text.strip_suffix(b"][").and_then(|text| text.last_chunk::<6>()) else { return false };
    state[0] == b'[' && state_number(&state[1..]).is_some()
}

/// The server's own number, by the name of its driver.
fn native(driver: &[u8], number: u32) -> Option<Code> {
    let driver = &driver[..driver.len().min(80)];
    let says = |word: &[u8]| driver.windows(word.len()).any(|window| window.eq_ignore_ascii_case(word));
    let family = if says(b"sql server") {
        Family::MsSql
    } else if says(b"mysql") || says(b"mariadb") {
        Family::MySql
    } else {
        return None;
    };
    (number > 0).then_some(Code { family, number })
}

/// Whether a text ends with a symbol of the Windows headers.
fn behind_symbol(text: &[u8]) -> bool {
    let text = text.strip_suffix(b" ").unwrap_or(text);
    let length = text
        .iter()
        .rev()
        .take(40)
        .take_while(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit() || **byte == b'_')
        .count();
    let symbol = &text[text.len() - length..];
    // Names that the catalogues have are codes themselves.
    let prefix = symbol.starts_with(b"WSA") || symbol.starts_with(b"ERROR_");
    prefix && length > 5 && catalogue::by_name(symbol).is_none()
}

/// Whether a text ends with a colon or a full stop, perhaps with blanks and line ends behind it.
fn behind_colon(text: &[u8]) -> bool {
    matches!(text.trim_ascii_end().last(), Some(b':' | b'.'))
}

/// ` STATEMENT:  `: one word in capitals, as databases name the parts of a message.
fn capitals_and_colon(rest: &[u8]) -> bool {
    let Some(rest) = rest.strip_prefix(b" ") else { return false };
    let length = rest.iter().take(12).take_while(|byte| byte.is_ascii_uppercase()).count();
    length >= 3 && rest[length..].starts_with(b":  ")
}

/// Whether a text ends with a level of PostgreSQL, behind a comma.
fn ends_with_level(text: &[u8]) -> bool {
    const LEVELS: [&[u8]; 9] =
        [b",LOG", b",INFO", b",NOTICE", b",WARNING", b",ERROR", b",FATAL", b",PANIC", b",DEBUG1", b",DEBUG2"];
    LEVELS.iter().any(|level| text.ends_with(level))
}

/// Whether a text ends with five times parted by slashes: `0/-1/-1/-1/0`.
fn behind_times(text: &[u8]) -> bool {
    let of_times = |byte: &&u8| matches!(**byte, b'0'..=b'9' | b'/' | b'-' | b'+');
    let slashes = text.iter().rev().take(40).take_while(of_times).filter(|byte| **byte == b'/').count();
    slashes == 4
}

/// A number in parentheses at the end of what failed: `curl: (7) …`, `ldap_bind: Invalid credentials (49)`,
/// `connect: Connection refused (111)`.
fn in_parentheses(text: &[u8], start: usize, number: u32) -> Option<Code> {
    let before = &text[..start.saturating_sub(1)];
    if before.ends_with(b"curl: ") {
        return Some(Code { family: Family::Exit, number });
    }
    if before.starts_with(b"ldap_") || near_before(text, start, NEAR, b" ldap_") {
        return known(Family::Ldap, number);
    }
    // `ERROR 2002 (HY000): Can't connect … (111)`
    let of_client = before.starts_with(b"ERROR 2") && near_before(text, start, 200, b"(hy000)");
    (of_client || says_errno(before, number)).then(|| known(Family::Errno, number)).flatten()
}

/// What the C library of Linux says of the error numbers met most (strerror(3)).
const SAID: [(u32, &[u8]); 24] = [
    (1, b"Operation not permitted"),
    (2, b"No such file or directory"),
    (4, b"Interrupted system call"),
    (5, b"Input/output error"),
    (11, b"Resource temporarily unavailable"),
    (12, b"Cannot allocate memory"),
    (13, b"Permission denied"),
    (16, b"Device or resource busy"),
    (17, b"File exists"),
    (20, b"Not a directory"),
    (21, b"Is a directory"),
    (22, b"Invalid argument"),
    (24, b"Too many open files"),
    (28, b"No space left on device"),
    (30, b"Read-only file system"),
    (32, b"Broken pipe"),
    (98, b"Address already in use"),
    (99, b"Cannot assign requested address"),
    (101, b"Network is unreachable"),
    (103, b"Software caused connection abort"),
    (104, b"Connection reset by peer"),
    (110, b"Connection timed out"),
    (111, b"Connection refused"),
    (113, b"No route to host"),
];

/// Whether a text ends with what the C library says of an error number, and a blank.
fn says_errno(before: &[u8], number: u32) -> bool {
    let Some(before) = before.strip_suffix(b" ") else { return false };
    let same =
        |words: &[u8]| before.len() >= words.len() && before[before.len() - words.len()..].eq_ignore_ascii_case(words);
    SAID.iter().any(|(known, words)| *known == number && same(words))
}

/// Whether a text starts with what the C library says of an error number: `(111)Connection refused`, `(111): Connection refused`.
fn errno_says(rest: &[u8], number: u32) -> bool {
    let rest = rest.strip_prefix(b":").unwrap_or(rest);
    let rest = rest.strip_prefix(b" ").unwrap_or(rest);
    SAID.iter().any(|(known, words)| *known == number && rest.starts_with(words))
}

/// `5.1.1` of a class.
fn enhanced(text: &[u8], class: u8) -> bool {
    let digits = |from: usize| {
        text.get(from..).unwrap_or_default().iter().take(4).take_while(|byte| byte.is_ascii_digit()).count()
    };
    let first = digits(2);
    matches!(class, b'2' | b'4' | b'5')
        && text.first() == Some(&class)
        && text.get(1) == Some(&b'.')
        && (1..=3).contains(&first)
        && text.get(2 + first) == Some(&b'.')
        && (1..=3).contains(&digits(3 + first))
}
