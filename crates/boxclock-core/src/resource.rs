//! Resources: how full processors, memory, disks, pools and queues were, since when one was full or grows, and which was full first.
//!
//! What counters and messages say is data (`resource/words.toml`). A resource is judged by the series of its values only; what went
//! wrong behind it is counted, and proves nothing by itself.

use std::collections::BTreeMap;
use std::sync::LazyLock;

use regex::bytes::{Captures, Regex, RegexBuilder, RegexSet, RegexSetBuilder};
use serde::{Deserialize, Serialize};

use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Seen, Window};
use crate::clock::{MINUTE, SECOND};
use crate::event::{Row, Table};
use crate::format::LineFormat;
use crate::severity::Severity;
use crate::work::{Work, parallel};

mod growth;
#[cfg(test)]
mod tests;

pub use growth::Growth;

/// How long before and behind the moment that something was full problems are counted.
const AROUND_NS: i64 = 10 * MINUTE;
/// Points of a curve.
pub const MOST_POINTS: usize = 480;
/// Samples that are noted of one segment…
const MOST_NOTED: usize = 1 << 18;
/// …and that are kept of it: of more, every second, third … of each series.
const MOST_KEPT: usize = 1 << 13;

/// One value.
#[derive(Clone, Debug, PartialEq)]
pub struct Sample {
    /// When, corrected, UTC nanoseconds.
    pub time: i64,
    /// How full, 0 to 100.
    pub percent: f64,
    /// Where it stands.
    pub row: Row,
    /// Whether it is stated in words that it is full, without a number.
    pub is_stated: bool,
}

/// A time in which a resource was full.
#[derive(Clone, Debug, PartialEq)]
pub struct Full {
    /// The first value of it.
    pub first: Sample,
    /// The last value of it.
    pub last: Sample,
    /// Whether values behind it say that it was over.
    pub is_over: bool,
    /// Events of level error or worse on its host in the ten minutes before.
    pub problems_before: usize,
    /// The same in the ten minutes from its beginning on.
    pub problems_after: usize,
    /// The first of these.
    pub first_problem: Option<Row>,
}

/// A resource that was full, or is going to be.
#[derive(Clone, Debug, PartialEq)]
pub struct Resource {
    /// Its host; empty where none is known.
    pub host: String,
    /// What it is: `memory`, `disk space`.
    pub name: String,
    /// Which of them: a file system, a device, a pool; empty where there is one.
    pub instance: String,
    /// How many values are known.
    pub samples: usize,
    /// The course of the values in order of time, at most [`MOST_POINTS`]: of values close to each other the highest.
    pub curve: Vec<(i64, f64)>,
    /// When it was full first, if it was.
    pub full: Option<Full>,
    /// How it grows, if it does and is not full yet.
    pub growth: Option<Growth>,
}

/// What a number is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Value {
    Percent,
    Free,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct CounterText {
    name: String,
    value: Value,
    /// The column that tells one from another.
    instance: Option<String>,
    /// The one of them that counts.
    only: Option<String>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct MessageText {
    pattern: String,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct ResourceText {
    name: String,
    full: f64,
    /// Seconds.
    lasts: i64,
    #[serde(default)]
    counter: Vec<CounterText>,
    #[serde(default)]
    message: Vec<MessageText>,
    #[serde(default)]
    stated: Vec<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    resource: Vec<ResourceText>,
}

/// The words, compiled.
struct Words {
    resources: Vec<ResourceText>,
    counters: RegexSet,
    /// Resource and counter of each name.
    counter_of: Vec<(usize, CounterText, Regex)>,
    /// Any of the messages.
    any: Regex,
    messages: RegexSet,
    /// Resource of each message, and whether it is a statement.
    message_of: Vec<(usize, bool, Regex)>,
}

static WORDS: LazyLock<Option<Words>> = LazyLock::new(|| compile(include_str!("resource/words.toml")).ok());

fn compile(text: &str) -> std::result::Result<Words, String> {
    let file: File = toml::from_str(text).map_err(|error| error.to_string())?;
    let regex = |pattern: &str| {
        RegexBuilder::new(pattern)
            .case_insensitive(true)
            .unicode(false)
            .build()
            .map_err(|error| format!("{pattern}: {error}"))
    };
    let set = |patterns: &[&str]| {
        RegexSetBuilder::new(patterns).case_insensitive(true).unicode(false).build().map_err(|error| error.to_string())
    };
    let (mut counter_of, mut message_of) = (Vec::new(), Vec::new());
    for (at, resource) in file.resource.iter().enumerate() {
        for counter in &resource.counter {
            counter_of.push((at, counter.clone(), regex(&counter.name)?));
        }
        for message in &resource.message {
            message_of.push((at, false, regex(&message.pattern)?));
        }
        for stated in &resource.stated {
            message_of.push((at, true, regex(stated)?));
        }
    }
    let names: Vec<&str> = counter_of.iter().map(|(_, counter, _)| counter.name.as_str()).collect();
    let patterns: Vec<&str> = message_of.iter().map(|(_, _, pattern)| pattern.as_str()).collect();
    // Every message has a percent sign, two numbers of which one is a limit, or one of the statements.
    let stated = file.resource.iter().flat_map(|resource| &resource.stated).map(String::as_str);
    let sieve: Vec<&str> = [r"[0-9] ?%", r"[0-9] ?(?:/|of |out of ) ?[0-9]"].into_iter().chain(stated).collect();
    Ok(Words {
        counters: set(&names)?,
        any: regex(&sieve.iter().map(|part| format!("(?:{})", without_names(part))).collect::<Vec<_>>().join("|"))?,
        messages: set(&patterns)?,
        counter_of,
        message_of,
        resources: file.resource,
    })
}

/// A pattern whose groups have no names, so that several can stand beside each other.
fn without_names(pattern: &str) -> String {
    pattern.replace("?P<instance>", "?:")
}

/// What one record says: event, resource, percent, whether in words, which one.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Said {
    event: u16,
    resource: u8,
    percent: f32,
    is_stated: bool,
    instance: String,
}

/// Finds the resources that were full or are going to be: those full first, first; then those that grow.
#[derive(Clone, Copy, Debug)]
pub struct ResourceAnalysis;

impl Analysis for ResourceAnalysis {
    const NAME: &'static str = "resources";
    const VERSION: u32 = 1;
    type Piece = Vec<Said>;
    type Found = Vec<Resource>;

    fn window(&self, piece: &mut Vec<Said>, window: &Window<'_>) {
        let Some(words) = WORDS.as_ref() else { return };
        if window.source.reader.lines().is_some_and(LineFormat::holds_figures) {
            window.events().for_each(|seen| words.counters(piece, &seen));
            return;
        }
        let mut at = 0;
        while let Some(hit) = words.any.find_at(window.bytes, at) {
            let seen = window.event_at(hit.start());
            words.message(piece, &seen);
            at = seen.end.max(hit.end());
        }
    }

    fn end(&self, piece: &mut Vec<Said>) {
        let every = piece.len().div_ceil(MOST_KEPT);
        if every < 2 {
            return;
        }
        let mut counts: BTreeMap<(u8, String), usize> = BTreeMap::new();
        piece.retain(|said| {
            let count = counts.entry((said.resource, said.instance.clone())).or_default();
            *count += 1;
            (*count - 1).is_multiple_of(every)
        });
        // Series of a value or two are not thinned by that.
        piece.truncate(2 * MOST_KEPT);
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, Vec<Said>>, work: &Work) -> Result<Vec<Resource>> {
        let Some(words) = WORDS.as_ref() else { return Ok(Vec::new()) };
        let table = &view.loaded.table;
        let of_parts = parallel(table.parts.len(), work, |at| pieces.of_part(at));
        let mut series: BTreeMap<(String, u8, String), Vec<Sample>> = BTreeMap::new();
        for (part, said) in table.parts.iter().zip(of_parts) {
            for one in said? {
                if usize::from(one.event) >= part.segment.len() {
                    continue;
                }
                let row = Row(part.first_row + u32::from(one.event));
                let event = table.event(row);
                let Some(time) = event.time() else { continue };
                let sample = Sample { time, percent: f64::from(one.percent), row, is_stated: one.is_stated };
                series.entry((event.host().to_owned(), one.resource, one.instance)).or_default().push(sample);
            }
        }
        work.check()?;
        let mut found: Vec<Resource> = Vec::new();
        for ((host, resource, instance), mut samples) in series {
            let Some(kind) = words.resources.get(usize::from(resource)) else { continue };
            samples.sort_by_key(|sample| (sample.time, sample.row));
            let full = full(kind, &samples);
            let numbers: Vec<&Sample> = samples.iter().filter(|sample| !sample.is_stated).collect();
            let growth = if full.is_none() && kind.lasts == 0 { Growth::of(&numbers) } else { None };
            if full.is_some() || growth.is_some() {
                let curve = curve(&samples);
                let samples = samples.len();
                found.push(Resource { host, name: kind.name.clone(), instance, samples, curve, full, growth });
            }
        }
        drop_repeated(&mut found);
        problems(table, &mut found);
        found.sort_by(|a, b| {
            let key = |one: &Resource| {
                let full = one.full.as_ref().map_or(i64::MAX, |full| full.first.time);
                (full, one.growth.as_ref().map_or(i64::MAX, |growth| growth.full_at))
            };
            key(a).cmp(&key(b))
        });
        Ok(found)
    }
}

impl Words {
    fn counters(&self, piece: &mut Vec<Said>, seen: &Seen<'_>) {
        let record = seen.record();
        for (name, value) in &record.attributes {
            // Columns of a csv are text.
            let number = value.as_f64().or_else(|| value.as_str()?.trim().trim_end_matches('%').parse().ok());
            let Some(number) = number else { continue };
            for rule in self.counters.matches(name.as_bytes()) {
                let (resource, counter, regex) = &self.counter_of[rule];
                let by_column = counter.instance.as_ref().and_then(|column| record.attributes.get(column));
                let by_column = by_column.map(|value| match (value.as_str(), value.as_f64()) {
                    (Some(text), _) => text.to_owned(),
                    (None, Some(number)) => number.to_string(),
                    (None, None) => value.to_string(),
                });
                if counter.only.as_ref().is_some_and(|only| by_column.as_ref() != Some(only)) {
                    continue;
                }
                let by_name = || {
                    let captures = regex.captures(name.as_bytes())?;
                    Some(String::from_utf8_lossy(captures.name("instance")?.as_bytes()).into_owned())
                };
                let instance = by_column.filter(|_| counter.only.is_none()).or_else(by_name).unwrap_or_default();
                let percent = if counter.value == Value::Free { 100.0 - number } else { number };
                note(piece, seen.index, *resource, percent, false, instance);
                // The first rule that fits names it.
                break;
            }
        }
    }

    fn message(&self, piece: &mut Vec<Said>, seen: &Seen<'_>) {
        let line = seen.line();
        for rule in self.messages.matches(line) {
            let (resource, is_stated, regex) = &self.message_of[rule];
            let Some(captures) = regex.captures(line) else { continue };
            let percent = if *is_stated { Some(100.0) } else { percent(&captures) };
            let Some(percent) = percent else { continue };
            let instance = captures.name("instance").map_or(String::new(), |part| {
                String::from_utf8_lossy(part.as_bytes()).trim().trim_end_matches(['.', ':', ',']).to_ascii_lowercase()
            });
            note(piece, seen.index, *resource, percent, *is_stated, instance);
            return;
        }
    }
}

/// Notes a value, if it can be a share of a hundred.
fn note(piece: &mut Vec<Said>, event: usize, resource: usize, percent: f64, is_stated: bool, instance: String) {
    const SLACK: f64 = 0.5;
    if !(-SLACK..=100.0 + SLACK).contains(&percent) || piece.len() >= MOST_NOTED {
        return;
    }
    let (Ok(event), Ok(resource)) = (u16::try_from(event), u8::try_from(resource)) else { return };
    piece.push(Said { event, resource, percent: percent.clamp(0.0, 100.0) as f32, is_stated, instance });
}

/// The percent that a message says, or what is used of a limit.
fn percent(captures: &Captures<'_>) -> Option<f64> {
    let number = |name: &str| std::str::from_utf8(captures.name(name)?.as_bytes()).ok()?.parse::<f64>().ok();
    if let Some(percent) = number("percent") {
        return Some(percent);
    }
    let (used, limit) = (number("used")?, number("limit")?);
    // One of two is a count of something else: parts, tries, pages.
    const SMALLEST_LIMIT: f64 = 4.0;
    (limit >= SMALLEST_LIMIT && used <= limit).then(|| used / limit * 100.0)
}

/// The first time in which it was full long enough.
fn full(kind: &ResourceText, samples: &[Sample]) -> Option<Full> {
    let is_full = |sample: &&Sample| sample.percent >= kind.full;
    let mut at = 0;
    while let Some(start) = samples.iter().skip(at).position(|sample| is_full(&sample)).map(|found| at + found) {
        let run: Vec<&Sample> = samples[start..].iter().take_while(is_full).collect();
        let (first, last) = (*run.first()?, *run.last()?);
        let lasted = last.time.saturating_sub(first.time);
        if kind.lasts == 0 || (run.len() >= 3 && lasted >= kind.lasts.saturating_mul(SECOND)) {
            let next = samples.get(start + run.len());
            return Some(Full {
                first: first.clone(),
                last: last.clone(),
                is_over: next.is_some(),
                problems_before: 0,
                problems_after: 0,
                first_problem: None,
            });
        }
        at = start + run.len();
    }
    None
}

/// A line that only says that something is full adds nothing to a number that says which, at about the same time on the same host.
fn drop_repeated(found: &mut Vec<Resource>) {
    let full = |one: &Resource| one.full.as_ref().map(|full| (full.first.time, full.first.is_stated));
    let numbers: Vec<(String, String, i64)> = found
        .iter()
        .filter_map(|one| {
            full(one).filter(|(_, stated)| !stated).map(|(time, _)| (one.host.clone(), one.name.clone(), time))
        })
        .collect();
    found.retain(|one| {
        let Some((time, true)) = full(one) else { return true };
        !numbers.iter().any(|(host, name, at)| {
            *host == one.host && *name == one.name && at.saturating_sub(time).saturating_abs() <= AROUND_NS
        })
    });
}

/// The course of a series: so many spans of equal length, the highest value of each that has one.
fn curve(samples: &[Sample]) -> Vec<(i64, f64)> {
    let (Some(first), Some(last)) = (samples.first(), samples.last()) else { return Vec::new() };
    let span = last.time.saturating_sub(first.time) / MOST_POINTS as i64;
    let mut points: Vec<(i64, f64)> = Vec::new();
    let mut until = i64::MIN;
    for sample in samples {
        match points.last_mut() {
            Some(point) if sample.time < until => {
                if sample.percent > point.1 {
                    *point = (sample.time, sample.percent);
                }
            }
            _ => {
                points.push((sample.time, sample.percent));
                until = sample.time.saturating_add(span.max(1));
            }
        }
    }
    points.truncate(MOST_POINTS);
    points
}

/// Counts the problems of its host around the moment that each was full.
fn problems(table: &Table, found: &mut [Resource]) {
    if found.iter().all(|one| one.full.is_none()) {
        return;
    }
    let mut by_host: BTreeMap<String, Vec<(i64, Row)>> = BTreeMap::new();
    for one in found.iter().filter(|one| one.full.is_some()) {
        by_host.entry(one.host.clone()).or_default();
    }
    for row in (0..table.len()).filter_map(|row| u32::try_from(row).ok()).map(Row) {
        let event = table.event(row);
        if event.severity() >= Severity::ERROR
            && let Some(time) = event.time()
            && let Some(list) = by_host.get_mut(event.host())
        {
            list.push((time, row));
        }
    }
    for list in by_host.values_mut() {
        list.sort_unstable();
    }
    for one in found {
        let Some(full) = one.full.as_mut() else { continue };
        let Some(list) = by_host.get(&one.host) else { continue };
        let start = full.first.time;
        // The line that says it is none that followed.
        let others = |from: i64, to: i64| {
            let range = list.partition_point(|(time, _)| *time < from)..list.partition_point(|(time, _)| *time < to);
            list[range].iter().filter(|(_, row)| *row != full.first.row)
        };
        full.problems_before = others(start.saturating_sub(AROUND_NS), start).count();
        full.problems_after = others(start, start.saturating_add(AROUND_NS)).count();
        full.first_problem = others(start, start.saturating_add(AROUND_NS)).next().map(|(_, row)| *row);
    }
}

impl Resource {
    /// For people: `disk space of /srv on basin-4`.
    pub fn title(&self) -> String {
        let of = if self.instance.is_empty() { String::new() } else { format!(" {}", self.instance) };
        let host = if self.host.is_empty() { String::new() } else { format!(" on {}", self.host) };
        match self.name.as_str() {
            "pool" | "value" => format!("{}{host}", self.instance),
            name => format!("{name}{of}{host}"),
        }
    }

    /// Whether at least three times as much went wrong from then on as before.
    pub fn is_followed_by_problems(&self) -> bool {
        self.full.as_ref().is_some_and(|full| full.problems_after >= 3.max(3 * full.problems_before))
    }
}
