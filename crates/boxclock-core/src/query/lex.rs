//! Splitting a filter into tokens, each with its place.

use super::FilterError;

/// A token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Token {
    pub(super) at: usize,
    pub(super) length: usize,
    pub(super) kind: Kind,
}

/// What a token is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Open,
    Close,
    /// A comparison right behind a field's name.
    Operator(&'static str),
    /// A word; `quoted` if any part of it stood in quotes.
    Word {
        text: String,
        quoted: bool,
    },
    /// What stood between two slashes.
    Regex(String),
}

const OPERATORS: [&str; 7] = ["!=", ">=", "<=", "=", "~", ">", "<"];

/// Splits `text`. Quoted pieces within a word belong to it: `"a b".."c d"` is one word.
pub(super) fn tokens(text: &str) -> Result<Vec<Token>, FilterError> {
    let mut tokens: Vec<Token> = Vec::new();
    let mut at = 0;
    while let Some(c) = text.get(at..).and_then(|rest| rest.chars().next()) {
        if c.is_whitespace() {
            at += c.len_utf8();
            continue;
        }
        let rest = &text[at..];
        let after_word = tokens
            .last()
            .is_some_and(|last| last.at + last.length == at && matches!(&last.kind, Kind::Word { quoted: false, .. }));
        let operator = OPERATORS.into_iter().find(|operator| rest.starts_with(operator));
        let (kind, length) = match (c, operator) {
            ('(', _) => (Kind::Open, 1),
            (')', _) => (Kind::Close, 1),
            (_, Some(operator)) if after_word => (Kind::Operator(operator), operator.len()),
            ('/', _) => regex(rest, at)?,
            _ => word(rest, at)?,
        };
        tokens.push(Token { at, length, kind });
        at += length;
    }
    Ok(tokens)
}

fn regex(rest: &str, at: usize) -> Result<(Kind, usize), FilterError> {
    let mut pattern = String::new();
    let mut escaped = false;
    for (index, c) in rest.char_indices().skip(1) {
        match (c, escaped) {
            ('/', false) => return Ok((Kind::Regex(pattern), index + 1)),
            ('/', true) => pattern.push('/'),
            (_, true) => {
                pattern.push('\\');
                pattern.push(c);
            }
            ('\\', false) => {
                escaped = true;
                continue;
            }
            _ => pattern.push(c),
        }
        escaped = false;
    }
    Err(FilterError {
        at,
        length: rest.len(),
        message: "this regular expression has no closing /; text that starts with / goes in quotes".into(),
    })
}

fn word(rest: &str, at: usize) -> Result<(Kind, usize), FilterError> {
    let mut text = String::new();
    let mut quoted = false;
    let mut inside = false;
    let mut end = rest.len();
    for (index, c) in rest.char_indices() {
        match c {
            '"' => {
                inside = !inside;
                quoted = true;
            }
            _ if inside => text.push(c),
            _ if c.is_whitespace() || matches!(c, '(' | ')') => {
                end = index;
                break;
            }
            // A comparison ends a field's name, but may stand inside a value.
            '=' | '~' | '<' | '>' | '!' if index > 0 && !quoted && is_field_like(&rest[..index], c, &rest[index..]) => {
                end = index;
                break;
            }
            _ => text.push(c),
        }
    }
    if inside {
        return Err(FilterError { at, length: rest.len(), message: "this phrase has no closing \"".into() });
    }
    Ok((Kind::Word { text, quoted }, end))
}

/// Whether what stands behind `<` or `>` is a comparison with a number.
fn compares_a_number(behind: &str) -> bool {
    let number = behind.strip_prefix('-').unwrap_or(behind);
    behind.starts_with('=') || number.starts_with(|first: char| first.is_ascii_digit())
}

/// Whether `before` and the comparison behind it are a field test: all letters or an attribute's name,
/// and a real operator.
fn is_field_like(before: &str, c: char, from: &str) -> bool {
    let letters = before.bytes().all(|byte| byte.is_ascii_alphabetic());
    let attribute = before.contains('.')
        // `map.Entry<K, V>` and `job.run->next` are texts.
        && (!matches!(c, '<' | '>') || compares_a_number(&from[1..]))
        && before.starts_with(|first: char| first.is_ascii_alphabetic())
        && before.chars().all(|letter| letter.is_alphanumeric() || "._-/[]".contains(letter));
    (letters || attribute) && (c != '!' || from.starts_with("!="))
}
