//! Words that can be the name of one thing, and where they stand.

use std::collections::HashMap;
use std::hash::Hasher;
use std::sync::LazyLock;

use aho_corasick::AhoCorasick;
use regex::Regex;

use crate::analysis::{Analysis, CaseView, Pieces, Window};
use crate::event::Row;
use crate::work::Work;
use crate::{Error, Result};

/// Which of several names stand in which events.
struct Mentions {
    names: Vec<String>,
    finder: AhoCorasick,
}

impl Analysis for Mentions {
    const NAME: &'static str = "mentions";
    const VERSION: u32 = 1;
    /// Event, and the place of the name.
    type Piece = Vec<(u16, u16)>;
    type Found = Vec<(Row, usize)>;

    fn window(&self, piece: &mut Vec<(u16, u16)>, window: &Window<'_>) {
        for found in self.finder.find_overlapping_iter(window.bytes) {
            if stands_alone(window.bytes, found.start(), found.end()) {
                let seen = window.event_at(found.start());
                let entry = (seen.index as u16, found.pattern().as_usize() as u16);
                if piece.last() != Some(&entry) {
                    piece.push(entry);
                }
            }
        }
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, Vec<(u16, u16)>>, work: &Work) -> Result<Vec<(Row, usize)>> {
        let mut found = Vec::new();
        for (at, part) in view.loaded.table.parts.iter().enumerate() {
            work.check()?;
            found.extend(
                pieces
                    .of_part(at)?
                    .into_iter()
                    .map(|(event, name)| (Row(part.first_row + u32::from(event)), usize::from(name))),
            );
        }
        Ok(found)
    }

    fn parameters(&self) -> String {
        self.names.join("\u{1F}")
    }
}

/// Whether what stands there is a whole name, and no part of a longer one.
fn stands_alone(bytes: &[u8], start: usize, end: usize) -> bool {
    let part = |byte: &u8| byte.is_ascii_alphanumeric() || *byte == b'_';
    // A dot or dash joins names only with a letter behind it.
    let joined = |byte: Option<&u8>, next: Option<&u8>| {
        byte.is_some_and(part)
            || (byte.is_some_and(|byte| b".-".contains(byte)) && next.is_some_and(u8::is_ascii_digit))
    };
    let before = start.checked_sub(1).and_then(|at| bytes.get(at));
    !before.is_some_and(part) && !joined(bytes.get(end), bytes.get(end + 1))
}

/// Words that may hold the name of one thing.
static TOKENS: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"[A-Za-z0-9][A-Za-z0-9_.:@+-]{0,71}").ok());

/// What a word looks like.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Look {
    /// The name of one thing among many.
    Name,
    /// A number or a short code: only the company that it keeps can show that it is a name.
    Number,
    /// A time, an address, a version, an amount, a part of a path.
    Other,
}

/// A word with a digit in a message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Token {
    /// The word.
    pub text: String,
    /// Where it stands: bytes of the message.
    pub start: usize,
    /// Behind its last byte.
    pub end: usize,
    /// What it looks like.
    pub look: Look,
    /// Whether it stands in an enumeration of its like.
    pub listed: bool,
    /// The same for words with the same two words in front.
    pub company: u64,
}

/// A message with its words that may be names; what is left of it is its form.
#[derive(Clone, Debug)]
pub(super) struct Parsed {
    /// The words, in order.
    pub tokens: Vec<Token>,
    /// The same for messages that differ in such words only.
    pub form: u64,
    /// The same for messages that begin alike, up to the first such word.
    pub head: u64,
}

impl Parsed {
    /// Where a name stands among the words.
    pub(super) fn slot(&self, name: &str) -> Option<usize> {
        self.tokens.iter().position(|token| token.text.eq_ignore_ascii_case(name))
    }
}

/// Takes a message apart.
pub(super) fn parse(text: &str) -> Parsed {
    let mut tokens: Vec<Token> = Vec::new();
    let mut form = rustc_hash::FxHasher::default();
    let mut seen = 0;
    for found in TOKENS.as_ref().into_iter().flat_map(|regex| regex.find_iter(text)) {
        let word = found.as_str().trim_end_matches(['.', ':', '-', '+', '@', ',']);
        // `job:J4711`: the word in front of the colon is its kind.
        let skipped = word
            .rsplit_once(':')
            .filter(|(key, value)| key.bytes().all(|byte| byte.is_ascii_alphabetic()) && value.len() >= 4)
            .map_or(0, |(key, _)| key.len() + 1);
        let (start, end) = (found.start() + skipped, found.start() + word.len());
        let word = word.get(skipped..).unwrap_or_default();
        if !word.bytes().any(|byte| byte.is_ascii_digit()) {
            continue;
        }
        let before = text.get(..start).unwrap_or_default();
        // A part of a path or address names a place.
        let in_path =
            before.ends_with(['/', '\\']) || text.get(end..).is_some_and(|behind| behind.starts_with(['/', '\\']));
        form.write(text.get(seen..start).unwrap_or_default().as_bytes());
        form.write_u8(1);
        seen = end;
        let look = if in_path || is_measure(word) || word.len() < 3 {
            Look::Other
        } else if can_be_name(word, before) {
            Look::Name
        } else {
            Look::Number
        };
        tokens.push(Token { text: word.to_owned(), start, end, look, listed: false, company: company(before) });
    }
    form.write(text.get(seen..).unwrap_or_default().as_bytes());
    mark_lists(text, &mut tokens);
    let mut head = rustc_hash::FxHasher::default();
    head.write(text.get(..tokens.first().map_or(text.len(), |token| token.start)).unwrap_or_default().as_bytes());
    Parsed { tokens, form: form.finish(), head: head.finish() }
}

/// The two words in front of a place, without signs.
fn company(before: &str) -> u64 {
    let from = before.char_indices().rev().nth(48).map_or(0, |(at, _)| at);
    let words = before.get(from..).unwrap_or_default().split(|letter: char| !letter.is_alphanumeric());
    let mut hash = rustc_hash::FxHasher::default();
    for word in words.rev().filter(|word| !word.is_empty()).take(2) {
        hash.write(word.as_bytes());
        hash.write_u8(0);
    }
    hash.finish()
}

/// Two of a kind with a comma between them, or three with blanks, are an enumeration of many things.
fn mark_lists(text: &str, tokens: &mut [Token]) {
    let joined = |one: &Token, next: &Token| {
        let between = text.get(one.end..next.start).unwrap_or("?");
        let only_signs = !between.is_empty() && between.bytes().all(|byte| b" ,;|\"'[]<>(){}#".contains(&byte));
        let names = one.look != Look::Other && next.look != Look::Other;
        (only_signs && names && alike(&one.text, &next.text)).then(|| between.contains([',', ';', '|']))
    };
    let mut from = 0;
    while from < tokens.len() {
        let mut to = from;
        let mut comma = false;
        while let (Some(one), Some(next)) = (tokens.get(to), tokens.get(to + 1)) {
            let Some(with_comma) = joined(one, next) else { break };
            comma |= with_comma;
            to += 1;
        }
        if to - from >= 2 || (to > from && comma) {
            for token in &mut tokens[from..=to] {
                token.listed = true;
            }
        }
        from = to + 1;
    }
}

/// Whether a word is a time, an address, a version or a number with its unit.
fn is_measure(word: &str) -> bool {
    let bytes = word.as_bytes();
    if word.bytes().all(|byte| byte.is_ascii_digit() || b".:-+".contains(&byte)) && word.contains(':') {
        return true;
    }
    // Addresses of networks and cards.
    let of_cards = word.len() == 17 && word.split([':', '-']).all(|part| part.len() == 2);
    if of_cards || word.contains("::") {
        return true;
    }
    // `10.1.2.3`, `2.14`; but not `4711.3`, which is a job and its part.
    let parts: Vec<&str> = word.split('.').collect();
    let numbers = parts.iter().all(|part| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit()));
    if numbers && parts.len() > 1 && (parts.len() != 2 || parts[0].len() < 4) {
        return true;
    }
    let looks_dated = bytes.len() >= 10
        && bytes.get(4) == Some(&b'-')
        && bytes.get(7) == Some(&b'-')
        && word.get(..10).is_some_and(|date| date.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-'));
    if looks_dated || word.starts_with("0x") {
        return true;
    }
    // `120ms`, `3.5kB`, `12s`; `v1.2`.
    let unit = word.trim_start_matches(|letter: char| letter.is_ascii_digit() || letter == '.');
    let units = [
        "ms", "s", "us", "ns", "kb", "mb", "gb", "b", "kib", "mib", "gib", "min", "h", "d", "px", "hz", "x", "th",
        "st", "nd", "rd",
    ];
    if unit.len() < word.len() && units.contains(&unit.to_ascii_lowercase().as_str()) {
        return true;
    }
    let version = word.strip_prefix(['v', 'V']).unwrap_or(word);
    version.len() < word.len() && version.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.')
}

/// Words in front of a bare number that say that it is a name.
const KINDS: [&str; 24] = [
    "id",
    "job",
    "request",
    "req",
    "ticket",
    "order",
    "session",
    "message",
    "msg",
    "mail",
    "trace",
    "task",
    "batch",
    "transaction",
    "txn",
    "queue",
    "frame",
    "no",
    "nr",
    "number",
    "seq",
    "ref",
    "case",
    "item",
];

/// Whether a word looks like the name of one thing, where `before` is what stands in front of it.
pub(super) fn can_be_name(word: &str, before: &str) -> bool {
    let digits = word.bytes().filter(u8::is_ascii_digit).count();
    let letters = word.bytes().filter(u8::is_ascii_alphabetic).count();
    if digits == 0 || word.len() < 4 || is_measure(word) {
        return false;
    }
    if letters == 0 {
        // A bare number is one only where a word in front says so.
        let before = before.trim_end_matches([' ', '=', ':', '#', '"', '\'', '[', '(', '<']).to_ascii_lowercase();
        let key =
            before.rsplit(|letter: char| !letter.is_ascii_alphanumeric() && letter != '_').next().unwrap_or_default();
        return digits >= 4
            && KINDS.iter().any(|kind| {
                key == *kind
                    || key.ends_with(&format!("_{kind}"))
                    || (kind.len() <= 3 && key.ends_with(kind) && key.len() > kind.len() + 1)
            });
    }
    // `eth0`, `tank7`: a word with a number of one or two digits is one of a few, not one of many.
    digits >= 3 || (digits >= 2 && word.len() >= 6) || word.contains(['.', '-', '_']) && digits >= 2
}

/// Whether two names are of one kind: the same letters in front of numbers, or signs at the same places.
pub(super) fn alike(one: &str, other: &str) -> bool {
    shape(one) == shape(other) || (one.len() >= 8 && signs(one) == signs(other))
}

/// Letters and digits as one sign each: names of one length with their hyphens at the same places look the same.
fn signs(word: &str) -> Vec<u8> {
    word.bytes().map(|byte| if byte.is_ascii_alphanumeric() { b'x' } else { byte }).collect()
}

/// Letters stand for themselves up to the first digit, from there on letters and digits are one sign.
fn shape(word: &str) -> String {
    let mut shape = String::new();
    let head = word.find(|letter: char| letter.is_ascii_digit()).unwrap_or(0);
    shape.push_str(word.get(..head).unwrap_or_default());
    let digits_only = word.bytes().skip(head).all(|byte| byte.is_ascii_digit());
    for byte in word.bytes().skip(head) {
        let class = match byte {
            _ if digits_only => '#',
            _ if byte.is_ascii_alphanumeric() => 'x',
            _ => char::from(byte),
        };
        if !(byte.is_ascii_alphanumeric() && shape.ends_with(class)) {
            shape.push(class);
        }
    }
    shape
}

/// The names in a message.
pub(super) fn names_in(text: &str) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    for token in parse(text).tokens {
        if token.look == Look::Name && !found.contains(&token.text) {
            found.push(token.text);
        }
    }
    found
}

/// The rows that each name stands in, as a whole word and in letters of any size.
pub(super) fn mentions(view: &CaseView, names: Vec<String>, work: &Work) -> Result<HashMap<String, Vec<Row>>> {
    let mut found: HashMap<String, Vec<Row>> = names.iter().map(|name| (name.clone(), Vec::new())).collect();
    // Programs write the same hexadecimal name in small and in capital letters.
    let finder = AhoCorasick::builder().ascii_case_insensitive(true).build(&names);
    let finder = finder.map_err(|error| Error::caused("cannot look for so many names", error))?;
    let analysis = Mentions { names, finder };
    for (row, name) in view.run(&analysis, work)?.iter() {
        if let Some(rows) = found.get_mut(&analysis.names[*name])
            && rows.last() != Some(row)
        {
            rows.push(*row);
        }
    }
    Ok(found)
}
