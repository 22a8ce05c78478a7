//! Which numbers are codes, and of which family: by their shape, by the words in front, by what stands around them.

use super::words::{Context, context, is_joint, near_before};
use super::{Platform, is_word};
use crate::code::family::state_number;
use crate::code::lookup::{narrow, vendor};
use crate::code::{Catalogues, Code, Family, catalogue};

/// How far before a number a word may stand that says whose number it is.
pub(super) const NEAR: usize = 64;

/// Where Kerberos libraries put their error numbers in 32 bits (krb5 error table, base -1765328384).
const KERBEROS_BASE: i64 = -1_765_328_384;

/// The code that a number with a word, a sign or `0x` in front is, and where it really starts.
pub(super) fn number(
    text: &[u8],
    start: usize,
    end: usize,
    platform: Platform,
    own: &Catalogues,
) -> Option<(usize, Code)> {
    let word = text.get(start..end)?;
    let before = start.checked_sub(1).and_then(|at| text.get(at)).copied();
    // Most numbers are joined to no word: parts of versions, addresses, dates, paths.
    if !before.is_none_or(|before| is_joint(before) || matches!(before, b'{' | b',' | b'|' | b'\t' | b'<')) {
        return None;
    }
    let hex = word.strip_prefix(b"0x").or(word.strip_prefix(b"0X"));
    // `[mem 0xc0000000-0xeebfffff]`: a range of addresses.
    if hex.is_some()
        && (text[end..].starts_with(b"-0x") || text[..start].ends_with(b"f-") || text[..start].ends_with(b"0-"))
    {
        return None;
    }
    // Part of a version, an address, a date, a path or a GUID.
    let goes_on = matches!(text.get(end), Some(b'.' | b':' | b'-' | b'/' | b'%'))
        && text.get(end + 1).is_some_and(u8::is_ascii_alphanumeric);
    // `-1765328378/Client not found` is none of these.
    let goes_on = goes_on && !(before == Some(b'-') && word.len() == 10 && text[end] == b'/');
    if goes_on && hex.is_none_or(|hex| hex.len() != 8) {
        return service_status(text, start, end, word).map(|code| (start, code));
    }
    if let Some(hex) = hex {
        let code = hexadecimal(text, start, hex, platform, own)?;
        return Some((start, code));
    }
    if word.len() == 5 && context(text, start) == Some(Context::SqlState) {
        return state_number(word).map(|number| (start, Code { family: Family::SqlState, number }));
    }
    if word.iter().all(u8::is_ascii_digit) {
        return decimal(text, start, end, before, platform, own).or_else(|| bare_hexadecimal(text, start, word, own));
    }
    bare_hexadecimal(text, start, word, own)
}

/// Whether a code is one by general words alone (`error`, `code`, `returned`, `status`), and of a list that any program may use.
pub(super) fn is_general(text: &[u8], start: usize, code: Code) -> bool {
    let open = matches!(code.family, Family::Win32 | Family::Exit | Family::Http) || code.family.is_errno();
    let general = || {
        let context = context(text, start);
        matches!(context, Some(Context::Error | Context::Code | Context::Returned | Context::Status))
    };
    open && code.number > 0 && general()
}

pub(super) fn known(family: Family, number: u32) -> Option<Code> {
    let code = Code { family, number };
    catalogue::entry(code).map(|_| code)
}

pub(super) fn explained(family: Family, number: u32) -> Option<Code> {
    let code = Code { family, number };
    catalogue::entry(code).filter(|row| row.is_explained()).map(|_| code)
}

pub(super) fn digits_value(word: &[u8]) -> Option<i64> {
    (word.len() <= 10 && word.iter().all(u8::is_ascii_digit))
        .then(|| word.iter().fold(0_i64, |value, byte| value * 10 + i64::from(byte - b'0')))
}

fn hex_value(digits: &[u8]) -> Option<u64> {
    let digit = |byte: &u8| char::from(*byte).to_digit(16).map(u64::from);
    let good = (1..=16).contains(&digits.len());
    good.then(|| digits.iter().try_fold(0_u64, |value, byte| Some(value << 4 | digit(byte)?))).flatten()
}

/// The family of a full 32-bit value: it has the shape of an HRESULT or of an NTSTATUS, or is in a catalogue.
fn wide_family(number: u32, own: &Catalogues) -> Option<Family> {
    for family in [Family::Hresult, Family::NtStatus] {
        let code = Code { family, number };
        if number > 1 && (catalogue::entry(code).is_some() || own.entry(code).is_some()) {
            return Some(family);
        }
    }
    match number >> 28 {
        // 0xC…: error severity; facilities in use are small.
        0xC if matches!((number >> 16) & 0xFFF, 0..=0x5F | 0xE0..=0xEF) => Some(Family::NtStatus),
        // 0xD…: such a status as a component result.
        0xD if (number >> 16) & 0xFFF < 0x100 => Some(Family::Hresult),
        // 0x8…: failure; the two reserved bits below are zero in real codes, facilities in use are below 256.
        0x8 if (number >> 16) & 0xFFF < 0x100 => Some(Family::Hresult),
        _ => None,
    }
}

fn wide(number: u32, own: &Catalogues) -> Option<Code> {
    Some(Code { family: wide_family(number, own)?, number })
}

/// Digits behind `0x`.
fn hexadecimal(text: &[u8], start: usize, digits: &[u8], platform: Platform, own: &Catalogues) -> Option<Code> {
    let value = hex_value(digits)?;
    if digits.len() > 8 {
        // A code that was widened to 64 bits: with its sign it shows by itself, else the words must say so.
        let number = narrow(value).filter(|number| *number >= 0x8000_0000)?;
        let signed = value >> 32 != 0;
        return (signed || context(text, start).is_some()).then(|| wide(number, own)).flatten();
    }
    let number = value as u32;
    // `[Exit status: FAILURE(0xE0000203)]`
    if digits.len() == 8 && number != 0 && text[..start].ends_with(b"FAILURE(") {
        return Some(
            wide(number, own)
                .unwrap_or(Code { family: if number > 0xFFFF { Family::Hresult } else { Family::Win32 }, number }),
        );
    }
    // On Unix words of hardware and addresses have the same shape: it must be a code that is known, or said to be one.
    let shaped = digits.len() == 8 && number >= 0x8000_0000;
    let is_code = |code: &Code| {
        !platform.is_unix()
            || catalogue::entry(*code).is_some_and(catalogue::Entry::is_explained)
            || own.entry(*code).is_some()
            || context(text, start).is_some_and(Context::is_failure_word)
    };
    if shaped && let Some(code) = wide(number, own).filter(is_code) {
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
    if digits.len() == 8 && wide_family(number, own).is_some() && (!platform.is_unix() || context.is_failure_word()) {
        return wide(number, own);
    }
    if context.is_failure_word() && near_before(text, start, NEAR, b"kerberos") {
        return known(Family::Kerberos, number);
    }
    if context.is_failure_word() && number <= 0xFFFF { small(context, number, platform) } else { None }
}

/// Eight or sixteen hexadecimal digits without `0x`, where a code word stands in front.
fn bare_hexadecimal(text: &[u8], start: usize, word: &[u8], own: &Catalogues) -> Option<(usize, Code)> {
    if !matches!(word.len(), 8 | 16) {
        return None;
    }
    let value = hex_value(word)?;
    let number = narrow(value).filter(|number| *number >= 0x8000_0000)?;
    let named = context(text, start).is_some_and(Context::is_failure_word);
    Some((start, named.then(|| wide(number, own)).flatten()?))
}

fn decimal(
    text: &[u8],
    start: usize,
    end: usize,
    before: Option<u8>,
    platform: Platform,
    own: &Catalogues,
) -> Option<(usize, Code)> {
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
        // Behind the word for it, it is one whatever its shape.
        let lead = text[..start - 1].trim_ascii_end();
        let lead = lead.strip_suffix(b"=").or(lead.strip_suffix(b":")).unwrap_or(lead).trim_ascii_end();
        let named = lead.len() >= 7 && lead[lead.len() - 7..].eq_ignore_ascii_case(b"hresult");
        let code = wide(number, own).or(named.then_some(Code { family: Family::Hresult, number }));
        return Some((start - 1, code?));
    }
    let from = if sign { start - 1 } else { start };
    worded(text, (from, start, end), value, platform, own).map(|code| (from, code))
}

/// A decimal behind words. `from` is where it starts with its sign, `start` without.
fn worded(
    text: &[u8],
    (from, start, end): (usize, usize, usize),
    value: i64,
    platform: Platform,
    own: &Catalogues,
) -> Option<Code> {
    let context = context(text, from)?;
    let number = u32::try_from(value).ok()?;
    let rest = &text[end..];
    let negative = from < start;
    match context {
        Context::Wait if negative => return None,
        // `[Errno -2] Name or service not known`: a resolver's own number.
        Context::Errno if negative && text[..from].ends_with(b"[Errno ") => return None,
        // `Sig[6].Value=…`: a place in a list.
        Context::Signal if text[..from].ends_with(b"[") => return None,
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
        Context::Returned | Context::Error | Context::Code | Context::Status if counts_something(rest) => return None,
        _ => {}
    }
    if number >= 0x8000_0000 {
        return wide(number, own);
    }
    if let Some(family) = of_a_tool(text, from, rest, number) {
        return family.map(|family| Code { family, number });
    }
    if context.is_failure_word()
        && let Some(code) = by_neighbours(text, from, rest, number, own)
    {
        return Some(code);
    }
    // `-1` is no more than "it failed"; other small negatives are error numbers of Unix, wherever they come from.
    if negative {
        let errno = Family::errno_of(platform);
        // `syscall=257 success=no exit=-13`: what the kernel's audit writes.
        let of_exit = context != Context::Exit || near_before(text, from, NEAR, b"syscall=");
        return (number > 1 && of_exit).then(|| known(errno, number)).flatten();
    }
    let platform =
        if matches!(context, Context::Errno | Context::Error) { named_platform(text, platform) } else { platform };
    small(context, number, platform)
}

/// The system that a line names, where it is another than the one that wrote it: `AIX: open failed, errno 52`.
fn named_platform(text: &[u8], platform: Platform) -> Platform {
    const NAMES: [(&[u8], Platform); 6] = [
        (b"AIX", Platform::Aix),
        (b"SunOS", Platform::Solaris),
        (b"Solaris", Platform::Solaris),
        (b"FreeBSD", Platform::Freebsd),
        (b"Darwin", Platform::Macos),
        (b"macOS", Platform::Macos),
    ];
    let named = NAMES.iter().find(|(name, _)| {
        let at = memchr::memmem::find(text, name);
        at.is_some_and(|at| !text.get(at + name.len()).is_some_and(u8::is_ascii_alphanumeric))
    });
    named.map_or(platform, |(_, platform)| *platform)
}

/// What is next to a number behind `error` says whose number it is.
fn by_neighbours(text: &[u8], from: usize, rest: &[u8], number: u32, own: &Catalogues) -> Option<Code> {
    if let Some(code) = own.entry(Code { family: Family::User, number }) {
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
    if near(b"RESULT tag=") || (number > 0 && near(b"ldap")) {
        return known(Family::Ldap, number);
    }
    if near(b"kerberos") || near(b"krb5") {
        return known(Family::Kerberos, number);
    }
    // `Sub-process /usr/bin/dpkg returned an error code (1)`
    (number <= 2 && (near(b"process") || near(b"script"))).then_some(Code { family: Family::Exit, number })
}

/// Tools that print codes of their own behind plain words; `Some(None)` where the number is of no list that is known.
#[allow(clippy::option_option, reason = "no tool; a tool whose numbers are not known; a tool with its family")]
fn of_a_tool(text: &[u8], from: usize, rest: &[u8], number: u32) -> Option<Option<Family>> {
    let before = &text[..from];
    // `npm error code 7`: the exit status of a script.
    if before.starts_with(b"npm ") && before.ends_with(b"code ") {
        return Some((number <= 255).then_some(Family::Exit));
    }
    // `RPC … gave 1722`
    if before.ends_with(b"gave ") {
        return Some(near_before(text, from, NEAR, b"rpc").then_some(Family::Win32));
    }
    // `make: *** [Makefile:2: all] Error 77`
    if before.ends_with(b"] Error ") && near_before(text, from, 200, b"*** [") {
        return Some(Some(Family::Exit));
    }
    // `rsync error: … (code 23) at main.c`
    if before.ends_with(b"(code ") && near_before(text, from, 200, b"rsync error") {
        return Some(Some(Family::Exit));
    }
    // `Verify return code: 18 (self-signed certificate)`: X.509, which is no family here.
    if before.ends_with(b"erify return code: ") {
        return Some(None);
    }
    // `Reason code "2"` has a list for each message; `segfault at 10 … error 4` is the processor's number.
    if before.ends_with(b"eason code \"")
        || (before.ends_with(b" error ") && near_before(text, from, 200, b"segfault at "))
    {
        return Some(None);
    }
    // `Action ended 2:14:59: CopyBridge. Return value 3.`
    if number <= 5 && before.ends_with(b"Return value ") && rest.first() == Some(&b'.') {
        return Some(Some(Family::Msi));
    }
    // `result: 32 No such object`, as the clients of a directory print it.
    if before == b"result: " && super::super::catalogue::said(Family::Ldap, number, rest) {
        return Some(Some(Family::Ldap));
    }
    None
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
        // `code=200, type="text/html"`: what went well is said with such numbers by web servers only.
        Context::Code if (200..=206).contains(&number) => Family::Http,
        Context::Exit | Context::Status | Context::Code if number <= 255 && unix => Family::Exit,
        Context::Stop if is(Family::Stop) => Family::Stop,
        Context::Stop | Context::Signal | Context::Http | Context::Errno => return None,
        // What is left are general words: the system that wrote the line decides, then what is known.
        // `error=0`: nothing is said.
        Context::Error | Context::Returned if number == 0 => return None,
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
