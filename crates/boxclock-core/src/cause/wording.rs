//! What lines say in the general language of the trade: that something was changed, that something failed, that it is well again.
//! All of it is data, in `changes.tsv`, `effects.tsv` and `trouble.tsv` beside this file.

use std::sync::LazyLock;

use regex::{Regex, RegexBuilder, RegexSet, RegexSetBuilder};

/// What a line is as a possible root.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Class {
    /// It tells of no change.
    #[default]
    None,
    /// What goes on all day and changes nothing.
    Routine,
    /// Something began, or began anew.
    Start,
    /// A command of a person.
    Person,
    /// Something that a person did, in words that tell of no change.
    Deed,
    /// Something that was done or is so, by its grammar alone: `antenna unplugged for painting`.
    Done,
    /// Something or somebody made another thing different.
    Change,
    /// A condition that lasts until it is cured.
    State,
    /// A change that was not carried through.
    Incomplete,
}

impl Class {
    fn of(name: &str) -> Option<Self> {
        Some(match name {
            "routine" => Self::Routine,
            "start" => Self::Start,
            "person" => Self::Person,
            "done" => Self::Done,
            "change" => Self::Change,
            "state" => Self::State,
            "incomplete" => Self::Incomplete,
            _ => return None,
        })
    }

    /// Its name in the data.
    pub(super) fn name(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Routine => "routine",
            Self::Start => "start",
            Self::Person => "person",
            Self::Deed => "deed",
            Self::Done => "done",
            Self::Change => "change",
            Self::State => "state",
            Self::Incomplete => "incomplete",
        }
    }

    /// As the reasons of a suggestion say it.
    pub(super) fn words(self) -> Option<&'static str> {
        match self {
            Self::None | Self::Routine => None,
            Self::Start => Some("a start or stop"),
            Self::Person => Some("a person's command"),
            Self::Deed => Some("something that a person did"),
            Self::Done => Some("something that was done"),
            Self::Change => Some("a change"),
            Self::State => Some("a state that lasts"),
            Self::Incomplete => Some("a change that was not carried through"),
        }
    }
}

struct Changes {
    set: RegexSet,
    rows: Vec<(f64, Class)>,
    /// Programs that are there to make changes, and how much a line of one can be a root.
    programs: Vec<(f64, Regex)>,
    /// What is said of a change that was not made, or not yet: `until converted`.
    unreal: Option<Regex>,
}

/// The lines of a table that are not remarks, split at tabs.
fn rows(table: &'static str) -> impl Iterator<Item = Vec<&'static str>> {
    table.lines().filter(|line| !line.is_empty() && !line.starts_with('#')).map(|line| line.splitn(3, '\t').collect())
}

fn set(patterns: &[&str]) -> RegexSet {
    // The shipped tables are compiled by a test; a set without patterns matches nothing.
    RegexSetBuilder::new(patterns)
        .case_insensitive(true)
        .size_limit(64 << 20)
        .build()
        .unwrap_or_else(|_| RegexSet::empty())
}

fn one(pattern: &str) -> Option<Regex> {
    RegexBuilder::new(pattern).case_insensitive(true).size_limit(16 << 20).build().ok()
}

static CHANGES: LazyLock<Changes> = LazyLock::new(|| {
    let mut patterns = Vec::new();
    let (mut known, mut programs, mut unreal) = (Vec::new(), Vec::new(), None);
    for row in rows(include_str!("changes.tsv")) {
        let [weight, class, pattern] = row[..] else { continue };
        let Ok(weight) = weight.parse() else { continue };
        if class == "program" {
            programs.extend(one(pattern).map(|pattern| (weight, pattern)));
        } else if class == "unreal" {
            unreal = one(pattern);
        } else if let Some(class) = Class::of(class) {
            patterns.push(pattern);
            known.push((weight, class));
        }
    }
    Changes { set: set(&patterns), rows: known, programs, unreal }
});

/// The same value before and after: `41 entries (41 before)`, `from 3 to 3`, `a -> a`.
static PAIRS: LazyLock<Option<Regex>> = LazyLock::new(|| {
    one(r"\b(\d+)\b[^\d]{0,20}\((?:was )?(\d+) before\)|\bfrom (\S+) to (\S+)|(\S+) ?(?:->|=>|→) ?(\S+)")
});

fn changes_nothing(text: &str) -> bool {
    let Some(pairs) = PAIRS.as_ref() else { return false };
    pairs.captures_iter(text).any(|found| {
        let mut parts = found.iter().skip(1).flatten();
        matches!((parts.next(), parts.next()), (Some(before), Some(after)) if before.as_str() == after.as_str().trim_end_matches([',', '.', ';']))
    })
}

/// How much a line can be a root, 0 to 1, and what it is.
pub(super) fn change(text: &str) -> (f64, Class) {
    let mut best = (0.0, Class::None);
    let made = CHANGES.unreal.as_ref().map(|unreal| unreal.replace_all(text, " "));
    let made = made.filter(|made| made != text).map(|made| CHANGES.set.matches(&made));
    for index in CHANGES.set.matches(text) {
        let (weight, class) = CHANGES.rows[index];
        if class == Class::Routine {
            return (0.0, Class::Routine);
        }
        let is_made = made.as_ref().is_none_or(|made| made.matched(index));
        if matches!(class, Class::Change | Class::Done) && !is_made {
            continue;
        }
        // What was not carried through says more than that something was changed.
        if weight > best.0 || weight >= best.0 && class == Class::Incomplete {
            best = (weight, class);
        }
    }
    if best.0 > 0.2 && changes_nothing(text) {
        return (0.2, Class::Routine);
    }
    best
}

/// How much a line can be a root by the program alone that wrote it, and what it then is.
pub(super) fn change_by(program: &str) -> (f64, Class) {
    let found = CHANGES.programs.iter().find(|(_, pattern)| pattern.is_match(program));
    found.map_or((0.0, Class::None), |(weight, _)| (*weight, Class::Change))
}

struct Trouble {
    bad: Option<Regex>,
    down: Option<Regex>,
    up: Option<Regex>,
}

static TROUBLE: LazyLock<Trouble> = LazyLock::new(|| {
    let mut trouble = Trouble { bad: None, down: None, up: None };
    for row in rows(include_str!("trouble.tsv")) {
        match row[..] {
            ["bad", pattern] => trouble.bad = one(pattern),
            ["down", pattern] => trouble.down = one(pattern),
            ["up", pattern] => trouble.up = one(pattern),
            _ => {}
        }
    }
    trouble
});

fn says(pattern: Option<&Regex>, text: &str) -> bool {
    pattern.is_some_and(|pattern| pattern.is_match(text))
}

/// Whether the words of a line tell of trouble, whatever its level.
pub(super) fn tells_of_trouble(text: &str) -> bool {
    says(TROUBLE.bad.as_ref(), text)
}

/// Whether something went away that may come back.
pub(super) fn goes_away(text: &str) -> bool {
    says(TROUBLE.down.as_ref(), text)
}

/// Whether something is there again.
pub(super) fn comes_back(text: &str) -> bool {
    says(TROUBLE.up.as_ref(), text) && !goes_away(text)
}

/// How bad a line is, 0 to 1: by its level (a severity number, 0 to 24), else by its words.
pub(crate) fn badness(text: &str, severity: u8) -> f64 {
    match severity {
        17.. => 1.0,
        13..=16 => 0.7,
        _ if tells_of_trouble(text) => 0.5,
        _ => 0.0,
    }
}

struct Effects {
    names: Vec<&'static str>,
    changes: RegexSet,
    troubles: RegexSet,
}

static EFFECTS: LazyLock<Effects> = LazyLock::new(|| {
    let (mut names, mut changes, mut troubles) = (Vec::new(), Vec::new(), Vec::new());
    for row in rows(include_str!("effects.tsv")) {
        if let [name, change, trouble] = row[..] {
            names.push(name);
            changes.push(change);
            troubles.push(trouble);
        }
    }
    Effects { names, changes: set(&changes), troubles: set(&troubles) }
});

/// Kinds of effects, one bit each.
pub(super) type Effect = u32;

fn bits(set: &RegexSet, text: &str) -> Effect {
    set.matches(text).into_iter().filter(|index| *index < 32).fold(0, |bits, index| bits | 1 << index)
}

/// What a change like this line can lead to.
pub(super) fn can_lead_to(text: &str) -> Effect {
    bits(&EFFECTS.changes, text)
}

/// Of which kinds the trouble in this line is.
pub(super) fn is_effect(text: &str) -> Effect {
    bits(&EFFECTS.troubles, text)
}

/// Phrases by which people say that what they undid or tried was not it.
static TRIED: LazyLock<Vec<&'static str>> = LazyLock::new(|| {
    let lines = include_str!("tried.txt").lines();
    lines.filter(|line| !line.starts_with('#') && !line.is_empty()).collect()
});

/// The sentences of a story that say that something was undone or tried, and changed nothing.
pub(super) fn tried_in_vain(story: &str) -> Vec<&str> {
    let sentences = story.split(['\n', '!', '?']).flat_map(|line| line.split(". ")).map(str::trim);
    sentences
        .filter(|sentence| {
            let lower = sentence.to_lowercase();
            TRIED.iter().any(|phrase| lower.contains(phrase))
        })
        .collect()
}

/// The effect of that name; none where there is no such.
pub(super) fn effect_of(name: &str) -> Effect {
    EFFECTS.names.iter().position(|other| *other == name).map_or(0, |index| 1 << index)
}

/// The names of kinds of effects.
pub(super) fn effect_names(effects: Effect) -> impl Iterator<Item = &'static str> {
    EFFECTS.names.iter().enumerate().filter(move |(index, _)| effects & 1 << index != 0).map(|(_, name)| *name)
}

/// How many kinds of effects there are.
pub(super) fn effect_count() -> usize {
    EFFECTS.names.len()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_tables_compile_and_are_used() {
        let lines = |table: &'static str| rows(table).count();
        assert_eq!(CHANGES.set.len() + CHANGES.programs.len() + 1, lines(include_str!("changes.tsv")));
        assert!(CHANGES.unreal.is_some());
        assert_eq!(EFFECTS.changes.len(), lines(include_str!("effects.tsv")));
        assert_eq!(EFFECTS.troubles.len(), EFFECTS.names.len());
        assert!(EFFECTS.names.len() <= 32);
        assert!(TROUBLE.bad.is_some() && TROUBLE.down.is_some() && TROUBLE.up.is_some());
    }

    #[test]
    fn changes_and_who_only_looks() {
        let of = |text| change(text).1;
        assert_eq!(of("anna : TTY=pts/0 ; PWD=/srv ; USER=root ; COMMAND=/usr/bin/chown -R web /srv"), Class::Person);
        assert_eq!(
            of("anna : TTY=pts/0 ; PWD=/srv ; USER=root ; COMMAND=/usr/bin/less /var/log/syslog"),
            Class::Routine
        );
        assert_eq!(of("upgrade tankwarden:amd64 5.0.1 5.0.2"), Class::Change);
        assert_eq!(of("parameter \"max_feeds\" changed to \"3\""), Class::Change);
        assert_eq!(of("pump-a stays on 5.0.1"), Class::Incomplete);
        assert_eq!(of("heartbeat sent"), Class::None);
    }

    #[test]
    fn what_was_tried_in_vain() {
        let story =
            "Frames are refused. The plan was changed too, so we went back to revision 40: no difference. Since three!";
        assert_eq!(tried_in_vain(story), ["The plan was changed too, so we went back to revision 40: no difference"]);
        assert!(tried_in_vain("Alles steht. Ein Neustart half nicht.").len() == 1);
        assert!(tried_in_vain("It stopped. A restart helped for an hour.").is_empty());
        assert!(tried_in_vain("It still fails since the plan was edited. Nothing changed on the gateway.").is_empty());
    }

    #[test]
    fn the_same_before_and_after_is_no_change() {
        assert!(change("rules rebuilt: 41 entries (43 before)").0 > 0.9);
        assert!(change("rules rebuilt: 41 entries (41 before)").0 < 0.3);
        assert!(change("limit set from 30 to 30").0 < 0.3);
        assert!(change("limit set from 30 to 3").0 > 0.9);
    }

    #[test]
    fn what_comes_back_has_recovered() {
        assert!(goes_away("eth0: link is down") && comes_back("eth0: link is up"));
        assert!(!comes_back("eth0: link is down"));
    }

    #[test]
    fn a_change_meets_its_effect() {
        let meets = |change: &str, trouble: &str| can_lead_to(change) & is_effect(trouble) != 0;
        assert!(meets("COMMAND=/usr/bin/chown -R web: /srv/feeds", "cannot write hold.db: Permission denied"));
        assert!(meets("set timezone to Etc/UTC", "delivery refused, window 20:30-22:00 is over"));
        assert!(!meets("set timezone to Etc/UTC", "no space left on device"));
        let names: Vec<_> = effect_names(is_effect("no space left on device")).collect();
        assert_eq!(names, ["space"]);
    }
}
