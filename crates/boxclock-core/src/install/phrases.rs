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
    mistakes: Vec<String>,
}

static OWN: LazyLock<Phrases> = LazyLock::new(|| {
    let folder = platform::config_dir().map(|folder| folder.join("installers"));
    Phrases::with_folder(folder.as_deref())
});

fn parse(text: &str) -> std::result::Result<Vec<(Role, String)>, String> {
    let file: PhraseFile = toml::from_str(text).map_err(|error| error.to_string())?;
    Ok(file.phrase.into_iter().map(|phrase| (phrase.role, phrase.pattern)).collect())
}

/// The phrases of a file, if it is right.
fn of_file(path: &Path) -> std::result::Result<Vec<(Role, String)>, String> {
    let text = platform::read_small_text(path).map_err(|error| error.to_string())?;
    let all = parse(&text)?;
    Phrases::compile(&all).map_err(|error| error.to_string())?;
    Ok(all)
}

impl Phrases {
    /// The phrases of the program and of the user.
    pub fn own() -> &'static Self {
        &OWN
    }

    /// The files of the user that are not used, each with what is wrong in it.
    pub fn mistakes(&self) -> &[String] {
        &self.mistakes
    }

    /// The shipped phrases, and those in the files of a folder.
    fn with_folder(folder: Option<&Path>) -> Self {
        let shipped = parse(include_str!("phrases.toml")).unwrap_or_default();
        let files = folder.and_then(|folder| std::fs::read_dir(folder).ok()).into_iter().flatten().flatten();
        let mut files: Vec<_> =
            files.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|end| end == "toml")).collect();
        files.sort();
        let (mut all, mut mistakes) = (shipped.clone(), Vec::new());
        for path in files {
            match of_file(&path) {
                Ok(phrases) => all.extend(phrases),
                Err(why) => mistakes.push(format!("{}: not used: {why}", path.display())),
            }
        }
        let made = Self::compile(&all).or_else(|error| {
            // Each file is right, and all together are too large.
            mistakes.push(format!("no file of your own for installers is used: {error}"));
            Self::compile(&shipped)
        });
        let made = made.unwrap_or_else(|_| Self { set: RegexSet::empty(), each: Vec::new(), mistakes: Vec::new() });
        Self { mistakes, ..made }
    }

    fn compile(all: &[(Role, String)]) -> std::result::Result<Self, regex::Error> {
        let set = RegexSetBuilder::new(all.iter().map(|(_, pattern)| pattern))
            .case_insensitive(true)
            .size_limit(64 << 20)
            .build()?;
        let one = |(role, pattern): &(Role, String)| {
            RegexBuilder::new(pattern).case_insensitive(true).size_limit(16 << 20).build().map(|regex| (*role, regex))
        };
        Ok(Self { set, each: all.iter().map(one).collect::<std::result::Result<_, _>>()?, mistakes: Vec::new() })
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
        let phrases = Phrases::with_folder(Some(folder.path()));
        assert!(phrases.roles("tank filler begins").iter().any(|(role, _)| *role == Role::Start));
        let named: Vec<bool> =
            phrases.mistakes().iter().map(|one| one.contains("b.toml") || one.contains("c.toml")).collect();
        assert_eq!(named, [true, true], "{:?}", phrases.mistakes());
        assert!(phrases.mistakes()[0].contains("line 2"), "{:?}", phrases.mistakes());
    }
}
