//! Checks of single values: what looks like an address, a card, a mail address, a token, and what only looks so.

use std::net::{Ipv4Addr, Ipv6Addr};

use serde::Deserialize;

/// How a value that was found is checked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Check {
    /// Numbers of payment cards: the prefixes and lengths that are given out, and the check digit of ISO/IEC 7812 (Luhn's).
    CardNumber,
    /// Account numbers of ISO 13616, by their check digits.
    AccountNumber,
    /// Four numbers up to 255, and no version.
    Ipv4,
    /// A mail address, and no unit of a service manager or file.
    Mail,
    /// Four to eight digits.
    Digits,
    /// No number and no code: neither digits alone nor hexadecimal digits behind `0x`.
    NoCode,
    /// The name of a person: none of those that the installation of a program makes for itself.
    Person,
    /// No word of a sentence: not letters alone, but for capitals among small ones.
    NoWord,
    /// Something that a machine has made: letters and digits, or capitals and small letters, without a plain meaning.
    Random,
    /// As [`Self::Random`], and none of the usual evidence: no hash in hexadecimal, no GUID, no path, no fingerprint.
    Unexplained,
}

impl Check {
    /// Whether the value that starts at `start` of a text holds.
    pub(super) fn holds(self, text: &str, start: usize, value: &str) -> bool {
        let before = text.get(..start).unwrap_or_default();
        let behind = text.get(start + value.len()..).unwrap_or_default();
        match self {
            Self::CardNumber => !before.ends_with(['.', '-', '_', '/', '#']) && is_card_number(value),
            Self::AccountNumber => is_account_number(value),
            Self::Ipv4 => is_ipv4(before, value, behind),
            Self::Mail => is_mail(value),
            Self::Digits => (4..=8).contains(&value.len()) && value.bytes().all(|byte| byte.is_ascii_digit()),
            Self::NoCode => !is_code(value),
            Self::Person => value.starts_with(char::is_alphabetic) && !is_system_account(behind),
            Self::NoWord => !is_word(value),
            Self::Random => is_random(value),
            Self::Unexplained => is_unexplained(before, value, behind),
        }
    }
}

fn is_code(value: &str) -> bool {
    let hexadecimal = value.strip_prefix("0x").or(value.strip_prefix("0X"));
    hexadecimal.is_some_and(|digits| digits.bytes().all(|byte| byte.is_ascii_hexdigit()))
        || value.trim_start_matches('-').bytes().all(|byte| byte.is_ascii_digit())
}

/// Whether a sentence goes on with a number below 1000, from which on accounts are those of people (login.defs(5), UID_MIN).
fn is_system_account(behind: &str) -> bool {
    let line = behind.split('\n').next().unwrap_or_default();
    ["UID ", "GID ", "uid ", "gid "].iter().any(|word| {
        let Some((lead, rest)) = line.split_once(word) else { return false };
        let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
        lead.len() <= 80 && (1..=3).contains(&digits)
    })
}

/// Letters alone, perhaps with signs of a sentence behind, a capital at most at the start.
fn is_word(value: &str) -> bool {
    let word = value.trim_end_matches(['.', ',', ';', ':', '!', '?', ')']);
    word.chars().all(char::is_alphabetic)
        && (!word.chars().skip(1).any(char::is_uppercase) || word.chars().all(char::is_uppercase))
}

/// Luhn's check of ISO/IEC 7812-1: every second digit from the right doubled, the sum of digits a multiple of ten.
fn is_card_number(value: &str) -> bool {
    let digits: Vec<u32> = value.chars().filter_map(|letter| letter.to_digit(10)).collect();
    // Groups are all of the same kind: of four digits, or of four, six and five.
    let groups: Vec<usize> = value.split([' ', '-']).map(str::len).collect();
    let grouped = match groups.as_slice() {
        [_] => true,
        [4, 6, 5] => true,
        [first @ .., last] => first.iter().all(|group| *group == 4) && (1..=4).contains(last),
        [] => false,
    };
    let mixed = value.contains(' ') && value.contains('-');
    let sum: u32 = digits
        .iter()
        .rev()
        .enumerate()
        .map(|(index, digit)| match (index % 2, digit * 2) {
            (0, _) => *digit,
            (_, doubled) if doubled > 9 => doubled - 9,
            (_, doubled) => doubled,
        })
        .sum();
    let varied = digits.iter().any(|digit| Some(digit) != digits.first());
    grouped && !mixed && is_given_out(&digits) && sum.is_multiple_of(10) && varied
}

/// The ranges of numbers that card networks give out, with their lengths: no moment since 1970 in milliseconds, microseconds or
/// nanoseconds begins like one.
fn is_given_out(digits: &[u32]) -> bool {
    let lead = |count: usize| digits.iter().take(count).fold(0, |value, digit| value * 10 + digit);
    match digits.len() {
        13 | 19 if lead(1) == 4 => true,
        14 => matches!(lead(3), 300..=305 | 309 | 360..=369 | 380..=399),
        15 => matches!(lead(2), 34 | 37),
        16 => {
            lead(1) == 4
                || matches!(lead(2), 51..=55 | 62 | 65)
                || matches!(lead(4), 2221..=2720 | 3528..=3589 | 6011)
                || matches!(lead(3), 644..=649)
        }
        17..=19 => lead(2) == 62,
        _ => false,
    }
}

/// ISO 13616: the country and check digits put behind, letters as numbers from 10 on, the rest of a division by 97 is 1.
fn is_account_number(value: &str) -> bool {
    let plain: Vec<char> = value.chars().filter(|letter| *letter != ' ').collect();
    if !(15..=34).contains(&plain.len()) {
        return false;
    }
    let moved = plain.iter().skip(4).chain(plain.iter().take(4));
    let rest = moved.filter_map(|letter| letter.to_digit(36)).fold(0_u64, |rest, digit| {
        let scale = if digit > 9 { 100 } else { 10 };
        (rest * scale + u64::from(digit)) % 97
    });
    rest == 1
}

fn is_ipv4(before: &str, value: &str, behind: &str) -> bool {
    let Ok(address) = value.replace('-', ".").parse::<Ipv4Addr>() else { return false };
    // Part of a longer number: an object identifier, a version of five parts.
    let longer = before.ends_with('.')
        && before.trim_end_matches('.').ends_with(|letter: char| letter.is_ascii_digit())
        || behind.starts_with('.') && behind[1..].starts_with(|letter: char| letter.is_ascii_digit())
        || before.ends_with(|letter: char| letter.is_ascii_digit());
    if longer {
        return false;
    }
    let own = address.is_private() || address.is_link_local() || address.octets()[0] == 100;
    let has_port = behind.starts_with(':') && behind[1..].starts_with(|letter: char| letter.is_ascii_digit());
    // `1.2.5.1-1+b1` is the version of a package, `10.1.2.3-10.1.2.9` a range of addresses.
    let suffix =
        behind.strip_prefix(['-', '+', '~']).filter(|rest| rest.starts_with(|sign: char| sign.is_alphanumeric()));
    if suffix.is_some_and(|rest| {
        rest.split(|sign: char| !sign.is_ascii_digit() && sign != '.')
            .next()
            .is_none_or(|run| run.parse::<Ipv4Addr>().is_err())
    }) {
        return false;
    }
    // `Program/120.0.1.2` is a version; `host/10.1.2.3:53` and `//198.51.100.7/x` are addresses.
    let lead = before.strip_suffix('/').unwrap_or_default();
    // Proxies write the way to a server before its address: `HIER_DIRECT/198.51.100.7`.
    let way: &str =
        lead.rsplit(|letter: char| !letter.is_ascii_uppercase() && letter != '_').next().unwrap_or_default();
    let is_way = way.contains('_') || way == "DIRECT";
    let named = lead.ends_with(|letter: char| letter.is_ascii_alphabetic() || letter == ')') && !is_way;
    if named && !own && !has_port {
        return false;
    }
    !is_version_word(before)
}

/// Whether the word in front of a value says that it is a version.
fn is_version_word(before: &str) -> bool {
    let lead = before.trim_end_matches([' ', '=', ':', '"', '\'', '(', '/', '-']);
    let word: String = lead.chars().rev().take_while(char::is_ascii_alphabetic).collect();
    let word: String = word.chars().rev().collect::<String>().to_ascii_lowercase();
    let is_one = ["version", "ver", "driver", "build", "release", "firmware", "revision", "v"];
    word.ends_with("version") || is_one.contains(&word.as_str())
}

/// IPv6 addresses: runs of hexadecimal digits and colons that are one, and no time, hardware address or name of a program.
pub(super) fn ipv6(text: &str, spans: &mut Vec<(usize, usize)>) {
    let bytes = text.as_bytes();
    let inside = |byte: u8| byte.is_ascii_hexdigit() || byte == b':' || byte == b'.';
    let mut at = 0;
    while let Some(colon) = memchr::memchr(b':', bytes.get(at..).unwrap_or_default()).map(|found| at + found) {
        let back = bytes[at..colon].iter().rev().take_while(|byte| inside(**byte)).count();
        let start = colon - back;
        let end = colon + bytes[colon..].iter().take_while(|byte| inside(**byte)).count();
        at = end;
        let before = start.checked_sub(1).map(|before| bytes[before]);
        let behind = bytes.get(end).copied();
        let word = |byte: Option<u8>| byte.is_some_and(|byte| byte.is_ascii_alphanumeric() || byte == b'_');
        let (mut start, mut end) = (start, end);
        while end > start && matches!(bytes[end - 1], b'.' | b':') && !text[start..end].ends_with("::") {
            end -= 1;
        }
        // `peer:2a02::1`: the word belongs to what is in front.
        if text[start..end].starts_with(':') && !text[start..end].starts_with("::") {
            start += 1;
        } else if word(before) {
            continue;
        }
        if word(behind) {
            continue;
        }
        let taken = |run: &str| run.parse::<Ipv6Addr>().ok().filter(|address| is_an_address(run, *address));
        let run = &text[start..end];
        if taken(run).is_some() {
            spans.push((start, end));
            continue;
        }
        // `addr:2a02::1`: `addr` has a letter that is no digit, but `face:2a02::1` has not.
        if let Some((lead, rest)) = run.split_once(':')
            && !lead.is_empty()
            && taken(rest).is_some()
        {
            spans.push((end - rest.len(), end));
        }
    }
}

fn is_an_address(run: &str, address: Ipv6Addr) -> bool {
    let groups = run.split(':').filter(|group| !group.is_empty()).count();
    let has_digit = run.bytes().any(|byte| byte.is_ascii_digit());
    let own = address.is_loopback() || address.is_unspecified();
    !own && groups >= 2 && has_digit && (groups >= 3 || run.len() >= 9)
}

/// The parts in which a service manager names its units, and usual files with an `@` in their names.
const NOT_MAIL: [&str; 24] = [
    "service",
    "socket",
    "mount",
    "timer",
    "target",
    "scope",
    "slice",
    "device",
    "path",
    "swap",
    "automount",
    "conf",
    "log",
    "png",
    "jpg",
    "jpeg",
    "gif",
    "svg",
    "css",
    "js",
    "local0",
    "so",
    "dll",
    "exe",
];

fn is_mail(value: &str) -> bool {
    let Some((name, host)) = value.rsplit_once('@') else { return false };
    let last = host.rsplit('.').next().unwrap_or_default().to_lowercase();
    !name.is_empty() && !NOT_MAIL.contains(&last.as_str()) && !host.starts_with(|letter: char| letter.is_ascii_digit())
}

/// Whether a value looks made by a machine.
pub(super) fn is_random(value: &str) -> bool {
    let has = |test: fn(char) -> bool| value.chars().any(test);
    let kinds = [
        has(|letter| letter.is_ascii_lowercase()),
        has(|letter| letter.is_ascii_uppercase()),
        has(|letter| letter.is_ascii_digit()),
    ];
    let digits = value.chars().filter(char::is_ascii_digit).count();
    let mixed = kinds.iter().filter(|kind| **kind).count() >= 2;
    let inner = value.chars().skip(1).any(|letter| letter.is_ascii_uppercase());
    // `level-10` is a name with a number.
    let numbered = value.rsplit_once(['-', '_']).is_some_and(|(name, number)| {
        number.len() <= 3
            && number.bytes().all(|byte| byte.is_ascii_digit())
            && name.chars().skip(1).all(|letter| letter.is_ascii_lowercase())
    });
    // A capital at the start alone is a word of a sentence.
    !numbered
        && mixed
        && value.len() >= 6
        && (digits > 0 && (digits >= 2 || value.len() >= 8) || inner && value.len() >= 8)
}

fn is_unexplained(before: &str, value: &str, behind: &str) -> bool {
    let hexadecimal = value.bytes().all(|byte| byte.is_ascii_hexdigit() || byte == b'-');
    let words = value.split(['_', '-', '.', '/', '+']).filter(|part| !part.is_empty());
    // Names of things are made of words and numbers: most of their parts are one or the other.
    let plain = words.clone().filter(|part| {
        part.bytes().all(|byte| byte.is_ascii_digit())
            || part.chars().skip(1).all(char::is_lowercase)
            || part.chars().all(char::is_uppercase)
    });
    let short = value.split(['_', '.']).count() >= 4 && value.split(['_', '.']).all(|part| part.len() < 12);
    let is_name = short || plain.count() * 2 > words.count();
    let fingerprint = before.ends_with("SHA256:") || before.ends_with("sha256-") || before.ends_with("sha384-");
    let counts = |test: fn(&u8) -> bool| value.bytes().filter(test).count();
    let upper = counts(u8::is_ascii_uppercase);
    let (lower, digit) = (counts(u8::is_ascii_lowercase), counts(u8::is_ascii_digit));
    let certificate = before.ends_with('\n') && behind.starts_with('\n') && value.len() >= 60;
    upper >= 4 && lower >= 4 && digit >= 3 && !hexadecimal && !is_name && !fingerprint && !certificate
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cards_have_a_prefix_a_length_and_a_check_digit() {
        for good in ["4111111111111111", "4111 1111 1111 1111", "3782-822463-10005", "5500005555555559"] {
            assert!(is_card_number(good), "{good}");
        }
        for other in
            ["4111111111111112", "1775961067442", "1775961067442123", "134200346674420000", "4111 1111-1111 1111"]
        {
            assert!(!is_card_number(other), "{other}");
        }
        // Milliseconds and microseconds of many moments: none is a card.
        for moment in (0..200_000_u64).map(|step| 1_600_000_000_000 + step * 997_331) {
            assert!(!is_card_number(&moment.to_string()) && !is_card_number(&(moment * 1000 + 7).to_string()));
        }
    }

    #[test]
    fn account_numbers() {
        assert!(is_account_number("DE89370400440532013000") && is_account_number("GB82 WEST 1234 5698 7654 32"));
        assert!(!is_account_number("DE89370400440532013001"));
    }

    #[test]
    fn addresses_and_what_looks_like_one() {
        let found = |text: &str| -> Vec<String> {
            let mut spans = Vec::new();
            ipv6(text, &mut spans);
            spans.into_iter().map(|(start, end)| text[start..end].to_owned()).collect()
        };
        assert_eq!(found("addr:2a02:810d::1:2 [fd12::5:1]:443"), ["2a02:810d::1:2", "fd12::5:1"]);
        assert_eq!(found("std::vector feed::add 12:34:56 00:1b:44:11:3a:b7 ::1 bad::cafe"), [""; 0]);
        assert_eq!(found("1b:8a:7c:4d:5e:6f:70:81:92:a3:b4:c5:d6:e7:f8:09"), [""; 0]);
        let is = |before: &str, value: &str, behind: &str| {
            Check::Ipv4.holds(&format!("{before}{value}{behind}"), before.len(), value)
        };
        assert!(is("from ", "10.1.2.3", " ") && is("host/", "198.51.100.7", ":53") && is("//", "198.51.100.7", "/x"));
        assert!(!is("Chrome/", "120.0.1.2", " ") && !is("version ", "10.1.2.3", "") && !is("1.3.", "6.1.4.1", ".311"));
    }

    proptest::proptest! {
        #[test]
        fn any_text(text in ".{0,80}") {
            let mut spans = Vec::new();
            ipv6(&text, &mut spans);
            for (start, end) in spans {
                proptest::prop_assert!(text.get(start..end).is_some_and(|run| run.parse::<Ipv6Addr>().is_ok()));
            }
            for check in [Check::CardNumber, Check::AccountNumber, Check::Mail, Check::Random, Check::Unexplained] {
                let _ = check.holds(&text, 0, &text);
            }
        }
    }
}
