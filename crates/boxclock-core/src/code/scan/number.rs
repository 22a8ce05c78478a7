//! Which numbers are codes, and of which family: by their shape, by the words in front, by what stands around them.

use super::words::{Context, context, is_joint, near_before};
use super::{Platform, is_word};
use crate::code::family::state_number;
use crate::code::lookup::{narrow, vendor};
use crate::code::{Code, Family, catalogue, user};

/// How far before a number a word may stand that says whose number it is.
const NEAR: usize = 64;

/// Where Kerberos libraries put their error numbers in 32 bits (krb5 error table, base -1765328384).
const KERBEROS_BASE: i64 = -1_765_328_384;

/// The code that a number with a word, a sign or `0x` in front is, and where it really starts.
pub(super) fn number(text: &[u8], start: usize, end: usize, platform: Platform) -> Option<(usize, Code)> {
    let word = text.get(start..end)?;
    let before = start.checked_sub(1).and_then(|at| text.get(at)).copied();
    // Most numbers are joined to no word: parts of versions, addresses, dates, paths.
    if !before.is_none_or(|before| is_joint(before) || matches!(before, b'{' | b',' | b'|' | b'\t' | b'<')) {
        return None;
    }
    // Part of a version, an address, a date, a path or a GUID.
    let goes_on = matches!(text.get(end), Some(b'.' | b':' | b'-' | b'/' | b'%'))
        && text.get(end + 1).is_some_and(u8::is_ascii_alphanumeric);
    let hex = word.strip_prefix(b"0x").or(word.strip_prefix(b"0X"));
    if goes_on && !hex.is_some_and(|hex| hex.len() == 8) {
        return service_status(text, start, end, word).map(|code| (start, code));
    }
    if let Some(hex) = hex {
        let code = hexadecimal(text, start, hex, platform)?;
        return Some((start, code));
    }
    if word.len() == 5 && context(text, start) == Some(Context::SqlState) {
        return state_number(word).map(|number| (start, Code { family: Family::SqlState, number }));
    }
    if word.iter().all(u8::is_ascii_digit) {
        return decimal(text, start, end, before, platform).or_else(|| bare_hexadecimal(text, start, word));
    }
    bare_hexadecimal(text, start, word)
}

/// Numbers that are codes because of the place where they stand, without a word in front.
pub(super) fn in_its_place(text: &[u8], start: usize, end: usize) -> Option<Code> {
    let before = start.checked_sub(1).and_then(|at| text.get(at)).copied()?;
    let word = &text[start..end];
    match (before, word.len()) {
        // `port 50022:11: disconnected by user`
        (b':', 1 | 2) if text.get(end) == Some(&b':') && near_before(text, start, NEAR, b"disconnect") => {
            let number = digits_value(word)? as u32;
            known(Family::Ssh, number)
        }
        // `Note: 1: 1402 2: HKEY…`: many numbers of these are of no account, so only what is explained.
        (b' ', 4) if text[..start].ends_with(b"Note: 1: ") => explained(Family::Msi, digits_value(word)? as u32),
        // `550 5.1.1 no such user`: a reply and its long form, of one class.
        (b' ' | b':' | b'"', 3) if text.get(end) == Some(&b' ') && enhanced(text.get(end + 1..)?, word[0]) => {
            known(Family::Smtp, digits_value(word)? as u32)
        }
        // `ERROR:  42P01: relation …`
        (b' ', 5) if text.get(end) == Some(&b':') && text[..start].ends_with(b":  ") => {
            known(Family::SqlState, state_number(word)?)
        }
        _ => None,
    }
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

fn known(family: Family, number: u32) -> Option<Code> {
    let code = Code { family, number };
    catalogue::entry(code).map(|_| code)
}

fn explained(family: Family, number: u32) -> Option<Code> {
    let code = Code { family, number };
    catalogue::entry(code).filter(|row| row.is_explained()).map(|_| code)
}

fn digits_value(word: &[u8]) -> Option<i64> {
    (word.len() <= 10).then(|| word.iter().fold(0_i64, |value, byte| value * 10 + i64::from(byte - b'0')))
}

fn hex_value(digits: &[u8]) -> Option<u64> {
    let good = (1..=16).contains(&digits.len()) && digits.iter().all(u8::is_ascii_hexdigit);
    let text = std::str::from_utf8(digits).ok().filter(|_| good)?;
    u64::from_str_radix(text, 16).ok()
}

/// The family of a full 32-bit value: it has the shape of an HRESULT or of an NTSTATUS, or is in a catalogue.
fn wide_family(number: u32) -> Option<Family> {
    for family in [Family::Hresult, Family::NtStatus] {
        let code = Code { family, number };
        if number > 1 && (catalogue::entry(code).is_some() || user::entry(code).is_some()) {
            return Some(family);
        }
    }
    match number >> 28 {
        // 0xC…: error severity; facilities in use are small.
        0xC if (number >> 16) & 0xFFF < 0x100 => Some(Family::NtStatus),
        // 0xD…: such a status as a component result.
        0xD if (number >> 16) & 0xFFF < 0x100 => Some(Family::Hresult),
        // 0x8…: failure; the two reserved bits below are zero in real codes, facilities in use are below 256.
        0x8 if (number >> 16) & 0xFFF < 0x100 => Some(Family::Hresult),
        _ => None,
    }
}

fn wide(number: u32) -> Option<Code> {
    Some(Code { family: wide_family(number)?, number })
}

/// Digits behind `0x`.
fn hexadecimal(text: &[u8], start: usize, digits: &[u8], platform: Platform) -> Option<Code> {
    let value = hex_value(digits)?;
    if digits.len() > 8 {
        // A code that was widened to 64 bits: with its sign it shows by itself, else the words must say so.
        let number = narrow(value).filter(|number| *number >= 0x8000_0000)?;
        let signed = value >> 32 != 0;
        return (signed || context(text, start).is_some()).then(|| wide(number)).flatten();
    }
    let number = value as u32;
    if digits.len() == 8
        && number >= 0x8000_0000
        && let Some(code) = wide(number)
    {
        return Some(code);
    }
    let context = context(text, start)?;
    if context == Context::Stop {
        return Some(Code { family: Family::Stop, number });
    }
    if context == Context::Wait {
        return (number <= 0xFFFF).then_some(Code { family: Family::Wait, number });
    }
    if digits.len() == 8 && number <= 1 && context.is_failure_word() {
        return Some(Code { family: Family::Hresult, number });
    }
    if digits.len() == 8 && wide_family(number).is_some() {
        return wide(number);
    }
    if context.is_failure_word() && near_before(text, start, NEAR, b"kerberos") {
        return known(Family::Kerberos, number);
    }
    if context.is_failure_word() && number <= 0xFFFF { small(context, number, platform) } else { None }
}

/// Eight or sixteen hexadecimal digits without `0x`, where a code word stands in front.
fn bare_hexadecimal(text: &[u8], start: usize, word: &[u8]) -> Option<(usize, Code)> {
    let value = hex_value(word).filter(|_| matches!(word.len(), 8 | 16))?;
    let number = narrow(value).filter(|number| *number >= 0x8000_0000)?;
    let named = context(text, start).is_some_and(Context::is_failure_word);
    Some((start, named.then(|| wide(number)).flatten()?))
}

fn decimal(text: &[u8], start: usize, end: usize, before: Option<u8>, platform: Platform) -> Option<(usize, Code)> {
    // Most numbers stand behind something that joins them to no word.
    if !before.is_some_and(is_joint) {
        return None;
    }
    let word = &text[start..end];
    let sign = before == Some(b'-') && !start.checked_sub(2).and_then(|at| text.get(at)).copied().is_some_and(is_word);
    let value = digits_value(word)?;
    if sign && value > 0x1000_0000 {
        if let Ok(number) = u32::try_from(-value - KERBEROS_BASE)
            && number < 256
        {
            return Some((start - 1, Code { family: Family::Kerberos, number }));
        }
        let number = i32::try_from(-value).ok()?.cast_unsigned();
        return Some((start - 1, wide(number)?));
    }
    let from = if sign { start - 1 } else { start };
    worded(text, from, start, end, value, platform).map(|code| (from, code))
}

/// A decimal behind words. `from` is where it starts with its sign, `start` without.
fn worded(text: &[u8], from: usize, start: usize, end: usize, value: i64, platform: Platform) -> Option<Code> {
    let context = context(text, from)?;
    let number = u32::try_from(value).ok()?;
    let rest = &text[end..];
    let negative = from < start;
    match context {
        Context::SqlCode => return (number > 0).then_some(Code { family: Family::Db2, number }),
        Context::Msg if rest.starts_with(b", Level") => return Some(Code { family: Family::MsSql, number }),
        Context::Msg => return None,
        Context::Said if number >= 400 => return known(Family::Smtp, number),
        Context::Said => return None,
        Context::Sip => return (100..=699).contains(&number).then_some(Code { family: Family::Sip, number }),
        Context::Wait => return (number <= 0xFFFF).then_some(Code { family: Family::Wait, number }),
        Context::Rcode => return known(Family::Dns, number),
        Context::Alert => {
            let secure = near_before(text, from, NEAR, b"ssl") || near_before(text, from, NEAR, b"tls");
            return secure.then(|| known(Family::Tls, number)).flatten();
        }
        Context::SqlState => {
            let number = state_number(&text[start..end])?;
            return Some(Code { family: Family::SqlState, number });
        }
        Context::Returned | Context::Error | Context::Status if counts_something(rest) => return None,
        _ => {}
    }
    if number >= 0x8000_0000 {
        return wide(number);
    }
    if context.is_failure_word()
        && let Some(code) = by_neighbours(text, from, rest, number)
    {
        return Some(code);
    }
    // `-1` is no more than "it failed"; other small negatives are error numbers of Unix, wherever they come from.
    if negative {
        let errno = Family::errno_of(platform);
        return (number > 1 && context != Context::Exit).then(|| known(errno, number)).flatten();
    }
    small(context, number, platform)
}

/// What is next to a number behind `error` says whose number it is.
fn by_neighbours(text: &[u8], from: usize, rest: &[u8], number: u32) -> Option<Code> {
    if let Some(code) = user::entry(Code { family: Family::User, number }) {
        return Some(code.code);
    }
    // `Error: 18456, Severity: 14, State: 8.`
    if rest.starts_with(b", Severity:") {
        return Some(Code { family: Family::MsSql, number });
    }
    // `ERROR 1045 (28000): Access denied`
    if let [b' ', b'(', state @ ..] = rest
        && state.get(5) == Some(&b')')
        && state_number(&state[..5]).is_some()
    {
        return Some(Code { family: Family::MySql, number });
    }
    // `Product: … -- Error 1722. There is a problem`, `DEBUG: Error 2826:`, `Info 1603.`
    let lead = text.get(..from)?.strip_suffix(b"Error ").or(text.get(..from)?.strip_suffix(b"Info "));
    let sentence = matches!(rest, [b'.' | b':', b' ' | b'\r', ..] | [b'.' | b':']);
    if (1000..3000).contains(&number)
        && sentence
        && lead.is_some_and(|lead| lead.is_empty() || lead.ends_with(b"-- ") || lead.ends_with(b"DEBUG: "))
    {
        return Some(Code { family: Family::Msi, number });
    }
    let near = |word: &[u8]| near_before(text, from, NEAR, word);
    if number > 0 && (near(b"ldap") || near(b"RESULT tag=")) {
        return known(Family::Ldap, number);
    }
    if near(b"kerberos") || near(b"krb5") {
        return known(Family::Kerberos, number);
    }
    // `Sub-process /usr/bin/dpkg returned an error code (1)`
    (number <= 2 && (near(b"process") || near(b"script"))).then_some(Code { family: Family::Exit, number })
}

/// Whether a word follows that the number counts: `returned 5 rows`. A number with a point is no code either.
fn counts_something(rest: &[u8]) -> bool {
    match rest {
        [b' ', word @ ..] => {
            let length = word.iter().take_while(|byte| byte.is_ascii_lowercase()).count();
            // `error 5 while`, `error 5 at`: what goes on is no thing that is counted.
            const GOING_ON: [&[u8]; 22] = [
                b"while",
                b"at",
                b"on",
                b"in",
                b"for",
                b"from",
                b"when",
                b"after",
                b"during",
                b"and",
                b"but",
                b"from",
                b"occurred",
                b"opening",
                b"reading",
                b"writing",
                b"to",
                b"returned",
                b"received",
                b"was",
                b"has",
                b"by",
            ];
            // `status=503 duration=12ms`: the next pair, not a thing that is counted.
            let pair = matches!(word.get(length), Some(b'=' | b':'));
            length > 0 && !pair && !GOING_ON.contains(&&word[..length])
        }
        [b'.' | b',', next, ..] => next.is_ascii_digit(),
        [b'%' | b'/', ..] => true,
        _ => false,
    }
}

fn small(context: Context, number: u32, platform: Platform) -> Option<Code> {
    let errno = Family::errno_of(platform);
    let is = |family| catalogue::entry(Code { family, number }).is_some();
    let has_words = |family| explained(family, number).is_some();
    let unix = platform != Platform::Windows;
    let family = match context {
        Context::Errno if is(errno) => errno,
        Context::Signal if (1..=64).contains(&number) => Family::Signal,
        Context::Http if (100..=599).contains(&number) => Family::Http,
        Context::Status if (100..=599).contains(&number) => Family::Http,
        Context::Exit | Context::Status if number <= 255 && unix => Family::Exit,
        Context::Stop if is(Family::Stop) => Family::Stop,
        Context::Stop | Context::Signal | Context::Http | Context::Errno => return None,
        // What is left are general words: the system that wrote the line decides, then what is known.
        _ if number == 0 => Family::Exit,
        // `rc=1`: a program's own exit, hardly "not permitted".
        Context::Returned if number <= 2 && unix => Family::Exit,
        _ if unix && is(errno) => errno,
        _ if (400..=599).contains(&number) && is(Family::Http) && !has_words(Family::Win32) => Family::Http,
        _ if unix && has_words(Family::Win32) => Family::Win32,
        _ if number <= 255 && unix => Family::Exit,
        _ if platform == Platform::Windows && number <= 0xFFFF => Family::Win32,
        _ => return None,
    };
    Some(Code { family, number })
}

/// `status=203/EXEC`, `status=11/SEGV`: the service manager's own form, where the word behind the slash says which
/// list the number is from.
fn service_status(text: &[u8], start: usize, end: usize, word: &[u8]) -> Option<Code> {
    let named = text.get(end) == Some(&b'/') && text.get(end + 1).is_some_and(u8::is_ascii_uppercase);
    if !named || !text.get(..start)?.ends_with(b"status=") {
        return None;
    }
    let number = u32::try_from(digits_value(word).filter(|_| word.iter().all(u8::is_ascii_digit))?).ok()?;
    let name_length = text.get(end + 1..)?.iter().take_while(|byte| byte.is_ascii_uppercase()).count();
    let signal = [b"SIG", text.get(end + 1..end + 1 + name_length)?].concat();
    let family = match catalogue::by_name(&signal) {
        Some(entry) if entry.code.number == number => Family::Signal,
        _ => Family::Exit,
    };
    Some(Code { family, number })
}

/// `SQL0911N` and its kind, which start with capitals.
pub(super) fn vendor_word(word: &[u8]) -> Option<Code> {
    vendor(word).filter(|code| code.family == Family::Db2)
}
