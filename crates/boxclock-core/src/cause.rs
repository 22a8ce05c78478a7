//! From the symptom back to the first thing that went wrong, with a line for each link; or say that the box does not prove it.
//!
//! Messages are brought into [kinds]. What is rare, new, or another from some moment on is a [sign](signs). A sign leads to a later
//! one where both name the same rare thing (a path, program, table, host, identifier), where a change is of a sort that has such
//! effects, or where something new begins right after it ([links](link)). The symptom is where the story meets trouble. The root is the
//! change or lasting state that leads to it best, before anything else went wrong ([suggestions](suggest)). What lines mean in the
//! language of the trade is data ([wording]).

use serde_json::{Value, json};

use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Seen};
use crate::card;
use crate::clock::human;
use crate::clock::told::{self, Stretch};
use crate::event::Row;
use crate::work::Work;

mod kept;
mod kinds;
mod link;
mod people;
mod questions;
mod shift;
mod signs;
mod suggest;
#[cfg(test)]
mod tests;
mod wording;
mod words;

pub use kept::{KeptLink, kept_chain, root_note};
pub use questions::OpenQuestion;
pub(crate) use wording::badness;
pub(crate) use words::is_common as is_common_word;

/// Suggestions that are given.
const MOST_ROOTS: usize = 5;

/// A place in a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CausePlace {
    /// The name of the source.
    pub source: String,
    /// The line, from 1.
    pub line: u64,
    /// The event.
    pub row: Row,
}

/// A link of a chain.
#[derive(Clone, Debug)]
pub struct CauseLink {
    /// Where.
    pub place: CausePlace,
    /// What is said there.
    pub text: String,
    /// Why it follows from the one before.
    pub why: String,
}

/// A suggestion, or where the evidence ends.
#[derive(Clone, Debug)]
pub struct Suggestion {
    /// Whether the box shows the root.
    pub provable: bool,
    /// 0 to 1.
    pub score: f64,
    /// Why it is suggested.
    pub reasons: Vec<String>,
    /// From root to symptom; the first is the root, or the earliest that can be shown.
    pub chain: Vec<CauseLink>,
    /// What would have to be gathered, where it is not provable.
    pub missing: Vec<String>,
    /// What to try or gather next, and what each outcome would prove.
    pub questions: Vec<OpenQuestion>,
    /// In two or three sentences.
    pub summary: String,
    /// The name of the fault card that fits the case and this chain.
    pub card: Option<String>,
}

/// Suggests causes, the likeliest first.
#[derive(Clone, Copy, Debug)]
pub struct CauseAnalysis;

impl Analysis for CauseAnalysis {
    const NAME: &'static str = "forms";
    const VERSION: u32 = 4;
    /// The form of each message.
    type Piece = Vec<u32>;
    type Found = Vec<Suggestion>;

    fn see(&self, piece: &mut Vec<u32>, seen: &Seen<'_>) {
        let body = seen.body();
        piece.resize(seen.index, 0);
        piece.push(kinds::form_of(&body));
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, Vec<u32>>, work: &Work) -> Result<Vec<Suggestion>> {
        let signs = signs::find(view, pieces, work)?;
        work.check()?;
        let mut found = suggest::suggest(view, &signs);
        let cards = card::fitting(view, work)?;
        for one in &mut found {
            one.card = card::card_of_chain(&cards, &one.chain).map(|found| found.card.name.clone());
        }
        Ok(found)
    }
}

/// Whether a message tells of a change, and whether of a state that lasts or a change that was not carried through.
pub(crate) fn is_change(text: &str) -> (bool, bool) {
    let (weight, class) = wording::change(text);
    (weight >= 0.6, matches!(class, wording::Class::State | wording::Class::Incomplete))
}

/// A moment of the story as people say it, where it can be read: nanoseconds since the epoch. What leaves the day open is the last
/// such moment before it was reported.
fn told(text: &str, view: &CaseView) -> Option<Stretch> {
    told::stretch(text, &view.case.zone, told_at(view))
}

/// When it was reported; the last moment of the case where the story does not say.
fn told_at(view: &CaseView) -> i64 {
    let last = view.loaded.table.span.map_or(i64::MAX, |(_, last)| last);
    human::moment(&view.case.story.reported, &view.case.zone, last).unwrap_or(last)
}

impl Suggestion {
    /// As the JSON contract has it.
    pub fn json(&self) -> Value {
        let at = |place: &CausePlace| json!({"source": place.source, "line": place.line});
        let chain: Vec<Value> = self.chain.iter().map(|link| json!({"source": link.place.source, "line": link.place.line, "why": link.why, "what": link.text})).collect();
        let first = self.chain.first().map(|link| at(&link.place));
        let questions: Vec<Value> =
            self.questions.iter().map(|one| json!({"do": one.what, "proves": one.proves})).collect();
        if self.provable {
            json!({"root": first, "score": self.score, "reasons": self.reasons, "chain": chain, "summary": self.summary, "card": self.card,
                "questions": questions})
        } else {
            json!({"provable": false, "evidence_ends": first, "chain": chain, "missing": self.missing, "summary": self.summary,
                "card": self.card, "questions": questions})
        }
    }
}
