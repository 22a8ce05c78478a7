//! The chain that people made of a case: the pins of the logbook that are in it, with their events.

use crate::Result;
use crate::analysis::CaseView;
use crate::event::Row;
use crate::logbook::{Link, Logbook};

/// A link of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeptLink {
    /// What it is in the chain.
    pub kind: Link,
    /// What somebody wrote to its pin.
    pub note: String,
    /// Its event; `None` where its source is not in the case, or not read yet.
    pub row: Option<Row>,
}

/// The chain in a logbook, from root to symptom; empty where nobody made one.
///
/// # Errors
/// When the logbook cannot be read.
pub fn kept_chain(view: &CaseView, logbook: &Logbook) -> Result<Vec<KeptLink>> {
    let pins = logbook.pins()?;
    let links = logbook.chain()?.into_iter().filter_map(|link| {
        let pin = pins.iter().find(|pin| pin.id == link.pin)?;
        Some(KeptLink { kind: link.kind, note: pin.note.clone(), row: view.row_in(&pin.source, pin.offset) })
    });
    Ok(links.collect())
}

/// What somebody wrote to the root of a chain; empty where it has none.
pub fn root_note(chain: &[KeptLink]) -> &str {
    chain.iter().find(|link| link.kind == Link::Root).map_or("", |link| &link.note)
}
