//! The values in a message, and what each is: a number, a duration, an address, a path, an identifier and so on.
//!
//! What is fixed in a message and what is a value is decided as [`super::template`] does it, plus texts in quotes and paths without
//! digits. The kind is told by the shape of the value, and by the word in front of it.

use std::ops::Range;

/// What a value is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ValueKind {
    /// A plain number, perhaps with a fraction.
    Number,
    /// A number with a unit of time.
    Duration,
    /// A number with a unit of bytes.
    Size,
    /// A date or a time of day.
    Time,
    /// An address of a network, perhaps with a port; of mail.
    Address,
    /// A path of a file, or a URL.
    Path,
    /// The name of a host.
    Host,
    /// A name of one thing: a request, a job, a frame.
    Identifier,
    /// Many hexadecimal digits.
    Hash,
    /// A globally unique identifier.
    Guid,
    /// A user.
    User,
    /// A text in quotes.
    Quoted,
    /// A code in hexadecimal.
    Code,
    /// A version.
    Version,
}

impl ValueKind {
    /// For people and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Number => "number",
            Self::Duration => "duration",
            Self::Size => "size",
            Self::Time => "time",
            Self::Address => "address",
            Self::Path => "path",
            Self::Host => "host",
            Self::Identifier => "identifier",
            Self::Hash => "hash",
            Self::Guid => "guid",
            Self::User => "user",
            Self::Quoted => "quoted",
            Self::Code => "code",
            Self::Version => "version",
        }
    }
}

/// A value of a message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Value {
    /// What it is.
    pub kind: ValueKind,
    /// Where it stands, in bytes of the message.
    pub at: Range<usize>,
}

/// Bytes of a message that are looked at.
const MOST_BYTES: usize = 400;

/// The values in the first line of a message, in order; they do not overlap.
pub fn values(message: &str) -> Vec<Value> {
    let line = message.lines().next().unwrap_or_default();
    let end = line.char_indices().map(|(at, _)| at).take_while(|at| *at <= MOST_BYTES).last().unwrap_or(0);
    let line = if line.len() <= MOST_BYTES { line } else { &line[..end] };
    let mut found = Vec::new();
    let mut at = 0;
    let mut before = String::new();
    while at < line.len() {
        let rest = &line[at..];
        let Some(letter) = rest.chars().next() else { break };
        if matches!(letter, '"' | '\'' | '`' | '\u{201c}')
            && let Some(length) = quoted(rest, letter)
        {
            found.push(Value { kind: ValueKind::Quoted, at: at..at + length });
            at += length;
            before.clear();
            continue;
        }
        if letter.is_whitespace()
            || matches!(letter, '(' | '[' | '{' | '<' | ',' | ';' | ')' | ']' | '}' | '>' | '=' | '"')
        {
            at += letter.len_utf8();
            continue;
        }
        let is_end = |letter: char| {
            letter.is_whitespace()
                || matches!(letter, '(' | '[' | '{' | '<' | ',' | ';' | ')' | ']' | '}' | '>' | '=' | '"')
        };
        let length = rest.find(is_end).unwrap_or(rest.len());
        let word = rest[..length].trim_end_matches(['.', ':', '!', '?']);
        let next =
            rest[length..].trim_start().split(|letter: char| !letter.is_alphanumeric()).next().unwrap_or_default();
        if let Some((kind, with_unit)) = kind_of(word, &before, next) {
            // `3.5 s` is one value with its unit.
            let unit = if with_unit { rest[length..].find(next).map_or(0, |gap| gap + next.len()) } else { 0 };
            let length = if unit > 0 { length + unit } else { word.len() };
            found.push(Value { kind, at: at..at + length });
            at += length;
        } else {
            at += length;
        }
        before = word.trim_end_matches(':').to_lowercase();
    }
    found
}

/// The length of a text in quotes at the start, with its quotes; `None` where the quote is not closed, or is an apostrophe.
fn quoted(rest: &str, quote: char) -> Option<usize> {
    let closing = match quote {
        '`' => '\'',
        '\u{201c}' => '\u{201d}',
        same => same,
    };
    let inner = &rest[quote.len_utf8()..];
    let end = inner.find(closing).or_else(|| (quote == '`').then(|| inner.find('`')).flatten())?;
    (end > 0).then(|| quote.len_utf8() + end + inner[end..].chars().next().map_or(0, char::len_utf8))
}

fn is_number(word: &str) -> bool {
    let word = word.strip_prefix(['-', '+']).unwrap_or(word);
    let mut parts = word.splitn(2, ['.', ',']);
    let digits = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    parts.next().is_some_and(digits) && parts.next().is_none_or(digits)
}

const DURATIONS: [&str; 22] = [
    "ns",
    "us",
    "\u{b5}s",
    "ms",
    "s",
    "sec",
    "secs",
    "second",
    "seconds",
    "m",
    "min",
    "mins",
    "minute",
    "minutes",
    "h",
    "hour",
    "hours",
    "d",
    "day",
    "days",
    "msec",
    "milliseconds",
];
const SIZES: [&str; 18] = [
    "b", "byte", "bytes", "k", "kb", "mb", "gb", "tb", "kib", "mib", "gib", "tib", "kbytes", "mbytes", "octets",
    "pages", "blocks", "sectors",
];

/// What a word is, and whether the next word is its unit; `None` where it is no value.
fn kind_of(word: &str, before: &str, next: &str) -> Option<(ValueKind, bool)> {
    let has_digit = word.bytes().any(|byte| byte.is_ascii_digit());
    let plain = |kind| Some((kind, false));
    let lower = next.to_lowercase();
    if is_number(word) {
        return if DURATIONS.contains(&lower.as_str()) && lower.len() > 1 || matches!(next, "s" | "m" | "h" | "d") {
            Some((ValueKind::Duration, true))
        } else if SIZES.contains(&lower.as_str()) && lower.len() > 1 || next == "B" {
            Some((ValueKind::Size, true))
        } else if word.matches('.').count() == 1 && matches!(before, "version" | "release" | "v") {
            plain(ValueKind::Version)
        } else if matches!(before, "user" | "uid" | "for user") {
            plain(ValueKind::User)
        } else {
            plain(ValueKind::Number)
        };
    }
    if word.contains("://") || word.starts_with('/') && word.len() > 1 || is_windows_path(word) {
        return plain(ValueKind::Path);
    }
    if word.contains('@') && word.split('@').all(|part| !part.is_empty()) {
        return plain(ValueKind::Address);
    }
    if is_guid(word) {
        return plain(ValueKind::Guid);
    }
    if let Some(hex) = word.strip_prefix("0x").or_else(|| word.strip_prefix("0X")) {
        return (!hex.is_empty() && hex.bytes().all(|byte| byte.is_ascii_hexdigit()))
            .then_some((ValueKind::Code, false));
    }
    if matches!(before, "user" | "account" | "by user" | "login")
        && word.chars().all(|letter| letter.is_alphanumeric() || "._-$\\".contains(letter))
    {
        return plain(ValueKind::User);
    }
    if !has_digit {
        let of_names = word
            .split('.')
            .filter(|part| part.len() > 1 && part.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-'));
        let is_host = word.matches('.').count() >= 2 && of_names.count() == word.matches('.').count() + 1;
        return is_host.then_some((ValueKind::Host, false));
    }
    if is_address(word) {
        return plain(ValueKind::Address);
    }
    if is_time(word) {
        return plain(ValueKind::Time);
    }
    let unit = word.trim_start_matches(|letter: char| letter.is_ascii_digit() || letter == '.').to_lowercase();
    if word.starts_with(|letter: char| letter.is_ascii_digit()) {
        if DURATIONS.contains(&unit.as_str()) {
            return plain(ValueKind::Duration);
        }
        if SIZES.contains(&unit.as_str()) {
            return plain(ValueKind::Size);
        }
        if unit == "%" {
            return plain(ValueKind::Number);
        }
    }
    let hex = word.bytes().all(|byte| byte.is_ascii_hexdigit());
    if hex && word.len() >= 16 && word.bytes().any(|byte| byte.is_ascii_alphabetic()) {
        return plain(ValueKind::Hash);
    }
    let bare = word.strip_prefix('v').unwrap_or(word);
    if bare.matches('.').count() >= 1
        && bare.split('.').next().is_some_and(is_number)
        && bare.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'-' | b'+' | b'~' | b':'))
    {
        return plain(ValueKind::Version);
    }
    if word.matches('.').count() >= 2
        && word.split('.').all(|part| !part.is_empty())
        && word.bytes().any(|byte| byte.is_ascii_alphabetic())
    {
        return plain(ValueKind::Host);
    }
    plain(ValueKind::Identifier)
}

fn is_windows_path(word: &str) -> bool {
    let bytes = word.as_bytes();
    bytes.first().is_some_and(u8::is_ascii_alphabetic)
        && bytes.get(1) == Some(&b':')
        && matches!(bytes.get(2), Some(b'\\' | b'/'))
        || word.starts_with("\\\\") && word.len() > 2
}

fn is_guid(word: &str) -> bool {
    let parts: Vec<&str> = word.split('-').collect();
    let lengths = [8, 4, 4, 4, 12];
    parts.len() == 5
        && parts
            .iter()
            .zip(lengths)
            .all(|(part, length)| part.len() == length && part.bytes().all(|byte| byte.is_ascii_hexdigit()))
}

fn is_address(word: &str) -> bool {
    word.parse::<std::net::IpAddr>().is_ok()
        || word.parse::<std::net::SocketAddr>().is_ok()
        || word.rsplit_once('/').is_some_and(|(net, bits)| net.parse::<std::net::IpAddr>().is_ok() && is_number(bits))
        || word.split(':').count() == 6
            && word.split(':').all(|part| part.len() == 2 && part.bytes().all(|byte| byte.is_ascii_hexdigit()))
        || word.rsplit_once(':').is_some_and(|(host, port)| {
            host.len() > 1
                && host.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.'))
                && is_number(port)
                && host.bytes().any(|byte| byte.is_ascii_alphabetic())
        })
}

fn is_time(word: &str) -> bool {
    let digits =
        |part: &str, lengths: &[usize]| lengths.contains(&part.len()) && part.bytes().all(|byte| byte.is_ascii_digit());
    let is_day = |text: &str| {
        let parts: Vec<&str> = text.split(['-', '/']).collect();
        parts.len() == 3 && digits(parts[0], &[4]) && digits(parts[1], &[2]) && digits(parts[2], &[2])
    };
    let is_clock = |text: &str| {
        let text = text.trim_end_matches('Z').split(['+', '.', ',']).next().unwrap_or_default();
        let parts: Vec<&str> = text.split(':').collect();
        matches!(parts.len(), 2 | 3) && parts.iter().all(|part| digits(part, &[2]))
    };
    is_day(word) || is_clock(word) || word.split_once('T').is_some_and(|(day, clock)| is_day(day) && is_clock(clock))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn found(message: &str) -> Vec<(&str, &'static str)> {
        values(message).into_iter().map(|value| (&message[value.at], value.kind.name())).collect()
    }

    #[test]
    fn values_and_their_kinds() {
        for (message, wanted) in [
            ("frame fr-0412-4096 refused, retry 4", vec![("fr-0412-4096", "identifier"), ("4", "number")]),
            ("lease of 10.1.2.3:5514 lost after 3.5 s", vec![("10.1.2.3:5514", "address"), ("3.5 s", "duration")]),
            (
                "wrote 812 bytes to /srv/plan/a.db in 40ms",
                vec![("812 bytes", "size"), ("/srv/plan/a.db", "path"), ("40ms", "duration")],
            ),
            ("open C:\\Tankwarden\\a.dll: 0x80070020", vec![("C:\\Tankwarden\\a.dll", "path"), ("0x80070020", "code")]),
            ("job 6f9619ff-8b86-d011-b42d-00c04fc964ff done", vec![("6f9619ff-8b86-d011-b42d-00c04fc964ff", "guid")]),
            ("digest 9e107d9d372bb6826bd81d3542a419d6 differs", vec![("9e107d9d372bb6826bd81d3542a419d6", "hash")]),
            ("title \"night plan\" saved by user anna", vec![("\"night plan\"", "quoted"), ("anna", "user")]),
            ("queue=12, wait=950.", vec![("12", "number"), ("950", "number")]),
            ("at 2026-04-12T02:31:07.442Z and 02:31", vec![("2026-04-12T02:31:07.442Z", "time"), ("02:31", "time")]),
            ("console 5.0.2 on tank.reef.local", vec![("5.0.2", "version"), ("tank.reef.local", "host")]),
            ("mail to keeper@reef.local refused", vec![("keeper@reef.local", "address")]),
            (
                "get http://gw:80/x 2001:db8::7 fe:ed:00:11:22:33",
                vec![("http://gw:80/x", "path"), ("2001:db8::7", "address"), ("fe:ed:00:11:22:33", "address")],
            ),
            ("it's up, 40% used of 2 GiB", vec![("40%", "number"), ("2 GiB", "size")]),
            ("user anna logged in", vec![("anna", "user")]),
            ("valve closed", vec![]),
            ("", vec![]),
        ] {
            assert_eq!(found(message), wanted, "{message}");
        }
    }

    proptest! {
        #[test]
        fn values_of_any_text_stand_in_order(message in "\\PC{0,500}") {
            let mut end = 0;
            for value in values(&message) {
                prop_assert!(value.at.start >= end && value.at.end > value.at.start);
                prop_assert!(message.get(value.at.clone()).is_some());
                end = value.at.end;
            }
        }
    }
}
