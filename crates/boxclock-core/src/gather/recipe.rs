//! Recipes: what belongs to a kind of machine or application. TOML data, one file each; those that ship with the program
//! stand in `recipes/`, those of the user in the folder `recipes` of the configuration.
//!
//! ```toml
//! name = "tankwarden"
//! title = "Tankwarden"
//! detect = ["ProgramData/Tankwarden"]
//!
//! [[files]]
//! class = "application"
//! paths = ["ProgramData/Tankwarden/Logs/**"]
//! ```

use std::path::{Path, PathBuf};

use globset::{Glob, GlobBuilder, GlobMatcher, GlobSet, GlobSetBuilder};
use serde::{Deserialize, Serialize};

use crate::source::Class;
use crate::{Error, Result, platform};

/// The kind of system that a recipe is for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum System {
    /// Any: the recipe of an application.
    #[default]
    Any,
    /// Linux.
    Linux,
    /// Windows: names are compared without regard to case.
    Windows,
    /// macOS.
    Macos,
}

/// Files of one class.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Files {
    /// What they are for.
    pub class: Class,
    /// Globs below the root, with `/`; `*` stays within a name, `**` crosses folders.
    pub paths: Vec<String>,
    /// Globs of what is left out again.
    #[serde(default)]
    pub except: Vec<String>,
    /// Whether text may be cut to the window.
    #[serde(default = "yes")]
    pub cut: bool,
    /// The largest file that is taken, in MiB; a larger one is named as left out. A cut counts as what is left of it.
    #[serde(default = "most_mib")]
    pub most_mib: u64,
    /// What in them should not be handed on, for people.
    #[serde(default)]
    pub sensitive: Option<String>,
}

/// A command whose output is kept. It runs on live hosts only.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Command {
    /// The name of the file that takes its output, below `commands/`.
    pub name: String,
    /// What it is for.
    pub class: Class,
    /// Program and arguments; no shell reads them. `{from}` and `{to}` are the window in UTC, `2026-04-12 02:31:07 UTC`; an
    /// argument that holds one of them is left out, where there is no window.
    pub run: Vec<String>,
    /// Seconds after which it is stopped.
    #[serde(default = "timeout_s")]
    pub timeout_s: u64,
    /// MiB of output that are kept.
    #[serde(default = "command_mib")]
    pub most_mib: u64,
    /// Why it is asked, for people.
    #[serde(default)]
    pub about: Option<String>,
}

/// A recipe.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recipe {
    /// Its name: letters, digits, `-`.
    pub name: String,
    /// What it is for, for people.
    pub title: String,
    /// The kind of system.
    #[serde(default)]
    pub system: System,
    /// Whether it is for a running system: its commands are run.
    #[serde(default)]
    pub live: bool,
    /// It fits a root where one of these exists (globs below the root).
    #[serde(default)]
    pub detect: Vec<String>,
    /// Files.
    #[serde(default)]
    pub files: Vec<Files>,
    /// Commands.
    #[serde(default)]
    pub commands: Vec<Command>,
}

fn yes() -> bool {
    true
}

fn most_mib() -> u64 {
    4096
}

fn timeout_s() -> u64 {
    20
}

fn command_mib() -> u64 {
    64
}

/// Recipes that ship with the program: file name and text.
const SHIPPED: [(&str, &str); 8] = [
    ("linux-live.toml", include_str!("recipes/linux-live.toml")),
    ("linux-root.toml", include_str!("recipes/linux-root.toml")),
    ("windows-root.toml", include_str!("recipes/windows-root.toml")),
    ("macos-root.toml", include_str!("recipes/macos-root.toml")),
    ("postgresql.toml", include_str!("recipes/postgresql.toml")),
    ("nginx.toml", include_str!("recipes/nginx.toml")),
    ("java-application.toml", include_str!("recipes/java-application.toml")),
    ("container-host.toml", include_str!("recipes/container-host.toml")),
];

/// The recipes that can be used, and what is wrong with others.
#[derive(Clone, Debug, Default)]
pub struct Recipes {
    /// Good ones; one of the user takes the place of a shipped one of the same name.
    pub good: Vec<Recipe>,
    /// File and mistake, with line and column.
    pub wrong: Vec<(String, String)>,
}

impl Recipe {
    /// Reads a recipe.
    ///
    /// # Errors
    /// Says what is wrong, with line and column.
    pub fn parse(text: &str) -> Result<Self> {
        let recipe: Self = toml::from_str(text).map_err(|error| Error::new(error.to_string().trim_end().to_owned()))?;
        recipe.check().map_err(|(what, part)| {
            // A mistake in a value is shown where the value stands.
            let at = text.find(&format!("\"{part}\"")).unwrap_or(0);
            let line = text[..at].matches('\n').count() + 1;
            let column = at - text[..at].rfind('\n').map_or(0, |end| end + 1) + 1;
            Error::new(format!("line {line}, column {column}: {what}"))
        })?;
        Ok(recipe)
    }

    fn check(&self) -> std::result::Result<(), (String, String)> {
        let good_name = |name: &str| {
            !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte))
        };
        for name in std::iter::once(&self.name).chain(self.commands.iter().map(|command| &command.name)) {
            if !good_name(name) || name.starts_with('.') {
                return Err((format!("the name \"{name}\" may hold letters, digits, - _ . only"), name.clone()));
            }
        }
        let globs = self.files.iter().flat_map(|files| files.paths.iter().chain(&files.except));
        for glob in globs.chain(&self.detect) {
            if glob.starts_with('/') || glob.split('/').any(|part| part == ".." || part.is_empty()) {
                return Err((format!("the path \"{glob}\" must be one below the root, without .."), glob.clone()));
            }
            if let Err(error) = glob_of(glob, self.system) {
                return Err((format!("the path \"{glob}\": {}", error.kind()), glob.clone()));
            }
        }
        if let Some(command) = self.commands.iter().find(|command| command.run.is_empty()) {
            return Err((format!("the command {} has nothing to run", command.name), command.name.clone()));
        }
        if self.files.is_empty() && self.commands.is_empty() {
            return Err(("it takes neither files nor commands".into(), self.name.clone()));
        }
        Ok(())
    }

    /// Whether a root of this kind shows one of its signs. A recipe without signs fits nothing by itself.
    pub fn fits(&self, exists: impl Fn(&str) -> bool) -> bool {
        self.detect.iter().any(|sign| exists(sign))
    }
}

/// A matcher for a glob below a root.
pub(super) fn glob_of(glob: &str, system: System) -> std::result::Result<GlobMatcher, globset::Error> {
    Ok(built(glob, system)?.compile_matcher())
}

fn built(glob: &str, system: System) -> std::result::Result<Glob, globset::Error> {
    GlobBuilder::new(glob).literal_separator(true).case_insensitive(system == System::Windows).build()
}

impl Recipes {
    /// Those that ship with the program, and those of the user.
    pub fn load() -> Self {
        let mut recipes = Self::shipped();
        if let Some(folder) = Self::folder() {
            recipes.add_folder(&folder);
        }
        recipes
    }

    /// The user's folder of recipes.
    pub fn folder() -> Option<PathBuf> {
        platform::config_dir().map(|folder| folder.join("recipes"))
    }

    /// Those that ship with the program.
    pub fn shipped() -> Self {
        let mut recipes = Self::default();
        for (name, text) in SHIPPED {
            recipes.add(name, text);
        }
        recipes
    }

    /// Adds the `*.toml` of a folder, if there is one.
    pub fn add_folder(&mut self, folder: &Path) {
        for (file, text) in platform::toml_texts(folder) {
            match text {
                Ok(text) => self.add(&file, &text),
                Err(error) => self.wrong.push((file, error.to_string())),
            }
        }
    }

    /// Adds one from its text; `file` is named with its mistakes.
    pub fn add(&mut self, file: &str, text: &str) {
        match Recipe::parse(text) {
            Err(error) => self.wrong.push((file.to_owned(), error.to_string())),
            Ok(recipe) => {
                self.good.retain(|other| other.name != recipe.name);
                self.good.push(recipe);
            }
        }
    }

    /// A recipe by name.
    ///
    /// # Errors
    /// Names those that there are.
    pub fn by_name(&self, name: &str) -> Result<&Recipe> {
        self.good.iter().find(|recipe| recipe.name == name).ok_or_else(|| {
            let known: Vec<&str> = self.good.iter().map(|recipe| recipe.name.as_str()).collect();
            Error::new(format!("no recipe is called \"{name}\": there are {}", known.join(", ")))
        })
    }

    /// The globs of all of them, compiled.
    pub(crate) fn matchers(&self) -> Matchers<'_> {
        Matchers::new(&self.good.iter().collect::<Vec<_>>())
    }
}

/// The globs of recipes, compiled once into one automaton: a case may have very many files.
pub(crate) struct Matchers<'r> {
    rows: Vec<(&'r Recipe, &'r Files)>,
    all: GlobSet,
    /// For each glob: its row, and whether it leaves out.
    of: Vec<(usize, bool)>,
}

impl<'r> Matchers<'r> {
    pub(crate) fn new(recipes: &[&'r Recipe]) -> Self {
        let rows: Vec<(&Recipe, &Files)> =
            recipes.iter().flat_map(|recipe| recipe.files.iter().map(move |files| (*recipe, files))).collect();
        let (mut all, mut of) = (GlobSetBuilder::new(), Vec::new());
        for (row, (recipe, files)) in rows.iter().enumerate() {
            let globs =
                files.paths.iter().map(|glob| (glob, false)).chain(files.except.iter().map(|glob| (glob, true)));
            for (glob, leaves_out) in globs {
                // Recipes are checked when they are read: each is a good glob.
                if let Ok(glob) = built(glob, recipe.system) {
                    all.add(glob);
                    of.push((row, leaves_out));
                }
            }
        }
        Self { rows, all: all.build().unwrap_or_default(), of }
    }

    /// The first entry that takes a path below the root.
    pub(crate) fn entry_for(&self, below: &str) -> Option<(&'r Recipe, &'r Files)> {
        let hits: Vec<(usize, bool)> = self.all.matches(below).into_iter().map(|glob| self.of[glob]).collect();
        let taken = hits.iter().filter(|(row, leaves_out)| !leaves_out && !hits.contains(&(*row, true)));
        taken.map(|(row, _)| *row).min().map(|row| self.rows[row])
    }

    /// What a file is for, by its path below its root (or its whole path).
    pub(crate) fn class_of(&self, path: &str) -> Option<Class> {
        self.entry_for(path.trim_start_matches('/')).map(|(_, files)| files.class)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_shipped_recipes_are_good() {
        let recipes = Recipes::shipped();
        assert_eq!(recipes.wrong, []);
        assert_eq!(recipes.good.len(), SHIPPED.len());
    }

    #[test]
    fn classes_of_usual_paths() {
        let recipes = Recipes::shipped();
        let recipes = recipes.matchers();
        for (path, class) in [
            ("var/log/syslog", Class::System),
            ("var/log/syslog.2.gz", Class::System),
            ("var/log/journal/0123/system.journal", Class::System),
            ("var/log/dpkg.log.1", Class::Installer),
            ("var/log/apt/term.log", Class::Installer),
            ("var/log/tankwarden/dosing.json", Class::Application),
            ("var/log/postgresql/postgresql-15-main.log", Class::Application),
            ("var/log/sa/sa12", Class::Counters),
            ("var/crash/x.crash", Class::Crash),
            ("Windows/System32/winevt/Logs/System.evtx", Class::System),
            ("WINDOWS/LOGS/CBS/CBS.log", Class::Installer),
            ("Windows/MEMORY.DMP", Class::Crash),
            ("Users/keeper/AppData/Local/Temp/MSI4f2a1.LOG", Class::Installer),
            ("private/var/log/install.log", Class::Installer),
        ] {
            assert_eq!(recipes.class_of(path), Some(class), "{path}");
        }
        assert_eq!(recipes.class_of("etc/shadow"), None);
        assert_eq!(recipes.class_of("home/keeper/.ssh/id_ed25519"), None);
    }

    #[test]
    fn mistakes_have_their_place() {
        let mistake = |text: &str| Recipe::parse(text).unwrap_err().to_string();
        let good = "name = \"x\"\ntitle = \"X\"\n[[files]]\nclass = \"system\"\npaths = [\"var/log/*\"]\n";
        Recipe::parse(good).unwrap();
        let text = mistake(&good.replace("class", "clas"));
        assert!(text.contains("line 4, column 1") && text.contains("unknown field `clas`"), "{text}");
        let text = mistake(&good.replace("\"system\"", "\"sytem\""));
        assert!(text.contains("line 4, column 9") && text.contains("sytem"), "{text}");
        let text = mistake(&good.replace("var/log/*", "../etc/*"));
        assert_eq!(text, "line 5, column 10: the path \"../etc/*\" must be one below the root, without ..");
        let text = mistake(&good.replace("var/log/*", "var/[a"));
        assert!(text.starts_with("line 5, column 10: the path \"var/[a\": unclosed"), "{text}");
        assert!(mistake("name = ").contains("line 1"), "{}", mistake("name = "));
        assert!(mistake("name = \"x\"\ntitle = \"\"\n").contains("neither files nor commands"));
    }

    #[test]
    fn one_of_the_user_takes_the_place_of_a_shipped_one() {
        let folder = tempfile::tempdir().unwrap();
        let text =
            "name = \"nginx\"\ntitle = \"Ours\"\n[[files]]\nclass = \"application\"\npaths = [\"srv/web/*.log\"]\n";
        std::fs::write(folder.path().join("web.toml"), text).unwrap();
        std::fs::write(folder.path().join("bad.toml"), "name = 5").unwrap();
        let mut recipes = Recipes::shipped();
        recipes.add_folder(folder.path());
        assert_eq!(recipes.by_name("nginx").unwrap().title, "Ours");
        assert_eq!(recipes.good.len(), SHIPPED.len());
        assert!(recipes.wrong[0].0.ends_with("bad.toml"), "{:?}", recipes.wrong);
        assert!(recipes.by_name("ngnix").unwrap_err().to_string().contains("nginx"));
    }
}
