//! Lists inside logs that say at the end of something what went wrong in it ("failed items:", "pending causes:"): each of their items is
//! led back to the event that it tells of.
//!
//! How their headings read is data (`summaries.toml`). An item and an event belong together by their text, without the marks of the list,
//! else by the moment that the item gives, else by a code that no other event has; where an item is a name only, by the last bad line
//! with that name in the same log.

use std::collections::HashMap;
use std::sync::LazyLock;

use regex::{Regex, RegexSet, RegexSetBuilder};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Seen};
use crate::clock::SECOND;
use crate::code::{self, Code, NO_CATALOGUES};
use crate::event::{RecordReader, Row};
use crate::pattern::{PatternAnalysis, PatternId};
use crate::severity::Severity;
use crate::work::Work;

/// Lists of one segment and of a case, items of one list, and events with the pattern of one item that are looked at.
const MOST_LISTS: usize = 500;
const MOST_LISTS_OF_CASE: usize = 2_000;
const MOST_ITEMS: usize = 50;
const MOST_CANDIDATES: usize = 400;
/// Bytes of a record in which headings are looked for, and of a heading.
const RECORD_BYTES: usize = 64 << 10;
const HEADING_BYTES: usize = 200;
/// Items that are lines of their own come at once.
const ITEMS_WITHIN_NS: i64 = 2 * SECOND;
/// Shorter texts are said by too many lines.
const SHORTEST_ITEM: usize = 3;
/// Events before a list that are looked through for a name that is an item, and of all lists together.
const NAMED_WITHIN: u32 = 1_000;
const MOST_NAMED: usize = 200_000;

#[derive(Deserialize)]
struct Words {
    heading: Vec<String>,
}

static HEADINGS: LazyLock<Option<RegexSet>> = LazyLock::new(headings);

fn headings() -> Option<RegexSet> {
    let words: Words = toml::from_str(include_str!("summaries.toml")).ok()?;
    RegexSetBuilder::new(words.heading).case_insensitive(true).build().ok()
}

/// What stands in front of an item: a sign, a number, blanks.
static MARK: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"^\s*(?:[-*•·+>]|\(?[0-9]{1,4}[.):\]]|\[[0-9]{1,4}\])\s+|^\s+").ok());
/// A moment in front of the text of an item; only its time of day is compared, for its date may be written in any way.
static MOMENT: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(r"^\[?(?:(?:at|on)\s+)?(?:\d{4}-\d\d-\d\d[T ])?(?<h>\d\d):(?<m>\d\d):(?<s>\d\d)(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?\]?[:,]?\s+").ok()
});

/// A list of what went wrong.
#[derive(Clone, Debug, PartialEq)]
pub struct Summary {
    /// The event of its heading.
    pub row: Row,
    /// The line of its heading.
    pub line: u64,
    /// Its heading, without the colon.
    pub heading: String,
    /// Its items, in order.
    pub items: Vec<SummaryItem>,
}

/// An item of a list.
#[derive(Clone, Debug, PartialEq)]
pub struct SummaryItem {
    /// Its event.
    pub row: Row,
    /// Its line.
    pub line: u64,
    /// What it says, without the marks of the list.
    pub text: String,
    /// The event that it tells of, and by what that is known: `text`, `time`, `code`, `name`.
    pub origin: Option<(Row, &'static str)>,
}

impl Summary {
    /// As JSON, with the places of its items and of what they tell of.
    pub fn json(&self, view: &CaseView) -> Value {
        let mut reader = RecordReader::new(view.case.sources.clone());
        let table = &view.loaded.table;
        let source = |row: Row| view.case.sources[table.event(row).source()].name.clone();
        let items = self.items.iter().map(|item| {
            let origin = item.origin.map(|(row, by)| {
                let event = table.event(row);
                json!({"source": source(row), "line": reader.place(event).line, "time": event.time().map(crate::clock::to_rfc3339), "by": by})
            });
            json!({"source": source(item.row), "line": item.line, "text": item.text, "origin": origin})
        });
        let items: Vec<Value> = items.collect();
        json!({"source": source(self.row), "line": self.line, "heading": self.heading, "items": items})
    }
}

/// Finds all lists and what their items tell of.
#[derive(Clone, Copy, Debug)]
pub struct SummaryAnalysis;

impl Analysis for SummaryAnalysis {
    const NAME: &'static str = "summaries";
    const VERSION: u32 = 1;
    /// The index of an event and the line in it.
    type Piece = Vec<(u32, u32)>;
    type Found = Vec<Summary>;

    fn see(&self, piece: &mut Self::Piece, seen: &Seen<'_>) {
        let text = seen.text.get(..RECORD_BYTES).unwrap_or(seen.text);
        let ends = |line: &[u8]| line.trim_ascii_end().ends_with(b":");
        // Most records are one line, and most of these do not end so.
        let has_more = memchr::memchr(b'\n', text).is_some_and(|feed| feed + 1 < text.len());
        if piece.len() >= MOST_LISTS || !(has_more || ends(text)) {
            return;
        }
        for (number, line) in text.split(|byte| *byte == b'\n').enumerate() {
            // The heading of a record stands behind its head.
            if ends(line) && heading_of(&String::from_utf8_lossy(line)).is_some() {
                piece.push((seen.index as u32, number as u32));
            }
        }
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, Self::Piece>, work: &Work) -> Result<Vec<Summary>> {
        let table = &view.loaded.table;
        let mut reader = RecordReader::new(view.case.sources.clone());
        let mut lists = Vec::new();
        for (index, part) in table.parts.iter().enumerate() {
            work.check()?;
            let left = MOST_LISTS_OF_CASE.saturating_sub(lists.len());
            for (at, line) in pieces.of_part(index)?.into_iter().take(left) {
                let row = Row(part.first_row + at);
                lists.extend(list_at(view, &mut reader, row, line as usize));
            }
        }
        find_origins(view, &mut reader, &mut lists, work)?;
        lists.retain(|list| !list.items.is_empty());
        Ok(lists)
    }
}

/// The heading in a line that ends with a colon, if it reads like one.
fn heading_of(line: &str) -> Option<String> {
    let bare = line.trim_end().strip_suffix(':')?;
    // Behind the last colon or bracket of what stands in front: `ERROR batch: failed items:`
    let heading = bare.rsplit([':', ']', '|']).next().unwrap_or(bare).trim();
    let good = (4..=HEADING_BYTES).contains(&heading.len()) && HEADINGS.as_ref()?.is_match(heading);
    good.then(|| heading.to_owned())
}

/// The text of an item without its marks; none where nothing marks it.
fn item_of(line: &str) -> Option<&str> {
    let end = MARK.as_ref()?.find(line)?.end();
    let text = line.get(end..)?;
    // An item of a list within an item may have another mark.
    let text = MARK.as_ref()?.find(text).and_then(|mark| text.get(mark.end()..)).unwrap_or(text).trim();
    (text.len() >= SHORTEST_ITEM).then_some(text)
}

/// The list whose heading stands in a line of a record.
fn list_at(view: &CaseView, reader: &mut RecordReader, row: Row, line: usize) -> Option<Summary> {
    let table = &view.loaded.table;
    let event = table.event(row);
    let first_line = reader.place(event).line;
    let body = reader.record(event).body;
    let mut lines = body.lines().skip(line);
    let heading = heading_of(lines.next()?)?;
    let mut items: Vec<SummaryItem> = Vec::new();
    for (at, text) in lines.enumerate().take(MOST_ITEMS) {
        let Some(text) = item_of(text) else { break };
        let line = first_line + (line + 1 + at) as u64;
        items.push(SummaryItem { row, line, text: text.to_owned(), origin: None });
    }
    if items.is_empty() && line + 1 >= body.lines().count() {
        // Each item may be a line of its own, with a head of its own.
        let until = event.time().map(|time| time.saturating_add(ITEMS_WITHIN_NS));
        for next in (row.0 + 1..).map(Row).take(MOST_ITEMS).take_while(|next| (next.0 as usize) < table.len()) {
            let other = table.event(next);
            let same = other.source() == event.source() && other.actor().pid == event.actor().pid;
            let in_time = other.time().zip(until).is_none_or(|(time, until)| time <= until);
            let body = reader.record(other).body;
            let Some(text) = body.lines().next().and_then(item_of).filter(|_| same && in_time) else { break };
            let line = reader.place(other).line;
            items.push(SummaryItem { row: next, line, text: text.to_owned(), origin: None });
        }
    }
    Some(Summary { row, line: first_line + line as u64, heading, items })
}

/// The text of an item behind its moment, and that in seconds of the day.
fn moment_of(text: &str) -> (Option<i64>, &str) {
    let Some(found) = MOMENT.as_ref().and_then(|moment| moment.captures(text)) else { return (None, text) };
    let part = |name: &str| found.name(name).and_then(|part| part.as_str().parse::<i64>().ok()).unwrap_or(0);
    let rest = text.get(found.get(0).map_or(0, |all| all.end())..).unwrap_or(text);
    (Some(part("h") * 3_600 + part("m") * 60 + part("s")), rest)
}

/// Leads the items of lists back to what they tell of.
fn find_origins(view: &CaseView, reader: &mut RecordReader, lists: &mut [Summary], work: &Work) -> Result<()> {
    let table = &view.loaded.table;
    let texts = lists.iter().flat_map(|list| &list.items).map(|item| moment_of(&item.text).1);
    let mut rows_of: HashMap<PatternId, Vec<Row>> =
        texts.map(|text| (PatternId::of(text.as_bytes()), Vec::new())).collect();
    if rows_of.is_empty() {
        return Ok(());
    }
    let patterns = view.run(&PatternAnalysis, work)?;
    let mut wanted: HashMap<u32, PatternId> = HashMap::new();
    for (index, pattern) in patterns.list.iter().enumerate() {
        if rows_of.contains_key(&pattern.id) {
            wanted.insert(index as u32, pattern.id);
        }
    }
    for (row, pattern) in patterns.of_row.iter().enumerate() {
        if let Some(rows) = wanted.get(pattern).and_then(|id| rows_of.get_mut(id)) {
            rows.push(Row(row as u32));
        }
    }
    // In order of time, so that what came before a list is found at once.
    for rows in rows_of.values_mut() {
        rows.sort_by_key(|row| (table.event(*row).time(), *row));
    }
    for list in lists.iter_mut() {
        work.check()?;
        let until = (table.event(list.row).time(), list.row);
        let own: Vec<Row> = list.items.iter().map(|item| item.row).chain([list.row]).collect();
        for item in &mut list.items {
            let (moment, text) = moment_of(&item.text);
            let rows = rows_of.get(&PatternId::of(text.as_bytes())).map_or(&[][..], Vec::as_slice);
            // Only what came before it; of several the last.
            let end = rows.partition_point(|row| (table.event(*row).time(), *row) < until);
            let before: Vec<Row> = rows[..end]
                .iter()
                .rev()
                .copied()
                .filter(|row| !own.contains(row) && is_before(table.event(*row).time(), *row, until))
                .take(MOST_CANDIDATES)
                .collect();
            let says = |row: &Row, reader: &mut RecordReader| {
                let body = reader.record(table.event(*row)).body;
                body.lines().next().is_some_and(|line| line.trim() == text)
            };
            let by_text = before.iter().find(|row| says(row, reader)).map(|row| (*row, "text"));
            let at = |row: &&Row| {
                let zone = &view.case.sources[table.event(**row).source()].zone;
                let time = table.event(**row).time();
                moment.zip(time).is_some_and(|(moment, time)| {
                    let civil = zone.civil(time);
                    let local = i64::from(civil.hour) * 3_600 + i64::from(civil.minute) * 60 + i64::from(civil.second);
                    (time / SECOND).rem_euclid(86_400) == moment || local == moment
                })
            };
            let by_time = || before.iter().find(at).map(|row| (*row, "time"));
            item.origin = by_text.or_else(by_time);
        }
    }
    by_codes(view, lists, work)?;
    by_names(view, reader, lists, work)
}

/// Leads items that are names only to the last bad event before their list that has the name, in the same log.
fn by_names(view: &CaseView, reader: &mut RecordReader, lists: &mut [Summary], work: &Work) -> Result<()> {
    let table = &view.loaded.table;
    let mut left = MOST_NAMED;
    for list in lists.iter_mut() {
        let mut open: Vec<&mut SummaryItem> = list
            .items
            .iter_mut()
            .filter(|item| item.origin.is_none() && !item.text.contains(char::is_whitespace))
            .collect();
        if open.is_empty() {
            continue;
        }
        work.check()?;
        let source = table.event(list.row).source();
        for row in (list.row.0.saturating_sub(NAMED_WITHIN)..list.row.0).rev().map(Row) {
            let event = table.event(row);
            if event.source() != source || left == 0 || open.iter().all(|item| item.origin.is_some()) {
                break;
            }
            left -= 1;
            let body = reader.record(event).body;
            for item in open.iter_mut().filter(|item| item.origin.is_none()) {
                let bad = |line: &str| {
                    has_word(line, &item.text)
                        && (event.severity() >= Severity::WARN || BAD.as_ref().is_some_and(|bad| bad.is_match(line)))
                };
                if body.lines().any(bad) {
                    item.origin = Some((row, "name"));
                }
            }
        }
    }
    Ok(())
}

/// Words that say that something went wrong.
static BAD: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(r"(?i)\b(?:fail\w*|error|cannot|could not|refused|denied|rejected|timed out|aborted)\b").ok()
});

/// Whether a line has a text as a word of its own.
fn has_word(line: &str, word: &str) -> bool {
    let part = |letter: char| letter.is_alphanumeric() || matches!(letter, '_' | '-');
    line.match_indices(word).any(|(at, _)| !line[..at].ends_with(part) && !line[at + word.len()..].starts_with(part))
}

fn is_before(time: Option<i64>, row: Row, (until, list): (Option<i64>, Row)) -> bool {
    match (time, until) {
        (Some(time), Some(until)) => (time, row) < (until, list),
        _ => row < list,
    }
}

/// The one code of an item; none where it has several.
fn code_of(view: &CaseView, item: &SummaryItem) -> Option<Code> {
    let source = &view.case.sources[view.loaded.table.event(item.row).source()];
    let mut codes = Vec::new();
    code::scan(item.text.as_bytes(), source.platform, &NO_CATALOGUES, |found| codes.push(found.code));
    codes.dedup();
    if let [code] = codes.as_slice() { Some(*code) } else { None }
}

/// Leads items without origin to the one event before their list that has their code; where there are several, to none.
fn by_codes(view: &CaseView, lists: &mut [Summary], work: &Work) -> Result<()> {
    let table = &view.loaded.table;
    let open = lists.iter().flat_map(|list| &list.items).filter(|item| item.origin.is_none());
    let mut rows_of: HashMap<Code, Vec<Row>> =
        open.filter_map(|item| Some((code_of(view, item)?, Vec::new()))).collect();
    if rows_of.is_empty() {
        return Ok(());
    }
    for row in (0..table.len() as u32).map(Row) {
        if row.0.is_multiple_of(1 << 16) {
            work.check()?;
        }
        for code in table.event(row).codes() {
            if let Some(rows) =
                rows_of.get_mut(&code).filter(|rows| rows.len() < MOST_CANDIDATES && rows.last() != Some(&row))
            {
                rows.push(row);
            }
        }
    }
    for list in lists.iter_mut() {
        let until = (table.event(list.row).time(), list.row);
        let own: Vec<Row> = list.items.iter().map(|item| item.row).chain([list.row]).collect();
        for item in list.items.iter_mut().filter(|item| item.origin.is_none()) {
            let Some(rows) = code_of(view, item).and_then(|code| rows_of.get(&code)) else { continue };
            let mut before =
                rows.iter().filter(|row| !own.contains(row) && is_before(table.event(**row).time(), **row, until));
            let first = before.next();
            item.origin = first.filter(|_| before.next().is_none()).map(|row| (*row, "code"));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::case;

    #[test]
    fn headings_are_known_by_their_words() {
        for (line, wanted) in [
            ("failed items:", Some("failed items")),
            ("ERROR batch: 3 frames failed:", Some("3 frames failed")),
            ("Summary of errors:", Some("Summary of errors")),
            ("The following tanks were not fed:", Some("The following tanks were not fed")),
            ("Pending causes:", Some("Pending causes")),
            ("Fehlgeschlagene Aufgaben:", Some("Fehlgeschlagene Aufgaben")),
            ("starting with settings:", None),
            ("failed to open /srv/x:", None),
            ("open file:", None),
            ("failed items", None),
        ] {
            assert_eq!(heading_of(line).as_deref(), wanted, "{line}");
        }
        assert!(headings().is_some());
    }

    #[test]
    fn items_lead_back_to_their_events() {
        let text = "2026-04-12T02:00:00Z INFO batch: started\n\
            2026-04-12T02:00:05Z ERROR batch: frame fr-7 refused by gateway\n\
            2026-04-12T02:00:06Z ERROR batch: frame fr-9 refused by gateway\n\
            2026-04-12T02:00:07Z ERROR batch: valve 3 stuck after 4 tries\n\
            2026-04-12T02:00:08Z ERROR batch: cannot write the day's file, error 0x80070070\n\
            2026-04-12T02:01:00Z ERROR batch: 4 frames failed:\n  - frame fr-9 refused by gateway\n  - 02:00:07 valve 3 stuck after 5 tries\n\
            \x20 - disk full (0x80070070)\n  - something that nobody said before\nthe end\n\
            2026-04-12T02:02:00Z INFO batch: frame fr-9 refused by gateway\n";
        let case = case(&[("gw/batch.log", text)]);
        let view = case.view();
        let found = view.run(&SummaryAnalysis, &Work::default()).unwrap();
        assert_eq!(found.len(), 1);
        let json = found[0].json(&view);
        assert_eq!((json["heading"].as_str(), json["line"].as_u64()), (Some("4 frames failed"), Some(6)));
        let told: Vec<(u64, Option<u64>, Option<&str>)> = json["items"]
            .as_array()
            .unwrap()
            .iter()
            .map(|item| {
                (item["line"].as_u64().unwrap(), item["origin"]["line"].as_u64(), item["origin"]["by"].as_str())
            })
            .collect();
        assert_eq!(
            told,
            [(7, Some(3), Some("text")), (8, Some(4), Some("time")), (9, Some(5), Some("code")), (10, None, None)]
        );
    }

    #[test]
    fn names_lead_to_the_last_bad_line_that_has_them() {
        let text = "2026-04-12T02:00:05Z INFO step: unpacking tank-core\n\
            2026-04-12T02:00:06Z ERROR step: error processing package tank-core (--configure)\n\
            2026-04-12T02:00:07Z INFO step: tank-core-doc is fine\n\
            2026-04-12T02:00:09Z ERROR step: Errors were encountered while processing:\n tank-core\n valve\n";
        let case = case(&[("gw/step.log", text)]);
        let found = case.view().run(&SummaryAnalysis, &Work::default()).unwrap();
        let told: Vec<_> = found[0].items.iter().map(|item| (item.text.as_str(), item.origin)).collect();
        assert_eq!(told, [("tank-core", Some((Row(1), "name"))), ("valve", None)]);
    }

    #[test]
    fn items_may_be_lines_of_their_own() {
        let text = "2026-04-12T02:00:05Z ERROR batch: tank 4 was not fed\n\
            2026-04-12T02:00:09Z INFO batch: errors found:\n\
            2026-04-12T02:00:09Z INFO batch: 1) tank 4 was not fed\n\
            2026-04-12T02:00:09Z INFO batch: 2) tank 9 was not fed\n\
            2026-04-12T02:00:09Z INFO batch: done\n";
        let case = case(&[("gw/batch.log", text)]);
        let found = case.view().run(&SummaryAnalysis, &Work::default()).unwrap();
        assert_eq!(
            found[0].items.iter().map(|item| (item.line, item.origin)).collect::<Vec<_>>(),
            [(3, Some((Row(0), "text"))), (4, None)]
        );
    }

    proptest::proptest! {
        #[test]
        fn any_lines(lines in proptest::collection::vec(proptest::sample::select(vec![
            "failed items:", "  - x refused by gateway", "1) 02:00:00 y", "2026-04-12T02:00:00Z ERROR a: errors found:", "2026-04-12T02:00:00Z ERROR a: - b c d e f",
            "\t", "ü:", "", "-", "2026-04-12T02:00:00Z x refused by gateway",
        ]), 0..20)) {
            let case = case(&[("gw/a.log", lines.join("\n"))]);
            let view = case.view();
            for list in view.run(&SummaryAnalysis, &Work::default()).unwrap().iter() {
                list.json(&view);
            }
        }
    }
}
