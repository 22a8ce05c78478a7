//! What goes out: events as JSON lines, text, CSV and XML; the report as Markdown; the timeline as SVG.

pub mod canvas;
pub mod chart;
pub mod codes;
pub mod events;
mod markdown;
pub mod sources;
mod svg;

pub use markdown::markdown;
pub use svg::drawing;
use svg::ticks;

use crate::Result;
use crate::analysis::CaseView;
use crate::clock::Zone;
use crate::event::{EventRef, RecordReader};
use crate::logbook::{ChainLink, Link, Logbook, Pin, RemedyStep, Story, Verified};
use crate::platform;
use crate::work::Work;

/// Hosts that a drawing shows by themselves: of more, those with the most trouble.
const HOSTS_DRAWN: usize = 60;

/// All that a report is made of.
pub struct Report<'a> {
    /// The case and its events.
    pub view: &'a CaseView,
    /// The story, with what people changed.
    pub story: Story,
    /// The pins.
    pub pins: Vec<Pin>,
    /// The chain.
    pub chain: Vec<ChainLink>,
    /// The checklist of remedies.
    pub remedies: Vec<RemedyStep>,
    /// What later boxes showed, the last first.
    pub verdicts: Vec<Verified>,
    /// The zone in which times are written.
    pub zone: Zone,
    /// When it is written, UTC nanoseconds.
    pub written: i64,
    /// Who writes it, where that is known.
    pub author: Option<String>,
    /// The SHA-256 of the box, once it was computed ([`Self::hash_box`]).
    pub box_sha256: Option<String>,
}

impl<'a> Report<'a> {
    /// Takes what people added from the logbook.
    ///
    /// # Errors
    /// When the logbook cannot be read.
    pub fn new(view: &'a CaseView, logbook: &Logbook) -> Result<Self> {
        Ok(Self {
            view,
            story: logbook.story(&view.case.story)?,
            pins: logbook.pins()?,
            chain: logbook.chain()?,
            remedies: logbook.remedies()?,
            verdicts: logbook.verdicts()?,
            zone: view.case.zone.clone(),
            written: crate::clock::now(),
            author: platform::author(),
            box_sha256: None,
        })
    }

    /// Computes the hash of the box, which reads all of it. A case that is no box has none.
    ///
    /// # Errors
    /// When it cannot be read, or the work is cancelled.
    pub fn hash_box(&mut self, work: &Work) -> Result<()> {
        if let (Some(_), [path]) = (&self.view.case.seal, self.view.case.paths.as_slice())
            && path.is_file()
        {
            self.box_sha256 = Some(crate::gather::sha256_of(path, work)?);
        }
        Ok(())
    }

    /// The title: the story's, else the case's name.
    pub fn title(&self) -> &str {
        if self.story.title.is_empty() { &self.view.case.name } else { &self.story.title }
    }

    /// The event of a pin, if its source is in the case.
    pub fn event_of(&self, pin: &Pin) -> Option<EventRef<'a>> {
        let row = self.view.row_in(&pin.source, pin.offset)?;
        Some(self.view.loaded.table.event(row))
    }

    /// The chain from the root to the symptom, with the events of its links.
    pub fn links(&self) -> Vec<(Link, &str, &Pin, Option<EventRef<'a>>)> {
        let find = |link: &'_ ChainLink| self.pins.iter().find(|pin| pin.id == link.pin);
        self.chain
            .iter()
            .filter_map(|link| find(link).map(|pin| (link.kind, link.reason.as_str(), pin, self.event_of(pin))))
            .collect()
    }

    fn reader(&self) -> RecordReader {
        RecordReader::new(std::sync::Arc::clone(&self.view.case.sources))
    }
}

#[cfg(test)]
mod tests;
