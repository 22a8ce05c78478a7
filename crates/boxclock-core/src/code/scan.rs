//! Finding the codes in a text, fast enough for the index pass.
//!
//! A number is a code only where it looks like one by itself (`0x80070005`, `-2147024891`, `ENOSPC`) or where the words in
//! front of it make it one (`exit status 3`, `error: 1603`, `rc=13`). Ports, sizes, dates and ids are not. Here are the
//! words of a text; `sieve` drops nearly all of them at a glance, [`words`] knows what stands in front of a number,
//! `number` which numbers are codes, `named` which names are.

use sieve::{LONGEST, Sieve};
use wide::u8x16;

use super::{Catalogues, Code, Family, rank};

mod harmless;
mod messages;
mod named;
mod number;
mod place;
mod sieve;
mod words;

/// The kind of system that wrote a source, as far as it is known. Decides what a small number means.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Platform {
    /// Not known.
    #[default]
    Unknown,
    /// Linux.
    Linux,
    /// Windows.
    Windows,
    /// macOS.
    Macos,
    /// FreeBSD.
    Freebsd,
    /// Solaris and its relatives.
    Solaris,
    /// AIX.
    Aix,
}

impl Platform {
    /// All that are known.
    pub const KNOWN: [Self; 6] = [Self::Linux, Self::Windows, Self::Macos, Self::Freebsd, Self::Solaris, Self::Aix];

    /// Its name on the command line.
    pub fn name(self) -> &'static str {
        match self {
            Self::Unknown => "unknown",
            Self::Linux => "linux",
            Self::Windows => "windows",
            Self::Macos => "macos",
            Self::Freebsd => "freebsd",
            Self::Solaris => "solaris",
            Self::Aix => "aix",
        }
    }

    /// Reads its name; `unix` is Linux.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.to_ascii_lowercase();
        if text == "unix" {
            return Some(Self::Linux);
        }
        Self::KNOWN.into_iter().find(|platform| platform.name() == text)
    }

    /// For people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Unknown => "an unknown system",
            Self::Linux => "Linux",
            Self::Windows => "Windows",
            Self::Macos => "macOS",
            Self::Freebsd => "FreeBSD",
            Self::Solaris => "Solaris",
            Self::Aix => "AIX",
        }
    }

    /// Whether a family's numbers are this system's own.
    pub fn prefers(self, family: Family) -> bool {
        match family {
            Family::Win32 | Family::Hresult | Family::NtStatus | Family::Stop | Family::Msi => self == Self::Windows,
            Family::Signal | Family::Exit | Family::Wait => self.is_unix(),
            Family::Result | Family::Package => self == Self::Linux,
            family if family.is_errno() => self.is_unix() && family == Family::errno_of(self),
            _ => false,
        }
    }

    /// Whether it is a system of the Unix kind.
    pub fn is_unix(self) -> bool {
        !matches!(self, Self::Unknown | Self::Windows)
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
    /// Whether no more than general words make it a code: the program that wrote the line may have a list of its own.
    pub general: bool,
}

impl Found {
    /// The code as the program that wrote the line means it: `error 49` of a directory server is a result of LDAP.
    pub fn of_program(self, component: &str) -> Code {
        let own = if self.general { rank::home_family(component, self.code.number) } else { None };
        own.map_or(self.code, |family| Code { family, ..self.code })
    }
}

/// Bytes that are looked at together.
const BLOCK: usize = 64;

/// Calls `found` for each code in `text`: those that are words and numbers in order, then those in words (see `messages`), where the text
/// has no code of the same meaning.
///
/// This sees every byte of every log, and words end at places that no processor can predict. So blocks of bytes are
/// first turned into bit masks, without a branch; the words that start with a digit or a capital go through the sieve,
/// by masks and then at a glance; only what is left is read.
pub fn scan(text: &[u8], platform: Platform, own: &Catalogues, mut found: impl FnMut(Found)) {
    let sieve = Sieve::new(own);
    let (mut in_word, mut behind_point) = (0, 0);
    // A message at the start of the text stands as well as one behind a colon.
    let (mut behind_sign, mut colons) = (1, 0);
    let mut messages = messages::Messages::new(platform);
    for (index, block) in text.chunks(BLOCK).enumerate() {
        let mut padded = [0; BLOCK];
        let block: &[u8; BLOCK] = if let Ok(whole) = block.try_into() {
            whole
        } else {
            padded[..block.len()].copy_from_slice(block);
            &padded
        };
        let masks = masks(block);
        let firsts = masks.words & !(masks.words << 1 | in_word);
        // Digits behind a point or a slash are parts of versions, addresses, dates and paths.
        let numbers = sieve.numbers(&masks, firsts & !(masks.points << 1 | behind_point));
        let starts = firsts
            & !masks.digits
            & (masks.signs << 1 | behind_sign | masks.blanks << 1 & (masks.colons << 2 | colons));
        // What follows a block is known to it by its last two bytes.
        behind_sign = masks.signs >> (BLOCK - 1) | (masks.blanks >> (BLOCK - 1) & masks.colons >> (BLOCK - 2));
        colons = masks.colons >> (BLOCK - 1) << 1;
        (in_word, behind_point) = (masks.words >> (BLOCK - 1), masks.points >> (BLOCK - 1));
        for bit in bits(starts) {
            messages.look_at(text, index * BLOCK + bit as usize);
        }
        let at = |bit: u32| {
            let start = index * BLOCK + bit as usize;
            (start, word_end(text, start, masks.words >> bit))
        };
        let mut left = 0;
        for bit in bits(numbers) {
            let (start, end) = at(bit);
            left |= u64::from(sieve::may_be_number(text, start, end)) << bit;
        }
        for bit in bits(masks.others & firsts) {
            let (start, end) = at(bit);
            left |= u64::from(sieve.may_be_name(text, start, end)) << bit;
        }
        for bit in bits(left) {
            let (start, end) = at(bit);
            if let Some(hit) = word(text, start, end, platform, own)
                && !harmless::is_harmless(text, (hit.start, hit.end), hit.code)
            {
                messages.knows(hit);
                found(hit);
            }
        }
    }
    messages.at_the_ends_of_lines(text);
    messages.tell(found);
}

/// The places of the bits that are set, in order.
fn bits(mut mask: u64) -> impl Iterator<Item = u32> {
    std::iter::from_fn(move || {
        let bit = mask.trailing_zeros();
        mask &= mask.wrapping_sub(1);
        (bit < u64::BITS).then_some(bit)
    })
}

/// For each byte of a block one bit.
struct Masks {
    /// Whether it belongs to a word.
    words: u64,
    /// Whether it is a digit.
    digits: u64,
    /// Whether it is a capital, or the small c of `c0`, with which hexadecimal status values begin.
    others: u64,
    /// Whether it is a point or a slash.
    points: u64,
    /// Whether it is a colon, a blank; or an opening parenthesis or a quote, behind which messages stand.
    colons: u64,
    blanks: u64,
    signs: u64,
}

#[inline]
fn masks(block: &[u8; BLOCK]) -> Masks {
    let empty = Masks { words: 0, digits: 0, others: 0, points: 0, colons: 0, blanks: 0, signs: 0 };
    let (mut masks, mut small_c, mut zeros) = (empty, 0, 0);
    for (index, lanes) in block.as_chunks::<16>().0.iter().enumerate() {
        let lanes = u8x16::new(*lanes);
        let at = |bits: u8x16| u64::from(bits.to_bitmask()) << (index * 16);
        let digit = in_range(lanes, b'0', 10);
        let letter = in_range(lanes | u8x16::splat(0x20), b'a', 26);
        let line = lanes.simd_eq(u8x16::splat(b'_'));
        // Bytes beyond ASCII have their highest bit set, which is the one that counts.
        masks.words |= at(digit | letter | line | lanes);
        masks.digits |= at(digit);
        masks.others |= at(in_range(lanes, b'A', 26));
        masks.points |= at(in_range(lanes, b'.', 2));
        masks.colons |= at(lanes.simd_eq(u8x16::splat(b':')));
        masks.blanks |= at(lanes.simd_eq(u8x16::splat(b' ')));
        masks.signs |= at(lanes.simd_eq(u8x16::splat(b'(')) | lanes.simd_eq(u8x16::splat(b'"')));
        small_c |= at(lanes.simd_eq(u8x16::splat(b'c')));
        zeros |= at(lanes.simd_eq(u8x16::splat(b'0')));
    }
    // What follows the last byte is not known here.
    masks.others |= small_c & (zeros >> 1 | 1 << (BLOCK - 1));
    masks
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

/// The code that a word is, if it is one. It may start before the word (a sign) or end behind it (`ORA-00942`).
fn word(text: &[u8], start: usize, end: usize, platform: Platform, own: &Catalogues) -> Option<Found> {
    let length = end - start;
    if length > LONGEST {
        return None;
    }
    let first = text[start];
    if first.is_ascii_digit() {
        let hex = length > 2 && text[start + 1] | 0x20 == b'x';
        let negative = length >= 9 && start > 0 && text[start - 1] == b'-';
        let worded = hex || negative || words::context_word_before(text, start);
        let number = worded.then(|| number::number(text, start, end, platform, own)).flatten();
        let (start, code) = number.or_else(|| Some((start, place::in_its_place(text, start, end)?)))?;
        return Some(Found { start, end, code, general: number::is_general(text, start, code) });
    }
    let plain = |(start, code)| Found { start, end, code, general: false };
    if first == b'c' {
        // A status without `0x`, in small letters.
        let status = length == 8 && text[start + 1] == b'0';
        return status.then(|| number::number(text, start, end, platform, own)).flatten().map(plain);
    }
    if length == 5
        && let Some(code) = place::in_its_place(text, start, end)
    {
        return Some(plain((start, code)));
    }
    if matches!(length, 5 | 8)
        && let Some(found) = number::number(text, start, end, platform, own)
    {
        return Some(plain(found));
    }
    if text.get(end) == Some(&b'-')
        && text.get(end + 1).is_some_and(u8::is_ascii_digit)
        && let Some((code, end)) = named::hyphenated(text, start, end, own)
    {
        return Some(Found { start, end, code, general: false });
    }
    let (end, code) = named::named(text, start, end, platform)?;
    Some(Found { start, end, code, general: false })
}

#[inline]
fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

#[cfg(test)]
mod tests;
