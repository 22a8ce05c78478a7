//! Finding the codes in a text, fast enough for the index pass.
//!
//! A number is a code only where it looks like one by itself (`0x80070005`, `-2147024891`, `ENOSPC`) or where the
//! words in front of it make it one (`exit status 3`, `error: 1603`, `rc=13`). Ports, sizes, dates and ids are not.

use super::catalogue::{self, Family};
use super::{Code, Reading};
use wide::u8x16;

/// The kind of system that wrote a source, as far as it is known. Decides what a small number means.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Platform {
    /// Not known.
    #[default]
    Unknown,
    /// Linux and its relatives.
    Linux,
    /// Windows.
    Windows,
}

impl Platform {
    /// Reads `linux` or `windows`.
    pub fn parse(text: &str) -> Option<Self> {
        match text.to_ascii_lowercase().as_str() {
            "linux" | "unix" => Some(Self::Linux),
            "windows" => Some(Self::Windows),
            _ => None,
        }
    }

    /// Whether a family's numbers are this system's own.
    pub fn prefers(self, family: Family) -> bool {
        match family {
            Family::Win32 | Family::Hresult | Family::NtStatus | Family::Stop => self == Self::Windows,
            Family::Errno | Family::Signal | Family::Exit => self == Self::Linux,
            Family::Http => false,
        }
    }
}

/// A code found in a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Found {
    /// Where its text starts, in bytes.
    pub start: usize,
    /// Where its text ends.
    pub end: usize,
    /// What it is.
    pub code: Code,
}

impl Found {
    /// What the catalogue says of it.
    pub fn reading(&self) -> Reading {
        self.code.reading()
    }
}

/// Bytes that are looked at together.
const BLOCK: usize = 64;

/// Calls `found` for each code in `text`, in order.
///
/// This sees every byte of every log, and words end at places that no processor can predict. So blocks of bytes are
/// first turned into bit masks, without a branch, and only words that start with a digit or a capital are looked at.
pub fn scan(text: &[u8], platform: Platform, mut found: impl FnMut(Found)) {
    let mut in_word = 0;
    for (index, block) in text.chunks(BLOCK).enumerate() {
        let mut padded = [0; BLOCK];
        let block: &[u8; BLOCK] = if let Ok(whole) = block.try_into() {
            whole
        } else {
            padded[..block.len()].copy_from_slice(block);
            &padded
        };
        let (words, marked) = masks(block);
        let mut starts = marked & !(words << 1 | in_word);
        in_word = words >> (BLOCK - 1);
        while starts != 0 {
            let bit = starts.trailing_zeros();
            starts &= starts - 1;
            let start = index * BLOCK + bit as usize;
            let end = word_end(text, start, words >> bit);
            if let Some((start, code)) = word(text, start, end, platform) {
                found(Found { start, end, code });
            }
        }
    }
}

/// For each byte of a block one bit: whether it belongs to a word, and whether it is a digit or a capital.
fn masks(block: &[u8; BLOCK]) -> (u64, u64) {
    let (mut words, mut marked) = (0, 0);
    for (index, lanes) in block.as_chunks::<16>().0.iter().enumerate() {
        let lanes = u8x16::new(*lanes);
        let digit = in_range(lanes, b'0', 10);
        let letter = in_range(lanes | u8x16::splat(0x20), b'a', 26);
        let capital = in_range(lanes, b'A', 26);
        let line = lanes.simd_eq(u8x16::splat(b'_'));
        // Bytes beyond ASCII have their highest bit set, which is the one that counts.
        words |= u64::from((digit | letter | line | lanes).to_bitmask()) << (index * 16);
        marked |= u64::from((digit | capital).to_bitmask()) << (index * 16);
    }
    (words, marked)
}

/// All bits set where a byte is one of the `count` values from `low` on.
fn in_range(lanes: u8x16, low: u8, count: u8) -> u8x16 {
    let moved = lanes - u8x16::splat(low);
    moved.simd_eq(moved.min(u8x16::splat(count - 1)))
}

/// Where the word at `start` ends; `words` are the mask bits from there on.
fn word_end(text: &[u8], start: usize, words: u64) -> usize {
    let inside = words.trailing_ones() as usize;
    let mut end = start + inside;
    // The word may go on in the next block: then nothing but word bits was left of this one.
    if end.is_multiple_of(BLOCK) || inside == BLOCK {
        while text.get(end).copied().is_some_and(is_word) {
            end += 1;
        }
    }
    end.min(text.len())
}

/// The code that a word is, if it is one, and where it really starts (a sign may stand before it).
fn word(text: &[u8], start: usize, end: usize, platform: Platform) -> Option<(usize, Code)> {
    let length = end - start;
    if length > 48 {
        return None;
    }
    let named = |start| symbol(&text[start..end]).map(|code| (start, code));
    if text[start].is_ascii_digit() {
        // Cheap questions first: nearly all numbers of a log are none.
        let hex = length > 2 && text[start + 1] | 0x20 == b'x';
        let negative = length >= 9 && start > 0 && text[start - 1] == b'-';
        return if hex || negative || context_word_before(text, start) {
            number(text, start, end, platform)
        } else {
            None
        };
    }
    if length == 8 && text[start] <= b'F' && context_word_before(text, start) {
        return number(text, start, end, platform).or_else(|| named(start));
    }
    named(start)
}

#[inline]
fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

/// A symbolic name such as `ENOSPC` or `STATUS_ACCESS_VIOLATION`.
fn symbol(word: &[u8]) -> Option<Code> {
    let capital = |byte: &u8| byte.is_ascii_uppercase() || byte.is_ascii_digit() || *byte == b'_';
    if word.len() < 3 || !word.iter().all(capital) {
        return None;
    }
    catalogue::by_name(word).map(|entry| entry.code)
}

fn number(text: &[u8], start: usize, end: usize, platform: Platform) -> Option<(usize, Code)> {
    let word = text.get(start..end)?;
    let before = start.checked_sub(1).and_then(|at| text.get(at)).copied();
    // Most numbers are joined to no word: parts of versions, addresses, dates, paths.
    if !before.is_none_or(|before| is_joint(before) || matches!(before, b'{' | b',' | b'|' | b'\t' | b'<')) {
        return None;
    }
    // Part of a version, an address, a date, a path or a GUID.
    if matches!(before, Some(b'.' | b'/' | b'@' | b'\\' | b'$' | b'%' | b'+'))
        || matches!(text.get(end), Some(b'.' | b':' | b'-' | b'/' | b'%') if text.get(end + 1).is_some_and(u8::is_ascii_alphanumeric))
            && !(word.len() == 10 && word.starts_with(b"0x"))
    {
        return systemd_status(text, start, end, word).map(|code| (start, code));
    }
    if let Some(hex) = word.strip_prefix(b"0x").or(word.strip_prefix(b"0X")) {
        let value = hex_value(hex)?;
        let code = hexadecimal(text, start, hex.len(), value, platform)?;
        return Some((start, code));
    }
    if word.iter().all(u8::is_ascii_digit) {
        // Most numbers stand behind something that joins them to no word.
        if !before.is_some_and(is_joint) {
            return None;
        }
        let sign =
            before == Some(b'-') && !start.checked_sub(2).and_then(|at| text.get(at)).copied().is_some_and(is_word);
        let value = digits_value(word)?;
        if sign && value > 0x1000_0000 {
            let number = i32::try_from(-value).ok()?.cast_unsigned();
            return Some((start - 1, Code { family: wide_family(number)?, number }));
        }
        let context_end = if sign { start - 1 } else { start };
        if let Some(code) = worded(text, context_end, end, value, platform) {
            return Some((context_end, code));
        }
    }
    // Eight bare hexadecimal digits, where a code word stands in front.
    let value = hex_value(word).filter(|value| word.len() == 8 && *value >= 0x8000_0000)?;
    let named = context(text, start).is_some_and(Context::is_failure_word);
    let family = wide_family(value).filter(|_| named)?;
    Some((start, Code { family, number: value }))
}

fn digits_value(word: &[u8]) -> Option<i64> {
    (word.len() <= 10).then(|| word.iter().fold(0_i64, |value, byte| value * 10 + i64::from(byte - b'0')))
}

fn hex_value(digits: &[u8]) -> Option<u32> {
    let good = (1..=8).contains(&digits.len()) && digits.iter().all(u8::is_ascii_hexdigit);
    let text = std::str::from_utf8(digits).ok().filter(|_| good)?;
    u32::from_str_radix(text, 16).ok()
}

/// The family of a full 32-bit value: it has the shape of an HRESULT or of an NTSTATUS, or is in a catalogue.
fn wide_family(number: u32) -> Option<Family> {
    for family in [Family::Hresult, Family::NtStatus] {
        if number > 1 && catalogue::entry(Code { family, number }).is_some() {
            return Some(family);
        }
    }
    match number >> 28 {
        // 0xC…: error severity; facilities in use are small.
        0xC if (number >> 16) & 0xFFF < 0x100 => Some(Family::NtStatus),
        // 0x8…: failure; the two reserved bits below are zero in real codes, facilities in use are below 256.
        0x8 if (number >> 16) & 0xFFF < 0x100 => Some(Family::Hresult),
        _ => None,
    }
}

fn hexadecimal(text: &[u8], start: usize, length: usize, value: u32, platform: Platform) -> Option<Code> {
    if length == 8
        && value >= 0x8000_0000
        && let Some(family) = wide_family(value)
    {
        return Some(Code { family, number: value });
    }
    let context = context(text, start)?;
    if context == Context::Stop {
        return Some(Code { family: Family::Stop, number: value });
    }
    if length == 8 && value > 1 && wide_family(value).is_some() {
        return Some(Code { family: wide_family(value)?, number: value });
    }
    if context.is_failure_word() && value <= 0xFFFF { small(context, value, platform) } else { None }
}

/// What the words in front of a number say about it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Context {
    /// `error`, `failed with`, `hr`, `rc`…
    Error,
    /// `returned`, `result`: a code only where nothing is counted behind it.
    Returned,
    /// `errno`.
    Errno,
    /// `signal`.
    Signal,
    /// `exit code`, `exit status`, `exited with`.
    Exit,
    /// `status`.
    Status,
    /// `HTTP`.
    Http,
    /// `bugcheck`, `stop code`.
    Stop,
}

impl Context {
    fn is_failure_word(self) -> bool {
        matches!(self, Self::Error | Self::Returned | Self::Errno | Self::Exit | Self::Status)
    }
}

/// What may stand between a word and its number.
fn is_joint(byte: u8) -> bool {
    matches!(byte, b' ' | b':' | b'=' | b'(' | b'#' | b'"' | b'\'' | b'[' | b'-')
}

/// The longest word that makes a context.
const CONTEXT_BYTES: usize = 16;

/// A short word as one number, in small letters: comparing is then one step.
const fn key(word: &[u8]) -> u128 {
    let mut key = 0;
    let mut at = 0;
    while at < word.len() && at < CONTEXT_BYTES {
        key = key << 8 | (word[at] | 0x20) as u128;
        at += 1;
    }
    key
}

/// What a word in front of a number does.
#[derive(Clone, Copy)]
enum Effect {
    /// It is passed over.
    Filler,
    /// Like a filler, but a number behind it is a code even if nothing else is found.
    Code,
    /// Like a filler, but a number behind it is a status.
    Status,
    /// It settles what the number is.
    Is(Context),
}

const WORDS: [(Effect, &[&[u8]]); 10] = [
    (Effect::Filler, &[b"is", b"was", b"with", b"of", b"no", b"nr", b"number"]),
    (Effect::Code, &[b"code", b"codes", b"value"]),
    (Effect::Status, &[b"status"]),
    (
        Effect::Is(Context::Error),
        &[
            b"error",
            b"err",
            b"rc",
            b"hr",
            b"hresult",
            b"errorcode",
            b"error_code",
            b"failed",
            b"failure",
            b"lasterror",
            b"ret",
            b"retval",
            b"returncode",
            b"return_code",
            b"fails",
            b"fatal",
        ],
    ),
    (Effect::Is(Context::Returned), &[b"returned", b"returns", b"return", b"result", b"resultcode"]),
    (Effect::Is(Context::Errno), &[b"errno", b"os"]),
    (Effect::Is(Context::Signal), &[b"signal", b"sig", b"signo"]),
    (Effect::Is(Context::Exit), &[b"exit", b"exited", b"exitcode", b"exit_code", b"exitstatus", b"exit_status"]),
    (
        Effect::Is(Context::Http),
        &[b"http", b"http/1.1", b"http/1.0", b"http/2.0", b"http/2", b"http/3", b"status_code", b"statuscode"],
    ),
    (Effect::Is(Context::Stop), &[b"bugcheck", b"stop", b"stopcode"]),
];

/// A small open hash table over [`WORDS`]: nearly every number of every log asks it once.
static EFFECTS: [(u128, Effect); 256] = {
    let mut table = [(0, Effect::Filler); 256];
    let mut group = 0;
    while group < WORDS.len() {
        let (effect, words) = WORDS[group];
        let mut index = 0;
        while index < words.len() {
            let key = key(words[index]);
            let mut slot = slot(key);
            while table[slot].0 != 0 {
                slot = (slot + 1) % 256;
            }
            table[slot] = (key, effect);
            index += 1;
        }
        group += 1;
    }
    table
};

/// For each pair of bytes, whether a word of [`WORDS`] ends with it: one bit each.
static ENDINGS: [u64; 1024] = {
    let mut table = [0; 1024];
    let mut group = 0;
    while group < WORDS.len() {
        let words = WORDS[group].1;
        let mut index = 0;
        while index < words.len() {
            let word = words[index];
            let pair = ending(word[word.len() - 2], word[word.len() - 1]);
            table[pair / 64] |= 1 << (pair % 64);
            index += 1;
        }
        group += 1;
    }
    table
};

const fn ending(first: u8, second: u8) -> usize {
    ((first | 0x20) as usize) << 8 | (second | 0x20) as usize
}

/// Whether what stands before a number could be a context word: a look at two bytes.
#[inline]
fn context_word_before(text: &[u8], start: usize) -> bool {
    let mut at = start;
    while at > 0 && start - at < 3 && is_joint(text[at - 1]) {
        at -= 1;
    }
    if at == start || at < 2 {
        return false;
    }
    let pair = ending(text[at - 2], text[at - 1]);
    ENDINGS[pair / 64] >> (pair % 64) & 1 == 1
}

const fn slot(key: u128) -> usize {
    (((key ^ (key >> 64)) as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 56) as usize
}

fn effect(key: u128) -> Option<Effect> {
    let mut slot = slot(key);
    loop {
        match EFFECTS[slot] {
            (0, _) => return None,
            (found, effect) if found == key => return Some(effect),
            _ => slot = (slot + 1) % 256,
        }
    }
}

/// The context that the words right in front of `end` make: up to four words, filler words skipped.
fn context(text: &[u8], end: usize) -> Option<Context> {
    let mut at = end;
    let mut status = false;
    let mut code = false;
    for step in 0..4 {
        let mut gap = 0;
        while at > 0 && gap < 3 && is_joint(text[at - 1]) {
            at -= 1;
            gap += 1;
        }
        // Words must be joined to the number by something.
        if gap == 0 && step == 0 {
            return None;
        }
        let word_end = at;
        while at > 0 && word_end - at <= CONTEXT_BYTES {
            let byte = text[at - 1];
            let version = word_end - at < 3 && byte.is_ascii_digit();
            if !(byte.is_ascii_alphabetic() || version || matches!(byte, b'/' | b'.' | b'_')) {
                break;
            }
            at -= 1;
        }
        if at == word_end || word_end - at > CONTEXT_BYTES {
            break;
        }
        match effect(key(&text[at..word_end])) {
            Some(Effect::Filler) => {}
            Some(Effect::Code) => code = true,
            Some(Effect::Status) => status = true,
            Some(Effect::Is(context)) => return Some(context),
            None => break,
        }
    }
    match (status, code) {
        (true, _) => Some(Context::Status),
        (_, true) => Some(Context::Error),
        _ => None,
    }
}

fn worded(text: &[u8], context_end: usize, end: usize, value: i64, platform: Platform) -> Option<Code> {
    let context = context(text, context_end)?;
    let number = u32::try_from(value).ok()?;
    if context == Context::Returned && counts_something(text, end) {
        return None;
    }
    if number >= 0x8000_0000 {
        return Some(Code { family: wide_family(number)?, number });
    }
    small(context, number, platform)
}

/// Whether a word follows that the number counts: `returned 5 rows`.
fn counts_something(text: &[u8], end: usize) -> bool {
    text.get(end) == Some(&b' ') && text.get(end + 1).is_some_and(u8::is_ascii_lowercase)
        || text.get(end) == Some(&b'.') && text.get(end + 1).is_some_and(u8::is_ascii_digit)
}

fn small(context: Context, number: u32, platform: Platform) -> Option<Code> {
    let known = |family| catalogue::entry(Code { family, number }).is_some();
    let family = match context {
        Context::Errno if number <= 133 => Family::Errno,
        Context::Signal if (1..=64).contains(&number) => Family::Signal,
        Context::Http if (100..=599).contains(&number) => Family::Http,
        Context::Status if (100..=599).contains(&number) => Family::Http,
        Context::Exit | Context::Status if number <= 255 && platform != Platform::Windows => Family::Exit,
        Context::Stop if known(Family::Stop) => Family::Stop,
        Context::Stop | Context::Signal | Context::Http | Context::Errno => return None,
        // What is left are general words: the system that wrote the line decides, then what is known.
        _ if number == 0 => Family::Exit,
        _ if platform != Platform::Windows && known(Family::Errno) && number <= 133 => Family::Errno,
        _ if known(Family::Win32) => Family::Win32,
        _ if number <= 255 && platform != Platform::Windows => Family::Exit,
        _ if platform == Platform::Windows && number <= 0xFFFF => Family::Win32,
        _ => return None,
    };
    Some(Code { family, number })
}

/// `status=203/EXEC`, `status=11/SEGV`: the service manager's own form, where the word behind the slash says which
/// list the number is from.
fn systemd_status(text: &[u8], start: usize, end: usize, word: &[u8]) -> Option<Code> {
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

#[cfg(test)]
mod tests;
