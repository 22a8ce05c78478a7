//! What the Box view says of a whole case: whether logs cover the moment, what the checks found, resources.

use std::sync::Arc;

use boxclock_core::Result;
use boxclock_core::analysis::{Analysis, CaseView, Pieces, Reads};
use boxclock_core::coverage::{self, Moment, Row};
use boxclock_core::facts::checks::all_findings;
use boxclock_core::facts::{Checks, Finding};
use boxclock_core::query::problem_rows;
use boxclock_core::resource::{Resource, ResourceAnalysis};
use boxclock_core::work::Work;

/// What the view says about the whole box.
#[derive(Clone, Debug, Default)]
pub struct BoxState {
    /// The moment that should be covered.
    pub moment: Option<Moment>,
    /// For each host and class: whether it is.
    pub cover: Vec<Row>,
    /// What the checks found.
    pub findings: Vec<Finding>,
    /// Problems in each source of the case.
    pub problems: Vec<u64>,
    /// Resources that were full or grow: the findings about them are drawn.
    pub resources: Arc<Vec<Resource>>,
}

/// Works that out.
#[derive(Clone, Copy, Debug)]
pub(super) struct BoxAnalysis;

impl Analysis for BoxAnalysis {
    const NAME: &'static str = "box";
    const VERSION: u32 = 2;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = BoxState;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<BoxState> {
        let moment = coverage::moment(&view.case, &view.loaded);
        let window = moment.as_ref().map(|moment| moment.window);
        let cover = window.map_or(Vec::new(), |window| coverage::coverage(&view.case, &view.loaded, window));
        let (mut findings, _) = all_findings(view, &Checks::load(), work)?;
        // Clocks have rows of their own here, where they can be accepted.
        findings.retain(|finding| finding.check != "clock");
        let resources = view.run(&ResourceAnalysis, work)?;
        Ok(BoxState { moment, cover, findings, problems: problems(view), resources })
    }
}

/// How many problems each source of a case has.
fn problems(view: &CaseView) -> Vec<u64> {
    let table = &view.loaded.table;
    let rows = problem_rows(table);
    let mut counts = vec![0; view.case.sources.len()];
    for part in &table.parts {
        let of_part = part.first_row..part.first_row + part.segment.len() as u32;
        if let Some(count) = counts.get_mut(part.segment.source as usize) {
            *count += of_part.filter(|row| rows.contains(*row)).count() as u64;
        }
    }
    counts
}
