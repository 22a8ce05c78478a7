//! The shelf: all the cases that this user has opened, with what is needed to see that something was met before.
//!
//! One SQLite file in the user's data folder, private to the user. It holds no lines of logs: titles, host names, names of codes and fault
//! cards, fingerprints of crashes and numbers of patterns.

use std::path::{Path, PathBuf};

use rusqlite::{Connection, params};

use crate::analysis::CaseView;
use crate::code::Code;
use crate::crash::CrashAnalysis;
use crate::logbook::Logbook;
use crate::pattern::PatternAnalysis;
use crate::work::Work;
use crate::{Error, Result, card, cause, code, platform};

/// Codes, fingerprints and patterns that are kept of a case, each.
const MOST_KEPT: usize = 300;
/// Severity number of messages whose patterns are kept.
const TROUBLE: u8 = 17;
/// The version of the file, kept in SQLite's `user_version`.
const VERSION: i64 = 1;

const SCHEMA: &str =
    "CREATE TABLE IF NOT EXISTS box (path TEXT PRIMARY KEY, title TEXT NOT NULL, opened INTEGER NOT NULL,
    first INTEGER, last INTEGER, hosts TEXT NOT NULL, cause TEXT NOT NULL, cards TEXT NOT NULL, codes TEXT NOT NULL,
    fingerprints TEXT NOT NULL, patterns TEXT NOT NULL)";

/// A case on the shelf.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ShelfEntry {
    /// What it was opened from.
    pub path: PathBuf,
    /// What it is called.
    pub title: String,
    /// When it was opened last, UTC nanoseconds.
    pub opened: i64,
    /// The corrected times of its first and last event, UTC nanoseconds.
    pub span: Option<(i64, i64)>,
    /// The labels of its hosts.
    pub hosts: Vec<String>,
    /// The root that somebody put into its chain; empty where nobody did.
    pub cause: String,
    /// The names of the fault cards that fit it.
    pub cards: Vec<String>,
    /// The names of codes of failures in it.
    pub codes: Vec<String>,
    /// The fingerprints of its crashes.
    pub fingerprints: Vec<String>,
    /// The numbers of the patterns of its errors.
    pub patterns: Vec<String>,
}

impl ShelfEntry {
    /// Whether a word stands in it: in title, path, hosts or cause, or as the name of a card, a code, a fingerprint or a pattern.
    fn has(&self, word: &str) -> bool {
        let word = word.to_lowercase();
        let texts = [self.title.as_str(), self.cause.as_str()].into_iter().chain(self.hosts.iter().map(String::as_str));
        let names = self.cards.iter().chain(&self.codes).chain(&self.fingerprints).chain(&self.patterns);
        texts.chain(names.map(String::as_str)).any(|text| text.to_lowercase().contains(&word))
            || self.path.display().to_string().to_lowercase().contains(&word)
    }
}

/// The shelf of a user.
pub struct Shelf {
    connection: Connection,
    path: PathBuf,
}

impl Shelf {
    /// Where the user's shelf is.
    pub fn usual_path() -> Option<PathBuf> {
        platform::data_dir().map(|folder| folder.join("shelf.db"))
    }

    /// Opens or makes the shelf at `path`.
    ///
    /// # Errors
    /// When it cannot be made, is damaged, or was written by a newer program.
    pub fn open(path: &Path) -> Result<Self> {
        if let Some(folder) = path.parent() {
            platform::private_folder(folder).map_err(|error| Error::at(folder, "cannot make the folder", error))?;
        }
        let cannot = |error: rusqlite::Error| Error::at(path, "cannot use the shelf", error);
        let connection = Connection::open(path).map_err(cannot)?;
        connection.busy_timeout(std::time::Duration::from_secs(2)).map_err(cannot)?;
        let version: i64 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(cannot)?;
        if version > VERSION {
            return Err(Error::new(format!(
                "the shelf {} was written by a newer version of this program",
                path.display()
            )));
        }
        if version < VERSION {
            connection.execute_batch(SCHEMA).map_err(cannot)?;
            connection.pragma_update(None, "user_version", VERSION).map_err(cannot)?;
        }
        platform::tighten(path);
        Ok(Self { connection, path: path.to_path_buf() })
    }

    fn cannot(&self, error: rusqlite::Error) -> Error {
        Error::at(&self.path, "cannot use the shelf", error)
    }

    /// Puts a case on the shelf, or what is known of it now in the place of what was.
    ///
    /// # Errors
    /// When the shelf cannot be written.
    pub fn put(&self, entry: &ShelfEntry) -> Result<()> {
        let list = |list: &[String]| list.join("\n");
        let (first, last) = entry.span.unzip();
        let sql = "INSERT OR REPLACE INTO box VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)";
        let values = params![
            entry.path.display().to_string(),
            entry.title,
            entry.opened,
            first,
            last,
            list(&entry.hosts),
            entry.cause,
            list(&entry.cards),
            list(&entry.codes),
            list(&entry.fingerprints),
            list(&entry.patterns),
        ];
        self.connection.execute(sql, values).map(drop).map_err(|error| self.cannot(error))
    }

    /// Notes the cause of a case that stands on the shelf, and its title.
    ///
    /// # Errors
    /// When the shelf cannot be written.
    pub fn set_cause(&self, path: &Path, title: &str, cause: &str) -> Result<()> {
        let values = params![path.display().to_string(), title, cause];
        let sql = "UPDATE box SET title = ?2, cause = ?3 WHERE path = ?1";
        self.connection.execute(sql, values).map(drop).map_err(|error| self.cannot(error))
    }

    /// Takes a case off the shelf; the case itself stays.
    ///
    /// # Errors
    /// When the shelf cannot be written.
    pub fn remove(&self, path: &Path) -> Result<()> {
        let path = path.display().to_string();
        self.connection.execute("DELETE FROM box WHERE path = ?1", [path]).map(drop).map_err(|error| self.cannot(error))
    }

    /// All cases on the shelf, those opened last first.
    ///
    /// # Errors
    /// When the shelf cannot be read.
    pub fn all(&self) -> Result<Vec<ShelfEntry>> {
        let read = || -> rusqlite::Result<Vec<ShelfEntry>> {
            let mut statement = self.connection.prepare("SELECT * FROM box ORDER BY opened DESC, path")?;
            let rows = statement.query_map([], |row| {
                let list = |at: usize| -> rusqlite::Result<Vec<String>> {
                    Ok(row.get::<_, String>(at)?.lines().map(str::to_owned).collect())
                };
                let (first, last): (Option<i64>, Option<i64>) = (row.get(3)?, row.get(4)?);
                Ok(ShelfEntry {
                    path: PathBuf::from(row.get::<_, String>(0)?),
                    title: row.get(1)?,
                    opened: row.get(2)?,
                    span: first.zip(last),
                    hosts: list(5)?,
                    cause: row.get(6)?,
                    cards: list(7)?,
                    codes: list(8)?,
                    fingerprints: list(9)?,
                    patterns: list(10)?,
                })
            })?;
            rows.collect()
        };
        read().map_err(|error| self.cannot(error))
    }
}

/// The cases in which all words of a text stand.
pub fn search<'a>(all: &'a [ShelfEntry], text: &str) -> Vec<&'a ShelfEntry> {
    all.iter().filter(|entry| text.split_whitespace().all(|word| entry.has(word))).collect()
}

/// In how many other cases a card, a fingerprint or a pattern was met.
pub fn met_elsewhere(all: &[ShelfEntry], here: &Path, name: &str) -> usize {
    let has = |entry: &&ShelfEntry| {
        let mut names = entry.cards.iter().chain(&entry.fingerprints).chain(&entry.patterns);
        entry.path != here && names.any(|known| known == name)
    };
    all.iter().filter(has).count()
}

/// What the shelf keeps of a case. `None` for one that was not opened from one path.
///
/// # Errors
/// When the logbook cannot be read, or when cancelled.
pub fn entry_of(view: &CaseView, logbook: &Logbook, opened: i64, work: &Work) -> Result<Option<ShelfEntry>> {
    let [path] = &view.case.paths[..] else { return Ok(None) };
    let path = std::path::absolute(path).map_err(|error| Error::at(path, "cannot name", error))?;
    let table = &view.loaded.table;
    let story = logbook.story(&view.case.story)?;
    let chain = cause::kept_chain(view, logbook)?;
    let cards = card::fitting(view, work)?;
    let crashes = view.run(&CrashAnalysis, work)?;
    let patterns = view.run(&PatternAnalysis, work)?;
    let mut of_trouble: Vec<_> = patterns
        .list
        .iter()
        .filter(|pattern| table.event(pattern.first).severity().0 >= TROUBLE)
        .map(|pattern| (pattern.count, pattern.id))
        .collect();
    of_trouble.sort_unstable();
    let mut found: Vec<Code> = Vec::new();
    for part in &table.parts {
        work.check()?;
        found.extend(part.segment.codes.iter().map(|(_, code)| *code));
        found.sort_unstable();
        found.dedup();
    }
    let of_failures = found.into_iter().map(|code| code::reading::read(code, table.catalogues()));
    let mut codes: Vec<String> = of_failures
        .filter(code::reading::CodeInfo::is_failure)
        .filter_map(|read| read.name)
        .map(str::to_owned)
        .take(MOST_KEPT)
        .collect();
    codes.sort_unstable();
    codes.dedup();
    let mut fingerprints: Vec<String> = crashes.iter().map(|crash| crash.fingerprint.clone()).collect();
    fingerprints.sort_unstable();
    fingerprints.dedup();
    fingerprints.truncate(MOST_KEPT);
    Ok(Some(ShelfEntry {
        path,
        title: if story.title.is_empty() { view.case.name.clone() } else { story.title },
        opened,
        span: table.span,
        hosts: table.hosts.iter().filter(|host| !host.is_empty()).cloned().collect(),
        cause: cause::root_note(&chain).to_owned(),
        cards: cards.iter().map(|found| found.card.name.clone()).collect(),
        codes,
        fingerprints,
        patterns: of_trouble.into_iter().take(MOST_KEPT).map(|(_, id)| id.to_string()).collect(),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{case, log};

    fn entry(path: &str, title: &str, opened: i64) -> ShelfEntry {
        ShelfEntry { path: path.into(), title: title.into(), opened, ..ShelfEntry::default() }
    }

    #[test]
    fn the_shelf_keeps_cases_and_finds_them() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("data/shelf.db");
        let mut night = entry("/b/night.box.zip", "Dosing alarms stopped", 10);
        night.hosts = vec!["pump-ctl".into(), "dose-gw".into()];
        night.cards = vec!["restart-swallowed".into()];
        night.codes = vec!["EPROTO".into()];
        night.fingerprints = vec!["c0ffee".into()];
        night.patterns = vec!["73f88f9ef2".into()];
        night.span = Some((1, 2));
        {
            let shelf = Shelf::open(&path).unwrap();
            shelf.put(&entry("/b/old.box.zip", "Old", 5)).unwrap();
            shelf.put(&entry("/b/night.box.zip", "untitled", 7)).unwrap();
            shelf.put(&night).unwrap();
        }
        let shelf = Shelf::open(&path).unwrap();
        let all = shelf.all().unwrap();
        assert_eq!(all.len(), 2, "the same case is there once");
        assert_eq!(all[0], night);
        for text in ["alarms", "DOSE-GW", "eproto", "restart-sw", "c0ffee pump", "73f88f9ef2", "night.box"] {
            assert_eq!(search(&all, text), [&night], "{text}");
        }
        assert!(search(&all, "alarms nothing").is_empty());
        assert_eq!(met_elsewhere(&all, Path::new("/b/other.box.zip"), "restart-swallowed"), 1);
        assert_eq!(met_elsewhere(&all, Path::new("/b/night.box.zip"), "c0ffee"), 0, "not in itself");
        shelf.set_cause(Path::new("/b/night.box.zip"), "Alarms", "the old bridge").unwrap();
        shelf.set_cause(Path::new("/b/never-opened.box.zip"), "x", "y").unwrap();
        let all = shelf.all().unwrap();
        assert_eq!((all.len(), all[0].title.as_str(), all[0].cause.as_str()), (2, "Alarms", "the old bridge"));
        shelf.remove(Path::new("/b/night.box.zip")).unwrap();
        assert_eq!(shelf.all().unwrap().len(), 1);
    }

    #[cfg(unix)]
    #[test]
    fn only_the_user_can_read_it() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("data/shelf.db");
        Shelf::open(&path).unwrap();
        let mode = |path: &Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(&path), mode(path.parent().unwrap())), (0o600, 0o700));
    }

    #[test]
    fn a_newer_or_damaged_shelf_is_named_and_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("shelf.db");
        Shelf::open(&path).unwrap().connection.pragma_update(None, "user_version", VERSION + 1).unwrap();
        assert!(Shelf::open(&path).err().unwrap().to_string().contains("newer version"));
        let damaged = folder.path().join("damaged.db");
        std::fs::write(&damaged, "no database at all, but long enough to be read as one").unwrap();
        assert!(Shelf::open(&damaged).err().unwrap().to_string().contains("damaged.db"));
        assert!(std::fs::read_to_string(&damaged).unwrap().starts_with("no database"));
    }

    #[test]
    fn what_is_kept_of_a_case() {
        let text = log().at("02:00:00").info("a", "started").error("b", "write failed: No space left on device").text();
        let case = case(&[("pump-ctl/app.log", text)]);
        let view = case.view();
        let logbook = Logbook::in_memory().unwrap();
        logbook.set_story("title", "Full again").unwrap();
        let kept = entry_of(&view, &logbook, 7, &Work::default()).unwrap().unwrap();
        assert_eq!((kept.title.as_str(), kept.opened, kept.cause.as_str()), ("Full again", 7, ""));
        assert_eq!(kept.hosts, ["pump-ctl"]);
        assert_eq!(kept.cards, ["file-system-full"]);
        assert_eq!(kept.codes, ["ENOSPC"]);
        assert_eq!(kept.patterns.len(), 1);
        logbook.set_pin("hosts/pump-ctl/app.log", 0, "the start").unwrap();
        let pin = logbook.pins().unwrap()[0].id;
        let link = crate::logbook::ChainLink { pin, kind: crate::logbook::Link::Root, reason: String::new() };
        logbook.set_chain(&[link]).unwrap();
        assert_eq!(entry_of(&view, &logbook, 7, &Work::default()).unwrap().unwrap().cause, "the start");
    }
}
