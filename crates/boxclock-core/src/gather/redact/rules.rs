//! The rules: what is replaced. They are data (`redaction.toml`, files of the user), each with samples of its own that must hold.

use regex::bytes::{Regex, RegexBuilder};
use serde::Deserialize;

use super::keys::Keys;
use super::sieve::Present;
use super::values::Check;
use crate::text::needed::needed;
use crate::{limits, platform};

/// One rule: what is replaced.
#[derive(Clone, Debug)]
pub struct Rule {
    /// Its name, as the redacted box shows it.
    pub name: String,
    /// What it is for, for people.
    pub title: String,
    /// How it finds values.
    pub(super) finder: Finder,
    check: Option<Check>,
    keep: Vec<String>,
    /// Whether a value that was found once is replaced wherever it stands.
    pub(super) spreads: bool,
    /// Whether an address stays an address: the replacement of 10.1.2.3 looks like one.
    pub(super) keeps_shape: bool,
    /// Whether what it finds is only reported, not replaced.
    pub(super) suspects: bool,
}

/// How values are found.
#[derive(Clone, Debug)]
pub(super) enum Finder {
    /// What regular expressions match, or their group `value`.
    Patterns(Vec<Pattern>),
    /// What stands behind a word that says so, in any of the usual notations.
    Keys(Box<Keys>),
    /// The lines of private keys between their marks.
    Armour,
    /// IPv6 addresses.
    Ipv6,
}

/// Of more texts than these, one is nearly always there.
const MOST_NEEDED: usize = 64;

/// A regular expression, and the texts of which each match has at least one.
#[derive(Clone, Debug)]
pub(super) struct Pattern {
    regex: Regex,
    needs: Vec<String>,
}

impl Pattern {
    fn new(pattern: &str) -> Result<Self, String> {
        let built = RegexBuilder::new(pattern).size_limit(limits::REGEX_BYTES).build();
        let regex = built.map_err(|error| error.to_string())?;
        if regex.is_match(b"") {
            return Err("a pattern matches an empty text: it would find something everywhere".to_owned());
        }
        Ok(Self { regex, needs: needed(pattern).filter(|texts| texts.len() <= MOST_NEEDED).unwrap_or_default() })
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RuleText {
    name: String,
    title: String,
    /// A regular expression; where it has a group `value`, only that is replaced.
    pattern: Option<String>,
    /// Several of them.
    #[serde(default)]
    patterns: Vec<String>,
    /// Words behind which a value stands: `password`, `api key`.
    words: Option<Vec<String>>,
    /// Words that count only if the value looks made by a machine: `token`, `session id`.
    #[serde(default)]
    weak_words: Vec<String>,
    /// Last words of a name that say something about the value, and not the value: `count`, `expires`.
    #[serde(default)]
    not_with: Vec<String>,
    /// Values that are prose when they stand unquoted behind a colon.
    #[serde(default)]
    prose: Vec<String>,
    /// Whether the values are names of people: letters, digits and a few signs.
    #[serde(default)]
    names: bool,
    /// A finder that is code: `armour`, `ipv6`.
    find: Option<Code>,
    #[serde(default)]
    check: Option<Check>,
    /// Values that stay as they are.
    #[serde(default)]
    keep: Vec<String>,
    #[serde(default)]
    spreads: bool,
    #[serde(default, alias = "keeps_shape")]
    keeps_shape: bool,
    #[serde(default)]
    suspects: bool,
    /// Texts in which it finds what stands between ‹ and ›, and nothing else.
    #[serde(default)]
    finds: Vec<String>,
    /// Texts in which it finds nothing.
    #[serde(default)]
    leaves: Vec<String>,
}

#[derive(Clone, Copy, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Code {
    Armour,
    Ipv6,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RuleFile {
    rule: Vec<RuleText>,
}

/// The rules that are applied, in order: where two find the same place, the first one names it.
#[derive(Clone, Debug, Default)]
pub struct Rules {
    /// Good ones.
    pub good: Vec<Rule>,
    /// File and mistake.
    pub wrong: Vec<(String, String)>,
}

/// The files that ship with the program.
const SHIPPED: [(&str, &str); 2] = [
    ("redaction.toml", include_str!("../redaction.toml")),
    ("redaction-people.toml", include_str!("../redaction-people.toml")),
];

impl Rules {
    /// Those that ship with the program and those in the folder `redaction` of the configuration.
    pub fn load() -> Self {
        let mut rules = Self::shipped();
        let folder = platform::config_dir().map(|folder| folder.join("redaction"));
        for (file, text) in folder.map_or(Vec::new(), |folder| platform::toml_texts(&folder)) {
            match text {
                Ok(text) => rules.add(&file, &text),
                Err(error) => rules.wrong.push((file, error.to_string())),
            }
        }
        rules
    }

    /// Those that ship with the program.
    pub fn shipped() -> Self {
        let mut rules = Self::default();
        for (file, text) in SHIPPED {
            rules.add(file, text);
        }
        rules
    }

    /// Adds the rules of a file; one with the name of another takes its place. A rule whose own samples do not hold is wrong.
    pub fn add(&mut self, file: &str, text: &str) {
        let parsed: Result<RuleFile, _> = toml::from_str(text);
        let parsed = match parsed {
            Ok(parsed) => parsed.rule,
            Err(error) => return self.wrong.push((file.to_owned(), error.to_string().trim_end().to_owned())),
        };
        for text in parsed {
            let name = text.name.clone();
            match Rule::of(text) {
                Err(mistake) => self.wrong.push((file.to_owned(), format!("rule {name}: {mistake}"))),
                Ok(rule) => match self.good.iter_mut().find(|other| other.name == name) {
                    Some(other) => *other = rule,
                    None => self.good.push(rule),
                },
            }
        }
    }

    /// Adds a rule for words that are known: the names of users or hosts.
    pub fn add_words(&mut self, name: &str, title: &str, words: &[String]) {
        let words: Vec<String> = words.iter().filter(|word| word.len() > 1).map(|word| regex::escape(word)).collect();
        if words.is_empty() {
            return;
        }
        // Bounds by hand: `\b` would see one between a letter and a hyphen.
        let pattern = format!(r"(?i)(?:^|[^A-Za-z0-9_.-])(?<value>{})(?:$|[^A-Za-z0-9_-])", words.join("|"));
        if let Ok(pattern) = Pattern::new(&pattern) {
            self.good.push(Rule {
                name: name.to_owned(),
                title: title.to_owned(),
                finder: Finder::Patterns(vec![pattern]),
                check: None,
                keep: Vec::new(),
                spreads: false,
                keeps_shape: false,
                suspects: false,
            });
        }
    }
}

impl Rule {
    fn of(text: RuleText) -> Result<Self, String> {
        let patterns: Vec<String> = text.pattern.into_iter().chain(text.patterns).collect();
        let finder = match (patterns.as_slice(), text.words, text.find) {
            (patterns @ [_, ..], None, None) => {
                let built = patterns.iter().map(|pattern| Pattern::new(&made_fast(pattern)));
                Finder::Patterns(built.collect::<Result<_, _>>()?)
            }
            ([], Some(words), None) => {
                let keys = Keys::new(&words, &text.weak_words, &text.not_with, &text.prose, text.names);
                Finder::Keys(Box::new(keys?.single(text.check.is_some())))
            }
            ([], None, Some(Code::Armour)) => Finder::Armour,
            ([], None, Some(Code::Ipv6)) => Finder::Ipv6,
            _ => return Err("write one of: pattern or patterns, words, find".into()),
        };
        let (name, title, check) = (text.name, text.title, text.check);
        let keep = text.keep.iter().map(|value| value.to_lowercase()).collect();
        let (spreads, keeps_shape, suspects) = (text.spreads, text.keeps_shape, text.suspects);
        let rule = Self { name, title, finder, check, keep, spreads, keeps_shape, suspects };
        rule.holds(&text.finds, &text.leaves)?;
        Ok(rule)
    }

    /// Whether its own samples hold.
    fn holds(&self, finds: &[String], leaves: &[String]) -> Result<(), String> {
        for sample in finds.iter().chain(leaves) {
            let (text, wanted) = marked(sample);
            let found: Vec<String> = self.spans(&text, None).map(|(start, end)| text[start..end].to_owned()).collect();
            if found != wanted {
                return Err(format!("its sample \"{sample}\" does not hold: found are {found:?}"));
            }
        }
        Ok(())
    }

    /// The texts that its patterns need.
    pub(super) fn needs(&self) -> impl Iterator<Item = &str> {
        let patterns = if let Finder::Patterns(patterns) = &self.finder { patterns.as_slice() } else { &[] };
        patterns.iter().flat_map(|pattern| &pattern.needs).map(String::as_str)
    }

    /// The places that it finds in a text, ascending. What is known to be there spares patterns that cannot match.
    pub(super) fn spans(&self, text: &str, present: Option<&Present<'_>>) -> impl Iterator<Item = (usize, usize)> {
        let mut spans = Vec::new();
        match &self.finder {
            Finder::Patterns(patterns) => {
                let can_match = |pattern: &&Pattern| present.is_none_or(|present| present.has_one(&pattern.needs));
                patterns.iter().filter(can_match).for_each(|pattern| matches(&pattern.regex, text, &mut spans));
            }
            Finder::Keys(keys) => {
                keys.find(text, &mut spans);
                super::columns::find(keys, text, &mut spans);
            }
            Finder::Armour => super::armour::find(text, &mut spans),
            Finder::Ipv6 => super::values::ipv6(text, &mut spans),
        }
        spans.sort_unstable();
        spans.dedup();
        spans.retain(|(start, end)| {
            text.get(*start..*end).is_some_and(|value| !value.is_empty() && self.applies(text, *start, value))
        });
        spans.into_iter()
    }

    /// Whether its values are names of people.
    pub(super) fn is_of_names(&self) -> bool {
        matches!(&self.finder, Finder::Keys(keys) if keys.of_names()) || self.name.starts_with("user")
    }

    /// Whether its values are labels of hosts.
    pub(super) fn is_of_hosts(&self) -> bool {
        self.name == "host"
    }

    fn applies(&self, text: &str, start: usize, value: &str) -> bool {
        let is_mark = value.starts_with('[') && value.ends_with(']');
        !is_mark
            && !self.keep.contains(&value.to_lowercase())
            && self.check.is_none_or(|check| check.holds(text, start, value))
    }
}

/// Letters: ranges that hold all letters, and little else.
const LETTERS: &str = r"A-Za-z\x{C0}-\x{1FFF}\x{2C00}-\x{D7FF}";

/// A pattern that can be searched for at the speed of reading: word bounds are those of ASCII, and `\p{L}` stands for a few ranges. With the bounds and the 600 ranges of Unicode the search falls back to one that takes ten to thirty times as long.
fn made_fast(pattern: &str) -> String {
    let mut plain = String::with_capacity(pattern.len() + 32);
    let mut rest = pattern;
    let mut in_brackets = false;
    while let Some(letter) = rest.chars().next() {
        let (piece, taken) = match letter {
            '\\' if rest.starts_with(r"\p{L}") && in_brackets => (LETTERS.to_owned(), 5),
            '\\' if rest.starts_with(r"\p{L}") => (format!("[{LETTERS}]"), 5),
            '\\' if rest.starts_with(r"\b") && !rest.starts_with(r"\b{") && !in_brackets => (r"(?-u:\b)".to_owned(), 2),
            // What is escaped is no bracket.
            '\\' => {
                let taken = 1 + rest.chars().nth(1).map_or(0, char::len_utf8);
                (rest.get(..taken).unwrap_or_default().to_owned(), taken)
            }
            _ => {
                in_brackets = if in_brackets { letter != ']' } else { letter == '[' };
                (letter.to_string(), letter.len_utf8())
            }
        };
        plain.push_str(&piece);
        rest = rest.get(taken..).unwrap_or_default();
    }
    plain
}

/// The places of a pattern, or of its group `value`.
fn matches(pattern: &Regex, text: &str, spans: &mut Vec<(usize, usize)>) {
    let mut from = 0;
    while let Some(captures) = pattern.captures_at(text.as_bytes(), from) {
        let Some(value) = captures.name("value").or_else(|| captures.get(0)) else { break };
        // What stands behind a value may be what stands before the next one.
        from = value.end().max(from + 1);
        spans.push((value.start(), value.end()));
        if from > text.len() {
            break;
        }
    }
}

/// A text whose secrets stand between ‹ and ›: without these signs, and the secrets.
pub(super) fn marked(sample: &str) -> (String, Vec<String>) {
    let (mut text, mut secrets) = (String::new(), Vec::new());
    let mut rest = sample;
    while let Some((before, behind)) = rest.split_once('‹') {
        let (secret, behind) = behind.split_once('›').unwrap_or((behind, ""));
        text.push_str(before);
        text.push_str(secret);
        secrets.push(secret.to_owned());
        rest = behind;
    }
    text.push_str(rest);
    (text, secrets)
}
