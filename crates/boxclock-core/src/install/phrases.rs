//! The words of installers: data, see `phrases.toml` for those of all, `installers.toml` for those that their own lines make known.

use std::hash::{Hash, Hasher};
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, OnceLock};

use aho_corasick::{AhoCorasick, AhoCorasickKind, MatchKind};
use regex::{Captures, Regex, RegexBuilder, RegexSet, RegexSetBuilder};
use rustc_hash::FxHasher;
use serde::Deserialize;

use super::Lined;
use crate::case::Case;
use crate::platform;
use crate::text::needed::{beginnings, needed};

/// What a line says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// A run begins.
    Start,
    /// A run ended well.
    Succeeded,
    /// A run failed.
    Failed,
    /// A person stopped it.
    Cancelled,
    /// It could not begin beside another.
    Refused,
    /// The system is to be restarted.
    Restart,
    /// What was done is undone.
    Rollback,
    /// A phase or step begins.
    Phase,
    /// A phase or step ended.
    PhaseEnd,
    /// Something and its states.
    Item,
    /// Something was left out.
    Skipped,
    /// Bad words that mean nothing bad.
    Harmless,
    /// Bad words.
    Error,
    /// Another log is named.
    Child,
    /// Something is tried again.
    Retry,
    /// A number that a program returned.
    Result,
    /// What is installed.
    Product,
    /// A worker and its job.
    Worker,
    /// The line before was a failure that does not count.
    Excused,
    /// What was run installs nothing.
    NotARun,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct PhraseText {
    role: Role,
    pattern: String,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct InstallerText {
    /// What it is called, for mistakes.
    name: String,
    signs: Vec<String>,
    #[serde(default)]
    silent: bool,
    #[serde(default)]
    any_failure: bool,
    #[serde(default)]
    chained: bool,
    #[serde(default)]
    beside: Vec<String>,
    kind: Option<String>,
    phrase: Vec<PhraseText>,
}

/// A file of words: of the program, or of the user.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct WordFile {
    #[serde(default)]
    phrase: Vec<PhraseText>,
    #[serde(default)]
    installer: Vec<InstallerText>,
}

/// Phrases, each compiled when a line has one of the words that it cannot do without.
pub struct Phrases {
    each: Vec<Phrase>,
    /// Finds the words of all phrases at once.
    finder: Option<AhoCorasick>,
    /// The phrases that have each word.
    having: Vec<Vec<usize>>,
    /// Phrases that every line is tried with.
    wordless: Vec<usize>,
}

struct Phrase {
    role: Role,
    pattern: String,
    /// One of these stands at the beginning of the line, if any are known.
    beginnings: Option<Vec<String>>,
    regex: OnceLock<Option<Regex>>,
}

impl Phrase {
    fn compiled(&self) -> std::result::Result<Regex, regex::Error> {
        /// Memory for the states that a search has met: with less, they are thrown away and made anew all the time.
        const DFA_BYTES: usize = 16 << 20;
        let mut builder = RegexBuilder::new(&self.pattern);
        builder.case_insensitive(true).size_limit(16 << 20).dfa_size_limit(DFA_BYTES).build()
    }

    fn is_match(&self, text: &str) -> bool {
        let begins = |start: &String| {
            text.as_bytes().get(..start.len()).is_some_and(|own| own.eq_ignore_ascii_case(start.as_bytes()))
        };
        self.beginnings.as_ref().is_none_or(|starts| starts.iter().any(begins))
            && self.regex().is_some_and(|regex| regex.is_match(text))
    }

    /// The pattern. It compiled when its file was read, so there is one.
    fn regex(&self) -> Option<&Regex> {
        self.regex.get_or_init(|| self.compiled().ok()).as_ref()
    }
}

/// An installer whose logs are known by their own lines.
pub struct Installer {
    /// It says nothing when all went well.
    pub silent: bool,
    /// One line of failure decides, whatever the last line says.
    pub any_failure: bool,
    /// A beginning counts only behind an end.
    pub chained: bool,
    /// Names of logs in the same folder in which it says why something failed.
    pub beside: Vec<String>,
    /// What its runs are, where its lines do not say it.
    pub kind: Option<String>,
    texts: Vec<PhraseText>,
    phrases: OnceLock<Phrases>,
}

/// All words: those of every installer, and those of known ones.
pub struct Installers {
    general: Phrases,
    known: Vec<Installer>,
    signs: RegexSet,
    /// The place in `known` of each sign.
    sign_of: Vec<usize>,
    mistakes: Vec<String>,
    /// Other words have another one.
    identity: u64,
}

/// The words that are shipped.
static SHIPPED: LazyLock<Arc<Installers>> = LazyLock::new(|| Arc::new(Installers::with_folders(&[])));

/// A pattern with `\d` for the digits that installers write: those of all scripts make it many times as large, and its states too
/// many to be kept.
fn ascii_digits(pattern: &str) -> String {
    let mut out = String::with_capacity(pattern.len());
    let mut letters = pattern.chars();
    while let Some(letter) = letters.next() {
        if letter != '\\' {
            out.push(letter);
            continue;
        }
        match letters.next() {
            Some('d') => out.push_str("[0-9]"),
            Some(escaped) => out.extend([letter, escaped]),
            None => out.push(letter),
        }
    }
    out
}

/// The words of a file, if it is right.
fn of_file(path: &Path) -> std::result::Result<WordFile, String> {
    let text = platform::read_small_text(path).map_err(|error| error.to_string())?;
    let file: WordFile = toml::from_str(&text).map_err(|error| error.to_string())?;
    Phrases::checked(&file.phrase).map_err(|error| error.to_string())?;
    for installer in &file.installer {
        let of = |error: regex::Error| format!("installer {:?}: {error}", installer.name);
        Phrases::checked(&installer.phrase).map_err(of)?;
        signs(std::slice::from_ref(installer)).map_err(of)?;
    }
    Ok(file)
}

fn signs(all: &[InstallerText]) -> std::result::Result<RegexSet, regex::Error> {
    RegexSetBuilder::new(all.iter().flat_map(|installer| &installer.signs)).size_limit(16 << 20).build()
}

impl Installers {
    /// The words for a case: those of the program, of the user, and those that travel in its boxes.
    pub fn of_case(case: &Case) -> Arc<Self> {
        let own = platform::config_dir().map(|folder| folder.join("installers"));
        let folders: Vec<PathBuf> =
            own.into_iter().chain(case.installer_folders.clone()).filter(|folder| folder.is_dir()).collect();
        if folders.is_empty() { SHIPPED.clone() } else { Arc::new(Self::with_folders(&folders)) }
    }

    /// The files of the user that are not used, each with what is wrong in it.
    pub fn mistakes(&self) -> &[String] {
        &self.mistakes
    }

    /// A number that is another one for other words.
    pub(super) fn identity(&self) -> u64 {
        self.identity
    }

    /// The words that count in the logs of every installer.
    pub fn general(&self) -> &Phrases {
        &self.general
    }

    /// The words of the program, and those in the files of some folders.
    fn with_folders(folders: &[PathBuf]) -> Self {
        let shipped = || WordFile {
            phrase: toml::from_str::<WordFile>(include_str!("phrases.toml")).unwrap_or_default().phrase,
            installer: toml::from_str::<WordFile>(include_str!("installers.toml")).unwrap_or_default().installer,
        };
        let files = folders.iter().filter_map(|folder| std::fs::read_dir(folder).ok()).flatten().flatten();
        let mut files: Vec<_> =
            files.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|end| end == "toml")).collect();
        files.sort();
        let mut identity = FxHasher::default();
        (include_str!("phrases.toml"), include_str!("installers.toml"), include_str!("trust.toml")).hash(&mut identity);
        for path in &files {
            std::fs::read(path).ok().hash(&mut identity);
        }
        let (mut all, mut mistakes) = (shipped(), Vec::new());
        for path in files {
            match of_file(&path) {
                Ok(file) => {
                    all.phrase.extend(file.phrase);
                    all.installer.extend(file.installer);
                }
                Err(why) => mistakes.push(format!("{}: not used: {why}", path.display())),
            }
        }
        let made = Self::of(all).or_else(|error| {
            // Each file is right, and all together are too large.
            mistakes.push(format!("no file of your own for installers is used: {error}"));
            Self::of(shipped())
        });
        let made = made.unwrap_or_else(|_| Self {
            general: Phrases::new(&[]),
            known: Vec::new(),
            signs: RegexSet::empty(),
            sign_of: Vec::new(),
            mistakes: Vec::new(),
            identity: 0,
        });
        Self { mistakes, identity: identity.finish(), ..made }
    }

    fn of(file: WordFile) -> std::result::Result<Self, regex::Error> {
        let sign_of = file.installer.iter().enumerate().flat_map(|(at, one)| vec![at; one.signs.len()]).collect();
        let signs = signs(&file.installer)?;
        let known = file.installer.into_iter().map(|text| Installer {
            silent: text.silent,
            any_failure: text.any_failure,
            chained: text.chained,
            beside: text.beside,
            kind: text.kind,
            texts: text.phrase,
            phrases: OnceLock::new(),
        });
        Ok(Self {
            general: Phrases::new(&file.phrase),
            known: known.collect(),
            signs,
            sign_of,
            mistakes: Vec::new(),
            identity: 0,
        })
    }

    /// The installer whose log these lines are of: the one of which they show the most signs, of equals the first. One sign alone has
    /// to stand in a tenth of the records: the logs of systems and of other programs may show one now and then.
    pub(super) fn known_by(&self, lines: &[Lined]) -> Option<&Installer> {
        const ALONE: usize = 10;
        let mut seen = vec![0_usize; self.sign_of.len()];
        for line in lines {
            self.signs.matches(&line.said()).into_iter().for_each(|sign| seen[sign] += 1);
        }
        let mut shown = vec![(0_usize, 0_usize); self.known.len()];
        for (count, installer) in seen.iter().zip(&self.sign_of) {
            shown[*installer].0 += usize::from(*count > 0);
            shown[*installer].1 += count;
        }
        let most = (0..shown.len()).max_by_key(|at| (shown[*at].0, std::cmp::Reverse(*at)))?;
        let (signs, in_lines) = shown[most];
        let records = lines.iter().filter(|line| line.is_first).count();
        (signs > 1 || (signs == 1 && in_lines * ALONE >= records)).then(|| &self.known[most])
    }

    /// The words for the logs of an installer: its own, and for roles that it has none for those of all.
    pub fn words<'i>(&'i self, installer: Option<&'i Installer>) -> Words<'i> {
        Words { own: installer.map(Installer::phrases), general: &self.general }
    }
}

/// The words that count in one log.
#[derive(Clone, Copy)]
pub struct Words<'i> {
    own: Option<&'i Phrases>,
    general: &'i Phrases,
}

impl Words<'_> {
    /// The roles of a line, each once, with the number of the phrase: the installer's own first.
    pub fn roles(&self, text: &str) -> Vec<(Role, usize)> {
        let Some(own) = self.own else { return self.general.roles(text) };
        let mut roles = own.roles(text);
        let taken = |role: Role| own.each.iter().any(|phrase| phrase.role == role);
        let rest = self.general.roles(text).into_iter().filter(|(role, _)| !taken(*role));
        roles.extend(rest.map(|(role, phrase)| (role, phrase + own.each.len())));
        roles
    }

    /// The pattern of a phrase.
    pub fn regex(&self, phrase: usize) -> Option<&Regex> {
        match self.own {
            Some(own) if phrase < own.each.len() => own.regex(phrase),
            Some(own) => self.general.regex(phrase - own.each.len()),
            None => self.general.regex(phrase),
        }
    }
}

impl Installer {
    /// Its own phrases, compiled when first asked for.
    fn phrases(&self) -> &Phrases {
        self.phrases.get_or_init(|| Phrases::new(&self.texts))
    }

    /// Whether its own words say where a run begins.
    pub fn has_start(&self) -> bool {
        self.texts.iter().any(|text| text.role == Role::Start)
    }
}

impl Phrases {
    fn new(all: &[PhraseText]) -> Self {
        let (mut words, mut having, mut wordless) = (Vec::<String>::new(), Vec::<Vec<usize>>::new(), Vec::new());
        let mut each = Vec::with_capacity(all.len());
        for (at, text) in all.iter().enumerate() {
            let pattern = ascii_digits(&text.pattern);
            let of_phrase = needed(&pattern);
            if of_phrase.is_none() {
                wordless.push(at);
            }
            for word in of_phrase.into_iter().flatten() {
                let known = words.iter().position(|known| *known == word).unwrap_or_else(|| {
                    words.push(word);
                    having.push(Vec::new());
                    words.len() - 1
                });
                having[known].push(at);
            }
            let beginnings = beginnings(&pattern);
            each.push(Phrase { role: text.role, pattern, beginnings, regex: OnceLock::new() });
        }
        let mut builder = AhoCorasick::builder();
        builder.ascii_case_insensitive(true).match_kind(MatchKind::Standard).kind(Some(AhoCorasickKind::DFA));
        let finder = builder.build(&words).ok();
        if finder.is_none() {
            wordless = (0..each.len()).collect();
        }
        Self { each, finder, having, wordless }
    }

    /// The phrases, if each of them compiles.
    fn checked(all: &[PhraseText]) -> std::result::Result<Self, regex::Error> {
        let phrases = Self::new(all);
        for phrase in &phrases.each {
            phrase.compiled()?;
        }
        Ok(phrases)
    }

    /// The roles of a line, each once, in the order of the file.
    pub fn roles(&self, text: &str) -> Vec<(Role, usize)> {
        let found = self.finder.iter().flat_map(|finder| finder.find_overlapping_iter(text));
        let mut tried: Vec<usize> = self.wordless.clone();
        let mut last = usize::MAX;
        for word in found {
            let word = word.pattern().as_usize();
            if word != last {
                tried.extend_from_slice(&self.having[word]);
                last = word;
            }
        }
        tried.sort_unstable();
        tried.dedup();
        let mut roles: Vec<(Role, usize)> = Vec::new();
        for index in tried {
            let phrase = &self.each[index];
            if !roles.iter().any(|(known, _)| *known == phrase.role) && phrase.is_match(text) {
                roles.push((phrase.role, index));
            }
        }
        roles
    }

    /// What the named groups of a phrase took.
    pub fn captures<'t>(&self, phrase: usize, text: &'t str) -> Option<Captures<'t>> {
        self.regex(phrase)?.captures(text)
    }

    fn regex(&self, phrase: usize) -> Option<&Regex> {
        self.each.get(phrase)?.regex()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn roles(text: &str) -> Vec<Role> {
        SHIPPED.general().roles(text).into_iter().map(|(role, _)| role).collect()
    }

    #[test]
    fn the_data_is_good() {
        let general: WordFile = toml::from_str(include_str!("phrases.toml")).unwrap();
        let known: WordFile = toml::from_str(include_str!("installers.toml")).unwrap();
        assert!(known.phrase.is_empty() && general.installer.is_empty());
        let names: Vec<String> = known.installer.iter().map(|installer| installer.name.clone()).collect();
        let all = Installers::of(WordFile { phrase: general.phrase, installer: known.installer }).unwrap();
        assert!(all.general.each.len() > 20 && all.general.each.iter().all(|phrase| phrase.regex().is_some()));
        for (installer, name) in all.known.iter().zip(&names) {
            assert!(Phrases::checked(&installer.texts).is_ok(), "{name}");
        }
        let wrong = toml::from_str::<WordFile>("[[phrase]]\nrole = \"sing\"\npattern = 'x'").unwrap_err();
        assert!(wrong.to_string().contains("line 2"), "{wrong}");
    }

    #[test]
    fn what_lines_say() {
        for (text, wanted) in [
            ("Starting installation of Tankwarden Console 5.0.2", Role::Start),
            ("Setup started", Role::Start),
            ("Upgrade completed successfully", Role::Succeeded),
            ("migration failed with exit code 4", Role::Failed),
            ("cancelled by the user", Role::Cancelled),
            ("Another installation is already in progress", Role::Refused),
            ("A restart is required to finish", Role::Restart),
            ("Rolling back changes", Role::Rollback),
            ("step 3 of 9: copy files", Role::Phase),
            ("[3/9] copy files", Role::Phase),
            ("entering phase prepare", Role::Phase),
            ("Action start 2:14:56: InstallFiles.", Role::Phase),
            ("Action ended 2:14:59: InstallFiles. Return value 3.", Role::PhaseEnd),
            ("skipping serbridge.sys: a newer file is there", Role::Skipped),
            ("0 errors, 3 warnings", Role::Harmless),
            ("cannot open the port", Role::Error),
            ("log file: C:\\Temp\\bridge-setup.log", Role::Child),
            ("MainEngineThread is returning 1603", Role::Result),
        ] {
            assert!(roles(text).contains(&wanted), "{text}: {:?}", roles(text));
        }
        assert!(!roles("copied 12 files").contains(&Role::Error));
        assert!(roles("heartbeat sent").is_empty());
    }

    #[test]
    fn digits_of_patterns() {
        assert_eq!(ascii_digits(r"^\d+ [\d.]+ C:\\data \w$"), r"^[0-9]+ [[0-9].]+ C:\\data \w$");
        assert!(Regex::new(&ascii_digits(r"^[\d.]+$")).unwrap().is_match("1.2"));
    }

    #[test]
    fn a_file_that_is_wrong_is_named_and_the_others_are_used() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(
            folder.path().join("a.toml"),
            "[[phrase]]\nrole = \"start\"\npattern = \"tank filler begins\"\n",
        )
        .unwrap();
        std::fs::write(folder.path().join("b.toml"), "[[phrase]]\nrole = \"begin\"\npattern = \"x\"\n").unwrap();
        std::fs::write(folder.path().join("c.toml"), "[[phrase]]\nrole = \"start\"\npattern = \"(\"\n").unwrap();
        let phrases = Installers::with_folders(&[folder.path().to_owned()]);
        assert!(phrases.general().roles("tank filler begins").iter().any(|(role, _)| *role == Role::Start));
        let named: Vec<bool> =
            phrases.mistakes().iter().map(|one| one.contains("b.toml") || one.contains("c.toml")).collect();
        assert_eq!(named, [true, true], "{:?}", phrases.mistakes());
        assert!(phrases.mistakes()[0].contains("line 2"), "{:?}", phrases.mistakes());
    }
}
