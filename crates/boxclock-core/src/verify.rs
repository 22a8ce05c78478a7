//! Is the failure gone? What was seen in the case of a failure is looked for in a box gathered after the fix.
//!
//! A message is the same where its [pattern](crate::pattern) is. Silence proves something only where the program that had written the
//! message wrote on, and for long enough: several times as long as lay between two such messages before.

use std::collections::{HashMap, HashSet};

use serde_json::{Value, json};

use crate::analysis::CaseView;
use crate::cause::{self, CauseAnalysis};
use crate::clock::human::{date_time, duration_text};
use crate::event::{EventRef, RecordReader, Row};
use crate::logbook::{Link, Logbook};
use crate::pattern::{Pattern, PatternAnalysis, PatternId, Patterns};
use crate::work::Work;
use crate::{Error, Result};

/// Severity number from which new messages count.
const TROUBLE: u8 = 17;
/// New kinds of trouble that are named.
const MOST_NEW: usize = 12;
/// So many usual gaps have to pass in silence.
const GAPS: i64 = 3;

/// A line of a case.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SeenPlace {
    /// The name of the source.
    pub source: String,
    /// The line, from 1.
    pub line: u64,
    /// The event, in its own case.
    pub row: Row,
}

/// What a message was in the case of the failure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// What people noticed.
    Symptom,
    /// A link between root and symptom.
    Link,
    /// What started it.
    Root,
    /// It is in the later box only.
    New,
}

impl Part {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Symptom => "symptom",
            Self::Link => "link",
            Self::Root => "root",
            Self::New => "new",
        }
    }
}

/// Whether a message still comes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// It does not come any more, and would have been seen.
    Gone,
    /// It still comes.
    There,
    /// The later box cannot tell.
    Unknown,
}

impl State {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gone => "gone",
            Self::There => "there",
            Self::Unknown => "unknown",
        }
    }
}

/// What became of one message.
#[derive(Clone, Debug)]
pub struct Item {
    /// What it was.
    pub part: Part,
    /// What became of it.
    pub state: State,
    /// What it says.
    pub text: String,
    /// Where it stood in the case of the failure.
    pub before: Option<SeenPlace>,
    /// Where it stands in the later box.
    pub after: Option<SeenPlace>,
    /// Why that is so.
    pub why: String,
}

/// Whether the failure is gone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// The symptom does not come any more.
    Fixed,
    /// It still comes.
    NotFixed,
    /// The later box cannot tell.
    NotProvable,
}

impl Verdict {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Fixed => "fixed",
            Self::NotFixed => "not-fixed",
            Self::NotProvable => "not-provable",
        }
    }
}

/// The answer.
#[derive(Clone, Debug)]
pub struct Verification {
    /// In one word.
    pub verdict: Verdict,
    /// Each message of the chain, symptom first, then what is new.
    pub items: Vec<Item>,
    /// In two or three sentences.
    pub summary: String,
}

impl Verification {
    /// As lines of JSON: the items, then the verdict.
    pub fn json(&self) -> Vec<Value> {
        let place =
            |place: &Option<SeenPlace>| place.as_ref().map(|place| json!({"source": place.source, "line": place.line}));
        let item = |item: &Item| {
            json!({"part": item.part.name(), "state": item.state.name(), "what": item.text, "before": place(&item.before),
                "after": place(&item.after), "why": item.why})
        };
        let mut lines: Vec<Value> = self.items.iter().map(item).collect();
        lines.push(json!({"verdict": self.verdict.name(), "summary": self.summary}));
        lines
    }
}

/// A side with what is known of it.
struct Side<'a> {
    view: &'a CaseView,
    patterns: std::sync::Arc<Patterns>,
    by_id: HashMap<PatternId, Pattern>,
    reader: RecordReader,
}

impl<'a> Side<'a> {
    fn of(view: &'a CaseView, work: &Work) -> Result<Self> {
        let patterns = view.run(&PatternAnalysis, work)?;
        let by_id = patterns.list.iter().map(|pattern| (pattern.id, *pattern)).collect();
        Ok(Self { view, patterns, by_id, reader: RecordReader::new(view.case.sources.clone()) })
    }

    fn event(&self, row: Row) -> EventRef<'a> {
        self.view.loaded.table.event(row)
    }

    fn place(&mut self, row: Row) -> SeenPlace {
        let event = self.view.loaded.table.event(row);
        let source = self.view.case.sources[event.source()].name.clone();
        SeenPlace { source, line: self.reader.place(event).line, row }
    }

    fn text(&mut self, row: Row) -> String {
        let body = self.reader.record(self.view.loaded.table.event(row)).body;
        body.lines().next().unwrap_or_default().chars().take(200).collect()
    }

    fn time(&self, ns: i64) -> String {
        date_time(ns, &self.view.case.zone)[..19].to_owned()
    }
}

/// How long somebody wrote in the later box, and how much: from, to, events.
type Heard = (i64, i64, usize);

/// A kind of message in the later box.
#[derive(Clone, Copy)]
struct Again {
    id: PatternId,
    count: u32,
    first: Row,
    last: i64,
}

/// What the later box has of the time behind the end of the first: it often holds the night of the failure too, which shows nothing
/// about afterwards.
#[derive(Default)]
struct Afterwards {
    by_id: HashMap<PatternId, Again>,
    by_writer: HashMap<String, Heard>,
}

/// Who wrote what in a case: a program where it is named, else a log by its name without folders and numbers.
fn writer(view: &CaseView, event: EventRef<'_>) -> String {
    let component = event.component();
    if !component.is_empty() {
        return component.to_lowercase();
    }
    let name = &view.case.sources[event.source()].name;
    let file = name.rsplit('/').next().unwrap_or(name);
    file.chars().filter(|letter| !letter.is_ascii_digit()).collect::<String>().to_lowercase()
}

impl Afterwards {
    fn of(side: &Side<'_>, since: i64, work: &Work) -> Result<Self> {
        let table = &side.view.loaded.table;
        let mut found = Self::default();
        let mut names: HashMap<(usize, u32), String> = HashMap::new();
        let first = table.place_of_time(since.saturating_add(1));
        for (number, row) in table.order.iter().enumerate().skip(first) {
            if number.is_multiple_of(65_536) {
                work.check()?;
            }
            let row = Row(*row);
            let event = table.event(row);
            let Some(time) = event.time().filter(|time| *time > since) else { continue };
            if let Some(pattern) = side.patterns.of(row) {
                let new = Again { id: pattern.id, count: 0, first: row, last: time };
                let again = found.by_id.entry(pattern.id).or_insert(new);
                (again.count, again.last) = (again.count + 1, again.last.max(time));
            }
            let name =
                names.entry((event.source(), event.actor().component)).or_insert_with(|| writer(side.view, event));
            match found.by_writer.get_mut(name.as_str()) {
                Some((from, to, count)) => {
                    (*from, *to) = ((*from).min(time), (*to).max(time));
                    *count += 1;
                }
                None => {
                    found.by_writer.insert(name.clone(), (time, time, 1));
                }
            }
        }
        Ok(found)
    }
}

/// The events of the chain, with what each is: that of the logbook, else the first suggestion that names a root.
fn chain_of(view: &CaseView, logbook: Option<&Logbook>, work: &Work) -> Result<Vec<(Part, Row)>> {
    let kept = logbook.map(|logbook| cause::kept_chain(view, logbook)).transpose()?.unwrap_or_default();
    let part = |kind: Link| match kind {
        Link::Root => Part::Root,
        Link::Step => Part::Link,
        Link::Symptom => Part::Symptom,
    };
    let mut chain: Vec<(Part, Row)> = kept.iter().filter_map(|link| Some((part(link.kind), link.row?))).collect();
    if chain.is_empty() {
        let found = view.run(&CauseAnalysis, work)?;
        let one = found.first().ok_or_else(|| {
            Error::new("The first box shows no symptom: state one in its story, or make a chain in its Cause view.")
        })?;
        let last = one.chain.len().saturating_sub(1);
        chain.extend(one.chain.iter().enumerate().map(|(at, link)| {
            let part = match at {
                at if at == last => Part::Symptom,
                0 if one.provable => Part::Root,
                _ => Part::Link,
            };
            (part, link.place.row)
        }));
    }
    // The symptom decides, so it stands first.
    chain.sort_by_key(|(part, _)| *part != Part::Symptom);
    Ok(chain)
}

/// Holds the case of a failure against a box that was gathered afterwards.
///
/// # Errors
/// When the first shows no symptom, the second has no events, or when cancelled.
pub fn verify(before: &CaseView, logbook: Option<&Logbook>, after: &CaseView, work: &Work) -> Result<Verification> {
    if after.loaded.table.is_empty() {
        return Err(Error::new("The later box holds no events: gather the same logs as for the first."));
    }
    let chain = chain_of(before, logbook, work)?;
    let mut sides = (Side::of(before, work)?, Side::of(after, work)?);
    let since = before.loaded.table.span.map_or(i64::MIN, |(_, last)| last);
    let afterwards = Afterwards::of(&sides.1, since, work)?;
    let mut items = Vec::new();
    let mut seen = HashSet::new();
    for (part, row) in chain {
        work.check()?;
        if let Some(pattern) = sides.0.patterns.of(row).copied().filter(|pattern| seen.insert(pattern.id)) {
            items.push(item(&mut sides, &afterwards, part, row, pattern));
        }
    }
    items.extend(new_trouble(&mut sides, &afterwards, work)?);
    Ok(judge(items, !afterwards.by_writer.is_empty()))
}

/// What became of one message of the chain.
fn item(
    (before, after): &mut (Side<'_>, Side<'_>),
    afterwards: &Afterwards,
    part: Part,
    row: Row,
    pattern: Pattern,
) -> Item {
    let text = before.text(row);
    let (change, lasts) = cause::is_change(&text);
    let mut item =
        Item { part, state: State::Unknown, text, before: Some(before.place(row)), after: None, why: String::new() };
    let event = before.event(row);
    let who = writer(before.view, event);
    if let Some(again) = afterwards.by_id.get(&pattern.id) {
        item.after = Some(after.place(again.first));
        // A change is no trouble: that one of its kind was made again may be the mending.
        if change && !lasts && event.severity().0 < TROUBLE {
            item.why = format!(
                "{} of its kind again: see whether it takes the first one back",
                crate::many(u64::from(again.count), "change")
            );
        } else {
            item.state = State::There;
            let lines = crate::many(u64::from(again.count), "line");
            item.why = format!("{lines} of its kind, last at {}", after.time(again.last));
        }
        return item;
    }
    let Some((from, to, count)) = afterwards.by_writer.get(&who).copied() else {
        item.why = format!("the later box has nothing of {who} from afterwards: its silence proves nothing");
        return item;
    };
    let length = to.saturating_sub(from);
    let span = pattern.span.map_or(0, |(first, last)| last.saturating_sub(first));
    let gap = if pattern.count > 1 { span / i64::from(pattern.count - 1) } else { 0 };
    let needed = gap.saturating_mul(GAPS);
    if change && !lasts && event.severity().0 < TROUBLE {
        item.why = format!(
            "{} of {who}, and no such change again; whether it was taken back no line says",
            crate::many(count as u64, "line")
        );
    } else if length < needed {
        item.why =
            format!("it came every {}; the later box has only {} of {who}", duration_text(gap), duration_text(length));
    } else {
        item.state = State::Gone;
        item.why = format!(
            "{} of {who} over {}, and none of its kind",
            crate::many(count as u64, "line"),
            duration_text(length)
        );
    }
    item
}

/// Trouble that only the later box has, most frequent first.
fn new_trouble((before, after): &mut (Side<'_>, Side<'_>), afterwards: &Afterwards, work: &Work) -> Result<Vec<Item>> {
    let is_trouble = |again: &&Again| after.event(again.first).severity().0 >= TROUBLE;
    let is_new = |again: &&Again| !before.by_id.contains_key(&again.id);
    let mut new: Vec<Again> = afterwards.by_id.values().filter(is_new).filter(is_trouble).copied().collect();
    new.sort_by_key(|again| (std::cmp::Reverse(again.count), again.id));
    let mut items = Vec::new();
    for again in new.into_iter().take(MOST_NEW) {
        work.check()?;
        items.push(Item {
            part: Part::New,
            state: State::There,
            text: after.text(again.first),
            before: None,
            after: Some(after.place(again.first)),
            why: format!("{} of a kind that the first box does not have", crate::many(u64::from(again.count), "line")),
        });
    }
    Ok(items)
}

fn judge(items: Vec<Item>, is_later: bool) -> Verification {
    let of = |part: Part| items.iter().filter(move |item| item.part == part);
    let new = of(Part::New).count();
    let old: Vec<&Item> = items.iter().filter(|item| item.part != Part::New).collect();
    let deciding: Vec<&Item> =
        if of(Part::Symptom).next().is_some() { of(Part::Symptom).collect() } else { old.clone() };
    let verdict = if !is_later {
        Verdict::NotProvable
    } else if deciding.iter().any(|item| item.state == State::There) {
        Verdict::NotFixed
    } else if !deciding.is_empty() && deciding.iter().all(|item| item.state == State::Gone) {
        Verdict::Fixed
    } else {
        Verdict::NotProvable
    };
    let symptom = deciding.first().map_or("", |item| item.text.as_str());
    let why = deciding.first().map_or("", |item| item.why.as_str());
    let mut summary = match verdict {
        Verdict::Fixed => format!("\"{symptom}\" is gone: {why}."),
        Verdict::NotFixed => format!("\"{symptom}\" is still there: {why}."),
        Verdict::NotProvable if !is_later => {
            "The later box has nothing from after the end of the first, so it shows nothing about afterwards."
                .to_owned()
        }
        Verdict::NotProvable => format!("Whether \"{symptom}\" is gone cannot be told: {why}."),
    };
    let left = old.iter().filter(|item| item.state == State::There).count();
    if verdict == Verdict::Fixed && left > 0 {
        summary.push_str(&format!(" Of what led to it, {} still there.", of_them(left)));
    }
    if new > 0 {
        summary.push_str(&format!(" {} of error, not seen before, came up.", crate::many(new as u64, "new kind")));
    }
    Verification { verdict, items, summary }
}

fn of_them(count: usize) -> String {
    if count == 1 { "one line is".to_owned() } else { format!("{count} lines are") }
}

#[cfg(test)]
mod tests;
