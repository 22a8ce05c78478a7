//! The catalogue of codes: families, numbers, names, and meanings in our own words.
//!
//! Two kinds of files in `data/`: `names/` holds the numbers and names of whole families, written by
//! `scripts/codes-from-headers` from the platforms' public headers (each file names its source); `codes/` holds what
//! people wrote: meaning, usual causes, what to check. Families without a header there follow RFC 9110 (HTTP), 3261
//! (SIP), 5321 (SMTP), 959 and 4217 (FTP), 8446 (TLS), 1035, 2136 and 6891 (DNS), 4511 (LDAP), 4120 (Kerberos), 4253
//! (SSH), and the manual pages signal(7) and systemd.exec(5).

use std::sync::LazyLock;

use rustc_hash::FxHashMap;

use super::{Code, Family};

/// What a code says of the work that gave it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Outcome {
    /// It failed.
    Failure,
    /// It was done, and is not in effect before a restart: people take this for done.
    Restart,
    /// It did not fail.
    Success,
}

impl Outcome {
    /// `failure`, `restart` or `success`.
    pub fn name(self) -> &'static str {
        match self {
            Self::Failure => "failure",
            Self::Restart => "restart",
            Self::Success => "success",
        }
    }

    /// For people.
    pub fn words(self) -> &'static str {
        match self {
            Self::Failure => "failure",
            Self::Restart => "restart needed",
            Self::Success => "no failure",
        }
    }

    /// The outcome of a name.
    pub fn parse(name: &str) -> Option<Self> {
        [Self::Failure, Self::Restart, Self::Success].into_iter().find(|outcome| outcome.name() == name)
    }
}

/// One row of the catalogue. Texts are empty where only number and name are known.
#[derive(Clone, Copy, Debug)]
pub struct Entry {
    /// Its identity.
    pub code: Code,
    /// Its symbolic name; empty where it has none.
    pub name: &'static str,
    /// What it says of the work that gave it; `None` where the family's rule decides.
    pub outcome: Option<Outcome>,
    /// A few words, for right behind the code.
    pub gloss: &'static str,
    /// What it means.
    pub meaning: &'static str,
    /// What usually causes it.
    pub causes: &'static str,
    /// What to check next.
    pub check: &'static str,
}

impl Entry {
    /// Whether somebody wrote down what it means.
    pub fn is_explained(&self) -> bool {
        !self.meaning.is_empty()
    }
}

struct Tables {
    rows: Vec<Entry>,
    by_code: FxHashMap<Code, u32>,
    /// Further names of rows: how many rows there were when each was read, the name, its row.
    also: Vec<(u32, &'static str, u32)>,
}

/// Rows by the names that are looked for in text; who only explains a number does not need it.
static BY_NAME: LazyLock<FxHashMap<&'static [u8], u32>> = LazyLock::new(|| {
    let own = TABLES.rows.iter().zip(0_u32..).map(|(row, index)| (index, row.name, index));
    let mut names: Vec<_> = TABLES.also.iter().copied().chain(own).collect();
    names.sort_by_key(|(read, ..)| *read);
    let mut by_name = FxHashMap::with_capacity_and_hasher(ABOUT_ROWS, rustc_hash::FxBuildHasher);
    for (_, name, index) in names {
        let in_text = TABLES.rows.get(index as usize).is_some_and(|row| row.code.family.names_in_text());
        // The first row of a name wins: Windows system codes come before the results that wrap them, Linux before others.
        if !name.is_empty() && in_text {
            by_name.entry(name.as_bytes()).or_insert(index);
        }
    }
    by_name
});

const EXPLAINED: [&str; 7] = [
    include_str!("../../data/codes/windows.tsv"),
    include_str!("../../data/codes/stop.tsv"),
    include_str!("../../data/codes/installer.tsv"),
    include_str!("../../data/codes/unix.tsv"),
    include_str!("../../data/codes/network.tsv"),
    include_str!("../../data/codes/database.tsv"),
    include_str!("../../data/codes/runtime.tsv"),
];

const NAMED: [(Family, &str); 15] = [
    (Family::Win32, include_str!("../../data/names/win32.tsv")),
    (Family::Hresult, include_str!("../../data/names/hresult.tsv")),
    (Family::NtStatus, include_str!("../../data/names/ntstatus.tsv")),
    (Family::Stop, include_str!("../../data/names/stop.tsv")),
    (Family::Errno, include_str!("../../data/names/errno.tsv")),
    (Family::Signal, include_str!("../../data/names/signal.tsv")),
    (Family::Exit, include_str!("../../data/names/exit.tsv")),
    (Family::Ldap, include_str!("../../data/names/ldap.tsv")),
    (Family::SqlState, include_str!("../../data/names/sqlstate.tsv")),
    (Family::MySql, include_str!("../../data/names/mysql.tsv")),
    (Family::Sqlite, include_str!("../../data/names/sqlite.tsv")),
    (Family::ErrnoMacos, include_str!("../../data/names/errno-macos.tsv")),
    (Family::ErrnoFreebsd, include_str!("../../data/names/errno-freebsd.tsv")),
    (Family::ErrnoSolaris, include_str!("../../data/names/errno-solaris.tsv")),
    (Family::ErrnoAix, include_str!("../../data/names/errno-aix.tsv")),
];

/// Rows of the two kinds of files; only to size the tables.
const ABOUT_ROWS: usize = 14_000;

static TABLES: LazyLock<Tables> = LazyLock::new(|| {
    let mut tables = Tables {
        rows: Vec::with_capacity(ABOUT_ROWS),
        by_code: FxHashMap::with_capacity_and_hasher(ABOUT_ROWS, rustc_hash::FxBuildHasher),
        also: Vec::new(),
    };
    for entry in EXPLAINED.iter().flat_map(|text| text.lines()).filter_map(parse_explained) {
        tables.add(entry);
    }
    for (family, text) in NAMED {
        for (number, name) in text.lines().filter_map(|line| parse_named(family, line)) {
            tables.add_name(Code { family, number }, name);
        }
    }
    tables
});

impl Tables {
    fn add(&mut self, entry: Entry) {
        self.by_code.insert(entry.code, self.rows.len() as u32);
        self.rows.push(entry);
    }

    /// Another name leads to the row that is there; a number that is new gets a row without texts.
    fn add_name(&mut self, code: Code, name: &'static str) {
        match self.by_code.get(&code) {
            Some(index) => self.also.push((self.rows.len() as u32, name, *index)),
            None => self.add(Entry { code, name, outcome: None, gloss: "", meaning: "", causes: "", check: "" }),
        }
    }
}

fn parse_explained(line: &'static str) -> Option<Entry> {
    if line.starts_with('#') {
        return None;
    }
    let mut columns = line.split('\t');
    let family = Family::parse(columns.next()?)?;
    let number = columns.next()?;
    let name = columns.next().map(|name| if name == "-" { "" } else { name })?;
    Some(Entry {
        code: Code { family, number: family.parse_number(number, name)? },
        name,
        outcome: Some(Outcome::parse(columns.next()?)?),
        gloss: columns.next()?,
        meaning: columns.next()?,
        causes: columns.next()?,
        check: columns.next()?,
    })
}

fn parse_named(family: Family, line: &'static str) -> Option<(u32, &'static str)> {
    let (number, name) = line.split_once('\t').filter(|_| !line.starts_with('#'))?;
    Some((family.parse_number(number, name)?, name))
}

/// All rows.
pub fn entries() -> &'static [Entry] {
    &TABLES.rows
}

/// The row of a code, if it has one.
pub fn entry(code: Code) -> Option<&'static Entry> {
    TABLES.by_code.get(&code).and_then(|index| TABLES.rows.get(*index as usize))
}

/// The row of a symbolic name as it stands in text, if it has one.
pub fn by_name(name: &[u8]) -> Option<&'static Entry> {
    BY_NAME.get(name).and_then(|index| TABLES.rows.get(*index as usize))
}

/// All names that are looked for in text.
pub(super) fn names_in_text() -> impl Iterator<Item = &'static [u8]> {
    BY_NAME.keys().copied()
}

/// The row of a name in one family: error numbers have the same names on systems where they have other numbers.
pub fn by_name_in(family: Family, name: &str) -> Option<&'static Entry> {
    TABLES.rows.iter().find(|row| row.code.family == family && row.name == name)
}

/// Whether a text says the name of a code in plain words: ` No such object` is `LDAP_NO_SUCH_OBJECT`.
pub(super) fn said(family: Family, number: u32, text: &[u8]) -> bool {
    let Some(row) = entry(Code { family, number }) else { return false };
    let words = row.name.split_once('_').map_or("", |(_, words)| words);
    let text = text.strip_prefix(b" ").unwrap_or(text);
    !words.is_empty()
        && text.len() >= words.len()
        && words.bytes().zip(text).all(|(name, said)| {
            let said = if *said == b' ' { b'_' } else { said.to_ascii_uppercase() };
            name == said
        })
}

/// What the four parameters of a stop mean, for the stops met most.
pub fn stop_parameters(number: u32) -> Option<[&'static str; 4]> {
    static PARAMETERS: LazyLock<FxHashMap<u32, [&'static str; 4]>> = LazyLock::new(|| {
        let lines = include_str!("../../data/codes/stop-parameters.tsv").lines().filter(|line| !line.starts_with('#'));
        let row = |line: &'static str| {
            let mut columns = line.split('\t');
            let number = u32::from_str_radix(columns.next()?.strip_prefix("0x")?, 16).ok()?;
            Some((number, [columns.next()?, columns.next()?, columns.next()?, columns.next()?]))
        };
        lines.filter_map(row).collect()
    });
    PARAMETERS.get(&number).copied()
}

#[cfg(test)]
mod tests;
