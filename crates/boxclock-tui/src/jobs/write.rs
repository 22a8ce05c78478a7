//! Writing files beside the screen: events, charts, the report.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use boxclock_core::case::{Case, Loaded};
use boxclock_core::clock::Zone;
use boxclock_core::event::Row;
use boxclock_core::logbook::{ChainLink, Pin, Story};
use boxclock_core::pattern::Patterns;
use boxclock_core::report::chart::{ChartKind, chart};
use boxclock_core::report::events::{EventWriter, Form};
use boxclock_core::report::{Report, drawing, markdown};
use boxclock_core::work::Work;

use super::{Jobs, Kind, Outcome};
use crate::view::text::many;

impl Jobs {
    /// Writes events, or draws them, into a file. A file that is left unfinished is taken away again.
    pub fn write(&mut self, loaded: Loaded, case: Arc<Case>, chosen: Chosen, zone: Zone, target: Target) {
        self.start(Kind::Write, move |work| {
            let rows = chosen.rows(&loaded);
            let written = match target {
                Target::Events(path, form) => write_events(&loaded, &case, &rows, &zone, (&path, form), work),
                Target::Chart(path, kind) => {
                    chart(&case, &loaded, &rows, kind, &zone).and_then(|drawn| drawn.write(&path)).map(|note| {
                        let note = note.map_or(String::new(), |note| format!("   {note}"));
                        format!("drawn: {}{note}", path.display())
                    })
                }
            };
            Some(match written {
                Ok(text) => Outcome::Written(text),
                Err(error) => Outcome::Failed(error.to_string()),
            })
        });
    }

    /// Writes the report: for looking at, or with the drawing of its timeline into a file.
    pub fn report(&mut self, case: Arc<Case>, loaded: Loaded, added: Added, into: Option<PathBuf>) {
        let kind = if into.is_some() { Kind::Write } else { Kind::Report };
        self.start(kind, move |_| {
            let Added { story, pins, chain, zone } = added;
            let report = Report { case: &case, loaded: &loaded, story, pins, chain, zone };
            let Some(path) = into else { return Some(Outcome::Report(markdown(&report, None))) };
            Some(match write_report(&report, &path) {
                Ok(text) => Outcome::Written(text),
                Err(error) => Outcome::Failed(error.to_string()),
            })
        });
    }

    /// How much of what is being written is done, in percent; `None` when nothing is.
    pub fn writing(&self) -> Option<u64> {
        let (_, work) = self.running.get(&Kind::Write)?;
        let (done, total) = work.progress();
        Some(done * 100 / total.max(1))
    }
}

/// What people added to a case, and the zone to write it in: what a report is made of beside the events.
pub struct Added {
    story: Story,
    pins: Vec<Pin>,
    chain: Vec<ChainLink>,
    zone: Zone,
}

impl Added {
    /// Takes it out of a report, so that the report can be made again elsewhere.
    pub fn of(report: Report<'_>) -> Self {
        let Report { story, pins, chain, zone, .. } = report;
        Self { story, pins, chain, zone }
    }
}

/// The events that are written or drawn.
pub enum Chosen {
    /// All that pass the filter.
    All(Option<Arc<Vec<u32>>>),
    /// These; of a folded run its first, with how many there are.
    Rows(Vec<(u32, u32)>, Option<Arc<Vec<u32>>>, Option<Arc<Patterns>>),
}

impl Chosen {
    /// Their rows, those inside of folded runs included.
    fn rows(self, loaded: &Loaded) -> Vec<u32> {
        let table = &loaded.table;
        let shown =
            |passed: &Option<Arc<Vec<u32>>>| passed.as_ref().map_or_else(|| table.order.to_vec(), |rows| rows.to_vec());
        let (chosen, passed, patterns) = match self {
            Self::All(passed) => return shown(&passed),
            Self::Rows(chosen, passed, patterns) => (chosen, passed, patterns),
        };
        let Some(patterns) = patterns.filter(|_| chosen.iter().any(|(_, count)| *count > 1)) else {
            return chosen.into_iter().map(|(row, _)| row).collect();
        };
        // What belongs to a run: the next ones of its source that have its pattern, in order.
        let mut left: HashMap<(usize, u32), u32> = HashMap::new();
        let starts: HashMap<u32, u32> = chosen.into_iter().collect();
        let of =
            |row: u32| (table.event(Row(row)).source(), patterns.of_row.get(row as usize).copied().unwrap_or(u32::MAX));
        let mut rows = Vec::new();
        for row in shown(&passed) {
            if let Some(count) = starts.get(&row) {
                left.insert(of(row), *count);
            }
            if let Some(more) = left.get_mut(&of(row)).filter(|more| **more > 0) {
                *more -= 1;
                rows.push(row);
            }
        }
        rows
    }
}

/// Where events are written to.
pub enum Target {
    Events(PathBuf, Form),
    Chart(PathBuf, ChartKind),
}

/// Writes the report, and the drawing of its timeline beside it.
fn write_report(report: &Report<'_>, path: &Path) -> boxclock_core::Result<String> {
    let beside = path.with_extension("svg");
    let name = beside.file_name().map(|name| name.to_string_lossy().into_owned());
    let write = |path: &Path, text: String| {
        std::fs::write(path, text).map_err(|error| boxclock_core::Error::at(path, "cannot write", error))
    };
    write(path, markdown(report, name.as_deref()))?;
    write(&beside, drawing(report))?;
    Ok(format!("written: {} and {}", path.display(), beside.display()))
}

fn write_events(
    loaded: &Loaded,
    case: &Case,
    rows: &[u32],
    zone: &Zone,
    (path, form): (&Path, Form),
    work: &Work,
) -> boxclock_core::Result<String> {
    let cannot = |error: std::io::Error| boxclock_core::Error::at(path, "cannot write", error);
    let file = std::fs::File::create_new(path).map_err(cannot)?;
    let mut out = std::io::BufWriter::with_capacity(1 << 16, file);
    let mut writer = EventWriter::new(case, zone.clone());
    let written = writer.write_all(loaded, rows, form, &mut out, work).and_then(|()| std::io::Write::flush(&mut out));
    if written.is_err() {
        // It was made just now, and half of it would be taken for the whole.
        drop(out);
        std::fs::remove_file(path).map_err(cannot)?;
    }
    written.map_err(cannot)?;
    Ok(format!("{} written into {}", many(rows.len() as u64, "event"), path.display()))
}
