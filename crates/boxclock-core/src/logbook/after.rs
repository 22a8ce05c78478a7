//! What happens after the cause is known: the remedies with who did what when, and whether the failure is gone.

use rusqlite::{Connection, params};

use super::Logbook;
use crate::Result;
use crate::verify::{Part, Verification};

/// A step that mends, in the checklist of a case.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RemedyStep {
    /// What to do.
    pub what: String,
    /// What it proves when it helps, or does not.
    pub proves: String,
    /// Who did it, and when (RFC 3339); `None` while it is open.
    pub done: Option<(String, String)>,
}

/// A verdict that was kept: whether the failure was gone in a later box.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Verified {
    /// When it was asked for, RFC 3339.
    pub at: String,
    /// The later box.
    pub later: String,
    /// The verdict: `fixed`, `not-fixed`, `not-provable`.
    pub verdict: String,
    /// In two or three sentences.
    pub summary: String,
    /// What became of each message, a line each.
    pub items: Vec<String>,
}

impl Logbook {
    /// The checklist of remedies, in order.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn remedies(&self) -> Result<Vec<RemedyStep>> {
        let read = || -> rusqlite::Result<Vec<RemedyStep>> {
            let sql = "SELECT what, proves, done_by, done_at FROM remedy ORDER BY place";
            let mut statement = self.connection.prepare(sql)?;
            let rows = statement.query_map([], |row| {
                let done: (Option<String>, Option<String>) = (row.get(2)?, row.get(3)?);
                Ok(RemedyStep { what: row.get(0)?, proves: row.get(1)?, done: done.0.zip(done.1) })
            })?;
            rows.collect()
        };
        read().map_err(|error| self.cannot(error))
    }

    /// Replaces the checklist of remedies.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_remedies(&self, steps: &[RemedyStep]) -> Result<()> {
        let done = steps.iter().filter(|step| step.done.is_some()).count();
        self.change(&format!("remedies: {} of {} done", done, steps.len()), |connection: &Connection| {
            connection.execute("DELETE FROM remedy", [])?;
            for (place, RemedyStep { what, proves, done }) in steps.iter().enumerate() {
                let (by, at) = done.clone().unzip();
                let sql = "INSERT INTO remedy (place, what, proves, done_by, done_at) VALUES (?1, ?2, ?3, ?4, ?5)";
                connection.execute(sql, params![place as i64, what, proves, by, at])?;
            }
            Ok(())
        })
    }

    /// Keeps what a later box showed.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn add_verdict(&self, later: &str, found: &Verification, at: &str) -> Result<()> {
        let items: Vec<String> = found
            .items
            .iter()
            .map(|item| match item.part {
                Part::New => format!("new: {} ({})", item.text, item.why),
                part => format!("{}, {}: {} ({})", part.name(), item.state.name(), item.text, item.why),
            })
            .collect();
        self.change(&format!("verified against {later}: {}", found.verdict.name()), |connection| {
            let sql = "INSERT INTO verdict (at, later, verdict, summary, items) VALUES (?1, ?2, ?3, ?4, ?5)";
            let values = params![at, later, found.verdict.name(), found.summary, items.join("\n")];
            connection.execute(sql, values).map(|_| ())
        })
    }

    /// What later boxes showed, the last first.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn verdicts(&self) -> Result<Vec<Verified>> {
        let read = || -> rusqlite::Result<Vec<Verified>> {
            let sql = "SELECT at, later, verdict, summary, items FROM verdict ORDER BY rowid DESC";
            let mut statement = self.connection.prepare(sql)?;
            let rows = statement.query_map([], |row| {
                let items: String = row.get(4)?;
                Ok(Verified {
                    at: row.get(0)?,
                    later: row.get(1)?,
                    verdict: row.get(2)?,
                    summary: row.get(3)?,
                    items: items.lines().map(str::to_owned).collect(),
                })
            })?;
            rows.collect()
        };
        read().map_err(|error| self.cannot(error))
    }
}
