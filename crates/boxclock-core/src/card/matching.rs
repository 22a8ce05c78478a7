//! Which cards fit a case: all phrases of all cards in one reading of the text, the rest from what is known already.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

use aho_corasick::{AhoCorasick, MatchKind};
use serde::{Deserialize, Serialize};

use super::{Card, CardSign, Cards, SHIPPED};
use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Window};
use crate::cause::{CauseLink, CausePlace};
use crate::crash::{CrashAnalysis, CrashReport};
use crate::event::{RecordReader, Row};
use crate::facts::restart::RestartAnalysis;
use crate::facts::{Checks, Level, checks};
use crate::query::{Filter, RowSet};
use crate::work::Work;

/// Events of a segment that are kept for each sign; more are counted.
const MOST_OF_A_SEGMENT: usize = 64;
/// Places that are given for each sign.
const MOST_PLACES: usize = 20;
/// Bytes of a record in which the parts of a phrase are looked for.
const MOST_RECORD_BYTES: usize = 16 << 10;

/// A card that fits.
#[derive(Clone, Debug)]
pub struct CardMatch {
    /// Which.
    pub card: Arc<Card>,
    /// How well: the share of its signs that are met; optional ones count half.
    pub score: f64,
    /// The signs that are met.
    pub signs: Vec<SignMatch>,
    /// How many are not.
    pub unmet: usize,
}

/// A sign that is met.
#[derive(Clone, Debug)]
pub struct SignMatch {
    /// The place of the sign in its card, from 0.
    pub sign: usize,
    /// Where, in order of time, the first of them.
    pub places: Vec<CausePlace>,
    /// How many events meet it.
    pub count: usize,
}

impl CardMatch {
    /// All places of its signs, by sign.
    pub fn places(&self) -> impl Iterator<Item = &CausePlace> {
        self.signs.iter().flat_map(|sign| &sign.places)
    }

    /// The name of the host on which most of its lines stand.
    pub fn host(&self, view: &CaseView) -> String {
        let mut hosts: HashMap<&str, usize> = HashMap::new();
        for place in self.places() {
            *hosts.entry(view.loaded.table.event(place.row).host()).or_default() += 1;
        }
        let most = hosts.into_iter().max_by(|a, b| a.1.cmp(&b.1).then(b.0.cmp(a.0)));
        most.map(|(host, _)| host.to_owned()).unwrap_or_default()
    }
}

/// Finds the cards that fit.
pub struct CardAnalysis {
    cards: Cards,
    /// For each sign over all cards: the card, and the sign in it.
    signs: Vec<(usize, usize)>,
    /// Made where text has to be read only: most often the answer, or its pieces, are there.
    searcher: OnceLock<Searcher>,
}

/// Looks for the phrases of all cards at once.
struct Searcher {
    finder: Option<AhoCorasick>,
    /// For each needle of the finder the sign (its number over all cards) and the phrase.
    needles: Vec<(u32, usize)>,
}

impl CardAnalysis {
    /// For these cards.
    pub fn new(cards: Cards) -> Self {
        let of_card = |(card, of): (usize, &Arc<Card>)| (0..of.signs.len()).map(move |sign| (card, sign));
        let signs = cards.good.iter().enumerate().flat_map(of_card).collect();
        Self { cards, signs, searcher: OnceLock::new() }
    }

    fn searcher(&self) -> &Searcher {
        self.searcher.get_or_init(|| {
            let (mut needles, mut texts) = (Vec::new(), Vec::new());
            for number in 0..self.signs.len() as u32 {
                for (phrase, parts) in self.sign(number).says.iter().enumerate() {
                    // The longest part is the rarest.
                    let Some(longest) = parts.iter().max_by_key(|part| part.len()) else { continue };
                    needles.push((number, phrase));
                    texts.push(longest.as_str());
                }
            }
            let builder = AhoCorasick::builder().ascii_case_insensitive(true).match_kind(MatchKind::Standard).clone();
            Searcher { finder: builder.build(&texts).ok(), needles }
        })
    }

    fn sign(&self, number: u32) -> &CardSign {
        let (card, sign) = self.signs[number as usize];
        &self.cards.good[card].signs[sign]
    }
}

/// Where the signs of cards stand in a segment.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct CardPiece {
    /// By number of the sign: the first events, and how many.
    found: Vec<(u32, Vec<u16>, u32)>,
    #[serde(skip)]
    building: HashMap<u32, (Vec<u16>, u32, u16)>,
}

/// Goes up when the same cards give another piece.
const FORM: u32 = 2;

/// A number that changes with the shipped cards.
const fn version() -> u32 {
    let mut hash = 0x811C_9DC5_u32 ^ FORM;
    let mut file = 0;
    while file < SHIPPED.len() {
        let text = SHIPPED[file].1.as_bytes();
        let mut at = 0;
        while at < text.len() {
            hash = (hash ^ text[at] as u32).wrapping_mul(0x0100_0193);
            at += 1;
        }
        file += 1;
    }
    hash
}

impl Analysis for CardAnalysis {
    const NAME: &'static str = "cards";
    const VERSION: u32 = version();
    type Piece = CardPiece;
    type Found = Vec<CardMatch>;

    fn window(&self, piece: &mut CardPiece, window: &Window<'_>) {
        let Searcher { finder: Some(finder), needles } = self.searcher() else { return };
        for hit in finder.find_overlapping_iter(window.bytes) {
            if !is_whole(window.bytes, hit.start()..hit.end()) {
                continue;
            }
            let (number, phrase) = needles[hit.pattern().as_usize()];
            let seen = window.event_at(hit.start());
            let event = seen.index as u16;
            let known = piece.building.get(&number);
            if known.is_some_and(|(.., last)| *last == event) {
                continue;
            }
            let sign = self.sign(number);
            if seen.severity != 0 && seen.severity < sign.level {
                continue;
            }
            let parts = &sign.says[phrase];
            let text = seen.text.get(..MOST_RECORD_BYTES).unwrap_or(seen.text);
            if parts.len() > 1 && !has_parts(text, parts) {
                continue;
            }
            let (events, count, last) = piece.building.entry(number).or_default();
            if events.len() < MOST_OF_A_SEGMENT {
                events.push(event);
            }
            (*count, *last) = (count.saturating_add(1), event);
        }
    }

    fn end(&self, piece: &mut CardPiece) {
        let building = std::mem::take(&mut piece.building).into_iter();
        piece.found = building.map(|(number, (events, count, _))| (number, events, count)).collect();
        piece.found.sort_unstable();
    }

    fn parameters(&self) -> String {
        // Pieces of the shipped cards are kept; with others they are another question.
        self.cards.own_texts().map_or_else(String::new, |texts| format!("{texts:016x}"))
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, CardPiece>, work: &Work) -> Result<Vec<CardMatch>> {
        let table = &view.loaded.table;
        let mut said: HashMap<u32, (Vec<Row>, usize)> = HashMap::new();
        for (part, of) in table.parts.iter().enumerate() {
            work.check()?;
            for (number, events, count) in pieces.of_part(part)?.found {
                let (rows, sum) = said.entry(number).or_default();
                *sum += count as usize;
                // Pieces come from a file: what is behind the segment is none of its events.
                let events = events.into_iter().filter(|event| usize::from(*event) < of.segment.len());
                rows.extend(events.map(|event| Row(of.first_row + u32::from(event))));
            }
        }
        let mut merging = Merging { view, work, crashes: None, checked: None };
        let mut reader = RecordReader::new(view.case.sources.clone());
        let mut met: Vec<Option<(Vec<Row>, usize)>> = Vec::with_capacity(self.signs.len());
        for number in 0..self.signs.len() as u32 {
            work.check()?;
            let of_text = said.remove(&number).unwrap_or_default();
            let (mut rows, count) = merging.rows(self.sign(number), of_text)?;
            rows.sort_by_key(|row| (table.event(*row).order_time(), *row));
            rows.dedup();
            met.push((!rows.is_empty()).then_some((rows, count)));
        }
        let mut found = Vec::new();
        let mut first = 0;
        for card in &self.cards.good {
            let of_card = &met[first..first + card.signs.len()];
            first += card.signs.len();
            found.extend(fit(view, card, of_card, &mut reader));
        }
        // What meets several signs says more than what meets its only one.
        found.sort_by(|a: &CardMatch, b| {
            let by_signs = a.card.level.cmp(&b.card.level).then(b.signs.len().cmp(&a.signs.len()));
            by_signs.then(b.score.total_cmp(&a.score))
        });
        Ok(found)
    }
}

/// Whether a range of a text begins and ends where words do: `sigsegv` does not stand in `libsigsegv2`.
fn is_whole(text: &[u8], range: Range<usize>) -> bool {
    let is_word = |at: Option<usize>| at.and_then(|at| text.get(at)).is_some_and(u8::is_ascii_alphanumeric);
    let cut_before = is_word(range.start.checked_sub(1)) && is_word(Some(range.start));
    let cut_behind = is_word(range.end.checked_sub(1)) && is_word(Some(range.end));
    !cut_before && !cut_behind
}

/// Whether the parts of a phrase stand in a text one behind the other, as whole words, whatever their capitals.
fn has_parts(text: &[u8], parts: &[String]) -> bool {
    let text = text.to_ascii_lowercase();
    let mut from = 0;
    for part in parts {
        let found = memchr::memmem::find_iter(&text[from..], part.as_bytes()).map(|at| from + at);
        let Some(at) = found.into_iter().find(|at| is_whole(&text, *at..at + part.len())) else { return false };
        from = at + part.len();
    }
    true
}

/// What is asked of the case beside its text, each once.
struct Merging<'a> {
    view: &'a CaseView,
    work: &'a Work,
    crashes: Option<Arc<Vec<CrashReport>>>,
    /// The checks that found something, with the place.
    checked: Option<Vec<(String, String, u64)>>,
}

impl Merging<'_> {
    fn of_filter(&self, filter: &Filter) -> Result<RowSet> {
        filter.rows(self.view, self.work)
    }

    /// The rows that meet a sign, and how many there are; `said` are those that say its phrases.
    fn rows(&mut self, sign: &CardSign, said: (Vec<Row>, usize)) -> Result<(Vec<Row>, usize)> {
        let (mut rows, mut count) = said;
        if let Some(codes) = &sign.codes {
            let table = &self.view.loaded.table;
            let has_level = |row: &u32| {
                let severity = table.event(Row(*row)).severity().0;
                severity == 0 || severity >= sign.level
            };
            let of_code: Vec<Row> = self.of_filter(codes)?.iter().filter(has_level).map(Row).collect();
            count += of_code.len();
            rows.extend(of_code.into_iter().take(MOST_OF_A_SEGMENT));
        }
        let has_text = !sign.says.is_empty() || sign.codes.is_some();
        match &sign.filter {
            Some(filter) if has_text && !rows.is_empty() => {
                let passes = self.of_filter(filter)?;
                rows.retain(|row| passes.contains(row.0));
                count = rows.len();
            }
            Some(filter) if !has_text => {
                let passes = self.of_filter(filter)?;
                count = passes.count();
                rows = passes.iter().take(MOST_OF_A_SEGMENT).map(Row).collect();
            }
            _ => {}
        }
        if sign.crash.is_some() || sign.module.is_some() {
            if self.crashes.is_none() {
                self.crashes = Some(self.view.run(&CrashAnalysis, self.work)?);
            }
            let crashes = self.crashes.iter().flat_map(|crashes| crashes.iter());
            rows.extend(crashes.filter(|crash| is_such(crash, sign)).filter_map(|crash| crash.row));
            count = rows.len();
        }
        if let Some(check) = &sign.check {
            if self.checked.is_none() {
                let (mut found, _) = checks::findings(&self.view.case, &Checks::load());
                found.extend(self.view.run(&RestartAnalysis, self.work)?.iter().cloned());
                // A note is worth knowing, and no sign of a fault.
                found.retain(|one| one.level <= Level::Warning);
                let found = found.into_iter().map(|one| (one.check, one.file, one.line as u64));
                self.checked = Some(found.collect());
            }
            let found = self.checked.iter().flatten().filter(|(name, ..)| name == check);
            rows.extend(found.filter_map(|(_, file, line)| self.view.row_of_line(file, *line)));
            count = rows.len();
        }
        Ok((rows, count))
    }
}

/// Whether a crash is such as a sign asks for.
fn is_such(report: &CrashReport, sign: &CardSign) -> bool {
    let what = &report.crash.what;
    let is = |wanted: &String| {
        *wanted == report.fingerprint
            || wanted.eq_ignore_ascii_case(what.kind.name())
            || what.name.as_ref().is_some_and(|name| name.eq_ignore_ascii_case(wanted))
    };
    let has = |wanted: &String| {
        let of_frames = report.frames.iter().filter_map(|frame| frame.module.as_deref());
        let of_suspects = report.verdict.suspects.iter().map(|suspect| suspect.module.as_str());
        of_frames.chain(of_suspects).any(|name| name.eq_ignore_ascii_case(wanted))
    };
    sign.crash.as_ref().is_none_or(is) && sign.module.as_ref().is_none_or(has)
}

/// The card with what meets it, if it fits.
fn fit(
    view: &CaseView,
    card: &Arc<Card>,
    met: &[Option<(Vec<Row>, usize)>],
    reader: &mut RecordReader,
) -> Option<CardMatch> {
    let table = &view.loaded.table;
    let time = |row: Row| table.event(row).time();
    let mut kept: Vec<Option<(Vec<Row>, usize)>> = Vec::with_capacity(met.len());
    for (sign, of) in card.signs.iter().zip(met) {
        let in_order = of.as_ref().and_then(|(rows, count)| {
            let Some(earlier) = sign.follows else { return Some((rows.clone(), *count)) };
            let before = kept.get(earlier)?.as_ref()?;
            let comes_behind = |row: &Row| {
                let (Some(here), mut others) = (time(*row), before.0.iter().filter_map(|row| time(*row))) else {
                    return false;
                };
                others.any(|there| (0..=sign.within_ns).contains(&here.saturating_sub(there)))
            };
            let behind: Vec<Row> = rows.iter().copied().filter(comes_behind).collect();
            (!behind.is_empty()).then_some((behind, *count))
        });
        kept.push(in_order);
    }
    let weight = |sign: &CardSign| if sign.optional { 0.5 } else { 1.0 };
    let all: f64 = card.signs.iter().map(weight).sum();
    let of_met: f64 = card.signs.iter().zip(&kept).filter(|(_, of)| of.is_some()).map(|(sign, _)| weight(sign)).sum();
    let number = kept.iter().flatten().count();
    let fits = match card.needs {
        Some(needs) => number >= needs,
        None => card.signs.iter().zip(&kept).all(|(sign, of)| sign.optional || of.is_some()),
    };
    if !fits || number == 0 {
        return None;
    }
    let mut place = |row: Row| {
        let event = table.event(row);
        CausePlace { source: view.case.sources[event.source()].name.clone(), line: reader.place(event).line, row }
    };
    let signs: Vec<SignMatch> = kept
        .into_iter()
        .enumerate()
        .filter_map(|(sign, of)| {
            let (rows, count) = of?;
            Some(SignMatch { sign, places: rows.into_iter().take(MOST_PLACES).map(&mut place).collect(), count })
        })
        .collect();
    let unmet = card.signs.len() - signs.len();
    Some(CardMatch { card: Arc::clone(card), score: (of_met / all * 100.0).round() / 100.0, signs, unmet })
}

/// The card that fits the case and a chain of it best: signs that the links themselves meet; those that the root meets count three times.
pub fn card_of_chain<'a>(fitting: &'a [CardMatch], chain: &[CauseLink]) -> Option<&'a CardMatch> {
    let weight = |found: &CardMatch| -> f64 {
        let of_link = |(at, link): (usize, &CauseLink)| {
            let text = link.text.as_bytes();
            let says = |sign: &SignMatch| {
                sign.places.iter().any(|place| place.row == link.place.row)
                    || found.card.signs[sign.sign].says.iter().any(|parts| has_parts(text, parts))
            };
            let share = found.signs.iter().filter(|sign| says(sign)).count() as f64 / found.card.signs.len() as f64;
            if at == 0 { 3.0 * share } else { share }
        };
        chain.iter().enumerate().map(of_link).sum::<f64>() * found.score
    };
    let weighed = fitting.iter().map(|found| (weight(found), found)).filter(|(weight, _)| *weight > 0.0);
    weighed.max_by(|a, b| a.0.total_cmp(&b.0)).map(|(_, found)| found)
}
