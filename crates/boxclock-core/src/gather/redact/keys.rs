//! Values behind a word that says what they are, in the notations in which programs write them: `name=value`, `name: value`, JSON
//! and JSON inside JSON, elements and attributes of XML, options of commands, settings in files, headers and queries.

use aho_corasick::{AhoCorasick, MatchKind};

use super::values::is_random;

/// Words and what is known of their values.
#[derive(Clone, Debug)]
pub(super) struct Keys {
    stems: AhoCorasick,
    words: Vec<String>,
    weak: Vec<String>,
    not_with: Vec<String>,
    prose: Vec<String>,
    names: bool,
    /// Whether a value is one word, also at the start of a line of settings.
    single: bool,
}

/// A column is named by one of the words.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Named {
    /// By one whose values must look made by a machine.
    weak: bool,
}

/// How a value stands behind its word.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Way {
    /// Behind `=`, or in quotes.
    Tight,
    /// Behind a colon without a blank: `name:value`.
    Glued,
    /// Behind a colon and a blank, where prose may stand.
    Loose,
    /// Behind a blank, as the next word of a command.
    Option,
    /// Between two tags.
    Element,
}

/// Bytes of the longest name that is looked at.
const NAME_BYTES: usize = 200;
/// Bytes before a name, and behind it, in which its notation and its value are looked for.
const BEFORE_BYTES: usize = 64;
const BEHIND_BYTES: usize = 16 << 10;

/// The last bytes of a text, from a whole character on.
pub(super) fn near_end(text: &str) -> &str {
    let from = text.len().saturating_sub(BEFORE_BYTES);
    (from..=text.len()).find_map(|at| text.get(at..)).unwrap_or_default()
}

/// The first bytes of a text, up to a whole character.
fn near_start(text: &str) -> &str {
    (0..=BEHIND_BYTES.min(text.len())).rev().find_map(|at| text.get(..at)).unwrap_or_default()
}

/// Signs that a value without quotes ends at.
const ENDS: [char; 14] = [' ', '\t', '\n', '\r', ',', ';', '&', '"', '\'', '<', '>', ')', '}', ']'];

impl Keys {
    /// Finds values behind these words; `weak` ones count only with values that look made by a machine.
    pub(super) fn new(
        words: &[String],
        weak: &[String],
        not_with: &[String],
        prose: &[String],
        names: bool,
    ) -> Result<Self, String> {
        let lower = |list: &[String]| -> Vec<String> { list.iter().map(|word| word.to_lowercase()).collect() };
        // Of several words that fit, the longest says where the value begins.
        let longest_first = |list: &[String]| {
            let mut list = lower(list);
            list.sort_by_key(|word| std::cmp::Reverse(word.split(' ').count()));
            list
        };
        let (words, weak) = (longest_first(words), longest_first(weak));
        // The first part of a word of several is looked for: what may stand between the parts is seen then.
        let stems = words.iter().chain(&weak).flat_map(|word| {
            let first = word.split(' ').next().unwrap_or(word).to_owned();
            let capital = capitalised(&first);
            [first.clone(), capital, first.to_uppercase()]
        });
        let stems = AhoCorasick::builder()
            .match_kind(MatchKind::LeftmostLongest)
            .build(stems.collect::<std::collections::BTreeSet<_>>())
            .map_err(|error| error.to_string())?;
        Ok(Self { stems, words, weak, not_with: lower(not_with), prose: lower(prose), names, single: false })
    }

    /// The same, with values of one word.
    pub(super) fn single(self, single: bool) -> Self {
        Self { single, ..self }
    }

    /// Whether the values are names of people.
    pub(super) fn of_names(&self) -> bool {
        self.names
    }

    /// Adds the places of the values in a text.
    pub(super) fn find(&self, text: &str, spans: &mut Vec<(usize, usize)>) {
        let mut from = 0;
        while let Some(found) = self.stems.find(aho_corasick::Input::new(text).range(from..)) {
            from = found.end();
            let (start, end) = name_around(text, found.start(), found.end());
            let Some((end, is_weak)) = self.says(text, start, end) else {
                // The same name is not looked at again.
                from = end.max(from);
                continue;
            };
            from = end.max(from);
            if let Some((value, value_end)) = self.value(text, start, end, is_weak)
                && !is_working_folder(text.get(start..end).unwrap_or_default(), text.get(value..).unwrap_or_default())
            {
                spans.push((value, value_end));
                from = value_end.max(from);
            }
        }
    }

    /// Whether a name says that a value is of this kind: where it ends, and whether weakly.
    fn says(&self, text: &str, start: usize, end: usize) -> Option<(usize, bool)> {
        let name = text.get(start..end).filter(|name| name.len() <= NAME_BYTES)?;
        let parts = parts_of(name);
        if parts.last().is_some_and(|last| self.not_with.contains(last)) {
            return None;
        }
        let behind = text.get(end..)?;
        let joined = parts.concat();
        for (list, weak) in [(&self.words, false), (&self.weak, true)] {
            for word in list {
                let mut pieces = word.split(' ');
                let together: String = pieces.clone().collect();
                let has_part = (0..parts.len()).any(|from| {
                    let mut sum = String::new();
                    parts[from..].iter().any(|part| {
                        sum.push_str(part);
                        sum == together
                    })
                });
                let glued = together.len() >= 5 && joined.ends_with(&together)
                    || together.len() >= 8 && joined.starts_with(&together);
                if has_part || glued {
                    return Some((end, weak));
                }
                // `mot de passe`, `Account Name`: words with blanks between them.
                let first = pieces.next()?;
                if parts.last().is_some_and(|last| last == first)
                    && let rest @ [_, ..] = pieces.collect::<Vec<_>>().as_slice()
                    && let Some(length) = follows(behind, rest)
                {
                    return Some((end + length, weak));
                }
            }
        }
        None
    }

    /// Whether the name of a column says that its values are of this kind: its last words must say so, for `Password expires` is a moment.
    pub(super) fn names_column(&self, name: &str) -> Option<Named> {
        let parts = parts_of(&name.replace(|letter: char| !letter.is_alphanumeric(), "_"));
        if name.len() > NAME_BYTES || parts.last().is_none_or(|last| self.not_with.contains(last)) {
            return None;
        }
        let ends = |word: &String| {
            let together = word.replace(' ', "");
            (0..parts.len()).any(|from| parts[from..].concat() == together)
        };
        let weak = !self.words.iter().any(ends);
        (!weak || self.weak.iter().any(ends)).then_some(Named { weak })
    }

    /// The value in a cell of such a column, if it may be one.
    pub(super) fn cell(&self, text: &str, at: usize, length: usize, named: Named) -> Option<(usize, usize)> {
        self.take(text, at, length, Way::Tight, named.weak)
    }

    /// The value behind a name that ends at `end`.
    fn value(&self, text: &str, start: usize, end: usize, is_weak: bool) -> Option<(usize, usize)> {
        // What stands around a name is looked for nearby: a hostile line must not be read again for each name in it.
        let before = near_end(text.get(..start)?);
        let line = near_start(text.get(end..)?);
        let line = line.split('\n').next().unwrap_or_default();
        let text = text.get(..end + line.len())?;
        let mut rest = line;
        let at = |rest: &str| text.len() - rest.len();
        let in_tag = before.ends_with('<')
            || before.rsplit('<').next().is_some_and(|lead| {
                lead.len() < 40 && !lead.contains(['>', ' ', '\n']) && before.contains('<') && lead.ends_with(':')
            });
        let is_option = before.ends_with("--") || before.ends_with(" -") || before.ends_with(" /");
        if in_tag {
            // `<password type="x">value</password>`
            let attributes = rest.get(..rest.find('>')?)?;
            let open = !attributes.ends_with('/') && !attributes.contains(['<', '\n']) && !attributes.starts_with('=');
            rest = rest.get(attributes.len() + 1..)?;
            let length = rest.find(['<', '\n']).unwrap_or(rest.len());
            return if open { self.take(text, at(rest), length, Way::Element, is_weak) } else { None };
        }
        rest = rest.trim_start_matches(']');
        let (quoted, inner) = closing_quote(rest);
        // `$cfg['password'] = 'x'`
        rest = if quoted { inner.trim_start_matches(']') } else { inner };
        // `name="password" value="x"`, `{"name":"password","value":"x"}`
        if quoted && let Some(inner) = beside(rest) {
            rest = inner;
        } else if quoted
            && !is_weak
            && let Some(inner) = next_argument(before, rest)
        {
            rest = inner;
        } else if quoted && let Some(inner) = rest.strip_prefix('>') {
            // `<Data Name="password">value</Data>`
            let length = inner.find(['<', '\n']).unwrap_or(inner.len());
            return self.take(text, at(inner), length, Way::Element, is_weak);
        } else {
            let blanks = rest.len() - rest.trim_start_matches([' ', '\t']).len();
            let lead = rest.trim_start_matches([' ', '\t']);
            let separated = ["=>", "->", ":=", "==", "::", "=", ":", "：", "%3D", "%3d", "%3A"]
                .iter()
                .find_map(|sign| lead.strip_prefix(sign));
            match separated {
                // `user::tests`: a path in a program.
                Some(inner) if lead.starts_with("::") && inner.starts_with(char::is_alphabetic) => return None,
                Some(inner) => {
                    let colon = lead.starts_with(':') || lead.starts_with('：');
                    let trimmed = inner.trim_start_matches([' ', '\t']);
                    // A list of one: `"authorization":["…"]`.
                    let list = trimmed.strip_prefix('[').map(|inner| inner.trim_start_matches(' '));
                    let trimmed = list.filter(|inner| inner.starts_with(['"', '\''])).unwrap_or(trimmed);
                    let way = if colon && !quoted && inner.len() > trimmed.len() { Way::Loose } else { Way::Tight };
                    // `libsecret:amd64`: a longer name, and a colon of its own.
                    let glued = colon && !quoted && way == Way::Tight && !trimmed.starts_with(['"', '\'', '\\']);
                    if glued && text.get(start..end)?.contains(['-', '.']) {
                        return None;
                    }
                    let way = if glued { Way::Glued } else { way };
                    return self.worded(text, start, trimmed, way, is_weak);
                }
                None if is_option && blanks > 0 => return self.worded(text, start, lead, Way::Option, is_weak),
                // `IDENTIFIED BY 'x'`, `PASSWORD 'x'`, `password is 'x'`, `password x` where x is no word.
                None if blanks > 0 && !quoted => {
                    // `password for user x: value`
                    if let Some(inner) = told_for(lead).or_else(|| behind_quoted(lead)).filter(|_| !self.names) {
                        return self.worded(text, start, inner, Way::Loose, is_weak);
                    }
                    let lead = ["is ", "was ", "of "].iter().find_map(|word| lead.strip_prefix(word)).unwrap_or(lead);
                    let word: &str = lead.split([' ', '\t', '\n', '\r']).next().unwrap_or_default();
                    let bare = word.trim_end_matches(['.', ',', ';']);
                    let lone =
                        !text.get(start..end)?.contains(['-', '.', '_']) && bare.starts_with(char::is_alphanumeric);
                    let made = lone && is_random(bare) && has_sign(word);
                    let in_quotes = lead.starts_with(['\'', '"']) && !self.names;
                    return if in_quotes || made && !self.names {
                        self.worded(text, start, lead, Way::Option, is_weak)
                    } else {
                        None
                    };
                }
                None => return None,
            }
        }
        self.worded(text, start, rest, Way::Tight, is_weak)
    }

    /// A value that starts with `rest`, in quotes or without.
    fn worded(&self, text: &str, start: usize, rest: &str, way: Way, is_weak: bool) -> Option<(usize, usize)> {
        // `N'…'`, `E'…'`: how strings of SQL begin.
        let is_sql = ["N'", "E'", "n'", "e'"].iter().any(|lead| rest.starts_with(lead));
        let rest = if is_sql { &rest[1..] } else { rest };
        let at = text.len() - rest.len();
        // `user=<name>`, `user=[name]`
        if self.names
            && let Some(close) = rest
                .chars()
                .next()
                .and_then(|open| [('<', '>'), ('[', ']')].iter().find(|pair| pair.0 == open))
                .map(|pair| pair.1)
            && let Some(length) = rest.get(1..).and_then(|inner| inner.find(close))
        {
            return self.take(text, at + 1, length, way, is_weak);
        }
        let slashes = rest.bytes().take_while(|byte| *byte == b'\\').count();
        if let Some(quote) = rest.get(slashes..)?.chars().next().filter(|sign| matches!(sign, '"' | '\'' | '`')) {
            let inner = rest.get(slashes + 1..)?;
            let length = closing(inner, quote, slashes);
            // `key="password" value="x"`: the value is a name.
            let behind = inner.get(length..).unwrap_or_default().trim_start_matches('\\');
            if is_weak && behind.strip_prefix(quote).is_some_and(|behind| beside(behind).is_some()) {
                return None;
            }
            return self.take(text, at + slashes + 1, length, Way::Tight, is_weak);
        }
        let line = rest.split(['\n', '\r']).next().unwrap_or_default();
        let length = if !matches!(way, Way::Option | Way::Glued)
            && !is_weak
            && !self.single
            && is_setting(text, start)
            && !has_pairs(line)
            && !self.names
        {
            line.trim_end().len()
        } else if self.names {
            let end =
                line.find(|sign| ENDS.contains(&sign) || matches!(sign, '(' | ':' | '|' | '/')).unwrap_or(line.len());
            line.get(..end)?.trim_end_matches('.').len()
        } else if line.starts_with('{') && line.contains('}') && way == Way::Tight && !line.contains('"') {
            // `password={a;b}` of connection strings.
            line.find('}')? + 1
        } else {
            let end = if way == Way::Loose && !is_weak && ends_alone(line) {
                line.trim_end_matches([')', ']', '}', '.', ',', ';', ' ', '\t']).len()
            } else {
                line.find(|sign| ENDS.contains(&sign)).unwrap_or(line.len())
            };
            // In an address inside another, `&` is written so.
            line.get(..end)?.find("%26").unwrap_or(end)
        };
        self.take(text, at, length, way, is_weak)
    }

    /// The value, if it may be one.
    fn take(&self, text: &str, at: usize, length: usize, way: Way, is_weak: bool) -> Option<(usize, usize)> {
        let value = text.get(at..at + length)?;
        if self.names {
            // Behind the domain stands the name.
            let name = value.rsplit('\\').next().unwrap_or(value);
            let sign = |letter: char| letter.is_alphanumeric() || matches!(letter, '.' | '_' | '-' | ' ' | '@');
            let good = name.chars().all(sign) && name.chars().any(char::is_alphabetic) && name.chars().count() >= 2;
            let words = name.split(' ').count();
            let lower = name.to_lowercase();
            // `imap-login: Login: …`: the word once more is no name.
            let good = good && name.starts_with(char::is_alphabetic);
            return (good && words <= 3 && !self.prose.contains(&lower) && !self.words.contains(&lower))
                .then_some((at + length - name.len(), at + length));
        }
        let lower = value.to_lowercase();
        let first = value.chars().next()?;
        let blank = value.chars().all(|letter| letter == first || !letter.is_alphanumeric());
        let placeholder = value.starts_with(['{', '[']) && !value.ends_with('}')
            || ["${", "$(", "%(", "%s", "%d", "{{", "{0", "{}", "<", "…"].iter().any(|lead| value.starts_with(lead));
        // `-Credential (New-Object …`: what follows is worked out first.
        if blank || placeholder || way == Way::Option && first == '(' {
            return None;
        }
        let word = lower.trim_end_matches(['.', ',', ';', '!', ':']);
        let plain = word.chars().all(char::is_alphabetic);
        let is_prose = |word: &str| self.prose.iter().any(|other| other == word);
        let first_word = lower.split(' ').next().unwrap_or_default().trim_end_matches(['.', ',', ';', ':']);
        if matches!(way, Way::Loose | Way::Option) && (is_prose(first_word) || way == Way::Loose && plain && is_weak)
            || is_prose(word)
        {
            return None;
        }
        // `key="db.password"`: the value is a name itself.
        let is_name = || {
            let parts = parts_of(value);
            self.words.iter().any(|word| parts.iter().any(|part| part == word))
        };
        if is_weak && is_name() {
            return None;
        }
        if is_weak
            && (is_known_form(value)
                || is_key_print(text.get(..at).unwrap_or_default(), value)
                || way == Way::Option && value.contains(['/', '\\', ':']))
        {
            return None;
        }
        let good = if is_weak { is_random(value) || value.len() >= 16 && !plain } else { true };
        good.then_some((at, at + length))
    }
}

/// How names of ways of encryption begin.
const CIPHERS: [&str; 26] = [
    "aes", "des", "3des", "rsa", "dsa", "ecdsa", "ecdh", "ed25519", "ed448", "x25519", "x448", "sha", "md5", "hmac",
    "chacha", "poly", "camellia", "aria", "curve", "secp", "prime", "dh", "rc4", "blake", "nist", "ssh",
];

/// What stands behind `key`, `session` or `signature` and is no secret: the name of a way of encryption (`ED25519`, `AES-256-GCM`), a
/// moment, the identity of an account (`S-1-5-18`), the session of a database (start and process in hexadecimal), the key of a registry.
fn is_known_form(value: &str) -> bool {
    let lower = value.to_ascii_lowercase();
    let digits = value.bytes().filter(u8::is_ascii_digit).count();
    let cipher = value.len() <= 24 && digits <= 6 && CIPHERS.iter().any(|name| lower.starts_with(name));
    let is_digit = |at: usize| value.as_bytes().get(at).is_some_and(u8::is_ascii_digit);
    let is_hyphen = |at: usize| value.as_bytes().get(at) == Some(&b'-');
    let moment = (0..4).chain(5..7).chain(8..10).all(is_digit) && is_hyphen(4) && is_hyphen(7);
    let session = value.split_once('.').is_some_and(|(start, process)| {
        start.len() == 8 && process.len() <= 8 && is_hexadecimal(start) && is_hexadecimal(process)
    });
    // The numbers of a session of servicing; the key of a registry.
    let numbers = value.bytes().all(|byte| byte.is_ascii_digit() || byte == b'_') && value.contains('_');
    cipher || moment || session || numbers || value.contains('\\') || value.starts_with("S-1-")
}

/// `kernel key: 4f447c55…`: the print of a public key by SHA-1, as certificates are listed.
fn is_key_print(before: &str, value: &str) -> bool {
    let lead = before.trim_end_matches([' ', ':', '\'', '"']);
    value.len() == 40 && is_hexadecimal(value) && (lead.ends_with(" key") || lead.ends_with(" Key"))
}

fn is_hexadecimal(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_hexdigit())
}

/// `PWD=/var/log`: the shell's name for the folder where it is, not for a password.
fn is_working_folder(name: &str, value: &str) -> bool {
    let mut start = value.chars();
    let is_path = match (start.next(), start.next(), start.next()) {
        (Some('/'), ..) | (Some('~'), Some('/'), _) => true,
        (Some(drive), Some(':'), Some('\\' | '/')) => drive.is_ascii_alphabetic(),
        _ => false,
    };
    is_path && ["pwd", "oldpwd"].iter().any(|folder| name.eq_ignore_ascii_case(folder))
}

fn capitalised(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().collect::<String>() + letters.as_str())
}

/// The whole name that a place is in: letters, digits, `_`, `-` and `.`.
fn name_around(text: &str, start: usize, end: usize) -> (usize, usize) {
    let inside = |letter: &char| letter.is_alphanumeric() || matches!(letter, '_' | '-' | '.');
    let before: usize = text[..start].chars().rev().take_while(inside).map(char::len_utf8).sum();
    let behind: usize = text[end..].chars().take_while(inside).map(char::len_utf8).sum();
    let lead = text[start - before..start].bytes().take_while(|byte| matches!(byte, b'-' | b'.')).count();
    (start - before + lead.min(before), end + behind)
}

/// The parts of a name, in small letters: `dbPassword2`, `DB_PASS`, `db.pass`.
fn parts_of(name: &str) -> Vec<String> {
    let mut parts: Vec<String> = vec![String::new()];
    let mut before = ' ';
    for letter in name.chars() {
        let starts = letter.is_uppercase() && before.is_lowercase();
        if matches!(letter, '_' | '-' | '.') || starts {
            parts.push(String::new());
        }
        if letter.is_alphanumeric()
            && let Some(part) = parts.last_mut()
        {
            part.extend(letter.to_lowercase());
        }
        before = letter;
    }
    parts.retain(|part| !part.is_empty());
    parts
}

/// How much of a text the words take that it must go on with, blanks before each.
fn follows(text: &str, words: &[&str]) -> Option<usize> {
    let mut rest = text;
    for word in words {
        let inner = rest.strip_prefix(' ')?.trim_start_matches(' ');
        let length = inner.char_indices().map(|(at, letter)| at + letter.len_utf8()).nth(word.chars().count() - 1)?;
        if inner.get(..length)?.to_lowercase() != *word {
            return None;
        }
        rest = inner.get(length..)?;
    }
    let ends = !rest.starts_with(|letter: char| letter.is_alphanumeric() || letter == '_');
    ends.then_some(text.len() - rest.len())
}

/// What stands behind the colon of `for user x: value`: a few words say whose it is.
fn told_for(lead: &str) -> Option<&str> {
    let words = ["for ", "für ", "pour ", "para ", "voor ", "per ", "för ", "til "];
    let rest = words.iter().find_map(|word| lead.strip_prefix(word))?;
    let (whose, value) = rest.split_once(':').filter(|(whose, _)| whose.len() <= 60)?;
    let short = whose.len() <= 60 && whose.split(' ').count() <= 3 && !whose.contains(['\n', '=', '"']);
    short
        .then(|| value.trim_start_matches([' ', '\t']))
        .filter(|value| !value.starts_with(['\n', '\r']) && !value.is_empty())
}

/// What stands behind the colon of `'/srv/key': value`.
fn behind_quoted(lead: &str) -> Option<&str> {
    let quote = lead.chars().next().filter(|sign| matches!(sign, '"' | '\''))?;
    let inner = lead.get(1..)?;
    let value = inner.get(inner.find(quote)? + 1..)?.strip_prefix(": ")?.trim_start_matches(' ');
    Some(value).filter(|value| !value.is_empty())
}

/// The value beside a quoted name, as the next argument of a call: `set_config('app.secret', 'value')`.
fn next_argument<'a>(before: &str, rest: &'a str) -> Option<&'a str> {
    let rest = rest.strip_prefix(',')?.trim_start_matches(' ');
    (before.ends_with("('") || before.ends_with("(\"")).then_some(rest).filter(|rest| rest.starts_with(['"', '\'']))
}

/// Without the quote that ends a name, and the backslashes before it.
fn closing_quote(rest: &str) -> (bool, &str) {
    let inner = rest.trim_start_matches('\\');
    match inner.strip_prefix(['"', '\'']) {
        Some(inner) => (true, inner),
        None => (false, rest),
    }
}

/// Behind a quoted name, the value in an attribute or member `value` beside it.
fn beside(rest: &str) -> Option<&str> {
    let lead = rest.trim_start_matches([' ', ',', '\\', '"', '\'']);
    let lead = lead.strip_prefix("value").or_else(|| lead.strip_prefix("Value"))?;
    let lead = lead.trim_start_matches(['\\', '"', '\'', ' ']);
    lead.strip_prefix(['=', ':']).map(|rest| rest.trim_start_matches(' '))
}

/// Bytes up to the quote that closes a value, behind as many backslashes as the one that opened it; else up to the end of the line.
fn closing(inner: &str, quote: char, slashes: usize) -> usize {
    let mut before = 0;
    for (at, letter) in inner.char_indices() {
        match letter {
            '\n' | '\r' => return at,
            '\\' => before += 1,
            _ => {
                let closes = if slashes == 0 { before % 2 == 0 } else { before == slashes };
                if letter == quote && closes {
                    return at - slashes.min(before);
                }
                before = 0;
            }
        }
    }
    inner.len()
}

/// Whether a name stands at the start of its line, as in a file of settings.
fn is_setting(text: &str, start: usize) -> bool {
    let line = near_end(&text[..start]).rsplit('\n').next().unwrap_or_default().trim_start();
    let line = line.strip_prefix("export ").or_else(|| line.strip_prefix("set ")).unwrap_or(line);
    line.is_empty() || matches!(line, "- " | "#" | "# " | "; ")
}

/// Whether a text goes on with other pairs: then blanks end a value.
fn has_pairs(line: &str) -> bool {
    let mut words = line.split([' ', ';', '&', ',']).skip(1);
    words.any(|word| {
        word.split_once('=').is_some_and(|(name, _)| {
            !name.is_empty()
                && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-' | b'.'))
        })
    }) || line.contains(';')
        || line.contains('&')
}

/// Whether one word is left of a line, and it is no list of pairs: commas and the like in it are its own.
fn ends_alone(line: &str) -> bool {
    let line = line.trim_end();
    !line.contains([' ', '\t', '=', '"', '\'', '<']) && !line.contains(':')
}

/// Whether a word has a digit or a sign: no word of a sentence.
fn has_sign(word: &str) -> bool {
    word.bytes().any(|byte| byte.is_ascii_digit() || matches!(byte, b'!' | b'$' | b'%' | b'#' | b'@' | b'+' | b'*'))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keys() -> Keys {
        let words = ["password", "mot de passe", "secret", "pass"].map(str::to_owned);
        let weak = ["token".to_owned()];
        let not_with = ["count".to_owned(), "file".to_owned()];
        Keys::new(&words, &weak, &not_with, &["expired".to_owned(), "failed".to_owned()], false).unwrap()
    }

    fn found(text: &str) -> Vec<String> {
        let mut spans = Vec::new();
        keys().find(text, &mut spans);
        spans.into_iter().map(|(start, end)| text[start..end].to_owned()).collect()
    }

    #[test]
    fn notations() {
        for (text, wanted) in [
            ("x password=abc y", vec!["abc"]),
            ("password=\"a b;c\" y", vec!["a b;c"]),
            (r#"{"m":"{\"password\":\"p1\",\"x\":1}"}"#, vec!["p1"]),
            ("<password>a b</password>", vec!["a b"]),
            ("x --password abc --to y", vec!["abc"]),
            ("dbPassword: x1", vec!["x1"]),
            ("mot de passe : Homard", vec!["Homard"]),
            ("password_file=/x password_count=3", vec![]),
            ("password: expired", vec![]),
            ("password expired", vec![]),
            ("token: identifier; token=Zx81abcd", vec!["Zx81abcd"]),
            ("bypass=false passed=3", vec![]),
            ("password=", vec![]),
            ("name=\"password\" value=\"x y\"", vec!["x y"]),
        ] {
            assert_eq!(found(text), wanted, "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_text(parts in proptest::collection::vec(proptest::sample::select(vec![
            "password", "=", ":", "\"", "\\", "'", " ", "\n", "ü", "<", ">", "token", "value", "mot de passe", "abc1", "密码", "--", "{", "}",
        ]), 0..40)) {
            let text = parts.concat();
            let mut spans = Vec::new();
            keys().find(&text, &mut spans);
            for (start, end) in spans {
                proptest::prop_assert!(start < end && text.get(start..end).is_some_and(|value| !value.contains('\n')));
            }
        }
    }
}
