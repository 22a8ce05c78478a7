//! Codes that are names: symbols of headers, exceptions, reasons, and numbers with a vendor's letters in front.

use std::sync::LazyLock;

use super::number::vendor_word;
use super::words::near_before;
use super::{Platform, is_word};
use crate::code::lookup::vendor;
use crate::code::{Catalogues, Code, Family, Form, catalogue};

/// Names that are ordinary words as well: a code only behind "reason", or in the list of events of a cluster.
const ORDINARY: [&str; 4] = ["Evicted", "Unhealthy", "PodInitializing", "ContainerCreating"];

/// See [`LIKELY`].
pub(super) type Likely = [u64; 1024];

/// A bit for each name by its ends and its length: nearly every word of every log that starts with a capital is asked, and looking
/// into the table of names would miss the processor's cache each time.
pub(super) static LIKELY: LazyLock<Box<Likely>> = LazyLock::new(|| {
    let mut bits = Box::new([0; 1024]);
    for name in catalogue::names_in_text() {
        let at = likely_at(name);
        bits[at / 64] |= 1 << (at % 64);
    }
    bits
});

/// The place of the bit of a word, which has two bytes at least.
#[inline]
pub(super) fn likely_at(word: &[u8]) -> usize {
    let [first, second, .., last] = word else { return 0 };
    let ends = usize::from(*first) | usize::from(*second) << 5 | usize::from(*last) << 8;
    (ends ^ word.len() << 11) & 0xFFFF
}

/// Whether a word could be a name of the catalogue.
#[inline]
fn is_likely(word: &[u8]) -> bool {
    let at = likely_at(word);
    LIKELY[at / 64] >> (at % 64) & 1 == 1
}

/// The code that a word with a capital in front is, and where it ends.
pub(super) fn named(text: &[u8], start: usize, end: usize, platform: Platform) -> Option<(usize, Code)> {
    let word = &text[start..end];
    if word.len() < 3 {
        return None;
    }
    if word.iter().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit() || *byte == b'_') {
        return symbol(text, start, word, platform).or_else(|| vendor_word(word)).map(|code| (end, code));
    }
    if let Some(found) = in_a_sentence(text, end, word) {
        return Some(found);
    }
    if word.len() < 5 || !is_likely(word) {
        return None;
    }
    // `at java.lang.Integer.parseInt(…)`, `NumberFormatException.java:67`: a name in a path of names.
    if text.get(end) == Some(&b'.') && text.get(end + 1).is_some_and(u8::is_ascii_lowercase) {
        return None;
    }
    // A line of source in a trace says what could be raised.
    if text[..start].ends_with(b"raise ") || text[..start].ends_with(b"except ") {
        return None;
    }
    let row = catalogue::by_name(word).filter(|row| row.code.family.form() == Form::Name)?;
    if ORDINARY.contains(&row.name)
        && !near_before(text, start, 12, b"reason")
        && !near_before(text, start, 12, b"warning ")
    {
        return None;
    }
    // `System.TimeoutException` is none of Java's.
    let dotnet = text[..start].ends_with(b"System.") || text[..start].ends_with(b"System.IO.");
    match row.code.family {
        Family::Java if dotnet => catalogue::by_name_in(Family::DotNet, row.name).map(|row| (end, row.code)),
        _ => Some((end, row.code)),
    }
}

/// A symbolic name such as `ENOSPC` or `STATUS_ACCESS_VIOLATION`.
fn symbol(text: &[u8], start: usize, word: &[u8], platform: Platform) -> Option<Code> {
    // Programs on Unix that speak the protocols of Windows write `NT_STATUS_ACCESS_DENIED`.
    let word = word.strip_prefix(b"NT_").filter(|rest| rest.starts_with(b"STATUS_")).unwrap_or(word);
    if !is_likely(word) {
        return None;
    }
    let code = catalogue::by_name(word)?.code;
    // These are words that logs shout.
    if code.family == Family::Dns
        && !matches!(word, b"NXDOMAIN" | b"SERVFAIL" | b"FORMERR")
        && !text[..start].ends_with(b"status: ")
    {
        return None;
    }
    let errno = Family::errno_of(platform);
    if code.family != Family::Errno || errno == Family::Errno {
        return Some(code);
    }
    let name = std::str::from_utf8(word).ok()?;
    Some(catalogue::by_name_in(errno, name).map_or(code, |row| row.code))
}

/// Names that only a sentence makes codes: `Failed with result 'oom-kill'`, `Received fatal alert: bad_certificate`.
fn in_a_sentence(text: &[u8], end: usize, word: &[u8]) -> Option<(usize, Code)> {
    let (lead, family): (&[u8], Family) = match word {
        b"Failed" => (b" with result '", Family::Result),
        b"Received" => (b" fatal alert: ", Family::Tls),
        _ => return None,
    };
    let from = end + lead.len();
    let rest = text.get(end..)?.strip_prefix(lead)?;
    let length = rest.iter().take(40).take_while(|byte| is_word(**byte) || **byte == b'-').count();
    let name = std::str::from_utf8(&rest[..length]).ok()?;
    catalogue::by_name_in(family, name).map(|row| (from + length, row.code))
}

/// `ORA-00942`, and codes of the user's catalogues: letters, a hyphen, digits.
pub(super) fn hyphenated(text: &[u8], start: usize, end: usize, own: &Catalogues) -> Option<(Code, usize)> {
    // Part of a longer name: `X-ORA-00942`.
    if start > 0 && text[start - 1] == b'-' {
        return None;
    }
    if let Some((code, length)) = own.shaped(&text[start..]) {
        return Some((code, start + length));
    }
    let digits = text[end + 1..].iter().take(8).take_while(|byte| byte.is_ascii_digit()).count();
    let whole = end + 1 + digits;
    if text.get(whole).copied().is_some_and(|byte| is_word(byte) || byte == b'-') {
        return None;
    }
    vendor(&text[start..whole]).map(|code| (code, whole))
}
