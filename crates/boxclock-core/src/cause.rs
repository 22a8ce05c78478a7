//! From the symptom back to the first thing that went wrong, with a line for each link; or that the box does not prove it.
//!
//! Messages are brought into kinds; what is rare or new is a node. A node leads to a later one where both name the same rare thing
//! (a path, program, table, host, identifier). The symptom is where the story meets new trouble. A root is a change or a lasting
//! state from which links of that sort lead to the symptom, the stronger the rarer what they share.

use std::collections::{HashMap, HashSet};
use std::sync::LazyLock;

use regex::{Regex, RegexBuilder, RegexSet, RegexSetBuilder};
use serde_json::{Value, json};

use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Seen};
use crate::case::Reader;
use crate::clock::{MINUTE, SECOND};
use crate::event::{RecordReader, Row};
use crate::logbook::Story;
use crate::work::Work;

#[cfg(test)]
mod tests;

/// Kinds whose text is read.
const MOST_KINDS: usize = 20_000;
/// Nodes that are linked.
const MOST_NODES: usize = 2500;
/// Suggestions that are given.
const MOST_ROOTS: usize = 5;
/// Events of a kind that is rare.
const RARE: u32 = 3;

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
    /// In two or three sentences.
    pub summary: String,
}

/// Suggests causes, the likeliest first.
#[derive(Clone, Copy, Debug)]
pub struct CauseAnalysis;

/// The kind of message of each event of a segment.
type Kinds = Vec<u32>;

impl Analysis for CauseAnalysis {
    const NAME: &'static str = "kinds";
    const VERSION: u32 = 1;
    type Piece = Kinds;
    type Found = Vec<Suggestion>;

    fn see(&self, piece: &mut Kinds, seen: &Seen<'_>) {
        let body = seen.body();
        piece.resize(seen.index, 0);
        piece.push(kind_of(&body));
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, Kinds>, work: &Work) -> Result<Vec<Suggestion>> {
        let kinds = kinds(view, pieces, work)?;
        let nodes = nodes(view, kinds, work)?;
        Ok(suggest(view, &nodes))
    }
}

/// The kind of a message: its words, without numbers, values, paths and names in quotes.
fn kind_of(message: &[u8]) -> u32 {
    let line = message.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let line = line.get(..300).unwrap_or(line);
    let mut hash = 0x811C_9DC5_u32;
    let mut add = |bytes: &[u8]| {
        for byte in bytes {
            hash = (hash ^ u32::from(byte.to_ascii_lowercase())).wrapping_mul(0x0100_0193);
        }
        hash = (hash ^ 0x1F).wrapping_mul(0x0100_0193);
    };
    let mut in_quotes = None;
    for word in line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()) {
        if let Some(quote) = in_quotes {
            if word.contains(&quote) {
                in_quotes = None;
            }
            continue;
        }
        if let Some(quote) = word.first().filter(|byte| matches!(byte, b'"' | b'\'')) {
            add(b"\"");
            if word.len() < 2 || !word[1..].contains(quote) {
                in_quotes = Some(*quote);
            }
            continue;
        }
        let key = word.iter().position(|byte| *byte == b'=').map_or(word, |at| &word[..at]);
        let is_value =
            |word: &[u8]| word.iter().any(|byte| byte.is_ascii_digit() || matches!(byte, b'/' | b'@' | b'\\'));
        add(if is_value(key) { b"#" } else { key });
    }
    hash
}

/// What is known of a kind of message.
#[derive(Clone, Copy)]
struct KindSeen {
    count: u32,
    first: (i64, Row),
    second: Option<(i64, Row)>,
    last: i64,
}

fn kinds(view: &CaseView, pieces: &Pieces<'_, Kinds>, work: &Work) -> Result<HashMap<(u32, u32), KindSeen>> {
    let table = &view.loaded.table;
    let mut kinds: HashMap<(u32, u32), KindSeen> = HashMap::new();
    for (at, part) in table.parts.iter().enumerate() {
        work.check()?;
        let source = part.segment.source;
        if matches!(view.case.sources[source as usize].reader, Reader::Dump(_)) {
            continue;
        }
        for (index, kind) in pieces.of_part(at)?.into_iter().enumerate() {
            let row = Row(part.first_row + index as u32);
            let Some(time) = table.event(row).time() else { continue };
            // The same words in rotated files of one log are one kind; in another program's log another.
            let component = table.event(row).actor().component;
            let owner = if component == 0 { source | 0x8000_0000 } else { component };
            let seen = kinds.entry((owner, kind)).or_insert(KindSeen {
                count: 0,
                first: (time, row),
                second: None,
                last: time,
            });
            seen.count += 1;
            if time < seen.first.0 {
                seen.second = Some(seen.first);
                seen.first = (time, row);
            } else if seen.count > 1 && seen.second.is_none_or(|(second, _)| time < second) {
                seen.second = Some((time, row));
            }
            seen.last = seen.last.max(time);
        }
    }
    Ok(kinds)
}

/// What changes are called.
struct Changes {
    set: RegexSet,
    rows: Vec<(f64, String)>,
}

static CHANGES: LazyLock<Changes> = LazyLock::new(|| {
    let mut patterns = Vec::new();
    let mut rows = Vec::new();
    for line in include_str!("cause/changes.tsv").lines().filter(|line| !line.starts_with('#')) {
        let mut columns = line.splitn(3, '\t');
        if let (Some(Ok(weight)), Some(class), Some(pattern)) =
            (columns.next().map(str::parse), columns.next(), columns.next())
        {
            patterns.push(pattern.to_owned());
            rows.push((weight, class.to_owned()));
        }
    }
    let set = RegexSetBuilder::new(&patterns)
        .case_insensitive(true)
        .size_limit(64 << 20)
        .build()
        .unwrap_or_else(|_| RegexSet::empty());
    Changes { set, rows }
});

/// How much a line can be a root, and of which class it is.
fn change(text: &str) -> (f64, &'static str) {
    let mut best: (f64, &'static str) = (0.0, "");
    for index in CHANGES.set.matches(text) {
        let (weight, class) = &CHANGES.rows[index];
        if class == "look" {
            // Who only looks changes nothing.
            return (0.0, "");
        }
        if *weight > best.0 {
            best = (
                *weight,
                match class.as_str() {
                    "person" => "a person's command",
                    "state" => "a state that lasts",
                    "start" => "a start or stop",
                    _ => "a change",
                },
            );
        }
    }
    best
}

static BAD: LazyLock<Option<Regex>> = LazyLock::new(|| {
    RegexBuilder::new(r"\b(?:errors?|fail(?:ed|ure|s|ing)?|fatal|panic|cannot|can't|could not|unable|denied|refus\w+|reject\w+|timed? ?-?out|unreachable|no answer|lost|broken|corrupt\w*|invalid|missing|not found|no such|exceeded|expired|overdue|too old|stale|dead|killed|crash\w*|abort\w*|gave up|giving up|unavailable|stuck|stopped|dropped|insufficient|full|read-only)\b")
        .case_insensitive(true)
        .build()
        .ok()
});

/// How bad a line is, 0 to 1.
fn badness(text: &str, severity: u8) -> f64 {
    let words = if BAD.as_ref().is_some_and(|bad| bad.is_match(text)) { 0.5 } else { 0.0 };
    let level = match severity {
        17.. => 1.0,
        13..=16 => 0.7,
        _ => 0.0,
    };
    f64::max(level, words)
}

/// A message that is rare or new.
struct Node {
    row: Row,
    time: i64,
    host: u32,
    source: usize,
    text: String,
    tokens: Vec<u32>,
    /// The program, by its number in the table.
    owner: u32,
    /// The program, as a word.
    component: Option<u32>,
    /// How many of its kind there are.
    count: u32,
    /// How long the log had gone on without it, in nanoseconds.
    quiet_before: i64,
    bad: f64,
    change: f64,
    class: &'static str,
}

/// All nodes, in order of time, with what their words weigh.
struct Nodes {
    list: Vec<Node>,
    /// For each word: how telling it is.
    weight: Vec<f64>,
    word_ids: HashMap<String, u32>,
    /// The word that is each host's label.
    hosts: Vec<Option<u32>>,
    /// Events of each program, in minutes of the case: whether it worked between two moments.
    busy: HashMap<u32, Vec<(i64, u32)>>,
}

/// Words of a message: names, identifiers, paths with their folders, and parts of compound names.
fn words_of(text: &str) -> HashSet<String> {
    let mut words = HashSet::new();
    let mut add = |word: &str| {
        if (3..=80).contains(&word.len()) {
            words.insert(word.to_lowercase());
        }
    };
    for piece in text.split(|letter: char| letter.is_whitespace() || "\"'`()[]{}<>,;|".contains(letter)).take(120) {
        let piece = piece.trim_matches(|letter: char| !letter.is_alphanumeric() && letter != '/');
        let piece = piece.rsplit_once('=').map_or(piece, |(key, value)| {
            add(key);
            value
        });
        if piece.is_empty() {
            continue;
        }
        add(piece);
        if piece.contains('/') {
            // Each folder of a path, and its last name.
            let mut at = 1;
            while let Some(next) = piece[at.min(piece.len())..].find('/') {
                if let Some(folder) = piece.get(..at + next).filter(|folder| folder.len() > 4) {
                    add(folder);
                }
                at += next + 1;
            }
            let last = piece.rsplit('/').find(|part| !part.is_empty()).unwrap_or_default();
            add(last);
            add(last.split('.').next().unwrap_or_default());
        } else if !piece.bytes().all(|byte| byte.is_ascii_digit() || b".:-".contains(&byte)) {
            for part in piece.split(['.', ':', '_', '@', '-']) {
                add(part);
            }
        }
    }
    words
}

/// Words that all programs use: sharing one of them says little.
static COMMON: LazyLock<HashSet<&'static str>> =
    LazyLock::new(|| include_str!("cause/common.txt").split_whitespace().collect());

/// Attributes that say where a line was written, not what about.
fn is_of_the_machine(name: &str) -> bool {
    [
        "host.",
        "thread.",
        "syslog.",
        "process.",
        "severity",
        "boxclock.",
        "log.",
        "code.",
        "service.",
        "level",
        "pid",
        "tid",
    ]
    .iter()
    .any(|start| name.starts_with(start))
}

/// Words that say nothing of a thing.
fn is_plain(word: &str) -> bool {
    const PLAIN: [&str; 60] = [
        "the", "and", "for", "with", "from", "this", "that", "not", "was", "has", "had", "are", "were", "will", "its",
        "into", "than", "then", "now", "all", "any", "new", "old", "error", "warning", "info", "debug", "failed",
        "started", "stopped", "service", "systemd", "kernel", "root", "user", "uid", "pid", "tty", "pwd", "command",
        "usr", "bin", "sbin", "var", "log", "lib", "opt", "etc", "tmp", "run", "status", "after", "before", "since",
        "already", "about", "over", "only", "http", "https",
    ];
    PLAIN.contains(&word) || word.bytes().all(|byte| byte.is_ascii_digit()) && word.len() < 4
}

fn nodes(view: &CaseView, kinds: HashMap<(u32, u32), KindSeen>, work: &Work) -> Result<Nodes> {
    let table = &view.loaded.table;
    let mut reader = RecordReader::new(view.case.sources.clone());
    // When each owner's log begins: what is new there needs a time before it.
    let mut begins: HashMap<u32, i64> = HashMap::new();
    for ((owner, _), seen) in &kinds {
        let begin = begins.entry(*owner).or_insert(i64::MAX);
        *begin = (*begin).min(seen.first.0);
    }
    let mut all: Vec<((u32, u32), KindSeen)> = kinds.into_iter().collect();
    all.sort_by_key(|(key, seen)| (seen.count, seen.first.0, *key));
    all.truncate(MOST_KINDS);
    let mut word_ids: HashMap<String, u32> = HashMap::new();
    let mut spread: Vec<u32> = Vec::new();
    let mut list = Vec::new();
    for (number, ((owner, _), seen)) in all.iter().enumerate() {
        if number % 512 == 0 {
            work.check()?;
        }
        let quiet = seen.first.0.saturating_sub(begins[owner]);
        let mut rows = vec![seen.first.1];
        rows.extend(seen.second.filter(|_| seen.count <= RARE).map(|(_, row)| row));
        for (place, row) in rows.into_iter().enumerate() {
            let event = table.event(row);
            let record = reader.record(event);
            let mut text = record.body;
            for (name, value) in record.attributes.iter().take(24) {
                if let Value::String(value) = value
                    && value.len() < 100
                    && !is_of_the_machine(name)
                {
                    text.push_str(&format!(" {name}={value}"));
                }
            }
            let text: String = text.chars().take(600).collect();
            let mut tokens: Vec<u32> = words_of(&text)
                .into_iter()
                .filter(|word| !is_plain(word))
                .map(|word| {
                    let next = word_ids.len() as u32;
                    *word_ids.entry(word).or_insert(next)
                })
                .collect();
            tokens.sort_unstable();
            spread.resize(word_ids.len(), 0);
            if place == 0 {
                for token in &tokens {
                    spread[*token as usize] += 1;
                }
            }
            let Some(time) = event.time() else { continue };
            // Common kinds only say how common words are.
            let is_new = quiet > 30 * MINUTE;
            if seen.count > RARE && !is_new {
                continue;
            }
            let (change, class) = change(&text);
            let next = word_ids.len() as u32;
            let program =
                event.component().rsplit('/').next().unwrap_or_default().trim_end_matches(".service").to_lowercase();
            let component = (program.len() >= 3).then(|| *word_ids.entry(program).or_insert(next));
            spread.resize(word_ids.len(), 0);
            let bad = badness(&text, event.severity().0);
            list.push(Node {
                row,
                time,
                host: event.actor().host,
                source: event.source(),
                text,
                tokens,
                owner: event.actor().component,
                component,
                count: seen.count,
                quiet_before: quiet,
                bad,
                change,
                class,
            });
        }
    }
    // In a small case every word is in few kinds.
    let total = all.len().max(300) as f64;
    let mut weight: Vec<f64> =
        spread.iter().map(|spread| (total / f64::from((*spread).max(1))).ln().max(0.0)).collect();
    for (word, id) in &word_ids {
        if COMMON.contains(word.as_str()) {
            weight[*id as usize] *= 0.12;
        }
    }
    // The most telling ones.
    list.sort_by(|a, b| {
        let worth = |node: &Node| node.bad.max(node.change) + 0.5 / f64::from(node.count.max(1));
        worth(b).total_cmp(&worth(a)).then(a.row.cmp(&b.row))
    });
    list.truncate(MOST_NODES);
    list.sort_by_key(|node| (node.time, node.row));
    let hosts = table.hosts.iter().map(|host| word_ids.get(&host.to_lowercase()).copied()).collect();
    Ok(Nodes { list, weight, word_ids, hosts, busy: busy(table) })
}

impl Nodes {
    /// How strongly two nodes are about the same thing, 0 to 1, with the word that says it most.
    fn affinity(&self, a: &Node, b: &Node) -> (f64, Option<u32>) {
        let (mut sum, mut best, mut word) = (0.0, 0.0, None);
        let (mut at, mut other) = (0, 0);
        while at < a.tokens.len() && other < b.tokens.len() {
            match a.tokens[at].cmp(&b.tokens[other]) {
                std::cmp::Ordering::Less => at += 1,
                std::cmp::Ordering::Greater => other += 1,
                std::cmp::Ordering::Equal => {
                    let weight = self.weight[a.tokens[at] as usize];
                    sum += weight;
                    if weight > best {
                        (best, word) = (weight, Some(a.tokens[at]));
                    }
                    at += 1;
                    other += 1;
                }
            }
        }
        // A program's name in another log: what is said there is about it.
        if a.source != b.source {
            for (one, other) in [(a, b), (b, a)] {
                if let Some(program) = one.component.filter(|program| other.tokens.binary_search(program).is_ok()) {
                    let weight = 0.8 * self.weight[program as usize];
                    sum += weight;
                    if weight > best {
                        (best, word) = (weight, Some(program));
                    }
                }
            }
        }
        // One word that few kinds have says more than several that many have.
        let strength = 1.0 - (-(best + 0.25 * (sum - best)) / 4.0).exp();
        (if best < 2.0 { 0.0 } else { strength }, word)
    }

    /// Whether one of them names the other's machine.
    fn between_hosts(&self, a: &Node, b: &Node) -> Option<(f64, u32)> {
        if a.host == b.host {
            return None;
        }
        let named = |of: &Node, other: &Node| {
            let host = self.hosts.get(of.host as usize).copied().flatten()?;
            other.tokens.binary_search(&host).is_ok().then_some(host)
        };
        named(a, b).or_else(|| named(b, a)).map(|host| (0.45, host))
    }

    fn word(&self, id: u32) -> &str {
        self.word_ids.iter().find(|(_, known)| **known == id).map_or("", |(word, _)| word)
    }
}

/// How many events each program wrote in each minute.
fn busy(table: &crate::event::Table) -> HashMap<u32, Vec<(i64, u32)>> {
    let mut busy: HashMap<u32, Vec<(i64, u32)>> = HashMap::new();
    for row in &table.order {
        let event = table.event(Row(*row));
        let Some(time) = event.time() else { continue };
        let minute = time / MINUTE;
        let of = busy.entry(event.actor().component).or_default();
        match of.last_mut() {
            Some((last, count)) if *last == minute => *count += 1,
            _ => of.push((minute, 1)),
        }
    }
    busy
}

/// How much a change still counts when the program that then failed had worked on for long after it.
fn worked_between(change: &Node, trouble: &Node, nodes: &Nodes) -> f64 {
    if change.change < 0.3 || trouble.bad < 0.5 || trouble.owner == 0 {
        return 1.0;
    }
    let (from, to) = (change.time / MINUTE + 1, trouble.time / MINUTE);
    let Some(of) = nodes.busy.get(&trouble.owner) else { return 1.0 };
    let start = of.partition_point(|(minute, _)| *minute < from);
    let worked =
        of[start..].iter().take_while(|(minute, _)| *minute < to).map(|(_, count)| u64::from(*count)).sum::<u64>();
    match worked {
        0..=30 => 1.0,
        31..=300 => 0.85,
        _ => 0.65,
    }
}

/// When the story says it began and when it was told, as far as it can be read.
fn moments(story: &Story, view: &CaseView) -> (Option<i64>, Option<i64>) {
    let zone = &view.case.zone;
    let instant = |text: &str| match crate::clock::human::time(text.trim(), zone) {
        Ok(crate::clock::human::Typed::Instant(time)) => Some(time),
        _ => None,
    };
    (instant(&story.since), instant(&story.reported))
}

fn suggest(view: &CaseView, nodes: &Nodes) -> Vec<Suggestion> {
    let list = &nodes.list;
    let symptoms = symptoms(view, nodes);
    let Some((first, _)) = symptoms.first().copied() else { return Vec::new() };
    // From the symptom backwards: how well each node leads to it, and by which next node.
    let mut reach: Vec<f64> = vec![0.0; list.len()];
    let mut next: Vec<Option<(usize, Option<u32>)>> = vec![None; list.len()];
    for (at, strength) in &symptoms {
        reach[*at] = f64::max(reach[*at], *strength);
    }
    let mut order: Vec<usize> = (0..list.len()).collect();
    order.sort_by_key(|at| std::cmp::Reverse((list[*at].time, list[*at].row)));
    for at in order {
        let node = &list[at];
        if reach[at] > 0.95 {
            continue;
        }
        for later in at + 1..list.len() {
            let other = &list[later];
            if reach[later] < 0.05 || other.time < node.time || (other.bad < 0.3 && other.change < 0.3) {
                continue;
            }
            let (mut strength, mut word) = nodes.affinity(node, other);
            let far = nodes.between_hosts(node, other);
            if let Some((weight, host)) = far.filter(|(weight, _)| *weight > strength) {
                (strength, word) = (weight, Some(host));
            }
            // A change, and new trouble on the same machine within minutes.
            let at_once = node.host == other.host
                && other.time - node.time < 10 * MINUTE
                && node.change >= 0.8
                && other.bad >= 0.5;
            if at_once && other.quiet_before > 60 * MINUTE && strength < 0.4 {
                (strength, word) = (0.4, None);
            }
            if strength < 0.3 {
                continue;
            }
            strength *= worked_between(node, other, nodes);
            // What comes soon follows more likely; a change may wait for days.
            let apart = ((other.time - node.time).max(0) / MINUTE) as f64;
            let soon = 1.0 / (1.0 + 0.06 * (1.0 + apart).ln());
            let good = reach[later] * (0.35 + 0.65 * strength) * soon * 0.97;
            if good > reach[at] {
                reach[at] = good;
                next[at] = Some((later, word));
            }
        }
    }
    let symptom_time = list[first].time;
    let mut scored: Vec<(f64, usize)> = Vec::new();
    for (at, node) in list.iter().enumerate() {
        if node.time > symptom_time || reach[at] <= 0.0 || next[at].is_none() {
            continue;
        }
        let rare = match node.count {
            1 => 1.0,
            2 => 0.85,
            3 => 0.7,
            _ if node.quiet_before > 60 * MINUTE => 0.6,
            _ => 0.35,
        };
        let role = 0.15 + 0.85 * node.change.max(0.5 * node.bad);
        scored.push((reach[at] * rare * role, at));
    }
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(list[a.1].time.cmp(&list[b.1].time)));
    let mut found: Vec<Suggestion> = Vec::new();
    let mut seen: HashSet<(usize, i64)> = HashSet::new();
    for (score, at) in &scored {
        // Lines of one moment in one source are one suggestion.
        if found.len() >= MOST_ROOTS || !seen.insert((list[*at].source, list[*at].time / (5 * SECOND))) {
            continue;
        }
        found.push(suggestion(view, nodes, *at, *score, &next, first));
    }
    let best = scored.first().map_or(0.0, |(score, _)| *score);
    if best < UNPROVEN {
        let end = earliest(nodes, first);
        found.insert(0, unproven(view, nodes, end, first));
        found.truncate(MOST_ROOTS);
    }
    found
}

/// Scores below this are no proof.
const UNPROVEN: f64 = 0.6;

/// Where the story meets new trouble: nodes with how well they fit, the best first.
fn symptoms(view: &CaseView, nodes: &Nodes) -> Vec<(usize, f64)> {
    let story = &view.case.story;
    let (since, reported) = moments(story, view);
    let told = [&story.title, &story.happened, &story.impact, &story.expected].map(String::as_str).join(" ");
    let words = words_of(&told);
    let affected = words_of(&story.affected);
    let ids = |words: &HashSet<String>| -> HashSet<u32> {
        words.iter().filter(|word| !is_plain(word)).filter_map(|word| nodes.word_ids.get(word)).copied().collect()
    };
    let (words, affected) = (ids(&words), ids(&affected));
    let mut found: Vec<(usize, f64)> = Vec::new();
    let last = nodes.list.last().map_or(0, |node| node.time);
    let told_at = reported.unwrap_or(last);
    for (at, node) in nodes.list.iter().enumerate().filter(|(_, node)| node.bad >= 0.5) {
        if node.time > told_at.saturating_add(5 * MINUTE) {
            continue;
        }
        let shared = |of: &HashSet<u32>| {
            node.tokens
                .iter()
                .filter(|token| of.contains(token))
                .map(|token| nodes.weight[*token as usize])
                .sum::<f64>()
        };
        let fit = shared(&words).min(12.0) * 0.09 + shared(&affected).min(14.0) * 0.13;
        let hours = (told_at.saturating_sub(node.time) / MINUTE) as f64 / 60.0;
        let near = 1.0 / (1.0 + 0.25 * hours.max(0.0));
        let near_since =
            since.map_or(0.0, |since| 0.4 / (1.0 + (node.time.abs_diff(since) / MINUTE.unsigned_abs()) as f64 / 30.0));
        // What then comes again and again is what people see.
        let again = (f64::from(node.count.max(1)).ln() * 0.12).min(0.5);
        let new = if node.quiet_before > 60 * MINUTE { 0.3 } else { 0.0 };
        found.push((at, (fit + near + near_since + again + new) * (0.5 + 0.5 * node.bad)));
    }
    found.sort_by(|a, b| b.1.total_cmp(&a.1));
    found.truncate(6);
    let best = found.first().map_or(1.0, |(_, fit)| fit.max(0.01));
    found.iter().map(|(at, fit)| (*at, (fit / best).powi(2))).collect()
}

/// The earliest trouble that leads to the symptom.
fn earliest(nodes: &Nodes, symptom: usize) -> usize {
    let list = &nodes.list;
    let until = list[symptom].time;
    let near = |node: &Node| node.bad >= 0.5 && node.time <= until && until - node.time < 6 * 60 * MINUTE;
    let linked = list.iter().enumerate().filter(|(_, node)| near(node) && node.quiet_before > 30 * MINUTE);
    linked.filter(|(_, node)| nodes.affinity(node, &list[symptom]).0 > 0.4).map(|(at, _)| at).next().unwrap_or(symptom)
}

fn place(view: &CaseView, reader: &mut RecordReader, row: Row) -> CausePlace {
    let event = view.loaded.table.event(row);
    CausePlace { source: view.case.sources[event.source()].name.clone(), line: reader.place(event).line, row }
}

fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or_default().chars().take(200).collect()
}

fn chain(view: &CaseView, nodes: &Nodes, from: usize, next: &[Option<(usize, Option<u32>)>]) -> Vec<CauseLink> {
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut links = Vec::new();
    let (mut at, mut why) = (from, String::new());
    for _ in 0..12 {
        let node = &nodes.list[at];
        links.push(CauseLink {
            place: place(view, &mut reader, node.row),
            text: first_line(&node.text),
            why: why.clone(),
        });
        let Some((later, word)) = next[at] else { break };
        let at_once = "a change, and then new trouble on the same machine".to_owned();
        let shared = word.map_or(at_once, |word| format!("both name {}", nodes.word(word)));
        let apart = crate::clock::human::duration_text((nodes.list[later].time - node.time).max(0));
        why = format!("{shared}, {apart} later");
        at = later;
    }
    links
}

fn suggestion(
    view: &CaseView,
    nodes: &Nodes,
    at: usize,
    score: f64,
    next: &[Option<(usize, Option<u32>)>],
    symptom: usize,
) -> Suggestion {
    let node = &nodes.list[at];
    let chain = chain(view, nodes, at, next);
    let mut reasons = Vec::new();
    if !node.class.is_empty() {
        reasons.push(format!("it is {}", node.class));
    }
    reasons.push(match node.count {
        1 => "it is the only one of its kind in the case".to_owned(),
        count => format!("there are {count} of its kind in the case"),
    });
    if node.quiet_before > 60 * MINUTE {
        reasons.push(format!(
            "the log had gone on for {} without it",
            crate::clock::human::duration_text(node.quiet_before)
        ));
    }
    if let Some(second) = chain.get(1) {
        reasons.push(format!("what follows: {}", second.why));
    }
    let symptom = first_line(&nodes.list[symptom].text);
    let proven = score >= UNPROVEN;
    let what = if proven { "is the likeliest root of" } else { "is a lead, and no proof, for" };
    let summary = format!("\"{}\" {what} \"{}\": {}.", first_line(&node.text), symptom, reasons.join("; "));
    Suggestion {
        provable: true,
        score: (score.min(0.99) * 100.0).round() / 100.0,
        reasons,
        chain,
        missing: Vec::new(),
        summary,
    }
}

fn unproven(view: &CaseView, nodes: &Nodes, end: usize, symptom: usize) -> Suggestion {
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut link = |at: usize, why: &str| {
        let node = &nodes.list[at];
        CauseLink { place: place(view, &mut reader, node.row), text: first_line(&node.text), why: why.to_owned() }
    };
    let mut chain = vec![link(end, "the earliest trouble that is about the same")];
    if end != symptom {
        chain.push(link(symptom, "the symptom"));
    }
    let node = &nodes.list[end];
    let host = view.loaded.table.hosts.get(node.host as usize).cloned().unwrap_or_default();
    let missing = vec![
        format!(
            "logs of what {} speaks to, from before that moment",
            if host.is_empty() { "this machine".to_owned() } else { host }
        ),
        "what was changed outside the machines of this box".to_owned(),
    ];
    let summary = format!(
        "Not provable: the evidence ends at \"{}\". What is suggested behind this is worth a look, and does not prove a root.",
        first_line(&node.text)
    );
    Suggestion {
        provable: false,
        score: 0.5,
        reasons: vec!["no change in the box is tied to the symptom closely enough".into()],
        chain,
        missing,
        summary,
    }
}

impl Suggestion {
    /// As the JSON contract has it.
    pub fn json(&self) -> Value {
        let at = |place: &CausePlace| json!({"source": place.source, "line": place.line});
        let chain: Vec<Value> = self.chain.iter().map(|link| json!({"source": link.place.source, "line": link.place.line, "why": link.why, "what": link.text})).collect();
        let first = self.chain.first().map(|link| at(&link.place));
        if self.provable {
            json!({"root": first, "score": self.score, "reasons": self.reasons, "chain": chain, "summary": self.summary})
        } else {
            json!({"provable": false, "evidence_ends": first, "chain": chain, "missing": self.missing, "summary": self.summary})
        }
    }
}

/// How many events of each kind: for the tests.
#[cfg(test)]
fn same_kind(a: &str, b: &str) -> bool {
    kind_of(a.as_bytes()) == kind_of(b.as_bytes())
}
