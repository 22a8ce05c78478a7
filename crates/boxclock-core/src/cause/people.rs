//! People: the accounts that log in and run commands, and lines that say that one of them did something.

use std::collections::HashSet;
use std::sync::LazyLock;

use regex::Regex;

use super::words;

/// Accounts that are no person.
const OF_THE_SYSTEM: [&str; 6] = ["root", "nobody", "daemon", "system", "postgres", "www-data"];

/// A command that was run for somebody, and a login that was let in.
static ACCOUNT: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(r"^\s*([a-z][a-z0-9._-]{1,31}) : (?:TTY|PWD)=|\bAccepted \S+ for ([a-z][a-z0-9._-]{1,31}) from\b").ok()
});
/// `saved by anna`, `by=anna`: who did it.
static DONE_BY: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(r#"(?:\b[a-z]{2,12}(?:ed|en|ade|ut|et|ewn|ought) by |\bby[=:] ?"?)([a-z][a-z0-9._-]{2,31})\b"#).ok()
});

/// The account that a line of the system says belongs to a person.
pub(super) fn account(text: &str) -> Option<&str> {
    let found = ACCOUNT.as_ref()?.captures(text)?;
    let name = found.get(1).or_else(|| found.get(2))?.as_str();
    (!OF_THE_SYSTEM.contains(&name)).then_some(name)
}

/// Whether a line says that a person did something: it begins with the account of one, or says by whom it was done. What a program did is
/// not meant: `is_program` knows their names.
pub(super) fn was_done_by_one(text: &str, accounts: &HashSet<String>, is_program: impl Fn(&str) -> bool) -> bool {
    let is_told_first = || {
        let first = text.split_whitespace().find(|word| word.bytes().any(|byte| byte.is_ascii_alphabetic()));
        first.is_some_and(|word| accounts.contains(word.trim_end_matches([':', ','])))
    };
    let is_person = |name: &str| {
        !words::is_common(name) && !words::is_plain(name) && !is_program(name) && !OF_THE_SYSTEM.contains(&name)
    };
    let done_by = || {
        let found = DONE_BY.as_ref().and_then(|pattern| pattern.captures(text));
        found.and_then(|found| found.get(1)).is_some_and(|name| is_person(name.as_str()))
    };
    is_told_first() || done_by()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accounts_of_people() {
        assert_eq!(account("anna : TTY=pts/0 ; PWD=/srv ; USER=root ; COMMAND=/bin/ls"), Some("anna"));
        assert_eq!(account("Accepted publickey for olof from 10.0.0.4 port 4000 ssh2"), Some("olof"));
        assert_eq!(account("root : PWD=/ ; USER=root ; COMMAND=/bin/ls"), None);
        assert_eq!(account("accepted a frame for hold 3"), None);
    }

    #[test]
    fn what_a_person_did() {
        let accounts = HashSet::from(["anna".to_owned()]);
        let did = |text: &str| was_done_by_one(text, &accounts, |name| name == "dosingd");
        assert!(did("listener made again, floor 2, by=olof"));
        assert!(did("night plan added by olof, 06:00 daily"));
        assert!(did("anna: hold 3 taken over"));
        for other in ["frames refused by dosingd", "limit raised by default", "tank 3 is fed by 4 pumps", "annalise"] {
            assert!(!did(other), "{other}");
        }
    }
}
