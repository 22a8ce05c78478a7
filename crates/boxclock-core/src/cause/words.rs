//! The words by which lines are tied together: names, identifiers, paths with their folders, values with their names.

use std::collections::{HashMap, HashSet};
use std::sync::LazyLock;

use regex::Regex;

/// Words that all programs use: sharing one of them says less.
static COMMON: LazyLock<HashSet<&'static str>> =
    LazyLock::new(|| include_str!("common.txt").split_whitespace().collect());

/// Words that tie nothing: grammar, and what stands in every system log.
const PLAIN: [&str; 84] = [
    "the", "and", "for", "with", "from", "this", "that", "not", "was", "has", "had", "are", "were", "will", "its",
    "into", "than", "then", "now", "all", "any", "new", "old", "error", "warning", "info", "debug", "failed",
    "started", "stopped", "service", "systemd", "kernel", "root", "user", "uid", "pid", "tty", "pwd", "command", "usr",
    "bin", "sbin", "var", "log", "lib", "opt", "etc", "tmp", "run", "status", "after", "before", "since", "already",
    "about", "over", "only", "http", "https", "home", "srv", "true", "false", "min", "sec", "hour", "hours", "day",
    "days", "minute", "minutes", "second", "seconds", "time", "times", "cannot", "could", "unable", "because", "until",
    "still", "without", "within",
];

/// Folders that every machine has.
const FOLDERS: [&str; 25] = [
    "/usr",
    "/usr/bin",
    "/usr/sbin",
    "/bin",
    "/sbin",
    "/home",
    "/root",
    "/etc",
    "/var",
    "/var/log",
    "/tmp",
    "/usr/local",
    "/usr/local/bin",
    "/usr/lib",
    "/usr/share",
    "/opt",
    "/srv",
    "/lib",
    "/run",
    "/dev",
    "/proc",
    "/sys",
    "/boot",
    "/mnt",
    "/media",
];

/// Parts of a log's path that name no program.
const OF_PATHS: [&str; 60] = [
    "var",
    "log",
    "opt",
    "srv",
    "hosts",
    "logs",
    "usr",
    "local",
    "lib",
    "syslog",
    "messages",
    "auth",
    "daemon",
    "programdata",
    "temp",
    "data",
    "program",
    "files",
    "windows",
    "tmp",
    "home",
    "journal",
    "export",
    "main",
    "out",
    "err",
    "error",
    "access",
    "app",
    "server",
    "worker",
    "console",
    "spool",
    "current",
    "stdout",
    "stderr",
    "x86",
    "json",
    "jsonl",
    "txt",
    "kern",
    "debug",
    "mail",
    "cron",
    "user",
    "system",
    "service",
    "core",
    "kernel",
    "systemd",
    "sudo",
    "dpkg",
    "crond",
    "sshd",
    "rsyslogd",
    "dbus",
    "apt",
    "crontab",
    "postgres",
    "list",
];

/// Words as numbers.
#[derive(Default)]
pub(super) struct Lexicon {
    ids: HashMap<String, u32>,
    list: Vec<String>,
    /// In how many kinds of messages each stands.
    pub(super) spread: Vec<u32>,
}

impl Lexicon {
    pub(super) fn id(&mut self, word: &str) -> u32 {
        if let Some(id) = self.ids.get(word) {
            return *id;
        }
        let next = self.list.len() as u32;
        self.ids.insert(word.to_owned(), next);
        self.list.push(word.to_owned());
        self.spread.push(0);
        next
    }

    /// Words as a sorted list of numbers.
    pub(super) fn ids(&mut self, words: impl IntoIterator<Item = String>) -> Vec<u32> {
        let mut ids: Vec<u32> = words.into_iter().map(|word| self.id(&word)).collect();
        ids.sort_unstable();
        ids.dedup();
        ids
    }

    /// The number of a word that stands in the case.
    pub(super) fn known(&self, word: &str) -> Option<u32> {
        self.ids.get(word).copied()
    }

    pub(super) fn word(&self, id: u32) -> &str {
        self.list.get(id as usize).map_or("", String::as_str)
    }

    pub(super) fn len(&self) -> usize {
        self.list.len()
    }
}

/// Whether all programs use the word.
pub(crate) fn is_common(word: &str) -> bool {
    COMMON.contains(word) || COMMON.contains(format!("{word}s").as_str())
}

/// Whether the word ties nothing: grammar, and what stands in every system log.
pub(super) fn is_plain(word: &str) -> bool {
    PLAIN.contains(&word)
}

static SUDO: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"TTY=\S+ ; PWD=(\S+) ; USER=\S+ ; (?:ENV=\S+ ; )?COMMAND=(\S+)").ok());
/// `391 orders`: how many of what.
static COUNTED: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"(?:^|[ (])(\d{2,9}) ([a-z]{3,15}s)\b").ok());
/// `3.19.0-2`, `1:3.19.0`: a version with what a packager put before and behind it.
static PACKAGED: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"^(?:\d+:)?(\d+(?:\.\d+){1,4})(?:[-+~][0-9A-Za-z.+~]+)?$").ok());
static PACKET: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"\bDST=(\S+).*?\bDPT=(\d+)").ok());
static NAMED_NUMBER: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"\b([A-Za-z][a-z_]{1,14})[ =:/](\d{1,9})\b").ok());

/// A path without `folder/..`.
fn normal(path: &str) -> String {
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            ".." if parts.last().is_some_and(|last| !last.is_empty() && *last != "..") => {
                parts.pop();
            }
            _ => parts.push(part),
        }
    }
    parts.join("/").trim_end_matches('/').to_owned()
}

/// A word in small letters, without the plural; none where it ties nothing.
fn as_word(word: &str) -> Option<String> {
    let mut word = word.to_lowercase();
    if PLAIN.contains(&word.as_str()) || FOLDERS.contains(&word.as_str()) {
        return None;
    }
    // Feeds and feed are one thing.
    if word.len() > 4
        && word.ends_with('s')
        && !word.ends_with("ss")
        && word.bytes().all(|byte| byte.is_ascii_alphabetic())
    {
        word.pop();
    }
    Some(word)
}

struct Collected(HashSet<String>);

impl Collected {
    fn add(&mut self, word: &str) {
        let Some(word) = as_word(word) else { return };
        let short_number = word.len() < 4 && word.bytes().all(|byte| byte.is_ascii_digit());
        if (3..=80).contains(&word.len()) && !short_number {
            self.0.insert(word);
        }
    }

    fn add_path(&mut self, path: &str) {
        // Each folder of a path whole and by its name, the last name, and that without what follows the dot.
        let mut at = 1;
        while let Some(next) = path.get(at..).and_then(|rest| rest.find('/')) {
            if let Some(folder) = path.get(..at + next).filter(|folder| folder.len() > 4) {
                self.add(folder);
            }
            if let Some(part) = path.get(at..at + next).filter(|part| part.len() > 3) {
                self.add(part);
            }
            at += next + 1;
        }
        let last = path.rsplit('/').find(|part| !part.is_empty()).unwrap_or_default();
        self.add(last);
        self.add(last.split('.').next().unwrap_or_default());
    }
}

/// Two plain words that stand behind one another, but for words of grammar: `lock reading` of "lock on readings".
pub(super) fn parts_of_phrase(word: &str) -> Option<(&str, &str)> {
    word.split_once(' ')
}

/// The words of a message, and its [phrases](parts_of_phrase).
pub(super) fn words_of(text: &str) -> HashSet<String> {
    let mut words = Collected(HashSet::new());
    let mut before: Option<String> = None;
    let mut owned = String::new();
    let mut text = text;
    if let Some(found) = SUDO.as_ref().and_then(|sudo| sudo.captures(text)) {
        // Of a command: what it does to what, and where; not on which terminal.
        let rest = found.get(0).and_then(|whole| text.get(whole.end()..)).unwrap_or_default();
        let folder = found.get(1).map_or("", |folder| folder.as_str());
        let program = found.get(2).map_or("", |program| program.as_str()).rsplit('/').next().unwrap_or_default();
        owned.push_str(&format!("{rest} {program}"));
        if !is_home(folder) {
            owned.push(' ');
            owned.push_str(folder);
        }
        text = &owned;
    }
    for piece in text.split(|letter: char| letter.is_whitespace() || "\"'`()[]{}<>,;|".contains(letter)).take(120) {
        let ends_here = piece.ends_with(['.', ':', '!', '?', '=']);
        let piece = piece.trim_matches(|letter: char| ".:!?*#=-".contains(letter));
        // Words of grammar stand between the two.
        if piece.len() > 2 && !PLAIN.contains(&piece) {
            let word = as_word(piece).filter(|word| word.bytes().all(|byte| byte.is_ascii_lowercase()));
            if let (Some(before), Some(word)) = (&before, &word) {
                words.0.insert(format!("{before} {word}"));
            }
            before = word.filter(|_| !ends_here);
        }
        let piece = piece.rsplit_once('=').map_or(piece, |(_, value)| value);
        if piece.is_empty() {
            continue;
        }
        let version = PACKAGED.as_ref().and_then(|pattern| pattern.captures(piece)).and_then(|all| all.get(1));
        if let Some(version) = version {
            words.add(version.as_str());
        }
        let is_address = piece.bytes().all(|byte| byte.is_ascii_digit() || b".:-".contains(&byte));
        if piece.contains('/') {
            let path = normal(piece);
            words.add(&path);
            words.add_path(&path);
        } else if is_address {
            words.add(piece);
            if let Some((address, port)) =
                piece.split_once(':').filter(|(address, _)| address.matches('.').count() == 3)
            {
                words.add(address);
                words.add(&format!(":{port}"));
            }
        } else {
            words.add(piece);
            for part in piece.split(['.', ':', '_', '@', '-']) {
                words.add(part);
            }
        }
    }
    let numbers = NAMED_NUMBER.as_ref().map(|pattern| pattern.captures_iter(text).take(20));
    for found in numbers.into_iter().flatten() {
        words.0.insert(format!("{}={}", found[1].to_lowercase(), &found[2]));
    }
    let counted = COUNTED.as_ref().map(|pattern| pattern.captures_iter(text).take(10));
    for found in counted.into_iter().flatten() {
        words.0.insert(format!("{}={}", &found[2], &found[1]));
    }
    if let Some(packet) = PACKET.as_ref().and_then(|pattern| pattern.captures(text)) {
        words.0.insert(format!("{}:{}", &packet[1], &packet[2]));
    }
    words.0
}

/// The names of the program that wrote a line: of its component, and of the folders and file of its log where it has one of its own.
pub(super) fn identity(component: &str, log: Option<&str>) -> HashSet<String> {
    let mut names = HashSet::new();
    let mut add = |part: &str| {
        let part = part.to_lowercase();
        if part.len() > 2
            && !OF_PATHS.contains(&part.as_str())
            && !is_common(&part)
            && !part.bytes().all(|byte| byte.is_ascii_digit())
        {
            names.insert(part);
        }
    };
    component.split(['/', '.', ' ', '[', '\t']).for_each(&mut add);
    // Behind "hosts" and the host's own name.
    let path = log.map(|log| log.strip_prefix("hosts/").unwrap_or(log)).unwrap_or_default();
    path.split('/').skip(1).flat_map(|part| part.split(['.', '_'])).for_each(&mut add);
    names
}

/// Takes out the names of a program's loggers (`dosing.pool`) and what they are made of: they tie its lines to one another only.
pub(super) fn leave_out_loggers(words: &mut HashSet<String>, identity: &HashSet<String>) {
    let is_logger = |word: &&String| word.contains('.') && word.split('.').any(|part| identity.contains(part));
    let parts: Vec<String> = words
        .iter()
        .filter(is_logger)
        .flat_map(|word| word.split('.').map(str::to_owned).chain([word.clone()]))
        .collect();
    for part in parts.iter().filter(|part| !identity.contains(*part)) {
        words.remove(part);
    }
}

static OBJECTS: LazyLock<Vec<Regex>> = LazyLock::new(|| {
    [
        r"COMMAND=\S*/(?:vi|vim|nano|ed|sed|emacs|tee)\b(.*)",
        r"\bfile\[([^\]]+)\]",
        r"\bpackage\[([^\]]+)\]",
        r"package\.name=([\w.+-]+)",
        r"will be upgraded: ([\w.+-]+)",
        r"(\S+)\.(?:service|timer|socket)\b",
        r"COMMAND=\S*/(?:systemctl \w+|service) (\S+)",
        r"^status installed ([\w.+-]+)",
        r"\b(?:to|from) (?:shadow )?group '([^']+)'",
        r"\bnew (?:user|group): name=([^,\s]+)",
        r"\b(?:delete|removed) (?:user|group) '([^']+)'",
        r"\b(?:upgraded|updated|downgraded) ([A-Za-z][\w .+-]{1,40}?) (?:from|to) v?\d",
        r"\bchanged ([A-Za-z][\w -]{2,30}?) settings\b",
        r"\b(?:threshold|limit) for ([A-Za-z][\w -]{1,30}?) (?:set|raised|lowered|changed)\b",
    ]
    .iter()
    .filter_map(|pattern| Regex::new(pattern).ok())
    .collect()
});

/// Whether a folder says only who somebody is.
fn is_home(folder: &str) -> bool {
    folder.starts_with("/home") || folder.starts_with("/root")
}

/// What a change was made to, where the line names a package, a file of settings or a service.
pub(super) fn objects_of(text: &str) -> HashSet<String> {
    let mut objects = HashSet::new();
    let found = OBJECTS.iter().flat_map(|pattern| pattern.captures_iter(text));
    // "upgraded from 40 to 41" says of nothing what was upgraded.
    for found in found.filter(|found| !found[1].starts_with("from ")) {
        objects.extend(words_of(&found[1]));
    }
    if !objects.is_empty()
        && let Some(found) = SUDO.as_ref().and_then(|sudo| sudo.captures(text))
        && !is_home(&found[1])
    {
        objects.extend(words_of(&found[1]));
    }
    objects
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_that_tie_lines_together() {
        let words = words_of("chown -R web:web /srv/www/../feeds/hold.db by=anna, tag 14");
        for word in ["/srv/feeds/hold.db", "/srv/feeds", "hold.db", "hold", "anna", "chown", "tag=14"] {
            assert!(words.contains(word), "{word}: {words:?}");
        }
        assert!(words_of("deny SRC=10.0.0.1 DST=10.0.0.9 PROTO=TCP DPT=7441").contains("10.0.0.9:7441"));
        assert!(words_of("dial 10.0.0.9:7441: i/o timeout").contains("10.0.0.9:7441"));
    }

    #[test]
    fn a_command_is_what_it_does_to_what() {
        let words = words_of("anna : TTY=pts/0 ; PWD=/etc/dosing ; USER=root ; COMMAND=/usr/bin/vi night.toml");
        assert!(words.contains("/etc/dosing") && words.contains("night.toml") && !words.contains("pts/0"), "{words:?}");
        assert!(!words.contains("/usr/bin"), "{words:?}");
    }

    #[test]
    fn programs_are_known_by_their_log() {
        let names = identity("app.dosing.Pool", Some("hosts/pump-ctl/opt/dosingd/log/hub.log"));
        assert!(names.contains("dosingd") && names.contains("hub") && names.contains("dosing"), "{names:?}");
        assert!(!names.contains("log") && !names.contains("opt") && !names.contains("pump-ctl"), "{names:?}");
        assert!(identity("systemd", None).is_empty());
    }

    #[test]
    fn loggers_tie_nothing() {
        let mut words = words_of("dosingd.pool | tank refused");
        leave_out_loggers(&mut words, &identity("", Some("hosts/pump-ctl/opt/dosingd/hub.log")));
        assert!(words.contains("tank") && !words.contains("pool") && !words.contains("dosingd.pool"), "{words:?}");
    }

    #[test]
    fn objects_of_changes() {
        assert!(objects_of("package[dosingd]: upgraded to 5.1").contains("dosingd"));
        assert!(objects_of("u : TTY=pts/1 ; PWD=/etc ; USER=root ; COMMAND=/usr/bin/vi motd").contains("motd"));
        let restart =
            objects_of("u : TTY=pts/1 ; PWD=/home/anna ; USER=root ; COMMAND=/usr/bin/systemctl restart gate");
        assert!(restart.contains("gate") && !restart.contains("anna"), "{restart:?}");
        assert!(objects_of("upgraded bundled fonts to 2026.4").contains("font"));
        assert!(objects_of("anna changed lamp settings").contains("lamp"));
        assert!(objects_of("threshold for disk set 91% by schedule").contains("disk"));
        for none in ["clock stepped by 3 s", "bridge-plan upgraded from 40 to 41"] {
            assert!(objects_of(none).is_empty(), "{none}");
        }
    }
}
