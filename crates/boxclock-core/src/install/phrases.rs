//! The words of installers: data, see `phrases.toml`.

use std::path::Path;
use std::sync::LazyLock;

use regex::{Captures, Regex, RegexBuilder, RegexSet, RegexSetBuilder};
use serde::Deserialize;

use crate::platform;

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
    /// Only that the log begins.
    Logging,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct PhraseText {
    role: Role,
    pattern: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct PhraseFile {
    phrase: Vec<PhraseText>,
}

/// Compiled phrases.
pub struct Phrases {
    set: RegexSet,
    each: Vec<(Role, Regex)>,
}

static OWN: LazyLock<Phrases> = LazyLock::new(|| {
    let mut all = parse(include_str!("phrases.toml")).unwrap_or_default();
    let folder = platform::config_dir().map(|folder| folder.join("installers"));
    all.extend(folder.iter().flat_map(|folder| of_folder(folder)));
    Phrases::compile(&all).unwrap_or_else(|_| Phrases { set: RegexSet::empty(), each: Vec::new() })
});

fn parse(text: &str) -> std::result::Result<Vec<(Role, String)>, String> {
    let file: PhraseFile = toml::from_str(text).map_err(|error| error.to_string())?;
    Ok(file.phrase.into_iter().map(|phrase| (phrase.role, phrase.pattern)).collect())
}

/// The phrases in the files of a folder; files that are wrong are left out (`boxclock formats` names them when they are checked).
fn of_folder(folder: &Path) -> Vec<(Role, String)> {
    let files = std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let texts = files
        .filter(|path| path.extension().is_some_and(|end| end == "toml"))
        .filter_map(|path| platform::read_small_text(&path).ok());
    texts.filter_map(|text| parse(&text).ok().filter(|all| Phrases::compile(all).is_ok())).flatten().collect()
}

impl Phrases {
    /// The phrases of the program and of the user.
    pub fn own() -> &'static Self {
        &OWN
    }

    fn compile(all: &[(Role, String)]) -> std::result::Result<Self, regex::Error> {
        let set = RegexSetBuilder::new(all.iter().map(|(_, pattern)| pattern))
            .case_insensitive(true)
            .size_limit(64 << 20)
            .build()?;
        let one = |(role, pattern): &(Role, String)| {
            RegexBuilder::new(pattern).case_insensitive(true).size_limit(16 << 20).build().map(|regex| (*role, regex))
        };
        Ok(Self { set, each: all.iter().map(one).collect::<std::result::Result<_, _>>()? })
    }

    /// The roles of a line, each once, in the order of the file.
    pub fn roles(&self, text: &str) -> Vec<(Role, usize)> {
        let mut roles: Vec<(Role, usize)> = Vec::new();
        for index in self.set.matches(text) {
            let role = self.each[index].0;
            if !roles.iter().any(|(known, _)| *known == role) {
                roles.push((role, index));
            }
        }
        roles
    }

    /// What the named groups of a phrase took.
    pub fn captures<'t>(&self, phrase: usize, text: &'t str) -> Option<Captures<'t>> {
        self.each.get(phrase)?.1.captures(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn roles(text: &str) -> Vec<Role> {
        Phrases::own().roles(text).into_iter().map(|(role, _)| role).collect()
    }

    #[test]
    fn the_data_is_good() {
        let all = parse(include_str!("phrases.toml")).unwrap();
        Phrases::compile(&all).unwrap();
        assert!(Phrases::own().each.len() > 20);
        assert!(parse("[[phrase]]\nrole = \"sing\"\npattern = 'x'").unwrap_err().contains("line 2"));
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
}
