//! What can be told at a glance about a word that starts with a digit or a capital: whether it could be a code at all.
//!
//! Nearly all numbers and names of a log are none, and which ones are cannot be foretold. So the first questions are asked
//! of all words of a block at once, by their bit masks; the next ones look at a few bytes, all of them without a branch.
//! The sieve may let through what is no code; it must never hold back what is one (`sieve_holds_every_code` in the tests).

#![allow(clippy::needless_bitwise_bool, reason = "asking all questions is the point")]

use super::Masks;
use super::named::{LIKELY, Likely, likely_at};
use super::words::may_follow_context;
use crate::code::Catalogues;

/// Bytes of the longest word that is a code.
pub(super) const LONGEST: usize = 48;

/// The questions, with what they need to know.
pub(super) struct Sieve {
    names: &'static Likely,
    /// All bits set if the user's catalogues may hold numbers of any length.
    any_length: u64,
}

impl Sieve {
    pub(super) fn new(own: &Catalogues) -> Self {
        Self { names: &LIKELY, any_length: if own.is_empty() { 0 } else { u64::MAX } }
    }

    /// Those of the words that start at the bits of `firsts` which are numbers and could be codes.
    #[inline]
    pub(super) fn numbers(&self, masks: &Masks, firsts: u64) -> u64 {
        let Masks { words, digits, points, .. } = *masks;
        let numbers = firsts & digits;
        // Bit by bit: whether the word that starts here has so many bytes at least.
        let two = words >> 1;
        let three = two & words >> 2;
        let six = three & words >> 3 & words >> 4 & words >> 5;
        let eight = six & words >> 6 & words >> 7;
        // No code has six or seven digits. What the next block holds is not known here.
        let too_long = six & !eight & (u64::MAX >> 7) & !self.any_length;
        // `192.0.2.1`, `1.25`, `12/04`: numbers that go on behind a point.
        let behind = points & digits >> 1;
        let goes_on = !two & behind >> 1 | two & !three & behind >> 2 | three & !(words >> 3) & behind >> 3;
        // `0x…`, and what is no number but starts like one.
        let hexadecimal = (words & !digits) >> 1;
        numbers & (hexadecimal | !(too_long | goes_on))
    }

    /// Whether a word that starts with a capital, or with `c0`, could be a code.
    #[inline]
    pub(super) fn may_be_name(&self, text: &[u8], start: usize, end: usize) -> bool {
        let word = &text[start..end];
        let length = word.len();
        let state = (length == 5) & (start > 0) & (byte(text, end) == b']') & (byte(text, end + 1) == b'[');
        let numeric = state | (((length == 5) | (length == 8)) & may_be_behind_word(text, start));
        let hyphen = (byte(text, end) == b'-') & byte(text, end + 1).is_ascii_digit();
        let at = likely_at(word);
        let name = (length >= 3) & (self.names[at / 64] >> (at % 64) & 1 == 1);
        // What `named` looks at beyond the names of the catalogues.
        let other = || {
            matches!(word, b"Failed" | b"Received")
                || word.starts_with(b"NT_STATUS_")
                || (word.starts_with(b"SQL") && matches!(length, 8 | 9))
        };
        numeric | hyphen | name || other()
    }
}

/// Whether a number could be a code, by what is next to it.
#[inline]
pub(super) fn may_be_number(text: &[u8], start: usize, end: usize) -> bool {
    let Some(&before) = text[..start].last_chunk::<4>() else { return true };
    let [.., second, nearest] = before;
    let [next, next_but_one] = [byte(text, end), byte(text, end + 1)];
    let length = end - start;
    // What `place::in_its_place` knows: a mail server's reply or what is behind the times of a proxy's log; in the
    // prefix of a database's log; a reason to disconnect; in parentheses and the like.
    let near_digit = second.wrapping_sub(b'+') <= b'9' - b'+';
    let three = (length == 3) & (next == b' ') & ((next_but_one == text[start]) | near_digit);
    let five = (length == 5) & (next == b' ') & next_but_one.is_ascii_uppercase();
    let reason = (nearest == b':') & (next == b':') & (next_but_one == b' ');
    let inside = (nearest == b'(') | (nearest == b',') | (nearest == b'%') | ((nearest == b'[') & (next == b']'));
    let negative = (nearest == b'-') & (length >= 8);
    let hexadecimal = (length > 2) & (byte(text, start + 1) >= b'A');
    may_follow_context(before) | three | five | reason | inside | negative | hexadecimal
}

#[inline]
fn may_be_behind_word(text: &[u8], start: usize) -> bool {
    text[..start].last_chunk::<4>().is_none_or(|before| may_follow_context(*before))
}

/// The byte at a place; behind the end a line end.
#[inline]
fn byte(text: &[u8], at: usize) -> u8 {
    text.get(at).copied().unwrap_or(b'\n')
}
