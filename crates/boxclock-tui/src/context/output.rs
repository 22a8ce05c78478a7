//! What is copied and written: events, charts, the report.

use std::path::{Path, PathBuf};

use boxclock_core::analysis::CaseView;
use boxclock_core::clock::{self, Zone};
use boxclock_core::new_file::NewFile;
use boxclock_core::report::canvas::Canvas;
use boxclock_core::report::chart::{ChartKind, chart};
use boxclock_core::report::events::{EventWriter, Form};
use boxclock_core::report::{Report, drawing, markdown};
use boxclock_core::timeline::arrange::ArrangedRows;
use boxclock_core::work::Work;
use boxclock_core::{Error, Result, visible};

use super::{Context, Then};
use crate::jobs::{Apply, WRITE};
use crate::text::many;

/// The events that are written or drawn.
#[derive(Clone)]
enum Selected {
    /// All that pass the filter.
    All(ArrangedRows),
    /// These; of a folded run its first, with how many there are.
    Rows(Vec<(u32, u32)>, ArrangedRows),
}

impl Selected {
    /// Their rows, those inside of folded runs included.
    fn rows(&self, view: &CaseView, work: &Work) -> Result<Vec<u32>> {
        match self {
            Self::All(rows) => {
                Ok(rows.passed.as_ref().map_or_else(|| view.loaded.table.order.to_vec(), |rows| rows.to_vec()))
            }
            Self::Rows(chosen, rows) => rows.unfolded(view, chosen, work),
        }
    }
}

impl Context {
    /// Writes a drawing beside the screen: SVG or PDF, as the name that was typed ends. An existing file stays.
    pub fn write_drawing(&mut self, drawing: Canvas, typed: &str) {
        let path = PathBuf::from(typed.trim());
        self.start(WRITE, move |view, _| {
            let note = drawing.write(&path, &view.case.protected(), false)?;
            let note = note.map_or(String::new(), |note| format!("   {note}"));
            let text = format!("Written: {}{note}", path.display());
            Ok(Box::new(move |cx: &mut Self| cx.message = Some(text)) as Apply<Self>)
        });
    }

    /// The places that are selected: from where the selection began to the chosen one.
    pub fn selection(&self) -> Option<std::ops::RangeInclusive<usize>> {
        let from = self.place_of_row(self.view.row(self.stream.selected_from.as_ref()?)?);
        Some(from.min(self.stream.cursor)..=from.max(self.stream.cursor))
    }

    /// Begins a selection at the chosen event, or ends it.
    pub fn toggle_selection(&mut self) -> Then {
        self.stream.selected_from = match self.stream.selected_from {
            Some(_) => None,
            None => self.chosen_key(),
        };
        if self.stream.selected_from.is_none() {
            return Then::Stay;
        }
        Then::say("The selection starts here: y copies, W writes, s ends it.")
    }

    /// What is written or drawn: the selection with what its folded runs hold, or all that the filter lets pass.
    fn selected(&self) -> Selected {
        let rows = self.stream.rows.clone();
        let Some(places) = self.selection() else { return Selected::All(rows) };
        let runs = self.stream.rows.runs.as_ref();
        let count = |place: usize| runs.and_then(|runs| runs.get(place)).map_or(1, |run| run.count);
        Selected::Rows(places.filter_map(|place| Some((self.row_at(place)?.0, count(place)))).collect(), rows)
    }

    /// Copies the selection, or the chosen record, to the terminal's clipboard: text as it was read.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn copy(&mut self) -> Result<Then> {
        const MAX_EVENTS: usize = 1000;
        let rows: Vec<u32> = match self.selection() {
            // What is copied is what is written: with what the folded runs hold.
            Some(_) => self.selected().rows(&self.view, &Work::default())?,
            None => self.chosen().map(|event| event.row.0).into_iter().collect(),
        };
        if rows.len() > MAX_EVENTS {
            return Ok(Then::say(format!(
                "{} are too many for a clipboard; W writes them to a file.",
                many(rows.len() as u64, "event")
            )));
        }
        let mut text = Vec::new();
        let mut writer = EventWriter::new(&self.view.case, self.zone.clone());
        writer
            .write_all(&self.view.loaded, &rows, Form::Raw, &mut text, &Work::default())
            .map_err(|error| Error::caused("cannot copy", error))?;
        // What is pasted into a shell must not run as what a log says.
        self.clipboard = Some(visible(&String::from_utf8_lossy(&text), true));
        Ok(Then::say(format!("Copied {} to the terminal's clipboard.", many(rows.len() as u64, "event"))))
    }

    /// A second file would take the first one's place in the middle of it.
    pub(super) fn nothing_is_written(&self) -> Result<()> {
        if self.jobs.is_running(WRITE) {
            return Err(Error::new("A file is still being written. Esc stops it."));
        }
        Ok(())
    }

    /// Writes the selection, or all that the filter lets pass, into a file; its name says the form.
    ///
    /// # Errors
    /// When the name says no form, or the file exists.
    pub fn export(&mut self, name: &str) -> Result<Then> {
        let name = name.trim();
        let form = Form::of_file(name).ok_or_else(|| {
            Error::new("The file name sets the form: .log (as read) .txt .csv .jsonl .xml .otlp.json")
        })?;
        let path = PathBuf::from(name);
        if path.exists() {
            return Err(Error::new(format!("{name} exists. Enter another name.")));
        }
        self.nothing_is_written()?;
        let (selected, zone) = (self.selected(), self.zone.clone());
        self.start(WRITE, move |view, work| {
            let rows = selected.rows(view, work)?;
            write_events(view, &rows, &zone, (&path, form), work).map(written)
        });
        Ok(Then::Stay)
    }

    /// Draws the selection in swim lanes, or without one the density of what the filter lets pass.
    ///
    /// # Errors
    /// When something else is being written.
    pub fn write_chart(&mut self, name: &str) -> Result<Then> {
        self.nothing_is_written()?;
        let kind = if self.selection().is_some() { ChartKind::Lanes } else { ChartKind::Density };
        let (selected, zone, path) = (self.selected(), self.zone.clone(), PathBuf::from(name.trim()));
        self.start(WRITE, move |view, work| {
            let rows = selected.rows(view, work)?;
            let note =
                chart(&view.case, &view.loaded, &rows, kind, &zone)?.write(&path, &view.case.protected(), false)?;
            let note = note.map_or(String::new(), |note| format!("   {note}"));
            Ok(written(format!("Written: {}{note}", path.display())))
        });
        Ok(Then::Stay)
    }

    /// Writes the report as Markdown, and the drawing of its timeline beside it.
    ///
    /// # Errors
    /// When something else is being written, or the logbook cannot be read.
    pub fn write_report(&mut self, name: &str) -> Result<Then> {
        self.nothing_is_written()?;
        let (path, parts) = (PathBuf::from(name.trim()), ReportParts::of(self)?);
        // What the program wrote itself a moment ago may be replaced; anything else only when that is said twice.
        let asked = self.replacing.replace(path.clone());
        if path.exists() && asked.as_ref() != Some(&path) {
            return Err(Error::new(format!("{} exists. Write it again to replace it.", path.display())));
        }
        self.start(WRITE, move |view, work| {
            let mut report = parts.report(view);
            report.hash_box(work)?;
            write_report(&report, &path).map(written)
        });
        Ok(Then::Stay)
    }

    /// Where the report is written unless the user says otherwise: beside the box, else in the working folder.
    pub fn report_path(&self) -> PathBuf {
        let case = &self.view.case;
        let beside_box = case.seal.is_some().then(|| case.logbook_path.clone()).flatten();
        match beside_box {
            Some(path) => path.with_extension("report.md"),
            None => PathBuf::from("boxclock-report.md"),
        }
    }
}

fn written(text: String) -> Apply<Context> {
    Box::new(|cx: &mut Context| cx.message = Some(text))
}

/// What people added to a case: what a report is made of beside the events.
pub struct ReportParts {
    story: boxclock_core::logbook::Story,
    pins: Vec<boxclock_core::logbook::Pin>,
    chain: Vec<boxclock_core::logbook::ChainLink>,
    remedies: Vec<boxclock_core::logbook::RemedyStep>,
    verdicts: Vec<boxclock_core::logbook::Verified>,
    zone: Zone,
    author: Option<String>,
}

impl ReportParts {
    /// Takes them from the logbook.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn of(cx: &Context) -> Result<Self> {
        let Report { story, pins, chain, remedies, verdicts, zone, .. } = Report::new(&cx.view, &cx.logbook)?;
        Ok(Self { story, pins, chain, remedies, verdicts, zone, author: cx.settings.author.clone() })
    }

    /// The report of a case.
    pub fn report<'a>(&self, view: &'a CaseView) -> Report<'a> {
        let (story, pins, chain) = (self.story.clone(), self.pins.clone(), self.chain.clone());
        let (remedies, verdicts) = (self.remedies.clone(), self.verdicts.clone());
        let (zone, author) = (self.zone.clone(), self.author.clone());
        Report { view, story, pins, chain, remedies, verdicts, zone, written: clock::now(), author, box_sha256: None }
    }
}

/// Writes the report, and the drawing of its timeline beside it.
fn write_report(report: &Report<'_>, path: &Path) -> Result<String> {
    let beside = path.with_extension("svg");
    let name = beside.file_name().map(|name| name.to_string_lossy().into_owned());
    let write = |path: &Path, text: String| NewFile::write(path, &report.view.case.protected(), true, text.as_bytes());
    write(path, markdown(report, name.as_deref())?)?;
    write(&beside, drawing(report))?;
    Ok(format!("Written: {} and {}", path.display(), beside.display()))
}

fn write_events(
    view: &CaseView,
    rows: &[u32],
    zone: &Zone,
    (path, form): (&Path, Form),
    work: &Work,
) -> Result<String> {
    let cannot = |error: std::io::Error| Error::at(path, "cannot write", error);
    let mut file = NewFile::create(path, &view.case.protected(), false)?;
    let mut out = std::io::BufWriter::with_capacity(1 << 16, &mut file);
    let mut writer = EventWriter::new(&view.case, zone.clone());
    let written =
        writer.write_all(&view.loaded, rows, form, &mut out, work).and_then(|()| std::io::Write::flush(&mut out));
    drop(out);
    written.map_err(cannot)?;
    file.finish()?;
    Ok(format!("Wrote {} to {}.", many(rows.len() as u64, "event"), path.display()))
}
