//! What can be done: each view has a table of its commands, and the application one for everywhere. Keys, help, finder, hints
//! and the guide are made of these tables.

use std::collections::BTreeMap;

use boxclock_core::{Error, Result};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// A command of a view (or of the application) `V` with the shared state `C`.
pub struct Command<V, C, T> {
    /// Its name in the settings: `next-problem`.
    pub name: &'static str,
    /// Its keys; the first one is shown.
    pub keys: &'static [&'static str],
    /// A word or two, for the bottom line.
    pub short: &'static str,
    /// A phrase, for the help, the finder and the guide.
    pub long: &'static str,
    /// Does it, so many times.
    pub run: fn(&mut V, &mut C, usize) -> Result<T>,
}

/// Where a command can be given.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// Everywhere.
    Everywhere,
    /// In the view of that name.
    View(&'static str),
}

/// A command as keys, help and finder know it.
#[derive(Clone, Debug)]
pub struct Binding {
    /// Where it can be given.
    pub scope: Scope,
    /// Its place in the table of its scope.
    pub at: usize,
    /// Its name in the settings.
    pub name: &'static str,
    /// Its keys; the first one is shown.
    pub keys: Vec<String>,
    /// A word or two.
    pub short: &'static str,
    /// A phrase.
    pub long: &'static str,
}

/// The rows of a table of commands, in a scope.
pub fn bindings<V, C, T>(scope: Scope, commands: &[Command<V, C, T>]) -> Vec<Binding> {
    let row = |(at, command): (usize, &Command<V, C, T>)| Binding {
        scope,
        at,
        name: command.name,
        keys: command.keys.iter().map(|key| (*key).to_owned()).collect(),
        short: command.short,
        long: command.long,
    };
    commands.iter().enumerate().map(row).collect()
}

/// All commands with the keys that they have here.
#[derive(Clone, Debug, Default)]
pub struct Keymap {
    /// The rows: those for everywhere first, then view by view.
    pub rows: Vec<Binding>,
}

impl Keymap {
    /// The table with the keys that the user's settings name in the place of ours.
    ///
    /// # Errors
    /// When a name is none of any command.
    pub fn new(mut rows: Vec<Binding>, chosen: &BTreeMap<String, Vec<String>>) -> Result<Self> {
        for (name, keys) in chosen {
            let mut of_name = rows.iter_mut().filter(|row| row.name == name).peekable();
            if of_name.peek().is_none() {
                return Err(Error::new(format!("keys: no command is called \"{name}\"; the help (?) lists them")));
            }
            of_name.for_each(|row| row.keys.clone_from(keys));
        }
        rows.retain(|row| !row.keys.is_empty());
        Ok(Self { rows })
    }

    /// The command of a key in a view.
    pub fn find(&self, key: KeyEvent, view: &str) -> Option<(Scope, usize)> {
        let name = key_name(key)?;
        let here = |row: &&Binding| match row.scope {
            Scope::Everywhere => true,
            Scope::View(other) => other == view,
        };
        let row = self.rows.iter().filter(here).find(|row| row.keys.contains(&name));
        row.map(|row| (row.scope, row.at))
    }

    /// The commands of a view.
    pub fn of(&self, view: &'static str) -> impl Iterator<Item = &Binding> {
        self.rows.iter().filter(move |row| row.scope == Scope::View(view))
    }

    /// The commands for everywhere.
    pub fn everywhere(&self) -> impl Iterator<Item = &Binding> {
        self.rows.iter().filter(|row| row.scope == Scope::Everywhere)
    }

    /// The commands that the finder offers for a text: each word must occur.
    pub fn offered(&self, text: &str) -> Vec<&Binding> {
        let words: Vec<String> = text.to_lowercase().split_whitespace().map(str::to_owned).collect();
        let fits = |row: &&Binding| {
            let all = format!("{} {}", row.short, row.long).to_lowercase();
            words.iter().all(|word| all.contains(word))
        };
        self.rows.iter().filter(fits).collect()
    }
}

/// The name of a key as the tables write it, or `None` for keys that they do not use.
pub fn key_name(key: KeyEvent) -> Option<String> {
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    Some(match key.code {
        KeyCode::Char(c) if control => format!("Ctrl-{}", c.to_ascii_uppercase()),
        KeyCode::Char(' ') => "Space".into(),
        KeyCode::Char(c) => c.to_string(),
        KeyCode::Up => "Up".into(),
        KeyCode::Down => "Down".into(),
        KeyCode::Left => "Left".into(),
        KeyCode::Right => "Right".into(),
        KeyCode::PageUp => "PageUp".into(),
        KeyCode::PageDown => "PageDown".into(),
        KeyCode::Home => "Home".into(),
        KeyCode::End => "End".into(),
        KeyCode::Enter => "Enter".into(),
        KeyCode::Backspace => "Backspace".into(),
        KeyCode::Tab => "Tab".into(),
        KeyCode::F(number) => format!("F{number}"),
        _ => return None,
    })
}
