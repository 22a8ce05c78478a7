//! One way to analyse a case.
//!
//! An [`Analysis`] works in two steps. Its *pieces* are made from the bytes of one segment each, on all cores; they know no
//! rows, clocks, zones or hosts, and so they stay right when any of these change. They are kept in memory with the events
//! ([`Loaded`]), and on disk beside the index of their source, under the same key. *Merging* the pieces into the answer is
//! cheap and is done again for each new state of the case. [`CaseView::run`] does both; the command and the screen call it.
//!
//! ```no_run
//! # use boxclock_core::{analysis::CaseView, case::{Case, Options}, pattern::PatternAnalysis, work::Work};
//! # let work = Work::default();
//! let case = Case::open(&["night.box.zip".into()], Options::default(), &work)?;
//! let view = CaseView::new(case, Default::default());
//! let patterns = view.run(&PatternAnalysis, &work)?;
//! println!("{} kinds of messages", patterns.list.len());
//! # Ok::<(), boxclock_core::Error>(())
//! ```

use std::any::Any;
use std::collections::HashMap;
use std::marker::PhantomData;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::case::{Case, Loaded, Source};
use crate::event::{EventRef, Row};
use crate::work::{Work, parallel};
use crate::{Error, Result};

mod kept;
mod read;

pub use kept::PieceStore;
pub(crate) use kept::{read_checked, write_checked};
pub use read::{Seen, Window};

/// What an analysis needs of the events.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reads {
    /// The columns of the event table only: it has no pieces, all is done when merging.
    Columns,
    /// The text of every record, once.
    Text,
}

/// A question about all events of a case.
pub trait Analysis: Sync {
    /// What it is called in the cache: letters and hyphens.
    const NAME: &'static str;
    /// Changes whenever the same bytes give another piece.
    const VERSION: u32;
    /// What it reads.
    const READS: Reads = Reads::Text;
    /// What one segment says, by indexes of its events (0 to 65 535).
    type Piece: Default + Serialize + DeserializeOwned + Send;
    /// The answer.
    type Found: Send + Sync + 'static;

    /// Looks at records that stand next to each other in their file. Usually one at a time, by [`Self::see`].
    fn window(&self, piece: &mut Self::Piece, window: &Window<'_>) {
        for seen in window.events() {
            self.see(piece, &seen);
        }
    }

    /// Looks at one record.
    fn see(&self, piece: &mut Self::Piece, seen: &Seen<'_>) {
        let _ = (piece, seen);
    }

    /// All records of the segment have been seen.
    fn end(&self, piece: &mut Self::Piece) {
        let _ = piece;
    }

    /// Makes the answer. Reads no text, but for single records that it shows.
    ///
    /// # Errors
    /// When cancelled.
    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, Self::Piece>, work: &Work) -> Result<Self::Found>;

    /// What was asked, where that can differ: part of the name under which the answer is kept in memory. Pieces of an
    /// analysis with parameters are not kept.
    fn parameters(&self) -> String {
        String::new()
    }
}

/// An event by its place in its file: it means the same when rows and sources are numbered anew.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct EventKey {
    /// The name of its source.
    pub source: Arc<str>,
    /// Where its record starts, in bytes of the file that is read.
    pub offset: u64,
}

/// Answers by name and parameters.
type Answers = Mutex<HashMap<String, Arc<dyn Any + Send + Sync>>>;

/// A case with its events as they are now, and what is known of them. Cheap to clone.
#[derive(Clone)]
pub struct CaseView {
    /// The case.
    pub case: Arc<Case>,
    /// Its events.
    pub loaded: Loaded,
    answers: Arc<Answers>,
    by_name: Arc<OnceLock<HashMap<Arc<str>, usize>>>,
}

impl CaseView {
    /// A view of a case and its events; no answer is known yet.
    pub fn new(case: impl Into<Arc<Case>>, loaded: Loaded) -> Self {
        Self { case: case.into(), loaded, answers: Arc::default(), by_name: Arc::default() }
    }

    fn by_name(&self) -> &HashMap<Arc<str>, usize> {
        self.by_name.get_or_init(|| {
            let names = self.case.sources.iter().enumerate();
            names.map(|(index, source)| (Arc::from(source.name.as_str()), index)).collect()
        })
    }

    /// The key of an event.
    pub fn key(&self, event: EventRef<'_>) -> EventKey {
        let name = self.case.sources.get(event.source()).map_or("", |source| source.name.as_str());
        let known = self.by_name().get_key_value(name).map(|(name, _)| Arc::clone(name));
        EventKey { source: known.unwrap_or_else(|| Arc::from(name)), offset: event.offset() }
    }

    /// The row of an event; `None` where its source is not in the case, or the record is not read (yet).
    pub fn row(&self, key: &EventKey) -> Option<Row> {
        self.row_in(&key.source, key.offset)
    }

    /// The event that a line of a source belongs to, by the source's name and the line from 1.
    pub fn row_of_line(&self, source: &str, line: u64) -> Option<Row> {
        self.loaded.table.row_at_line(*self.by_name().get(source)?, line)
    }

    /// The row of the record that starts at `offset` of the source of that name.
    pub fn row_in(&self, source: &str, offset: u64) -> Option<Row> {
        self.loaded.table.row_at(*self.by_name().get(source)?, offset)
    }

    /// The answer, if it is known already.
    pub fn known<A: Analysis>(&self, analysis: &A) -> Option<Arc<A::Found>> {
        let answers = self.answers.lock().unwrap_or_else(PoisonError::into_inner);
        answers.get(&name_of(analysis)).and_then(|answer| Arc::clone(answer).downcast().ok())
    }

    /// The answer: as it is known, from pieces in memory or on disk, or by reading on all cores. Progress is counted in
    /// bytes of the text that has to be read.
    ///
    /// # Errors
    /// [`Error::Cancelled`] when cancelled.
    pub fn run<A: Analysis>(&self, analysis: &A, work: &Work) -> Result<Arc<A::Found>> {
        if let Some(known) = self.known(analysis) {
            return Ok(known);
        }
        self.run_together(&[&pass(analysis)], work)?;
        let pieces = Pieces { store: &self.loaded.pieces, name: pieces_name(analysis), of: PhantomData };
        let found = Arc::new(analysis.merge(self, &pieces, work)?);
        work.check()?;
        let answer: Arc<dyn Any + Send + Sync> = Arc::clone(&found) as _;
        self.answers.lock().unwrap_or_else(PoisonError::into_inner).insert(name_of(analysis), answer);
        Ok(found)
    }

    /// Sees to it that the pieces of several analyses are there: what none of them has yet is read once for all.
    ///
    /// # Errors
    /// [`Error::Cancelled`] when cancelled.
    pub fn run_together(&self, passes: &[&dyn Pass], work: &Work) -> Result<()> {
        let parts = &self.loaded.table.parts;
        let passes: Vec<&&dyn Pass> = passes.iter().filter(|pass| pass.reads() == Reads::Text).collect();
        let store = &self.loaded.pieces;
        let _turn = store.take_turn(work)?;
        for pass in &passes {
            store.fetch(&pass.name(), pass.version(), pass.keeps(), self);
        }
        let missing: Vec<(usize, Vec<usize>)> = (0..parts.len())
            .map(|part| (part, (0..passes.len()).filter(|pass| !store.has(&passes[*pass].name(), part)).collect()))
            .filter(|(_, passes): &(usize, Vec<usize>)| !passes.is_empty())
            .collect();
        if missing.is_empty() {
            return Ok(());
        }
        let bytes = |part: usize| parts[part].end.saturating_sub(parts[part].segment.offset);
        work.set_total(missing.iter().map(|(part, _)| bytes(*part)).sum());
        // So many at a time: progress is shown, and what is done is kept, even if the rest is cancelled.
        const BATCH: usize = 64;
        let mut unread: Vec<usize> = Vec::new();
        for batch in missing.chunks(BATCH) {
            let made = parallel(batch.len(), work, |at| {
                let (part, wanted) = &batch[at];
                let mut builders: Vec<Box<dyn Builder + '_>> =
                    wanted.iter().map(|pass| passes[*pass].begin()).collect();
                let is_read = read::windows(self, *part, work, |window| {
                    for builder in &mut builders {
                        builder.window(window);
                    }
                });
                work.advance(bytes(*part));
                (builders.into_iter().map(Builder::encode).collect::<Vec<_>>(), is_read)
            });
            work.check()?;
            for ((part, wanted), (made, is_read)) in batch.iter().zip(made) {
                if !is_read {
                    unread.push(parts[*part].segment.source as usize);
                }
                for (pass, piece) in wanted.iter().zip(made) {
                    store.put(&passes[*pass].name(), *part, piece?);
                }
            }
        }
        for pass in passes.iter().filter(|pass| pass.keeps()) {
            store.keep(&pass.name(), pass.version(), self, &unread);
        }
        Ok(())
    }
}

fn name_of<A: Analysis>(analysis: &A) -> String {
    format!("{} {}", A::NAME, analysis.parameters())
}

/// The name under which pieces are kept.
fn pieces_name<A: Analysis>(analysis: &A) -> String {
    format!("{}{}", A::NAME, analysis.parameters())
}

/// The pieces of an analysis, by part of the table.
pub struct Pieces<'a, P> {
    store: &'a PieceStore,
    name: String,
    of: PhantomData<fn() -> P>,
}

impl<P: DeserializeOwned> Pieces<'_, P> {
    /// The piece of a part of the table, by its place.
    ///
    /// # Errors
    /// [`Error::Fault`] when it is not there or cannot be read back.
    pub fn of_part(&self, part: usize) -> Result<P> {
        self.store.get(&self.name, part).ok_or_else(|| Error::Fault(format!("no piece {part} of {}", self.name)))
    }
}

/// An analysis whose kind is not known to the one who runs it. See [`pass`].
pub trait Pass: Sync {
    /// The name under which its pieces are kept.
    fn name(&self) -> String;
    /// The version of its pieces.
    fn version(&self) -> u32;
    /// What it reads.
    fn reads(&self) -> Reads;
    /// Whether its pieces are kept on disk.
    fn keeps(&self) -> bool;
    /// Begins a piece.
    fn begin(&self) -> Box<dyn Builder + '_>;
}

/// A piece that is being made.
pub trait Builder {
    /// Looks at some records.
    fn window(&mut self, window: &Window<'_>);
    /// The piece as it is kept.
    ///
    /// # Errors
    /// [`Error::Fault`] when it cannot be written.
    fn encode(self: Box<Self>) -> Result<Vec<u8>>;
}

struct PassOf<'a, A>(&'a A);

/// An analysis for [`CaseView::run_together`].
pub fn pass<A: Analysis>(analysis: &A) -> impl Pass + '_ {
    PassOf(analysis)
}

impl<A: Analysis> Pass for PassOf<'_, A> {
    fn name(&self) -> String {
        pieces_name(self.0)
    }

    fn version(&self) -> u32 {
        A::VERSION
    }

    fn reads(&self) -> Reads {
        A::READS
    }

    fn keeps(&self) -> bool {
        self.0.parameters().is_empty()
    }

    fn begin(&self) -> Box<dyn Builder + '_> {
        Box::new(PieceOf { analysis: self.0, piece: A::Piece::default() })
    }
}

struct PieceOf<'a, A: Analysis> {
    analysis: &'a A,
    piece: A::Piece,
}

impl<A: Analysis> Builder for PieceOf<'_, A> {
    fn window(&mut self, window: &Window<'_>) {
        self.analysis.window(&mut self.piece, window);
    }

    fn encode(mut self: Box<Self>) -> Result<Vec<u8>> {
        self.analysis.end(&mut self.piece);
        kept::encode(&self.piece)
    }
}

/// The source of a part.
fn source_of(view: &CaseView, part: usize) -> &Source {
    &view.case.sources[view.loaded.table.parts[part].segment.source as usize]
}

#[cfg(test)]
mod tests;
