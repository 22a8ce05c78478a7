//! Kinds of messages: forms (a message without its values) that differ in a few words are one kind.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};

/// Words of a form that are looked at.
const MOST_TOKENS: usize = 30;

/// Whether the word behind a command says what it does: `systemctl disable`, not a file, a name or an option.
fn is_verb(word: &[u8]) -> bool {
    (2..=16).contains(&word.len())
        && word.iter().all(|byte| byte.is_ascii_lowercase() || *byte == b'-')
        && word.first() != Some(&b'-')
}

/// The number of a message's form: its words, without numbers, values, paths and names in quotes. The same on every machine.
pub(super) fn form_of(message: &[u8]) -> u32 {
    let line = message.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let line = line.get(..300).unwrap_or(line);
    let mut hash = 0x811C_9DC5_u32;
    let mut add = |bytes: &[u8]| {
        for byte in bytes {
            hash = (hash ^ u32::from(byte.to_ascii_lowercase())).wrapping_mul(0x0100_0193);
        }
        hash = (hash ^ 0x1F).wrapping_mul(0x0100_0193);
    };
    let mut in_quotes = None;
    let mut words = line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
    while let Some(word) = words.next() {
        if let Some(quote) = in_quotes {
            if word.contains(&quote) {
                in_quotes = None;
            }
            continue;
        }
        // What a person ran is told by the program, not by its path.
        if let Some(program) = word.strip_prefix(b"COMMAND=") {
            add(program.rsplit(|byte| *byte == b'/').next().unwrap_or(program));
            if let Some(verb) = words.next().filter(|word| is_verb(word)) {
                add(verb);
            }
            break;
        }
        if let Some(quote) = word.first().filter(|byte| matches!(byte, b'"' | b'\'')) {
            add(b"\"");
            if word.len() < 2 || !word[1..].contains(quote) {
                in_quotes = Some(*quote);
            }
            continue;
        }
        let key = word.iter().position(|byte| *byte == b'=').map_or(word, |at| &word[..at]);
        let is_value =
            |word: &[u8]| word.iter().any(|byte| byte.is_ascii_digit() || matches!(byte, b'/' | b'@' | b'\\'));
        add(if is_value(key) { b"#" } else { key });
    }
    hash
}

/// The words of a message's form.
fn tokens(body: &str) -> Vec<String> {
    let line: String = body.lines().next().unwrap_or_default().chars().take(300).collect();
    if let Some((_, command)) = line.split_once("COMMAND=") {
        let mut words = command.split_whitespace();
        let program = words.next().unwrap_or_default();
        let verb = words.next().filter(|word| is_verb(word.as_bytes())).unwrap_or_default();
        return vec!["COMMAND".into(), format!("{} {verb}", program.rsplit('/').next().unwrap_or(program))];
    }
    let mut tokens = Vec::new();
    let mut in_quotes = None;
    for word in line.split_whitespace() {
        if let Some(quote) = in_quotes {
            if word.contains(quote) {
                in_quotes = None;
            }
            continue;
        }
        if let Some(quote) = word.chars().next().filter(|letter| matches!(letter, '"' | '\'')) {
            tokens.push("\"".to_owned());
            if !word[1..].contains(quote) {
                in_quotes = Some(quote);
            }
        } else if let Some((key, _)) = word.split_once('=') {
            tokens.push(format!("{key}="));
        } else if word.bytes().any(|byte| byte.is_ascii_digit()) {
            tokens.push("#".into());
        } else if word.contains(['/', '@', '\\']) {
            tokens.push("/".into());
        } else {
            tokens.push(word.to_lowercase().trim_matches(|letter| "()[]{},;:.!".contains(letter)).to_owned());
        }
        if tokens.len() >= MOST_TOKENS {
            break;
        }
    }
    tokens
}

/// Puts forms together to kinds. The order of the forms decides; they come by time.
#[derive(Default)]
pub(super) struct Kinds {
    /// The words of each kind; `None` where they differ.
    list: Vec<Vec<Option<String>>>,
    /// Kinds of one program with as many words and the same attributes.
    groups: HashMap<(u32, usize, u64), Vec<u32>>,
}

impl Kinds {
    /// The kind of a message. `owner` is who wrote it: a program, or a log; `names` are those of its attributes.
    pub(super) fn of<'a>(&mut self, owner: u32, body: &str, names: impl Iterator<Item = &'a str>) -> u32 {
        let tokens = tokens(body);
        let mut names: Vec<&str> = names.filter(|name| !name.starts_with("exception")).collect();
        names.sort_unstable();
        names.truncate(8);
        let mut hasher = DefaultHasher::new();
        names.hash(&mut hasher);
        let group = self.groups.entry((owner, tokens.len(), hasher.finish())).or_default();
        let same = |kind: &u32| {
            let known = &self.list[*kind as usize];
            known.iter().zip(&tokens).filter(|(known, word)| known.as_ref() == Some(word)).count()
        };
        // The first of the most alike.
        let best = group
            .iter()
            .map(|kind| (same(kind), *kind))
            .reduce(|best, other| if other.0 > best.0 { other } else { best });
        let count = tokens.len() as f64;
        // Six of ten words the same; of a short message all but two at most.
        let needed = f64::max(0.6 * count, if count <= 4.0 { count - 2.0 } else { 0.0 });
        if let Some((_, kind)) = best.filter(|(alike, _)| *alike > 0 && *alike as f64 >= needed) {
            for (known, word) in self.list[kind as usize].iter_mut().zip(&tokens) {
                if known.as_ref() != Some(word) {
                    *known = None;
                }
            }
            return kind;
        }
        let next = self.list.len() as u32;
        group.push(next);
        self.list.push(tokens.into_iter().map(Some).collect());
        next
    }

    /// How many kinds there are.
    pub(super) fn len(&self) -> usize {
        self.list.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn same_form(a: &str, b: &str) -> bool {
        form_of(a.as_bytes()) == form_of(b.as_bytes())
    }

    #[test]
    fn forms_leave_values_out() {
        assert!(same_form("frame fr-0412-4096 refused, retry 4", "frame fr-0500-1 refused, retry 19"));
        assert!(same_form("opened /srv/plan/a.db in 3 ms", "opened /srv/plan/b.db in 40 ms"));
        assert!(same_form("title \"night plan\" saved", "title \"day\" saved"));
        assert!(!same_form("port opened", "port closed"));
        assert!(!same_form("x : COMMAND=/bin/systemctl restart gate", "x : COMMAND=/bin/systemctl disable gate"));
        assert!(same_form("x : COMMAND=/usr/bin/vi a.toml", "x : COMMAND=/usr/bin/vi b.toml"));
    }

    #[test]
    fn forms_that_differ_in_a_name_are_one_kind() {
        let mut kinds = Kinds::default();
        let mut of = |body: &str| kinds.of(1, body, std::iter::empty());
        assert_eq!(
            of("Accepted key for anna from 10.0.0.4 port 4000"),
            of("Accepted key for olof from 10.0.0.9 port 1")
        );
        assert_ne!(of("Accepted key for anna from 10.0.0.4 port 4000"), of("Removed key for anna at 10.0.0.4 by hand"));
        assert_eq!(of("x : COMMAND=/usr/bin/vi a.toml"), of("a b : TTY=1 ; COMMAND=/usr/bin/vi b.toml"));
        assert_ne!(of("x : COMMAND=/usr/bin/vi a.toml"), of("x : COMMAND=/usr/bin/rm a.toml"));
        assert_ne!(of("x : COMMAND=/bin/systemctl restart gate"), of("x : COMMAND=/bin/systemctl disable gate"));
        assert_ne!(of("port opened"), kinds.of(2, "port opened", std::iter::empty()), "of another program");
    }
}
