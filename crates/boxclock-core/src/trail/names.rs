//! Words that can be the name of one thing, and where they stand.

use std::collections::HashMap;
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

/// Words that look like the name of one thing.
static TOKENS: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"[A-Za-z0-9][A-Za-z0-9_.:@+-]{2,71}").ok());

/// Whether a word can be the name of one thing, where `before` is what stands in front of it.
pub(super) fn can_be_name(word: &str, before: &str) -> bool {
    let digits = word.bytes().filter(u8::is_ascii_digit).count();
    let letters = word.bytes().filter(u8::is_ascii_alphabetic).count();
    if digits == 0 || word.len() < 4 {
        return false;
    }
    let bytes = word.as_bytes();
    // Addresses, versions, times, dates.
    if word.bytes().all(|byte| byte.is_ascii_digit() || b".:-+".contains(&byte))
        && (word.contains('.') || word.contains(':'))
    {
        return false;
    }
    let looks_dated = bytes.len() >= 10
        && bytes.get(4) == Some(&b'-')
        && bytes.get(7) == Some(&b'-')
        && word.get(..4).is_some_and(|year| year.bytes().all(|byte| byte.is_ascii_digit()));
    if looks_dated || word.starts_with("0x") {
        return false;
    }
    // `120ms`, `3.5kB`, `12s`: a number with its unit; `v1.2`.
    let unit = word.trim_start_matches(|letter: char| letter.is_ascii_digit() || letter == '.');
    let units = [
        "ms", "s", "us", "ns", "kb", "mb", "gb", "b", "kib", "mib", "gib", "min", "h", "d", "px", "hz", "x", "th",
        "st", "nd", "rd",
    ];
    if unit.len() < word.len() && units.contains(&unit.to_ascii_lowercase().as_str()) {
        return false;
    }
    let version = word.strip_prefix(['v', 'V']).unwrap_or(word);
    if version.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.') && version.len() < word.len() {
        return false;
    }
    if letters == 0 {
        // A bare number is one only where a word in front says so.
        let before = before.trim_end_matches([' ', '=', ':', '#', '"', '\'', '[', '(', '<']).to_ascii_lowercase();
        let said = [
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
            "print",
        ];
        let key =
            before.rsplit(|letter: char| !letter.is_ascii_alphanumeric() && letter != '_').next().unwrap_or_default();
        return digits >= 4
            && said.iter().any(|word| {
                key == *word
                    || key.ends_with(&format!("_{word}"))
                    || (word.len() <= 3 && key.ends_with(word) && key.len() > word.len() + 1)
            });
    }
    // `eth0`, `tank7`: a word with a number of one or two digits is one of a few, not one of many.
    digits >= 3 || (digits >= 2 && word.len() >= 6) || word.contains(['.', '-', '_']) && digits >= 2
}

/// Of what kind a name is: letters and digits as classes, so that two requests look the same.
pub(super) fn shape(word: &str) -> String {
    let mut shape = String::new();
    // What stands before the first digit is the kind's own.
    let head = word.find(|letter: char| letter.is_ascii_digit()).unwrap_or(0);
    shape.push_str(word.get(..head).unwrap_or_default());
    for byte in word.bytes().skip(head) {
        let class = if byte.is_ascii_alphanumeric() { 'x' } else { char::from(byte) };
        if !(class == 'x' && shape.ends_with('x')) {
            shape.push(class);
        }
    }
    shape
}

/// The names in a message.
pub(super) fn names_in(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    let Some(tokens) = TOKENS.as_ref() else { return found };
    for token in tokens.find_iter(text) {
        let word = token.as_str().trim_end_matches(['.', ':', '-', '+', '@', ',']);
        let before = text.get(..token.start()).unwrap_or_default();
        // A part of a path or address names a place.
        let in_path = before.ends_with('/')
            || before.ends_with('\\')
            || text.get(token.end()..).is_some_and(|behind| behind.starts_with('/'));
        let word = word
            .rsplit_once(':')
            .filter(|(key, value)| key.bytes().all(|byte| byte.is_ascii_alphabetic()) && value.len() >= 4)
            .map_or(word, |(_, value)| value);
        if !in_path && can_be_name(word, before) && !found.iter().any(|known| known == word) {
            found.push(word.to_owned());
        }
    }
    found
}

pub(super) fn mentions(view: &CaseView, names: Vec<String>, work: &Work) -> Result<HashMap<String, Vec<Row>>> {
    let mut found: HashMap<String, Vec<Row>> = names.iter().map(|name| (name.clone(), Vec::new())).collect();
    let finder = AhoCorasick::new(&names).map_err(|error| Error::caused("cannot look for so many names", error))?;
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
