//! Names in an event that are worth following.

use crate::Result;
use crate::analysis::CaseView;
use crate::event::{RecordReader, Row};
use crate::work::Work;

use super::names::{mentions, names_in};
use super::{MOST_EVENTS, span, whole_text};

/// A name that can be followed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Candidate {
    /// The name.
    pub identifier: String,
    /// Events that it stands in.
    pub events: usize,
    /// Sources that it stands in.
    pub sources: usize,
    /// First and last corrected time of these, UTC nanoseconds.
    pub span: Option<(i64, i64)>,
}

/// The names in an event, and in some texts (those of the story), that go on somewhere: those in the most sources first, then the
/// rarest, then the longest living.
///
/// # Errors
/// When cancelled.
pub fn suggested(view: &CaseView, row: Option<Row>, texts: &[&str], work: &Work) -> Result<Vec<Candidate>> {
    const MOST: usize = 60;
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut names: Vec<String> = row.map_or(Vec::new(), |row| names_in(&whole_text(&mut reader, view, row)));
    names.extend(texts.iter().flat_map(|text| names_in(text)));
    names.sort();
    names.dedup();
    names.truncate(MOST);
    if names.is_empty() {
        return Ok(Vec::new());
    }
    let table = &view.loaded.table;
    let mut found: Vec<Candidate> = mentions(view, names, work)?
        .into_iter()
        .filter(|(_, rows)| (2..=MOST_EVENTS).contains(&rows.len()))
        .map(|(identifier, rows)| {
            let mut sources: Vec<usize> = rows.iter().map(|row| table.event(*row).source()).collect();
            sources.sort_unstable();
            sources.dedup();
            Candidate { identifier, events: rows.len(), sources: sources.len(), span: span(view, &rows) }
        })
        .collect();
    let lived = |one: &Candidate| one.span.map_or(0, |(first, last)| last.saturating_sub(first));
    found.sort_by(|one, other| {
        let key = |one: &Candidate| (std::cmp::Reverse(one.sources), one.events, std::cmp::Reverse(lived(one)));
        key(one).cmp(&key(other)).then_with(|| one.identifier.cmp(&other.identifier))
    });
    Ok(found)
}
