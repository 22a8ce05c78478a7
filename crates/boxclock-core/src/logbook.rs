//! The logbook: what people add to a case. An SQLite file beside it; the evidence itself is never touched.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use rusqlite::{Connection, OptionalExtension, Transaction, TransactionBehavior, params};
use sha2::{Digest, Sha256};

use crate::choice::Choice;
use crate::clock::ClockCorrection;
use crate::clock::human::drift_text;
use crate::new_file::{NewFile, Protected};
use crate::text::hex;
use crate::{Error, Result, platform};

mod after;
mod story;

pub use after::{RemedyStep, Verified};
pub use story::Story;

/// A filter that is kept with the case under a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SavedFilter {
    /// Its name.
    pub name: String,
    /// The filter, as it was typed.
    pub filter: String,
}

/// A marked place. Its event is found by source and offset, so a pin survives that the index is built anew.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pin {
    /// Its number in the logbook.
    pub id: i64,
    /// The name of the source.
    pub source: String,
    /// Where the record starts in the source, in bytes.
    pub offset: u64,
    /// What somebody wrote to it.
    pub note: String,
    /// What it is in the case.
    pub kind: PinKind,
    /// Its colour, 0 to 7; `None` for that of its kind.
    pub colour: Option<u8>,
}

/// What a pin is in the case.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum PinKind {
    /// What people noticed.
    Symptom,
    /// Something that shows what happened.
    #[default]
    Evidence,
    /// Something that was changed before.
    Change,
    /// What started it all.
    Root,
    /// Looked at, and not it.
    RuledOut,
}

impl PinKind {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Evidence, Self::Symptom, Self::Change, Self::Root, Self::RuledOut];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Symptom => "symptom",
            Self::Evidence => "evidence",
            Self::Change => "change",
            Self::Root => "root",
            Self::RuledOut => "ruled out",
        }
    }

    /// The next kind, in a circle.
    #[must_use]
    pub fn next(self) -> Self {
        let at = Self::ALL.iter().position(|kind| *kind == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }

    fn parse(name: &str) -> Self {
        Self::ALL.into_iter().find(|kind| kind.name() == name).unwrap_or_default()
    }
}

/// What a link of the chain is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Link {
    /// What started it all.
    Root,
    /// A step from cause to effect.
    Step,
    /// What people noticed.
    Symptom,
}

impl Link {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Root => "root",
            Self::Step => "step",
            Self::Symptom => "symptom",
        }
    }

    /// The next kind, in a circle.
    #[must_use]
    pub fn next(self) -> Self {
        match self {
            Self::Root => Self::Step,
            Self::Step => Self::Symptom,
            Self::Symptom => Self::Root,
        }
    }

    fn parse(name: &str) -> Self {
        match name {
            "root" => Self::Root,
            "symptom" => Self::Symptom,
            _ => Self::Step,
        }
    }
}

/// One link of the chain from the root to the symptom.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChainLink {
    /// The pin.
    pub pin: i64,
    /// What it is in the chain.
    pub kind: Link,
    /// Why it follows from the link before.
    pub reason: String,
}

/// The logbook of one case.
pub struct Logbook {
    connection: Connection,
    path: PathBuf,
}

const SCHEMA: &str = "
    CREATE TABLE IF NOT EXISTS secret (name TEXT PRIMARY KEY, value BLOB NOT NULL);
    CREATE TABLE IF NOT EXISTS story (key TEXT PRIMARY KEY, value TEXT NOT NULL);
    CREATE TABLE IF NOT EXISTS pin (id INTEGER PRIMARY KEY AUTOINCREMENT, source TEXT NOT NULL, offset INTEGER NOT NULL,
        note TEXT NOT NULL, kind TEXT NOT NULL DEFAULT 'evidence', colour INTEGER, UNIQUE (source, offset));
    CREATE TABLE IF NOT EXISTS ink (place INTEGER PRIMARY KEY, text TEXT NOT NULL);
    CREATE TABLE IF NOT EXISTS lens (name TEXT PRIMARY KEY, filter TEXT NOT NULL);
    CREATE TABLE IF NOT EXISTS harmless (difference TEXT PRIMARY KEY);
    CREATE TABLE IF NOT EXISTS drift (host TEXT PRIMARY KEY, ns INTEGER NOT NULL, rate_ppb INTEGER NOT NULL DEFAULT 0,
        since INTEGER NOT NULL DEFAULT 0);
    CREATE TABLE IF NOT EXISTS choice (source TEXT NOT NULL, what TEXT NOT NULL, value TEXT NOT NULL,
        PRIMARY KEY (source, what));
    CREATE TABLE IF NOT EXISTS chain (place INTEGER NOT NULL, pin INTEGER NOT NULL REFERENCES pin (id) ON DELETE CASCADE,
        kind TEXT NOT NULL, reason TEXT NOT NULL);
    CREATE TABLE IF NOT EXISTS remedy (place INTEGER PRIMARY KEY, what TEXT NOT NULL, proves TEXT NOT NULL, done_by TEXT,
        done_at TEXT);
    CREATE TABLE IF NOT EXISTS verdict (at TEXT NOT NULL, later TEXT NOT NULL, verdict TEXT NOT NULL, summary TEXT NOT NULL,
        items TEXT NOT NULL);
    CREATE TABLE IF NOT EXISTS action (at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')), what TEXT NOT NULL);
";

/// The version of the schema, kept in SQLite's `user_version`.
const VERSION: i64 = 3;

/// What version 2 added to the tables of version 1.
const SINCE_1: &str = "
    ALTER TABLE drift ADD COLUMN rate_ppb INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE drift ADD COLUMN since INTEGER NOT NULL DEFAULT 0;
";

/// What version 3 added to the tables of version 2.
const SINCE_2: &str = "
    ALTER TABLE pin ADD COLUMN kind TEXT NOT NULL DEFAULT 'evidence';
    ALTER TABLE pin ADD COLUMN colour INTEGER;
";

impl Logbook {
    /// Opens or makes the logbook at `path`.
    ///
    /// # Errors
    /// When it cannot be made, is damaged, or was written by a newer program.
    pub fn open(path: &Path) -> Result<Self> {
        let cannot = |error: rusqlite::Error| Error::at(path, "cannot use the logbook", error);
        if let Some(folder) = path.parent()
            && !folder.as_os_str().is_empty()
        {
            std::fs::create_dir_all(folder).map_err(|error| Error::at(folder, "cannot make the folder", error))?;
        }
        // Logbooks of older programs could be read by others.
        platform::tighten(path);
        let connection = Connection::open(path).map_err(cannot)?;
        Self::prepare(connection, path).map_err(cannot)?.ok_or_else(|| {
            Error::new(format!("the logbook {} was written by a newer version of this program", path.display()))
        })
    }

    /// A logbook that lasts only as long as the program, for tests and read-only places.
    ///
    /// # Errors
    /// When SQLite cannot start.
    pub fn in_memory() -> Result<Self> {
        let cannot = |error: rusqlite::Error| Error::caused("cannot make a logbook in memory", error);
        let connection = Connection::open_in_memory().map_err(cannot)?;
        Self::prepare(connection, Path::new("")).map_err(cannot)?.ok_or_else(|| Error::new("cannot make a logbook"))
    }

    fn prepare(connection: Connection, path: &Path) -> rusqlite::Result<Option<Self>> {
        // With a full sync on each commit, what was shown as saved survives a kill and a power loss.
        connection.execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON;")?;
        connection.busy_timeout(std::time::Duration::from_secs(2))?;
        // In one transaction that holds the file from the start: a kill, or a second program that opens it, finds the old
        // tables or the new ones.
        let transaction = Transaction::new_unchecked(&connection, TransactionBehavior::Immediate)?;
        let version: i64 = transaction.query_row("PRAGMA user_version", [], |row| row.get(0))?;
        if version > VERSION {
            return Ok(None);
        }
        if version == 1 {
            transaction.execute_batch(SINCE_1)?;
        }
        if version == 1 || version == 2 {
            transaction.execute_batch(SINCE_2)?;
        }
        transaction.execute_batch(SCHEMA)?;
        transaction.pragma_update(None, "user_version", VERSION)?;
        transaction.commit()?;
        Ok(Some(Self { connection, path: path.to_path_buf() }))
    }

    /// Where it is; empty for one in memory.
    pub fn path(&self) -> &Path {
        &self.path
    }

    fn cannot(&self, error: rusqlite::Error) -> Error {
        Error::at(&self.path, "cannot use the logbook", error)
    }

    /// Runs changes as one: all of them or none.
    fn change(&self, what: &str, run: impl FnOnce(&Connection) -> rusqlite::Result<()>) -> Result<()> {
        let all = || {
            let transaction = self.connection.unchecked_transaction()?;
            run(&transaction)?;
            transaction.execute("INSERT INTO action (what) VALUES (?1)", [what])?;
            transaction.commit()
        };
        all().map_err(|error| self.cannot(error))
    }

    /// The story: `base` (from the box) with what people changed.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn story(&self, base: &Story) -> Result<Story> {
        let mut story = base.clone();
        for (key, ..) in Story::FIELDS {
            let value: Option<String> = self
                .connection
                .query_row("SELECT value FROM story WHERE key = ?1", [key], |row| row.get(0))
                .optional()
                .map_err(|error| self.cannot(error))?;
            if let Some(value) = value {
                story.set(key, value);
            }
        }
        Ok(story)
    }

    /// Changes one field of the story.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_story(&self, key: &str, value: &str) -> Result<()> {
        self.change(&format!("story: {key} = {value}"), |connection| {
            connection.execute("INSERT OR REPLACE INTO story (key, value) VALUES (?1, ?2)", [key, value]).map(|_| ())
        })
    }

    /// The key by which values are replaced in redacted copies of this case; made the first time.
    ///
    /// # Errors
    /// When the logbook cannot be read or written, or the system gives no random bytes.
    pub fn redaction_key(&self) -> Result<[u8; 32]> {
        let known: Option<Vec<u8>> = self
            .connection
            .query_row("SELECT value FROM secret WHERE name = 'redaction'", [], |row| row.get(0))
            .optional()
            .map_err(|error| self.cannot(error))?;
        let known = known.and_then(|key| <[u8; 32]>::try_from(key).ok());
        // A logbook lies beside its box and goes along with it; the key must not.
        let path = &self.path;
        let keys = platform::data_dir().map(|data| data.join("keys"));
        let Some(keys) = keys.filter(|_| !path.as_os_str().is_empty()) else {
            return known.map_or_else(new_key, Ok);
        };
        let full = std::fs::canonicalize(path).unwrap_or_else(|_| path.clone());
        let name = hex(&Sha256::digest(full.as_os_str().as_encoded_bytes()));
        let file = keys.join(format!("{}.key", name.get(..32).unwrap_or("case")));
        let kept = std::fs::read(&file).ok().and_then(|key| <[u8; 32]>::try_from(key).ok());
        let key = match kept.or(known) {
            Some(key) => key,
            None => new_key()?,
        };
        if kept.is_none() {
            let cannot = |error: std::io::Error| Error::at(&file, "cannot keep the key of redaction", error);
            platform::private_folder(&keys).map_err(cannot)?;
            NewFile::write(&file, &Protected::default(), true, &key)?;
        }
        if known.is_some() {
            self.change("moved the key for redaction away from the case", |connection| {
                connection.execute("DELETE FROM secret WHERE name = 'redaction'", []).map(|_| ())
            })?;
        }
        Ok(key)
    }

    /// All pins, in the order in which they were made.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn pins(&self) -> Result<Vec<Pin>> {
        let read = || -> rusqlite::Result<Vec<Pin>> {
            let mut statement =
                self.connection.prepare("SELECT id, source, offset, note, kind, colour FROM pin ORDER BY id")?;
            let rows = statement.query_map([], |row| {
                let offset: i64 = row.get(2)?;
                let kind: String = row.get(4)?;
                let (id, source, note, colour) = (row.get(0)?, row.get(1)?, row.get(3)?, row.get(5)?);
                Ok(Pin { id, source, offset: offset.cast_unsigned(), note, kind: PinKind::parse(&kind), colour })
            })?;
            rows.collect()
        };
        read().map_err(|error| self.cannot(error))
    }

    /// Pins a place, or changes the note of its pin.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_pin(&self, source: &str, offset: u64, note: &str) -> Result<()> {
        self.change(&format!("pin: {source} at {offset}: {note}"), |connection| {
            let sql = "INSERT INTO pin (source, offset, note) VALUES (?1, ?2, ?3)
                       ON CONFLICT (source, offset) DO UPDATE SET note = excluded.note";
            connection.execute(sql, params![source, offset.cast_signed(), note]).map(|_| ())
        })
    }

    /// Says what a pin is, and its colour (`None`: that of its kind).
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_pin_kind(&self, id: i64, kind: PinKind, colour: Option<u8>) -> Result<()> {
        self.change(&format!("pin {id} is {}", kind.name()), |connection| {
            let sql = "UPDATE pin SET kind = ?2, colour = ?3 WHERE id = ?1";
            connection.execute(sql, params![id, kind.name(), colour]).map(|_| ())
        })
    }

    /// The inks: what is coloured, by place from 0.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn inks(&self) -> Result<Vec<(u8, String)>> {
        let read = || -> rusqlite::Result<Vec<(u8, String)>> {
            let mut statement = self.connection.prepare("SELECT place, text FROM ink ORDER BY place")?;
            let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
            rows.collect()
        };
        read().map_err(|error| self.cannot(error))
    }

    /// Sets an ink, or with an empty text takes it away.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_ink(&self, place: u8, text: &str) -> Result<()> {
        self.change(&format!("ink {}: {text}", place + 1), |connection| {
            connection.execute("DELETE FROM ink WHERE place = ?1", [place])?;
            if !text.is_empty() {
                connection.execute("INSERT INTO ink (place, text) VALUES (?1, ?2)", params![place, text])?;
            }
            Ok(())
        })
    }

    /// The lenses that are kept with the case.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn lenses(&self) -> Result<Vec<SavedFilter>> {
        let read = || -> rusqlite::Result<Vec<SavedFilter>> {
            let mut statement = self.connection.prepare("SELECT name, filter FROM lens ORDER BY name")?;
            let rows = statement.query_map([], |row| Ok(SavedFilter { name: row.get(0)?, filter: row.get(1)? }))?;
            rows.collect()
        };
        read().map_err(|error| self.cannot(error))
    }

    /// Keeps a lens with the case, or with an empty filter takes it away.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_lens(&self, name: &str, filter: &str) -> Result<()> {
        self.change(&format!("lens {name}: {filter}"), |connection| {
            connection.execute("DELETE FROM lens WHERE name = ?1", [name])?;
            if !filter.is_empty() {
                connection.execute("INSERT INTO lens (name, filter) VALUES (?1, ?2)", [name, filter])?;
            }
            Ok(())
        })
    }

    /// The differences between a bad and a good run that somebody has seen do not matter, as [`crate::compare::Difference::key`] has
    /// them.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn harmless(&self) -> Result<std::collections::HashSet<String>> {
        let read = || -> rusqlite::Result<_> {
            let mut statement = self.connection.prepare("SELECT difference FROM harmless")?;
            statement.query_map([], |row| row.get(0))?.collect()
        };
        read().map_err(|error| self.cannot(error))
    }

    /// Notes that a difference does not matter, or that it does after all.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_harmless(&self, difference: &str, is_harmless: bool) -> Result<()> {
        self.change(&format!("difference, harmless {is_harmless}: {difference}"), |connection| {
            let statement = if is_harmless {
                "INSERT OR IGNORE INTO harmless (difference) VALUES (?1)"
            } else {
                "DELETE FROM harmless WHERE difference = ?1"
            };
            connection.execute(statement, [difference]).map(|_| ())
        })
    }

    /// Takes a pin away, and its link in the chain.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn remove_pin(&self, id: i64) -> Result<()> {
        self.change(&format!("pin {id} removed"), |connection| {
            connection.execute("DELETE FROM pin WHERE id = ?1", [id]).map(|_| ())
        })
    }

    /// The chain, from root to symptom.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn chain(&self) -> Result<Vec<ChainLink>> {
        let read = || -> rusqlite::Result<Vec<ChainLink>> {
            let mut statement = self.connection.prepare("SELECT pin, kind, reason FROM chain ORDER BY place")?;
            let rows = statement.query_map([], |row| {
                let kind: String = row.get(1)?;
                Ok(ChainLink { pin: row.get(0)?, kind: Link::parse(&kind), reason: row.get(2)? })
            })?;
            rows.collect()
        };
        read().map_err(|error| self.cannot(error))
    }

    /// Replaces the chain.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_chain(&self, links: &[ChainLink]) -> Result<()> {
        self.change(&format!("chain of {} links", links.len()), |connection| {
            connection.execute("DELETE FROM chain", [])?;
            for (place, link) in links.iter().enumerate() {
                let sql = "INSERT INTO chain (place, pin, kind, reason) VALUES (?1, ?2, ?3, ?4)";
                connection.execute(sql, params![place as i64, link.pin, link.kind.name(), link.reason])?;
            }
            Ok(())
        })
    }

    /// Clock corrections, by label of the host or name of the source.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn drift(&self) -> Result<HashMap<String, ClockCorrection>> {
        let read = || -> rusqlite::Result<HashMap<String, ClockCorrection>> {
            let mut statement = self.connection.prepare("SELECT host, ns, rate_ppb, since FROM drift")?;
            let rows = statement.query_map([], |row| {
                Ok((row.get(0)?, ClockCorrection { add_ns: row.get(1)?, rate_ppb: row.get(2)?, since: row.get(3)? }))
            })?;
            rows.collect()
        };
        read().map_err(|error| self.cannot(error))
    }

    /// Sets or (with none) takes away the clock correction of a host or source.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_drift(&self, name: &str, drift: ClockCorrection) -> Result<()> {
        self.change(&format!("clock of {name}: {}", drift_text(drift)), |connection| {
            connection.execute("DELETE FROM drift WHERE host = ?1", [name])?;
            if !drift.is_none() {
                connection.execute(
                    "INSERT INTO drift (host, ns, rate_ppb, since) VALUES (?1, ?2, ?3, ?4)",
                    params![name, drift.add_ns, drift.rate_ppb, drift.since],
                )?;
            }
            Ok(())
        })
    }

    /// What was chosen by hand about how to read sources, by name of the source. A value that this version does not know
    /// (a format that is gone) is left out.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn choices(&self) -> Result<HashMap<String, Choice>> {
        let read = || -> rusqlite::Result<HashMap<String, Choice>> {
            let mut statement = self.connection.prepare("SELECT source, what, value FROM choice")?;
            let mut rows = statement.query([])?;
            let mut choices: HashMap<String, Choice> = HashMap::new();
            while let Some(row) = rows.next()? {
                let (source, what, value): (String, String, String) = (row.get(0)?, row.get(1)?, row.get(2)?);
                // What cannot be understood is found out as if nothing had been chosen.
                let _ = choices.entry(source).or_default().set(&what, &value);
            }
            Ok(choices)
        };
        read().map_err(|error| self.cannot(error))
    }

    /// Remembers a choice about how to read a source: `what` is `format`, `encoding`, `zone`, `host` or `dates`; an empty value
    /// takes it back.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_choice(&self, source: &str, what: &str, value: &str) -> Result<()> {
        self.change(&format!("{what} of {source}: {value}"), |connection| {
            connection.execute("DELETE FROM choice WHERE source = ?1 AND what = ?2", [source, what])?;
            if !value.is_empty() {
                connection
                    .execute("INSERT INTO choice (source, what, value) VALUES (?1, ?2, ?3)", [source, what, value])?;
            }
            Ok(())
        })
    }
}

fn new_key() -> Result<[u8; 32]> {
    let mut key = [0; 32];
    getrandom::fill(&mut key).map_err(|error| Error::new(format!("the system gives no random bytes: {error}")))?;
    Ok(key)
}

#[cfg(test)]
mod tests;
